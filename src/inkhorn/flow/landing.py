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
Way = Literal["whole", "falls", "straight"]

WAYS: tuple[Way, ...] = ("whole", "falls", "straight")
"""What of a cell's law answers: all of it; what falls through its floor and its terms; or nothing but the slopes."""

_ROUNDS = 50
_CLOSE = 1e-6  # of what a step asks of a cell: closer than that it is answered


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
        eq, n = self.equations, len(self.equations.cells)
        there = self.unknowns + share * self.step
        bends = not eq.model.water_table.confined or eq.bending_terms
        if way == "straight" or not bends:
            return eq.settled(there)
        before = self.unknowns[:n]
        there[:n] = self._answered(before, share * self.diagonal * self.step[:n], there, way)
        if not eq.model.water_table.confined:
            _stop_at_base(before, there[:n], eq.cells.bottom, eq.floors[-1])
        there[:n][eq.fixed[:n]] = before[eq.fixed[:n]]
        return eq.settled(there)

    def _answered(self, before: Array, asked: Array, there: Array, way: Way) -> Array:
        """Heads at which each cell's own law, and the slopes of all else, give what is asked: Newton within brackets."""
        from inkhorn.flow import _kernels

        eq, trial = self.equations, there.copy()
        cells, every = eq.cells, np.arange(len(before))

        wet = eq.model.water_table
        shape = (cells.bottom, eq.height, wet.smoothing, wet.blur)

        def law(heads: Array, which: NDArray[np.int64]) -> tuple[Array, Array]:
            trial[: len(before)] = heads
            given, slope = (v[which] for v in eq.own_terms(trial))
            if not wet.confined:
                faces = (wet.film, eq.sides, *eq.floors, way == "whole")
                _kernels.own_faces(which, heads, *shape, *faces, given, slope)
            if eq.step is not None:
                stores = (eq.storage.drains / eq.step.length, eq.storage.elastic / eq.step.length)
                _kernels.own_storage(which, heads, *shape, wet.confined, *stores, given, slope)
            return given, slope

        begun, slope = law(before, every)
        rest = np.maximum(self.diagonal - slope, 0.0)
        heads, open_ = there[: len(before)].copy(), every
        low, high = np.full(len(before), -np.inf), np.full(len(before), np.inf)
        for _ in range(_ROUNDS):
            given, slope = law(heads, open_)
            at, origin = heads[open_], before[open_]
            missing = asked[open_] - (given - begun[open_] + rest[open_] * (at - origin))
            left = np.abs(missing) > _CLOSE * np.abs(asked[open_])
            if not left.any():
                break
            open_ = open_[left]
            at, origin, missing = at[left], origin[left], missing[left]
            slope = slope[left] + rest[open_]
            low[open_] = np.where(missing > 0.0, np.maximum(low[open_], at), low[open_])
            high[open_] = np.where(missing <= 0.0, np.minimum(high[open_], at), high[open_])
            lower, upper = low[open_], high[open_]
            with np.errstate(all="ignore"):
                after = np.where(slope > 0.0, at + missing / slope, np.nan)
                out = np.where(
                    np.isfinite(lower),
                    lower + 2.0 * np.abs(lower - origin) + 1.0,
                    upper - 2.0 * np.abs(upper - origin) - 1.0,
                )
                middle = np.where(np.isfinite(lower + upper), 0.5 * (lower + upper), out)
            heads[open_] = np.where((after > lower) & (after < upper), after, middle)
        return heads


def _stop_at_base(before: Array, heads: Array, base: Array, bend: Array) -> None:
    """Let heads that would fall far below the base of their cell stop about there first, where slopes tell again."""
    wet, damp = before > base + 1.01 * bend, before > base - bend
    deep = heads < base - 1.01 * bend
    heads[deep & wet] = (base + bend)[deep & wet]
    deep &= damp & ~wet
    heads[deep] = (base - 1.01 * bend)[deep]
