"""Pictures of what moves: particle paths, plumes, concentrations at wells."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.dates import clock_for, time_in_words
from inkhorn.draw.frame import colour_bar, framed
from inkhorn.draw.maps import (
    draw_cells,
    draw_contours,
    draw_site,
    map_axes,
    on_earth,
    paths_of,
    see_through,
    shown_at,
)
from inkhorn.draw.style import INK, MOVED, SOLUTE, WARN, ZONES, axes_or_new, line_style, material_style
from inkhorn.errors import InputError
from inkhorn.paths import PathResult
from inkhorn.transport import TransportResult
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["breakthrough", "faintest", "highest_of", "paths", "plume", "snapshots", "travel_times", "zones"]


_FAR_ABOVE = 8.0  # times the limit
_BY = ("time", "layer", "end")


def paths(
    traced: PathResult, *, by: str = "time", until: float | None = None, ax: Axes | None = None
) -> Axes:
    """Draw paths in plan, coloured by travel time, layer or where they end, with their time marks.

    Parameters
    ----------
    traced : PathResult
        From `inkhorn.trace`, with its points.
    by : {"time", "layer", "end"}
        What they are coloured by.
    until : float, optional
        Travel time up to which they are drawn [day].
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If there are no points, or `by` is another word.
    """
    from matplotlib.collections import LineCollection

    if by not in _BY:
        raise InputError(f'paths are coloured by "time", "layer" or "end", not "{by}".')
    points = traced.points
    if points.empty:
        raise InputError("there are no paths to draw. Trace them with their points.")
    ax = axes_or_new(ax)
    grid = traced.flow.model.grid
    map_axes(ax, grid.mesh)
    most = float(np.quantile(traced.ends["travel time [day]"], 0.95)) or 1.0  # a few last much longer
    clock = clock_for(most)
    if until is not None:
        points = points[points["time [day]"] <= until * (1.0 + 1e-9)]
    path, time = points["path"].to_numpy(), points["time [day]"].to_numpy() / clock.length
    xy = points[["x [m]", "y [m]"]].to_numpy()
    on = np.flatnonzero(path[1:] == path[:-1])
    segments = np.stack([xy[on], xy[on + 1]], axis=1)
    if by == "time":
        lines = LineCollection(
            list(segments), array=0.5 * (time[on] + time[on + 1]), cmap=MOVED, lw=1.2, zorder=4
        )
        lines.set_clim(0.0, most / clock.length)
        ax.add_collection(lines)
        colour_bar(ax, lines, f"travel time [{clock.name}]")
    else:
        ends = traced.ends
        where = ends["feature"].where(ends["feature"] != "", ends["end"]).to_numpy()[path]
        words = points["layer"].to_numpy() if by == "layer" else where
        for k, name in enumerate(dict.fromkeys(words.tolist())):
            mine = on[words[on + 1] == name]
            colour = line_style(k)["color"] if by == "end" else material_style(_number(grid, name)).solid
            ax.add_collection(
                LineCollection(
                    list(np.stack([xy[mine], xy[mine + 1]], axis=1)), colors=colour, lw=1.2, zorder=4
                )
            )
            ax.plot([], [], color=colour, lw=2.0, label=f"{'in ' if by == 'layer' else ''}{name}")
    marks = points[points["mark"]]
    if len(marks):
        ax.scatter(
            marks["x [m]"], marks["y [m]"], s=9, c=INK, zorder=5, label=f"every {time_in_words(traced.mark)}"
        )  # fmt: skip
    draw_site(ax, traced.flow.model.site, bores=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(traced.flow.model.site))
    after = "" if until is None else f", {time_in_words(until)}"
    ax.set_title(f"{traced.flow.model.name}: {_way(traced)}{after}")
    return ax


def _number(grid: Any, name: str) -> int:
    return grid.layer_names.index(name)


def _way(traced: PathResult) -> str:
    """What paths show, in words."""
    names = list(dict.fromkeys(traced.ends["start"]))
    starts = ", ".join(names) if len(names) < 5 else "its starts"
    return f"{'where the water comes from that reaches' if traced.backward else 'where the water goes from'} {starts}"


def travel_times(traced: PathResult, *, histogram: bool = False, ax: Axes | None = None) -> Axes:
    """Draw what share of the water has a travel time below any, or how it is spread, for each start (up to six).

    Parameters
    ----------
    traced : PathResult
        From `inkhorn.trace`.
    histogram : bool
        Bars of equal width instead of a curve.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    ax = axes_or_new(ax, (9.0, 5.0))
    ends = traced.ends
    groups = list(ends.groupby("start", sort=False))
    if len(groups) > 6:
        groups = [("all", ends)]
    most = float(ends["travel time [day]"].max()) or 1.0
    clock = clock_for(most)
    for k, (name, mine) in enumerate(groups):
        time = mine["travel time [day]"].to_numpy() / clock.length
        weight = 100.0 * mine["flow [m³/day]"].to_numpy() / mine["flow [m³/day]"].sum()
        style = line_style(k)
        if histogram:
            edges = np.linspace(0.0, most / clock.length, 31)
            share = np.histogram(time, edges, weights=weight)[0]
            ax.stairs(share, edges, lw=1.8, label=str(name), fill=len(groups) == 1, **style)
            continue
        order = np.argsort(time)
        share = np.cumsum(weight[order])
        ax.step(
            np.append(0.0, time[order]), np.append(0.0, share), where="post", lw=1.8, label=str(name), **style
        )
        half = float(time[order][np.searchsorted(share, 50.0)])
        ax.plot([half], [50.0], "o", ms=5, color=style["color"])
        ax.annotate(
            f"{half:.3g} {clock.name}", (half, 50.0), xytext=(7, -3 - 12 * k), textcoords="offset points", fontsize=8,
            color=style["color"],
        )  # fmt: skip
    ax.set_xlim(left=0.0)
    ax.set_ylim(bottom=0.0)
    ax.set_xlabel(f"travel time [{clock.name}]")
    ax.set_ylabel(f"share of the water {'in each bar ' if histogram else ''}[%]")
    ax.grid(alpha=0.3)
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    what = "how old the water is that reaches" if traced.backward else "when the water arrives from"
    names = list(dict.fromkeys(ends["start"]))
    ax.set_title(f"{traced.flow.model.name}: {what} {', '.join(names) if len(names) < 5 else 'its starts'}")
    return ax


