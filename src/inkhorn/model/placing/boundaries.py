"""Placing features that have a level of their own."""

from __future__ import annotations

from typing import Any

import numpy as np

from inkhorn.model.placing.plan import Footprint, Plan, Spot, places
from inkhorn.model.placing.traced import Traced, plain
from inkhorn.model.terms import (
    DrainTerm,
    FixedHeadTerm,
    HeadDependentTerm,
    RiverTerm,
    SeepageTerm,
    SpringTerm,
)
from inkhorn.site import Drain, FixedHead, HeadDependent, River, Seepage, Spring

__all__ = ["MEASURED"]

MEASURED = {"line": "m", "polygon": "m²", "point": "point", "cells": "cells"}  # what a footprint's size is in


def _left_out(place: Footprint, placed: float) -> float:
    """Share of a feature that is not in any of its cells."""
    shape = place.feature.shape
    if place.feature.geometry not in ("line", "polygon"):
        return place.outside
    return 1.0 - placed / (shape.length if place.feature.geometry == "line" else shape.area)


@places(FixedHead, FixedHeadTerm)  # first of all, so that the others can say what falls on them
def place_fixed_heads(features: list[FixedHead], plan: Plan) -> list[Spot]:
    """Cells below each shape; a cell that two would hold stays with the first."""
    import shapely

    grid = plan.grid
    lines = [f for f in features if f.geometry != "polygon"]
    found = dict(zip(map(id, lines), plan.footprints(lines), strict=True))
    spots = []
    for feature in features:
        if id(feature) in found:
            place = found[id(feature)]
        else:  # of a polygon the cells whose centre is inside
            inside = shapely.contains_xy(feature.shape, grid.mesh.x, grid.mesh.y) & (grid.uppermost >= 0)
            below = np.flatnonzero(inside)
            place = Footprint(feature, below, grid.mesh.area[below], np.zeros(len(below)))
        head = plan.value(feature, "head", place)
        if place.cells is not None:
            cells = place.cells
        elif feature.every_layer or feature.layers:
            cells, entry = plan.column_cells(place)
            head = head[..., entry]
        else:
            cells = grid.uppermost[place.plan]
        cells, first = np.unique(cells, return_index=True)  # several plan cells may be joined to one
        free = plan.held[cells] == None  # noqa: E711 - of an array, one by one
        note = ""
        if not free.all():
            others = sorted(set(plan.held[cells[~free]]))
            note = f"{int((~free).sum())} cells are already held by {', '.join(others)}"
        cells, head = cells[free], head[..., first[free]]
        plan.held[cells] = feature.name
        area = float(grid.cells.area[cells].sum())
        spots.append(Spot(feature, cells, {"head": head}, area, "m²", place.outside, note))
    return spots


@places(HeadDependent, HeadDependentTerm)
def place_head_dependent(features: list[HeadDependent], plan: Plan) -> list[Spot]:
    """Every cell that a shape meets, in its layers; the conductance shared by thickness."""
    spots = []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, entry = plan.column_cells(place)
        thickness = plan.grid.cells.thickness[cells]
        size = place.size[entry]
        if feature.conductance is not None:
            whose = entry if place.cells is None else place.along.astype(np.int64)
            share = thickness / np.bincount(whose, thickness)[whose]
            value, measure = plan.value(feature, "conductance", place)[entry], size * share
        else:
            over = plan.value(feature, "conductivity") / plan.value(feature, "distance")
            value, measure = over * thickness, size
        values = {"conductance": value, "head": plan.value(feature, "head", place)[..., entry]}
        total = float((plain(value) * measure).sum())
        spots.append(
            Spot(
                feature,
                cells,
                values,
                total,
                "m²/day",
                place.outside,
                measure={"conductance": measure},
            )
        )
    return spots


def _per_size(
    feature: Any, plan: Plan, place: Footprint, levels: tuple[str, ...], conductance: Traced
) -> Spot:
    """A line or polygon whose conductance grows with its size; the last of its levels says which cell it lies in."""
    values = {name: plan.value(feature, name, place) for name in levels}
    cells, there = plan.cell_holding(place, values[levels[-1]], feature.layer)
    size = place.size[there]
    placed = {name: v[..., there] for name, v in values.items()}
    total, unit = float(size.sum()), MEASURED[feature.geometry]
    if feature.geometry in ("point", "cells"):
        total, unit = float((plain(conductance[there]) * size).sum()), "m²/day"
    return Spot(
        feature,
        cells,
        {"conductance": conductance[there], **placed},
        total,
        unit,
        _left_out(place, float(size.sum())),
        measure={"conductance": size},
    )


@places(River, RiverTerm)
def place_rivers(features: list[River], plan: Plan) -> list[Spot]:
    """Each cell that a line crosses, by its length in it, in the layer that holds its bed."""
    spots = []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        if feature.conductance is not None:
            per_length = plan.value(feature, "conductance", place)
        else:
            bed = (plan.value(feature, k, place) for k in ("bed_conductivity", "width", "bed_thickness"))
            conductivity, width, thickness = bed
            per_length = conductivity * width / thickness
        spots.append(_per_size(feature, plan, place, ("stage", "bed"), per_length))
    return spots


@places(Drain, DrainTerm)
def place_drains(features: list[Drain], plan: Plan) -> list[Spot]:
    """Lines by length, polygons by area, in the layer that holds their level."""
    return [
        _per_size(f, plan, place, ("level",), plan.value(f, "conductance", place))
        for f, place in zip(features, plan.footprints(features), strict=True)
    ]


@places(Spring, SpringTerm)
def place_springs(features: list[Spring], plan: Plan) -> list[Spot]:
    """The cell below each point that holds its level."""
    return [
        _per_size(f, plan, place, ("level",), plan.value(f, "conductance", place))
        for f, place in zip(features, plan.footprints(features), strict=True)
    ]


@places(Seepage, SeepageTerm)
def place_seepage(features: list[Seepage], plan: Plan) -> list[Spot]:
    """The uppermost cells below each polygon, at their top; through their own upper half if not said otherwise."""
    spots, of = [], plan.grid.cells
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, area, there = plan.on_top(place)
        if feature.conductance is not None:
            per_area = plan.value(feature, "conductance", place)[..., there]
        else:
            per_area = plan.properties["vertical_conductivity"][cells] / (0.5 * of.thickness[cells])
        values = {"conductance": per_area, "level": Traced(of.top[cells])}
        outside = place.outside
        spots.append(
            Spot(feature, cells, values, float(area.sum()), "m²", outside, measure={"conductance": area})
        )
    return spots
