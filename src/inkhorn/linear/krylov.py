"""Iterations that a multigrid cycle guides."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["bicgstab", "conjugate_gradients"]

Array = NDArray[np.float64]


def conjugate_gradients(
    matrix: Any,
    right: Array,
    precondition: Callable[[Array, Array], float],
    *,
    tolerance: float,
    enough: float,
    most_iterations: int,
) -> tuple[Array, int]:
    """Solve a symmetric system from zero.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
    right : ndarray of float, (n,)
    precondition : callable
        Writes the answer for a residual into its second argument and returns their product.
    tolerance : float
        On the norm of the residual over that of the right-hand side.
    enough : float
        A sum of absolute residuals that suffices as well.
    most_iterations : int

    Returns
    -------
    answer : ndarray of float, (n,)
    iterations : int
    """
    from inkhorn.linear import _kernels

    unsigned = np.dtype(f"uint{8 * matrix.indices.itemsize}")
    indptr, indices = matrix.indptr.view(unsigned), matrix.indices.view(unsigned)
    answer, residual = np.zeros_like(right), right.copy()
    guess, product = np.empty_like(right), np.empty_like(right)
    goal = (tolerance * float(np.linalg.norm(right))) ** 2
    measure = precondition(residual, guess)
    direction = guess.copy()
    for iteration in range(1, most_iterations + 1):
        curvature = _kernels.product_and_dot(indptr, indices, matrix.data, direction, product)
        if not curvature > 0.0 or not measure > 0.0:
            return answer, iteration
        squares, absolute = _kernels.advance(answer, residual, direction, product, measure / curvature)
        if squares <= goal or absolute <= enough:
            return answer, iteration
        before, measure = measure, precondition(residual, guess)
        _kernels.turn(guess, direction, measure / before)
    return answer, most_iterations


def bicgstab(
    matrix: Any,
    right: Array,
    precondition: Callable[[Array, Array], float],
    *,
    tolerance: float,
    enough: float,
    most_iterations: int,
) -> tuple[Array, int]:
    """Solve an unsymmetric system from zero; as `conjugate_gradients`.

    Each iteration takes two cycles. It ends early where it breaks down: the caller starts anew from there.

    References
    ----------
    van der Vorst, H. A. (1992), Bi-CGSTAB, SIAM J. Sci. Stat. Comput. 13(2), 631-644.
    """
    answer, residual = np.zeros_like(right), right.copy()
    shadow, direction, product = right.copy(), np.zeros_like(right), np.zeros_like(right)
    eased, ironed = np.empty_like(right), np.empty_like(right)
    goal = tolerance * float(np.linalg.norm(right))
    rho = alpha = omega = 1.0
    for iteration in range(1, most_iterations + 1):
        before, rho = rho, float(shadow @ residual)
        if rho == 0.0 or omega == 0.0:
            return answer, iteration
        direction = residual + (rho / before) * (alpha / omega) * (direction - omega * product)
        precondition(direction, eased)
        product = matrix @ eased
        against = float(shadow @ product)
        if against == 0.0:
            return answer, iteration
        alpha = rho / against
        answer += alpha * eased
        residual -= alpha * product
        if np.linalg.norm(residual) <= goal or np.abs(residual).sum() <= enough:
            return answer, iteration
        precondition(residual, ironed)
        smoothed = matrix @ ironed
        size = float(smoothed @ smoothed)
        omega = float(smoothed @ residual) / size if size > 0.0 else 0.0
        answer += omega * ironed
        residual -= omega * smoothed
        if np.linalg.norm(residual) <= goal or np.abs(residual).sum() <= enough:
            return answer, iteration
    return answer, most_iterations
