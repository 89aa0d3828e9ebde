"""Figures of local models: their rim over the heads of the region."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.cuts import Cut
from inkhorn.draw.flow import heads
from inkhorn.draw.letters import halo
from inkhorn.draw.style import INK, WARN

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["rim"]

_COLOURS = {"heads": "#1d4ed8", "flows": "#c2410c", "closed": INK, "own": "#8d99ae"}
_WORDS = {
    "heads": "the region's heads", "flows": "the region's flows", "closed": "closed, along the flow",
    "own": "the region's own rim",
}  # fmt: skip
_AROUND = 0.35  # of the outline's size: how much of the region is shown about it


def rim(cut: Cut, layer: str | int | None = None, *, step: int = -1, ax: Axes | None = None) -> Axes:
    """Draw the rim of a local model over the heads of its region: what each stretch is, and what flows across it.

    Parameters
    ----------
    cut : Cut
        From `inkhorn.cut`.
    layer : str or int, optional
        Of the region, whose heads are drawn; the one that most flows through the rim in if not given.
    step : int
        Of the region.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    if layer is None:
        at = cut.at_rim
        water = np.bincount(
            np.maximum(at.layer, 0), np.abs(at.inflow(step % len(cut.region.steps))),
            len(cut.region.model.grid.layer_names),
        )  # fmt: skip
        layer = cut.region.model.grid.layer_names[int(water.argmax())]
    ax = heads(cut.region, layer, step=step, ax=ax)
    told = set()
    for stretch in cut.stretches:
        x, y = np.array(stretch.line.coords).T[:2]
        label = None if stretch.way in told else _WORDS[stretch.way]
        told.add(stretch.way)
        dashes = (0, (3, 1.5)) if stretch.way == "closed" else "solid"
        ax.plot(x, y, color="white", lw=5.0, zorder=4.8, solid_capstyle="butt")
        ax.plot(
            x, y, color=_COLOURS[stretch.way], lw=3.0, ls=dashes, zorder=5, label=label, solid_capstyle="butt"
        )
        middle = stretch.line.interpolate(0.5, normalized=True)
        net = stretch.inflow - stretch.outflow
        passes = "" if stretch.way == "own" else f"\n{abs(net):,.0f} m³/day {'in' if net > 0.0 else 'out'}"
        ax.text(
            middle.x, middle.y, f"{stretch.name}{passes}", fontsize=8, color=WARN if stretch.way == "flows" else INK,
            ha="center", va="center", zorder=6, path_effects=halo(), clip_on=True,
        )  # fmt: skip
    west, south, east, north = cut.outline.bounds
    room = _AROUND * max(east - west, north - south)
    ax.set_xlim(west - room, east + room)
    ax.set_ylim(south - room, north + room)
    handles, labels = ax.get_legend_handles_labels()
    ax.legend(handles, labels, loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    ax.set_title(f"{cut.region.model.name}: the rim of a local model, heads in the {layer}")
    return ax
