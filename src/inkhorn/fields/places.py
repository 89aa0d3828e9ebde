"""Where the values of a random field stand: at the centres of cells, or over the whole of each."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.space import Grid, MergedMesh, RectangularMesh, SplitMesh, Variogram

__all__ = ["Lattice", "Places", "Support"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

Support = Literal["points", "averages"]
_OFF = 1e-6  # of a lattice's spacing: how far places may lie off it


@dataclass(frozen=True, eq=False)
class Lattice:
    """Even rows and columns on which places lie.

    Attributes
    ----------
    spacing : (float, float)
        Along the lattice's own axes [m].
    turn : float
        Of these against those of the map, anticlockwise [radians].
    column, row : ndarray of int, (n,)
        Of each place, from 0.
    """

    spacing: tuple[float, float]
    turn: float
    column: Index = field(repr=False)
    row: Index = field(repr=False)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns that the places reach over."""
        return int(self.row.max()) + 1, int(self.column.max()) + 1

    @classmethod
    def through(cls, u: Array, v: Array, turn: float) -> Lattice | None:
        """Return the widest lattice that places along some axes lie on; none if they lie on no even one."""
        along, across = _even(u), _even(v)
        if along is None or across is None:
            return None
        (dx, column), (dy, row) = along, across
        one = dx or dy or 1.0, dy or dx or 1.0  # a single row or column
        return cls(one, turn, column, row)


def _even(places: Array) -> tuple[float, Index] | None:
    """The greatest spacing of which all distances are multiples, and how many from the first; 0 if all are alike."""
    order = np.unique(places)
    extent = float(order[-1] - order[0])
    steps = np.diff(order)
    steps = np.unique(np.round(steps[steps > 1e-9 * extent] / max(extent, 1e-300), 12)) * extent
    if not len(steps):
        return 0.0, np.zeros(len(places), dtype=np.int64)
    spacing = float(steps[0])
    for step in steps[1:]:  # Euclid's algorithm
        a, b = float(step), spacing
        while b > 1e-4 * spacing:
            a, b = b, a - b * np.round(a / b)
            b = abs(b)
        spacing = a
        if extent / spacing > 1e5:
            return None
    number = np.round((places - order[0]) / spacing)
    if np.abs((places - order[0]) / spacing - number).max() > _OFF * max(1.0, extent / spacing):
        return None
    return spacing, number.astype(np.int64)


