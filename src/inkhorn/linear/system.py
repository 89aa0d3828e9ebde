"""Sparse linear systems: set up once, solved for many right-hand sides, as they are or transposed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from copy import copy
from functools import cached_property, partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError, InputError
from inkhorn.linear.balances import BALANCES
from inkhorn.linear.columns import Columns
from inkhorn.linear.incomplete import incomplete_factors
from inkhorn.linear.krylov import bicgstab, conjugate_gradients, norm, unsigned
from inkhorn.threads import processors, worth_sharing

if TYPE_CHECKING:
    from inkhorn.linear.apart import Apart
    from inkhorn.linear.joint import Joint
    from inkhorn.linear.laid_out import LaidOutCycle
    from inkhorn.linear.single import SingleSolver

__all__ = ["LinearSystem", "placed_alike"]

Array = NDArray[np.float64]
Precondition = Callable[..., float]
Step = Callable[
    [Array, float], tuple[Array, Array | None]
]  # leads to an answer, and perhaps what that leaves

_PATIENCE = 60  # iterations after which a network is taken to conduct far
_ROUNDED, _NEARLY = 1e-14, 1e-8  # of what a residual is made of, and of the right-hand side
DIRECT_BELOW = 2500  # unknowns; beyond that multigrid is faster than factors with their fill


class LinearSystem:
    """A square sparse matrix, ready to be solved with.

    Small systems are factored. Larger ones use conjugate gradients where the matrix is symmetric
    and BiCGStab where it is not, with one multigrid cycle on their mutual part before each step: that of
    `ColumnMultigrid` where the columns are given, a general algebraic one elsewhere.

    Parameters
    ----------
    matrix : scipy.sparse matrix, (n, n)
        Positive definite, or close to it (the derivative of a flow balance).
    columns : Columns, optional
        Where the unknowns stand; column -1 for those that stand apart, such as water levels in wells.
    direct : bool, optional
        Factor it (True) or iterate (False) whatever its size.
    dominant : bool
        Whether each diagonal outweighs its row, as where storage does in short steps: incomplete factors are tried first.
    conducts_far : bool
        Whether unknowns that stand apart make a network that conducts more than the cells; it is found out if not
        said, and then told by the attribute of that name, for the next system alike.
    like : LinearSystem, optional
        One before of the same structure, from which is taken what only depends on that.
    """

    def __init__(
        self,
        matrix: Any,
        *,
        columns: Columns | None = None,
        direct: bool | None = None,
        dominant: bool = False,
        conducts_far: bool = False,
        like: LinearSystem | None = None,
    ) -> None:
        from scipy.sparse import csr_array

        self.matrix, self.columns = _short(csr_array(matrix)), columns
        if self.matrix.shape[0] != self.matrix.shape[1]:
            raise InputError(f"the matrix has the shape {self.matrix.shape}; expected a square one.")
        self.direct = self.matrix.shape[0] < DIRECT_BELOW if direct is None else direct
        self.dominant = dominant
        self.iterations, self.conducts_far = 0, conducts_far
        self._joint: Joint | None = None
        self._like: Joint | None = None  # of which is taken what only depends on the places of values
        if like is not None and conducts_far and placed_alike(like.matrix, self.matrix):
            self._like = like._joint

    @cached_property
    def symmetric(self) -> bool:
        """True if the matrix equals its transpose, to rounding, against the diagonals of rows and columns."""
        from inkhorn.linear import _kernels

        # where one that is symmetric is not laid out as such, it is solved as if it were not
        if not self.conducts_far and self._single is not None:
            return self._single.symmetric
        left = _kernels.lopsided(*unsigned(self.matrix), self.matrix.data)
        return bool(abs(left) <= 1e-14 * max(self.matrix.shape[0], 100))

    @cached_property
    def _turned(self) -> Any:
        return _short(self.matrix.T.tocsr())

    @cached_property
    def _factors(self) -> Any:
        from scipy.sparse import diags_array
        from scipy.sparse.linalg import splu

        try:
            return splu(self.matrix.tocsc(), **(BALANCES if self.dominant else {}))
        except (
            RuntimeError
        ):  # singular: a little on the diagonal gives an answer all the same, that may not suffice
            diagonal = np.abs(self.matrix.diagonal())
            little = 1e-10 * diagonal + 1e-13 * diagonal.max(initial=1e-300)
            return splu((self.matrix + diags_array(little)).tocsc())

    @cached_property
    def _incomplete(self) -> Precondition | None:
        return incomplete_factors(self.matrix)

    @cached_property
    def _columns_cycle(self) -> LaidOutCycle | None:
        """The cycle over columns, where there are any."""
        if self.columns is None:
            return None
        made = _cycle_over(self.matrix, self.columns)
        return made if made.possible else None

    @cached_property
    def _single(self) -> SingleSolver | None:
        """What solves in single precision where there are few couplings but of neighbours."""
        if self.direct or self.columns is None or self._columns_cycle is None:
            return None
        from inkhorn.linear.single import SingleSolver

        found = SingleSolver(self.matrix, self._columns_cycle)
        return found if found.possible else None

    @cached_property
    def _apart(self) -> Apart | None:
        """What solves for the unknowns that stand apart, if there are any."""
        if "_columns_cycle" in vars(self) or not self.conducts_far:
            return None if self._columns_cycle is None else self._columns_cycle.apart
        from inkhorn.linear.apart import Apart

        if self.columns is None or not (np.asarray(self.columns.column) < 0).any():
            return None
        found = Apart(self.matrix, self.columns)
        return found if found.possible else None

    @cached_property
    def _precondition(self) -> Precondition:
        """One multigrid cycle: writes the answer into its second argument and returns the product of both."""
        if self._columns_cycle is not None:
            return self._columns_cycle.precondition
        return _general_multigrid(self.matrix if self.symmetric else _mutual_part(self.matrix))

    @cached_property
    def _far_conducting(self) -> Precondition | None:
        """A cycle for a network that conducts far, between two corrections of it and its cells together; none without."""
        if self.columns is None or self._apart is None or not self._apart.coupled:
            return None
        from inkhorn.linear.joint import Joint

        inner = _cycle_over(self.matrix, self.columns, apart=self._apart)
        self._joint = joint = Joint(self.matrix, self.columns, self._like)

        def precondition(right: NDArray[Any], answer: NDArray[Any], *, transpose: bool = False) -> float:
            matrix, step = self._turned if transpose else self.matrix, np.empty_like(right)
            answer[:] = joint.correction(right, transpose=transpose)
            inner.precondition(right - matrix @ answer, step, transpose=transpose)
            answer += step
            if self.symmetric:  # and so has the cycle to be
                answer += joint.correction(right - matrix @ answer, transpose=transpose)
            return float(answer @ right)

        return precondition

    def solve(
        self,
        right: NDArray[np.float64],
        *,
        tolerance: float = 1e-10,
        enough: float = 0.0,
        transpose: bool = False,
        max_iterations: int = 500,
    ) -> NDArray[np.float64]:
        """Solve for one right-hand side.

        Parameters
        ----------
        right : ndarray of float, (n,)
            Right-hand side.
        tolerance : float
            On the norm of the residual over that of the right-hand side; also checked afterwards on
            the true residual.
        enough : float
            A sum of absolute residuals that suffices as well, in the unit of the right-hand side.
        transpose : bool
            Solve with the transposed matrix.
        max_iterations : int
            Where to give up.

        Returns
        -------
        ndarray of float, (n,)

        Raises
        ------
        ConvergenceError
            If the tolerance is not reached; it carries the last iterate.
        """
        matrix = self._turned if transpose and not self.symmetric else self.matrix
        scale = norm(right)
        if scale == 0.0:
            return np.zeros_like(right)
        answer, residual, history = np.zeros_like(right), right, [scale]
        for step, rounds in self._ways(transpose, 0.5 * enough, max_iterations):
            # the recursive residual of a Krylov method drifts from the true one: restart from the true one
            for _ in range(rounds):
                first = residual is right
                moved, left = step(residual, max(0.5 * tolerance * scale / history[-1], 1e-14))
                there = moved if first else answer + moved
                if left is None or not first:
                    left = right - matrix @ there
                size = norm(left)
                if not size < history[-1]:
                    break
                answer, residual = there, left
                history.append(size)
                if size <= tolerance * scale or np.abs(residual).sum() <= enough:
                    return answer
                if size > 0.5 * history[-2]:
                    break
            if self.direct and self._as_exact_as_can_be(matrix, answer, right, residual):
                return answer
        raise ConvergenceError(
            f"the linear solver stopped at a residual of {history[-1] / scale:.1e} of the right-hand side; "
            f"asked for {tolerance:.0e}, after {self.iterations} iterations. The matrix may be singular: check "
            "that something fixes the level of the water in every part of the model.",
            iterations=self.iterations,
            history=history,
            worst=f"unknown {int(np.argmax(np.abs(residual)))}",
            state=answer,
        )

    def _as_exact_as_can_be(self, matrix: Any, answer: Array, right: Array, residual: Array) -> bool:
        """Whether what is left is but rounding of what it is made of, as where some conduct much better than others."""
        made_of = abs(matrix) @ np.abs(answer) + np.abs(right)
        return bool(norm(residual) <= min(_ROUNDED * norm(made_of), _NEARLY * norm(right)))

    def solve_many(
        self, right: NDArray[np.float64], *, tolerance: float = 1e-10, transpose: bool = False
    ) -> NDArray[np.float64]:
        """Solve for several right-hand sides, (n, m), each as `solve` does.

        Raises
        ------
        ConvergenceError
            If the tolerance is not reached for one of them.
        """
        answer = np.zeros_like(right)
        scale = np.linalg.norm(right, axis=0)
        left = np.flatnonzero(scale > 0.0)
        if self.direct and len(left) > 1:
            matrix, way = (self.matrix.T, "T") if transpose else (self.matrix, "N")
            residual = right
            for _ in range(2):
                answer[:, left] += self._factors.solve(np.asfortranarray(residual[:, left]), trans=way)
                residual = right - matrix @ answer
                left = np.flatnonzero(np.linalg.norm(residual, axis=0) > tolerance * scale)
                if not len(left):
                    return answer

        def one(system: LinearSystem, k: int) -> None:
            column = np.ascontiguousarray(right[:, k])
            answer[:, k] = system.solve(column, tolerance=tolerance, transpose=transpose)

        if self.direct or len(left) < 2 or not worth_sharing(len(right)):
            for k in left.tolist():
                one(self, k)
            return answer
        one(self, int(left[0]))  # by which way it is solved is found out once
        systems = [self, *(self._twin() for _ in range(1, min(processors(), len(left) - 1)))]
        turns = iter(left[1:].tolist())  # drawn from one by one, as some take longer

        def work(system: LinearSystem) -> None:
            for k in turns:
                one(system, k)

        with ThreadPoolExecutor(len(systems)) as pool:
            for done in [pool.submit(work, s) for s in systems]:
                done.result()
        return answer

    def _twin(self) -> LinearSystem:
        """Return the same system with room of its own to work in, for another thread."""
        other = copy(self)
        other.iterations = 0
        for made in ("_precondition", "_far_conducting"):
            other.__dict__.pop(made, None)
        if self._columns_cycle is not None:
            other.__dict__["_columns_cycle"] = cycle = self._columns_cycle.twin()
            if self._single is not None:
                other.__dict__["_single"] = self._single.with_cycle(cycle)
        return other

    def _ways(self, transpose: bool, enough: float, most: int) -> Iterator[tuple[Step, int]]:
        """Ways to take a step, each after those before it have not led there, and how often each is taken."""
        if self.direct:
            yield self._direct_step(transpose), 4
            return
        if self.dominant and self._incomplete is not None:
            yield self._krylov_step(self._incomplete, transpose, enough, _PATIENCE), 2
        far = self._apart is not None and self._apart.coupled
        # the transpose of couplings that act one way may need all the digits of double precision
        single = None if transpose and not self.symmetric else self._single
        if single is not None and not self.dominant and not (far and self.conducts_far):
            yield self._single_step(single, enough, _PATIENCE if far else most), 1 if far else 2
        if not far or not self.conducts_far:
            yield (
                (self._krylov_step(self._precondition, transpose, enough, _PATIENCE), 1)
                if far
                else (self._krylov_step(self._precondition, transpose, enough, most), 4)
            )
        if far and self._far_conducting is not None:
            self.conducts_far = True  # what came of it once is not tried again
            yield self._krylov_step(self._far_conducting, transpose, enough, most), 4
        if self.columns is not None:
            # couplings that columns do not hold may be too strong: the general multigrid knows them all
            self.columns = None
            self.__dict__.pop("_columns_cycle", None)
            self.__dict__.pop("_precondition", None)
            self.__dict__["_single"] = None
            yield self._krylov_step(self._precondition, transpose, enough, most), 4

    def _direct_step(self, transpose: bool) -> Step:
        return lambda right, _: (self._factors.solve(right, trans="T" if transpose else "N"), None)

    def _single_step(self, solver: SingleSolver, enough: float, most: int) -> Step:
        def step(right: NDArray[Any], tolerance: float) -> tuple[Array, Array]:
            found = solver.solve(right, tolerance=tolerance, enough=enough, max_iterations=most)
            self.iterations += found.iterations
            return found.answer, found.left

        return step

    def _krylov_step(self, cycle: Precondition, transpose: bool, enough: float, most: int) -> Step:
        method = conjugate_gradients if not self.dominant and self.symmetric else bicgstab
        matrix = self.matrix if not transpose or self.symmetric else self._turned
        precondition = partial(cycle, transpose=transpose)

        def step(right: NDArray[Any], tolerance: float) -> tuple[Array, None]:
            answer, iterations = method(
                matrix,
                right,
                precondition,
                tolerance=tolerance,
                enough=enough,
                max_iterations=most,
            )
            self.iterations += iterations
            return answer, None

        return step


def _cycle_over(matrix: Any, columns: Columns, *, apart: Apart | None = None) -> LaidOutCycle:
    """Return the multigrid cycle that suits the columns."""
    if columns.grid is not None:
        from inkhorn.linear.even import EvenMultigrid

        return EvenMultigrid(matrix, columns, apart=apart)
    from inkhorn.linear.multigrid import ColumnMultigrid

    return ColumnMultigrid(matrix, columns, apart=apart)


def placed_alike(one: Any, other: Any) -> bool:
    """Whether two matrices have values at the same places."""
    return np.array_equal(one.indptr, other.indptr) and np.array_equal(one.indices, other.indices)


def _short(matrix: Any) -> Any:
    """Return the matrix with indices of 32 bits where these suffice."""
    from scipy.sparse import csr_array

    if matrix.indices.dtype == np.int32 or matrix.nnz >= np.iinfo(np.int32).max:
        return matrix
    places = matrix.indices.astype(np.int32), matrix.indptr.astype(np.int32)
    return csr_array((matrix.data, *places), shape=matrix.shape)


def _general_multigrid(matrix: Any) -> Precondition:
    """A cycle for unknowns that stand in no columns."""
    import pyamg
    from scipy.sparse import csr_matrix

    matrix = csr_matrix(matrix)
    levels = pyamg.ruge_stuben_solver(
        matrix,
        strength=("classical", {"theta": 0.25, "norm": "abs"}),
        presmoother=("gauss_seidel", {"sweep": "forward"}),
        postsmoother=("gauss_seidel", {"sweep": "backward"}),
        max_coarse=60,
    )
    cycle = levels.aspreconditioner(cycle="V")

    def precondition(right: NDArray[Any], answer: NDArray[Any], *, transpose: bool = False) -> float:
        answer[:] = cycle @ right
        return float(answer @ right)

    return precondition


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
