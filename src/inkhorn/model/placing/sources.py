"""Placing features that bring or take water at a rate, and barriers."""

from __future__ import annotations

from typing import Any

import numpy as np

from inkhorn.model.placing.plan import Array, Plan, Spot
from inkhorn.site import Barrier, Collector, Recharge, Well, along_line

__all__ = ["place_barriers", "place_collectors", "place_recharge", "place_wells"]


def place_recharge(features: list[Recharge], plan: Plan) -> list[Spot]:
    """The uppermost cells below each polygon, by area."""
    spots = []
    for feature, piece in zip(features, plan.cut([f.shape for f in features]), strict=True):
        cells, area = plan.grid.uppermost[piece.plan], piece.size
        rate = along_line(feature.shape, plan.in_time(feature, "rate"), np.zeros(len(cells)))
        held = sum(a for c, a in zip(cells.tolist(), area, strict=True) if c in plan.held)
        spots.append(
            Spot(
                feature,
                cells,
                {"rate": rate, "area": area},
                float((rate * area).sum(axis=-1).mean()) if len(cells) else 0.0,
                "m³/day in",
                outside=1.0 - float(area.sum()) / feature.shape.area,
                note=f"{held / area.sum():.1%} falls on cells of fixed head" if held else "",
            )
        )
    return spots


def _rate(feature: Well | Collector, plan: Plan) -> tuple[Array, float, str]:
    """Rate of the whole, (1,) or (n_periods, 1), positive into the aquifer; its mean and direction in words."""
    rate = plan.in_time(feature, "injection") - plan.in_time(feature, "abstraction")
    mean = float(rate.mean())
    return rate, abs(mean), "m³/day in" if mean > 0 else "m³/day out"


def place_wells(features: list[Well], plan: Plan) -> list[Spot]:
    """Every cell that a screen meets, by the length of screen in it."""
    if not features:
        return []
    at = plan.grid.mesh.locate([w.x for w in features], [w.y for w in features])
    return [_place_well(well, plan, int(plan_cell)) for well, plan_cell in zip(features, at, strict=True)]


def _place_well(well: Well, plan: Plan, at: int) -> Spot:
    grid = plan.grid
    rate, total, unit = _rate(well, plan)
    lowest = well.screen_bottom if well.lowest_level is None else well.lowest_level
    alone = {"rate": rate, "lowest_level": np.array([lowest]), "losses": np.array([well.losses])}
    nowhere = Spot(well, np.empty(0, np.int64), {"connection": np.empty(0), **alone}, total, unit, 1.0)
    if at < 0:
        return nowhere
    column = grid.column_of(at)
    top, bottom = grid.cells.top[column], grid.cells.bottom[column]
    screened = np.minimum(top, well.screen_top) - np.maximum(bottom, well.screen_bottom)
    column, screened = column[screened > 0], screened[screened > 0]
    if len(column) == 0:
        return nowhere
    missed = 1.0 - screened.sum() / (well.screen_top - well.screen_bottom)
    # a cell hardly wider than the bore still resists
    wide = np.maximum(grid.equivalent_radius(column) / well.radius, 1.5)
    # radial flow where the conductivity differs by direction meets the geometric mean of greatest and least
    mean = 1.0 / np.sqrt(plan.properties["anisotropy"][column])
    connection = 2.0 * np.pi * screened * mean / np.maximum(np.log(wide) + well.skin, 0.1)
    share = screened / screened.sum()
    layers = [grid.layer_names[k] for k in grid.cells.layer[column]]
    note = "screen in " + ", ".join(f"{name} {s:.0%}" for name, s in zip(layers, share, strict=True))
    return Spot(well, column, {"connection": connection, **alone}, total, unit, float(missed), note)


def place_collectors(features: list[Collector], plan: Plan) -> list[Spot]:
    """Every cell along a lying screen that holds its axis.

    The equivalent radius is Peaceman's in the plane across the screen, between a width of the cell in plan
    and its height, with the horizontal and the vertical conductivity; the flow meets their geometric mean.

    References
    ----------
    Peaceman, D. W. (1983), SPE Journal 23(3), 531-543, eq. 21.
    """
    grid, spots = plan.grid, []
    horizontal, vertical = (plan.properties[f"{way}_conductivity"] for way in ("horizontal", "vertical"))
    for feature, piece in zip(features, plan.cut([f.shape for f in features]), strict=True):
        rate, total, unit = _rate(feature, plan)
        number = grid.number[:, piece.plan]
        holds = (
            (number >= 0)
            & (grid.cells.bottom[number] <= feature.elevation)
            & (grid.cells.top[number] > feature.elevation)
        )
        layer, column = np.nonzero(holds)
        cells, length = number[layer, column], piece.size[column]
        ease = np.sqrt(vertical[cells] / horizontal[cells])  # upwards against sideways
        across = 0.28 * np.hypot(
            np.sqrt(grid.cells.area[cells] * ease), grid.cells.thickness[cells] / np.sqrt(ease)
        )
        across /= np.sqrt(ease) + 1.0 / np.sqrt(ease)
        wide = np.maximum(across / feature.radius, 1.5)
        connection = 2.0 * np.pi * length * ease / np.maximum(np.log(wide) + feature.skin, 0.1)
        lowest = feature.elevation if feature.lowest_level is None else feature.lowest_level
        values = {"connection": connection, "rate": rate, "lowest_level": np.array([lowest])}
        outside = 1.0 - float(length.sum()) / feature.shape.length
        spots.append(Spot(feature, cells, values, total, unit, outside))
    return spots


def place_barriers(features: list[Barrier], plan: Plan) -> tuple[list[Spot], Array | None]:
    """Side faces between centres that a line parts, and their resistance; several add up."""
    import shapely

    if not features:
        return [], None
    grid, faces = plan.grid, plan.grid.faces
    resistance = np.zeros(len(faces))
    side = np.flatnonzero(~faces.is_floor)
    centre = np.column_stack([grid.cells.x, grid.cells.y])[faces.cells[side]]
    between = shapely.linestrings(centre)
    shapes = np.array([f.shape for f in features], dtype=object)
    whose, crossed = shapely.STRtree(between).query(shapes, predicate="intersects")
    spots = []
    for k, feature in enumerate(features):
        mine = side[crossed[whose == k]]
        rows = [plan.layer(feature, n) for n in feature.layers] or list(range(len(grid.layer_names)))
        mine = mine[np.isin(grid.cells.layer[faces.cells[mine, 0]], rows)]
        resistance[mine] += feature.resistance
        cells: Any = np.unique(faces.cells[mine])
        spots.append(
            Spot(feature, cells, {}, float(faces.area[mine].sum()), "m² of faces", float(len(mine) == 0))
        )
    return spots, resistance
