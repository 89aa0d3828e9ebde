"""Unknowns that stand in no column: water levels in wells and lakes, the nodes of a network."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear.balances import Balances, Factors

__all__ = ["Apart"]

Array = NDArray[np.float64]


class _Places:
    """Where a matrix holds what some unknowns give each other, get from others and give these."""

    def __init__(self, matrix: Any, unknowns: NDArray[np.int64]) -> None:
        number = np.full(matrix.shape[0], -1)
        number[unknowns] = np.arange(len(unknowns))
        row = np.repeat(np.arange(matrix.shape[0]), np.diff(matrix.indptr))
        of_row, of_column = number[row], number[matrix.indices]
        self.size, self.whole = len(unknowns), matrix.shape[0]
        self.own = np.flatnonzero((of_row >= 0) & (of_column >= 0))
        self.row, self.column = of_row[self.own], of_column[self.own]
        self.into, self.of = (
            np.flatnonzero((of_row >= 0) & (of_column < 0)),
            np.flatnonzero((of_row < 0) & (of_column >= 0)),
        )
        self.into_column, self.of_column = matrix.indices[self.into], of_column[self.of].astype(np.int32)
        self.into_start = self._starts(of_row[self.into], self.size)
        self.of_start = self._starts(row[self.of], self.whole)

    @staticmethod
    def _starts(row: NDArray[Any], n: int) -> NDArray[Any]:
        return np.concatenate([[0], np.cumsum(np.bincount(row, minlength=n))]).astype(np.int32)

    @cached_property
    def balances(self) -> Balances:
        """The order in which they are eliminated."""
        return Balances(self.row, self.column, self.size)


class Apart:
    """Solves for unknowns that stand apart before and after a cycle over the others, as block elimination has it.

    With these, a cycle for what is left after elimination becomes one for the whole system. Their own block is
    factored, however they are coupled to each other.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    unknowns : ndarray of int
        Those that stand apart, rising.
    like : Apart, optional
        That of a matrix with values in the same places.

    Attributes
    ----------
    possible : bool
        False where their own block cannot be solved, as where one is coupled to nothing.
    """

    def __init__(self, matrix: Any, unknowns: NDArray[np.int64], *, like: Apart | None = None) -> None:
        from scipy.sparse import csr_array

        self.unknowns = unknowns
        self._places: _Places = _Places(matrix, unknowns) if like is None else like._places
        at, data = self._places, matrix.data
        self.possible = self._factor(data[at.own])
        # what others give these, and these others
        self._into = csr_array((data[at.into], at.into_column, at.into_start), shape=(at.size, at.whole))
        self._of = csr_array((data[at.of], at.of_column, at.of_start), shape=(at.whole, at.size))

    def _factor(self, own: Array) -> bool:
        """Factor the block; whether that can be done."""
        at = self._places
        on = at.row == at.column
        diagonal = np.bincount(at.row[on], own[on], at.size)
        self._inverse: Array = np.empty(0)
        self._factors: Factors | None = None
        if not (diagonal != 0.0).all():
            return False
        if not (own[~on] != 0.0).any():
            self._inverse = 1.0 / diagonal
            return True
        try:
            self._factors = at.balances.factored(own)
        except RuntimeError:  # it is singular
            return False
        return True

    @cached_property
    def _turned(self) -> tuple[Any, Any]:
        return self._into.T.tocsr(), self._of.T.tocsr()

    @property
    def coupled(self) -> bool:
        """Whether they are coupled to each other."""
        return self._factors is not None

    def _solved(self, right: Array, *, transpose: bool) -> Array:
        if self._factors is None:
            return self._inverse * right
        return self._factors.solve(right, transpose=transpose)

    def before(self, right: Array, *, transpose: bool) -> Array:
        """Return a right-hand side from which what these unknowns give the others is taken."""
        gives = self._turned[0] if transpose else self._of
        return np.asarray(right - gives @ self._solved(right[self.unknowns], transpose=transpose))

    def after(self, right: Array, answer: Array, *, transpose: bool) -> None:
        """Put these unknowns into an answer for the others."""
        through = (self._turned[1] if transpose else self._into) @ answer
        answer[self.unknowns] = self._solved(right[self.unknowns] - through, transpose=transpose)
