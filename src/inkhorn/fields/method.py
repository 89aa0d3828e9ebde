"""What every method of making random fields offers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.fields.places import Places

__all__ = ["FieldMethod"]

Array = NDArray[np.float64]


class FieldMethod(ABC):
    """Makes fields of zero mean with the covariance that a variogram tells, without its nugget.

    Attributes
    ----------
    places : Places
        Where values stand.
    points : ndarray of float, (m, d)
        More places, in ranges, at which the same fields are wanted.
    """

    name: ClassVar[str]

    def __init__(self, places: Places, points: Array | None = None) -> None:
        why = self.why_not(places)
        if why is not None:
            raise InputError(f"fields cannot be made by the method {self.name} here: {why}.")
        self.places = places
        self.points = np.empty((0, places.at_centres.shape[1])) if points is None else points

    @classmethod
    @abstractmethod
    def why_not(cls, places: Places) -> str | None:
        """Say why fields cannot be made so at these places; None if they can."""

    @abstractmethod
    def made(self, numbers: np.random.Generator) -> tuple[Array, Array]:
        """Return a field at the places and at the points, (n,) and (m,)."""

    def covariance_times(self, vectors: Array) -> Array:
        """Return the covariance of the values at the places times vectors, (n, k) gives (n, k).

        From the variogram itself, block by block.
        """
        points, rows = self.places.within
        spread, found = rows.T @ vectors, np.empty((len(points), vectors.shape[1]))
        block = max(1, 20_000_000 // max(len(points), 1))
        for first in range(0, len(points), block):
            some = points[first : first + block]
            found[first : first + block] = self.places.variogram.between(some, points) @ spread
        return np.asarray(rows @ found)
