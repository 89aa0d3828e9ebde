"""What every map and section shares: colours, axes, the site's features."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.site import Feature, Site, Symbol
from inkhorn.space import Grid, PlanMesh, RectangularMesh

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["LAYER_COLOURS", "axes_or_new", "draw_cells", "draw_site", "label_points"]

WATER, BANK, INK, WARN = "#8fc1dd", "#2a6f97", "#2b2b2b", "#c1121f"
SOURCE = "#6a1b9a"
LAYER_COLOURS = ("#6b4f34", "#ecd59b", "#8d99a6", "#d9894c", "#cfe3c4", "#6f9e8b", "#c9b6d6", "#b5c99a")


def axes_or_new(ax: Axes | None, size: tuple[float, float] = (9.0, 7.0)) -> Axes:
    """Return the axes given, or those of a new figure."""
    if ax is not None:
        return ax
    import matplotlib.pyplot as plt

    return plt.subplots(figsize=size, layout="constrained")[1]


def map_axes(ax: Axes, mesh: PlanMesh) -> None:
    """Set up a map: metres, equal scales, the mesh's extent."""
    if isinstance(mesh, RectangularMesh):
        x, y = _corners(mesh)
        west, south, east, north = x.min(), y.min(), x.max(), y.max()
    else:
        import shapely

        west, south, east, north = shapely.total_bounds(mesh.polygons())
    map_axes_of(ax, (west, south, east, north))


def map_axes_of(ax: Axes, bounds: Sequence[float]) -> None:
    """Set up a map of an extent: least x and y, greatest x and y [m]."""
    west, south, east, north = bounds
    ax.set_aspect("equal")
    ax.set_xlabel("x [m]")
    ax.set_ylabel("y [m]")
    ax.set_xlim(float(west), float(east))
    ax.set_ylim(float(south), float(north))


def _corners(mesh: RectangularMesh) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Corners of all cells on the map, two (rows + 1, columns + 1)."""
    u, v = np.meshgrid(mesh.x_edges, mesh.y_edges)
    return mesh.to_map(u, v)


def draw_cells(ax: Axes, grid: Grid, values: NDArray[np.float64], **style: Any) -> Any:
    """Fill plan cells by value, nothing where it is NaN; return what a colour bar needs.

    Parameters
    ----------
    values : ndarray of float, (n_plan,)
        One per plan cell.
    """
    mesh = grid.mesh
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
    """Draw lines of equal value through plan cells, none across where they are NaN.

    Parameters
    ----------
    values : ndarray of float, (n_plan,)
        One per plan cell.

    Returns
    -------
    ContourSet or None
        None where there are too few cells for lines.
    """
    mesh = grid.mesh
    if isinstance(mesh, RectangularMesh):
        if min(mesh.shape) < 2:
            return None
        block = np.full(mesh.shape, np.nan)
        block[mesh.present] = values
        u, v = np.meshgrid(mesh.x_centres, mesh.y_centres)
        return ax.contour(*mesh.to_map(u, v), np.ma.masked_invalid(block), levels=levels, **style)
    from matplotlib.tri import TriAnalyzer, Triangulation

    there = np.flatnonzero(np.isfinite(values))
    if len(there) < 3:
        return None
    triangles = Triangulation(mesh.x[there], mesh.y[there])
    corners = there[triangles.triangles]
    middle = mesh.locate(mesh.x[corners].mean(axis=1), mesh.y[corners].mean(axis=1))
    # slivers between centres in one line along the rim bend the lines there
    slivers = TriAnalyzer(triangles).circle_ratios(rescale=False) < 0.02
    triangles.set_mask((middle < 0) | ~np.isfinite(values[middle]) | np.asarray(slivers))
    return ax.tricontour(triangles, values[there], levels=levels, **style)


def _outline(ax: Axes, shape: Any, **style: Any) -> None:
    for part in getattr(shape, "geoms", [shape]):
        line = part.exterior if part.geom_type == "Polygon" else part
        ax.plot(*np.asarray(line.coords)[:, :2].T, **style)
        style.pop("label", None)


def _is_source(feature: Feature, site: Site) -> bool:
    """Whether it brings in a species above where it starts from."""
    start = {s.name: s.initial for s in site.species}
    return any(value > start.get(name, 0.0) for name, value in feature.concentrations.items())


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
        halo = {"path_effects": _halo()} if symbol.colour == SOURCE else {}  # to be seen on dark ground
        _outline(
            ax, feature.shape, color=symbol.colour, lw=symbol.width, ls=dashes, zorder=1.0 + thin, **halo, **said
        )  # fmt: skip


def draw_site(
    ax: Axes,
    site: Site | None,
    *,
    bores: bool = True,
    layer: str | None = None,
    fill: bool = True,
    legend: Any = "upper left",
) -> None:
    """Draw boundary, water, wells and bores, with a legend.

    Parameters
    ----------
    bores : bool
        Whether to draw the bores.
    layer : str, optional
        Bores of other layers are left out.
    fill : bool
        Whether bodies of water are filled.
    legend : str
        Where it stands, as Matplotlib names places.
    """
    if site is None:
        return
    if site.picture is not None:
        west, east, south, north = ax.get_xlim() + ax.get_ylim()
        ax.imshow(site.picture.dots, extent=site.picture.extent, zorder=0, interpolation="bilinear")
        ax.set(xlim=(west, east), ylim=(south, north))
    _outline(ax, site.boundary, color=INK, lw=1.2)
    said: set[str] = set()
    names: list[tuple[float, float, str]] = []
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
                names.append((middle.x, middle.y, feature.name))
    label_points(ax, list(dict.fromkeys(names)), weight="bold")
    shown = [b for b in site.bores if bores and layer in (None, b.layer)]
    if shown:
        ax.scatter(
            [b.x for b in shown], [b.y for b in shown], s=22, fc="white", ec=INK, lw=1.0, zorder=5,
            label="bore" if layer is None else f"bore in {layer}",
        )  # fmt: skip
    if ax.get_legend_handles_labels()[0]:
        ax.legend(loc=legend, fontsize=8, framealpha=0.9)


def label_points(ax: Axes, points: list[tuple[float, float, str]], **style: Any) -> None:
    """Write names beside points, with a halo so that they can be read on any ground."""
    for x, y, name in points:
        ax.annotate(
            name, (x, y), xytext=(6, 5), textcoords="offset points", fontsize=8, color=INK, zorder=7,
            path_effects=_halo(), **style,
        )  # fmt: skip


def _halo() -> list[Any]:
    from matplotlib.patheffects import withStroke

    return [withStroke(linewidth=3.0, foreground="white")]


def check_layer(grid: Grid, layer: str | int) -> int:
    """Return the position of a layer, refusing one with no cells."""
    index = grid.layer_index(layer)
    if (grid.cell_number[index] < 0).all():
        raise InputError(
            f"the layer {grid.layer_names[index]!r} is absent everywhere; there is nothing to draw."
        )
    return index
