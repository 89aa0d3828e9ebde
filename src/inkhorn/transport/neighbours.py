"""How cells lie to each other, as transport sees them: from centre of gravity to face, and how gradients are found."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from inkhorn.space import Grid

__all__ = ["Neighbours"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_FLAT = 1e-6  # of the larger spread: neighbours that lie in one line say nothing across it


@dataclass(frozen=True, eq=False)
class Neighbours:
    """The faces of each cell, and what lies beyond them.

    Attributes
    ----------
    a, b : ndarray of int32, (n_faces,)
        The two cells of each face.
    n_sides : int
        Faces before this are sides, those from it on floors.
    first : ndarray of int64, (n_cells + 1,)
        Where the faces of each cell begin.
    middle : ndarray of int64, (n_cells,)
        Where those above and below it begin, after those at its sides.
    near, face : ndarray of int32, (2 n_faces,)
        The cell beyond, and the face.
    way : ndarray of float, (2 n_faces,)
        1 where the cell is the first of the face, else -1.
    w1, w2 : ndarray of float, (2 n_faces,)
        What a difference to the cell beyond a side adds to the gradient along x and y [1/m]; 0 for floors.
    arm : ndarray of float, (n_faces, 4)
        From the centre of gravity of the first cell to the middle of the face, x and y, and from that of the second [m].
    share : ndarray of float, (n_faces,)
        Which part of the way from the first to the second centre lies before the face; for floors half.
    area : ndarray of float, (n_faces,)
        Of the full height [m²].
    normal : ndarray of float, (n_faces, 3)
        From the first to the second.
    """

    a: NDArray[np.int32]
    b: NDArray[np.int32]
    n_sides: int
    first: Index
    middle: Index
    near: NDArray[np.int32]
    face: NDArray[np.int32]
    way: Array
    w1: Array
    w2: Array
    arm: Array
    share: Array
    area: Array
    normal: Array

    @classmethod
    def of(cls, grid: Grid) -> Neighbours:
        """Return those of a grid.

        References
        ----------
        Barth, T. J. and Jespersen, D. C. (1989), The design and application of upwind schemes on unstructured meshes,
        AIAA Paper 89-0366 (gradients by least squares).
        """
        faces, n = grid.faces, grid.n_cells
        n_sides, m = int((~faces.is_floor).sum()), len(faces)
        centre = grid.centres_of_gravity
        a, b = faces.cells.T
        arm = np.column_stack([faces.centroid[:, :2] - centre[a], faces.centroid[:, :2] - centre[b]])
        apart = np.stack(
            [(arm[:, :2] * faces.normal[:, :2]).sum(axis=1), -(arm[:, 2:] * faces.normal[:, :2]).sum(axis=1)]
        )
        whole = apart.sum(axis=0)
        share = np.where(whole > 0.0, apart[0] / np.where(whole > 0.0, whole, 1.0), 0.5)
        whose = np.concatenate([a, b])
        order = np.argsort(whose * 2 + np.tile(np.arange(m) >= n_sides, 2), kind="stable")
        face = np.tile(np.arange(m), 2)[order]
        way = np.repeat([1.0, -1.0], m)[order]
        near = np.concatenate([b, a])[order]
        first = np.concatenate([[0], np.cumsum(np.bincount(whose, minlength=n))])
        sides = np.bincount(np.concatenate([a[:n_sides], b[:n_sides]]), minlength=n)
        w1, w2 = _least_squares(centre, whose[order], near, face < n_sides, n)
        return cls(
            a.astype(np.int32), b.astype(np.int32), n_sides, first, first[:-1] + sides, near.astype(np.int32),
            face.astype(np.int32), way, w1, w2, arm, np.clip(share, 0.0, 1.0), faces.area,
            np.ascontiguousarray(faces.normal),
        )  # fmt: skip


def _least_squares(
    centre: Array, whose: Index, near: Index, side: NDArray[np.bool_], n: int
) -> tuple[Array, Array]:
    """Weights of differences that give the gradient in plan; none across neighbours that lie in one line."""
    r = centre[near] - centre[whose]
    weight = np.where(side, 1.0 / np.maximum((r**2).sum(axis=1), 1e-300), 0.0)
    xx = np.bincount(whose, weight * r[:, 0] ** 2, n)
    xy = np.bincount(whose, weight * r[:, 0] * r[:, 1], n)
    yy = np.bincount(whose, weight * r[:, 1] ** 2, n)
    # inverse by principal values, those next to nothing left out
    middle, half = 0.5 * (xx + yy), np.hypot(0.5 * (xx - yy), xy)
    great, small = middle + half, middle - half
    angle = 0.5 * np.arctan2(2.0 * xy, xx - yy)
    cos, sin = np.cos(angle), np.sin(angle)
    by_great = np.where(great > 0.0, 1.0 / np.where(great > 0.0, great, 1.0), 0.0)
    ample = small > _FLAT * great
    by_small = np.where(ample, 1.0 / np.where(ample, small, 1.0), 0.0)
    i_xx = by_great * cos**2 + by_small * sin**2
    i_xy = (by_great - by_small) * cos * sin
    i_yy = by_great * sin**2 + by_small * cos**2
    return (
        weight * (i_xx[whose] * r[:, 0] + i_xy[whose] * r[:, 1]),
        weight * (i_xy[whose] * r[:, 0] + i_yy[whose] * r[:, 1]),
    )
