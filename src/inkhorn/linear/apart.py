"""Unknowns that stand in no column: water levels in wells and lakes, the nodes of a network."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear.balances import Balances, Factors

if TYPE_CHECKING:
    from inkhorn.linear.columns import Columns

__all__ = ["Apart"]

Array = NDArray[np.float64]


class _Places:
    """Where a matrix holds what some unknowns give each other, get from others and give these."""

    def __init__(self, matrix: Any, columns: Columns) -> None:
        self.unknowns = unknowns = np.flatnonzero(np.asarray(columns.column) < 0)
        number = np.full(matrix.shape[0], -1)
        number[unknowns] = np.arange(len(unknowns))
        at = np.flatnonzero(number[matrix.indices] >= 0)  # entries by which others get from these
        into = [
            np.arange(a, b) for a, b in zip(matrix.indptr[unknowns], matrix.indptr[unknowns + 1], strict=True)
        ]
        at = np.unique(np.concatenate([at, *into]))
        row = np.searchsorted(matrix.indptr, at, side="right") - 1
        of_row, of_column = number[row], number[matrix.indices[at]]
        self.size, self.whole = len(unknowns), matrix.shape[0]
        own, into_these = (of_row >= 0) & (of_column >= 0), (of_row >= 0) & (of_column < 0)
        of_these = of_row < 0
        self.own, self.into, self.of = at[own], at[into_these], at[of_these]
        self.row, self.column = of_row[own], of_column[own]
        self.into_column, self.of_column = matrix.indices[self.into], of_column[of_these].astype(np.int32)
        self.into_start = self._starts(of_row[into_these], self.size)
        self.of_start = self._starts(row[of_these], self.whole)

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
    columns : Columns
        Column -1 for those that stand apart.

    Attributes
    ----------
    possible : bool
        False where their own block cannot be solved, as where one is coupled to nothing.
    """

    def __init__(self, matrix: Any, columns: Columns) -> None:
        from scipy.sparse import csr_array

        self._places = columns.placed(_Places, matrix)
        self.unknowns = self._places.unknowns
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

    def exchanged(self, *, transpose: bool) -> tuple[Any, Any]:
        """Return what these unknowns give the others, and what they get from these, as entries of matrices."""
        of, into = (m.T for m in (self._into, self._of)) if transpose else (self._of, self._into)
        return of.tocoo(), into.tocoo()

    def solved(self, right: Array, *, transpose: bool) -> Array:
        """Return the answer of their own block."""
        if self._factors is None:
            return self._inverse * right
        return self._factors.solve(right, transpose=transpose)

    def before(self, right: Array, *, transpose: bool) -> Array:
        """Return a right-hand side from which what these unknowns give the others is taken."""
        gives = self._turned[0] if transpose else self._of
        return np.asarray(right - gives @ self.solved(right[self.unknowns], transpose=transpose))

    def after(self, right: Array, answer: Array, *, transpose: bool) -> None:
        """Put these unknowns into an answer for the others."""
        through = (self._turned[1] if transpose else self._into) @ answer
        answer[self.unknowns] = self.solved(right[self.unknowns] - through, transpose=transpose)
