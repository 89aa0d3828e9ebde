"""The laws of partly filled cells and of switches, for arrays."""

from __future__ import annotations

from dataclasses import KW_ONLY, dataclass

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive

__all__ = ["WaterTable", "filled", "ramp", "saturation", "transmitted"]

Array = NDArray[np.float64]


@dataclass(frozen=True)
class WaterTable:
    """How cells that are not full are treated.

    Parameters
    ----------
    film : float
        Share of the full conductance that a drained cell keeps, so that it stays in the equations
        and fills again by itself; below 1. Sideways it is a share of no more than 10 m of height.
    smoothing : float
        Half the share of a cell's height, or of 1 m where it is higher, over which saturation bends above empty and
        below full, so that Newton's method sees no corner; at most a quarter.
    confined : bool
        True treats every cell as full whatever its head: a plain confined aquifer.
    """

    _: KW_ONLY
    film: float = 1e-6
    smoothing: float = 0.01
    confined: bool = False

    def __post_init__(self) -> None:
        check_nonnegative("film", self.film)
        check_positive("smoothing", self.smoothing)
        for name, most, words in (("film", 0.1, "a tenth"), ("smoothing", 0.25, "a quarter")):
            if getattr(self, name) > most:
                raise InputError(
                    f"{name} is {getattr(self, name):g}; expected a share of at most {words}, and usually far less."
                )

    def bend(self, height: Array) -> Array:
        """Return half the length over which cells bend, (n,) [m]."""
        from inkhorn.model import _kernels

        return self.smoothing * np.minimum(height, _kernels.BENDS_UP_TO)

    def film_of(self, height: Array) -> Array:
        """Return the share of their transmissivity that drained cells keep, (n,) [-]."""
        from inkhorn.model import _kernels

        return self.film * np.minimum(1.0, _kernels.FILM_UP_TO / height)


def ramp(value: Array, width: Array | float = 0.0) -> tuple[Array, Array]:
    """Return ``max(value, 0)`` with the corner rounded by a parabola, and its slope.

    Exact outside ±width; once continuously differentiable unless the width is 0.

    Parameters
    ----------
    value : ndarray of float, (n,)
        In any unit.
    width : ndarray of float or float
        Half the length of the bend, in the same unit.
    """
    from inkhorn.model import _kernels

    value = np.ascontiguousarray(value, dtype=np.float64)
    answer, slope = np.empty_like(value), np.empty_like(value)
    _kernels.ramp(
        value, np.ascontiguousarray(np.broadcast_to(width, value.shape), dtype=np.float64), answer, slope
    )
    return answer, slope


def filled(head: Array, bottom: Array, top: Array, law: WaterTable) -> tuple[Array, Array, Array]:
    """Return the filled share of each cell's height, its slope by head, and its integral, without any film.

    Parameters
    ----------
    head, bottom, top : ndarray of float, (n,)
        [m].
    law : WaterTable
        Its smoothing.

    Returns
    -------
    share, slope, integral : ndarray of float, (n,)
        [-], [1/m], and over the height [-].
    """
    from inkhorn.model import _kernels

    height, head = top - bottom, np.ascontiguousarray(head, dtype=np.float64)
    if law.confined:
        return np.ones_like(head), np.zeros_like(head), (head - bottom) / height
    share, slope, integral = np.empty_like(head), np.empty_like(head), np.empty_like(head)
    _kernels.fill(head, np.ascontiguousarray(bottom), height, law.smoothing, share, slope, integral)
    return share, slope, integral


def saturation(head: Array, bottom: Array, top: Array, law: WaterTable) -> tuple[Array, Array]:
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
    share, slope, _ = filled(head, bottom, top, law)
    if law.confined:
        return share, slope
    film = law.film_of(top - bottom)
    return film + (1.0 - film) * share, (1.0 - film) * slope


def transmitted(level: Array, bottom: Array, top: Array, law: WaterTable) -> tuple[Array, Array]:
    """Return the integral of the depth of water that conducts over the head, from each bottom up, and that depth.

    Parameters
    ----------
    level, bottom, top : ndarray of float, (n,)
        [m].
    law : WaterTable
        Film and smoothing.

    Returns
    -------
    integral, depth : ndarray of float, (n,)
        [m²] and [m].
    """
    height = top - bottom
    share, _, integral = filled(level, bottom, top, law)
    if law.confined:
        return height * (level - bottom), height
    film = law.film_of(height)
    whole = (1.0 - film) * height * integral + film * (level - bottom)
    return height * whole, height * (film + (1.0 - film) * share)
