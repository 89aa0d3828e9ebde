"""Advection and dispersion across faces, from a flow solution."""

from __future__ import annotations

from dataclasses import KW_ONLY, dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_nonnegative
from inkhorn.flow import FlowResult
from inkhorn.transport.mixing import passed_on
from inkhorn.units import plain

if TYPE_CHECKING:
    from inkhorn.units import WithUnit

__all__ = ["Dispersion", "cell_discharge", "exchange_matrix", "face_dispersion", "numerical_spreading"]


@dataclass(frozen=True)
class Dispersion:
    """How a dissolved species spreads.

    Parameters
    ----------
    longitudinal, transverse, vertical : float
        Dispersivity along the flow, across it, and across it upwards [m].
    diffusion : float
        Molecular diffusion in the pores [m²/day].
    """

    longitudinal: WithUnit = 0.0
    transverse: WithUnit = 0.0
    vertical: WithUnit = 0.0
    _: KW_ONLY
    diffusion: WithUnit = 0.0

    def __post_init__(self) -> None:
        for name in ("longitudinal", "transverse", "vertical", "diffusion"):
            kind = "diffusion" if name == "diffusion" else "length"
            object.__setattr__(self, name, plain(getattr(self, name), kind, name))
        for name in ("longitudinal", "transverse", "vertical"):
            check_nonnegative(f"dispersivity {name}", getattr(self, name), unit="m")
        check_nonnegative("diffusion", self.diffusion, unit="m²/day")


def cell_discharge(flow: FlowResult, step: int = -1) -> NDArray[np.float64]:
    """Return the discharge per area in each cell, (n_cells, 3) [m/day].

    The mean over the water in the cell, ``sum of outward flow * (face - centre) / volume``, is exact
    where the flow varies linearly.
    """
    model, record = flow.model, flow.steps[step]
    grid, cells, faces = model.grid, model.grid.cells, model.grid.faces
    height = flow.filled(step) * cells.thickness
    moment = np.zeros((grid.n_cells, 3))
    for side, sign in ((0, 1.0), (1, -1.0)):
        c = faces.cells[:, side]
        arm = sign * faces.distance[:, side, None] * faces.normal
        arm[faces.is_floor, 2] = -sign * 0.5 * height[c[faces.is_floor]]
        np.add.at(moment, c, (sign * record.face_flow)[:, None] * arm)
    for term, entry in zip(model.terms, record.term_flow, strict=True):
        top = (term.crossing == "top") & ~term.holds  # what holds a cell may stand for a side as well
        np.add.at(moment[:, 2], term.cells[top], (-entry * 0.5 * height[term.cells])[top])
        through = np.flatnonzero(term.outer_face >= 0)
        if len(through):
            outer, face = grid.outer_faces, term.outer_face[through]
            arm = outer.distance[face, None] * outer.normal[face]
            np.add.at(moment[:, :2], term.cells[through], -entry[through, None] * arm)
    return moment / (cells.area * height)[:, None]


def face_dispersion(flow: FlowResult, dispersion: Dispersion, step: int = -1) -> NDArray[np.float64]:
    """Return the dispersive conductance of each face, (n_faces,) [m³/day].

    Dispersion acts along the line between the centres only: the part of the tensor across it is
    left out, so that concentrations stay within their bounds.

    References
    ----------
    Burnett, R. D. and Frind, E. O. (1987), Simulation of contaminant transport in three dimensions 2,
    Water Resources Research 23(4), 695-705, eq. 2 (two transverse dispersivities).
    """
    model, faces = flow.model, flow.model.grid.faces
    assert model.porosity is not None
    share = flow.filled(step)[faces.cells].min(axis=1)
    area = np.where(faces.is_floor, faces.area, faces.area * share)
    q = cell_discharge(flow, step)[faces.cells].mean(axis=1)
    normal = flow.steps[step].face_flow / area
    # the face's own flow along its normal, the mean of both cells across it
    q = q - (q * faces.normal).sum(axis=1)[:, None] * faces.normal + normal[:, None] * faces.normal
    speed = np.linalg.norm(q, axis=1)
    along = normal**2
    upward = np.where(faces.is_floor, 0.0, q[:, 2] ** 2)
    across = np.maximum(speed**2 - along - upward, 0.0)
    s = dispersion
    side = s.longitudinal * along + s.transverse * across + s.vertical * upward
    floor = s.longitudinal * along + s.vertical * across
    mixing = np.where(faces.is_floor, floor, side) / np.where(speed > 0, speed, 1.0)
    porosity = model.porosity[faces.cells].mean(axis=1)
    return area * (mixing + porosity * s.diffusion) / faces.distance.sum(axis=1)


