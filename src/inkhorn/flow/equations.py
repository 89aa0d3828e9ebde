"""The flow equations: the water balance of every cell, and its derivative by every unknown.

Unknowns are the heads of all cells, then the extra unknowns of the terms in their order. The residual
of a cell is what flows in less what flows out; a cell of fixed head has none.
"""

from __future__ import annotations

from collections.abc import Iterator
from copy import copy
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.balance import Balance, TimeStep
from inkhorn.flow.carried import Carried
from inkhorn.flow.halves import Halves, in_halves
from inkhorn.flow.pattern import Pattern
from inkhorn.flow.storage import Storage
from inkhorn.linear import Columns
from inkhorn.model import Model, filled
from inkhorn.model.terms import Contribution, Moment, Slope, Term
from inkhorn.space import RectangularMesh

__all__ = ["FlowEquations"]

Array = NDArray[np.float64]


_WITHIN_ROUNDING = 1e-3  # of the turnover: where more is left, the last figures of heads are not why

# what `Model.face_rows` is made of
_IN_ROWS = (
    "horizontal_conductivity",
    "vertical_conductivity",
    "anisotropy",
    "direction",
    "leakance",
    "face_resistance",
)


def _alike(one: Any, other: Any) -> bool:
    if one is None or other is None:
        return one is other
    return bool(np.array_equal(one, other, equal_nan=True))


