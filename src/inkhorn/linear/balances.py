"""Small systems of balances, factored again and again with other values in the same places."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["BALANCES", "Balances", "Factors"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

BALANCES: dict[str, Any] = {
    "permc_spec": "MMD_AT_PLUS_A",
    "diag_pivot_thresh": 0.0,
    "options": {"SymmetricMode": True},
}
"""How balances are factored, whose diagonals outweigh their rows: half the fill of what any matrix needs."""
_IN_ORDER = {**BALANCES, "permc_spec": "NATURAL", "relax": 2, "panel_size": 1}
"""The same where the unknowns stand in the best order already."""


@dataclass(frozen=True, eq=False)
class Factors:
    """Of one matrix."""

    lu: Any
    order: Index
    place: Index

    def solve(self, right: Array, *, transpose: bool = False) -> Array:
        """Solve for one right-hand side, (n,)."""
        return np.asarray(self.lu.solve(right[self.order], trans="T" if transpose else "N")[self.place])


class _Standing(NamedTuple):
    """Places by columns: the row and the column of each, where those of each column begin, and at which each value is."""

    row: Index
    column: Index
    start: Index
    at: Index


def _standing(row: Index, column: Index, n: int) -> _Standing:
    keys, at = np.unique(column * n + row, return_inverse=True)
    columns, rows = np.divmod(keys, n)
    start = np.concatenate([[0], np.cumsum(np.bincount(columns, minlength=n))])
    return _Standing(rows.astype(np.int32), columns, start.astype(np.int32), at)


class Balances:
    """Where a matrix has entries, and in which order its unknowns are eliminated with little fill; found once.

    Parameters
    ----------
    row, column : ndarray of int, (m,)
        Of each value; those at one place are added up. Every unknown has one on the diagonal.
    n : int
        Unknowns.
    """

    def __init__(self, row: Index, column: Index, n: int) -> None:
        from scipy.sparse import csc_array
        from scipy.sparse.linalg import splu

        self._n = n
        known = _standing(row, column, n)
        diagonal = known.row == known.column
        values = np.where(diagonal, 2.0 * len(diagonal), -1.0)  # the order depends on the places alone
        found = splu(csc_array((values, known.row, known.start), shape=(n, n)), **BALANCES)
        self._place: Index = found.perm_c.astype(np.int64)
        self._order: Index = np.argsort(self._place)
        self._standing = _standing(self._place[known.row], self._place[known.column], n)
        self._at: Index = self._standing.at[known.at]

    def factored(self, values: Array) -> Factors:
        """Return the factors.

        Parameters
        ----------
        values : ndarray of float, (m,)

        Raises
        ------
        RuntimeError
            If the matrix is singular.
        """
        from scipy.sparse import csc_array
        from scipy.sparse.linalg import splu

        data = np.bincount(self._at, values, len(self._standing.row))
        matrix = csc_array((data, self._standing.row, self._standing.start), shape=(self._n, self._n))
        return Factors(splu(matrix, **_IN_ORDER), self._order, self._place)
