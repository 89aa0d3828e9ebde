"""Ordinary kriging, as the weights themselves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive

__all__ = ["Variogram", "kriging_rows"]


@dataclass(frozen=True)
class Variogram:
    """How unlike two points are, by their distance.

    Parameters
    ----------
    kind : {"spherical", "exponential", "gaussian", "linear", "power"}
        Of the curve. The exponential and Gaussian ones reach 95 % of the sill at the range; the
        linear one goes on rising, by the sill over each range, as does the power of the distance.
    range : float
        Distance beyond which points tell nothing of each other, in the direction of the longest [m].
    sill : float
        What the curve rises to above the nugget; only its ratio to the nugget matters for weights.
    nugget : float
        Unlikeness of points at the same place: errors of measurement. With 0 the surface passes
        through its points.
    direction : float
        Of the longest range, anticlockwise from the x axis [degrees].
    ratio : float
        Longest over shortest range, at least 1.
    exponent : float
        Of the power, between 0 and 2.
    """

    kind: Literal["spherical", "exponential", "gaussian", "linear", "power"] = "spherical"
    range: float = 1000.0
    sill: float = 1.0
    nugget: float = 0.0
    direction: float = 0.0
    ratio: float = 1.0
    exponent: float = 1.0

    def __post_init__(self) -> None:
        if self.kind not in ("spherical", "exponential", "gaussian", "linear", "power"):
            raise InputError(
                f'variogram kind is "{self.kind}"; expected spherical, exponential, gaussian, linear or power.'
            )
        if not 0.0 < self.exponent < 2.0:
            raise InputError(f"variogram exponent is {self.exponent:g}; expected one between 0 and 2.")
        check_positive("variogram range", self.range, unit="m")
        check_positive("variogram sill", self.sill)
        check_nonnegative("variogram nugget", self.nugget)
        if not 1.0 <= self.ratio < np.inf:
            raise InputError(
                f"variogram ratio is {self.ratio:g}; expected longest over shortest range, from 1."
            )

    def stretched(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.float64]:
        """Return places in which distance is measured in ranges, (n, 2)."""
        turn = np.deg2rad(self.direction)
        x, y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
        along = np.cos(turn) * x + np.sin(turn) * y
        across = -np.sin(turn) * x + np.cos(turn) * y
        return np.column_stack([along / self.range, self.ratio * across / self.range])

    def at(self, ranges: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the curve at distances in ranges, without the nugget.

        References
        ----------
        Webster, R. and Oliver, M. A. (2007), Geostatistics for Environmental Scientists, 2nd ed., Wiley,
        ch. 5 (bounded models; ranges here are effective ones).
        """
        h = ranges
        if self.kind == "spherical":
            curve = np.where(h < 1.0, 1.5 * h - 0.5 * h**3, 1.0)
        elif self.kind == "exponential":
            curve = 1.0 - np.exp(-3.0 * h)
        elif self.kind == "gaussian":
            curve = 1.0 - np.exp(-3.0 * h**2)
        else:
            curve = h if self.kind == "linear" else h**self.exponent
        return np.asarray(self.sill * curve)

    def covariance(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.float64]:
        """Return the covariance of values at some points, (n, n); the nugget on its diagonal.

        Of curves that go on rising it is that within the points' own extent: differences of values have the right
        variances, and so has all that does not depend on their mean.
        """
        places = self.stretched(x, y)
        apart = np.linalg.norm(places[:, None, :] - places[None, :, :], axis=2)
        most = self.sill if self.kind not in ("linear", "power") else float(self.at(apart).max(initial=0.0))
        return np.asarray(most - self.at(apart) + self.nugget * np.eye(len(places)))


