"""Damped least squares: one fit, iteration by iteration."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.observations import Observations
from inkhorn.calibration.parameters import ParameterSet
from inkhorn.calibration.regularise import Penalty, Regularisation, known_beforehand, penalty_of
from inkhorn.calibration.steps import Linear, damped_step, directions, fitting_strength
from inkhorn.errors import ConvergenceError, InputError
from inkhorn.flow import FlowResult, FlowSensitivity, solve_flow
from inkhorn.progress import Progress

__all__ = ["End", "FitRow", "FitState", "FlowSolver", "LeastSquares", "refuse_endless", "weighted_jacobian"]

Array = NDArray[np.float64]

_TOLERANCE = 1e-7  # of the linear solves behind sensitivities
_TRIES = 8
_FARTHEST = 2.0  # change of a logarithm in one step


@dataclass(frozen=True)
class FitRow:
    """One iteration.

    Attributes
    ----------
    misfit : float
        Sum of squared weighted residuals after it.
    penalty : float
        What was known or asked besides adds so much.
    by_group : dict of str to float
        The misfit by group of readings.
    coordinates : tuple of float
        Of the free numbers.
    damping, strength : float
        Of the step; of what was asked besides.
    largest : str
        The number that changed most.
    change : float
        By how much: of its logarithm where that is fitted.
    flow_solves, sensitivity_solves : int
    """

    misfit: float
    penalty: float
    by_group: Mapping[str, float]
    coordinates: tuple[float, ...]
    damping: float
    strength: float
    largest: str
    change: float
    flow_solves: int
    sensitivity_solves: int

    @property
    def objective(self) -> float:
        """What is minimised."""
        return self.misfit + self.penalty


@dataclass(frozen=True, eq=False)
class FitState:
    """Where a fit stands after an iteration: all that the next depends on.

    Attributes
    ----------
    before, flow : FlowResult
        With the first values, and with those it has come to.
    damping, strength : float
        Of the next step.
    history : tuple of FitRow
        The first row is the start, the last tells the values.
    """

    before: FlowResult
    flow: FlowResult
    damping: float
    strength: float
    history: tuple[FitRow, ...]


class End(NamedTuple):
    """Where a fit has stopped, and why."""

    before: FlowResult
    flow: FlowResult
    jacobian: Array
    history: tuple[FitRow, ...]
    reason: str


def weighted_jacobian(
    flow: FlowResult,
    parameters: ParameterSet,
    observations: Observations,
    coordinates: Array,
    *,
    progress: Progress | None = None,
) -> tuple[Array, int]:
    """Return the derivatives of weighted computed values by coordinates, and how many linear solves it took.

    Returns
    -------
    jacobian : ndarray of float, (n_readings, n)
    solves : int
    """
    sensitivity = FlowSensitivity(flow, tolerance=_TOLERANCE)
    by = parameters.made(coordinates).by
    found = sensitivity.jacobian(observations.readings(flow), by, progress=progress)
    return observations.weights[:, None] * found, sensitivity.solves


def refuse_endless(jacobian: Array, parameters: ParameterSet, observations: Observations) -> None:
    bad = np.argwhere(~np.isfinite(jacobian))
    if len(bad):
        reading, number = bad[0]
        raise InputError(
            f"the sensitivity of {observations.table['name'].iloc[reading]} to {parameters.names[number]} is no number. "
            "Look at both: is the one dry, the other without effect?"
        )


class FlowSolver:
    """Flows with parameters at some coordinates."""

    def __init__(self, parameters: ParameterSet, initial_heads: Any, options: Mapping[str, Any]) -> None:
        self.parameters, self.initial_heads = parameters, initial_heads
        schedule = parameters.model.schedule
        self.from_heads = schedule is not None and not schedule.steady[0]
        self.options = {**options, "order": 1, "results": "steps"}

    def flow(self, coordinates: Array, near: FlowResult | None) -> FlowResult:
        model = self.parameters.model_with(coordinates)
        first = self.initial_heads if self.from_heads or near is None else near.steps[0].heads
        return solve_flow(model, initial_heads=first, **self.options)


class LeastSquares:
    """One fit that goes on."""

    def __init__(
        self,
        parameters: ParameterSet,
        observations: Observations,
        asked: Regularisation,
        solver: FlowSolver,
        progress: Progress,
    ) -> None:
        self.parameters, self.observations, self.asked = parameters, observations, asked
        self.solver, self.progress = solver, progress
        self.known, self.penalty = known_beforehand(parameters), penalty_of(parameters, asked)
        self.groups = observations.table["group"].to_numpy()
        scale = np.where(parameters.logarithmic, 1.0, np.nan)
        low, high = parameters.bounds
        with np.errstate(invalid="ignore"):
            span = np.where(
                np.isfinite(high - low), 0.25 * (high - low), np.maximum(np.abs(parameters.start), 1.0)
            )
        self.scale = np.where(np.isnan(scale), span, scale)

    def residual(self, flow: FlowResult) -> Array:
        return (self.observations.measured - self.observations.computed(flow)) * self.observations.weights

    def _whole(self, strength: float) -> Penalty:
        return self.known.plus(Penalty(self.penalty.centre, strength * self.penalty.precision))

    def _beside(self, coordinates: Array, strength: float) -> float:
        return self.known.at(coordinates) + strength * self.penalty.at(coordinates)

    def _row(
        self, residual: Array, coordinates: Array, before: Array, damping: float, strength: float, solves: tuple[int, int]
    ) -> FitRow:  # fmt: skip
        moved = (coordinates - before) / self.scale
        most = int(np.argmax(np.abs(moved)))
        groups = {str(g): float(np.sum(residual[self.groups == g] ** 2)) for g in dict.fromkeys(self.groups)}
        return FitRow(
            float(residual @ residual), self._beside(coordinates, strength), groups, tuple(coordinates.tolist()),
            damping, strength, self.parameters.names[most] if moved.any() else "", float(moved[most]), *solves,
        )  # fmt: skip

    def run(
        self,
        max_iterations: int,
        tolerance: float,
        keep: Callable[[FitState], None] | None,
        go_on: FitState | None,
    ) -> End:
        """Go on until it is enough."""
        strength = 1.0 if self.asked.strength == "target" else float(self.asked.strength)
        damping, reason = 1e-3, "the iterations that were allowed are done"
        if go_on is None:
            self.progress("fitting: the first flow", None)
            coordinates = self.parameters.start
            before = flow = self.solver.flow(coordinates, None)
            residual = self.residual(flow)
            history = [self._row(residual, coordinates, coordinates, damping, strength, (1, 0))]
            if keep is not None:
                keep(FitState(before, flow, damping, strength, tuple(history)))
        else:
            before, flow, damping, strength = go_on.before, go_on.flow, go_on.damping, go_on.strength
            history, residual = list(go_on.history), self.residual(go_on.flow)
            coordinates = np.array(history[-1].coordinates)
        jacobian, solves = self._derived(flow, coordinates, len(history))
        for iteration in range(len(history), max_iterations + 1):
            stop = self._enough(history, tolerance)
            if stop:
                reason = stop
                break
            linear = Linear(jacobian, residual, coordinates, self.scale)
            basis = directions(linear, self.asked)
            if self.asked.strength == "target":
                goal = self.asked.target**2 * len(residual)
                # a nonlinear fit comes to it by steps
                goal = max(goal, 0.25 * history[-1].misfit)
                strength = fitting_strength(linear, self.known, self.penalty, basis, goal, strength)
            if self._foreseen(linear, basis, strength) <= 0.1 * tolerance:
                reason = f"no step is foreseen to lower what is minimised by {0.1 * tolerance:.0e} of it"
                break
            tried = self._improved(linear, basis, strength, damping, flow, iteration)
            damping = tried[0]
            if tried[1] is None:
                reason = "no step lowers what is minimised any more"
                break
            previous, (coordinates, flow, residual), tries = coordinates, tried[1], tried[2]
            jacobian, solves = self._derived(flow, coordinates, iteration + 1)
            history.append(self._row(residual, coordinates, previous, damping, strength, (tries, solves)))
            if keep is not None:
                keep(FitState(before, flow, damping, strength, tuple(history)))
        else:
            reason = self._enough(history, tolerance) or reason
        return End(before, flow, jacobian, tuple(history), reason)

    def _derived(self, flow: FlowResult, coordinates: Array, iteration: int) -> tuple[Array, int]:
        def heard(_: str, share: float | None) -> None:
            self.progress(f"fitting, iteration {iteration}: sensitivities", share)

        jacobian, solves = weighted_jacobian(
            flow, self.parameters, self.observations, coordinates, progress=heard
        )
        refuse_endless(jacobian, self.parameters, self.observations)
        return jacobian, solves

    def _foreseen(self, linear: Linear, basis: Array, strength: float) -> float:
        """By what share the linear fit would lower what is minimised."""
        at, (low, high) = linear.coordinates, self.parameters.bounds
        step = damped_step(linear, self._whole(strength), basis, 0.0, (low - at, high - at))
        left = linear.residual - linear.jacobian @ step
        now = float(linear.residual @ linear.residual) + self._beside(at, strength)
        return 1.0 - (float(left @ left) + self._beside(at + step, strength)) / max(now, 1e-300)

    def _enough(self, history: Sequence[FitRow], tolerance: float) -> str:
        """Why it is enough, in words; nothing if it is not."""
        if len(history) < 2:
            return ""
        last = history[-1]
        if last.misfit <= 1e-20 * max(history[0].misfit, 1e-300):
            return "the readings are met"
        # by the same measure: the strength may have changed
        before = history[-2].misfit + self._beside(np.array(history[-2].coordinates), last.strength)
        lowered = before - last.objective
        if self.asked.strength == "target":
            goal = self.asked.target**2 * len(self.observations)
            if last.misfit <= 1.02 * goal and abs(lowered) <= 10.0 * tolerance * before:
                return f"the misfit has reached its target, {self.asked.target:g} in the root mean square"
            if (
                last.misfit > 1.02 * goal
                and history[-2].misfit - last.misfit > tolerance * history[-2].misfit
            ):
                return ""
        if abs(lowered) <= tolerance * before:
            return f"the last iteration lowered what is minimised by less than {tolerance:.0e} of it"
        if abs(last.change) < 1e-7:
            return "the last step changed nothing to speak of"
        return ""

    def _improved(
        self, linear: Linear, basis: Array, strength: float, damping: float, flow: FlowResult, iteration: int
    ) -> tuple[float, tuple[Array, FlowResult, Array] | None, int]:
        """Damp the step until it lowers what is minimised: the damping, what was come to (or nothing), the flows tried.

        Each step is bent the way the fit bends along it (Transtrum & Sethna 2012), as long as that is little beside it.
        """
        whole, at = self._whole(strength), linear.coordinates
        low, high = self.parameters.bounds
        far = _FARTHEST * self.scale
        room = (np.maximum(low - at, -far), np.minimum(high - at, far))
        now = float(linear.residual @ linear.residual) + self._beside(at, strength)
        solves = 0

        def at_step(step: Array) -> tuple[Array, FlowResult, Array] | None:
            nonlocal solves
            there = np.clip(at + step, low, high)
            solves += 1
            self.progress(f"fitting, iteration {iteration}: step {solves}", None)
            try:
                found = self.solver.flow(there, flow)
            except (ConvergenceError, InputError):
                return None
            return there, found, self.residual(found)

        def judged(step: Array) -> tuple[float, tuple[Array, FlowResult, Array] | None]:
            """What of the fall that was foreseen has come, and where that is."""
            found = at_step(step)
            if found is None:
                return -np.inf, None
            foreseen = linear.residual - linear.jacobian @ step
            hoped = now - float(foreseen @ foreseen) - self._beside(at + step, strength)
            fall = now - float(found[2] @ found[2]) - self._beside(found[0], strength)
            return fall / max(hoped, 1e-300), found

        for _ in range(_TRIES):
            step = damped_step(linear, whole, basis, damping, room)
            gain, found = judged(step)
            if gain < 0.5:  # the fit bends along it: see how
                other = self._bent(linear, basis, damping, room, step, at_step)
                if other is not None:
                    bent_gain, bent = judged(other)
                    if bent is not None and bent_gain > gain:
                        gain, found = bent_gain, bent
            if found is not None and gain > 0.0:
                change = 0.1 if gain > 0.6 else 1.0 if gain > 0.2 else 3.0
                return max(damping * change, 1e-12), found, solves
            damping = max(damping * 10.0, 1e-5)
        return damping, None, solves

    def _bent(
        self,
        linear: Linear,
        basis: Array,
        damping: float,
        room: tuple[Array, Array],
        step: Array,
        at_step: Callable[[Array], tuple[Array, FlowResult, Array] | None],
    ) -> Array | None:
        """The step with half the second derivative of the readings along it made up for; none if that is too much."""
        part = 0.1
        near = at_step(part * step)
        if near is None:
            return None
        bend = 2.0 / part * (-(near[2] - linear.residual) / part - linear.jacobian @ step)
        none = Penalty(linear.coordinates, np.zeros_like(self.penalty.precision))
        left = linear._replace(residual=-0.5 * bend)
        more = damped_step(left, none, basis, max(damping, 1e-9), (room[0] - step, room[1] - step))
        small = np.linalg.norm(more / self.scale) <= 0.75 * np.linalg.norm(step / self.scale)
        return step + more if small else None
