"""Lines in plan, as people give them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite

__all__ = ["line_corners"]


def line_corners(line: Any, what: str = "the line") -> NDArray[np.float64]:
    """Return the corners of a line in plan, (n, 2) [m].

    Parameters
    ----------
    line : shapely LineString or array_like of float, (n, 2)
        x and y [m].
    what : str
        How to name it in a message.

    Raises
    ------
    InputError
        If it has fewer than two corners, or they are no places.
    """
    points = np.asarray(getattr(line, "coords", line), dtype=np.float64)
    if points.ndim != 2 or len(points) < 2 or points.shape[1] < 2:
        raise InputError(
            f"{what} has the shape {points.shape}; expected two or more points with x and y, (n, 2) in m."
        )
    return check_finite(what, points[:, :2], unit="m")
