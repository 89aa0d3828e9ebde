"""The linear systems of flow, as ratios in one process: ``python benchmarks/flow.py [cells]``.

The unit is one product of SciPy's sparse matrix with a vector. Every solver starts from zero heads and goes on
until the sum of absolute residuals is below 1e-8 of the water that flows through, and heads are within 1e-6 of
their range. The reference is PyAMG in the best of the set-ups tried (aggregation, symmetric strength 0.02).
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
import shapely

import inkhorn as ik
from inkhorn.flow.equations import FlowEquations
from inkhorn.linear import Columns, LinearSystem
from inkhorn.linear.multigrid import ColumnMultigrid
from inkhorn.space import Grid

LAYERS = 10
THICKNESS = 5.0


class System(NamedTuple):
    """A linear system of flow, and the sum of absolute residuals that closes its balance."""

    matrix: Any
    right: np.ndarray
    columns: Columns
    enough: float


def grid_of(mesh: Any, *, pinched: bool = False, jumping: bool = False) -> Grid:
    """Ten layers; some absent here and there, or one of them thicker by a thousand where x is large."""
    levels = [np.full(mesh.n_cells, -THICKNESS * k) for k in range(LAYERS + 1)]
    wave = np.sin(mesh.x / 900.0) * np.cos(mesh.y / 700.0)
    if pinched:
        for k in (3, 6):
            levels[k] = np.where(wave > 0.2, levels[k - 1], levels[k])
    if jumping:
        levels[5:] = [z - np.where(mesh.x > np.median(mesh.x), 1000.0 * THICKNESS, 0.0) for z in levels[5:]]
    return ik.layered(mesh, levels)


def system_of(grid: Grid, *, variance: float = 2.0, anisotropy: float = 1.0, drained: bool = False) -> System:
    """Rain, a river along the west, wells; ln K of that variance, an aquitard a thousand times tighter."""
    rng = np.random.default_rng(7)
    cells = grid.cells
    k = 5.0 * np.exp(np.sqrt(variance) * rng.normal(size=grid.n_cells))
    k[cells.layer == LAYERS // 2] *= 1e-3
    top = grid.uppermost[grid.uppermost >= 0]
    west = top[cells.x[top] <= np.quantile(cells.x[top], 0.01)]
    if drained:
        west = west[:, None] + (cells.layer == 0).sum() * np.arange(3, 5)
        west = west.ravel()
    deep = np.flatnonzero(cells.layer == LAYERS - 2)
    wells = rng.choice(deep, 20, replace=False)
    terms = [
        ik.terms.RechargeTerm(cells=top, rate=8e-4, area=cells.area[top], feature_names=("rain",)),
        ik.terms.HeadDependentTerm(cells=west, conductance=50.0, head=-8.0 if drained else 0.0, feature_names=("river",)),
        ik.terms.WellTerm(
            cells=wells, connection=np.full(20, 2.0), rate=np.full(20, -100.0),
            lowest_level=np.full(20, -1e9), well_loss=np.zeros(20), feature_index=np.arange(20),
            feature_names=tuple(f"well {n}" for n in range(20)),
        ),
    ]  # fmt: skip
    law = ik.WaterTable() if drained else ik.WaterTable(confined=True)
    model = ik.Model(grid, k, 0.1 * k, anisotropy=anisotropy, terms=terms, water_table=law)
    equations = FlowEquations(model)
    unknowns = np.zeros(equations.n_unknowns)
    if drained:  # one step from where Newton's method would end
        flow = ik.solve_flow(model)
        share = (flow.filled()[top] < 0.01).mean()
        print(f"(dry: {share:.0%} of the top cells; {flow.report})")
        unknowns = np.concatenate([flow.steps[0].heads, flow.steps[0].extra_unknowns]) + 1e-3
    balance = equations.evaluate(unknowns)
    inflow = 8e-4 * cells.area[top].sum()
    assert equations.columns is not None
    return System((-balance.jacobian).tocsr(), balance.residual, equations.columns, 1e-8 * inflow)


def best_of(work: Callable[[], Any], times: int) -> float:
    """Return the shortest of several times."""
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        taken.append(time.perf_counter() - begun)
    return min(taken)


def solved(system: System) -> tuple[np.ndarray, int]:
    """Set up and solve with ours, columns included."""
    c = system.columns
    fresh = Columns(c.column, c.layer, c.edges, c.x, c.y, c.area, c.grid)
    linear = LinearSystem(system.matrix, columns=fresh, direct=False)
    heads = linear.solve(system.right, tolerance=1e-14, enough=system.enough)
    return heads, linear.iterations


def reference(system: System) -> tuple[np.ndarray, int]:
    """Set up and solve with PyAMG."""
    import pyamg
    from scipy.sparse import csr_matrix
    from scipy.sparse.linalg import cg

    matrix = csr_matrix(system.matrix)
    levels = pyamg.smoothed_aggregation_solver(
        matrix,
        strength=("symmetric", {"theta": 0.02}),
        presmoother=("gauss_seidel", {"sweep": "forward"}),
        postsmoother=("gauss_seidel", {"sweep": "backward"}),
        improve_candidates=None,
    )
    count, heads, tolerance = [0], np.zeros(len(system.right)), 1e-8
    while np.abs(system.right - matrix @ heads).sum() > system.enough:
        tolerance *= 0.1
        heads, _ = cg(
            matrix, system.right, x0=heads, rtol=tolerance, maxiter=300, M=levels.aspreconditioner(),
            callback=lambda _: count.__setitem__(0, count[0] + 1),
        )  # fmt: skip
    return heads, count[0]


def compared(name: str, system: System) -> None:
    """Print what a system costs, in products, and against the reference."""
    n = len(system.right)
    vector = np.random.default_rng(1).normal(size=n)
    solved(system)  # compiled loops are loaded
    unit = best_of(lambda: system.matrix @ vector, 20)
    ours = best_of(lambda: solved(system), 3)
    heads, iterations = solved(system)
    exact = LinearSystem(system.matrix, columns=system.columns, direct=False).solve(
        system.right, tolerance=1e-11
    )
    error = np.abs(heads - exact).max() / np.ptp(exact)
    multigrid = ColumnMultigrid(system.matrix, system.columns)
    memory = (multigrid.memory + 8 * n + 5 * 8 * n) / n  # levels, places of unknowns, vectors
    print(
        f"{name}: {n} unknowns, {ours / unit:.0f} products ({ours:.2f} s), {iterations} iterations, head error "
        f"{error:.0e}, {memory:.0f} bytes a cell"
    )
    begun = time.perf_counter()
    other, steps = reference(system)
    taken = time.perf_counter() - begun
    print(
        f"    reference: {taken / unit:.0f} products ({taken:.1f} s), {steps} iterations, head error "
        f"{np.abs(other - exact).max() / np.ptp(exact):.0e}: {taken / ours:.1f} times as long"
    )


def against_the_reference(cells: int) -> None:
    """The base case on rectangles and on Voronoi cells."""
    side = round((cells / LAYERS) ** 0.5)
    extent = (0.0, 0.0, 20.0 * side, 20.0 * side)
    mesh = ik.rectangles(extent, count=side)
    compared("rectangles", system_of(grid_of(mesh)))
    size = 20.0
    compared("Voronoi cells", system_of(grid_of(ik.voronoi(shapely.box(*extent), cell=size))))


def harder_cases() -> None:
    """Iterations where a solver may stumble."""
    smaller = ik.rectangles((0.0, 0.0, 2000.0, 2000.0), count=100)
    row, column = smaller.row_column
    lake = np.hypot(row - 50, column - 55) < 33
    plain = grid_of(smaller)
    inactive = Grid(
        smaller, plain.layer_names, np.where(lake, np.nan, plain.top), np.where(lake, np.nan, plain.bottom)
    )
    cases = {
        "base case": system_of(plain),
        "Kx:Ky 1:100": system_of(plain, anisotropy=0.01),
        "ln K variance 4": system_of(plain, variance=4.0),
        "a third of the plan inactive": system_of(inactive),
        "pinched layers": system_of(grid_of(smaller, pinched=True)),
        "a third of the top cells dry": system_of(plain, drained=True),
        "thickness jumping 1000 times": system_of(grid_of(smaller, jumping=True)),
    }
    base = solved(cases["base case"])[1]
    for name, system in cases.items():
        iterations = solved(system)[1]
        print(f"{name}: {iterations} iterations, {iterations / base:.2f} of the base case")


def growth(most: int) -> None:
    """Products per cell, from small to large."""
    per_cell: list[float] = []
    for count in (c for c in (10_000, 100_000, 1_000_000, 4_000_000) if c <= most):
        side = round((count / LAYERS) ** 0.5)
        system = system_of(grid_of(ik.rectangles((0.0, 0.0, 20.0 * side, 20.0 * side), count=side)))
        vector = np.ones(len(system.right))
        unit = best_of(lambda s=system, v=vector: s.matrix @ v, 10)
        per_cell.append(best_of(lambda s=system: solved(s), 2) / unit)
        print(f"{count} cells: {per_cell[-1]:.0f} products, {per_cell[-1] / per_cell[0]:.2f} of 10 000 cells")


def main() -> None:
    """Print ratios."""
    cells = int(float(sys.argv[1])) if len(sys.argv) > 1 else 1_000_000
    against_the_reference(cells)
    harder_cases()
    growth(4 * cells)


if __name__ == "__main__":
    main()
