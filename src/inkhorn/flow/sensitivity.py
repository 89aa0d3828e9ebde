"""Sensitivities of heads: discrete tangent and adjoint of exactly the equations solved, steady and in time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow.carried import Carried
from inkhorn.flow.equations import Balance, FlowEquations, TimeStep
from inkhorn.flow.result import FlowResult
from inkhorn.linear import LinearSystem
from inkhorn.model.terms import HORIZONTAL, Slope, Term
from inkhorn.space import tensor_slopes

__all__ = ["FlowSensitivity"]

Array = NDArray[np.float64]

VERTICAL = "vertical_conductivity"
BESIDES = ("leakance", "face_resistance")  # what else conductances are made of, where a model has it
STORAGE = ("specific_yield", "specific_storage")
TENSOR = ("anisotropy", "direction")
INITIAL, INITIAL_EXTRA, INITIAL_STATES = "initial.heads", "initial.extra_unknowns", "initial.states"
FIXED = "fixed head.head"
_DIRECT_BELOW = 20_000  # unknowns


class _Before(NamedTuple):
    """What a step began with: all unknowns, and the states of the terms."""

    unknowns: Array
    states: tuple[Array, ...]


@dataclass(frozen=True, eq=False)
class _Point:
    """The equations of one step where they are solved, and what it began with."""

    equations: FlowEquations
    unknowns: Array
    before: _Before
    period: int

    @cached_property
    def balance(self) -> Balance:
        return self.equations.evaluate(self.unknowns)

    @cached_property
    def system(self) -> LinearSystem:
        eq = self.equations
        # one factorisation serves every input and every weight
        direct = len(eq.free) < _DIRECT_BELOW
        return LinearSystem(eq.pattern.among_free(self.balance.jacobian), columns=eq.columns, direct=direct)

    @property
    def length(self) -> float:
        step = self.equations.step
        return np.inf if step is None else step.length

    @cached_property
    def slopes(self) -> dict[str, tuple[Any, Any]]:
        """Derivatives by the terms' inputs, sparse: of all residuals, and of the states at the step's end."""
        return self._of_terms(self.equations, self.unknowns, now=True)

    @cached_property
    def slopes_before(self) -> dict[str, tuple[Any, Any]]:
        """Of what extra unknowns stored at the step's start, by the terms' inputs: its part of the residuals."""
        if self.equations.step is None or not any(t.n_extra for t in self.equations.model.terms):
            return {}
        return self._of_terms(self.equations, self.before.unknowns, now=False)

    @cached_property
    def carried(self) -> tuple[Carried | None, ...]:
        """What terms carry across faces besides, as cells are filled."""
        eq = self.equations
        share, slope, _ = eq.filled(self.unknowns[: len(eq.cells)])
        return eq.carried_at(share, slope)

    @cached_property
    def through(self) -> tuple[Array, Any]:
        """Derivative of what is carried across faces by their conductances, (n_faces,); and by cells' conductivity."""
        from scipy.sparse import csr_array

        eq, n_faces = self.equations, len(self.equations.first)
        driven, own = np.zeros(n_faces), csr_array((n_faces, len(eq.cells)))
        for term, beside, answer in zip(
            eq.model.terms, self.carried, self.balance.contributions, strict=True
        ):
            if beside is not None:
                driven += beside.driven(answer.flow, n_faces)
                own = own + beside.by_own(term, answer.flow, eq.model.horizontal_conductivity, n_faces)
        return driven, own

    def _of_terms(self, eq: FlowEquations, unknowns: Array, *, now: bool) -> dict[str, tuple[Any, Any]]:
        parts: dict[str, list[Any]] = {}
        first_state = 0
        for (term, moment), first, beside in zip(
            eq.moments(unknowns), eq.first_extra[:-1], self.carried, strict=True
        ):
            where = _Rows.of(term, int(first), first_state, self.length)
            first_state += term.n_state
            for name, slope in term.by_input(moment).items():
                several = [where.placed(slope) if now else where.stored(slope)]
                if now and beside is not None:
                    several.append(_carried_too(beside, slope, len(term.cells), eq.n_unknowns))
                for part in several:
                    if len(part[0]):
                        parts.setdefault(_label(term, name), []).append(part)
        found = {}
        for label, entries in parts.items():
            row, column, value = (np.concatenate(v) for v in zip(*entries, strict=True))
            size = eq.model.input(label).shape[-1]
            found[label] = _Rows.split(row, column, value, eq.n_unknowns, first_state, size)
        return found

    @cached_property
    def by_state(self) -> tuple[Any, Any]:
        """Derivatives of all residuals, and of the new states, by the states at the step's start."""
        eq, entries, first_state = self.equations, [_Rows.none()], 0
        for (term, moment), first in zip(eq.moments(self.unknowns), eq.first_extra[:-1], strict=True):
            slope = term.by_state(moment)
            row, _, value = _Rows.of(term, int(first), first_state, self.length).placed(slope)
            entries.append((row, first_state + slope.column, value))
            first_state += term.n_state
        row, column, value = (np.concatenate(v) for v in zip(*entries, strict=True))
        return _Rows.split(row, column, value, eq.n_unknowns, first_state, first_state)

    @cached_property
    def state_slope(self) -> Any:
        """Derivative of the states at the step's end by the unknowns, sparse."""
        from scipy.sparse import coo_array

        eq, entries, first_state = self.equations, [_Rows.none()], 0
        for term, answer in zip(eq.model.terms, self.balance.contributions, strict=True):
            row, column, value = answer.state_slope
            entries.append((first_state + row, column, value))
            first_state += term.n_state
        row, column, value = (np.concatenate(v) for v in zip(*entries, strict=True))
        return coo_array((value, (row, column)), shape=(first_state, eq.n_unknowns)).tocsr()

    @cached_property
    def taken(self) -> dict[str, Array]:
        """Derivatives of the water taken into storage by the storage properties, one a cell; none when steady."""
        eq, n = self.equations, len(self.equations.cells)
        if eq.step is None:
            return {}
        after, begun = (eq.storage.slopes(u[:n])[1:] for u in (self.unknowns, self.before.unknowns))
        return {name: (a - b) / self.length for name, a, b in zip(STORAGE, after, begun, strict=True)}

    @cached_property
    def kept(self) -> Any:
        """Derivative of all residuals by the unknowns that the step began with, sparse; zero when steady."""
        from scipy.sparse import coo_array

        eq, n = self.equations, len(self.equations.cells)
        entries = [_Rows.none()]
        if eq.step is not None:
            cells = np.arange(n)
            entries.append((cells, cells, eq.storage.slopes(self.before.unknowns[:n])[0] / self.length))
            begun = eq.begun_with(self.before.states)
            for (term, moment), first in zip(
                begun.moments(self.before.unknowns), eq.first_extra[:-1], strict=True
            ):
                if term.n_extra:
                    row, column, value = term.evaluate(moment).stored_slope
                    entries.append((first + row, column, value / self.length))
        row, column, value = (np.concatenate(v) for v in zip(*entries, strict=True))
        return coo_array((value, (row, column)), shape=(eq.n_unknowns,) * 2).tocsr()


