"""How a species spreads beside being carried, and how much a scheme spreads it by itself."""

from __future__ import annotations

from dataclasses import KW_ONLY, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import check_nonnegative
from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.site import plain_by_ground
from inkhorn.transport.by_ground import by_ground

__all__ = ["Dispersion", "numerical_spreading"]

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Dispersion:
    """How a dissolved species spreads.

    Parameters
    ----------
    longitudinal, transverse, vertical : float, mapping or array_like
        Dispersivity along the flow, across it, and across it upwards [m]: one number, numbers by the names of
        materials or layers, or one for each layer or cell as `Grid.per_cell` takes them.
    diffusion : float, mapping or array_like
        In the pores, winding ways counted [m²/day].
    """

    longitudinal: Any = 0.0
    transverse: Any = 0.0
    vertical: Any = 0.0
    _: KW_ONLY
    diffusion: Any = 0.0

    def __post_init__(self) -> None:
        for name in ("longitudinal", "transverse", "vertical", "diffusion"):
            kind, unit = ("diffusion", "m²/day") if name == "diffusion" else ("length", "m")
            what = name if name == "diffusion" else f"dispersivity {name}"
            object.__setattr__(
                self, name, plain_by_ground(getattr(self, name), kind, what, check_nonnegative, unit)
            )

    def of_cells(self, model: Model) -> tuple[Array, Array, Array, Array]:
        """Return dispersivities along, across and upwards [m], and diffusion [m²/day], (n_cells,) each."""
        names = ("longitudinal", "transverse", "vertical", "diffusion")
        along, across, upwards, diffusion = (by_ground(model, n, getattr(self, n)) for n in names)
        return along, across, upwards, diffusion


def numerical_spreading(flow: FlowResult, step_length: float, step: int = -1) -> tuple[float, float]:
    """Return how much implicit steps with upstream weights spread, as dispersivities along and across the flow [m].

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
