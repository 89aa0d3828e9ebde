"""Elevations of a grid changed by hand, before anything is placed on it."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.placing.edits import chosen_cells, edit_row
from inkhorn.model.zones import ZoneMap
from inkhorn.site import Edit, Series
from inkhorn.space import Grid

__all__ = ["ELEVATIONS", "with_edited_elevations"]

Array = NDArray[np.float64]

ELEVATIONS = ("base", "ground")
"""What an edit may be of besides properties and inputs: the base of a layer, the top of the uppermost cell."""


def _over_plan(grid: Grid, cells: NDArray[np.int64], values: Array) -> Array:
    """Values of cells in every plan cell of theirs, NaN elsewhere, (n_layers, n_plan)."""
    whole = np.full(grid.n_cells + 1, np.nan)  # the last one is read where nothing is present
    whole[cells] = values
    return whole[grid.cell_number]


def _lowered(grid: Grid, base: Array) -> tuple[Array, Array]:
    """Top and bottom with some bases moved; the top of what lies beneath moves with them."""
    top, bottom = grid.top.copy(), grid.bottom.copy()
    rise = np.zeros(grid.mesh.n_cells)  # of the floor over the layer in hand
    for k in range(len(bottom)):
        there = grid.cell_number[k] >= 0
        moved = rise
        if k in grid.joined:
            group, area = grid.joined[k], grid.mesh.area
            moved = (np.bincount(group, area * rise) / np.bincount(group, area))[group]
        top[k, there] += moved[there]
        new = np.where(np.isfinite(base[k]), base[k], bottom[k])
        apart = np.zeros(len(there), dtype=bool) if grid.taken_out is None else grid.taken_out[k]
        rise = np.where(there, new - bottom[k], np.where(apart, 0.0, rise))
        bottom[k] = new
    return top, bottom


def with_edited_elevations(
    grid: Grid, edits: Iterable[Edit], zones: Mapping[str, ZoneMap]
) -> tuple[Grid, list[dict[str, Any]]]:
    """Make those edits that are of elevations, one after the other.

    Returns
    -------
    grid : Grid
        Changed.
    report : list of dict
        A row for each edit, as in `edit_row`.

    Raises
    ------
    InputError
        If an edit meets nothing, or leaves a cell without thickness.
    """
    report = []
    for edit in (e for e in edits if e.of in ELEVATIONS):
        if isinstance(edit.value, Series):
            raise InputError(f"{edit.where}: elevations do not change in time. Give one number or a surface.")
        cells = np.arange(grid.n_cells)
        if edit.of == "ground":
            cells = np.unique(grid.uppermost[grid.uppermost >= 0])
        cells = cells[chosen_cells(edit, grid, zones, cells)]
        if not len(cells):
            continue
        of = grid.cells
        new = edit.changed(
            of.top[cells] if edit.of == "ground" else of.bottom[cells], of.x[cells], of.y[cells]
        )
        moved = _over_plan(grid, cells, new)
        if edit.of == "ground":
            top, bottom = np.where(np.isfinite(moved), moved, grid.top), grid.bottom
        else:
            top, bottom = _lowered(grid, moved)
        try:
            grid = dataclasses.replace(grid, top=top, bottom=bottom)
        except InputError as problem:
            raise InputError(f"{edit.where}: {problem}") from None
        report.append(edit_row(edit, len(cells)))
    return grid, report
