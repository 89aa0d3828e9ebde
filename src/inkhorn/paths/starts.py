"""Where particles begin: at points, wells, lines, in areas, or wherever water enters, by how much does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_positive, did_you_mean, place_words
from inkhorn.flow import FlowResult
from inkhorn.model import bore_cells, why_no_cell
from inkhorn.paths.field import VelocityMaker
from inkhorn.paths.near_wells import Bore
from inkhorn.space import line_corners

__all__ = [
    "Starts",
    "starts_at_bores",
    "starts_at_points",
    "starts_at_wells",
    "starts_in_area",
    "starts_of_inflow",
    "starts_on_line",
]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_GOLDEN = 0.6180339887498949
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
    """

    layer: Index
    x: Array
    y: Array
    height: Array
    flow: Array
    name: NDArray[Any]
    plan: Index

    def __len__(self) -> int:
        return len(self.layer)

    def __repr__(self) -> str:
        return f"Starts({len(self)} at {', '.join(dict.fromkeys(self.name[:1000].tolist()))[:60]})"

    def __add__(self, other: Starts) -> Starts:
        names = ("layer", "x", "y", "height", "flow", "name", "plan")
        return Starts(*(np.concatenate([getattr(self, n), getattr(other, n)]) for n in names))

    def repeated(self, count: int) -> Starts:
        """Return each of them several times, one after the other, as for several times of release."""
        names = ("layer", "x", "y", "height", "flow", "name", "plan")
        made = Starts(*(np.repeat(getattr(self, n), count) for n in names))
        return replace(made, flow=made.flow / count)


