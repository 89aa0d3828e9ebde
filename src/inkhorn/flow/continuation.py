"""Solutions from heads far away: by Newton's method, and where that leads nowhere, as in time towards a steady state."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.flow.newton import Rules, newton
from inkhorn.flow.report import NewtonRow

if TYPE_CHECKING:
    from inkhorn.flow.balance import Balance
    from inkhorn.flow.equations import FlowEquations

__all__ = ["solved", "stuck"]

_SWINGS = 10  # steps in which a place that changes most again and again is said to swing
_IN_TIME = 15  # Newton steps that a step in time may take before it is halved
_AT_ONCE = 30  # and a steady solution from each of its first heads
_HELD, _LEAST = (
    1.0,
    1e-4,
)  # share of the residual, over the area, that is stored per metre: first, and where none is left
_FASTER, _LEAST_FASTER = 6.0, 1.5  # by what factor it falls from step to step, at most and at least
_BACK = 4.0  # and by what it rises where one did not close
_EASY = 3  # Newton steps in which a step in time is easy, so that the next goes farther
_STEPS, _ENOUGH = 8, 0.1  # Newton steps of a step in time, and share of the residual that it may leave
_LAST = 15  # Newton steps kept for the equations themselves


def solved(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    rules: Rules,
    rows: list[NewtonRow],
    besides: Sequence[Callable[[], NDArray[np.float64]]] = (),
) -> tuple[NDArray[np.float64], Balance, float]:
    """Solve from first unknowns, or from others besides; where Newton's method leads on from none, as in time.

    Then every cell is given some storage, and water comes to rest in implicit steps that grow as less is missing
    (pseudo-transient continuation: Kelley & Keyes, 1998, SIAM Journal on Numerical Analysis 35). As every flow rises
    with the head it comes from, each step has one solution, whatever the last, and all lead to the steady one.
    """
    begun, in_time = len(rows), equations.step is not None
    start = unknowns
    for begins in (None, *besides):
        start = unknowns if begins is None else begins()
        most = min(_IN_TIME if in_time else _AT_ONCE, max(rules.max_iterations - (len(rows) - begun), 0))
        found, balance, measure = newton(
            equations, start, rules, rows, most=most, patient=in_time, bold=True, polished=not in_time
        )
        if in_time or equations.closes(balance, rules.closure):
            return found, balance, measure
    most = rules.max_iterations - (len(rows) - begun)
    return _come_to_rest(equations, start, rules, rows, most)


def _come_to_rest(
    equations: FlowEquations, unknowns: NDArray[np.float64], rules: Rules, rows: list[NewtonRow], most: int
) -> tuple[NDArray[np.float64], Balance, float]:
    """Go towards the steady state in steps in time, in so many Newton steps at most."""
    begun, held, faster, area = len(rows), _HELD, _FASTER, float(equations.areas.sum())
    balance = equations.evaluate(unknowns)
    while True:
        missing, left = equations.left(balance), most - (len(rows) - begun)
        closed = equations.closes(balance, rules.closure)
        if closed or held < _LEAST or missing == 0.0 or left <= 0:
            there, answer, measure = newton(
                equations, unknowns, rules, rows, most=max(min(_LAST, left), 0), patient=False, polished=True
            )
            if closed or left <= 0:
                return there, answer, measure
            held = 0.1 * _HELD
            if equations.left(answer) < missing:
                unknowns, balance = there, answer
            continue
        resting, before = equations.resting(unknowns, held * missing / area), len(rows)
        enough = _ENOUGH * missing / max(equations.turnover(balance), 1e-300)
        there, answer, _ = newton(
            resting, unknowns, rules, rows, enough=enough, most=min(_STEPS, left), patient=False
        )
        if resting.closes(answer, enough):
            unknowns, balance = there, equations.evaluate(there)
            faster = min(faster * _LEAST_FASTER, _FASTER) if len(rows) - before <= _EASY else faster
            held /= faster
        elif len(rows) == before:  # no number any more
            return unknowns, balance, equations.closure(balance)
        else:
            held *= _BACK
            faster = max(np.sqrt(faster), _LEAST_FASTER)


def stuck(
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
    lately = [r.place for r in rows[-_SWINGS:]]
    most = max(lately, key=lately.count, default="-")
    swings = (
        f"heads swing at {most}, where {lately.count(most)} of the last {len(lately)} steps changed most"
        if lately.count(most) > 2
        else f"the last step changed most at {lately[-1] if lately else '-'}"
    )
    return ConvergenceError(
        f"{what} did not close: {measure:.1e} after {len(rows)} Newton steps, asked for "
        f"{closure:.0e}. The worst balance, {balance.residual[worst]:.3g} m³/day, is at "
        f"{equations.name_of(worst)}{equations.features_at(worst)}; {swings}. "
        "Look there for thin cells, wells in drying cells or strong contrasts; other first heads, or a "
        "larger `smoothing` of the water table, may help.",
        iterations=len(rows),
        history=[r.closure for r in rows],
        worst=equations.name_of(worst),
        state=unknowns,
    )
