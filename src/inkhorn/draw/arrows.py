"""Arrows of flow over a map."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.scales import NUMBER
from inkhorn.draw.style import INK, halo
from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["flow_arrows"]

_LONGEST = 1.6  # over the length that nine in ten keep below
_KEY = (1.02, 0.54)  # beside the map, between colour bar and legend


def flow_arrows(
    flow: FlowResult, cells: NDArray[np.int64], *, step: int = -1, across: int = 30, ax: Axes
) -> Axes:
    """Draw Darcy's flux over a map as arrows, one for each square, the mean of the cells whose centres lie in it.

    Lengths go with the flux up to one and a half times what nine in ten keep below; a key beside the map tells it.

    Parameters
    ----------
    flow : FlowResult
        Flows.
    cells : ndarray of int, (n_plan,)
        The cell whose flux is shown in each plan cell, -1 for none.
    step : int
        Which step.
    across : int
        Squares along the longer side of the map.
    ax : Axes
        A map.

    Returns
    -------
    Axes
    """
    flux = flow.darcy_flux(step)[:, :2]
    shown = cells[cells >= 0]
    shown = shown[np.isfinite(flux[shown]).all(axis=1)]
    west, east = ax.get_xlim()
    south, north = ax.get_ylim()
    side = max(east - west, north - south) / across
    own = flow.model.grid.cells
    square = np.floor((own.x[shown] - west) / side) + 1e4 * np.floor((own.y[shown] - south) / side)
    _, home = np.unique(square, return_inverse=True)
    area = np.bincount(home, own.area[shown])
    x, y, u, v = (
        np.bincount(home, own.area[shown] * of) / area
        for of in (own.x[shown], own.y[shown], flux[shown, 0], flux[shown, 1])
    )
    speed = np.hypot(u, v)
    if not speed.any():
        return ax
    usual = _round(float(np.quantile(speed[speed > 0], 0.9)))
    length = 0.95 * side * np.minimum(speed / usual, _LONGEST)
    kept = length > 0.12 * side
    scale = length[kept] / speed[kept]
    ax.quiver(
        x[kept], y[kept], scale * u[kept], scale * v[kept], angles="xy", scale_units="xy", scale=1.0, pivot="mid",
        width=0.0016, headwidth=5.0, minlength=0.1, color=INK, zorder=3.5, path_effects=halo(1.2),
    )  # fmt: skip
    reach = 0.95 * side / (east - west)
    ax.annotate(
        "", (_KEY[0] + reach, _KEY[1]), _KEY, xycoords="axes fraction", annotation_clip=False,
        arrowprops={"arrowstyle": "-|>", "color": INK, "lw": 1.2, "shrinkA": 0, "shrinkB": 0},
    )  # fmt: skip
    ax.text(
        _KEY[0] + reach + 0.01, _KEY[1], f"{usual:g} m/day", transform=ax.transAxes, va="center", fontsize=8,
        color=INK, gid=f"{NUMBER} [m/day]",
    )  # fmt: skip
    ax.text(_KEY[0], _KEY[1] + 0.02, "Darcy flux", transform=ax.transAxes, fontsize=8, color=INK)
    return ax


def _round(value: float) -> float:
    """The nearest of 1, 2 and 5 times a power of ten."""
    power = 10.0 ** np.floor(np.log10(value))
    return float(min((1.0, 2.0, 5.0, 10.0), key=lambda k: abs(np.log(k * power / value))) * power)
