"""The Delaunay triangles of scattered points, and the nearest places on their rim."""

from __future__ import annotations

from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError

__all__ = ["Net", "OnRim", "Triangles", "corners_and_weights"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_FLAT = np.cos(np.deg2rad(150.0))  # of the angle opposite the rim, beyond which a triangle there is flat
_TURNED = np.cos(np.deg2rad(60.0))  # how far from the hull's edge the rim may turn


class Net:
    """Delaunay's triangles of points, found from their middle: far from zero the figures of squares would not do.

    Parameters
    ----------
    points : ndarray of float, (n, 2)
        [m]

    Attributes
    ----------
    middle : ndarray of float, (2,)
        [m]
    mesh : scipy.spatial.Delaunay
        Of the points less their middle.
    corners, beside : ndarray of int, (n_triangles, 3)
        Points; the triangle opposite each, -1 beyond the rim.

    Raises
    ------
    scipy.spatial.QhullError
        If they all lie in one line.
    """

    def __init__(self, points: Array) -> None:
        from scipy.spatial import Delaunay

        self.middle = np.asarray(points.mean(axis=0))
        self.mesh = Delaunay(points - self.middle)
        self.corners: Index = self.mesh.simplices.astype(np.int64)
        self.beside: Index = self.mesh.neighbors.astype(np.int64)

    def home(self, places: Array) -> Index:
        """Return the triangle that holds each place, -1 outside the hull."""
        return np.asarray(self.mesh.find_simplex(places - self.middle), dtype=np.int64)


class OnRim(NamedTuple):
    """Places on the rim of triangles.

    Attributes
    ----------
    ends : ndarray of int, (n, 2)
        The two points between which each lies.
    weights : ndarray of float, (n, 2)
        Of the two, adding up to 1.
    triangle : ndarray of int, (n,)
        The triangle whose side it is.
    """

    ends: Index
    weights: Array
    triangle: Index


class Triangles:
    """The Delaunay triangles of points, without the flat ones on their rim.

    A flat triangle there joins two points past a third that lies nearly between them. Values would leap from those
    of the two to that of the third within a step, for no other reason than that no point lies further out.

    Parameters
    ----------
    points : ndarray of float, (n, 2)
        [m]
    name : str
        Whose points they are, for messages.

    Raises
    ------
    InputError
        If they all lie in one line.
    """

    def __init__(self, points: Array, name: str) -> None:
        from scipy.spatial import QhullError

        try:
            self.net = Net(points)
        except QhullError:
            raise InputError(
                f"the points of {name} all lie in one line; expected at least three that span an area."
            ) from None
        self.points = points
        self.corners, self.neighbours = self.net.corners, self.net.beside
        self.kept = np.ones(len(self.corners), dtype=bool)
        outer = self.neighbours < 0
        self._hull = self._sides(*np.nonzero(outer))  # both ends of every edge of the hull
        self._edge = np.full(outer.shape, -1)  # which of those each side on the rim lies under
        self._edge[outer] = np.arange(len(self._hull))
        self._edge_of = np.full(len(outer), -1)  # which one a triangle that was taken off lay under
        self._take_off_flat_ones()

    def _sides(self, triangle: Index, k: Index) -> Index:
        """Both ends of the sides opposite some corners, (n, 2)."""
        return self.corners[triangle[:, None], np.column_stack([(k + 1) % 3, (k + 2) % 3])]

    def _take_off_flat_ones(self) -> None:
        """Take flat triangles off the rim, and those that come to lie there, as long as each point keeps one."""
        corners, beside, points = self.corners, self.neighbours, self.points
        on_rim = np.zeros(len(points), dtype=bool)
        on_rim[self._hull] = True
        waiting = np.flatnonzero((beside < 0).any(axis=1)).tolist()
        while waiting:
            triangle = waiting.pop()
            sides = np.flatnonzero(beside[triangle] < 0)
            if len(sides) != 1 or not self.kept[triangle]:
                continue
            k = int(sides[0])
            edge = int(self._edge[triangle, k])
            apex, a, b = corners[triangle, [k, (k + 1) % 3, (k + 2) % 3]]
            to_a, to_b = points[a] - points[apex], points[b] - points[apex]
            long_a, long_b = np.hypot(*to_a), np.hypot(*to_b)
            along = points[self._hull[edge, 1]] - points[self._hull[edge, 0]]
            least = _TURNED * np.hypot(*along)
            flat = to_a @ to_b <= _FLAT * long_a * long_b
            if on_rim[apex] or not flat or -(to_a @ along) < least * long_a or to_b @ along < least * long_b:
                continue
            self.kept[triangle], self._edge_of[triangle], on_rim[apex] = False, edge, True
            for other in beside[triangle]:
                if other >= 0:
                    opened = beside[other] == triangle
                    beside[other, opened], self._edge[other, opened] = -1, edge
                    waiting.append(int(other))
            beside[triangle] = -1

    def home(self, places: Array) -> Index:
        """Return the triangle that holds each place, -1 beyond the rim."""
        found = self.net.home(places)
        return np.where((found >= 0) & self.kept[found], found, -1)

    @cached_property
    def _rim(self) -> tuple[Index, Index, Array, Array]:
        """The sides on the rim in order: triangle, both ends, and number of the hull's edge plus share of the way along
        it at either end.
        """
        triangle, k = np.nonzero((self.neighbours < 0) & self.kept[:, None])
        ends, edge = self._sides(triangle, k), self._edge[triangle, k]
        share = np.column_stack([self._along(edge, self.points[ends[:, j]]) for j in (0, 1)])
        order = np.lexsort((share[:, 0], edge))
        way = edge[order, None] + share[order]
        return triangle[order], ends[order], way[:, 0], way[:, 1]

    def _along(self, edge: Index, places: Array) -> Array:
        """Share of the way along edges of the hull of the foot of places."""
        start, end = (self.points[self._hull[edge, j]] for j in (0, 1))
        along = end - start
        return np.clip(((places - start) * along).sum(axis=1) / (along**2).sum(axis=1), 0.0, 1.0)

    @cached_property
    def _hull_tree(self) -> Any:
        import shapely

        return shapely.STRtree(shapely.linestrings(self.points[self._hull]))

    def on_rim(self, places: Array) -> OnRim:
        """Return the places on the rim that stand for places beyond it, so that values go on without a leap.

        That at right angles to the nearest edge of the hull.
        """
        import shapely

        found = self.net.home(places)
        edge = np.where(found >= 0, self._edge_of[found], -1)
        outside = np.flatnonzero(edge < 0)
        asked, nearest = self._hull_tree.query_nearest(shapely.points(places[outside]), all_matches=False)
        edge[outside[asked]] = nearest
        triangle, ends, begin, end = self._rim
        way = edge + np.minimum(self._along(edge, places), 1.0 - 1e-12)
        side = np.maximum(np.searchsorted(begin, way, "right") - 1, 0)
        share = np.clip((way - begin[side]) / (end[side] - begin[side]), 0.0, 1.0)
        return OnRim(ends[side], np.column_stack([1.0 - share, share]), triangle[side])

    def linear(self, places: Array) -> tuple[Index, Array]:
        """Return points and weights of linear values at places, beyond the rim of those `on_rim`, (n, 3)."""
        corners, weights, found = corners_and_weights(self.net, places)
        kept = (found >= 0) & self.kept[found]
        beyond = np.flatnonzero(~kept | ~np.isfinite(weights[:, 0]))
        if len(beyond):
            rim = self.on_rim(places[beyond])
            corners[beyond, :2], weights[beyond, :2] = rim.ends, rim.weights
            corners[beyond, 2], weights[beyond, 2] = 0, 0.0
        return corners, weights


def corners_and_weights(net: Net, places: Array) -> tuple[Index, Array, Index]:
    """Return the corners of the triangle that holds each place, their linear weights, and which triangle that is.

    Parameters
    ----------
    net : Net
    places : ndarray of float, (n, 2)
        [m].

    Returns
    -------
    corners : ndarray of int, (n, 3)
        Points, -1 outside the hull.
    weights : ndarray of float, (n, 3)
        Adding up to 1; NaN outside the hull, and in triangles of no area.
    home : ndarray of int, (n,)
        The triangle, -1 outside the hull.
    """
    home, places = net.home(places), places - net.middle
    turn = net.mesh.transform[home]
    x, y = places[:, 0] - turn[:, 2, 0], places[:, 1] - turn[:, 2, 1]
    weights = np.empty((len(places), 3))
    for k in (0, 1):
        weights[:, k] = turn[:, k, 0] * x + turn[:, k, 1] * y
    weights[:, 2] = 1.0 - weights[:, 0] - weights[:, 1]
    corners = net.corners[home]
    outside = home < 0
    if outside.any():
        corners[outside], weights[outside] = -1, np.nan
    return corners, weights, home
