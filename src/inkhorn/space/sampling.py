"""Values at points inside a layer, as sparse rows over the cells."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.space.grid import Grid
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh
from inkhorn.space.triangles import Net, corners_and_weights

__all__ = ["sampling_rows"]


def _around(
    centres: NDArray[np.float64], at: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The two centres on either side of each place, with linear weights; beyond the ends the last alone, (n, 2)."""
    above = np.searchsorted(centres, at)
    low, high = np.clip(above - 1, 0, None), np.clip(above, None, len(centres) - 1)
    apart = centres[high] - centres[low]
    share = np.divide(at - centres[low], apart, out=np.zeros(len(at)), where=apart > 0)
    return np.column_stack([low, high]), np.column_stack([1.0 - share, share])


def _around_points(
    mesh: PlanMesh, triangles: Callable[[], Net], x: NDArray[np.float64], y: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The plan cells around each point, with their weights, (n, 3) or (n, 4); -1 where there is none."""
    if isinstance(mesh, RectangularMesh):
        u, v = mesh.from_map(x, y)
        (row, up), (column, along) = _around(mesh.y_centres, v), _around(mesh.x_centres, u)
        near = mesh.number[row[:, :, None], column[:, None, :]]
        return near.reshape(len(x), 4), (up[:, :, None] * along[:, None, :]).reshape(len(x), 4)
    if len(x) == 0 or mesh.n_cells < 4:
        return np.full((len(x), 3), -1), np.zeros((len(x), 3))
    return corners_and_weights(triangles(), np.column_stack([x, y]))[:2]


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

    level, x, y = (np.atleast_1d(v) for v in (layer, x, y))
    rows, columns, weights = [], [], []
    home = grid.mesh.locate(x, y)
    there = (home >= 0) & (grid.cell_number[level, home] >= 0)
    for k, mesh in enumerate(grid.meshes):
        points = np.flatnonzero(there & (level == k))
        numbers = np.full(mesh.n_cells + 1, -1, dtype=np.int64)  # the last is for none
        present = grid.within_layer[k]
        numbers[present] = grid.first_of_layer[k] + np.arange(len(present))
        near, shares = _around_points(mesh, partial(grid.triangles, k), x[points], y[points])
        cells = numbers[near]
        shares = np.where((cells >= 0) & (shares > 0), shares, 0.0)
        total = shares.sum(axis=1)
        alone = total == 0.0  # beside no cell of the layer but its own
        cells[alone, 0], shares[alone, 0] = grid.cell_number[k, home[points[alone]]], 1.0
        shares /= np.where(alone, 1.0, total)[:, None]
        given = shares > 0
        rows.append(np.broadcast_to(points[:, None], cells.shape)[given])
        columns.append(cells[given])
        weights.append(shares[given])
    entries = (np.concatenate(weights), (np.concatenate(rows), np.concatenate(columns)))
    return coo_array(entries, shape=(len(x), grid.n_cells)).tocsr()
