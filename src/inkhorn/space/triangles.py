"""Linear interpolation on the Delaunay triangles of scattered points."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["corners_and_weights"]


def corners_and_weights(
    triangles: Any, places: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return the corners of the triangle that holds each place, and their linear weights.

    Parameters
    ----------
    triangles : scipy.spatial.Delaunay
        Of points in plan.
    places : ndarray of float, (n, 2)
        [m].

    Returns
    -------
    corners : ndarray of int, (n, 3)
        Points, -1 outside the hull.
    weights : ndarray of float, (n, 3)
        Adding up to 1; NaN outside the hull, and in triangles of no area.
    """
    home = triangles.find_simplex(places)
    turn = triangles.transform[home]
    weights = np.empty((len(places), 3))
    weights[:, :2] = np.einsum("nij,nj->ni", turn[:, :2], places - turn[:, 2])
    weights[:, 2] = 1.0 - weights[:, 0] - weights[:, 1]
    weights[home < 0] = np.nan
    return np.where(home[:, None] >= 0, triangles.simplices[home], -1), weights
