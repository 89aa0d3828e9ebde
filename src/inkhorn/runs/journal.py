"""What a run says while it goes: told, kept, and written down as it is said."""

from __future__ import annotations

import platform
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path

from inkhorn.progress import Progress

__all__ = ["Journal"]


@dataclass
class Journal:
    """Tells how a run goes, and writes what was told into its log at once.

    Parameters
    ----------
    say : callable
        Gets each line.
    progress : callable
        Gets what is being done, and its share from 0 to 1 (None while that is not known).
    words : callable
        Puts what is said into the units that results are told in.

    Attributes
    ----------
    problems : list of str
        What went wrong without stopping the run, as a picture that could not be drawn.
    """

    say: Callable[[str], None] = lambda line: None
    progress: Progress = lambda words, share: None
    words: Callable[[str], str] = lambda line: line
    lines: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
    _log: Path | None = field(default=None, init=False, repr=False)

    def tell(self, line: str) -> None:
        """Say a line and write it down."""
        line = self.words(line)
        self.lines.append(line)
        self._write(line + "\n")
        self.say(line)

    def complain(self, line: str) -> None:
        """Tell what went wrong, though the run goes on."""
        self.problems.append(line)
        self.tell(f"problem: {line}")

    def write_into(self, log: Path) -> None:
        """Write what was told so far into a log, and what is told from now on."""
        packages = ", ".join(f"{name} {version(name)}" for name in ("inkhorn", "numpy", "scipy"))
        head = (
            f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S} UTC\n{packages}; Python {platform.python_version()}\n\n"
        )
        self._log = log
        self._write(head + "".join(f"{line}\n" for line in self.lines))

    def move_to(self, log: Path | None) -> None:
        """Go on in a log that was moved, or in none."""
        self._log = log

    def _write(self, text: str) -> None:
        if self._log is not None:
            with suppress(OSError), self._log.open("a", encoding="utf-8") as file:  # a full disk stops no run
                file.write(text)
