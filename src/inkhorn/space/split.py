"""Plan meshes of squares split in four, and those in four again, near what matters."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.figures import area_in_words
from inkhorn.sizes import refuse_beyond
from inkhorn.space.mesh import BYTES_PER_PLAN_CELL, PlanEdges, keeping
from inkhorn.space.rectangles import CutCells, RectangularMesh, rectangles
from inkhorn.space.sizing import CellsWithin, wanted_near
from inkhorn.units import WithUnit

__all__ = ["SplitMesh", "split_in_four"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_MOST_SPLITS = 20
_CHILD_ROW, _CHILD_COLUMN = np.array([0, 0, 1, 1]), np.array([0, 1, 0, 1])


@dataclass(frozen=True, eq=False)
class SplitMesh(CutCells):
    """Rectangles of which some are split in four, some of those again, and so on.

    Cells are numbered by the rectangle they were split from, row by row, and within it by quarters
    (south-west, south-east, north-west, north-east), so that the parts of one stand together.

    Parameters
    ----------
    base : RectangularMesh
        The rectangles that were split, all of them taking part.
    splits : ndarray of int, (n_cells,)
        How often each cell was split off.
    row, column : ndarray of int, (n_cells,)
        Its place among the rows and columns of all cells split as often.
    outline : shapely Polygon, optional
        Cells are cut to it; their centres stay.
    """

    base: RectangularMesh
    splits: Index
    row: Index
    column: Index
    outline: Any = field(default=None, repr=False)

    def __repr__(self) -> str:
        turned = f", rotated by {self.base.rotation:g}°" if self.base.rotation else ""
        return (
            f"SplitMesh({self.n_cells} cells, split up to {int(self.splits.max())} times, "
            f"{area_in_words(self.area.sum(), 4)}{turned})"
        )

    @property
    def n_cells(self) -> int:
        return len(self.splits)

    @cached_property
    def _box(self) -> tuple[Array, Array, Array, Array]:
        """West, south, width and depth of each cell along the mesh's own axes."""
        parts = (1 << self.splits).astype(np.float64)
        sides = []
        for edges, place in ((self.base.x_edges, self.column), (self.base.y_edges, self.row)):
            home = place >> self.splits
            size = np.diff(edges)[home] / parts
            sides.append((edges[home] + size * (place - (home << self.splits)), size))
        (west, width), (south, depth) = sides
        return west, south, width, depth

    @cached_property
    def whole_centres(self) -> tuple[Array, Array]:
        west, south, width, depth = self._box
        return self.base.to_map(west + 0.5 * width, south + 0.5 * depth)

    @cached_property
    def whole_area(self) -> Array:
        _, _, width, depth = self._box
        return width * depth

    def polygons(self) -> NDArray[Any]:
        return self._polygons

    @cached_property
    def _polygons(self) -> NDArray[Any]:
        import shapely

        west, south, width, depth = self._box
        east, north = west + width, south + depth
        if self.base.rotation:
            corners = [(west, south), (east, south), (east, north), (west, north)]
            rings = np.stack([np.column_stack(self.base.to_map(*c)) for c in corners], axis=1)
            boxes = shapely.polygons(rings)
        else:
            boxes = shapely.box(west, south, east, north)
        return np.asarray(boxes if self.outline is None else shapely.intersection(boxes, self.outline))

    @cached_property
    def _codes(self) -> list[tuple[NDArray[np.int64], Index]]:
        """For each number of splits the codes of its cells, rising, and their numbers."""
        found = []
        for level in range(int(self.splits.max()) + 1):
            cell = np.flatnonzero(self.splits == level)
            code = self._code(level, self.row[cell], self.column[cell])
            order = np.argsort(code)
            found.append((code[order], cell[order]))
        return found

    def _code(self, level: int, row: Index, column: Index) -> Index:
        return row * (len(self.base.x_edges) - 1 << level) + column

    def _find(self, level: int, row: Index, column: Index) -> Index:
        """The cells split so often at these rows and columns, -1 where there are none."""
        codes, cells = self._codes[level]
        rows, columns = (n << level for n in self.base.shape)
        inside = (row >= 0) & (row < rows) & (column >= 0) & (column < columns)
        if not len(codes):
            return np.full(row.shape, -1, dtype=np.int64)
        code = self._code(level, row, column)
        at = np.minimum(np.searchsorted(codes, code), len(codes) - 1)
        return np.where(inside & (codes[at] == code), cells[at], -1)

    def edges(self) -> PlanEdges:
        """Return the edges between two cells: those across which the second one is no smaller."""
        west, south, width, depth = self._box
        cells, low, high, normals = [], [], [], []
        turn = np.deg2rad(self.base.rotation)
        axes = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
        for step_row, step_column in ((0, 1), (1, 0), (0, -1), (-1, 0)):
            ahead = step_row + step_column > 0
            for level in range(len(self._codes)):
                own = self._codes[level][1]
                row, column = self.row[own] + step_row, self.column[own] + step_column
                pairs = []
                if ahead:  # of two cells alike, the first has the edge
                    pairs.append((own, self._find(level, row, column)))
                for larger in range(level - 1, -1, -1):
                    up = level - larger
                    pairs.append((own, self._find(larger, row >> up, column >> up)))
                for a, b in pairs:
                    there = b >= 0
                    a, b = a[there], b[there]
                    u0 = west[a] + (width[a] if step_column > 0 else 0.0)
                    v0 = south[a] + (depth[a] if step_row > 0 else 0.0)
                    cells.append(np.column_stack([a, b]))
                    low.append(np.column_stack(self.base.to_map(u0, v0)))
                    along = (0.0, depth[a]) if step_column else (width[a], 0.0)
                    high.append(np.column_stack(self.base.to_map(u0 + along[0], v0 + along[1])))
                    normals.append(np.tile(step_column * axes[0] + step_row * axes[1], (len(a), 1)))
        pairs_of = np.concatenate(cells)
        normal = np.concatenate(normals)
        half = 0.5 * np.where((np.abs(normal @ axes[0]) > 0.5)[:, None], width[pairs_of], depth[pairs_of])
        edges = PlanEdges(
            pairs_of, np.stack([np.concatenate(low), np.concatenate(high)], axis=1), half, normal
        )
        return self._cut_edges(edges)

    def locate(self, x: ArrayLike, y: ArrayLike) -> Index:
        import shapely

        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        u, v = self.base.from_map(x, y)
        found = np.full(x.shape, -1, dtype=np.int64)
        home = self.base.locate(x, y)
        inside = home >= 0
        row, column = (k[np.maximum(home, 0)] for k in self.base.row_column)
        shares = []
        for edges, place, at in ((self.base.x_edges, column, u), (self.base.y_edges, row, v)):
            size = np.diff(edges)[place]
            # a point on the outermost edge belongs to the last part
            shares.append(np.clip((at - edges[place]) / size, 0.0, np.nextafter(1.0, 0.0)))
        for level in range(len(self._codes)):
            own = self._find(
                level,
                (row << level) + np.floor(shares[1] * (1 << level)).astype(np.int64),
                (column << level) + np.floor(shares[0] * (1 << level)).astype(np.int64),
            )
            found = np.where(inside & (own >= 0), own, found)
        if self.outline is not None:
            found = np.where(shapely.intersects_xy(self.outline, x, y), found, -1)
        return found

    def equivalent_radius(self, cells: Index) -> Array:
        """Return how far from a well in each cell's middle the head is that of the cell, (n,) [m].

        As among cells of its own size; see `RectangularMesh.equivalent_radius`.
        """
        _, _, width, depth = self._box
        return np.asarray(0.14 * np.hypot(width[cells], depth[cells]))

    def whole(self, max_splits: int) -> Index:
        """Return which larger cell each cell is a part of, none split more often than said.

        Parameters
        ----------
        max_splits : int
            0 for the rectangles as they were.

        Returns
        -------
        ndarray of int, (n_cells,)
            Numbered in the order of their parts; see `MergedMesh`.
        """
        up = np.maximum(self.splits - max_splits, 0)
        family = np.column_stack([self.splits - up, self.row >> up, self.column >> up])
        _, first, group = np.unique(family, axis=0, return_index=True, return_inverse=True)
        rank = np.empty(len(first), dtype=np.int64)
        rank[np.argsort(first)] = np.arange(len(first))
        return rank[group.ravel()]


