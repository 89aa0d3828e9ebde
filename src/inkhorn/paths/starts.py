"""Where particles begin: at points, wells, lines, in areas, or wherever water enters, by how much does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_positive, did_you_mean, place_words
from inkhorn.flow import FlowResult
from inkhorn.model import bore_cells, why_no_cell
from inkhorn.paths.field import VelocityMaker
from inkhorn.space import area_of, line_corners

__all__ = [
    "Starts",
    "made_of",
    "starts_at_bores",
    "starts_at_points",
    "starts_in_area",
    "starts_on_line",
    "together",
]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_JUST_UNDER = 1.0 - 1e-12  # the water table: a point is not what comes in by the ground


@dataclass(frozen=True, eq=False)
class Starts:
    """Where particles begin, each attribute (n,).

    Attributes
    ----------
    layer : ndarray of int
        Layer.
    x, y : ndarray of float
        [m].
    height : ndarray of float
        Over the bottom of the cell, as a share of that of the water in it, 0 to 1; 1 is what comes in by the top.
    flow : ndarray of float
        Water that each stands for [m³/day]; 1 where that is not known.
    name : ndarray of str
        Of the well, the feature or the place.
    plan : ndarray of int
        The cell of the grid's mesh; -1 to be looked up.
    node : ndarray of int
        The node of conduits, for those that begin in these; else -1, as for all if not given.
    """

    layer: Index
    x: Array
    y: Array
    height: Array
    flow: Array
    name: NDArray[Any]
    plan: Index
    node: Index = None  # type: ignore[assignment]  # filled in

    def __post_init__(self) -> None:
        if self.node is None:
            object.__setattr__(self, "node", np.full(len(self.layer), -1, dtype=np.int64))

    def __len__(self) -> int:
        return len(self.layer)

    def __repr__(self) -> str:
        return f"Starts({len(self)} at {', '.join(dict.fromkeys(self.name[:1000].tolist()))[:60]})"

    def __add__(self, other: Starts) -> Starts:
        return together([self, other])

    def repeated(self, count: int) -> Starts:
        """Return each of them several times, one after the other, as for several times of release."""
        made = Starts(*(np.repeat(getattr(self, f.name), count) for f in fields(self)))
        return replace(made, flow=made.flow / count)


def made_of(
    layer: Any, x: Any, y: Any, height: Any, flow: Any, name: Any, plan: Any = -1, node: Any = -1
) -> Starts:
    """Return starts, of one value each or one for all."""
    x = np.atleast_1d(np.asarray(x, dtype=np.float64))
    n = len(x)

    def full(values: Any, kind: Any) -> Any:
        return np.array(np.broadcast_to(np.asarray(values, dtype=kind), n))

    return Starts(
        full(layer, np.int64), x, full(y, np.float64), full(height, np.float64), full(flow, np.float64),
        full(name, object), full(plan, np.int64), full(node, np.int64),
    )  # fmt: skip


def starts_at_points(
    flow: FlowResult,
    points: ArrayLike,
    *,
    step: int = -1,
    share: float = 1.0,
    names: Sequence[str] | None = None,
    maker: VelocityMaker | None = None,
) -> Starts:
    """Return starts at points.

    Parameters
    ----------
    flow : FlowResult
        Whose cells they lie in.
    points : array_like of float, (n, 3)
        x, y and elevation [m]. One above the water of its cell begins at the water table.
    step : int
        Whose water levels count.
    share : float
        Those at which share of the step, from 0 at its begin to 1 at its end.
    names : sequence of str, optional
        "point 0" and so on if not given.

    Raises
    ------
    InputError
        If a point lies in no cell.
    """
    place = np.asarray(points, dtype=np.float64)
    if place.ndim != 2 or place.shape[1] != 3:
        raise InputError(f"start points have the shape {place.shape}; expected (n, 3): x, y and z in m.")
    grid, cells = flow.model.grid, flow.model.grid.cells
    plan = grid.mesh.locate(place[:, 0], place[:, 1])
    number = np.where(plan >= 0, grid.cell_number[:, np.maximum(plan, 0)], -1)
    z = place[:, 2]
    inside = (number >= 0) & (cells.bottom[number] <= z) & (z <= cells.top[number])
    lost = np.flatnonzero(~inside.any(axis=0))
    if len(lost):
        k = int(lost[0])
        more = f" ({len(lost)} of {len(place)} points)" if len(lost) > 1 else ""
        raise InputError(
            f"start point {k} at {place_words(*place[k, :2])}, z={z[k]:g} lies in no cell{more}. Check that z is an "
            "elevation."
        )
    layer = np.argmax(inside, axis=0)
    cell = number[layer, np.arange(len(place))]
    maker = VelocityMaker(flow) if maker is None else maker
    water = maker.water_height(step % len(flow.steps), share)[cell]
    height = np.clip((z - cells.bottom[cell]) / np.maximum(water, 1e-12), 0.0, _JUST_UNDER)
    said = [f"point {k}" for k in range(len(place))] if names is None else list(names)
    return made_of(layer, place[:, 0], place[:, 1], height, 1.0, np.array(said, dtype=object), plan)


def together(parts: Sequence[Starts]) -> Starts:
    """Return starts one after the other."""
    return Starts(*(np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(Starts)))


def starts_at_bores(flow: FlowResult, names: Sequence[str] | None = None, *, per_bore: int = 9) -> Starts:
    """Return starts at the bores of the site, over the height of the water in the cell that each stands in.

    Parameters
    ----------
    flow : FlowResult
        Of a model with a site.
    names : sequence of str, optional
        Bores; all if not given.
    per_bore : int
        Heights at each.

    Raises
    ------
    InputError
        If there is no such bore, or it stands in no cell.
    """
    check_positive("per_bore", per_bore)
    site, grid = flow.model.site, flow.model.grid
    bores = {b.name: b for b in site.bores} if site is not None else {}
    wanted = list(bores) if names is None else list(names)
    if not wanted:
        raise InputError("the model has no bores; nothing to start from.")
    parts = []
    for name in wanted:
        if name not in bores:
            known = list(bores)
            raise InputError(f'there is no bore "{name}"; the site has {known}.{did_you_mean(name, known)}')
        bore = bores[name]
        x, y = float(bore.x), float(bore.y)
        there = bore_cells(grid, bore)
        if not len(there):
            raise InputError(f'the bore "{name}" stands in no cell: {why_no_cell(grid, bore)}.')
        plan, there = int(grid.cells.plan_cell[there[0]]), grid.cells.layer[there].tolist()
        height = (np.arange(per_bore) + 0.5) / per_bore
        each = 1.0 / per_bore / len(there)
        parts += [made_of(k, np.full(per_bore, x), y, height, each, name, plan) for k in there]
    return together(parts)


def starts_on_line(
    flow: FlowResult,
    line: Any,
    *,
    layers: Sequence[str | int] | None = None,
    count: int = 50,
    height: float = 0.5,
) -> Starts:
    """Return starts along a line, evenly spaced, in some layers.

    Parameters
    ----------
    flow : FlowResult
        Whose cells they lie in.
    line : shapely LineString or array_like of float, (n, 2)
        x and y [m].
    layers : sequence of str or int, optional
        All that are there if not given.
    count : int
        In each layer.
    height : float
        Share of the height of the water, 0 to 1.

    Raises
    ------
    InputError
        If the line meets no cell of these layers.
    """
    check_positive("count", count)
    corners = line_corners(line, "the line of starts")
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(corners, axis=0).T))])
    at = (np.arange(count) + 0.5) / count * run[-1]
    x, y = (np.interp(at, run, corners[:, k]) for k in (0, 1))
    return _in_layers(flow, x, y, layers, height, "line")


def starts_in_area(
    flow: FlowResult,
    area: Any = None,
    *,
    layers: Sequence[str | int] | None = None,
    count: int = 1000,
    height: float | None = None,
    seed: int = 0,
) -> Starts:
    """Return starts strewn over a polygon, or everywhere, in some layers.

    Parameters
    ----------
    flow : FlowResult
        Whose cells they lie in.
    area : shapely Polygon, optional
        All cells if not given.
    layers : sequence of str or int, optional
        All that are there if not given.
    count : int
        How many in all; fewer where layers are absent.
    height : float, optional
        Share of the height of the water, 0 to 1; anywhere if not given.
    seed : int
        The same one strews them alike.

    Raises
    ------
    InputError
        If there is no cell of these layers in the area.
    """
    import shapely

    check_positive("count", count)
    grid, random = flow.model.grid, np.random.default_rng(seed)
    names = [grid.layer_index(v) for v in (layers or range(len(grid.layer_names)))]
    each = max(count // len(names), 1)
    shape = area_of(grid.mesh, np.arange(grid.mesh.n_cells), grid.rim) if area is None else area
    west, south, east, north = shape.bounds
    x, y = np.empty(0), np.empty(0)
    for _ in range(200):
        more = random.uniform((west, south), (east, north), (2 * each, 2))
        more = more[shapely.contains_xy(shape, more[:, 0], more[:, 1])]
        x, y = np.concatenate([x, more[:, 0]]), np.concatenate([y, more[:, 1]])
        if len(x) >= each * len(names):
            break
    parts = []
    for k, layer in enumerate(names):
        some = slice(k * each, (k + 1) * each)
        level = random.uniform(size=len(x[some])) if height is None else height
        parts.append(_in_layers(flow, x[some], y[some], [layer], level, "area", must=False))
    made = together(parts)
    if not len(made):
        raise InputError("there is no cell of these layers in the area. Check its place.")
    return made


def _in_layers(
    flow: FlowResult, x: Array, y: Array, layers: Any, height: Any, name: str, *, must: bool = True
) -> Starts:
    grid = flow.model.grid
    plan = grid.mesh.locate(x, y)
    wanted = [grid.layer_index(v) for v in (range(len(grid.layer_names)) if layers is None else layers)]
    parts = []
    level = np.broadcast_to(np.asarray(height, dtype=np.float64), x.shape)
    for k in wanted:
        there = (plan >= 0) & (grid.cell_number[k, np.maximum(plan, 0)] >= 0)
        parts.append(made_of(k, x[there], y[there], level[there], 1.0, name, plan[there]))
    made = together(parts)
    if must and not len(made):
        raise InputError(f"the {name} of starts meets no cell of these layers. Check its place.")
    return made
