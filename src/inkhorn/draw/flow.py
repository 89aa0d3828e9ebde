"""Pictures of flow in plan."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.frame import framed
from inkhorn.draw.maps import (
    check_layer,
    draw_cells,
    draw_site,
    draw_values,
    map_axes,
    on_earth,
    shown_at,
)
from inkhorn.draw.style import BANK, HEADS, INK, OFF, WARN, axes_or_new
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.site import properties
from inkhorn.space import overlap
from inkhorn.units import KINDS

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = [
    "by_date",
    "depth_to_water",
    "drawdown",
    "heads",
    "hydrograph",
    "hydrographs",
    "values",
    "water_table",
    "when",
]

_WET = 0.01  # filled share of a cell's height, from which it holds water


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
    grid = flow.model.grid
    index = check_layer(grid, layer)
    ax = axes_or_new(ax)
    map_axes(ax, grid.mesh)
    there = grid.cell_number[index] >= 0
    cells = grid.cell_number[index][there]
    head = np.full(grid.mesh.n_cells, np.nan)
    wet = flow.filled(step)[cells] > _WET
    head[there] = np.where(wet, flow.steps[step].heads[cells], np.nan)
    under = flow.model.site is not None and flow.model.site.picture is not None
    draw_values(ax, grid, head, "head [m]", cmap=HEADS, alpha=0.55 if under else 0.9)
    dry = np.full(grid.mesh.n_cells, np.nan)
    dry[there] = np.where(wet, np.nan, 1.0)
    if np.isfinite(dry).any():
        from matplotlib.colors import ListedColormap

        draw_cells(ax, grid, dry, cmap=ListedColormap(["#e9e2d0"]))
        ax.plot([], [], "s", color="#e9e2d0", mec="#a89f86", label="dry")
    _hatch_wet_ground(
        ax, flow, (flow.above_ground(step) > 0.0) & there & (grid.uppermost == grid.cell_number[index])
    )
    name = grid.layer_names[index]
    draw_site(ax, flow.model.site, layer=name, fill=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(flow.model.site))
    ax.set_title(f"{flow.model.name}: heads, layer {name}{when(flow, step)}")
    return ax


def _hatch_wet_ground(ax: Axes, flow: FlowResult, above: NDArray[np.bool_]) -> None:
    """Hatch the plan cells in which water stands above the ground."""
    if not above.any():
        return
    import shapely

    wet_ground = shapely.union_all(flow.model.grid.mesh.polygons()[above])
    for part in getattr(wet_ground, "geoms", [wet_ground]):
        ring = np.asarray(part.exterior.coords)[:, :2].T
        ax.fill(*ring, fc="none", ec=WARN, lw=0.7, hatch="///", zorder=1.5)
    ax.fill([], [], fc="none", ec=WARN, lw=0.7, hatch="///", label="water above ground")


def _over_site(
    ax: Axes | None, flow: FlowResult, values: NDArray[np.float64], label: str, words: str, **style: Any
) -> Axes:
    """A map of values of the plan cells, the site's features over them."""
    ax = axes_or_new(ax)
    map_axes(ax, flow.model.grid.mesh)
    draw_values(ax, flow.model.grid, values, label, **style)
    draw_site(ax, flow.model.site, fill=False)
    framed(ax, shown_at(flow.model.grid.mesh), north=on_earth(flow.model.site))
    ax.set_title(f"{flow.model.name}: {words}")
    return ax


def water_table(flow: FlowResult, *, step: int = -1, ax: Axes | None = None) -> Axes:
    """Draw the level of the uppermost water; parameters as of `heads`.

    Nothing is drawn where all cells of a column are dry.
    """
    ax = _over_site(
        ax, flow, flow.water_table(step), "water table [m]", f"water table{when(flow, step)}", cmap=HEADS
    )
    _hatch_wet_ground(ax, flow, flow.above_ground(step) > 0.0)
    return ax


def depth_to_water(flow: FlowResult, *, step: int = -1, ax: Axes | None = None) -> Axes:
    """Draw how deep the uppermost water lies below the ground, negative above it; parameters as of `heads`."""
    grid = flow.model.grid
    there = grid.uppermost >= 0
    ground = np.where(there, grid.cells.top[np.where(there, grid.uppermost, 0)], np.nan)
    depth = ground - flow.water_table(step)
    words = f"depth to water{when(flow, step)}"
    ax = _over_site(ax, flow, depth, "depth to water [m]", words, cmap=f"{HEADS}_r")
    _hatch_wet_ground(ax, flow, flow.above_ground(step) > 0.0)
    return ax


