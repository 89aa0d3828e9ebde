"""Reading what others made: whatever is wrong with a file is said in our own words, and nothing is printed beside it."""

from __future__ import annotations

import logging
import stat
import sys
import traceback
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from inkhorn.errors import InkhornError, InputError

__all__ = ["MOST_BYTES", "must_exist", "reading_as", "text_of"]

MOST_BYTES = 4e9
_TALKERS = (
    "rasterio",
    "pyogrio",
    "h5py",
    "openpyxl",
)  # packages that say through logging what they also raise
_MARKS = {b"\xff\xfe": "UTF-16", b"\xfe\xff": "UTF-16"}


def must_exist(path: Path, asked: str = "") -> None:
    """Refuse what is not there, is no file, or is too large to be read; `asked` says who names it."""
    try:
        found = path.stat()
    except (OSError, ValueError):  # the latter of a name that no file can have
        raise InputError(
            f'cannot read "{_printable(path)}"{asked}: there is no such file. Check the name and the folder.'
        ) from None
    if not stat.S_ISREG(found.st_mode):
        what = "a folder" if stat.S_ISDIR(found.st_mode) else "a pipe or a device"
        raise InputError(f'cannot read "{path}"{asked}: it is {what}. Expected a file.')
    if found.st_size > MOST_BYTES:
        raise InputError(
            f'cannot read "{path}"{asked}: it has {found.st_size / 1e9:.1f} GB; files of up to {MOST_BYTES / 1e9:g} GB '
            "are read. Thin it, or cut it to the site."
        )


def _printable(path: Path) -> str:
    return "".join(c if c.isprintable() else "?" for c in str(path)[:300])


@contextmanager
def reading_as(path: Path, expected: str, asked: str = "") -> Iterator[None]:
    """Turn whatever a package raises of a file into an error of ours, and keep its words and warnings to itself.

    Parameters
    ----------
    path : Path
        The file, which must exist.
    expected : str
        What it was to be, as in "a raster: GeoTIFF or ESRI ASCII grid".
    asked : str
        Who names it.

    Raises
    ------
    InputError
        If it cannot be read as that; and all that is raised on purpose within.
    """
    must_exist(path, asked)
    hook, sys.unraisablehook = sys.unraisablehook, lambda unraisable: None
    loggers = [logging.getLogger(name) for name in _TALKERS]
    quiet = [(log, log.propagate, logging.NullHandler()) for log in loggers]
    for log, _, handler in quiet:
        log.addHandler(handler)
        log.propagate = False
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    except InkhornError:
        raise
    except MemoryError:
        raise InputError(f'"{path}"{asked} asks for more memory than there is. Is it damaged?') from None
    except Exception as problem:  # packages raise all kinds, of their own and of what they are built on
        _let_go(problem)
        why = str(problem).strip().partition("\n")[0][:150]
        said = f" ({why})" if why and why.isascii() else ""
        raise InputError(
            f'"{path}"{asked} cannot be read as {expected}{said}. Is it damaged, or another kind of file?'
        ) from None
    finally:
        sys.unraisablehook = hook
        for log, propagate, handler in quiet:
            log.removeHandler(handler)
            log.propagate = propagate


def _let_go(problem: BaseException | None) -> None:
    """Free what an error still holds, as files that cannot be closed: now, while what they say of it is not heard."""
    while problem is not None:
        traceback.clear_frames(problem.__traceback__)
        problem.__traceback__ = None
        problem = problem.__context__


def text_of(path: Path, asked: str = "") -> str:
    """Return the text of a file in UTF-8, with a byte order mark or without.

    Raises
    ------
    InputError
        If it is in another encoding; the message says where, and which it seems to be.
    """
    must_exist(path, asked)
    try:
        data = path.read_bytes()
    except OSError as problem:
        raise InputError(f'cannot read "{path}"{asked}: {problem.strerror}.') from None
    if data[:2] in _MARKS:
        raise InputError(f'"{path}"{asked} is in {_MARKS[data[:2]]}. Save it as UTF-8.')
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as problem:
        line = data.count(b"\n", 0, problem.start) + 1
        raise InputError(
            f'"{path}"{asked}, line {line}: the text is not in UTF-8; it may be Latin-1 (Windows 1252). Save it as UTF-8.'
        ) from None
