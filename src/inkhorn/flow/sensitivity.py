"""Sensitivities of a flow: discrete tangent and adjoint of exactly the equations solved, steady and in time."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow.balance import TimeStep
from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.linearised import FIXED, STORAGE, TENSOR, Before, LinearisedStep
from inkhorn.flow.quantities import Form, Readings
from inkhorn.flow.result import FlowResult
from inkhorn.model.terms import HORIZONTAL
from inkhorn.progress import Progress

__all__ = ["FlowSensitivity"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

INITIAL, INITIAL_EXTRA, INITIAL_STATES = "initial.heads", "initial.extra_unknowns", "initial.states"
_ON_HEADS = (HORIZONTAL, "vertical_conductivity", "leakance", "face_resistance", *TENSOR, *STORAGE)
_AT_ONCE = 24  # columns that are solved for together, of steady flow
_ROOM = 400_000_000  # bytes for the columns of one sweep through time


class _Moved(NamedTuple):
    """One step of a tangent: how all unknowns change, and the residuals of cells whose heads are given."""

    unknowns: Array
    residuals: Array


class _Back(NamedTuple):
    """One step of an adjoint.

    Attributes
    ----------
    step : LinearisedStep
    wanted : ndarray of float, (n_unknowns, m)
        Derivative of each reading by the unknowns, the equations of the step left aside.
    costate : ndarray of float, (n_unknowns, m)
        By its residuals.
    states : ndarray of float, (n_states, m)
        By the states at its end.
    form : Form, optional
        Of all readings.
    """

    step: LinearisedStep
    wanted: Array
    costate: Array
    states: Array
    form: Form | None


class FlowSensitivity:
    """How the unknowns of a solution, and all that is computed from them, answer to the model's inputs.

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
        self.solves = 0  # linear solves so far
        self._last: tuple[int, LinearisedStep] | None = None

    @property
    def _in_time(self) -> bool:
        return self.flow.model.schedule is not None

    @property
    def _n_states(self) -> int:
        return sum(t.n_state for t in self.flow.model.terms)

    def _before(self, k: int) -> Before:
        if k > 0:
            step = self.flow.steps[k - 1]
            return Before(np.concatenate([step.heads, step.extra_unknowns]), step.state)
        start = self.flow.start
        return Before(np.concatenate([start.heads, start.extra_unknowns]), start.state)

    def step(self, k: int) -> LinearisedStep:
        """Return the equations of a step at its solution, made anew unless last asked for."""
        if self._last is None or self._last[0] != k:
            step, before = self.flow.steps[k], self._before(k)
            equations = self.equations.of(self.flow.model_at(k)).begun_with(before.states)
            if not step.steady:
                n = len(equations.cells)
                stored = equations.storage.stored(before.unknowns[:n])
                own = equations.extra_stored(before.unknowns)
                equations = equations.over(TimeStep(step.begin, step.end, stored, own))
            unknowns = np.concatenate([step.heads, step.extra_unknowns])
            self._last = k, LinearisedStep(equations, unknowns, before, step.period)
        return self._last[1]

    def _size_of(self, name: str) -> int:
        """How many values an input has in one period.

        Raises
        ------
        InputError
            If there is none of that name, or heads do not depend on it.
        """
        model, eq = self.flow.model, self.equations
        sizes = {INITIAL: len(eq.cells), INITIAL_EXTRA: eq.n_unknowns - len(eq.cells)}
        sizes[INITIAL_STATES] = self._n_states
        model.refuse_unknown([name], *sizes)
        if "." not in name and name not in _ON_HEADS:
            raise InputError(f"heads do not depend on {name}. Leave it out.")
        return sizes[name] if name in sizes else int(model.input(name).shape[-1])

    def _check(self, inputs: Mapping[str, Array]) -> dict[str, Array]:
        """Return changes as (n_values, 1), or (n_periods * n_values, 1), having refused what is of another size."""
        checked = {}
        for name, values in inputs.items():
            size, array = self._size_of(name), np.asarray(values, dtype=np.float64)
            periods = 0 if self.flow.model.schedule is None else len(self.flow.model.schedule)
            if array.shape not in ((size,), (periods, size)):
                raise InputError(
                    f"the change of {name} has the shape {array.shape}; expected ({size},)"
                    + (f" or ({periods}, {size})." if periods else ".")
                )
            checked[name] = array.reshape(-1, 1)
        return checked

    def _in_period(self, changes: Mapping[str, Any], period: int) -> dict[str, Any]:
        """The rows of changes that belong to one period."""
        found = {}
        for name, rows in changes.items():
            size = self._size_of(name)
            found[name] = rows if rows.shape[0] == size else rows[period * size : (period + 1) * size]
        return found

    # --- forward ------------------------------------------------------------------------------------

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
        answers = np.array([moved.unknowns[:, 0] for _, moved in self._forward(self._check(inputs), 1)])
        return answers if self._in_time else answers[0]

    def _forward(self, changes: Mapping[str, Any], m: int) -> Iterator[tuple[int, _Moved]]:
        """Go through the steps with some changes of inputs, (n_values, m) each, dense."""
        eq = self.equations
        n = len(eq.cells)
        moved = np.zeros((eq.n_unknowns, m))
        moved[:n] = changes.get(INITIAL, 0.0)
        moved[:n][eq.fixed[:n]] = 0.0  # the heads given there count from the beginning
        moved[n:] = changes.get(INITIAL_EXTRA, 0.0)
        states = np.zeros((self._n_states, m)) + changes.get(INITIAL_STATES, 0.0)
        for k in range(len(self.flow.steps)):
            step = self.step(k)
            now = self._in_period(changes, step.period)
            if k == 0 and FIXED in now:
                term = step.equations.model.term("fixed head")
                moved[term.cells[term.holds]] = now[FIXED][term.holds]
            right = step.kept @ moved
            new = np.zeros_like(states)
            for name, change in now.items():
                if name in step.inputs:
                    right += step.residual_by_input(name) @ change
                    if len(states):
                        new += step.state_by_input(name) @ change
            if len(states):
                right += step.by_state[0] @ states
                new += step.by_state[1] @ states
            moved = np.zeros_like(moved)
            jacobian, free = step.balance.jacobian, step.equations.free
            if FIXED in now:
                term = step.equations.model.term("fixed head")
                moved[term.cells[term.holds]] = now[FIXED][term.holds]
                right += jacobian @ moved
            moved[free] = self._solved(step, right[free])
            states = new + step.state_slope @ moved
            fixed = np.flatnonzero(step.equations.fixed)
            residuals = np.zeros_like(moved)
            if len(fixed):
                given = moved.copy()
                given[fixed] = 0.0  # these are in `right` already
                residuals[fixed] = right[fixed] + (jacobian[fixed] @ given)
            yield k, _Moved(moved, residuals)

    def _solved(self, step: LinearisedStep, right: Array, *, transpose: bool = False) -> Array:
        self.solves += right.shape[1]
        return step.system.solve_many(right, tolerance=self.tolerance, transpose=transpose)

    # --- backward -----------------------------------------------------------------------------------

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
        shape = (len(self.flow.steps), self.equations.n_unknowns)
        asked = np.asarray(weights, dtype=np.float64)
        if asked.shape != (shape if self._in_time else shape[1:]):
            raise InputError(
                f"weights have the shape {asked.shape}; expected {shape if self._in_time else shape[1:]}."
            )
        return self._gradient(lambda k, _: Form(_one_row(asked[k] if self._in_time else asked)))

    def gradient(self, readings: Readings, weights: Array) -> dict[str, Array]:
        """Return the derivative of a weighted sum of readings by every input; as `adjoint`.

        Parameters
        ----------
        readings : Readings
            What is read.
        weights : ndarray of float, (n_readings,)
            Their weights.
        """
        row = _one_row(np.asarray(weights, dtype=np.float64))

        def form(k: int, step: LinearisedStep) -> Form | None:
            made = readings.form(k, step)
            return None if made is None else made.scaled(row)

        return self._gradient(form)

    def _gradient(self, form: Any) -> dict[str, Array]:
        """The derivative of one number by every input."""
        model, answer = self.flow.model, dict[str, Array]()

        def add(name: str, period: int, part: Array) -> None:
            if name not in answer:
                many = model.inputs_in_time.get(name)
                answer[name] = np.zeros(len(part)) if many is None else np.zeros_like(many)
            total = answer[name]
            (total[period] if total.ndim == 2 else total)[:] += part

        begun: dict[str, Array] = {}
        last = np.array([len(self.flow.steps) - 1])
        for step, wanted, costate, states, made in self._backward(form, last, begun):
            for name in step.inputs:
                part = step.residual_by_input(name).T @ costate[:, 0]
                if len(states):
                    part = part + step.state_by_input(name).T @ states[:, 0]
                direct = None if made is None else made.by_input(step, name)
                add(name, step.period, part if direct is None else part + np.ravel(direct.sum(axis=0)))
            for term in step.equations.model.terms:
                if term.holds.any():
                    through = wanted[:, 0] + step.balance.jacobian.T @ costate[:, 0]
                    add(FIXED, step.period, np.where(term.holds, through[term.cells], 0.0))
        for name, by in begun.items():
            add(name, 0, by[:, 0])
        return answer

    def _backward(self, form: Any, last: Index, begun: dict[str, Array]) -> Iterator[_Back]:
        """Go back through the steps with a block of costates, one for each reading.

        Parameters
        ----------
        form : callable
            Of a step's number and itself: the `Form` of all readings there, or none.
        last : ndarray of int, (m,)
            The last step of each reading, never rising: at steps after it there is no costate.
        begun : dict of str to ndarray of float, (n, m)
            Filled at the end with the derivatives by what the run began with.
        """
        eq, m = self.equations, len(last)
        n = len(eq.cells)
        carried = np.zeros((eq.n_unknowns, m))  # by the unknowns that a step began with
        states = np.zeros((self._n_states, m))  # by the states at its end
        for k in range(len(self.flow.steps) - 1, -1, -1):
            active = slice(0, int(np.searchsorted(-last, -k, "right")))
            if active.stop == 0:
                continue
            step = self.step(k)
            made = form(k, step)
            wanted = carried[:, active] + step.state_slope.T @ states[:, active]
            costate = np.zeros_like(wanted)
            jacobian, free = step.balance.jacobian, step.equations.free
            right = wanted
            if made is not None:
                wanted = wanted + made.unknowns.T.toarray()[:, active]
                right = wanted
                if made.residuals is not None:
                    costate += made.residuals.T.toarray()[:, active]
                    right = wanted + jacobian.T @ costate
            costate[free] = self._solved(step, right[free], transpose=True)
            yield _Back(step, wanted, costate, states[:, active], made)
            carried[:, active] = step.kept.T @ costate
            if len(states):
                states[:, active] = step.by_state[0].T @ costate + step.by_state[1].T @ states[:, active]
        if self._in_time and not self.flow.steps[0].steady:
            for term in eq.model.terms:
                if term.holds.any():
                    begun[FIXED] = np.where(term.holds[:, None], carried[term.cells], 0.0)
            begun[INITIAL] = np.where(eq.fixed[:n, None], 0.0, carried[:n])
            if any(len(a.stored) for a in self.step(0).balance.contributions):
                begun[INITIAL_EXTRA] = carried[n:]
        if len(states):
            begun[INITIAL_STATES] = states

    def by_water_taken(self, readings: Readings) -> Array:
        """Return how much less readings are by water taken from each cell through all steps, (n_readings, n_cells)."""
        n, last = len(self.equations.cells), readings.last_step
        order = np.flatnonzero(last >= 0)
        order = order[np.argsort(-last[order], kind="stable")]
        chosen, found = readings.some(order), np.zeros((len(readings), n))
        for back in self._backward(chosen.form, last[order], {}):
            cells = np.where(back.step.equations.fixed[:n, None], 0.0, back.costate[:n])
            found[order[: cells.shape[1]]] += cells.T
        return found

    def heads_by(self, changes: Mapping[str, Any]) -> Array:
        """Return the derivative of the heads in the end by parameters that inputs are made of, (n_cells, n_parameters).

        Parameters
        ----------
        changes : mapping of str to scipy.sparse array
            As of `jacobian`.
        """
        n, m = len(self.equations.cells), next(iter(changes.values())).shape[1]
        found = np.zeros((n, m))
        many = self._columns_at_once()
        for first in range(0, m, many):
            some = slice(first, min(first + many, m))
            block = {name: rows[:, some].toarray() for name, rows in changes.items() if rows.nnz}
            for _, moved in self._forward(block, some.stop - some.start):
                last = moved
            found[:, some] = last.unknowns[:n]
        return found

    # --- many at once -------------------------------------------------------------------------------

    def jacobian(
        self, readings: Readings, changes: Mapping[str, Any], *, progress: Progress | None = None
    ) -> Array:
        """Return the derivatives of readings by parameters that inputs are made of.

        Tangents or adjoints, whichever needs fewer linear solves; each step is set up once for all of them, and no array
        of readings by cells is kept but for a few at a time.

        Parameters
        ----------
        readings : Readings
            What is read, (n_readings).
        changes : mapping of str to scipy.sparse array, (n_values, n_parameters) or (n_periods * n_values, n_parameters)
            Derivative of each input array by the parameters.
        progress : callable, optional
            Called with what is being done and its share.

        Returns
        -------
        ndarray of float, (n_readings, n_parameters)

        Raises
        ------
        InputError
            If there is no such input, or its derivative is of another size.
        """
        from scipy.sparse import csr_array

        periods = 0 if self.flow.model.schedule is None else len(self.flow.model.schedule)
        moved = {name: csr_array(rows) for name, rows in changes.items()}
        for name, rows in moved.items():
            size = self._size_of(name)
            if rows.shape[0] not in (size, periods * size):
                raise InputError(
                    f"the derivative of {name} has {rows.shape[0]} rows; expected {size}"
                    + (f" or {periods * size}." if periods else ".")
                )
        moved = {name: rows for name, rows in moved.items() if rows.nnz}
        counts = {rows.shape[1] for rows in changes.values()}
        if len(counts) != 1:
            raise InputError(
                f"derivatives by {sorted(counts)} parameters were given; expected one number of them."
            )
        n_parameters = counts.pop()
        steps = len(self.flow.steps)
        forward, backward = n_parameters * steps, int((readings.last_step + 1).sum())
        make = self._by_tangents if forward < backward else self._by_adjoints
        return make(readings, moved, n_parameters, progress or (lambda *_: None))

    def _columns_at_once(self) -> int:
        """How many columns are solved for together: where steps must be set up again as many as there is room for."""
        room = int(_ROOM // (8 * self.equations.n_unknowns))
        return max(_AT_ONCE, room) if len(self.flow.steps) > 1 else _AT_ONCE

    def _by_tangents(
        self, readings: Readings, moved: Mapping[str, Any], n_parameters: int, progress: Progress
    ) -> Array:
        found = np.zeros((len(readings), n_parameters))
        many = self._columns_at_once()
        for first in range(0, n_parameters, many):
            some = slice(first, min(first + many, n_parameters))
            block = {name: rows[:, some].toarray() for name, rows in moved.items()}
            for k, change in self._forward(block, some.stop - some.start):
                made = readings.form(k, self.step(k))
                progress("sensitivities", (first + (k + 1) / len(self.flow.steps)) / n_parameters)
                if made is None:
                    continue
                found[:, some] += made.unknowns @ change.unknowns
                if made.residuals is not None:
                    found[:, some] += made.residuals @ change.residuals
                for name, rows in self._in_period(block, self.step(k).period).items():
                    direct = made.by_input(self.step(k), name)
                    if direct is not None:
                        found[:, some] += direct @ rows
        return found

    def _by_adjoints(
        self, readings: Readings, moved: Mapping[str, Any], n_parameters: int, progress: Progress
    ) -> Array:
        found = np.zeros((len(readings), n_parameters))
        last = readings.last_step
        order = np.flatnonzero(last >= 0)
        order = order[np.argsort(-last[order], kind="stable")]
        turned = {name: rows.T.tocsr() for name, rows in moved.items() if len(self.flow.steps) == 1}
        many, done = self._columns_at_once(), 0
        for some in (order[k : k + many] for k in range(0, len(order), many)):
            chosen, begun = readings.some(some), dict[str, Array]()
            for step, wanted, costate, states, made in self._backward(chosen.form, last[some], begun):
                mine = some[: costate.shape[1]]
                done += len(mine)
                progress("sensitivities", min(done / max(int((last + 1).sum()), 1), 1.0))
                now = turned or {
                    name: rows.T.tocsr() for name, rows in self._in_period(moved, step.period).items()
                }
                for name, rows in now.items():
                    if name in step.inputs:
                        by = step.residual_by_input(name).T @ costate
                        if len(states):
                            by = by + step.state_by_input(name).T @ states
                        found[mine] += (rows @ by).T
                    direct = None if made is None else made.by_input(step, name)
                    if direct is not None:
                        found[some] += (direct @ rows.T).toarray()
                    if name == FIXED:
                        term = step.equations.model.term("fixed head")
                        through = wanted + step.balance.jacobian.T @ costate
                        found[mine] += (rows @ np.where(term.holds[:, None], through[term.cells], 0.0)).T
            for name, by in begun.items():
                if name in moved:
                    found[some] += (self._in_period(moved, 0)[name].T @ by).T
        return found


def _one_row(values: Array) -> Any:
    from scipy.sparse import csr_array

    return csr_array(values[None, :])
