"""What every map shares: cells by value, lines of equal value, the site's features."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.draw.frame import colour_bar, map_axes_of
from inkhorn.draw.letters import label_points
from inkhorn.draw.style import INK, SOURCE, halo
from inkhorn.errors import InputError
from inkhorn.site import Feature, Site, Symbol
from inkhorn.space import Grid, PlanMesh, PointSurface, RectangularMesh, VoronoiMesh

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = [
    "ONE_BY_ONE",
    "check_layer",
    "dots_of",
    "draw_cells",
    "draw_contours",
    "draw_site",
    "label_points",
    "lay_picture",
    "map_axes",
    "on_earth",
    "paths_of",
    "raster_of",
    "see_through",
    "shown_at",
]

_PICTURE = "picture of the site"
_DOTS = 240  # along the longer side, at which lines of equal value are read
_FINE = 900  # dots along the longer side of maps of very many cells
ONE_BY_ONE = 60_000  # cells, up to which each is drawn by itself
_SMOOTHED = 30_000  # cells, up to which values are read between their centres


def map_axes(ax: Axes, mesh: PlanMesh) -> None:
    """Set up a map: metres, equal scales, the mesh's extent."""
    if isinstance(mesh, RectangularMesh):
        x, y = _corners(mesh)
        west, south, east, north = x.min(), y.min(), x.max(), y.max()
    elif isinstance(mesh, VoronoiMesh):
        west, south, east, north = mesh.outline.bounds
    else:
        import shapely

        west, south, east, north = shapely.total_bounds(mesh.polygons())
    map_axes_of(ax, (west, south, east, north))


def _corners(mesh: RectangularMesh) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Corners of all cells on the map, two (rows + 1, columns + 1)."""
    u, v = np.meshgrid(mesh.x_edges, mesh.y_edges)
    return mesh.to_map(u, v)


def dots_of(ax: Axes, mesh: PlanMesh) -> tuple[tuple[float, float, float, float], NDArray[np.int64]]:
    """Return the extent of a raster over the axes, about a dot of a picture each, and the cell in each of its dots."""
    west, east = ax.get_xlim()
    south, north = ax.get_ylim()
    step = max(east - west, north - south) / _FINE
    x = np.arange(west + 0.5 * step, east, step)
    y = np.arange(south + 0.5 * step, north, step)
    home = mesh.locate(*np.meshgrid(x, y))
    return (west, west + len(x) * step, south, south + len(y) * step), home


def draw_cells(ax: Axes, grid: Grid, values: NDArray[np.float64], **style: Any) -> Any:
    """Fill plan cells by value, nothing where it is NaN; return what a colour bar needs.

    Parameters
    ----------
    values : ndarray of float, (n_plan,)
        One per plan cell.
    """
    from matplotlib.colors import Normalize

    mesh = grid.mesh
    if "vmin" in style:
        style["norm"] = Normalize(style.pop("vmin"), style.pop("vmax"))
    if mesh.n_cells > ONE_BY_ONE:
        extent, home = dots_of(ax, mesh)
        seen = np.where(home >= 0, values[home], np.nan)
        keep = ax.get_xlim(), ax.get_ylim()
        image = ax.imshow(
            np.ma.masked_invalid(seen), extent=extent, origin="lower", interpolation="nearest", **style
        )
        ax.set(xlim=keep[0], ylim=keep[1])
        return image
    if isinstance(mesh, RectangularMesh):
        block = np.full(mesh.shape, np.nan)
        block[mesh.present] = values
        return ax.pcolormesh(*_corners(mesh), np.ma.masked_invalid(block), rasterized=True, **style)
    from matplotlib.collections import PolyCollection

    there = np.isfinite(values)
    parts = [
        (p, v) for q, v in zip(mesh.polygons()[there], values[there], strict=True) for p, v in _parts(q, v)
    ]
    outlines = [np.asarray(p.exterior.coords) for p, _ in parts]
    cells = PolyCollection(
        outlines, array=np.array([v for _, v in parts]), edgecolors="face", lw=0.2, **style
    )
    ax.add_collection(cells)
    return cells


def _parts(shape: Any, value: float) -> list[tuple[Any, float]]:
    """Each part of a cell that a boundary has cut in several, with the cell's value."""
    return [(part, value) for part in getattr(shape, "geoms", [shape])]


