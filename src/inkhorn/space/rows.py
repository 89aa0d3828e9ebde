"""Face rows: the flow across each face, as a sparse row over the heads of cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import check_nonnegative
from inkhorn.space.grid import Faces

__all__ = ["FaceRows", "series_conductance", "two_point_rows"]


def series_conductance(half_a: ArrayLike, half_b: ArrayLike) -> NDArray[np.float64]:
    """Combine the two half-cell conductances on either side of a face.

    Resistances in series add; a closed half closes the face.

    Parameters
    ----------
    half_a, half_b : array_like of float, broadcastable to (n_faces,)
        Centre-to-face conductance, ``k * area / distance`` [m²/day].

    Returns
    -------
    ndarray of float64, (n_faces,)
        Face conductance [m²/day]; exactly 0 where either half is 0.

    Raises
    ------
    InputError
        If a value is negative or not finite; the message names it and its index.
    """
    remedy = "Use 0 for a closed face."
    half_a = check_nonnegative("half_a", half_a, unit="m²/day", remedy=remedy)
    half_b = check_nonnegative("half_b", half_b, unit="m²/day", remedy=remedy)
    total = half_a + half_b
    return np.asarray(half_a * (half_b / np.where(total > 0, total, 1.0)))


@dataclass(frozen=True, eq=False)
class FaceRows:
    """Flow across each face when all is saturated, and its derivative by conductivity.

    Attributes
    ----------
    matrix : scipy.sparse.csr_array, (n_faces, n_cells)
        ``matrix @ heads`` is the flow from first to second cell [m³/day]. The first two entries of
        each row belong to the face's own two cells, in their order.
    """

    matrix: Any
    cells: NDArray[np.int64]
    is_floor: NDArray[np.bool_]
    by_conductivity: NDArray[np.float64]

    def tangent(self, horizontal: NDArray[np.float64], vertical: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the change of ``matrix.data`` for a small change of conductivity.

        Parameters
        ----------
        horizontal, vertical : ndarray of float, (n_cells,)
            Change of the conductivities [m/day].
        """
        change = np.where(self.is_floor[:, None], vertical[self.cells], horizontal[self.cells])
        conductance = (self.by_conductivity * change).sum(axis=1)
        return np.column_stack([conductance, -conductance]).ravel()

    def adjoint(self, weight: NDArray[np.float64], n_cells: int) -> tuple[NDArray[Any], NDArray[Any]]:
        """Return the derivative of ``weight @ matrix.data`` by both conductivities, two (n_cells,)."""
        pair = weight.reshape(-1, 2)
        share = self.by_conductivity * (pair[:, 0] - pair[:, 1])[:, None]
        side = ~self.is_floor
        return (
            np.bincount(self.cells[side].ravel(), share[side].ravel(), n_cells),
            np.bincount(self.cells[self.is_floor].ravel(), share[self.is_floor].ravel(), n_cells),
        )


def two_point_rows(faces: Faces, horizontal: NDArray[np.float64], vertical: NDArray[np.float64]) -> FaceRows:
    """Make rows of two entries, for faces at right angles to the line between the centres.

    Parameters
    ----------
    faces : Faces
        Every face between two cells.
    horizontal, vertical : ndarray of float, (n_cells,)
        Conductivity, isotropic in plan [m/day].

    Returns
    -------
    FaceRows
    """
    from scipy.sparse import csr_array

    n_cells = len(horizontal)
    floor = faces.is_floor
    k = np.where(floor[:, None], vertical[faces.cells], horizontal[faces.cells])
    unit = faces.area[:, None] / faces.distance
    half = k * unit
    conductance = series_conductance(half[:, 0], half[:, 1])
    total = half.sum(axis=1)
    other = half[:, ::-1] / np.where(total > 0, total, 1.0)[:, None]
    return FaceRows(
        matrix=csr_array(
            (
                np.column_stack([conductance, -conductance]).ravel(),
                faces.cells.ravel(),
                np.arange(0, 2 * len(faces) + 1, 2),
            ),
            shape=(len(faces), n_cells),
        ),
        cells=faces.cells,
        is_floor=floor,
        by_conductivity=unit * other**2,  # d(ab/(a+b))/da = (b/(a+b))²
    )
