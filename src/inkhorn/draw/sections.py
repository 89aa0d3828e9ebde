"""Sections through layers, with water and wells where a flow is given."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import time_in_words
from inkhorn.draw.dates import when
from inkhorn.draw.frame import colour_bar
from inkhorn.draw.movement import faintest
from inkhorn.draw.style import BANK, INK, SOLUTE, WARN, WATER, axes_or_new, material_style
from inkhorn.errors import InputError, check_positive
from inkhorn.flow import FlowResult
from inkhorn.paths import PathResult
from inkhorn.site import FixedHead, Site, mean_value
from inkhorn.space import Grid, line_corners
from inkhorn.transport import TransportResult
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["section"]


def _along(
    line: Sequence[Sequence[float]], spacing: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places along a polyline at even spacing, and their distances from its start."""
    corners = line_corners(line, "the section line")
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(corners, axis=0).T))])
    check_positive("length of the section line", run[-1], unit="m")
    at = np.linspace(0.0, run[-1], max(int(run[-1] / spacing), 2) + 1)
    return np.column_stack([np.interp(at, run, corners[:, k]) for k in (0, 1)]), at


def section(
    of: FlowResult | Grid,
    line: Sequence[Sequence[float]],
    *,
    site: Site | None = None,
    step: int = -1,
    exaggeration: float | None = None,
    cells: bool = False,
    paths: PathResult | None = None,
    plume: TransportResult | None = None,
    time: int = -1,
    most: float | None = None,
    ax: Axes | None = None,
) -> Axes:
    """Draw a section: what the layers are made of, the water where a flow is given, wells near the line.

    Where a plume is given, cells have its concentrations instead.

    Of a flow it shows the water table and the head of the lowest layer. For the line along a row or a
    column see `RectangularMesh.row_line` and `RectangularMesh.column_line`.

    Parameters
    ----------
    of : FlowResult or Grid
        Heads, or just cells.
    line : sequence of (x, y)
        Corners of the line [m].
    site : Site, optional
        Whose bodies of water and wells are drawn; that of the flow if not given.
    step : int
        Which step of the flow.
    exaggeration : float, optional
        Of heights over lengths; chosen to fill the figure if not given.
    cells : bool
        Whether to draw every cell's outline.
    paths : PathResult, optional
        Particle paths, drawn where they come within three cells of the line, seen from aside.
    plume : TransportResult, optional
        Concentrations on the flow.
    time : int
        Which of its output times.
    most : float, optional
        The highest concentration that colours are for, in the species' unit; that of the section if not given.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    flow = of if isinstance(of, FlowResult) else None
    grid = of if isinstance(of, Grid) else of.model.grid
    if plume is not None and plume.flow.model.grid.n_cells != grid.n_cells:
        raise InputError("the plume is of another grid than the section. Give the flow that carries it.")
    site = flow.model.site if site is None and flow is not None else site
    width = float(np.sqrt(np.median(grid.mesh.area)))
    finest = float(np.sqrt(grid.mesh.area.min()))
    places, at = _along(line, max(min(width / 20.0, finest / 3.0), width / 200.0))
    plan = grid.mesh.locate(places[:, 0], places[:, 1])
    if not (plan >= 0).any():
        raise InputError("the section line meets no cell. Check its corners.")
    ax = axes_or_new(ax, (12.0, 5.5))
    number = np.where(plan >= 0, grid.cell_number[:, np.maximum(plan, 0)], -1)
    if plume is None:
        _draw_layers(ax, grid, number, at, cells)
    else:
        _draw_plume_along(ax, plume, time, most, number, at)
    uppermost = np.where(plan >= 0, grid.uppermost[np.maximum(plan, 0)], -1)
    ground = np.where(uppermost >= 0, grid.cells.top[uppermost], np.nan)
    if flow is not None:
        _draw_water(ax, flow, step, number, plan, at)
    if site is not None:
        _draw_site_along(ax, site, line, places, at, ground, 1.5 * width)
    if paths is not None:
        _draw_paths_along(ax, paths, line, 3.0 * width)
    lowest = np.where(number >= 0, grid.cells.bottom[number], np.inf).min()
    highest = float(np.nanmax(ground))
    inside = at[plan >= 0]
    ax.set_xlim(inside[0], inside[-1])
    ax.set_ylim(lowest, highest + 0.18 * (highest - lowest))
    used = exaggeration or max(round(0.4 * np.ptp(inside) / (1.18 * (highest - lowest))), 1)
    ax.set_aspect(used)
    ax.set_xlabel("distance along the line [m]")
    ax.set_ylabel("elevation [m]")
    by = 0 if np.ptp(line, axis=0).max() >= 100.0 else 3  # decimals
    first, last = ("({:.10g} m, {:.10g} m)".format(*np.round(line[k], by)) for k in (0, -1))
    name = flow.model.name if flow is not None else site.name if site is not None else ""
    date = "" if flow is None else when(flow, step)
    if plume is not None:
        date = f", {plume.species.name} after {time_in_words(plume.times[time])}"
    ax.set_title(f"{name}{': ' if name else ''}section from {first} to {last}, heights × {used:g}{date}")
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False, borderaxespad=0.0)
    return ax


def _draw_layers(
    ax: Axes, grid: Grid, number: NDArray[np.int64], at: NDArray[np.float64], outlines: bool
) -> None:
    """Fill cells by what they are made of; a line under each layer."""
    cells, said = grid.cells, set()
    for row in number:
        there = row >= 0
        top = np.where(there, cells.top[row], np.nan)
        bottom = np.where(there, cells.bottom[row], np.nan)
        for m in np.unique(cells.material_layer[row[there]]):
            label = {} if m in said else {"label": grid.layer_names[m]}
            said.add(m)
            made = there & (cells.material_layer[row] == m)
            fill = material_style(int(m)).fill
            ax.fill_between(at, bottom, top, where=made, step="mid", lw=0, **fill, **label)
        ax.plot(at, bottom, color=INK, lw=0.4, alpha=0.5)
        if outlines:
            changes = np.flatnonzero(np.diff(row) != 0)
            for k, side in ((c, s) for c in changes for s in (c, c + 1) if there[s]):
                between = 0.5 * (at[k] + at[k + 1])
                ax.plot([between, between], [bottom[side], top[side]], color=INK, lw=0.3, alpha=0.5)


def _draw_plume_along(
    ax: Axes,
    plume: TransportResult,
    time: int,
    most: float | None,
    number: NDArray[np.int64],
    at: NDArray[np.float64],
) -> None:
    """Fill cells by their concentration, thin lines between layers, the limit's outline along cells."""
    from matplotlib.collections import PolyCollection
    from matplotlib.colors import LogNorm

    cells, species = plume.flow.model.grid.cells, plume.species
    factor = 1.0 / unit_factor(species.unit, "concentration")
    record = plume.records[time % len(plume.records)]
    values = np.where(record.water > 0.0, record.concentration, 0.0) * factor
    edges = np.concatenate([at[:1], 0.5 * (at[1:] + at[:-1]), at[-1:]])
    boxes, shown = [], []
    for row in number:
        first = np.flatnonzero(np.diff(row, prepend=-2) != 0)
        last = np.append(first[1:], len(row))
        for a, b, cell in zip(edges[first], edges[last], row[first], strict=True):
            if cell >= 0:
                low, high = cells.bottom[cell], cells.top[cell]
                boxes.append([(a, low), (b, low), (b, high), (a, high)])
                shown.append(values[cell])
        there = row >= 0
        ax.plot(at, np.where(there, cells.bottom[row], np.nan), color=INK, lw=0.5, alpha=0.5)
    most = max(shown) if most is None else most
    floor = faintest(plume, most)
    if max(shown) > floor:
        found = PolyCollection(boxes, cmap=SOLUTE, norm=LogNorm(floor, most), lw=0)
        found.set_array(np.ma.masked_less_equal(shown, floor))
        ax.add_collection(found)
        colour_bar(ax, found, f"{species.name} [{species.unit}]")
    if species.limit is not None and max(shown) > species.limit * factor:
        _draw_limit(ax, np.array(boxes), np.array(shown) > species.limit * factor)
        ax.plot([], [], color=WARN, lw=1.4, label=f"limit, {species.limit * factor:g} {species.unit}")


