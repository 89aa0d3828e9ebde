"""Ways to lay a surface through scattered points, one function each; `POINT_METHODS` names them all.

Most read a value as a weighted mean of points, and say so as sparse rows; the others give values alone.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.kriging import kriging_rows
from inkhorn.space.triangles import corners_and_weights

__all__ = ["POINT_METHODS", "PointMethod"]

Array = NDArray[np.float64]


@dataclass(frozen=True)
class PointMethod:
    """One way.

    Attributes
    ----------
    words : str
        What it does.
    rows : callable, optional
        Takes a `PointSurface` and places (m, 2); returns points and weights of each place, (m, k) each. Weights are
        NaN where the method says nothing.
    values : callable, optional
        Returns the values themselves instead, (m,).
    """

    words: str
    rows: Callable[[Any, Array], tuple[NDArray[np.int64], Array]] | None = None
    values: Callable[[Any, Array], Array] | None = None


def _linear(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    return corners_and_weights(surface.triangles, asked)


def _nearest(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    found = surface.tree.query(asked)[1][:, None]
    return found, np.ones(found.shape)


def _inverse_distance(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    """Shepard (1968): weights are the distances to the power, inverted."""
    count = min(surface.neighbours, len(surface.z))
    distance, nearest = surface.tree.query(asked, k=count)
    distance, nearest = distance.reshape(-1, count), nearest.reshape(-1, count)
    relative = distance / np.maximum(distance[:, -1:], 1e-300)  # no overflow of high powers
    weights = np.maximum(relative, 1e-12) ** -surface.power
    return nearest, weights / weights.sum(axis=1, keepdims=True)


def _natural(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    """By the Voronoi edges shared with the natural neighbours (Belikov et al. 1997)."""
    from inkhorn.space._kernels import natural_neighbours

    mesh, places = surface.triangles, surface.places
    home = mesh.find_simplex(asked)
    distance, nearest = surface.tree.query(asked)
    on_point = distance < 1e-9 * np.ptp(places, axis=0).max()
    inside = (home >= 0) & ~on_point
    most = 64
    columns, weights = np.zeros((len(asked), most), dtype=np.int64), np.zeros((len(asked), most))
    some = columns[inside], weights[inside]
    counts = np.zeros(len(some[0]), dtype=np.int64)
    natural_neighbours(
        places,
        mesh.simplices.astype(np.int64),
        mesh.neighbors.astype(np.int64),
        home[inside].astype(np.int64),
        asked[inside, 0].copy(),
        asked[inside, 1].copy(),
        *some,
        counts,
    )
    used = np.arange(most) < counts[:, None]
    columns[inside], weights[inside] = np.where(used, some[0], 0), np.where(used, some[1], 0.0)
    # on the very edge of the hull the circles have no middle
    lost = np.flatnonzero(inside & ~np.isfinite(weights).all(axis=1))
    corners, shares = corners_and_weights(mesh, asked[lost])
    columns[lost], weights[lost] = 0, 0.0
    columns[lost, :3], weights[lost, :3] = np.maximum(corners, 0), shares
    columns[on_point, 0], weights[on_point, 0] = nearest[on_point], 1.0
    weights[(home < 0) & ~on_point] = np.nan
    return columns, weights


def _kriging(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    x, y = surface.places.T
    rows = kriging_rows(x, y, asked[:, 0], asked[:, 1], surface.variogram, neighbours=surface.neighbours)
    shape = (len(asked), -1)
    return rows.indices.reshape(shape), rows.data.reshape(shape)


def _thin_plate(surface: Any, asked: Array) -> Array:
    return np.asarray(surface.smooth(_radial)(asked), dtype=np.float64)


def _cubic(surface: Any, asked: Array) -> Array:
    return np.asarray(surface.smooth(_clough_tocher)(asked), dtype=np.float64)


def _radial(surface: Any) -> Any:
    from scipy.interpolate import RBFInterpolator  # slow to load

    count = min(surface.neighbours, len(surface.z)) if len(surface.z) > 400 else None
    return RBFInterpolator(surface.places, surface.z, neighbors=count, kernel="thin_plate_spline")


def _clough_tocher(surface: Any) -> Any:
    from scipy.interpolate import CloughTocher2DInterpolator  # slow to load

    return CloughTocher2DInterpolator(surface.triangles, surface.z, tol=1e-10, maxiter=4000)


POINT_METHODS = {
    "linear": PointMethod("on the Delaunay triangles", rows=_linear),
    "nearest": PointMethod("the nearest point's", rows=_nearest),
    "inverse_distance": PointMethod("the nearer a point, the more it counts", rows=_inverse_distance),
    "natural": PointMethod("by the Voronoi edges shared with the natural neighbours", rows=_natural),
    "cubic": PointMethod("smooth on the triangles", values=_cubic),
    "thin_plate": PointMethod("the smoothest through all points", values=_thin_plate),
    "kriging": PointMethod("the best linear estimate for a variogram", rows=_kriging),
}