def kriging_rows(
    x: ArrayLike,
    y: ArrayLike,
    at_x: ArrayLike,
    at_y: ArrayLike,
    variogram: Variogram,
    *,
    neighbours: int = 24,
    least: int = 1,
    reach: float = np.inf,
    too_few: Literal["nearest", "mean"] = "nearest",
) -> Any:
    """Return the matrix of ordinary kriging weights.

    Parameters
    ----------
    x, y : array_like of float, (n,)
        Places of the known points [m].
    at_x, at_y : array_like of float, (m,)
        Places asked for [m].
    variogram : Variogram
        How unlike points are, by their distance.
    neighbours : int
        How many of the nearest points each place looks at; all if there are fewer.
    least : int
        How many it needs within its reach.
    reach : float
        How far it looks along the longest range, and as much less across as that is shorter [m].
    too_few : {"nearest", "mean"}
        What it takes where there are fewer: so many of the nearest all the same, or the mean of all points.

    Returns
    -------
    scipy.sparse.csr_array, (m, n)
        ``rows @ values`` are the estimates. Each row adds up to 1.

    References
    ----------
    Matheron, G. (1963), Principles of geostatistics, Economic Geology 58, 1246-1266.
    """
    from scipy.sparse import coo_array, csr_array
    from scipy.spatial import KDTree

    known, asked = variogram.stretched(x, y), variogram.stretched(at_x, at_y)
    count = min(neighbours, len(known))
    if count < 1:
        raise InputError("kriging has no points to look at. Give at least one, and neighbours of at least 1.")
    if not 1 <= least <= neighbours:
        raise InputError(f"kriging needs at least {least} of {neighbours} neighbours; expected 1 to as many.")
    if too_few not in ("nearest", "mean"):
        raise InputError(f'too_few is "{too_few}"; expected "nearest" or "mean".')
    distance, nearest = (v.reshape(len(asked), count) for v in KDTree(known).query(asked, k=count))
    used = (distance <= reach / variogram.range).sum(axis=1)
    short = used < min(least, count)
    used[short] = min(least, count)
    weights = np.zeros((len(asked), count))
    for k in np.unique(used):  # the nearest come first
        mine = np.flatnonzero(used == k)
        block = max(1, 4_000_000 // (k + 1) ** 2)  # systems held in memory at once
        for some in np.array_split(mine, -(-len(mine) // block)):
            weights[some, :k] = _weights(known[nearest[some, :k]], asked[some], variogram)
    kept = np.arange(count) < used[:, None]
    if too_few == "mean":
        kept[short] = False
    ends = np.concatenate([[0], np.cumsum(kept.sum(axis=1))])
    rows = csr_array((weights[kept], nearest[kept], ends), shape=(len(asked), len(known)))
    if too_few == "mean" and short.any():
        place = np.repeat(np.flatnonzero(short), len(known))
        mean = (
            np.full(len(place), 1.0 / len(known)),
            (place, np.tile(np.arange(len(known)), int(short.sum()))),
        )
        rows = (rows + coo_array(mean, shape=rows.shape)).tocsr()
    return rows


def _weights(
    known: NDArray[np.float64], asked: NDArray[np.float64], variogram: Variogram
) -> NDArray[np.float64]:
    """Solve the kriging systems of many places at once: (m, k, 2) and (m, 2) give (m, k)."""
    m, k, _ = known.shape
    system = np.zeros((m, k + 1, k + 1))
    apart = np.linalg.norm(known[:, :, None, :] - known[:, None, :, :], axis=3)
    system[:, :k, :k] = variogram.at(apart)
    # the nugget stands between points, not between a point and itself; smooth curves need a trace of one
    trace = 1e-8 * variogram.sill if variogram.kind == "gaussian" else 0.0
    system[:, :k, :k] += (variogram.nugget + trace) * (1.0 - np.eye(k))
    system[:, k, :k] = system[:, :k, k] = 1.0
    right = np.ones((m, k + 1))
    away = np.linalg.norm(known - asked[:, None, :], axis=2)
    right[:, :k] = variogram.at(away) + variogram.nugget + trace
    if variogram.nugget == 0.0:
        right[:, :k] -= np.where(away < 1e-12, trace, 0.0)
    return np.asarray(np.linalg.solve(system, right[:, :, None])[:, :k, 0])
