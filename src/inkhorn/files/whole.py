"""Writing files whole: beside the goal first, then renamed."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from secrets import token_hex

from inkhorn.errors import InputError

__all__ = ["MOST_BYTES", "free_beside", "free_name", "must_exist", "written_whole"]

MOST_BYTES = 4e9


def must_exist(path: Path, asked: str = "") -> None:
    """Refuse what is not there, is no file, or is too large to be read; `asked` says who names it."""
    try:
        found = path.stat()
    except (OSError, ValueError):  # the latter of a name that no file can have
        raise InputError(
            f'cannot read "{path}"{asked}: there is no such file. Check the name and the folder.'
        ) from None
    if not stat.S_ISREG(found.st_mode):
        what = "a folder" if stat.S_ISDIR(found.st_mode) else "a pipe or a device"
        raise InputError(f'cannot read "{path}"{asked}: it is {what}. Expected a file.')
    if found.st_size > MOST_BYTES:
        raise InputError(
            f'cannot read "{path}"{asked}: it has {found.st_size / 1e9:.1f} GB; files of up to {MOST_BYTES / 1e9:g} GB '
            "are read. Thin it, or cut it to the site."
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
    except OSError as problem:
        if problem.filename is not None and Path(str(problem.filename)) == beside:
            raise OSError(problem.errno, problem.strerror, str(path)) from None  # the name that a user knows
        raise
    finally:
        beside.unlink(missing_ok=True)
