"""A look at an answer: what of it cannot be meant, or should be known before it is used."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import place_words
from inkhorn.figures import with_decimals
from inkhorn.model import Finding, Findings, Model
from inkhorn.model.terms import Moment

if TYPE_CHECKING:
    from inkhorn.flow.record import FlowStep
    from inkhorn.flow.result import FlowResult

__all__ = ["flooded", "review"]

Array = NDArray[np.float64]

_ABOVE = 0.1  # m above ground from which water is told to stand there
_DRY = 0.01  # share of its height below which a cell is called dry
_BEYOND = 1e-3  # of the range of heads, and m, by which one may lie beyond its neighbours for nothing
_NONE = 1e-6  # of the turnover, less than which is no flow
_CLOSES = 1e-4  # per cent of the turnover that a budget may miss without a word
_SETTLED = 0.01  # m that the last Newton step may change


def flooded(flow: FlowResult, step: int = -1) -> Array:
    """Return by how much water stands above the ground of each plan cell, (n_plan,) [m]; 0 where it does not.

    Where water of that level is given, as in a lake or a river, it may stand so. A confined model made of arrays
    knows no ground.
    """
    grid, model = flow.model.grid, flow.model_at(step)
    if model.water_table.confined and model.site is None:
        return np.zeros(grid.mesh.n_cells)  # its top is that of an aquifer, not the ground
    ground = np.full(grid.mesh.n_cells, np.inf)
    there = grid.uppermost >= 0
    ground[there] = grid.cells.top[grid.uppermost[there]]
    given = np.full(grid.mesh.n_cells, -np.inf)
    for term in model.terms:
        np.fmax.at(given, grid.cells.plan_cell[term.cells], term.level_outside)
    level = flow.water_table(step)
    above = np.where(np.isfinite(level), level, -np.inf) - ground
    return np.asarray(np.where((above > _ABOVE) & (given < level - _ABOVE), above, 0.0))


@dataclass
class _Seen:
    """What steps have shown so far, of cells and of the entries of terms."""

    model: Model
    depth: Array = field(init=False)  # of water above ground, in each plan cell
    dry: NDArray[np.int64] = field(init=False)  # steps in which each cell is
    dry_columns: NDArray[np.int64] = field(init=False)
    beyond: dict[int, tuple[float, str]] = field(default_factory=dict)
    through: Array = field(init=False)  # what passes each layer, at most, of the turnover
    most: list[dict[str, Array]] = field(init=False)
    least: list[dict[str, Array]] = field(init=False)
    steps: int = 0

    def __post_init__(self) -> None:
        grid = self.model.grid
        self.depth, self.through = np.zeros(grid.mesh.n_cells), np.zeros(len(grid.layer_names))
        self.dry = np.zeros(grid.n_cells, dtype=np.int64)
        self.dry_columns = np.zeros(grid.mesh.n_cells, dtype=np.int64)
        self.most = [{} for _ in self.model.terms]
        self.least = [{} for _ in self.model.terms]

    def look(self, flow: FlowResult, k: int) -> None:
        """Add a step."""
        step, model, cells = flow.steps[k], flow.model_at(k), self.model.grid.cells
        self.steps += 1
        self.depth = np.maximum(self.depth, flooded(flow, k))
        wet = np.ones(len(cells), dtype=bool) if model.water_table.confined else flow.filled(k) > _DRY
        self.dry += ~wet
        self.dry_columns += np.bincount(cells.plan_cell, wet, len(self.dry_columns)) == 0
        extra_inflow = self._terms(model, step)
        self._heads(step, wet, extra_inflow - step.storage_change)
        self._layers(step)

    def _terms(self, model: Model, step: FlowStep) -> Array:
        """Look at every term; return what each cell gets from all."""
        inflow, first = np.zeros(len(model.grid.cells)), 0
        for n, (term, flow) in enumerate(zip(model.terms, step.term_flow, strict=True)):
            inflow += np.bincount(term.cells, flow, len(inflow))
            own = step.extra_unknowns[first : first + term.n_extra]
            first += term.n_extra
            if not term.watches:
                continue
            moment = Moment(
                heads=step.heads,
                extra_unknowns=own,
                first_extra=0,
                cells=model.grid.cells,
                horizontal_conductivity=model.horizontal_conductivity,
                law=model.water_table,
                steady=step.steady,
            )
            for name, value in term.seen(moment, flow).items():
                self.most[n][name] = np.maximum(self.most[n].get(name, value), value)
                self.least[n][name] = np.minimum(self.least[n].get(name, value), value)
        return inflow

    def _heads(self, step: FlowStep, wet: NDArray[np.bool_], gain: Array) -> None:
        """Heads above all around without inflow, or below all without outflow: nothing can have caused them."""
        heads, (a, b) = step.heads, self.model.grid.faces.cells.T
        tolerance = _BEYOND * (1.0 + float(np.ptp(heads[wet])) if wet.any() else 1.0)
        little = _NONE * float(np.abs(gain).max(initial=0.0))
        for sign, words in (
            (1.0, "above all around it though no water comes in there"),
            (-1.0, "below all around it though no water leaves there"),
        ):
            h, highest = sign * heads, np.full(len(heads), -np.inf)
            both = wet[a] & wet[b]
            np.maximum.at(highest, a[both], h[b[both]])
            np.maximum.at(highest, b[both], h[a[both]])
            odd = wet & np.isfinite(highest) & (h > highest + tolerance) & (sign * gain <= little)
            for cell in np.flatnonzero(odd).tolist():
                if self._as_near_a_well(cell):
                    continue
                by = float(h[cell] - highest[cell])
                if by > self.beyond.get(cell, (0.0, ""))[0]:
                    self.beyond[cell] = (by, words)

    def _as_near_a_well(self, cell: int) -> bool:
        """Whether a cell lies as near a well as that it stands in, as at a corner: the lowest may be any of these."""
        cells = self.model.grid.cells
        for term in self.model.terms:
            if term.place is None:
                continue
            own, (x, y) = term.cells, term.place.T
            away, least = (np.hypot(cells.x[c] - x, cells.y[c] - y) for c in (cell, own))
            beside = (own != cell) & (cells.layer[own] == cells.layer[cell])
            if (beside & (away <= 1.2 * least)).any():
                return True
        return False

    def _layers(self, step: FlowStep) -> None:
        """What passes through each layer, of what passes through all."""
        cells, (a, b) = self.model.grid.cells, self.model.grid.faces.cells.T
        size, count = np.abs(step.face_flow), len(self.through)
        passed = np.zeros(count)  # counts of nothing are whole numbers
        for end in (a, b):
            passed += np.bincount(cells.layer[end], size, count)
        for term, flow in zip(self.model.terms, step.term_flow, strict=True):
            passed += np.bincount(cells.layer[term.cells], np.abs(flow), count)
        whole = sum((float(np.abs(flow).sum()) for flow in step.term_flow), float(size.sum()))
        if whole > 0.0:
            self.through = np.maximum(self.through, passed / whole)

    # --- in words ---------------------------------------------------------------------------------

    def water_above_ground(self) -> Iterator[Finding]:
        """Where it stands, how much, and over what share of the site."""
        mesh, deep = self.model.grid.mesh, self.depth > 0.0
        if deep.any():
            share, most = float(mesh.area[deep].sum() / mesh.area.sum()), int(self.depth.argmax())
            yield Finding(
                "warning",
                f"water stands above the ground in {deep.sum()} of {mesh.n_cells} columns, {share:.1%} of the area, by "
                f"up to {with_decimals(self.depth[most], 2)} m",
                place_words(mesh.x[most], mesh.y[most]),
                "Check recharge against conductivity, and where water can leave: drains, rivers, seepage.",
            )

    def dryness(self) -> Iterator[Finding]:
        """Columns without any water, and dry cells by layer."""
        grid, columns, dry = self.model.grid, self.dry_columns > 0, self.dry > 0
        if columns.any():
            first = int(np.flatnonzero(columns)[0])
            yield Finding(
                "warning",
                f"{columns.sum()} of {(grid.uppermost >= 0).sum()} columns hold no water in any layer"
                + self._at_times(self.dry_columns[columns]),
                place_words(grid.mesh.x[first], grid.mesh.y[first]),
                "Check what is pumped and drained there against recharge, and the base of the lowest layer.",
            )
        if dry.any():
            layers = np.bincount(grid.cells.layer[dry], minlength=len(grid.layer_names))
            of = np.bincount(grid.cells.layer, minlength=len(layers))
            where = ", ".join(
                f"{grid.layer_names[k]} {layers[k]} of {of[k]}" for k in np.flatnonzero(layers).tolist()
            )
            yield Finding(
                "note",
                f"{dry.sum()} of {grid.n_cells} cells are dry" + self._at_times(self.dry[dry]),
                where,
                "Heads there have no meaning; maps leave them out.",
            )

    def _at_times(self, counts: NDArray[np.int64]) -> str:
        return "" if (counts == self.steps).all() else f", up to {counts.max()} of {self.steps} steps"

    def unlikely_heads(self) -> Iterator[Finding]:
        """Heads that no boundary can have caused."""
        for words in sorted({w for _, w in self.beyond.values()}):
            mine = {cell: by for cell, (by, w) in self.beyond.items() if w == words}
            worst = max(mine, key=lambda cell: mine[cell])
            yield Finding(
                "warning",
                f"the head of {len(mine)} cell{'s'[: len(mine) != 1]} lies {words}, by up to {mine[worst]:.2g} m",
                self.model.grid.place_of(worst),
                "Cells of very different size or askew to the flow make this; even the mesh out there.",
            )

    def still_layers(self) -> Iterator[Finding]:
        """Layers through which next to nothing flows."""
        there = np.isin(np.arange(len(self.through)), self.model.grid.cells.layer)
        for k in np.flatnonzero(there & (self.through < _NONE)).tolist():
            yield Finding(
                "warning",
                f"next to no water flows through the layer, {self.through[k]:.0e} of all",
                f'layer "{self.model.grid.layer_names[k]}"',
                "Check its conductivity, and that of the layers above and below.",
            )

    def features(self) -> Iterator[Finding]:
        """What the terms have to say of their features."""
        for term, most, least in zip(self.model.terms, self.most, self.least, strict=True):
            for name, watch in term.watches.items():
                if name not in most:
                    continue
                met = (most if watch.ever else least)[name] > 0.0
                count, of = (
                    np.bincount(term.feature_index[e], minlength=len(term.feature_names))
                    for e in (met, met | True)
                )
                told = np.flatnonzero((count > 0) if watch.ever else ((count == of) & (of > 0)))
                if not len(told):
                    continue
                value = np.zeros(len(term.feature_names))
                np.maximum.at(value, term.feature_index, most[name])
                names = ", ".join(
                    f'"{term.feature_names[k]}"'
                    + (f" ({watch.told(value[k], count[k], of[k])})" if watch.told else "")
                    for k in told[:4].tolist()
                )
                more = f" and {len(told) - 4} more" if len(told) > 4 else ""
                first = int(np.flatnonzero(met & (term.feature_index == told[0]))[0])
                yield Finding(
                    watch.severity,
                    f"{term.kind} {names}{more}: {watch.words}",
                    self.model.grid.place_of(int(term.cells[first])),
                    watch.remedy,
                )


def _solver(report: Any) -> Iterator[Finding]:
    """How well the equations are met."""
    if report.closing_error_percent > _CLOSES:
        yield Finding(
            "warning",
            f"the water budget misses {report.closing_error_percent:.1e} % of its turnover",
            "all cells",
            "Ask for a smaller `closure`.",
        )
    last = {row.until: row for row in report.rows}
    worst = max(last.values(), key=lambda row: row.largest_change, default=None)
    if worst is not None and worst.largest_change > _SETTLED and report.closure > 0.0:
        when = f", at day {worst.until:g}" if worst.until else ""
        yield Finding(
            "note",
            f"the last Newton step still changed a head by {worst.largest_change:.2g} m{when}",
            worst.place,
            "The budget closes all the same; ask for a smaller `closure` if that head matters.",
        )


def review(flow: FlowResult) -> Findings:
    """Look at an answer, over all of its steps; see `FlowResult.findings`."""
    seen = _Seen(flow.model)
    for k in range(len(flow.steps)):
        seen.look(flow, k)
    looks = (
        seen.water_above_ground,
        seen.dryness,
        seen.unlikely_heads,
        seen.features,
        seen.still_layers,
    )
    found = [finding for look in looks for finding in look()]
    return Findings.of([*found, *_solver(flow.report)])
