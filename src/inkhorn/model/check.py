"""A look at a model before it is solved: findings in plain words, each with place and remedy."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.model import PROPERTIES, Model
from inkhorn.model.terms import DrainTerm, FixedHeadTerm, RiverTerm
from inkhorn.space import point_surfaces

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Finding", "Findings", "check", "levelless_cells"]


_LIKELY = (  # what ground commonly has; beyond that a slip of units is likely
    ("horizontal_conductivity", 1e-8, 1e4),
    ("vertical_conductivity", 1e-9, 1e4),
    ("specific_storage", 1e-8, 1e-1),
    ("specific_yield", 1e-3, 0.6),
    ("porosity", 1e-4, 0.9),
    ("bulk_density", 1e5, 5e6),
)
_GRAVITY = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """One thing found: how grave, what, where, and what to do about it."""

    severity: str  # "error", "warning" or "note"
    what: str
    where: str
    remedy: str

    def __str__(self) -> str:
        return f"{self.severity}: {self.what} [{self.where}] {self.remedy}"


@dataclass(frozen=True)
class Findings:
    """What a check found, errors first."""

    rows: tuple[Finding, ...]

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    @property
    def errors(self) -> tuple[Finding, ...]:
        """Those that keep the model from being solved."""
        return tuple(f for f in self.rows if f.severity == "error")

    def frame(self) -> pd.DataFrame:
        """Return them as a table of severity, what, where, remedy."""
        import pandas as pd

        columns = ["severity", "what", "where", "remedy"]
        return pd.DataFrame([asdict(f) for f in self.rows], columns=columns)

    def raise_errors(self) -> None:
        """Raise if there is any error.

        Raises
        ------
        InputError
            With all of the errors, a line each.
        """
        if self.errors:
            raise InputError("\n".join(str(f) for f in self.errors))

    def __str__(self) -> str:
        return "\n".join(str(f) for f in self.rows) or "nothing found"


def levelless_cells(model: Model) -> list[NDArray[np.int64]]:
    """Return the groups of connected cells in which nothing fixes the level of the water."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    n = model.grid.n_cells
    pairs = [model.grid.faces.cells]
    for term in model.terms:
        if term.n_own:  # a well joins the cells along its screen
            first = np.searchsorted(term.feature, np.arange(len(term.features)))
            pairs.append(np.column_stack([term.cells, term.cells[first][term.feature]]))
    a, b = np.concatenate(pairs).T
    count, group = connected_components(coo_array((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)
    has_level = np.zeros(count, dtype=bool)
    for term in model.terms:
        if term.sets_level:
            has_level[group[term.cells]] = True
    return [np.flatnonzero(group == g) for g in np.flatnonzero(~has_level)]


def _place(model: Model, cell: int) -> str:
    cells = model.grid.cells
    layer = model.grid.layer_names[cells.layer[cell]]
    return f'layer "{layer}", x={cells.x[cell]:.6g}, y={cells.y[cell]:.6g}'


def _check_levels(model: Model) -> Iterator[Finding]:
    in_time = model.schedule is not None and not model.schedule.steady.any()  # heads begin as given
    for group in levelless_cells(model):
        everything = len(group) == model.grid.n_cells
        yield Finding(
            "warning" if in_time else "error",
            "nothing fixes the level of the water"
            + ("" if everything else f" in {len(group)} cells cut off from the rest"),
            model.name if everything else _place(model, int(group[0])),
            "Add a fixed head, a river or a drain"
            + (
                ": the water has no way out."
                if everything
                else " there, or take these cells out of the mesh."
            ),
        )


def _check_wells(model: Model) -> Iterator[Finding]:
    held = {int(c) for t in model.terms if t.fixes_head for c in t.cells}
    for term in model.terms:
        if term.kind != "well":
            continue
        for cell, feature in zip(term.cells, term.feature, strict=True):
            if int(cell) in held:
                yield Finding(
                    "error",
                    f'well "{term.features[feature]}" stands in a cell of fixed head, where pumping changes nothing',
                    _place(model, int(cell)),
                    "Move the well or the fixed head, or make the cells smaller.",
                )


def _check_placed(model: Model) -> Iterator[Finding]:
    if model.placed is None:
        return
    for row in model.placed.rename(columns={"share outside": "outside"}).itertuples():
        if row.cells == 0:
            yield Finding(
                "error" if row.kind == "well" else "warning",
                f'{row.kind} "{row.feature}" meets no cell',
                f"{model.name}, {row.feature}",
                "Check its screen elevations and place against the layers; smaller cells may help."
                if row.kind == "well"
                else "Check its place; smaller cells may help.",
            )
        elif row.outside > 0.2:
            yield Finding(
                "warning",
                f'{row.outside:.0%} of {row.kind} "{row.feature}" lies outside the cells',
                f"{model.name}, {row.feature}",
                "Check its shape or screen, or extend the boundary or the layers.",
            )


def _check_below(model: Model) -> Iterator[Finding]:
    """Levels below the bottom of the cell they were placed in."""
    for term in model.terms:
        if isinstance(term, RiverTerm):
            level, what = (
                np.where(np.isfinite(term.bed), term.bed, np.inf),
                "has its bed below the bottom of its cell",
            )
            remedy = "Raise the bed, or place it on a lower layer."
        elif isinstance(term, DrainTerm):
            level, what, remedy = (
                term.level,
                "lies below the lowest layer",
                "Raise its level or lower the base.",
            )
        elif isinstance(term, FixedHeadTerm):
            level, what = term.head, "lies below the bottom of its cell, which is held dry"
            remedy = "Raise the head, or give it to a lower layer."
        else:
            continue
        low = np.flatnonzero(level < model.grid.cells.bottom[term.cells])
        features, first = np.unique(term.feature[low], return_index=True)
        for feature, entry in zip(features, low[first], strict=True):
            yield Finding(
                "warning",
                f'{term.kind} "{term.features[feature]}" {what}',
                _place(model, int(term.cells[entry])),
                remedy,
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
        by_feature = len(rate) == len(term.features)
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
    for name, low, high in _LIKELY:
        values = getattr(model, name)
        if values is None:
            continue
        for bad, word in ((values < low, "low"), (values > high, "high")):
            if bad.any():
                cell = int(np.argmax(bad))
                yield Finding(
                    "warning",
                    f"the {name} is suspiciously {word}, {values[cell]:.3g} {PROPERTIES[name]}".rstrip(),
                    _place(model, cell),
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
            _place(model, int(unsafe[0])),
            "Look at the heads there; a larger `ring` makes sizes change more slowly.",
        )
    if len(rows.inexact):
        first = int(model.grid.faces.cells[rows.inexact[0], 0])
        yield Finding(
            "note",
            f"the flow across {len(rows.inexact)} of {len(model.grid.faces)} faces is not exact for want of neighbours",
            _place(model, first),
            "Split no single rows of cells.",
        )


def _check_bores(model: Model) -> Iterator[Finding]:
    if model.site is None:
        return
    for bore in model.site.bores:
        plan = int(model.grid.mesh.locate([bore.x], [bore.y])[0])
        if plan < 0 or model.grid.number[model.grid.layer_index(bore.layer), plan] < 0:
            yield Finding(
                "warning",
                f'bore "{bore.name}" meets no cell of its layer and is left out of the fit',
                f'layer "{bore.layer}", x={bore.x:.6g}, y={bore.y:.6g}',
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
        _check_wells,
        _check_placed,
        _check_below,
        _check_properties,
        _check_schedule,
        _check_rates,
        _check_strata,
        _check_points,
        _check_bores,
        _check_rows,
    )
    rows = [finding for look in looks for finding in look(model)]
    return Findings(tuple(sorted(rows, key=lambda f: _GRAVITY.index(f.severity))))
