"""Around wells: which triangles are near them, and what radial flow carries through their sides."""

from __future__ import annotations

from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.model import Model
from inkhorn.space import Fans

__all__ = ["Bore", "NearWells"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_AROUND = 6.5  # distances to the farthest neighbour, within which a well's radial flow is told from the rest
_STILL = 1e-12  # m³/day: a well of less is idle


class Bore(NamedTuple):
    """The screens of wells in cells.

    Attributes
    ----------
    cell : ndarray of int, (n,)
        Where each is.
    term, entry : ndarray of int, (n,)
        Which of the model's terms, and which of its entries.
    x, y, radius : ndarray of float, (n,)
        [m].
    flow : ndarray of float, (n,)
        Into the aquifer [m³/day].
    """

    cell: Index
    term: Index
    entry: Index
    x: Array
    y: Array
    radius: Array
    flow: Array


class NearWells:
    """The radial flow of wells in a grid.

    Parameters
    ----------
    model : Model
        Whose wells they are; its anisotropy makes the flow elliptic.
    fans : Fans
        Triangles of the plan cells.
    """

    def __init__(self, model: Model, fans: Fans) -> None:
        self.model, self.grid, self.fans = model, model.grid, fans
        self.number = model.grid.cell_number
        self._known: dict[int, list[int]] = {}  # cells around wells, which stay where they are

    def around(self, bore: Bore) -> tuple[Index, Index]:
        """Which triangles are near wells, and near which."""
        grid, fans = self.grid, self.fans
        near = np.full(len(self.number) * len(fans), -1, dtype=np.int64)
        busy = np.flatnonzero(np.abs(bore.flow) > _STILL)
        if not len(busy):
            return near, np.full((0, 1), -1, dtype=np.int64)
        of_cell: dict[int, list[int]] = {}
        for b in busy.tolist():
            if b not in self._known:
                self._known[b] = self._about(int(bore.cell[b]), (float(bore.x[b]), float(bore.y[b])))
            for one in self._known[b]:
                of_cell.setdefault(one, []).append(b)
        most = max(len(v) for v in of_cell.values())
        around = np.full((len(of_cell), most), -1, dtype=np.int64)
        row_of_cell = np.full(grid.n_cells, -1, dtype=np.int64)
        for row, (one, wells) in enumerate(of_cell.items()):
            around[row, : len(wells)] = wells
            row_of_cell[one] = row
        cell = self.number[:, fans.cell]
        near = np.where(cell >= 0, row_of_cell[np.maximum(cell, 0)], -1).ravel()
        return near, around

    def _about(self, cell: int, place: tuple[float, float]) -> list[int]:
        """The cells around a well, itself among them, that are near it and joined by sides."""
        cells, links = self.grid.cells, self._neighbours
        own = links.indices[links.indptr[cell] : links.indptr[cell + 1]]
        if not len(own):
            return [cell]
        reach = _AROUND * np.hypot(cells.x[own] - cells.x[cell], cells.y[own] - cells.y[cell]).max()
        found, edge = {cell}, [cell]
        while edge:
            more = []
            for one in edge:
                for other in links.indices[links.indptr[one] : links.indptr[one + 1]].tolist():
                    if (
                        other not in found
                        and np.hypot(cells.x[other] - place[0], cells.y[other] - place[1]) <= reach
                    ):
                        found.add(other)
                        more.append(other)
            edge = more
        return list(found)

    @cached_property
    def _neighbours(self) -> Any:
        from scipy.sparse import coo_array

        faces = self.grid.faces
        pair = faces.cells[~faces.is_floor]
        n, ones = self.grid.n_cells, np.ones(len(pair))
        half = coo_array((ones, (pair[:, 0], pair[:, 1])), shape=(n, n)).tocsr()
        return (half + half.T).tocsr()

    def take_from(self, outer: Array, near: Index, around: Index, bore: Bore) -> None:
        """Take from the flow through sides near wells what radial flow carries there."""
        fans = self.fans
        mine = np.flatnonzero(near >= 0)
        if not len(mine):
            return
        for column in range(around.shape[1]):
            well = around[near[mine], column]
            some = mine[well >= 0]
            well = well[well >= 0]
            place = np.column_stack([bore.x, bore.y])[well] - fans.origin
            stretch = self._stretch(bore)[well]
            for k in range(3):
                a, b = (
                    np.einsum("nij,nj->ni", stretch, fans.corner[some, (k + j) % 3] - place) for j in (1, 2)
                )
                angle = np.arctan2(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0], (a * b).sum(axis=1))
                outer[some, k] -= bore.flow[well] * angle / (2.0 * np.pi)

    def _stretch(self, bore: Bore) -> Array:
        """What turns arms from each well to as they are where conductivity is the same all round, (n, 2, 2)."""
        cosine, sine, ratio = self.ellipses(bore)
        root = np.sqrt(ratio)  # of least over greatest conductivity, to the power of a half
        one = np.stack([cosine, sine], axis=1)
        two = np.stack([-sine, cosine], axis=1)
        return np.asarray(
            np.einsum("n,ni,nj->nij", root, one, one) + np.einsum("n,ni,nj->nij", 1.0 / root, two, two)
        )

    def ellipses(self, bore: Bore) -> tuple[Array, Array, Array]:
        """Return the direction of the greatest conductivity around each well, and the root of least over greatest."""
        model = self.model
        n = self.grid.n_cells
        ratio = np.broadcast_to(np.asarray(model.anisotropy, dtype=np.float64), n)[bore.cell]
        angle = np.deg2rad(np.broadcast_to(np.asarray(model.direction, dtype=np.float64), n)[bore.cell])
        return np.cos(angle), np.sin(angle), 1.0 / np.sqrt(ratio)
