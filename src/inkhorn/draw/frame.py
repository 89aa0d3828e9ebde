"""What stands around a map: coordinates, scale bar, north arrow, colour bar and legend, none of it over the site."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.draw.style import INK, halo

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.colorbar import Colorbar

__all__ = ["colour_bar", "framed", "map_axes_of"]

_BAR = "scale bar"
_BESIDE = 1.02  # where the column right of a map begins, as a share of its width
_FLAT = 0.25  # height over width of a map, below which no room is left beside it


def map_axes_of(ax: Axes, bounds: Sequence[float]) -> None:
    """Set up a map of an extent: least x and y, greatest x and y [m]."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    west, south, east, north = (float(v) for v in bounds)
    ax.set_aspect("equal")
    ax.set_xlim(west, east)
    ax.set_ylim(south, north)
    for axis, name in ((ax.xaxis, "x"), (ax.yaxis, "y")):
        axis.set_label_text(f"{name} [m]")
        axis.set_major_locator(MaxNLocator(nbins=6, steps=[1, 2, 5, 10]))
        axis.set_major_formatter(FuncFormatter(lambda value, place: f"{value:,.10g}".replace(",", "\u202f")))
        axis.set_tick_params(labelsize=8)


def colour_bar(ax: Axes, drawn: Any, label: str) -> Colorbar:
    """Put a colour bar right of a map, low down, the legend above it; or below a map too flat for both."""
    from matplotlib.colors import LogNorm
    from matplotlib.ticker import LogLocator

    (west, east), (south, north) = ax.get_xlim(), ax.get_ylim()
    flat = (north - south) / (east - west)
    below = flat < _FLAT and ax.get_aspect() == 1.0
    place = (0.25, -0.15 / flat, 0.5, 0.02 / flat) if below else (_BESIDE, 0.0, 0.03, 0.5)
    way = "horizontal" if below else "vertical"
    bar = ax.figure.colorbar(drawn, cax=ax.inset_axes(place), label=label, orientation=way)
    bar.ax.tick_params(labelsize=8)
    if isinstance(drawn.norm, LogNorm):
        bar.long_axis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
        bar.long_axis.set_major_formatter("{x:g}")
        bar.long_axis.set_minor_formatter("")
    return bar


def framed(
    ax: Axes,
    covered: Callable[[Any, Any], Any] | None = None,
    *,
    north: bool = True,
    legend: bool = True,
) -> None:
    """Finish a map: legend right of it, from the top; scale bar and north arrow in the emptiest corner.

    Parameters
    ----------
    covered : callable, optional
        Takes places x and y and says which of them the map has something to show at.
    north : bool
        Whether up is north, as in a coordinate system of the earth.
    legend : bool
        Whether there is one.
    """
    if legend and ax.get_legend_handles_labels()[0]:
        ax.legend(
            loc="upper left",
            bbox_to_anchor=(_BESIDE - 0.01, 1.01),
            fontsize=8,
            frameon=False,
            borderaxespad=0.0,
        )
    if not any(patch.get_gid() == _BAR for patch in ax.patches):
        _scale_bar(ax, covered, north=north)


def _round_length(most: float) -> float:
    """The largest round length that is not above one."""
    power = 10.0 ** np.floor(np.log10(most))
    return float(max(k * power for k in (1.0, 2.0, 5.0) if k * power <= most * (1.0 + 1e-9)))


def _emptiest_corner(
    ax: Axes, covered: Callable[[Any, Any], Any] | None, wide: float, high: float
) -> tuple[float, float]:
    """Lower left corner of the box in a corner of the axes that least is drawn in, as shares of the axes."""
    west, east = ax.get_xlim()
    south, north = ax.get_ylim()
    drawn = [np.asarray(line.get_xydata(), dtype=np.float64) for line in ax.lines]
    drawn += [np.asarray(text.xy, dtype=np.float64)[None] for text in ax.texts if hasattr(text, "xy")]
    places = np.vstack([np.empty((0, 2)), *(d.reshape(-1, 2) for d in drawn)])
    share = (places - (west, south)) / (east - west, north - south)
    corners = [(0.01, 0.015), (0.99 - wide, 0.015), (0.01, 0.985 - high), (0.99 - wide, 0.985 - high)]
    u, v = np.meshgrid(np.linspace(0.0, wide, 16), np.linspace(0.0, high, 8))
    costs = []
    for x, y in corners:
        cost = float(((share >= (x, y)) & (share <= (x + wide, y + high))).all(axis=1).sum())
        if covered is not None:
            at = west + (x + u) * (east - west), south + (y + v) * (north - south)
            cost += 20.0 * float(np.mean(covered(*at)))
        costs.append(cost)
    return corners[int(np.argmin(costs))]


def _scale_bar(ax: Axes, covered: Callable[[Any, Any], Any] | None, *, north: bool) -> None:
    """Draw a bar of a round length, with an arrow to the north beside it."""
    from matplotlib.patches import Rectangle

    west, east = ax.get_xlim()
    length = _round_length(0.22 * (east - west))
    wide = length / (east - west)
    x, y = _emptiest_corner(ax, covered, wide + 0.06 * north, 0.09 if north else 0.05)
    on_axes: dict[str, Any] = {"transform": ax.transAxes, "zorder": 8}
    halves = [
        Rectangle((x, y), 0.5 * wide, 0.012, fc=c, ec=INK, lw=0.7, gid=_BAR, **on_axes)
        for c in (INK, "white")
    ]
    for half in halves:
        ax.add_patch(half)
    words = ax.text(
        x + 0.5 * wide, y + 0.018, "", ha="center", va="bottom", fontsize=8, color=INK, path_effects=halo(), **on_axes
    )  # fmt: skip

    def measure(ax: Any) -> None:
        """Be of a round length whatever part of the map is shown."""
        west, east = ax.get_xlim()
        length = _round_length(wide * abs(east - west))
        share = length / abs(east - west)
        for k, half in enumerate(halves):
            half.set_x(x + 0.5 * k * share)
            half.set_width(0.5 * share)
        words.set_x(x + 0.5 * share)
        words.set_text(f"{length / 1000:g} km" if length >= 1000 else f"{length:g} m")

    measure(ax)
    ax.callbacks.connect("xlim_changed", measure)
    if north:
        at = x + wide + 0.04
        ax.annotate(
            "", (at, y + 0.055), (at, y), xycoords="axes fraction",
            arrowprops={"arrowstyle": "-|>,head_width=0.25", "color": INK, "lw": 1.0}, zorder=8,
        )  # fmt: skip
        ax.text(
            at,
            y + 0.058,
            "N",
            ha="center",
            va="bottom",
            fontsize=8,
            color=INK,
            path_effects=halo(),
            **on_axes,
        )
