"""Sensitivities of heads: discrete tangent and adjoint of exactly the equations solved."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow.equations import Balance, FlowEquations
from inkhorn.flow.result import FlowResult
from inkhorn.linear import LinearSystem
from inkhorn.model.terms import HORIZONTAL, Slope, Term

__all__ = ["FlowSensitivity"]

VERTICAL = "vertical_conductivity"
_DIRECT_BELOW = 20_000  # unknowns


class FlowSensitivity:
    """How the unknowns of a steady solution answer to the model's inputs.

    Inputs are named as in `Model.with_inputs`: ``"horizontal_conductivity"``,
    ``"vertical_conductivity"``, or a term's kind and input, as in ``"recharge.rate"`` and
    ``"fixed head.head"``. Unknowns are the heads of all cells, then the levels in wells.

    Parameters
    ----------
    flow : FlowResult
        A steady solution. The closer it is closed, the truer the sensitivities.
    tolerance : float
        Of the linear solves.
    """

    def __init__(self, flow: FlowResult, *, tolerance: float = 1e-11) -> None:
        if not (flow.steps[-1].steady and len(flow.steps) == 1):
            raise InputError("sensitivities are those of one steady solution; this one goes through time.")
        self.equations = FlowEquations(flow.model_at())
        self.unknowns = np.concatenate([flow.steps[-1].heads, flow.steps[-1].own])
        self.tolerance = tolerance

    @cached_property
    def _balance(self) -> Balance:
        return self.equations.evaluate(self.unknowns)

    @cached_property
    def _system(self) -> LinearSystem:
        free = self.equations.free
        # one factorisation serves every input and every weight
        matrix = -self._balance.jacobian[free][:, free]
        return LinearSystem(matrix, columns=self.equations.columns, direct=len(free) < _DIRECT_BELOW)

    @cached_property
    def _slopes(self) -> list[tuple[Term, int, Mapping[str, Slope]]]:
        first = self.equations.first_own[:-1]
        return [
            (term, int(start), term.by_input(moment))
            for (term, moment), start in zip(self.equations.moments(self.unknowns), first, strict=True)
        ]

    def _unknown_of_row(self, term: Term, first_own: int) -> NDArray[np.int64]:
        return np.concatenate([term.cells, first_own + np.arange(term.n_own)])

    @staticmethod
    def _input_name(term: Term, name: str) -> str:
        return name if name == HORIZONTAL else f"{term.kind}.{name}"

    def _given(self, inputs: Mapping[str, NDArray[np.float64]]) -> NDArray[np.float64]:
        """Change of the fixed heads, zero elsewhere."""
        change = np.zeros(self.equations.n_unknowns)
        if "fixed head.head" in inputs:
            change[self.equations.model.term("fixed head").cells] = inputs["fixed head.head"]
        return change

    def tangent(self, inputs: Mapping[str, NDArray[np.float64]]) -> NDArray[np.float64]:
        """Return the change of the unknowns for a small change of the inputs.

        Parameters
        ----------
        inputs : mapping of str to ndarray of float
            Change of each input array, in that input's unit.

        Returns
        -------
        ndarray of float, (n_unknowns,)
            One linear solve.
        """
        eq, balance = self.equations, self._balance
        n = len(eq.cells)
        zero = np.zeros(n)
        data = eq.rows.tangent(inputs.get(HORIZONTAL, zero), inputs.get(VERTICAL, zero))
        flow = balance.share * np.bincount(eq.entry_face, data * balance.drive, len(balance.share))
        change = np.zeros(eq.n_unknowns)
        change[:n] = eq.divergence @ flow
        for term, first, slopes in self._slopes:
            rows = self._unknown_of_row(term, first)
            for name, slope in slopes.items():
                if self._input_name(term, name) in inputs:
                    moved = slope.value * inputs[self._input_name(term, name)][slope.column]
                    change += np.bincount(rows[slope.row], moved, eq.n_unknowns)
        answer = self._given(inputs)
        if answer.any():
            change += balance.jacobian @ answer
        answer[eq.free] = self._system.solve(change[eq.free], tolerance=self.tolerance)
        return answer

    def adjoint(self, weights: NDArray[np.float64]) -> dict[str, NDArray[np.float64]]:
        """Return the derivative of a weighted sum of the unknowns by every input.

        Parameters
        ----------
        weights : ndarray of float, (n_unknowns,)
            The quantity of interest is ``weights @ unknowns``.

        Returns
        -------
        dict of str to ndarray of float
            By name of input, one value for each of its values. One linear solve, whatever the number
            of inputs.
        """
        eq, balance = self.equations, self._balance
        n = len(eq.cells)
        costate = np.zeros(eq.n_unknowns)
        costate[eq.free] = self._system.solve(weights[eq.free], tolerance=self.tolerance, transpose=True)
        by_face = (eq.divergence.T @ costate[:n]) * balance.share
        horizontal, vertical = eq.rows.adjoint(by_face[eq.entry_face] * balance.drive, n)
        answer: dict[str, Any] = {HORIZONTAL: horizontal, VERTICAL: vertical}
        for term, first, slopes in self._slopes:
            rows = self._unknown_of_row(term, first)
            for name, slope in slopes.items():
                label = self._input_name(term, name)
                size = len(eq.model.input(label))
                part = np.bincount(slope.column, slope.value * costate[rows[slope.row]], size)
                answer[label] = answer.get(label, 0.0) + part
            if term.fixes_head:
                through = weights + balance.jacobian.T @ costate
                answer["fixed head.head"] = through[term.cells]
        return answer
