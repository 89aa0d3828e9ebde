"""Pictures of flow in plan."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.arrows import flow_arrows
from inkhorn.draw.dates import when
from inkhorn.draw.frame import framed
from inkhorn.draw.maps import (
    check_layer,
    draw_cells,
    draw_site,
    draw_values,
    map_axes,
    on_earth,
    paths_of,
    see_through,
    shown_at,
)
from inkhorn.draw.style import HEADS, OFF, WARN, axes_or_new
from inkhorn.errors import InputError, did_you_mean
from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.space import area_of, overlap

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["SHOWN", "depth_to_water", "drawdown", "flow_map", "heads", "span_of", "values", "water_table"]

_WET = 0.01  # filled share of a cell's height, from which it holds water
SHOWN = ("fill", "lines", "dry", "flooded")
_ALL = (*SHOWN, "arrows")
Array = NDArray[np.float64]
Span = tuple[float, float]


@dataclass(frozen=True)
class _Map:
    """A map of the water: a value for each plan cell at the end of a step, and how it is shown.

    Attributes
    ----------
    flow : FlowResult
        Heads.
    cells : callable
        Of a step: the cell that each plan cell is about, -1 where there is none, (n_plan,).
    values : callable
        Of a step, (n_plan,), NaN where there is nothing to be shown.
    words : callable
        Of a step: what it shows.
    label : str
        Of the colour bar.
    colours : str
        The colour map.
    even : bool
        Whether colours go as far below nothing as above.
    layer : str or None
        That it is of; bores of others are left out.
    """

    flow: FlowResult
    cells: Callable[[int], NDArray[np.int64]]
    values: Callable[[int], Array]
    words: Callable[[int], str]
    label: str
    colours: str = HEADS
    even: bool = False
    layer: str | None = None

    def span(self, steps: Iterable[int]) -> Span:
        """Least and greatest value over some steps."""
        least, greatest = np.inf, -np.inf
        for step in steps:
            found = self.values(step)
            least, greatest = np.nanmin(found, initial=least), np.nanmax(found, initial=greatest)
        return (float(least), float(greatest)) if least <= greatest else (0.0, 1.0)

    def draw(self, step: int, show: Sequence[str], span: Span | None, ax: Axes | None) -> Axes:
        """Draw it."""
        for word in show:
            if word not in _ALL:
                raise InputError(
                    f'"{word}" cannot be shown; expected some of {list(_ALL)}.{did_you_mean(word, _ALL)}'
                )
        flow, grid = self.flow, self.flow.model.grid
        site = flow.model.site
        ax = axes_or_new(ax)
        map_axes(ax, grid.mesh)
        values = self.values(step)
        low, high = span or self.span([step])
        if self.even:
            low, high = -max(abs(low), abs(high)) or -1.0, max(abs(low), abs(high)) or 1.0
        draw_values(
            ax, grid, values, self.label, fill="fill" in show, lines="lines" in show, span=(low, high),
            cmap=self.colours, **see_through(site),
        )  # fmt: skip
        if "dry" in show:
            self._colour_dry(ax, step)
        if "flooded" in show:
            above = flow.above_ground(step) > 0.0
            if self.layer is not None:
                above &= grid.uppermost == self.cells(step)
            _hatch_wet_ground(ax, flow, above)
        if "arrows" in show:
            flow_arrows(flow, self.cells(step), step=step, ax=ax)
        draw_site(ax, site, layer=self.layer, fill=False)
        framed(ax, shown_at(grid.mesh), north=on_earth(site))
        ax.set_title(f"{flow.model.name}: {self.words(step)}")
        return ax

    def _colour_dry(self, ax: Axes, step: int) -> None:
        """Plain colour where the cells are dry."""
        from matplotlib.colors import ListedColormap

        cells = self.cells(step)
        dry = np.full(len(cells), np.nan)
        dry[cells >= 0] = np.where(self.flow.filled(step)[cells[cells >= 0]] > _WET, np.nan, 1.0)
        if np.isfinite(dry).any():
            draw_cells(ax, self.flow.model.grid, dry, cmap=ListedColormap(["#e9e2d0"]))
            ax.plot([], [], "s", color="#e9e2d0", mec="#a89f86", label="dry")


def _heads_map(flow: FlowResult, layer: str | int = 0) -> _Map:
    grid = flow.model.grid
    index = check_layer(grid, layer)
    cells = grid.cell_number[index]
    there, name = cells >= 0, grid.layer_names[index]

    def values(step: int) -> Array:
        found = np.full(len(cells), np.nan)
        wet = flow.filled(step)[cells[there]] > _WET
        found[there] = np.where(wet, flow.steps[step].heads[cells[there]], np.nan)
        return found

    return _Map(
        flow, lambda k: cells, values, lambda k: f"heads, layer {name}{when(flow, k)}", "head [m]", layer=name
    )


def _uppermost_wet(flow: FlowResult, step: int) -> NDArray[np.int64]:
    """The uppermost cell of each column that holds water; where all are dry, the lowest."""
    number, filled = flow.model.grid.cell_number, flow.filled(step)
    lowest, found = np.full(number.shape[1], -1), np.full(number.shape[1], -1)
    for row in number[::-1]:
        there = row >= 0
        lowest = np.where(there & (lowest < 0), row, lowest)
        found = np.where(there & (filled[row] > _WET), row, found)
    return np.where(found >= 0, found, lowest)


def _water_table_map(flow: FlowResult) -> _Map:
    return _Map(
        flow,
        lambda k: _uppermost_wet(flow, k),
        flow.water_table,
        lambda k: f"water table{when(flow, k)}",
        "water table [m]",
    )


def _depth_map(flow: FlowResult) -> _Map:
    grid = flow.model.grid
    there = grid.uppermost >= 0
    ground = np.where(there, grid.cells.top[np.where(there, grid.uppermost, 0)], np.nan)
    return _Map(
        flow,
        lambda k: _uppermost_wet(flow, k),
        lambda k: ground - flow.water_table(k),
        lambda k: f"depth to water{when(flow, k)}",
        "depth to water [m]",
        colours=f"{HEADS}_r",
    )


def _drawdown_map(
    flow: FlowResult,
    layer: str | int = 0,
    *,
    since: int = 0,
    against: FlowResult | None = None,
    other: str = "another run",
) -> _Map:
    grid = flow.model.grid
    index = check_layer(grid, layer)
    cells = grid.cell_number[index]
    there = cells >= 0
    if against is None:

        def before(step: int) -> Array:
            return flow.steps[since].heads

        def origin(step: int) -> str:
            return f"since {when(flow, since)[2:] or 'the first step'}"
    else:
        measured = against
        ends = np.array([one.end for one in measured.steps])
        shared = None if measured.model.grid is grid else overlap(measured.model.grid, grid)

        def nearest(step: int) -> int:
            return int(np.argmin(np.abs(ends - flow.steps[step].end)))

        def before(step: int) -> Array:
            found = measured.steps[nearest(step)].heads
            return found if shared is None else shared.mean(found)

        def origin(step: int) -> str:
            return f"against {other}{when(measured, nearest(step))}"

    def values(step: int) -> Array:
        found = np.full(len(cells), np.nan)
        found[there] = (before(step) - flow.steps[step].heads)[cells[there]]
        return found

    def words(step: int) -> str:
        return f"drawdown, layer {grid.layer_names[index]}{when(flow, step)}, {origin(step)}"

    return _Map(
        flow,
        lambda k: cells,
        values,
        words,
        "drawdown [m]",
        colours=OFF,
        even=True,
        layer=grid.layer_names[index],
    )


FLOW_MAPS: dict[str, Callable[..., _Map]] = {
    "heads": _heads_map,
    "water table": _water_table_map,
    "depth to water": _depth_map,
    "drawdown": _drawdown_map,
}


def flow_map(what: str, flow: FlowResult, **options: Any) -> _Map:
    """Return a map of the water that can be drawn at many steps, what they share being found once.

    Parameters
    ----------
    what : {"heads", "water table", "depth to water", "drawdown"}
        Which map.
    flow : FlowResult
        Heads.
    **options
        As the function of that map takes them: `layer`, `since`, `against`, `other`.

    Raises
    ------
    InputError
        If there is no such map.
    """
    if what not in FLOW_MAPS:
        raise InputError(f'there is no map "{what}"; expected one of {list(FLOW_MAPS)}.')
    return FLOW_MAPS[what](flow, **options)


def span_of(what: str, flow: FlowResult, steps: Iterable[int], **options: Any) -> Span:
    """Return the least and the greatest value that a map shows over some steps, for pictures that share their colours.

    Parameters
    ----------
    what : {"heads", "water table", "depth to water", "drawdown"}
        Which map.
    flow : FlowResult
        Heads.
    steps : iterable of int
        Which steps.
    **options
        As the function of that map takes them: `layer`, `since`, `against`.

    Returns
    -------
    (float, float)
        [m]
    """
    return flow_map(what, flow, **options).span(steps)


def heads(
    flow: FlowResult,
    layer: str | int = 0,
    *,
    step: int = -1,
    show: Sequence[str] = SHOWN,
    span: Span | None = None,
    ax: Axes | None = None,
) -> Axes:
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
    show : sequence of str
        Some of "fill" (colours), "lines" (of equal head, with their values), "dry" (cells that are), "flooded" (where
        water stands above the ground) and "arrows" (Darcy's flux).
    span : (float, float), optional
        Least and greatest value that colours and lines are for [m]; see `span_of`.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    return _heads_map(flow, layer).draw(step, show, span, ax)


def _hatch_wet_ground(ax: Axes, flow: FlowResult, above: NDArray[np.bool_]) -> None:
    """Hatch the plan cells in which water stands above the ground."""
    if not above.any():
        return
    from matplotlib.patches import PathPatch

    wet_ground = area_of(flow.model.grid.mesh, np.flatnonzero(above), flow.model.grid.rim)
    for shape in paths_of(wet_ground):
        ax.add_patch(PathPatch(shape, fc="none", ec=WARN, lw=0.7, hatch="///", zorder=1.5))
    ax.fill([], [], fc="none", ec=WARN, lw=0.7, hatch="///", label="water above ground")


def water_table(
    flow: FlowResult,
    *,
    step: int = -1,
    show: Sequence[str] = SHOWN,
    span: Span | None = None,
    ax: Axes | None = None,
) -> Axes:
    """Draw the level of the uppermost water; parameters as of `heads`.

    Columns whose cells are all dry are plain.
    """
    return _water_table_map(flow).draw(step, show, span, ax)


def depth_to_water(
    flow: FlowResult,
    *,
    step: int = -1,
    show: Sequence[str] = SHOWN,
    span: Span | None = None,
    ax: Axes | None = None,
) -> Axes:
    """Draw how deep the uppermost water lies below the ground, negative above it; parameters as of `heads`."""
    return _depth_map(flow).draw(step, show, span, ax)


def drawdown(
    flow: FlowResult,
    layer: str | int = 0,
    *,
    step: int = -1,
    since: int = 0,
    against: FlowResult | None = None,
    other: str = "another run",
    show: Sequence[str] = ("fill", "lines"),
    span: Span | None = None,
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
    show, span : optional
        As of `heads`.
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
    made = _drawdown_map(flow, layer, since=since, against=against, other=other)
    return made.draw(step, show, span, ax)


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
    of_cells, unit = model.values_of(name)
    kind = "." in name
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
    scale: dict[str, Any] = {"norm": LogNorm(low, high)} if low > 0 and high > 30.0 * low else {}
    words = name.replace("_", " ").replace(".", " ")
    draw_values(
        ax,
        grid,
        plan,
        f"{words} [{unit or '-'}]",
        lines=False,
        cmap="viridis",
        **(scale | see_through(model.site)),
    )
    draw_site(ax, model.site, bores=False, fill=False)
    framed(ax, shown_at(grid.mesh), north=on_earth(model.site))
    where = "" if layer is None else f", layer {grid.layer_names[grid.layer_index(layer)]}"
    ax.set_title(f"{model.name}: {words}{where}")
    return ax