class _Rows(NamedTuple):
    """Where the rows of a term's derivatives stand among all residuals, and the states behind them."""

    residual: NDArray[
        np.int64
    ]  # of its entries' cells and its extra unknowns; then of what these store; then states
    factor: Array
    ends: tuple[int, int]  # where what is stored begins among the rows, and the states

    @classmethod
    def of(cls, term: Term, first: int, first_state: int, length: float) -> _Rows:
        own, states = first + np.arange(term.n_extra), first_state + np.arange(term.n_state)
        begin = len(term.cells) + term.n_extra
        return cls(
            np.concatenate([term.cells, own, own, -1 - states]),
            np.concatenate([np.ones(begin), np.full(term.n_extra, -1.0 / length), np.ones(term.n_state)]),
            (begin, begin + term.n_extra),
        )

    def placed(self, slope: Slope) -> tuple[Any, Any, Array]:
        """All of a derivative."""
        return self.residual[slope.row], slope.column, self.factor[slope.row] * slope.value

    def stored(self, slope: Slope) -> tuple[Any, Any, Array]:
        """Only that of what is stored, as it was at the step's start."""
        mine = (slope.row >= self.ends[0]) & (slope.row < self.ends[1])
        row = slope.row[mine]
        return self.residual[row], slope.column[mine], -self.factor[row] * slope.value[mine]

    @staticmethod
    def none() -> tuple[Any, Any, Array]:
        return np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0)

    @staticmethod
    def split(row: Any, column: Any, value: Array, n: int, n_states: int, size: int) -> tuple[Any, Any]:
        """Two sparse matrices: of the residuals, and of the states."""
        from scipy.sparse import coo_array

        state = row < 0
        return (
            coo_array((value[~state], (row[~state], column[~state])), shape=(n, size)).tocsr(),
            coo_array((value[state], (-1 - row[state], column[state])), shape=(n_states, size)).tocsr(),
        )


