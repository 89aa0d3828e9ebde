"""The flow inside cells: through every side of their triangles, from what crosses their outlines."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.space import Fans, fan_flow

__all__ = ["Within"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


class Within:
    """What divides the flow through the outlines of cells among the sides of their triangles, with the least energy.

    In a fan as of `fan_flow`; in a cell that is joined of several one circulation around every place inside is free, and
    the least energy decides. So an even flow stays even on any mesh.

    Parameters
    ----------
    fans : Fans
        Triangles of the plan cells.
    group : ndarray of int, (n_plan,)
        The cell that each plan cell belongs to, where several are joined; else its own number.
    """

    def __init__(self, fans: Fans, group: Index) -> None:
        self.fans, self.group = fans, group[fans.cell]
        alone = np.bincount(group)[group] == 1
        self.fan = (fans.regular & alone)[fans.cell]
        beyond = np.where(fans.beyond >= 0, self.group[np.maximum(fans.beyond, 0)], -1)
        self.inner = beyond == self.group[:, None]
        self.some = np.flatnonzero(~self.fan)
        self._whole: _Whole | None = None

    def fluxes(self, outer: Array, divergence: Array) -> Array:
        """Return what flows out through each side of each triangle, (n, 3) [m³/day].

        Parameters
        ----------
        outer : ndarray of float, (n, 3)
            Through the sides that are none inside a cell [m³/day].
        divergence : ndarray of float, (n,)
            What each triangle gives more than it gets, a metre of plan [m/day]; made to fit the sum over each cell.
        """
        fans = self.fans
        flux = np.where(self.inner, 0.0, outer)
        source = divergence * fans.area
        n = len(fans.first) - 1
        missing = np.bincount(self.group, flux.sum(axis=1) - source, n)
        whole = np.bincount(self.group, fans.area, n)
        source = source + fans.area * (missing / np.where(whole > 0, whole, 1.0))[self.group]
        if self.fan.any():
            mine = self.fan
            flux[mine] = fan_flow(
                fans.corner[mine], fans.cell[mine], flux[mine, 0], source[mine], fans.mass[mine]
            )
        if len(self.some):
            if self._whole is None:
                self._whole = _Whole(fans, self.some, self.inner)
            flux[self.some] = self._whole.fluxes(flux[self.some], source[self.some])
        return flux


class _Whole:
    """The same for cells of any triangles: potentials that give each its source, then the least energy.

    Parameters
    ----------
    some : ndarray of int
        The triangles.
    inner : ndarray of bool, (n, 3)
        Which sides of all triangles are inside cells.
    """

    def __init__(self, fans: Fans, some: Index, inner: NDArray[np.bool_]) -> None:
        from scipy.sparse import coo_array, csgraph
        from scipy.sparse.linalg import splu

        number = np.full(len(fans), -1)
        number[some] = np.arange(len(some))
        self.inner = inner[some]
        self.area = fans.area[some]
        triangle, side = np.nonzero(self.inner)
        other = number[fans.beyond[some[triangle], side]]
        self.triangle, self.side, self.other = triangle, side, other
        n = len(some)
        links = coo_array((np.ones(len(triangle)), (triangle, other)), shape=(n, n)).tocsr()
        self.parts, self.part = csgraph.connected_components(links, directed=False)
        pinned = np.zeros(n)
        pinned[np.unique(self.part, return_index=True)[1]] = 1.0
        degree = np.bincount(triangle, minlength=n) + pinned
        diagonal = coo_array((degree, (np.arange(n), np.arange(n))), shape=(n, n))
        self.potentials = splu((diagonal - links).tocsc())
        # places inside cells, around which water may go round
        corner = fans.corner[some]
        grain = 1e-6 * np.sqrt(self.area.max())
        key = np.round(corner.reshape(-1, 2) / grain).astype(np.int64)
        key = np.column_stack([np.repeat(self.part, 3), key])
        _, node = np.unique(key, axis=0, return_inverse=True)
        node = node.reshape(n, 3)
        free = np.ones(node.max() + 1, dtype=bool)
        closed = ~self.inner
        for k in range(3):
            free[node[closed[:, k], (k + 1) % 3]] = False
            free[node[closed[:, k], (k + 2) % 3]] = False
        self.count = int(free.sum())
        if not self.count:
            return
        place = np.where(free, np.cumsum(free) - 1, -1)[node]
        # out of side k goes what the stream function rises by along it
        rows, columns, values = [], [], []
        for k in range(3):
            for corner_, sign in (((k + 2) % 3, 1.0), ((k + 1) % 3, -1.0)):
                at = place[:, corner_]
                there = at >= 0
                rows.append(3 * np.flatnonzero(there) + k)
                columns.append(at[there])
                values.append(np.full(int(there.sum()), sign))
        shape = (3 * n, self.count)
        self.stream = coo_array(
            (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=shape
        ).tocsr()
        block = np.arange(3 * n).reshape(n, 3)
        mass = coo_array(
            (
                fans.mass[some].ravel(),
                (np.repeat(block, 3, axis=1).ravel(), np.tile(block, (1, 3)).ravel()),
            ),
            shape=(3 * n, 3 * n),
        ).tocsr()
        self.row = (self.stream.T @ mass).tocsr()
        self.energy = splu((self.row @ self.stream).tocsc())

    def fluxes(self, outer: Array, source: Array) -> Array:
        flux = np.where(self.inner, 0.0, outer)
        rest = source - flux.sum(axis=1)
        whole = np.bincount(self.part, self.area, self.parts)
        rest = rest - self.area * (np.bincount(self.part, rest, self.parts) / whole)[self.part]
        level = self.potentials.solve(rest)
        flux[self.triangle, self.side] = level[self.triangle] - level[self.other]
        if self.count:
            round_: Any = self.energy.solve(-(self.row @ flux.ravel()))
            flux = flux + (self.stream @ round_).reshape(-1, 3)
        return flux
