"""The laws of partly filled cells, as pure functions of arrays; the loops of the flow equations know them too."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import check_nonnegative, check_positive

__all__ = ["WaterTable", "ramp", "saturation"]


@dataclass(frozen=True)
class WaterTable:
    """How cells that are not full are treated.

    Parameters
    ----------
    film : float
        Share of the full conductance that a drained cell keeps, so that it stays in the equations
        and fills again by itself.
    smoothing : float
        Half the share of a cell's height over which saturation bends above empty and below full, so that
        Newton's method sees no corner; at most a quarter.
    confined : bool
        True treats every cell as full whatever its head: a plain confined aquifer.
    """

    film: float = 1e-6
    smoothing: float = 0.01
    confined: bool = False

    def __post_init__(self) -> None:
        check_nonnegative("film", self.film)
        check_positive("smoothing", self.smoothing)


def ramp(
    value: NDArray[np.float64], width: NDArray[np.float64] | float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return ``max(value, 0)`` with the corner rounded by a parabola, and its slope.

    Exact outside ±width; once continuously differentiable.

    Parameters
    ----------
    value : ndarray of float, (n,)
        In any unit.
    width : ndarray of float or float
        Half the length of the bend, in the same unit.
    """
    bent = np.clip(value + width, 0.0, 2.0 * width)
    above = value > width
    return np.where(above, value, bent**2 / (4.0 * width)), np.where(above, 1.0, bent / (2.0 * width))


def _eased(value: NDArray[np.float64], width: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return ``max(value, 0)`` that leaves 0 smoothly and is exact from twice the width on, and its slope.

    A cubic between: nothing at all at 0 or below, unlike `ramp`, so that an empty cell holds no water.
    """
    t = np.clip(value / (2.0 * width), 0.0, 1.0)
    above = value > 2.0 * width
    return np.where(above, value, 2.0 * width * t**2 * (2.0 - t)), np.where(above, 1.0, t * (4.0 - 3.0 * t))


def _filled_share(
    head: NDArray[np.float64], bottom: NDArray[np.float64], height: NDArray[np.float64], law: WaterTable
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Filled share of the height and its slope by head: 0 at the bottom, 1 at the top, both exactly."""
    u = (head - bottom) / height
    low, low_slope = _eased(u, law.smoothing)
    high, high_slope = _eased(1.0 - u, law.smoothing)
    lower = u < 0.5
    return np.where(lower, low, 1.0 - high), np.where(lower, low_slope, high_slope) / height


def saturation(
    head: NDArray[np.float64],
    bottom: NDArray[np.float64],
    top: NDArray[np.float64],
    law: WaterTable,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the filled share of each cell's height, and its slope by head.

    Linear between bottom and top, eased at both ends, never below the film.

    Parameters
    ----------
    head, bottom, top : ndarray of float, (n,)
        [m].
    law : WaterTable
        Film and smoothing.

    Returns
    -------
    share, slope : ndarray of float, (n,)
        [-] and [1/m].
    """
    if law.confined:
        return np.ones_like(head), np.zeros_like(head)
    share, slope = _filled_share(head, bottom, top - bottom, law)
    keep = 1.0 - law.film
    return law.film + keep * share, keep * slope
