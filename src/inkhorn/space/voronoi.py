"""Voronoi meshes: polygonal cells around points, each nearer to its own point than to any other."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.figures import area_in_words
from inkhorn.shown import Shown
from inkhorn.space.mesh import PlanEdges
from inkhorn.space.triangles import Net

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Ridges", "VoronoiMesh", "circle_middles", "finite_ridges", "smallest_angles"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class VoronoiMesh(Shown):
    """Polygonal cells inside an outline, numbered as their centres are given.

    The line between the centres of two neighbours crosses their edge at a right angle, halfway.

    Parameters
    ----------
    centres : ndarray of float, (n_cells, 2)
        One point inside each cell [m].
    outline : shapely Polygon
        What the cells fill.
    """

    centres: Array
    outline: Any

    def __post_init__(self) -> None:
        import shapely

        inside = shapely.contains_xy(self.outline, self.centres[:, 0], self.centres[:, 1])
        if len(self.centres) < 1 or not inside.all():
            bad = int(np.argmin(inside)) if len(self.centres) else 0
            raise InputError(
                f"centre {bad} of the Voronoi mesh lies outside its outline, or there is none; expected every cell "
                "to have its centre inside."
            )

    def __repr__(self) -> str:
        return f"VoronoiMesh({self.n_cells} cells, {area_in_words(self.area.sum(), 4)})"

    @property
    def n_cells(self) -> int:
        return len(self.centres)

    @property
    def x(self) -> Array:
        return self.centres[:, 0]

    @property
    def y(self) -> Array:
        return self.centres[:, 1]

    @cached_property
    def _diagram(self) -> Ridges:
        """The edges between the cells, and between them and four points far outside."""
        west, south, east, north = self.outline.bounds
        far = 10.0 * max(east - west, north - south)
        x, y = 0.5 * (west + east), 0.5 * (south + north)
        ring = np.array([[x + far, y], [x, y + far], [x - far, y], [x, y - far]])
        return finite_ridges(np.vstack([self.centres, ring]))

    @cached_property
    def _polygons(self) -> NDArray[Any]:
        import shapely

        pairs, ends = self._diagram[:2]
        n = self.n_cells
        owner = np.concatenate([pairs[:, 0], pairs[:, 0], pairs[:, 1], pairs[:, 1]])
        corner = np.concatenate([ends[:, 0], ends[:, 1], ends[:, 0], ends[:, 1]])
        real = owner < n
        owner, corner = owner[real], corner[real]
        arm = corner - self.centres[owner]
        order = np.lexsort((np.arctan2(arm[:, 1], arm[:, 0]), owner))
        owner, corner = owner[order], corner[order]
        new = np.append(True, (owner[1:] != owner[:-1]) | (corner[1:] != corner[:-1]).any(axis=1))
        rings = shapely.linearrings(corner[new], indices=owner[new])  # two edges end at each corner
        cells = shapely.polygons(rings)
        shapely.prepare(self.outline)
        whole = shapely.contains(self.outline, cells)
        cells[~whole] = shapely.intersection(cells[~whole], self.outline)
        return np.asarray(cells)

    def polygons(self) -> NDArray[Any]:
        return self._polygons

    @cached_property
    def area(self) -> Array:
        import shapely

        return np.asarray(shapely.area(self._polygons))

    @cached_property
    def centroid(self) -> Array:
        import shapely

        return np.asarray(shapely.get_coordinates(shapely.centroid(self._polygons)))

    @cached_property
    def _edges(self) -> PlanEdges:
        import shapely

        pairs, ends = self._diagram[:2]
        inner = (pairs < self.n_cells).all(axis=1)
        pairs, ends = pairs[inner], ends[inner]
        # four points on one circle meet in a corner: the edge between two of them has no length
        length = np.hypot(*(ends[:, 1] - ends[:, 0]).T)
        real = length > 1e-9 * np.hypot(*(self.centres[pairs[:, 1]] - self.centres[pairs[:, 0]]).T)
        pairs, ends = pairs[real], ends[real]
        lines = shapely.linestrings(ends)
        shapely.prepare(self.outline)
        crossing = np.flatnonzero(~shapely.contains(self.outline, lines))
        kept = np.ones(len(pairs), dtype=bool)
        more_pairs, more_ends = [], []
        for k, piece in zip(crossing, shapely.intersection(lines[crossing], self.outline), strict=True):
            kept[k] = False
            for part in getattr(piece, "geoms", [piece]):
                if part.geom_type == "LineString" and part.length > 0:
                    coordinates = np.asarray(part.coords)
                    more_pairs.append(pairs[k])
                    more_ends.append(coordinates[[0, -1]])
        if more_pairs:
            pairs = np.concatenate([pairs[kept], np.array(more_pairs)])
            ends = np.concatenate([ends[kept], np.array(more_ends)])
        else:
            pairs, ends = pairs[kept], ends[kept]
        arm = self.centres[pairs[:, 1]] - self.centres[pairs[:, 0]]
        distance = np.hypot(arm[:, 0], arm[:, 1])
        return PlanEdges(
            cells=pairs.astype(np.int64),
            ends=ends,
            distance=np.repeat(0.5 * distance[:, None], 2, axis=1),
            normal=arm / distance[:, None],
        )

    def edges(self) -> PlanEdges:
        return self._edges

    @cached_property
    def _tree(self) -> Any:
        from scipy.spatial import KDTree

        return KDTree(self.centres)

    def locate(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        import shapely

        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        nearest = self._tree.query(np.column_stack([x.ravel(), y.ravel()]))[1].reshape(x.shape)
        return np.where(shapely.intersects_xy(self.outline, x, y), nearest, -1).astype(np.int64)

    def equivalent_radius(self, cells: NDArray[np.int64]) -> Array:
        """Return how far from a well in each cell's middle the head is that of the cell, (n,) [m].

        That for which the flows to the neighbours are those of a radial profile through their heads:
        ``sum(w/d ln(d/r0)) = 2 pi`` over edges of length w to centres at distance d.
        """
        edges = self._edges
        distance = edges.distance.sum(axis=1)
        ratio = edges.length / distance
        total, logs = np.zeros(self.n_cells), np.zeros(self.n_cells)
        for side in (0, 1):
            np.add.at(total, edges.cells[:, side], ratio)
            np.add.at(logs, edges.cells[:, side], ratio * np.log(distance))
        return np.asarray(np.exp((logs[cells] - 2.0 * np.pi) / total[cells]))

    def measures(self) -> dict[str, Array]:
        """Return what tells a good mesh, by name: sizes, faces against the distance across them, angles.

        The triangles are those of three neighbours that meet inside the outline.
        """
        edges = self._edges
        return {
            "cell size [m]": np.sqrt(self.area),
            "face length over centre distance": edges.length / edges.distance.sum(axis=1),
            "smallest angle of a triangle [degrees]": self.triangle_angles(),
        }

    def table(self) -> pd.DataFrame:
        """Return the measures of a good mesh as a table.

        Returns
        -------
        pandas.DataFrame
            One row per measure, with its count and its least, 1 % quantile, median and greatest value.
        """
        import pandas as pd

        rows = {
            k: [len(v), *np.quantile(v, [0.0, 0.01, 0.5, 1.0])] for k, v in self.measures().items() if len(v)
        }
        columns = ["count", "least", "1 %", "median", "greatest"]
        return pd.DataFrame.from_dict(rows, orient="index", columns=columns).astype({"count": int})

    def triangle_angles(self) -> Array:
        """Return the smallest angle of each triangle of three cells that meet inside the outline [degrees]."""
        import shapely

        corners = self._diagram.corners
        places = self.centres[corners[(corners < self.n_cells).all(axis=1)]]
        meeting = circle_middles(places)
        return smallest_angles(places[shapely.contains_xy(self.outline, meeting[:, 0], meeting[:, 1])])


class Ridges(NamedTuple):
    """The edges between the cells of points, and who meets at their ends.

    Attributes
    ----------
    pairs : ndarray of int, (n, 2)
        Points on either side.
    ends : ndarray of float, (n, 2, 2)
        Both ends [m].
    beyond : ndarray of int, (n, 2)
        The third point that meets at each end.
    corners : ndarray of int, (n_triangles, 3)
        The three points that meet at each place.
    """

    pairs: NDArray[np.int64]
    ends: Array
    beyond: NDArray[np.int64]
    corners: NDArray[np.int64]


def circle_middles(corners: Array) -> Array:
    """Return the middle of the circle through each triangle's corners: (n, 3, 2) give (n, 2)."""
    a, b, c = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    d = 2.0 * (b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])
    bb, cc = (b**2).sum(axis=1), (c**2).sum(axis=1)
    return np.asarray(
        a + np.column_stack([c[:, 1] * bb - b[:, 1] * cc, b[:, 0] * cc - c[:, 0] * bb]) / d[:, None]
    )


