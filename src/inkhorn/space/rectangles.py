"""Plan meshes of rows and columns: even or banded, rotated, cut to a boundary."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_positive
from inkhorn.figures import area_in_words
from inkhorn.shown import Shown
from inkhorn.sizes import refuse_beyond
from inkhorn.space.mesh import BYTES_PER_PLAN_CELL, PlanEdges, cut_edges, keeping
from inkhorn.space.sizing import CellsWithin, wanted_near
from inkhorn.units import plain

if TYPE_CHECKING:
    from inkhorn.units import WithUnit

__all__ = ["Band", "CutCells", "RectangularMesh", "rectangles"]

Array = NDArray[np.float64]

_GAP = 0.5  # of a cell: what must fit between two that have a point for their middle each


@dataclass(frozen=True)
class Band:
    """Columns (across x) or rows (across y) that are no wider than a size between two coordinates, with an edge on each.

    Parameters
    ----------
    axis : {"x", "y"}
        Which coordinate; of a rotated mesh, along its own axes from its own corner.
    start, end : float
        From where to where [m].
    size : float
        Greatest width there [m].
    """

    axis: Literal["x", "y"]
    start: WithUnit
    end: WithUnit
    size: WithUnit

    def __post_init__(self) -> None:
        for key in ("start", "end", "size"):
            object.__setattr__(self, key, plain(getattr(self, key), "length", f"band: {key}"))
        check_finite("band", [self.start, self.end], unit="m")
        check_positive("band size", self.size, unit="m")
        if self.axis not in ("x", "y") or self.end < self.start:
            raise InputError(
                f'a band along "{self.axis}" from {self.start:g} to {self.end:g} m cannot be; expected "x" or "y" '
                "and a start before the end."
            )


class CutCells(Shown):
    """Cells that an outline may cut.

    Their centres stay, so that faces are still crossed at right angles; but where one lies outside, the centre of
    gravity of what is left takes its place.
    """

    outline: Any

    @property
    def whole_centres(self) -> tuple[Array, Array]:
        """Centres of the cells as if they were not cut, two (n_cells,) [m]."""
        raise NotImplementedError

    @property
    def whole_area(self) -> Array:
        raise NotImplementedError

    def polygons(self) -> NDArray[Any]:
        raise NotImplementedError

    @cached_property
    def _moved(self) -> NDArray[np.bool_]:
        """Cells whose centre the outline leaves outside."""
        import shapely

        if self.outline is None:
            return np.zeros(len(self.whole_centres[0]), dtype=bool)
        return np.asarray(~shapely.contains_xy(self.outline, *self.whole_centres))

    @cached_property
    def x(self) -> Array:
        return np.where(self._moved, self.centroid[:, 0], self.whole_centres[0])

    @cached_property
    def y(self) -> Array:
        return np.where(self._moved, self.centroid[:, 1], self.whole_centres[1])

    def _cut_edges(self, edges: PlanEdges) -> PlanEdges:
        """Edges as far as they are inside, and the distances of centres that were moved."""
        if self.outline is None:
            return edges
        edges = cut_edges(edges, self.outline)
        moved = self._moved[edges.cells]
        if not moved.any():
            return edges
        arm = edges.middle[:, None] - np.column_stack([self.x, self.y])[edges.cells]
        away = np.abs((arm * edges.normal[:, None]).sum(axis=2))
        return replace(edges, distance=np.where(moved, away, edges.distance))

    @cached_property
    def centroid(self) -> Array:
        if self.outline is None:
            return np.column_stack(self.whole_centres)
        import shapely

        return np.asarray(shapely.get_coordinates(shapely.centroid(self.polygons())))

    @cached_property
    def area(self) -> Array:
        if self.outline is None:
            return self.whole_area
        import shapely

        return np.asarray(shapely.area(self.polygons()))


@dataclass(frozen=True, eq=False)
class RectangularMesh(CutCells):
    """Rows and columns; cells that take no part are not numbered.

    Cells are numbered row by row from the smallest y upwards, and by rising x within a row.
    Arrays over the whole rectangle have the shape (rows, columns) in the same order.

    Parameters
    ----------
    x_edges, y_edges : ndarray of float, (columns + 1,) and (rows + 1,)
        Where columns and rows meet, rising, along the mesh's own axes [m].
    present : ndarray of bool, (rows, columns)
        Which cells take part.
    rotation : float
        Of the mesh's axes against the map's, anticlockwise about `corner` [degrees].
    corner : (float, float)
        The point of the map that the rotation leaves where it is [m].
    outline : shapely Polygon, optional
        Cells are cut to it; see `CutCells`.
    """

    x_edges: Array
    y_edges: Array
    present: NDArray[np.bool_]
    rotation: float = 0.0
    corner: tuple[float, float] = (0.0, 0.0)
    outline: Any = field(default=None, repr=False)

    def __post_init__(self) -> None:
        check_positive("column width", np.diff(self.x_edges), unit="m", remedy="Let x_edges rise.")
        check_positive("row width", np.diff(self.y_edges), unit="m", remedy="Let y_edges rise.")
        check_finite("rotation", self.rotation, unit="degrees")
        if self.present.shape != self.shape:
            raise InputError(f"present has the shape {self.present.shape}; expected {self.shape}.")
        if not self.present.any():
            raise InputError("the mesh has no cell. Choose smaller cells or a larger outline.")

    def __repr__(self) -> str:
        rows, columns = self.shape
        turned = f", rotated by {self.rotation:g}°" if self.rotation else ""
        return (
            f"RectangularMesh({rows} rows × {columns} columns, {self.n_cells} cells, "
            f"{area_in_words(self.area.sum(), 4)}{turned})"
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

    def to_map(self, u: ArrayLike, v: ArrayLike) -> tuple[Array, Array]:
        """Turn coordinates along the mesh's own axes into those of the map [m]."""
        return _turned(u, v, self.rotation, self.corner)

    def from_map(self, x: ArrayLike, y: ArrayLike) -> tuple[Array, Array]:
        """Turn coordinates of the map into those along the mesh's own axes [m]."""
        return _turned(x, y, -self.rotation, self.corner)

    @cached_property
    def whole_centres(self) -> tuple[Array, Array]:
        row, column = self.row_column
        return self.to_map(self.x_centres[column], self.y_centres[row])

    @property
    def x_centres(self) -> Array:
        """Middle of each column along the mesh's own axis, (columns,) [m]."""
        return np.asarray(0.5 * (self.x_edges[1:] + self.x_edges[:-1]))

    @property
    def y_centres(self) -> Array:
        """Middle of each row along the mesh's own axis, (rows,) [m]."""
        return np.asarray(0.5 * (self.y_edges[1:] + self.y_edges[:-1]))

    @cached_property
    def whole_area(self) -> Array:
        row, column = self.row_column
        return np.asarray(np.diff(self.x_edges)[column] * np.diff(self.y_edges)[row])

    def row_line(self, row: int) -> list[tuple[float, float]]:
        """Return both ends of the middle of a row, from 0 for the one of smallest y, as for a section [m]."""
        return self._middle_line(row, 0)

    def column_line(self, column: int) -> list[tuple[float, float]]:
        """Return both ends of the middle of a column, from 0 for the one of smallest x, as for a section [m]."""
        return self._middle_line(column, 1)

    def _middle_line(self, k: int, axis: int) -> list[tuple[float, float]]:
        if not 0 <= k < self.shape[axis]:
            name = ("row", "column")[axis]
            raise InputError(f"there is no {name} {k}; expected 0 to {self.shape[axis] - 1}.")
        if axis == 0:
            u, v = self.x_edges[[0, -1]], np.full(2, self.y_centres[k])
        else:
            u, v = np.full(2, self.x_centres[k]), self.y_edges[[0, -1]]
        x, y = self.to_map(u, v)
        return [(float(x[0]), float(y[0])), (float(x[1]), float(y[1]))]

    def edges(self) -> PlanEdges:
        """Return the edges between columns, then those between rows."""
        east = self._edges_across(self.present[:, :-1] & self.present[:, 1:], (0, 1))
        north = self._edges_across(self.present[:-1] & self.present[1:], (1, 0))
        names = ("cells", "ends", "distance", "normal")
        both = PlanEdges(**{k: np.concatenate([getattr(east, k), getattr(north, k)]) for k in names})
        return self._cut_edges(both)

    def _edges_across(self, both: NDArray[np.bool_], step: tuple[int, int]) -> PlanEdges:
        """Edges between each cell and the next one, one row or one column on."""
        row, column = np.nonzero(both)
        width = np.diff(self.x_edges)[[column, column + step[1]]].T
        depth = np.diff(self.y_edges)[[row, row + step[0]]].T
        x0, y0 = self.x_edges[column + step[1]], self.y_edges[row + step[0]]
        start = np.column_stack(self.to_map(x0, y0))
        end = np.column_stack(self.to_map(self.x_edges[column + 1], self.y_edges[row + 1]))
        turn = np.deg2rad(self.rotation)
        normal = (np.cos(turn), np.sin(turn)) if step[1] else (-np.sin(turn), np.cos(turn))
        return PlanEdges(
            cells=np.column_stack([self.number[row, column], self.number[row + step[0], column + step[1]]]),
            ends=np.stack([start, end], axis=1),
            distance=0.5 * (width if step[1] else depth),
            normal=np.tile(normal, (len(row), 1)),
        )

    def polygons(self) -> NDArray[Any]:
        import shapely

        row, column = self.row_column
        x, y = self.x_edges, self.y_edges
        if self.rotation:
            corners = [(column, row), (column + 1, row), (column + 1, row + 1), (column, row + 1)]
            rings = np.stack([np.column_stack(self.to_map(x[i], y[j])) for i, j in corners], axis=1)
            boxes = shapely.polygons(rings)
        else:
            boxes = shapely.box(x[column], y[row], x[column + 1], y[row + 1])
        return np.asarray(boxes if self.outline is None else shapely.intersection(boxes, self.outline))

    def equivalent_radius(self, cells: NDArray[np.int64]) -> Array:
        """Return how far from a well in each cell's middle the head is that of the cell, (n,) [m].

        References
        ----------
        Peaceman, D. W. (1983), Interpretation of well-block pressures in numerical reservoir simulation
        with nonsquare grid blocks and anisotropic permeability, SPE Journal 23(3), 531-543, eq. 22.
        """
        row, column = self.row_column
        width, depth = np.diff(self.x_edges)[column[cells]], np.diff(self.y_edges)[row[cells]]
        return np.asarray(0.14 * np.hypot(width, depth))

    def locate(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        import shapely

        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        u, v = self.from_map(x, y)
        rows, columns = self.shape
        # a point on the outermost edge belongs to the last cell
        column = np.where(u == self.x_edges[-1], columns - 1, np.searchsorted(self.x_edges, u, "right") - 1)
        row = np.where(v == self.y_edges[-1], rows - 1, np.searchsorted(self.y_edges, v, "right") - 1)
        inside = (column >= 0) & (column < columns) & (row >= 0) & (row < rows)
        if self.outline is not None:
            inside &= shapely.intersects_xy(self.outline, x, y)
        found = np.full(x.shape, -1, dtype=np.int64)
        found[inside] = self.number[row[inside], column[inside]]
        return found


def _turned(x: ArrayLike, y: ArrayLike, degrees: float, corner: tuple[float, float]) -> tuple[Array, Array]:
    """Turn points anticlockwise about a corner."""
    x, y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    if degrees == 0.0:
        return x, y
    c, s = np.cos(np.deg2rad(degrees)), np.sin(np.deg2rad(degrees))
    dx, dy = x - corner[0], y - corner[1]
    return corner[0] + c * dx - s * dy, corner[1] + s * dx + c * dy


_LARGER = "Ask for larger cells."


class _Piece(NamedTuple):
    """A stretch that is cut evenly: from where to where, and how wide each part is [m]."""

    start: float
    end: float
    size: float


def _pieces(low: float, high: float, size: float, bands: Iterable[Band]) -> list[_Piece]:
    """The stretches between the ends of bands, of the finest band over each."""
    narrow = [
        (max(float(b.start), low), min(float(b.end), high), float(b.size)) for b in bands if b.size < size
    ]
    narrow = [b for b in narrow if b[0] < b[1]]
    found = []
    for start, end in pairwise(sorted({v for b in narrow for v in b[:2]})):
        over = [b[2] for b in narrow if b[0] <= start and end <= b[1]]
        if over:
            found.append(_Piece(start, end, (end - start) / np.ceil((end - start) / min(over) - 1e-9)))
    return found


def _banded_edges(
    low: float, high: float, size: float, bands: Iterable[Band], near: Iterable[Band], growth: float
) -> Array:
    """Edges from `low` to `high` of widths no more than `size`, narrower in bands, growing away from them.

    Widths that grow by a ratio r from cell to cell grow with the distance d from a band as ``size + d (r - 1) / r``.
    Edges stand where the integral of one over that width is whole, stretched to end on one, and at the ends of `bands`;
    then no width is above what is asked for, and none more than r times its neighbour's where such ends leave room. Bands
    `near` shapes have no edges at their ends; one about a point has a cell with that point for its middle, unless another
    one is too near.
    """
    pieces = _pieces(low, high, size, bands)
    soft = [b for b in near if b.size < size]
    if not pieces and not soft:
        return np.linspace(low, high, max(int(np.ceil((high - low) / size - 1e-9)), 1) + 1)
    # a cell that touches a soft band lies within one width of it
    slopes = [*pieces, *(_Piece(b.start - b.size, b.end + b.size, b.size) for b in soft)]
    slope = (growth - 1.0) / growth
    step = min(p.size for p in slopes) / 8.0
    knots = [np.linspace(low, high, min(int((high - low) / step) + 2, 2_000_000))]
    for p in slopes:  # corners of the wanted width
        reach = (size - p.size) / slope
        knots.append(np.clip([p.start, p.end, p.start - reach, p.end + reach], low, high))
    fixed = np.array(sorted({v for p in pieces for v in p[:2]} | {*_about_points(low, high, soft).tolist()}))
    u = np.unique(np.concatenate([*knots, fixed]))
    total = _counted(u, _wanted(u, size, slopes, slope))
    refuse_beyond(
        "memory", total[-1] * BYTES_PER_PLAN_CELL, f"{total[-1]:.3g} rows or columns in bands", _LARGER
    )
    edges, evenly, beside = [np.array([low])], {p[:2] for p in pieces}, {v for p in pieces for v in p[:2]}
    for begin, end in pairwise(np.unique(np.concatenate([[low, high], fixed]))):
        mine = (u >= begin) & (u <= end)
        at, cells = u[mine], total[mine] - total[mine][0]
        number = max(int(np.ceil(cells[-1] - 1e-6)), 1)
        if (begin, end) not in evenly and (begin in beside or end in beside):
            # grow more slowly until they fit, rather than be narrower beside the band
            low_share, high_share = 0.0, 1.0
            for _ in range(40):
                share = 0.5 * (low_share + high_share)
                cells = _counted(at, _wanted(at, size, slopes, share * slope))
                low_share, high_share = (share, high_share) if cells[-1] > number else (low_share, share)
        part = np.interp(np.arange(1, number + 1) * cells[-1] / number, cells, at)
        part[-1] = end
        edges.append(part)
    return np.concatenate(edges)


def _wanted(u: Array, size: float, pieces: Iterable[_Piece], slope: float) -> Array:
    """The width wanted at places: no more than a size, growing away from finer pieces."""
    wanted = np.full(len(u), size)
    for p in pieces:
        away = np.maximum(np.maximum(p.start - u, u - p.end), 0.0)
        wanted = np.minimum(wanted, p.size + away * slope)
    return wanted


def _counted(u: Array, wanted: Array) -> Array:
    """How many widths fit between the first place and each; their reciprocal integrates to a logarithm."""
    a, b, du = wanted[:-1], wanted[1:], np.diff(u)
    even = np.abs(b - a) < 1e-9 * a
    cells = np.where(even, du / a, du * np.log(b / a) / np.where(even, 1.0, b - a))
    return np.concatenate([[0.0], np.cumsum(cells)])


def _about_points(low: float, high: float, bands: Iterable[Band]) -> Array:
    """Both edges of a cell about each point that bands stand for, the smallest first, unless another is too near."""
    taken: list[tuple[float, float]] = []
    for band in sorted((b for b in bands if b.start == b.end), key=lambda b: (b.size, b.start)):
        begin, end = band.start - 0.5 * band.size, band.start + 0.5 * band.size
        gap = _GAP * band.size
        clear = all(room >= gap or abs(room) < 1e-9 * gap for room in (begin - low, high - end))
        clear = clear and all(end + gap <= a or b + gap <= begin for a, b in taken)
        if clear:
            taken.append((begin, end))
    return np.array(sorted(v for pair in taken for v in pair))


def _bands_near(near: Iterable[tuple[list[Any], float]], mesh: RectangularMesh) -> list[Band]:
    """A band across either axis for each part of each shape, along the mesh's own axes."""
    import shapely

    bands = []
    for shapes, size in near:
        for shape in shapes:
            for part in getattr(shape, "geoms", [shape]):
                u, v = mesh.from_map(*shapely.get_coordinates(part).T)
                bands.append(Band("x", float(u.min()), float(u.max()), size))
                bands.append(Band("y", float(v.min()), float(v.max()), size))
    return bands


def _sides(value: float | Sequence[float] | None, name: str) -> list[float] | None:
    if value is None:
        return None
    return list(np.broadcast_to(check_positive(name, value), 2).tolist())


def rectangles(
    outline: Any,
    *,
    cell: WithUnit | Sequence[WithUnit] | None = None,
    count: int | Sequence[int] | None = None,
    margin: WithUnit = 0.0,
    rotation: WithUnit = 0.0,
    bands: Sequence[Band] = (),
    near: Sequence[tuple[Any, WithUnit | CellsWithin]] = (),
    growth: float = 1.5,
    keep: float | Literal["centre", "cut"] = "centre",
) -> RectangularMesh:
    """Cut an extent or the inside of a polygon into rectangles.

    Parameters
    ----------
    outline : tuple of float, or shapely Polygon
        ``(x_min, y_min, x_max, y_max)`` [m], filled exactly, all cells taking part; or ``(x_min, y_min)``,
        with both `cell` and `count`; or a polygon:
        cells over its extent (the overhang shared by both sides), of which those take part that
        `keep` names.
    cell : float or (float, float), optional
        Cell size along x and y [m].
    count : int or (int, int), optional
        Number of cells along x and y, instead of `cell`.
    margin : float
        Added to the extent on every side [m].
    rotation : float
        Of rows and columns, anticlockwise about the lower left corner of the extent [degrees].
    bands : sequence of Band
        Where rows or columns are narrower; edges stand on their ends.
    near : sequence of (shapes, size)
        Bands around features, bores or shapely shapes, each no wider than its size [m]. At points `CellsWithin` may
        be wanted instead.
    growth : float
        Greatest ratio of the widths of neighbouring rows or columns, above 1.
    keep : "centre", float or "cut"
        With a polygon: cells whose centre lies inside; or those of which at least this share of the
        area does; or all that meet it, cut to it.

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
    >>> mesh = rectangles((0, 0, 600, 400), cell=100, bands=[Band("x", 290, 310, 10)])
    >>> [round(float(w), 1) for w in (np.diff(mesh.x_edges).min(), np.diff(mesh.x_edges).max())]
    [10.0, 78.2]
    """
    import shapely

    cell, margin = plain(cell, "length", "cell"), plain(margin, "length", "margin")
    rotation = plain(rotation, "angle", "rotation")
    if not isinstance(outline, shapely.Geometry) and len(outline) == 2:
        outline, count = _box_of_cells(outline, cell, count), None
    if (cell is None) == (count is None):
        raise InputError("give either `cell` (a size in m) or `count` (numbers of cells), and not both.")
    if growth <= 1.0:
        raise InputError(f"growth is {growth:g}; expected a ratio above 1, such as 1.5.")
    polygon = outline if isinstance(outline, shapely.Geometry) else None
    corner, extent = _extent(outline, polygon, rotation, margin)
    frame = RectangularMesh(
        np.array([0.0, 1.0]), np.array([0.0, 1.0]), np.ones((1, 1), dtype=bool), rotation, corner
    )
    around = [*(b for b in bands if b.start == b.end), *_bands_near(wanted_near(near), frame)]
    sizes, counts = _sides(cell, "cell"), _sides(count, "count")
    edges = []
    for k, axis in enumerate("xy"):
        low, high = extent[k], extent[k + 2]
        if counts is not None:
            if counts[k] != int(counts[k]):
                raise InputError(f"count along {axis} is {counts[k]:g}; expected a whole number.")
            size, number = (high - low) / counts[k], counts[k]
        else:
            assert sizes is not None  # one of both is given
            size, number = sizes[k], (high - low) / sizes[k]
        whole = abs(number - round(number)) <= 1e-9 * max(number, 1.0)
        if polygon is None and not whole and not bands and not around:
            raise InputError(
                f"cells of {size:g} m do not fill {high - low:g} m along {axis} ({number:.4g} of them). "
                "Give a size that divides it, or `count` instead."
            )
        if polygon is not None and not whole:
            overhang = 0.5 * (np.ceil(number) * size - (high - low))
            low, high = low - overhang, high + overhang
        refuse_beyond("memory", number * BYTES_PER_PLAN_CELL, f"{number:.3g} cells along {axis}", _LARGER)
        mine, soft = ([b for b in some if b.axis == axis] for some in (bands, around))
        edges.append(_banded_edges(low, high, size, mine, soft, growth))
    frame_cells = float((len(edges[0]) - 1) * (len(edges[1]) - 1))
    words = f"{len(edges[1]) - 1} rows and {len(edges[0]) - 1} columns of rectangles"
    refuse_beyond("memory", frame_cells * BYTES_PER_PLAN_CELL, words, _LARGER)
    present = np.ones((len(edges[1]) - 1, len(edges[0]) - 1), dtype=bool)
    mesh = RectangularMesh(edges[0], edges[1], present, rotation, corner)
    if polygon is None:
        return mesh
    inside = keeping(mesh, polygon, keep)
    return RectangularMesh(
        edges[0], edges[1], inside.reshape(mesh.shape), rotation, corner, polygon if keep == "cut" else None
    )


def _box_of_cells(
    corner: Any, cell: float | Sequence[float] | None, count: int | Sequence[int] | None
) -> tuple[float, float, float, float]:
    sizes, counts = _sides(cell, "cell"), _sides(count, "count")
    if sizes is None or counts is None:
        raise InputError("an extent that begins at a corner x, y needs `cell` and `count`. Give both.")
    x, y = check_finite("corner", corner, unit="m").tolist()
    return x, y, x + sizes[0] * counts[0], y + sizes[1] * counts[1]


def _extent(
    outline: Any, polygon: Any, rotation: float, margin: float
) -> tuple[tuple[float, float], tuple[float, float, float, float]]:
    """The corner that the rotation turns about, and the extent along the turned axes."""
    x0, y0, x1, y1 = (float(v) for v in (outline if polygon is None else polygon.bounds))
    check_positive("extent", [x1 - x0, y1 - y0], unit="m", remedy="Give x_min, y_min, x_max, y_max.")
    corner = (x0, y0)
    if polygon is not None and rotation:
        import shapely

        points = shapely.get_coordinates(polygon)
        u, v = _turned(points[:, 0], points[:, 1], -rotation, corner)
        x0, y0, x1, y1 = float(u.min()), float(v.min()), float(u.max()), float(v.max())
    return corner, (x0 - margin, y0 - margin, x1 + margin, y1 + margin)
