"""Systems some of whose unknowns follow from the others by one equation each: these are left out and found afterwards."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.linear.columns import Columns
from inkhorn.linear.system import LinearSystem, placed_alike

__all__ = ["CondensedSystem", "linear_system"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


class _Block:
    """A part of a sparse matrix: which of its values belong there, and where."""

    def __init__(self, of: Index, column: Index, chosen: NDArray[np.bool_], shape: tuple[int, int]) -> None:
        self.chosen, self.shape = np.flatnonzero(chosen), shape
        counts = np.bincount(of[self.chosen], minlength=shape[0])
        self.start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
        self.column = column[self.chosen].astype(np.int32)

    def filled(self, data: Array) -> Any:
        """The part, of values of the whole."""
        from scipy.sparse import csr_array

        return csr_array((data[self.chosen], self.column, self.start), shape=self.shape)


class _Blocks:
    """The four parts of a matrix: found once for all that have the same places."""

    def __init__(self, matrix: Any, determined: NDArray[np.bool_]) -> None:
        self.out, self.kept = np.flatnonzero(determined), np.flatnonzero(~determined)
        number = np.empty(len(determined), dtype=np.int64)
        number[self.out], number[self.kept] = np.arange(len(self.out)), np.arange(len(self.kept))
        row = np.repeat(np.arange(len(determined)), np.diff(matrix.indptr))
        below, beside = determined[row], determined[matrix.indices]
        of, column = number[row], number[matrix.indices]
        n, m = len(self.kept), len(self.out)
        self.rest = _Block(of, column, ~below & ~beside, (n, n))
        self.into_kept = _Block(of, column, ~below & beside, (n, m))
        self.from_kept = _Block(of, column, below & ~beside, (m, n))
        self.own = _Block(of, column, below & beside, (m, m))


class CondensedSystem:
    """A linear system in two parts: of the unknowns that are kept, after those are left out that they determine.

    The flow through a pipe is such an unknown: it follows from the heads at its ends. What is left is as well
    conditioned, and as positive, as a balance of heads alone; and yet each flow is an unknown, so that all balances are
    as exact as the flows are, however well a pipe conducts.

    Parameters
    ----------
    matrix : scipy.sparse matrix, (n, n)
    determined : ndarray of bool, (n,)
        Those to leave out. The row of each holds its own unknown and others; where these are left out too, their rows
        hold none that is.
    like : CondensedSystem, optional
        One before of the same structure.
    options
        Of the `LinearSystem` of the rest; `columns` are those of the rest.
    """

    def __init__(
        self,
        matrix: Any,
        determined: NDArray[np.bool_],
        like: LinearSystem | CondensedSystem | None = None,
        **options: Any,
    ) -> None:
        from scipy.sparse import coo_array, csr_array, diags_array

        self.matrix = csr_array(matrix)
        self.determined: NDArray[np.bool_] = determined
        before = like if isinstance(like, CondensedSystem) else None
        if before is not None and not (
            np.array_equal(before.determined, determined) and placed_alike(before.matrix, self.matrix)
        ):
            before = None
        self._blocks: _Blocks = _Blocks(self.matrix, determined) if before is None else before._blocks
        blocks, data = self._blocks, self.matrix.data
        self.out, self.kept = blocks.out, blocks.kept
        own = blocks.own.filled(data)
        scale = diags_array(1.0 / own.diagonal())
        eye = diags_array(np.full(len(self.out), 2.0))
        self._inverse = ((eye - scale @ own) @ scale).tocsr()
        self._from_kept, self._into_kept = blocks.from_kept.filled(data), blocks.into_kept.filled(data)
        through = (self._into_kept @ (self._inverse @ self._from_kept)).tocoo()
        rest = blocks.rest.filled(data)
        there = coo_array((-through.data, (through.row, through.col)), shape=rest.shape).tocsr()
        self.rest: LinearSystem = LinearSystem(
            csr_array(rest + there), like=None if before is None else before.rest, **options
        )

    @property
    def direct(self) -> bool:
        """Whether it is factored."""
        return self.rest.direct

    @property
    def symmetric(self) -> bool:
        """Whether what is kept makes a symmetric matrix."""
        return self.rest.symmetric

    @property
    def columns(self) -> Columns | None:
        """Where the unknowns stand that are kept."""
        return self.rest.columns

    @property
    def conducts_far(self) -> bool:
        """As of a `LinearSystem`."""
        return self.rest.conducts_far

    @property
    def iterations(self) -> int:
        """Taken so far."""
        return self.rest.iterations

    def _ways(self, transpose: bool) -> tuple[Any, Any, Any]:
        inverse, into, back = self._inverse, self._into_kept, self._from_kept
        return (inverse.T, back.T, into.T) if transpose else (inverse, into, back)

    def solve(
        self,
        right: Array,
        *,
        tolerance: float = 1e-10,
        enough: float = 0.0,
        transpose: bool = False,
        max_iterations: int = 500,
    ) -> Array:
        """Solve for one right-hand side; parameters as of `LinearSystem.solve`, for the unknowns that are kept."""
        inverse, into, back = self._ways(transpose)
        alone = inverse @ right[self.out]
        answer = np.empty(len(right))

        def filled(kept: Array) -> Array:
            answer[self.kept] = kept
            answer[self.out] = alone - inverse @ (back @ kept)
            return answer

        try:
            return filled(
                self.rest.solve(
                    right[self.kept] - into @ alone, tolerance=tolerance, enough=enough, transpose=transpose,
                    max_iterations=max_iterations,
                )
            )  # fmt: skip
        except ConvergenceError as problem:
            problem.state = filled(np.asarray(problem.state))
            raise

    def solve_many(self, right: Array, *, tolerance: float = 1e-10, transpose: bool = False) -> Array:
        """Solve for several right-hand sides, (n, m), each as `solve` does."""
        inverse, into, back = self._ways(transpose)
        alone = inverse @ right[self.out]
        answer = np.empty_like(right)
        answer[self.kept] = self.rest.solve_many(
            right[self.kept] - into @ alone, tolerance=tolerance, transpose=transpose
        )
        answer[self.out] = alone - inverse @ (back @ answer[self.kept])
        return answer


def linear_system(
    matrix: Any, determined: NDArray[np.bool_], **options: Any
) -> LinearSystem | CondensedSystem:
    """Return a linear system without the unknowns that others determine, if there are any."""
    return (
        CondensedSystem(matrix, determined, **options)
        if determined.any()
        else LinearSystem(matrix, **options)
    )
