"""Heads as a surface seen from above and aside."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.draw.blocks import bar_beside_block
from inkhorn.draw.dates import when
from inkhorn.draw.maps import check_layer, raster_of
from inkhorn.draw.style import HEADS, INK, WARN, halo
from inkhorn.errors import InputError, check_positive
from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["head_surface"]


def head_surface(
    flow: FlowResult,
    layer: str | int | None = None,
    *,
    step: int = -1,
    exaggeration: float | None = None,
    view: tuple[float, float] = (32.0, -60.0),
    ax: Any = None,
) -> Axes:
    """Draw the heads of a layer, or the water table, as a surface, with the wells standing on it.

    Parameters
    ----------
    flow : FlowResult
        Heads.
    layer : str or int, optional
        Its name or position; the water table if not given.
    step : int
        Which step.
    exaggeration : float, optional
        Of heights over lengths; a quarter of the width if not given.
    view : (float, float)
        Height of the eye over the horizon, and its direction [degrees].
    ax : Axes3D, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes3D

    Raises
    ------
    InputError
        If nothing of it holds water, or the exaggeration is not above 0.
    """
    import matplotlib.pyplot as plt

    grid = flow.model.grid
    if exaggeration is not None:
        check_positive("exaggeration", exaggeration, unit="-")
    if layer is None:
        heads, words = flow.water_table(step), "water table"
    else:
        index = check_layer(grid, layer)
        number = grid.cell_number[index]
        wet = (number >= 0) & (flow.filled(step)[number] > 0.01)
        heads, words = (
            np.where(wet, flow.steps[step].heads[number], np.nan),
            f"heads, layer {grid.layer_names[index]}",
        )
    if not np.isfinite(heads).any():
        raise InputError(f"there is no water to draw the {words} of.")
    if ax is None:
        ax = plt.figure(figsize=(12.0, 7.5)).add_subplot(projection="3d")
    import shapely

    west, south, east, north = (float(v) for v in shapely.total_bounds(grid.mesh.polygons()))
    x, y, z = raster_of(grid, heads, (west, east, south, north), dots=110)
    low, high = float(np.nanmin(z)), float(np.nanmax(z))
    height = max(high - low, 1e-6 * max(east - west, north - south))
    drawn = ax.plot_surface(
        x, y, z, cmap=HEADS, vmin=low, vmax=high, rcount=110, ccount=110, lw=0.15, edgecolor=(0, 0, 0, 0.2),
        antialiased=True,
    )  # fmt: skip
    ax.contour(
        x,
        y,
        np.ma.masked_invalid(z),
        levels=10,
        zdir="z",
        offset=low - 0.25 * height,
        colors=INK,
        linewidths=0.6,
    )
    bar_beside_block(ax, drawn, "head [m]")
    ax.set(xlim=(west, east), ylim=(south, north), zlim=(low - 0.25 * height, high + 0.2 * height))
    length = max(east - west, north - south)
    used = exaggeration or max(float(f"{0.25 * length / height:.1g}"), 1.0)
    ax.set_box_aspect((east - west, north - south, used * 1.45 * height), zoom=1.2)
    ax.view_init(*view)
    for well in [] if flow.model.site is None else flow.model.site.wells:
        spot = well.shape if well.geometry == "point" else None
        plan = -1 if spot is None else int(grid.mesh.locate([spot.x], [spot.y])[0])
        if spot is not None and plan >= 0 and np.isfinite(heads[plan]):
            top = high + 0.12 * height
            ax.plot([spot.x] * 2, [spot.y] * 2, [heads[plan], top], color=WARN, lw=1.4, zorder=9)
            ax.text(
                spot.x,
                spot.y,
                top,
                well.name,
                fontsize=8,
                color=WARN,
                ha="center",
                zorder=9,
                path_effects=halo(),
            )
    ax.set_xlabel("x [m]", labelpad=10)
    ax.set_ylabel("y [m]", labelpad=10)
    ax.set_zlabel("head [m]", labelpad=6)
    ax.set_title(f"{flow.model.name}: {words}{when(flow, step)}, heights × {used:g}", y=0.98)
    return ax
