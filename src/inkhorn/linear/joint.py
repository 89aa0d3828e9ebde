"""Unknowns that stand apart and the cells around them, moved together: what a network conducts far away."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear.balances import Balances
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
        That of a matrix with values in the same places: which cells go with which node is taken from there.
    """

    def __init__(self, matrix: Any, columns: Columns, before: Joint | None = None) -> None:
        if before is None:
            self._group, self._count = self._groups(matrix, columns)
            row = np.repeat(self._group, np.diff(matrix.indptr))
            self._balances = Balances(row, self._group[matrix.indices], self._count)
        else:
            vars(self).update(vars(before))
        self._factors = self._balances.factored(matrix.data)

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
        summed = np.bincount(self._group, residual, self._count).astype(np.float64)
        return self._factors.solve(summed, transpose=transpose)[self._group]
