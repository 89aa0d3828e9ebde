"""Placing a site on a grid: which feature meets which cell, and by how much."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from inkhorn.errors import InputError
from inkhorn.model.laws import WaterTable
from inkhorn.model.model import Model
from inkhorn.model.placing import boundaries, sources
from inkhorn.model.placing.elevations import ELEVATIONS, with_edited_elevations
from inkhorn.model.placing.plan import Plan, Spot
from inkhorn.model.placing.properties import edited, material_properties
from inkhorn.model.terms import (
    CollectorTerm,
    DrainTerm,
    EvapotranspirationTerm,
    FixedHeadTerm,
    HeadDependentTerm,
    RechargeTerm,
    RiverTerm,
    SeepageTerm,
    SpringTerm,
    Term,
    WellTerm,
)
from inkhorn.site import (
    Barrier,
    Collector,
    Drain,
    Evapotranspiration,
    Feature,
    FixedHead,
    HeadDependent,
    Recharge,
    River,
    Seepage,
    Site,
    Spring,
    Well,
)
from inkhorn.space import Grid, PlanMesh, layered

__all__ = ["place"]

# in the order in which they are placed: fixed heads first, so that the others can say what falls on them
_KINDS: list[tuple[type[Feature], Callable[[Any, Plan], list[Spot]], type[Term]]] = [
    (FixedHead, boundaries.place_fixed_heads, FixedHeadTerm),
    (HeadDependent, boundaries.place_head_dependent, HeadDependentTerm),
    (River, boundaries.place_rivers, RiverTerm),
    (Drain, boundaries.place_drains, DrainTerm),
    (Spring, boundaries.place_springs, SpringTerm),
    (Well, sources.place_wells, WellTerm),
    (Collector, sources.place_collectors, CollectorTerm),
    (Recharge, sources.place_recharge, RechargeTerm),
    (Evapotranspiration, boundaries.place_evapotranspiration, EvapotranspirationTerm),
]


def _joined(spots: list[Spot], kind: type[Term]) -> tuple[Term, dict[str, Any]]:
    """One term of all features of a kind, and those of its inputs that change in time."""
    inputs: dict[str, Any] = {}
    for name in spots[0].values:
        parts = [np.asarray(s.values[name], dtype=np.float64) for s in spots]
        periods = max(len(p) if p.ndim == 2 else 0 for p in parts)
        if periods:
            parts = [np.broadcast_to(p, (periods, p.shape[-1])) for p in parts]
        inputs[name] = np.concatenate(parts, axis=-1)
    changes = {f"{kind.kind}.{name}": v for name, v in inputs.items() if v.ndim == 2}
    term = kind(
        cells=np.concatenate([s.cells for s in spots]),
        features=tuple(s.feature.name for s in spots),
        feature=np.repeat(np.arange(len(spots)), [len(s.cells) for s in spots]),
        **{name: v if v.ndim == 1 else v[0] for name, v in inputs.items()},
    )
    return term, changes


def _sharing(spots: list[Spot]) -> dict[str, list[str]]:
    """Wells, springs and collectors that stand in one cell with another of them, by name."""
    at: dict[int, list[str]] = {}
    for spot in spots:
        if isinstance(spot.feature, Well | Collector | Spring):
            for cell in np.unique(spot.cells).tolist():
                at.setdefault(cell, []).append(spot.feature.name)
    found: dict[str, list[str]] = {}
    for names in at.values():
        for name in names if len(names) > 1 else []:
            found.setdefault(name, []).extend(n for n in names if n not in (name, *found.get(name, [])))
    return found


def _row(spot: Spot, sharing: dict[str, list[str]]) -> dict[str, Any]:
    changing = [name for name, v in spot.values.items() if np.ndim(v) == 2]
    others = sharing.get(spot.feature.name, [])
    notes = [
        spot.note,
        f"{', '.join(changing)} in time" if changing else "",
        f"shares a cell with {', '.join(others[:3])}{' …' if len(others) > 3 else ''}" if others else "",
    ]
    return {
        "feature": spot.feature.name,
        "kind": spot.feature.kind,
        "cells": len(np.unique(spot.cells)),
        "total": spot.total,
        "unit": spot.unit,
        "share outside": max(round(spot.outside, 9), 0.0) + 0.0 if len(spot.cells) else 1.0,
        "note": "; ".join(n for n in notes if n),
    }


def _edit_row(row: dict[str, Any]) -> dict[str, Any]:
    layers = "" if row["layers"] == "all" else f"in {row['layers']}"
    return {
        "feature": row["edit of"],
        "kind": "edit",
        "cells": row["values changed"],
        "unit": "",
        "share outside": 0.0,
        "note": "; ".join(n for n in (row["how"], layers, row["reason"], row["where"]) if n),
    }


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


def _refuse_crossed_points(site: Site) -> None:
    """Refuse a layer most of whose points lie above the surface over it."""
    for name, bad, rise, number in site.strata.crossings():
        if len(bad) > number / 2:
            raise InputError(
                f'layer "{name}" is upside down: {len(bad)} of the {number} points of its base lie above the '
                f"surface over it, by up to {rise.max():.3g} m. Check which file is which, and that z is an "
                "elevation and not a depth."
            )


def place(site: Site, on: PlanMesh | Grid, *, water_table: WaterTable | None = None) -> Model:
    """Place a site on a plan mesh or on a grid made of one.

    Rivers, drains and springs go to the cell that holds their bed or level, fixed heads, recharge and
    evapotranspiration to the uppermost cell present, wells to every cell their screen meets, barriers to
    the faces between centres that they part. Edits of elevations are made first of all, the others last.

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
        With `placed`, a table of feature, kind, cells, total, unit, the share outside, and notes; edits stand
        at its end. A
        feature that meets no cell stands in it with 0 cells and does nothing; `check` says so. A feature
        whose values change in time has the mean of its periods for its total.

    Raises
    ------
    InputError
        If more than half the points of a layer's base lie above the surface over it, or all of it does; if
        something changes in time and the site has no schedule; if an edit meets nothing.
    """
    import pandas as pd

    _refuse_crossed_points(site)
    grid = on if isinstance(on, Grid) else layered(on, site.strata)
    _refuse_reversed_layers(site, grid)
    grid, moved = with_edited_elevations(grid, site.edits)
    properties = material_properties(site, grid)
    plan = Plan(grid, site.schedule, properties)

    def of_kind(kind: type[Feature]) -> list[Any]:
        return [f for f in site.features if type(f) is kind]

    terms: list[Term] = []
    changes: dict[str, Any] = {}
    spots: list[Spot] = []
    for kind, placing, term in _KINDS:
        found = placing(of_kind(kind), plan)
        spots += found
        landed = [s for s in found if len(s.cells)]
        if landed:
            made, moving = _joined(landed, term)
            terms.append(made)
            changes |= moving
    seeping = boundaries.place_seepage(of_kind(Seepage), plan, properties["vertical_conductivity"])
    if any(len(s.cells) for s in seeping):
        terms.append(_joined([s for s in seeping if len(s.cells)], SeepageTerm)[0])
    walls, resistance = sources.place_barriers(of_kind(Barrier), plan)
    spots += [*seeping, *walls]
    columns = ["feature", "kind", "cells", "total", "unit", "share outside", "note"]
    sharing = _sharing(spots)
    model = Model(
        grid=grid,
        terms=terms,
        water_table=water_table or WaterTable(),
        inflow_concentration=_inflow_concentration(site),
        placed=pd.DataFrame([_row(s, sharing) for s in spots], columns=columns),
        site=site,
        name=site.name,
        schedule=site.schedule,
        changes=changes,
        face_resistance=resistance,
        **properties,
    )
    model, made_of_them = edited(model, [e for e in site.edits if e.of not in ELEVATIONS], site.schedule)
    if site.edits:
        done = pd.DataFrame([_edit_row(row) for row in [*moved, *made_of_them]], columns=columns)
        model = dataclasses.replace(model, placed=pd.concat([model.placed, done], ignore_index=True))
    return model


def _inflow_concentration(site: Site) -> Mapping[str, Mapping[str, float]]:
    """By species and feature, of the water that it brings in."""
    return {
        s.name: {
            f.name: f.concentration[s.name]
            for f in site.features
            if isinstance(f, Recharge | Well | Collector) and s.name in f.concentration
        }
        for s in site.species
    }
