"""Where the keys of a project file stand, for messages."""

from __future__ import annotations

from typing import Any

__all__ = ["Places"]


def _parts(key: str) -> tuple[str, ...]:
    """The names of a dotted key, of which some may be quoted and hold dots themselves."""
    parts, part, quote = [], "", ""
    for letter in key:
        if quote:
            quote = "" if letter == quote else quote
            part += letter if quote else ""
        elif letter in "\"'":
            quote = letter
        elif letter == ".":
            parts.append(part)
            part = ""
        elif not letter.isspace():
            part += letter
    return (*parts, part)


class Places:
    """Line numbers of the keys of a TOML text."""

    def __init__(self, text: str, name: str) -> None:
        self.name = name
        self.over: list[
            tuple[Places, dict[tuple[Any, ...], tuple[Any, ...]]]
        ] = []  # files laid over it, in turn
        self.lines: dict[tuple[Any, ...], int] = {}
        here: tuple[Any, ...] = ()
        counts: dict[tuple[Any, ...], int] = {}
        for number, line in enumerate(text.splitlines(), start=1):
            said = line.strip()
            if said.startswith("["):
                inside, _, _ = said.lstrip("[").partition("]")
                here = _parts(inside)
                if said.startswith("[["):
                    counts[here] = counts.get(here, -1) + 1
                    here = (*here, counts[here])
                self.lines.setdefault(here, number)
            elif "=" in said and not said.startswith("#"):
                self.lines.setdefault((*here, *_parts(said.partition("=")[0])), number)

    def at(self, path: tuple[Any, ...]) -> str:
        """Return file and line of a key, in the last of the files laid over this one in which it stands."""
        for places, origin in reversed(self.over):
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
