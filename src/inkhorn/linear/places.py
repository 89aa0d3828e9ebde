"""Where the values of a matrix over columns stand, and vectors laid out over these: found once for many such matrices."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Places"]

Array = NDArray[np.float64]
Single = NDArray[np.float32]
Index = NDArray[np.int64]

_FEW = 0.05  # of the entries that may have no place


class Places:
    """What the layouts of even rectangles and of any columns have in common.

    Attributes
    ----------
    n : int
        Unknowns.
    slot : ndarray of int, (n,)
        The place of each unknown in a vector that is laid out; those that stand apart come last.
    size, tail : int
        Of such a vector, and where those begin.
    apart : ndarray of int
        Unknowns that stand apart.
    other_row, other_column, other_place : ndarray of int, (m,)
        Of the entries that are no couplings of neighbours: unknowns, and where in the data each stands.
    jumps : tuple of ndarray of int
        Couplings across absent layers, one by one: of which unknown, to which, and where in the data each stands.
    paired, fitting : bool
        Whether every coupling has one that leads back, and whether only few entries have no place.
    """

    paired: bool
    jumps: tuple[Index, Index, Index]

    def __init__(self, matrix: Any, slot: Index, tail: int, others: NDArray[np.int64]) -> None:
        self.n, self.indptr, self.tail = matrix.shape[0], matrix.indptr, tail
        self.apart = np.flatnonzero(slot < 0)
        self.size = tail + len(self.apart)
        slot[self.apart] = tail + np.arange(len(self.apart))
        self.slot = slot.astype(np.int32)
        self.other_row, self.other_place = others.T
        self.other_column = matrix.indices[self.other_place]
        self.fitting = len(others) <= _FEW * matrix.nnz
        self._rooms: list[Single] = []

    def lay_out(self, values: Array, to: Single) -> None:
        """Write values of the unknowns to their slots."""
        to[:] = 0.0
        to[self.slot] = values

    @contextmanager
    def room(self, count: int) -> Iterator[Single]:
        """Lend so many vectors, (count, size), in any state but for zeros around the cells; kept for the next."""
        try:
            vectors = self._rooms.pop()
        except IndexError:
            vectors = np.zeros((count, self.size), np.float32)
        if len(vectors) < count:
            vectors = np.zeros((count, self.size), np.float32)
        try:
            yield vectors[:count]
        finally:
            if not self._rooms:
                self._rooms.append(vectors)

    def rest(self, matrix: Any, *, held: bool = False) -> Array:
        """Return the sum of the entries of each row that have no place; those that stand apart not counted where held."""
        value = matrix.data[self.other_place]
        if held:
            value = np.where(self.slot[self.other_column] < self.tail, value, 0.0)
        return np.bincount(self.other_row, value, self.n).astype(np.float64)
