"""Multigrid over even rectangles: that of `ColumnMultigrid` without looking up neighbours, its structure found once."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from dataclasses import dataclass, field
from functools import partial
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear import _even_kernels as _loops
from inkhorn.linear import _even_setup as _setup
from inkhorn.linear.laid_out import LaidOutCycle
from inkhorn.linear.places import Places

if TYPE_CHECKING:
    from inkhorn.linear.columns import Columns

__all__ = ["EvenMultigrid", "EvenPlaces"]

Array = NDArray[np.float64]
Single = NDArray[np.float32]

_COARSEST = 4  # columns
_FURTHER = (
    1.1  # pairs along one direction: couplings a little weaker still, for corrections constant on each pair
)
_STRONG = 3.0  # how much stronger one direction must be for it to be coarsened alone
_WIDTH = 8  # numbers that a processor takes at once


def _stride(n_columns: int) -> int:
    """How long a row of one colour and one layer is: with a zero at its end at least."""
    return -(-((n_columns + 1) // 2 + 1) // _WIDTH) * _WIDTH


class EvenPlaces(Places):
    """Where a matrix over even rectangles holds what: found once for all that have values at the same places.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    columns : Columns
        With a grid.

    Attributes
    ----------
    number : ndarray of int, (n_rows, n_layers, n_columns)
        Of the unknown in each place, -1 for none.
    shape : tuple of int
        Rows, layers, and how long a row of one colour is.
    """

    def __init__(self, matrix: Any, columns: Columns) -> None:
        column = np.asarray(columns.column)
        along, across = (np.asarray(g, dtype=np.int32) for g in columns.grid)
        x, y = (np.asarray(v, dtype=np.float64) for v in (columns.x, columns.y))
        if along.max(initial=0) > across.max(initial=0):
            along, across = across, along  # rows are the shorter way, so that loops along them are long
            x, y = y, x
        stands = column >= 0
        row = np.where(stands, along[column], -1).astype(np.int32)
        place = np.where(stands, across[column], -1).astype(np.int32)
        layer = np.where(stands, np.asarray(columns.layer), -1).astype(np.int32)
        n_rows, n_columns, n_layers = (int(v.max(initial=0)) + 1 for v in (along, across, layer))
        self.number = np.full((n_rows, n_layers, n_columns), -1, np.int32)
        self.number[row[stands], layer[stands], place[stands]] = np.flatnonzero(stands)
        present = np.asarray((self.number >= 0).any(axis=1))
        self.plan = _Plan(_centres(y, along, n_rows), _centres(x, across, n_columns), present)
        self.shape = n_rows, n_layers, _stride(n_columns)
        self.half = (n_rows + 2) * n_layers * self.shape[2]
        self.offsets = np.full((n_rows, n_layers, n_columns, 7), -1, np.int8)
        self.gaps = np.zeros((n_rows, n_layers, n_columns), np.uint8)
        others = np.empty((64 + 16 * int((~stands).sum()), 2), np.int64)
        while True:
            self.offsets[:] = -1
            count = _setup.find_places(
                matrix.indptr, matrix.indices, self.number, row, place, layer, self.offsets, self.gaps, others
            )
            if count <= len(others):
                break
            others = np.empty((count, 2), np.int64)
        slot = ((row.astype(np.int64) + place) % 2) * self.half + (row + 1) * (n_layers * self.shape[2])
        slot = np.where(stands, slot + layer * self.shape[2] + place // 2, -1)
        super().__init__(matrix, slot, 2 * self.half, others[:count])
        self.fitting &= n_layers < 255
        self.any_gaps, self.jumps = bool((self.gaps > 1).any()), self._jumps()
        self.paired = bool(_setup.paired(self.offsets, self.gaps))

    def _jumps(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Couplings across absent layers, one by one: of which unknown, to which, and the place of each value."""
        row, layer, column = np.nonzero(self.gaps > 1)
        deeper = layer + self.gaps[row, layer, column]
        upper, lower = self.number[row, layer, column], self.number[row, deeper, column]
        down, up = self.offsets[row, layer, column, 1], self.offsets[row, deeper, column, 2]
        places = np.concatenate([self.indptr[upper] + down, self.indptr[lower] + up])
        there = np.concatenate([down, up]) >= 0
        of, to = np.concatenate([upper, lower]), np.concatenate([lower, upper])
        return of[there], to[there], places[there]

    def taken(self, matrix: Any, *, held: bool = False) -> Single:
        """Return the couplings of each unknown and what is left of its diagonal, (7, n_rows, n_layers, n_columns)."""
        taken = np.zeros((7, *self.number.shape), np.float32)
        rest = self.rest(matrix, held=held)
        _setup.take_values(matrix.indptr, matrix.data, self.number, self.offsets, rest, taken)
        return taken


