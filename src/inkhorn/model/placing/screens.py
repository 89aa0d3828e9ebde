"""Placing wells and collectors."""

from __future__ import annotations

from itertools import pairwise
from typing import NamedTuple

import numpy as np

from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.traced import Traced, plain
from inkhorn.model.terms import CollectorTerm, WellTerm
from inkhorn.site import Collector, Well
from inkhorn.space import radius_slopes

__all__: list[str] = []

_SHIFT = 0.01  # of a cell's size: how far from its middle a well stands before it is told


def _rate(feature: Well | Collector, plan: Plan) -> tuple[Traced, float, str]:
    """Rate of the whole, (1,) or (n_periods, 1), positive into the aquifer; its size, and unit; in time its mean."""
    rate = plan.value(feature, "injection") - plan.value(feature, "abstraction")
    mean, words = plan.over_time(rate.values.sum(axis=-1))
    return rate, abs(mean), f"m³/day {'in' if mean > 0 else 'out'}{words}"


def _connection(length: Array, ease: Traced, radius: Traced, skin: Traced, reach: Traced) -> Traced:
    """``2 pi length ease / (ln(reach / radius) + skin)``; a cell hardly wider than the bore still resists."""
    wide = (reach / radius).at_least(1.5)
    return 2.0 * np.pi * length * ease / (wide.log() + skin).at_least(0.1)


class _Screened(NamedTuple):
    """The cells that a screen meets, where it ends in each, the share of it that is in none, and where it stands."""

    cells: Index
    top: Array
    bottom: Array
    missed: float
    place: Array


@places(Well, WellTerm)
def place_wells(features: list[Well], plan: Plan) -> list[Spot]:
    """Every cell that a screen meets, by the length of screen in it."""
    if not features:
        return []
    points = [w for w in features if w.geometry == "point"]
    at = plan.grid.mesh.locate([w.shape.x for w in points], [w.shape.y for w in points])
    home = dict(zip(map(id, points), at.tolist(), strict=True))
    screens = [_screened(well, plan, home.get(id(well))) for well in features]
    cells = np.concatenate([s.cells for s in screens])
    place = np.concatenate([s.place for s in screens])
    reach = _reach(plan, cells, place) if len(cells) else Traced([])
    begin = np.cumsum([0] + [len(s.cells) for s in screens])
    return [
        _place_well(well, plan, screen, reach[a:b])
        for well, screen, (a, b) in zip(features, screens, pairwise(begin), strict=True)
    ]


def _reach(plan: Plan, cells: Index, place: Array) -> Traced:
    """Equivalent radii at places in cells, and how they answer to the anisotropy there and to its direction."""
    tensor = [plan.properties[name].values for name in ("anisotropy", "direction")]
    radius, slopes = radius_slopes(plan.grid, cells, place, *tensor)
    found = Traced(radius)
    for name, slope in slopes.items():
        own = plan.properties[name][cells]
        found = found + slope * (own - own.values)
    return found


def _screened(well: Well, plan: Plan, at: int | None) -> _Screened:
    of = plan.grid.cells
    if at is None:
        cells, whose = plan.picked(well)
        missed = 1.0 - len(np.unique(whose)) / len(well.shape)
        middle = np.column_stack([of.x[cells], of.y[cells]])
        return _Screened(cells, of.top[cells], of.bottom[cells], missed, middle)
    column = plan.grid.column_of(at) if at >= 0 else np.empty(0, np.int64)
    assert well.screen_top is not None  # the feature has seen to that
    assert well.screen_bottom is not None
    top, bottom = (
        np.minimum(of.top[column], well.screen_top),
        np.maximum(of.bottom[column], well.screen_bottom),
    )
    met = top > bottom
    whole = well.screen_top - well.screen_bottom
    missed = 1.0 - float((top - bottom)[met].sum()) / whole
    place = np.tile([[well.shape.x, well.shape.y]], (int(met.sum()), 1))
    return _Screened(column[met], top[met], bottom[met], missed, place)


