"""Iterations over columns in single precision, their residual taken from the matrix again and again."""

from __future__ import annotations

from copy import copy
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.linear import _single_kernels as _loops
from inkhorn.linear.laid_out import LaidOutCycle

__all__ = ["SingleSolver", "Solved"]

Array = NDArray[np.float64]
Single = NDArray[np.float32]

_FALLEN = 1e-4  # of the residual since it was taken from the matrix, when it is taken anew
_LITTLE = 0.1  # of a vector, left after what lies along others is taken out, below which that is done again
_GAINED = 0.1  # of the norm that a round of GMRES may leave, if another is to follow
_VECTORS = 15  # of a GMRES before it begins anew


_NONE = np.empty(0, np.int32), np.empty(0, np.float32)


class Solved(NamedTuple):
    """An answer, what it leaves of the right-hand side, and the cycles it took."""

    answer: Array
    left: Array
    iterations: int


class SingleSolver:
    """Solves a system whose unknowns stand in columns.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    cycle : LaidOutCycle
        Of it.

    References
    ----------
    Saad, Y. and Schultz, M. H. (1986), GMRES: a generalized minimal residual algorithm for solving nonsymmetric linear
    systems, SIAM J. Sci. Stat. Comput. 7(3), 856-869.
    van der Vorst, H. A. and Ye, Q. (2000), Residual replacement strategies for Krylov subspace iterative methods for the
    convergence of true residuals, SIAM J. Sci. Comput. 22(3), 835-852.
    """

    def __init__(self, matrix: Any, cycle: LaidOutCycle) -> None:
        self._matrix, self._cycle = matrix, cycle
        self._places = places = cycle.places
        row, column = places.other_row, places.other_column
        value, beside = matrix.data[places.other_place], row != column
        self._others = (
            places.slot[row[beside]], places.slot[column[beside]], value[beside].astype(np.float32)
        )  # fmt: skip
        drains = np.bincount(row, value, places.n)[places.apart] if len(places.apart) else np.empty(0)
        self._drains = (places.slot[places.apart], drains.astype(np.float32))

    @property
    def possible(self) -> bool:
        """Whether there are few couplings but of neighbours."""
        return self._places.fitting

    @cached_property
    def symmetric(self) -> bool:
        """Whether the matrix is symmetric, and its couplings those that the cycle has."""
        from scipy.sparse import coo_array

        if not self._cycle.alike:
            return False
        places, n = self._places, self._places.n
        value = self._matrix.data[places.other_place]
        others = coo_array((value, (places.other_row, places.other_column)), shape=(n, n)).tocsr()
        off = abs(others - others.T)
        return bool(off.sum() <= 1e-14 * abs(others).sum())

    def with_cycle(self, cycle: LaidOutCycle) -> SingleSolver:
        """Return the same with another twin of its cycle."""
        other = copy(self)
        other._cycle = cycle
        return other

    def solve(self, right: Array, *, tolerance: float, enough: float, max_iterations: int) -> Solved:
        """Solve from zero, by the way that suits the matrix."""
        way = self.conjugate_gradients if self.symmetric else self.gmres
        most = float(np.abs(right).max(initial=0.0))
        if not 0.0 < most < np.inf:
            return Solved(np.zeros_like(right), right, 0)
        by = 2.0 ** round(np.log2(most))  # squares of what is very small or large are beyond single precision
        found = way(right / by, tolerance=tolerance, enough=enough / by, max_iterations=max_iterations)
        return Solved(by * found.answer, by * found.left, found.iterations)

    @cached_property
    def _jumps(self) -> tuple[Any, Any, Single]:
        """Couplings across absent layers."""
        of, to, place = self._places.jumps
        return self._places.slot[of], self._places.slot[to], self._matrix.data[place].astype(np.float32)

    @cached_property
    def _times(self) -> Any:
        """Product with couplings as they act on each unknown."""
        return self._cycle.multiplier(self._matrix)

    def conjugate_gradients(
        self, right: Array, *, tolerance: float, enough: float, max_iterations: int
    ) -> Solved:
        """Solve a symmetric system from zero.

        Single precision suffices for all but the answer, where the residual is taken from the matrix whenever it has
        fallen far enough.
        """
        with self._places.room(4) as vectors:
            return self._conjugated(right, vectors, tolerance, enough, max_iterations)

    def _conjugated(
        self, right: Array, vectors: Single, tolerance: float, enough: float, max_iterations: int
    ) -> Solved:
        cycle = self._cycle
        places = self._places
        tail = places.tail
        r, z, p, q = vectors
        p[:] = 0.0
        moved = np.zeros(places.size)
        places.lay_out(right, r)
        goal = (tolerance**2) * float(np.square(right).sum())
        before, taken_at, last = 0.0, float(np.abs(right).sum()), np.inf
        for iteration in range(1, max_iterations + 1):
            measure = cycle.answer(r, z)
            share = measure / before if before > 0.0 else 0.0
            curvature = cycle.direct_and_multiply(z, p, share, q)
            if len(places.apart):
                p[tail:] = z[tail:] + np.float32(share) * p[tail:]
                q[tail:] = 0.0
            curvature += _loops.add_others(*self._others, *self._drains, p, q)
            done = not curvature > 0.0 or not measure > 0.0 or iteration == max_iterations
            if curvature > 0.0 and measure > 0.0:
                squares, absolute = _loops.advance(moved, r, p, q, measure / curvature)
                before = measure
                if not (squares <= goal or absolute <= max(enough, _FALLEN * taken_at) or done):
                    continue
            answer = moved[places.slot]
            left = right - self._matrix @ answer
            taken_at = float(np.abs(left).sum())
            enough_is_left = taken_at <= enough or float(np.square(left).sum()) <= goal
            if done or enough_is_left or taken_at > 0.5 * last:
                break
            last = taken_at
            places.lay_out(left, r)
        return Solved(answer, left, iteration)

    def gmres(self, right: Array, *, tolerance: float, enough: float, max_iterations: int) -> Solved:
        """Solve a system whose couplings need not act both ways, from zero.

        It ends early where a round gains little, as where cells are dry: then single precision does not suffice.
        """
        answer, left, taken = np.zeros_like(right), right, 0
        goal, last = tolerance * float(np.sqrt(np.square(right).sum())), np.inf
        while taken < max_iterations:
            size = float(np.sqrt(np.square(left).sum()))
            absolute = float(np.abs(left).sum())
            if size <= goal or absolute <= enough or size > _GAINED * last:
                break
            with self._places.room(2 * _VECTORS + 1) as vectors:
                # sums of absolute values are taken from the norm, as both fall alike
                fall = max(goal / size, min(enough / absolute, 1.0), _FALLEN)
                step, used = self._gmres(left, vectors, fall, max_iterations - taken)
            taken += used
            there = answer + step
            rest = right - self._matrix @ there
            if not float(np.square(rest).sum()) < size**2:
                break
            answer, left, last = there, rest, size
        return Solved(answer, left, taken)

    def _gmres(self, right: Array, vectors: Single, tolerance: float, most: int) -> tuple[Array, int]:
        """Some steps of GMRES from zero, until the norm has fallen so far; the correction, and cycles."""
        places = self._places
        basis, ways = vectors[: _VECTORS + 1], vectors[_VECTORS + 1 :]
        places.lay_out(right, basis[0])
        size = float(np.sqrt(np.square(right).sum()))
        _loops.scale(basis[0], 1.0 / size, basis[0])
        hessenberg, turned = np.zeros((_VECTORS + 1, _VECTORS)), np.zeros(_VECTORS + 1)
        turned[0] = size
        turns, along = np.zeros((_VECTORS, 2)), np.zeros(_VECTORS + 1)
        used = 0
        for m in range(min(_VECTORS, most)):
            self._cycle.answer(basis[m], ways[m])
            self._multiply(ways[m], basis[m + 1])
            column = hessenberg[:, m]
            length = 0.0
            for _ in range(
                2
            ):  # once more where little is left of it: that is not at right angles to them yet
                _loops.products(basis, m + 1, basis[m + 1], along)
                column[: m + 1] += along[: m + 1]
                length = np.sqrt(_loops.combine(basis, m + 1, -along, basis[m + 1]))
                if length > _LITTLE * np.sqrt(np.square(along[: m + 1]).sum()) or length == 0.0:
                    break
            column[m + 1] = length
            for k in range(m):
                c, s = turns[k]
                column[k], column[k + 1] = (
                    c * column[k] + s * column[k + 1],
                    c * column[k + 1] - s * column[k],
                )
            radius = float(np.hypot(column[m], column[m + 1]))
            used = m + 1
            if not radius > 0.0 or not np.isfinite(radius):
                used = m
                break
            c, s = turns[m] = column[m] / radius, column[m + 1] / radius
            column[m], column[m + 1] = radius, 0.0
            turned[m], turned[m + 1] = c * turned[m], -s * turned[m]
            if abs(turned[m + 1]) <= tolerance * size or length == 0.0:
                break
            _loops.scale(basis[m + 1], 1.0 / length, basis[m + 1])
        step = basis[0]
        step[:] = 0.0
        if used:
            factors = np.linalg.solve(np.triu(hessenberg[:used, :used]), turned[:used])
            _loops.combine(ways, used, factors, step)
        return step[places.slot].astype(np.float64), max(used, 1)

    def _multiply(self, p: Single, q: Single) -> None:
        """``q = A p``."""
        q[self._places.tail :] = 0.0
        self._times(p, q)
        _loops.add_others(*self._jumps, *_NONE, p, q)
        _loops.add_others(*self._others, *self._drains, p, q)
