"""Fields that honour what was measured: what a free field misses is kriged, and added to it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.fields.method import FieldMethod
from inkhorn.fields.places import Places

__all__ = ["AtPoints", "Kriged"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_NEIGHBOURS = 64  # means over cells that the value at a point is drawn after
_KEPT = 40_000_000  # covariances of cells with points that are kept


class AtPoints:
    """Values at points, drawn after those of cells nearby that were made before.

    The values at all points have the covariance that the variogram tells, among themselves and with the nearest cells.

    Parameters
    ----------
    places : Places
        Where values are.
    points : ndarray of float, (m, d)
        In ranges.
    """

    def __init__(self, places: Places, points: Array) -> None:
        from scipy.spatial import KDTree

        curve = places.variogram
        inside, rows = places.within
        count = min(_NEIGHBOURS, len(places))
        near = KDTree(places.at_centres).query(points, k=count)[1].reshape(len(points), count)
        self.cells, place = np.unique(near, return_inverse=True)
        place = place.reshape(near.shape)
        part = rows.tocsr()[self.cells]
        used = np.unique(part.indices)
        part, inside = part.tocsc()[:, used].tocsr(), inside[used]
        among = part @ (part @ curve.between(inside, inside)).T
        across = part @ curve.between(inside, points)
        self.weights = np.zeros((len(points), len(self.cells)))
        for k, mine in enumerate(place):
            system = among[np.ix_(mine, mine)] + 1e-10 * curve.sill * np.eye(count)
            self.weights[k, mine] = np.linalg.solve(system, across[mine, k])
        left = curve.between(points, points) - self.weights @ across
        left += self.weights @ among @ self.weights.T - across.T @ self.weights.T
        values, vectors = np.linalg.eigh(0.5 * (left + left.T))
        self.root = vectors * np.sqrt(np.maximum(values, 0.0))

    def made(self, field: Array, numbers: np.random.Generator) -> Array:
        """Return values at the points that belong to a field, (m,)."""
        return np.asarray(
            self.weights @ field[self.cells] + self.root @ numbers.standard_normal(len(self.root))
        )


class Kriged:
    """What is added to a free field so that it has the values that were measured.

    Parameters
    ----------
    places : Places
        Where values are.
    points : ndarray of float, (m, d)
        Where it was measured, in ranges.
    cell : ndarray of int, (m,)
        Which of the places each lies in.
    deviation : ndarray of float, (m,)
        Standard deviation of each measurement.
    mean_known : bool
        Whether the mean is told, and not found from the measurements too.

    References
    ----------
    Chilès, J.-P. and Delfiner, P. (2012), Geostatistics: modeling spatial uncertainty, 2nd ed., Wiley, sec. 7.3
    (conditioning by kriging).
    """

    def __init__(
        self, places: Places, points: Array, cell: Index, deviation: Array, mean_known: bool, names: tuple[str, ...]
    ) -> None:  # fmt: skip
        curve = places.variogram
        self.places, self.points, self.cell = places, points, cell
        # of the cell as a whole, where points stand for cells; else of each point alone
        same = cell[:, None] == cell[None, :] if places.support == "points" else np.eye(len(cell), dtype=bool)
        own = curve.nugget * same
        self.covariance = curve.between(points, points) + own
        system = self.covariance + np.diag(deviation**2)
        twice = np.argwhere(np.triu(self.covariance > (1.0 - 1e-12) * (curve.sill + curve.nugget), 1))
        for i, j in twice:
            if deviation[i] == 0.0 and deviation[j] == 0.0:
                raise InputError(
                    f"{names[i]} and {names[j]} are measured at one place and both exact. Take their mean, or give them "
                    "deviations."
                )
        self.inverse = np.linalg.inv(system)
        ones = self.inverse.sum(axis=0)
        self.mean_of = np.zeros(len(points)) if mean_known else ones / ones.sum()
        self.kept = self._across(slice(None)) if len(places) * len(points) <= _KEPT else None

    def _across(self, some: slice) -> Array:
        """The covariance of values with those at the points, (n, m)."""
        inside, rows = self.places.within
        part = rows[some]
        curve = self.places.variogram
        if self.places.support == "points":
            found = curve.between(inside[some], self.points)
        else:
            used = np.unique(part.indices)
            found = part.tocsc()[:, used] @ curve.between(inside[used], self.points)
        if curve.nugget and self.places.support == "points":
            n = np.arange(len(self.places))[some]
            found = found + curve.nugget * (n[:, None] == self.cell[None, :])
        return np.asarray(found)

    def times_weights(self, residual: Array) -> Array:
        """Return what residuals at the points, (m, ...), add to the places, (n, ...)."""
        mean = self.mean_of @ residual
        loads = self.inverse @ (residual - mean)
        if self.kept is not None:
            return np.asarray(mean + self.kept @ loads)
        block = max(1, _KEPT // (2 * len(self.points)))
        parts = [
            self._across(slice(first, first + block)) @ loads for first in range(0, len(self.places), block)
        ]
        return np.asarray(mean + np.concatenate(parts))


def covariance_left(kriged: Kriged, method: FieldMethod, vectors: Array) -> Array:
    """Return the covariance that measurements leave times vectors, (n, k)."""
    nugget = method.places.variogram.nugget
    found = method.covariance_times(vectors) + nugget * vectors
    across = kriged.kept if kriged.kept is not None else kriged._across(slice(None))
    # weights W of ordinary or of simple kriging: C - W A' - A W' + W S W'
    weights = kriged.times_weights(np.eye(len(kriged.points)))
    system = np.linalg.inv(kriged.inverse)
    told, seen = weights.T @ vectors, across.T @ vectors
    return np.asarray(found - weights @ seen - across @ told + weights @ (system @ told))
