"""Figures into files, without a window; what a user names is shown as it is, never read as mathematics."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkhorn.draw.letters import untangle
from inkhorn.draw.scales import in_units
from inkhorn.errors import InputError
from inkhorn.files import file_name, free_name, written_whole
from inkhorn.unit_choice import UnitChoice

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["save_figure", "save_new"]


def save_figure(
    path: Path, fill: Callable[[Figure], Any], margins: bool = True, units: UnitChoice | None = None
) -> None:
    """Fill a figure of 1280 × 800 dots, in some units, and save it; the file is there whole or not at all."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    with mpl.rc_context({"text.parse_math": False}), written_whole(path) as beside:
        figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained" if margins else None)
        fill(figure)
        if units is not None:
            in_units(figure, units)
        untangle(figure)
        # a third of the time for a tenth more
        figure.savefig(beside, format="png", pil_kwargs={"compress_level": 3})


def save_new(
    folder: Path,
    name: str,
    fill: Callable[[Figure], Any],
    *,
    out: Path | None = None,
    margins: bool = True,
    units: UnitChoice | None = None,
) -> Path:
    """Save into a file that is given, or into a new one in a folder, and return it.

    Raises
    ------
    InputError
        If the folder cannot be made.
    """
    goal = out or free_name(folder / f"{file_name(name)}.png")
    try:
        goal.parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise InputError(
            f'cannot make the folder "{goal.parent}": {problem.strerror}. Choose another.'
        ) from None
    save_figure(goal, fill, margins, units)
    return goal
