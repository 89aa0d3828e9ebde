"""Lines and polygons cut where the rows and columns of a plan mesh meet, by arithmetic."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.rectangles import RectangularMesh

__all__ = ["GridLines", "LengthsInCells"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_ROUNDING = 1e-9  # of a cell's size: what lies no further from the edge of two cells lies on it
_NOTHING = 1e-12  # of a cell's size or area


class _Pieces(NamedTuple):
    """Straight pieces that lie in one row and column each, or beyond the first or last.

    Attributes
    ----------
    whose : ndarray of int, (n,)
        Which shape each is of.
    begin, end : ndarray of float, (n, 2)
        Along the mesh's own axes [m].
    column, row : ndarray of int, (n,)
        -1 before the first.
    """

    whose: Index
    begin: Array
    end: Array
    column: Index
    row: Index


class LengthsInCells(NamedTuple):
    """Lengths of lines in cells, in order of both.

    Attributes
    ----------
    whose, plan : ndarray of int, (n,)
        Which line, and which plan cell.
    length : ndarray of float, (n,)
        What runs along the edge between two cells is shared between both [m].
    middle : ndarray of float, (n, 2)
        Centre of gravity of the part [m].
    """

    whose: Index
    plan: Index
    length: Array
    middle: Array


class GridLines:
    """The lines at which rows and columns meet.

    Parameters
    ----------
    mesh : RectangularMesh
        Without an outline that cuts its cells.
    """

    def __init__(self, mesh: RectangularMesh) -> None:
        self._mesh = mesh

    def lengths(self, lines: NDArray[Any], there: NDArray[np.bool_]) -> LengthsInCells:
        """Cut lines.

        Parameters
        ----------
        lines : ndarray of shapely LineString or MultiLineString, (n,)
        there : ndarray of bool, (n_plan_cells,)
            The cells that take part.
        """
        mesh, pieces = self._mesh, self._pieces(lines)
        length = np.hypot(*(pieces.end - pieces.begin).T)
        columns = self._beside(mesh.x_edges, pieces.column, pieces.begin[:, 0], pieces.end[:, 0])
        rows = self._beside(mesh.y_edges, pieces.row, pieces.begin[:, 1], pieces.end[:, 1])
        pairs = [
            (column, row)
            for column in (pieces.column, columns)
            for row in ((pieces.row, rows) if column is pieces.column else (pieces.row,))
        ]  # the cell, the one beside it across the same row, the one beside it across the same column
        found = np.stack([self._numbered(row, column) for column, row in pairs])
        found[1:][found[1:] == found[0]] = -1
        known = found >= 0
        known[known] = there[found[known]]
        share = length / np.maximum(known.sum(axis=0), 1)
        which, piece = np.nonzero(known)
        plan, whose = found[which, piece], pieces.whose[piece]
        key, entry = np.unique(whose * mesh.n_cells + plan, return_inverse=True)
        size = np.bincount(entry, share[piece], len(key))
        whole = np.bincount(entry, length[piece], len(key))
        middle = 0.5 * (pieces.begin + pieces.end)[piece]
        with np.errstate(invalid="ignore", divide="ignore"):
            centre = [np.bincount(entry, length[piece] * m, len(key)) / whole for m in middle.T]
        real = size > _NOTHING * np.sqrt(mesh.area[key % mesh.n_cells])
        at = np.column_stack(mesh.to_map(*centre))[real]
        return LengthsInCells(key[real] // mesh.n_cells, key[real] % mesh.n_cells, size[real], at)

    def areas(self, polygons: NDArray[Any], there: NDArray[np.bool_]) -> tuple[Index, Index, Array]:
        """Return which polygon has how much of which cell, in order of both; cells as in `lengths`.

        What a cell has of a polygon is what lies between its western side and each piece of the rim, as that goes up or
        down, in the cell or east of it.
        """
        import shapely

        mesh = self._mesh
        n_rows, n_columns = mesh.shape
        wide, high = np.append(np.diff(mesh.x_edges), 0.0), np.diff(mesh.y_edges)
        parts, of = shapely.get_parts(polygons, return_index=True)
        rings, part = shapely.get_rings(shapely.orient_polygons(parts), return_index=True)
        whose, begin, end, column, row = self._pieces(rings, of[part])
        counts = (
            (row >= 0) & (row < n_rows) & (column >= 0)
        )  # what is west of all cells leaves nothing between
        key = ((whose * n_rows + row) * (n_columns + 1) + column)[counts]
        up = (end - begin)[counts, 1]
        off = 0.5 * (begin + end)[counts, 0] - mesh.x_edges[column[counts]]
        key, entry = np.unique(key, return_inverse=True)
        inside, up = np.bincount(entry, up * off, len(key)), np.bincount(entry, up, len(key))
        line, column = key // (n_columns + 1), key % (n_columns + 1)  # a line is a row of a polygon
        begins = np.append(True, line[1:] != line[:-1])[: len(line)]
        after = np.append(np.cumsum(up[::-1])[::-1], 0.0)
        east = after[1:] - after[np.searchsorted(line, line, side="right")]
        area = np.where(column < n_columns, inside + wide[column] * east, 0.0)
        # between two of these cells every one is whole, or none
        before = np.where(begins, -1, np.roll(column, 1))
        count = np.where(east + up > 0.5 * high[line % n_rows], column - before - 1, 0)
        which = np.repeat(np.arange(len(line)), count)
        between = before[which] + 1 + np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
        line, column = np.append(line, line[which]), np.append(column, between)
        plan = self._numbered(line % n_rows, column)
        whole = mesh.area[plan]
        area = np.minimum(np.append(area, np.full(len(which), np.inf)), whole)
        real = (plan >= 0) & (area > _NOTHING * whole) & there[plan]
        polygon, plan, area = line[real] // n_rows, plan[real], area[real]
        order = np.lexsort((plan, polygon))
        return polygon[order], plan[order], area[order]

    def _numbered(self, row: Index, column: Index) -> Index:
        """The cells in rows and columns, -1 where there is none."""
        n_rows, n_columns = self._mesh.shape
        on = (row >= 0) & (row < n_rows) & (column >= 0) & (column < n_columns)
        found = np.full(len(row), -1, dtype=np.int64)
        found[on] = self._mesh.number[row[on], column[on]]
        return found

    @staticmethod
    def _beside(edges: Array, place: Index, begin: Array, end: Array) -> Index:
        """The column or row on the other side of an edge that a piece runs along; its own if it runs along none."""
        beside = place.copy()
        inner = (place >= 0) & (place < len(edges) - 1)
        at = np.clip(place, 0, len(edges) - 2)
        near = _ROUNDING * (edges[at + 1] - edges[at])
        for edge, step in ((at, -1), (at + 1, 1)):
            along = inner & (np.maximum(np.abs(begin - edges[edge]), np.abs(end - edges[edge])) <= near)
            beside[along] = place[along] + step
        return beside

    def _pieces(self, lines: NDArray[Any], of: Index | None = None) -> _Pieces:
        """Cut lines, of the shapes told, or else each its own."""
        import shapely

        mesh = self._mesh
        parts, part_of = shapely.get_parts(lines, return_index=True)
        of = part_of if of is None else of[part_of]
        corners, line = shapely.get_coordinates(parts, return_index=True)
        corners = np.column_stack(mesh.from_map(*corners.T)) if mesh.rotation else corners
        follows = np.flatnonzero(line[1:] == line[:-1])
        begin, end, whose = corners[follows], corners[follows + 1], of[line[follows]]
        shares = [np.zeros(len(begin)), np.ones(len(begin))]
        segments = [np.arange(len(begin))] * 2
        for axis, edges in enumerate((mesh.x_edges, mesh.y_edges)):
            one, other = begin[:, axis], end[:, axis]
            first = np.searchsorted(edges, np.minimum(one, other), side="right")
            count = np.maximum(np.searchsorted(edges, np.maximum(one, other), side="left") - first, 0)
            segment = np.repeat(np.arange(len(begin)), count)
            edge = first[segment] + np.arange(len(segment)) - np.repeat(np.cumsum(count) - count, count)
            shares.append((edges[edge] - one[segment]) / (other - one)[segment])
            segments.append(segment)
        share, segment = np.concatenate(shares), np.concatenate(segments)
        order = np.lexsort((share, segment))
        share, segment = np.clip(share[order], 0.0, 1.0), segment[order]
        real = (segment[1:] == segment[:-1]) & (share[1:] > share[:-1])
        segment, here, there = segment[1:][real], share[:-1][real, None], share[1:][real, None]
        way = end[segment] - begin[segment]
        one = begin[segment] + here * way
        other = np.where(there == 1.0, end[segment], begin[segment] + there * way)
        middle = 0.5 * (one + other)
        column = np.searchsorted(mesh.x_edges, middle[:, 0], side="right") - 1
        row = np.searchsorted(mesh.y_edges, middle[:, 1], side="right") - 1
        return _Pieces(whose[segment], one, other, column, row)
