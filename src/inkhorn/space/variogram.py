"""Variograms: how unlike two points are, by their distance."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal, get_args

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive, did_you_mean

__all__ = ["Variogram", "VariogramKind"]

Array = NDArray[np.float64]

VariogramKind = Literal["spherical", "exponential", "gaussian", "matern", "linear", "power"]
_RISING = ("linear", "power")
_FAR = 0.05  # correlation left at the range of a curve that has no end


def _matern(distance: Array, smoothness: float) -> Array:
    """Matérn's correlation at distances multiplied by kappa."""
    from scipy.special import gamma, k1, kv

    d = np.maximum(distance, 1e-300)
    if smoothness == 0.5:
        return np.asarray(np.exp(-d))
    if smoothness == 1.0:
        return np.asarray(np.where(d < 1e-10, 1.0, d * k1(np.maximum(d, 1e-10))))
    if smoothness == 1.5:
        return np.asarray((1.0 + d) * np.exp(-d))
    if smoothness == 2.5:
        return np.asarray((1.0 + d + d**2 / 3.0) * np.exp(-d))
    with np.errstate(over="ignore", invalid="ignore"):
        found = 2.0 ** (1.0 - smoothness) / gamma(smoothness) * d**smoothness * kv(smoothness, d)
    return np.asarray(np.where(d < 1e-10, 1.0, found))


@lru_cache(maxsize=64)
def _matern_range(smoothness: float) -> float:
    """Distance times kappa at which Matérn's correlation has fallen to what counts as far."""
    from scipy.optimize import brentq

    return float(brentq(lambda d: float(_matern(np.array([d]), smoothness)[0]) - _FAR, 1e-3, 1e3))


