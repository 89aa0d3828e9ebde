"""Maps of a report whose layer and time its reader chooses, and the block of layers to be turned."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from inkhorn.dates import time_in_words
from inkhorn.draw.dates import when
from inkhorn.draw.flow import flow_map
from inkhorn.draw.movement import faintest
from inkhorn.draw.style import HEADS, INK, SOLUTE, material_style
from inkhorn.report.blocks import Live, Words, packed
from inkhorn.space import Grid, area_of
from inkhorn.space.triangles import Net, corners_and_weights
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    from inkhorn.flow import FlowResult
    from inkhorn.site import Site
    from inkhorn.transport import TransportResult
    from inkhorn.unit_choice import UnitChoice

__all__ = ["block_of", "heads_of", "plume_of"]

Array = NDArray[np.float64]

_DOTS = 1_500_000  # of all maps of one kind together
_LONGEST = 240  # dots along the longer side of a map
_TIMES = 24  # at the most
_ABSENT = 65535  # among whole numbers of 16 bits, that for no value
_BLOCK = 72  # places along the longer side of a block
_RIM = 160  # places along its rim


class _Raster:
    """Even places over a grid, and what plan cells have there: straight between three centres, plain at the rim."""

    def __init__(self, grid: Grid, most: int) -> None:
        from scipy.spatial import QhullError

        mesh = grid.mesh
        west, south, east, north = (float(v) for v in _bounds(grid))
        step = max(east - west, north - south) / most
        self.x = np.arange(west + 0.5 * step, east, step)
        self.y = np.arange(south + 0.5 * step, north, step)
        x, y = np.meshgrid(self.x, self.y)
        self.shape = x.shape
        self.home = np.asarray(mesh.locate(x.ravel(), y.ravel()))
        places = np.column_stack([x.ravel(), y.ravel()])
        self.corners = np.full((len(places), 3), -1)
        self.weights = np.zeros((len(places), 3))
        try:
            net = Net(np.column_stack([mesh.x, mesh.y]))
        except (QhullError, ValueError):  # fewer than three cells, or all in one line
            return
        corners, weights, home = corners_and_weights(net, places)
        within = home >= 0
        self.corners[within], self.weights[within] = corners[within], weights[within]

    def of(self, values: Array, *, smooth: bool = True) -> Array:
        """Values of plan cells at the places, (rows, columns), NaN where there are none."""
        found = np.where(self.home >= 0, values[self.home], np.nan)
        if smooth:
            between = (self.weights * values[self.corners]).sum(axis=1)
            better = (self.corners[:, 0] >= 0) & np.isfinite(found) & np.isfinite(between)
            found[better] = between[better]
        return found.reshape(self.shape)


def _bounds(grid: Grid) -> Array:
    import shapely

    return np.asarray(shapely.total_bounds(area_of(grid.mesh, np.flatnonzero(grid.uppermost >= 0), grid.rim)))


def _some(count: int, most: int = _TIMES) -> list[int]:
    """Even choice of so many at the most, the first and the last among them."""
    return sorted(set(np.linspace(0, count - 1, min(count, most)).round().astype(int).tolist()))


def _colours(name: str) -> list[tuple[float, str]]:
    """A scale of colours as the page takes it."""
    import matplotlib as mpl
    from matplotlib.colors import to_hex

    scale = mpl.colormaps[name]
    return [(k / 10.0, to_hex(scale(k / 10.0))) for k in range(11)]


def _map(
    grid: Grid,
    site: Site | None,
    layers: Sequence[str],
    times: Sequence[str],
    values: Callable[[int, int], Array],
    units: UnitChoice,
    *,
    smooth: bool = True,
) -> dict[str, Any]:
    """What the page draws a map from, of some layers at some times; values by layer and time, (n_plan,)."""
    most = int(min(_LONGEST, np.sqrt(_DOTS / (len(layers) * len(times)))))
    raster = _Raster(grid, max(most, 40))
    found = np.array([
        [raster.of(values(k, t), smooth=smooth) for t in range(len(times))] for k in range(len(layers))
    ])  # fmt: skip
    low, high = (float(v) for v in (np.nanmin(found, initial=np.inf), np.nanmax(found, initial=-np.inf)))
    low, high = (low, high) if low <= high else (0.0, 1.0)
    scaled = np.where(np.isfinite(found), (found - low) / ((high - low) or 1.0) * (_ABSENT - 1), _ABSENT)
    by = units.of("m")[1]
    return {
        "layers": list(layers),
        "times": list(times),
        "x": [by * float(raster.x[0]), by * float(raster.x[1] - raster.x[0]), len(raster.x)],
        "y": [by * float(raster.y[0]), by * float(raster.y[1] - raster.y[0]), len(raster.y)],
        "length": units.of("m")[0],
        "low": low,
        "high": high,
        "values": packed(scaled.round().astype(np.uint16)),
        "lines": _lines_of(site, by, max(raster.x[-1] - raster.x[0], raster.y[-1] - raster.y[0]) / 500.0),
    }


def heads_of(flow: FlowResult, units: UnitChoice) -> Live:
    """Heads of every layer, and the water table, at the ends of steps."""
    grid = flow.model.grid
    layers = [n for k, n in enumerate(grid.layer_names) if (grid.cell_number[k] >= 0).any()]
    maps = [flow_map("water table", flow), *(flow_map("heads", flow, layer=n) for n in layers)]
    steps = _some(len(flow.steps))
    unit, by = units.of("m")
    times = [when(flow, step)[2:] or "steady" for step in steps]
    data = _map(
        grid, flow.model.site, ["water table", *layers], times,
        lambda k, t: by * np.asarray(maps[k].values(steps[t])), units,
    )  # fmt: skip
    data |= {"label": f"head [{unit}]", "colours": _colours(HEADS), "contours": True, "logarithmic": False}
    words = f"Heads by layer{' and time' if len(times) > 1 else ''}, with lines of equal head; dry cells are left blank."
    words += " Point at a place for its value, at a line or a point for its name."
    return Live("map", words, data)


def plume_of(result: TransportResult, units: UnitChoice) -> Live | Words:
    """Concentrations in every layer, and the highest of any, at output times."""
    grid, species = result.flow.model.grid, result.species
    factor = 1.0 / unit_factor(species.unit, "concentration")
    layers = [n for k, n in enumerate(grid.layer_names) if (grid.cell_number[k] >= 0).any()]
    rows = [grid.cell_number, *(grid.cell_number[[grid.layer_index(n)]] for n in layers)]
    chosen = _some(len(result.records))
    most = factor * max(float(result.records[k].concentration.max()) for k in chosen)
    floor = faintest(result, most)
    if most <= floor:
        said = f"{species.name.capitalize()} is nowhere above {floor:.2g} {species.unit} at the times that are kept."
        return Words((said,))

    def values(layer: int, time: int) -> Array:
        record, number = result.records[chosen[time]], rows[layer]
        here = np.where(record.water > 0.0, record.concentration, 0.0) * factor
        column = np.where(number >= 0, here[number], -np.inf).max(axis=0)
        return np.where(column > floor, np.log10(np.maximum(column, 1e-300)), np.nan)

    times = [time_in_words(result.records[k].time) for k in chosen]
    data = _map(
        grid, result.flow.model.site, ["highest in any layer", *layers], times, values, units, smooth=False
    )
    limit = None if species.limit is None else species.limit * factor
    data |= {
        "label": f"{species.name} [{species.unit}]", "colours": _colours(SOLUTE), "contours": False,
        "logarithmic": True, "limit": limit,
    }  # fmt: skip
    named = "" if limit is None else f"; the red line is the limit of {limit:g} {species.unit}"
    words = f"{species.name.capitalize()} by layer and time{named}. Nothing is shown below {floor:.2g} {species.unit}."
    return Live("map", words, data)


def _lines_of(site: Site | None, by: float, tolerance: float) -> list[dict[str, Any]]:
    """The boundary, features and bores of a site, as lines and points with names."""
    import shapely

    if site is None:
        return []
    found = []
    for feature in site.features:
        if feature.geometry == "cells" and not feature.shape.places:  # only a grid says where these are
            continue
        _, symbol = next(iter(feature.marked()))
        shape = feature.shape.on_map() if feature.geometry == "cells" else feature.shape
        found.append(_line(feature.name, shape, symbol.colour, max(symbol.width, 1.0), by, tolerance))
    found.append(_line("boundary", shapely.boundary(site.boundary), INK, 1.5, by, tolerance))
    if site.bores:
        x, y = (by * np.array([getattr(b, axis) for b in site.bores]) for axis in ("x", "y"))
        names = [b.name for b in site.bores]
        bores = {"name": "bores", "points": True, "colour": "#ffffff", "width": 6.0, "names": names}
        found.append({**bores, "x": x.round(1).tolist(), "y": y.round(1).tolist()})
    return found


def _line(name: str, shape: Any, colour: str, width: float, by: float, tolerance: float) -> dict[str, Any]:
    import shapely

    if shapely.get_dimensions(shape) == 0:
        x, y = by * shapely.get_coordinates(shape).T
        points = {"points": True, "width": 9.0, "names": [name] * len(x)}
        return {"name": name, "colour": colour, **points, "x": x.round(1).tolist(), "y": y.round(1).tolist()}
    plain = shapely.simplify(
        shapely.boundary(shape) if shapely.get_dimensions(shape) == 2 else shape, tolerance
    )
    x, y = list[float | None](), list[float | None]()
    for part in shapely.get_parts(plain):
        corners = by * shapely.get_coordinates(part)
        x += [*corners[:, 0].round(1).tolist(), None]
        y += [*corners[:, 1].round(1).tolist(), None]
    return {"name": name, "points": False, "colour": colour, "width": width, "x": x, "y": y}


def _covered(grid: Grid) -> tuple[Array, Array, NDArray[np.int64], Callable[[Array], Array]]:
    """Places within a grid, places along its rim, triangles between all (the rim first), and what cells have within."""
    import shapely

    raster = _Raster(grid, _BLOCK)
    whole = area_of(grid.mesh, np.flatnonzero(grid.uppermost >= 0), grid.rim)
    area = max(getattr(whole, "geoms", [whole]), key=lambda part: part.area)
    ring = area.exterior
    rim = np.array([ring.interpolate(s, normalized=True).coords[0][:2] for s in np.linspace(0.0, 1.0, _RIM)])
    x, y = (v.ravel() for v in np.meshgrid(raster.x, raster.y))
    step = float(raster.x[1] - raster.x[0]) if len(raster.x) > 1 else 1.0
    outline = shapely.Polygon(rim, [hole.coords for hole in area.interiors]).buffer(0.0)
    clear = 0.55 * max(step, ring.length / _RIM)  # nearer ones would part the rim's own edges
    inner = (raster.home >= 0) & shapely.contains_xy(outline.buffer(-clear), x, y)
    places = np.column_stack([x, y])[inner]
    points = np.concatenate([rim, places])
    triangles = Net(points).corners
    middle = points[triangles].mean(axis=1)
    triangles = triangles[shapely.contains_xy(outline, *middle.T)]
    return places, rim, triangles, lambda values: raster.of(values).ravel()[inner]


def block_of(grid: Grid, units: UnitChoice, water: Array | None = None) -> Live:
    """The block of layers, each to be taken off.

    Parameters
    ----------
    grid : Grid
    units : UnitChoice
    water : ndarray of float, (n_plan,), optional
        The water table [m].
    """
    by = units.of("m")[1]
    places, rim, triangles, of = _covered(grid)
    there = np.flatnonzero(grid.uppermost >= 0)
    beside = there[cKDTree(np.column_stack([grid.mesh.x, grid.mesh.y])[there]).query(rim)[1]]
    cells, number = grid.cells, grid.cell_number

    def over_all(values: Array) -> Array:
        """Values of plan cells along the rim, then at the places within."""
        return np.concatenate([values[beside], of(values)])

    found: list[dict[str, Any]] = []
    for k, name in enumerate(grid.layer_names):
        row = number[k]
        if not (row >= 0).any():
            continue
        top, bottom = (by * over_all(np.where(row >= 0, v[row], np.nan)) for v in (cells.top, cells.bottom))
        lowest = not any((number[deeper] >= 0).any() for deeper in range(k + 1, len(number)))
        surfaces = np.stack([top, bottom] if lowest else [top])
        sides = np.stack([top[: len(rim)], bottom[: len(rim)]])
        found.append({
            "name": name, "colour": material_style(k).solid, "count": len(surfaces),
            "surfaces": packed(surfaces.astype(np.float32)), "sides": packed(sides.astype(np.float32)),
        })  # fmt: skip
    data: dict[str, Any] = {
        "layers": found,
        "places": packed((by * np.concatenate([rim, places]).T).astype(np.float32)),
        "triangles": packed(triangles.astype(np.uint16)),
        "rim": len(rim),
        "length": units.of("m")[0],
        "low": by * float(cells.bottom.min()),
        "high": by * float(cells.top.max()),
    }
    if water is not None:
        data["water"] = packed((by * over_all(water)).astype(np.float32))
    words = "The layers as a block to turn with the mouse or a finger; a click on a name takes its layer off."
    return Live("block", words, data)
