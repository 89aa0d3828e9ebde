"""Sensitivities of heads: discrete tangent and adjoint of exactly the equations solved, steady and in time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow.equations import Balance, FlowEquations, TimeStep
from inkhorn.flow.result import FlowResult
from inkhorn.linear import LinearSystem
from inkhorn.model.terms import HORIZONTAL, Slope, Term

__all__ = ["FlowSensitivity"]

Array = NDArray[np.float64]

VERTICAL = "vertical_conductivity"
BESIDES = ("leakance", "face_resistance")  # what else conductances are made of, where a model has it
STORAGE = ("specific_yield", "specific_storage")
FIRST, FIXED = "first.heads", "fixed head.head"
_DIRECT_BELOW = 20_000  # unknowns


@dataclass(frozen=True, eq=False)
class _Point:
    """The equations of one step where they are solved.

    `before` are the heads that the step began with, none in a steady one.
    """

    equations: FlowEquations
    unknowns: Array
    before: Array | None
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

    @cached_property
    def slopes(self) -> list[tuple[Term, NDArray[np.int64], Mapping[str, Slope]]]:
        """Every term, the unknowns in whose rows it stands, and its derivatives by its inputs."""
        first = self.equations.first_own[:-1]
        return [
            (term, np.concatenate([term.cells, start + np.arange(term.n_own)]), term.by_input(moment))
            for (term, moment), start in zip(self.equations.moments(self.unknowns), first, strict=True)
        ]

    @cached_property
    def taken(self) -> dict[str, Array]:
        """Derivatives of the water taken into storage by the storage properties, one a cell; none when steady."""
        if self.before is None:
            return {}
        eq, now = self.equations, self.unknowns[: len(self.before)]
        return {
            name: (after - begun) / self.length
            for name, after, begun in zip(
                STORAGE, eq.stored_slopes(now)[1:], eq.stored_slopes(self.before)[1:], strict=True
            )
        }

    @property
    def length(self) -> float:
        step = self.equations.step
        return np.inf if step is None else step.end - step.start

    @cached_property
    def kept(self) -> Array | float:
        """Derivative of each cell's balance by the head it began with [m²/day]."""
        return 0.0 if self.before is None else self.equations.stored_slopes(self.before)[0] / self.length


def _label(term: Term, name: str) -> str:
    return name if name == HORIZONTAL else f"{term.kind}.{name}"


