"""How the command line prints: tables, lines, progress; on any terminal, or on none."""

from __future__ import annotations

import os
import sys
import textwrap
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.runs import Journal
    from inkhorn.unit_choice import UnitChoice

__all__ = [
    "MANNER",
    "SOME",
    "Listener",
    "end_of",
    "of_all",
    "parameters_for_people",
    "print_table",
    "say",
    "shortened",
    "show_warning",
    "shown",
    "telling",
    "telling_runs",
]

_WIDEST_WORD = 14  # letters that a column of a table has room for
_NARROWEST = 80  # letters that a table may always take
_LONGEST = 24  # rows of a table that are printed
SOME = 12  # periods that are printed of the first and of the last
_WRONG = ("warning", "error", "problem")  # begin lines that are never left out


@dataclass
class Manner:
    """How much is said: nothing but errors and what was asked for, or with times.

    Attributes
    ----------
    quiet, verbose : bool
    begun : float
        When the command began [s].
    """

    quiet: bool = False
    verbose: bool = False
    begun: float = field(default_factory=time.monotonic)


MANNER = Manner()
"""That of this process, as its command line says."""


def say(line: str, *, error: bool = False, asked: bool = False) -> None:
    """Print; on a terminal with lines broken between words, what goes on set in a little.

    What was `asked` for, as JSON, is printed quietly too.
    """
    if MANNER.quiet and not (error or asked):
        return
    stream: Any = sys.stderr if error else sys.stdout
    if stream.isatty():
        import shutil

        width = shutil.get_terminal_size().columns
        broken = (
            textwrap.wrap(one, width, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)
            for one in line.splitlines()
        )
        line = "\n".join("\n".join(parts) for parts in broken)
    print(line, file=stream)


def shown(value: Any) -> str:
    """A number by four figures that matter, or whole if it is larger; text as it is."""
    if not isinstance(value, float):
        return str(value)
    if value != value:
        return "-"
    if abs(value) >= 1e7 or 0 < abs(value) < 1e-4:
        return f"{value:.2g}"
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.4g}"


def print_table(frame: pd.DataFrame, title: str, units: UnitChoice | None = None) -> None:
    """Print a table no wider than the terminal; a column of notes stands below, a line for each row that has one."""
    if MANNER.quiet:
        return
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, header_style="bold")
    plain = frame.reset_index() if frame.index.names[0] is not None else frame
    if units is not None:
        plain = units.table(plain)
    notes = list[tuple[str, str]]()
    if "note" in plain.columns[1:]:
        said = zip(plain.iloc[:, 0], plain["note"], strict=True)
        told = [(str(name), note) for name, note in said if isinstance(note, str) and note.strip()]
        notes = list(dict.fromkeys(told))
        plain = plain.drop(columns="note")
    for name in plain.columns:
        number = plain[name].dtype.kind in "fi"
        words = [len(word) for value in plain[name] for word in str(value).split()] if not number else []
        table.add_column(
            Text(str(name)),
            justify="right" if number else "left",
            overflow="fold",
            min_width=min(max(words, default=1), _WIDEST_WORD),  # names stay in one piece
        )
    for row in plain.itertuples(index=False):
        table.add_row(*(Text(shown(v)) for v in row))
    console = Console(highlight=False)
    console.print(Text(title, style="bold"))  # apart from the table, which may be narrower
    width = max(console.width, _NARROWEST)
    console.print(table, width=width)
    for name, note in notes:
        for line in textwrap.wrap(
            f"{name}: {note}", width - 2, subsequent_indent="  ", break_on_hyphens=False
        ):
            console.print(Text(f" {line}", style="dim"), width=width, soft_wrap=True)


def _told(console: Any, line: str) -> None:
    """Print what a run tells, with the time if that is wanted; only what is wrong if it is to be quiet."""
    if not MANNER.quiet or line.startswith(_WRONG):
        since = f"{time.monotonic() - MANNER.begun:7.1f} s  " if MANNER.verbose else ""
        console.print(since + line, markup=False, soft_wrap=True)


def _gone_on(console: Any, done: list[str], words: str) -> None:
    """Say what is being done, where that is wanted and no bar tells it."""
    if MANNER.verbose and not console.is_terminal and done[-1:] != [words]:
        done[:] = [words]
        _told(console, words)


