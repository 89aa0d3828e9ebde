"""Unknowns that stand in no column, such as water levels in wells."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Apart"]

Array = NDArray[np.float64]


class Apart:
    """Solves for unknowns that stand apart before and after a cycle over the others, as block elimination has it.

    With these, a cycle for what is left after elimination becomes one for the whole system.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    unknowns : ndarray of int
        Those that stand apart.
    symmetric : bool
        Whether the matrix is; if so its columns need not be looked through.

    Attributes
    ----------
    possible : bool
        False where they are coupled to each other, or one to nothing.
    """

    def __init__(self, matrix: Any, unknowns: NDArray[np.int64], *, symmetric: bool) -> None:
        self.unknowns, rows = unknowns, matrix[unknowns].tocoo()
        columns = rows.T if symmetric else matrix[:, unknowns].tocoo()
        number = np.full(matrix.shape[0], -1)
        number[unknowns] = np.arange(len(unknowns))
        own = number[rows.col] >= 0
        diagonal = np.zeros(len(unknowns))
        diagonal[rows.row[own]] = rows.data[own]
        beside = number[rows.col[own]] != rows.row[own]
        self.possible = bool((diagonal != 0.0).all() and not (rows.data[own][beside] != 0.0).any())
        if not self.possible:
            return
        self._inverse = 1.0 / diagonal
        self._rows = (rows.row[~own], rows.col[~own], rows.data[~own])
        others = number[columns.row] < 0
        self._columns = (columns.col[others], columns.row[others], columns.data[others])

    def before(self, right: Array, *, transpose: bool) -> Array:
        """Return a right-hand side from which what these unknowns give the others is taken."""
        own, other, value = self._rows if transpose else self._columns
        left = right.copy()
        np.subtract.at(left, other, value * (self._inverse * right[self.unknowns])[own])
        return left

    def after(self, right: Array, answer: Array, *, transpose: bool) -> None:
        """Put these unknowns into an answer for the others."""
        own, other, value = self._columns if transpose else self._rows
        through = np.bincount(own, value * answer[other], len(self.unknowns))
        answer[self.unknowns] = self._inverse * (right[self.unknowns] - through)
