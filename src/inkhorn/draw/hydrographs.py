"""Levels in time: of bores, measured and computed, and of any place."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.draw.dates import by_date
from inkhorn.draw.style import BANK, INK, axes_or_new, line_style
from inkhorn.errors import InputError, place_words
from inkhorn.flow import FlowResult
from inkhorn.flow.at_place import cells_at

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["heads_in_time", "hydrograph", "hydrographs"]

_WET = 0.01  # filled share of a cell's height, from which it holds water


def hydrograph(
    levels: pd.DataFrame, bore: str, *, curve: pd.DataFrame | None = None, ax: Axes | None = None
) -> Axes:
    """Draw measured and computed levels of a bore in time, warm-up shaded.

    Parameters
    ----------
    levels : pandas.DataFrame
        From `inkhorn.calibration.level_table`.
    bore : str
        Its name.
    curve : pandas.DataFrame, optional
        From `inkhorn.calibration.curve_table`: draw computed heads over the whole run; else at the dates of the
        levels alone.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    mine = levels[levels["bore"] == bore]
    if mine.empty:
        known = levels["bore"].unique().tolist()
        raise InputError(f'there are no levels of the bore "{bore}"; expected one of {known}.')
    ax = axes_or_new(ax)
    ax.plot(mine["date"], mine["measured [m]"], "o", ms=2.5, color=INK, label="measured")
    drawn = mine if curve is None else curve[curve["bore"] == bore]
    ax.plot(drawn["date"], drawn["computed [m]"], "-", lw=1.3, color=BANK, label="computed")
    if curve is not None and drawn["warm-up"].any():
        warm = drawn.loc[drawn["warm-up"], "date"]
        ax.axvspan(drawn["date"].min(), warm.max(), color="#ece7db", zorder=0, label="warm-up")
    ax.set_ylabel("level [m]")
    ax.set_title(f"{bore}, {mine['layer'].iloc[0]}", fontsize=9)
    ax.tick_params(labelsize=7)
    by_date(ax)
    return ax


def hydrographs(levels: pd.DataFrame, curve: pd.DataFrame, figure: Figure) -> None:
    """Fill a figure with the hydrographs of up to twelve bores; parameters as of `hydrograph`."""
    bores = levels["bore"].unique()[:12]
    columns = 1 if len(bores) == 1 else 2 if len(bores) <= 4 else 3 if len(bores) <= 9 else 4
    axes = figure.subplots(-(-len(bores) // columns), columns, squeeze=False).ravel()
    for ax in axes[len(bores) :]:
        ax.axis("off")
    for ax, bore in zip(axes, bores, strict=False):
        hydrograph(levels, bore, curve=curve, ax=ax)
    axes[0].legend(fontsize=7)


def heads_in_time(
    flow: FlowResult, x: float, y: float, z: float | None = None, *, ax: Axes | None = None
) -> Axes:
    """Draw the heads at a place in time, a line for each layer there while it holds water.

    Parameters
    ----------
    flow : FlowResult
        Of more than one step.
    x, y : float
        Where [m].
    z : float, optional
        Elevation [m]; of all layers there if not given.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If there is no cell, or one step only.
    """
    if len(flow.steps) < 2:
        raise InputError("the run has one step; `inkhorn show` tells its heads at a place.")
    table = flow.at_times(x, y, z)
    ax = axes_or_new(ax, (11.0, 5.5))
    dated = "date" in table
    time = table["date" if dated else "day"]
    cells = cells_at(flow.model, x, y, z)
    wet = np.array([flow.filled(k)[cells] > _WET for k in range(len(flow.steps))])
    for k, column in enumerate(c for c in table if c not in ("date", "day")):
        name = str(column).removesuffix(" [m]")
        if not wet[:, k].any():
            ax.plot([], [], " ", label=f"{name}: dry throughout")
            continue
        marker = "osDv^P*X"[k % 8]
        ax.plot(
            time, table[column].where(wet[:, k]), lw=1.4, marker=marker, ms=3, label=name, **line_style(k)
        )
    ax.set_ylabel("head [m]")
    ax.grid(alpha=0.3)
    if dated:
        by_date(ax)
    else:
        ax.set_xlabel("time since the start [day]")
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    ax.set_title(f"{flow.model.name}: heads at {place_words(x, y)}")
    return ax
