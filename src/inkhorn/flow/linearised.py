"""The equations of one step where they are solved: what every balance and flow says to a small change of anything."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.balance import Balance
from inkhorn.flow.carried import Carried
from inkhorn.flow.equations import FlowEquations
from inkhorn.linear import CondensedSystem, LinearSystem, linear_system
from inkhorn.model.terms import HORIZONTAL, Slope, Term
from inkhorn.space import tensor_slopes

__all__ = ["FIXED", "STORAGE", "TENSOR", "Before", "LinearisedStep"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

STORAGE = ("specific_yield", "specific_storage")
TENSOR = ("anisotropy", "direction")
FIXED = "fixed head.head"
_DIRECT_BELOW = 20_000  # unknowns


class Before(NamedTuple):
    """What a step began with: all unknowns, and the states of the terms."""

    unknowns: Array
    states: tuple[Array, ...]


class _Outputs(NamedTuple):
    """Where what one term answers stands: the rows of its derivatives among residuals and states."""

    residual: Index  # of its entries' cells and its extra unknowns; then of what these store; then states
    factor: Array
    n_entries: int
    n_law: int  # entries and extra residuals, without what is stored
    n_stored: int  # up to where it stands

    @classmethod
    def of(cls, term: Term, first: int, first_state: int, length: float) -> _Outputs:
        own, states = first + np.arange(term.n_extra), first_state + np.arange(term.n_state)
        begin = len(term.cells) + term.n_extra
        return cls(
            np.concatenate([term.cells, own, own, -1 - states]),
            np.concatenate([np.ones(begin), np.full(term.n_extra, -1.0 / length), np.ones(term.n_state)]),
            len(term.cells),
            begin,
            begin + term.n_extra,
        )

    def placed(self, slope: Slope) -> tuple[Any, Any, Array]:
        """All of a derivative."""
        return self.residual[slope.row], slope.column, self.factor[slope.row] * slope.value

    def stored(self, slope: Slope) -> tuple[Any, Any, Array]:
        """Only that of what is stored, as it was at the step's start."""
        mine = (slope.row >= self.n_law) & (slope.row < self.n_stored)
        row = slope.row[mine]
        return self.residual[row], slope.column[mine], -self.factor[row] * slope.value[mine]


@dataclass(eq=False)
class _Entries:
    """Entries of a sparse matrix, as they come; a row below 0 is that of a state, counted back from -1."""

    row: list[Index] = field(default_factory=list)
    column: list[Index] = field(default_factory=list)
    value: list[Array] = field(default_factory=list)

    def add(self, row: Any, column: Any, value: Any) -> None:
        self.row.append(row)
        self.column.append(column)
        self.value.append(value)

    def _joined(self) -> tuple[Index, Index, Array]:
        none = np.empty(0, np.int64)
        row, column = (np.concatenate([none, *v]) for v in (self.row, self.column))
        return row, column, np.concatenate([np.empty(0), *self.value])

    def matrix(self, shape: tuple[int, int]) -> Any:
        """Those of rows from 0."""
        from scipy.sparse import coo_array

        row, column, value = self._joined()
        kept = row >= 0
        return coo_array((value[kept], (row[kept], column[kept])), shape=shape).tocsr()

    def of_states(self, shape: tuple[int, int]) -> Any:
        """Those of states."""
        from scipy.sparse import coo_array

        row, column, value = self._joined()
        kept = row < 0
        return coo_array((value[kept], (-1 - row[kept], column[kept])), shape=shape).tocsr()


def _labelled(term: Term, name: str) -> str:
    return name if name == HORIZONTAL else f"{term.kind}.{name}"


