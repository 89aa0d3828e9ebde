"""Writing files whole: beside the goal first, then renamed."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from secrets import token_hex

__all__ = ["free_beside", "free_name", "written_whole"]


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
