"""Calibration: what was measured, parameters, least squares, what can be known, and how sure a forecast is."""

from inkhorn.calibration.field import FieldFit, FieldState, calibrate_field
from inkhorn.calibration.fit import FitResult, calibrate, sensitivities
from inkhorn.calibration.forecast import Forecast, forecast
from inkhorn.calibration.knowledge import Knowledge, Unknown
from inkhorn.calibration.least_squares import FitRow, FitState, weighted_jacobian
from inkhorn.calibration.levels import (
    FitStatistics,
    curve_table,
    fit_table,
    level_table,
    residual_table,
    seen_bores,
)
from inkhorn.calibration.observations import Observations, observe
from inkhorn.calibration.parameters import Parameter, ParameterSet
from inkhorn.calibration.pilot_points import PilotPoints
from inkhorn.calibration.regularise import Regularisation
from inkhorn.calibration.weights import WeightRule

__all__ = [
    "FieldFit",
    "FieldState",
    "FitResult",
    "FitRow",
    "FitState",
    "FitStatistics",
    "Forecast",
    "Knowledge",
    "Observations",
    "Parameter",
    "ParameterSet",
    "PilotPoints",
    "Regularisation",
    "Unknown",
    "WeightRule",
    "calibrate",
    "calibrate_field",
    "curve_table",
    "fit_table",
    "forecast",
    "level_table",
    "observe",
    "residual_table",
    "seen_bores",
    "sensitivities",
    "weighted_jacobian",
]
