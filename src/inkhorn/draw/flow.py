"""Pictures of flow in plan."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.draw.frame import colour_bar, framed
from inkhorn.draw.maps import check_layer, draw_cells, draw_contours, draw_site, map_axes, on_earth, shown_at
from inkhorn.draw.style import BANK, HEADS, INK, WARN, axes_or_new
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["by_date", "heads", "hydrograph", "hydrographs", "when"]


def heads(flow: FlowResult, layer: str | int = 0, *, step: int = -1, ax: Axes | None = None) -> Axes:
    """Draw the heads of a layer: filled, with labelled lines, the site's features over them.

    Cells that are dry are plain; where water stands above the ground, in the uppermost layer there, is hatched;
    nothing is drawn where the layer is absent.

    Parameters
    ----------
    flow : FlowResult
        Heads.
    layer : str or int
        Its name or position.
    step : int
        Which step.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    from matplotlib.ticker import MaxNLocator

    grid = flow.model.grid
    index = check_layer(grid, layer)
    ax = axes_or_new(ax)
    map_axes(ax, grid.mesh)
    there = grid.cell_number[index] >= 0
    cells = grid.cell_number[index][there]
    head = np.full(grid.mesh.n_cells, np.nan)
    wet = flow.filled(step)[cells] > 0.01
    head[there] = np.where(wet, flow.steps[step].heads[cells], np.nan)
    if np.isfinite(head).any():
        under = flow.model.site is not None and flow.model.site.picture is not None
        filled = draw_cells(ax, grid, head, cmap=HEADS, alpha=0.55 if under else 0.9)
        colour_bar(ax, filled, "head [m]")
        if np.nanmax(head) - np.nanmin(head) > 1e-6:
            levels = MaxNLocator(12, steps=[1, 2, 5, 10]).tick_values(np.nanmin(head), np.nanmax(head))
            lines = draw_contours(ax, grid, head, levels, colors=INK, linewidths=0.7)
            if lines is not None:
                ax.clabel(lines, fontsize=7, fmt="%g")
    dry = np.full(grid.mesh.n_cells, np.nan)
    dry[there] = np.where(wet, np.nan, 1.0)
    if np.isfinite(dry).any():
        from matplotlib.colors import ListedColormap

        draw_cells(ax, grid, dry, cmap=ListedColormap(["#e9e2d0"]))
        ax.plot([], [], "s", color="#e9e2d0", mec="#a89f86", label="dry")
    above = (flow.above_ground(step) > 0.0) & there & (grid.uppermost == grid.cell_number[index])
    if above.any():
        import shapely

        wet_ground = shapely.union_all(grid.mesh.polygons()[above])
        for part in getattr(wet_ground, "geoms", [wet_ground]):
            ring = np.asarray(part.exterior.coords)[:, :2].T
            ax.fill(*ring, fc="none", ec=WARN, lw=0.7, hatch="///", zorder=1.5)
        ax.fill([], [], fc="none", ec=WARN, lw=0.7, hatch="///", label="water above ground")
    name = grid.layer_names[index]
    draw_site(ax, flow.model.site, layer=name, fill=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(flow.model.site))
    ax.set_title(f"{flow.model.name}: heads, layer {name}{when(flow, step)}")
    return ax


def when(flow: FlowResult, step: int = -1) -> str:
    """Return the end of a step in words, to follow others; nothing where all is steady."""
    one = flow.steps[step]
    if one.steady and len(flow.steps) == 1:
        return ""
    start = None if flow.model.schedule is None else flow.model.schedule.start
    if start is None:
        return f", day {one.end:g}"
    date = start + np.timedelta64(round(one.end * 86400.0), "s")
    return f", {str(date).replace('T00:00:00', '').replace('T', ' ')}{' (steady)' if one.steady else ''}"


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


def by_date(ax: Axes) -> None:
    """Write dates along the x axis in as few letters as tell them, none over another."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    locator = AutoDateLocator(minticks=3, maxticks=6)
    ax.xaxis.set_major_locator(locator)
    ax.xaxis.set_major_formatter(ConciseDateFormatter(locator))


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
