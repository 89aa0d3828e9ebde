"""Where the keys of a project file stand, for messages."""

from __future__ import annotations

import re
from typing import Any

__all__ = ["Places"]


class Places:
    """Line numbers of the keys of a TOML text."""

    _TABLE = re.compile(r"^\s*\[(\[)?\s*([^\[\]]+?)\s*\]?\]\s*(?:#.*)?$")
    _KEY = re.compile(r"^\s*([A-Za-z0-9_\-\".]+)\s*=")

    def __init__(self, text: str, name: str) -> None:
        self.name = name
        self.variant: tuple[Places, dict[tuple[Any, ...], tuple[Any, ...]]] | None = None
        self.lines: dict[tuple[Any, ...], int] = {}
        here: tuple[Any, ...] = ()
        counts: dict[tuple[Any, ...], int] = {}
        for number, line in enumerate(text.splitlines(), start=1):
            if table := self._TABLE.match(line):
                here = tuple(part.strip().strip('"') for part in table[2].split("."))
                if table[1]:
                    counts[here] = counts.get(here, -1) + 1
                    here = (*here, counts[here])
                self.lines.setdefault(here, number)
            elif key := self._KEY.match(line):
                path = (*here, *(part.strip('"') for part in key[1].split(".")))
                self.lines.setdefault(path, number)

    def at(self, path: tuple[Any, ...]) -> str:
        """Return file and line of a key, in the variant if that is where it stands."""
        if self.variant is not None:
            places, origin = self.variant
            for length in range(len(path), 0, -1):
                if path[:length] in origin:
                    return places.at((*origin[path[:length]], *path[length:]))
        return f"{self.name}, line {self.of(path)}"

    def of(self, path: tuple[Any, ...]) -> int:
        """Return the line of a key, or of the nearest table around it."""
        for length in range(len(path), 0, -1):
            alone = tuple(
                p for p in path[:length] if p != 0
            )  # a single table stands for a list of one, a list for its first
            for there in (path[:length], alone, (*path[:length], 0)):
                if there in self.lines:
                    return self.lines[there]
        return 1