@dataclass(frozen=True, eq=False)
class LinearisedStep:
    """One step at its solution, and sparse derivatives of all that it has.

    Residuals are those of `FlowEquations`: what flows into each cell less what flows out, then the terms' own. What a
    term answers is counted as its `Term.by_input` does: the flows of its entries, then its extra residuals.

    Attributes
    ----------
    equations : FlowEquations
        Over the step.
    unknowns : ndarray of float, (n_unknowns,)
        At its end.
    before : Before
        What it began with.
    period : int
        Of the schedule.
    """

    equations: FlowEquations
    unknowns: Array
    before: Before
    period: int
    _kept: dict[tuple[str, str], Any] = field(default_factory=dict, repr=False)

    @cached_property
    def balance(self) -> Balance:
        """The equations, evaluated."""
        return self.equations.evaluate(self.unknowns)

    @cached_property
    def system(self) -> LinearSystem | CondensedSystem:
        """The derivative by the free unknowns, reversed."""
        eq = self.equations
        # one factorisation serves every input and every weight
        direct = len(eq.free) < _DIRECT_BELOW
        matrix = eq.pattern.among_free(self.balance.jacobian)
        return linear_system(matrix, eq.determined, columns=eq.columns, direct=direct)

    @property
    def length(self) -> float:
        """Of the step [day]; infinite when steady."""
        step = self.equations.step
        return np.inf if step is None else step.length

    @property
    def n_states(self) -> int:
        """Of all terms."""
        return sum(t.n_state for t in self.equations.model.terms)

    @cached_property
    def outputs(self) -> tuple[_Outputs, ...]:
        """Where what each term answers stands."""
        eq, found, first_state = self.equations, [], 0
        for term, first in zip(eq.model.terms, eq.first_extra[:-1], strict=True):
            found.append(_Outputs.of(term, int(first), first_state, self.length))
            first_state += term.n_state
        return tuple(found)

    @cached_property
    def _by_input(self) -> tuple[dict[str, Slope], ...]:
        """Of each term by its inputs, named as those of the model."""
        return tuple(
            {_labelled(term, name): slope for name, slope in term.by_input(moment).items()}
            for term, moment in self.equations.moments(self.unknowns)
        )

    @cached_property
    def _stored_by_input(self) -> tuple[dict[str, Slope], ...]:
        """The same at the step's start, for what extra unknowns stored then."""
        eq = self.equations
        if eq.step is None or not any(t.n_extra for t in eq.model.terms):
            return tuple({} for _ in eq.model.terms)
        return tuple(
            {_labelled(term, name): slope for name, slope in term.by_input(moment).items()}
            for term, moment in eq.moments(self.before.unknowns)
        )

    @cached_property
    def carried(self) -> tuple[Carried | None, ...]:
        """What terms carry across faces besides, as cells are filled."""
        eq = self.equations
        share, slope, _ = eq.filled(self.unknowns[: len(eq.cells)])
        return eq.carried_at(share, slope)

    def _carriers(self) -> Iterator[tuple[int, Term, Carried, Array]]:
        for k, (term, beside, answer) in enumerate(
            zip(self.equations.model.terms, self.carried, self.balance.contributions, strict=True)
        ):
            if beside is not None:
                yield k, term, beside, answer.flow

    # --- by the unknowns ----------------------------------------------------------------------------

    @cached_property
    def face_flow_by_unknowns(self) -> Any:
        """Of the flow across each face, (n_faces, n_unknowns) [m²/day]."""
        from scipy.sparse import csr_array

        eq, balance = self.equations, self.balance
        shape = (len(eq.first), eq.n_unknowns)
        rows = eq.rows.matrix
        found = csr_array((balance.face_slope, rows.indices, rows.indptr), shape=shape)
        beside = _Entries()
        for k, _, carried, _ in self._carriers():
            beside.add(*carried.face_slopes(balance.contributions[k]))
        return (found + beside.matrix(shape)).tocsr() if beside.row else found

    def answer_by_unknowns(self, term: int) -> Any:
        """Of the flows of a term's entries and of its extra residuals, (n, n_unknowns)."""
        answer, where = self.balance.contributions[term], self.outputs[term]
        entries = _Entries()
        entries.add(*answer.flow_slope)
        row, column, value = answer.extra_slope
        entries.add(where.n_entries + row, column, value)
        return entries.matrix((where.n_law, self.equations.n_unknowns))

    @cached_property
    def state_slope(self) -> Any:
        """Of the states at the step's end, (n_states, n_unknowns)."""
        entries, first_state = _Entries(), 0
        for term, answer in zip(self.equations.model.terms, self.balance.contributions, strict=True):
            row, column, value = answer.state_slope
            entries.add(first_state + row, column, value)
            first_state += term.n_state
        return entries.matrix((first_state, self.equations.n_unknowns))

    @cached_property
    def kept(self) -> Any:
        """Of all residuals by the unknowns that the step began with, (n_unknowns, n_unknowns); zero when steady."""
        eq, n, entries = self.equations, len(self.equations.cells), _Entries()
        if eq.step is not None:
            cells = np.arange(n)
            entries.add(cells, cells, eq.storage.slopes(self.before.unknowns[:n])[0] / self.length)
            begun = eq.begun_with(self.before.states)
            for (term, moment), first in zip(
                begun.moments(self.before.unknowns), eq.first_extra[:-1], strict=True
            ):
                if term.n_extra:
                    row, column, value = term.evaluate(moment).stored_slope
                    entries.add(first + row, column, value / self.length)
        return entries.matrix((eq.n_unknowns,) * 2)

    @cached_property
    def by_state(self) -> tuple[Any, Any]:
        """Of all residuals, and of the new states, by the states at the step's start."""
        eq, entries, first_state = self.equations, _Entries(), 0
        for (term, moment), where in zip(eq.moments(self.unknowns), self.outputs, strict=True):
            slope = term.by_state(moment)
            row, _, value = where.placed(slope)
            entries.add(row, first_state + slope.column, value)
            first_state += term.n_state
        return entries.matrix((eq.n_unknowns, first_state)), entries.of_states((first_state,) * 2)

    # --- by the inputs ------------------------------------------------------------------------------

    @cached_property
    def inputs(self) -> tuple[str, ...]:
        """Names of what the residuals depend on, but for given heads of cells."""
        eq = self.equations
        names = [n for n in eq.rows.slopes if getattr(eq.model, n) is not None]
        names += [*TENSOR, *(STORAGE if eq.step is not None else ())]
        for slopes in (*self._by_input, *self._stored_by_input):
            names += [n for n, slope in slopes.items() if len(slope.row)]
        return tuple(dict.fromkeys(names))

    def _size(self, name: str) -> int:
        return int(self.equations.model.input(name).shape[-1])

    def _made(self, what: str, name: str, make: Any) -> Any:
        if (what, name) not in self._kept:
            self._kept[what, name] = make()
        return self._kept[what, name]

    @cached_property
    def _driven(self) -> Array:
        """Of the flow across each face by its conductance [m]."""
        eq = self.equations
        driven = eq.driven(self.balance)
        for _, _, carried, flow in self._carriers():
            driven = driven + carried.driven(flow, len(driven))
        return np.asarray(driven)

    @cached_property
    def _by_tensor(self) -> dict[str, Any]:
        eq, model = self.equations, self.equations.model
        found = tensor_slopes(model.grid, model.flow_arrays(), eq.rows, self.unknowns[: len(eq.cells)])
        found = {name: self.balance.share[:, None] * by for name, by in found.items()}
        for _, term, carried, flow in self._carriers():
            more = carried.by_tensor(model, term, flow)
            found = {name: by + more[name] for name, by in found.items()}
        return found

    def answer_by_input(self, term: int, name: str) -> Any:
        """Of the flows of a term's entries and of its extra residuals by an input, (n, n_values); none if not at all."""
        slope = self._by_input[term].get(name)
        if slope is None:
            return None
        where, entries = self.outputs[term], _Entries()
        law = slope.row < where.n_law
        entries.add(slope.row[law], slope.column[law], slope.value[law])
        return entries.matrix((where.n_law, self._size(name)))

    def face_flow_by_input(self, name: str) -> Any:
        """Of the flow across each face by an input, (n_faces, n_values); none if not at all."""
        return self._made("face flow", name, lambda: self._make_face_flow_by_input(name))

    def _make_face_flow_by_input(self, name: str) -> Any:
        from scipy.sparse import diags_array

        eq, model = self.equations, self.equations.model
        n_faces, parts = len(eq.first), []
        if name in eq.rows.slopes:
            parts.append(diags_array(self._driven) @ eq.rows.slopes[name])
        if name in TENSOR:
            parts.append(self._by_tensor[name])
        for k, term, carried, flow in self._carriers():
            if name == HORIZONTAL:
                parts.append(carried.by_own(term, flow, model.horizontal_conductivity, n_faces))
            by = self.answer_by_input(k, name)
            if by is not None:
                n = len(term.cells)
                parts.append(carried.by_entry(n_faces, n) @ by[:n])
        return None if not parts else sum(parts[1:], start=parts[0]).tocsr()

    def residual_by_input(self, name: str) -> Any:
        """Of all residuals by an input, (n_unknowns, n_values); of given heads of cells see `FlowSensitivity`."""
        return self._made("residual", name, lambda: self._make_residual_by_input(name))

    def _make_residual_by_input(self, name: str) -> Any:
        from scipy.sparse import csr_array

        eq, n, size = self.equations, len(self.equations.cells), self._size(name)
        entries = _Entries()
        if name in STORAGE and eq.step is not None:
            after, begun = (
                eq.storage.slopes(u[:n])[1 + STORAGE.index(name)]
                for u in (self.unknowns, self.before.unknowns)
            )
            entries.add(np.arange(n), np.arange(n), -(after - begun) / self.length)
        for by, begun_by, where in zip(self._by_input, self._stored_by_input, self.outputs, strict=True):
            if name in by:
                entries.add(*where.placed(by[name]))
            if name in begun_by:
                entries.add(*where.stored(begun_by[name]))
        found = entries.matrix((eq.n_unknowns, size))
        across = self.face_flow_by_input(name)
        if across is not None:
            into = (eq.divergence @ across).tocsr()
            pointers = np.concatenate([into.indptr, np.full(eq.n_unknowns - n, into.indptr[-1])])
            found = found + csr_array((into.data, into.indices, pointers), shape=(eq.n_unknowns, size))
        return found.tocsr()

    def state_by_input(self, name: str) -> Any:
        """Of the states at the step's end by an input, (n_states, n_values)."""
        entries = _Entries()
        for by, where in zip(self._by_input, self.outputs, strict=True):
            if name in by:
                entries.add(*where.placed(by[name]))
        return entries.of_states((self.n_states, self._size(name)))
