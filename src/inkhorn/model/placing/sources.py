"""Placing features that bring or take water at a rate: recharge, plants, flows across a line."""

from __future__ import annotations

from typing import Any

import numpy as np

from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.traced import Traced, concatenated, plain
from inkhorn.model.terms import EvapotranspirationTerm, GivenFlowTerm, RechargeTerm
from inkhorn.site import Evapotranspiration, GivenFlow, Recharge, value_count

__all__: list[str] = []

_ON_RIM = 1e-3  # of a cell's size: how near to the rim, or to the boundary, a line is on it


def _total(plan: Plan, rate: Any, area: Any) -> tuple[float, str]:
    """Sum over entries, of what changes in time the mean, and words for that."""
    return plan.over_time((plain(rate) * plain(area)).sum(axis=-1)) if np.size(area) else (0.0, "")


@places(Recharge, RechargeTerm)
def place_recharge(features: list[Recharge], plan: Plan) -> list[Spot]:
    """The uppermost cells below each polygon, by area."""
    spots = []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, area, there = plan.on_top(place)
        rate = plan.value(feature, "rate", place)[..., there]
        held = float(area[plan.held[cells] != None].sum())  # noqa: E711 - of an array, one by one
        note = f"{held / area.sum():.1%} falls on cells of fixed head" if held else ""
        total, mean = _total(plan, rate, area)
        spots.append(
            Spot(
                feature,
                cells,
                {"rate": rate, "area": Traced(area)},
                total,
                f"m³/day in{mean}",
                place.outside,
                note,
            )
        )
    return spots


@places(Evapotranspiration, EvapotranspirationTerm)
def place_evapotranspiration(features: list[Evapotranspiration], plan: Plan) -> list[Spot]:
    """The uppermost cells below each polygon, by area."""
    spots = []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, area, there = plan.on_top(place)
        rate = plan.value(feature, "rate", place)[..., there]
        values = {
            "rate": rate,
            "area": Traced(area),
            "surface": plan.grid.cells.top[cells] - plan.value(feature, "below_ground", place)[..., there],
            "depth": plan.value(feature, "depth", place)[..., there],
        }
        total, mean = _total(plan, rate, area)
        spots.append(Spot(feature, cells, values, total, f"m³/day out at most{mean}", place.outside))
    return spots


def _shared(plan: Plan, cells: Index, entry: Index, count: int) -> Traced:
    """Share of each cell in the water of its column, by transmissivity."""
    through = plan.properties["horizontal_conductivity"][cells] * plan.grid.cells.thickness[cells]
    return through / through.summed(entry, count)[entry]


def _through_sides(plan: Plan, feature: GivenFlow, line: Any) -> tuple[Index, Index, Index, Array]:
    """Cells on the rim along a line, which side of the plan each belongs to, its outer face, and the sides' lengths."""
    size = float(np.sqrt(plan.grid.mesh.area[plan.rim.cell]).max())
    side, length, below = plan.sides(feature, line, 1.5 * size)
    number = plan.grid.number[np.array(plan.rows(feature))[:, None], below]
    layer, entry = np.nonzero(number >= 0)
    cells = number[layer, entry]
    outer = plan.grid.outer_faces
    middle = plan.rim.ends[side].mean(axis=1)
    order = np.argsort(outer.cell, kind="stable")
    first = np.searchsorted(outer.cell[order], cells)
    last = np.searchsorted(outer.cell[order], cells, "right")
    face = np.full(len(cells), -1, dtype=np.int64)
    for k, (a, b) in enumerate(zip(first, last, strict=True)):  # a side of a larger cell may hold several
        mine = order[a:b]
        off = np.abs(((outer.middle[mine] - middle[entry[k]]) * outer.normal[mine]).sum(axis=1))
        apart = np.hypot(*(outer.middle[mine] - middle[entry[k]]).T) - 0.5 * outer.length[mine]
        face[k] = mine[np.argmin(off + np.maximum(apart, 0.0))]
    return cells, entry, face, length


