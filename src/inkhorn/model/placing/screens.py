"""Placing wells and collectors."""

from __future__ import annotations

import numpy as np

from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.traced import Traced
from inkhorn.model.terms import CollectorTerm, WellTerm
from inkhorn.site import Collector, Well

__all__: list[str] = []


def _rate(feature: Well | Collector, plan: Plan) -> tuple[Traced, float, str]:
    """Rate of the whole, (1,) or (n_periods, 1), positive into the aquifer; its size, and unit; in time its mean."""
    rate = plan.value(feature, "injection") - plan.value(feature, "abstraction")
    mean, words = plan.over_time(rate.values.sum(axis=-1))
    return rate, abs(mean), f"m³/day {'in' if mean > 0 else 'out'}{words}"


def _connection(length: Array, ease: Traced, radius: Traced, skin: Traced, reach: Traced) -> Traced:
    """``2 pi length ease / (ln(reach / radius) + skin)``; a cell hardly wider than the bore still resists."""
    wide = (reach / radius).at_least(1.5)
    return 2.0 * np.pi * length * ease / (wide.log() + skin).at_least(0.1)


@places(Well, WellTerm)
def place_wells(features: list[Well], plan: Plan) -> list[Spot]:
    """Every cell that a screen meets, by the length of screen in it."""
    if not features:
        return []
    points = [w for w in features if w.geometry == "point"]
    at = plan.grid.mesh.locate([w.shape.x for w in points], [w.shape.y for w in points])
    home = dict(zip(map(id, points), at.tolist(), strict=True))
    return [_place_well(well, plan, home.get(id(well))) for well in features]


def _screened(well: Well, plan: Plan, at: int | None) -> tuple[Index, Array, Array, float]:
    """The cells that a screen meets, where it ends in each, and the share of it that is in none."""
    of = plan.grid.cells
    if at is None:
        cells, whose = plan.picked(well)
        missed = 1.0 - len(np.unique(whose)) / len(well.shape)
        return cells, of.top[cells], of.bottom[cells], missed
    column = plan.grid.column_of(at) if at >= 0 else np.empty(0, np.int64)
    assert well.screen_top is not None  # the feature has seen to that
    assert well.screen_bottom is not None
    top, bottom = (
        np.minimum(of.top[column], well.screen_top),
        np.maximum(of.bottom[column], well.screen_bottom),
    )
    met = top > bottom
    whole = well.screen_top - well.screen_bottom
    return column[met], top[met], bottom[met], 1.0 - float((top - bottom)[met].sum()) / whole


def _place_well(well: Well, plan: Plan, at: int | None) -> Spot:
    grid = plan.grid
    rate, total, unit = _rate(well, plan)
    cells, top, bottom, missed = _screened(well, plan, at)
    lowest = Traced([bottom.min(initial=np.inf)])
    if well.lowest_level is not None:
        lowest = plan.value(well, "lowest_level")
    elif well.screen_bottom is not None:
        lowest = plan.value(well, "screen_bottom")
    alone = {"rate": rate, "lowest_level": lowest, "losses": plan.value(well, "losses")}
    if len(cells) == 0:
        return Spot(well, cells, {"connection": Traced([]), **alone}, total, unit, 1.0)
    screened = top - bottom
    # radial flow where the conductivity differs by direction meets the geometric mean of greatest and least
    ease = 1.0 / plan.properties["anisotropy"][cells].sqrt()
    reach = Traced(grid.equivalent_radius(cells))
    connection = _connection(screened, ease, plan.value(well, "radius"), plan.value(well, "skin"), reach)
    share = screened / screened.sum()
    layers = [grid.layer_names[k] for k in grid.cells.layer[cells]]
    note = "screen in " + ", ".join(f"{name} {s:.0%}" for name, s in zip(layers, share, strict=True))
    place = {"x": well.x, "y": well.y}
    if at is None:
        place = {"x": float(grid.cells.x[cells].mean()), "y": float(grid.cells.y[cells].mean())}
    where = {k: np.array([v]) for k, v in place.items()} | {"screen_top": top, "screen_bottom": bottom}
    values = {"connection": connection, **alone}
    return Spot(well, cells, values, total, unit, float(missed), note, where=where)


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
            number = grid.number[:, place.plan]
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
