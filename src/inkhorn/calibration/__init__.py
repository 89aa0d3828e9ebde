"""Calibration: observations, parameters, least squares, statistics."""

from inkhorn.calibration.fit import FitResult, FitRow, FitState, calibrate, head_sensitivities, with_values
from inkhorn.calibration.observations import (
    FitStatistics,
    HeadObservations,
    curve_table,
    fit_table,
    level_table,
    observe,
    residual_table,
)
from inkhorn.calibration.parameters import LayerConductivity, Parameter, RechargeMultiplier

__all__ = [
    "FitResult",
    "FitRow",
    "FitState",
    "FitStatistics",
    "HeadObservations",
    "LayerConductivity",
    "Parameter",
    "RechargeMultiplier",
    "calibrate",
    "curve_table",
    "fit_table",
    "head_sensitivities",
    "level_table",
    "observe",
    "residual_table",
    "with_values",
]
