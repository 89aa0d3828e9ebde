"""A run folder is a transaction: it ends whole, or as stopped with all that was done; killed ones are taken up."""

from __future__ import annotations

import os
import shutil
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, nullcontext, suppress
from pathlib import Path
from secrets import token_hex
from typing import TYPE_CHECKING, Any

from inkhorn.errors import InputError
from inkhorn.files import file_name
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.run_files import FILES
from inkhorn.stopping import held_back

if TYPE_CHECKING:
    from inkhorn.runs.journal import Journal

__all__ = ["new_run_folder", "take_up_killed"]

_LOCK = ".lock"
_YOUNG = 60.0  # s that a folder may be without its lock, while it is being made


def _numbered(beside: Path, name: str) -> Path:
    """Rename a folder to ``name-001``, or the next number that is free, though others do the same meanwhile."""
    number = 1
    while True:
        goal = beside.parent / f"{name}-{number:03d}"
        if not goal.exists():
            try:
                os.rename(beside, goal)
            except OSError:
                if not goal.exists():
                    raise
            else:
                return goal
        number += 1


def _locked(folder: Path) -> Any:
    """Lock a folder for this process; None where another that lives has it."""
    file = (folder / _LOCK).open("a+")
    try:
        if sys.platform == "win32":
            import msvcrt

            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)
        else:
            import fcntl

            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.close()
        return None
    return file


@contextmanager
def new_run_folder(parent: Path, kind: str, name: str, journal: Journal, again: str) -> Iterator[RunFolder]:
    """Give a folder to fill; it becomes ``run-NAME-001``, with the next free number, only if all went well.

    Where it does not, and anything worth it was done, it becomes ``stopped-NAME-001``; else it is gone. Nothing that
    exists is touched.

    Parameters
    ----------
    parent : Path
        In which folder.
    kind : str
        "run", "fit" or "vary".
    name : str
        Of the variant and the grid; may be empty.
    journal : Journal
        Told where it is kept.
    again : str
        The command that goes on, without the folder.
    """
    missing = [p for p in (parent, *parent.parents) if not p.exists()]
    tail = f"-{file_name(name)}" if name else ""
    with held_back():
        try:
            parent.mkdir(parents=True, exist_ok=True)
        except OSError as problem:
            raise InputError(
                f'cannot make the folder "{parent}": {problem.strerror}. Choose another with --out.'
            ) from None
        beside = parent / f".{kind}{tail}-{token_hex(4)}.part"
        try:
            beside.mkdir()
            lock = _locked(beside)
        except OSError as problem:
            _clear(beside, missing)
            raise InputError(
                f'cannot write into the folder "{parent}": {problem.strerror}. Choose another with --out.'
            ) from None
    folder = RunFolder(beside)

    def put_away(name: str, state: str) -> None:
        # on a full disk what a stopped folder says of its state stays old
        with suppress(OSError) if state == "stopped" else nullcontext():
            folder.keep_about(state=state, ended=time.strftime("%Y-%m-%d %H:%M:%S"))
        (beside / _LOCK).unlink(missing_ok=True)
        if os.name == "nt":  # a folder of open files cannot be renamed there
            lock.close()
        folder.path = _numbered(beside, name)
        journal.move_to(folder.path / FILES["log"].name)

    try:
        yield folder
        with held_back():
            put_away(f"{kind}{tail}", "whole")
    except BaseException as problem:
        if folder.path == beside and folder.worth:
            with held_back():
                put_away(_stopped(kind, name), "stopped")
                journal.tell(
                    f"{_what_is_kept(folder)} kept in {folder.path}. {again} {folder.path} goes on from there"
                )
        if isinstance(problem, OSError) and str(problem.filename or "").startswith(str(beside)):
            file = Path(str(problem.filename)).relative_to(
                beside
            )  # the folder's own name is nothing to a user
            raise OSError(problem.errno, problem.strerror, f"{file} of the run") from None
        raise
    finally:
        lock.close()
        with held_back():
            _clear(beside, missing)


def _stopped(kind: str, name: str) -> str:
    """What the folder of a run that was stopped is called."""
    return "-".join(["stopped", *[kind] * (kind != "run"), *[file_name(name)] * bool(name)])


def _clear(beside: Path, missing: Sequence[Path]) -> None:
    """Take away what is left of a folder, and the folders above that were made for it if they are empty."""
    shutil.rmtree(beside, ignore_errors=True)
    for folder in missing:
        with suppress(OSError):
            folder.rmdir()


def _what_is_kept(folder: RunFolder) -> str:
    """Say what a folder holds."""
    from inkhorn.files import records_kept  # which loads much that a folder is opened without

    steps, reached = folder.about.get("kept") or records_kept(folder.path / FILES["steps"].name)
    iterations = folder.about.get("iterations")
    if folder.about.get("kind") == "vary":
        return f"{folder.about.get('runs', 0)} runs are"
    if folder.about.get("in time"):
        first = f"{steps} step{'s'[: steps != 1]}, up to day {reached:g},"
    elif steps:
        first = "the heads" if iterations is None else "the fit and its heads"
    else:
        first = f"the iterations up to {iterations}"
    more = [key for key in folder.done if key not in ("flow", "fit")]
    return f"{first} and {', '.join(more)} are" if more else f"{first} are"


def take_up_killed(parent: Path, journal: Journal) -> None:
    """Look for folders of runs that were killed: keep what they did as stopped runs, clear the others, and tell."""
    for beside in sorted(parent.glob(".*.part")) if parent.is_dir() else []:
        try:
            without_lock = not (beside / _LOCK).exists()
            if without_lock and time.time() - beside.stat().st_mtime < _YOUNG:
                continue  # another run is just making it
            lock = _locked(beside)
        except OSError:
            continue
        if lock is None:
            continue
        with lock, held_back():
            _take_up(beside, journal)


def _take_up(beside: Path, journal: Journal) -> None:
    from inkhorn.files import records_kept

    try:
        folder = RunFolder.opened(beside)
    except InputError:
        folder = RunFolder(beside)
    steps, _ = records_kept(beside / FILES["steps"].name)
    if not (folder.done or steps or {"iterations", "runs"} & set(folder.about)):
        shutil.rmtree(beside, ignore_errors=True)
        journal.tell(
            f"a run that was killed before anything was solved has left {beside}; it is cleared away"
        )
        return
    name = _stopped(folder.about.get("kind", "run"), folder.about.get("name", ""))
    for part in beside.glob(".*.part*"):
        part.unlink(missing_ok=True)
    folder.keep_about(state="stopped")
    (beside / _LOCK).unlink(missing_ok=True)
    folder.path = _numbered(beside, name)
    journal.tell(
        f"of a run that was killed {_what_is_kept(folder)} kept in {folder.path}. "
        f"{folder.about.get('again', 'inkhorn run SITE.toml --go-on')} {folder.path} goes on from there"
    )
