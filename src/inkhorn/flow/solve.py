"""Flow, steady and in time: Newton's method on the balance of every cell."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import ConvergenceError, InputError
from inkhorn.flow.equations import Balance, FlowEquations, TimeStep
from inkhorn.flow.result import FlowResult, FlowStep
from inkhorn.linear import LinearSystem
from inkhorn.model import Model, levelless_cells

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["NewtonRow", "SolverReport", "solve_flow"]

_REMEMBERED = 4  # residuals that a step is measured against: cells that switch may raise it for a while
_BOLD = 15  # steps after which none may raise it any more
_COARSE = 0.001  # share of the residual that a linear solve may leave, at most
_RAISED = 10.0  # and by how much until then: a full step that raises it mostly leads on, a short one does not
_EASED = (0.5, 0.2, 0.08, 0.03)  # smoothing of the water table on the way to a hard solution


@dataclass(frozen=True)
class NewtonRow:
    """One Newton step: what was left before it, and what it did.

    Attributes
    ----------
    closure : float
        Sum of absolute residuals over the turnover, after the step.
    largest_change : float
        Of any unknown [m].
    place : str
        Where that was.
    damping : float
        Share of the full step that was taken.
    linear_iterations : int
        0 where the matrix was factored.
    """

    closure: float
    largest_change: float
    place: str
    damping: float
    linear_iterations: int


@dataclass(frozen=True)
class SolverReport:
    """How a solution was reached."""

    rows: tuple[NewtonRow, ...]
    closure: float
    unknowns: int

    @property
    def iterations(self) -> int:
        """Newton steps."""
        return len(self.rows)

    def frame(self) -> pd.DataFrame:
        """Return the history as a table, one row per Newton step."""
        import pandas as pd

        return pd.DataFrame(
            [
                {
                    "step": k + 1,
                    "closure": r.closure,
                    "largest change [m]": r.largest_change,
                    "where": r.place,
                    "damping": r.damping,
                    "linear iterations": r.linear_iterations,
                }
                for k, r in enumerate(self.rows)
            ]
        )

    def __str__(self) -> str:
        linear = sum(r.linear_iterations for r in self.rows)
        return (
            f"{self.unknowns} unknowns, {self.iterations} Newton steps, "
            f"{linear or 'no'} linear iterations, closure {self.closure:.1e}"
        )


def first_heads(model: Model) -> NDArray[np.float64]:
    """Return heads to begin with: every column full to its uppermost top, (n_cells,) [m]."""
    grid = model.grid
    return np.asarray(grid.cells.top[grid.uppermost][grid.cells.plan], dtype=np.float64)


def _damped(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    balance: Balance,
    step: NDArray[np.float64],
    goal: float,
) -> tuple[NDArray[np.float64], Balance, float]:
    """Go as far along a Newton step as brings the residual below a goal, or as makes it smallest."""
    free = equations.free
    best: tuple[float, NDArray[np.float64], Balance, float] | None = None
    damping = 1.0
    for _ in range(5):
        there = equations.landed(unknowns, balance, damping * step)
        found = equations.evaluate(there)
        size = float(np.linalg.norm(found.residual[free]))
        if best is None or size < best[0]:
            best = (size, there, found, damping)
        if size <= (1.0 - 1e-4 * damping) * goal:
            break
        damping *= 0.5
    assert best is not None
    return best[1:]


def _newton(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    closure: float,
    most_iterations: int,
    rows: list[NewtonRow],
    progress: Callable[[int, float], None] | None,
) -> tuple[NDArray[np.float64], Balance, float]:
    """Step until the closure is reached or nothing is gained any more; `rows` grows by a row a step."""
    balance = equations.evaluate(unknowns)
    measure = equations.closure(balance)
    free, begun, sizes = equations.free, len(rows), list[float]()
    while measure > closure and len(rows) - begun < most_iterations and np.isfinite(measure):
        history = [r.closure for r in rows[begun:]]
        if len(history) > 8 and min(history[-8:]) > 0.999 * min(history[:-8]):
            break
        system = LinearSystem(equations.pattern.among_free(balance.jacobian), columns=equations.columns)
        sizes.append(float(np.linalg.norm(balance.residual[free])))
        # an exact step where it is cheap, or where the equations are linear and one step does it all; elsewhere as
        # exact as the step before was good
        tolerance = 1e-10
        if not (system.direct or system.symmetric):
            gained = sizes[-1] / sizes[-2] if len(sizes) > 1 else 1.0
            tolerance = float(np.clip(0.5 * gained**2, 1e-6, _COARSE))
        # nothing is gained by solving far beyond what closes the balance
        enough = 0.1 * closure * equations.turnover(balance)
        try:
            step = system.solve(balance.residual[free], tolerance=tolerance, enough=enough)
        except ConvergenceError as problem:
            step = np.asarray(problem.state)  # its last iterate: the line search decides what that is worth
        before = unknowns
        unknowns, balance, damping = _damped(
            equations,
            unknowns,
            balance,
            step,
            (_RAISED if len(sizes) <= _BOLD else 1.0) * max(sizes[-_REMEMBERED:]),
        )
        measure = equations.closure(balance)
        change = np.abs(unknowns - before)[free]
        largest = int(np.argmax(change))
        place = equations.name_of(int(free[largest]))
        rows.append(NewtonRow(measure, float(change[largest]), place, damping, system.iterations))
        if progress is not None:
            progress(len(rows), measure)
    return unknowns, balance, measure


@dataclass(frozen=True)
class _Rules:
    """When to stop, and whom to tell."""

    closure: float
    most_iterations: int
    progress: Callable[[int, float], None] | None


def _settled(
    equations: FlowEquations, heads: NDArray[np.float64], rules: _Rules, rows: list[NewtonRow], given: bool
) -> tuple[NDArray[np.float64], Balance]:
    """Steady unknowns, from first heads and, where these do not lead there, by surer ways.

    Raises
    ------
    ConvergenceError
        If none of them closes.
    """

    def attempt(eq: FlowEquations, start: NDArray[np.float64]) -> tuple[NDArray[np.float64], Balance, float]:
        return _newton(eq, start, rules.closure, rules.most_iterations, rows, rules.progress)

    model, law = equations.model, equations.model.water_table
    begin = equations.start(heads)
    unknowns, balance, measure = attempt(equations, begin)
    if measure > rules.closure and given:  # full columns are the surer start
        begin = equations.start(first_heads(model))
        unknowns, balance, measure = attempt(equations, begin)
    if measure > rules.closure and not law.confined:
        # wide bends first, then narrower ones: each answer, closed or not, is a better start for the next
        unknowns = begin
        for smoothing in (s for s in _EASED if s > law.smoothing):
            eased = replace(model, water_table=replace(law, smoothing=smoothing))
            unknowns, _, _ = attempt(FlowEquations(eased), unknowns)
        unknowns, balance, measure = attempt(equations, unknowns)
    if measure > rules.closure:
        raise _stuck(equations, unknowns, balance, measure, rules.closure, rows, "steady flow")
    return unknowns, balance


def _stuck(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    balance: Balance,
    measure: float,
    closure: float,
    rows: list[NewtonRow],
    what: str,
) -> ConvergenceError:
    """The error of a balance that does not close: how far it is, and where it is worst."""
    free = equations.free
    worst = int(free[np.argmax(np.abs(balance.residual[free]))])
    return ConvergenceError(
        f"{what} did not close: {measure:.1e} after {len(rows)} Newton steps, asked for "
        f"{closure:.0e}. The worst balance, {balance.residual[worst]:.3g} m³/day, is at "
        f"{equations.name_of(worst)}; the last step changed most at {rows[-1].place if rows else '-'}. "
        "Look there for thin cells, wells in drying cells or strong contrasts; other first heads, or a "
        "larger `smoothing` of the water table, may help.",
        iterations=len(rows),
        history=[r.closure for r in rows],
        worst=equations.name_of(worst),
        state=unknowns,
    )


def _record(
    equations: FlowEquations, unknowns: NDArray[np.float64], balance: Balance, period: int, end: float = 0.0
) -> FlowStep:
    n, step = len(equations.cells), equations.step
    return FlowStep(
        start=end if step is None else step.start,
        end=end if step is None else step.end,
        steady=step is None,
        heads=unknowns[:n],
        own=unknowns[n:],
        face_flow=balance.face_flow,
        term_flow=equations.term_flows(balance),
        storage_change=balance.storage_change,
        period=period,
    )


def _stepped_through(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    begin: float,
    end: float,
    period: int,
    rules: _Rules,
    rows: list[NewtonRow],
) -> Iterator[tuple[FlowStep, NDArray[np.float64], float]]:
    """One step, or several shorter ones where it does not converge (implicit Euler).

    Raises
    ------
    ConvergenceError
        If a step a thousandth as long does not either.
    """
    n, at, length = len(equations.cells), begin, end - begin
    while at < end:
        there = min(at + length, end)
        there = end if end - there < 1e-9 * (end - begin) else there
        eq = equations.over(TimeStep(at, there, unknowns[:n]))
        start = unknowns.copy()
        start[:n] = eq.start(start[:n])[:n]  # fixed heads as they are now
        start = eq.settled(start)
        tried: list[NewtonRow] = []
        found, balance, measure = _newton(
            eq, start, rules.closure, rules.most_iterations, tried, rules.progress
        )
        rows.extend(tried)
        if measure > rules.closure:
            length *= 0.5
            if length < 1e-3 * (end - begin):
                words = f"the step from day {at:.6g} to {there:.6g}"
                raise _stuck(eq, found, balance, measure, rules.closure, tried, words)
            continue
        unknowns, at = found, there
        yield _record(eq, unknowns, balance, period), unknowns, measure
        length *= 2.0 if len(tried) < 8 else 1.0


def _refuse_levelless(model: Model, equations: FlowEquations) -> None:
    groups = levelless_cells(model)
    if groups:
        raise InputError(
            f"nothing fixes the level of the water in {len(groups[0])} of {model.grid.n_cells} cells, "
            f"among them {equations.name_of(int(groups[0][0]))}. Add a fixed head, a river or a drain there."
        )


def solve_flow(
    model: Model,
    *,
    first: ArrayLike | None = None,
    closure: float = 1e-8,
    most_iterations: int = 60,
    progress: Callable[[int, float], None] | None = None,
) -> FlowResult:
    """Solve for the heads, steady or through the periods of the model's schedule.

    Steps in time are implicit Euler's: flows hold over a step and balance with the change of what is
    stored. A step that does not converge is halved, and grows again.

    Parameters
    ----------
    model : Model
        A site placed on a grid, or made from arrays.
    first : array_like of float, optional
        Heads to begin with, as `Grid.per_cell` takes them [m]. A steady solution does not depend on them: the
        ground surface if not given, and where Newton's method gets stuck from those given. A schedule whose
        first period is not steady begins from them.
    closure : float
        Where to stop: the sum of absolute residuals of all cells over the largest of inflow, outflow and
        what passes through storage.
    most_iterations : int
        Where to give up. Where the corners of the water table stop Newton's method, it begins anew with
        smoothed ones and sharpens them, and this counts for each stage.
    progress : callable, optional
        Called with the number of the Newton step and the closure after it.

    Returns
    -------
    FlowResult
        With a report of the solver.

    Raises
    ------
    InputError
        If nothing fixes the level of the water in a steady period; if heads to begin with, or a storage
        property, are missing.
    ConvergenceError
        If the closure is not reached; it says where the residual is worst and carries the last state.

    Examples
    --------
    >>> from inkhorn.model import Model, terms
    >>> from inkhorn.space import layered, rectangles
    >>> grid = layered(rectangles((0, 0, 500, 100), cell=100), [0.0, -20.0])
    >>> ends = terms.FixedHeadTerm(cells=[0, 4], head=[10.0, 8.0])
    >>> flow = solve_flow(Model(grid, 5.0, terms=[ends]))
    >>> flow.head.values.ravel().round(6).tolist()
    [10.0, 9.5, 9.0, 8.5, 8.0]
    """
    rules, rows = _Rules(closure, most_iterations, progress), list[NewtonRow]()
    heads = first_heads(model) if first is None else model.grid.per_cell("first", first)
    if model.schedule is None:
        steady = FlowEquations(model)
        _refuse_levelless(model, steady)
        unknowns, balance = _settled(steady, heads, rules, rows, first is not None)
        only = _record(steady, unknowns, balance, 0)
        return FlowResult(model, (only,), _report(rows, [steady.closure(balance)], steady))
    if first is None and not model.schedule.steady[0]:
        raise InputError(
            "the first period is not steady, so that heads must be given to begin with. Give `first`, or let the first "
            "period be steady."
        )
    steps: list[FlowStep] = []
    closures: list[float] = []
    equations: FlowEquations | None = None
    unknowns = np.empty(0)
    for period in range(len(model.schedule)):
        now = model.at_period(period)
        equations = FlowEquations(now) if equations is None else equations.of(now)
        begin, end = float(model.schedule.begins[period]), float(model.schedule.ends[period])
        if model.schedule.steady[period]:
            _refuse_levelless(now, equations)
            unknowns, balance = _settled(
                equations, heads if not steps else unknowns[: len(heads)], rules, rows, bool(steps)
            )
            steps.append(_record(equations, unknowns, balance, period, end))
            closures.append(equations.closure(balance))
            continue
        unknowns = unknowns if steps else equations.start(heads)
        for to in model.schedule.step_ends(period):
            for step, found, measure in _stepped_through(
                equations, unknowns, begin, float(to), period, rules, rows
            ):
                steps.append(step)
                closures.append(measure)
                unknowns = found
            begin = float(to)
    return FlowResult(model, tuple(steps), _report(rows, closures, equations))


def _report(rows: list[NewtonRow], closures: list[float], equations: FlowEquations | None) -> SolverReport:
    worst = max([*closures, 0.0])
    return SolverReport(tuple(rows), worst, 0 if equations is None else len(equations.free))
