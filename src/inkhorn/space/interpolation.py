"""Ways to lay a surface through scattered points, one function each; `POINT_METHODS` names them all.

Most read a value as a weighted mean of points, and say so as sparse rows; the others give values alone.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.space.kriging import kriging_rows

__all__ = ["POINT_METHODS", "PointMethod"]

Array = NDArray[np.float64]


@dataclass(frozen=True)
class PointMethod:
    """One way.

    Attributes
    ----------
    words : str
        What it does.
    beyond : str
        What it does outside the triangles of the points.
    rows : callable, optional
        Takes a `PointSurface` and places (m, 2); returns points and weights of each place, (m, k) each.
    values : callable, optional
        Returns the values themselves instead, (m,).
    """

    words: str
    beyond: str
    rows: Callable[[Any, Array], tuple[NDArray[np.int64], Array]] | None = None
    values: Callable[[Any, Array], Array] | None = None


def _linear(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    found: tuple[NDArray[np.int64], Array] = surface.triangles.linear(asked)
    return found


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
    home = mesh.home(asked)
    distance, nearest = surface.tree.query(asked)
    on_point = distance < 1e-9 * np.ptp(places, axis=0).max()
    inside = (home >= 0) & ~on_point
    columns, weights = np.zeros((len(asked), 64), dtype=np.int64), np.zeros((len(asked), 64))
    left = np.flatnonzero(inside)
    while len(left):
        most = columns.shape[1]
        some = np.zeros((len(left), most), dtype=np.int64), np.zeros((len(left), most))
        counts = np.zeros(len(left), dtype=np.int64)
        at = asked[left, 0].copy(), asked[left, 1].copy()
        natural_neighbours(places, mesh.corners, mesh.neighbours, home[left], *at, *some, counts)
        used = np.arange(most) < counts[:, None]
        columns[left], weights[left] = np.where(used, some[0], 0), np.where(used, some[1], 0.0)
        left = left[counts < 0]  # more neighbours than there is room for
        if len(left):
            columns = np.pad(columns, ((0, 0), (0, 3 * most)))
            weights = np.pad(weights, ((0, 0), (0, 3 * most)))
    # beyond the rim; and on a side of a triangle, where circles have no middle
    left = np.flatnonzero(((home < 0) & ~on_point) | ~np.isfinite(weights).all(axis=1))
    columns[left], weights[left] = 0, 0.0
    columns[left, :3], weights[left, :3] = mesh.linear(asked[left])
    columns[on_point, 0], weights[on_point, 0] = nearest[on_point], 1.0
    return columns, weights


def _kriging(surface: Any, asked: Array) -> tuple[NDArray[np.int64], Array]:
    x, y = surface.places.T
    rows = kriging_rows(
        x, y, asked[:, 0], asked[:, 1], surface.variogram, neighbours=surface.neighbours,
        least=surface.least, reach=surface.reach, too_few=surface.too_few,
    )  # fmt: skip
    count = np.diff(rows.indptr)
    columns, weights = (np.zeros((len(asked), count.max(initial=1)), kind) for kind in (np.int64, np.float64))
    there = np.arange(columns.shape[1]) < count[:, None]
    columns[there], weights[there] = rows.indices, rows.data
    return columns, weights


def _thin_plate(surface: Any, asked: Array) -> Array:
    try:
        return np.asarray(surface.smooth(_radial)(asked), dtype=np.float64)
    except (np.linalg.LinAlgError, ValueError):
        raise InputError(
            f"{surface.name}: no thin plate stands on the {surface.neighbours} nearest points where these lie in one "
            "line, or are fewer than 3. Ask for more neighbours, or for another method."
        ) from None


def _cubic(surface: Any, asked: Array) -> Array:
    mesh = surface.triangles
    at, points = asked - mesh.net.middle, surface.places - mesh.net.middle
    beyond = np.flatnonzero(mesh.home(asked) < 0)
    if len(beyond):
        rim = mesh.on_rim(asked[beyond])
        place = (rim.weights[:, :, None] * points[rim.ends]).sum(axis=1)
        middle = points[mesh.corners[rim.triangle]].mean(axis=1)
        at[beyond] = place + 1e-9 * (middle - place)  # within its triangle for certain
    return np.asarray(surface.smooth(_clough_tocher)(at), dtype=np.float64)


def _radial(surface: Any) -> Any:
    from scipy.interpolate import RBFInterpolator  # slow to load

    count = min(surface.neighbours, len(surface.z)) if len(surface.z) > 400 else None
    return RBFInterpolator(surface.places, surface.z, neighbors=count, kernel="thin_plate_spline")


def _clough_tocher(surface: Any) -> Any:
    from scipy.interpolate import CloughTocher2DInterpolator  # slow to load

    return CloughTocher2DInterpolator(surface.triangles.net.mesh, surface.z, tol=1e-10, maxiter=4000)


_RIM = "takes the value on the rim of the points, at right angles to it"
POINT_METHODS = {
    "linear": PointMethod("on the Delaunay triangles", _RIM, rows=_linear),
    "nearest": PointMethod("the nearest point's", "takes the nearest point's too", rows=_nearest),
    "inverse_distance": PointMethod(
        "the nearer a point, the more it counts",
        "tends to the mean of the nearest points",
        rows=_inverse_distance,
    ),
    "natural": PointMethod("by the Voronoi edges shared with the natural neighbours", _RIM, rows=_natural),
    "cubic": PointMethod("smooth on the triangles", _RIM, values=_cubic),
    "thin_plate": PointMethod(
        "the smoothest through all points",
        "goes on as the plate is bent, at last in a plane",
        values=_thin_plate,
    ),
    "kriging": PointMethod(
        "the best linear estimate for a variogram", "tends to the mean of the nearest points", rows=_kriging
    ),
}
