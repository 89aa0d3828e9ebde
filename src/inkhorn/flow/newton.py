"""Newton's method on the balance of every cell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.flow.balance import Balance
from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.landing import WAYS, Landing, Way
from inkhorn.flow.mending import mended
from inkhorn.flow.report import NewtonRow
from inkhorn.linear import CondensedSystem, LinearSystem, linear_system

__all__ = ["Rules", "newton"]

_COARSE = 0.001  # share of the residual that a linear solve may leave, at most
_COARSER = {True: 0.01, False: 0.1}  # the same with pipes, in a step in time and not
_WELL, _WELL_WITH_PIPES = (
    0.3,
    0.5,
)  # share of the residual at which a full step has led so well that no other is tried
_FAIR = 0.1  # by what share of itself, times that of the step, the residual has to fall
_RAISED = 100.0  # how much more a bold step may leave
_FAR = 1e3  # heights of the model that no step goes
_HELD = 0.1  # share of the residual over the area that holds a step back per metre, to begin with
_MOST_HELD, _HOLDS = 1000.0, 4.0  # at most, and by what factor it grows and falls
_SHORT, _LONG = 0.1, 0.4  # shares of a step below which the next is held back more, and above which less
_IDLE, _GAIN = 8, 0.999  # steps over which the residual has to fall to so much of itself
_STILL, _POLISHING = 1e-5, 3  # m that the last step to a steady solution may change, and steps to get there
_SHORTER = 0.5  # of each trial along a step
_TRIALS = 12
_SLOW, _SLOWLY = 3, 0.3  # steps in which the residual has to fall so far, or else a surer way is taken
_STUCK, _LEFT = 0.4, 0.5  # of a step, of the residual: where less is gone or more left, cells are mended


@dataclass(frozen=True)
class Rules:
    """When to stop, and whom to tell."""

    closure: float
    max_iterations: int
    progress: Callable[[float, float], None] | None  # closure left, end of the step


class _Trial(NamedTuple):
    """Where a share of a step leads, and what it leaves."""

    size: float
    share: float
    there: NDArray[np.float64]
    answer: Balance | None  # that of most is let go
    way: Way

    @property
    def balance(self) -> Balance:
        """The balance there."""
        assert self.answer is not None
        return self.answer


def _searched(
    equations: FlowEquations, balance: Balance, landing: Landing, bold: bool, likely: Way
) -> _Trial:
    """Go as far along a Newton step, and in such a way, as leaves least.

    Past a corner, where that is still less than before: then the next step knows the slopes beyond.
    """
    before = equations.left(balance)
    well = (_WELL_WITH_PIPES if equations.determined.any() else _WELL) * before
    found, whole, columns = list[_Trial](), list[_Trial](), _BestColumns(equations)
    share, best = 1.0, np.inf

    def tried(there: NDArray[np.float64], way: Way) -> _Trial:
        answer = equations.evaluate(there)
        one = _Trial(equations.left(answer), share, there, answer, way)
        found.append(one._replace(answer=None))  # of many trials these would be most of the memory
        return one

    for _ in range(_TRIALS):
        ways = []
        for way in (likely, *(way for way in WAYS if way != likely)):
            ways.append(tried(landing.at(share, way), way))
            if ways[-1].size < well:
                return ways[-1]
        for one in ways:
            columns.add(one)
        ways.append(tried(columns.there(), likely))
        least = min(ways, key=lambda f: f.size)
        whole = whole or [least]
        if least.size < ((1.0 - _FAIR * share) if share < 1.0 or not bold else _RAISED) * before:
            return _after_mending(equations, before, least, whole[0])
        if least.size < before and least.size >= best:
            break  # shorter ones leave more again
        best, share = min(best, least.size), share * _SHORTER
    chosen = min(found, key=lambda f: f.size)
    beyond = [f for f in found if f.share > chosen.share and f.size < 0.9 * before + 0.1 * chosen.size]
    if beyond:
        chosen = min(beyond, key=lambda f: (f.share, f.size))
    return _after_mending(
        equations, before, chosen._replace(answer=equations.evaluate(chosen.there)), whole[0]
    )


class _BestColumns:
    """Unknowns that take in every column the trial that leaves least there."""

    def __init__(self, equations: FlowEquations) -> None:
        self.equations, n = equations, len(equations.cells)
        self.free, self.size = ~equations.fixed[:n], np.inf
        self.least: NDArray[np.float64] = np.empty(0)
        self.heads: NDArray[np.float64] = np.empty(0)
        self.left: NDArray[Any] = np.empty(0)

    def add(self, one: _Trial) -> None:
        """Take a trial in."""
        plan, n = self.equations.cells.plan_cell, len(self.free)
        left = np.bincount(plan, self.free * np.abs(one.balance.residual[:n]))
        if not len(self.left):
            self.left, self.heads, self.least, self.size = left, one.there[:n].copy(), one.there, one.size
            return
        better = left < self.left
        self.left = np.where(better, left, self.left)
        self.heads = np.where(better[plan], one.there[:n], self.heads)
        if one.size < self.size:
            self.least, self.size = one.there, one.size

    def there(self) -> NDArray[np.float64]:
        """Return the unknowns; those of no cell are of the trial that leaves least in all."""
        there = self.least.copy()
        there[: len(self.heads)] = self.heads
        return self.equations.settled(there)


def _after_mending(equations: FlowEquations, before: float, chosen: _Trial, whole: _Trial) -> _Trial:
    """Solve the worst cells apart where a step leads nowhere, and where all of it does but for them; take the better."""
    if chosen.size < _LEFT * before and chosen.share > _STUCK:
        return chosen
    ways, too = [chosen], whole.there is not chosen.there and whole.size < _RAISED * before
    for one in (chosen, whole) if too else (chosen,):
        there, answer = mended(equations, one.there, one.balance)
        size = equations.left(answer)
        # where they were all that was wrong, the step was a good one
        share = max(one.share, _STUCK) if size < _LEFT * before else one.share
        ways.append(_Trial(size, share, there, answer, one.way))
    return min(ways, key=lambda one: one.size)


def _held_back(equations: FlowEquations, matrix: Any, size: float, held: float) -> Any:
    """The linear system with a little storage in every cell, as in a step in time: so the step is shorter."""
    from scipy.sparse import diags_array

    if held == 0.0:
        return matrix
    area = equations.areas
    return (matrix + diags_array(held * size / area.sum() * area[equations.free])).tocsr()


def _alike(one: Any, other: Any) -> bool:
    """Whether two matrices are the same."""
    some = slice(None, None, 1 + len(one.data) // 1000)
    return (
        one.data.shape == other.data.shape
        and np.array_equal(one.data[some], other.data[some])  # mostly that tells already
        and np.array_equal(one.data, other.data)
        and np.array_equal(one.indices, other.indices)
    )


def newton(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    rules: Rules,
    rows: list[NewtonRow],
    *,
    enough: float | None = None,
    most: int | None = None,
    patient: bool = True,
    bold: bool = False,
    polished: bool = False,
) -> tuple[NDArray[np.float64], Balance, float]:
    """Step until the closure is reached or nothing is gained any more; `rows` grows by a row a step.

    Parameters
    ----------
    equations : FlowEquations
    unknowns : ndarray of float, (n_unknowns,)
        To begin with.
    rules : Rules
    rows : list of NewtonRow
    enough : float, optional
        A closure that suffices, instead of that of the rules.
    most : int, optional
        Steps, instead of those of the rules.
    patient : bool
        Whether to go on where the residual falls slowly.
    bold : bool
        Whether full steps are taken although they raise the residual for a while.
    polished : bool
        Whether the last step has to leave the heads nearly as they were, too, those of dry cells among them.
    """
    balance = equations.evaluate(unknowns)
    measure = equations.closure(balance)
    goal, limit = (
        rules.closure if enough is None else enough,
        rules.max_iterations if most is None else most,
    )
    free, columns, begun, sizes = equations.free, equations.columns, len(rows), [equations.left(balance)]
    height = float(equations.cells.top.max() - equations.cells.bottom.min())
    farthest = np.inf if equations.model.water_table.confined else _FAR * height
    system: LinearSystem | CondensedSystem | None = (
        None  # that of the step before: of equations that are linear it stays
    )
    pipes = bool(equations.determined.any())
    far, likely, held, more = pipes, WAYS[0], 0.0, _POLISHING  # the way that led on last is tried first
    while len(rows) - begun < limit and np.isfinite(measure):
        steps = len(rows) - begun
        if equations.closes(balance, goal):
            if not (polished and rows and more and rows[-1].largest_change > _STILL):
                break
            more -= 1
        else:
            idle = steps > _IDLE and min(sizes[-_IDLE:]) > _GAIN * min(sizes[:-_IDLE])
            slow = not patient and steps >= _SLOW and sizes[-1] > _SLOWLY * sizes[-1 - _SLOW]
            if idle or slow:
                break
        matrix = equations.pattern.among_free(balance.jacobian)
        # nothing is gained by solving far beyond what closes the balance
        suffices = 0.1 * goal * equations.turnover(balance) * (1e-3 if measure <= goal else 1.0)
        while True:
            kept = _held_back(equations, matrix, sizes[-1], held)
            if system is None or far != system.conducts_far or not _alike(system.matrix, kept):
                system = linear_system(
                    kept, equations.determined, columns=columns, conducts_far=far, like=system
                )
            # an exact step where it is cheap, or where the equations are linear and one step does it all; elsewhere
            # as exact as the step before was good
            tolerance = 1e-10
            if not system.direct and (pipes or not system.symmetric):
                gained = sizes[-1] / sizes[-2] if len(sizes) > 1 else 1.0
                most_left = _COARSER[equations.step is not None] if pipes else _COARSE
                tolerance = float(np.clip(0.5 * gained**2, 1e-6, most_left))
            try:
                missing = balance.residual if len(free) == len(unknowns) else balance.residual[free]
                step = system.solve(missing, tolerance=tolerance, enough=suffices)
                if not system.direct or np.abs(step).max(initial=0.0) < farthest or held >= _HELD:
                    break
            except ConvergenceError as problem:
                step = np.asarray(problem.state)  # its last iterate: the search decides what that is worth
                if not system.direct or held >= _MOST_HELD:
                    break
            held = max(_HOLDS * held, _HELD)  # nothing answers to the heads any more, as where all is dry
        # none, where they did not lead there: then they are not tried again
        columns, far = system.columns, system.conducts_far
        before, whole, n = unknowns, step, len(equations.cells)
        if len(step) < len(unknowns):
            whole = np.zeros(len(unknowns))
            whole[free] = step
        diagonal = -balance.jacobian.data[equations.pattern.diagonal[:n]]
        landing = Landing(equations, unknowns, whole, diagonal)
        taken = _searched(equations, balance, landing, bold, likely)
        unknowns, balance, damping, likely = taken.there, taken.balance, taken.share, taken.way
        sizes.append(equations.left(balance))
        if damping < _SHORT:
            held = min(max(_HOLDS * held, _HELD), _MOST_HELD)
        elif damping > _LONG:
            held = held / _HOLDS if held > 0.01 * _HELD else 0.0
        measure = equations.closure(balance)
        change = np.abs(unknowns - before)  # those that are fixed stay
        change[equations.flows] = 0.0
        largest = int(np.argmax(change))
        place = equations.name_of(largest)
        until = 0.0 if equations.step is None else equations.step.end
        rows.append(NewtonRow(measure, float(change[largest]), place, damping, system.iterations, until))
        if rules.progress is not None:
            rules.progress(measure, until)
    return unknowns, balance, measure if np.isfinite(measure) else np.inf
