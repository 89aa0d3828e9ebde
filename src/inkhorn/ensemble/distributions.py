"""Distributions of single numbers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_positive

__all__ = ["Distribution", "LogNormal", "Normal", "Triangular", "Uniform"]

Array = NDArray[np.float64]


class Distribution(ABC):
    """How a number is spread."""

    @abstractmethod
    def at(self, share: ArrayLike) -> Array:
        """Return the number below which some share of all lies."""

    @property
    @abstractmethod
    def words(self) -> str:
        """It in words."""

    @property
    @abstractmethod
    def centre(self) -> float:
        """Its mean, of logarithms where these are normal."""

    @property
    @abstractmethod
    def spread(self) -> float:
        """Its standard deviation, of natural logarithms where these are normal."""

    logarithmic = False


def _cut(share: ArrayLike, lower: float, upper: float, centre: float, spread: float) -> Array:
    """Standard normal numbers between bounds at some shares, in the unit of centre and spread."""
    from scipy.special import ndtr, ndtri

    low, high = ndtr((lower - centre) / spread), ndtr((upper - centre) / spread)
    return np.asarray(np.clip(centre + spread * ndtri(low + (high - low) * np.asarray(share)), lower, upper))


def _cut_moments(lower: float, upper: float, centre: float, spread: float) -> tuple[float, float]:
    """Mean and standard deviation of a normal number between bounds."""
    from scipy.stats import truncnorm

    found: Any = truncnorm((lower - centre) / spread, (upper - centre) / spread, centre, spread)
    return float(found.mean()), float(found.std())


@dataclass(frozen=True)
class Normal(Distribution):
    """A normal number, cut at bounds where there are any.

    Parameters
    ----------
    mean, deviation : float
        Before it is cut.
    lower, upper : float
        Bounds.

    Examples
    --------
    >>> Normal(10.0, 2.0).at([0.025, 0.5]).round(2).tolist()
    [6.08, 10.0]
    """

    mean: float
    deviation: float
    lower: float = -np.inf
    upper: float = np.inf

    def __post_init__(self) -> None:
        check_finite("mean of a normal number", self.mean)
        check_positive("deviation of a normal number", self.deviation)
        _check_bounds("normal number", self.lower, self.mean, self.upper)

    def at(self, share: ArrayLike) -> Array:
        return _cut(share, self.lower, self.upper, self.mean, self.deviation)

    @property
    def words(self) -> str:
        return f"normal, {self.mean:g} ± {self.deviation:g}{_between(self.lower, self.upper)}"

    @property
    def centre(self) -> float:
        return _cut_moments(self.lower, self.upper, self.mean, self.deviation)[0]

    @property
    def spread(self) -> float:
        return _cut_moments(self.lower, self.upper, self.mean, self.deviation)[1]


@dataclass(frozen=True)
class LogNormal(Distribution):
    """A number whose natural logarithm is normal, cut at bounds where there are any.

    Parameters
    ----------
    median : float
        Half of all lie below it, before it is cut.
    deviation : float
        Standard deviation of the natural logarithm.
    lower, upper : float
        Bounds of the number itself.
    """

    median: float
    deviation: float
    lower: float = 0.0
    upper: float = np.inf
    logarithmic = True

    def __post_init__(self) -> None:
        check_positive("median of a log-normal number", self.median)
        check_positive("deviation of a log-normal number", self.deviation)
        _check_bounds("log-normal number", self.lower, self.median, self.upper)

    def _logs(self) -> tuple[float, float, float, float]:
        with np.errstate(divide="ignore"):
            low, high = float(np.log(max(self.lower, 0.0))), float(np.log(self.upper))
        return low, high, float(np.log(self.median)), self.deviation

    def at(self, share: ArrayLike) -> Array:
        return np.asarray(np.exp(_cut(share, *self._logs())))

    @property
    def words(self) -> str:
        bounds = _between(self.lower if self.lower > 0.0 else -np.inf, self.upper)
        return f"log-normal, median {self.median:g}, deviation of ln {self.deviation:g}{bounds}"

    @property
    def centre(self) -> float:
        return _cut_moments(*self._logs())[0]

    @property
    def spread(self) -> float:
        return _cut_moments(*self._logs())[1]


@dataclass(frozen=True)
class Uniform(Distribution):
    """A number that may as well be any between two.

    Parameters
    ----------
    lower, upper : float
    """

    lower: float
    upper: float

    def __post_init__(self) -> None:
        check_finite("bounds of a uniform number", [self.lower, self.upper])
        _check_bounds("uniform number", self.lower, 0.5 * (self.lower + self.upper), self.upper)

    def at(self, share: ArrayLike) -> Array:
        return np.asarray(self.lower + (self.upper - self.lower) * np.asarray(share, dtype=np.float64))

    @property
    def words(self) -> str:
        return f"uniform, {self.lower:g} to {self.upper:g}"

    @property
    def centre(self) -> float:
        return 0.5 * (self.lower + self.upper)

    @property
    def spread(self) -> float:
        return float((self.upper - self.lower) / np.sqrt(12.0))


@dataclass(frozen=True)
class Triangular(Distribution):
    """A number between two, most likely a third.

    Parameters
    ----------
    lower, mode, upper : float
    """

    lower: float
    mode: float
    upper: float

    def __post_init__(self) -> None:
        check_finite("corners of a triangular number", [self.lower, self.mode, self.upper])
        if not self.lower <= self.mode <= self.upper or self.lower == self.upper:
            raise InputError(
                f"a triangular number goes from {self.lower:g} over {self.mode:g} to {self.upper:g}; expected three that "
                "rise."
            )

    def at(self, share: ArrayLike) -> Array:
        p, a, m, b = np.asarray(share, dtype=np.float64), self.lower, self.mode, self.upper
        left = (m - a) / (b - a)
        return np.where(
            p < left,
            a + np.sqrt(np.maximum(p * (b - a) * (m - a), 0.0)),
            b - np.sqrt(np.maximum((1.0 - p) * (b - a) * (b - m), 0.0)),
        )

    @property
    def words(self) -> str:
        return f"triangular, {self.lower:g} to {self.upper:g}, most likely {self.mode:g}"

    @property
    def centre(self) -> float:
        return (self.lower + self.mode + self.upper) / 3.0

    @property
    def spread(self) -> float:
        a, m, b = self.lower, self.mode, self.upper
        return float(np.sqrt((a * a + m * m + b * b - a * m - a * b - m * b) / 18.0))


def _check_bounds(what: str, lower: float, middle: float, upper: float) -> None:
    if not lower < upper or not lower <= middle <= upper:
        raise InputError(
            f"a {what} of {middle:g} cannot lie between {lower:g} and {upper:g}. Mend the bounds."
        )


def _between(lower: float, upper: float) -> str:
    if np.isinf(lower) and np.isinf(upper):
        return ""
    if np.isinf(upper):
        return f", above {lower:g}"
    return f", below {upper:g}" if np.isinf(lower) else f", between {lower:g} and {upper:g}"
