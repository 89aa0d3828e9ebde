"""How a solution was reached: every step of Newton's method, and how well the equations and budgets close."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["NewtonRow", "SolverReport"]


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

    rows: tuple[NewtonRow, ...] = ()
    closure: float = 0.0
    unknowns: int = 0
    closing_error_percent: float = 0.0

    @classmethod
    def of(cls, reports: Iterable[SolverReport]) -> SolverReport:
        """Return one report for several, of one run after the other."""
        parts = tuple(reports)
        return cls(
            tuple(row for part in parts for row in part.rows),
            max((part.closure for part in parts), default=0.0),
            max((part.unknowns for part in parts), default=0),
            max((part.closing_error_percent for part in parts), default=0.0),
        )

    @property
    def iterations(self) -> int:
        """Newton steps."""
        return len(self.rows)

    def table(self) -> pd.DataFrame:
        """Return the history as a table, one row per Newton step."""
        import pandas as pd

        return pd.DataFrame(
            [
                {
                    "step": k,
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

    def __repr__(self) -> str:
        return f"SolverReport({self})"

    def __str__(self) -> str:
        linear = sum(r.linear_iterations for r in self.rows)
        return (
            f"{self.unknowns} unknowns, {self.iterations} Newton steps, "
            f"{linear or 'no'} linear iterations, closure {self.closure:.1e}"
        )
