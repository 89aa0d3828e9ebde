"""Values at points inside a layer, as sparse rows over the cells."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.space.grid import Grid
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh

__all__ = ["sampling_rows"]


def _triangle_weights(mesh: PlanMesh) -> Callable[[float, float], list[tuple[int, float]]]:
    """Return what gives the plan cells around a point, with linear weights; none outside their hull."""
    from scipy.spatial import Delaunay

    if isinstance(mesh, RectangularMesh) or mesh.n_cells < 4:
        return lambda x, y: []
    triangles = Delaunay(np.column_stack([mesh.x, mesh.y]))

    def around(x: float, y: float) -> list[tuple[int, float]]:
        k = int(triangles.find_simplex([x, y]))
        if k < 0:
            return []
        turn = triangles.transform[k]
        first, second = turn[:2] @ (np.array([x, y]) - turn[2])
        return list(zip(triangles.simplices[k].tolist(), (first, second, 1.0 - first - second), strict=True))

    return around


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
    in_triangle = _triangle_weights(grid.mesh)
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
            corners = [(int(grid.number[level, p]), w) for p, w in in_triangle(px, py)]
        around = [(c, w) for c, w in corners if c >= 0 and w > 0] or around
        total = sum(w for _, w in around)
        for cell, weight in around:
            rows.append(k)
            columns.append(cell)
            weights.append(weight / total)
    return coo_array((weights, (rows, columns)), shape=(len(points), grid.n_cells)).tocsr()
