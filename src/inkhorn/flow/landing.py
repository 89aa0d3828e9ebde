"""Where a step of Newton's method leads when cells answer by their own laws, not by the slopes of these laws."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from inkhorn.flow.equations import FlowEquations

__all__ = ["WAYS", "Landing", "Way"]

Array = NDArray[np.float64]
Way = Literal["whole", "falls", "shorter", "straight"]

WAYS: tuple[Way, ...] = ("whole", "falls", "shorter", "straight")
"""What of a cell's law answers: all of it; what falls through its floor and its terms; all or the slopes,
whichever moves the head less; or nothing but the slopes."""

_ROUNDS = 50
_CLOSE = 1e-6  # of what a step asks of a cell: closer than that it is answered
_ROUNDING = 1e-15  # of what it is made of


@dataclass(frozen=True, eq=False)
class Landing:
    """The step of all unknowns from where the equations were evaluated.

    The linear system asks every cell for a change of what it gives and stores, and says by how much its head is to
    move for that if all slopes stay as they are. Where they do not, as at the corners of the water table or of a
    drain, the head goes where the cell's own law, which depends on its head alone, gives what is asked.

    Parameters
    ----------
    equations : FlowEquations
    unknowns : ndarray of float, (n_unknowns,)
        Where the step begins.
    step : ndarray of float, (n_unknowns,)
        As the linear system has it; zero where an unknown is fixed.
    diagonal : ndarray of float, (n_cells,)
        Of that system [m²/day].
    """

    equations: FlowEquations
    unknowns: Array
    step: Array
    diagonal: Array

    def at(self, share: float, way: Way) -> Array:
        """Return all unknowns after a share of the step; those of the terms settle afterwards."""
        from inkhorn.flow import _kernels

        eq, n = self.equations, len(self.equations.cells)
        there = self.unknowns + share * self.step
        bends = not eq.model.water_table.confined or any(eq.bending_terms)
        if way == "straight" or not bends:
            return eq.settled(there)
        before = self.unknowns[:n]
        answered = self._answered(before, share * self.diagonal * self.step[:n], there, way)
        if way == "shorter":
            answered = np.where(np.abs(answered - before) < np.abs(there[:n] - before), answered, there[:n])
        there[:n] = answered
        if not eq.model.water_table.confined:
            _kernels.stop_at_base(before, there[:n], eq.cells.bottom, eq.floors[-1])
        there[:n][eq.fixed[:n]] = before[eq.fixed[:n]]
        return eq.settled(there)

    def _answered(self, before: Array, asked: Array, there: Array, way: Way) -> Array:
        """Heads at which each cell's own law, and the slopes of all else, give what is asked: Newton within brackets."""
        from inkhorn.flow import _kernels

        eq, n, wet = self.equations, len(before), self.equations.model.water_table
        stores = (np.zeros(n), np.zeros(n))
        if eq.step is not None:
            stores = (eq.storage.drains / eq.step.length, eq.storage.elastic / eq.step.length)
        common = (wet.smoothing, wet.film, wet.confined, way != "falls")
        laws = (eq.cells.bottom, eq.height, eq.sides, *eq.floors, *stores)
        heads, (plain, bending) = there[:n].copy(), eq.bending_cells
        _kernels.landed(plain, before, asked, self.diagonal, laws, common, _ROUNDS, _CLOSE, _ROUNDING, heads)
        if not len(bending):
            return heads

        trial = there.copy()

        def own_law(at: Array) -> tuple[Array, Array]:
            trial[bending] = at
            given, slope = eq.own_terms(trial)
            _kernels.own_laws(bending, at, laws, common, given, slope)
            return given, slope

        at, origin, asked = heads[bending], before[bending], asked[bending]
        begun, slope = own_law(origin)
        diagonal = self.diagonal[bending]
        # no steeper than the linear system has it
        scale = np.minimum(np.divide(diagonal, slope, out=np.ones(len(at)), where=slope > 0.0), 1.0)
        rest = diagonal - scale * slope
        low, high = np.full(len(at), -np.inf), np.full(len(at), np.inf)
        for _ in range(_ROUNDS):
            given, slope = own_law(at)
            slope = scale * slope + rest
            missing = asked - (scale * (given - begun) + rest * (at - origin))
            exact = np.abs(given) + np.abs(begun) + slope * np.abs(at)
            enough = _CLOSE * np.abs(asked) + _ROUNDING * exact
            open_ = np.flatnonzero(np.abs(missing) > enough)
            if not len(open_):
                break
            _kernels.next_heads(open_, missing, slope, origin, at, low, high)
        heads[bending] = at
        return heads
