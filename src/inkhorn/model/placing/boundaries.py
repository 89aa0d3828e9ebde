"""Placing features that have a level of their own."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np

from inkhorn.model.placing.footprints import Footprint
from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.rim import OnRim, along_rim, parts_of
from inkhorn.model.placing.traced import Traced, concatenated, plain
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

_SLIVER = 1e-6  # of an outer face
MEASURED = {"line": "m", "polygon": "m²", "point": "point", "cells": "cells"}  # what a footprint's size is in


def _left_out(place: Footprint, placed: float) -> float:
    """Share of a feature that is not in any of its cells."""
    shape = place.feature.shape
    if place.feature.geometry not in ("line", "polygon"):
        return place.outside
    return 1.0 - placed / (shape.length if place.feature.geometry == "line" else shape.area)


def _covered(through: float, inside: float) -> tuple[float, str, str]:
    """What of a line is covered, in which unit, and a note on where."""
    whole = through + inside
    note = "" if through == 0.0 else "through outer sides"
    if through > 0.0 and inside > 1e-6 * whole:
        note = f"{through / whole:.0%} through outer sides, the rest inside"
    return whole, "m", note


@places(FixedHead, FixedHeadTerm)  # first of all, so that the others can say what falls on them
def place_fixed_heads(features: list[FixedHead], plan: Plan) -> list[Spot]:
    """Cells below each shape, and outer faces where a line lies on the outline; of two the first holds them."""
    return [_place_fixed_head(feature, plan) for feature in features]


def _place_fixed_head(feature: FixedHead, plan: Plan) -> Spot:
    deep = feature.every_layer or bool(feature.layers)
    rim, rest = None, [feature.shape]
    if feature.geometry == "line":
        rim, rest = along_rim(plan, feature, plan.rows(feature) if deep else None)
    heads, cells, faces, ways, through, notes = [], [], [], [], 0.0, []
    outside = 0.0
    if rim is not None:
        share = np.minimum(rim.share, 1.0 - plan.held_share[rim.face])
        free = share > _SLIVER
        if (share < rim.share - 0.5).any():
            notes.append(f"{int((share < rim.share - 0.5).sum())} outer sides are already held")
        plan.held_share[rim.face] += share
        heads.append(plan.value(feature, "head", rim.place)[..., free])
        cells.append(rim.cell[free])
        faces.append(rim.face[free])
        ways.append(rim.way[free] * share[free] / rim.share[free])
        layers = len(np.unique(plan.grid.cells.layer[rim.cell])) if deep else 1
        through, outside = float(rim.place.size.sum()) / layers, rim.place.outside
    held = [_held_cells(part, plan, deep, feature) for part in parts_of(feature, rest)] if rest else []
    area, inside = 0.0, 0.0
    for place, own, head, said in held:
        notes += [said] * bool(said)
        heads.append(head)
        cells.append(own)
        faces.append(np.full(len(own), -1))
        ways.append(np.full(len(own), np.inf))
        area += float(plan.grid.cells.area[own].sum())
        inside += float(place.size.sum())
        if rim is None:
            outside = place.outside
    total, unit = area, "m²"
    if feature.geometry == "line":
        total, unit, note = _covered(through, inside)
        notes = [note] * bool(note) + notes
        outside = max(1.0 - total / feature.shape.length, 0.0)
    face = np.concatenate(faces).astype(np.int64)
    return Spot(
        feature,
        np.concatenate(cells),
        {"head": concatenated(heads), "way": Traced(np.concatenate(ways))},
        total,
        unit,
        outside,
        "; ".join(notes),
        crossing=np.where(face >= 0, "side", FixedHeadTerm.usual_crossing),
        outer_face=face,
        met=area if feature.geometry == "polygon" else None,
    )


def _held_cells(
    feature: FixedHead, plan: Plan, deep: bool, whole: FixedHead
) -> tuple[Footprint, Index, Traced, str]:
    """Where a shape holds cells: its footprint, the cells, their heads, and a note."""
    import shapely

    grid = plan.grid
    if feature.geometry != "polygon":
        (place,) = plan.footprints([feature])
    else:  # of a polygon the cells whose centre is inside
        inside = shapely.contains_xy(feature.shape, grid.mesh.x, grid.mesh.y) & (grid.uppermost >= 0)
        below = np.flatnonzero(inside)
        place = Footprint(feature, below, grid.mesh.area[below], np.zeros(len(below)))
    head = plan.value(whole, "head", _of_whole(place, whole))
    if place.cells is not None:
        cells = place.cells
    elif deep:
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
    plan.held[cells[free]] = whole.name
    return place, cells[free], head[..., first[free]], note


def _of_whole(place: Footprint, whole: Any) -> Footprint:
    """The footprint of part of a line, its places told along the whole of it."""
    import shapely

    part = place.feature.shape
    if whole.geometry != "line" or part is whole.shape:
        return dataclasses.replace(place, feature=whole)
    points = shapely.line_interpolate_point(part, place.along, normalized=True)
    along = shapely.line_locate_point(whole.shape, points, normalized=True)
    return dataclasses.replace(place, feature=whole, along=along)


@places(HeadDependent, HeadDependentTerm)
def place_head_dependent(features: list[HeadDependent], plan: Plan) -> list[Spot]:
    """Every cell that a shape meets, in its layers, and outer faces on the outline; a conductance shared by thickness."""
    return [_place_head_dependent(feature, plan) for feature in features]


def _place_head_dependent(feature: HeadDependent, plan: Plan) -> Spot:
    rim, rest = None, [feature.shape]
    if feature.geometry == "line":
        rim, rest = along_rim(plan, feature, plan.rows(feature))
    parts = []  # footprint, cells, which entry each belongs to, outer face, way through the cell
    if rim is not None:
        parts.append((rim.place, rim.cell, np.arange(len(rim.cell)), rim.face, rim.way))
    for part in parts_of(feature, rest):
        (place,) = plan.footprints([part])
        cells, entry = plan.column_cells(place)
        none = np.full(len(cells), -1), np.full(len(cells), np.inf)
        parts.append((_of_whole(place, feature), cells, entry, *none))
    values: dict[str, list[Any]] = {"conductance": [], "head": [], "way": [], "beyond": []}
    measures, total, met = [], 0.0, 0.0
    for place, cells, entry, _, way in parts:
        size, endless = place.size[entry], np.full(len(cells), np.inf)
        share = _by_thickness(plan, feature, place, cells, entry)
        values["head"].append(plan.value(feature, "head", place)[..., entry])
        met += float((size * share).sum())
        if feature.conductance is not None:
            conductance = plan.value(feature, "conductance", place)[entry]
            values["conductance"].append(conductance)
            values["way"].append(Traced(way))
            values["beyond"].append(Traced(endless))
            measures.append(size * share)
            total += float((plain(conductance) * size * share).sum())
            continue
        distance = plan.value(feature, "distance")
        values["conductance"].append(Traced(endless))
        measures.append(np.ones(len(cells)))
        if feature.conductivity is None:  # of the cells' own
            values["beyond"].append(Traced(endless))
            values["way"].append(1.0 / (1.0 / way + distance / size))
            ground = plain(plan.properties["horizontal_conductivity"][cells])
        else:
            values["beyond"].append(plan.value(feature, "conductivity") / distance * size)
            values["way"].append(Traced(way))
            ground = plain(plan.value(feature, "conductivity"))
        total += float((ground / plain(distance) * size * plan.grid.cells.thickness[cells]).sum())
    face = np.concatenate([p[3] for p in parts]).astype(np.int64)
    through = 0.0
    if rim is not None:
        share = _by_thickness(plan, feature, rim.place, rim.cell, np.arange(len(rim.cell)))
        through = float((rim.place.size * share).sum())
    note = _covered(through, met - through)[2] if feature.geometry == "line" else ""
    outside = parts[0][0].outside if rim is None else max(1.0 - met / feature.shape.length, 0.0)
    return Spot(
        feature,
        np.concatenate([p[1] for p in parts]),
        {name: concatenated(v) for name, v in values.items()},
        total,
        "m²/day",
        outside,
        note,
        measure={"conductance": np.concatenate(measures)},
        outer_face=face,
    )


def _by_thickness(plan: Plan, feature: Any, place: Footprint, cells: Index, entry: Index) -> Array:
    """Share of each cell in its column, of the layers that a feature passes, by thickness."""
    thickness = plan.grid.cells.thickness
    if place.cells is not None:
        whose = place.along.astype(np.int64)
        return np.asarray(thickness[cells] / np.bincount(whose, thickness[cells])[whose])
    column = plan.grid.cell_number[np.array(plan.rows(feature))[:, None], place.plan[entry]]
    whole = np.where(column >= 0, thickness[column], 0.0).sum(axis=0)
    return np.asarray(thickness[cells] / whole)


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
    """Each cell that a line crosses, by its length in it, in the layer that holds its bed; on the outline outer faces."""
    ways = [
        along_rim(plan, f, plan.rows_of(f.layer, f)) if f.geometry == "line" else (None, [f.shape])
        for f in features
    ]
    stretches = [parts_of(f, rest) for f, (_, rest) in zip(features, ways, strict=True)]
    found = iter(
        plan.footprints([part for parts in stretches for part in parts])
    )  # all at once is sooner done
    return [
        _place_river(f, plan, rim, [_of_whole(next(found), f) for _ in parts])
        for f, (rim, _), parts in zip(features, ways, stretches, strict=True)
    ]


def _place_river(feature: River, plan: Plan, rim: OnRim | None, inside: list[Footprint]) -> Spot:
    parts, ways, faces = [], [], []
    for place in inside:
        parts.append(
            _river_in(
                feature,
                plan,
                place,
                plan.cell_holding(place, plan.value(feature, "bed", place), feature.layer),
            )
        )
        ways.append(np.full(len(parts[-1][0]), np.inf))
        faces.append(np.full(len(parts[-1][0]), -1))
    if rim is not None:
        cells, there = plan.cell_holding(rim.place, plan.value(feature, "bed", rim.place), feature.layer)
        there = np.flatnonzero(there)[cells == rim.cell[there]]
        parts.append(_river_in(feature, plan, rim.place, (rim.cell[there], there)))
        ways.append(rim.way[there])
        faces.append(rim.face[there])
    cells, size = (np.concatenate([p[k] for p in parts]) for k in (0, 1))
    names = list(parts[0][2])
    values = {name: concatenated([p[2][name] for p in parts]) for name in names}
    through = float(size[np.concatenate(faces) >= 0].sum())
    total, unit, note = float(size.sum()), MEASURED[feature.geometry], ""
    if feature.geometry == "cells":
        total, unit = float((plain(values["conductance"]) * size).sum()), "m²/day"
    else:
        note = _covered(through, total - through)[2]
    face = np.concatenate(faces).astype(np.int64)
    return Spot(
        feature,
        cells,
        {**values, "way": Traced(np.concatenate(ways))},
        total,
        unit,
        _left_out(inside[0], total) if inside else max(1.0 - total / feature.shape.length, 0.0),
        note,
        measure={"conductance": size},
        crossing=np.where(face >= 0, "side", RiverTerm.usual_crossing),
        outer_face=face,
    )


def _river_in(
    feature: River, plan: Plan, place: Footprint, held: Any
) -> tuple[Index, Array, dict[str, Traced]]:
    """The cells that hold a stretch of river, the length in each, and what its values are there."""
    cells, there = held
    if feature.conductance is not None:
        per_length = plan.value(feature, "conductance", place)
    else:
        bed = (plan.value(feature, k, place) for k in ("bed_conductivity", "width", "bed_thickness"))
        conductivity, width, thickness = bed
        per_length = conductivity * width / thickness
    levels = {name: plan.value(feature, name, place)[..., there] for name in ("stage", "bed")}
    return cells, place.size[there], {"conductance": per_length[there], **levels}


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
