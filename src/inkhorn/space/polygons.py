"""Plan meshes of any polygons, as made elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.figures import area_in_words
from inkhorn.shown import Shown
from inkhorn.space.mesh import PlanEdges

__all__ = ["PolygonMesh", "segments"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_SNAP = 1e-5  # of a cell's size: corners that close are one


@dataclass(frozen=True, eq=False)
class PolygonMesh(Shown):
    """Polygons side by side, numbered as given; corners may lie on a neighbour's edge.

    Parameters
    ----------
    shapes : ndarray of shapely Polygon, (n_cells,)
        One per cell; they may touch, not overlap.
    centres : ndarray of float, (n_cells, 2), optional
        The place each cell's head stands for [m]; the centre of gravity if not given.
    """

    shapes: NDArray[Any]
    centres: Array | None = None

    def __post_init__(self) -> None:
        import shapely

        shapes = np.asarray(self.shapes, dtype=object)
        object.__setattr__(self, "shapes", shapes)
        if not len(shapes):
            raise InputError("the mesh has no cell. Give at least one polygon.")
        kinds = shapely.get_type_id(shapes)
        flat = ~np.isin(kinds, [shapely.GeometryType.POLYGON, shapely.GeometryType.MULTIPOLYGON])
        bad = np.flatnonzero(flat | ~shapely.is_valid(shapes) | (shapely.area(shapes) <= 0))
        if len(bad):
            raise InputError(
                f"cell {bad[0]} is not a polygon with an area: {shapely.is_valid_reason(shapes[bad[0]])} "
                f"({len(bad)} of {len(shapes)} are bad). Mend it, or leave it out."
            )
        if self.centres is not None and self.centres.shape != (len(shapes), 2):
            raise InputError(
                f"centres has the shape {self.centres.shape}; expected ({len(shapes)}, 2), x and y of each cell."
            )
        self._refuse_overlaps()

    def _refuse_overlaps(self) -> None:
        import shapely

        first, second = self._tree.query(self.shapes, predicate="intersects")
        ahead = first < second
        first, second = first[ahead], second[ahead]
        common = shapely.area(shapely.intersection(self.shapes[first], self.shapes[second]))
        bad = np.flatnonzero(common > 1e-6 * np.minimum(self.area[first], self.area[second]))
        if len(bad):
            a, b = first[bad[0]], second[bad[0]]
            raise InputError(
                f"cells {a} and {b} overlap by {common[bad[0]]:.3g} m² ({len(bad)} such pairs); expected polygons "
                "side by side. Cut one back to the other."
            )

    def __repr__(self) -> str:
        return f"PolygonMesh({self.n_cells} cells, {area_in_words(self.area.sum(), 4)})"

    @property
    def n_cells(self) -> int:
        return len(self.shapes)

    @cached_property
    def centroid(self) -> Array:
        import shapely

        return np.asarray(shapely.get_coordinates(shapely.centroid(self.shapes)))

    @property
    def x(self) -> Array:
        return np.asarray((self.centroid if self.centres is None else self.centres)[:, 0])

    @property
    def y(self) -> Array:
        return np.asarray((self.centroid if self.centres is None else self.centres)[:, 1])

    @cached_property
    def area(self) -> Array:
        import shapely

        return np.asarray(shapely.area(self.shapes))

    @cached_property
    def _tree(self) -> Any:
        import shapely

        return shapely.STRtree(self.shapes)

    def polygons(self) -> NDArray[Any]:
        return self.shapes

    @cached_property
    def _edges(self) -> PlanEdges:
        owner, start, end = segments(self.shapes)
        snap = _SNAP * float(np.sqrt(np.median(self.area)))
        points, corner = _merged_points(np.concatenate([start, end]), snap)
        a, b = corner[: len(start)], corner[len(start) :]
        real = a != b
        owner, a, b = owner[real], a[real], b[real]
        lone = ~np.isin(_code(b, a, len(points)), _code(a, b, len(points)))
        pieces = _cut_at_points(points, a[lone], b[lone], snap)
        owner = np.concatenate([owner[~lone], owner[lone][pieces[0]]])
        a, b = np.concatenate([a[~lone], pieces[1]]), np.concatenate([b[~lone], pieces[2]])
        # each edge of a cell runs against that of its neighbour
        there, back = _code(a, b, len(points)), _code(b, a, len(points))
        order = np.argsort(there)
        at = np.minimum(np.searchsorted(there[order], back), len(order) - 1)
        twin = order[at]
        use = (there[twin] == back) & (owner < owner[twin])
        cells = np.column_stack([owner[use], owner[twin[use]]])
        ends = points[np.column_stack([a[use], b[use]])]
        along = ends[:, 1] - ends[:, 0]
        along /= np.hypot(along[:, 0], along[:, 1])[:, None]
        normal = np.column_stack([along[:, 1], -along[:, 0]])  # cells lie left of their edges
        centre = np.column_stack([self.x, self.y])[cells]
        arm = ends.mean(axis=1)[:, None] - centre
        distance = (arm * normal[:, None]).sum(axis=2) * np.array([1.0, -1.0])
        bad = np.flatnonzero((distance <= 0).any(axis=1))
        if len(bad):
            raise InputError(
                f"the centre of cell {cells[bad[0]][np.argmin(distance[bad[0]])]} lies behind its edge to a neighbour "
                f"({len(bad)} such edges); expected cells that bulge outwards. Split it, or give it another centre."
            )
        return PlanEdges(cells, ends, distance, normal)

    def edges(self) -> PlanEdges:
        return self._edges

    def locate(self, x: ArrayLike, y: ArrayLike) -> Index:
        import shapely

        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        found = np.full(x.size, self.n_cells, dtype=np.int64)
        point, cell = self._tree.query(shapely.points(x.ravel(), y.ravel()), predicate="intersects")
        np.minimum.at(found, point, cell)
        return np.where(found < self.n_cells, found, -1).reshape(x.shape)

    def equivalent_radius(self, cells: Index) -> Array:
        """Return that of a square of the same area, (n,) [m]; see `RectangularMesh.equivalent_radius`."""
        return np.asarray(0.14 * np.sqrt(2.0 * self.area[cells]))


def _code(a: Index, b: Index, n: int) -> Index:
    return a * n + b


def segments(shapes: NDArray[Any]) -> tuple[Index, Array, Array]:
    """Owner, start and end of every side of every polygon, each going round with the inside on its left."""
    import shapely

    parts, owner = shapely.get_parts(shapes, return_index=True)
    parts = shapely.orient_polygons(parts, exterior_cw=False)
    rings, part = shapely.get_rings(parts, return_index=True)
    points, ring = shapely.get_coordinates(rings, return_index=True)
    same = ring[1:] == ring[:-1]
    return owner[part[ring[:-1][same]]].astype(np.int64), points[:-1][same], points[1:][same]


def _merged_points(points: Array, snap: float) -> tuple[Array, Index]:
    """Points that lie closer than a distance made one; and which one each is."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import KDTree

    alone, which = np.unique(points, axis=0, return_inverse=True)
    pairs = KDTree(alone).query_pairs(snap, output_type="ndarray")
    if len(pairs):
        joined = coo_array((np.ones(len(pairs)), pairs.T), shape=(len(alone), len(alone)))
        number, group = connected_components(joined, directed=False)
        first = np.full(number, len(alone))
        np.minimum.at(first, group, np.arange(len(alone)))
        return alone[first], group[which.ravel()].astype(np.int64)
    return alone, which.ravel().astype(np.int64)


def _cut_at_points(points: Array, a: Index, b: Index, snap: float) -> tuple[Index, Index, Index]:
    """Sides cut at the points that lie on them: which side each piece is of, its start and its end."""
    import shapely

    if not len(a):
        return a, a, b
    lines = shapely.linestrings(np.stack([points[a], points[b]], axis=1))
    corners = np.unique(np.concatenate([a, b]))
    line, found = shapely.STRtree(shapely.points(points[corners])).query(
        lines, predicate="dwithin", distance=snap
    )
    point = corners[found]
    along = shapely.line_locate_point(lines[line], shapely.points(points[point]))
    order = np.lexsort((along, line))
    line, point = line[order], point[order]
    same = line[1:] == line[:-1]
    return line[:-1][same], point[:-1][same], point[1:][same]
