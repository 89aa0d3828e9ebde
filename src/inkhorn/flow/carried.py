"""What passes faces around wells beside what the heads at the centres of cells say."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.model import Model
from inkhorn.model.terms import Contribution, Term
from inkhorn.space import Beside, FaceRows, RadialWells, beside_slopes, beside_wells, plan_tensor

__all__ = ["Carried"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_MOST = 2.0  # times the conductance around a well up to which a face counts
_SHALLOW = (
    0.25  # m of water on either side of a face below which less and less is carried, nothing through the dry
)


@dataclass(frozen=True, eq=False)
class Carried:
    """Of one term: ``share * conductance / conductance as around the well * flow of the entry`` across each face.

    Radial flow crosses the faces around a well otherwise than the heads at centres have it, the more the farther it
    stands from the centre of its cell. All its water still comes from its own cell.

    Attributes
    ----------
    wells : ndarray of int, (m,)
        The entries that stand somewhere known.
    entry, face : ndarray of int, (n,)
        Whose, and across which face.
    cells : ndarray of int, (n, 2)
        From which cell to which.
    share, around : ndarray of float, (n,)
        As of `inkhorn.space.Beside`.
    factor : ndarray of float, (n,)
        The face's conductance over that around the well, or what it counts as at the most.
    by_conductance : ndarray of float, (n,)
        Derivative of that [day/m²].
    barred : ndarray of float, (n,)
        What share of its resistance stands in the face, as a barrier [-]; 0 where more is not counted.
    wet : ndarray of float, (n, 2)
        What either side lets pass, 1 where there is enough water.
    wet_slope : ndarray of float, (n, 2)
        Its slope by head [1/m].
    """

    wells: Index
    entry: Index
    face: Index
    cells: Index
    share: Array
    around: Array
    factor: Array
    by_conductance: Array
    barred: Array
    wet: Array
    wet_slope: Array

    @classmethod
    def of(cls, model: Model, rows: FaceRows, term: Term) -> Carried | None:
        """Return that of a term, none if nothing of it stands anywhere known."""
        place, grid = term.place, model.grid
        if place is None:
            return None
        some = np.flatnonzero(np.isfinite(place).all(axis=1))
        plan = grid.mesh.locate(*place[some].T)
        layer = grid.cells.layer[term.cells[some]]
        some = some[(plan >= 0) & (grid.cell_number[layer, np.maximum(plan, 0)] == term.cells[some])]
        if not len(some):
            return None
        cells = term.cells[some]
        tensor = plan_tensor(model.anisotropy[cells], model.direction[cells])
        tensor = np.tile(np.eye(2), (len(cells), 1, 1)) if tensor is None else tensor
        wells = RadialWells.standing(grid, cells, place[some], tensor)
        beside = beside_wells(grid, rows, wells, model.horizontal_conductivity)
        n, face, height = len(beside.face), beside.face, grid.faces.height[beside.face]
        factor = rows.conductance[face] / (height * beside.around)
        by = np.where(factor < _MOST, 1.0 / (height * beside.around), 0.0)
        barred = np.zeros(n)
        if model.face_resistance is not None:
            barred = -model.face_resistance[face] * rows.by_resistance[face] / rows.conductance[face]
        return cls(
            some, some[beside.well], face, grid.faces.cells[face], beside.share, beside.around,
            np.minimum(factor, _MOST), by, np.where(by > 0.0, barred, 0.0), np.ones((n, 2)), np.zeros((n, 2)),
        )  # fmt: skip

    def at(self, filled: Array, slope: Array, height: Array) -> Carried:
        """Return the same where cells are filled to such shares, with their slopes by head."""
        if (filled[self.cells] >= 1.0).all():
            return self
        deep = np.minimum(_SHALLOW / height, 0.5)[self.cells]
        t = np.minimum(filled[self.cells] / deep, 1.0)
        return replace(
            self,
            wet=t * t * (3.0 - 2.0 * t),
            wet_slope=6.0 * t * (1.0 - t) / deep * slope[self.cells],
        )

    @property
    def weight(self) -> Array:
        """What is carried across each face, of its entry's flow."""
        return np.asarray(self.share * self.factor * self.wet.prod(axis=1))

    def across(self, flow: Array, n_faces: int) -> Array:
        """Return what is carried across all faces, for the flows of the entries [m³/day]."""
        return np.asarray(np.bincount(self.face, self.weight * flow[self.entry], n_faces))

    def by_entry(self, n_faces: int, n_entries: int) -> Any:
        """Return what is carried across each face by the flow of each entry, sparse (n_faces, n_entries)."""
        from scipy.sparse import coo_array

        return coo_array((self.weight, (self.face, self.entry)), shape=(n_faces, n_entries)).tocsr()

    def slopes(self, answer: Contribution) -> tuple[Index, Index, Array]:
        """Return rows, columns and values of the derivative of all residuals by all unknowns."""
        mine, column, value = self.across_slopes(answer)
        return (
            np.concatenate([self.cells[mine, 0], self.cells[mine, 1]]),
            np.concatenate([column, column]),
            np.concatenate([-value, value]),
        )

    def face_slopes(self, answer: Contribution) -> tuple[Index, Index, Array]:
        """Return faces, columns and values of the derivative of what crosses each face by all unknowns."""
        mine, column, value = self.across_slopes(answer)
        return self.face[mine], column, value

    def across_slopes(self, answer: Contribution) -> tuple[Index, Index, Array]:
        """Return places among what is carried, columns and values of its derivative by all unknowns."""
        row, column, value = answer.flow_slope
        order = np.argsort(row, kind="stable")
        first = np.searchsorted(row[order], self.entry)
        count = np.searchsorted(row[order], self.entry, "right") - first
        mine = np.repeat(np.arange(len(self.entry)), count)  # every slope of an entry, wherever it is carried
        at = order[np.arange(len(mine)) - np.repeat(np.cumsum(count) - count - first, count)]
        by = self.weight[mine] * value[at]
        bare = self.share * self.factor * answer.flow[self.entry]
        every = np.arange(len(self.entry))
        return (
            np.concatenate([mine, every, every]),
            np.concatenate([column[at], self.cells[:, 0], self.cells[:, 1]]),
            np.concatenate(
                [by, *(bare * self.wet_slope[:, side] * self.wet[:, 1 - side] for side in (0, 1))]
            ),
        )

    def driven(self, flow: Array, n_faces: int) -> Array:
        """Return the derivative of what is carried across each face by its own conductance, (n_faces,) [m]."""
        by = self.share * self.wet.prod(axis=1) * self.by_conductance * flow[self.entry]
        return np.asarray(np.bincount(self.face, by, n_faces))

    def by_tensor(self, model: Model, term: Term, flow: Array) -> dict[str, Any]:
        """Return the derivatives of what is carried by anisotropy and direction, sparse (n_faces, n_cells).

        Both are taken to change all around a well as in its own cell.
        """
        from scipy.sparse import coo_array

        assert term.place is not None  # else nothing is carried
        number = np.searchsorted(self.wells, self.entry)
        beside = Beside(self.face, number, self.share, self.around)
        slopes = beside_slopes(
            model.grid,
            beside,
            term.cells[self.wells],
            term.place[self.wells],
            model.anisotropy,
            model.direction,
        )
        carried = self.factor * self.wet.prod(axis=1) * flow[self.entry]
        # a barrier does not change with the tensor, as what it is compared with does
        slopes = {name: by - self.barred * self.share * by_log for name, (by, by_log) in slopes.items()}
        shape = (len(model.grid.faces), model.grid.n_cells)
        where = (self.face, term.cells[self.entry])
        return {name: coo_array((by * carried, where), shape=shape).tocsr() for name, by in slopes.items()}

    def by_own(self, term: Term, flow: Array, conductivity: Array, n_faces: int) -> Any:
        """Return the derivative of what is carried by the conductivity of the wells' own cells, sparse [m²]."""
        from scipy.sparse import coo_array

        own = term.cells[self.entry]
        value = np.where(self.by_conductance > 0.0, -self.weight * flow[self.entry] / conductivity[own], 0.0)
        return coo_array((value, (self.face, own)), shape=(n_faces, len(conductivity))).tocsr()
