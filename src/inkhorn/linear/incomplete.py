"""Incomplete factors: enough to guide iterations where each diagonal outweighs its row, as in steps through time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["incomplete_factors"]


def incomplete_factors(matrix: Any) -> Callable[..., float] | None:
    """Factor a matrix where it has entries only, and make of that a step for iterations.

    Columns of cells are factored whole, as chains fill nothing in.

    Parameters
    ----------
    matrix : scipy.sparse.csr_array, (n, n)
        With indices of 32 bits.

    Returns
    -------
    callable, or None where a pivot vanishes
        Writes the answer for a residual into its second argument and returns their product.

    References
    ----------
    Meijerink, J. A. and van der Vorst, H. A. (1977), An iterative solution method for linear systems of which the
    coefficient matrix is a symmetric M-matrix, Mathematics of Computation 31, 148-162 (with no fill).
    """
    from inkhorn.linear import _kernels

    if not matrix.has_sorted_indices:
        matrix = matrix.sorted_indices()
    indptr, indices = matrix.indptr, matrix.indices
    factors, diagonal = matrix.data.copy(), np.empty(matrix.shape[0], dtype=np.int64)
    if not _kernels.factor_incompletely(indptr, indices, factors, diagonal):
        return None

    def precondition(right: NDArray[Any], answer: NDArray[Any], *, transpose: bool = False) -> float:
        if transpose:
            return float(_kernels.solve_incomplete_turned(indptr, indices, factors, diagonal, right, answer))
        return float(_kernels.solve_incomplete(indptr, indices, factors, diagonal, right, answer))

    return precondition