def _draw_limit(ax: Axes, boxes: NDArray[np.float64], above: NDArray[np.bool_]) -> None:
    """The outline of the boxes that are above a limit."""
    import shapely

    inside = shapely.union_all(shapely.polygons(boxes[above]), grid_size=1e-6)
    for part in shapely.get_parts(inside):
        for ring in (part.exterior, *part.interiors):
            ax.plot(*shapely.get_coordinates(ring).T, color=WARN, lw=1.4, zorder=4)


def _draw_water(
    ax: Axes,
    flow: FlowResult,
    step: int,
    number: NDArray[np.int64],
    plan: NDArray[np.int64],
    at: NDArray[np.float64],
) -> None:
    table = np.where(plan >= 0, flow.water_table(step)[np.maximum(plan, 0)], np.nan)
    ax.plot(at, table, color=BANK, lw=1.8, label="water table")
    lowest = number[-1]
    deep = np.where(lowest >= 0, flow.steps[step].heads[lowest], np.nan)
    ax.plot(at, deep, color=INK, lw=1.0, ls="--", label=f"head in the {flow.model.grid.layer_names[-1]}")


def _draw_paths_along(ax: Axes, paths: PathResult, line: Sequence[Sequence[float]], near: float) -> None:
    """Paths near the line, at their elevation."""
    import shapely
    from matplotlib.collections import LineCollection

    points = paths.points
    if points.empty:
        raise InputError("there are no paths to draw. Trace them with their points.")
    way = shapely.LineString(line)
    spots = shapely.points(points["x [m]"].to_numpy(), points["y [m]"].to_numpy())
    at, off = shapely.line_locate_point(way, spots), shapely.distance(way, spots)
    path, z = points["path"].to_numpy(), points["z [m]"].to_numpy()
    on = np.flatnonzero((path[1:] == path[:-1]) & (off[1:] < near) & (off[:-1] < near))
    places = np.column_stack([at, z])
    ax.add_collection(
        LineCollection(
            list(np.stack([places[on], places[on + 1]], axis=1)), colors=INK, lw=0.7, alpha=0.8, zorder=4
        )
    )
    ax.plot([], [], color=INK, lw=0.8, label=f"paths within {near:.3g} m")


