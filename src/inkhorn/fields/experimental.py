"""The variogram of values as they are: half the mean square of their differences, by distance."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_positive
from inkhorn.space import Variogram

__all__ = ["FieldVariogram", "experimental_variogram"]

Array = NDArray[np.float64]

_PAIRS = 2_000_000  # looked at, at the most


@dataclass(frozen=True, eq=False)
class FieldVariogram:
    """How unlike values are, by distance.

    Attributes
    ----------
    distance : ndarray of float, (n,)
        In the mean of the pairs of each class [m].
    half_square : ndarray of float, (n,)
        Half the mean square of differences.
    pairs : ndarray of int, (n,)
        How many.
    angle : float, optional
        Pairs lie along it, anticlockwise from the x axis [degrees].
    """

    distance: Array
    half_square: Array
    pairs: NDArray[np.int64]
    angle: float | None = None


def experimental_variogram(
    x: ArrayLike,
    y: ArrayLike,
    values: ArrayLike,
    *,
    reach: float,
    classes: int = 15,
    angle: float | None = None,
    within: float = 22.5,
    seed: int = 0,
) -> FieldVariogram:
    """Return the variogram of values at places, as Matheron (1963) reckons it.

    Parameters
    ----------
    x, y : array_like of float, (n,)
        Places [m].
    values : array_like of float, (n,) or (n, n_fields)
        What stands there; of several fields the mean over all.
    reach : float
        Distance of the farthest pairs [m].
    classes : int
        Into how many even classes of distance.
    angle : float, optional
        Only pairs along it, anticlockwise from the x axis [degrees].
    within : float
        By how much pairs may be off that [degrees].
    seed : int
        Where there are too many pairs some are looked at, drawn by chance.

    References
    ----------
    Matheron, G. (1963), Principles of geostatistics, Economic Geology 58, 1246-1266.
    """
    x, y = (np.asarray(v, dtype=np.float64) for v in (x, y))
    values = np.asarray(values, dtype=np.float64).reshape(len(x), -1)
    check_finite("values", values)
    check_positive("reach", reach, unit="m")
    if len(x) < 2:
        raise InputError(f"a variogram needs two places at the least; got {len(x)}.")
    n = len(x)
    if n * (n - 1) // 2 <= _PAIRS:
        one, other = np.triu_indices(n, 1)
    else:
        numbers = np.random.default_rng(seed)
        one, other = numbers.integers(0, n, (2, _PAIRS))
        if reach < 0.5 * float(np.hypot(np.ptp(x), np.ptp(y))):  # near pairs are few among all
            from scipy.spatial import KDTree

            tree, each = KDTree(np.column_stack([x, y])), max(1, _PAIRS // n)
            one = np.repeat(np.arange(n), each)
            way, far = 2.0 * np.pi * numbers.random(len(one)), reach * np.sqrt(numbers.random(len(one)))
            place = np.column_stack([x[one] + far * np.cos(way), y[one] + far * np.sin(way)])
            other = tree.query(place)[1]
    dx, dy = x[other] - x[one], y[other] - y[one]
    far = np.hypot(dx, dy)
    kept = (far > 0.0) & (far <= reach)
    if angle is not None:
        turn = np.deg2rad(angle)
        cos = np.abs(dx * np.cos(turn) + dy * np.sin(turn))
        kept &= cos >= far * np.cos(np.deg2rad(within))
    one, other, far = one[kept], other[kept], far[kept]
    number = np.minimum((far / reach * classes).astype(np.int64), classes - 1)
    pairs = np.bincount(number, minlength=classes)
    square = np.zeros(len(far))
    for column in values.T:
        square += (column[one] - column[other]) ** 2
    some = pairs > 0
    total = np.bincount(number, square / values.shape[1], classes)[some]
    distance = np.bincount(number, far, classes)[some] / pairs[some]
    return FieldVariogram(distance, 0.5 * total / pairs[some], pairs[some].astype(np.int64), angle)


def expected_curve(variogram: Variogram, distance: ArrayLike, angle: float | None = None) -> Array:
    """Return what a variogram tells at distances along an angle, or in the mean of all angles, the nugget included."""
    distance = np.asarray(distance, dtype=np.float64)
    angles = np.deg2rad(np.array([angle]) if angle is not None else np.arange(0.0, 180.0, 7.5))
    parts = [
        variogram.at(np.linalg.norm(variogram.stretched(distance * np.cos(a), distance * np.sin(a)), axis=1))
        for a in angles
    ]
    return np.asarray(np.mean(parts, axis=0) + variogram.nugget)
