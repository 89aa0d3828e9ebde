"""Heads at points beside the centres of cells, read between these and their neighbours."""

from __future__ import annotations

from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from inkhorn.space.grid import Grid

__all__ = ["read_beside"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_MOST_OF_OTHERS = 0.75  # weight of neighbours up to which a point is read between them and the centre


def read_beside(
    grid: Grid,
    cell: Index,
    shift: Array,
    *,
    in_plan: bool,
    isotropic: bool,
    along: Array | None = None,
) -> tuple[Index, Index, Array, Array, Index]:
    """Weights of neighbours that give a linear head at points beside the centres of cells.

    A point on the line to a neighbour is read between the two; and where conductivity is the same all
    round, any point between the centre and the nearest neighbours that enclose it, as many as there are
    dimensions, as long as the centre keeps a quarter of the weight. No weight is negative then, which
    keeps rows monotone. Other points are read by least squares through all neighbours: under strong
    anisotropy, weights all on one side make the equations unstable (seen on Voronoi cells).

    Parameters
    ----------
    cell : ndarray of int, (n,)
        A cell for each point.
    shift : ndarray of float, (n, dimensions)
        From its centre to the point [m].
    in_plan : bool
        Whether neighbours are those of the same layer only.
    isotropic : bool
        Whether conductivity is the same all round.
    along : ndarray of float, (n, directions, dimensions), optional
        Directions in which the points may be moved: the weights' derivatives, the same neighbours being read.

    Returns
    -------
    owner, neighbour, weight : ndarray
        Which point, which cell, and the weight of the difference of its head to that of the point's cell.
    slope : ndarray of float, (entries, directions)
        Derivative of the weight along each direction.
    missed : ndarray of int
        Points for which the neighbours do not reach.
    """
    cells, faces = grid.cells, grid.faces
    place = np.column_stack([cells.x, cells.y] if in_plan else [cells.x, cells.y, cells.z])
    pairs = faces.cells[~faces.is_floor] if in_plan else faces.cells
    start, beside = _neighbours(pairs, len(cells), cell)
    owners, neighbours, weights, slopes = [], [], [], []
    along = np.zeros((len(cell), 0, shift.shape[1])) if along is None else along
    left = np.arange(len(cell))
    for ring in (1, 2):  # where a cell's own neighbours do not reach, theirs may
        if ring == 2:
            start, beside = _second_neighbours(pairs, len(cells), np.unique(cell[left]))
        count = np.diff(start)[cell[left]]
        missed = []
        for m in np.unique(count):
            points = left[count == m]
            for few in np.array_split(points, max(1, len(points) * int(m) ** shift.shape[1] // 2_000_000)):
                around = beside[start[cell[few]][:, None] + np.arange(m)]
                arms = place[around] - place[cell[few]][:, None]
                weight, slope = _between(arms, shift[few], isotropic, along[few])
                error = np.abs((weight[:, :, None] * arms).sum(axis=1) - shift[few]).max(axis=1)
                far = error > 1e-9 * np.abs(shift[few]).max(axis=1)
                missed.append(few[far])
                if ring == 1:
                    weight[far], slope[far] = 0.0, 0.0
                owner, slot = np.nonzero((weight != 0.0) | (slope != 0.0).any(axis=2))
                owners.append(few[owner])
                neighbours.append(around[owner, slot])
                weights.append(weight[owner, slot])
                slopes.append(slope[owner, slot])
        left = np.concatenate(missed)
        if not len(left):
            break
    found = (np.concatenate(v) for v in (owners, neighbours, weights, slopes))
    return *found, left  # type: ignore[return-value]  # in this order


def _neighbours(pairs: Index, n_cells: int, asked: Index) -> tuple[Index, Index]:
    """Neighbours of the cells asked for: where each cell's begin, and all of them."""
    wanted = np.zeros(n_cells, dtype=bool)
    wanted[asked] = True
    first, second = np.concatenate([pairs.T, pairs.T[::-1]], axis=1)
    here = wanted[first]
    code = np.unique(first[here] * n_cells + second[here])  # cut cells may touch twice
    first, second = np.divmod(code, n_cells)
    start = np.concatenate([[0], np.cumsum(np.bincount(first, minlength=n_cells))])
    return start, second


def _second_neighbours(pairs: Index, n_cells: int, asked: Index) -> tuple[Index, Index]:
    """As `_neighbours`, with the neighbours of their neighbours among theirs."""
    from scipy.sparse import csr_array

    first, second = np.concatenate([pairs.T, pairs.T[::-1]], axis=1)
    near = csr_array((np.ones(len(first)), (first, second)), shape=(n_cells, n_cells))
    own = csr_array((np.ones(len(asked)), (asked, asked)), shape=(n_cells, n_cells))
    both = (own @ near + own @ near @ near).tocoo()
    apart = np.flatnonzero(both.row != both.col)
    order = apart[np.lexsort((both.col[apart], both.row[apart]))]
    count = np.bincount(both.row[order], minlength=n_cells)
    return np.concatenate([[0], np.cumsum(count)]), both.col[order].astype(np.int64)


def _between(arms: Array, shift: Array, isotropic: bool, along: Array) -> tuple[Array, Array]:
    """Weights of arms (n, m, dimensions) that add up to shifts (n, dimensions), none negative if possible.

    And what the same arms say of other directions, (n, directions, dimensions).
    """
    n, m, dimensions = arms.shape
    weight, slope = np.zeros((n, m)), np.zeros((n, m, along.shape[1]))
    if m == 0:
        return weight, slope
    length = np.sqrt((arms**2).sum(axis=2))
    left = np.arange(n)
    if m >= dimensions:
        chosen = np.array(list(combinations(range(m), dimensions)))
        basis = arms[:, chosen]  # (n, combinations, dimensions, dimensions)
        volume = np.linalg.det(basis)
        flat = np.abs(volume) <= 1e-6 * length[:, chosen].prod(axis=2)
        safe = np.where(flat[:, :, None, None], np.eye(dimensions), basis)
        found = np.linalg.solve(
            np.swapaxes(safe, 2, 3), np.broadcast_to(shift[:, None, :, None], (*flat.shape, dimensions, 1))
        )[..., 0]
        scale = np.abs(found).max(axis=2)
        total = found.sum(axis=2)
        near = (total <= _MOST_OF_OTHERS) & (isotropic | (scale >= (1.0 - 1e-9) * total))
        bad = flat | ~near | (found < -1e-12 * scale[:, :, None]).any(axis=2)
        cost = np.where(bad, np.inf, (np.maximum(found, 0.0) * length[:, chosen] ** 2).sum(axis=2))
        best = np.argmin(cost, axis=1)
        good = np.flatnonzero(np.isfinite(cost[np.arange(n), best]))
        value = np.where(
            np.abs(found[good, best[good]]) <= 1e-12 * scale[good, best[good], None],
            0.0,
            found[good, best[good]],
        )
        weight[good[:, None], chosen[best[good]]] = value
        if along.shape[1]:
            turned = np.linalg.solve(
                np.swapaxes(safe[good, best[good]], 1, 2), np.swapaxes(along[good], 1, 2)
            )
            slope[good[:, None], chosen[best[good]]] = turned
        left = np.setdiff1d(left, good)
    if len(left):
        scaled = arms[left] / length[left][:, :, None]
        spread = np.linalg.pinv(np.swapaxes(scaled, 1, 2), rcond=1e-9)  # (n, m, dimensions)
        weight[left] = (spread @ shift[left][:, :, None])[..., 0] / length[left]
        slope[left] = (spread @ np.swapaxes(along[left], 1, 2)) / length[left][:, :, None]
    return weight, slope
