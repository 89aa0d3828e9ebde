"""The cells that observation bores read."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import place_words
from inkhorn.site import Bore
from inkhorn.space import Grid

__all__ = ["bore_cells", "why_no_cell"]

Index = NDArray[np.int64]


def bore_cells(grid: Grid, bore: Bore) -> Index:
    """Return the cells that a bore reads, from the top down: those of its layer, or those that its screen meets.

    None where its place lies outside the cells, or its layer is absent there.
    """
    plan = int(grid.mesh.locate(np.array([bore.x]), np.array([bore.y]))[0])
    if plan < 0:
        return np.empty(0, dtype=np.int64)
    if bore.layer:
        found = grid.cell_number[list(grid.layers_named(bore.layer, f'bore "{bore.name}"')), plan]
        return np.asarray(found[found >= 0])
    cells = grid.column_of(plan)
    low, high = bore.screen
    meets = (grid.cells.bottom[cells] < high) & (grid.cells.top[cells] > low)
    return np.asarray(cells[meets])


def why_no_cell(grid: Grid, bore: Bore) -> str:
    """Return why a bore reads no cell, in words; nothing if it reads one."""
    if len(bore_cells(grid, bore)):
        return ""
    if grid.mesh.locate(np.array([bore.x]), np.array([bore.y]))[0] < 0:
        return f"{place_words(float(bore.x), float(bore.y))} lies outside the cells"
    if bore.layer:
        return f'its layer "{bore.layer}" is absent there'
    return "its screen meets no cell there"
