"""A network of pipes solved for heads in the rock that are given: one Newton step costs a small sparse system."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits.laws import Flowing, Pipes, law_at, passed_at, standing_at

__all__ = ["TIED", "Network", "Places"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

TIED = 1e-6
"""m²/day that ties the level of a dry node to its bed."""
_DONE = 1e-10  # of all that flows: what is left of the balances together
_STEPS, _SLOW = 40, 6  # of Newton's method; and those in which what is left has to fall to a tenth
_TRIALS, _RAISED = 6, 100.0
_FIRST_TIME, _LONGER, _SHORTER = 1e-4, 5.0, 0.2  # day: towards the state of rest
_LAST_TIME = 1e7  # day
_WITHIN, _EASY, _TIMES = (
    20,
    6,
    200,
)  # steps of Newton's method in one of these at most, and in an easy one; and of these
_ENOUGH = 1e-3  # of what such a step begins with
_NEARLY, _LITTLE = (
    0.1,
    1e-3,
)  # of what it begins with, and of all that flows: then the rock's steps do the rest


class Places:
    """Where the balance of each node has entries, by pipes and by itself; found once.

    Parameters
    ----------
    first, second : ndarray of int, (n_pipes,)
    n : int
        Nodes.
    """

    def __init__(self, first: Index, second: Index, n: int) -> None:
        from inkhorn.linear import Balances

        node = np.arange(n)
        row = np.concatenate([first, first, second, second, node])
        column = np.concatenate([first, second, first, second, node])
        self._balances = Balances(row, column, n)

    def solved_by(self, by_pipe: list[Array], own: Array, right: Array) -> Array:
        """Solve for the heads.

        Parameters
        ----------
        by_pipe : list of ndarray of float, (n_pipes,)
            Of what leaves the first end of each pipe, by the heads at both ends; and the same of its second end, which it
            enters.
        own : ndarray of float, (n,)
            Of what leaves each node besides, by its head.
        right : ndarray of float, (n,)
        """
        data = np.concatenate([by_pipe[0], by_pipe[1], -by_pipe[2], -by_pipe[3], own])
        try:
            return self._balances.factored(data).solve(right)
        except RuntimeError:  # singular
            return np.full(len(right), np.nan)


@dataclass(frozen=True, eq=False)
class Network:
    """Pipes, what holds their nodes, and the rock around them as it is.

    Attributes
    ----------
    pipes : Pipes
    places : Places
    bed : ndarray of float, (n_nodes,)
        Lowest of each node [m].
    held : ndarray of bool, (n_nodes,)
        Whose level is given.
    level : ndarray of float, (n_nodes,)
        Of those [m].
    let_in : ndarray of float, (n_nodes,)
        [m³/day].
    exchange : ndarray of float, (n_pipes,)
        [m/day].
    outside : ndarray of float, (n_pipes,)
        Heads in the rock [m].
    shaft_area : ndarray of float, (n_nodes,)
        [m²].
    weight : ndarray of float, (n_nodes,)
        What balances of flows count in the equations of a step.
    length : float
        Of the step [day]; infinite when steady.
    stored : ndarray of float, (n_nodes,)
        At its begin [m³].
    """

    pipes: Pipes
    places: Places
    bed: Array
    held: NDArray[np.bool_]
    level: Array
    let_in: Array
    exchange: Array
    outside: Array
    shaft_area: Array
    weight: Array
    length: float
    stored: Array

    def solved(self, heads: Array, flows: Array) -> tuple[Array, Array]:
        """Return heads at the nodes and flows in the pipes at which all balances close.

        Newton's method on both; where that leads nowhere, as where pipes fall dry, on the heads alone in implicit steps
        towards the state of rest, in which each node stores water (pseudo-transient continuation: Kelley & Keyes, 1998,
        SIAM Journal on Numerical Analysis 35): every flow rises with the head it comes from, so that each such step has
        one solution.

        Parameters
        ----------
        heads : ndarray of float, (n_nodes,)
            To begin with [m].
        flows : ndarray of float, (n_pipes,)
            To begin with [m³/day].
        """
        heads = np.where(self.held, self.level, heads)
        found = self._by_newton(heads, flows)
        return self._by_rest(heads, flows) if found is None else found[:2]

    # --- what is left over -----------------------------------------------------------------------------

    def _left(self, heads: Array, flows: Array) -> tuple[Array, Array, float]:
        """What is left of each node's balance, its slope by its own head besides pipes, and all that moves."""
        p, n = self.pipes, len(heads)
        passed, by_head, _ = passed_at(p, self.exchange, heads, self.outside)
        dry = np.maximum(self.bed - heads, 0.0)
        through = np.bincount(p.second, flows, n) - np.bincount(p.first, flows, n)
        balance = through - np.bincount(p.wall_node, passed, n) + self.let_in + TIED * dry
        left = self.weight * balance
        own = self.weight * (np.bincount(p.wall_node, by_head, n) + TIED * (dry > 0.0))
        moved = np.abs(self.let_in).sum() + np.abs(passed).sum() + np.abs(through[self.held]).sum()
        if np.isfinite(self.length):
            water, by_water, _ = standing_at(p, heads)
            stored = np.bincount(p.nodes, water, n) + self.shaft_area * heads
            change = (stored - self.stored) / self.length
            left = left - change
            own = own + (np.bincount(p.nodes, by_water, n) + self.shaft_area) / self.length
            moved += np.abs(change[~self.held]).sum()
        left[self.held] = 0.0
        return left, own, float(moved)

    def _step(self, law: Flowing, left: Array, own: Array) -> tuple[Array, Array]:
        """A step of Newton's method in heads and flows."""
        p, n = self.pipes, len(left)
        eased = -1.0 / law.by_flow
        drives = law.left * eased
        right = left + self.weight * (np.bincount(p.second, drives, n) - np.bincount(p.first, drives, n))
        by_first, by_second = law.by_first * eased, law.by_second * eased
        weigh = self.weight[0] if len(self.weight) else 1.0  # all of a network alike
        free_first, free_second = ~self.held[p.first], ~self.held[p.second]
        data = [
            weigh * by_first * free_first, weigh * by_second * (free_first & free_second),
            weigh * by_first * (free_first & free_second), weigh * by_second * free_second,
        ]  # fmt: skip
        step = self.places.solved_by(data, np.where(self.held, 1.0, own), np.where(self.held, 0.0, right))
        return step, drives + by_first * step[p.first] + by_second * step[p.second]

    def _by_newton(
        self, heads: Array, flows: Array, stores: Array | None = None, steps: int = _STEPS
    ) -> tuple[Array, Array, int] | None:
        """Newton's method in heads and flows; none where it does not come to an end soon.

        Parameters
        ----------
        heads, flows : ndarray of float
            To begin with.
        stores : ndarray of float, (n_nodes,), optional
            What each node stores besides for each metre that its head rises above that of the begin [m²/day].
        steps : int
            At most.

        Returns
        -------
        heads, flows : ndarray of float
        count : int
            Of steps.
        """
        before, rests = heads, np.zeros(len(heads)) if stores is None else stores

        def looked(heads: Array, flows: Array) -> tuple[Flowing, Array, Array, float, float]:
            law = law_at(self.pipes, heads, flows)
            left, own, moved = self._left(heads, flows)
            left = np.where(self.held, 0.0, left - rests * (heads - before))
            return law, left, own + rests, moved, float(np.abs(left).sum() + np.abs(law.left).sum())

        at = looked(heads, flows)
        sizes = [at[-1]]
        for count in range(steps + 1):
            law, left, own, moved, size = at
            nearly = min(_NEARLY * sizes[0], _LITTLE * moved) if stores is None else _ENOUGH * sizes[0]
            if size <= max(_DONE * moved, nearly):
                return heads, flows, count
            if count == steps or (count > _SLOW and min(sizes[-_SLOW:]) > 0.1 * min(sizes[:-_SLOW])):
                break
            by_head, by_flow = self._step(law, left, own)
            if not np.isfinite(by_head).all():
                return None
            share, best = 1.0, np.inf
            for _ in range(_TRIALS):
                tried = looked(there := heads + share * by_head, through := flows + share * by_flow)
                if tried[-1] < best:
                    best, found = tried[-1], (there, through, tried)
                if best < size or (share == 1.0 and best < _RAISED * size):
                    break
                share *= 0.5
            if not np.isfinite(best):
                return None
            heads, flows, at = found
            sizes.append(best)
        return (heads, flows, count) if stores is None and sizes[-1] <= 1e2 * _DONE * moved else None

    def _by_rest(self, heads: Array, flows: Array) -> tuple[Array, Array]:
        """Implicit steps in which each node stores water, longer and longer."""
        p, n = self.pipes, len(heads)
        highest = max(
            float((self.bed + 2.0 * p.diameter.max()).max()), float(self.outside.max()),
            float(self.level[self.held].max(initial=-np.inf)),
        )  # fmt: skip
        heads = np.where(self.held, self.level, np.clip(heads, self.bed, highest))
        area = np.bincount(p.nodes, np.repeat(0.5 * p.length * p.diameter, 2), n)
        flows, time = law_at(p, heads, flows).driven, _FIRST_TIME
        for _ in range(_TIMES):
            left, _, moved = self._left(heads, flows)
            missing = float(np.abs(left).sum() + np.abs(law_at(p, heads, flows).left).sum())
            if missing <= _DONE * moved or time > _LAST_TIME:
                break
            found = self._by_newton(heads, flows, area / time, _WITHIN)
            if found is None:
                time *= _SHORTER
                continue
            heads, flows, count = found
            time *= _LONGER if count <= _EASY else 1.0
        found = self._by_newton(heads, flows)
        return (heads, flows) if found is None else found[:2]
