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
    import numpy as np
    from matplotlib.figure import Figure
    from numpy.typing import NDArray

__all__ = ["blank_figure", "dots_of_figure", "save_figure", "save_new"]

_DPI = 100


def save_figure(
    path: Path, fill: Callable[[Figure], Any], margins: bool = True, units: UnitChoice | None = None
) -> None:
    """Fill a figure of 1280 × 800 dots, in some units, and save it; the file is there whole or not at all."""
    from PIL import Image

    with written_whole(path) as beside:
        figure = blank_figure(margins)
        dots = dots_of_figure(figure, fill, units)
        # a third of the time for a tenth more
        Image.fromarray(dots).save(beside, format="png", compress_level=3, dpi=(_DPI, _DPI))


def blank_figure(margins: bool = True, size: float = 1.0) -> Figure:
    """Return an empty figure of 1280 × 800 dots that needs no window; with margins that fit what it comes to hold.

    Parameters
    ----------
    margins : bool
        Whether what is drawn is laid out.
    size : float
        Of every dot and letter.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=size * _DPI, layout="constrained" if margins else None)
    FigureCanvasAgg(figure)
    return figure


def dots_of_figure(
    figure: Figure, fill: Callable[[Figure], Any], units: UnitChoice | None = None
) -> NDArray[np.uint8]:
    """Fill a figure, lay it out, draw it, and return its dots, (height, width, 3)."""
    import matplotlib as mpl
    import numpy as np

    with mpl.rc_context({"text.parse_math": False}):
        fill(figure)
        if units is not None:
            in_units(figure, units)
        untangle(figure)
        canvas: Any = figure.canvas
        canvas.draw()
        return np.array(canvas.buffer_rgba())[..., :3]


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
