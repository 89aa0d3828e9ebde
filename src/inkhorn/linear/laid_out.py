"""Multigrid cycles on vectors that are laid out over columns, in single precision."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear.apart import Apart
from inkhorn.linear.columns import Columns
from inkhorn.linear.places import Places

__all__ = ["LaidOutCycle"]

Array = NDArray[np.float64]
Single = NDArray[np.float32]


class LaidOutCycle(ABC):
    """One multigrid cycle for a symmetric matrix whose unknowns stand in columns, and the product with the matrix.

    Single precision suffices, for the cycle only guides an iteration.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
        Negative off the diagonal, or nearly so. Of couplings that act one way only what acts both ways is used.
    columns : Columns
        Where its unknowns stand.
    apart : Apart, optional
        Of those that stand apart. If given these are held as they are in the cycle over the others, as suits a network
        that conducts far; else each is taken as level with its cells, as suits wells and lakes.

    Attributes
    ----------
    places : Places
        Where the values of the matrix are.
    possible : bool
        False where the block of unknowns that stand apart cannot be solved: then there is no cycle.
    alike : bool
        Whether all couplings act both ways, so that those of the cycle are those of the matrix.
    """

    alike: bool

    def __init__(self, matrix: Any, columns: Columns, *, apart: Apart | None = None) -> None:
        held = apart is not None
        self.places = self._places(matrix, columns)
        if apart is None and len(self.places.apart):
            apart = Apart(matrix, columns)
        self._apart = apart
        self.possible = apart is None or apart.possible
        if not self.possible:
            return
        self._set_up(matrix, columns, held=held)
        if apart is not None:
            self._beside = _Beside(apart, self.places)

    @abstractmethod
    def _places(self, matrix: Any, columns: Columns) -> Places:
        """Find where its values are."""

    @abstractmethod
    def _set_up(self, matrix: Any, columns: Columns, *, held: bool) -> None:
        """Make the levels, and tell whether all is alike."""

    @abstractmethod
    def twin(self) -> LaidOutCycle:
        """Return the same cycle with room of its own to work in."""

    @abstractmethod
    def cycle(self, right: Single, answer: Single) -> float:
        """Go down and up once; returns the product of right-hand side and answer, but for unknowns that stand apart."""

    @abstractmethod
    def direct_and_multiply(self, z: Single, p: Single, share: float, q: Single) -> float:
        """``p = z + share p`` and ``q = A p`` where all is alike; returns ``p @ q``. But for what has no place."""

    @abstractmethod
    def multiplier(self, matrix: Any) -> Callable[[Single, Single], None]:
        """Return what writes ``A p`` into its second argument, for couplings that need not act both ways."""

    def answer(self, right: Single, answer: Single, *, transpose: bool = False) -> float:
        """Write the answer of one cycle for a right-hand side, both laid out; return their product."""
        if self._apart is None:
            return self.cycle(right, answer)
        return self._beside.around(self.cycle, right, answer, transpose=transpose)

    def precondition(self, right: Array, answer: Array, *, transpose: bool = False) -> float:
        """Write the answer of one cycle for a right-hand side; return their product."""
        places = self.places
        with places.room(2) as (b, x):
            places.lay_out(right, b)
            self.answer(b, x, transpose=transpose)
            answer[:] = x[places.slot]
        return float((answer * right).sum())

    @property
    def apart(self) -> Apart | None:
        """What solves for the unknowns that stand apart."""
        return self._apart


class _Beside:
    """Unknowns that stand apart, around a cycle over the others, on vectors that are laid out."""

    def __init__(self, apart: Apart, places: Places) -> None:
        self._apart, self._tail = apart, places.tail
        self._ways = {}
        for transpose in (False, True):
            of, into = apart.exchanged(transpose=transpose)
            given = places.slot[of.row], of.col, of.data
            first = np.unique(given[0], return_index=True)[1]
            self._ways[transpose] = given, first, (into.row, places.slot[into.col], into.data)

    def around(self, cycle: Any, right: Single, answer: Single, *, transpose: bool) -> float:
        """Eliminate them, go through the cycle, and put them in again; returns the product of both."""
        (slot, number, given), first, (to, from_slot, got) = self._ways[transpose]
        own = right[self._tail :].astype(np.float64)
        alone = self._apart.solved(own, transpose=transpose)
        before = right[slot]
        np.subtract.at(right, slot, (given * alone[number]).astype(np.float32))
        moved = right[slot]
        dot = cycle(right, answer)
        right[slot] = before
        dot += float(((before - moved)[first].astype(np.float64) * answer[slot[first]]).sum())
        own_answer = self._apart.solved(
            own - np.bincount(to, got * answer[from_slot], len(own)), transpose=transpose
        )
        answer[self._tail :] = own_answer
        return dot + float((own * own_answer).sum())