class FlowSensitivity:
    """How the unknowns of a solution answer to the model's inputs.

    Inputs are named as in `Model.with_inputs`: ``"horizontal_conductivity"``, ``"vertical_conductivity"``,
    ``"leakance"``, ``"face_resistance"``, ``"specific_storage"``, ``"specific_yield"``, or a term's kind and
    input, as in ``"recharge.rate"`` and ``"fixed head.head"``; and ``"first.heads"``, with which a run through
    time begins. Inputs that change in time have a row for each period, as in `Model.changes`. Unknowns are the
    heads of all cells, then the levels in wells.

    Parameters
    ----------
    flow : FlowResult
        Steady, or in time by steps of first order that are all recorded. The closer it is closed, the truer the
        sensitivities.
    tolerance : float
        Of the linear solves.
    """

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

    def _point(self, k: int) -> _Point:
        """The equations of a step, made anew from its record unless they were the last asked for."""
        if self._last is None or self._last[0] != k:
            step, before = self.flow.steps[k], None
            equations = self.equations.of(self.flow.model_at(k))
            if not step.steady:
                before = self.flow.first if k == 0 else self.flow.steps[k - 1].heads
                equations = equations.over(TimeStep(step.start, step.end, equations.stored(before)))
            unknowns = np.concatenate([step.heads, step.own])
            self._last = k, _Point(equations, unknowns, before, step.period)
        return self._last[1]

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
        """
        n = len(self.equations.cells)
        answers = np.zeros((len(self.flow.steps), self.equations.n_unknowns))
        moved = np.array(inputs.get(FIRST, np.zeros(n)), dtype=np.float64)
        moved[self.equations.fixed[:n]] = 0.0  # the heads given there count from the beginning
        if FIXED in inputs:
            given = inputs[FIXED]
            moved[self.equations.model.term("fixed head").cells] = given[0] if np.ndim(given) == 2 else given
        for k, answer in enumerate(answers):
            point = self._point(k)
            now = {name: v[point.period] if np.ndim(v) == 2 else v for name, v in inputs.items()}
            answer[:] = self._changed(point, now, moved)
            moved = answer[:n]
        return answers if self._in_time else answers[0]

    def _changed(self, point: _Point, inputs: Mapping[str, Array], before: Array) -> Array:
        """Change of the unknowns of one step, for that of the heads it began with."""
        eq, balance = point.equations, point.balance
        n, zero = len(eq.cells), np.zeros(len(eq.cells))
        data = eq.rows.tangent(
            inputs.get(HORIZONTAL, zero), inputs.get(VERTICAL, zero), *(inputs.get(name) for name in BESIDES)
        )
        flow = balance.share * np.bincount(eq.entry_face, data * balance.drive, len(balance.share))
        change = np.zeros(eq.n_unknowns)
        change[:n] = eq.divergence @ flow + point.kept * before
        for name, by in point.taken.items():
            if name in inputs:
                change[:n] -= by * inputs[name]
        for term, rows, slopes in point.slopes:
            for name, slope in slopes.items():
                if _label(term, name) in inputs:
                    part = slope.value * inputs[_label(term, name)][slope.column]
                    change += np.bincount(rows[slope.row], part, eq.n_unknowns)
        answer = np.zeros(eq.n_unknowns)
        if FIXED in inputs:
            answer[eq.model.term("fixed head").cells] = inputs[FIXED]
            change += balance.jacobian @ answer
        answer[eq.free] = point.system.solve(change[eq.free], tolerance=self.tolerance)
        return answer

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
        carried = np.zeros(n)  # by the heads that a step began with

        def add(name: str, period: int, part: Array) -> None:
            total = answer.setdefault(
                name, np.zeros_like(model.changes[name]) if name in model.changes else np.zeros(len(part))
            )
            (total[period] if total.ndim == 2 else total)[:] += part

        for k in range(shape[0] - 1, -1, -1):
            point = self._point(k)
            wanted = asked[k].copy() if self._in_time else asked.copy()
            wanted[:n] += carried
            costate = self._costate(point, wanted)
            self._add_gradient(point, costate, add)
            carried = point.kept * costate[:n]
            for term in point.equations.model.terms:
                if term.fixes_head:
                    through = wanted + point.balance.jacobian.T @ costate
                    add(FIXED, point.period, through[term.cells])
        if self._in_time and not self.flow.steps[0].steady:
            for term in eq.model.terms:
                if term.fixes_head:
                    add(FIXED, 0, carried[term.cells])
            add(FIRST, 0, np.where(eq.fixed[:n], 0.0, carried))
        return answer

    def _costate(self, point: _Point, wanted: Array) -> Array:
        free, costate = point.equations.free, np.zeros(len(wanted))
        costate[free] = point.system.solve(wanted[free], tolerance=self.tolerance, transpose=True)
        return costate

    def _add_gradient(self, point: _Point, costate: Array, add: Any) -> None:
        """Hand on what the balance of one step has to say on every input."""
        eq, balance, n = point.equations, point.balance, len(point.equations.cells)
        by_face = (eq.divergence.T @ costate[:n]) * balance.share
        parts = eq.rows.adjoint(by_face[eq.entry_face] * balance.drive, n)
        for name, part in zip((HORIZONTAL, VERTICAL, *BESIDES), parts, strict=True):
            if getattr(eq.model, name) is not None:
                add(name, point.period, part)
        for name, by in point.taken.items():
            add(name, point.period, -by * costate[:n])
        for term, rows, slopes in point.slopes:
            for name, slope in slopes.items():
                label = _label(term, name)
                size = eq.model.input(label).shape[-1]
                add(
                    label,
                    point.period,
                    np.bincount(slope.column, slope.value * costate[rows[slope.row]], size),
                )