@dataclass(frozen=True)
class Variogram:
    """How unlike two points are, by their distance.

    Parameters
    ----------
    kind : {"spherical", "exponential", "gaussian", "matern", "linear", "power"}
        Of the curve. The exponential, Gaussian and Matérn ones reach 95 % of the sill at the range; the
        linear one goes on rising, by the sill over each range, as does the power of the distance.
    range : float
        Distance beyond which points tell nothing of each other, in the direction of the longest [m].
    sill : float
        What the curve rises to above the nugget: the variance. Only its ratio to the nugget matters for weights.
    nugget : float
        Unlikeness of points at the same place: errors of measurement. With 0 the surface passes
        through its points.
    direction : float
        Of the longest range, anticlockwise from the x axis [degrees].
    ratio : float
        Longest over shortest range, at least 1.
    exponent : float
        Of the power, between 0 and 2.
    smoothness : float
        Of the Matérn curve: 0.5 is the exponential one, and the larger it is the smoother.
    vertical : float, optional
        Range up and down [m]. Without it layers have nothing to do with each other.

    References
    ----------
    Matérn, B. (1960), Spatial variation, Meddelanden från Statens Skogsforskningsinstitut 49(5).
    Webster, R. and Oliver, M. A. (2007), Geostatistics for Environmental Scientists, 2nd ed., Wiley, ch. 5.

    Examples
    --------
    >>> Variogram.of_lengths("exponential", 0.8, length=300.0, across=100.0).range.__round__(1)
    900.0
    """

    kind: VariogramKind = "spherical"
    range: float = 1000.0
    sill: float = 1.0
    nugget: float = 0.0
    direction: float = 0.0
    ratio: float = 1.0
    exponent: float = 1.0
    smoothness: float = 1.0
    vertical: float | None = None

    def __post_init__(self) -> None:
        known = list(get_args(VariogramKind))
        if self.kind not in known:
            raise InputError(
                f'variogram kind is "{self.kind}"; expected one of {known}.{did_you_mean(self.kind, known)}'
            )
        if not 0.0 < self.exponent < 2.0:
            raise InputError(f"variogram exponent is {self.exponent:g}; expected one between 0 and 2.")
        if not 0.1 <= self.smoothness <= 20.0:
            raise InputError(
                f"variogram smoothness is {self.smoothness:g}; expected one from 0.1 to 20. Beyond that the curve is as "
                "good as Gaussian."
            )
        check_positive("variogram range", self.range, unit="m")
        check_positive("variogram sill", self.sill)
        check_nonnegative("variogram nugget", self.nugget)
        if self.vertical is not None:
            check_positive("variogram vertical range", self.vertical, unit="m")
        if not 1.0 <= self.ratio < np.inf:
            raise InputError(
                f"variogram ratio is {self.ratio:g}; expected longest over shortest range, from 1."
            )

    @classmethod
    def of_lengths(
        cls,
        kind: VariogramKind,
        variance: float,
        *,
        length: float,
        across: float | None = None,
        vertical: float | None = None,
        direction: float = 0.0,
        nugget: float = 0.0,
        smoothness: float = 1.0,
    ) -> Variogram:
        """Return the one with some correlation lengths: integral scales, the areas below the correlation curve.

        Of the exponential curve that is where it has fallen to 1/e, of the spherical one 3/8 of its range.

        Parameters
        ----------
        kind, direction, nugget, smoothness
            As of the class; only curves that end have correlation lengths.
        variance : float
            Above the nugget.
        length, across, vertical : float
            Along the direction, at right angles to it in plan (the same if not given), and up and down [m].
        """
        if kind in _RISING:
            raise InputError(
                f"a {kind} variogram rises without end and has no correlation length. Give a range."
            )
        check_positive("correlation length", length, unit="m")
        across = length if across is None else across
        check_positive("correlation length across", across, unit="m")
        of_range = cls(kind, smoothness=smoothness).length
        longest, turn = max(length, across), 0.0 if length >= across else 90.0
        return cls(
            kind, 1000.0 * longest / of_range, variance, nugget, direction + turn, longest / min(length, across),
            smoothness=smoothness, vertical=None if vertical is None else 1000.0 * vertical / of_range,
        )  # fmt: skip

    @property
    def ends(self) -> bool:
        """Whether the curve comes to its sill, so that values have a variance and a covariance."""
        return self.kind not in _RISING

    @property
    def length(self) -> float:
        """Correlation length in the direction of the longest range: the area below the correlation curve [m].

        Raises
        ------
        InputError
            If the curve rises without end.
        """
        from scipy.special import gamma

        if self.kind == "spherical":
            return 0.375 * self.range
        if self.kind == "exponential":
            return self.range / 3.0
        if self.kind == "gaussian":
            return self.range * float(np.sqrt(np.pi / 3.0)) / 2.0
        if self.kind == "matern":
            nu = self.smoothness
            return self.range * float(np.sqrt(np.pi) * gamma(nu + 0.5) / gamma(nu)) / _matern_range(nu)
        raise InputError(f"a {self.kind} variogram rises without end and has no correlation length.")

    @property
    def kappa(self) -> float:
        """What multiplies the distance in Matérn's curve [1/m]."""
        return _matern_range(self.smoothness) / self.range

    def stretched(self, x: ArrayLike, y: ArrayLike, z: ArrayLike | None = None) -> Array:
        """Return places in which distance is measured in ranges, (n, 2); with elevations and a vertical range (n, 3)."""
        turn = np.deg2rad(self.direction)
        x, y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
        along = np.cos(turn) * x + np.sin(turn) * y
        across = -np.sin(turn) * x + np.cos(turn) * y
        parts = [along / self.range, self.ratio * across / self.range]
        if z is not None and self.vertical is not None:
            parts.append(np.asarray(z, dtype=np.float64) / self.vertical)
        return np.column_stack(parts)

    def at(self, ranges: Array) -> Array:
        """Return the curve at distances in ranges, without the nugget."""
        h = ranges
        if self.kind == "spherical":
            curve = np.where(h < 1.0, 1.5 * h - 0.5 * h**3, 1.0)
        elif self.kind == "exponential":
            curve = 1.0 - np.exp(-3.0 * h)
        elif self.kind == "gaussian":
            curve = 1.0 - np.exp(-3.0 * h**2)
        elif self.kind == "matern":
            curve = 1.0 - _matern(_matern_range(self.smoothness) * np.asarray(h), self.smoothness)
        else:
            curve = h if self.kind == "linear" else h**self.exponent
        return np.asarray(self.sill * curve)

    def covariance(self, x: ArrayLike, y: ArrayLike) -> Array:
        """Return the covariance of values at some points, (n, n); the nugget on its diagonal.

        Of curves that go on rising it is that within the points' own extent: differences of values have the right
        variances, and so has all that does not depend on their mean.
        """
        places = self.stretched(x, y)
        apart = np.linalg.norm(places[:, None, :] - places[None, :, :], axis=2)
        most = self.sill if self.ends else float(self.at(apart).max(initial=0.0))
        return np.asarray(most - self.at(apart) + self.nugget * np.eye(len(places)))

    def between(self, one: Array, other: Array) -> Array:
        """Return the covariance without the nugget between stretched places, (n, d) and (m, d) give (n, m)."""
        from scipy.spatial.distance import cdist

        return np.asarray(self.sill - self.at(cdist(one, other)))
