"""Pictures of flow: heads in plan, and sections."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.base import (
    BANK,
    INK,
    LAYER_COLOURS,
    WARN,
    axes_or_new,
    check_layer,
    draw_cells,
    draw_contours,
    draw_site,
    map_axes,
)
from inkhorn.errors import InputError, check_positive
from inkhorn.flow import FlowResult
from inkhorn.site import FixedHead

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["heads", "section"]


def heads(flow: FlowResult, layer: str | int = 0, *, step: int = -1, ax: Axes | None = None) -> Axes:
    """Draw the heads of a layer: filled, with labelled lines, the site's features over them.

    Cells that are dry are hatched; nothing is drawn where the layer is absent.

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
    there = grid.number[index] >= 0
    cells = grid.number[index][there]
    head = np.full(grid.mesh.n_cells, np.nan)
    wet = flow.filled(step)[cells] > 0.01
    head[there] = np.where(wet, flow.steps[step].heads[cells], np.nan)
    if np.isfinite(head).any():
        filled = draw_cells(ax, grid, head, cmap="YlGnBu", alpha=0.9)
        ax.figure.colorbar(filled, ax=ax, label="head [m]", shrink=0.8)
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
    name = grid.layer_names[index]
    draw_site(ax, flow.model.site, layer=name, fill=False)
    ax.set_title(f"{flow.model.name}: heads in the {name}")
    return ax


def _along(
    line: Sequence[Sequence[float]], spacing: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places along a polyline at even spacing, and their distances from its start."""
    corners = np.asarray(line, dtype=np.float64)
    if corners.ndim != 2 or corners.shape[1] != 2 or len(corners) < 2:
        raise InputError(f"the section line has the shape {corners.shape}; expected two or more (x, y) in m.")
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(corners, axis=0).T))])
    check_positive("length of the section line", run[-1], unit="m")
    at = np.linspace(0.0, run[-1], max(int(run[-1] / spacing), 2) + 1)
    return np.column_stack([np.interp(at, run, corners[:, k]) for k in (0, 1)]), at


def section(
    flow: FlowResult,
    line: Sequence[Sequence[float]],
    *,
    step: int = -1,
    exaggeration: float | None = None,
    ax: Axes | None = None,
) -> Axes:
    """Draw a section: layers, water table, the head of the lowest layer, wells near the line.

    Parameters
    ----------
    flow : FlowResult
        Heads.
    line : sequence of (x, y)
        Corners of the line [m].
    step : int
        Which step.
    exaggeration : float, optional
        Of heights over lengths; chosen to fill the figure if not given.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    import shapely

    grid, cells = flow.model.grid, flow.model.grid.cells
    cell = float(np.sqrt(np.median(grid.mesh.area)))
    places, at = _along(line, cell / 20.0)
    plan = grid.mesh.locate(places[:, 0], places[:, 1])
    inside = plan >= 0
    if not inside.any():
        raise InputError("the section line meets no cell. Check its corners.")
    ax = axes_or_new(ax, (12.0, 5.5))
    number = np.where(inside, grid.number[:, np.maximum(plan, 0)], -1)
    for k, name in enumerate(grid.layer_names):
        there = number[k] >= 0
        top = np.where(there, cells.top[number[k]], np.nan)
        bottom = np.where(there, cells.bottom[number[k]], np.nan)
        if there.any():
            ax.fill_between(
                at, bottom, top, step="mid", fc=LAYER_COLOURS[k % len(LAYER_COLOURS)], lw=0, label=name
            )
            ax.plot(at, bottom, color="white", lw=0.5)
    table = np.where(inside, flow.water_table(step)[np.maximum(plan, 0)], np.nan)
    ax.plot(at, table, color=BANK, lw=1.8, label="water table")
    lowest = number[-1]
    deep = np.where(lowest >= 0, flow.steps[step].heads[lowest], np.nan)
    ax.plot(at, deep, color=INK, lw=1.0, ls="--", label=f"head in the {grid.layer_names[-1]}")

    site, path = flow.model.site, shapely.LineString(line)
    ground = np.nanmax(np.where(inside, cells.top[grid.uppermost[np.maximum(plan, 0)]], np.nan))
    if site is not None:
        for feature in site.features:
            if isinstance(feature, FixedHead) and "Polygon" in feature.shape.geom_type:
                under = inside & shapely.contains_xy(feature.shape, *places.T)
                bed = cells.top[grid.uppermost[np.maximum(plan, 0)]]
                level = float(np.mean(feature.head))
                ax.fill_between(at, bed, level, where=under & (bed < level), fc="#8fc1dd", lw=0, zorder=3)
        for well in site.wells:
            spot = shapely.Point(well.x, well.y)
            if path.distance(spot) < 1.5 * cell:
                x = path.project(spot)
                ax.plot(
                    [x, x],
                    [well.screen_bottom, well.screen_top],
                    color=WARN,
                    lw=4,
                    solid_capstyle="butt",
                    zorder=5,
                )
                ax.plot([x, x], [well.screen_top, ground + 1.0], color=WARN, lw=1, zorder=5)
                ax.annotate(well.name, (x, ground + 1.0), ha="center", va="bottom", fontsize=9, color=WARN)
    low, high = float(np.nanmin(np.where(number[-1] >= 0, cells.bottom[number[-1]], np.nan))), float(ground)
    ax.set_xlim(at[inside][0], at[inside][-1])
    ax.set_ylim(low, high + 0.18 * (high - low))
    used = exaggeration or max(round(0.4 * np.ptp(at[inside]) / (1.18 * (high - low))), 1)
    ax.set_aspect(used)
    ax.set_xlabel("distance along the line [m]")
    ax.set_ylabel("elevation [m]")
    first, last = (tuple(round(float(v)) for v in line[k]) for k in (0, -1))
    ax.set_title(f"{flow.model.name}: section from {first} to {last}, heights × {used:g}")
    ax.legend(loc="upper right", ncols=4, fontsize=8, framealpha=0.9)
    return ax
