"""Sparse linear systems: set up once, solved for many right-hand sides, as they are or transposed."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError, InputError

__all__ = ["LinearSystem"]

DIRECT_BELOW = 2500  # unknowns; beyond that multigrid is faster than factors with their fill


class LinearSystem:
    """A square sparse matrix, ready to be solved with.

    Small systems are factored. Larger ones use conjugate gradients where the matrix is symmetric
    and BiCGStab where it is not, with one multigrid cycle on their mutual part before each step.

    Parameters
    ----------
    matrix : scipy.sparse matrix, (n, n)
        Positive definite, or close to it (the derivative of a flow balance).
    direct : bool, optional
        Factor it (True) or iterate (False) whatever its size.
    """

    def __init__(self, matrix: Any, *, direct: bool | None = None) -> None:
        from scipy.sparse import csr_array

        self.matrix = csr_array(matrix)
        if self.matrix.shape[0] != self.matrix.shape[1]:
            raise InputError(f"the matrix has the shape {self.matrix.shape}; expected a square one.")
        self.direct = self.matrix.shape[0] < DIRECT_BELOW if direct is None else direct
        self.iterations = 0

    @cached_property
    def symmetric(self) -> bool:
        """True if the matrix equals its transpose to rounding."""
        difference = (self.matrix - self.matrix.T).tocsr()
        largest = np.abs(difference.data).max(initial=0.0)
        return bool(largest <= 1e-14 * np.abs(self.matrix.data).max(initial=0.0))

    @cached_property
    def _factors(self) -> Any:
        from scipy.sparse.linalg import splu

        return splu(self.matrix.tocsc())

    @cached_property
    def _precondition(self) -> Any:
        import pyamg
        from scipy.sparse import csr_matrix

        matrix = csr_matrix(self.matrix if self.symmetric else _mutual_part(self.matrix))
        matrix.indices, matrix.indptr = matrix.indices.astype(np.int32), matrix.indptr.astype(np.int32)
        levels = pyamg.ruge_stuben_solver(
            matrix,
            strength=("classical", {"theta": 0.25, "norm": "abs"}),
            presmoother=("gauss_seidel", {"sweep": "forward"}),
            postsmoother=("gauss_seidel", {"sweep": "backward"}),
            max_coarse=60,
        )
        return levels.aspreconditioner(cycle="V")

    def solve(
        self,
        right: NDArray[np.float64],
        *,
        tolerance: float = 1e-10,
        transpose: bool = False,
        most_iterations: int = 500,
    ) -> NDArray[np.float64]:
        """Solve for one right-hand side.

        Parameters
        ----------
        right : ndarray of float, (n,)
            Right-hand side.
        tolerance : float
            On the norm of the residual over that of the right-hand side; also checked afterwards on
            the true residual.
        transpose : bool
            Solve with the transposed matrix.
        most_iterations : int
            Where to give up.

        Returns
        -------
        ndarray of float, (n,)

        Raises
        ------
        ConvergenceError
            If the tolerance is not reached; it carries the last iterate.
        """
        matrix = self.matrix.T if transpose else self.matrix
        scale = float(np.linalg.norm(right))
        if scale == 0.0:
            return np.zeros_like(right)
        step = self._direct_step(transpose) if self.direct else self._krylov_step(matrix, most_iterations)
        answer = np.zeros_like(right)
        residual, history = right, [scale]
        # the recursive residual of a Krylov method drifts from the true one: restart from the true one
        for _ in range(4):
            answer = answer + step(residual, max(0.5 * tolerance * scale / history[-1], 1e-14))
            residual = right - matrix @ answer
            history.append(float(np.linalg.norm(residual)))
            if history[-1] <= tolerance * scale:
                return answer
            if not history[-1] < 0.5 * history[-2]:
                break
        raise ConvergenceError(
            f"the linear solver stopped at a residual of {history[-1] / scale:.1e} of the right-hand side; "
            f"asked for {tolerance:.0e}, after {self.iterations} iterations. The matrix may be singular: check "
            "that something fixes the level of the water in every part of the model.",
            iterations=self.iterations,
            history=history,
            worst=f"unknown {int(np.argmax(np.abs(residual)))}",
            state=answer,
        )

    def _direct_step(self, transpose: bool) -> Callable[[NDArray[Any], float], NDArray[Any]]:
        return lambda right, _: self._factors.solve(right, trans="T" if transpose else "N")

    def _krylov_step(self, matrix: Any, most: int) -> Callable[[NDArray[Any], float], NDArray[Any]]:
        from scipy.sparse.linalg import bicgstab, cg

        method = cg if self.symmetric else bicgstab

        def count(_: Any) -> None:
            self.iterations += 1

        def step(right: NDArray[Any], tolerance: float) -> NDArray[Any]:
            answer, _ = method(
                matrix, right, rtol=tolerance, maxiter=most, M=self._precondition, callback=count
            )
            return np.asarray(answer)

        return step


def _mutual_part(matrix: Any) -> Any:
    """Return the symmetric matrix of the couplings that act both ways, with the diagonal as it is.

    Water that falls through air couples the lower cell to the upper one, but not back. Half of such a
    coupling on either side, as the symmetric part has it, would leave the lower row without a dominant
    diagonal, and multigrid breaks down; the weaker of the two keeps it.
    """
    from scipy.sparse import diags_array

    diagonal = matrix.diagonal()
    apart = matrix - diags_array(diagonal)
    mutual = apart.maximum(apart.T)  # both are negative where cells are coupled both ways
    mutual = mutual.minimum(0.0 * mutual)
    return (mutual + diags_array(diagonal)).tocsr()
