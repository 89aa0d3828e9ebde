"""Random fields at few places, by the root of their covariance matrix."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.fields.method import FieldMethod
from inkhorn.fields.places import Places

__all__ = ["Cholesky"]

Array = NDArray[np.float64]

_MOST = 4000  # places, with those more that means over cells are made of 16 000
_MOST_POINTS = 16_000


class Cholesky(FieldMethod):
    """Multiplies independent numbers with the root of the covariance matrix: exact, for up to some thousand places.

    References
    ----------
    Davis, M. W. (1987), Production of conditional simulations via the LU triangular decomposition of the covariance
    matrix, Mathematical Geology 19(2), 91-98.
    """

    name = "cholesky"

    def __init__(self, places: Places, points: Array | None = None) -> None:
        super().__init__(places, points)
        from scipy.linalg import cholesky
        from scipy.sparse import block_diag, eye_array

        inside, rows = places.within
        every = np.concatenate([inside, self.points])
        both: Any = block_diag([rows, eye_array(len(self.points))], format="csr")
        covariance = both @ (places.variogram.between(every, every) @ both.T.toarray())
        covariance = 0.5 * (covariance + covariance.T)
        trace = (
            1e-10 if places.variogram.kind in ("gaussian", "matern") else 1e-13
        )  # smooth curves round to below 0
        covariance[np.diag_indices_from(covariance)] += trace * places.variogram.sill
        self.root = cholesky(covariance, lower=True)

    @classmethod
    def why_not(cls, places: Places) -> str | None:
        if len(places) > _MOST:
            return (
                f"it is for up to {_MOST} cells that have to do with each other, and there are {len(places)}"
            )
        if places.support == "averages" and len(places.within[0]) > _MOST_POINTS:
            points = len(places.within[0])
            return f"means over {len(places)} cells would be made of {points} points, and it takes {_MOST_POINTS}"
        return None

    def made(self, numbers: np.random.Generator) -> tuple[Array, Array]:
        z = self.root @ numbers.standard_normal(len(self.root))
        return z[: len(self.places)], z[len(self.places) :]
