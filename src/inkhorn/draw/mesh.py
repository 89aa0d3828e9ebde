"""Pictures of plan meshes."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.draw.frame import framed
from inkhorn.draw.maps import ONE_BY_ONE, dots_of, draw_site, map_axes, on_earth, shown_at
from inkhorn.draw.style import BANK, WARN, axes_or_new
from inkhorn.errors import InputError
from inkhorn.site import Site
from inkhorn.space import PlanMesh, VoronoiMesh

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["plan", "quality"]


_LINES = ("#7a8b99", "#c1121f", "#1b998b", "#6a1b9a", "#d9894c")  # of grids that lie over each other


def plan(
    mesh: PlanMesh,
    site: Site | None = None,
    *,
    colour: int = 0,
    legend: bool = True,
    ax: Axes | None = None,
) -> Axes:
    """Draw the cells of a plan mesh, with the site's features over them.

    Parameters
    ----------
    mesh : PlanMesh
        Of any kind.
    site : Site, optional
        Whose features are drawn.
    colour : int
        Which of the colours for lines, so that several can be told apart.
    legend : bool
        Whether to explain the features.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    import shapely
    from matplotlib.collections import LineCollection

    ax = axes_or_new(ax)
    map_axes(ax, mesh)
    shade = _LINES[colour % len(_LINES)]
    if mesh.n_cells > ONE_BY_ONE:
        _draw_borders(ax, mesh, shade)
    else:
        parts = shapely.get_parts(shapely.boundary(mesh.polygons()))
        rings = [shapely.get_coordinates(part) for part in parts]
        ax.add_collection(LineCollection(rings, colors=shade, linewidths=0.4, zorder=1))
    draw_site(ax, site, bores=False)
    framed(ax, shown_at(mesh), north=on_earth(site), legend=legend)
    size = np.sqrt(mesh.area)
    ax.set_title(f"{mesh.n_cells} cells of {size.min():.3g} to {size.max():.3g} m")
    return ax


def _draw_borders(ax: Axes, mesh: PlanMesh, colour: str) -> None:
    """Shade every dot of the picture that a border between cells runs through: lines would be too many to be seen."""
    from matplotlib.colors import to_rgba

    extent, home = dots_of(ax, mesh)
    border = np.zeros(home.shape, dtype=bool)
    border[:, 1:] |= home[:, 1:] != home[:, :-1]
    border[1:] |= home[1:] != home[:-1]
    image = np.zeros((*home.shape, 4))
    image[border] = to_rgba(colour, 0.6)
    keep = ax.get_xlim(), ax.get_ylim()
    ax.imshow(image, extent=extent, origin="lower", interpolation="nearest", zorder=1)
    ax.set(xlim=keep[0], ylim=keep[1])


def quality(
    mesh: VoronoiMesh, measure: str = "smallest angle of a triangle [degrees]", *, ax: Axes | None = None
) -> Axes:
    """Draw how often each value of a measure of a good mesh occurs.

    Parameters
    ----------
    mesh : VoronoiMesh
        Cells.
    measure : str
        A key of `VoronoiMesh.measures`.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    measures = mesh.measures()
    if measure not in measures:
        raise InputError(f'there is no measure "{measure}"; expected one of {list(measures)}.')
    ax = axes_or_new(ax)
    values = measures[measure]
    ax.hist(values, bins=40, color=BANK, alpha=0.85)
    ax.axvline(values.min(), color=WARN, lw=1.2, label=f"least {values.min():.3g}")
    ax.set_xlabel(measure)
    ax.set_ylabel("number")
    ax.legend(fontsize=8)
    return ax
