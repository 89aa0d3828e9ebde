"""Least squares: the parameters that bring computed heads nearest to measured ones."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.observations import FitStatistics, HeadObservations, observe, residual_table
from inkhorn.calibration.parameters import Parameter
from inkhorn.errors import ConvergenceError, InputError
from inkhorn.flow import FlowResult, FlowSensitivity, solve_flow
from inkhorn.model import Model
from inkhorn.progress import Progress
from inkhorn.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["FitResult", "FitRow", "FitState", "calibrate", "head_sensitivities", "with_values"]


@dataclass(frozen=True)
class FitRow:
    """One iteration: sum of squared residuals [m²] after it, the parameter values, flow and linear solves."""

    objective: float
    values: tuple[float, ...]
    flow_solves: int
    sensitivity_solves: int


@dataclass(frozen=True, eq=False)
class FitResult(Shown):
    """What a fit found.

    Attributes
    ----------
    before, after : FlowResult
        Heads with the first values and with the fitted ones; ``after.model`` is the fitted model.
    jacobian : ndarray of float, (n_observations, n_parameters)
        Of the computed heads by the parameters' natural logarithms [m].
    history : tuple of FitRow
        The first row is the start.
    """

    parameters: tuple[Parameter, ...]
    start: NDArray[np.float64]
    values: NDArray[np.float64]
    observations: HeadObservations = field(repr=False)
    before: FlowResult = field(repr=False)
    after: FlowResult = field(repr=False)
    jacobian: NDArray[np.float64] = field(repr=False)
    history: tuple[FitRow, ...] = field(repr=False)
    reason: str = ""

    def __repr__(self) -> str:
        found = ", ".join(f"{p.name} {v:.4g}" for p, v in zip(self.parameters, self.values, strict=True))
        return f"FitResult({found}; {self.statistics()})"

    def residuals(self, *, before: bool = False) -> pd.DataFrame:
        """Return measured and computed level and residual at each bore [m]."""
        return residual_table(self.before if before else self.after, self.observations)

    def statistics(self, *, before: bool = False) -> FitStatistics:
        """Return mean, RMS, scaled RMS and correlation, after the fit or before it."""
        heads = (self.before if before else self.after).steps[-1].heads
        return FitStatistics.of(self.observations.measured, self.observations.rows @ heads)

    def at_bound(self) -> NDArray[np.bool_]:
        """Return which parameters ended on a bound, (n_parameters,)."""
        low = np.array([p.lower for p in self.parameters])
        high = np.array([p.upper for p in self.parameters])
        return np.isclose(self.values, low, rtol=1e-6) | np.isclose(self.values, high, rtol=1e-6)

    def spread(self) -> NDArray[np.float64]:
        """Return the standard error of each parameter's natural logarithm, (n_parameters,).

        From the linearised fit: residual variance times the inverse of ``JᵀJ``. A parameter on its
        bound, or that no observation tells of, has none (inf).
        """
        free = ~self.at_bound()
        spread = np.full(len(self.values), np.inf)
        freedom = len(self.observations.measured) - int(free.sum())
        if freedom > 0 and free.any():
            variance = self.history[-1].objective / freedom
            normal = self.jacobian[:, free].T @ self.jacobian[:, free]
            size, axes = np.linalg.eigh(normal)
            told = size > 1e-12 * size.max()
            variances = (axes[:, told] ** 2 / size[told]).sum(axis=1)
            if not told.all():  # part of the parameter lies in a direction the data say nothing of
                variances[(axes[:, ~told] ** 2).sum(axis=1) > 1e-6] = np.inf
            spread[free] = np.sqrt(variance * variances)
        return spread

    def table(self) -> pd.DataFrame:
        """Return parameters with start, fitted value, 95 % limits and remarks."""
        import pandas as pd

        with np.errstate(over="ignore"):
            factor = np.exp(1.96 * self.spread())
        weight = np.sqrt((self.jacobian**2).mean(axis=0))
        remarks = []
        for held, f in zip(self.at_bound(), factor, strict=True):
            remarks.append("on its bound" if held else "hardly told by the levels" if f > 10.0 else "")
        return pd.DataFrame(
            {
                "parameter": [p.name for p in self.parameters],
                "unit": [p.unit for p in self.parameters],
                "start": self.start,
                "fitted": self.values,
                "lower 95 %": self.values / factor,
                "upper 95 %": self.values * factor,
                "sensitivity [m]": weight,
                "remark": remarks,
            }
        )


@dataclass(frozen=True, eq=False)
class FitState:
    """Where a fit stands after an iteration: all that the next depends on.

    Attributes
    ----------
    before, flow : FlowResult
        With the first values, and with those it has come to.
    damping : float
        Of the next step.
    history : tuple of FitRow
        The first row is the start, the last tells the values.
    """

    before: FlowResult
    flow: FlowResult
    damping: float
    history: tuple[FitRow, ...]


def with_values(model: Model, parameters: Sequence[Parameter], values: Iterable[float]) -> Model:
    """Return a model with parameters set to these values."""
    for p, value in zip(parameters, values, strict=True):
        model = model.with_inputs(p.inputs(model, float(value)))
    return model


def head_sensitivities(
    flow: FlowResult, parameters: Sequence[Parameter], observations: HeadObservations
) -> NDArray[np.float64]:
    """Return the derivatives of the computed heads by the parameters' natural logarithms.

    Of tangent and adjoint the one that needs fewer linear solves is used.

    Returns
    -------
    ndarray of float, (n_observations, n_parameters) [m]
    """
    model, n = flow.model, flow.model.grid.n_cells
    sensitivity = FlowSensitivity(flow)
    values = [p.start(model) for p in parameters]
    slopes = [p.slopes(model, v) for p, v in zip(parameters, values, strict=True)]
    jacobian = np.empty((len(observations.measured), len(parameters)))
    if len(parameters) <= len(observations.measured):
        for k, slope in enumerate(slopes):
            jacobian[:, k] = observations.rows @ sensitivity.tangent(slope)[:n]
    else:
        for i in range(len(observations.measured)):
            weights = np.zeros(sensitivity.equations.n_unknowns)
            weights[:n] = observations.rows[[i]].toarray().ravel()
            gradient = sensitivity.adjoint(weights)
            jacobian[i] = [sum(float(gradient[k] @ s) for k, s in slope.items()) for slope in slopes]
    return jacobian * np.array(values)


def _lowered_enough(history: Sequence[FitRow], tolerance: float) -> bool:
    """Whether the last iteration lowered the sum of squares by so little that it is enough."""
    if len(history) < 2:
        return False
    previous, last = history[-2].objective, history[-1].objective
    return previous - last <= tolerance * previous


def _damped_step(
    jacobian: NDArray[np.float64],
    residual: NDArray[np.float64],
    damping: float,
    room: tuple[NDArray[np.float64], NDArray[np.float64]],
) -> NDArray[np.float64]:
    """Solve the damped normal equations, holding parameters that would leave their bounds."""
    free = np.ones(jacobian.shape[1], dtype=bool)
    step = np.zeros(jacobian.shape[1])
    scale = np.maximum(np.sqrt((jacobian**2).sum(axis=0)), 1e-12)
    while free.any():
        a = np.vstack([jacobian[:, free], np.diag(np.sqrt(damping) * scale[free])])
        right = np.concatenate([residual - jacobian[:, ~free] @ step[~free], np.zeros(int(free.sum()))])
        step[free] = np.linalg.lstsq(a, right, rcond=None)[0]
        outside = free & ((step < room[0]) | (step > room[1]))
        if not outside.any():
            break
        step[outside] = np.clip(step[outside], room[0][outside], room[1][outside])
        free &= ~outside
    return step


def calibrate(
    model: Model,
    parameters: Sequence[Parameter],
    *,
    observations: HeadObservations | None = None,
    max_iterations: int = 20,
    tolerance: float = 0.01,
    solver: Mapping[str, Any] | None = None,
    progress: Progress | None = None,
    keep: Callable[[FitState], None] | None = None,
    go_on: FitState | None = None,
) -> FitResult:
    """Fit parameters to the mean levels at bores.

    Levenberg's and Marquardt's damped least squares on the logarithms of the parameters, within their
    bounds, with derivatives from the discrete tangent or adjoint of the flow equations.

    Parameters
    ----------
    model : Model
        Where to start; its values are the first guess.
    parameters : sequence of Parameter
        What may change.
    observations : HeadObservations, optional
        Those of the model's site if not given.
    max_iterations : int
        Where to stop at the latest.
    tolerance : float
        Stop when an iteration lowers the sum of squares by less than this share.
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
        If there are no parameters, or fewer observations than parameters.

    References
    ----------
    Marquardt, D. W. (1963), An algorithm for least-squares estimation of nonlinear parameters, SIAM
    Journal on Applied Mathematics 11(2), 431-441.
    """
    parameters = tuple(parameters)
    seen = observations or observe(model)
    if not parameters:
        raise InputError("there is nothing to fit: no parameters were given.")
    if len(seen.measured) < len(parameters):
        raise InputError(
            f"{len(seen.measured)} observations cannot fit {len(parameters)} parameters. Fit fewer parameters."
        )
    start = np.array([p.start(model) for p in parameters])
    lower = np.array([p.lower for p in parameters])
    upper = np.array([p.upper for p in parameters])
    for p, value in zip(parameters, start, strict=True):
        if not p.lower <= value <= p.upper:
            raise InputError(
                f'parameter "{p.name}" starts at {value:g} {p.unit}, outside its bounds {p.lower:g} to '
                f"{p.upper:g}. Widen them."
            )

    def solve_with(values: NDArray[np.float64], first: NDArray[np.float64] | None) -> FlowResult:
        return solve_flow(with_values(model, parameters, values), initial_heads=first, **(solver or {}))

    def left(flow: FlowResult) -> NDArray[np.float64]:
        return np.asarray(seen.measured - seen.rows @ flow.steps[-1].heads)

    def reached(iteration: int) -> None:
        if keep is not None:
            keep(FitState(before, flow, damping, tuple(history)))
        if progress is not None:
            progress(f"fitting, iteration {iteration + 1}", None)

    damping, reason = 1e-2, "the iterations that were allowed are done"
    if go_on is None:
        before = flow = solve_with(start, None)
        values, residual = start, left(flow)
        objective = float(residual @ residual)
        history = [FitRow(objective, tuple(values), 1, 0)]
        reached(0)
    else:
        before, flow, damping, history = go_on.before, go_on.flow, go_on.damping, list(go_on.history)
        values, residual, objective = np.array(history[-1].values), left(flow), history[-1].objective
    jacobian = head_sensitivities(flow, parameters, seen)
    sensitivity_solves = min(len(parameters), len(seen.measured))
    for iteration in range(len(history), max_iterations + 1):
        if _lowered_enough(history, tolerance):
            break
        tries, better = 0, False
        while tries < 8 and not better:
            room = (np.log(lower / values), np.log(upper / values))
            step = np.clip(_damped_step(jacobian, residual, damping, room), *room)
            trial = np.clip(values * np.exp(np.clip(step, -2.0, 2.0)), lower, upper)
            tries += 1
            try:
                there = solve_with(trial, flow.steps[-1].heads)
            except ConvergenceError:
                damping *= 5.0
                continue
            trial_residual = left(there)
            better = float(trial_residual @ trial_residual) < objective
            if not better:
                damping *= 5.0
            elif tries == 1:
                damping = max(damping / 5.0, 1e-9)
        if not better:
            reason = "no step lowers the sum of squares any more"
            break
        values, flow, residual = trial, there, trial_residual
        objective = float(residual @ residual)
        jacobian = head_sensitivities(flow, parameters, seen)
        history.append(FitRow(objective, tuple(values), tries, sensitivity_solves))
        reached(iteration)
    if _lowered_enough(history, tolerance):
        reason = f"the last iteration lowered the sum of squares by less than {tolerance:.0e}"
    return FitResult(parameters, start, values, seen, before, flow, jacobian, tuple(history), reason)
