"""Where particles begin that follow from the flow: around wells, in conduits, or wherever water enters or leaves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_positive, did_you_mean
from inkhorn.flow import FlowResult, NetworkPassing, network_of
from inkhorn.model.terms import ConduitTerm
from inkhorn.paths.field import VelocityMaker
from inkhorn.paths.near_wells import Bore
from inkhorn.paths.pipes import ways_in
from inkhorn.paths.starts import Starts, made_of, together

__all__ = ["starts_at_wells", "starts_in_conduits", "starts_of_inflow", "strewn"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_GOLDEN = 0.6180339887498949


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
            parts.append(made_of(cells.layer[bores.cell[bore]], x, y, height, own / count, name))
    if not parts:
        does = "takes" if backward else "gives"
        raise InputError(
            f"none of the wells {list(names)} {does} any water; nothing to trace {'backward' if backward else 'forward'}."
        )
    return together(parts)


def starts_in_conduits(
    flow: FlowResult, names: Sequence[str] | None = None, *, backward: bool = False, count: int = 100, step: int = -1
) -> Starts:  # fmt: skip
    """Return starts in conduits: where water is let in, or backward where it comes out at springs.

    Parameters
    ----------
    flow : FlowResult
        Of a model with conduits.
    names : sequence of str, optional
        Sinkholes and quick recharge (backward: springs); all that move water if not given.
    backward : bool
        Whether the water is followed to where it came from.
    count : int
        How many for each; where water is let in at several nodes, by how much is.
    step : int
        Whose flows count.

    Raises
    ------
    InputError
        If there are no conduits, no such feature, or none of them moves any water.
    """
    check_positive("count", count)
    step = step % len(flow.steps)
    passing = network_of(flow, step)
    if passing is None:
        raise InputError("the model has no conduits; nothing to start from.")
    term = flow.model.terms[passing.term]
    found = {name: (nodes, water) for name, nodes, water in ways_in(passing, backward)}
    parts = []
    for name in found if names is None else names:
        if name not in term.feature_names:
            known = list(term.feature_names)
            raise InputError(
                f'there is no "{name}" among conduits; they have {known}.{did_you_mean(name, known)}'
            )
        if name in found:
            nodes, water = found[name]
            at = np.cumsum(water).searchsorted((np.arange(count) + 0.5) * water.sum() / count)
            parts.append(_at_nodes(flow, passing, nodes[at], water.sum() / count, name))
    if not parts:
        does = "leaves conduits" if backward else "is let into conduits"
        where = "" if names is None else f" at {', '.join(names)}"
        raise InputError(f"no water {does}{where}; nothing to trace {'backward' if backward else 'forward'}.")
    return together(parts)


class _LetIn(NamedTuple):
    """Water that comes into conduits from outside: where, how much, and by which feature."""

    node: Index
    flow: Array
    name: NDArray[Any]


def _let_in(network: NetworkPassing | None, backward: bool) -> _LetIn:
    ways = [] if network is None else ways_in(network, backward)
    node = [np.empty(0, dtype=np.int64), *(nodes for _, nodes, _ in ways)]
    name = np.array([name for name, _, _ in ways], dtype=object).repeat([len(n) for n in node[1:]])
    return _LetIn(np.concatenate(node), np.concatenate([np.empty(0), *(q for _, _, q in ways)]), name)


def _at_nodes(flow: FlowResult, passing: NetworkPassing, nodes: Index, water: float, name: Any) -> Starts:
    """Starts at nodes of conduits."""
    grid, term = flow.model.grid, flow.model.terms[passing.term]
    assert isinstance(term, ConduitTerm)  # it is in the network
    cell = term.cells[term.end_at[nodes] // 2]
    x, y = term.x[nodes], term.y[nodes]
    return made_of(grid.cells.layer[cell], x, y, 0.5, water, name, grid.cells.plan_cell[cell], nodes)


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
    rain on a cell with a ditch, leaves again by its share. What goes from the rock to conduits and back does not enter;
    what is let into these does.

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
    network = network_of(flow, step)
    for name, passing in every:
        enters = sign * passing.flow > 0.0
        if network is not None and name != "bore":
            enters &= passing.term != network.term
        mine = np.flatnonzero(enters)
        kinds.append(
            np.full(len(mine), list("tfsib")[("top", "floor", "side", "inside", "bore").index(name)])
        )
        which.append(mine)
        water.append(np.abs(passing.flow[mine]))
    let_in = _let_in(network, backward)
    kinds.append(np.full(len(let_in.flow), "c"))
    which.append(np.arange(len(let_in.flow)))
    water.append(let_in.flow)
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
        plan, x, y = strewn(maker, cell, random)
        level = {"t": 1.0, "f": 0.0}.get(letter, random.uniform(size=len(mine)))
        names = _names(flow, passing.term[mine], passing.entry[mine])
        parts.append(made_of(grid.cells.layer[cell], x, y, level, each, names, plan))
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
        made_of(
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
        parts.append(made_of(grid.cells.layer[bores.cell[bore]], x, y, level, each, name))
    mine = index[kind == "c"]
    if network is not None:
        parts.append(_at_nodes(flow, network, let_in.node[mine], each, let_in.name[mine]))
    return together(parts)


def _names(flow: FlowResult, term: Index, entry: Index) -> NDArray[Any]:
    """The features of entries."""
    found = np.empty(len(term), dtype=object)
    for t in np.unique(term):
        mine = term == t
        of = flow.model.terms[t]
        found[mine] = np.array(of.feature_names, dtype=object)[of.feature_index[entry[mine]]]
    return found


def strewn(maker: VelocityMaker, cell: Index, random: np.random.Generator) -> tuple[Index, Array, Array]:
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
