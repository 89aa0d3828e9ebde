"""Writing files and folders whole: beside the goal first, then renamed."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from secrets import token_hex

from inkhorn.errors import InputError

__all__ = ["NewFolder", "free_beside", "free_name", "must_exist", "new_folder", "written_whole"]


@dataclass
class NewFolder:
    """A folder being filled: where to write, and what it is called once it is whole."""

    path: Path
    goal: Path

    def keep(self, name: str) -> Path:
        """Keep the folder as it is now, under another name and its next free number, and return where."""
        self.goal = _numbered(self.path.parent, name)
        os.rename(self.path, self.goal)
        return self.goal


def must_exist(path: Path, asked: str = "") -> None:
    """Refuse a file that is not there; `asked` says who names it."""
    if not path.is_file():
        raise InputError(
            f'cannot read "{path}"{asked}: there is no such file. Check the name and the folder.'
        )


def free_name(path: Path) -> Path:
    """Return a path if nothing is there, else the first of ``name-2``, ``name-3`` and so on that is free."""
    number, free = 2, path
    while free.exists():
        free, number = path.with_name(f"{path.stem}-{number}{path.suffix}"), number + 1
    return free


def free_beside(path: Path) -> Path:
    """Return a name beside a file that no other process hits upon, hidden, of the same ending."""
    return path.with_name(f".{path.stem[:100]}-{token_hex(4)}.part{path.suffix}")


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """Give a path beside the goal to write to; it takes the goal's place only if all went well."""
    beside = free_beside(path)
    try:
        yield beside
        os.replace(beside, path)
    finally:
        beside.unlink(missing_ok=True)


def _numbered(parent: Path, name: str) -> Path:
    number = 1
    while (goal := parent / f"{name}-{number:03d}").exists():
        number += 1
    return goal


@contextmanager
def new_folder(parent: Path, name: str) -> Iterator[NewFolder]:
    """Give a folder to fill; it becomes ``parent/name-001`` (the next free number) only if all went well.

    Nothing that exists is touched.
    """
    new = not parent.exists()
    try:
        parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise InputError(
            f'cannot make the folder "{parent}": {problem.strerror}. Choose another with --out.'
        ) from None
    beside = parent / f".{name}-{os.getpid()}.part"
    beside.mkdir()
    folder = NewFolder(beside, beside)
    try:
        yield folder
        folder.keep(name)
    finally:
        shutil.rmtree(beside, ignore_errors=True)
        if new and not any(parent.iterdir()):
            parent.rmdir()
