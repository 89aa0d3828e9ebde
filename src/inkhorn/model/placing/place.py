"""Placing a site on a grid: which feature meets which cell, and by how much."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.model.laws import WaterTable
from inkhorn.model.model import Model
from inkhorn.model.placing import (  # each says how its kinds are placed
    boundaries,  # noqa: F401
    conduits,  # noqa: F401
    excavations,  # noqa: F401
    screens,  # noqa: F401
    solutes,
    sources,  # noqa: F401
)
from inkhorn.model.placing.barriers import FaceSpot
from inkhorn.model.placing.edits import CONDUCTIVITY, changed_by, edit_targets
from inkhorn.model.placing.elevations import ELEVATIONS, with_edited_elevations
from inkhorn.model.placing.plan import Placing, Plan, Spot, placings
from inkhorn.model.placing.properties import material_arrays
from inkhorn.model.placing.site_inputs import SiteInputs
from inkhorn.model.placing.targets import Target
from inkhorn.model.placing.traced import Traced, concatenated, plain
from inkhorn.model.terms import Term, placed_fields
from inkhorn.model.traces import Trace, Traces
from inkhorn.model.zones import placed_zones
from inkhorn.site import Edit, Feature, Quantity, Site, declared_fields, properties
from inkhorn.space import Grid, PlanMesh, layered
from inkhorn.units import KINDS

__all__ = ["dimension_of", "place"]

_LOOKED_AT = 20_000  # plan cells, about, where reversed layers are looked for first
_COLUMNS = [
    *("feature", "kind", "cells", "total", "unit", "values", "water"),
    *("drawn", "met", "measure", "share outside", "note"),
]


def _sharing(spots: list[Spot]) -> dict[str, list[str]]:
    """Features at a point or a screen that stand in one cell with another of them, by name."""
    at: dict[int, list[str]] = {}
    for spot in spots:
        if spot.feature.geometry == "point" or "screen_top" in spot.where:
            for cell in np.unique(spot.cells).tolist():
                at.setdefault(cell, []).append(spot.feature.name)
    found: dict[str, list[str]] = {}
    for names in at.values():
        for name in names if len(names) > 1 else []:
            found.setdefault(name, []).extend(n for n in names if n not in (name, *found.get(name, [])))
    return found


def _span(low: float, high: float) -> str:
    """The least and the greatest of some numbers, once where they are the same."""
    least, most = f"{low:.5g}", f"{high:.5g}"
    return least if least == most else f"{least} to {most}"


def _arrived(terms: Sequence[Term], values: Mapping[str, Traced]) -> dict[str, str]:
    """What arrived at the cells of each feature, edits made, input by input."""
    said: dict[str, list[str]] = {}
    for term in terms:
        names = np.array(term.feature_names, dtype=object)
        of = {"feature": np.arange(len(names)), "entry": term.feature_index, "link": term.feature_index}
        for name, declared in term.declared_inputs().items():
            traced = values.get(f"{term.kind}.{name}")
            if traced is None or not declared.told:
                continue
            low, high = np.full(len(names), np.inf), np.full(len(names), -np.inf)
            at, made = of[declared.over], np.atleast_2d(traced.values)
            np.minimum.at(low, at, made.min(axis=0))
            np.maximum.at(high, at, made.max(axis=0))
            told = np.isfinite(low) & np.isfinite(high) & ((low != 0) | (high != 0))
            for k in np.flatnonzero(told):
                words = f"{name.replace('_', ' ')} {_span(low[k], high[k])} {declared.unit}".rstrip()
                said.setdefault(names[k], []).append(words)
    return {name: "; ".join(words) for name, words in said.items()}


def _different(cells: NDArray[np.int64]) -> int:
    """How many different cells there are; those that rise are told without looking for others."""
    return len(cells) if (cells[1:] > cells[:-1]).all() else len(np.unique(cells))


def _row(spot: Spot, arrived: Mapping[str, str], sharing: Mapping[str, list[str]]) -> dict[str, Any]:
    changing = [name for name, v in spot.values.items() if np.ndim(plain(v)) == 2]
    others = sharing.get(spot.feature.name, [])
    notes = [
        spot.note,
        f"{', '.join(changing)} in time" if changing else "",
        f"shares a cell with {', '.join(others[:3])}{' …' if len(others) > 3 else ''}" if others else "",
    ]
    outside = max(round(spot.outside, 4), 0.0) + 0.0 if len(spot.cells) or spot.belongs else 1.0
    return {
        "feature": spot.feature.name,
        "kind": spot.feature.kind,
        "cells": _different(spot.cells),
        "total": spot.total,
        "unit": spot.unit,
        "values": arrived.get(spot.feature.name, ""),
        "water": spot.feature.signs,
        "drawn": spot.drawn,
        "met": spot.drawn if spot.belongs else (1.0 - outside) * spot.drawn if spot.met is None else spot.met,
        "measure": {"line": "m", "polygon": "m²"}.get(spot.feature.geometry, ""),
        "share outside": outside,
        "note": "; ".join(n for n in notes if n),
    }


def _refuse_reversed_layers(site: Site, grid: Grid) -> None:
    """Refuse a layer whose base is above the surface over it in every column."""
    some = slice(None, None, max(1, grid.mesh.n_cells // _LOOKED_AT))
    for places in (some, slice(None)):  # mostly a few say that all is well
        x, y = grid.mesh.x[places], grid.mesh.y[places]
        ceiling, found = site.strata.ground.at(x, y), []
        for layer in site.strata.layers:
            base = layer.base.at(x, y)
            rise = base - ceiling
            if rise.min() > 0.01 and not layer.base_wins:
                found.append((layer, rise))
            ceiling = np.minimum(ceiling, base)
        if not found:
            return
    layer, rise = found[0]
    raise InputError(
        f'layer "{layer.name}" is upside down: its base lies above the surface over it everywhere, by '
        f"{rise.min():.3g} to {rise.max():.3g} m. Check which surface is which, and that they are elevations; "
        "or let it cut into what lies over it with base_wins = true."
    )


def _refuse_no_cells(site: Site, grid: Grid) -> None:
    """Refuse a grid whose layers are all absent everywhere."""
    if grid.n_cells:
        return
    thick = (-np.diff(site.strata.settled(*grid.mesh.centroid.T), axis=0)).max(axis=1) + 0.0
    said = ", ".join(
        f'"{layer.name}" is at most {most:.3g} m thick where {layer.least_thickness:g} m count as thin'
        for layer, most in zip(site.strata.layers, thick, strict=True)
    )
    raise InputError(
        f"no layer has any cell: {said}. Check bases and units, lower least_thickness, or look at what is taken out."
    )


def _refuse_crossed_points(site: Site) -> None:
    """Refuse a layer most of whose points lie above the surface over it."""
    for crossing in site.strata.crossings:
        if len(crossing.points) > crossing.of / 2:
            raise InputError(
                f'layer "{crossing.layer}" is upside down: {len(crossing.points)} of the {crossing.of} points of its '
                f"base lie above the surface over it, by up to {crossing.rise.max():.3g} m. Check which file is which, "
                f"and that z is an elevation and not a depth. {crossing.cure}"
            )


def _refuse_unplaced(site: Site) -> None:
    """Refuse features of a kind that nothing says how to place."""
    for feature in site.features:
        if type(feature) not in placings():
            raise InputError(
                f"{feature.where} is of a kind, {type(feature).__name__}, that nothing says how to place. Say so with "
                "`inkhorn.places`, or derive no kind from another one."
            )


def place(site: Site, on: PlanMesh | Grid, *, water_table: WaterTable | None = None) -> Model:
    """Place a site on a plan mesh or on a grid made of one.

    Rivers, drains and springs go to the cell that holds their bed or level, fixed heads, recharge and
    evapotranspiration to the uppermost cell present, wells to every cell their screen meets, barriers to
    the faces between centres that they part. Edits of elevations are made first of all, then those of properties,
    those of what was placed last.

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
        With `placed`, a table of feature, kind, cells, total (before edits), unit, the least and greatest of the values
        that arrived (after them), what its water does, the length or area drawn and that of the cells' parts which
        stand for it (of whole cells where these are held), the share outside, and notes; edits stand at its end. A
        feature that meets no cell stands in it with 0 cells and does nothing; `check` says so. A feature
        whose values change in time has the mean over time for its total, steady periods and warm-up left out.
        `traces` says how every array follows
        from what the site states.

    Raises
    ------
    InputError
        If more than half the points of a layer's base lie above the surface over it, or all of it does; if
        something changes in time and the site has no schedule; if an edit meets nothing.
    """
    import pandas as pd

    _refuse_crossed_points(site)
    _refuse_unplaced(site)
    grid = on if isinstance(on, Grid) else layered(on, site.strata)
    _refuse_reversed_layers(site, grid)
    _refuse_no_cells(site, grid)
    edits = list(enumerate(site.edits))
    _refuse_unknown_edits(site)
    zones, inputs = placed_zones(site, grid), SiteInputs()
    grid, moved = with_edited_elevations(grid, site.edits, zones)

    arrays: dict[str, Any] = dict(material_arrays(site, grid, inputs))
    plan = Plan(grid, site.schedule, arrays, site.features, inputs, site.boundary)
    of_cells = [(k, e) for k, e in edits if e.of in properties() or e.of == CONDUCTIVITY]
    everywhere = np.arange(grid.n_cells)
    for name in dict.fromkeys(n for _, e in of_cells for n in changed_by(e)):
        if name not in arrays and name != "leakance":
            where = next(e.where for _, e in of_cells if name in changed_by(e))
            raise InputError(f"{where}: the model has no {name}. Give one for every material first.")
        known = arrays[name][:] if name in arrays else Traced(np.full(grid.n_cells, np.nan))
        arrays[name] = known
    targets = {k: Target(v, everywhere) for k, v in arrays.items() if isinstance(v, Traced)}
    changed = edit_targets(targets, of_cells, plan, zones)
    arrays |= {k: t.values for k, t in targets.items()}

    landed: list[tuple[Placing, list[Spot]]] = []
    resistance: Traced | None = None
    spots: list[Spot] = []
    for kind, placing in placings().items():
        found = placing.place([f for f in site.features if type(f) is kind], plan)
        spots += found
        if placing.term is not None and any(len(s.cells) for s in found):
            landed.append((placing, [s for s in found if len(s.cells) or s.belongs]))
        for spot in found:
            if isinstance(spot, FaceSpot) and len(spot.faces):
                before = Traced(np.zeros(len(grid.faces))) if resistance is None else resistance
                resistance = before + spot.resistance.summed(spot.faces, len(grid.faces))
    terms, values, measures = _terms(landed, [(k, e) for k, e in edits if "." in e.of], plan, zones, changed)
    made = values | arrays | ({} if resistance is None else {"face_resistance": resistance})
    in_time = {name: v.values for name, v in values.items() if v.ndim == 2}
    arrived, sharing = _arrived(terms, values), _sharing(spots)
    rows = [*(_row(spot, arrived, sharing) for spot in spots), *moved, *changed]
    own = {k: v.values for k, v in arrays.items() if k in _OWN}
    return Model(
        grid=grid,
        terms=terms,
        water_table=water_table or WaterTable(),
        inflow_concentration=_inflow_concentration(site),
        solutes=[one for spot in spots if isinstance(spot, solutes.SoluteSpot) for one in spot.solutes],
        placed=pd.DataFrame(rows, columns=_COLUMNS),
        site=site,
        name=site.name,
        schedule=site.schedule,
        inputs_in_time=in_time,
        face_resistance=None if resistance is None else resistance.values,
        zones=zones,
        traces=Traces(tuple(inputs.known), {k: Trace.of(v) for k, v in made.items()}, measures),
        further={k: v.values for k, v in arrays.items() if k not in _OWN},
        **own,
    )


_OWN = set(Model.__dataclass_fields__)


def _refuse_unknown_edits(site: Site) -> None:
    """Refuse edits of what there is not."""
    known = [*properties(), CONDUCTIVITY, *ELEVATIONS]
    there = {type(f) for f in site.features}
    for kind, placing in placings().items():
        if kind in there and placing.term is not None:
            known += [f"{placing.term.kind}.{name}" for name in placing.term.declared_inputs()]
    for edit in site.edits:
        if edit.of not in known:
            raise InputError(
                f"{edit.where}: there is no such value; expected one of {known}.{did_you_mean(edit.of, known)}"
            )


def _terms(
    landed: list[tuple[Placing, list[Spot]]],
    edits: list[tuple[int, Edit]],
    plan: Plan,
    zones: Mapping[str, Any],
    report: list[dict[str, Any]],
) -> tuple[list[Term], dict[str, Traced], dict[str, Any]]:
    """The terms, edits made; their arrays by the names of `Model.with_inputs`; and what was multiplied into these."""
    targets: dict[str, Target] = {}
    measures: dict[str, Any] = {}
    shapes: dict[str, tuple[type[Term], dict[str, Any]]] = {}
    for placing, spots in landed:
        term = placing.term
        assert term is not None  # the others have none
        counts = [len(s.cells) for s in spots]
        cells, feature = np.concatenate([s.cells for s in spots]), np.repeat(np.arange(len(spots)), counts)
        names = np.array([s.feature.name for s in spots], dtype=object)
        first = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64)
        for name, declared in term.declared_inputs().items():
            if name not in spots[0].values:
                continue
            parts = [v if isinstance(v, Traced) else Traced(v) for v in (s.values[name] for s in spots)]
            if declared.over == "feature":
                sizes, at, whose = [1] * len(spots), cells[np.minimum(first, len(cells) - 1)], names
            else:
                sizes, at, whose = counts, cells, names[feature]
            parts = [p.spread((*p.shape[:-1], n)) for p, n in zip(parts, sizes, strict=True)]
            key = f"{term.kind}.{name}"
            targets[key] = Target(concatenated(parts), at, whose)
            measures[key] = np.concatenate(
                [np.broadcast_to(s.measure.get(name, 1.0), n) for s, n in zip(spots, sizes, strict=True)]
            )
        given: dict[str, Any] = {
            "cells": cells,
            "feature_names": tuple(names.tolist()),
            "feature_index": feature,
            "outer_face": np.concatenate(
                [np.broadcast_to(s.outer_face, n) for s, n in zip(spots, counts, strict=True)]
            ),
            "crossing": np.concatenate(
                [
                    np.broadcast_to(
                        np.asarray(term.usual_crossing if s.crossing is None else s.crossing, "U6"), n
                    )
                    for s, n in zip(spots, counts, strict=True)
                ]
            ),
        }
        for name in placed_fields(term):
            if name in spots[0].where:
                given[name] = np.concatenate([s.where[name] for s in spots])
        shapes[term.kind] = (term, given)
    ready = [(k, e) for k, e in edits if e.of in targets]
    for _, edit in edits:
        if edit.of not in targets and not edit.may_miss:
            raise InputError(f"{edit.where} meets no cell: no {edit.of.split('.')[0]} landed on the grid.")
    report += edit_targets(targets, ready, plan, zones)
    values = {name: target.values * measures[name] for name, target in targets.items()}
    terms = []
    for kind, (term, given) in shapes.items():
        own = {k.rpartition(".")[2]: v for k, v in values.items() if k.rpartition(".")[0] == kind}
        still = {k: v.values if v.ndim == 1 else v.values[0] for k, v in own.items()}
        try:
            terms.append(term(**given, **still))
        except InputError as problem:
            where = [e.where for _, e in ready if e.of.rpartition(".")[0] == kind]
            raise InputError(f"{', '.join(where)}: {problem}" if where else str(problem)) from None
    return terms, values, measures


def _inflow_concentration(site: Site) -> Mapping[str, Mapping[str, float]]:
    """By species and feature, of the water that it brings in."""
    return {
        s.name: {
            f.name: f.concentrations[s.name]
            for f in site.features
            if f.brings_water and s.name in f.concentrations
        }
        for s in site.species
    }


def dimension_of(of: str, features: list[Feature]) -> str:
    """Return what kind of number a property, an elevation or a value of features is, as in `inkhorn.units`.

    What a feature states is edited as it states it: a drain's conductance by the metre, whatever the grid.

    Parameters
    ----------
    of : str
        As of an `Edit`.
    features : list of Feature
        Those that the edit is of.

    Raises
    ------
    InputError
        If it differs among those features, as per metre of a line and per square metre of a polygon.
    """
    if of in properties():
        return properties()[of].said.dimension_on("")
    if of in ELEVATIONS:
        return "elevation"
    if of == CONDUCTIVITY:
        return "conductivity"
    kind, _, name = of.rpartition(".")
    for cls, placing in placings().items():
        if placing.term is None or placing.term.kind != kind or name not in placing.term.declared_inputs():
            continue
        declared = declared_fields(cls).get(name)
        if declared is None or not isinstance(declared[1], Quantity):
            return placing.term.declared_inputs()[name].dimension
        said = declared[1]
        mine = [f for f in features if type(f) is cls]
        found = list(dict.fromkeys(said.dimension_on(f.geometry) for f in mine)) or list(said.dimensions)
        if len(found) > 1:
            words = " and ".join(f"{KINDS[k].inside} ({k})" for k in found)
            raise InputError(
                f"{of} is in {words}, by the shape of what it is of. Give the edit one `feature`, or a `factor`."
            )
        return found[0]
    return "number"