def _centres(values: Array, place: NDArray[Any], n: int) -> Array:
    """Where rows, or columns, are."""
    count = np.bincount(place, minlength=n)
    return np.asarray(np.bincount(place, values, n) / np.maximum(count, 1))


class _Plan:
    """Where the rows and columns of a level are, and which columns are there, (n_rows, n_columns)."""

    def __init__(self, y: Array, x: Array, present: NDArray[np.bool_]) -> None:
        self.y, self.x, self.present = y, x, present
        self._coarser: dict[tuple[int, int], tuple[_Plan, Array, Array]] = {}

    def halved(self, along: int, across: int) -> tuple[_Plan, Array, Array]:
        """Return the next one, and how much of the way between its columns, and rows, each step between these is."""
        if (along, across) not in self._coarser:
            x, near_x = self._joined(self.x, along)
            y, near_y = self._joined(self.y, across)
            present = np.zeros((len(y), len(x)), dtype=bool)
            row, column = np.nonzero(self.present)
            present[row // across, column // along] = True
            self._coarser[along, across] = _Plan(y, x, present), near_x, near_y
        return self._coarser[along, across]

    @staticmethod
    def _joined(centres: Array, by: int) -> tuple[Array, Array]:
        place = np.arange(len(centres)) // by
        coarse = np.asarray(np.bincount(place, centres) / np.bincount(place))
        step, way = np.diff(centres), coarse[place[1:]] - coarse[place[:-1]]
        near = np.clip(step / np.where(way == 0.0, 1.0, way), 0.1, 1.0)
        return coarse, np.where(way == 0.0, 1.0, near)


@dataclass(eq=False)
class _Level:
    """One grid, laid out in rows of one colour; room for a right-hand side and an answer but on the finest; the next."""

    shape: tuple[int, int, int]
    stencil: Single  # (8, half)
    sinks: Single  # (2, half)
    weights: Single = field(
        default_factory=lambda: np.empty(0, np.float32)
    )  # (half,), of corrections in red cells
    joined: tuple[int, int] = (1, 1)  # columns and rows that make one of the next

    def make_room(self) -> None:
        """Take new room for a right-hand side and an answer."""
        self.right, self.answer = (np.zeros(self.stencil.shape[1] * 2, np.float32) for _ in range(2))


class EvenMultigrid(LaidOutCycle):
    """The cycle over even rectangles: laid out in rows of one colour, without looking up neighbours."""

    places: EvenPlaces

    def _places(self, matrix: Any, columns: Columns) -> EvenPlaces:
        return columns.placed(EvenPlaces, matrix)

    def _set_up(self, matrix: Any, columns: Columns, *, held: bool) -> None:
        places = self.places
        shape = places.number.shape
        taken = places.taken(matrix, held=held)
        sink, below, east, south = (np.zeros(shape, np.float32) for _ in range(4))
        alike = _setup.make_mutual(taken, places.gaps, places.any_gaps, sink, below, east, south)
        self.alike = bool(alike) and places.paired and not held
        self.taken = None if self.alike else taken
        self.levels: list[_Level] = []
        self._add(sink, below, east, south, places.plan)

    def _add(self, sink: Single, below: Single, east: Single, south: Single, plan: _Plan) -> None:
        """Make this level and those beneath it."""
        while True:
            n_rows, n_layers, n_columns = sink.shape
            stride = _stride(n_columns)
            half = (n_rows + 2) * n_layers * stride
            level = _Level(
                (n_rows, n_layers, stride), np.zeros((8, half), np.float32), np.zeros((2, half), np.float32)
            )
            _setup.lay_out(sink, below, east, south, stride, level.stencil, level.sinks)
            if self.levels:
                level.make_room()
            self.levels.append(level)
            if n_rows * n_columns <= _COARSEST:
                return
            by_row, by_column = (_mean(v) for v in (east, south))
            along = 1 if by_column > _STRONG * by_row and n_rows > 1 else 2
            across = 1 if by_row > _STRONG * by_column and n_columns > 1 else 2
            level.joined = along, across
            coarser, near_x, near_y = plan.halved(along, across)
            new = coarser.present.shape[0], n_layers, coarser.present.shape[1]
            c_sink, c_below, c_east, c_south = (np.zeros(new, np.float32) for _ in range(4))
            weights = np.empty(half, np.float32)
            further = _FURTHER if along + across == 3 else 1.0
            if _setup.coarser(
                sink, below, east, south, plan.present, along, across, near_x, near_y, further,
                c_sink, c_below, c_east, c_south, stride, weights,
            ):  # fmt: skip
                level.weights = weights
            (sink, below, east, south), plan = (c_sink, c_below, c_east, c_south), coarser

    def twin(self) -> EvenMultigrid:
        """Return the same cycle with room of its own to work in."""
        other = copy(self)
        other.levels = [copy(level) for level in self.levels]
        for level in other.levels[1:]:
            level.make_room()
        return other

    def cycle(self, right: Single, answer: Single) -> float:
        """Go down and up once; returns the product of right-hand side and answer, but for unknowns that stand apart."""
        levels = self.levels
        rights = [right, *(level.right for level in levels[1:])]
        answers = [answer, *(level.answer for level in levels[1:])]
        for k, (fine, coarse) in enumerate(pairwise(levels)):
            _loops.relax_and_restrict(
                fine.shape,
                fine.stencil,
                rights[k],
                answers[k],
                fine.weights,
                fine.joined,
                coarse.shape,
                rights[k + 1],
            )
        last = levels[-1]
        dot = _loops.relax_both_ways(last.shape, last.stencil, rights[-1], answers[-1], 4)
        for k in range(len(levels) - 2, -1, -1):
            fine, coarse = levels[k], levels[k + 1]
            dot = _loops.prolong_and_relax(
                fine.shape,
                fine.stencil,
                rights[k],
                answers[k],
                fine.weights,
                fine.joined,
                coarse.shape,
                answers[k + 1],
            )
        return float(dot)

    def direct_and_multiply(self, z: Single, p: Single, share: float, q: Single) -> float:
        finest = self.levels[0]
        return float(_loops.direct_and_multiply(finest.shape, finest.stencil, finest.sinks, z, p, share, q))

    def multiplier(self, matrix: Any) -> Callable[[Single, Single], None]:
        places, taken = self.places, self.taken
        if taken is None:
            taken = places.taken(matrix)
        own = np.zeros((7, places.tail), np.float32)
        _setup.lay_out_own(taken, places.number, places.gaps, places.any_gaps, places.shape[2], own)
        return partial(_loops.multiply_own, places.shape, own)

    @property
    def memory(self) -> int:
        """Bytes held by the levels."""
        return sum(
            v.nbytes for level in self.levels for v in vars(level).values() if isinstance(v, np.ndarray)
        )


def _mean(couplings: Single) -> float:
    """The mean coupling of two columns that are coupled."""
    in_plan = couplings.sum(axis=1, dtype=np.float64)
    count = np.count_nonzero(in_plan)
    return float(in_plan.sum() / count) if count else 0.0
