"""Values at points inside a layer, as sparse rows over the cells."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.space.grid import Grid
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh
from inkhorn.space.triangles import corners_and_weights

__all__ = ["sampling_rows"]


def _triangles(mesh: PlanMesh, x: Any, y: Any) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The plan cells around each point, with linear weights; -1 outside the hull of their centres."""
    from scipy.spatial import Delaunay

    n = len(x)
    if n == 0 or mesh.n_cells < 4:
        return np.full((n, 3), -1), np.zeros((n, 3))
    places = np.column_stack([x, y])
    return corners_and_weights(Delaunay(np.column_stack([mesh.x, mesh.y])), places)


def _around(centres: NDArray[np.float64], at: float) -> list[tuple[int, float]]:
    """The two centres on either side of a place, with linear weights; one beyond the ends."""
    k = int(np.searchsorted(centres, at))
    if k == 0 or k == len(centres):
        return [(min(k, len(centres) - 1), 1.0)]
    share = float((at - centres[k - 1]) / (centres[k] - centres[k - 1]))
    return [(k - 1, 1.0 - share), (k, share)]


def sampling_rows(grid: Grid, layer: ArrayLike, x: ArrayLike, y: ArrayLike) -> Any:
    """Return the matrix that reads cell values at points.

    On rectangles the value is bilinear between the centres around the point, on other meshes linear in
    the triangle of centres that holds it, in either case without those that are absent in the layer.

    Parameters
    ----------
    grid : Grid
        Cells.
    layer : array_like of int, (n,)
        Layer of each point.
    x, y : array_like of float, (n,)
        Places [m].

    Returns
    -------
    scipy.sparse.csr_array, (n, n_cells)
        ``rows @ values`` are the values at the points. A row is empty where the point's layer has no cell.
    """
    from scipy.sparse import coo_array

    level, x, y = np.atleast_1d(layer), np.atleast_1d(x), np.atleast_1d(y)
    rows, columns, weights = [], [], []
    home = grid.mesh.locate(x, y)
    there = (home >= 0) & (grid.number[level, home] >= 0)
    for k, mesh in enumerate(grid.meshes):
        numbers = np.full(mesh.n_cells, -1, dtype=np.int64)
        present = grid.within_layer[k]
        numbers[present] = grid.first_of_layer[k] + np.arange(len(present))
        points = np.flatnonzero(there & (level == k))
        near = _around_points(mesh, x[points], y[points])
        for point, around in zip(points, near, strict=True):
            found = [(int(numbers[p]), w) for p, w in around if p >= 0 and w > 0 and numbers[p] >= 0]
            found = found or [(int(grid.number[k, home[point]]), 1.0)]
            total = sum(w for _, w in found)
            for cell, weight in found:
                rows.append(point)
                columns.append(cell)
                weights.append(weight / total)
    return coo_array((weights, (rows, columns)), shape=(len(x), grid.n_cells)).tocsr()


def _around_points(mesh: PlanMesh, x: NDArray[Any], y: NDArray[Any]) -> list[list[tuple[int, float]]]:
    """The plan cells around each point, with their weights."""
    if isinstance(mesh, RectangularMesh):
        u, v = mesh.from_map(x, y)
        return [
            [
                (int(mesh.number[j, i]), wi * wj)
                for j, wj in _around(mesh.y_centres, float(pv))
                for i, wi in _around(mesh.x_centres, float(pu))
            ]
            for pu, pv in zip(u, v, strict=True)
        ]
    near, shares = _triangles(mesh, x, y)
    return [[(int(p), float(w)) for p, w in zip(*row, strict=True)] for row in zip(near, shares, strict=True)]
