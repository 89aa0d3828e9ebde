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
    """The plan cells around each point, with linear weights; -1 on rectangles and outside their hull."""
    from scipy.spatial import Delaunay

    n = len(x)
    if isinstance(mesh, RectangularMesh) or mesh.n_cells < 4:
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

    points = list(zip(np.atleast_1d(layer), np.atleast_1d(x), np.atleast_1d(y), strict=True))
    rows, columns, weights = [], [], []
    home = grid.mesh.locate(np.atleast_1d(x), np.atleast_1d(y))
    near, shares = _triangles(grid.mesh, np.atleast_1d(x), np.atleast_1d(y))
    for k, ((level, px, py), plan) in enumerate(zip(points, home, strict=True)):
        if plan < 0 or grid.number[level, plan] < 0:
            continue
        around = [(int(grid.number[level, plan]), 1.0)]
        if isinstance(grid.mesh, RectangularMesh):
            mesh = grid.mesh
            u, v = mesh.from_map(px, py)
            corners = [
                (int(grid.number[level, mesh.number[j, i]]), wi * wj)
                for j, wj in _around(mesh.y_centres, float(v))
                for i, wi in _around(mesh.x_centres, float(u))
                if mesh.number[j, i] >= 0
            ]
        else:
            corners = [
                (int(grid.number[level, p]), float(w))
                for p, w in zip(near[k], shares[k], strict=True)
                if p >= 0
            ]
        around = [(c, w) for c, w in corners if c >= 0 and w > 0] or around
        total = sum(w for _, w in around)
        for cell, weight in around:
            rows.append(k)
            columns.append(cell)
            weights.append(weight / total)
    return coo_array((weights, (rows, columns)), shape=(len(points), grid.n_cells)).tocsr()
