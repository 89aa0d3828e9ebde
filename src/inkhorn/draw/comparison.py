"""Runs side by side: their heads over all, and at the bores."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.frame import colour_bar
from inkhorn.draw.maps import draw_cells, draw_site, map_axes
from inkhorn.draw.style import INK, OFF, axes_or_new
from inkhorn.model import Model

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["head_differences", "heads_at_bores"]

MEASURED = "measured [m]"


def heads_at_bores(heads: pd.DataFrame, rms: pd.Series, *, ax: Axes | None = None) -> Axes:
    """Draw each run's head less the measured level, bore by bore from the lowest level up.

    Parameters
    ----------
    heads : pandas.DataFrame
        One row per bore: its measured level and the head of each run [m].
    rms : pandas.Series
        Of each run [m].
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    ax = axes_or_new(ax)
    ordered = heads.dropna().sort_values(MEASURED)
    places = range(len(ordered))
    for name, marker in zip(rms.index, "osDv^P*X" * len(rms), strict=False):
        off = ordered[name] - ordered[MEASURED]
        ax.plot(places, off, marker, ms=5, alpha=0.85, label=f"{name} (RMS {rms[name]:.3f} m)")
    ax.axhline(0.0, color=INK, lw=1.0)
    ax.set_xticks(list(places), ordered.index, rotation=90, fontsize=7)
    ax.set_xlabel("bore, from the lowest level up")
    ax.set_ylabel("computed head less measured level [m]")
    ax.grid(axis="y", alpha=0.3)
    ax.legend(fontsize=9)
    return ax


def head_differences(figure: Figure, model: Model, off: NDArray[np.float64], words: str) -> None:
    """Fill a figure with the differences of heads in up to nine layers, a map for each, on one scale.

    Parameters
    ----------
    figure : Figure
        Filled.
    model : Model
        Whose grid and site they are on.
    off : ndarray of float, (n_cells,)
        Differences [m], NaN where there are none.
    words : str
        What is less what.
    """
    grid = model.grid
    layers = [k for k in range(len(grid.layer_names)) if (grid.cell_number[k] >= 0).any()][:9]
    columns = 1 if len(layers) == 1 else 2 if len(layers) <= 4 else 3
    axes = figure.subplots(-(-len(layers) // columns), columns, squeeze=False).ravel()
    most = float(np.nanmax(np.abs(off), initial=0.0)) or 1.0
    for ax in axes[len(layers) :]:
        ax.axis("off")
    for place, (ax, k) in enumerate(zip(axes, layers, strict=False)):
        number = grid.cell_number[k]
        plan = np.where(number >= 0, off[number], np.nan)
        map_axes(ax, grid.mesh)
        if np.isfinite(plan).any():
            drawn = draw_cells(ax, grid, plan, cmap=OFF, vmin=-most, vmax=most)
            if place == min(columns, len(layers)) - 1:
                colour_bar(ax, drawn, "difference [m]")
        draw_site(ax, model.site, bores=False, fill=False, names=False)
        ax.set_title(grid.layer_names[k], fontsize=10)
        ax.set(xlabel="", ylabel="")
    figure.suptitle(f"{model.name}: heads of {words}, at the end")