class _Tree:
    """Which cells are split, by how often they were split before; codes of row and column."""

    def __init__(self, base: RectangularMesh) -> None:
        self.base = base
        self.rows, self.columns = base.shape
        self.split: list[Index] = []

    def code(self, level: int, row: Index, column: Index) -> Index:
        return row * (self.columns << level) + column

    def row_column(self, level: int, code: Index) -> tuple[Index, Index]:
        row, column = np.divmod(code, self.columns << level)
        return row, column

    def boxes(self, level: int, row: Index, column: Index) -> NDArray[Any]:
        n = np.full(len(row), level)
        return SplitMesh(self.base, n, row, column).polygons()

    def add(self, level: int, code: Index) -> None:
        while len(self.split) <= level:
            self.split.append(np.empty(0, dtype=np.int64))
        self.split[level] = np.union1d(self.split[level], code)

    def split_near(self, shape: Any, size: float) -> None:
        """Split what meets a shape until it is no larger than a size."""
        import shapely

        shapely.prepare(shape)
        row, column = (k.copy() for k in self.base.row_column)
        for level in range(_MOST_SPLITS + 1):
            width = np.diff(self.base.x_edges)[column >> level] / (1 << level)
            depth = np.diff(self.base.y_edges)[row >> level] / (1 << level)
            large = np.maximum(width, depth) > size * (1.0 + 1e-9)
            row, column = row[large], column[large]
            near = 1e-6 * np.minimum(width, depth)[large]  # what lies on the rim but for rounding is met
            meets = shapely.dwithin(shape, self.boxes(level, row, column), near)
            row, column = row[meets], column[meets]
            if not len(row):
                return
            if level == _MOST_SPLITS:
                raise InputError(
                    f"cells of {size:g} m would need more than {_MOST_SPLITS} splits. Ask for larger ones there, "
                    "or start from smaller rectangles."
                )
            self.add(level, self.code(level, row, column))
            count = 4.0 * sum(len(split) for split in self.split) + 4.0 * len(row)
            words = f"cells of {size:g} m, {count:.3g} of them already,"
            refuse_beyond("memory", count * BYTES_PER_PLAN_CELL, words, "Ask for larger cells there.")
            row = (2 * row[:, None] + _CHILD_ROW).ravel()
            column = (2 * column[:, None] + _CHILD_COLUMN).ravel()

    def balance(self, ring: int) -> None:
        """Split more, until neighbours, and `ring` cells around each part, differ by one split at the most."""
        reach = np.arange(-ring, ring + 1)
        for level in range(len(self.split) - 1, 0, -1):
            row, column = self.row_column(level, self.split[level])
            around_row = (row[:, None, None] + reach[:, None] + 0 * reach).reshape(-1)
            around_column = (column[:, None, None] + 0 * reach[:, None] + reach).reshape(-1)
            inside = (around_row >= 0) & (around_row < self.rows << level)
            inside &= (around_column >= 0) & (around_column < self.columns << level)
            above = self.code(level - 1, around_row[inside] >> 1, around_column[inside] >> 1)
            self.add(level - 1, np.unique(above))

    def leaves(self) -> tuple[Index, Index, Index]:
        """Splits, row and column of every cell that is not split further, in the order of the mesh."""
        row, column = (k.copy() for k in self.base.row_column)
        found = []
        for level in range(len(self.split) + 1):
            further = (
                np.isin(self.code(level, row, column), self.split[level])
                if level < len(self.split)
                else np.zeros(len(row), dtype=bool)
            )
            found.append(np.column_stack([np.full((~further).sum(), level), row[~further], column[~further]]))
            row = (2 * row[further][:, None] + _CHILD_ROW).ravel()
            column = (2 * column[further][:, None] + _CHILD_COLUMN).ravel()
        level, row, column = np.concatenate(found).T
        deepest = len(self.split)
        fine_row, fine_column = row << (deepest - level), column << (deepest - level)
        home = self.code(0, fine_row >> deepest, fine_column >> deepest)
        within = np.zeros(len(level), dtype=np.int64)
        for bit in range(deepest):  # the bits of row and column in turn: quarters within quarters
            within |= ((fine_column >> bit) & 1) << (2 * bit) | ((fine_row >> bit) & 1) << (2 * bit + 1)
        order = np.lexsort((within, home))
        return level[order], row[order], column[order]