@places(GivenFlow, GivenFlowTerm)
def place_given_flows(features: list[GivenFlow], plan: Plan) -> list[Spot]:
    """Through the outer sides where a line lies on the rim, elsewhere into the cells it crosses."""
    return [_place_given_flow(f, plan) for f in features]


def _place_given_flow(feature: GivenFlow, plan: Plan) -> Spot:
    import shapely

    (name,) = (n for way in feature.ways for n in way if getattr(feature, n) is not None)
    sign = 1.0 if name.startswith("inflow") else -1.0
    if feature.geometry == "cells":
        (place,) = plan.footprints([feature])
        assert place.cells is not None
        told = len(feature.shape)
        share = _shared(plan, place.cells, place.along.astype(np.int64), told)  # by the parts of a layer
        if name in ("inflow", "outflow") and value_count(getattr(feature, name)) == 1:
            share = share / len(np.unique(place.along))
        each = sign * plan.value(feature, name, place) * share
        ones = np.ones(len(place.cells))
        return _given_spot(plan, feature, place.cells, each, ones, None, "inside", place.outside)
    rate, line = sign * plan.value(feature, name), feature.shape
    size = float(np.sqrt(plan.grid.mesh.area[plan.rim.cell]).min())
    edges = [
        shapely.union_all(shapely.linestrings(plan.rim.ends)),
        *([plan.boundary.boundary] * (plan.boundary is not None)),
    ]
    on = line.intersection(shapely.union_all(edges).buffer(_ON_RIM * size))
    lengths = [g for g in shapely.get_parts(shapely.line_merge(on)) if g.length > 8.0 * _ON_RIM * size]
    rim = shapely.MultiLineString(lengths)  # no mere crossings
    inside = line.difference(rim.buffer(_ON_RIM * size)) if lengths else line
    parts: list[tuple[Index, Traced, Array, Any]] = []
    for stretch in shapely.get_parts(rim):
        if stretch.length <= 0:
            continue
        cells, entry, face, length = _through_sides(plan, feature, stretch)
        if len(cells):
            length = length * stretch.length / length.sum()  # steps of a staircase cover it once
            parts.append((cells, _shared(plan, cells, entry, len(length)), length[entry], face))
    rest = [g for g in shapely.get_parts(inside) if g.length > 4.0 * _ON_RIM * size]
    for piece in rest:
        (place,) = plan.footprints([_only(feature, piece)])
        cells, entry = plan.column_cells(place)
        if len(cells):
            share = _shared(plan, cells, entry, len(place.plan))
            parts.append((cells, share, place.size[entry], np.full(len(cells), -1)))
    if not parts:
        none = np.empty(0)
        return _given_spot(plan, feature, none.astype(np.int64), Traced(none), none, None, "side", 1.0)
    cells, size_of = (np.concatenate([p[k] for p in parts]) for k in (0, 2))
    face = np.concatenate([p[3] for p in parts])
    share = concatenated([p[1] for p in parts])
    met = float((plain(share) * size_of).sum())
    per_length = rate if name.endswith("_per_length") else rate / met
    crossing = np.where(face >= 0, "side", "inside")
    return _given_spot(
        plan, feature, cells, per_length * share, size_of, face, crossing, max(1.0 - met / line.length, 0.0)
    )


def _only(feature: GivenFlow, line: Any) -> Any:
    """The same feature along part of its line."""
    import dataclasses

    return dataclasses.replace(feature, shape=line)


def _given_spot(
    plan: Plan,
    feature: GivenFlow,
    cells: Any,
    rate: Any,
    measure: Array,
    face: Any,
    crossing: Any,
    outside: float,
) -> Spot:
    total, mean = _total(plan, rate, measure)
    note = ""
    if face is not None and len(cells):
        through = float(measure[face >= 0].sum() / measure.sum())
        ways = (
            "through outer sides" if through == 1.0 else f"{through:.0%} through outer sides, the rest inside"
        )
        note = ways if through else ""
    return Spot(
        feature,
        cells,
        {"rate": rate * measure},
        abs(total),
        f"m³/day {'in' if total >= 0 else 'out'}{mean}" if len(cells) else "m³/day",
        outside,
        note,
        crossing=crossing,
        outer_face=-1 if face is None else face,
    )