def drawdown(
    flow: FlowResult,
    layer: str | int = 0,
    *,
    step: int = -1,
    since: int = 0,
    against: FlowResult | None = None,
    other: str = "another run",
    ax: Axes | None = None,
) -> Axes:
    """Draw by how much the heads of a layer are lower than at an earlier time, or than in another run.

    Parameters
    ----------
    flow : FlowResult
        Heads.
    layer : str or int
        Its name or position.
    step : int
        Which step.
    since : int
        The step that it is measured from.
    against : FlowResult, optional
        The run that it is measured from instead, at the time nearest to that of the step; of another grid its heads
        as means over the volumes that cells share.
    other : str
        What that is called.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If the other run is on a grid that shares nothing with this one.
    """
    grid = flow.model.grid
    index = check_layer(grid, layer)
    if against is None:
        before, origin = flow.steps[since].heads, f"since {when(flow, since)[2:] or 'the first step'}"
    else:
        ends = np.array([one.end for one in against.steps])
        nearest = int(np.argmin(np.abs(ends - flow.steps[step].end)))
        before, origin = against.steps[nearest].heads, f"against {other}{when(against, nearest)}"
        if against.model.grid is not grid:
            before = overlap(against.model.grid, grid).mean(before)
    number = grid.cell_number[index]
    lower = np.full(grid.mesh.n_cells, np.nan)
    lower[number >= 0] = (before - flow.steps[step].heads)[number[number >= 0]]
    most = float(np.nanmax(np.abs(lower))) or 1.0
    words = f"drawdown, layer {grid.layer_names[index]}{when(flow, step)}, {origin}"
    return _over_site(ax, flow, lower, "drawdown [m]", words, cmap=OFF, vmin=-most, vmax=most)


def values(model: Model, name: str, layer: str | int | None = None, *, ax: Axes | None = None) -> Axes:
    """Draw a property of the cells of a layer, or what was placed: which cells hold features of a kind, with a value.

    Parameters
    ----------
    model : Model
        A site placed on a grid.
    name : str
        A property such as ``"horizontal_conductivity"``, or a value of features such as ``"river.stage"``.
    layer : str or int, optional
        Its name or position; of a property the uppermost cells if not given, of features all cells that hold one.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If the model has no such value, or none in the layer.
    """
    from matplotlib.colors import LogNorm

    grid = model.grid
    kind, _, what = name.rpartition(".")
    of_cells, unit = np.full(grid.n_cells, np.nan), ""
    if kind:
        term = model.term(kind)
        if what not in term.declared_inputs():
            raise InputError(f'the {kind} has no "{what}"; expected one of {list(term.declared_inputs())}.')
        declared = term.declared_inputs()[what]
        given = np.broadcast_to(getattr(term, what), len(term.cells)) if declared.over == "entry" else None
        if given is None:
            given = np.asarray(getattr(term, what))[term.feature_index]
        of_cells[term.cells], unit = given, declared.unit
    else:
        model.refuse_unknown([name])
        found = model.property_of(name)
        if found is None:
            raise InputError(f"the model has no {name}. Give one for every material.")
        of_cells, unit = (
            np.asarray(found, dtype=np.float64),
            KINDS[properties()[name].said.dimension_on("")].inside,
        )
    number = grid.uppermost if layer is None else grid.cell_number[check_layer(grid, layer)]
    plan = np.where(number >= 0, of_cells[number], np.nan)
    if layer is None and kind:
        every = np.where(grid.cell_number >= 0, of_cells[grid.cell_number], np.nan)
        plan = np.full(grid.mesh.n_cells, np.nan)
        for row in every[::-1]:
            plan = np.where(np.isfinite(row), row, plan)
    if not np.isfinite(plan).any():
        raise InputError(f"there is no {name} {'in that layer' if layer is not None else 'on the grid'}.")
    ax = axes_or_new(ax)
    map_axes(ax, grid.mesh)
    low, high = float(np.nanmin(plan)), float(np.nanmax(plan))
    scale = {"norm": LogNorm(low, high)} if low > 0 and high > 30.0 * low else {}
    words = name.replace("_", " ").replace(".", " ")
    draw_values(ax, grid, plan, f"{words} [{unit or '-'}]", contours=False, cmap="viridis", **scale)
    draw_site(ax, model.site, bores=False, fill=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(model.site))
    where = "" if layer is None else f", layer {grid.layer_names[grid.layer_index(layer)]}"
    ax.set_title(f"{model.name}: {words}{where}")
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
