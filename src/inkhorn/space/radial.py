"""Radial flow to wells: what of it the heads at centres of cells cannot say, wherever a well stands."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from functools import partial
from itertools import pairwise
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.space.cells import Cells, Faces, FaceShapes
from inkhorn.space.flow_rows import flow_rows, plan_tensor
from inkhorn.space.rows import FaceRows

if TYPE_CHECKING:
    from inkhorn.space.grid import Grid

__all__ = ["Beside", "RadialWells", "beside_slopes", "beside_wells", "equivalent_radius", "radius_slopes"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_REACH = 4.0  # how far around a well flows are corrected, in distances to the farthest neighbour of its cell
_INSIDE = 1e-6  # of the way to the centre
_OF_SQUARE = np.exp(-np.euler_gamma) / np.sqrt(8.0)  # among equal squares (Peaceman 1983)
_STEP, _TURN = 1e-4, 0.01  # of a ratio, and degrees, over which differences are taken
_RINGS = 3  # neighbours of neighbours from which heads are read


class RadialWells(NamedTuple):
    """Screens that stand upright somewhere in their cells.

    Attributes
    ----------
    cell : ndarray of int, (n,)
        Where each is.
    place : ndarray of float, (n, 2)
        x and y [m].
    tensor : ndarray of float, (n, 2, 2)
        Conductivity in plan of its cell, over the greatest.
    stretch : ndarray of float, (n, 2, 2)
        What turns arms from wells to as they are where conductivity is the same all round.
    ease : ndarray of float, (n,)
        The geometric mean of greatest and least conductivity over the greatest.
    """

    cell: Index
    place: Array
    tensor: Array
    stretch: Array
    ease: Array

    @classmethod
    def standing(cls, grid: Grid, cell: Index, place: Array, tensor: Array) -> RadialWells:
        """Return those at some places; one on the rim of its cell is taken to stand just inside."""
        centre = np.column_stack([grid.cells.x, grid.cells.y])[cell]
        value, axis = np.linalg.eigh(tensor)
        stretch = (axis / np.sqrt(value)[:, None]) @ np.swapaxes(axis, 1, 2)
        ease = np.sqrt(value.prod(axis=1))
        return cls(cell, place + _INSIDE * (centre - place), tensor, stretch, ease)

    def stretched(self, arms: Array, whose: Index) -> Array:
        """Return arms from wells (m, 2) as they are where conductivity is the same all round."""
        return np.asarray(np.einsum("nij,nj->ni", self.stretch[whose], arms))

    def head(self, arms: Array, whose: Index) -> Array:
        """Return the head of radial flow that takes out 1 m³/day a metre, where the greatest conductivity is 1 m/day."""
        distance = np.hypot(*self.stretched(arms, whose).T)
        return np.asarray(np.log(np.where(distance > 0.0, distance, 1.0)) / (2.0 * np.pi * self.ease[whose]))

    def radius(self, head: Array) -> Array:
        """Return the distance at which that head is found, as a bore of this radius would have it, (n,) [m].

        A round bore becomes an ellipse where the conductivity is made the same all round; the mean of its half axes
        counts (Peaceman 1983, eq. 20).
        """
        half = 0.5 * np.trace(self.stretch, axis1=1, axis2=2)
        return np.asarray(np.exp(2.0 * np.pi * self.ease * head) / half)


def _ragged(start: Index, count: Index) -> tuple[Index, Index]:
    """Whose each is, and all positions, of stretches that begin somewhere and are so long."""
    whose = np.repeat(np.arange(len(count)), count)
    return whose, np.arange(len(whose)) - np.repeat(np.cumsum(count) - count, count) + start[whose]


class _Sides:
    """The side faces of a grid, by their cells, and what a uniform conductivity makes of each."""

    def __init__(self, grid: Grid, rows: FaceRows | None, face: Index | None = None) -> None:
        faces = grid.faces
        self.rows, self.n = rows, grid.n_cells
        self.face = np.flatnonzero(~faces.is_floor) if face is None else face
        if face is None:  # all of them, as faces keep them
            normal, ends = faces.normal[self.face], faces.ends[self.face]
        else:
            normal, _, ends = faces.shapes(face)
        self.cells, self.normal, self.ends = faces.cells[self.face], normal[:, :2], ends
        self.reach = faces.distance[self.face, 0] + faces.distance[self.face, 1]
        self.length = np.hypot(*(self.ends[:, 1] - self.ends[:, 0]).T)
        self.order = np.argsort(self.cells.ravel(), kind="stable")
        self.sorted = self.cells.ravel()[self.order]
        self.centre = np.column_stack([grid.cells.x, grid.cells.y])

    def of(self, cells: Index) -> tuple[Any, Any, Any]:
        """Whose, which side, and 1 where it leads out of the cell or -1 into it."""
        first = np.searchsorted(self.sorted, cells)
        whose, at = _ragged(first, np.searchsorted(self.sorted, cells, "right") - first)
        place = self.order[at]
        return whose, place // 2, 1.0 - 2.0 * (place % 2)

    def conductance(self, side: Index, tensor: Array) -> Array:
        """Of sides where conductivity is everywhere that around a well, a metre of height."""
        normal = self.normal[side]
        spread = np.einsum("ni,nij,nj->n", normal, tensor, normal)
        return np.asarray(self.length[side] * spread / self.reach[side])

    def entries(self, side: Index) -> tuple[Any, Any, Any]:
        """Whose, which cell, and how the head there counts in the head difference across each side."""
        assert self.rows is not None
        rows = self.rows.difference
        first = rows.indptr[self.face[side]]
        whose, at = _ragged(first, rows.indptr[self.face[side] + 1] - first)
        return whose, rows.indices[at].astype(np.int64), rows.data[at]


def _own_heads(sides: _Sides, wells: RadialWells) -> Array:
    """Heads of the wells' own cells, those around being where radial flow has them.

    That of radial flow at its centre too, if the well stands well beside it; else that at which it gets its water.
    """
    source = _sources(sides, wells, np.arange(len(wells.cell)), wells.cell)
    whose, side, out = sides.of(wells.cell)
    conductance = out * sides.conductance(side, wells.tensor[whose])
    entry, cell, weight = sides.entries(side)
    weight = weight * conductance[entry]
    whose = whose[entry]
    own = cell == wells.cell[whose]
    head = wells.head(sides.centre[cell] - wells.place[whose], whose)
    others = np.bincount(whose, np.where(own, 0.0, weight * head), len(wells.cell))
    alone = np.bincount(whose, np.where(own, weight, 0.0), len(wells.cell))
    gets = (source - others) / np.where(alone > 0.0, alone, np.nan)
    arms, n = sides.centre[wells.cell] - wells.place, np.arange(len(wells.cell))
    return np.where(np.hypot(*arms.T) > 0.0, np.maximum(gets, wells.head(arms, n)), gets)


def _sources(sides: _Sides, wells: RadialWells, owner: Index, cell: Index) -> Array:
    """What radial flow brings through the sides of cells around wells, less what it takes: -1 for a well's own cell.

    On the rim some of it comes through sides that are closed, and does not count.
    """
    whose, side, out = sides.of(cell)
    angle = out * _angle(sides, wells, owner[whose], side)
    return np.asarray(np.bincount(whose, -angle / (2.0 * np.pi), len(cell)))


def _near(grid: Grid, wells: RadialWells) -> Index:
    """The side faces of cells that may be around wells: of those in squares about them."""
    cells, faces = grid.cells, grid.faces
    side = np.flatnonzero(~faces.is_floor)
    pair = faces.cells[side]
    own, which = np.unique(wells.cell, return_inverse=True)
    mine = np.zeros(grid.n_cells, dtype=bool)
    mine[own] = True
    touching = pair[mine[pair].any(axis=1)]
    apart = np.hypot(*(v[touching[:, 1]] - v[touching[:, 0]] for v in (cells.x, cells.y)))
    farthest = np.zeros(len(own))
    for end in (0, 1):
        here = mine[touching[:, end]]
        np.maximum.at(farthest, np.searchsorted(own, touching[here, end]), apart[here])
    value = np.linalg.eigvalsh(wells.tensor)
    reach = 1.001 * _REACH * farthest[which.ravel()] * np.sqrt(value[:, 1] / value[:, 0])
    order = np.argsort(cells.x)
    first, last = (np.searchsorted(cells.x[order], wells.place[:, 0] + way * reach) for way in (-1.0, 1.0))
    for y, r, a, b in zip(wells.place[:, 1], reach, first, last, strict=True):
        some = order[a:b]
        mine[some[np.abs(cells.y[some] - y) <= r]] = True
    return side[mine[pair].any(axis=1)]


def _around(sides: _Sides, wells: RadialWells, layer: Index) -> tuple[Index, Index]:
    """The cells of the same layer around each well: whose, and which."""
    from scipy.spatial import KDTree

    whose, side, _ = sides.of(wells.cell)
    arms = wells.stretched(np.diff(sides.centre[sides.cells[side]], axis=1)[:, 0], whose)
    reach = np.zeros(len(wells.cell))
    np.maximum.at(reach, whose, _REACH * np.hypot(*arms.T))
    greatest = np.sqrt(np.linalg.eigvalsh(wells.tensor)[:, -1])  # by which an arm is shorter stretched
    known = np.union1d(sides.cells, wells.cell)
    found: list[tuple[Index, Index]] = []
    for k in np.unique(layer[wells.cell]):
        here, mine = known[layer[known] == k], np.flatnonzero(layer[wells.cell] == k)
        tree = KDTree(sides.centre[here], balanced_tree=False)
        near = tree.query_ball_point(wells.place[mine], reach[mine] * greatest[mine])
        found.append((np.repeat(mine, [len(v) for v in near]), here[np.concatenate([*near, []]).astype(int)]))
    owner, cell = (np.concatenate(v) for v in zip(*found, strict=True))
    distance = np.hypot(*wells.stretched(sides.centre[cell] - wells.place[owner], owner).T)
    kept = (distance <= reach[owner]) | (cell == wells.cell[owner])
    return owner[kept], cell[kept]


class Beside(NamedTuple):
    """What radial flow carries across faces beside what their rows make of the heads at centres.

    Attributes
    ----------
    face, well : ndarray of int, (n,)
        Across which face, for which well.
    share : ndarray of float, (n,)
        From the first to the second cell, of the flow into the well's cell, where the conductivity is as around it [-].
    around : ndarray of float, (n,)
        The face's conductance a metre of height where that is so [m/day].
    """

    face: Index
    well: Index
    share: Array
    around: Array


def beside_wells(grid: Grid, rows: FaceRows, wells: RadialWells, conductivity: Array) -> Beside:
    """Return what passes through faces around wells besides what the heads at the centres say.

    All water of a well comes from, or goes to, the cell that it stands in. Around it the exact flux of radial flow
    crosses each face; what the face's own row makes of the exact heads is less or more. The difference is carried
    besides, so that heads around a well are those of a well where it stands.

    Parameters
    ----------
    grid : Grid
    rows : FaceRows
        Of the model.
    wells : RadialWells
    conductivity : ndarray of float, (n_cells,)
        Greatest in plan [m/day].
    """
    sides = _Sides(grid, rows, _near(grid, wells))
    owner, cell = _around(sides, wells, grid.cells.layer)
    # the faces between two cells around the same well
    whose, side, out = sides.of(cell)
    first = out > 0.0
    owner_of, side = owner[whose[first]], side[first]
    inside = np.isin(owner_of * sides.n + sides.cells[side, 1], owner * sides.n + cell)
    owner, side = owner_of[inside], side[inside]
    share = _carried(sides, wells, owner, side)
    around = sides.conductance(side, wells.tensor[owner]) * conductivity[wells.cell[owner]]
    good = np.isfinite(share) & (around > 0.0)
    return Beside(sides.face[side[good]], owner[good], share[good], around[good])


def _carried(sides: _Sides, wells: RadialWells, owner: Index, side: Index) -> Array:
    """What is carried across sides around wells beside what the rows make of the exact heads."""
    own = _own_heads(sides, wells)
    entry, at, weight = sides.entries(side)
    whose = owner[entry]
    exact = wells.head(sides.centre[at] - wells.place[whose], whose)
    head = np.where(at == wells.cell[whose], own[whose], exact)
    uniform = sides.conductance(side, wells.tensor[owner])
    flow = uniform * np.bincount(entry, weight * head, len(side))
    return np.asarray(_angle(sides, wells, owner, side) / (2.0 * np.pi) + flow)


def beside_slopes(
    grid: Grid, beside: Beside, cells: Index, place: Array, anisotropy: Array, direction: Array
) -> dict[str, Array]:
    """Return how what is carried beside wells answers to the anisotropy around them and to its direction, by differences.

    Parameters
    ----------
    grid : Grid
    beside : Beside
        What is carried.
    cells, place : ndarray
        Of the wells.
    anisotropy, direction : ndarray of float, (n_cells,)
        As of `flow_rows`; both are taken to change together all around a well.

    Returns
    -------
    dict of str to ndarray of float, (2, n)
        Derivatives of the shares, and of the logarithms of what they are carried around with.
    """
    members = np.zeros(grid.n_cells, dtype=bool)
    members[grid.faces.cells[beside.face].ravel()] = True
    part = _Part.about(grid, members)
    side = np.searchsorted(part.face, beside.face)

    def share(ratio: Array, angle: Array) -> Array:
        rows = flow_rows(part, 1.0, 1.0, anisotropy=ratio[part.members], direction=angle[part.members])
        tensor = _tensors(ratio[cells], angle[cells])
        wells = RadialWells.standing(part, part.number[cells], place, tensor)
        sides = _Sides(part, rows)
        around = sides.conductance(side, tensor[beside.well])
        return np.array([_carried(sides, wells, beside.well, side), np.log(around)])

    return _differences(share, anisotropy, direction, cells[beside.well])


def _angle(sides: _Sides, wells: RadialWells, owner: Index, side: Index) -> Array:
    """The angle under which each well sees a side, positive where it looks out of the first cell."""
    begin, end = (wells.stretched(sides.ends[side, k] - wells.place[owner], owner) for k in (0, 1))
    tangent = np.column_stack([-sides.normal[side, 1], sides.normal[side, 0]])
    ahead = ((sides.ends[side, 1] - sides.ends[side, 0]) * tangent).sum(axis=1) >= 0.0
    angle = np.arctan2(begin[:, 0] * end[:, 1] - begin[:, 1] * end[:, 0], (begin * end).sum(axis=1))
    return np.where(ahead, angle, -angle)


def _shapes_of_some(faces: Faces, chosen: Index, which: Index | None) -> FaceShapes:
    return faces.shapes(chosen if which is None else chosen[which])


class _Part:
    """Some cells of a grid with the side faces between them, all 1 m high: what face rows are made of."""

    def __init__(self, grid: Grid, members: NDArray[np.bool_], sides: Index) -> None:
        faces = grid.faces
        number = np.cumsum(members) - 1
        side = sides[members[faces.cells[sides, 0]] & members[faces.cells[sides, 1]]]
        self.is_square = grid.is_square
        self.members, self.number, self.n_cells, self.face = members, number, int(members.sum()), side
        self.cells = Cells(**{f.name: getattr(grid.cells, f.name)[members] for f in fields(Cells)})
        self.faces = Faces(
            cells=number[faces.cells[side]],
            kind=faces.kind[side],
            area=faces.length[side],
            distance=faces.distance[side],
            length=faces.length[side],
            shapes=partial(_shapes_of_some, faces, side),
        )

    @classmethod
    def about(cls, grid: Grid, members: NDArray[np.bool_]) -> Any:
        """Return some cells and those from which heads are read beside them."""
        from inkhorn.space import _kernels

        faces = grid.faces
        for _ in range(_RINGS):
            members |= _kernels.beside(faces.cells, faces.is_floor, members)
        among = ~faces.is_floor
        among &= members[faces.cells[:, 0]]
        return cls(grid, members, np.flatnonzero(among))

    def per_cell(self, name: str, values: ArrayLike) -> Array:
        return np.array(np.broadcast_to(np.asarray(values, dtype=np.float64), self.n_cells))


def equivalent_radius(
    grid: Grid,
    cells: Index,
    place: Array | None = None,
    anisotropy: ArrayLike = 1.0,
    direction: ArrayLike = 0.0,
) -> Array:
    """Return how far from a well the head is that of its cell, on any mesh and under any anisotropy; see `Grid`."""
    cells = np.atleast_1d(np.asarray(cells, dtype=np.int64))
    ratio, angle = grid.per_cell("anisotropy", anisotropy), grid.per_cell("direction", direction)
    members = np.zeros(grid.n_cells, dtype=bool)
    members[cells] = True
    if place is None:
        centre = np.column_stack([grid.cells.x, grid.cells.y])[cells]
        wells = RadialWells.standing(grid, cells, centre, _tensors(ratio[cells], angle[cells]))
        members[_around(_Sides(grid, None, _near(grid, wells)), wells, grid.cells.layer)[1]] = True
    return _radius(_Part.about(grid, members), grid, cells, place, ratio, angle)


def radius_slopes(
    grid: Grid, cells: Index, place: Array, anisotropy: Array, direction: Array
) -> tuple[Array, dict[str, Array]]:
    """Return equivalent radii, and how they answer to the anisotropy around wells and to its direction, by differences.

    Parameters
    ----------
    grid : Grid
    cells, place : ndarray
        Of the wells.
    anisotropy, direction : ndarray of float, (n_cells,)
        As of `flow_rows`; both are taken to change together all around a well.
    """
    members = np.zeros(grid.n_cells, dtype=bool)
    members[cells] = True
    part = _Part.about(grid, members)

    def radius(ratio: Array, angle: Array) -> Array:
        return _radius(part, grid, cells, place, ratio, angle)

    return radius(anisotropy, direction), _differences(radius, anisotropy, direction, cells)


def _tensors(anisotropy: Array, direction: Array) -> Array:
    """Conductivities in plan over the greatest, (n, 2, 2)."""
    tensor = plan_tensor(anisotropy, direction)
    return np.tile(np.eye(2), (len(anisotropy), 1, 1)) if tensor is None else tensor


def _differences(
    of: Callable[[Array, Array], Array], anisotropy: Array, direction: Array, cells: Index
) -> dict[str, Array]:
    """Central differences of what belongs to some cells, by the anisotropy and by its direction."""
    found = {}
    for name, by in (("anisotropy", _STEP * anisotropy), ("direction", np.full(len(anisotropy), _TURN))):
        ways = []
        for way in (1.0, -1.0):
            now = {"anisotropy": anisotropy, "direction": direction}
            now[name] = now[name] + way * by
            ways.append(of(now["anisotropy"], now["direction"]))
        found[name] = (ways[0] - ways[1]) / (2.0 * by[cells])
    return found


def _radius(part: Any, grid: Grid, cells: Index, place: Array | None, ratio: Array, angle: Array) -> Array:
    """The equivalent radii of wells within part of a grid."""
    members = part.members
    rows = flow_rows(part, 1.0, 1.0, anisotropy=ratio[members], direction=angle[members])
    sides, own = _Sides(part, rows), part.number[cells]
    at = sides.centre[own] if place is None else place
    wells = RadialWells.standing(part, own, at, _tensors(ratio[cells], angle[cells]))
    heads = _centred_heads(sides, wells, part.cells.layer) if place is None else _own_heads(sides, wells)
    radius = wells.radius(heads)
    alone = ~np.isfinite(radius)  # in a cell without neighbours
    radius[alone] = _OF_SQUARE * np.sqrt(grid.cells.area[cells[alone]])
    return radius


def _centred_heads(sides: _Sides, wells: RadialWells, layer: Index) -> Array:
    """The head of each well's own cell by its rows alone, from the exact heads some cells away."""
    from scipy.sparse import coo_array, csr_array

    face, ones = np.arange(len(sides.face)), np.ones(len(sides.face))
    outward = coo_array(
        (np.concatenate([ones, -ones]), (sides.cells.T.ravel(), np.concatenate([face, face]))),
        shape=(sides.n, len(face)),
    ).tocsr()
    assert sides.rows is not None  # made for these wells
    balance = outward @ sides.rows.matrix
    owner, cell = _around(sides, wells, layer)
    order = np.argsort(owner, kind="stable")
    owner, cell = owner[order], cell[order]
    source = _sources(sides, wells, owner, cell)
    begin = np.searchsorted(owner, np.arange(len(wells.cell) + 1))
    heads = np.full(len(wells.cell), np.nan)
    for k, (a, b) in enumerate(pairwise(begin)):
        if b - a == 1:
            continue
        part, own = balance[cell[a:b]], cell[a:b] == wells.cell[k]
        near, column = np.unique(part.indices, return_inverse=True)
        dense = csr_array((part.data, column, part.indptr), shape=(b - a, len(near))).toarray()
        free = np.isin(near, cell[a:b])
        exact = wells.head(sides.centre[near] - wells.place[k], np.full(len(near), k))
        place = np.searchsorted(near[free], cell[a:b])
        found = np.linalg.solve(dense[:, free], source[a:b] - dense[:, ~free] @ exact[~free])
        heads[k] = found[place[own]][0]
    return heads
