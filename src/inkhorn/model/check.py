"""A look at a model before it is solved: findings in plain words, each with place and remedy."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from inkhorn.errors import place_words
from inkhorn.model.findings import Finding, Findings
from inkhorn.model.levels import levelless_cells
from inkhorn.model.model import Model
from inkhorn.model.placing import placings
from inkhorn.site import properties
from inkhorn.space import point_surfaces
from inkhorn.units import KINDS

__all__ = ["check"]

# what no rate over an area, and no single flow, is likely to pass: beyond that a slip of units is [m/day], [m³/day]
_MOST_LIKELY = {"rate": 0.1, "flow": 5e5}
_HIGH = 10.0  # m above ground, or below all layers, from which a level looks wrong; or as much as the layers are thick

_DEEP = 30.0  # m below ground that no river, drain or root is likely to lie


def _check_levels(model: Model) -> Iterator[Finding]:
    in_time = model.schedule is not None and not model.schedule.steady.any()  # heads begin as given
    for group in levelless_cells(model):
        everything = len(group) == model.grid.n_cells
        yield Finding(
            "warning" if in_time else "error",
            "nothing fixes the level of the water"
            + ("" if everything else f" in {len(group)} cells cut off from the rest"),
            model.name if everything else model.grid.place_of(int(group[0])),
            "Add a fixed head, a river or a drain"
            + (
                ": the water has no way out."
                if everything
                else " there, or take these cells out of the mesh."
            ),
        )


def _check_held(model: Model) -> Iterator[Finding]:
    """What stands in cells whose head is given, where it changes nothing."""
    held = np.zeros(model.grid.n_cells, dtype=bool)
    for term in model.terms:
        held[term.cells[term.holds]] = True
    for term in model.terms:
        if term.useless_in_held:
            inside = np.flatnonzero(held[term.cells])
            remedy = f"Move the {term.kind} or the fixed head, or make the cells smaller."
            yield from term.found_at(model.grid, inside, "error", term.useless_in_held, remedy)


def _check_terms(model: Model) -> Iterator[Finding]:
    """What each term finds of itself, in every period."""
    for term in model.terms:
        moving = {
            name.rpartition(".")[2]: values
            for name, values in model.changes.items()
            if name.rpartition(".")[0] == term.kind
        }
        seen: set[str] = set()
        for period in range(len(model.schedule) if moving and model.schedule is not None else 1):
            now = replace(term, **{name: values[period] for name, values in moving.items()})
            for finding in now.findings(model.grid):
                said = finding.what.partition(" up to ")[0]
                if said not in seen:
                    seen.add(said)
                    where = f"{finding.where}, period {period + 1}" if period else finding.where
                    yield replace(finding, where=where)


def _check_placed(model: Model) -> Iterator[Finding]:
    if model.placed is None:
        return
    told = {f.name for f in model.site.features if f.geometry == "cells"} if model.site is not None else set()
    screened = {p.term.kind for p in placings().values() if p.term and p.term.usual_crossing == "screen"}
    for row in model.placed.rename(columns={"share outside": "outside"}).itertuples():
        if row.cells == 0:
            yield Finding(
                "error" if row.kind in screened else "warning",
                f'{row.kind} "{row.feature}" meets no cell',
                f"{model.name}, {row.feature}",
                "Check its screen elevations and place against the layers; smaller cells may help."
                if row.kind in screened
                else "Check its place; smaller cells may help.",
            )
        elif row.outside > (0.0 if row.feature in told else 0.2):
            yield Finding(
                "warning",
                f'{row.outside:.0%} of {row.kind} "{row.feature}" lies outside the cells',
                f"{model.name}, {row.feature}",
                "Check its shape or screen, or extend the boundary or the layers.",
            )


def _check_strata(model: Model) -> Iterator[Finding]:
    if model.site is None:
        return
    for name, bad, rise, number in model.site.strata.crossings():
        yield Finding(
            "warning",
            f"{len(bad)} of {number} points of the base lie above the surface over it, by up to {rise.max():.3g} m",
            f'layer "{name}"',
            "The upper surface wins there; correct the points if that is not meant.",
        )
    there = set(np.unique(model.grid.cells.layer).tolist())
    for k, name in enumerate(model.grid.layer_names):
        if k not in there:
            yield Finding(
                "warning",
                "the layer is absent everywhere",
                f'layer "{name}"',
                "Check its base against the surface over it, and its least thickness.",
            )


def _check_properties(model: Model) -> Iterator[Finding]:
    """Properties that flow in time needs, by the materials that lack them."""
    schedule = model.schedule
    if schedule is None or schedule.steady.all():
        return
    ways = {"specific_storage": "storativity", "specific_yield": None}
    for name, otherwise in ways.items():
        if getattr(model, name) is not None or (name == "specific_yield" and model.water_table.confined):
            continue
        lacking = []
        if model.site is not None:
            made_of = {model.site.materials[n] for n in model.grid.layer_names}
            lacking = sorted(
                m.name
                for m in made_of
                if getattr(m, name) is None and (otherwise is None or getattr(m, otherwise) is None)
            )
        yield Finding(
            "error",
            f"flow in time needs the {name}" + (f" of {', '.join(lacking)}" if lacking else ""),
            model.name,
            "Give it for every material" + (f", or a {otherwise}." if otherwise else "."),
        )


def _check_schedule(model: Model) -> Iterator[Finding]:
    """Steps of extreme ratio."""
    if model.schedule is None:
        return
    extreme = model.schedule.extreme_steps()
    if extreme:
        yield Finding(
            "warning",
            f"{_count(len(extreme), 'period')} with steps ten thousand times shorter than the longest",
            f"period {extreme[0] + 1}",
            "Check dates and growth; two changes may lie seconds apart.",
        )


def _check_rates(model: Model) -> Iterator[Finding]:
    """Rates and properties a thousand times off those of their kind, as by a slip of units."""
    for term in model.terms:
        if "rate" not in term.inputs:
            continue
        rate = np.abs(model.changes.get(f"{term.kind}.rate", term.rate[None]).mean(axis=0))  # type: ignore[attr-defined]
        by_feature = term.declared_inputs()["rate"].over == "feature"
        sizes = (
            rate
            if by_feature
            else np.array([rate[term.feature == k].max() for k in range(len(term.features))])
        )
        usual = float(np.median(sizes[sizes > 0])) if (sizes > 0).any() else 0.0
        for k in np.flatnonzero((sizes > 1000 * usual) | ((sizes > 0) & (sizes < usual / 1000))):
            yield Finding(
                "warning",
                f'the rate of {term.kind} "{term.features[k]}" is {sizes[k] / usual:.2g} times that of the others',
                f"{model.name}, {term.features[k]}",
                "Check its unit.",
            )
    for name, declared in properties().items():
        values, likely = model.property_of(name), declared.said.likely
        if values is None or likely is None:
            continue
        for bad, word in ((values < likely[0], "low"), (values > likely[1], "high")):
            if bad.any():
                cell, unit = int(np.argmax(bad)), KINDS[declared.said.dimension_on("")].inside
                yield Finding(
                    "warning",
                    f"the {name} is suspiciously {word}, {values[cell]:.3g} {unit}".rstrip(),
                    model.grid.place_of(cell),
                    "Check its unit.",
                )


def _check_values(model: Model) -> Iterator[Finding]:
    """Levels far above the ground or below all layers, rates that nothing reaches: one by one."""
    cells, plan = model.grid.cells, model.grid.cells.plan
    ground, base = np.full(plan.max() + 1, -np.inf), np.full(plan.max() + 1, np.inf)
    np.maximum.at(ground, plan, cells.top)
    np.minimum.at(base, plan, cells.bottom)
    margin = np.maximum(ground - base, _HIGH)
    for term in model.terms:
        at, stated = plan[term.cells], model.site is not None  # the top of a model of arrays may be no ground
        for name, declared in term.declared_inputs().items():
            values = np.asarray(model.changes.get(f"{term.kind}.{name}", getattr(term, name)[None]))
            if (
                declared.over == "entry"
                and (declared.dimension, declared.check) == ("length", "finite")
                and stated
            ):
                high, low, deep = values.max(axis=0) - ground[at], base[at] - values.min(axis=0), margin[at]
                looks = [(high, deep, "above the ground"), (low, deep, "below all layers")]
                if not term.holds.any():  # held water may be that of a deep layer
                    under = np.where(low > deep, 0.0, ground[at] - values.min(axis=0))  # told once
                    looks.append((under, np.full(len(at), _DEEP), "below the ground"))
                for off, most_usual, words in looks:
                    bad = np.flatnonzero(off > most_usual)
                    most = f"has its {name} up to {off[bad].max(initial=0.0):.3g} m {words}"
                    remedy = "Check its unit, and that it is an elevation."
                    yield from term.found_at(model.grid, bad, "warning", most, remedy)
            most_likely = _MOST_LIKELY.get(declared.dimension)
            if most_likely is not None and declared.over in ("entry", "feature"):
                size = np.abs(values).max(axis=0)
                size = size[term.feature] if declared.over == "feature" else size
                bad = np.flatnonzero(size > most_likely)
                most = f"has a {name} of up to {size[bad].max(initial=0.0):.3g} {declared.unit}"
                yield from term.found_at(model.grid, bad, "warning", most, "Check its unit.")


def _check_points(model: Model) -> Iterator[Finding]:
    """Data points that stand out, lie far away, or are missed by the surface made of them."""
    import shapely

    if model.site is None:
        return
    strata, boundary = model.site.strata, model.site.boundary
    surfaces = [("the ground", strata.ground), *((f'the base of "{n.name}"', n.base) for n in strata.layers)]
    reach = 0.5 * shapely.length(shapely.LineString([boundary.bounds[:2], boundary.bounds[2:]]))
    seen: set[int] = set()
    for name, surface in surfaces:
        for points in point_surfaces(surface):
            if id(points) in seen:
                continue
            seen.add(id(points))
            odd = points.outliers()
            if len(odd):
                yield Finding(
                    "warning",
                    f"{_count(len(odd), 'data point')} of {name} {'stands' if len(odd) == 1 else 'stand'} out from "
                    "the neighbours",
                    "; ".join(points.where(int(k)) for k in odd[:3]) + ("; …" if len(odd) > 3 else ""),
                    "Check depth against elevation, sign and unit; `inkhorn draw surface` shows them.",
                )
            far = np.flatnonzero(shapely.distance(boundary, shapely.points(points.x, points.y)) > reach)
            if len(far):
                yield Finding(
                    "warning",
                    f"{_count(len(far), 'data point')} of {name} {'lies' if len(far) == 1 else 'lie'} far outside the "
                    "boundary",
                    points.where(int(far[0])),
                    "Check the coordinates, or leave them out.",
                )
            miss = np.abs(points.misses())
            if miss.max() > 0.1:
                yield Finding(
                    "note",
                    f"{name} misses its data points by up to {miss.max():.2g} m ({points.method})",
                    points.where(int(np.argmax(miss))),
                    "As its method has it; linear, natural, cubic and thin-plate surfaces pass through their points.",
                )


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}{'' if number == 1 else 's'}"


def _check_rows(model: Model) -> Iterator[Finding]:
    """Cells whose head might overshoot those around."""
    rows = model.face_rows()
    unsafe = rows.losing_monotonicity()
    if len(unsafe):
        yield Finding(
            "note",
            f"in {len(unsafe)} of {model.grid.n_cells} cells, where cells of different size meet, heads may overshoot "
            "those around them a little",
            model.grid.place_of(int(unsafe[0])),
            "Look at the heads there; a larger `ring` makes sizes change more slowly.",
        )
    if len(rows.inexact):
        first = int(model.grid.faces.cells[rows.inexact[0], 0])
        yield Finding(
            "note",
            f"the flow across {len(rows.inexact)} of {len(model.grid.faces)} faces is not exact for want of neighbours",
            model.grid.place_of(first),
            "Split no single rows of cells.",
        )


def _check_bores(model: Model) -> Iterator[Finding]:
    if model.site is None:
        return
    for bore in model.site.bores:
        plan = int(model.grid.mesh.locate([bore.x], [bore.y])[0])
        rows = list(model.grid.layers_named(bore.layer))
        if plan < 0 or (model.grid.number[rows, plan] < 0).all():
            yield Finding(
                "warning",
                f'bore "{bore.name}" meets no cell of its layer and is left out of the fit',
                f'layer "{bore.layer}", {place_words(bore.x, bore.y)}',
                "Correct its layer or its place.",
            )


def check(model: Model) -> Findings:
    """Look for what would make a run fail or mislead, without solving.

    Parameters
    ----------
    model : Model
        A site placed on a grid, or made from arrays.

    Returns
    -------
    Findings
        Errors first; it prints as a list and turns into a table.
    """
    looks = (
        _check_levels,
        _check_held,
        _check_placed,
        _check_terms,
        _check_properties,
        _check_schedule,
        _check_rates,
        _check_values,
        _check_strata,
        _check_points,
        _check_bores,
        _check_rows,
    )
    return Findings.of(finding for look in looks for finding in look(model))
