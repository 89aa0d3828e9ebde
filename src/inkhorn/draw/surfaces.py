"""A surface against the points it was made of."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.draw.frame import colour_bar, framed, map_axes_of
from inkhorn.draw.style import INK, LEVELS, OFF, WARN, axes_or_new
from inkhorn.space import PointSurface, Surface

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["surface"]


def surface(
    of: Surface,
    outline: Any,
    *,
    points: PointSurface | None = None,
    name: str = "",
    ax: Axes | None = None,
) -> Axes:
    """Draw a surface inside an outline with its contours, and by how much it misses each data point.

    Points that stand out from their neighbours are ringed; those that have no part in it within the outline, as they
    lie beyond others, are crosses.

    Parameters
    ----------
    of : Surface
        Elevations.
    outline : shapely Polygon
        Nothing is drawn outside it.
    points : PointSurface, optional
        Data to compare with; those of the surface if it is made of points itself.
    name : str
        For the title.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    import shapely
    from matplotlib.ticker import MaxNLocator

    ax = axes_or_new(ax)
    west, south, east, north = outline.bounds
    points = of if points is None and isinstance(of, PointSurface) else points
    map_axes_of(ax, _with_points(outline.bounds, points))
    step = max(east - west, north - south) / 240.0
    x, y = np.meshgrid(np.arange(west, east + step, step), np.arange(south, north + step, step))
    inside = shapely.intersects_xy(outline, x, y)
    z = np.full(x.shape, np.nan)
    z[inside] = of.at(x[inside], y[inside])
    levels = MaxNLocator(14, steps=[1, 2, 5, 10]).tick_values(np.nanmin(z), np.nanmax(z))
    shown = np.ma.masked_invalid(z)
    if np.nanmax(z) - np.nanmin(z) > 1e-9:
        filled = ax.contourf(x, y, shown, levels=levels, cmap=LEVELS, alpha=0.85)
        ax.clabel(ax.contour(x, y, shown, levels=levels, colors=INK, linewidths=0.6), fontsize=7, fmt="%g")
        colour_bar(ax, filled, "elevation [m]")
    for ring in [outline.exterior, *outline.interiors]:
        ax.plot(*np.asarray(ring.coords)[:, :2].T, color=INK, lw=1.2)
    title = name
    if points is not None:
        miss = of.at(points.x, points.y) - points.z
        worst = float(np.abs(miss).max())
        plain = worst < 1e-6  # it passes through all of them
        used = points.used(x[inside], y[inside])
        colours: dict[str, Any] = {"c": "white"}
        if not plain:
            colours = {"c": miss[used], "cmap": OFF, "vmin": -worst, "vmax": worst}
        dots = ax.scatter(points.x[used], points.y[used], s=26, ec=INK, lw=0.6, zorder=4, **colours)
        if not used.all():
            ax.scatter(
                points.x[~used], points.y[~used], s=26, marker="x", c=INK, lw=0.8, zorder=4, label="not used"
            )  # fmt: skip
        if not plain:
            beside = ax.inset_axes((1.17, 0.0, 0.03, 0.5))
            ax.figure.colorbar(dots, cax=beside, label="surface less data [m]")
        odd = points.outliers()
        if len(odd):
            ax.scatter(
                points.x[odd], points.y[odd], s=150, fc="none", ec=WARN, lw=1.6, zorder=5,
                label="stands out from its neighbours",
            )  # fmt: skip
        missed = "none missed" if plain else f"missed by up to {worst:.3g} m"
        idle = int((~used).sum())
        title += (
            f"{': ' if name else ''}{len(points.z)} points{f', {idle} not used' if idle else ''}, {missed}"
        )
    framed(ax, lambda x, y: shapely.intersects_xy(outline, x, y), north=False)
    ax.set_title(title)
    return ax


def _with_points(bounds: Any, points: PointSurface | None) -> list[float]:
    """An extent that holds the points near it, too."""
    west, south, east, north = (float(v) for v in bounds)
    if points is None:
        return [west, south, east, north]
    reach = 0.15 * max(east - west, north - south)
    near = (points.x > west - reach) & (points.x < east + reach) & (points.y > south - reach)
    near &= points.y < north + reach
    x, y = points.x[near], points.y[near]
    edge = 0.02 * reach / 0.15
    return [
        min(west, x.min(initial=west)) - edge,
        min(south, y.min(initial=south)) - edge,
        max(east, x.max(initial=east)) + edge,
        max(north, y.max(initial=north)) + edge,
    ]
