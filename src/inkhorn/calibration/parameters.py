"""Parameters: what a fit may change, and how the model's arrays follow."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_positive
from inkhorn.model import Model
from inkhorn.model.terms import HORIZONTAL
from inkhorn.units import plain

__all__ = ["LayerConductivity", "Parameter", "RechargeMultiplier"]

Inputs = dict[str, NDArray[np.float64]]


@dataclass(frozen=True, kw_only=True)
class Parameter(ABC):
    """A positive number, fitted by its logarithm between bounds.

    Parameters
    ----------
    name : str
        That a person can read.
    lower, upper : float
        Bounds, in the parameter's unit.
    """

    name: str
    lower: float
    upper: float
    unit: ClassVar[str] = ""

    def __post_init__(self) -> None:
        for key in ("lower", "upper"):
            kind = "conductivity" if self.unit == "m/day" else "number"
            object.__setattr__(self, key, plain(getattr(self, key), kind, f'parameter "{self.name}": {key}'))
        check_positive(f'parameter "{self.name}": lower', self.lower, unit=self.unit)
        check_positive(f'parameter "{self.name}": upper', self.upper, unit=self.unit)
        if self.lower >= self.upper:
            raise InputError(
                f'parameter "{self.name}": lower {self.lower:g} is not below upper {self.upper:g}. Swap them.'
            )

    @abstractmethod
    def start(self, model: Model) -> float:
        """Return the value that the model has now."""

    @abstractmethod
    def inputs(self, model: Model, value: float) -> Inputs:
        """Return the model's arrays as they are with this value, by the names of `Model.with_inputs`."""

    @abstractmethod
    def slopes(self, model: Model, value: float) -> Inputs:
        """Return the derivatives of those arrays by the value, at a model that has it."""


@dataclass(frozen=True, kw_only=True)
class LayerConductivity(Parameter):
    """One horizontal conductivity for a layer's material [m/day]; the ratio to the vertical one is kept."""

    layer: str
    unit: ClassVar[str] = "m/day"

    def _cells(self, model: Model) -> NDArray[np.bool_]:
        rows = model.grid.layers_named(self.layer, f'parameter "{self.name}"')
        return np.isin(model.grid.cells.material_layer, rows)

    def start(self, model: Model) -> float:
        values = model.input(HORIZONTAL)[self._cells(model)]
        if len(values) == 0:
            raise InputError(f'parameter "{self.name}": the layer "{self.layer}" is absent everywhere.')
        return float(np.exp(np.log(values).mean()))

    def inputs(self, model: Model, value: float) -> Inputs:
        factor = np.where(self._cells(model), value / self.start(model), 1.0)
        return {k: model.input(k) * factor for k in (HORIZONTAL, "vertical_conductivity")}

    def slopes(self, model: Model, value: float) -> Inputs:
        here = self._cells(model)
        return {k: np.where(here, model.input(k) / value, 0.0) for k in (HORIZONTAL, "vertical_conductivity")}


@dataclass(frozen=True, kw_only=True)
class RechargeMultiplier(Parameter):
    """A factor on all recharge, 1 for what the model was given."""

    given: Model
    unit: ClassVar[str] = "-"

    def start(self, model: Model) -> float:
        return float(model.input("recharge.rate").sum() / self.given.input("recharge.rate").sum())

    def inputs(self, model: Model, value: float) -> Inputs:
        return {"recharge.rate": value * self.given.input("recharge.rate")}

    def slopes(self, model: Model, value: float) -> Inputs:
        return {"recharge.rate": self.given.input("recharge.rate")}
