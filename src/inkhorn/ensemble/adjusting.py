"""Runs that fit what was measured: what was drawn is changed as little as need be, each run by itself."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration import Observations
from inkhorn.ensemble.varied import VariedSet
from inkhorn.errors import ConvergenceError, InputError
from inkhorn.flow import FlowResult, FlowSensitivity, solve_flow

__all__ = ["Adjusting"]

Array = NDArray[np.float64]

_TOLERANCE = 1e-6
_MOST = 20  # steps
_TRIALS = 6  # of one step
_DAMPS = 5.0
_GAIN = 0.02  # of the misfit, below which a step is the last
_NOT_MET, _OF_FEW = (
    4.0,
    12.0,
)  # times as many as there are readings, and more: misfits beyond which they are not met


@dataclass(frozen=True, eq=False)
class Adjusting:
    """Makes a draw from beforehand one from afterwards: randomised maximum likelihood.

    Each run has readings of its own, drawn about those measured by their standard deviations, and looks for the least
    change of what was drawn that meets them, by damped steps of Gauss and Newton in the space of the readings. Where
    heads change evenly with what is varied the runs are draws from the posterior distribution; elsewhere nearly so.

    Parameters
    ----------
    varied : VariedSet
        On the model whose flow is compared with the readings.
    observations : Observations
        With standard deviations.
    solver : mapping
        Further arguments of `solve_flow`.
    near : array_like of float, optional
        Heads where solving begins; of flow in time that does not begin steady those that it begins with.

    References
    ----------
    Chen, Y. and Oliver, D. S. (2013), Levenberg-Marquardt forms of the iterative ensemble smoother for efficient history
    matching and uncertainty quantification, Computational Geosciences 17(4), 689-703 (the damping).
    Oliver, D. S., He, N. and Reynolds, A. C. (1996), Conditioning permeability fields to pressure data, Proceedings of
    the 5th European Conference on the Mathematics of Oil Recovery.
    Oliver, D. S., Reynolds, A. C. and Liu, N. (2008), Inverse theory for petroleum reservoir characterization and history
    matching, Cambridge University Press, ch. 10.
    """

    varied: VariedSet
    observations: Observations
    solver: Mapping[str, Any] = field(default_factory=dict)
    near: Any = None

    def __post_init__(self) -> None:
        if not self.observations.stated:
            raise InputError(
                "runs are fitted to readings, and these have no standard deviations. Give `deviation` of the readings."
            )

    def _flow(self, coordinates: Array, first: Any) -> FlowResult:
        model = self.varied.model_of(self.varied.of(coordinates))
        schedule = model.schedule
        steady = schedule is None or bool(schedule.steady[0])
        return solve_flow(
            model,
            initial_heads=first if steady else self.near,
            **{**self.solver, "order": 1, "results": "steps"},
        )

    def adjusted(self, drawn: Array, seed: np.random.SeedSequence) -> Array:
        """Return the coordinates of a run that meets its readings, (size,).

        Raises
        ------
        ConvergenceError
            If its readings cannot be met.
        """
        seen = self.observations
        weights = seen.weights
        numbers = np.random.Generator(np.random.PCG64(seed))
        used = weights > 0.0
        wanted = seen.measured.copy()
        wanted[used] += numbers.standard_normal(int(used.sum())) / weights[used]
        now, flow = drawn, self._flow(drawn, self.near)
        off = (wanted - seen.computed(flow)) * weights
        misfit, count = float(off @ off), int(used.sum())
        pull, penalty = (
            np.zeros(len(drawn)),
            0.0,
        )  # the inverse covariance times what was changed, and its square
        damping = 0.1 * misfit / count
        for _ in range(_MOST):
            slope = FlowSensitivity(flow, tolerance=_TOLERANCE).jacobian(
                seen.readings(flow), self.varied.changes(now)
            )
            slope = slope * weights[:, None]
            spread = self.varied.covariance_times(slope.T)
            system, moved = slope @ spread, slope @ (now - drawn)
            found = None
            for _ in range(_TRIALS):
                held = 1.0 + damping
                load = np.linalg.solve(system + held * np.eye(len(off)), off + moved / held)
                there = now + spread @ load - (now - drawn) / held
                pulled = slope.T @ load + (damping / held) * pull
                try:
                    trial = self._flow(there, flow.steps[0].heads)
                except (ConvergenceError, InputError):
                    damping = _DAMPS * max(damping, 0.1)
                    continue
                left = (wanted - seen.computed(trial)) * weights
                change = float(pulled @ (there - drawn))
                if float(left @ left) + change < misfit + penalty:
                    found = there, trial, left, pulled, change
                    break
                damping = _DAMPS * max(damping, 0.1)
            if found is None:
                break
            before, held_back = misfit + penalty, damping
            now, flow, off, pull, penalty = found
            misfit = float(off @ off)
            damping = 0.0 if damping < 1e-2 else damping / _DAMPS**2
            if before - (misfit + penalty) < _GAIN * before and held_back < 1.0:
                break
        if misfit > _NOT_MET * count + _OF_FEW:
            raise ConvergenceError(
                "the readings cannot be met by what is varied: weighted residuals are "
                f"{np.sqrt(misfit / count):.2g} times what their standard deviations allow. Vary more, or trust the "
                "readings less."
            )
        return now
