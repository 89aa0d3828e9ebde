"""Flow, steady and in time."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from hashlib import blake2b
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import ConvergenceError, InkhornWarning, InputError, check_finite, check_positive
from inkhorn.flow.balance import Balance
from inkhorn.flow.budget import closing_error
from inkhorn.flow.continuation import solved, stuck
from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.march import Stepping, joined, march, recorded
from inkhorn.flow.newton import Rules
from inkhorn.flow.record import HEADS_TO_BEGIN_WITH, FlowStart, FlowStep, StepStore
from inkhorn.flow.report import NewtonRow, SolverReport
from inkhorn.flow.result import FlowResult
from inkhorn.model import Model, differences, fingerprint, levelless_cells
from inkhorn.progress import Progress
from inkhorn.site import Schedule
from inkhorn.units import WithUnit, plain

__all__ = ["solve_flow"]

_STILL = 1e6  # times rounding, up to which nothing is said to flow
_MUCH, _TOO_MUCH = (
    1e-4,
    0.1,
)  # of its turnover that a water budget may miss before it is said, and refused [%]


def _full_heads(model: Model) -> NDArray[np.float64]:
    """Return heads to begin with: every column full to its uppermost top, (n_cells,) [m]."""
    grid = model.grid
    return np.asarray(grid.cells.top[grid.uppermost][grid.cells.plan_cell], dtype=np.float64)


def _settled(
    equations: FlowEquations, heads: NDArray[np.float64], rules: Rules, rows: list[NewtonRow]
) -> tuple[NDArray[np.float64], Balance]:
    """Steady unknowns, from first heads.

    Raises
    ------
    ConvergenceError
        If the balance does not close.
    """
    full = _full_heads(equations.model)
    besides = [] if np.array_equal(heads, full) else [partial(equations.start, full)]
    unknowns, balance, measure = solved(equations, equations.start(heads), rules, rows, besides)
    if not equations.closes(balance, rules.closure):
        raise stuck(equations, unknowns, balance, measure, rules.closure, rows, "steady flow")
    return unknowns, balance


def _refuse_impossible(model: Model) -> None:
    """Refuse a model of which some term says that it cannot be, as a river whose stage lies below its bed."""
    wrong = [f for term in model.terms for f in term.findings(model.grid) if f.severity == "error"]
    if wrong:
        raise InputError("\n".join(f"{f.what} [{f.where}]. {f.remedy}" for f in wrong))


def _refuse_levelless(model: Model, equations: FlowEquations) -> None:
    groups = levelless_cells(model)
    if groups:
        raise InputError(
            f"nothing fixes the level of the water in {len(groups[0])} of {model.grid.n_cells} cells, "
            f"among them {equations.name_of(int(groups[0][0]))}. Add a fixed head, a river or a drain there."
        )


@dataclass
class _Budgets:
    """What the water budgets of records miss, at worst, and where [%]."""

    model: Model
    equations: FlowEquations
    worst: float = 0.0
    step: int = 0
    count: int = 0

    def seen(self, record: FlowStep) -> FlowStep:
        """Return a record that tells what its budget misses, nothing where nothing moves but by rounding."""
        self.count += 1
        conductance = float(np.abs(self.equations.rows.conductance).sum())
        rounding = np.finfo(float).eps * conductance * float(np.abs(record.heads).max())
        error = abs(closing_error(self.model, record, _STILL * rounding))
        if error > self.worst:
            self.worst, self.step = error, self.count - 1
        return replace(record, report=replace(record.report, closing_error_percent=error))

    def complain(self) -> None:
        """Warn of a budget that misses too much for comfort, and refuse one that misses more.

        Raises
        ------
        ConvergenceError
            Above a tenth of a per cent.
        """
        words = (
            f"the water budget of step {self.step} misses {self.worst:.2g} % of its turnover. Ask for a smaller "
            "`closure`."
        )
        if self.worst > _TOO_MUCH:
            raise ConvergenceError(words)
        if self.worst > _MUCH:
            warnings.warn(words, InkhornWarning, stacklevel=3)


@dataclass(frozen=True)
class _Work:
    """What is to be solved, how, and from where on."""

    model: Model
    equations: FlowEquations
    heads: NDArray[np.float64]
    done: FlowStep | None
    asked: NDArray[np.float64] | None
    stepping: Stepping
    rules: Rules


def solve_flow(
    model: Model,
    *,
    initial_heads: ArrayLike | None = None,
    order: Literal[1, 2] = 1,
    head_error: WithUnit | None = None,
    results: Literal["steps", "periods"] | ArrayLike = "steps",
    steps: StepStore | None = None,
    closure: float = 1e-8,
    max_iterations: int = 200,
    progress: Progress | None = None,
) -> FlowResult:
    """Solve for the heads, steady or through the periods of the model's schedule.

    Steps in time are implicit: flows hold over a step and balance with the change of what is
    stored. A step that does not converge is halved, and grows again.

    Parameters
    ----------
    model : Model
        A site placed on a grid, or made from arrays.
    initial_heads : array_like of float, optional
        Heads to begin with, as `Grid.per_cell` takes them [m]. A steady solution does not depend on them: the
        ground surface if not given. A schedule whose
        first period is not steady begins from them.
    order : {1, 2}
        Of the steps in time: Euler's method, or two implicit stages of second order, each as dear as a step of
        the first. Cells that would be asked for more water than they hold, or given more than they take, as
        where a water table falls out of a layer, go by Euler's method all the same.
    head_error : float, optional
        Take the steps of the schedule in as many shorter ones as it takes for each to err by less than this in
        every head [m], as estimated from how far it is from a straight line.
    results : {"steps", "periods"} or array_like of float
        What to record: every step taken, one record a period, or one up to each of these times [days since the
        start], on which steps then end. Heads are those at the end of a record, flows the means over it. Steady
        periods are recorded always.
    steps : list of FlowStep, or as `inkhorn.StepFile`, optional
        Where records go as they are made; a list if not given. If it holds some already, those of a run of the
        same model that was stopped, the run goes on after the last of them.
    closure : float
        Where to stop: the sum of absolute residuals of all cells over the largest of inflow, outflow and
        what passes through storage.
    max_iterations : int
        Newton steps after which to give up, those of a step in time counted alone. Where corners, of the water
        table or of switches such as drains, stop Newton's method on the way to a steady solution, it goes there as in
        time: these steps count.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.

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
        If the closure is not reached; it says where the residual is worst, which heads swing, and carries the last
        state. With a wide `closure`, if the water budget of a step misses more than 0.1 % of its turnover; from
        0.0001 % on there is an `InkhornWarning`.

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
    if order not in (1, 2):
        raise InputError(f"order is {order!r}; expected 1 or 2.")
    if head_error is not None:
        head_error = plain(head_error, "length", "head_error")
        check_positive("head_error", head_error, unit="m")
    rules = Rules(closure, max_iterations, _heard(progress, model.schedule))
    schedule, now = model.schedule, model
    heads = (
        _full_heads(model) if initial_heads is None else model.grid.per_cell("initial_heads", initial_heads)
    )
    records: StepStore = list[FlowStep]() if steps is None else steps
    done = records[len(records) - 1] if len(records) else None
    asked = None
    if schedule is not None:
        if initial_heads is None and done is None and not schedule.steady[0]:
            raise InputError(
                "the first period is not steady, so that heads must be given to begin with. Give `initial_heads`, or "
                "let the first period be steady."
            )
        asked, now = _recorded_at(model, results), model.at_period(0)
        if order == 2 and any(t.n_state for t in model.terms):
            kinds = [t.kind for t in model.terms if t.n_state]
            raise InputError(
                f"{kinds} carry a state, which goes by steps of first order only. Solve with order=1."
            )
    _refuse_impossible(now)
    equations = FlowEquations(now)
    held = equations.held(heads)
    equations = equations.begun_with(equations.initial_states(held))
    kept = schedule is not None or steps is not None
    made_of: Mapping[str, str] = _made_of(model, held) if kept else {}
    if done is not None:
        _refuse_other(done, made_of, given=initial_heads is not None)
        made_of = done.made_of
    start = FlowStart(held, equations.start(heads)[model.grid.n_cells :], equations.states, made_of)
    if done is None and hasattr(records, "begin"):
        records.begin(start)
    work = _Work(model, equations, heads, done, asked, Stepping(order, head_error), rules)
    budgets = _Budgets(model, equations, count=len(records))
    for record in joined(_in_time(work), asked) if schedule is not None else _steady(work):
        records.append(budgets.seen(replace(record, made_of=made_of)))
    budgets.complain()
    begun = getattr(records, "start", None) or start
    return FlowResult(model, records, SolverReport.of(s.report for s in records), begun)


