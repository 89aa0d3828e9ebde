"""Newton's method on the balance of every cell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.flow.equations import Balance, FlowEquations
from inkhorn.linear import LinearSystem

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["NewtonRow", "Rules", "SolverReport", "newton", "stuck"]

_REMEMBERED = 4  # residuals that a step is measured against: cells that switch may raise it for a while
_BOLD = 15  # steps after which none may raise it any more
_SWINGS = 10  # steps in which a place that changes most again and again is said to swing
_COARSE = 0.001  # share of the residual that a linear solve may leave, at most
_RAISED = 10.0  # and by how much until then: a full step that raises it mostly leads on, a short one does not


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
    until : float
        End of the step in time [days since the start]; 0 where it is steady.
    """

    closure: float
    largest_change: float
    place: str
    damping: float
    linear_iterations: int
    until: float = 0.0


@dataclass(frozen=True)
class SolverReport:
    """How a solution was reached.

    Attributes
    ----------
    rows : tuple of NewtonRow
        Every step of Newton's method.
    closure : float
        The worst of all steps in time: the sum of absolute residuals over the turnover.
    unknowns : int
        That were solved for.
    closing_error_percent : float
        The worst of all water budgets: inflow less outflow and storage, over the larger.
    """

    rows: tuple[NewtonRow, ...]
    closure: float
    unknowns: int
    closing_error_percent: float = 0.0

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
                    "until [day]": r.until,
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


@dataclass(frozen=True)
class Rules:
    """When to stop, and whom to tell."""

    closure: float
    most_iterations: int
    progress: Callable[[int, float], None] | None


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


def newton(
    equations: FlowEquations,
    unknowns: NDArray[np.float64],
    rules: Rules,
    rows: list[NewtonRow],
) -> tuple[NDArray[np.float64], Balance, float]:
    """Step until the closure is reached or nothing is gained any more; `rows` grows by a row a step."""
    balance = equations.evaluate(unknowns)
    measure = equations.closure(balance)
    free, columns, begun, sizes = equations.free, equations.columns, len(rows), list[float]()
    far = False
    while measure > rules.closure and len(rows) - begun < rules.most_iterations and np.isfinite(measure):
        history = [r.closure for r in rows[begun:]]
        if len(history) > 8 and min(history[-8:]) > 0.999 * min(history[:-8]):
            break
        system = LinearSystem(
            equations.pattern.among_free(balance.jacobian), columns=columns, conducts_far=far
        )
        sizes.append(float(np.linalg.norm(balance.residual[free])))
        # an exact step where it is cheap, or where the equations are linear and one step does it all; elsewhere as
        # exact as the step before was good
        tolerance = 1e-10
        if not (system.direct or system.symmetric):
            gained = sizes[-1] / sizes[-2] if len(sizes) > 1 else 1.0
            tolerance = float(np.clip(0.5 * gained**2, 1e-6, _COARSE))
        # nothing is gained by solving far beyond what closes the balance
        enough = 0.1 * rules.closure * equations.turnover(balance)
        try:
            step = system.solve(balance.residual[free], tolerance=tolerance, enough=enough)
        except ConvergenceError as problem:
            step = np.asarray(problem.state)  # its last iterate: the line search decides what that is worth
        # none, where they did not lead there: then they are not tried again
        columns, far = system.columns, system.conducts_far
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
        until = 0.0 if equations.step is None else equations.step.end
        rows.append(NewtonRow(measure, float(change[largest]), place, damping, system.iterations, until))
        if rules.progress is not None:
            rules.progress(len(rows), measure)
    return unknowns, balance, measure if np.isfinite(measure) else np.inf


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
