"""Multigrid for layered models: columns relaxed as a whole, coarsened in plan only."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear import _kernels
from inkhorn.linear.apart import Apart
from inkhorn.linear.columns import Columns, Graph, in_relaxing_order

__all__ = ["ColumnMultigrid"]

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
        self.make_room()

    def make_room(self) -> None:
        """Take new room for a right-hand side and an answer."""
        self.right, self.answer = (np.zeros(self.sink.size, np.float32) for _ in range(2))
        self.arrays = (*self.matrix, self.right, self.answer)  # what the loops of a cycle take, laid flat


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


class ColumnMultigrid:
    """One multigrid cycle for a symmetric matrix whose unknowns stand in columns.

    Each column is solved as a whole, through all its layers, with its neighbours as they are: however
    much stronger the couplings up and down are, they do not slow it. Grids are coarsened in plan, along strong
    couplings; `EvenMultigrid` does so on even rectangles. A coarse conductance is that of the finer ones it
    stands for, over the distance that it bridges; a correction fades towards columns that are held at a level.
    Single precision suffices, for the cycle only guides an iteration in double precision.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
        Negative off the diagonal, or nearly so. Of couplings that act one way only what acts both ways is used.
    columns : Columns
        Where its unknowns stand.
    apart : Apart, optional
        Of those that stand apart. If given these are held as they are in the cycle over the others, as suits a network
        that conducts far; else each is taken as level with its cells, as suits wells and lakes.

    Attributes
    ----------
    possible : bool
        False where the block of unknowns that stand apart cannot be solved: then there is no cycle.

    References
    ----------
    Braess, D. (1995), Towards algebraic multigrid for elliptic problems of second order, Computing 55,
    379-393 (coarse conductances scaled for corrections that are constant on each group).
    """

    def __init__(self, matrix: Any, columns: Columns, *, apart: Apart | None = None) -> None:
        held = apart is not None
        if apart is None:
            apart = Apart(matrix, columns) if (np.asarray(columns.column) < 0).any() else None
        self._apart = apart
        self.possible = self._apart is None or self._apart.possible
        if not self.possible:
            return
        graph, cell = columns.graph, columns.cell
        shape = cell.shape
        self.cell, self.slot, self.n_layers = cell, columns.slot, shape[1]
        coupling = np.zeros((len(graph.neighbour), shape[1]), np.float32)
        below, above, sink = (np.zeros(shape, np.float32) for _ in range(3))
        layer = np.asarray(columns.layer, dtype=np.int32)
        _kernels.take_matrix(
            matrix.indptr,
            matrix.indices,
            matrix.data,
            columns.order,
            cell,
            columns.own,
            layer,
            held,
            graph.start,
            graph.neighbour,
            coupling,
            below,
            above,
            sink,
        )
        _kernels.make_mutual(
            graph.start, graph.neighbour, columns.reverse, cell, coupling, below, above, sink
        )
        self.levels = [_Level(graph, coupling, below, sink)]
        while len(self.levels[-1].graph) > _COARSEST:
            coarser = _coarser(self.levels[-1])
            if coarser is None:
                break
            self.levels.append(coarser)

    def twin(self) -> ColumnMultigrid:
        """Return the same cycle with room of its own to work in."""
        other = copy(self)
        other.levels = [copy(level) for level in self.levels]
        for level in other.levels:
            level.make_room()
        return other

    def cycle(self) -> None:
        """Go down and up once, from `right` to `answer` of the finest level."""
        levels = self.levels
        for fine, coarse in pairwise(levels):
            g, way = fine.graph, (fine.parent, fine.held, fine.weight)
            _kernels.relax_and_restrict(
                self.n_layers, g.start, g.middle, g.neighbour, *fine.arrays, *way, coarse.right
            )
        last = levels[-1]
        _kernels.relax_both_ways(self.n_layers, last.graph.start, last.graph.neighbour, *last.arrays, 4)
        for coarse, fine in pairwise(levels[::-1]):
            g, way = fine.graph, (fine.parent, fine.held, fine.weight)
            _kernels.prolong_and_relax(
                self.n_layers, g.start, g.middle, g.neighbour, *fine.arrays, *way, coarse.answer
            )

    def precondition(
        self, right: NDArray[np.float64], answer: NDArray[np.float64], *, transpose: bool = False
    ) -> float:
        """Write the answer of one cycle for a right-hand side; return their product."""
        finest, apart = self.levels[0], self._apart
        for_columns = right if apart is None else apart.before(right, transpose=transpose)
        _kernels.to_columns(self.cell, for_columns, finest.right.reshape(self.cell.shape))
        self.cycle()
        product = float(_kernels.from_columns_and_dot(self.slot, finest.answer, right, answer))
        if apart is not None:
            apart.after(right, answer, transpose=transpose)
            product += float(right[apart.unknowns] @ answer[apart.unknowns])
        return product

    @property
    def apart(self) -> Apart | None:
        """What solves for the unknowns that stand apart."""
        return self._apart

    @property
    def memory(self) -> int:
        """Bytes held by the levels."""
        held = {
            id(v): v.nbytes
            for level in self.levels
            for v in (*vars(level).values(), *level.arrays[1:3], *vars(level.graph).values())
            if isinstance(v, np.ndarray)
        }
        return sum(held.values())
