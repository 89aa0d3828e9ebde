"""One step of a species: low flows that keep every bound, high ones that are sharp, and what lies between.

A step is taken twice. The low flows are upstream and between neighbours only, explicit where a step is shorter than
the water stays in a cell and as implicit as need be elsewhere, so that concentrations stay within bounds for steps of
any length. The high flows come from concentrations that change evenly within cells (third order where the mesh is
even) after two stages of a Runge-Kutta method. Each cell then takes as much of the difference as keeps it within the
bounds of its neighbourhood; what one cell takes another gives, so that no mass is lost. A second round takes more of it.

References
----------
Zalesak, S. T. (1979), Fully multidimensional flux-corrected transport algorithms for fluids, J. Comput. Phys. 31,
335-362.
Schär, C. and Smolarkiewicz, P. K. (1996), A synchronous and iterative flux-correction formalism for coupled transport
equations, J. Comput. Phys. 128, 101-120 (rounds).
van Leer, B. (1985), Upwind-difference methods for aerodynamic problems governed by the Euler equations, Lectures in
Applied Mathematics 22, 327-336 (kappa schemes).
Burg, C. (2005), Higher order variable extrapolation for unstructured finite volume RANS flow solvers, AIAA Paper
2005-4999.
Wicker, L. J. and Skamarock, W. C. (2002), Time-splitting methods for elastic models using forward time schemes, Monthly
Weather Review 130, 2088-2097 (the stages).
Ascher, U. M., Ruuth, S. J. and Spiteri, R. J. (1997), Implicit-explicit Runge-Kutta methods for time-dependent partial
differential equations, Applied Numerical Mathematics 25, 151-167, section 2.6 (stages where cells are stiff).
Weller, H., Woodfield, J., Kühnlein, C. and Smolarkiewicz, P. K. (2023), Adaptively implicit MPDATA advection for
arbitrary Courant numbers and meshes, Quarterly Journal of the Royal Meteorological Society 149, 369-388 (implicit as
need be).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear import LinearSystem
from inkhorn.threads import worth_sharing
from inkhorn.transport import _kernels
from inkhorn.transport.neighbours import Neighbours

__all__ = ["COURANT", "Crossing", "Pores", "Stepper"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]
Mask = NDArray[np.bool_]

COURANT = 0.8  # of a cell's water that may leave in an explicit step
_DIRECT_BELOW = 300  # unknowns that are factored
_EXACT = 1e-13  # of the right-hand side, which is a concentration: how well the others are solved for
_GAMMA = 1.0 - np.sqrt(0.5)  # of Ascher, Ruuth and Spiteri
_ROUNDS = 2  # of the limiter
_PICARD = 30  # rounds for what sorbs by a curve


@dataclass(frozen=True, eq=False)
class Crossing:
    """How a species crosses faces, and what happens in cells, while the flow of water does not change.

    Attributes
    ----------
    across : ndarray of float, (n_faces,)
        Water [m³/day].
    mixing : ndarray of float, (n_faces,)
        Dispersion by the difference of the two cells [m³/day].
    cross : ndarray of float, (n_faces, 3)
        And by the gradient beside that [m⁴/day].
    height : ndarray of float, (n_cells,)
        Of the water [m].
    wet, held : ndarray of bool, (n_cells,)
        Where concentrations are told to change within cells; where they are given.
    leaving : ndarray of float, (n_cells,)
        What leaves at the cell's own concentration [m³/day].
    links : tuple of ndarray
        From which cell to which wells hand water on, and how much [m³/day].
    upright : ndarray of float, (2 n_faces,)
        Weights of gradients, with those in columns.
    """

    across: Array
    mixing: Array
    cross: Array
    height: Array
    wet: Mask
    held: Mask
    leaving: Array
    links: tuple[Index, Index, Array]
    upright: Array


def _loops(count: int) -> Any:
    """The loops over so many cells."""
    return _kernels.SHARED if worth_sharing(count) else _kernels.ALONE


@dataclass(frozen=True, eq=False)
class Pores:
    """What holds a species in each cell: water, and ground that it sorbs to, by a law.

    Attributes
    ----------
    kind : int
        Of the law; see `inkhorn.transport._kernels`.
    one, two : ndarray of float, (n_cells,)
        Its two numbers.
    """

    kind: int
    one: Array
    two: Array

    def mass(self, water: Array, ground: Array, c: Array) -> Array:
        """Return what cells hold at a concentration, (n_cells,) [g]."""
        made = np.empty_like(c)
        _loops(len(c)).masses(self.kind, self.one, self.two, water, ground, c, made)
        return made

    def concentration(self, water: Array, ground: Array, mass: Array, c: Array) -> Array:
        """Return the concentration at which cells hold a mass; those that can hold none keep theirs."""
        made = c.copy()
        _loops(len(c)).concentrations(self.kind, self.one, self.two, water, ground, mass, made)
        return made

    def sorbed_over(self, c: Array) -> Array:
        """Return what is sorbed per mass of ground over the concentration, (n_cells,) [m³/g]."""
        if self.kind == _kernels.LINEAR:
            return self.one
        little = np.maximum(c, 1e-12 * max(float(np.abs(c).max(initial=0.0)), 1e-30))
        return self.mass(np.zeros_like(c), np.ones_like(c), little) / little


class Stepper:
    """Takes steps of one length while the flow of water does not change.

    Parameters
    ----------
    near : Neighbours
        Of the grid.
    crossing : Crossing
        Of the species.
    pores : Pores
        What holds it.
    carried, residence : ndarray of float, (n_cells,)
        The shortest time that what is held stays in each cell, by what water carries off alone and by all [day].
    length : float
        Of the steps [day].
    sharp : bool
        False leaves the low flows as they are.
    """

    def __init__(
        self,
        near: Neighbours,
        crossing: Crossing,
        pores: Pores,
        carried: Array,
        residence: Array,
        length: float,
        sharp: bool = True,
    ) -> None:
        self.loops = _loops(len(residence))
        self.near, self.crossing, self.pores, self.length, self.sharp = near, crossing, pores, length, sharp
        n, m = len(residence), len(near.a)
        courant = length / np.maximum(residence, 1e-300)
        stiff = (courant > COURANT * (1.0 + 1e-9)) & ~crossing.held
        self.theta = np.where(stiff, np.maximum(0.5, 1.0 - 1.0 / np.maximum(courant, 1.0)), 0.0)
        if not sharp:
            self.theta = np.where(crossing.held, 0.0, 1.0)
        implicit = self.theta > 0.0
        self.unknown = implicit.copy()
        mixes = crossing.mixing > 0.0
        self.unknown[near.b[mixes & implicit[near.a]]] = True
        self.unknown[near.a[mixes & implicit[near.b]]] = True
        self.cells = np.flatnonzero(self.unknown)
        self._low, self._high = np.empty(m), np.empty(m)
        self._mass = np.empty(n)
        self._gradient = np.empty((n, 3))
        self._room = np.empty((2, n))
        self._hands_on = np.zeros(n, dtype=bool)
        self._hands_on[crossing.links[0]] = True
        self._stiff, self._none = implicit, np.zeros(n, dtype=bool)
        # where water stays shorter than half a step what is corrected explicitly would swing: the low flows stay
        times = length / np.maximum(carried, 1e-300) / COURANT
        self._corrected = np.clip(2.0 - times, 0.0, 1.0)
        self._systems: dict[str, tuple[Array, LinearSystem]] = {}

    @property
    def share_implicit(self) -> float:
        """Share of the cells that are not explicit."""
        return len(self.cells) / max(len(self.theta), 1)

    def step(
        self,
        c0: Array,
        mass0: Array,
        water: tuple[Array, Array],
        ground: tuple[Array, Array],
        brought: Array,
        within: tuple[Array, Array],
    ) -> tuple[Array, Array, Array]:
        """Take a step.

        Parameters
        ----------
        c0, mass0 : ndarray of float, (n_cells,)
            Concentrations [g/m³] and masses [g] at its begin.
        water, ground : tuple of ndarray of float, (n_cells,)
            At its begin and its end [m³], [g].
        brought : ndarray of float, (n_cells,)
            By water from outside, and by itself [g/day].
        within : tuple of ndarray of float, (n_cells,)
            Least and greatest concentration of the water that comes from outside; infinite the other way where none does.

        Returns
        -------
        c1, mass1 : ndarray of float, (n_cells,)
            At its end.
        leaves : ndarray of float, (n_cells,)
            The mean concentration of what left with `leaving` [g/m³].
        """
        x, near, pores, length = self.crossing, self.near, self.pores, self.length
        c_low = self._low_end(c0, mass0, water, ground, brought)
        at_links = self._mean(c0, c_low)
        into = brought if not len(x.links[0]) else brought + self._handed_on(at_links, len(c0))
        low, high = self._low, self._high
        self.loops.low_flows(near.a, near.b, x.across, x.mixing, c0, c_low, self.theta, low)
        leaves, mass = at_links, self._mass
        self.loops.held_after(
            near.first, near.face, near.way, low, mass0, into, x.leaving, leaves, length, mass
        )
        c_low = pores.concentration(water[1], ground[1], mass, c_low)
        c_low[x.held] = c0[x.held]
        if not self.sharp:
            return c_low, mass.copy(), leaves
        middle = self._high_flows(c0, c_low, mass0, water, ground, into)
        self.loops.faded(near.a, near.b, self._corrected, low, high)
        self.loops.faded_within(self._corrected, self._hands_on, c0, c_low, leaves, middle)
        take, give = self._room
        for _ in range(_ROUNDS):  # what one round has room for gives room to the next
            self.loops.room(
                near.first, near.near, near.face, near.way, high, low, length, pores.kind, pores.one, pores.two, water[1],
                ground[1], x.wet, x.held, *within, x.leaving, leaves, middle, c0, c_low, mass, take, give,
            )  # fmt: skip
            self.loops.limited(near.a, near.b, high, low, take, give)
            self.loops.limited_within(x.leaving, take, give, middle, leaves)
            self.loops.held_after(
                near.first, near.face, near.way, low, mass0, into, x.leaving, leaves, length, mass
            )
        c1 = pores.concentration(water[1], ground[1], mass, c_low)
        c1[x.held] = c0[x.held]
        return c1, mass.copy(), leaves

    def across(self) -> Array:
        """Return the flow of mass across each face in the last step, (n_faces,) [g/day]."""
        return self._low.copy()

    def _mean(self, c0: Array, c1: Array) -> Array:
        return (1.0 - self.theta) * c0 + self.theta * c1 if len(self.cells) else c0.copy()

    def _handed_on(self, c: Array, n: int) -> Array:
        out, to, rate = self.crossing.links
        return np.asarray(np.bincount(to, rate * c[out], n), dtype=np.float64)

    def _high_flows(
        self,
        c0: Array,
        c_low: Array,
        mass0: Array,
        water: tuple[Array, Array],
        ground: tuple[Array, Array],
        brought: Array,
    ) -> Array:
        """Write the high flows; return the concentrations in the middle of the step that they come from."""
        on_way = middle = c0
        if len(self.cells):
            on_way, middle = self._stiff_stages(c0, c_low, mass0, water, ground, brought)
        self._flows_of(c0)
        first = self._stage(1.0 / 3.0, c0, on_way, c0, mass0, water, ground, brought)
        self._flows_of(first)
        c = self._stage(0.5, c0, middle, first, mass0, water, ground, brought)
        self._flows_of(c)
        return c

    def _flows_of(self, c: Array, without: Mask | None = None) -> None:
        """Write the high flows of concentrations, in part where cells are stiff."""
        x, near = self.crossing, self.near
        self.loops.gradients(near.first, near.middle, near.near, x.upright, near.w2, x.wet, c, self._gradient)
        self.loops.high_flows(
            near.a, near.b, near.n_sides, x.across, x.mixing, x.cross, near.arm, near.share, x.height, x.wet, c,
            self._gradient, self._none if without is None else without, self._high,
        )  # fmt: skip

    def _stage(
        self,
        share: float,
        c0: Array,
        on_way: Array,
        c: Array,
        mass0: Array,
        water: Any,
        ground: Any,
        brought: Array,
    ) -> Array:
        """Return concentrations after a share of the step by high flows; given ones where cells are implicit."""
        x, near, pores, out = self.crossing, self.near, self.pores, np.empty_like(c0)
        self.loops.stage(
            near.first, near.face, near.way, self._high, mass0, brought, x.leaving, pores.kind, pores.one, pores.two,
            water[0], water[1], ground[0], ground[1], share, self.length, self.unknown, x.held, c0, on_way, c, out,
        )  # fmt: skip
        return out

    def _stiff_stages(
        self, c0: Array, c_low: Array, mass0: Array, water: Any, ground: Any, brought: Array
    ) -> tuple[Array, Array]:
        """Return concentrations early in the step, and in its middle, where cells are implicit: second order in time."""
        cells, length = self.cells, self.length
        by_secant = self.pores.sorbed_over(c_low)
        early = [w + _GAMMA * (v - w) for w, v in (water, ground)]
        holds = [early[0] + early[1] * by_secant, water[1] + ground[1] * by_secant]
        before = mass0[cells]
        if self.pores.kind != _kernels.LINEAR:
            before = (water[0] + ground[0] * by_secant)[cells] * c0[
                cells
            ]  # by the same secant, so that it is even
        self._flows_of(c0, self._stiff)
        rate = self._explicit_rates(c0, brought)
        first = self._solve_stiff(holds[0], before + length * _GAMMA * rate, c0, c_low, _GAMMA)
        implicit = holds[0][cells] * first[cells] - before - length * _GAMMA * rate
        self._flows_of(first, self._stiff)
        delta = 1.0 - 0.5 / _GAMMA
        later = delta * rate + (1.0 - delta) * self._explicit_rates(first, brought)
        right = before + length * later + (1.0 - _GAMMA) / _GAMMA * implicit
        last = self._solve_stiff(holds[1], right, c0, c_low, 1.0)
        return first, (1.0 - _GAMMA) * first + _GAMMA * last

    def _explicit_rates(self, c: Array, brought: Array) -> Array:
        x, near, rate = self.crossing, self.near, np.empty(len(self.cells))
        _kernels.explicit_rates(
            near.first, near.face, near.way, self.cells, self._high, brought, x.leaving, self._stiff, c, rate
        )
        return rate

    # --- the part that is implicit ------------------------------------------------------------------

    def _low_end(
        self, c0: Array, mass0: Array, water: tuple[Array, Array], ground: tuple[Array, Array], brought: Array
    ) -> Array:
        """Return the concentrations at the end by the low flows, where they are implicit; else those of the begin."""
        c1 = c0.copy()
        if not len(self.cells):
            return c1
        cells, pores = self.cells, self.pores
        curved = pores.kind != _kernels.LINEAR
        if not curved:
            return self._solved(c0, mass0, water[1] + ground[1] * pores.one, brought)
        guess = c1
        for _ in range(_PICARD):  # by the secant of what is held
            little = np.maximum(guess, 1e-12 * max(float(np.abs(c0).max()), 1e-30))
            hold = pores.mass(water[1], ground[1], little) / little
            new = np.maximum(self._solved(c0, mass0, hold, brought), 0.0)
            change = float(np.abs(new[cells] - guess[cells]).max())
            guess = new
            if change <= 1e-10 * float(new.max(initial=0.0)):
                break
        return guess

    def _solved(self, c0: Array, mass0: Array, hold: Array, brought: Array) -> Array:
        x = self.crossing
        given = brought
        out, to, rate = x.links
        if len(out):
            given = brought + np.bincount(to, rate * (1.0 - self.theta[out]) * c0[out], len(c0))
        system, right, _ = self._system_for("low", self.theta, self.length, hold, x.held, given, mass0, c0)
        c1 = c0.copy()
        c1[self.cells] = system.solve(right, tolerance=_EXACT)
        return c1

    def _solve_stiff(self, hold: Array, right: Array, c0: Array, c_low: Array, part: float) -> Array:
        """Solve for the implicit cells where stiff ones, and what mixes with them, are so for a part of the step."""
        given = self.crossing.held | (hold <= 0.0)
        zero = np.zeros_like(hold)
        system, _, diagonals = self._system_for(
            "high", self._stiff.astype(np.float64), _GAMMA * self.length, hold, given, zero, zero, c_low
        )
        c = c0 + part * (c_low - c0)  # of those that are explicit
        amount = np.where(given[self.cells], c_low[self.cells], right / diagonals)
        c[self.cells] = system.solve(amount, tolerance=_EXACT)
        return c

    def _system_for(
        self,
        name: str,
        theta: Array,
        length: float,
        hold: Array,
        held: Mask,
        brought: Array,
        mass0: Array,
        c0: Array,
    ) -> tuple[LinearSystem, Array, Array]:
        """Return the system of the implicit cells, anew where what they hold has changed, its right side and scale."""
        x, near, cells = self.crossing, self.near, self.cells
        n = len(c0)
        number = np.full(n, -1, dtype=np.int64)
        number[cells] = np.arange(len(cells))
        most = len(cells) + int((near.first[cells + 1] - near.first[cells]).sum())
        indptr, indices = np.empty(len(cells) + 1, np.int32), np.empty(most, np.int32)
        data, (right, diagonals) = np.empty(most), np.empty((2, len(cells)))
        count = _kernels.implicit_system(
            near.first, near.near, near.face, near.way, number, cells, x.across, x.mixing, x.leaving, theta, length,
            hold[cells], held, brought, mass0, c0, indptr, indices, data, right, diagonals,
        )  # fmt: skip
        known = self._systems.get(name)
        if known is not None and np.array_equal(known[0], hold[cells]):
            return known[1], right, diagonals
        from scipy.sparse import coo_array, csr_array

        matrix: Any = csr_array((data[:count], indices[:count], indptr), shape=(len(cells), len(cells)))
        out, to, rate = x.links
        inner = (theta[out] > 0.0) & (number[to] >= 0) & (name == "low")  # else told from outside
        if inner.any():
            entries = -length * rate[inner] * theta[out[inner]] / diagonals[number[to[inner]]]
            matrix = (
                matrix
                + coo_array((entries, (number[to[inner]], number[out[inner]])), shape=matrix.shape).tocsr()
            )
        matrix.sum_duplicates()
        system = LinearSystem(matrix, direct=len(cells) < _DIRECT_BELOW, dominant=True)
        self._systems[name] = (hold[cells].copy(), system)
        return system, right, diagonals
