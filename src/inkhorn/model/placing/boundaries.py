"""Placing features that have a level of their own."""

from __future__ import annotations

from typing import Any

import numpy as np

from inkhorn.model.placing.plan import Array, Index, Piece, Plan, Spot
from inkhorn.site import (
    Drain,
    Evapotranspiration,
    Feature,
    FixedHead,
    HeadDependent,
    River,
    Seepage,
    Spring,
    along_line,
)

__all__ = [
    "place_drains",
    "place_evapotranspiration",
    "place_fixed_heads",
    "place_head_dependent",
    "place_rivers",
    "place_seepage",
    "place_springs",
]


def _left_out(shape: Any, placed: float) -> float:
    """Share of a line or polygon that lies outside the cells."""
    whole = shape.length if shape.geom_type == "LineString" else shape.area
    return 1.0 - placed / whole


def place_fixed_heads(features: list[FixedHead], plan: Plan) -> list[Spot]:
    """Cells below each shape; a cell that two would hold stays with the first."""
    lines = [f for f in features if f.shape.geom_type == "LineString"]
    cut = dict(zip([f.name for f in lines], plan.cut([f.shape for f in lines]), strict=True))
    return [_place_fixed_head(f, plan, cut.get(f.name)) for f in features]


def _place_fixed_head(feature: FixedHead, plan: Plan, piece: Piece | None) -> Spot:
    import shapely

    grid, shape = plan.grid, feature.shape
    if piece is not None:
        below, fraction = piece.plan, plan.fractions(shape, piece)
    elif shape.geom_type == "Point":
        below = plan.located(shape.x, shape.y)
        fraction = np.zeros(len(below))
    else:
        below = np.flatnonzero(shapely.contains_xy(shape, grid.mesh.x, grid.mesh.y) & (grid.uppermost >= 0))
        fraction = np.zeros(len(below))
    head = along_line(shape, plan.in_time(feature, "head"), fraction)
    if feature.every_layer or feature.layers:
        rows = [plan.layer(feature, n) for n in feature.layers] or list(range(len(grid.layer_names)))
        number = grid.number[rows][:, below]
        layer, column = np.nonzero(number >= 0)
        cells, head = number[layer, column], head[..., column]
    else:
        cells = grid.uppermost[below]
    cells, first = np.unique(cells, return_index=True)  # several plan cells may be joined to one
    head = head[..., first]
    free = np.array([int(c) not in plan.held for c in cells], dtype=bool)
    notes = []
    if not free.all():
        others = sorted({plan.held[int(c)] for c in cells[~free]})
        notes.append(f"{int((~free).sum())} cells are already held by {', '.join(others)}")
    plan.held.update(dict.fromkeys(cells[free].tolist(), feature.name))
    area = grid.cells.area[cells[free]].sum()
    return Spot(feature, cells[free], {"head": head[..., free]}, float(area), "m²", note="; ".join(notes))


def place_head_dependent(features: list[HeadDependent], plan: Plan) -> list[Spot]:
    """Every cell that a shape meets, in its layers; the conductance shared by thickness."""
    cut = [f for f in features if f.shape.geom_type != "Point"]
    pieces = dict(zip([f.name for f in cut], plan.cut([f.shape for f in cut]), strict=True))
    return [_place_head_dependent(f, plan, pieces.get(f.name)) for f in features]


def _place_head_dependent(feature: HeadDependent, plan: Plan, piece: Piece | None) -> Spot:
    grid, shape = plan.grid, feature.shape
    if piece is None:
        below = plan.located(shape.x, shape.y)
        size, fraction = np.ones(len(below)), np.zeros(len(below))
    else:
        below, size = piece.plan, piece.size
        line = shape.geom_type == "LineString"
        fraction = plan.fractions(shape, piece) if line else np.zeros(len(below))
    rows = [plan.layer(feature, n) for n in feature.layers] or list(range(len(grid.layer_names)))
    number = grid.number[rows][:, below]
    layer, column = np.nonzero(number >= 0)
    cells = number[layer, column]
    thickness = grid.cells.thickness[cells]
    if feature.conductance is not None:
        column_total = np.bincount(column, thickness, len(below))
        conductance = feature.conductance * size[column] * thickness / column_total[column]
    else:
        assert feature.conductivity is not None  # the feature has seen to that
        assert feature.distance is not None
        conductance = feature.conductivity / feature.distance * size[column] * thickness
    head = along_line(shape, plan.in_time(feature, "head"), fraction)[..., column]
    outside = 0.0 if piece is None else _left_out(shape, float(size.sum()))
    values = {"conductance": conductance, "head": head}
    return Spot(feature, cells, values, float(conductance.sum()), "m²/day", outside)


