"""Placing features that bring or take water at a rate: recharge, plants, flows across a line."""

from __future__ import annotations

from typing import Any

import numpy as np

from inkhorn.model.placing.diverting import diverted
from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.rim import OnRim, along_rim, parts_of
from inkhorn.model.placing.traced import Traced, concatenated, plain
from inkhorn.model.terms import EvapotranspirationTerm, GivenFlowTerm, RechargeTerm
from inkhorn.site import Evapotranspiration, GivenFlow, Recharge, value_count

__all__: list[str] = []


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
        counts = Traced(area) - diverted(plan, feature, place, rate, there)
        area = plain(counts)
        held = float(area[plan.held[cells] != None].sum())  # noqa: E711 - of an array, one by one
        note = f"{held / area.sum():.1%} falls on cells of fixed head" if held else ""
        total, mean = _total(plan, rate, area)
        spots.append(
            Spot(
                feature,
                cells,
                {"rate": rate, "area": counts},
                total,
                f"m³/day in{mean}",
                place.outside,
                note,
            )
        )
    return spots


@places(Evapotranspiration, EvapotranspirationTerm)
def place_evapotranspiration(features: list[Evapotranspiration], plan: Plan) -> list[Spot]:
    """The cells below each polygon that plants can reach, by area; of cells told one by one these alone."""
    of, number, spots, count = plan.grid.cells, plan.grid.cell_number, [], 0
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, area, there = plan.on_top(place)
        entry = np.arange(len(cells))
        ground = of.top[cells]
        deep = plain(plan.value(feature, "below_ground", place) + plan.value(feature, "depth", place))[
            ..., there
        ]
        if place.cells is None:  # the uppermost, and those below whose top the plants reach
            column = number[:, place.plan]
            reached = (column >= 0) & (of.top[column] > ground - deep) | (column == cells)
            layer, entry = np.nonzero(reached)
            order = np.lexsort((layer, entry))
            layer, entry = layer[order], entry[order]
            cells, area = column[layer, entry], area[entry]
        rate, depth, below = (
            plan.value(feature, name, place)[..., there][..., entry]
            for name in ("rate", "depth", "below_ground")
        )
        values = {"rate": rate, "area": Traced(area), "surface": ground[entry] - below, "depth": depth}
        first = np.concatenate([[True], entry[1:] != entry[:-1]]) if len(entry) else np.empty(0, dtype=bool)
        total, mean = _total(plan, rate[..., first], area[first])
        where = {"column": (count + entry).astype(np.float64)}
        count += len(entry) + 1
        spots.append(
            Spot(feature, cells, values, total, f"m³/day out at most{mean}", place.outside, where=where)
        )
    return spots


def _shared(plan: Plan, cells: Index, entry: Index, count: int) -> Traced:
    """Share of each cell in the water of its column, by transmissivity."""
    through = plan.properties["horizontal_conductivity"][cells] * plan.grid.cells.thickness[cells]
    return through / through.summed(entry, count)[entry]


def _shared_on_rim(plan: Plan, feature: GivenFlow, rim: OnRim) -> Traced:
    """The same of cells at the rim, of all that the feature passes below its place."""
    column = plan.grid.cell_number[np.array(plan.rows(feature))[:, None], rim.place.plan]
    layer, entry = np.nonzero(column >= 0)
    cells = column[layer, entry]
    through = plan.properties["horizontal_conductivity"][cells] * plan.grid.cells.thickness[cells]
    own = plan.properties["horizontal_conductivity"][rim.cell] * plan.grid.cells.thickness[rim.cell]
    return own / through.summed(entry, len(rim.cell))


@places(GivenFlow, GivenFlowTerm)
def place_given_flows(features: list[GivenFlow], plan: Plan) -> list[Spot]:
    """Through the outer sides where a line lies on the rim, elsewhere into the cells it crosses."""
    return [_place_given_flow(f, plan) for f in features]


def _place_given_flow(feature: GivenFlow, plan: Plan) -> Spot:
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
    rim, rest = along_rim(plan, feature, plan.rows(feature))
    parts: list[tuple[Index, Traced, Array, Any]] = []
    if rim is not None:
        parts.append((rim.cell, _shared_on_rim(plan, feature, rim), rim.place.size, rim.face))
    for place in plan.footprints(parts_of(feature, rest)):
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