def _heard(progress: Progress | None, schedule: Schedule | None) -> Callable[[float, float], None] | None:
    """What a Newton step tells, handed on in words."""
    if progress is None:
        return None
    if schedule is None:
        return lambda left, until: progress(f"solving for heads, closure {left:.0e}", None)
    end = float(schedule.ends[-1])
    return lambda left, until: progress(
        f"solving for heads, day {until:.0f} of {end:.0f}", until / end if end > 0.0 else None
    )


def _made_of(model: Model, held: NDArray[np.float64]) -> dict[str, str]:
    """The fingerprint of a model, and of the heads that it begins with where they matter."""
    made_of = fingerprint(model)
    if model.schedule is not None and not model.schedule.steady[0]:
        made_of[HEADS_TO_BEGIN_WITH] = blake2b(held.tobytes(), digest_size=8).hexdigest()
    return made_of


def _refuse_other(done: FlowStep, made_of: Mapping[str, str], *, given: bool) -> None:
    """Refuse to go on from the records of another model; heads to begin with need not be given again."""
    before = {k: v for k, v in done.made_of.items() if given or k != HEADS_TO_BEGIN_WITH}
    now = {k: v for k, v in made_of.items() if given or k != HEADS_TO_BEGIN_WITH}
    found = differences(before, now)
    if found:
        raise InputError(
            f"`steps` holds records of another model; what differs: {'; '.join(found)}. Go on with the model they were "
            "made with, or begin anew."
        )