def _made(layer: Any, x: Any, y: Any, height: Any, flow: Any, name: Any, plan: Any = -1) -> Starts:
    x = np.atleast_1d(np.asarray(x, dtype=np.float64))
    n = len(x)

    def full(values: Any, kind: Any) -> Any:
        return np.array(np.broadcast_to(np.asarray(values, dtype=kind), n))

    return Starts(
        full(layer, np.int64), x, full(y, np.float64), full(height, np.float64), full(flow, np.float64),
        full(name, object), full(plan, np.int64),
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
    return _made(layer, place[:, 0], place[:, 1], height, 1.0, np.array(said, dtype=object), plan)


def _ring(bores: Bore, bore: int, count: int) -> tuple[Array, Array, Array]:
    """Places around a bore, at equal angles, and heights that fill the screen evenly."""
    angle = 2.0 * np.pi * (np.arange(count) + 0.5) / count
    reach = float(bores.radius[bore]) * (1.0 + 1e-6)
    height = np.asarray((0.5 + _GOLDEN * np.arange(count)) % 1.0, dtype=np.float64)
    return bores.x[bore] + reach * np.cos(angle), bores.y[bore] + reach * np.sin(angle), height


def starts_at_wells(
    flow: FlowResult, names: Sequence[str], *, backward: bool = True, per_well: int = 24, step: int = -1,
    maker: VelocityMaker | None = None,
) -> Starts:  # fmt: skip
    """Return starts around the screens of wells, by what each cell gives (backward) or gets (forward).

    In each cell they stand at equal angles around the bore, over the height of its water, as the flow to a screen is
    even over the height of a cell.

    Parameters
    ----------
    flow : FlowResult
        Heads and flows.
    names : sequence of str
        Wells.
    backward : bool
        Whether the water is followed to where it came from.
    per_well : int
        About how many for each well.
    step : int
        Whose rates count.

    Raises
    ------
    InputError
        If there is no such well, or none of them takes (gives) any water.
    """
    check_positive("per_well", per_well)
    maker = VelocityMaker(flow) if maker is None else maker
    step = step % len(flow.steps)
    model, record = flow.model, flow.steps[step]
    cells = model.grid.cells
    bores = maker.bores(record)
    terms = [t for t in model.terms if t.kind == "well"]
    known = [n for t in terms for n in t.feature_names]
    whose = _names(flow, bores.term, bores.entry)
    sign = -1.0 if backward else 1.0
    parts = []
    for name in names:
        if name not in known:
            raise InputError(
                f'there is no well "{name}" in the model; it has {known}.{did_you_mean(name, known)}'
            )
        mine = np.flatnonzero((whose == name) & (sign * bores.flow > 0.0))
        if not len(mine):
            continue
        water = np.abs(bores.flow[mine])
        counts = np.maximum(np.round(per_well * water / water.sum()).astype(int), 1)
        for bore, count, own in zip(mine.tolist(), counts.tolist(), water.tolist(), strict=True):
            x, y, height = _ring(bores, bore, count)
            parts.append(_made(cells.layer[bores.cell[bore]], x, y, height, own / count, name))
    if not parts:
        does = "takes" if backward else "gives"
        raise InputError(
            f"none of the wells {list(names)} {does} any water; nothing to trace {'backward' if backward else 'forward'}."
        )
    return _together(parts)


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
        parts += [_made(k, np.full(per_bore, x), y, height, each, name, plan) for k in there]
    return _together(parts)


def _together(parts: Sequence[Starts]) -> Starts:
    names = ("layer", "x", "y", "height", "flow", "name", "plan")
    return Starts(*(np.concatenate([getattr(p, n) for p in parts]) for n in names))


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
    shape = shapely.union_all(grid.mesh.polygons()) if area is None else area
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
    made = _together(parts)
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
        parts.append(_made(k, x[there], y[there], level[there], 1.0, name, plan[there]))
    made = _together(parts)
    if must and not len(made):
        raise InputError(f"the {name} of starts meets no cell of these layers. Check its place.")
    return made


def starts_of_inflow(
    flow: FlowResult,
    *,
    count: int = 10_000,
    backward: bool = False,
    step: int = -1,
    seed: int = 0,
    maker: VelocityMaker | None = None,
) -> Starts:
    """Return starts wherever water enters the aquifer (backward: leaves it), each for the same flow.

    They are drawn by flow, entry by entry: over the area of cells where it comes by top or floor, along the sides, in the
    whole of cells where it comes inside, around the screens of wells. Water that enters and leaves by the same top, as
    rain on a cell with a ditch, leaves again by its share.

    Parameters
    ----------
    flow : FlowResult
        Heads and flows.
    count : int
        How many.
    backward : bool
        Begin where water leaves.
    step : int
        Whose flows count.
    seed : int
        The same one draws them alike.

    Raises
    ------
    InputError
        If nothing enters.
    """
    check_positive("count", count)
    maker = VelocityMaker(flow) if maker is None else maker
    step = step % len(flow.steps)
    record, grid, random = flow.steps[step], flow.model.grid, np.random.default_rng(seed)
    through, bores = maker.passages(record), maker.bores(record)
    sign = -1.0 if backward else 1.0
    kinds, which, water = [], [], []
    every: list[tuple[str, Any]] = [*through.items(), ("bore", bores)]
    for name, passing in every:
        mine = np.flatnonzero(sign * passing.flow > 0.0)
        kinds.append(
            np.full(len(mine), list("tfsib")[("top", "floor", "side", "inside", "bore").index(name)])
        )
        which.append(mine)
        water.append(np.abs(passing.flow[mine]))
    kind, index, amount = np.concatenate(kinds), np.concatenate(which), np.concatenate(water)
    total = float(amount.sum())
    if total <= 0.0:
        raise InputError(f"no water {'leaves' if backward else 'enters'} the aquifer; nothing to begin with.")
    at = (np.arange(count) + random.uniform()) * total / count
    chosen = np.searchsorted(np.cumsum(amount), at, side="right").clip(0, len(amount) - 1)
    kind, index = kind[chosen], index[chosen]
    each, parts = total / count, []
    for letter, name in zip("tfi", ("top", "floor", "inside"), strict=True):
        mine = index[kind == letter]
        passing = through[name]
        cell = passing.at[mine]
        plan, x, y = _strewn(maker, cell, random)
        level = {"t": 1.0, "f": 0.0}.get(letter, random.uniform(size=len(mine)))
        names = _names(flow, passing.term[mine], passing.entry[mine])
        parts.append(_made(grid.cells.layer[cell], x, y, level, each, names, plan))
    mine = index[kind == "s"]
    passing = through["side"]
    outer = grid.outer_faces
    face = passing.at[mine]
    share = random.uniform(0.0, 1.0, (len(mine), 1))
    place = outer.ends[face, 0] + share * (outer.ends[face, 1] - outer.ends[face, 0])
    middle = np.column_stack([grid.cells.x, grid.cells.y])[outer.cell[face]]
    place = place + 1e-9 * (middle - place)
    names = _names(flow, passing.term[mine], passing.entry[mine])
    parts.append(
        _made(
            grid.cells.layer[outer.cell[face]],
            place[:, 0],
            place[:, 1],
            random.uniform(size=len(mine)),
            each,
            names,
            maker.plan_at(outer.cell[face], place),
        )
    )
    own, counts = np.unique(index[kind == "b"], return_counts=True)
    for bore, number in zip(own.tolist(), counts.tolist(), strict=True):
        x, y, level = _ring(bores, bore, number)
        name = _names(flow, bores.term[[bore]], bores.entry[[bore]])[0]
        parts.append(_made(grid.cells.layer[bores.cell[bore]], x, y, level, each, name))
    return _together(parts)


def _names(flow: FlowResult, term: Index, entry: Index) -> NDArray[Any]:
    """The features of entries."""
    found = np.empty(len(term), dtype=object)
    for t in np.unique(term):
        mine = term == t
        of = flow.model.terms[t]
        found[mine] = np.array(of.feature_names, dtype=object)[of.feature_index[entry[mine]]]
    return found


def _strewn(maker: VelocityMaker, cell: Index, random: np.random.Generator) -> tuple[Index, Array, Array]:
    """Places anywhere in cells, evenly by area: plan cells, x and y."""
    fans = maker.fans
    plans, starts = maker.plans_of_cells
    count = starts[cell + 1] - starts[cell]
    # a plan cell of each, by area
    weight = maker.grid.mesh.area[plans]
    along = np.concatenate([[0.0], np.cumsum(weight)])
    low, high = along[starts[cell]], along[starts[cell] + count]
    pick = np.searchsorted(along, low + random.uniform(size=len(cell)) * (high - low), side="right") - 1
    plan = plans[np.clip(pick, starts[cell], starts[cell] + count - 1)]
    # a triangle of each, by area
    along = np.concatenate([[0.0], np.cumsum(fans.area)])
    low, high = along[fans.first[plan]], along[fans.first[plan + 1]]
    pick = np.searchsorted(along, low + random.uniform(size=len(cell)) * (high - low), side="right") - 1
    triangle = np.clip(pick, fans.first[plan], fans.first[plan + 1] - 1)
    u, v = random.uniform(size=(2, len(cell)))
    folded = u + v > 1.0
    u, v = np.where(folded, 1.0 - u, u), np.where(folded, 1.0 - v, v)
    corner = fans.corner[triangle]
    place = fans.origin + corner[:, 0] + u[:, None] * (corner[:, 1] - corner[:, 0])
    place += v[:, None] * (corner[:, 2] - corner[:, 0])
    return plan, place[:, 0], place[:, 1]
