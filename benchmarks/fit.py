"""What sensitivities and fits cost, as ratios in one process: against one linear solve, and against running anew.

Unit: one linear solve of the same system with its set-up, to 1e-10. Run: python benchmarks/fit.py [steady | time | field]
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from scipy.sparse import csr_array, diags_array

import inkhorn as ik
from inkhorn.flow import Levels, Readings
from inkhorn.linear import LinearSystem
from inkhorn.space import Variogram, kriging_rows, sampling_rows


def took(work: Callable[[], Any], times: int = 1) -> tuple[float, Any]:
    """Return the least time of some, and what came of it."""
    best, made = np.inf, None
    for _ in range(times):
        begin = time.perf_counter()
        made = work()
        best = min(best, time.perf_counter() - begin)
    return best, made


def valley(side: float, cell: float, layers: int, schedule: Any = None) -> tuple[Any, Any]:
    """A square of some layers with random conductivities, a river, held sides and rain; and one of its heads."""
    rng = np.random.default_rng(0)
    mesh = ik.rectangles((0, 0, side, side), cell=cell)
    grid = ik.layered(mesh, np.linspace(20.0, -30.0, layers + 1))
    c, top = grid.cells, grid.uppermost
    rim = top[(mesh.x < 1.5 * cell) | (mesh.x > side - 1.5 * cell)]
    blocks = np.exp(0.5 * rng.normal(size=(20, 20)))
    k = 5.0 * blocks[(c.y / side * 19.99).astype(int), (c.x / side * 19.99).astype(int)]
    terms = [
        ik.terms.RechargeTerm(cells=top, rate=8e-4 * (1000.0 / side) ** 0.5, area=c.area[top]),
        ik.terms.FixedHeadTerm(cells=rim, head=12.0),
        ik.terms.RiverTerm(
            cells=top[np.abs(mesh.y - side / 2) < cell], conductance=500.0, stage=13.0, bed=11.0
        ),
    ]
    more = (
        {} if schedule is None else {"schedule": schedule, "specific_yield": 0.15, "specific_storage": 1e-5}
    )
    if schedule is not None:
        rates = 8e-4 * (1.0 + np.sin(np.arange(len(schedule))))
        more["inputs_in_time"] = {
            "recharge.rate": np.outer(rates, np.ones(len(top))) * (1000.0 / side) ** 0.5
        }
    model = ik.Model(grid, k, 0.1 * k, terms=terms, **more)
    return model, ik.solve_flow(model, closure=1e-9, initial_heads=14.0)


def unit(sensitivity: Any, step: int = 0) -> float:
    """One linear solve with its set-up, as adjoints use it."""
    at = sensitivity.step(step)
    eq = at.equations
    matrix, right = (
        eq.pattern.among_free(at.balance.jacobian),
        np.random.default_rng(1).normal(size=len(eq.free)),
    )

    def solve() -> Any:
        return LinearSystem(matrix, columns=eq.columns, direct=False).solve(
            right, tolerance=1e-10, transpose=True
        )

    return took(solve, 5)[0]


def points(model: Any, count: int) -> tuple[dict[str, Any], Any]:
    """How conductivities follow from logarithms at pilot points."""
    rng, c = np.random.default_rng(2), model.grid.cells
    x, y = rng.uniform(0.0, c.x.max(), (2, count))
    rows = kriging_rows(x, y, c.x, c.y, Variogram(range=0.25 * c.x.max()), neighbours=16)
    names = ("horizontal_conductivity", "vertical_conductivity")
    return {n: (diags_array(model.input(n)) @ rows).tocsr() for n in names}, rows


def heads(model: Any, sensitivity: Any, count: int) -> Levels:
    """Levels at places all over."""
    rng, c = np.random.default_rng(3), model.grid.cells
    x, y = rng.uniform(0.05 * c.x.max(), 0.95 * c.x.max(), (2, count))
    rows = sampling_rows(model.grid, rng.integers(0, len(model.grid.layer_names), count), x, y)
    size = sensitivity.equations.n_unknowns
    return Levels(csr_array((rows.data, rows.indices, rows.indptr), shape=(count, size)))


def off(one: Any, exact: Any) -> float:
    """The largest error over the largest value, row by row."""
    return float((np.abs(one - exact).max(axis=1) / np.abs(exact).max(axis=1)).max())


def steady() -> None:
    """500 parameters, 100 heads, 100 000 cells."""
    model, flow = valley(9150.0, 50.0, 3)
    changes, rows = points(model, 500)
    exact_by = ik.FlowSensitivity(flow)
    readings = Readings.at_end(heads(model, exact_by, 100))
    one = unit(exact_by)
    exact = exact_by.jacobian(readings, changes)
    for tolerance in (1e-6, 1e-7):
        sensitivity = ik.FlowSensitivity(flow, tolerance=tolerance)
        seconds, found = took(lambda s=sensitivity: s.jacobian(readings, changes))
        print(
            f"steady, {model.grid.n_cells} cells, 500 parameters, 100 heads, to {tolerance:.0e}: "
            f"{seconds / 100 / one:.2f} units an observation, Jacobian off by {off(found, exact):.1e}"
        )
        taken = seconds
    nudged, few = [], 6
    for k in range(few):  # each parameter is run anew, from the heads before

        def again(k: int = k) -> Any:
            factor = np.exp(1e-4 * np.ravel(rows[:, [k]].toarray()))
            other = model.with_inputs({n: model.input(n) * factor for n in changes})
            return ik.solve_flow(other, initial_heads=flow.steps[-1].heads, closure=1e-9)

        nudged.append(took(again)[0])
    whole = 500 * float(np.median(nudged))
    print(f"the same by nudging each parameter: {whole / taken:.0f} times as long ({few} of 500 were run)")


def in_time() -> None:
    """60 steps, 20 bores, 20 dates each, 20 000 cells."""
    schedule = ik.Schedule(np.linspace(1.0, 1801.0, 61), steps=1, steady=[True] + [False] * 60)
    model, flow = valley(5000.0, 50.0, 2, schedule)
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-6)
    at = np.linspace(3, 60, 20).astype(int)
    quantity = heads(model, sensitivity, 20)
    weights = {}
    for j, k in enumerate(at.tolist()):
        row = 20 * j + np.arange(20)
        weights[k] = csr_array((np.ones(20), (row, np.arange(20))), shape=(400, 20))
    readings = Readings(quantity, weights)
    changes, _ = points(model, 3000)
    one, costates = unit(sensitivity, 30), int((readings.last_step + 1).sum())
    seconds, _ = took(lambda: sensitivity.jacobian(readings, changes))
    print(
        f"in time, {model.grid.n_cells} cells, {len(flow.steps)} steps, 400 readings, 3000 parameters: "
        f"{seconds / costates / one:.2f} units for each of {costates} costates"
    )


def field() -> None:
    """The gradient by one parameter a cell."""
    model, flow = valley(9150.0, 50.0, 3)
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-8)
    readings = Readings.at_end(heads(model, sensitivity, 100))
    forward = took(lambda: ik.solve_flow(model, closure=1e-9), 2)[0]
    seconds, found = took(
        lambda: ik.FlowSensitivity(flow, tolerance=1e-8).gradient(readings, np.ones(100)), 2
    )
    count = found["horizontal_conductivity"].size
    print(
        f"the gradient by {count} conductivities and all other inputs: {seconds / forward:.2f} forward solves"
    )


if __name__ == "__main__":
    asked = sys.argv[1:] or ["steady", "time", "field"]
    for name in asked:
        {"steady": steady, "time": in_time, "field": field}[name]()
