"""Unknowns that stand in no column: water levels in wells and lakes, the nodes of a network."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["BALANCES", "Apart"]

Array = NDArray[np.float64]

BALANCES: dict[str, Any] = {
    "permc_spec": "MMD_AT_PLUS_A",
    "diag_pivot_thresh": 0.0,
    "options": {"SymmetricMode": True},
}
"""How balances are factored, whose diagonals outweigh their rows: half the fill of what any matrix needs."""


class Apart:
    """Solves for unknowns that stand apart before and after a cycle over the others, as block elimination has it.

    With these, a cycle for what is left after elimination becomes one for the whole system. Their own block is
    factored, however they are coupled to each other.

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
        False where their own block cannot be solved, as where one is coupled to nothing.
    """

    def __init__(self, matrix: Any, unknowns: NDArray[np.int64], *, symmetric: bool) -> None:
        from scipy.sparse import coo_array

        self.unknowns, rows = unknowns, matrix[unknowns].tocoo()
        columns = rows.T if symmetric else matrix[:, unknowns].tocoo()
        number = np.full(matrix.shape[0], -1)
        number[unknowns] = np.arange(len(unknowns))
        own = number[rows.col] >= 0
        self.possible = self._factor(rows.row[own], number[rows.col[own]], rows.data[own])
        if not self.possible:
            return
        others = number[columns.row] < 0
        shape = (len(unknowns), matrix.shape[0])
        into = coo_array((rows.data[~own], (rows.row[~own], rows.col[~own])), shape=shape)
        of = coo_array((columns.data[others], (columns.col[others], columns.row[others])), shape=shape)
        self._into, self._of = into.tocsr(), of.tocsr()  # what others give these, and these others, turned
        self._into_turned, self._of_turned = (m.T.tocsr() for m in (self._into, self._of))

    def _factor(self, row: NDArray[Any], column: NDArray[Any], value: Array) -> bool:
        """Factor the block; whether that can be done."""
        from scipy.sparse import coo_array
        from scipy.sparse.linalg import splu

        n = len(self.unknowns)
        diagonal = np.zeros(n)
        on = row == column
        np.add.at(diagonal, row[on], value[on])
        self._inverse, self._factors = np.empty(0), None
        if not (diagonal != 0.0).all():
            return False
        if not (value[~on] != 0.0).any():
            self._inverse = 1.0 / diagonal
            return True
        try:
            self._factors = splu(coo_array((value, (row, column)), shape=(n, n)).tocsc(), **BALANCES)
        except RuntimeError:  # it is singular
            return False
        return True

    @property
    def coupled(self) -> bool:
        """Whether they are coupled to each other."""
        return self._factors is not None

    def _solved(self, right: Array, *, transpose: bool) -> Array:
        if self._factors is None:
            return self._inverse * right
        return np.asarray(self._factors.solve(right, trans="T" if transpose else "N"))

    def before(self, right: Array, *, transpose: bool) -> Array:
        """Return a right-hand side from which what these unknowns give the others is taken."""
        gives = self._into_turned if transpose else self._of_turned
        return np.asarray(right - gives @ self._solved(right[self.unknowns], transpose=transpose))

    def after(self, right: Array, answer: Array, *, transpose: bool) -> None:
        """Put these unknowns into an answer for the others."""
        through = (self._of if transpose else self._into) @ answer
        answer[self.unknowns] = self._solved(right[self.unknowns] - through, transpose=transpose)
