"""Cells that a Newton step leaves worst, solved with their neighbours before the next step for all.

Where a few cells meet corners that their slopes did not know of, they alone keep the step for all others short. They
are solved apart, with the rest held, and pass on what they cannot keep. As long as all flows rise with the head they
come from, that leaves no more than before in all (nonlinear elimination: Cai & Keyes, 2002, SIAM Journal on
Scientific Computing 24; Hwang, Lin & Cai, 2010).
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.landing import WAYS, Landing

if TYPE_CHECKING:
    from inkhorn.flow.balance import Balance
    from inkhorn.flow.equations import FlowEquations

__all__ = ["mended"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_PATCHES = 3  # one after the other, each from where the one before led
_WORST = 0.9  # share of the residual that the cells of a patch make up together
_RINGS = 2  # of neighbours besides
_FEW, _MOST = 0.2, 4000  # share of all unknowns, and how many, that the worst may be at most
_STEPS, _TRIALS = 8, 8  # within a patch, and along each of its steps
_DONE, _WELL = 0.02, 0.3  # shares of what was left at which a patch is solved, a trial good enough
_GAIN, _PATCH_GAIN = 0.999, 0.8  # what a step, or a patch, leaves at most to go on
_FAIR = 0.1  # by what share of itself, times that of the step, the residual has to fall
_FAR, _HELD = 1e5, 0.1  # m: a longer step is taken with a little storage in every cell, as in `newton`


def mended(equations: FlowEquations, unknowns: Array, balance: Balance) -> tuple[Array, Balance]:
    """Solve the worst cells and their neighbours apart, the rest held.

    Parameters
    ----------
    equations : FlowEquations
    unknowns : ndarray of float, (n_unknowns,)
    balance : Balance
        There.

    Returns
    -------
    unknowns : ndarray of float, (n_unknowns,)
        From where they were if too many cells are as bad as the worst.
    balance : Balance
    """
    for _ in range(_PATCHES):
        patch = _patch(equations, balance)
        if not len(patch):
            break
        before = equations.left(balance)
        unknowns, balance = _solved_apart(equations, unknowns, balance, patch)
        if equations.left(balance) > _PATCH_GAIN * before:
            break
    return unknowns, balance


def _patch(equations: FlowEquations, balance: Balance) -> Index:
    """Return the unknowns with most of the residual and those about them; none where that is not few."""
    free = equations.free
    left = np.abs(balance.residual[free])
    order = np.argsort(-left)
    sums = np.cumsum(left[order])
    count = int(np.searchsorted(sums, _WORST * sums[-1])) + 1
    worst = free[order[:count]]
    if count > min(_FEW * len(free), _MOST) or equations.in_network[worst].any():
        return np.empty(0, np.int64)
    inside, solved = np.zeros(equations.n_unknowns), np.zeros(equations.n_unknowns, dtype=bool)
    inside[worst], solved[free] = 1.0, True
    joined = balance.jacobian.copy()
    joined.data = np.ones(len(joined.data))
    for _ in range(_RINGS):
        inside += joined @ inside
    return np.flatnonzero((inside > 0.0) & solved & ~equations.in_network)


def _solved_apart(
    equations: FlowEquations, unknowns: Array, balance: Balance, patch: Index
) -> tuple[Array, Balance]:
    """Newton's method for some unknowns, the others held."""
    n = len(equations.cells)
    heads = patch[patch < n]
    begun = missing = float(np.abs(balance.residual[patch]).sum())
    for _ in range(_STEPS):
        step = np.zeros(len(unknowns))
        step[patch] = _step(equations, balance, patch, missing)
        if not np.isfinite(step).all():
            break
        diagonal = -balance.jacobian.data[equations.pattern.diagonal[:n]]
        landing, share, best = Landing(equations, unknowns, step, diagonal), 1.0, np.inf
        for _ in range(_TRIALS):
            for way in WAYS:
                there = unknowns.copy()
                there[heads] = landing.at(share, way)[heads]
                there = equations.settled(there)
                answer = equations.evaluate(there)
                left = float(np.abs(answer.residual[patch]).sum())
                if left < best and np.isfinite(equations.left(answer)):
                    best, found, reached = left, there, answer
                if left < _WELL * missing:
                    break
            if best < (1.0 - _FAIR * share) * missing:
                break
            share *= 0.5
        if not best < _GAIN * missing:
            break
        unknowns, balance, missing = found, reached, best
        if missing < _DONE * begun:
            break
    return unknowns, balance


def _step(equations: FlowEquations, balance: Balance, patch: Index, missing: float) -> Any:
    """The linear system of some unknowns, with a little storage in every cell where it can hardly be solved."""
    from scipy.sparse import diags_array
    from scipy.sparse.linalg import spsolve

    matrix = -balance.jacobian[patch][:, patch].tocsc()
    with np.errstate(all="ignore"):
        step = spsolve(matrix, balance.residual[patch])
    if np.isfinite(step).all() and np.abs(step).max() < _FAR:
        return step
    area = equations.areas[patch]
    held = _HELD * missing / max(float(area.sum()), 1e-300) * area
    return spsolve((matrix + diags_array(held)).tocsc(), balance.residual[patch])
