"""Networks with unknowns of their own, solved for the heads of the cells as they are, between steps for all.

The friction in pipes bends far more than the flow through the rock. Solved alone, which costs little, a network follows
each step of the heads, and the steps for all need be no more than those of the rock (nonlinear elimination, as in
`mending`).
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.linear import linear_system

if TYPE_CHECKING:
    from inkhorn.flow.equations import Balance, FlowEquations
    from inkhorn.model.terms import Contribution, Moment, Term

__all__ = ["followed"]

Array = NDArray[np.float64]

_PART = 0.01  # of all that is left over: less in a network is not worth while
_DONE = 1e-4  # of all that is left over: what a network may leave
_STEPS, _TRIALS, _RAISED = 20, 8, 10.0


def followed(
    equations: FlowEquations, unknowns: Array, balance: Balance, least: float
) -> tuple[Array, Balance]:
    """Solve the networks of terms for the heads as they are.

    Parameters
    ----------
    equations : FlowEquations
    unknowns : ndarray of float, (n_unknowns,)
    balance : Balance
        There.
    least : float
        What it may leave over in all, cells included, if that is more than there is; else it is not taken.

    Returns
    -------
    unknowns : ndarray of float, (n_unknowns,)
    balance : Balance
    """
    if not equations.determined.any():
        return unknowns, balance
    left = equations.left(balance)
    there, changed = unknowns.copy(), False
    for k, (term, moment) in enumerate(equations.moments(unknowns)):
        mine = slice(moment.first_extra, moment.first_extra + term.n_extra)
        own = float(np.abs(balance.residual[mine]).sum())
        if term.determined.any() and own > _PART * left:
            there[mine] = _alone(equations, k, term, moment, _DONE * left)
            changed = True
    if not changed:
        return unknowns, balance
    answer = equations.evaluate(there)
    return (there, answer) if equations.left(answer) < max(left, least) else (unknowns, balance)


def _alone(equations: FlowEquations, k: int, term: Term, moment: Moment, enough: float) -> Array:
    """Newton's method for the extra unknowns of one term."""
    own, answer, left = _left_over(equations, k, term, moment)
    for _ in range(_STEPS):
        missing = float(np.abs(left).sum())
        if not missing > enough:
            break
        try:
            step = _system(equations, k, term, moment, answer).solve(left, tolerance=1e-8)
        except ConvergenceError as problem:
            step = np.asarray(problem.state)
        if not np.isfinite(step).all():
            break
        best, share = np.inf, 1.0
        for _ in range(_TRIALS):
            tried = replace(moment, extra_unknowns=own + share * step)
            there, said, rest = _left_over(equations, k, term, tried)
            size = float(np.abs(rest).sum())
            if size < best:
                best, found = size, (there, said, rest, tried)
            if best < missing or (share == 1.0 and best < _RAISED * missing):
                break
            share *= 0.5
        if not np.isfinite(best):
            break
        own, answer, left, moment = found
    return own


def _left_over(
    equations: FlowEquations, k: int, term: Term, moment: Moment
) -> tuple[Array, Contribution, Array]:
    """The unknowns, what the term answers, and the residuals of its own equations."""
    answer = term.evaluate(moment)
    weights = equations.extra_weight
    left = answer.extra_residual if weights is None else weights[k] * answer.extra_residual
    if equations.step is not None and len(answer.stored):
        n = len(equations.cells)
        before = equations.step.extra_stored[moment.first_extra - n :][: term.n_extra]
        left = left - (answer.stored - before) / equations.step.length
    return moment.extra_unknowns, answer, left


def _system(equations: FlowEquations, k: int, term: Term, moment: Moment, answer: Contribution):  # type: ignore[no-untyped-def]
    from scipy.sparse import coo_array

    row, column, value = answer.extra_slope
    if equations.extra_weight is not None:
        value = equations.extra_weight[k][row] * value
    rows, columns, values = [row], [column], [-value]
    if equations.step is not None and len(answer.stored):
        rows.append(answer.stored_slope.row)
        columns.append(answer.stored_slope.column)
        values.append(answer.stored_slope.value / equations.step.length)
    row, column, value = (np.concatenate(v) for v in (rows, columns, values))
    column = column - moment.first_extra
    mine = (column >= 0) & (column < term.n_extra)
    matrix = coo_array((value[mine], (row[mine], column[mine])), shape=(term.n_extra,) * 2).tocsr()
    return linear_system(matrix, term.determined, direct=True)
