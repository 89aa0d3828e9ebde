"""The linear algebra of one step of a fit: damped, penalised, within bounds, along some directions only."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.regularise import Penalty, Regularisation

__all__ = ["Linear", "damped_step", "directions", "fitting_strength"]

Array = NDArray[np.float64]


class Linear(NamedTuple):
    """A fit made linear at some coordinates.

    Attributes
    ----------
    jacobian : ndarray of float, (n_readings, n)
        Of weighted computed values by coordinates.
    residual : ndarray of float, (n_readings,)
        Weighted, measured less computed.
    coordinates : ndarray of float, (n,)
    scale : ndarray of float, (n,)
        Of each coordinate, to compare them by.
    """

    jacobian: Array
    residual: Array
    coordinates: Array
    scale: Array


def directions(linear: Linear, asked: Regularisation) -> Array:
    """Return the combinations that are changed, columns (n, m); all coordinates one by one if none is left out."""
    if not asked.truncates:
        return np.diag(linear.scale)
    _, size, turned = np.linalg.svd(linear.jacobian * linear.scale, full_matrices=False)
    kept = size > max(asked.least_share, 1e-12) * size.max(initial=0.0)
    if asked.most_directions is not None:
        kept[asked.most_directions :] = False
    return np.asarray(linear.scale[:, None] * turned[kept].T)


def _solved(matrix: Array, right: Array) -> Array:
    """Solve a symmetric system, by its least answer where it is singular."""
    size, axes = np.linalg.eigh(matrix)
    told = size > 1e-13 * max(float(size.max(initial=0.0)), 1e-300)
    return np.asarray(axes[:, told] @ ((axes[:, told].T @ right) / size[told]))


def _free_step(linear: Linear, penalty: Penalty, basis: Array, damping: float, held: Array) -> Array:
    """The step that minimises the linear fit, coordinates in `held` (NaN for none) moved as told."""
    fixed = np.isfinite(held)
    moved = np.where(fixed, held, 0.0)
    along = basis.copy()
    along[fixed] = 0.0
    along = along[:, np.abs(along).max(axis=0, initial=0.0) > 0.0]
    if not along.shape[1]:
        return moved
    off = linear.coordinates + moved - penalty.centre
    through = linear.jacobian @ along
    matrix = through.T @ through + along.T @ penalty.precision @ along
    right = through.T @ (linear.residual - linear.jacobian @ moved) - along.T @ (penalty.precision @ off)
    diagonal = np.diagonal(matrix)
    floor = 1e-10 * float(diagonal.max(initial=0.0)) + 1e-300  # what nothing tells of does not move
    damped = matrix + damping * np.diag(np.maximum(diagonal, floor)) + floor * np.eye(len(matrix)) * 1e-3
    return np.asarray(moved + along @ _solved(damped, right))


def damped_step(
    linear: Linear, penalty: Penalty, basis: Array, damping: float, room: tuple[Array, Array]
) -> Array:
    """Return the damped step within bounds: what would leave them stops there, and the rest is found anew.

    Parameters
    ----------
    penalty : Penalty
        All of it.
    basis : ndarray of float, (n, m)
        Of `directions`.
    damping : float
        Of Levenberg and Marquardt, over the diagonal.
    room : (ndarray, ndarray), (n,) each
        How far each coordinate may go down and up.
    """
    held = np.full(len(linear.coordinates), np.nan)
    for _ in range(len(held) + 1):
        step = _free_step(linear, penalty, basis, damping, held)
        out = ~np.isfinite(held) & ((step < room[0] - 1e-12) | (step > room[1] + 1e-12))
        if not out.any():
            break
        held[out] = np.clip(step[out], room[0][out], room[1][out])
    return np.asarray(np.clip(step, *room))


def fitting_strength(
    linear: Linear, known: Penalty, asked: Penalty, basis: Array, goal: float, before: float
) -> float:
    """Return the strength of a penalty by which the misfit of the linear fit comes to a goal, as near as it can.

    References
    ----------
    Constable, S. C., Parker, R. L. and Constable, C. G. (1987), Occam's inversion, Geophysics 52(3), 289-300.
    """
    none = np.full(len(linear.coordinates), np.nan)

    def misfit(strength: float) -> float:
        penalty = known.plus(Penalty(asked.centre, strength * asked.precision))
        step = _free_step(linear, penalty, basis, 0.0, none)
        return float(np.sum((linear.residual - linear.jacobian @ step) ** 2))

    low, high = np.log(max(before, 1e-8)) - 7.0, np.log(max(before, 1e-8)) + 7.0
    low, high = max(low, np.log(1e-10)), min(high, np.log(1e10))
    if misfit(float(np.exp(low))) > goal:
        return float(np.exp(low))
    if misfit(float(np.exp(high))) < goal:
        return float(np.exp(high))
    for _ in range(30):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if misfit(float(np.exp(middle))) < goal else (low, middle)
    return float(np.exp(0.5 * (low + high)))
