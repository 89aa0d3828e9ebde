"""Multigrid for layered models: columns relaxed as a whole, coarsened in plan only."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear import _graph_kernels as _kernels
from inkhorn.linear.columns import Columns, Graph, in_relaxing_order
from inkhorn.linear.laid_out import LaidOutCycle
from inkhorn.linear.places import Places

__all__ = ["ColumnMultigrid", "GraphPlaces"]

Single = NDArray[np.float32]
Index = NDArray[np.int32]

_COARSEST = 4  # columns
_FURTHER = (
    1.1  # pairs along one direction: a little weaker still, for corrections that are constant on each pair
)


@dataclass(eq=False)
class _Level:
    """One grid: its columns factored, room for a right-hand side and an answer, the way to the next one."""

    graph: Graph
    coupling: Single  # (n_entries, n_layers)
    below: Single  # (n_columns, n_layers), coupling to the layer beneath
    sink: Single  # (n_columns, n_layers), what is left of the diagonal
    parent: Index | None = None
    held: Index | None = None
    weight: Single | None = None

    def __post_init__(self) -> None:
        shape = self.sink.shape
        multiplier, inverse = np.empty(shape, np.float32), np.empty(shape, np.float32)
        _kernels.factor(self.graph.start, self.coupling, self.below, self.sink, multiplier, inverse)
        self.matrix = (self.coupling.ravel(), multiplier.ravel(), inverse.ravel())
        self.couplings = (self.coupling.ravel(), self.below.ravel(), self.sink.ravel())

    def make_room(self) -> None:
        """Take new room for a right-hand side and an answer."""
        self.right, self.answer = (np.zeros(self.sink.size, np.float32) for _ in range(2))


def _twos(graph: Graph, weight: Single) -> tuple[NDArray[np.int64], int]:
    """Groups of about four: pairs along strong couplings, and pairs of these."""
    group = np.empty(len(graph), dtype=np.int64)
    order = np.lexsort((graph.x, graph.y))
    n = _kernels.pairs(graph.start, graph.neighbour, weight, order, group)
    start, neighbour, entry = _kernels.coarse_graph(graph.start, graph.neighbour, group, n)
    crossing = entry >= 0
    joint = np.bincount(entry[crossing], weight[crossing], len(neighbour)).astype(np.float32)
    second = np.empty(n, dtype=np.int64)
    first = np.full(n, len(graph))
    np.minimum.at(first, group[order], np.arange(len(graph)))
    n = _kernels.pairs(start, neighbour, joint, np.argsort(first), second)
    return second[group], n


def _bridged(
    graph: Graph, coarse: Graph, group: NDArray[np.int64], weight: Single, entry: Index
) -> NDArray[np.float32]:
    """What share of each coupling is left between coarse columns, which bridge a longer way, (n_entries,).

    That of the distances, as far as couplings within the coarse columns are no stronger: where they are, the
    coarse columns are level inside, and weak couplings between them simply add up.
    """
    of = np.repeat(np.arange(len(graph)), np.diff(graph.start))
    to = graph.neighbour
    bound = np.empty(len(graph))
    _kernels.inner_couplings(graph.start, entry, weight, bound)
    dx, dy = (v[group[to]] - v[group[of]] for v in (coarse.x, coarse.y))
    along = np.abs((graph.x[to] - graph.x[of]) * dx + (graph.y[to] - graph.y[of]) * dy)
    square = dx * dx + dy * dy
    near = np.clip(along / np.where(square > 0.0, square, 1.0), 0.1, 1.0)
    total = weight + 0.5 * (bound[of] + bound[to])
    loose = np.minimum(2.0 * weight / np.where(total > 0.0, total, 1.0), 1.0)
    further = _FURTHER if len(coarse) > 0.4 * len(graph) else 1.0
    return np.where(square > 0.0, 1.0 - further * (1.0 - near) * loose, 1.0).astype(np.float32)


def _coarser(level: _Level) -> _Level | None:
    """The next coarser grid, or none where nothing can be joined any more."""
    graph = level.graph
    weight = level.coupling.sum(axis=1, dtype=np.float64).astype(np.float32)
    group, n = _twos(graph, weight)
    if n > 0.9 * len(graph):
        return None
    area = np.bincount(group, graph.area, n)
    x, y = (np.asarray(np.bincount(group, graph.area * v, n) / area) for v in (graph.x, graph.y))
    start, neighbour, entry = _kernels.coarse_graph(graph.start, graph.neighbour, group, n)
    coarse, new, where = in_relaxing_order(start, neighbour, x, y, area.astype(np.float64))
    group = new[group]
    entry = np.append(where, np.int32(-1))[entry]  # -1 inside a group stays
    n_layers = level.sink.shape[1]
    coupling = np.zeros((len(neighbour), n_layers), np.float32)
    below, sink = np.zeros((n, n_layers), np.float32), np.zeros((n, n_layers), np.float32)
    share = _bridged(graph, coarse, group, weight, entry)
    _kernels.coarse_couplings(level.coupling, share, entry, coupling)
    level.held = np.empty(len(graph), np.int32)
    total = level.sink.sum(axis=1, dtype=np.float64)
    most = np.zeros(n)
    np.maximum.at(most, group, total)
    in_all = np.bincount(group, minlength=n) * np.where(most > 0.0, most, 1.0)
    alone = np.maximum(1.0 - np.bincount(group, total, n) / in_all, 1e-6)
    weights = np.empty((max(int(np.count_nonzero(total)), 1), n_layers), np.float32)
    _kernels.coarse_sinks(
        graph.start,
        level.coupling,
        level.sink,
        level.below,
        group,
        entry,
        alone,
        below,
        sink,
        level.held,
        weights,
    )
    level.weight, level.parent = weights.ravel(), group.astype(np.int32)
    return _Level(coarse, coupling, below, sink)


class GraphPlaces(Places):
    """Where a matrix over any columns holds what: found once for all that have values at the same places.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    columns : Columns

    Attributes
    ----------
    gaps : ndarray of int, (n_columns, n_layers)
        How many layers down the next unknown of the column is, 0 for none.
    """

    def __init__(self, matrix: Any, columns: Columns) -> None:
        graph, cell, own = columns.graph, columns.cell, columns.own
        layer = np.asarray(columns.layer, dtype=np.int32)
        shape = cell.shape
        self._coupling = np.empty((len(graph.neighbour), shape[1]), np.int32)
        self._below, self._above, self._diagonal = (np.empty(shape, np.int32) for _ in range(3))
        self.gaps = np.zeros(shape, np.uint8)
        found = (self._coupling, self._below, self._above, self._diagonal)
        others = np.empty((64 + 16 * int((own < 0).sum()), 2), np.int64)
        while True:
            for values in found:
                values.fill(-1)
            count = _kernels.find_places(
                matrix.indptr,
                matrix.indices,
                cell,
                own,
                layer,
                graph.start,
                graph.neighbour,
                *found,
                self.gaps,
                others,
            )
            if count <= len(others):
                break
            others = np.empty((count, 2), np.int64)
        super().__init__(matrix, columns.slot.astype(np.int64), cell.size, others[:count])
        self.fitting &= shape[1] < 255
        self.paired = True  # one that does not lead back is none that acts both ways
        self.jumps = self._jumps(cell)

    def _jumps(self, cell: Index) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        column, layer = np.nonzero(self.gaps > 1)
        deeper = layer + self.gaps[column, layer]
        upper, lower = cell[column, layer].astype(np.int64), cell[column, deeper].astype(np.int64)
        places = np.concatenate([self._below[column, layer], self._above[column, deeper]]).astype(np.int64)
        there = places >= 0
        return (
            np.concatenate([upper, lower])[there],
            np.concatenate([lower, upper])[there],
            places[there],
        )

    def taken(
        self, matrix: Any, columns: Columns, *, held: bool = False
    ) -> tuple[Single, Single, Single, Single]:
        """Return couplings sideways, down and up as they act on each unknown, and what is left of its diagonal."""
        coupling = np.zeros(self._coupling.shape, np.float32)
        below, above, left = (np.zeros(self._below.shape, np.float32) for _ in range(3))
        _kernels.take_values(
            matrix.data, columns.cell, columns.graph.start, self._coupling, self._below, self._above, self._diagonal,
            self.rest(matrix, held=held), coupling, below, above, left,
        )  # fmt: skip
        return coupling, below, above, left


class ColumnMultigrid(LaidOutCycle):
    """The cycle over any columns.

    Each column is solved as a whole, through all its layers, with its neighbours as they are: however
    much stronger the couplings up and down are, they do not slow it. Grids are coarsened in plan, along strong
    couplings; `EvenMultigrid` does so on even rectangles. A coarse conductance is that of the finer ones it
    stands for, over the distance that it bridges; a correction fades towards columns that are held at a level. All but
    the finest grid are gone through twice.

    References
    ----------
    Braess, D. (1995), Towards algebraic multigrid for elliptic problems of second order, Computing 55,
    379-393 (coarse conductances scaled for corrections that are constant on each group).
    """

    places: GraphPlaces

    def _places(self, matrix: Any, columns: Columns) -> GraphPlaces:
        return columns.placed(GraphPlaces, matrix)

    def _set_up(self, matrix: Any, columns: Columns, *, held: bool) -> None:
        places, graph = self.places, columns.graph
        self.columns, self.n_layers = columns, columns.cell.shape[1]
        taken = own, down, up, left = places.taken(matrix, columns, held=held)
        coupling, below, sink = np.zeros_like(own), np.zeros_like(down), np.zeros_like(left)
        alike = _kernels.make_mutual(
            graph.start,
            graph.neighbour,
            columns.reverse,
            places.gaps,
            own,
            down,
            up,
            left,
            coupling,
            below,
            sink,
        )
        self.alike = bool(alike) and not held
        self._taken = None if self.alike else taken
        self.levels = [_Level(graph, coupling, below, sink)]
        while len(self.levels[-1].graph) > _COARSEST:
            coarser = _coarser(self.levels[-1])
            if coarser is None:
                break
            coarser.make_room()
            self.levels.append(coarser)

    def twin(self) -> ColumnMultigrid:
        other = copy(self)
        other.levels = [copy(level) for level in self.levels]
        for level in other.levels[1:]:
            level.make_room()
        return other

    def cycle(self, right: Single, answer: Single) -> float:
        levels = self.levels
        if len(levels) == 1:
            return self._through(levels, right, answer)
        fine, coarse = levels[:2]
        g, way = fine.graph, (fine.parent, fine.held, fine.weight)
        places = (self.n_layers, g.start, g.middle, g.neighbour)
        _kernels.relax_and_restrict(*places, *fine.matrix, right, answer, *way, coarse.right)
        self._through(levels[1:], coarse.right, coarse.answer)
        first, below = coarse.answer.copy(), coarse.graph
        _kernels.left_over(
            self.n_layers, below.start, below.neighbour, *coarse.couplings, coarse.answer, coarse.right
        )
        self._through(levels[1:], coarse.right, coarse.answer)
        coarse.answer += first
        return float(_kernels.prolong_and_relax(*places, *fine.matrix, right, answer, *way, coarse.answer))

    def _through(self, levels: list[_Level], right: Single, answer: Single) -> float:
        """Go down and up these levels once."""
        rooms = [(right, answer), *((level.right, level.answer) for level in levels[1:])]
        for k, (fine, _) in enumerate(pairwise(levels)):
            g, way = fine.graph, (fine.parent, fine.held, fine.weight)
            _kernels.relax_and_restrict(
                self.n_layers, g.start, g.middle, g.neighbour, *fine.matrix, *rooms[k], *way, rooms[k + 1][0]
            )
        last = levels[-1]
        dot = _kernels.relax_both_ways(
            self.n_layers, last.graph.start, last.graph.neighbour, *last.matrix, *rooms[-1], 4
        )
        for k in range(len(levels) - 2, -1, -1):
            fine = levels[k]
            g, way = fine.graph, (fine.parent, fine.held, fine.weight)
            dot = _kernels.prolong_and_relax(
                self.n_layers, g.start, g.middle, g.neighbour, *fine.matrix, *rooms[k], *way, rooms[k + 1][1]
            )
        return float(dot)

    def direct_and_multiply(self, z: Single, p: Single, share: float, q: Single) -> float:
        finest = self.levels[0]
        graph = finest.graph
        return float(
            _kernels.direct_and_multiply(
                self.n_layers, graph.start, graph.neighbour, *finest.couplings, z, p, share, q
            )
        )

    def multiplier(self, matrix: Any) -> Callable[[Single, Single], None]:
        places, graph = self.places, self.columns.graph
        own = self._taken if self._taken is not None else places.taken(matrix, self.columns)
        coupling, below, above, left = own
        if (places.gaps > 1).any():  # those across absent layers are told one by one
            below, above = below.copy(), above.copy()
            column, layer = np.nonzero(places.gaps > 1)
            below[column, layer], above[column, layer + places.gaps[column, layer]] = 0.0, 0.0
        flat = (v.ravel() for v in (coupling, below, above, left))
        return partial(_kernels.multiply, self.n_layers, graph.start, graph.neighbour, *flat)

    @property
    def memory(self) -> int:
        """Bytes held by the levels."""
        held = {
            id(v): v.nbytes
            for level in self.levels
            for v in (*vars(level).values(), *level.matrix[1:], *vars(level.graph).values())
            if isinstance(v, np.ndarray)
        }
        return sum(held.values())
