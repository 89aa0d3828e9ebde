"""Plan meshes of larger cells, each made of several of a finer mesh."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.space.mesh import PlanEdges, PlanMesh
from inkhorn.space.rim import OuterEdges, outer_edges

__all__ = ["MergedMesh", "pairs_once"]


@dataclass(frozen=True, eq=False)
class MergedMesh:
    """Cells of a plan mesh joined to larger ones.

    Parameters
    ----------
    fine : PlanMesh
        The mesh they are made of.
    group : ndarray of int, (n_fine,)
        The larger cell that each cell belongs to, numbered from 0.
    """

    fine: PlanMesh
    group: NDArray[np.int64]

    @property
    def n_cells(self) -> int:
        return int(self.group.max()) + 1

    @cached_property
    def area(self) -> NDArray[np.float64]:
        return np.asarray(np.bincount(self.group, self.fine.area), dtype=np.float64)

    @cached_property
    def centroid(self) -> NDArray[np.float64]:
        fine = self.fine
        moment = [np.bincount(self.group, fine.area * fine.centroid[:, k]) for k in (0, 1)]
        return np.column_stack(moment) / self.area[:, None]

    @property
    def x(self) -> NDArray[np.float64]:
        return np.asarray(self.centroid[:, 0])

    @property
    def y(self) -> NDArray[np.float64]:
        return np.asarray(self.centroid[:, 1])

    def edges(self) -> PlanEdges:
        """Return one edge between any two larger cells that touch.

        What flows through a border of several pieces under an even flow flows through the straight line between its
        ends, too; that is the edge: as long as the sum of the pieces as vectors, about their common middle.
        """
        fine = self.fine.edges()
        pair = self.group[fine.cells]
        between = pair[:, 0] != pair[:, 1]
        sign = np.where(pair[between, 0] > pair[between, 1], -1.0, 1.0)
        pair, first, whole = pairs_once(pair[between])
        length, count = fine.length[between], len(pair)
        across = (sign * length)[:, None] * fine.normal[between]
        middle = length[:, None] * fine.middle[between]
        border = np.asarray(np.bincount(whole, length, count), dtype=np.float64)
        across, middle = (
            np.column_stack([np.bincount(whole, v[:, k], count) for k in (0, 1)]) for v in (across, middle)
        )
        middle = middle / border[:, None]
        straight = np.hypot(across[:, 0], across[:, 1])
        closed = straight <= 1e-9 * border  # one cell within another
        across[closed] = fine.normal[between][first[closed]]
        normal = across / np.hypot(across[:, 0], across[:, 1])[:, None]
        along = 0.5 * straight[:, None] * np.column_stack([-normal[:, 1], normal[:, 0]])
        arm = middle[:, None] - self.centroid[pair]
        distance = np.abs((arm * normal[:, None]).sum(axis=2))
        return PlanEdges(pair, np.stack([middle - along, middle + along], axis=1), distance, normal)

    def outer_edges(self) -> OuterEdges:
        """Return the sides on the rim: those of the parts."""
        rim = outer_edges(self.fine)
        cell = self.group[rim.cell]
        return OuterEdges(
            cell,
            rim.ends,
            rim.normal,
            ((rim.ends[:, 0] - self.centroid[cell]) * rim.normal).sum(axis=1),
        )

    @cached_property
    def _polygons(self) -> NDArray[Any]:
        import shapely

        order = np.argsort(self.group, kind="stable")
        pieces = np.split(self.fine.polygons()[order], np.cumsum(np.bincount(self.group))[:-1])
        return np.array([p[0] if len(p) == 1 else shapely.union_all(p) for p in pieces], dtype=object)

    def polygons(self) -> NDArray[Any]:
        return self._polygons

    def locate(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        found = self.fine.locate(x, y)
        return np.where(found >= 0, self.group[np.maximum(found, 0)], -1)

    def equivalent_radius(self, cells: NDArray[np.int64]) -> NDArray[np.float64]:
        """Return that of a square of the same area, (n,) [m]; see `RectangularMesh.equivalent_radius`."""
        return np.asarray(0.14 * np.sqrt(2.0 * self.area[cells]))


def pairs_once(pair: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Return pairs of cells (n, 2), the lower number first, each once; where each stood first, and which one each is."""
    pair = np.sort(pair, axis=1)
    code = pair[:, 0] * (pair.max(initial=0) + 1) + pair[:, 1]
    _, first, whole = np.unique(code, return_index=True, return_inverse=True)
    return pair[first], first, whole.ravel()
