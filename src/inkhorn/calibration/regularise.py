"""What is known of parameters beside the readings: beforehand, from the first guess, from neighbours."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.parameters import ParameterSet
from inkhorn.errors import InputError, check_positive

__all__ = ["Penalty", "Regularisation", "known_beforehand", "penalty_of"]

Array = NDArray[np.float64]

_USUAL = 1.0  # standard deviation of a logarithm near its first guess, where none is told


@dataclass(frozen=True, kw_only=True)
class Regularisation:
    """What holds parameters where readings say little.

    Standard deviations that parameters state beforehand always count; this is what is asked besides.

    Parameters
    ----------
    kind : {"none", "first guess", "neighbours alike"}
        Nothing; near the start, each by its standard deviation (one in the natural logarithm where none is told); or
        pilot points like their neighbours, by the variogram, whatever their mean (Kitanidis 1995), and other parameters
        near the start.
    strength : float or "target"
        What the penalty is multiplied with; or as much as lets the misfit of the readings reach its target (the
        discrepancy principle).
    target : float
        Root mean square of the weighted residuals that is aimed at; 1 where deviations are those of the readings.
    most_directions : int, optional
        Combinations of parameters that are changed at the most, those that readings tell most of (truncated singular
        values).
    least_share : float
        Of the greatest singular value, below which a combination is not changed.

    References
    ----------
    Hansen, P. C. (1998), Rank-Deficient and Discrete Ill-Posed Problems, SIAM (truncation; the discrepancy principle).
    Kitanidis, P. K. (1995), Quasi-linear geostatistical theory for inversing, Water Resources Research 31(10), 2411-2419.
    """

    kind: Literal["none", "first guess", "neighbours alike"] = "none"
    strength: float | Literal["target"] = 1.0
    target: float = 1.0
    most_directions: int | None = None
    least_share: float = 0.0

    def __post_init__(self) -> None:
        known = ("none", "first guess", "neighbours alike")
        if self.kind not in known:
            raise InputError(f'regularisation is "{self.kind}"; expected one of {list(known)}.')
        if self.strength != "target":
            check_positive("regularisation: strength", self.strength)
        check_positive("regularisation: target", self.target)
        if self.most_directions is not None:
            check_positive("regularisation: most_directions", self.most_directions)
        if not 0.0 <= self.least_share < 1.0:
            raise InputError(
                f"regularisation: least_share is {self.least_share:g}; expected a share from 0 to below 1."
            )
        if self.kind == "none" and self.strength == "target":
            raise InputError(
                'a strength that meets a target is one of something; say what: kind = "first guess".'
            )

    @property
    def truncates(self) -> bool:
        """Whether only some combinations are changed."""
        return self.most_directions is not None or self.least_share > 0.0


class Penalty(NamedTuple):
    """``(p - centre)' precision (p - centre)`` of coordinates p."""

    centre: Array
    precision: Array  # (n, n)

    def at(self, coordinates: Array) -> float:
        """Return its value."""
        off = coordinates - self.centre
        return float(off @ self.precision @ off)

    def plus(self, other: Penalty) -> Penalty:
        """Return what has the same derivatives as both together."""
        precision = self.precision + other.precision
        pull = self.precision @ self.centre + other.precision @ other.centre
        return Penalty(
            np.asarray(np.linalg.lstsq(precision, pull, rcond=1e-14)[0], dtype=np.float64), precision
        )


def _correlated(places_x: Array, places_y: Array, surface: object, deviation: float) -> Array:
    """Covariance of values at pilot points with a standard deviation, by their variogram."""
    curve = surface.variogram  # type: ignore[attr-defined]  # a PointSurface
    covariance = curve.covariance(places_x, places_y)
    return np.asarray(covariance * deviation**2 / max(covariance[0, 0], 1e-300))


def known_beforehand(parameters: ParameterSet) -> Penalty:
    """Return what parameters state themselves: normal, those of pilot points correlated by the variogram."""
    n = len(parameters)
    precision, deviation = np.zeros((n, n)), parameters.deviation
    rest = np.isfinite(deviation)
    for _, mine, surface in parameters.groups():
        if len(mine) and rest[mine].all():
            x, y = (
                np.array([getattr(parameters.scalars[parameters.free[j]], k) for j in mine]) for k in "xy"
            )
            precision[np.ix_(mine, mine)] = np.linalg.inv(
                _correlated(x, y, surface, float(deviation[mine[0]]))
            )
            rest[mine] = False
    own = np.flatnonzero(rest)
    precision[own, own] = 1.0 / deviation[own] ** 2
    return Penalty(parameters.expected, precision)


def penalty_of(parameters: ParameterSet, asked: Regularisation) -> Penalty:
    """Return what is asked besides, of strength 1; nothing of parameters that state deviations themselves."""
    n = len(parameters)
    precision = np.zeros((n, n))
    if asked.kind == "none":
        return Penalty(parameters.start, precision)
    rest = ~np.isfinite(parameters.deviation)
    if asked.kind == "neighbours alike":
        for _, mine, surface in parameters.groups():
            if len(mine) > 1 and rest[mine].all():
                x, y = (
                    np.array([getattr(parameters.scalars[parameters.free[j]], k) for j in mine]) for k in "xy"
                )
                inverse = np.linalg.inv(surface.variogram.covariance(x, y))
                mean = inverse.sum(axis=1)  # whatever the mean: it is taken out
                precision[np.ix_(mine, mine)] = inverse - np.outer(mean, mean) / mean.sum()
                rest[mine] = False
    own, start = np.flatnonzero(rest), np.abs(parameters.start)
    usual = np.where(parameters.logarithmic, _USUAL, np.maximum(start, 1.0))
    precision[own, own] = 1.0 / usual[own] ** 2
    return Penalty(parameters.start, precision)
