"""How sure a forecast is, and what to measure next: linear Bayes with the sensitivities of a fit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.fit import FitResult
from inkhorn.calibration.knowledge import Knowledge
from inkhorn.calibration.least_squares import weighted_jacobian
from inkhorn.calibration.observations import Observations
from inkhorn.calibration.parameters import ParameterSet
from inkhorn.errors import InputError, check_positive
from inkhorn.flow import FlowResult, FlowSensitivity, solve_flow
from inkhorn.model import Model
from inkhorn.progress import Progress
from inkhorn.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Forecast", "forecast"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Forecast(Shown):
    """Numbers computed by a fitted model, and how sure they are.

    What is known beforehand is what parameters state; where they state nothing, their bounds count as two standard
    deviations either way.

    Attributes
    ----------
    targets : Observations
        What is forecast; of its table all but what was measured holds.
    values : ndarray of float, (n,)
        By the fitted model.
    jacobian : ndarray of float, (n, n_parameters)
        By the coordinates of the free numbers.
    flow : FlowResult
        That they are read of.
    knowledge : Knowledge
        Of the fit.
    """

    targets: Observations
    values: Array
    jacobian: Array = field(repr=False)
    flow: FlowResult = field(repr=False)
    knowledge: Knowledge = field(repr=False)

    def __repr__(self) -> str:
        said = ", ".join(
            f"{n} {v:.4g} ± {s:.2g}" for n, v, s in zip(self.names[:3], self.values, self.after, strict=False)
        )
        return f"Forecast({said}{', …' if len(self.values) > 3 else ''})"

    @property
    def names(self) -> list[str]:
        """What is forecast."""
        return self.targets.table["name"].tolist()

    @property
    def before(self) -> Array:
        """Standard errors by what was known beforehand alone, (n,)."""
        return _spread(self.jacobian, np.linalg.inv(self.knowledge.beforehand))

    @property
    def after(self) -> Array:
        """Standard errors by that and the readings, (n,)."""
        return _spread(self.jacobian, self._covariance)

    @cached_property
    def _covariance(self) -> Array:
        return np.asarray(np.linalg.inv(self.knowledge.afterwards), dtype=np.float64)

    def table(self) -> pd.DataFrame:
        """Return what is forecast, with standard errors before and after the readings, and 95 % limits."""
        import pandas as pd

        return pd.DataFrame(
            {
                "name": self.names,
                "kind": self.targets.table["kind"].to_numpy(),
                "date": self.targets.table["date"].to_numpy(),
                "time [day]": self.targets.table["time [day]"].to_numpy(),
                "unit": self.targets.table["unit"].to_numpy(),
                "forecast": self.values,
                "standard error before": self.before,
                "standard error": self.after,
                "lower 95 %": self.values - 1.96 * self.after,
                "upper 95 %": self.values + 1.96 * self.after,
            }
        )

    def _which(self, name: str | None) -> int:
        if name is None:
            return 0
        if name not in self.names:
            raise InputError(f'nothing is forecast under the name "{name}"; expected one of {self.names}.')
        return self.names.index(name)

    def worth_of_readings(self, name: str | None = None) -> pd.DataFrame:
        """Return by how much the standard error of a forecast would be greater without each bore or measurement.

        Parameters
        ----------
        name : str, optional
            Which forecast; the first if not given.

        Returns
        -------
        pandas.DataFrame
            Columns name, readings, standard error without it, and by how much that is more [%]; the worthiest first.
        """
        import pandas as pd

        k, know = self._which(name), self.knowledge
        row, whole = self.jacobian[[k]], self.after[k]
        names, rows = know.observations.table["name"].to_numpy(), []
        for one in dict.fromkeys(names):
            mine = know.jacobian[names == one]
            less = know.afterwards - mine.T @ mine / know.usual_variance
            without = float(_spread(row, np.linalg.inv(less))[0])
            rows.append((one, int((names == one).sum()), without, 100.0 * (without / whole - 1.0)))
        table = pd.DataFrame(rows, columns=["name", "readings", "standard error without", "more [%]"])
        return table.sort_values("more [%]", ascending=False, ignore_index=True)

    def worth_of(
        self, candidates: Observations, name: str | None = None, *, progress: Progress | None = None
    ) -> pd.DataFrame:
        """Return by how much new bores, gauges or pumping tests would lower the standard error of a forecast.

        Parameters
        ----------
        candidates : Observations
            What might be measured, from `observe` on the fitted model, each with its standard deviation; readings of one
            name count together. What they would measure is not known and does not matter.
        name : str, optional
            Which forecast; the first if not given.

        Returns
        -------
        pandas.DataFrame
            Columns name, kind, readings, standard error with it, and by how much that is less [%]; the worthiest first.
        """
        import pandas as pd

        if not candidates.stated:
            raise InputError("what might be measured has no standard deviation. Give `deviation` of each.")
        k, parameters = self._which(name), self.knowledge.parameters
        row, whole = self.jacobian[[k]], self.after[k]
        new, _ = weighted_jacobian(
            self.flow, parameters, candidates, self.knowledge.coordinates, progress=progress
        )
        names, rows = candidates.table["name"].to_numpy(), []
        for one in dict.fromkeys(names):
            mine = new[names == one]
            with_it = float(_spread(row, np.linalg.inv(self.knowledge.afterwards + mine.T @ mine))[0])
            kind = candidates.table["kind"].to_numpy()[names == one][0]
            rows.append((one, kind, int((names == one).sum()), with_it, 100.0 * (1.0 - with_it / whole)))
        columns = ["name", "kind", "readings", "standard error with", "less [%]"]
        return pd.DataFrame(rows, columns=columns).sort_values("less [%]", ascending=False, ignore_index=True)

    @cached_property
    def _heads_by(self) -> Array:
        """Heads of all cells in the end by the coordinates, (n_cells, n_parameters)."""
        know = self.knowledge
        changes = know.parameters.made(know.coordinates).by
        return FlowSensitivity(self.flow, tolerance=1e-7).heads_by(changes)

    def worth_of_level(self, layer: str, deviation: float, name: str | None = None) -> Array:
        """Return by how much one more level anywhere in a layer would lower the standard error of a forecast.

        Parameters
        ----------
        layer : str
            In which layer; of one in parts the uppermost.
        deviation : float
            Standard deviation of that level [m].
        name : str, optional
            Which forecast; the first if not given.

        Returns
        -------
        ndarray of float, (n_plan,)
            [%], NaN where the layer is absent.
        """
        check_positive("deviation", deviation, unit="m")
        k, grid = self._which(name), self.flow.model.grid
        number = grid.cell_number[grid.layer_index(layer)]
        there = number >= 0
        rows = self._heads_by[number[there]]
        cross = rows @ (self._covariance @ self.jacobian[k])
        own = np.einsum("ij,jk,ik->i", rows, self._covariance, rows)
        left = np.maximum(self.after[k] ** 2 - cross**2 / (own + deviation**2), 0.0)
        found = np.full(len(number), np.nan)
        found[there] = 100.0 * (1.0 - np.sqrt(left) / max(self.after[k], 1e-300))
        return found


def _spread(rows: Array, covariance: Any) -> Array:
    return np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", rows, covariance, rows), 0.0))


def forecast(
    fit: FitResult | Knowledge,
    targets: Observations,
    *,
    flow: FlowResult | None = None,
    scenario: Model | None = None,
    solver: Mapping[str, Any] | None = None,
    initial_heads: Any = None,
    progress: Progress | None = None,
) -> Forecast:
    """Forecast numbers by a fitted model, or by another model with its parameters, and say how sure they are.

    Parameters
    ----------
    fit : FitResult or Knowledge
        A fit; or what readings say of parameters, with the flow that they are at.
    targets : Observations
        What is forecast, from `observe`: bores and measurements stand for what might be measured there.
    flow : FlowResult, optional
        Of `Knowledge` the flow at its coordinates.
    scenario : Model, optional
        Another model on the same grid, such as one with more pumping or through time: the fitted numbers are put into it,
        and forecasts are read of its flow. That of the fit if not given.
    solver, initial_heads
        For the flow of the scenario, as of `calibrate`.

    Returns
    -------
    Forecast

    Raises
    ------
    InputError
        If the scenario is on another grid, or lacks what a parameter is of.
    """
    know = fit.knowledge if isinstance(fit, FitResult) else fit
    parameters, coordinates = know.parameters, know.coordinates
    if scenario is not None:
        if scenario.grid.n_cells != parameters.model.grid.n_cells:
            raise InputError(
                f"the scenario has {scenario.grid.n_cells} cells, and the fit {parameters.model.grid.n_cells}. Make it "
                "on the grid of the fit."
            )
        there = ParameterSet(scenario, parameters.parameters)
        flow = solve_flow(
            there.model_with(coordinates), initial_heads=initial_heads, order=1, results="steps", progress=progress,
            **(solver or {}),
        )  # fmt: skip
        by = there.made(coordinates).by
    else:
        by = parameters.made(coordinates).by
        flow = fit.after if isinstance(fit, FitResult) else flow
    if flow is None:
        raise InputError("a forecast wants the flow that parameters are at. Give `flow`, or a fit.")
    readings = targets.readings(flow)
    jacobian = FlowSensitivity(flow, tolerance=1e-8).jacobian(readings, by, progress=progress)
    return Forecast(targets, readings.values(flow), jacobian, flow, know)
