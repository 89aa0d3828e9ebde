"""Pictures of what moves: particle paths, plumes, concentrations at wells."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.draw.frame import colour_bar, framed
from inkhorn.draw.maps import (
    draw_cells,
    draw_contours,
    draw_site,
    map_axes,
    on_earth,
    see_through,
    shown_at,
)
from inkhorn.draw.style import INK, MOVED, SOLUTE, WARN, axes_or_new
from inkhorn.errors import InputError
from inkhorn.paths import PathResult
from inkhorn.transport import TransportResult
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["breakthrough", "highest_of", "paths", "plume"]

YEAR = 365.25


def paths(traced: PathResult, *, ax: Axes | None = None) -> Axes:
    """Draw paths in plan, coloured by travel time, with their time marks.

    Parameters
    ----------
    traced : PathResult
        From `inkhorn.trace`.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    from matplotlib.collections import LineCollection

    ax = axes_or_new(ax)
    grid = traced.flow.model.grid
    map_axes(ax, grid.mesh)
    points = traced.points
    if points.empty:
        raise InputError("there are no paths to draw.")
    segments: list[Any] = []
    years = []
    for _, path in points.groupby("path"):
        xy = path[["x [m]", "y [m]"]].to_numpy()
        time = path["time [day]"].to_numpy() / YEAR
        segments.extend(np.stack([xy[:-1], xy[1:]], axis=1))
        years.append(0.5 * (time[:-1] + time[1:]))
    lines = LineCollection(segments, array=np.concatenate(years), cmap=MOVED, lw=1.2, zorder=4)
    ax.add_collection(lines)
    colour_bar(ax, lines, "travel time [years]")
    marks = traced.marks()
    if len(marks):
        ax.scatter(
            marks["x [m]"], marks["y [m]"], s=9, c=INK, zorder=5, label=f"every {traced.mark / YEAR:g} years"
        )  # fmt: skip
    draw_site(ax, traced.flow.model.site, bores=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(traced.flow.model.site))
    starts = (
        ", ".join(dict.fromkeys(traced.ends["start"])) if len(set(traced.ends["start"])) < 5 else "its starts"
    )
    way = "where the water comes from that reaches" if traced.backward else "where the water goes from"
    ax.set_title(f"{traced.flow.model.name}: {way} {starts}")
    return ax


def plume(
    result: TransportResult,
    *,
    layer: str | int | None = None,
    time: int = -1,
    most: float | None = None,
    ax: Axes | None = None,
) -> Axes:
    """Draw concentrations in plan, with the species' limit as a line.

    Parameters
    ----------
    result : TransportResult
        Concentrations.
    layer : str or int, optional
        Which; the highest concentration of the column if not given.
    time : int
        Which output time.
    most : float, optional
        The highest concentration that colours are for, in the species' unit; that of the time if not given.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    from matplotlib.colors import LogNorm

    ax = axes_or_new(ax)
    grid, species = result.flow.model.grid, result.species
    map_axes(ax, grid.mesh)
    number = grid.cell_number if layer is None else grid.cell_number[[grid.layer_index(layer)]]
    values = result.values[time] / unit_factor(species.unit, "concentration")
    column = np.where(number >= 0, values[number], -np.inf).max(axis=0)
    column[~np.isfinite(column)] = np.nan
    factor = 1.0 / unit_factor(species.unit, "concentration")
    most = float(np.nanmax(column)) if most is None else most
    floor = max(species.initial * factor * 1.1, most * 1e-3)
    if np.nanmax(column) > floor:
        shown = np.where(column > floor, column, np.nan)
        cells = draw_cells(
            ax, grid, shown, cmap=SOLUTE, norm=LogNorm(floor, most), **see_through(result.flow.model.site)
        )
        colour_bar(ax, cells, f"{species.name} [{species.unit}]")
    limit = species.limit
    if limit is not None and np.nanmin(column) < limit * factor < np.nanmax(column):
        draw_contours(ax, grid, column, [limit * factor], colors=[WARN], linewidths=2.0, zorder=4)
        ax.plot([], [], color=WARN, lw=2.0, label=f"limit, {limit * factor:g} {species.unit}")
    draw_site(ax, result.flow.model.site, bores=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(result.flow.model.site))
    where = "highest in any layer" if layer is None else f"layer {grid.layer_names[grid.layer_index(layer)]}"
    ax.set_title(
        f"{result.flow.model.name}: {species.name} after {result.times[time] / YEAR:.3g} years, {where}"
    )
    return ax


def highest_of(result: TransportResult, layer: str | int | None, times: Sequence[int]) -> float:
    """Return the highest concentration over some output times, of all layers or of one, in the species' unit."""
    grid = result.flow.model.grid
    mine = slice(None) if layer is None else grid.cells.layer == grid.layer_index(layer)
    most = max(float(result.values[k][mine].max()) for k in times)
    return most / unit_factor(result.species.unit, "concentration")


def breakthrough(result: TransportResult, wells: Sequence[str], *, ax: Axes | None = None) -> Axes:
    """Draw the concentration in the water of wells by time, with the limit and when it is passed.

    Parameters
    ----------
    result : TransportResult
        Concentrations.
    wells : sequence of str
        Names.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    ax = axes_or_new(ax, (9.0, 5.0))
    species = result.species
    factor = 1.0 / unit_factor(species.unit, "concentration")
    for name in wells:
        series = result.at_well(name)
        (line,) = ax.plot(series.index / YEAR, series * factor, lw=2.0, label=name)
        passed = result.first_time_above(series, species.limit) if species.limit is not None else None
        if passed is not None and species.limit is not None:
            ax.plot(passed / YEAR, species.limit * factor, "o", color=line.get_color())
            ax.annotate(
                f"{passed / YEAR:.1f} years", (passed / YEAR, species.limit * factor), xytext=(8, -14),
                textcoords="offset points",
            )  # fmt: skip
    if species.limit is not None:
        ax.axhline(
            species.limit * factor, color=WARN, lw=1.2, ls="--", label=f"limit, {species.limit * factor:g}"
        )
    ax.set_xlim(0, result.times[-1] / YEAR)
    ax.set_ylim(bottom=0)
    ax.set_xlabel("time since the start [years]")
    ax.set_ylabel(f"{species.name} [{species.unit}]")
    ax.set_title(f"{result.flow.model.name}: {species.name} in the water of {', '.join(wells)}")
    ax.grid(alpha=0.3)
    ax.legend()
    return ax