def numerical_spreading(flow: FlowResult, step_length: float, step: int = -1) -> tuple[float, float]:
    """Return how much the scheme itself spreads, as dispersivities along and across the flow in plan [m].

    Upstream weights act as a mixing by half the flow through each face, implicit steps as one along the way that is gone
    in half a step. The median over the water that moves.

    Parameters
    ----------
    flow : FlowResult
        With porosity.
    step_length : float
        Of transport [day].
    """
    model, record = flow.model, flow.steps[step]
    grid, faces = model.grid, model.grid.faces
    side = np.flatnonzero(~faces.is_floor)
    volume = grid.cells.volume * flow.filled(step)
    apart = faces.distance[side].sum(axis=1)
    mixing = 0.25 * np.abs(record.face_flow[side]) * apart**2
    normal, tensor = faces.normal[side, :2], np.zeros((grid.n_cells, 2, 2))
    for i, j in ((0, 0), (0, 1), (1, 0), (1, 1)):
        for end in (0, 1):
            tensor[:, i, j] += np.bincount(
                faces.cells[side, end], mixing * normal[:, i] * normal[:, j], grid.n_cells
            )
    q = flow.darcy_flux(step)[:, :2]
    speed = np.hypot(q[:, 0], q[:, 1])
    moving = np.isfinite(speed) & (speed > 1e-12) & (volume > 0.0)
    if not moving.any():
        return 0.0, 0.0
    along = q[moving] / speed[moving, None]
    across = np.column_stack([-along[:, 1], along[:, 0]])
    tensor = tensor[moving] / volume[moving, None, None] / speed[moving, None, None]
    porosity = np.asarray(model.porosity)[moving]
    spread = np.einsum("ni,nij,nj->n", along, tensor, along) + 0.5 * speed[moving] * step_length / porosity
    sideways = np.einsum("ni,nij,nj->n", across, tensor, across)
    weight = speed[moving] * volume[moving]

    def middle(values: NDArray[np.float64]) -> float:
        order = np.argsort(values)
        return float(values[order][np.searchsorted(np.cumsum(weight[order]), 0.5 * weight.sum())])

    return middle(spread), middle(sideways)


def exchange_matrix(flow: FlowResult, dispersion: Dispersion, step: int = -1) -> Any:
    """Return the sparse matrix of what each cell loses, (n_cells, n_cells) [m³/day].

    ``matrix @ concentration`` is the mass that leaves each cell less what arrives from its neighbours
    [g/day]: upstream advection, dispersion, and what terms take out; wells give back the mix of what they take from
    other cells.

    Raises
    ------
    InputError
        If porosity is missing.
    """
    from scipy.sparse import coo_array

    model, record = flow.model, flow.steps[step]
    if model.porosity is None:
        raise InputError("transport needs a porosity. Give one for every material (or to Model).")
    a, b = model.grid.faces.cells.T
    n = model.grid.n_cells
    mixing = face_dispersion(flow, dispersion, step)
    from_a = np.maximum(record.face_flow, 0.0) + mixing
    from_b = np.maximum(-record.face_flow, 0.0) + mixing
    rows, columns, values = [a, b, b, a], [a, a, b, b], [from_a, -from_a, from_b, -from_b]
    for term, entry in zip(model.terms, record.term_flow, strict=True):
        rows.append(term.cells)
        columns.append(term.cells)
        values.append(np.maximum(-entry, 0.0))
    lost = coo_array(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=(n, n)
    ).tocsr()
    return (lost - passed_on(model, record)).tocsr()