def zones(
    traced: PathResult, times: Sequence[float], *, layer: str | int | None = None, ax: Axes | None = None
) -> Axes:
    """Draw the zones from which water gets to wells within some times.

    Parameters
    ----------
    traced : PathResult
        Backward from wells, with its points.
    times : sequence of float
        [day].
    layer : str or int, optional
        Of this layer alone.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    from matplotlib.patches import PathPatch

    ax = axes_or_new(ax)
    grid = traced.flow.model.grid
    map_axes(ax, grid.mesh)
    found = traced.zones(times, layer=layer)
    for place, limit in enumerate(sorted(set(found["time [day]"]), reverse=True)):
        mine = found[found["time [day]"] == limit]
        shade = ZONES[(len(set(found["time [day]"])) - 1 - place) % len(ZONES)]
        area = float(mine["area [m²]"].sum()) / 1e4
        label: dict[str, Any] = {"label": f"within {time_in_words(limit)}: {area:.3g} ha"}
        for shape in mine.geometry:
            for outline in paths_of(shape):
                above = 1.5 + 0.1 * place
                ax.add_patch(PathPatch(outline, fc=shade, ec=INK, lw=0.8, alpha=0.75, zorder=above, **label))
                label = {}
    draw_site(ax, traced.flow.model.site, bores=False, fill=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(traced.flow.model.site))
    names = ", ".join(dict.fromkeys(traced.ends["start"]))
    where = "" if layer is None else f", layer {grid.layer_names[grid.layer_index(layer)]}"
    ax.set_title(f"{traced.flow.model.name}: from where water gets to {names}{where}")
    return ax


def plume(
    result: TransportResult,
    *,
    layer: str | int | None = None,
    time: int = -1,
    most: float | None = None,
    bar: bool = True,
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
    bar : bool
        Whether there is a colour bar.
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
    record = result.records[time % len(result.records)]
    values = np.where(record.water > 0.0, record.concentration, 0.0) / unit_factor(
        species.unit, "concentration"
    )
    column = np.where(number >= 0, values[number], -np.inf).max(axis=0)
    column[~np.isfinite(column)] = np.nan
    factor = 1.0 / unit_factor(species.unit, "concentration")
    most = float(np.nanmax(column)) if most is None else most
    floor = faintest(result, most)
    nothing = not np.nanmax(column) > floor
    if not nothing:
        shown = np.where(column > floor, column, np.nan)
        cells = draw_cells(
            ax, grid, shown, cmap=SOLUTE, norm=LogNorm(floor, most), **see_through(result.flow.model.site)
        )
        if bar:
            colour_bar(ax, cells, f"{species.name} [{species.unit}]")
    limit = species.limit
    if limit is not None and np.nanmin(column) < limit * factor < np.nanmax(column):
        draw_contours(ax, grid, column, [limit * factor], colors=[WARN], linewidths=2.0, zorder=4)
        ax.plot([], [], color=WARN, lw=2.0, label=f"limit, {limit * factor:g} {species.unit}")
    draw_site(ax, result.flow.model.site, bores=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(result.flow.model.site))
    where = "highest in any layer" if layer is None else f"layer {grid.layer_names[grid.layer_index(layer)]}"
    ax.set_title(f"{result.flow.model.name}: {species.name} after {time_in_words(record.time)}, {where}")
    if nothing:
        ax.text(
            0.5,
            0.02,
            f"nothing above {floor:.2g} {species.unit}",
            transform=ax.transAxes,
            ha="center",
            color=INK,
        )
    return ax


def faintest(result: TransportResult, most: float) -> float:
    """Return the concentration below which a plume is not drawn, in the species' unit.

    A thousandth of the highest that is drawn, a tenth above what was there at the beginning, and no less than a
    millionth of what was watched: where a pulse has gone by, its faintest traces are none.

    Parameters
    ----------
    result : TransportResult
        Concentrations.
    most : float
        The highest that is drawn.
    """
    species = result.species
    factor = 1.0 / unit_factor(species.unit, "concentration")
    watched = result.watched.to_numpy()
    passed = factor * float(np.nanmax(watched, initial=0.0))
    return max(species.initial * factor * 1.1, most * 1e-3, passed * 1e-6)


def snapshots(
    result: TransportResult,
    figure: Figure,
    *,
    layer: str | int | None = None,
    times: Sequence[int] | None = None,
) -> Figure:
    """Draw a plume at several output times side by side, on one scale.

    Parameters
    ----------
    result : TransportResult
        Concentrations.
    figure : Figure
        To be filled.
    layer : str or int, optional
        Which; the highest concentration of the column if not given.
    times : sequence of int, optional
        Which output times; four, each twice as late as the one before, if not given.
    """
    last = len(result.records) - 1
    doubling = np.unique(np.ceil(last / np.array([8, 4, 2, 1]))).astype(int).tolist()  # plumes slow down
    chosen = list(times) if times is not None else doubling
    columns = min(len(chosen), 2)
    rows = -(-len(chosen) // columns)
    most = highest_of(result, layer, chosen)
    for k, time in enumerate(chosen):
        ax = figure.add_subplot(rows, columns, k + 1)
        plume(result, layer=layer, time=time, most=most, bar=k % columns == columns - 1, ax=ax)
        ax.set_title(f"after {time_in_words(result.records[time].time)}")
        ax.set_xlabel("")
        ax.set_ylabel("")
        legend = ax.get_legend()
        if legend is not None:
            legend.remove()
    where = "highest in any layer" if layer is None else f"layer {layer}"
    species = result.species
    limit = ""
    if species.limit is not None:
        limit = (
            f"; red: {species.limit / unit_factor(species.unit, 'concentration'):g} {species.unit}, the limit"
        )
    figure.suptitle(f"{result.flow.model.name}: {species.name}, {where}{limit}")
    return figure


def highest_of(result: TransportResult, layer: str | int | None, times: Sequence[int]) -> float:
    """Return the highest concentration over some output times, of all layers or of one, in the species' unit."""
    grid = result.flow.model.grid
    mine = slice(None) if layer is None else grid.cells.layer == grid.layer_index(layer)
    most = max(float(result.records[k].concentration[mine].max()) for k in times)
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
    clock, unit = clock_for(result.times[-1])
    for name in wells:
        series = result.at(name)
        (line,) = ax.plot(series.index / clock, series * factor, lw=2.0, label=name)
        passed = result.first_time_above(series, species.limit) if species.limit is not None else None
        if passed is not None and species.limit is not None:
            ax.plot(passed / clock, species.limit * factor, "o", color=line.get_color())
            ax.annotate(
                f"{passed / clock:.1f} {unit}", (passed / clock, species.limit * factor), xytext=(8, -14),
                textcoords="offset points",
            )  # fmt: skip
    if species.limit is not None:
        ax.axhline(
            species.limit * factor, color=WARN, lw=1.2, ls="--", label=f"limit, {species.limit * factor:g}"
        )
    ax.set_xlim(0, result.times[-1] / clock)
    highest = max((float(result.at(name).max()) * factor for name in wells), default=0.0)
    if species.limit is not None and highest > _FAR_ABOVE * species.limit * factor:
        from matplotlib.ticker import LogLocator, NullLocator

        ax.set_yscale("log")  # or the limit would lie on the floor
        ax.yaxis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
        ax.yaxis.set_major_formatter("{x:g}")
        ax.yaxis.set_minor_locator(NullLocator())
        ax.set_ylim(max(species.initial * factor * 0.5, 0.01 * species.limit * factor), 2.0 * highest)
    else:
        ax.set_ylim(bottom=0)
    ax.set_xlabel(f"time since the start [{unit}]")
    ax.set_ylabel(f"{species.name} [{species.unit}]")
    ax.set_title(f"{result.flow.model.name}: {species.name} in the water of {', '.join(wells)}")
    ax.grid(alpha=0.3)
    ax.legend()
    return ax