def _draw_site_along(
    ax: Axes,
    site: Site,
    line: Sequence[Sequence[float]],
    places: NDArray[np.float64],
    at: NDArray[np.float64],
    ground: NDArray[np.float64],
    near: float,
) -> None:
    """Bodies of water over their beds, and wells near the line."""
    import shapely

    for feature in site.features:
        if isinstance(feature, FixedHead) and "Polygon" in feature.shape.geom_type:
            level = mean_value(feature.head)
            under = shapely.contains_xy(feature.shape, *places.T) & (ground < level)
            ax.fill_between(at, ground, level, where=under, fc=WATER, lw=0, zorder=3)
    path, highest = shapely.LineString(line), float(np.nanmax(ground))
    for well in site.wells:
        if well.screen_top is None or well.screen_bottom is None or well.geometry != "point":
            continue
        spot = well.shape
        if path.distance(spot) < near:
            x, screen = path.project(spot), [well.screen_bottom, well.screen_top]
            ax.plot([x, x], screen, color=WARN, lw=4, solid_capstyle="butt", zorder=5)
            ax.plot([x, x], [well.screen_top, highest + 1.0], color=WARN, lw=1, zorder=5)
            ax.annotate(well.name, (x, highest + 1.0), ha="center", va="bottom", fontsize=9, color=WARN)
