"""Plan cells cut into triangles: fans around their middles, in which the flow is a straight ray."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rim import OuterEdges, outer_edges

__all__ = ["Fans", "fan_flow", "fans_of"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_SAME = 1e-4  # of a cell's size: ends of sides that lie so near are one place
_FLAT = 1e-9  # of a cell's area: a triangle of less is none


@dataclass(frozen=True, eq=False)
class Fans:
    """Triangles of the cells of a plan mesh, those of a cell one after the other, anticlockwise.

    Side k of a triangle lies across from its corner k. A cell that sees all of its outline from its centre of gravity is
    a fan around that, which is corner 0 of each triangle; others are cut by Delaunay's rule.

    Attributes
    ----------
    origin : ndarray of float, (2,)
        What corners are measured from, so that little is lost where coordinates are large [m].
    corner : ndarray of float, (n, 3, 2)
        [m].
    cell : ndarray of int, (n,)
        The plan cell.
    first : ndarray of int, (n_cells + 1,)
        The first triangle of each cell.
    beyond, back : ndarray of int, (n, 3)
        The triangle across each side, -1 on the rim; and which of its sides that is.
    edge, rim : ndarray of int, (n, 3)
        The edge of the mesh, or the outer edge, that a side is, -1 elsewhere.
    sign : ndarray of float, (n, 3)
        1 where the triangle's cell is the first of the edge, else -1.
    regular : ndarray of bool, (n_cells,)
        Whether a cell is a fan.
    area : ndarray of float, (n,)
        [m²].
    mass : ndarray of float, (n, 3, 3)
        Integrals of the products of what one unit through each side makes.
    """

    origin: Array
    corner: Array
    cell: Index
    first: Index
    beyond: Index
    back: Index
    edge: Index
    rim: Index
    sign: Array
    regular: NDArray[np.bool_]
    area: Array
    mass: Array

    def __len__(self) -> int:
        return len(self.cell)

    def holding(self, plan: Index, x: Array, y: Array) -> Index:
        """Return which triangle of a plan cell holds each place, or is nearest to it."""
        found = np.empty(len(plan), dtype=np.int64)
        place = np.column_stack([x, y]) - self.origin
        count = self.first[plan + 1] - self.first[plan]
        whose = np.repeat(np.arange(len(plan)), count)
        triangle = (
            np.arange(len(whose)) - np.repeat(np.cumsum(count) - count, count) + self.first[plan[whose]]
        )
        corner = self.corner[triangle]
        inside = np.full(len(whose), np.inf)
        for k in range(3):
            a, b = corner[:, (k + 1) % 3], corner[:, (k + 2) % 3]
            way, arm = b - a, place[whose] - a
            length = np.hypot(way[:, 0], way[:, 1])
            inside = np.minimum(
                inside, (way[:, 0] * arm[:, 1] - way[:, 1] * arm[:, 0]) / np.maximum(length, 1e-300)
            )
        order = np.lexsort((inside, whose))  # the last of each is the deepest
        found[whose[order]] = triangle[order]
        return found


def _sides(mesh: PlanMesh, rim: OuterEdges) -> tuple[Index, Array, Index, Index, Array]:
    """The sides of all cells: whose, ends with the cell on the left, which edge or outer edge, and the sign."""
    edges = mesh.edges()
    n = len(edges.cells)
    way = edges.ends[:, 1] - edges.ends[:, 0]
    ahead = way[:, 0] * edges.normal[:, 1] - way[:, 1] * edges.normal[:, 0] < 0.0
    ends = np.where(ahead[:, None, None], edges.ends, edges.ends[:, ::-1])
    whose = np.concatenate([edges.cells[:, 0], edges.cells[:, 1], rim.cell])
    both = np.concatenate([ends, ends[:, ::-1], rim.ends])
    none = np.full(len(rim.cell), -1)
    edge = np.concatenate([np.arange(n), np.arange(n), none])
    outer = np.concatenate([np.full(2 * n, -1), np.arange(len(rim.cell))])
    sign = np.concatenate([np.ones(n), -np.ones(n), np.ones(len(rim.cell))])
    return whose, both, edge, outer, sign


def _mass(corner: Array, area: Array) -> Array:
    """Integrals of the products of what one unit through each side makes, (n, 3, 3); exact at the middles of sides."""
    middle = 0.5 * (corner[:, [1, 2, 0]] + corner[:, [2, 0, 1]])
    arm = middle[:, :, None] - corner[:, None]  # (n, middles, corners, 2)
    return np.asarray(np.einsum("nqik,nqjk->nij", arm, arm) / (12.0 * area)[:, None, None])


def fan_flow(
    corner: Array, cell: Index, out: Array, source: Array | None = None, mass: Array | None = None
) -> Array:
    """Return what flows out through each side of the triangles of fans, (n, 3), with the least energy in each fan.

    In each triangle the flow is that of Raviart and Thomas of the lowest order: its part at right angles to a side is
    even along it. One circulation around the middle is free; the least energy decides, as it does for the flow itself
    where conductivity is even.

    Parameters
    ----------
    corner : ndarray of float, (n, 3, 2)
        Of triangles, those of a fan one after the other, anticlockwise, their common middle first [m].
    cell : ndarray of int, (n,)
        Which fan each is of, rising.
    out : ndarray of float, (n,)
        Through the side across from the middle [m³/day].
    source : ndarray of float, (n,), optional
        What each triangle gives more than it gets, adding up to what flows out of its fan; even over it if not given.
    mass : ndarray of float, (n, 3, 3), optional
        As of `Fans`.

    References
    ----------
    Raviart, P. A. & Thomas, J. M. (1977), A mixed finite element method for second order elliptic problems, Lecture
    Notes in Mathematics 606, 292-315. Cordes, C. & Kinzelbach, W. (1992), Continuous groundwater velocity fields and
    path lines in linear, bilinear, and trilinear finite elements, Water Resources Research 28(11), 2903-2911.
    """
    begin = np.searchsorted(cell, cell)  # the first of the same fan
    fan = np.cumsum(begin == np.arange(len(cell))) - 1
    area = _area(corner)
    if mass is None:
        area = np.maximum(area, 1e-12 * np.bincount(fan, np.abs(area))[fan])
        mass = _mass(corner, area)
    if source is None:
        source = area * (np.bincount(fan, out) / np.bincount(fan, area))[fan]
    along = np.cumsum(source - out)
    spoke = along - np.concatenate([[0.0], along])[begin]
    previous = np.concatenate([[0.0], spoke[:-1]])
    previous[begin == np.arange(len(cell))] = 0.0  # the sum over a fan is none
    flux = np.column_stack([out, spoke, -previous])
    row = mass @ np.array([0.0, 1.0, -1.0])  # of the circulation
    energy = np.bincount(fan, row[:, 1] - row[:, 2])
    turn = (np.bincount(fan, (row * flux).sum(axis=1)) / energy)[fan]
    flux[:, 1] -= turn
    flux[:, 2] += turn
    return flux


def _area(corner: Array) -> Array:
    one, two = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    return np.asarray(0.5 * (one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]))


def fans_of(mesh: PlanMesh) -> Fans:
    """Return the triangles of a plan mesh."""
    centre = mesh.centroid
    origin = centre.min(axis=0)
    centre = centre - origin
    rim = outer_edges(mesh)
    whose, ends, edge, outer, sign = _sides(mesh, rim)
    ends = ends - origin
    arm = ends.mean(axis=1) - centre[whose]
    order = np.lexsort((np.arctan2(arm[:, 1], arm[:, 0]), whose))
    whose, ends, edge, outer, sign = whose[order], ends[order], edge[order], outer[order], sign[order]
    first = np.searchsorted(whose, np.arange(mesh.n_cells + 1))
    following = np.arange(len(whose)) + 1
    last = first[1:][first[1:] > first[:-1]] - 1
    following[last] = first[:-1][first[1:] > first[:-1]]
    size = np.sqrt(mesh.area)
    # the end of each side is the begin of the next
    gap = np.hypot(*(ends[:, 1] - ends[following, 0]).T)
    corner = np.stack([centre[whose], ends[:, 0], ends[following, 0]], axis=1)
    area = _area(corner)
    bad = (gap > _SAME * size[whose]) | (area <= _FLAT * mesh.area[whose])
    regular = np.bincount(whose, bad, mesh.n_cells) == 0
    regular &= np.abs(np.bincount(whose, area, mesh.n_cells) - mesh.area) < 1e-3 * mesh.area
    kept = regular[whose]
    number = np.cumsum(kept) - 1
    n = int(kept.sum())
    nothing = np.full((n, 3), -1)
    parts: dict[str, list[Any]] = {
        "corner": [corner[kept]],
        "cell": [whose[kept]],
        "edge": [nothing.copy()],
        "rim": [nothing.copy()],
        "sign": [np.ones((n, 3))],
        "beyond": [nothing.copy()],
        "back": [nothing.copy()],
    }
    parts["edge"][0][:, 0], parts["rim"][0][:, 0], parts["sign"][0][:, 0] = (
        edge[kept],
        outer[kept],
        sign[kept],
    )
    parts["beyond"][0][:, 1], parts["back"][0][:, 1] = number[following[kept]], 2
    parts["beyond"][0][number[following[kept]], 2] = np.arange(n)
    parts["back"][0][:, 2] = 1
    for cell in np.flatnonzero(~regular):
        mine = slice(first[cell], first[cell + 1])
        more = _delaunay(mesh, int(cell), origin, ends[mine], edge[mine], outer[mine], sign[mine], n)
        for name, values in more.items():
            parts[name].append(values)
        n += len(more["cell"])
    joined = {name: np.concatenate(values) for name, values in parts.items()}
    return _finished(origin, joined, regular, mesh.n_cells)


def _finished(origin: Array, parts: dict[str, Any], regular: NDArray[np.bool_], n_cells: int) -> Fans:
    """Put triangles in the order of their cells, and join them across edges."""
    order = np.argsort(parts["cell"], kind="stable")
    place = np.empty(len(order), dtype=np.int64)
    place[order] = np.arange(len(order))
    parts = {name: values[order] for name, values in parts.items()}
    beyond, back, edge = parts["beyond"], parts["back"], parts["edge"]
    beyond = np.where(beyond >= 0, place[np.maximum(beyond, 0)], -1)
    triangle, side = np.nonzero(edge >= 0)
    by_edge = np.argsort(edge[triangle, side], kind="stable")
    triangle, side = triangle[by_edge], side[by_edge]
    number = edge[triangle, side]
    pair = np.flatnonzero(number[1:] == number[:-1])
    for a, b in ((pair, pair + 1), (pair + 1, pair)):
        beyond[triangle[a], side[a]] = triangle[b]
        back[triangle[a], side[a]] = side[b]
    corner = np.ascontiguousarray(parts["corner"])
    area = _area(corner)
    first = np.searchsorted(parts["cell"], np.arange(n_cells + 1))
    return Fans(
        origin, corner, parts["cell"], first, beyond, back, edge, parts["rim"], parts["sign"], regular, area,
        _mass(corner, area),
    )  # fmt: skip


def _delaunay(
    mesh: PlanMesh, cell: int, origin: Array, ends: Array, edge: Index, outer: Index, sign: Array, first: int
) -> dict[str, Any]:
    """Triangles of a cell that does not see its outline from its middle, or has holes or parts."""
    import shapely

    shape = mesh.polygons()[cell]
    pieces = shapely.get_parts(shapely.polygonize(list(shapely.linestrings(ends + origin))))
    pieces = [p for p in pieces if shape.buffer(1e-6 * shape.length).covers(p.representative_point())]
    triangles = [t for p in pieces for t in shapely.get_parts(shapely.constrained_delaunay_triangles(p))]
    corner = np.array([np.asarray(t.exterior.coords)[:3] for t in triangles]).reshape(-1, 3, 2) - origin
    turned = _area(corner) < 0.0
    corner[turned] = corner[turned][:, ::-1]
    n = len(corner)
    grain = 1e-6 * np.sqrt(mesh.area[cell])
    known = {_key(a, b, grain): k for k, (a, b) in enumerate(ends)}
    found: dict[str, Any] = {
        "corner": corner,
        "cell": np.full(n, cell),
        **{name: np.full((n, 3), -1) for name in ("edge", "rim", "beyond", "back")},
        "sign": np.ones((n, 3)),
    }
    open_: dict[Any, tuple[int, int]] = {}
    for t in range(n):
        for k in range(3):
            a, b = corner[t, (k + 1) % 3], corner[t, (k + 2) % 3]
            side = known.get(_key(a, b, grain))
            if side is not None:
                found["edge"][t, k], found["rim"][t, k], found["sign"][t, k] = (
                    edge[side],
                    outer[side],
                    sign[side],
                )
                continue
            other = open_.pop(_key(b, a, grain), None)
            if other is None:
                open_[_key(a, b, grain)] = (t, k)
            else:
                found["beyond"][t, k], found["back"][t, k] = first + other[0], other[1]
                found["beyond"][other], found["back"][other] = first + t, k
    return found


def _key(a: Array, b: Array, grain: float) -> tuple[int, ...]:
    return tuple(np.round(np.concatenate([a, b]) / grain).astype(int).tolist())