def _carried_too(beside: Carried, slope: Slope, n: int, n_unknowns: int) -> tuple[Any, Any, Array]:
    """What a term carries across faces by its inputs: rows of residuals, columns, values."""
    from scipy.sparse import coo_array

    mine = slope.row < n
    if not mine.any():
        return _Rows.none()
    row, column, value = (v[mine] for v in slope)
    by = coo_array((value, (row, column)), shape=(n, int(column.max()) + 1)).tocsr()
    through = (beside.into(n_unknowns, n) @ by).tocoo()
    return through.row, through.col, through.data


def _label(term: Term, name: str) -> str:
    return name if name == HORIZONTAL else f"{term.kind}.{name}"


class FlowSensitivity:
    """How the unknowns of a solution answer to the model's inputs.

    Inputs are named as in `Model.with_inputs`: ``"horizontal_conductivity"``, ``"vertical_conductivity"``,
    ``"anisotropy"``, ``"direction"``, ``"leakance"``, ``"face_resistance"``, ``"specific_storage"``,
    ``"specific_yield"``, or a term's kind and
    input, as in ``"recharge.rate"`` and ``"fixed head.head"``; and ``"initial.heads"``, ``"initial.extra_unknowns"`` and
    ``"initial.states"``, with which a run through
    time begins. Inputs that change in time have a row for each period, as in `Model.inputs_in_time`. Unknowns are the
    heads of all cells, then the terms' own, such as the levels in wells.

    Parameters
    ----------
    flow : FlowResult
        Steady, or in time by steps of first order that are all recorded. The closer it is closed, the truer the
        sensitivities.
    tolerance : float
        Of the linear solves.
    """

    def __repr__(self) -> str:
        return f"FlowSensitivity({self.flow!r})"

    def __init__(self, flow: FlowResult, *, tolerance: float = 1e-11) -> None:
        if any(step.order > 1 or step.joins > 1 for step in flow.steps):
            raise InputError(
                "sensitivities need every step, and of first order. Solve with order=1 and results='steps'."
            )
        self.flow, self.tolerance = flow, tolerance
        self.equations = FlowEquations(flow.model_at(0))
        self._last: tuple[int, _Point] | None = None

    @property
    def _in_time(self) -> bool:
        return self.flow.model.schedule is not None

    def _before(self, k: int) -> _Before:
        if k > 0:
            step = self.flow.steps[k - 1]
            return _Before(np.concatenate([step.heads, step.extra_unknowns]), step.state)
        flow = self.flow
        return _Before(np.concatenate([flow.start.heads, flow.start.extra_unknowns]), flow.start.state)

    def _point(self, k: int) -> _Point:
        """The equations of a step, made anew from its record unless they were the last asked for."""
        if self._last is None or self._last[0] != k:
            step, before = self.flow.steps[k], self._before(k)
            equations = self.equations.of(self.flow.model_at(k)).begun_with(before.states)
            if not step.steady:
                n = len(equations.cells)
                stored = equations.storage.stored(before.unknowns[:n])
                own = equations.extra_stored(before.unknowns)
                equations = equations.over(TimeStep(step.begin, step.end, stored, own))
            unknowns = np.concatenate([step.heads, step.extra_unknowns])
            self._last = k, _Point(equations, unknowns, before, step.period)
        return self._last[1]

    def _check(self, inputs: Mapping[str, Array]) -> dict[str, Array]:
        """Refuse inputs that are unknown, of another size, or that heads do not depend on."""
        model, eq = self.flow.model, self.equations
        sizes = {INITIAL: len(eq.cells), INITIAL_EXTRA: eq.n_unknowns - len(eq.cells)}
        sizes[INITIAL_STATES] = sum(t.n_state for t in model.terms)
        checked = {}
        for name, values in inputs.items():
            model.refuse_unknown([name], *sizes)
            if "." not in name and name not in (HORIZONTAL, VERTICAL, *BESIDES, *TENSOR, *STORAGE):
                raise InputError(f"heads do not depend on {name}. Leave it out.")
            size = sizes[name] if name in sizes else model.input(name).shape[-1]
            array = np.asarray(values, dtype=np.float64)
            periods = 0 if model.schedule is None else len(model.schedule)
            if array.shape not in ((size,), (periods, size)):
                raise InputError(
                    f"the change of {name} has the shape {array.shape}; expected ({size},)"
                    + (f" or ({periods}, {size})." if periods else ".")
                )
            checked[name] = array
        return checked

    def tangent(self, inputs: Mapping[str, Array]) -> Array:
        """Return the change of the unknowns for a small change of the inputs.

        Parameters
        ----------
        inputs : mapping of str to ndarray of float, (n,) or (n_periods, n)
            Change of each input array, in that input's unit; the same in all periods where it has no rows for
            them.

        Returns
        -------
        ndarray of float, (n_unknowns,), or (n_steps, n_unknowns) for a run through time
            One linear solve a step.

        Raises
        ------
        InputError
            If there is no such input, or its change is of another size.
        """
        inputs, eq = self._check(inputs), self.equations
        n = len(eq.cells)
        answers = np.zeros((len(self.flow.steps), eq.n_unknowns))
        moved = np.zeros(eq.n_unknowns)
        moved[:n] = inputs.get(INITIAL, 0.0)
        moved[:n][eq.fixed[:n]] = 0.0  # the heads given there count from the beginning
        moved[n:] = inputs.get(INITIAL_EXTRA, 0.0)
        if FIXED in inputs:
            given, term = inputs[FIXED], eq.model.term("fixed head")
            moved[term.cells[term.holds]] = (given[0] if np.ndim(given) == 2 else given)[term.holds]
        states = np.zeros(sum(t.n_state for t in eq.model.terms)) + inputs.get(INITIAL_STATES, 0.0)
        for k, answer in enumerate(answers):
            point = self._point(k)
            now = {name: v[point.period] if np.ndim(v) == 2 else v for name, v in inputs.items()}
            change, state = self._changed(point, now, moved, states)
            answer[:], states, moved = change, state, change
        return answers if self._in_time else answers[0]

    def _changed(
        self, point: _Point, inputs: Mapping[str, Array], before: Array, states: Array
    ) -> tuple[Array, Array]:
        """Change of the unknowns of one step and of the states at its end, for that of what it began with."""
        eq, balance = point.equations, point.balance
        n, zero = len(eq.cells), np.zeros(len(eq.cells))
        by_conductance = eq.rows.tangent(
            inputs.get(HORIZONTAL, zero), inputs.get(VERTICAL, zero), *(inputs.get(name) for name in BESIDES)
        )
        driven, own = point.through
        flow = by_conductance * (eq.driven(balance) + driven) + own @ inputs.get(HORIZONTAL, zero)
        if any(name in inputs for name in TENSOR):
            flow += sum(by @ inputs[name] for name, by in self._by_tensor(point).items() if name in inputs)
        change = point.kept @ before
        change[:n] += eq.divergence @ flow
        for name, by in point.taken.items():
            if name in inputs:
                change[:n] -= by * inputs[name]
        new = np.zeros(len(states))
        for slopes in (point.slopes, point.slopes_before):
            for label, (of_residual, of_state) in slopes.items():
                if label in inputs:
                    change += of_residual @ inputs[label]
                    new += of_state @ inputs[label]
        if len(states):
            change += point.by_state[0] @ states
            new += point.by_state[1] @ states
        answer = np.zeros(eq.n_unknowns)
        if FIXED in inputs:
            term = eq.model.term("fixed head")
            answer[term.cells[term.holds]] = inputs[FIXED][term.holds]
            change += balance.jacobian @ answer
        answer[eq.free] = point.system.solve(change[eq.free], tolerance=self.tolerance)
        return answer, new + point.state_slope @ answer

    def _by_tensor(self, point: _Point) -> dict[str, Any]:
        """Derivatives of the flow across each face by anisotropy and direction, sparse."""
        eq, model, balance = point.equations, point.equations.model, point.balance
        found = tensor_slopes(model.grid, model.flow_arrays(), eq.rows, point.unknowns[: len(eq.cells)])
        found = {name: balance.share[:, None] * by for name, by in found.items()}
        for term, beside, answer in zip(model.terms, point.carried, balance.contributions, strict=True):
            if beside is not None:
                more = beside.by_tensor(model, term, answer.flow)
                found = {name: by + more[name] for name, by in found.items()}
        return found

    def adjoint(self, weights: Array) -> dict[str, Array]:
        """Return the derivative of a weighted sum of the unknowns by every input.

        Parameters
        ----------
        weights : ndarray of float, (n_unknowns,), or (n_steps, n_unknowns) for a run through time
            The quantity of interest is the sum of ``weights * unknowns``.

        Returns
        -------
        dict of str to ndarray of float, (n,) or (n_periods, n)
            By name of input, one value for each of its values, with a row for each period where it changes in
            time. One linear solve a step, whatever the number of inputs.
        """
        eq, model = self.equations, self.flow.model
        n, shape = len(eq.cells), (len(self.flow.steps), eq.n_unknowns)
        asked = np.asarray(weights, dtype=np.float64)
        if asked.shape != (shape if self._in_time else shape[1:]):
            raise InputError(
                f"weights have the shape {asked.shape}; expected {shape if self._in_time else shape[1:]}."
            )
        answer: dict[str, Array] = {}
        carried = np.zeros(eq.n_unknowns)  # by the unknowns that a step began with
        states = np.zeros(sum(t.n_state for t in model.terms))  # by the states at its end

        def add(name: str, period: int, part: Array) -> None:
            total = answer.setdefault(
                name,
                np.zeros_like(model.inputs_in_time[name])
                if name in model.inputs_in_time
                else np.zeros(len(part)),
            )
            (total[period] if total.ndim == 2 else total)[:] += part

        for k in range(shape[0] - 1, -1, -1):
            point = self._point(k)
            wanted = (asked[k] if self._in_time else asked) + carried + point.state_slope.T @ states
            costate = self._costate(point, wanted)
            self._add_gradient(point, costate, states, add)
            carried = point.kept.T @ costate
            if len(states):
                states = point.by_state[0].T @ costate + point.by_state[1].T @ states
            for term in point.equations.model.terms:
                if term.holds.any():
                    through = wanted + point.balance.jacobian.T @ costate
                    add(FIXED, point.period, np.where(term.holds, through[term.cells], 0.0))
        if self._in_time and not self.flow.steps[0].steady:
            for term in eq.model.terms:
                if term.holds.any():
                    add(FIXED, 0, np.where(term.holds, carried[term.cells], 0.0))
            add(INITIAL, 0, np.where(eq.fixed[:n], 0.0, carried[:n]))
            if any(len(a.stored) for a in self._point(0).balance.contributions):
                add(INITIAL_EXTRA, 0, carried[n:])
        if len(states):
            add(INITIAL_STATES, 0, states)
        return answer

    def _costate(self, point: _Point, wanted: Array) -> Array:
        free, costate = point.equations.free, np.zeros(len(wanted))
        costate[free] = point.system.solve(wanted[free], tolerance=self.tolerance, transpose=True)
        return costate

    def _add_gradient(self, point: _Point, costate: Array, states: Array, add: Any) -> None:
        """Hand on what the balance of one step has to say on every input."""
        eq, balance, n = point.equations, point.balance, len(point.equations.cells)
        by_flow, (driven, own) = eq.divergence.T @ costate[:n], point.through
        parts = eq.rows.adjoint(by_flow * (eq.driven(balance) + driven), n)
        add(HORIZONTAL, point.period, own.T @ by_flow)
        for name, part in zip((HORIZONTAL, VERTICAL, *BESIDES), parts, strict=True):
            if getattr(eq.model, name) is not None:
                add(name, point.period, part)
        for name, by in point.taken.items():
            add(name, point.period, -by * costate[:n])
        for name, by_face_flow in self._by_tensor(point).items():
            add(name, point.period, by_face_flow.T @ by_flow)
        for slopes in (point.slopes, point.slopes_before):
            for label, (of_residual, of_state) in slopes.items():
                add(label, point.period, of_residual.T @ costate + of_state.T @ states)
