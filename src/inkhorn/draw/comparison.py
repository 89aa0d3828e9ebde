"""Runs side by side: their heads over all, and at the bores."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.frame import colour_bar
from inkhorn.draw.maps import draw_cells, draw_contours, draw_site, map_axes
from inkhorn.draw.style import HEADS, INK, OFF, axes_or_new, line_style
from inkhorn.model import Model, saturation

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["head_differences", "heads_along", "heads_at_bores", "heads_side_by_side"]

MEASURED = "measured [m]"
_WET = 0.01  # filled share of a cell's height, from which it holds water


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


def heads_side_by_side(
    figure: Figure, models: Mapping[str, Model], heads: Mapping[str, NDArray[np.float64]], layer: str
) -> None:
    """Fill a figure with the heads of a layer in up to nine runs, a map for each, on one scale.

    Parameters
    ----------
    figure : Figure
        Filled.
    models : mapping of str to Model
        By run.
    heads : mapping of str to ndarray, (n_cells,)
        Of each [m].
    layer : str
        Which; runs without it are left out.
    """
    from matplotlib.ticker import MaxNLocator

    plans = {}
    for name, model in list(models.items())[:9]:
        if layer not in model.grid.layer_names:
            continue
        grid = model.grid
        number = grid.cell_number[grid.layer_index(layer)]
        wet = np.zeros(len(number), dtype=bool)
        filled = saturation(heads[name], grid.cells.bottom, grid.cells.top, model.water_table)[0]
        wet[number >= 0] = filled[number[number >= 0]] > _WET
        plans[name] = np.where(wet, heads[name][number], np.nan)
    low = min((float(np.nanmin(p, initial=np.inf)) for p in plans.values()), default=0.0)
    high = max((float(np.nanmax(p, initial=-np.inf)) for p in plans.values()), default=1.0)
    columns = 1 if len(plans) == 1 else 2 if len(plans) <= 4 else 3
    axes = figure.subplots(max(-(-len(plans) // columns), 1), columns, squeeze=False).ravel()
    for ax in axes[len(plans) :]:
        ax.axis("off")
    for place, (ax, (name, plan)) in enumerate(zip(axes, plans.items(), strict=False)):
        grid = models[name].grid
        map_axes(ax, grid.mesh)
        if np.isfinite(plan).any():
            levels = MaxNLocator(10, steps=[1, 2, 5, 10]).tick_values(low, high)
            drawn = draw_cells(ax, grid, plan, cmap=HEADS, vmin=low, vmax=high, alpha=0.9)
            lines = draw_contours(ax, grid, plan, levels, colors=INK, linewidths=0.6)
            if lines is not None:
                ax.clabel(lines, fontsize=6, fmt="%g")
            if place == min(columns, len(plans)) - 1:
                colour_bar(ax, drawn, "head [m]")
        draw_site(ax, models[name].site, bores=False, fill=False, names=False)
        ax.set_title(name, fontsize=10)
        ax.set(xlabel="", ylabel="")
    figure.suptitle(f"{next(iter(models.values())).name}: heads, layer {layer}, at the end")


def heads_along(figure: Figure, along: pd.DataFrame) -> None:
    """Fill a figure with the heads of runs along a line, axes for each layer, up to eight.

    Parameters
    ----------
    figure : Figure
        Filled.
    along : pandas.DataFrame
        Columns layer, distance [m] and one for each run [m].
    """
    layers = along["layer"].unique()[:8]
    columns = 1 if len(layers) <= 3 else 2
    axes = figure.subplots(-(-len(layers) // columns), columns, squeeze=False, sharex=True).ravel()
    for ax in axes[len(layers) :]:
        ax.axis("off")
    runs = [c for c in along.columns if c not in ("layer", "distance [m]")]
    for ax, layer in zip(axes, layers, strict=False):
        mine = along[along["layer"] == layer]
        for k, run in enumerate(runs):
            ax.plot(mine["distance [m]"], mine[run], lw=1.3, label=run, **line_style(k))
        ax.set_title(layer, fontsize=10)
        ax.set_ylabel("head [m]")
        ax.grid(alpha=0.3)
        ax.tick_params(labelsize=8)
    axes[max(len(layers) - columns, 0)].set_xlabel("distance along the line [m]")
    axes[len(layers) - 1].set_xlabel("distance along the line [m]")
    axes[min(columns, len(layers)) - 1].legend(
        loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False
    )


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
