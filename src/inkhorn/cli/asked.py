"""What commands are given: arguments and options that several share, and what their words mean."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from inkhorn.flow import FlowResult

__all__ = [
    "Exaggeration",
    "GoOn",
    "GridName",
    "LayerName",
    "Out",
    "Output",
    "RunFolder",
    "SiteFile",
    "SiteOrRun",
    "VariantName",
    "When",
    "corners_of",
    "place_of",
    "read_of",
    "step_of",
    "time_of",
    "when_of",
]

SiteFile = Annotated[
    Path, typer.Argument(help="The project file, such as quillmere/site.toml.", metavar="SITE.toml")
]

SiteOrRun = Annotated[
    Path, typer.Argument(help="A project file, or the folder of a run.", metavar="SITE.toml|RUN")
]

RunFolder = Annotated[Path, typer.Argument(help="The folder of a run.", metavar="RUN")]

GridName = Annotated[
    str | None,
    typer.Option("--grid", help="One of the project's other grids, a table [grids.NAME].", metavar="NAME"),
]

LayerName = Annotated[
    str | None, typer.Option("--layer", help="Which layer; the uppermost if not given.", metavar="NAME")
]

When = Annotated[
    str | None,
    typer.Option(
        "--time", help="A date, or days since the start; the end of the run if not given.", metavar="TIME"
    ),
]

Output = Annotated[
    Path | None,
    typer.Option(
        help="The file, PNG; a new one in the folder `pictures` beside the project file, or beside the run folders, if "
        "not given.",
        metavar="FILE",
    ),
]

Exaggeration = Annotated[
    float | None, typer.Option(help="Of heights over lengths.", min=1e-3, metavar="FACTOR")
]

Out = Annotated[
    Path | None,
    typer.Option(help="Where run folders go; `runs` beside the project file if not given.", metavar="FOLDER"),
]

VariantName = Annotated[
    str | None,
    typer.Option(
        "--variant", help="What differs, in variants/NAME.toml beside the project file.", metavar="NAME"
    ),
]

GoOn = Annotated[
    Path | None,
    typer.Option(
        "--go-on",
        help="Go on from this folder, of one that was stopped: what is done is taken over.",
        metavar="RUN",
    ),
]


def read_of(site: Path, variant: str | None = None) -> Any:
    """Return the project of a file."""
    from inkhorn.project import read_project

    return read_project(site, variant=variant)


def corners_of(words: str | None, option: str) -> list[tuple[float, float]] | None:
    """Corners of a line, as in ``"0,0 500,300"``."""
    from inkhorn.errors import InputError

    if words is None:
        return None
    try:
        pairs = [tuple(float(v) for v in corner.split(",")) for corner in words.split()]
    except ValueError:
        pairs = []
    if len(pairs) < 2 or any(len(p) != 2 for p in pairs):
        raise InputError(
            f'{option} is "{words}"; expected two or more corners in m, x and y with a comma between, as in '
            '"0,0 500,300".'
        )
    return [(p[0], p[1]) for p in pairs]


def time_of(text: str, option: str = "--time") -> Any:
    """Return a date, or a number of days since the start."""
    from inkhorn.dates import one_date
    from inkhorn.errors import InputError

    try:
        return float(text)
    except ValueError:
        pass
    try:
        return one_date(text)
    except (InputError, ValueError):
        raise InputError(
            f'{option} is "{text}"; expected a date such as 2021-05-31, or a number of days since the start.'
        ) from None


def step_of(flow: FlowResult, text: str | None, option: str = "--time") -> int:
    """Return the step nearest to a time, the last if none is given."""
    return len(flow.steps) - 1 if text is None else flow.step_at(time_of(text, option))


def when_of(flow: FlowResult, step: int) -> str:
    """Return the end of a step in words, to follow others."""
    from inkhorn.draw import when

    return when(flow, step)


def place_of(text: str, option: str) -> tuple[float, ...]:
    """Return x, y and perhaps z, as in ``"3700,2900"``."""
    from inkhorn.errors import InputError

    try:
        place = tuple(float(v) for v in text.split(","))
    except ValueError:
        place = ()
    if len(place) not in (2, 3):
        raise InputError(
            f'{option} is "{text}"; expected x and y in m with a comma between, perhaps an elevation behind another, as '
            'in "3700,2900" or "3700,2900,25".'
        )
    return place
