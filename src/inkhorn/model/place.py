"""Placing a site on a grid: which feature meets which cell, and by how much."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.laws import WaterTable
from inkhorn.model.model import Model
from inkhorn.model.terms import (
    HORIZONTAL,
    DrainTerm,
    FixedHeadTerm,
    RechargeTerm,
    RiverTerm,
    Term,
    WellTerm,
)
from inkhorn.site import Drain, Feature, FixedHead, Recharge, River, Site, Well, along_line
from inkhorn.space import Grid, PlanMesh, layered

__all__ = ["place"]


@dataclass(frozen=True)
class _Spot:
    """One feature on one grid: its cells, a value of each input per cell, and a line for the report."""

    feature: Feature
    cells: NDArray[np.int64]
    values: dict[str, Any]
    total: float = 0.0
    unit: str = ""
    outside: float = 0.0
    note: str = ""


@dataclass(frozen=True)
class _Plan:
    """The plan cells of a grid, ready to be cut by shapes."""

    grid: Grid
    held: dict[int, str] = field(default_factory=dict)  # cells with a fixed head, by feature

    @cached_property
    def polygons(self) -> NDArray[Any]:
        return self.grid.mesh.polygons()

    @cached_property
    def tree(self) -> Any:
        import shapely

        return shapely.STRtree(self.polygons)

    def cut(self, shape: Any) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[Any]]:
        """Plan cells that meet a line or polygon, the length or area in each, and the pieces."""
        import shapely

        found = np.sort(self.tree.query(shape, predicate="intersects"))
        pieces = shapely.intersection(self.polygons[found], shape)
        measure = shapely.length if shape.geom_type == "LineString" else shapely.area
        size = measure(pieces)
        real = (size > 0) & (self.grid.uppermost[found] >= 0)  # a column may hold no layer at all
        if shape.geom_type == "LineString":  # a piece along an edge meets two cells: the first keeps it
            _, first = np.unique(shapely.to_wkb(shapely.normalize(pieces)), return_index=True)
            real &= np.isin(np.arange(len(found)), first)
        return found[real], size[real], pieces[real]

    def cell_holding(self, plan: NDArray[np.int64], level: NDArray[np.float64]) -> NDArray[np.int64]:
        """In each column the uppermost cell that reaches below a level, else the lowest cell."""
        chosen = self.grid.uppermost[plan].copy()
        done = self.grid.cells.bottom[chosen] < level
        for number in self.grid.number[:, plan]:
            here = ~done & (number >= 0)
            chosen[here] = number[here]
            done |= here & (self.grid.cells.bottom[number] < level)
        return chosen


def _place_fixed_head(feature: FixedHead, plan: _Plan) -> _Spot:
    import shapely

    grid, shape = plan.grid, feature.shape
    fraction = np.zeros(0)
    if shape.geom_type == "LineString":
        plan_cells, _, pieces = plan.cut(shape)
        fraction = shapely.line_locate_point(shape, shapely.centroid(pieces), normalized=True)
    elif shape.geom_type == "Point":
        plan_cells = grid.mesh.locate([shape.x], [shape.y])
        plan_cells = plan_cells[plan_cells >= 0]
    else:
        plan_cells = np.flatnonzero(shapely.contains_xy(shape, grid.mesh.x, grid.mesh.y))
    plan_cells = plan_cells[grid.uppermost[plan_cells] >= 0]
    head = along_line(shape, feature.head, fraction if len(fraction) else np.zeros(len(plan_cells)))
    if feature.every_layer:
        number = grid.number[:, plan_cells]
        cells, head = number[number >= 0], np.broadcast_to(head, number.shape)[number >= 0]
    else:
        cells = grid.uppermost[plan_cells]
    cells, first = np.unique(cells, return_index=True)  # several plan cells may be joined to one
    head = np.asarray(head)[first]
    free = np.array([int(c) not in plan.held for c in cells], dtype=bool)
    notes = []
    if not free.all():
        others = sorted({plan.held[int(c)] for c in cells[~free]})
        notes.append(f"{int((~free).sum())} cells are already held by {', '.join(others)}")
    plan.held.update(dict.fromkeys(cells[free].tolist(), feature.name))
    area = grid.cells.area[np.unique(cells[free])].sum()
    return _Spot(feature, cells[free], {"head": head[free]}, float(area), "m²", note="; ".join(notes))


def _place_line(
    feature: River | Drain, plan: _Plan, levels: dict[str, Any], per_length: float, deepest: str
) -> _Spot:
    import shapely

    plan_cells, length, pieces = plan.cut(feature.shape)
    fraction = shapely.line_locate_point(feature.shape, shapely.centroid(pieces), normalized=True)
    values = {k: along_line(feature.shape, v, fraction) for k, v in levels.items()}
    cells = plan.cell_holding(plan_cells, values[deepest])
    return _Spot(
        feature,
        cells,
        {"conductance": per_length * length, **values},
        float(length.sum()),
        "m",
        outside=1.0 - float(length.sum()) / feature.shape.length,
    )


def _place_river(feature: River, plan: _Plan) -> _Spot:
    levels = {"stage": feature.stage, "bed": feature.bed}
    return _place_line(feature, plan, levels, feature.conductance_per_length, "bed")


def _place_drain(feature: Drain, plan: _Plan) -> _Spot:
    if feature.shape.geom_type == "LineString":
        return _place_line(feature, plan, {"level": feature.level}, feature.conductance, "level")
    plan_cells, area, _ = plan.cut(feature.shape)
    level = along_line(feature.shape, feature.level, np.zeros(len(plan_cells)))
    return _Spot(
        feature,
        plan.cell_holding(plan_cells, level),
        {"conductance": feature.conductance * area, "level": level},
        float(area.sum()),
        "m²",
        outside=1.0 - float(area.sum()) / feature.shape.area,
    )


def _place_recharge(feature: Recharge, plan: _Plan) -> _Spot:
    plan_cells, area, _ = plan.cut(feature.shape)
    cells = plan.grid.uppermost[plan_cells]
    held = sum(a for c, a in zip(cells.tolist(), area, strict=True) if c in plan.held)
    return _Spot(
        feature,
        cells,
        {"rate": np.full(len(cells), feature.rate), "area": area},
        feature.rate * float(area.sum()),
        "m³/day in",
        outside=1.0 - float(area.sum()) / feature.shape.area,
        note=f"{held / area.sum():.1%} falls on cells of fixed head" if held else "",
    )


def _place_well(well: Well, plan: _Plan) -> _Spot:
    grid = plan.grid
    rate = well.injection - well.abstraction
    total, unit = abs(rate), "m³/day in" if rate > 0 else "m³/day out"
    at = int(grid.mesh.locate([well.x], [well.y])[0])
    nowhere = _Spot(well, np.empty(0, np.int64), {"connection": np.empty(0), "rate": rate}, total, unit, 1.0)
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
    r0 = grid.equivalent_radius(column)
    connection = 2.0 * np.pi * screened / np.log(np.maximum(r0 / well.radius, 1.5))
    share = screened / screened.sum()
    layers = [grid.layer_names[k] for k in grid.cells.layer[column]]
    note = "screen in " + ", ".join(f"{name} {s:.0%}" for name, s in zip(layers, share, strict=True))
    return _Spot(well, column, {"connection": connection, "rate": rate}, total, unit, float(missed), note)


def _joined(spots: list[_Spot], kind: type[Term], per_feature: tuple[str, ...] = ()) -> Term:
    names = list(spots[0].values)
    inputs: dict[str, Any] = {
        k: np.array([s.values[k] for s in spots])
        if k in per_feature
        else np.concatenate([s.values[k] for s in spots])
        for k in names
    }
    return kind(
        cells=np.concatenate([s.cells for s in spots]),
        features=tuple(s.feature.name for s in spots),
        feature=np.repeat(np.arange(len(spots)), [len(s.cells) for s in spots]),
        **inputs,
    )


# in the order in which they are placed: fixed heads first, so that the others can say what falls on them
_KINDS: list[tuple[type[Feature], Callable[[Any, _Plan], _Spot], type[Term], tuple[str, ...]]] = [
    (FixedHead, _place_fixed_head, FixedHeadTerm, ()),
    (River, _place_river, RiverTerm, ()),
    (Drain, _place_drain, DrainTerm, ()),
    (Well, _place_well, WellTerm, ("rate",)),
    (Recharge, _place_recharge, RechargeTerm, ()),
]


def _refuse_reversed_layers(site: Site, grid: Grid) -> None:
    """Refuse a layer whose base is above the surface over it in every column."""
    x, y = grid.mesh.x, grid.mesh.y
    ceiling = site.strata.ground.at(x, y)
    for layer in site.strata.layers:
        base = layer.base.at(x, y)
        rise = base - ceiling
        if rise.min() > 0.01 and not layer.base_wins:
            raise InputError(
                f'layer "{layer.name}" is upside down: its base lies above the surface over it everywhere, by '
                f"{rise.min():.3g} to {rise.max():.3g} m. Check which surface is which, and that they are elevations."
            )
        ceiling = np.minimum(ceiling, base)


def place(site: Site, on: PlanMesh | Grid, *, water_table: WaterTable | None = None) -> Model:
    """Place a site on a plan mesh or on a grid made of one.

    Rivers and drains go to the cell that holds their bed or level, fixed heads and recharge to the
    uppermost cell present, wells to every cell their screen meets.

    Parameters
    ----------
    site : Site
        What is known.
    on : PlanMesh or Grid
        A plan mesh is cut into the site's layers first.
    water_table : WaterTable, optional
        Laws of partly filled cells.

    Returns
    -------
    Model
        With `placed`, a table of feature, kind, cells, total, unit, the share outside, and notes. A
        feature that meets no cell stands in it with 0 cells and does nothing; `check` says so.

    Raises
    ------
    InputError
        If more than half the points of a layer's base lie above the surface over it, or all of it does.
    """
    import pandas as pd

    for name, bad, rise, number in site.strata.crossings():
        if len(bad) > number / 2:
            raise InputError(
                f'layer "{name}" is upside down: {len(bad)} of the {number} points of its base lie above the '
                f"surface over it, by up to {rise.max():.3g} m. Check which file is which, and that z is an "
                "elevation and not a depth."
            )
    grid = on if isinstance(on, Grid) else layered(on, site.strata)
    _refuse_reversed_layers(site, grid)
    plan = _Plan(grid)
    terms, rows = [], []
    for kind, placing, term, per_feature in _KINDS:
        spots = [placing(f, plan) for f in site.features if isinstance(f, kind)]
        landed = [s for s in spots if len(s.cells)]
        if landed:
            terms.append(_joined(landed, term, per_feature))
        rows += [
            {
                "feature": s.feature.name,
                "kind": s.feature.kind,
                "cells": len(np.unique(s.cells)),
                "total": s.total,
                "unit": s.unit,
                "share outside": max(round(s.outside, 9), 0.0) + 0.0 if len(s.cells) else 1.0,
                "note": s.note,
            }
            for s in spots
        ]
    materials = [site.materials[n] for n in grid.layer_names]
    made_of = grid.cells.material
    conductivity = np.array([m.conductivity for m in materials])[made_of]
    porosity = [m.porosity for m in materials]
    return Model(
        grid=grid,
        vertical_conductivity=conductivity / np.array([m.vertical_ratio for m in materials])[made_of],
        porosity=None if None in porosity else np.array(porosity, dtype=float)[made_of],
        terms=terms,
        water_table=water_table or WaterTable(),
        inflow_concentration={
            s.name: {
                f.name: f.concentration[s.name]
                for f in site.features
                if isinstance(f, Recharge | Well) and s.name in f.concentration
            }
            for s in site.species
        },
        placed=pd.DataFrame(
            rows, columns=["feature", "kind", "cells", "total", "unit", "share outside", "note"]
        ),
        site=site,
        name=site.name,
        **{HORIZONTAL: conductivity},
    )
