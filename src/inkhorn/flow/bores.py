"""Levels in observation bores: the cells that each reads, and how."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.linearised import LinearisedStep
from inkhorn.flow.quantities import AllOf, Form, Levels, OpenLevels, Quantity
from inkhorn.flow.result import FlowResult
from inkhorn.model import Model, bore_cells
from inkhorn.site import Bore
from inkhorn.space import Grid, sampling_rows

__all__ = ["BoreLevels"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


class BoreLevels(Quantity):
    """Levels in bores, in their order: read between centres of cells of one layer, or across several.

    Parameters
    ----------
    model : Model
        Where they stand.
    bores : sequence of Bore
        Each must read a cell.
    """

    def __init__(self, model: Model, bores: Sequence[Bore]) -> None:
        self.bores = tuple(bores)
        grid = model.grid
        self.cells = [bore_cells(grid, b) for b in bores]
        several = np.array([len(c) > 1 for c in self.cells], dtype=bool)
        order = np.concatenate([np.flatnonzero(~several), np.flatnonzero(several)])
        self._place = np.argsort(order)
        parts: list[Quantity] = []
        if (~several).any():
            one = np.flatnonzero(~several)
            layer = grid.cells.layer[np.concatenate([self.cells[k] for k in one])]
            rows = self._read(grid, layer, one)
            size = grid.n_cells + sum(t.n_extra for t in model.terms)
            parts.append(Levels(_widened(rows, size)))
        if several.any():
            parts.append(self._open(grid, np.flatnonzero(several)))
        self._parts = AllOf(tuple(parts))

    def _read(self, grid: Grid, layer: Any, which: Index) -> Any:
        x, y = (np.array([float(getattr(self.bores[k], a)) for k in which]) for a in "xy")
        return sampling_rows(grid, np.broadcast_to(np.asarray(layer), len(which)), x, y)

    def _open(self, grid: Grid, which: Index) -> OpenLevels:
        """Those that read several cells: by layer, the screen's part in each."""
        layers = sorted({int(k) for n in which for k in grid.cells.layer[self.cells[n]]})
        shape = (len(layers), len(which))
        cells, bottom, top = np.full(shape, -1), np.zeros(shape), np.ones(shape)
        for j, n in enumerate(which):
            low, high = self.bores[n].screen if not self.bores[n].layer else (-np.inf, np.inf)
            for cell in self.cells[n]:
                i = layers.index(int(grid.cells.layer[cell]))
                cells[i, j] = cell
                bottom[i, j] = max(grid.cells.bottom[cell], low)
                top[i, j] = min(grid.cells.top[cell], high)
        rows = tuple(self._read(grid, k, which) for k in layers)
        return OpenLevels(rows, cells, bottom, top)

    def __len__(self) -> int:
        return len(self.bores)

    def values(self, flow: FlowResult, step: int) -> Array:
        return self._parts.values(flow, step)[self._place]

    def form(self, step: LinearisedStep) -> Form:
        from scipy.sparse import csr_array

        n = len(self)
        return self._parts.form(step).scaled(
            csr_array((np.ones(n), self._place, np.arange(n + 1)), shape=(n, n))
        )


def _widened(rows: Any, size: int) -> Any:
    from scipy.sparse import csr_array

    return csr_array((rows.data, rows.indices, rows.indptr), shape=(rows.shape[0], size))
