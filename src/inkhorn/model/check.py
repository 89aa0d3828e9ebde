"""A look at a model before it is solved: findings in plain words, each with place and remedy."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from inkhorn.errors import InputError, place_words
from inkhorn.model.bores import bore_cells
from inkhorn.model.findings import Finding, Findings
from inkhorn.model.levels import levelless_cells
from inkhorn.model.model import Model
from inkhorn.model.placing import placings
from inkhorn.site import Concentrations, Feature, Quantity, Series, days_since, declared_fields, properties
from inkhorn.space import POINT_METHODS, PointSurface, SplitMesh, point_surfaces
from inkhorn.units import KINDS

__all__ = ["check"]

_HIGH = 10.0  # m above ground, or below all layers, from which a level looks wrong; or as much as the layers are thick

_PLACED = ("rate", "flow")  # kinds of numbers that are looked at where they have been placed
_USUAL_YEARS = (1800, 2200)  # of a run
_OFF = 0.02  # share by which cells may cover more than what is drawn, unsaid
_BEYOND = 0.02  # share of the area that lies beyond the points of a surface, from which it is told
_LOOKED_AT = 20_000  # cells, about, at whose places this is seen
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
            for name, values in model.inputs_in_time.items()
            if name.rpartition(".")[0] == term.kind
        }
        seen: set[str] = set()
        for period in range(len(model.schedule) if moving and model.schedule is not None else 1):
            now = replace(term, **{name: values[period] for name, values in moving.items()})
            for finding in now.findings(model.grid):
                said = finding.what.partition(" up to ")[0]
                if said not in seen:
                    seen.add(said)
                    where = f"{finding.where}, period {period}" if period else finding.where
                    yield replace(finding, where=where)


def _check_placed(model: Model) -> Iterator[Finding]:
    if model.placed is None:
        return
    told = {f.name for f in model.site.features if f.geometry == "cells"} if model.site is not None else set()
    part = model.site is not None and bool(model.site.part_of)
    crossing = {p.term.kind: p.term.usual_crossing for p in placings().values() if p.term}
    screened = {kind for kind, where in crossing.items() if where == "screen"}
    for row in model.placed.rename(columns={"share outside": "outside"}).itertuples():
        if row.cells == 0 and row.outside > 0.0:
            yield Finding(
                "error" if row.kind in screened else "warning",
                f'{row.kind} "{row.feature}" meets no cell',
                f"{model.name}, {row.feature}",
                "Check its screen elevations and place against the layers; smaller cells may help."
                if row.kind in screened
                else "Check its place; smaller cells may help.",
            )
        elif row.outside > (0.0 if row.feature in told else 0.2) and not part:
            over_more = row.measure == "m²" and crossing.get(row.kind) == "top" and row.feature not in told
            yield Finding(
                "note" if over_more else "warning",
                f'{row.outside:.0%} of {row.kind} "{row.feature}" lies outside the cells',
                f"{model.name}, {row.feature}",
                "All is well if it is drawn over more than the site, as land use is."
                if over_more
                else "Check its shape or screen, or extend the boundary or the layers.",
            )


def _check_met(model: Model) -> Iterator[Finding]:
    """Polygons for which cells stand that are larger, or smaller, than they are drawn."""
    if model.placed is None:
        return
    for row in model.placed[(model.placed["cells"] > 0) & (model.placed["measure"] == "m²")].itertuples():
        off = row.met / row.drawn - 1.0
        if off > _OFF:
            yield Finding(
                "note",
                f'{row.kind} "{row.feature}" stands in cells of {row.met:,.0f} m², where {row.drawn:,.0f} m² are drawn '
                f"({off:+.1%})",
                f"{model.name}, {row.feature}",
                "Whole cells are taken; smaller ones near it follow its outline more closely.",
            )


def _check_strata(model: Model) -> Iterator[Finding]:
    if model.site is None:
        return
    for crossing in model.site.strata.crossings:
        yield Finding(
            "warning",
            f"{len(crossing.points)} of {crossing.of} points of the base lie above the surface over it, by up to "
            f"{crossing.rise.max():.3g} m; the upper surface wins there",
            f'layer "{crossing.layer}"',
            crossing.cure,
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
    """Dates of another age, steps of extreme ratio."""
    if model.schedule is None:
        return
    dates = [model.schedule.date(t) for t in (0.0, float(model.schedule.ends[-1]))]
    years = [1970 + int(d.astype("datetime64[Y]").astype(int)) for d in dates if d is not None]
    odd = [year for year in years if not _USUAL_YEARS[0] <= year <= _USUAL_YEARS[1]]
    if odd:
        yield Finding(
            "warning",
            f"the run goes from {str(dates[0])[:10]} to {str(dates[1])[:10]}; usual are the years {_USUAL_YEARS[0]} to "
            f"{_USUAL_YEARS[1]}",
            "schedule",
            "Check the dates.",
        )
    extreme = model.schedule.extreme_steps()
    if extreme:
        yield Finding(
            "warning",
            f"{_count(len(extreme), 'period')} with steps ten thousand times shorter than the longest",
            f"period {extreme[0]}",
            "Check dates and growth; two changes may lie seconds apart.",
        )


def usual_words(usual: tuple[float, float], unit: str) -> str:
    """Say between which numbers a quantity commonly lies."""
    if usual[0] == 0.0:
        return f"usual are up to {usual[1]:g}{unit}"
    return f"usual are {usual[0]:g} to {usual[1]:g}{unit}"


def _check_rates(model: Model) -> Iterator[Finding]:
    """Rates and properties a thousand times off those of their kind, as by a slip of units."""
    for term in model.terms:
        if "rate" not in term.inputs:
            continue
        rate = np.abs(model.inputs_in_time.get(f"{term.kind}.rate", term.rate[None]).mean(axis=0))  # type: ignore[attr-defined]
        by_feature = term.declared_inputs()["rate"].over == "feature"
        sizes = (
            rate
            if by_feature
            else np.array([rate[term.feature_index == k].max() for k in range(len(term.feature_names))])
        )
        usual = float(np.median(sizes[sizes > 0])) if (sizes > 0).any() else 0.0
        for k in np.flatnonzero((sizes > 1000 * usual) | ((sizes > 0) & (sizes < usual / 1000))):
            yield Finding(
                "warning",
                f'the rate of {term.kind} "{term.feature_names[k]}" is {sizes[k] / usual:.2g} times that of the others',
                f"{model.name}, {term.feature_names[k]}",
                "Check its unit.",
            )
    for name, declared in properties().items():
        values = model.property_of(name)
        if values is None:
            continue
        between, unit = (
            declared.said.usual_on(""),
            f" {KINDS[declared.said.dimension_on('')].inside}".rstrip(),
        )
        for bad, word in ((values < between[0], "low"), (values > between[1], "high")):
            if bad.any():
                cell = int(np.argmax(bad))
                yield Finding(
                    "warning",
                    f"the {name} is suspiciously {word}, {values[cell]:.3g}{unit}; {usual_words(between, unit)}",
                    model.grid.place_of(cell),
                    "Check its unit.",
                )


def _check_values(model: Model) -> Iterator[Finding]:
    """Levels far above the ground or below all layers, rates that nothing reaches: one by one."""
    cells, plan = model.grid.cells, model.grid.cells.plan_cell
    ground, base = np.full(plan.max() + 1, -np.inf), np.full(plan.max() + 1, np.inf)
    np.maximum.at(ground, plan, cells.top)
    np.minimum.at(base, plan, cells.bottom)
    margin = np.maximum(ground - base, _HIGH)
    for term in model.terms:
        at, stated = plan[term.cells], model.site is not None  # the top of a model of arrays may be no ground
        for name, declared in term.declared_inputs().items():
            values = np.asarray(model.inputs_in_time.get(f"{term.kind}.{name}", getattr(term, name)[None]))
            if (
                declared.over == "entry"
                and (declared.dimension, declared.check) == ("elevation", "finite")
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
            if declared.dimension in _PLACED and declared.over in ("entry", "feature"):
                between = KINDS[declared.dimension].usual
                size = np.abs(values).max(axis=0)
                size = size[term.feature_index] if declared.over == "feature" else size
                bad = np.flatnonzero(size > between[1])
                most = f"has a {name} of up to {size[bad].max(initial=0.0):.3g} {declared.unit}; "
                most += usual_words(between, f" {declared.unit}")
                yield from term.found_at(model.grid, bad, "warning", most, "Check its unit.")


def _check_stated(model: Model) -> Iterator[Finding]:
    """What features state, and the water that they bring, one by one."""
    if model.site is None:
        return
    for feature in model.site.features:
        for name, (_, said) in declared_fields(feature).items():
            value = getattr(feature, name)
            if isinstance(said, Quantity) and value is not None:
                kind = said.dimension_on(feature.geometry)
                if kind not in _PLACED:
                    yield from _unusual(model, feature, name, value, kind, said.usual)
        kinds = [s.dimension for _, s in declared_fields(feature).values() if isinstance(s, Concentrations)]
        for species, value in feature.highest_concentrations.items():
            yield from _unusual(model, feature, f"{kinds[0]} of {species}", value, kinds[0])


def _unusual(
    model: Model,
    feature: Feature,
    name: str,
    value: Any,
    kind: str,
    usual: tuple[float, float] | None = None,
) -> Iterator[Finding]:
    low, high = usual or KINDS[kind].usual
    values = np.ravel(np.asarray(value.values if isinstance(value, Series) else value, dtype=np.float64))
    sizes = np.abs(values) if low >= 0.0 else values
    bad = (values != 0.0) & ((sizes < low) | (sizes > high))
    if bad.any():
        unit = f" {KINDS[kind].inside}".rstrip()
        count = f" ({int(bad.sum())} of {len(bad)} values)" if len(bad) > 1 else ""
        shown = f"{values[np.argmax(bad)]:.4g}{unit}"
        yield Finding(
            "warning",
            f"the {name} of {feature.where} is {shown}{count}; {usual_words((low, high), unit)}",
            f"{model.name}, {feature.name}",
            "Check its unit.",
        )


def _check_points(model: Model) -> Iterator[Finding]:
    """Data points that stand out, lie far away, or are missed by the surface made of them."""
    import shapely

    if model.site is None:
        return
    strata, boundary = model.site.strata, model.site.boundary
    surfaces = [("the ground", strata.ground), *((f'the base of "{n.name}"', n.base) for n in strata.layers)]
    reach = 0.5 * shapely.length(shapely.LineString([boundary.bounds[:2], boundary.bounds[2:]]))
    seen: set[int] = set()
    alike: dict[
        tuple[bytes, bytes, str], list[tuple[str, PointSurface]]
    ] = {}  # surfaces through the same places
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
            if len(far) and not model.site.part_of:
                yield Finding(
                    "warning",
                    f"{_count(len(far), 'data point')} of {name} {'lies' if len(far) == 1 else 'lie'} far outside the "
                    "boundary",
                    points.where(int(far[0])),
                    "Check the coordinates, or leave them out.",
                )
            alike.setdefault((points.x.tobytes(), points.y.tobytes(), points.method), []).append(
                (name, points)
            )
            miss = np.abs(points.misses())
            if miss.max() > 0.1:
                yield Finding(
                    "note",
                    f"{name} misses its data points by up to {miss.max():.2g} m ({points.method})",
                    points.where(int(np.argmax(miss))),
                    "As its method has it; linear, natural, cubic and thin-plate surfaces pass through their points.",
                )
    for some in alike.values():
        yield from _beyond_points(model, [name for name, _ in some], [points for _, points in some])


def _beyond_points(model: Model, names: list[str], surfaces: list[PointSurface]) -> Iterator[Finding]:
    """How much of the site lies beyond the points of surfaces, and what these have there."""
    mesh, points = model.grid.mesh, surfaces[0]
    some = slice(None, None, max(1, mesh.n_cells // _LOOKED_AT))
    place, area = mesh.centroid[some], mesh.area[some]
    try:
        beyond = points.triangles.home(place) < 0
    except (
        InputError
    ):  # all in one line, which spans no area: other methods than those on triangles read them all the same
        beyond = np.ones(len(place), dtype=bool)
    share = float(area[beyond].sum() / area.sum())
    if share >= _BEYOND:
        away = float(points.tree.query(place[beyond])[0].max())
        yield Finding(
            "note",
            f"{share:.0%} of the area lies beyond the data points of {', '.join(names)}, up to {away:.3g} m from the "
            "nearest",
            "; ".join(one.name for one in surfaces),
            f"There the method, {points.method}, {POINT_METHODS[points.method].beyond}.",
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
            "Look at the heads there; "
            + (
                "a larger `ring` makes sizes change more slowly."
                if isinstance(model.grid.mesh, SplitMesh)
                else "the nearer in size the cells of neighbouring layers are (layer_cell), the less."
            ),
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
    """Levels that cannot be those of the bore, and how many readings are used and why not the others."""
    if model.site is None:
        return
    cells, missed, empty, used, count = model.grid.cells, 0, [], 0, 0
    for bore in model.site.bores:
        own = bore_cells(model.grid, bore)
        in_layer = f'layer "{bore.layer}", ' if bore.layer else ""
        where = f"{in_layer}{place_words(float(bore.x), float(bore.y))}"
        count += len(bore.levels)
        if not len(own):
            missed += len(bore.levels)
            which = "of its layer" if bore.layer else "along its screen"
            yield Finding(
                "warning",
                f'bore "{bore.name}" meets no cell {which} and is left out of the fit',
                where,
                "Correct its layer, its screen or its place.",
            )
            continue
        empty += [bore.name] * (len(bore.levels) == 0)
        column = model.grid.column_of(int(cells.plan_cell[own[0]]))
        top, bottom = cells.top[column].max(), cells.bottom[column].min()
        margin = max(top - bottom, _HIGH)
        for off, words in (
            (bore.levels - top, "above the ground"),
            (bottom - bore.levels, "below all layers"),
        ):
            bad = np.flatnonzero(off > margin)
            if len(bad):
                k = bad[np.argmax(off[bad])]
                yield Finding(
                    "warning",
                    f'{len(bad)} of {_count(len(off), "level")} of bore "{bore.name}" '
                    f"{'lies' if len(bad) == 1 else 'lie'} far {words}, up to {off[k]:.4g} m: {bore.levels[k]:g} m"
                    + (f" on {str(bore.dates[k])[:10]}" if len(bore.dates) else ""),
                    where,
                    "Check its unit, its measuring point, and whether it stands for a missing reading.",
                )
        used += int(_in_the_run(model, bore.dates).sum()) if len(bore.dates) else len(bore.levels)
    if used < count or empty:
        outside = count - missed - used
        why = [
            f"{missed} in bores that meet no cell" * (missed > 0),
            f"{outside} before or after the run, or in its warm-up" * (outside > 0),
        ]
        said = "; ".join(w for w in why if w)
        bare = f"; none was read in {', '.join(empty)}" if empty else ""
        yield Finding(
            "note",
            f"{used} of {_count(count, 'reading')} are compared with heads{f' ({said})' if said else ''}{bare}",
            "bores",
            "",
        )


def _in_the_run(model: Model, times: Any) -> Any:
    """Which dates or days fall into the run, its warm-up left out; all into a steady one."""
    schedule = model.schedule
    if schedule is None or (schedule.start is None and times.dtype.kind == "M"):
        return np.ones(len(times), dtype=bool)
    days = days_since(schedule.start, times, "times")
    begin = float(schedule.ends[schedule.warm_up][-1]) if schedule.warm_up.any() else 0.0
    return (days >= begin) & (days <= schedule.ends[-1])


def _check_series(model: Model) -> Iterator[Finding]:
    """How many values in time fall into the run, and why not the others."""
    if model.site is None or model.schedule is None:
        return
    seen: set[int] = set()
    things = [(f.where, v) for f in model.site.features for v in vars(f).values()]
    things += [(e.where, v) for e in model.site.edits for v in vars(e).values()]
    for where, series in things:
        if not isinstance(series, Series) or id(series) in seen:
            continue
        seen.add(id(series))
        days = days_since(model.schedule.start, series.times, series.name)
        begun = int(np.searchsorted(days, 0.0, "right"))  # the last of these holds when the run begins
        after = int((days > model.schedule.ends[-1]).sum())
        before = max(begun - 1, 0)
        if before + after and not (before and model.schedule.warm_up.any()):
            why = [
                f"{before} end before it begins" * (before > 0),
                f"{after} begin after it ends" * (after > 0),
            ]
            yield Finding(
                "note",
                f"of {_count(len(days), 'value')} of {series.name} {len(days) - before - after} fall into the run; "
                + ", ".join(w for w in why if w),
                where,
                "",
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
        _check_met,
        _check_terms,
        _check_properties,
        _check_schedule,
        _check_rates,
        _check_values,
        _check_stated,
        _check_strata,
        _check_points,
        _check_bores,
        _check_series,
        _check_rows,
    )
    return Findings.of(finding for look in looks for finding in look(model))