def _present(cells: Index, *arrays: Array) -> tuple[Any, ...]:
    """Cells that are there, and their values."""
    there = cells >= 0
    return cells[there], *(a[..., there] for a in arrays)


def _line_spot(
    feature: Feature, plan: Plan, piece: Piece, levels: tuple[str, ...], per_length: float, layer: str | None
) -> Spot:
    """A line whose conductance grows with its length; the last of its levels says which cell it lies in."""
    shape: Any = feature.shape  # type: ignore[attr-defined]  # lines have one
    fraction = plan.fractions(shape, piece)
    values = {k: along_line(shape, plan.in_time(feature, k), fraction) for k in levels}
    deepest = values[levels[-1]]
    deepest = deepest if deepest.ndim == 1 else deepest.min(axis=0)
    cells, size, *arrays = _present(
        plan.cell_holding(piece.plan, deepest, feature, layer), piece.size, *values.values()
    )
    length = float(size.sum())
    given = dict(zip(levels, arrays, strict=True))
    return Spot(
        feature, cells, {"conductance": per_length * size, **given}, length, "m", _left_out(shape, length)
    )


def place_rivers(features: list[River], plan: Plan) -> list[Spot]:
    """Each cell that a line crosses, by its length in it, in the layer that holds its bed."""
    return [
        _line_spot(f, plan, piece, ("stage", "bed"), f.conductance_per_length, f.layer)
        for f, piece in zip(features, plan.cut([f.shape for f in features]), strict=True)
    ]


def place_drains(features: list[Drain], plan: Plan) -> list[Spot]:
    """Lines by length, polygons by area, in the layer that holds their level."""
    spots = []
    for feature, piece in zip(features, plan.cut([f.shape for f in features]), strict=True):
        if feature.shape.geom_type == "LineString":
            spots.append(_line_spot(feature, plan, piece, ("level",), feature.conductance, feature.layer))
            continue
        level = along_line(feature.shape, plan.in_time(feature, "level"), np.zeros(len(piece.plan)))
        lowest = level if level.ndim == 1 else level.min(axis=0)
        cells, area, level = _present(
            plan.cell_holding(piece.plan, lowest, feature, feature.layer), piece.size, level
        )
        values = {"conductance": feature.conductance * area, "level": level}
        outside = _left_out(feature.shape, float(area.sum()))
        spots.append(Spot(feature, cells, values, float(area.sum()), "m²", outside))
    return spots


def place_springs(features: list[Spring], plan: Plan) -> list[Spot]:
    """The cell below each point that holds its level."""
    spots = []
    for feature in features:
        below = plan.located(feature.shape.x, feature.shape.y)
        level = along_line(feature.shape, plan.in_time(feature, "level"), np.zeros(len(below)))
        lowest = level if level.ndim == 1 else level.min(axis=0)
        cells, level = _present(plan.cell_holding(below, lowest, feature, feature.layer), level)
        conductance = np.full(len(cells), feature.conductance)
        values = {"conductance": conductance, "level": level}
        spots.append(Spot(feature, cells, values, float(conductance.sum()), "m²/day", float(len(cells) == 0)))
    return spots


def place_seepage(features: list[Seepage], plan: Plan, vertical: Array) -> list[Spot]:
    """The uppermost cells below each polygon, at their top; through their own upper half if not said otherwise."""
    spots, cells_of = [], plan.grid.cells
    for feature, piece in zip(features, plan.cut([f.shape for f in features]), strict=True):
        cells = plan.grid.uppermost[piece.plan]
        per_area = vertical[cells] / (0.5 * cells_of.thickness[cells])
        if feature.conductance is not None:
            per_area = np.full(len(cells), feature.conductance)
        values = {"conductance": per_area * piece.size, "level": cells_of.top[cells]}
        outside = _left_out(feature.shape, float(piece.size.sum()))
        spots.append(Spot(feature, cells, values, float(piece.size.sum()), "m²", outside))
    return spots


def place_evapotranspiration(features: list[Evapotranspiration], plan: Plan) -> list[Spot]:
    """The uppermost cells below each polygon, by area."""
    spots = []
    for feature, piece in zip(features, plan.cut([f.shape for f in features]), strict=True):
        cells, n = plan.grid.uppermost[piece.plan], len(piece.plan)
        rate = along_line(feature.shape, plan.in_time(feature, "rate"), np.zeros(n))
        values = {
            "rate": rate,
            "area": piece.size,
            "surface": plan.grid.cells.top[cells] - feature.below_ground,
            "depth": np.full(n, feature.depth),
        }
        most = float((rate * piece.size).sum(axis=-1).mean()) if n else 0.0
        outside = _left_out(feature.shape, float(piece.size.sum()))
        spots.append(Spot(feature, cells, values, most, "m³/day out at most", outside))
    return spots
