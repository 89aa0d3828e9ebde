"""How the cells of two grids overlap: what is carried from one to the other keeps its total, levels become means."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.space.grid import Grid

__all__ = ["Overlap", "overlap"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Overlap:
    """Volumes that the cells of two grids share.

    Attributes
    ----------
    volume : scipy.sparse.csr_array, (n_to, n_from)
        Shared area in plan times shared height [m³]; nothing where a layer has vanished, or within a hole.
    of, to : ndarray of float, (n_from,) and (n_to,)
        Volumes of the cells themselves [m³].
    """

    volume: Any
    of: Array
    to: Array

    def __repr__(self) -> str:
        return f"Overlap({self.volume.shape[1]} cells in {self.volume.shape[0]}: {self.volume.nnz} pairs)"

    @cached_property
    def shared(self) -> Array:
        """What share of each cell of the second grid the first one covers, (n_to,)."""
        return np.asarray(self.volume.sum(axis=1)).ravel() / self.to

    def mean(self, values: ArrayLike) -> Array:
        """Return means of values, as of heads or porosities, by shared volume, (n_to,); NaN where nothing is shared."""
        given = np.asarray(values, dtype=np.float64)
        known = np.isfinite(given)
        weight = self.volume @ known.astype(np.float64)
        total = self.volume @ np.where(known, given, 0.0)
        return np.asarray(np.where(weight > 0, total / np.where(weight > 0, weight, 1.0), np.nan))

    def share_out(self, amounts: ArrayLike) -> Array:
        """Return amounts, as of water stored or brought in, shared out evenly over the volume they come from, (n_to,).

        Their total is kept where the second grid covers all of the first.
        """
        given = np.asarray(amounts, dtype=np.float64)
        return np.asarray(self.volume @ (given / self.of))


def overlap(of: Grid, to: Grid) -> Overlap:
    """Find what volumes the cells of two grids share.

    Parameters
    ----------
    of, to : Grid
        From which values are carried, and to which; of any mesh and layers.

    Raises
    ------
    InputError
        If they share nothing.

    Examples
    --------
    >>> from inkhorn.space import layered, rectangles
    >>> coarse = layered(rectangles((0, 0, 20, 10), cell=10), [0.0, -3.0])
    >>> fine = layered(rectangles((0, 0, 20, 10), cell=5), [0.0, -1.0, -3.0])
    >>> overlap(fine, coarse).mean([1.0] * 8 + [4.0] * 8).tolist()
    [3.0, 3.0]
    """
    import shapely
    from scipy.sparse import coo_array

    shapes, others = of.mesh.polygons(), to.mesh.polygons()
    if of.mesh is to.mesh:
        plan_to = plan_of = np.arange(of.mesh.n_cells)
        area = of.mesh.area
    else:
        plan_to, plan_of = shapely.STRtree(shapes).query(others, predicate="intersects")
        area = shapely.area(shapely.intersection(others[plan_to], shapes[plan_of]))
    real = area > 1e-12 * np.minimum(to.mesh.area[plan_to], of.mesh.area[plan_of])
    plan_to, plan_of, area = plan_to[real], plan_of[real], area[real]
    rows, columns, volumes = [], [], []
    for lower in to.cell_number:
        for upper in of.cell_number:
            b, a = lower[plan_to], upper[plan_of]
            both = np.flatnonzero((a >= 0) & (b >= 0))
            a, b = a[both], b[both]
            height = np.minimum(to.cells.top[b], of.cells.top[a]) - np.maximum(
                to.cells.bottom[b], of.cells.bottom[a]
            )
            some = np.flatnonzero(height > 0)
            rows.append(b[some])
            columns.append(a[some])
            volumes.append(area[both[some]] * height[some])
    entries = (np.concatenate(volumes), (np.concatenate(rows), np.concatenate(columns)))
    matrix = coo_array(entries, shape=(to.n_cells, of.n_cells)).tocsr()
    if not matrix.nnz:
        raise InputError("the grids share nothing: they lie apart in plan or in height.")
    return Overlap(matrix, of.cells.volume, to.cells.volume)