def split_in_four(
    outline: Any,
    *,
    cell: WithUnit | Sequence[WithUnit] | None = None,
    count: int | Sequence[int] | None = None,
    margin: WithUnit = 0.0,
    rotation: WithUnit = 0.0,
    near: Iterable[tuple[Any, WithUnit | CellsWithin]] = (),
    ring: int = 1,
    keep: float | Literal["centre", "cut"] = "centre",
) -> SplitMesh:
    """Cut an extent or the inside of a polygon into rectangles, and those near features in four, and again.

    Neighbours differ by one split at the most.

    Parameters
    ----------
    outline, cell, count, margin, rotation, keep
        As in `rectangles`, for the cells that are not split; what `keep` says holds for the parts.
    near : sequence of (shapes, size)
        Features, bores or shapely shapes: cells that meet one are split until no side is longer than
        its size [m]; a polygon is filled with such cells. At points `CellsWithin` may be wanted instead.
    ring : int
        How many cells around each split one, of its own size, are kept from being larger; more let cells
        grow more slowly away from features.

    Returns
    -------
    SplitMesh

    Raises
    ------
    InputError
        As `rectangles`; or if a size asks for too many splits.

    Examples
    --------
    >>> import shapely
    >>> mesh = split_in_four((0, 0, 800, 800), cell=100, near=[(shapely.Point(310, 310), 20)])
    >>> mesh
    SplitMesh(91 cells, split up to 3 times, 0.64 km²)
    >>> round(float(mesh.area[mesh.locate(310.0, 310.0)]), 2)
    156.25
    """
    import shapely

    if ring < 1:
        raise InputError(f"ring is {ring}; expected a number of cells of at least 1.")
    polygon = outline if isinstance(outline, shapely.Geometry) else None
    first = rectangles(outline, cell=cell, count=count, margin=margin, rotation=rotation, keep=1e-9)
    base = RectangularMesh(
        first.x_edges, first.y_edges, np.ones(first.shape, dtype=bool), first.rotation, first.corner
    )
    tree = _Tree(base)
    sizes: dict[float, list[Any]] = {}
    for shapes, size in wanted_near(near):
        sizes.setdefault(size, []).extend(shapes)
    for size, shapes in sizes.items():
        tree.split_near(shapely.union_all(shapes), size)
    tree.balance(ring)
    mesh = SplitMesh(base, *tree.leaves())
    if polygon is None:
        return mesh
    there = keeping(mesh, polygon, keep)
    if not there.any():
        raise InputError("the mesh has no cell. Choose smaller cells or a larger outline.")
    return SplitMesh(
        base, mesh.splits[there], mesh.row[there], mesh.column[there], polygon if keep == "cut" else None
    )
