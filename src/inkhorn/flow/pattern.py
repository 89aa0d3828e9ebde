"""Where the derivative of the flow balance has entries: found once, filled again for every step of Newton's method."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Pattern"]

Index = NDArray[np.int64]


class Pattern:
    """The places of a sparse square matrix over all unknowns.

    Parameters
    ----------
    rows : scipy.sparse.csr_array, (n_faces, n_cells)
        Face rows; the first two entries of each belong to the cells on either side.
    n_unknowns : int
        Cells first.
    free : ndarray of int
        Unknowns that are solved for.
    """

    def __init__(self, rows: Any, n_unknowns: int, free: Index) -> None:
        self.rows, self.n_unknowns, self.free = rows, n_unknowns, free
        self.start: Index | None = (
            None  # found with the first entries, of which there may be some besides those of faces
        )

    @cached_property
    def divergence(self) -> Any:
        """What comes into each cell of the flows across faces, (n_cells, n_faces)."""
        from scipy.sparse import csr_array

        begin, n_faces = self.rows.indptr[:-1], len(self.rows.indptr) - 1
        pairs = np.column_stack([self.rows.indices[begin], self.rows.indices[begin + 1]]).ravel()
        entries = (np.tile([-1.0, 1.0], n_faces), pairs, np.arange(0, 2 * n_faces + 1, 2))
        return csr_array(entries, shape=self.rows.shape).T.tocsr()

    def _find(self, row: Index, column: Index) -> None:
        """Find the places of all face rows, the diagonal, and entries besides."""
        from inkhorn.flow import _pattern_kernels as _kernels

        indptr, indices, n = self.rows.indptr, self.rows.indices, self.n_unknowns
        self.start, self.column = _kernels.pattern(indptr, indices, row, column, n)
        self._place = np.empty((len(indices), 2), np.int32)
        _kernels.face_places(indptr, indices, self.start, self.column, self._place)
        self.diagonal = _kernels.diagonals(self.start, self.column)
        if len(self.free) == n:
            self._among = None
            return
        of = np.repeat(np.arange(n), np.diff(self.start))
        number = np.full(n, -1)
        number[self.free] = np.arange(len(self.free))
        kept = np.flatnonzero((number[of] >= 0) & (number[self.column] >= 0))
        counts = np.bincount(number[of[kept]], minlength=len(self.free))
        start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
        self._among = (kept, number[self.column[kept]].astype(np.int32), start)

    def filled(
        self,
        face_slope: NDArray[np.float64],
        diagonal: NDArray[np.float64],
        row: Index,
        column: Index,
        value: NDArray[np.float64],
    ) -> Any:
        """Return the derivative, (n_unknowns, n_unknowns).

        Parameters
        ----------
        face_slope : ndarray of float, (n_entries of the face rows,)
            Of the flow across each face, by the head of each entry.
        diagonal : ndarray of float, (n_unknowns,)
            What comes to the diagonal besides.
        row, column, value : ndarray, (n,)
            Entries besides; repeats add up.
        """
        from scipy.sparse import csr_array

        from inkhorn.flow import _pattern_kernels as _kernels

        if self.start is None:
            self._find(row, column)
        data = np.zeros(len(self.column))
        if not _kernels.put_entries(row, column, value, self.start, self.column, data):
            self._find(row, column)
            data = np.zeros(len(self.column))
            _kernels.put_entries(row, column, value, self.start, self.column, data)
        _kernels.put_faces(self._place, face_slope, data)
        _kernels.put_diagonal(self.diagonal, diagonal, data)
        return csr_array((data, self.column, self.start), shape=(self.n_unknowns, self.n_unknowns))

    def among_free(self, matrix: Any) -> Any:
        """Return the part of such a matrix that belongs to the unknowns solved for, reversed: positive definite."""
        from scipy.sparse import csr_array

        if self._among is None:
            return csr_array((-matrix.data, self.column, self.start), shape=matrix.shape)
        kept, column, start = self._among
        return csr_array((-matrix.data[kept], column, start), shape=(len(self.free), len(self.free)))
