"""What flows from layer to layer, or from region to region, as a diagram."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.draw.dates import when
from inkhorn.draw.scales import NUMBER, short
from inkhorn.draw.style import FLOW_IN, FLOW_OUT, INK, axes_or_new, halo, material_style
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["exchange"]

_MOST = 12  # parts that a diagram has room for
_WIDE = 0.15
_NAMES = 0.14  # how far from the sides what enters and leaves is named


def exchange(
    flow: FlowResult, *, regions: Mapping[str, Any] | None = None, step: int = -1, ax: Axes | None = None
) -> Axes:
    """Draw the layers, or regions, as boxes, and what flows between them and into and out of each as arrows.

    Arrows are as wide as what they carry; each way has its own.

    Parameters
    ----------
    flow : FlowResult
        Flows.
    regions : mapping, optional
        As of `FlowResult.budget`; layers if not given.
    step : int
        Which step.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If there are more parts than a diagram has room for.
    """
    between = flow.exchange(step, regions=regions)
    by = "layer" if regions is None else "region"
    table = flow.budget(by, step, regions=regions)
    names = [n for n in between.index if n in table.index]
    if len(names) > _MOST:
        raise InputError(f"there are {len(names)} {by}s; expected up to {_MOST}. Join some in regions.")
    between = between.loc[names, names]
    ax = axes_or_new(ax, (11.0, 7.5))
    ax.set(xlim=(0.0, 1.0), ylim=(-0.01, 1.01))
    ax.axis("off")
    places = {
        name: (0.5 if len(names) == 1 else (0.37, 0.63)[k % 2], 1.0 - (k + 0.5) / len(names))
        for k, name in enumerate(names)
    }
    other = {f"layer {name}" if by == "layer" else name for name in names}
    truly = table.iloc[:-1]  # without the total
    outside = truly[~truly.index.get_level_values("item").isin(other)]
    most = max(float(between.to_numpy().max(initial=0.0)), float(outside.to_numpy().max(initial=0.0))) or 1.0
    high = min(0.4 / len(names), 0.09)
    for k, name in enumerate(names):
        _box(ax, places[name], high, name, material_style(k).colour if by == "layer" else "#f0efe9")
        _from_outside(ax, places[name], len(names), name, outside, most)
    for k, one in enumerate(names):
        for two in names[k + 1 :]:
            _between(ax, places[one], places[two], high, between.loc[one, two], between.loc[two, one], most)
    handles = [
        ax.plot([], [], color=c, lw=4, label=words)[0]
        for c, words in ((FLOW_IN, "into the aquifer"), (FLOW_OUT, "out of it"), (INK, f"from {by} to {by}"))
    ]
    ax.legend(
        handles=handles, loc="lower center", bbox_to_anchor=(0.5, -0.06), ncols=3, fontsize=8, frameon=False
    )
    ax.set_title(f"{flow.model.name}: exchange between {by}s{when(flow, step)} [m³/day]")
    return ax


def _width(flow: float, most: float) -> float:
    return float(0.8 + 9.0 * flow / most)


def _box(ax: Axes, place: tuple[float, float], high: float, name: str, colour: str) -> None:
    from matplotlib.patches import FancyBboxPatch

    ax.add_patch(
        FancyBboxPatch(
            (place[0] - 0.5 * _WIDE, place[1] - 0.5 * high), _WIDE, high, boxstyle="round,pad=0,rounding_size=0.01",
            fc=colour, ec=INK, lw=1.0, zorder=3,
        )
    )  # fmt: skip
    ax.text(
        *place,
        name,
        ha="center",
        va="center",
        fontsize=9,
        weight="bold",
        color=INK,
        zorder=6,
        path_effects=halo(),
    )


def _arrow(ax: Axes, start: Any, end: Any, flow: float, most: float, colour: str) -> None:
    from matplotlib.patches import FancyArrowPatch

    width = _width(flow, most)
    ax.add_patch(
        FancyArrowPatch(
            start, end, arrowstyle=f"-|>,head_width={0.9 + 0.55 * width},head_length={1.8 + 0.5 * width}",
            mutation_scale=2.0, lw=width, color=colour, shrinkA=0, shrinkB=0, zorder=2,
            clip_on=False, capstyle="butt", joinstyle="miter",
        )
    )  # fmt: skip


def _from_outside(
    ax: Axes, place: tuple[float, float], count: int, name: str, outside: Any, most: float
) -> None:
    """What comes in and goes out of a part by each kind of term, beside its box."""
    x, y = place
    left = x < 0.5 or count == 1
    edge = x - 0.5 * _WIDE if left else x + 0.5 * _WIDE
    begin = _NAMES + 0.045 if left else 1.0 - _NAMES - 0.045
    mine = outside.loc[[name]] if name in outside.index.get_level_values(0) else outside.iloc[:0]
    rows = [
        (item, float(flow), into)
        for (_, item), both in mine.iterrows()
        for flow, into in zip(both, (True, False), strict=True)
        if flow > 1e-6 * most
    ]
    slot = min(1.8 / max(count, 2) / max(len(rows), 3), 0.045)
    half = 0.5 * (len(rows) - 1) * slot
    middle = min(max(y, half), 1.0 - half)
    for k, (item, flow, into) in enumerate(rows):
        at = middle + half - k * slot
        ends = ((begin, at), (edge, y)) if into else ((edge, y), (begin, at))
        _arrow(ax, *ends, flow, most, FLOW_IN if into else FLOW_OUT)
        ax.text(
            begin + (-0.006 if left else 0.006), at, short(flow), ha="right" if left else "left", va="center",
            fontsize=8, color=INK, gid=f"{NUMBER} [m³/day]",
        )  # fmt: skip
        ax.text(
            begin + (-0.06 if left else 0.06), at, item, ha="right" if left else "left", va="center", fontsize=8,
            color=INK,
        )  # fmt: skip


def _between(ax: Axes, one: Any, two: Any, high: float, down: float, up: float, most: float) -> None:
    """What flows between two parts, an arrow for each way."""
    a, b = np.array(one), np.array(two)
    for start, end, flow, side in ((a, b, down, 1.0), (b, a, up, -1.0)):
        if flow <= 1e-6 * most:
            continue
        shift = np.array([side * 0.018, 0.0])
        way = np.array([0.0, 0.5 * high * np.sign(start[1] - end[1])])
        first, last = start - way + shift, end + way + shift
        _arrow(ax, tuple(first), tuple(last), flow, most, INK)
        along = (last - first) / np.hypot(*(last - first))
        middle = first + (0.35 if side > 0 else 0.65) * (last - first)
        middle += (0.008 + 0.0006 * _width(flow, most)) * np.array(
            [side, side * along[0] * -np.sign(along[1])]
        )
        ax.text(
            float(middle[0]), float(middle[1]), short(flow), ha="left" if side > 0 else "right",
            va="center", fontsize=8, color=INK, zorder=7, path_effects=halo(), gid=f"{NUMBER} [m³/day]",
        )  # fmt: skip
