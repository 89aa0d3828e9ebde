"""Surfaces: an elevation at every place, from what is known of it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite

__all__ = ["ConstantSurface", "PointSurface", "Surface"]


class Surface(Protocol):
    """An elevation at every place."""

    def at(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.float64]:
        """Return the elevation at each point [m]."""


@dataclass(frozen=True)
class ConstantSurface:
    """The same elevation everywhere.

    >>> ConstantSurface(-20.0).at([0, 100], [0, 0])
    array([-20., -20.])
    """

    elevation: float

    def at(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.float64]:
        return np.full(np.broadcast(x, y).shape, float(self.elevation))


@dataclass(frozen=True, eq=False)
class PointSurface:
    """A surface through scattered points.

    Between the points the elevation is linear on the Delaunay triangles; outside their hull it is
    that of the nearest point on the hull's triangles' corners, so nothing is extrapolated.

    Parameters
    ----------
    x, y, z : ndarray of float, (n,)
        Places and elevations [m], at least three not in line.
    name : str
        Used in messages.
    """

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    z: NDArray[np.float64]
    name: str = "surface"

    def __post_init__(self) -> None:
        for axis in "xyz":
            check_finite(f"{self.name}.{axis}", getattr(self, axis), unit="m")
        if len(self.x) < 3:
            raise InputError(f"{self.name} has {len(self.x)} points; expected at least 3.")

    @cached_property
    def _interpolators(self) -> tuple[Any, Any]:
        from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator
        from scipy.spatial import QhullError

        places = np.column_stack([self.x, self.y])
        try:
            return LinearNDInterpolator(places, self.z), NearestNDInterpolator(places, self.z)
        except QhullError:
            raise InputError(
                f"the points of {self.name} all lie in one line; expected at least three that span an area."
            ) from None

    def at(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.float64]:
        linear, nearest = self._interpolators
        z = np.asarray(linear(x, y), dtype=np.float64)
        outside = np.isnan(z)
        if outside.any():
            x, y = np.broadcast_arrays(x, y)
            z[outside] = nearest(x[outside], y[outside])
        return z
