"""Where pumping takes its water: how a flow answers to water taken anywhere."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.quantities import Readings
from inkhorn.flow.result import FlowResult
from inkhorn.flow.sensitivity import FlowSensitivity

__all__ = ["by_pumping"]


def by_pumping(flow: FlowResult, readings: Readings, *, tolerance: float = 1e-10) -> NDArray[np.float64]:
    """Return how much less readings are for each unit of water pumped from each cell, all the time that flow goes on.

    One adjoint for each reading, whatever the number of cells. Of the gain of a river it is the share of the pumped
    water that the river goes without (Sophocleous 2002); pumping is small, and taken from the cell as a whole.

    Parameters
    ----------
    flow : FlowResult
        Steady, or in time by steps of first order that are all recorded.
    readings : Readings
        What answers.
    tolerance : float
        Of the linear solves.

    Returns
    -------
    ndarray of float, (n_readings, n_cells)
        Unit of the reading over m³/day; 0 in cells whose heads are given.

    References
    ----------
    Sophocleous, M. (2002), Interactions between groundwater and surface water: the state of the science, Hydrogeology
    Journal 10(1), 52-67.
    """
    return FlowSensitivity(flow, tolerance=tolerance).by_water_taken(readings)
