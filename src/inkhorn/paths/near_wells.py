"""Around wells: which triangles are near them, and what radial flow carries through their sides.

Where the sides of a grid are closed near a well and straight, the well has an image beyond them, as a mirror shows it:
the flow of both together passes along the side and nowhere through it.
"""

from __future__ import annotations

from functools import cached_property
from itertools import combinations
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.model import Model
from inkhorn.space import Fans

__all__ = ["Bore", "NearWells", "Sources"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_AROUND = 6.5  # distances to the farthest neighbour, within which a well's radial flow is told from the rest
_STILL = 1e-12  # m³/day: a well of less is idle
_SAME = 1e-6  # of directions, and of distances over the farthest: sides that are on one line
_NEVER = -1e300  # m, radius of what nothing can meet


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


class Sources(NamedTuple):
    """Where radial flow comes from or goes to: wells, then their images in closed sides.

    Attributes
    ----------
    x, y : ndarray of float, (n,)
        [m].
    flow : ndarray of float, (n,)
        Into the aquifer [m³/day].
    radius : ndarray of float, (n,)
        Of wells [m]; below nothing for images, which no particle meets.
    cosine, sine : ndarray of float, (n,)
        Direction of the greatest conductivity.
    ratio : ndarray of float, (n,)
        Root of the least conductivity over the greatest.
    """

    x: Array
    y: Array
    flow: Array
    radius: Array
    cosine: Array
    sine: Array
    ratio: Array

    @property
    def place(self) -> Array:
        """(n, 2) [m]"""
        return np.column_stack([self.x, self.y])

    @property
    def stretch(self) -> Array:
        """What turns arms from each to as they are where conductivity is the same all round, (n, 2, 2)."""
        root = np.sqrt(self.ratio)
        one = np.stack([self.cosine, self.sine], axis=1)
        two = np.stack([-self.sine, self.cosine], axis=1)
        return np.asarray(
            np.einsum("n,ni,nj->nij", root, one, one) + np.einsum("n,ni,nj->nij", 1.0 / root, two, two)
        )


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
        # cells around wells, and images, which stay where they are
        self._known: dict[int, tuple[list[int], Array]] = {}

    def around(self, bore: Bore) -> tuple[Index, Index, Sources]:
        """Which triangles are near wells, near which of some sources, and these."""
        grid, fans, sources = self.grid, self.fans, self._wells(bore)
        near = np.full(len(self.number) * len(fans), -1, dtype=np.int64)
        busy = np.flatnonzero(np.abs(bore.flow) > _STILL)
        if not len(busy):
            return near, np.full((0, 1), -1, dtype=np.int64), sources
        of_cell: dict[int, list[int]] = {}
        whose, images = list[int](), [np.empty((0, 2))]
        for b in busy.tolist():
            if b not in self._known:
                own = int(bore.cell[b])
                about = self._about(own, (float(bore.x[b]), float(bore.y[b])))
                self._known[b] = self._mirrored(own, about, sources.place[b], sources.stretch[b])
            cells_, mirrored = self._known[b]
            first = len(bore.cell) + len(whose)
            both = [b, *range(first, first + len(mirrored))]
            whose += [b] * len(mirrored)
            images.append(mirrored)
            for one in cells_:
                of_cell.setdefault(one, []).extend(both)
        sources = _with_images(sources, np.array(whose, dtype=np.int64), np.concatenate(images))
        most = max(len(v) for v in of_cell.values())
        around = np.full((len(of_cell), most), -1, dtype=np.int64)
        row_of_cell = np.full(grid.n_cells, -1, dtype=np.int64)
        for row, (one, wells) in enumerate(of_cell.items()):
            around[row, : len(wells)] = wells
            row_of_cell[one] = row
        cell = self.number[:, fans.cell]
        near = np.where(cell >= 0, row_of_cell[np.maximum(cell, 0)], -1).ravel()
        return near, around, sources

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

    @cached_property
    def _closed(self) -> tuple[Index, Index]:
        """The outer faces that no term opens, by the cell whose they are, and where those of each cell begin."""
        closed = np.ones(len(self.grid.outer_faces), dtype=bool)
        for term in self.model.terms:
            closed[term.outer_face[term.outer_face >= 0]] = False
        faces = np.flatnonzero(closed)
        order = faces[np.argsort(self.grid.outer_faces.cell[faces], kind="stable")]
        cell = self.grid.outer_faces.cell[order]
        return order, np.searchsorted(cell, np.arange(self.grid.n_cells + 1))

    def _mirrored(self, cell: int, about: list[int], place: Array, stretch: Array) -> tuple[list[int], Array]:
        """Leave out of the cells around a well those with closed sides that no image serves; return the images, too.

        The nearest straight line of closed sides is a mirror, and so are those at right angles to it and those opposite,
        with the images in the corners between them. In cells at other closed sides the flow is taken as cells have it.

        Returns
        -------
        about : list of int
        images : ndarray of float, (n, 2)
            [m]
        """
        faces, none = self.grid.outer_faces, np.empty((0, 2))
        order, starts = self._closed
        mine = np.concatenate([order[starts[one] : starts[one + 1]] for one in about])
        if not len(mine):
            return about, none
        back = np.linalg.inv(stretch)
        normal = faces.normal[mine] @ back
        normal /= np.linalg.norm(normal, axis=1)[:, None]
        distance = np.einsum("ni,ni->n", normal, (faces.middle[mine] - place) @ stretch)
        same = np.round(np.column_stack([normal, distance / np.abs(distance).max()]) / _SAME).astype(np.int64)
        _, lines, line = np.unique(same, axis=0, return_index=True, return_inverse=True)
        normal, distance = normal[lines], distance[lines]
        chosen = list[int]()
        for k in np.argsort(distance).tolist():
            across = normal[chosen] @ normal[k]
            fits = (np.abs(across) < _SAME) | (across < -1.0 + _SAME)
            if distance[k] > 0.0 and fits.all() and len(chosen) < 4:
                chosen.append(k)
        arms = [2.0 * distance[k] * normal[k] for k in chosen]
        corners = [
            one + other for one, other in combinations(arms, 2) if abs(one @ other) < _SAME * (one @ one)
        ]
        images = place + np.reshape([*arms, *corners], (-1, 2)) @ back
        if (self.grid.mesh.locate(images[:, 0], images[:, 1]) >= 0).any():  # around a corner that juts in
            chosen, images = [], none
        left = set(faces.cell[mine[~np.isin(line, chosen)]].tolist()) - {cell}
        return [one for one in about if one not in left], images

    def take_from(self, outer: Array, near: Index, around: Index, sources: Sources) -> None:
        """Take from the flow through sides near wells what radial flow carries there."""
        fans = self.fans
        mine = np.flatnonzero(near >= 0)
        if not len(mine):
            return
        for column in range(around.shape[1]):
            well = around[near[mine], column]
            some = mine[well >= 0]
            well = well[well >= 0]
            place = sources.place[well] - fans.origin
            stretch = sources.stretch[well]
            for k in range(3):
                a, b = (
                    np.einsum("nij,nj->ni", stretch, fans.corner[some, (k + j) % 3] - place) for j in (1, 2)
                )
                angle = np.arctan2(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0], (a * b).sum(axis=1))
                outer[some, k] -= sources.flow[well] * angle / (2.0 * np.pi)

    def _wells(self, bore: Bore) -> Sources:
        """Wells, with the direction of the greatest conductivity around each and the root of least over greatest."""
        model, n = self.model, self.grid.n_cells
        ratio = np.broadcast_to(np.asarray(model.anisotropy, dtype=np.float64), n)[bore.cell]
        angle = np.deg2rad(np.broadcast_to(np.asarray(model.direction, dtype=np.float64), n)[bore.cell])
        return Sources(
            bore.x, bore.y, bore.flow, bore.radius, np.cos(angle), np.sin(angle), 1.0 / np.sqrt(ratio)
        )


def _with_images(wells: Sources, whose: Index, place: Array) -> Sources:
    """Wells, then images of some of them."""
    images = Sources(*(v[whose] for v in wells))._replace(
        x=place[:, 0], y=place[:, 1], radius=np.full(len(whose), _NEVER)
    )
    return Sources(*(np.concatenate(both) for both in zip(wells, images, strict=True)))
