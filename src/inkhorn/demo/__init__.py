"""The Quillmere demo, and the small project that `inkhorn new` makes."""

from __future__ import annotations

import csv
import os
import shutil
from importlib.resources import as_file, files
from pathlib import Path

from inkhorn.errors import InputError

__all__ = ["truth", "write_demo", "write_new"]


def _copy(what: str, folder: Path) -> None:
    """Copy packaged data into a folder that is not there or empty; all of it or none."""
    if folder.is_dir() and any(folder.iterdir()):
        raise InputError(f'the folder "{folder}" is not empty. Choose one that is not there yet.')
    if folder.exists() and not folder.is_dir():
        raise InputError(f'"{folder}" is a file. Choose a folder that is not there yet.')
    beside = folder.with_name(f".{folder.name}-{os.getpid()}.part")
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        with as_file(files("inkhorn.demo") / what) as source:
            shutil.copytree(source, beside, ignore=shutil.ignore_patterns("__pycache__"))
        if folder.is_dir():
            folder.rmdir()
        os.rename(beside, folder)
    except OSError as problem:
        raise InputError(f'cannot make the folder "{folder}": {problem.strerror}. Choose another.') from None
    finally:
        shutil.rmtree(beside, ignore_errors=True)


def write_new(folder: Path) -> None:
    """Make a small commented project in a new folder.

    Raises
    ------
    InputError
        If the folder holds anything.
    """
    _copy("new", folder)


def write_demo(folder: Path) -> tuple[Path, bool]:
    """Make the Quillmere project, unless it is there.

    Returns
    -------
    site : Path
        Its project file.
    made : bool
        False if the folder already held one, which is left as it is.
    """
    site = folder / "site.toml"
    if site.is_file():
        return site, False
    _copy("data", folder)
    return site, True


def truth(folder: Path) -> dict[str, float]:
    """Return what the demo's levels were made with, by layer; empty if the file is gone."""
    path = folder / "truth.csv"
    if not path.is_file():
        return {}
    with path.open(encoding="utf-8", newline="") as file:
        return {row["parameter"]: float(row["truth"]) for row in csv.DictReader(file)}
