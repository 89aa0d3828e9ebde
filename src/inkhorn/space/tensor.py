"""How the flow across faces answers to the anisotropy of conductivity in plan, and to its direction."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.grid import Grid
from inkhorn.space.reading import read_beside
from inkhorn.space.rows import STRAIGHT, FaceRows

__all__ = ["tensor_slopes"]

Array = NDArray[np.float64]

_PER_DEGREE = np.pi / 180.0


def tensor_slopes(grid: Grid, arrays: Mapping[str, Any], rows: FaceRows, heads: Array) -> dict[str, Any]:
    """Return the derivatives of the flow across each face, all being saturated, by anisotropy and direction.

    The conductance changes with what the tensor carries across the face; and the points on either side between which
    the head is taken move along the face, as the conormal turns. Where a face is met squarely now, so that its row has
    two entries, the mean of both ways to turn it counts.

    Parameters
    ----------
    grid : Grid
        Cells and faces.
    arrays : mapping of str to ndarray
        As of `flow_rows`: horizontal, anisotropy, direction.
    rows : FaceRows
        Made of these.
    heads : ndarray of float, (n_cells,)
        [m].

    Returns
    -------
    dict of str to scipy.sparse.csr_array, (n_faces, n_cells)
        ``"anisotropy"`` [m³/day] and ``"direction"`` [m³/day per degree], by the value of each cell.
    """
    from scipy.sparse import coo_array

    cells, faces, n = grid.cells, grid.faces, grid.n_cells
    side = np.flatnonzero(~faces.is_floor)
    pair = faces.cells[side]
    horizontal, anisotropy, direction = (
        grid.per_cell(name, arrays[name])[pair] for name in ("horizontal", "anisotropy", "direction")
    )
    # vectors in plan as complex numbers
    normal = _complex(faces.normal[side])[:, None]
    axis = np.exp(1j * _PER_DEGREE * direction)
    on_axis, on_other = _times(axis, normal), _times(1j * axis, normal)
    less = 1.0 / anisotropy
    conormal = (on_axis + 1j * less * on_other) * axis
    spread = _times(conormal, normal)
    turned = {  # derivative of the conormal by either parameter
        "anisotropy": -1j * (less**2 * on_other) * axis,
        "direction": _PER_DEGREE * (1.0 - less) * (on_other + 1j * on_axis) * axis,
    }
    # what crosses: a conductance through `spread`, between two points that move with the conormal
    drop = (rows.difference @ heads)[side]
    sign = np.array([1.0, -1.0])
    back = sign * faces.distance[side]
    shift = _complex(faces.centroid[side])[:, None] - back * conormal / spread
    shift -= (cells.x + 1j * cells.y)[pair]
    shift[np.diff(rows.difference.indptr)[side] == 2] = 0.0  # read at the centres themselves
    reach = faces.distance[side].sum(axis=1)[:, None]
    still = np.abs(shift) <= STRAIGHT * reach
    isotropic = bool((anisotropy == 1.0).all())
    found = {}
    for name, by in turned.items():
        wider = _times(by, normal)
        moves = back * (conormal * (wider / spread**2) - by / spread)
        conductance = rows.by_conductivity[side] * horizontal / spread * wider
        entries = [(np.repeat(side, 2), pair.ravel(), (conductance * drop[:, None]).ravel())]
        moved = np.abs(moves) > STRAIGHT * reach * _PER_DEGREE
        for square, ways in ((True, (0.5, -0.5)), (False, (1.0,))):
            face, end = np.nonzero(moved & (still == square))
            if not len(face):
                continue
            step = _in_plan(moves[face, end])
            own = pair[face, end]
            for way in ways:
                if square:
                    owner, beside, slope, _, _ = read_beside(
                        grid, own, np.sign(way) * step, in_plan=True, isotropic=False
                    )
                else:
                    owner, beside, _, slopes, _ = read_beside(
                        grid,
                        own,
                        _in_plan(shift[face, end]),
                        in_plan=True,
                        isotropic=isotropic,
                        along=step[:, None],
                    )
                    slope = slopes[:, 0]
                flow = rows.conductance[side[face[owner]]] * sign[end[owner]] * slope
                value = way * flow * (heads[beside] - heads[own[owner]])
                entries.append((side[face[owner]], own[owner], value))
        row, column, value = (np.concatenate(v) for v in zip(*entries, strict=True))
        found[name] = coo_array((value, (row, column)), shape=(len(faces), n)).tocsr()
    return found


def _complex(places: Array) -> NDArray[np.complex128]:
    """Places or directions in plan as complex numbers."""
    return np.asarray(places[:, 0] + 1j * places[:, 1])


def _in_plan(numbers: NDArray[np.complex128]) -> Array:
    return np.stack([numbers.real, numbers.imag], axis=-1)


def _times(one: NDArray[np.complex128], other: NDArray[np.complex128]) -> Array:
    """The product of two vectors."""
    return one.real * other.real + one.imag * other.imag
