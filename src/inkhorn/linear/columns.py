"""Where the unknowns of a layered model stand: in columns, layer over layer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeVar, cast

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError

__all__ = ["Columns", "Graph"]

Index = NDArray[np.int32]
Array = NDArray[np.float64]
T = TypeVar("T")

_KEPT = 6  # structures of matrices: of two, three kinds each


@dataclass(frozen=True, eq=False)
class Graph:
    """Which columns are neighbours, in the order in which columns are relaxed.

    Attributes
    ----------
    start : ndarray of int, (n + 1,)
        First entry of each column.
    middle : ndarray of int, (n,)
        Its first entry that names a later column.
    neighbour : ndarray of int, (n_entries,)
        The columns beside it.
    x, y, area : ndarray of float, (n,)
        Of each column.
    """

    start: Index
    middle: Index
    neighbour: Index
    x: Array
    y: Array
    area: Array

    def __len__(self) -> int:
        return len(self.middle)


def in_relaxing_order(
    start: Index, neighbour: Index, x: Array, y: Array, area: Array
) -> tuple[Graph, NDArray[np.int64], Index]:
    """Return a graph sorted by colours, the new number of each column, and the new place of each entry.

    Columns of one colour are no neighbours: none waits for the one before it.
    """
    from inkhorn.linear import _graph_kernels as _kernels

    order = np.argsort(_kernels.colours(start, neighbour), kind="stable")
    new = np.empty(len(order), dtype=np.int64)
    new[order] = np.arange(len(order))
    start, middle, neighbour, where = _kernels.in_order(start, neighbour, new)
    return Graph(start, middle, neighbour, x[order], y[order], area[order]), new, where


def _alike(one: NDArray[Any], other: NDArray[Any]) -> bool:
    """Whether two arrays hold the same, as those do that are one."""
    where = [(v.__array_interface__["data"], v.strides, v.shape, v.dtype) for v in (one, other)]
    return where[0] == where[1] or np.array_equal(one, other)


@dataclass(frozen=True, eq=False)
class Columns:
    """The columns of a layered model, for the unknowns of a linear system.

    Parameters
    ----------
    column, layer : array_like of int, (n,)
        Of every unknown; no two unknowns share both. Layers count downwards from 0. Column -1 for unknowns that
        stand apart, such as water levels in wells.
    edges : array_like of int, (n_edges, 2)
        Columns that stand side by side, each pair once.
    x, y, area : array_like of float, (n_columns,)
        Of every column [m], [m²].
    grid : tuple of array_like of int, (n_columns,), optional
        Row and column of every column on a grid of even rectangles, which are then coarsened as such.
    """

    column: Any
    layer: Any
    edges: Any
    x: Any
    y: Any
    area: Any
    grid: Any = None

    def __post_init__(self) -> None:
        if len(self.column) != len(self.layer):
            raise InputError(
                f"there are {len(self.column)} columns and {len(self.layer)} layers of unknowns; expected as many."
            )

    @cached_property
    def _sorted(self) -> tuple[Graph, NDArray[np.int64], NDArray[np.int64]]:
        from scipy.sparse import coo_array

        # columns that hold no unknown are left out
        present = np.zeros(len(self.x), dtype=bool)
        column = np.asarray(self.column)
        present[column[column >= 0]] = True
        there = np.flatnonzero(present)
        number = np.where(present, np.cumsum(present) - 1, -1)
        edges = number[np.asarray(self.edges)]
        edges = edges[(edges >= 0).all(axis=1)]
        both = np.concatenate([edges, edges[:, ::-1]])
        size = (len(there), len(there))
        matrix = coo_array((np.ones(len(both), dtype=np.int8), (both[:, 0], both[:, 1])), shape=size).tocsr()
        x, y, area = (np.asarray(v, dtype=np.float64)[there] for v in (self.x, self.y, self.area))
        start, neighbour = matrix.indptr.astype(np.int32), matrix.indices.astype(np.int32)
        graph, new, _ = in_relaxing_order(start, neighbour, x, y, area)
        own = np.where(column >= 0, new[number[column]], -1)
        return graph, new, own

    @property
    def graph(self) -> Graph:
        """The columns that hold unknowns, in relaxing order."""
        return self._sorted[0]

    @property
    def order(self) -> NDArray[np.int64]:
        """The columns that hold unknowns, in the order of their numbers, as numbered in relaxing order."""
        return self._sorted[1]

    @cached_property
    def own(self) -> Index:
        """The column of every unknown, in relaxing order, (n,)."""
        return self._sorted[2].astype(np.int32)

    @cached_property
    def cell(self) -> Index:
        """The unknown in each column and layer, -1 where there is none, (n_columns, n_layers)."""
        layer = np.asarray(self.layer)
        cell = np.full((len(self.graph), int(layer.max(initial=0)) + 1), -1, dtype=np.int32)
        there = self.own >= 0
        cell[self.own[there], layer[there]] = np.flatnonzero(there)
        return cell

    @cached_property
    def slot(self) -> Index:
        """The place of every unknown in an array over columns and layers, laid flat, -1 for none, (n,)."""
        place = self.own.astype(np.int64) * self.cell.shape[1] + np.asarray(self.layer)
        return np.where(self.own >= 0, place, -1).astype(np.int32)

    def placed(self, what: Callable[[Any, Columns], T], matrix: Any) -> T:
        """Return what depends on where a matrix has values, and on these columns, alone; kept for the next such matrix.

        Parameters
        ----------
        what : callable
            Makes it of a matrix and of columns.
        matrix : scipy.sparse.csr_array, (n, n)
        """
        places = matrix.indptr, matrix.indices
        for maker, of, made in self._kept:
            if maker is what and all(_alike(a, b) for a, b in zip(of, places, strict=True)):
                return cast(T, made)
        found = what(matrix, self)
        self._kept.append((what, places, found))
        while len(self._kept) > _KEPT:
            self._kept.pop(0)
        return found

    @cached_property
    def _kept(self) -> list[tuple[Any, tuple[Any, Any], Any]]:
        return []

    @cached_property
    def reverse(self) -> Index:
        """For every entry of the graph the one that leads back."""
        from inkhorn.linear import _graph_kernels as _kernels

        back: Index = _kernels.reverses(self.graph.start, self.graph.neighbour)
        return back
