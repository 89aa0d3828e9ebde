"""Velocities on the faces of rectangular cells, from a flow solution."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow import FlowResult
from inkhorn.space import RectangularMesh

__all__ = ["FaceVelocities", "face_velocities"]

CLOSED, OUT_BY_TOP = -1, -2


@dataclass(frozen=True, eq=False)
class FaceVelocities:
    """What a particle needs to know of every cell.

    Attributes
    ----------
    low, high : ndarray of float, (n_cells, 3)
        Corners of the water in each cell, along the mesh's own axes and in z from its bottom to the
        water table or its top [m].
    velocity : ndarray of float, (n_cells, 3, 2)
        Of the water on the low and high face along x, y and z [m/day].
    neighbour : ndarray of int, (n_cells, 3, 2)
        The cell beyond each face; -1 closed, -2 out of the aquifer by its top.
    """

    low: NDArray[np.float64]
    high: NDArray[np.float64]
    velocity: NDArray[np.float64]
    neighbour: NDArray[np.int64]


def face_velocities(flow: FlowResult, step: int = -1) -> FaceVelocities:
    """Return the velocities of a step.

    Raises
    ------
    InputError
        If the flow goes through time, the cells are not rectangular, or porosity is missing.
    """
    model, record = flow.model, flow.steps[step]
    if not record.steady:
        raise InputError("particle paths follow steady flow so far; this step is one in time.")
    grid, cells, faces = model.grid, model.grid.cells, model.grid.faces
    if not isinstance(grid.mesh, RectangularMesh):
        raise InputError("particle paths need rectangular cells. Use a mesh made by `rectangles`.")
    if grid.mesh.outline is not None:
        raise InputError('particle paths need whole rectangles. Make the mesh with keep="centre" or a share.')
    if model.porosity is None:
        raise InputError("particle paths need a porosity. Give one for every material (or to Model).")
    n = grid.n_cells
    row, column = grid.mesh.row_column
    x, y = grid.mesh.x_edges, grid.mesh.y_edges
    column, row = column[cells.plan_cell], row[cells.plan_cell]
    height = flow.filled(step) * cells.thickness
    low = np.column_stack([x[column], y[row], cells.bottom])
    high = np.column_stack([x[column + 1], y[row + 1], cells.bottom + height])

    discharge = np.zeros((n, 3, 2))
    neighbour = np.full((n, 3, 2), CLOSED, dtype=np.int64)
    turn = np.deg2rad(grid.mesh.rotation)
    normal = faces.normal @ np.array(
        [[np.cos(turn), -np.sin(turn), 0.0], [np.sin(turn), np.cos(turn), 0.0], [0.0, 0.0, 1.0]]
    )
    axis = np.argmax(np.abs(normal), axis=1)
    first, second = faces.cells.T
    up = normal[np.arange(len(faces)), axis] > 0
    out_side, in_side = np.where(up, 1, 0), np.where(up, 0, 1)
    signed = np.where(up, record.face_flow, -record.face_flow)
    discharge[first, axis, out_side] = signed
    discharge[second, axis, in_side] = signed
    neighbour[first, axis, out_side] = second
    neighbour[second, axis, in_side] = first
    for term, entry in zip(model.terms, record.term_flow, strict=True):
        open_top = (term.crossing == "top") & (neighbour[term.cells, 2, 1] < 0)
        c = term.cells[open_top]
        np.add.at(discharge, (c, 2, 1), -entry[open_top])
        neighbour[c, 2, 1] = OUT_BY_TOP

    span = high - low
    area = np.column_stack([span[:, 1] * span[:, 2], span[:, 0] * span[:, 2], span[:, 0] * span[:, 1]])
    velocity = discharge / (model.porosity[:, None] * area)[:, :, None]
    return FaceVelocities(low, high, velocity, neighbour)
