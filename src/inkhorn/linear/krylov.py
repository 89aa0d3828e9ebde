"""Iterations that a multigrid cycle guides."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["bicgstab", "conjugate_gradients", "norm", "unsigned"]

Array = NDArray[np.float64]


def conjugate_gradients(
    matrix: Any,
    right: Array,
    precondition: Callable[[Array, Array], float],
    *,
    tolerance: float,
    enough: float,
    max_iterations: int,
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
    max_iterations : int

    Returns
    -------
    answer : ndarray of float, (n,)
    iterations : int
    """
    from inkhorn.linear import _kernels

    indptr, indices = unsigned(matrix)
    answer, residual = np.zeros_like(right), right.copy()
    guess, product = np.empty_like(right), np.empty_like(right)
    goal = (tolerance * norm(right)) ** 2
    measure = precondition(residual, guess)
    direction = guess.copy()
    for iteration in range(1, max_iterations + 1):
        curvature = _kernels.product_and_dot(indptr, indices, matrix.data, direction, product)
        if not curvature > 0.0 or not measure > 0.0:
            return answer, iteration
        squares, absolute = _kernels.advance(answer, residual, direction, product, measure / curvature)
        if squares <= goal or absolute <= enough:
            return answer, iteration
        before, measure = measure, precondition(residual, guess)
        _kernels.turn(guess, direction, measure / before)
    return answer, max_iterations


def bicgstab(
    matrix: Any,
    right: Array,
    precondition: Callable[[Array, Array], float],
    *,
    tolerance: float,
    enough: float,
    max_iterations: int,
) -> tuple[Array, int]:
    """Solve an unsymmetric system from zero; as `conjugate_gradients`.

    Each iteration takes two cycles. It ends early where it breaks down: the caller starts anew from there.

    References
    ----------
    van der Vorst, H. A. (1992), Bi-CGSTAB, SIAM J. Sci. Stat. Comput. 13(2), 631-644.
    """
    from inkhorn.linear import _kernels

    places = unsigned(matrix)
    answer, residual, shadow = np.zeros_like(right), right.copy(), right.copy()
    direction, product, smoothed, guess = (np.zeros_like(right) for _ in range(4))
    goal = (tolerance * norm(right)) ** 2
    rho = alpha = omega = 1.0
    for iteration in range(1, max_iterations + 1):
        before, rho = rho, _kernels.dot(shadow, residual)
        if rho == 0.0 or omega == 0.0:
            return answer, iteration
        _kernels.turn_twice(residual, direction, product, (rho / before) * (alpha / omega), omega)
        precondition(direction, guess)
        against, _ = _kernels.product_and_dots(*places, matrix.data, guess, shadow, product)
        if against == 0.0:
            return answer, iteration
        alpha = rho / against
        squares, absolute = _kernels.advance(answer, residual, guess, product, alpha)
        if squares <= goal or absolute <= enough:
            return answer, iteration
        precondition(residual, guess)
        along, size = _kernels.product_and_dots(*places, matrix.data, guess, residual, smoothed)
        omega = along / size if size > 0.0 else 0.0
        squares, absolute = _kernels.advance(answer, residual, guess, smoothed, omega)
        if squares <= goal or absolute <= enough:
            return answer, iteration
    return answer, max_iterations


def norm(values: Array) -> float:
    """Return the root of the sum of squares; without threads of others, which wait in loops and hold up ours."""
    return float(np.sqrt(np.square(values).sum()))


def unsigned(matrix: Any) -> tuple[Any, Any]:
    """Pointers and indices of a matrix, as numbers that are known not to count from the end."""
    kind = np.dtype(f"uint{8 * matrix.indices.itemsize}")
    return matrix.indptr.view(kind), matrix.indices.view(kind)
