"""How a solver came to its answer."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.draw.style import BANK, INK, WARN, axes_or_new
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["convergence"]


def convergence(flow: FlowResult, *, of: str = "closure", ax: Axes | None = None) -> Axes:
    """Draw what was left of the equations after every step of Newton's method, a line for each step in time.

    Parameters
    ----------
    flow : FlowResult
        As solved.
    of : {"closure", "change"}
        The sum of absolute residuals over the turnover, or the largest change of any unknown.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If `of` is another word, or the solver left no history.
    """
    from matplotlib.ticker import FuncFormatter

    column = {"closure": "closure", "change": "largest change [m]"}.get(of)
    if column is None:
        raise InputError(f'of is "{of}"; expected "closure" or "change".')
    table = flow.report.table()
    if table.empty:
        raise InputError("the solver left no history: there was nothing to iterate.")
    ax = axes_or_new(ax, (11.0, 5.5))
    values = table[column].to_numpy(dtype=np.float64)
    shown = np.where(values > 0, values, np.nan)
    number = np.arange(1, len(table) + 1)
    ends = np.flatnonzero(np.diff(table["until [day]"].to_numpy())) + 1
    for rows in np.split(np.arange(len(table)), ends):
        ax.plot(number[rows], shown[rows], "-o", ms=3 if len(table) < 200 else 1.5, lw=0.8, color=BANK)
    damped = table["damping"].to_numpy() < 1.0
    if damped.any():
        ax.plot(
            number[damped], shown[damped], "o", ms=7, mfc="none", mec=WARN, label="part of the step taken"
        )
    last = np.append(ends, len(table)) - 1
    if len(last) > 1:
        ax.plot(number[last], shown[last], "o", ms=4, color=INK, label="end of a step in time")
    ax.set_yscale("log")
    ax.yaxis.set_major_formatter(FuncFormatter(lambda value, place: f"{value:.0e}"))
    ax.set_xlabel("Newton step")
    ax.set_ylabel("residuals over turnover [-]" if of == "closure" else "largest change of an unknown [m]")
    ax.grid(alpha=0.3)
    if ax.get_legend_handles_labels()[0]:
        ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    steps = f"{len(last)} steps in time, " if len(last) > 1 else ""
    worst = f", closes to {flow.report.closure:.1e}" if of == "closure" else ""
    ax.set_title(f"{flow.model.name}: {steps}{len(table)} Newton steps{worst}")
    return ax
