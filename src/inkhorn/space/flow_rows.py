"""The rows of a grid with its conductivities: what flows across each face when all is saturated."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative
from inkhorn.space.reading import read_beside
from inkhorn.space.rows import STRAIGHT, FaceRows

if TYPE_CHECKING:
    from inkhorn.space.cells import Faces
    from inkhorn.space.grid import Grid

__all__ = ["flow_rows", "plan_tensor", "series_conductance", "tensor_rows"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


def series_conductance(half_a: ArrayLike, half_b: ArrayLike) -> NDArray[np.float64]:
    """Combine the two half-cell conductances on either side of a face.

    Resistances in series add; a closed half closes the face.

    Parameters
    ----------
    half_a, half_b : array_like of float, broadcastable to (n_faces,)
        Centre-to-face conductance, ``k * area / distance`` [m²/day].

    Returns
    -------
    ndarray of float64, (n_faces,)
        Face conductance [m²/day]; exactly 0 where either half is 0.

    Raises
    ------
    InputError
        If a value is negative or not finite; the message names it and its index.
    """
    remedy = "Use 0 for a closed face."
    half_a = check_nonnegative("half_a", half_a, unit="m²/day", remedy=remedy)
    half_b = check_nonnegative("half_b", half_b, unit="m²/day", remedy=remedy)
    total = half_a + half_b
    return np.asarray(half_a * (half_b / np.where(total > 0, total, 1.0)))


def flow_rows(
    grid: Grid,
    horizontal: ArrayLike,
    vertical: ArrayLike,
    *,
    anisotropy: ArrayLike = 1.0,
    direction: ArrayLike = 0.0,
    resistance: Array | None = None,
    leakance: Array | None = None,
) -> FaceRows:
    """Make face rows for conductivities along and across the layers.

    Parameters
    ----------
    grid : Grid
        Cells and faces.
    horizontal : array_like of float, (n_cells,) or what `Grid.per_cell` spreads
        Conductivity along the layer, the greatest of it [m/day].
    vertical : array_like of float, as `horizontal`
        Conductivity across the layer [m/day].
    anisotropy : array_like of float, as `horizontal`
        Conductivity along `direction` over that at right angles to it in plan.
    direction : array_like of float, as `horizontal`
        Of the greatest conductivity, anticlockwise from the x axis [degrees].
    resistance : ndarray of float, (n_faces,), optional
        Of what stands in the faces besides, as barriers do: thickness over conductivity [day].
    leakance : ndarray of float, (n_cells,), optional
        Flow through the floor of a cell per area and head difference [1/day], instead of what follows from
        the vertical conductivities; NaN where these hold.

    Returns
    -------
    FaceRows

    Raises
    ------
    InputError
        If a conductivity is negative or not finite, or an anisotropy not above 0.
    """
    faces = grid.faces
    across = check_nonnegative("horizontal", grid.per_cell("horizontal", horizontal), unit="m/day")
    down = check_nonnegative("vertical", grid.per_cell("vertical", vertical), unit="m/day")
    plan = plan_tensor(grid.per_cell("anisotropy", anisotropy), grid.per_cell("direction", direction))
    square = plan is None and grid.is_square
    rows = _square_rows(grid, across, down) if square else _any_rows(grid, across, down, plan)
    if leakance is not None:
        rows = _with_leakance(rows, leakance[faces.cells[:, 0]], faces.area)
    return rows if resistance is None else _behind(rows, resistance, faces.area)


def _square_rows(grid: Grid, across: Array, down: Array) -> FaceRows:
    """Rows of faces that lie square to the lines between centres, for conductivities that are the same all round."""
    from inkhorn.space import _kernels

    faces = grid.faces
    conductance, by_conductivity = np.empty(len(faces)), np.empty((len(faces), 2))
    _kernels.square_rows(
        faces.cells, faces.is_floor, across, down, faces.area, faces.distance, conductance, by_conductivity
    )
    return FaceRows(
        difference=_two_points(grid),
        conductance=conductance,
        cells=faces.cells,
        is_floor=faces.is_floor,
        by_conductivity=by_conductivity,
        by_leakance=np.zeros(len(faces)),
        by_resistance=np.zeros(len(faces)),
        inexact=np.empty(0, dtype=np.int64),
    )


def _any_rows(grid: Grid, across: Array, down: Array, plan: Array | None) -> FaceRows:
    """Rows of faces of any mesh, and for any tensors in plan."""
    cells, faces = grid.cells, grid.faces
    floor = faces.is_floor
    normal = faces.normal[:, :2]
    conormal = None if plan is None else np.einsum("fsij,fj->fsi", plan[faces.cells], normal)
    spread = np.ones((len(faces), 2)) if conormal is None else (conormal * normal[:, None]).sum(axis=2)
    spread[floor] = 1.0
    k = np.where(floor[:, None], down[faces.cells], across[faces.cells])
    # from either centre to the point level with it on the conormal through the face
    centres = np.column_stack([cells.x, cells.y])[faces.cells]
    if conormal is None:
        along = np.broadcast_to(normal[:, None], centres.shape)
    else:
        along = np.where(floor[:, None, None], 0.0, conormal / spread[:, :, None])
    return _rows(grid, k, spread, along, centres, faces.centroid[:, :2])


def _with_leakance(rows: FaceRows, leakance: Array, area: Array) -> FaceRows:
    """Floors whose leakance is given; NaN where it is not."""
    given = rows.is_floor & np.isfinite(leakance)
    return replace(
        rows,
        conductance=np.where(given, leakance * area, rows.conductance),
        by_conductivity=np.where(given[:, None], 0.0, rows.by_conductivity),
        by_leakance=np.where(given, area, 0.0),
    )


def _behind(rows: FaceRows, resistance: Array, area: Array) -> FaceRows:
    """Faces with a resistance in series [day]."""
    open_ = 1.0 / (1.0 + rows.conductance * resistance / area)
    conductance = rows.conductance * open_
    return replace(
        rows,
        conductance=conductance,
        by_conductivity=rows.by_conductivity * (open_**2)[:, None],
        by_leakance=rows.by_leakance * open_**2,
        by_resistance=-(conductance**2) / area,
    )


def tensor_rows(grid: Grid, tensor: ArrayLike) -> FaceRows:
    """Make face rows for conductivity tensors with any axes, dipping ones included.

    Parameters
    ----------
    grid : Grid
        Cells and faces.
    tensor : array_like of float, (3, 3) or (n_cells, 3, 3)
        Symmetric positive definite [m/day].

    Returns
    -------
    FaceRows
        Its derivatives are by a factor on each cell's tensor.

    Raises
    ------
    InputError
        If a tensor is not symmetric positive definite.
    """
    cells, faces = grid.cells, grid.faces
    k = np.broadcast_to(check_finite("tensor", tensor, unit="m/day"), (len(cells), 3, 3))
    bad = np.flatnonzero(
        (np.abs(k - np.swapaxes(k, 1, 2)).max(axis=(1, 2)) > 1e-9 * np.abs(k).max(axis=(1, 2)))
        | (np.linalg.eigvalsh(k)[:, 0] <= 0)
    )
    if len(bad):
        raise InputError(
            f"tensor[{bad[0]}] is not symmetric positive definite ({len(bad)} of {len(cells)} are bad). Check its axes."
        )
    conormal = np.einsum("fsij,fj->fsi", k[faces.cells], faces.normal)
    spread = (conormal * faces.normal[:, None]).sum(axis=2)
    along = conormal / spread[:, :, None]
    centres = np.column_stack([cells.x, cells.y, cells.z])[faces.cells]
    return _rows(grid, np.ones_like(spread), spread, along, centres, faces.centroid)


def plan_tensor(anisotropy: Array, direction: Array) -> Array | None:
    """Conductivity in plan over the greatest, (n_cells, 2, 2); None if it is the same all round."""
    if (anisotropy <= 0).any():
        bad = int(np.argmin(anisotropy))
        raise InputError(f"anisotropy[{bad}] is {anisotropy[bad]:g}; expected a ratio above 0.")
    if (anisotropy == 1.0).all():
        return None
    angle = np.deg2rad(direction)
    axis = np.column_stack([np.cos(angle), np.sin(angle)])
    other = np.column_stack([-axis[:, 1], axis[:, 0]])
    less = (1.0 / anisotropy)[:, None, None]
    return np.asarray(axis[:, :, None] * axis[:, None, :] + less * other[:, :, None] * other[:, None, :])


def _rows(
    grid: Grid,
    k: Array,
    spread: Array,
    along: Array,
    centres: Array,
    middle: Array,
) -> FaceRows:
    """Rows from conductivities, what is crossed along the normal, and the conormals, two per face.

    Parameters
    ----------
    k : ndarray of float, (n_faces, 2)
        Conductivity of either cell [m/day].
    spread : ndarray of float, (n_faces, 2)
        Normal on normal of either tensor, over that conductivity.
    along : ndarray of float, (n_faces, 2, dimensions)
        Conormal of either cell, 1 along the normal.
    centres : ndarray of float, (n_faces, 2, dimensions)
        Centres of both cells, in plan or in space.
    middle : ndarray of float, (n_faces, dimensions)
        A point of the face.
    """
    faces, in_plan = grid.faces, centres.shape[2] == 2
    normal = faces.normal[:, None, : centres.shape[2]]
    long = _off_centre(faces, along, centres)
    back = np.array([1.0, -1.0])[:, None] * faces.distance[long, :, None] * along[long]
    aside = middle[long, None] - back - centres[long]

    unit = spread * faces.area[:, None] / faces.distance
    half = k * unit
    conductance = series_conductance(half[:, 0], half[:, 1])
    total = half[:, 0] + half[:, 1]
    other = half[:, ::-1] / np.where(total > 0, total, 1.0)[:, None]
    isotropic = bool(
        (np.abs(along - (along * normal).sum(axis=2)[:, :, None] * normal).max(initial=0.0)) < 1e-12
    )
    difference, inexact = _differences(grid, long, aside, in_plan=in_plan, isotropic=isotropic)
    return FaceRows(
        difference=difference,
        conductance=conductance,
        cells=faces.cells,
        is_floor=faces.is_floor,
        by_conductivity=unit * other**2,  # d(ab/(a+b))/da = (b/(a+b))²
        by_leakance=np.zeros(len(faces)),
        by_resistance=np.zeros(len(faces)),
        inexact=inexact,
    )


def _off_centre(faces: Faces, along: Array, centres: Array) -> Index:
    """Faces that the line between their centres does not cross along either conormal."""
    reach = faces.distance.sum(axis=1)
    share = faces.distance[:, 0] / reach
    off, apart = np.zeros((2, len(faces))), np.zeros(len(faces))
    for axis in range(centres.shape[2]):  # each by itself: sums over the last of so few are slow
        first, second = centres[:, 0, axis], centres[:, 1, axis]
        crossing = (1.0 - share) * first + share * second
        off[0] += (crossing - faces.distance[:, 0] * along[:, 0, axis] - first) ** 2
        off[1] += (crossing + faces.distance[:, 1] * along[:, 1, axis] - second) ** 2
        apart = np.maximum(apart, np.abs(second - first))
    scale = np.maximum(np.maximum(reach, apart), np.sqrt(faces.area))
    return np.flatnonzero(np.maximum(off[0], off[1]) > (STRAIGHT * scale) ** 2)


def _two_points(grid: Grid) -> Any:
    """Head differences between the centres on either side of each face, (n_faces, n_cells)."""
    from scipy.sparse import csr_array

    n_faces = len(grid.faces)
    starts = np.arange(0, 2 * n_faces + 1, 2, dtype=np.int32 if n_faces < 2**29 else np.int64)
    entries = (np.tile([1.0, -1.0], n_faces), grid.faces.cells.ravel().astype(starts.dtype), starts)
    return csr_array(entries, shape=(n_faces, grid.n_cells))


def _differences(
    grid: Grid, long: Index, aside: Array, *, in_plan: bool, isotropic: bool
) -> tuple[Any, Index]:
    """Head differences across the faces, of which some are taken beside the centres of their cells."""
    from scipy.sparse import coo_array, csr_array

    faces, n_cells, n_faces = grid.faces, grid.n_cells, len(grid.faces)
    if not len(long):
        return _two_points(grid), np.empty(0, dtype=np.int64)
    cell, shift = faces.cells[long].ravel(), aside.reshape(2 * len(long), -1)
    face, sign = np.repeat(long, 2), np.tile([1.0, -1.0], len(long))
    moved = np.sqrt((shift**2).sum(axis=1)) > 0
    owner, neighbour, weight, _, missed = read_beside(
        grid, cell[moved], shift[moved], in_plan=in_plan, isotropic=isotropic
    )
    at, signs = face[moved][owner], sign[moved][owner]
    own = cell[moved][owner]
    # the weights of a point's neighbours come out of that of its own cell; sums of zero stay in their place
    entries = [
        (faces.cells.ravel(), np.repeat(np.arange(n_faces), 2), np.tile([1.0, -1.0], n_faces)),
        (neighbour, at, signs * weight),
        (own, at, -signs * weight),
    ]
    column, row, value = (np.concatenate(v) for v in zip(*entries, strict=True))
    both = coo_array((value, (row, column)), shape=(n_faces, n_cells)).tocsr().tocoo()
    rank = np.full(both.nnz, 2)
    rank[both.col == faces.cells[both.row, 0]] = 0
    rank[both.col == faces.cells[both.row, 1]] = 1
    order = np.lexsort((both.col, rank, both.row))
    indptr = np.concatenate([[0], np.cumsum(np.bincount(both.row, minlength=n_faces))])
    rows = csr_array((both.data[order], both.col[order], indptr), shape=both.shape)
    return rows, np.unique(face[moved][missed])
