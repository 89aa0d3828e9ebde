"""Least squares: the parameters that bring computed values nearest to measured ones."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.knowledge import Knowledge
from inkhorn.calibration.least_squares import (
    FitRow,
    FitState,
    FlowSolver,
    LeastSquares,
    refuse_endless,
    weighted_jacobian,
)
from inkhorn.calibration.levels import FitStatistics
from inkhorn.calibration.observations import Observations, observe
from inkhorn.calibration.parameters import Parameter, ParameterSet
from inkhorn.calibration.regularise import Regularisation, known_beforehand, penalty_of
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.progress import Progress
from inkhorn.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["FitResult", "calibrate", "sensitivities"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class FitResult(Shown):
    """What a fit found.

    Attributes
    ----------
    parameters : ParameterSet
    observations : Observations
    regularisation : Regularisation
    before, after : FlowResult
        With the first values and with the fitted ones; ``after.model`` is the fitted model.
    jacobian : ndarray of float, (n_readings, n)
        Of weighted computed values by the coordinates of the free numbers, at the fitted ones.
    history : tuple of FitRow
        The first row is the start.
    reason : str
        Why it stopped.
    """

    parameters: ParameterSet
    observations: Observations = field(repr=False)
    regularisation: Regularisation
    before: FlowResult = field(repr=False)
    after: FlowResult = field(repr=False)
    jacobian: Array = field(repr=False)
    history: tuple[FitRow, ...] = field(repr=False)
    reason: str = ""

    def __repr__(self) -> str:
        names, values = self.parameters.names, self.numbers
        found = ", ".join(f"{n} {v:.4g}" for n, v in zip(names[:4], values[:4], strict=True))
        return f"FitResult({found}{', …' if len(values) > 4 else ''}; {self.statistics()})"

    @property
    def coordinates(self) -> Array:
        """Of the free numbers, (n,)."""
        return np.array(self.history[-1].coordinates)

    @property
    def numbers(self) -> Array:
        """The free numbers, (n,)."""
        return self.parameters.numbers(self.coordinates)

    @property
    def model(self) -> Model:
        """The fitted model."""
        return self.after.model

    @cached_property
    def knowledge(self) -> Knowledge:
        """What the readings say of the parameters, and what they cannot."""
        return _knowledge(
            self.parameters, self.observations, self.regularisation, self.coordinates, self.after, self.jacobian,
            self.history[-1].strength,
        )  # fmt: skip

    def residuals(self, *, before: bool = False) -> pd.DataFrame:
        """Return measured and computed values, residuals (measured less computed) and weighted ones."""
        return self.observations.residuals(self.before if before else self.after)

    def statistics(self, *, before: bool = False, unit: str | None = None) -> FitStatistics:
        """Return mean, RMS, scaled RMS and correlation of the readings in one unit; of the first if not said."""
        table = self.residuals(before=before)
        mine = table[table["unit"] == (unit or table["unit"].iloc[0])]
        return FitStatistics.of(
            mine["measured"].to_numpy(), mine["computed"].to_numpy(), unit=str(mine["unit"].iloc[0])
        )

    def table(self) -> pd.DataFrame:
        """Return all numbers with start, fitted value, limits beforehand and now, and remarks; held ones too."""
        import pandas as pd

        p, free = self.parameters, self.knowledge.table().rename(columns={"value": "fitted"})
        rest = [k for k in range(len(p.scalars)) if k not in set(p.free.tolist())]
        if not rest:
            return free
        values = p.all_numbers(self.coordinates)
        more = pd.DataFrame(
            {
                "parameter": [p.scalars[k].name for k in rest],
                "unit": [p.scalars[k].unit for k in rest],
                "start": [p.scalars[k].start for k in rest],
                "fitted": values[rest],
                "remark": [
                    "held" if p.scalars[k].leader < 0 else f"follows {p.scalars[p.scalars[k].leader].name}"
                    for k in rest
                ],
            }
        )
        return pd.concat([free, more], ignore_index=True)

    def summary(self) -> pd.DataFrame:
        """Return one row for each parameter; of pilot points their mean (geometric of logarithms) and its limits.

        Returns
        -------
        pandas.DataFrame
            Columns parameter, unit, start, fitted, lower 95 %, upper 95 %, points (least and greatest of them), remark.
        """
        import pandas as pd

        p, know, rows = self.parameters, self.knowledge, []
        whole = self.table().set_index("parameter")
        groups = {q.name: mine for q, mine, _ in p.groups()}
        for parameter in p.parameters:
            mine = groups.get(parameter.name)
            if mine is None or not len(mine):
                names = [s.name for s in p.scalars if p.parameters[s.parameter] is parameter]
                rows += [{"parameter": n, **whole.loc[n].to_dict()} for n in names]
                continue
            part = np.zeros(len(p))
            part[mine] = 1.0 / len(mine)
            spread = know.times * float(np.sqrt(part @ know.covariance @ part))
            logs = bool(p.logarithmic[mine].all())
            start, middle = float(part @ p.start), float(part @ self.coordinates)
            values = self.numbers[mine]
            low = int((know.share[mine] < 0.2).sum())
            numbers = (start, middle, middle - spread, middle + spread)
            called = ("start", "fitted", "lower 95 %", "upper 95 %")
            rows.append(
                {
                    "parameter": parameter.name,
                    "unit": p.scalars[p.free[mine[0]]].unit,
                    **{n: float(np.exp(v)) if logs else v for n, v in zip(called, numbers, strict=True)},
                    "points": f"{len(mine)}: {values.min():.3g} to {values.max():.3g}",
                    "remark": f"{low} points hardly told" if low else "",
                }
            )
        columns = ["parameter", "unit", "start", "fitted", "lower 95 %", "upper 95 %", "points", "remark"]
        return pd.DataFrame(rows).reindex(columns=columns)

    def history_table(self) -> pd.DataFrame:
        """Return one row for each iteration, its start first."""
        import pandas as pd

        rows = []
        for k, row in enumerate(self.history):
            values = self.parameters.numbers(np.array(row.coordinates))
            rows.append(
                {
                    "iteration": k, "misfit [-]": row.misfit, "penalty [-]": row.penalty,
                    **{f"misfit of {g} [-]": v for g, v in row.by_group.items()},
                    "damping [-]": row.damping, "strength [-]": row.strength, "largest change": row.largest,
                    "change [-]": row.change, "flow solves": row.flow_solves,
                    "sensitivity solves": row.sensitivity_solves,
                    **dict(zip(self.parameters.names, values.tolist(), strict=True)),
                }
            )  # fmt: skip
        return pd.DataFrame(rows)


def _dry(flow: FlowResult, parameters: ParameterSet, coordinates: Array) -> NDArray[np.bool_]:
    """Whether all cells that each number acts on are drained at the end of every step."""
    wet = np.zeros(flow.model.grid.n_cells, dtype=bool)
    for k in range(len(flow.steps)):
        wet |= flow.filled(k) > 0.01
    dry = np.ones(len(parameters), dtype=bool)
    for name, by in parameters.made(coordinates).by.items():
        rows = by.tocoo()
        cells = parameters.cells_of(name)[rows.row % len(parameters.cells_of(name))]
        dry[np.unique(rows.col[wet[cells]])] = False
    return dry


def _knowledge(
    parameters: ParameterSet,
    observations: Observations,
    regularisation: Regularisation,
    coordinates: Array,
    flow: FlowResult,
    jacobian: Array,
    strength: float,
    *,
    done: bool = True,
) -> Knowledge:
    asked, known = penalty_of(parameters, regularisation), known_beforehand(parameters)
    precision = known.precision + strength * asked.precision
    pull = -known.precision @ (coordinates - known.centre) - strength * asked.precision @ (
        coordinates - asked.centre
    )
    residual = (observations.measured - observations.computed(flow)) * observations.weights
    return Knowledge(
        parameters, observations, coordinates, jacobian, residual, precision, pull,
        _dry(flow, parameters, coordinates), done,
    )  # fmt: skip


def _refuse(parameters: ParameterSet, observations: Observations, regularisation: Regularisation) -> None:
    """Refuse what cannot be fitted, before anything is solved."""
    if not parameters.parameters:
        raise InputError("there is nothing to fit: no parameters were given.")
    if not len(parameters):
        raise InputError("there is nothing to fit: all parameters are held or follow others. Free one.")
    informed = np.isfinite(parameters.deviation).any()
    if informed and not observations.stated:
        raise InputError(
            "parameters state standard deviations, and no reading does: what is known beforehand cannot be weighed "
            "against what was measured. Give `deviation` of the readings, as of bores, or by a "
            "rule for weights."
        )
    if regularisation.strength == "target" and not observations.stated:
        raise InputError(
            "a misfit is aimed at, and no reading has a standard deviation to measure it by. Give `deviation` of "
            "the readings."
        )
    held_back = regularisation.kind != "none" or regularisation.truncates or informed
    if len(observations) < len(parameters) and not held_back:
        raise InputError(
            f"{len(observations)} readings cannot fit {len(parameters)} numbers. Fit fewer, say what is known of them "
            '(`deviation`), or regularise, as with kind = "neighbours alike".'
        )


def sensitivities(
    flow: FlowResult,
    parameters: Sequence[Parameter] | ParameterSet,
    observations: Observations | None = None,
    *,
    regularisation: Regularisation | None = None,
    progress: Progress | None = None,
) -> Knowledge:
    """Return what readings say of parameters where a model stands, before anything is fitted.

    Parameters
    ----------
    flow : FlowResult
        Of the model that parameters are of; in time by steps of first order.
    parameters : sequence of Parameter, or ParameterSet
    observations : Observations, optional
        Those of the model's site if not given.
    regularisation : Regularisation, optional
        What is known besides.

    Returns
    -------
    Knowledge
    """
    made = parameters if isinstance(parameters, ParameterSet) else ParameterSet(flow.model, parameters)
    seen = observations or observe(flow.model)
    asked = regularisation or Regularisation()
    if not len(made):
        raise InputError("there is nothing to look at: all parameters are held or follow others. Free one.")
    jacobian, _ = weighted_jacobian(flow, made, seen, made.start, progress=progress)
    refuse_endless(jacobian, made, seen)
    strength = 1.0 if asked.strength == "target" else float(asked.strength)
    return _knowledge(made, seen, asked, made.start, flow, jacobian, strength, done=False)


def calibrate(
    model: Model,
    parameters: Sequence[Parameter] | ParameterSet,
    *,
    observations: Observations | None = None,
    regularisation: Regularisation | None = None,
    max_iterations: int = 30,
    tolerance: float = 1e-3,
    initial_heads: Any = None,
    solver: Mapping[str, Any] | None = None,
    progress: Progress | None = None,
    keep: Callable[[FitState], None] | None = None,
    go_on: FitState | None = None,
) -> FitResult:
    """Fit parameters to what was measured, steady or in time.

    Levenberg's and Marquardt's damped least squares within bounds, with derivatives from the discrete tangent or adjoint
    of the flow equations. Flow in time is solved by steps of first order, all kept, as these can be differentiated.

    Parameters
    ----------
    model : Model
        Where to start; its values are the first guess.
    parameters : sequence of Parameter, or ParameterSet
        What may change.
    observations : Observations, optional
        From `observe`; those of the model's site if not given.
    regularisation : Regularisation, optional
        What holds parameters where readings say little; nothing if not given.
    max_iterations : int
        Where to stop at the latest.
    tolerance : float
        Stop when an iteration lowers what is minimised by less than this share.
    initial_heads : array_like of float, optional
        Heads that a run through time begins with, where its first period is not steady; else a first guess [m].
    solver : mapping, optional
        Options of `solve_flow`, such as its closure.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.
    keep : callable, optional
        Given the `FitState` after each iteration, so that a fit that is stopped can go on.
    go_on : FitState, optional
        Go on from there, to the same bits as if it had not stopped.

    Returns
    -------
    FitResult

    Raises
    ------
    InputError
        If there is nothing to fit or to go by; if fewer readings than numbers are to fix these and nothing else does; if
        what is known beforehand cannot be weighed against readings; if a sensitivity is no number.

    References
    ----------
    Marquardt, D. W. (1963), An algorithm for least-squares estimation of nonlinear parameters, SIAM
    Journal on Applied Mathematics 11(2), 431-441.
    """
    made = parameters if isinstance(parameters, ParameterSet) else ParameterSet(model, parameters)
    asked = regularisation or Regularisation()
    if not made.parameters:
        raise InputError("there is nothing to fit: no parameters were given.")
    seen = observations or observe(model)
    _refuse(made, seen, asked)
    solve = FlowSolver(made, initial_heads, solver or {})
    fit = LeastSquares(made, seen, asked, solve, progress or (lambda *_: None))
    end = fit.run(max_iterations, tolerance, keep, go_on)
    return FitResult(made, seen, asked, end.before, end.flow, end.jacobian, end.history, end.reason)