def smallest_angles(corners: Array) -> Array:
    """Return the smallest angle of triangles [degrees]: (n, 3, 2) give (n,)."""
    sides = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
    shortest = sides.min(axis=1)  # opposite the smallest angle
    others = (sides**2).sum(axis=1) - 2.0 * shortest**2
    product = sides.prod(axis=1) / shortest
    return np.asarray(np.rad2deg(np.arccos(np.clip(others / (2.0 * product), -1.0, 1.0))))


def finite_ridges(points: Array) -> Ridges:
    """Return the edges of the Voronoi cells that end on both sides, from the Delaunay triangles.

    Each pair of triangles side by side gives an edge, from the middle of one's circle to that of the other.
    """
    net = Net(points)
    corners, beside = net.corners, net.beside
    middle = circle_middles(points[corners])
    pairs, ends, beyond = [], [], []
    own = np.arange(len(corners))
    for k in range(3):
        t = np.flatnonzero(beside[:, k] > own)  # each pair of triangles once
        other = beside[t, k]
        pair = corners[t][:, [(k + 1) % 3, (k + 2) % 3]]
        pairs.append(pair)
        ends.append(np.stack([middle[t], middle[other]], axis=1))
        beyond.append(np.column_stack([corners[t, k], corners[other].sum(axis=1) - pair.sum(axis=1)]))
    return Ridges(np.concatenate(pairs), np.concatenate(ends), np.concatenate(beyond), corners)