def draw_contours(ax: Axes, grid: Grid, values: NDArray[np.float64], levels: Any, **style: Any) -> Any:
    """Draw lines of equal value, smooth between the centres of cells and up to the rim, none where they are NaN.

    Parameters
    ----------
    values : ndarray of float, (n_plan,)
        One per plan cell.

    Returns
    -------
    ContourSet or None
        None where there are too few cells for lines.
    """
    if np.isfinite(values).sum() < 3:
        return None
    x, y, z = raster_of(grid, values, (*ax.get_xlim(), *ax.get_ylim()))
    if not np.isfinite(z).any() or np.nanmin(z) == np.nanmax(z):
        return None
    return ax.contour(x, y, np.ma.masked_invalid(z), levels=levels, **style)


def raster_of(
    grid: Grid, values: NDArray[np.float64], bounds: tuple[float, ...], dots: int = _DOTS
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Return places x and y and the values there, smooth between the centres of cells, NaN where there are none.

    Parameters
    ----------
    values : ndarray of float, (n_plan,)
        One per plan cell; up to the rim of those that have one.
    bounds : (float, float, float, float)
        Least and greatest x, least and greatest y [m].
    dots : int
        Along the longer side.
    """
    mesh, there = grid.mesh, np.flatnonzero(np.isfinite(values))
    west, east, south, north = bounds
    step = max(east - west, north - south) / dots
    x, y = np.meshgrid(np.arange(west, east + step, step), np.arange(south, north + step, step))
    home = mesh.locate(x, y)
    inside = (home >= 0) & np.isfinite(values)[home]
    z = np.full(x.shape, np.nan)
    if len(there) > _SMOOTHED or len(there) < 3:  # cells of hardly a dot
        z[inside] = values[home[inside]]
        return x, y, z
    try:
        smooth = PointSurface(mesh.x[there], mesh.y[there], values[there], method="cubic")
        z[inside] = smooth.at(x[inside], y[inside])
    except InputError:  # all centres in one line
        pass
    return x, y, z


def draw_values(
    ax: Axes,
    grid: Grid,
    values: NDArray[np.float64],
    label: str,
    *,
    fill: bool = True,
    lines: bool = True,
    span: tuple[float, float] | None = None,
    **style: Any,
) -> None:
    """Fill plan cells by value, with a colour bar and labelled lines at round numbers.

    Parameters
    ----------
    values : ndarray of float, (n_plan,)
        One per plan cell, NaN where there is none.
    label : str
        Of the colour bar, with the unit.
    fill, lines : bool
        Whether there are colours, and lines.
    span : (float, float), optional
        Least and greatest value that they are for; those of the values if not given.
    """
    from matplotlib.ticker import MaxNLocator

    if not np.isfinite(values).any():
        return
    if span is not None and "norm" not in style:
        style |= {"vmin": span[0], "vmax": span[1]}
    if fill:
        colour_bar(ax, draw_cells(ax, grid, values, **style), label)
    low, high = span or (float(np.nanmin(values)), float(np.nanmax(values)))
    if lines and high - low > 1e-6:
        levels = MaxNLocator(12, steps=[1, 2, 5, 10]).tick_values(low, high)
        drawn = draw_contours(ax, grid, values, levels, colors=INK, linewidths=0.7 if fill else 1.0)
        if drawn is not None:
            ax.clabel(drawn, fontsize=7, fmt="%g")


def see_through(site: Site | None) -> dict[str, float]:
    """Return how thick colours lie over the picture of a site, if it has one."""
    return {"alpha": 0.55 if site is not None and site.picture is not None else 0.9}


def lay_picture(ax: Axes, where: str) -> None:
    """Lay the site's picture under all of a map, over its colours so that both are seen, or take it away.

    Parameters
    ----------
    ax : Axes
        A map, drawn.
    where : {"under", "over", "away"}
        Where to.

    Raises
    ------
    InputError
        If there is no such place.
    """
    if where not in ("under", "over", "away"):
        raise InputError(f'a picture lies "under", "over" or "away", not "{where}".')
    for image in ax.images:
        if image.get_gid() == _PICTURE:
            image.set(
                visible=where != "away",
                zorder=1.4 if where == "over" else -1.0,
                alpha=0.5 if where == "over" else 1.0,
            )


def _outline(ax: Axes, shape: Any, **style: Any) -> None:
    for part in getattr(shape, "geoms", [shape]):
        line = part.exterior if part.geom_type == "Polygon" else part
        ax.plot(*np.asarray(line.coords)[:, :2].T, **style)
        style.pop("label", None)


def on_earth(site: Site | None) -> bool:
    """Whether places are in a coordinate system of the earth, in which up is north."""
    return site is not None and site.crs is not None


def shown_at(mesh: PlanMesh) -> Callable[[Any, Any], Any]:
    """Return what says at which places a mesh has cells."""
    return lambda x, y: mesh.locate(x, y) >= 0


def _is_source(feature: Feature, site: Site) -> bool:
    """Whether it brings in a species above where it starts from."""
    start = {s.name: s.initial for s in site.species}
    known = feature.highest_concentrations if feature.brings_water else {}
    return any(value > start.get(name, 0.0) for name, value in known.items())


def _draw_feature(ax: Axes, feature: Feature, symbol: Symbol, label: str | None, fill: bool) -> None:
    """Draw one feature as its kind declares."""
    import shapely

    said: dict[str, Any] = {} if label is None else {"label": label}
    dashes: Any = (0, symbol.dashes) if symbol.dashes else "-"
    if feature.geometry in ("point", "cells"):
        shape = feature.shape.on_map() if feature.geometry == "cells" else feature.shape
        x, y = shapely.get_coordinates(shape).T
        ax.scatter(
            x, y, marker=symbol.marker, s=55, c=symbol.colour, ec="white", lw=0.7, zorder=6, **said
        )  # fmt: skip
    elif feature.geometry == "polygon" and fill and (symbol.fill or symbol.hatch):
        for part in getattr(feature.shape, "geoms", [feature.shape]):
            ring = np.asarray(part.exterior.coords)[:, :2].T
            ax.fill(
                *ring, fc=symbol.fill or "none", ec=symbol.colour, lw=symbol.width, ls=dashes,
                hatch=symbol.hatch or None, zorder=2, **said,
            )  # fmt: skip
            said = {}
    else:
        thin = 1.0 if symbol.width < 1.0 else 2.0
        around = {"path_effects": halo()} if symbol.colour == SOURCE else {}  # to be seen on dark ground
        _outline(
            ax, feature.shape, color=symbol.colour, lw=symbol.width, ls=dashes, zorder=1.0 + thin, **around, **said
        )  # fmt: skip


def draw_site(
    ax: Axes,
    site: Site | None,
    *,
    bores: bool = True,
    layer: str | None = None,
    fill: bool = True,
    names: bool = True,
) -> None:
    """Draw boundary, water, wells and bores; what they are called goes into the legend.

    Parameters
    ----------
    bores : bool
        Whether to draw the bores.
    layer : str, optional
        Bores of other layers are left out.
    fill : bool
        Whether bodies of water are filled.
    names : bool
        Whether names are written.
    """
    if site is None:
        return
    if site.picture is not None:
        west, east, south, north = ax.get_xlim() + ax.get_ylim()
        ax.imshow(
            site.picture.dots, extent=site.picture.extent, zorder=-1, interpolation="bilinear", gid=_PICTURE
        )
        ax.set(xlim=(west, east), ylim=(south, north))
    _outline(ax, site.boundary, color=INK, lw=1.2)
    said: set[str] = set()
    called: list[tuple[float, float, str]] = []
    for feature in site.features:
        if feature.geometry == "cells" and not feature.shape.places:  # only a grid says where these are
            continue
        source = _is_source(feature, site)
        for words, symbol in feature.marked():
            if source:
                words, symbol = (
                    f"{words} that brings solute",
                    replace(symbol, colour=SOURCE, width=1.8, dashes=()),
                )
            _draw_feature(ax, feature, symbol, None if words in said else words, fill)
            said.add(words)
            if symbol.named or source:
                shape = feature.shape.on_map() if feature.geometry == "cells" else feature.shape
                middle = shape.representative_point()
                called.append((middle.x, middle.y, feature.name))
    if names:
        label_points(ax, list(dict.fromkeys(called)), weight="bold")
    shown = [b for b in site.bores if bores and layer in (None, b.layer)]
    if shown:
        ax.scatter(
            [b.x for b in shown], [b.y for b in shown], s=22, fc="white", ec=INK, lw=1.0, zorder=5,
            label="bore" if layer is None else f"bore in {layer}",
        )  # fmt: skip


def check_layer(grid: Grid, layer: str | int) -> int:
    """Return the position of a layer, refusing one with no cells."""
    index = grid.layer_index(layer)
    if (grid.cell_number[index] < 0).all():
        raise InputError(
            f"the layer {grid.layer_names[index]!r} is absent everywhere; there is nothing to draw."
        )
    return index


def paths_of(shape: Any) -> Iterator[Any]:
    """Return the parts of an area as paths to be filled, holes left out."""
    from matplotlib.path import Path

    for part in getattr(shape, "geoms", [shape]):
        if not part.is_empty:
            rings = (part.exterior, *part.interiors)
            yield Path.make_compound_path(*(Path(np.asarray(r.coords)[:, :2], closed=True) for r in rings))