def _recorded_at(
    model: Model, results: Literal["steps", "periods"] | ArrayLike
) -> NDArray[np.float64] | None:
    """Times up to which steps are joined; none where all are kept."""
    assert model.schedule is not None
    ends = np.asarray(model.schedule.ends)
    if isinstance(results, str):
        if results not in ("steps", "periods"):
            raise InputError(f'results is "{results}"; expected "steps", "periods" or times in days.')
        return None if results == "steps" else ends
    times = np.unique(check_finite("results", np.atleast_1d(results), unit="days"))
    outside = times[(times <= 0.0) | (times > ends[-1] * (1.0 + 1e-12))]
    if len(outside):
        raise InputError(
            f"results asks for {outside[0]:g} days; expected times after the start and up to the end, {ends[-1]:g} days."
        )
    return times


def _steady(work: _Work) -> Iterator[FlowStep]:
    """Solve flow that nothing changes, unless that is done."""
    if work.done is None:
        rows = list[NewtonRow]()
        _refuse_levelless(work.model, work.equations)
        unknowns, balance = _settled(work.equations, work.heads, work.rules, rows)
        record = recorded(work.equations, unknowns, balance, 0, 0.0, 0.0)
        yield _told(record, work.equations, rows, work.equations.closure(balance))


def _told(record: FlowStep, equations: FlowEquations, rows: Sequence[NewtonRow], closure: float) -> FlowStep:
    """A record that tells how it was solved."""
    return replace(record, report=SolverReport(tuple(rows), closure, len(equations.free)))


def _in_time(work: _Work) -> Iterator[FlowStep]:
    """Go through the periods and yield every step; what was done before is not done again."""
    model, equations, heads, done, asked = work.model, work.equations, work.heads, work.done, work.asked
    schedule = model.schedule
    assert schedule is not None
    unknowns = None if done is None else np.concatenate([done.heads, done.extra_unknowns])
    states = equations.states if done is None else done.state
    for period in range(0 if done is None else done.period, len(schedule)):
        begin, end = float(schedule.begins[period]), float(schedule.ends[period])
        within = done if done is not None and done.period == period else None
        if done is not None and within is not None:
            begin = done.end
            if done.steady or end - begin < 1e-9 * max(end, 1.0):
                continue
        now, rows = model.at_period(period), list[NewtonRow]()
        _refuse_impossible(now)
        equations = equations.of(now).begun_with(states)
        if schedule.steady[period]:
            _refuse_levelless(now, equations)
            near = heads if unknowns is None else unknowns[: len(heads)]
            unknowns, balance = _settled(equations, near, work.rules, rows)
            record = recorded(equations, unknowns, balance, period, begin, end)
            states = record.state
            yield _told(record, equations, rows, equations.closure(balance))
            continue
        if unknowns is None:
            unknowns = equations.start(heads)
        first, ends = float(schedule.begins[period]), schedule.step_ends(period)
        if asked is not None:
            ends = np.union1d(ends, asked[(asked > first) & (asked < end)])
            ends = ends[np.append(np.diff(ends) > 1e-9 * (end - first), True)]
        spans = np.column_stack([np.append(first, ends[:-1]), ends])
        spans = spans[ends > begin + 1e-9 * max(end, 1.0)]
        for record, found, measure in march(
            equations, unknowns, begin, spans.tolist(), period, work.stepping, work.rules, rows, within
        ):
            unknowns, states = found, record.state
            yield _told(record, equations, rows, measure)
            rows.clear()
