"""Plan meshes of rows and columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_positive
from inkhorn.space.mesh import PlanEdges

__all__ = ["RectangularMesh", "rectangles"]


@dataclass(frozen=True, eq=False)
class RectangularMesh:
    """Rows and columns; cells that take no part are not numbered.

    Cells are numbered row by row from the smallest y upwards, and by rising x within a row.
    Arrays over the whole rectangle have the shape (rows, columns) in the same order.

    Parameters
    ----------
    x_edges, y_edges : ndarray of float, (columns + 1,) and (rows + 1,)
        Where columns and rows meet, rising [m].
    present : ndarray of bool, (rows, columns)
        Which cells take part.
    """

    x_edges: NDArray[np.float64]
    y_edges: NDArray[np.float64]
    present: NDArray[np.bool_]

    def __post_init__(self) -> None:
        check_positive("column width", np.diff(self.x_edges), unit="m", remedy="Let x_edges rise.")
        check_positive("row width", np.diff(self.y_edges), unit="m", remedy="Let y_edges rise.")
        if self.present.shape != self.shape:
            raise InputError(f"present has the shape {self.present.shape}; expected {self.shape}.")
        if not self.present.any():
            raise InputError("the mesh has no cell. Choose smaller cells or a larger outline.")

    def __repr__(self) -> str:
        rows, columns = self.shape
        return (
            f"RectangularMesh({rows} rows × {columns} columns, {self.n_cells} cells, "
            f"{self.area.sum() / 1e6:.4g} km²)"
        )

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return len(self.y_edges) - 1, len(self.x_edges) - 1

    @property
    def n_cells(self) -> int:
        return int(self.present.sum())

    @cached_property
    def number(self) -> NDArray[np.int64]:
        """The cell number at each row and column, -1 where there is none, (rows, columns)."""
        number = np.full(self.shape, -1, dtype=np.int64)
        number[self.present] = np.arange(self.n_cells)
        return number

    @cached_property
    def row_column(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Row and column of each cell, two (n_cells,)."""
        row, column = np.nonzero(self.present)
        return row, column

    @cached_property
    def x(self) -> NDArray[np.float64]:
        return self.x_centres[self.row_column[1]]

    @cached_property
    def y(self) -> NDArray[np.float64]:
        return self.y_centres[self.row_column[0]]

    @property
    def x_centres(self) -> NDArray[np.float64]:
        """Middle of each column, (columns,) [m]."""
        return 0.5 * (self.x_edges[1:] + self.x_edges[:-1])

    @property
    def y_centres(self) -> NDArray[np.float64]:
        """Middle of each row, (rows,) [m]."""
        return 0.5 * (self.y_edges[1:] + self.y_edges[:-1])

    @cached_property
    def area(self) -> NDArray[np.float64]:
        row, column = self.row_column
        return np.diff(self.x_edges)[column] * np.diff(self.y_edges)[row]

    def edges(self) -> PlanEdges:
        """Return the edges between columns, then those between rows."""
        number, width, depth = self.number, np.diff(self.x_edges), np.diff(self.y_edges)
        row, column = np.nonzero(self.present[:, :-1] & self.present[:, 1:])
        east = PlanEdges(
            cells=np.column_stack([number[row, column], number[row, column + 1]]),
            ends=np.stack(
                [
                    np.column_stack([self.x_edges[column + 1], self.y_edges[row]]),
                    np.column_stack([self.x_edges[column + 1], self.y_edges[row + 1]]),
                ],
                axis=1,
            ),
            distance=0.5 * np.column_stack([width[column], width[column + 1]]),
            normal=np.tile([1.0, 0.0], (len(row), 1)),
        )
        row, column = np.nonzero(self.present[:-1] & self.present[1:])
        north = PlanEdges(
            cells=np.column_stack([number[row, column], number[row + 1, column]]),
            ends=np.stack(
                [
                    np.column_stack([self.x_edges[column], self.y_edges[row + 1]]),
                    np.column_stack([self.x_edges[column + 1], self.y_edges[row + 1]]),
                ],
                axis=1,
            ),
            distance=0.5 * np.column_stack([depth[row], depth[row + 1]]),
            normal=np.tile([0.0, 1.0], (len(row), 1)),
        )
        both = ("cells", "ends", "distance", "normal")
        return PlanEdges(**{k: np.concatenate([getattr(east, k), getattr(north, k)]) for k in both})

    def polygons(self) -> NDArray[Any]:
        import shapely

        row, column = self.row_column
        return np.asarray(
            shapely.box(
                self.x_edges[column], self.y_edges[row], self.x_edges[column + 1], self.y_edges[row + 1]
            )
        )

    def locate(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        rows, columns = self.shape
        # a point on the outermost edge belongs to the last cell
        column = np.where(x == self.x_edges[-1], columns - 1, np.searchsorted(self.x_edges, x, "right") - 1)
        row = np.where(y == self.y_edges[-1], rows - 1, np.searchsorted(self.y_edges, y, "right") - 1)
        inside = (column >= 0) & (column < columns) & (row >= 0) & (row < rows)
        found = np.full(x.shape, -1, dtype=np.int64)
        found[inside] = self.number[row[inside], column[inside]]
        return found


def _counts(
    extent: float, cell: float | None, count: int | None, axis: str, exact: bool
) -> tuple[int, float]:
    """Number of cells along one axis, and their size."""
    if count is not None:
        if count < 1:
            raise InputError(f"count along {axis} is {count}; expected at least 1.")
        return int(count), extent / count
    assert cell is not None
    number = extent / cell
    if exact and abs(number - round(number)) > 1e-9 * max(number, 1.0):
        raise InputError(
            f"cells of {cell:g} m do not fill {extent:g} m along {axis} ({number:.4g} of them). "
            "Give a size that divides it, or `count` instead."
        )
    return max(int(np.ceil(number - 1e-9)), 1), cell


def rectangles(
    outline: Any,
    *,
    cell: float | Sequence[float] | None = None,
    count: int | Sequence[int] | None = None,
) -> RectangularMesh:
    """Cut an extent or the inside of a polygon into equal rectangles.

    Parameters
    ----------
    outline : tuple of float, or shapely Polygon
        ``(x_min, y_min, x_max, y_max)`` [m], filled exactly; or a polygon: cells of the given size
        over its bounds, the overhang shared by both sides, of which those take part whose centre
        lies inside.
    cell : float or (float, float), optional
        Cell size along x and y [m].
    count : int or (int, int), optional
        Number of cells along x and y, instead of `cell`.

    Returns
    -------
    RectangularMesh

    Raises
    ------
    InputError
        If neither or both of `cell` and `count` are given, or they do not fit the extent.

    Examples
    --------
    >>> rectangles((0, 0, 600, 400), cell=100)
    RectangularMesh(4 rows × 6 columns, 24 cells, 0.24 km²)
    """
    import shapely

    if (cell is None) == (count is None):
        raise InputError("give either `cell` (a size in m) or `count` (numbers of cells), and not both.")
    polygon = outline if isinstance(outline, shapely.Geometry) else None
    x0, y0, x1, y1 = (float(v) for v in (outline if polygon is None else polygon.bounds))
    check_positive("extent", [x1 - x0, y1 - y0], unit="m", remedy="Give x_min, y_min, x_max, y_max.")
    sizes: list[Any] = [None, None] if cell is None else list(np.broadcast_to(np.asarray(cell, float), 2))
    counts: list[Any] = [None, None] if count is None else list(np.broadcast_to(np.asarray(count, int), 2))
    if cell is not None:
        check_positive("cell", sizes, unit="m")
    edges = []
    for low, high, size, number, axis in zip((x0, y0), (x1, y1), sizes, counts, "xy", strict=True):
        n, width = _counts(high - low, size, number, axis, exact=polygon is None)
        start = low - 0.5 * (n * width - (high - low))
        edges.append(np.asarray(start + width * np.arange(n + 1), dtype=np.float64))
    present = np.ones((len(edges[1]) - 1, len(edges[0]) - 1), dtype=bool)
    mesh = RectangularMesh(edges[0], edges[1], present)
    if polygon is not None:
        x, y = np.meshgrid(mesh.x_centres, mesh.y_centres)
        mesh = RectangularMesh(edges[0], edges[1], np.asarray(shapely.contains_xy(polygon, x, y)))
    return mesh
