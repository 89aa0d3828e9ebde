"""The rim of a plan mesh: the sides of its cells that no other cell shares."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.mesh import PlanMesh
from inkhorn.space.polygons import segments
from inkhorn.space.rectangles import RectangularMesh

__all__ = ["OuterEdges", "area_of", "outer_edges"]

Array = NDArray[np.float64]

_MANY = 500  # cells whose union is sooner found from their sides
_SLACK = 1e-6  # of a cell's size: what is shorter, or lies no further off, is rounding


class OuterEdges(NamedTuple):
    """Sides of plan cells on the rim.

    Attributes
    ----------
    cell : ndarray of int, (n,)
        Of the plan mesh.
    ends : ndarray of float, (n, 2, 2)
        Both end points, the cell on the left of the way from one to the other [m].
    normal : ndarray of float, (n, 2)
        Unit vector out of the mesh.
    distance : ndarray of float, (n,)
        From the cell's centre to the line of the side, at right angles [m].
    """

    cell: NDArray[np.int64]
    ends: Array
    normal: Array
    distance: Array

    @property
    def length(self) -> Array:
        """Length of each, (n,) [m]."""
        step = self.ends[:, 1] - self.ends[:, 0]
        return np.asarray(np.hypot(step[:, 0], step[:, 1]))


def outer_edges(mesh: PlanMesh) -> OuterEdges:
    """Return the sides that no other cell shares, of any mesh: what is left of each outline beside its edges.

    A side that a neighbour covers partly is on the rim with what is left of it.
    """
    import shapely

    if isinstance(mesh, RectangularMesh) and mesh.outline is None:
        return _of_whole_rectangles(mesh)
    edges, polygons = mesh.edges(), mesh.polygons()
    shared = np.bincount(edges.cells.ravel(), np.repeat(edges.length, 2), mesh.n_cells)
    size = np.sqrt(mesh.area)
    rim = np.flatnonzero(shapely.length(polygons) - shared > _SLACK * size)
    owner, start, end = segments(polygons[rim])
    cell = rim[owner]
    step = end - start
    length = np.hypot(step[:, 0], step[:, 1])
    real = length > 1e-3 * _SLACK * size[cell]
    cell, start, step, length = cell[real], start[real], step[real], length[real]
    along = step / length[:, None]
    # every side of a cell against every edge of it
    of_cell = np.argsort(edges.cells.ravel(), kind="stable")
    first = np.searchsorted(edges.cells.ravel()[of_cell], np.arange(mesh.n_cells + 1))
    count = first[cell + 1] - first[cell]
    side = np.repeat(np.arange(len(cell)), count)
    place = np.arange(len(side)) - np.repeat(np.cumsum(count) - count, count) + first[cell[side]]
    arm = edges.ends[of_cell[place] // 2] - start[side][:, None]
    off = np.abs(arm[:, :, 0] * along[side, 1, None] - arm[:, :, 1] * along[side, 0, None]).max(axis=1)
    reach = np.clip((arm * along[side][:, None]).sum(axis=2), 0.0, length[side][:, None])
    low, high = reach.min(axis=1), reach.max(axis=1)
    covers = (off < 10.0 * _SLACK * size[cell[side]]) & (high > low)
    # what lies between the end of one covered stretch and the begin of the next; the last reaches to the end
    side = np.concatenate([side[covers], np.arange(len(cell))])
    low, high = (
        np.concatenate([low[covers], length]),
        np.concatenate([high[covers], length]),
    )
    order = np.lexsort((low, side))
    side, low, high = side[order], low[order], high[order]
    before = np.concatenate([[0.0], high[:-1]])
    before[np.concatenate([[True], side[1:] != side[:-1]])] = 0.0
    open_ = low - before > 10.0 * _SLACK * size[cell[side]]
    side, low, before = side[open_], low[open_], before[open_]
    ends = np.stack([start[side] + v[:, None] * along[side] for v in (before, low)], axis=1)
    normal = np.column_stack([along[side, 1], -along[side, 0]])
    own = cell[side]
    centre = np.column_stack([mesh.x[own], mesh.y[own]])
    return OuterEdges(own, ends, normal, ((ends[:, 0] - centre) * normal).sum(axis=1))


def _of_whole_rectangles(mesh: RectangularMesh) -> OuterEdges:
    """The sides beyond which there is no cell, anticlockwise from the south, each cell by itself."""
    present = np.pad(mesh.present, 1)
    turn = np.deg2rad(mesh.rotation)
    axes = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    parts = []
    # the next cell's row and column; and both ends of the side, as which edges of row and column they lie on
    for (up, right), (start, end) in {
        (-1, 0): ((0, 0), (0, 1)),
        (0, 1): ((0, 1), (1, 1)),
        (1, 0): ((1, 1), (1, 0)),
        (0, -1): ((1, 0), (0, 0)),
    }.items():
        beyond = np.roll(present, (-up, -right), axis=(0, 1))[1:-1, 1:-1]
        row, column = np.nonzero(mesh.present & ~beyond)
        ends = [
            np.column_stack(mesh.to_map(mesh.x_edges[column + east], mesh.y_edges[row + north]))
            for north, east in (start, end)
        ]
        half = 0.5 * (np.diff(mesh.x_edges)[column] if right else np.diff(mesh.y_edges)[row])
        normal = np.tile(right * axes[0] + up * axes[1], (len(row), 1))
        parts.append((mesh.number[row, column], np.stack(ends, axis=1), normal, half))
    cell, ends_, normals, distance = (np.concatenate(v) for v in zip(*parts, strict=True))
    order = np.argsort(cell, kind="stable")
    return OuterEdges(cell[order], ends_[order], normals[order], distance[order])


def area_of(mesh: PlanMesh, cells: NDArray[np.int64], rim: OuterEdges | None = None) -> Any:
    """Return the area of some plan cells as one polygon, or several, holes left out.

    Of many it is made from the sides that only one of them has.

    Parameters
    ----------
    mesh : PlanMesh
    cells : ndarray of int
        Of the mesh.
    rim : OuterEdges, optional
        Of the mesh, if it is known.
    """
    import shapely

    if len(cells) > _MANY:
        inside = np.zeros(mesh.n_cells, dtype=bool)
        inside[cells] = True
        edges, rim = mesh.edges(), outer_edges(mesh) if rim is None else rim
        one, other = edges.cells.T
        sides = np.concatenate([edges.ends[inside[one] != inside[other]], rim.ends[inside[rim.cell]]])
        step = _SLACK * float(np.sqrt(mesh.area[cells].min()))
        lines = shapely.set_precision(shapely.multilinestrings(shapely.linestrings(sides)), step)
        found = shapely.build_area(lines)
        if abs(found.area - mesh.area[cells].sum()) <= 1e-6 * mesh.area[cells].sum():
            return found
    return shapely.union_all(mesh.polygons()[cells])