class FlowEquations:
    """The equations of one model, steady or over one step in time.

    Side faces carry their row's flow times the share of their height that is filled on the way between both cells, and
    around wells what radial flow carries besides. Floor faces carry ``row @ max(heads, level of the face)``: as long as
    the lower cell is not full, water falls at the rate that the upper cell alone sets, and none rises into an empty cell
    from below.
    """

    def __init__(self, model: Model) -> None:
        self.model = model
        self.step: TimeStep | None = None
        self.stored_before = np.empty(0)
        self.rests_at: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None
        self.entry_weight: tuple[NDArray[np.float64], ...] | None = None
        self.extra_weight: tuple[NDArray[np.float64], ...] | None = None
        self.cells, faces = model.grid.cells, model.grid.faces
        n, self.first, self.second = len(self.cells), faces.cells[:, 0], faces.cells[:, 1]
        self.rows = model.face_rows()
        self.face_level = np.maximum(self.cells.bottom[self.first], self.cells.top[self.second])
        self.height = self.cells.thickness
        self.face_height, floor = faces.height, faces.is_floor
        self.halves: Halves | None = None
        n_sides, n_faces = int((~floor).sum()), len(faces)
        if len(self.rows.difference.indices) == 2 * n_faces and not floor[:n_sides].any():
            side, middle = n_sides // 2, (n_sides + n_faces) // 2
            self.halves = ((0, side), (n_sides, middle)), ((side, n_sides), (middle, n_faces))
        counts = [t.n_extra for t in model.terms]
        self.first_extra = n + np.concatenate([[0], np.cumsum(counts)]).astype(int)
        self.states: tuple[NDArray[np.float64], ...] = tuple(np.zeros(t.n_state) for t in model.terms)
        self.n_unknowns = int(self.first_extra[-1])
        fixed = np.zeros(self.n_unknowns, dtype=bool)
        for term in model.terms:
            fixed[term.cells[term.holds]] = True
        self.fixed, self.free = fixed, np.flatnonzero(~fixed)
        determined = np.concatenate([np.zeros(n, dtype=bool), *(t.determined for t in model.terms)])
        self.determined = determined[self.free]
        networks = [np.full(t.n_extra, bool(t.determined.any())) for t in model.terms]
        self.in_network = np.concatenate([np.zeros(n, dtype=bool), *networks])
        flows = np.concatenate(
            [np.zeros(n, dtype=bool), *(np.arange(t.n_extra) >= t.n_levels for t in model.terms)]
        )
        self.flows = np.flatnonzero(flows & ~fixed)
        self.pattern = Pattern(self.rows.difference, self.n_unknowns, self.free)
        self._conductances()
        self.carried = tuple(Carried.of(model, self.rows, term) for term in model.terms)
        self.columns = self._columns()  # sorted out once, for all steps of all copies

    def _columns(self) -> Columns | None:
        """Where the free unknowns stand that are not left out, for the linear solver; none where columns branch."""
        grid = self.model.grid
        if grid.joined:
            return None
        mesh, n = grid.mesh, len(self.cells)
        column, layer = np.full(self.n_unknowns, -1), np.zeros(self.n_unknowns, dtype=np.int64)
        column[:n], layer[:n] = self.cells.plan_cell, self.cells.layer
        even = None
        if isinstance(mesh, RectangularMesh):
            widths = (np.diff(mesh.x_edges), np.diff(mesh.y_edges))
            even = mesh.row_column if all(w.max() < 1.01 * w.min() for w in widths) else None
        kept = self.free[~self.determined]
        return Columns(
            column[kept],
            layer[kept],
            mesh.edges().cells,
            mesh.x,
            mesh.y,
            mesh.area,
            even,
        )

    @property
    def divergence(self) -> Any:
        """What comes into each cell of the flows across faces, (n_cells, n_faces)."""
        return self.pattern.divergence

    def over(self, step: TimeStep) -> FlowEquations:
        """Return the same equations over a step in time."""
        other = copy(self)
        other.step = step
        other.stored_before = step.stored.sum(axis=0)
        return other

    def begun_with(self, states: tuple[NDArray[np.float64], ...]) -> FlowEquations:
        """Return the same equations for terms that are in these states at the start."""
        other = copy(self)
        other.states = states
        return other

    def initial_states(self, heads: NDArray[np.float64]) -> tuple[NDArray[np.float64], ...]:
        """Return the states in which terms begin."""
        return tuple(np.asarray(t.initial_state(heads), dtype=np.float64) for t in self.model.terms)

    def weighted(
        self,
        face: NDArray[np.float64],
        entry: tuple[NDArray[np.float64], ...],
        own: tuple[NDArray[np.float64], ...],
    ) -> FlowEquations:
        """Return the same equations with weighted flows: of faces, of entries, and in the balances of extra unknowns."""
        other = copy(self)
        other.rows = replace(self.rows, conductance=face * self.rows.conductance)
        other._conductances()
        other.entry_weight, other.extra_weight = entry, own
        return other

    def of(self, model: Model) -> FlowEquations:
        """Return the equations of another period of the same model; rows are made anew only if they changed."""
        same = all(_alike(getattr(model, name), getattr(self.model, name)) for name in _IN_ROWS)
        if not same:
            return FlowEquations(model)
        other = copy(self)
        other.model = model
        for name in ("storage", "bending_terms", "bending_cells"):
            other.__dict__.pop(name, None)
        return other

    @cached_property
    def storage(self) -> Storage:
        """What cells store.

        Raises
        ------
        InputError
            If the model lacks a storage property.
        """
        return Storage.of(self.model)

    def own(self, unknowns: NDArray[np.float64]) -> Iterator[tuple[Term, NDArray[np.float64]]]:
        """Go through the terms, each with its extra unknowns."""
        for term, start, end in zip(
            self.model.terms, self.first_extra[:-1], self.first_extra[1:], strict=True
        ):
            yield term, unknowns[start:end]

    def extra_stored(self, unknowns: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the water that extra unknowns of the terms store, (n_extra,) [m³]."""
        stored = np.zeros(self.n_unknowns - len(self.cells))
        if not len(stored):
            return stored
        for (term, moment), first in zip(self.moments(unknowns), self.first_extra[:-1], strict=True):
            held, begin = term.evaluate(moment).stored, first - len(self.cells)
            if len(held):
                stored[begin : begin + term.n_extra] = held
        return stored

    def held(self, heads: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return heads with the fixed ones as they are given now."""
        heads = np.array(heads, dtype=np.float64)
        for term in self.model.terms:
            if term.holds.any():
                heads[term.cells[term.holds]] = term.head[term.holds]  # type: ignore[attr-defined]
        return heads

    def start(self, heads: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return first unknowns from heads, fixed heads put in."""
        heads = self.held(heads)
        unknowns = np.concatenate([heads, *(t.initial_guess(heads) for t in self.model.terms)])
        own = [term.at_start(moment) for term, moment in self.moments(unknowns)]
        return np.concatenate([heads, *own])

    def settled(self, unknowns: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return unknowns with those of the terms brought to where the heads want them, where these suffice."""
        if self.n_unknowns == len(self.cells):
            return unknowns
        own = [term.settled(moment) for term, moment in self.moments(unknowns)]
        return np.concatenate([unknowns[: len(self.cells)], *own])

    def _conductances(self) -> None:
        """Sum up the faces of every cell: sides, floor and roof; and over what length water begins to fall."""
        from inkhorn.flow import _kernels

        law, faces, n = self.model.water_table, self.model.grid.faces, len(self.cells)
        self.face_bend, bend = np.empty(len(faces)), law.bend(self.height)
        self.sides, beneath, roof = np.zeros(n), np.zeros(n), np.zeros(n)
        _kernels.sums_of_faces(
            faces.cells, faces.is_floor, self.rows.conductance, self.height, law.smoothing, self.face_bend,
            self.sides, beneath, roof, bend,
        )  # fmt: skip
        self.floors = (beneath, roof, bend)

    @cached_property
    def bending_terms(self) -> tuple[bool, ...]:
        """Which terms depend on the heads of their cells alone, and do; those with extra unknowns do not."""
        n = len(self.cells)
        answers = (t.evaluate(m) for t, m in self.moments(np.zeros(self.n_unknowns)))
        return tuple(
            t.n_extra == 0 and (len(a.flow_slope.row) > 0) and bool((a.flow_slope.column < n).all())
            for t, a in zip(self.model.terms, answers, strict=True)
        )

    @cached_property
    def bending_cells(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Cells without and with such terms."""
        bends = np.zeros(len(self.cells), dtype=bool)
        for term, answers in zip(self.model.terms, self.bending_terms, strict=True):
            bends[term.cells] |= answers
        return np.flatnonzero(~bends), np.flatnonzero(bends)

    def own_terms(self, unknowns: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return what bending terms take from each of their cells by its own head, and its slope [m³/day], [m²/day]."""
        _, cells = self.bending_cells
        taken, slope = np.zeros(len(cells)), np.zeros(len(cells))
        for (term, moment), bends in zip(self.moments(unknowns), self.bending_terms, strict=True):
            if bends:
                answer, place = term.evaluate(moment), np.searchsorted(cells, term.cells)
                taken -= np.bincount(place, answer.flow, len(cells))
                row, column, value = answer.flow_slope
                own = term.cells[row] == column
                slope -= np.bincount(place[row[own]], value[own], len(cells))
        return taken, slope

    def resting(self, unknowns: NDArray[np.float64], rate: float) -> FlowEquations:
        """Return the same equations as in a step in time from some heads, with so much stored per area [1/day]."""
        other = copy(self)
        other.rests_at = (unknowns, rate * self.areas)
        return other

    @cached_property
    def areas(self) -> NDArray[np.float64]:
        """Of the cells, zero for other unknowns and where heads are fixed, (n_unknowns,) [m²]."""
        area = np.concatenate([self.cells.area, np.zeros(self.n_unknowns - len(self.cells))])
        area[self.fixed] = 0.0
        return area

    def moments(self, unknowns: NDArray[np.float64]) -> Iterator[tuple[Term, Moment]]:
        """Go through the terms, each with what it is told at these unknowns."""
        heads, n, step = unknowns[: len(self.cells)], len(self.cells), self.step
        none = np.empty(0)
        weights = self.extra_weight or (none,) * len(self.model.terms)
        for (term, own), first, state, weight in zip(
            self.own(unknowns), self.first_extra[:-1], self.states, weights, strict=True
        ):
            yield (
                term,
                Moment(
                    heads=heads,
                    extra_unknowns=own,
                    first_extra=int(first),
                    cells=self.cells,
                    horizontal_conductivity=self.model.horizontal_conductivity,
                    law=self.model.water_table,
                    begin=0.0 if step is None else step.begin,
                    end=0.0 if step is None else step.end,
                    steady=step is None,
                    state=state,
                    stored=none if step is None else step.extra_stored[first - n :][: term.n_extra],
                    weight=weight,
                ),
            )

    def evaluate(self, unknowns: NDArray[np.float64]) -> Balance:
        """Evaluate the residual.

        Parameters
        ----------
        unknowns : ndarray of float, (n_unknowns,)
            Heads [m], then extra unknowns.
        """
        from inkhorn.flow import _kernels

        law, n, rows = self.model.water_table, len(self.cells), self.rows.difference
        film = 1.0 if law.confined else law.film
        heads = np.ascontiguousarray(unknowns[:n])
        share_filled, filled_slope, integral = self.filled(heads)
        share, face_flow, slope = (np.empty(k) for k in (len(self.first), len(self.first), len(rows.indices)))
        residual = np.zeros(self.n_unknowns)

        laws = (
            self.face_level,
            self.face_bend,
            film,
            heads,
            self.cells.bottom,
            self.height,
            self.face_height,
        )
        filling = (law.smoothing, share_filled, filled_slope)

        def crossed_any(drive: Array, *answers: Array) -> float:
            matrix = self.rows.matrix
            places = (matrix.indptr, matrix.indices, matrix.data, self.model.grid.faces.is_floor)
            return float(_kernels.cross_faces(*places, *laws, *filling, drive, *answers))

        def crossed_pairs(span: tuple[tuple[int, int], tuple[int, int]], residual: Array) -> float:
            pairs, answers = rows.indices.reshape(-1, 2), (share, face_flow, slope.reshape(-1, 2), residual)
            return float(_kernels.cross_pairs(pairs, *span, self.rows.conductance, *laws, *filling, *answers))

        def drives() -> Array:
            drive = np.empty(len(rows.indices))
            crossed_any(drive, *(np.empty_like(v) for v in (share, face_flow, slope, residual)))
            return drive

        if self.halves is None:
            absolute = crossed_any(np.empty(len(rows.indices)), share, face_flow, slope, residual)
        else:
            absolute = in_halves(crossed_pairs, self.halves, residual)
        storage, storage_slope = np.zeros(n), np.zeros(n)
        extra_stored, extra_change = np.zeros(self.n_unknowns - n), np.zeros(self.n_unknowns - n)
        if self.step is not None:
            storage, storage_slope = self.storage.change(
                share_filled, filled_slope, integral, self.stored_before, self.step.length
            )
        residual[:n] -= storage
        contributions = []
        weights = self.entry_weight or (None,) * len(self.model.terms)
        extra_weights = self.extra_weight or (None,) * len(self.model.terms)
        carried = self.carried_at(share_filled, filled_slope)
        for (term, moment), first, weight, extra_weight, beside in zip(
            self.moments(unknowns), self.first_extra[:-1], weights, extra_weights, carried, strict=True
        ):
            answer = term.evaluate(moment)
            if weight is not None and extra_weight is not None:
                row, column, value = answer.flow_slope
                slopes = Slope(row, column, weight[row] * value)
                row, column, value = answer.extra_slope
                answer = replace(
                    answer,
                    flow=weight * answer.flow,
                    flow_slope=slopes,
                    extra_residual=extra_weight * answer.extra_residual,
                    extra_slope=Slope(row, column, extra_weight[row] * value),
                )
            contributions.append(answer)
            np.add.at(residual, term.cells, answer.flow)
            if beside is not None:
                across = beside.across(answer.flow, len(face_flow))
                face_flow += across
                residual[:n] += self.divergence @ across
            mine = slice(first - n, first - n + term.n_extra)
            if len(answer.stored):
                extra_stored[mine] = answer.stored
                if self.step is not None:
                    extra_change[mine] = (answer.stored - self.step.extra_stored[mine]) / self.step.length
            residual[first : first + term.n_extra] = answer.extra_residual - extra_change[mine]
        if self.rests_at is not None:
            anchor, stores = self.rests_at
            residual -= stores * (unknowns - anchor)
        answers, rounding = tuple(contributions), float(np.finfo(float).eps * absolute)
        return Balance(
            unknowns,
            residual,
            face_flow,
            share,
            answers,
            storage,
            extra_stored,
            extra_change,
            rounding,
            slope,
            drives,
            lambda: self._jacobian(slope, answers, storage_slope, carried),
        )

    def _jacobian(
        self,
        face_slope: NDArray[np.float64],
        contributions: tuple[Contribution, ...],
        storage_slope: NDArray[np.float64],
        carried: tuple[Carried | None, ...],
    ) -> Any:
        rows, columns, values = [], [], []
        diagonal = np.zeros(self.n_unknowns)
        diagonal[: len(storage_slope)] = -storage_slope
        if self.rests_at is not None:
            diagonal -= self.rests_at[1]
        for answer, beside in zip(contributions, carried, strict=True):
            if beside is not None:
                row, column, value = beside.slopes(answer)
                rows.append(row)
                columns.append(column)
                values.append(value)
        for term, answer, first in zip(self.model.terms, contributions, self.first_extra[:-1], strict=True):
            own, parts = first + np.arange(term.n_extra), [(answer.flow_slope, term.cells, 1.0)]
            parts.append((answer.extra_slope, own, 1.0))
            if self.step is not None and len(answer.stored):
                parts.append((answer.stored_slope, own, -1.0 / self.step.length))
            for slope, number, factor in parts:
                rows.append(number[slope.row])
                columns.append(slope.column)
                values.append(factor * slope.value)
        none = np.empty(0, np.int64)
        return self.pattern.filled(
            face_slope,
            diagonal,
            np.concatenate([none, *rows]),
            np.concatenate([none, *columns]),
            np.concatenate([np.empty(0), *values]),
        )

    def filled(self, heads: NDArray[np.float64]) -> tuple[NDArray[np.float64], ...]:
        """Return the filled share of each cell, its slope by head, and its integral, as `inkhorn.model.filled`."""
        return filled(heads, self.cells.bottom, self.cells.top, self.model.water_table)

    def driven(self, balance: Balance) -> NDArray[np.float64]:
        """Return the derivative of the flow across each face by its conductance, (n_faces,) [m]."""
        across = np.bincount(
            self.rows.entry_face, self.rows.difference.data * balance.drive, len(balance.share)
        )
        return np.asarray(balance.share * across)

    def carried_at(
        self, share: NDArray[np.float64], slope: NDArray[np.float64]
    ) -> tuple[Carried | None, ...]:
        """Return what each term carries across faces where cells are filled so far."""
        return tuple(None if c is None else c.at(share, slope, self.height) for c in self.carried)

    def term_flows(self, balance: Balance) -> tuple[NDArray[np.float64], ...]:
        """Return the flow of every entry of every term, fixed heads included, [m³/day]."""
        return tuple(
            np.where(term.holds, -balance.residual[term.cells], answer.flow)
            for term, answer in zip(self.model.terms, balance.contributions, strict=True)
        )

    def outside(self, balance: Balance) -> tuple[NDArray[np.float64], ...]:
        """Return what comes into extra unknowns from outside, for each term, (n_names, n_extra) [m³/day]."""
        return tuple(
            np.reshape(
                [answer.outside[k] for k in term.outside_names], (len(term.outside_names), term.n_extra)
            )
            for term, answer in zip(self.model.terms, balance.contributions, strict=True)
        )

    def turnover(self, balance: Balance) -> float:
        """Return the larger of inflow and outflow, storage included [m³/day]."""
        known: float | None = vars(balance).get("_turnover")
        if known is None:
            stores = [v for a in balance.contributions if len(a.stored) for v in a.outside.values()]
            parts = (
                *self.term_flows(balance), -balance.storage_change, *stores, -balance.extra_storage_change
            )  # fmt: skip
            inflow = sum(float(np.maximum(v, 0.0).sum()) for v in parts)
            known = max(inflow, inflow - sum(float(v.sum()) for v in parts))
            vars(balance)["_turnover"] = known
        return known

    def left(self, balance: Balance) -> float:
        """Return the sum of absolute residuals [m³/day]; infinity where one is no number.

        Where all flows rise with the head they come from, short steps of Newton's method lower it.
        """
        size = self._missing(balance)
        return size if np.isfinite(size) else np.inf

    def _missing(self, balance: Balance) -> float:
        known: float | None = vars(balance).get("_missing")
        if known is None:
            free = balance.residual if len(self.free) == self.n_unknowns else balance.residual[self.free]
            known = vars(balance)["_missing"] = float(np.abs(free).sum())
        return known

    def closure(self, balance: Balance) -> float:
        """Return the sum of absolute residuals over the larger of inflow and outflow, storage included, as measured."""
        missing = self._missing(balance)
        return missing / max(
            self.turnover(balance), 1e-6 * missing, 1e-300
        )  # at the very start nothing may move yet

    def closes(self, balance: Balance, goal: float) -> bool:
        """Whether that is reached, or what is left is no more than rounding, as where no water moves at all."""
        closure = self.closure(balance)
        if closure <= goal or self._missing(balance) <= balance.rounding:
            return True
        if not closure <= _WITHIN_ROUNDING or self._missing(balance) > balance.at_most_unresolved:
            return False
        beyond = np.maximum(np.abs(balance.residual) - balance.unresolved, 0.0)
        return float(beyond[self.free].sum()) <= goal * self.turnover(balance)

    @cached_property
    def names(self) -> list[str]:
        """Names of the terms' extra unknowns, in words."""
        return [words for t in self.model.terms for words in t.extra_said]

    def name_of(self, unknown: int) -> str:
        """Return an unknown in words: layer and place, or the feature it belongs to."""
        n = len(self.cells)
        if unknown >= n:
            return self.names[unknown - n]
        return f"cell {unknown} of {self.model.grid.place_of(unknown)}"

    def features_at(self, unknown: int) -> str:
        """Return the features that meet a cell, in brackets; nothing where there are none."""
        met = [
            f"{term.kind} {term.feature_names[k]}".strip()
            for term in self.model.terms
            for k in np.unique(term.feature_index[term.cells == unknown])
        ]
        return f" ({', '.join(met)})" if met else ""