def _place_well(well: Well, plan: Plan, screen: _Screened, reach: Traced) -> Spot:
    grid, cells, top, bottom = plan.grid, screen.cells, screen.top, screen.bottom
    rate, total, unit = _rate(well, plan)
    lowest = Traced([bottom.min(initial=np.inf)])
    if well.lowest_level is not None:
        lowest = plan.value(well, "lowest_level")
    elif well.screen_bottom is not None:
        lowest = plan.value(well, "screen_bottom")
    alone = {"rate": rate, "lowest_level": lowest, "well_loss": plan.value(well, "well_loss")}
    if well.casing_radius is not None:
        casing = plan.value(well, "casing_radius")
        alone["casing_area"] = np.pi * casing * casing
    if len(cells) == 0:
        return Spot(well, cells, {"connection": Traced([]), **alone}, total, unit, 1.0)
    screened = top - bottom
    # radial flow where the conductivity differs by direction meets the geometric mean of greatest and least
    ease = 1.0 / plan.properties["anisotropy"][cells].sqrt()
    radius, skin = plan.value(well, "radius"), plan.value(well, "skin")
    connection = _connection(screened, ease, radius, skin, reach)
    through = screened * plain(plan.properties["horizontal_conductivity"][cells])
    share = through / through.sum() if through.sum() > 0.0 else screened / screened.sum()
    layers = [grid.layer_names[k] for k in grid.cells.layer[cells]]
    notes = ["screen in " + ", ".join(f"{name} {s:.0%}" for name, s in zip(layers, share, strict=True))]
    place = screen.place.mean(axis=0)
    off = np.hypot(grid.cells.x[cells[0]] - place[0], grid.cells.y[cells[0]] - place[1])
    if well.geometry == "point" and off > _SHIFT * np.sqrt(grid.cells.area[cells[0]]):
        notes.append(f"{off:.3g} m from the middle of its cell")
    coarse = grid.cells.area[cells] > 1.01 * grid.mesh.area[grid.cells.plan_cell[cells]]
    if coarse.any() and not coarse.all():
        names = ", ".join(name for name, c in zip(layers, coarse, strict=True) if c)
        notes.append(f"in {names} cells are larger than above")
    where = {"x": place[:1], "y": place[1:], "screen_top": top, "screen_bottom": bottom}
    values = {"connection": connection, **alone}
    return Spot(well, cells, values, total, unit, float(screen.missed), "; ".join(notes), where=where)


@places(Collector, CollectorTerm)
def place_collectors(features: list[Collector], plan: Plan) -> list[Spot]:
    """Every cell along a lying screen that holds its axis.

    The equivalent radius is Peaceman's in the plane across the screen, between a width of the cell in plan
    and its height, with the horizontal and the vertical conductivity; the flow meets their geometric mean.

    References
    ----------
    Peaceman, D. W. (1983), SPE Journal 23(3), 531-543, eq. 21.
    """
    grid, of, spots = plan.grid, plan.grid.cells, []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        rate, total, unit = _rate(feature, plan)
        if place.cells is not None:
            axis = np.full(len(place.cells), feature.elevation)
            cells = plan.cell_holding(place, axis)[0]
            length = np.sqrt(of.area[cells])
            outside = place.outside
        else:
            number = grid.cell_number[:, place.plan]
            holds = (of.bottom[number] <= feature.elevation) & (of.top[number] > feature.elevation)
            layer, column = np.nonzero((number >= 0) & holds)
            cells, length = number[layer, column], place.size[column]
            outside = 1.0 - float(length.sum()) / feature.shape.length
        horizontal, vertical = (
            plan.properties[f"{way}_conductivity"][cells] for way in ("horizontal", "vertical")
        )
        ease = (vertical / horizontal).sqrt()  # upwards against sideways
        width, height = np.sqrt(of.area[cells]), of.thickness[cells]
        across = 0.28 * (width**2 * ease + height**2 / ease).sqrt()
        across = across / (ease.sqrt() + 1.0 / ease.sqrt())
        radius, skin = plan.value(feature, "radius"), plan.value(feature, "skin")
        lowest = plan.value(feature, "elevation" if feature.lowest_level is None else "lowest_level")
        values = {
            "connection": _connection(length, ease, radius, skin, across),
            "rate": rate,
            "lowest_level": lowest,
        }
        where = {k: np.full(len(cells), feature.elevation) for k in ("screen_top", "screen_bottom")}
        spots.append(Spot(feature, cells, values, total, unit, outside, where=where))
    return spots
