"""Plan meshes of larger cells, each made of several of a finer mesh."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.space.mesh import PlanEdges, PlanMesh

__all__ = ["MergedMesh"]


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
        """Return the edges of the parts that lie between two larger cells, pieces in one line joined."""
        fine = self.fine.edges()
        pair = self.group[fine.cells]
        between = pair[:, 0] != pair[:, 1]
        turned = pair[between, 0] > pair[between, 1]
        pair = np.sort(pair[between], axis=1)
        normal = np.where(turned[:, None], -1.0, 1.0) * fine.normal[between]
        ends, length = fine.ends[between], fine.length[between]
        key = np.column_stack([pair, np.round(normal, 9)])
        _, first, line = np.unique(key, axis=0, return_index=True, return_inverse=True)
        line = line.ravel()
        tangent = np.column_stack([-normal[:, 1], normal[:, 0]])
        reach = (ends * tangent[:, None]).sum(axis=2)
        low, high = np.full(len(first), np.inf), np.full(len(first), -np.inf)
        np.minimum.at(low, line, reach.min(axis=1))
        np.maximum.at(high, line, reach.max(axis=1))
        joined = np.isclose(np.bincount(line, length), high - low, rtol=1e-9)
        foot = (ends[:, 0] * normal).sum(axis=1)[:, None] * normal
        whole = np.stack(
            [foot[first] + low[:, None] * tangent[first], foot[first] + high[:, None] * tangent[first]],
            axis=1,
        )[joined]
        apart = ~joined[line]  # with a gap between them: each piece for itself
        taken = np.concatenate([first[joined], np.flatnonzero(apart)])
        pair, normal = pair[taken], normal[taken]
        ends = np.concatenate([whole, ends[apart]])
        arm = ends.mean(axis=1)[:, None] - self.centroid[pair]
        distance = np.abs((arm * normal[:, None]).sum(axis=2))
        return PlanEdges(pair, ends, distance, normal)

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
