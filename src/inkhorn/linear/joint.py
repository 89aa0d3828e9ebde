"""Unknowns that stand apart and the cells around them, moved together: what a network conducts far away."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear.apart import BALANCES
from inkhorn.linear.columns import Columns

__all__ = ["Joint"]

Array = NDArray[np.float64]


class Joint:
    """A coarse correction for a network that conducts more than the cells it lies in.

    A cycle over the cells, with the levels at the nodes as they are, and one over the nodes, with the heads as they
    are, hardly move both together where they exchange water easily. So each node and the cells nearest to it are made
    one unknown of a small system, which is factored: a level that belongs to both.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    columns : Columns
        Where its unknowns stand; column -1 for those of the network.
    before : Joint, optional
        That of a matrix before, of the same network: which cells go with which node is taken from there.
    """

    def __init__(self, matrix: Any, columns: Columns, before: Joint | None = None) -> None:
        from scipy.sparse import csc_array
        from scipy.sparse.linalg import splu

        self._indices: NDArray[Any]
        if (
            before is None
            or before._indices.shape != matrix.indices.shape
            or (before._indices != matrix.indices).any()
        ):
            self._group, self._count = self._groups(matrix, columns)
            self._indices = matrix.indices
            row = np.repeat(self._group, np.diff(matrix.indptr))
            keys, self._place = np.unique(
                self._group[matrix.indices] * self._count + row, return_inverse=True
            )
            self._row = (keys % self._count).astype(np.int32)
            counts = np.bincount(keys // self._count, minlength=self._count)
            self._start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
        else:
            vars(self).update(vars(before))
        values = np.bincount(self._place, matrix.data, len(self._row))
        self._factors = splu(
            csc_array((values, self._row, self._start), shape=(self._count,) * 2), **BALANCES
        )

    @staticmethod
    def _groups(matrix: Any, columns: Columns) -> tuple[NDArray[np.int64], int]:
        """The node that each unknown goes with, and how many nodes there are."""
        from scipy.spatial import KDTree

        column = np.asarray(columns.column)
        apart, cells = np.flatnonzero(column < 0), np.flatnonzero(column >= 0)
        number = np.full(matrix.shape[0], -1)
        number[apart] = np.arange(len(apart))
        places = np.column_stack([columns.x, columns.y])[column[cells]]
        of_cell = np.zeros((matrix.shape[0], 2))
        of_cell[cells] = places
        rows = matrix[apart].tocoo()
        met = number[rows.col] < 0
        node, cell = rows.row[met], rows.col[met]
        count = np.bincount(node, minlength=len(apart))
        middle = np.column_stack([np.bincount(node, of_cell[cell, k], len(apart)) for k in (0, 1)])
        there = np.flatnonzero(count)  # a node that meets no cell moves alone
        nearest = there[KDTree(middle[there] / count[there, None]).query(places)[1]]
        group = np.empty(matrix.shape[0], dtype=np.int64)
        group[cells], group[apart] = nearest, np.arange(len(apart))
        strongest = np.argsort(np.abs(rows.data[met]), kind="stable")
        group[cell[strongest]] = node[strongest]  # a cell goes with the node that it exchanges most with
        return group, len(apart)

    def correction(self, residual: Array, *, transpose: bool) -> Array:
        """Return the change of all unknowns that brings what is left over each group to nothing."""
        summed = np.bincount(self._group, residual, self._count)
        return np.asarray(self._factors.solve(summed, trans="T" if transpose else "N")[self._group])
