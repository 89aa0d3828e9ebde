"""Which plan cells shapes meet: on even ground by halving blocks of rectangles, elsewhere by a tree of their outlines."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.grid_lines import GridLines
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh

__all__ = ["Meeting"]

Index = NDArray[np.int64]


class Meeting:
    """Tells which cells of a plan mesh shapes meet, and gives their outlines.

    Parameters
    ----------
    mesh : PlanMesh
    """

    def __init__(self, mesh: PlanMesh) -> None:
        self._mesh = mesh
        self._even = mesh if isinstance(mesh, RectangularMesh) and mesh.outline is None else None

    @cached_property
    def grid_lines(self) -> GridLines | None:
        """What cuts by arithmetic, where cells are whole rectangles."""
        return None if self._even is None else GridLines(self._even)

    @cached_property
    def _places(self) -> tuple[Index, Index]:
        assert self._even is not None  # asked for only then
        return self._even.row_column

    @cached_property
    def _number(self) -> Index:
        assert self._even is not None  # asked for only then
        return self._even.number

    @cached_property
    def _all(self) -> NDArray[Any]:
        return self._mesh.polygons()

    @cached_property
    def _tree(self) -> Any:
        import shapely

        return shapely.STRtree(self._all)

    def outlines(self, cells: Index) -> NDArray[Any]:
        """Return the outlines of some cells, (n,)."""
        if self._even is None or "_all" in vars(self):
            return np.asarray(self._all[cells])
        row, column = (v[cells] for v in self._places)
        return self._boxes(self._even, row, row + 1, column, column + 1)

    def met(self, shapes: NDArray[Any]) -> tuple[Index, Index, NDArray[np.bool_]]:
        """Return which shape meets which cell, in order of both, and whether the cell lies wholly in it."""
        import shapely

        shapely.prepare(shapes)
        if self._even is not None:
            whose, cell, whole = self._by_halves(self._even, shapes)
        else:
            whose, cell = self._tree.query(shapes, predicate="intersects")
            whole = shapely.get_dimensions(shapes)[whose] == 2
            whole[whole] = shapely.contains_properly(shapes[whose[whole]], self._all[cell[whole]])
        order = np.lexsort((cell, whose))
        return whose[order], cell[order], whole[order]

    @staticmethod
    def _boxes(mesh: RectangularMesh, south: Index, north: Index, west: Index, east: Index) -> NDArray[Any]:
        """Outlines of blocks, from the first row and column to the one after the last."""
        import shapely

        x, y = mesh.x_edges, mesh.y_edges
        if not mesh.rotation:
            return np.asarray(shapely.box(x[west], y[south], x[east], y[north]))
        corners = [(west, south), (east, south), (east, north), (west, north)]
        rings = np.stack([np.column_stack(mesh.to_map(x[i], y[j])) for i, j in corners], axis=1)
        return np.asarray(shapely.polygons(rings))

    def _by_halves(
        self, mesh: RectangularMesh, shapes: NDArray[Any]
    ) -> tuple[Index, Index, NDArray[np.bool_]]:
        """As `met`: blocks that lie in a shape, or meet it, are cut in four until nothing is left to cut."""
        import shapely

        areas = shapely.get_dimensions(shapes) == 2
        n_rows, n_columns = mesh.shape
        whose = np.arange(len(shapes))
        south, west = np.zeros((2, len(shapes)), dtype=np.int64)
        north, east = np.full(len(shapes), n_rows), np.full(len(shapes), n_columns)
        if not mesh.rotation:  # begin with the blocks that the bounds tell, and one more around them
            x0, y0, x1, y1 = shapely.bounds(shapes).T
            west = np.clip(np.searchsorted(mesh.x_edges, x0) - 2, 0, n_columns)
            east = np.clip(np.searchsorted(mesh.x_edges, x1) + 2, 0, n_columns)
            south = np.clip(np.searchsorted(mesh.y_edges, y0) - 2, 0, n_rows)
            north = np.clip(np.searchsorted(mesh.y_edges, y1) + 2, 0, n_rows)
        found: list[tuple[Index, Index, NDArray[np.bool_]]] = []
        while len(whose):
            real = (north > south) & (east > west)
            whose, south, north, west, east = (v[real] for v in (whose, south, north, west, east))
            boxes = self._boxes(mesh, south, north, west, east)
            inside = areas[whose]
            inside[inside] = shapely.contains_properly(shapes[whose[inside]], boxes[inside])
            meets = ~inside
            meets[meets] = shapely.intersects(shapes[whose[meets]], boxes[meets])
            last = meets & (north - south == 1) & (east - west == 1)
            for done, whole in ((inside, True), (last, False)):
                owner, cell = self._cells_in(*(v[done] for v in (whose, south, north, west, east)))
                found.append((owner, cell, np.full(len(cell), whole)))
            on = meets & ~last
            whose, south, north, west, east = (v[on] for v in (whose, south, north, west, east))
            middle, centre = (south + north + 1) // 2, (west + east + 1) // 2
            whose = np.tile(whose, 4)
            south, north = (
                np.concatenate([south, south, middle, middle]),
                np.concatenate([middle, middle, north, north]),
            )
            west, east = (
                np.concatenate([west, centre, west, centre]),
                np.concatenate([centre, east, centre, east]),
            )
        if not found:
            return whose, whose, np.zeros(0, dtype=bool)
        owner, cell, within = (np.concatenate(v) for v in zip(*found, strict=True))
        there = cell >= 0
        return owner[there], cell[there], within[there]

    def _cells_in(
        self, whose: Index, south: Index, north: Index, west: Index, east: Index
    ) -> tuple[Index, Index]:
        """The cells of blocks, and whose they are."""
        wide, count = east - west, (north - south) * (east - west)
        block = np.repeat(np.arange(len(whose)), count)
        place = np.arange(len(block)) - np.repeat(np.cumsum(count) - count, count)
        row, column = south[block] + place // wide[block], west[block] + place % wide[block]
        return whose[block], self._number[row, column]

    def within(self, shape: Any, distance: float) -> Index:
        """Return the cells no further from a shape than so far, in order."""
        import shapely

        if self._even is None:
            return np.sort(self._tree.query(shape, predicate="dwithin", distance=distance))
        bounds = shapely.box(*shapely.bounds(shape)).buffer(2.0 * distance)
        cell = self.met(np.array([bounds], dtype=object))[1]
        near = shapely.dwithin(self.outlines(cell), shape, distance)
        return cell[near]