@contextmanager
def telling() -> Iterator[Journal]:
    """A run that prints its lines, with a spinner and a bar on a terminal and neither elsewhere."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

    from inkhorn.runs import Journal

    console = Console(highlight=False)
    columns = (SpinnerColumn(), TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn())
    with Progress(
        *columns, console=console, transient=True, disable=MANNER.quiet or not console.is_terminal
    ) as bar:
        task = bar.add_task("reading", total=None)

        done: list[str] = []

        def progress(words: str, share: float | None) -> None:
            _gone_on(console, done, words.partition(",")[0])
            bar.update(task, description=words, total=None if share is None else 1.0, completed=share or 0.0)

        journal = Journal(say=partial(_told, console), progress=progress)
        try:
            yield journal
        except KeyboardInterrupt:
            bar.stop()
            say("interrupted; nothing was left half-written", error=True)
            raise SystemExit(1) from None


@contextmanager
def telling_runs() -> Iterator[tuple[Journal, Any]]:
    """Many runs that print their lines; on a terminal what is watched stands below as runs come in.

    Yields
    ------
    journal : Journal
    heard : callable
        Takes the `Ensemble` so far.
    """
    import time

    from rich.console import Console, Group
    from rich.live import Live
    from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

    from inkhorn.runs import Journal

    console = Console(highlight=False)
    bar = Progress(
        SpinnerColumn(), TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=console
    )
    task = bar.add_task("reading", total=None)
    drawn = [0.0]
    live = Live(bar, console=console, transient=True, refresh_per_second=4)

    done: list[str] = []

    def progress(words: str, share: float | None) -> None:
        _gone_on(console, done, words.partition(",")[0])
        bar.update(task, description=words, total=None if share is None else 1.0, completed=share or 0.0)

    def heard(found: Any) -> None:
        if console.is_terminal and time.monotonic() - drawn[0] > 0.5:
            drawn[0] = time.monotonic()
            live.update(Group(bar, watched_table(found)))

    journal = Journal(say=partial(_told, console), progress=progress)
    if console.is_terminal and not MANNER.quiet:
        live.start()
    try:
        yield journal, heard
    except KeyboardInterrupt:
        live.stop()
        say("interrupted; the runs that were done are kept", error=True)
        raise SystemExit(1) from None
    finally:
        live.stop()


def watched_table(found: Any) -> Any:
    """What is watched of many runs so far, for a terminal."""
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, header_style="bold", padding=(0, 2, 0, 0))
    for name in ("watched", "runs", "mean", "standard error", "unit", "least to greatest"):
        table.add_column(name, justify="right" if name in ("runs", "mean", "standard error") else "left")
    for _, row in found.glance().iterrows():
        table.add_row(
            Text(str(row["watched"])), str(row["runs"]), shown(float(row["mean"])), shown(float(row["standard error"])),
            Text(str(row["unit"])), Text(str(row["spread"]), style="cyan"),
        )  # fmt: skip
    failed = len(found.state.failed)
    table.caption = f"{found.state.count} runs, {failed} failed" if failed else f"{found.state.count} runs"
    return table


_PLAIN_LETTERS = str.maketrans(
    {
        "²": "2",
        "³": "3",
        "⁵": "5",
        "–": "-",
        "—": "-",
        "…": "...",
        "·": " ",
        "×": "x",
        "°": " degrees",
        "µ": "u",
        "≤": "<=",
    }
)


class Listener:
    """The terminal, or whoever reads what is printed: one who goes away stops no work, as after ``| head -1``."""

    def __init__(self, stream: Any) -> None:
        self._stream, self._there = stream, True

    def _tried(self, act: Any) -> Any:
        if self._there:
            try:
                return act()
            except OSError:
                self._there = False
                nowhere = os.open(os.devnull, os.O_WRONLY)  # for what is flushed when Python ends
                os.dup2(nowhere, self._stream.fileno())
        return None

    def write(self, text: str) -> int:
        self._tried(lambda: self._stream.write(self._writable(text)))
        return len(text)

    def _writable(self, text: str) -> str:
        """Text in letters that the terminal knows."""
        if text.isascii():
            return text
        encoding = self._stream.encoding or "ascii"
        try:
            text.encode(encoding)
        except UnicodeEncodeError:
            return text.translate(_PLAIN_LETTERS).encode(encoding, "replace").decode(encoding)
        return text

    def flush(self) -> None:
        self._tried(self._stream.flush)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def show_warning(message: Any, category: type[Warning], *place: Any, **more: Any) -> None:
    """Say our own warnings in words; what a library warns of is for those who ask Python for it."""
    from inkhorn.errors import InkhornWarning

    if issubclass(category, InkhornWarning):
        say(f"warning: {message}", error=True)
    elif sys.warnoptions:
        say(f"{category.__name__}: {message}", error=True)


def parameters_for_people(table: pd.DataFrame, value: str, units: UnitChoice) -> pd.DataFrame:
    """The table of parameters, short enough for a terminal."""
    numbers = [name for name in ("start", value, "lower 95 %", "upper 95 %") if name in table]
    table = units.by_row(table, "unit", *numbers)
    known = table.reindex(columns=["lower 95 %", "upper 95 %"])
    limits = [
        "" if low != low else f"{shown(low)} to {shown(high)}"
        for low, high in zip(known["lower 95 %"], known["upper 95 %"], strict=True)
    ]
    short = table[["parameter", "unit", "start", value]].assign(**{"95 % limits": limits})
    if table["points"].notna().any():
        short = short.assign(**{"pilot points": table["points"].fillna("")})
    return short.assign(remark=table["remark"].fillna(""))


def shortened(table: pd.DataFrame) -> pd.DataFrame:
    """The first rows of a long table."""
    return table if len(table) <= _LONGEST else table.head(_LONGEST)


def end_of(folder: Path, told: Journal, more: str = "") -> None:
    """Say where everything is; exit with 1 if something went wrong on the way."""
    say(f"Everything is in {folder}" + (f"\n{more}" if more else ""))
    if told.problems:
        say("\n".join(f"error: {line}" for line in told.problems), error=True)
        raise typer.Exit(1)


def of_all(table: pd.DataFrame) -> str:
    """Say of a long table how much of it is printed."""
    return "" if len(table) <= _LONGEST else f", the first {_LONGEST} of {len(table)}"
