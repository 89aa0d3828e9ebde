"""What the flow equations come to at one set of unknowns, and the step in time that they are of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.terms import Contribution

__all__ = ["Balance", "TimeStep"]


@dataclass(frozen=True, eq=False)
class Balance:
    """The equations evaluated at one set of unknowns.

    Attributes
    ----------
    unknowns : ndarray of float, (n_unknowns,)
        Those that they are evaluated at.
    residual : ndarray of float, (n_unknowns,)
        Inflow less outflow of each cell, then the terms' extra residuals [m³/day]; what a fixed head
        gives or takes is left out, so at those cells the residual is that flow, reversed.
    face_flow : ndarray of float, (n_faces,)
        From first to second cell [m³/day].
    share : ndarray of float, (n_faces,)
        Saturation that scales the face row.
    contributions : tuple of Contribution
        Of each term.
    storage_change : ndarray of float, (n_cells,)
        Water taken into storage [m³/day]; zero when steady.
    extra_stored, extra_storage_change : ndarray of float, (n_extra,)
        Water that extra unknowns of the terms store, and take into storage [m³], [m³/day]; zero when steady.
    rounding : float
        What rounding of flows across faces alone may add up to in the residuals [m³/day].
    face_slope : ndarray of float, (n_entries of the face rows,)
        Derivative of the flow across each face by the head of each entry, but for what terms carry besides [m²/day].
    drives, slopes : callable
        Make what drives the faces, and the derivative.
    """

    unknowns: NDArray[np.float64]
    residual: NDArray[np.float64]
    face_flow: NDArray[np.float64]
    share: NDArray[np.float64]
    contributions: tuple[Contribution, ...]
    storage_change: NDArray[np.float64]
    extra_stored: NDArray[np.float64]
    extra_storage_change: NDArray[np.float64]
    rounding: float
    face_slope: NDArray[np.float64]
    drives: Callable[[], NDArray[np.float64]] = field(repr=False)
    slopes: Callable[[], Any] = field(repr=False)

    @cached_property
    def drive(self) -> NDArray[np.float64]:
        """What each entry of a face row is multiplied with, head limited by the face's level, (n_entries,) [m]."""
        return self.drives()

    @cached_property
    def jacobian(self) -> Any:
        """Derivative of the residual by the unknowns, made when it is first asked for."""
        return self.slopes()

    @property
    def at_most_unresolved(self) -> float:
        """More than the sum of all that is `unresolved` [m³/day]."""
        largest = float(np.abs(self.unknowns).max(initial=0.0))
        return float(np.finfo(float).eps) * largest * float(np.abs(self.jacobian.data).sum())

    @cached_property
    def unresolved(self) -> NDArray[np.float64]:
        """What each residual may be since unknowns have sixteen figures, (n_unknowns,) [m³/day].

        A river of 1e6 m²/day at 500 m answers to the last figure of the head by 1e-7 m³/day.
        """
        return np.asarray(np.finfo(float).eps * (abs(self.jacobian) @ np.abs(self.unknowns)))


@dataclass(frozen=True, eq=False)
class TimeStep:
    """From where to where a step goes, and the water it begins with.

    Attributes
    ----------
    begin, end : float
        [day]
    stored : ndarray of float, (2, n_cells)
        At the start, as `Storage.stored` has it [m³].
    extra_stored : ndarray of float, (n_extra,)
        At the start, in extra unknowns of the terms [m³].
    """

    begin: float
    end: float
    stored: NDArray[np.float64]
    extra_stored: NDArray[np.float64]

    @property
    def length(self) -> float:
        """[day]"""
        return self.end - self.begin