@dataclass(frozen=True, eq=False)
class Places:
    """Where the values of one field stand, which has nothing to do with those of other places.

    Attributes
    ----------
    grid : Grid
    cells : ndarray of int, (n,)
        Which have a value.
    variogram : Variogram
        By which values are alike.
    support : {"points", "averages"}
        Whether these are the values at the centres of cells, or means over the whole of each in plan.
    by_elevation : bool
        Whether distances up and down are those of centres, and not those of whole layers in the mean.
    """

    grid: Grid
    cells: Index = field(repr=False)
    variogram: Variogram
    support: Support = "points"
    by_elevation: bool = False

    def __len__(self) -> int:
        return len(self.cells)

    @cached_property
    def layer(self) -> Index:
        """Of each, (n,)."""
        return np.asarray(self.grid.cells.layer[self.cells])

    @cached_property
    def centres(self) -> tuple[Array, Array]:
        """Of cells, of those that the outline cuts as if it did not, two (n,) [m]."""
        x, y = self.grid.cells.x[self.cells].copy(), self.grid.cells.y[self.cells].copy()
        for k in np.unique(self.layer):
            mesh = self.grid.meshes[k]
            if isinstance(mesh, RectangularMesh | SplitMesh):
                mine = self.layer == k
                plan = self.grid.within_layer[k][self.cells[mine] - self.grid.first_of_layer[k]]
                x[mine], y[mine] = (w[plan] for w in mesh.whole_centres)
        return x, y

    @cached_property
    def level(self) -> Array:
        """Height by which layers are apart, (n,) [m]."""
        own = self.grid.cells
        if self.by_elevation:
            return np.asarray(own.z[self.cells])
        return self.levels_of_layers()[self.layer]

    def levels_of_layers(self) -> Array:
        """The mean height of each layer's centres, (n_layers,) [m]; NaN where it has none here."""
        own, count = self.grid.cells, len(self.grid.layer_names)
        area = np.bincount(self.layer, own.area[self.cells], count)
        moment = np.bincount(self.layer, (own.area * own.z)[self.cells], count)
        return np.where(area > 0.0, moment / np.where(area > 0.0, area, 1.0), np.nan)

    @property
    def heights_matter(self) -> bool:
        """Whether places lie in several layers that have to do with each other."""
        return self.variogram.vertical is not None and (self.by_elevation or len(np.unique(self.layer)) > 1)

    def stretched(self, x: Array, y: Array, level: Array) -> Array:
        """Return places in which distance is measured in ranges, (n, 2) or (n, 3)."""
        return self.variogram.stretched(x, y, level if self.heights_matter else None)

    @cached_property
    def at_centres(self) -> Array:
        """The centres, in ranges."""
        return self.stretched(*self.centres, self.level)

    @cached_property
    def lattice(self) -> Lattice | None:
        """The lattice that all centres lie on in plan; none if there is no even one."""
        mesh = self.grid.mesh
        base = mesh.base if isinstance(mesh, SplitMesh) else mesh
        turn = np.deg2rad(base.rotation) if isinstance(base, RectangularMesh) else 0.0
        x, y = self.centres
        x, y = x - x.min(), y - y.min()
        return Lattice.through(
            np.cos(turn) * x + np.sin(turn) * y, np.cos(turn) * y - np.sin(turn) * x, float(turn)
        )

    @cached_property
    def alike(self) -> bool:
        """Whether all are rectangles of the lattice's own size, so that means over them have one covariance."""
        lattice = self.lattice
        if lattice is None or isinstance(self.grid.mesh, MergedMesh) or self.grid.joined:
            return False
        mesh = self.grid.mesh
        if isinstance(mesh, SplitMesh) and len(np.unique(mesh.splits)) > 1:
            return False
        plan = self.grid.cells.plan_cell[self.cells]
        if isinstance(mesh, SplitMesh | RectangularMesh):
            whole = mesh.whole_area[plan]
            return bool(np.allclose(whole, lattice.spacing[0] * lattice.spacing[1], rtol=1e-6))
        return False

    @cached_property
    def within(self) -> tuple[Array, Any]:
        """Points in ranges, and the sparse matrix that makes the values of those at the points, (n, n_points)."""
        from scipy.sparse import coo_array, eye_array

        n = len(self)
        if self.support == "points":
            return self.at_centres, eye_array(n, format="csr")
        x, y, row, weight = _spread(self)
        points = self.stretched(x, y, self.level[row])
        return points, coo_array((weight, (row, np.arange(len(row)))), shape=(n, len(row))).tocsr()


def _spread(places: Places) -> tuple[Array, Array, Index, Array]:
    """Points over each cell with weights that add up to 1: x, y, which cell, weight.

    A cell is cut into triangles about its centre of gravity, each read at three points, so that what is quadratic in
    plan is exact (Strang and Fix 1973).
    """
    import shapely

    grid = places.grid
    polygons = np.empty(len(places), dtype=object)
    for k in np.unique(places.layer):
        mine = np.flatnonzero(places.layer == k)
        own = grid.within_layer[k][places.cells[mine] - grid.first_of_layer[k]]
        polygons[mine] = grid.meshes[k].polygons()[own]
    parts, cell = shapely.get_parts(polygons, return_index=True)
    middle = shapely.get_coordinates(shapely.centroid(polygons))[cell]
    corner, ring = shapely.get_coordinates(shapely.get_exterior_ring(parts), return_index=True)
    same = np.flatnonzero(ring[1:] == ring[:-1])
    of = cell[ring[same]]
    a, b, c = corner[same], corner[same + 1], middle[ring[same]]
    ab, ac = b - a, c - a
    area = 0.5 * np.abs(ab[:, 0] * ac[:, 1] - ab[:, 1] * ac[:, 0])
    weight = area / np.bincount(of, area, len(places))[of]
    points = np.concatenate([(4.0 * p + q + r) / 6.0 for p, q, r in ((a, b, c), (b, c, a), (c, a, b))])
    row, weight = np.tile(of, 3), np.tile(weight / 3.0, 3)
    order = np.argsort(row, kind="stable")
    return points[order, 0], points[order, 1], row[order], weight[order]
