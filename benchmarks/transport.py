"""What transport costs: sparse products a step, one and two threads, and against implicit steps with upstream weights.

    python benchmarks/transport.py [ROWS] [LAYERS]

The unit is one product of SciPy with a matrix of the same neighbours. The first part asks how long it takes to bring
the mean error of a plume on 40 000 plane cells at a grid Péclet number of 20 to 2 %, for this scheme and for what a user
would write with SciPy: upstream, implicit, factored once; there cells and steps are made smaller.
"""

from __future__ import annotations

import sys
import time

import numba
import numpy as np
from scipy.sparse import csc_array, csr_array, diags_array
from scipy.sparse.linalg import splu

import inkhorn as ik
from inkhorn import terms
from inkhorn.transport.carried import Carried
from inkhorn.transport.neighbours import Neighbours
from inkhorn.transport.passing import passing_of
from inkhorn.transport.scheme import COURANT

K, POROSITY = 10.0, 0.25


def even_flow(grid: ik.Grid, angle: float) -> ik.FlowResult:
    """Flow all over alike, from heads in the cells on the rim."""
    rim = np.unique(grid.outer_faces.cell)
    head = 100.0 - 0.01 * (np.cos(angle) * grid.cells.x[rim] + np.sin(angle) * grid.cells.y[rim])
    term = terms.FixedHeadTerm(cells=rim, head=head, feature_names=("rim",))
    model = ik.Model(grid, K, porosity=POROSITY, terms=[term], water_table=ik.WaterTable(confined=True))
    return ik.solve_flow(model)


def product(grid: ik.Grid) -> float:
    """How long one sparse product takes [s]."""
    n, (a, b) = grid.n_cells, grid.faces.cells.T
    rows, columns = np.concatenate([a, b, np.arange(n)]), np.concatenate([b, a, np.arange(n)])
    matrix = csr_array((np.ones(len(rows)), (rows, columns)), shape=(n, n))
    x = np.ones(n)
    times = []
    for _ in range(15):
        begin = time.perf_counter()
        matrix @ x
        times.append(time.perf_counter() - begin)
    return float(np.median(times))


def steps(rows: int, layers: int) -> None:
    """Cost of a step on many cells, by threads; the same bits."""
    grid = ik.layered(ik.rectangles((0, 0, rows, rows), cell=1.0), list(np.linspace(0.0, -10.0, layers + 1)))
    flow = even_flow(grid, 0.3)
    found, seconds = [], {1: [], 2: []}
    for threads in (1, 2, 1, 2):  # in turn: machines are shared
        numba.set_num_threads(min(threads, numba.config.NUMBA_NUM_THREADS))
        x, y = grid.cells.x, grid.cells.y
        start = 0.1 + np.exp(-((x - 0.5 * rows) ** 2 + (y - 0.5 * rows) ** 2) / 200.0)
        one = Carried(
            flow.model, Neighbours.of(grid), ik.Species("salt", background=0.0), ik.Dispersion(5.0, 0.5, 0.05), start,
            None, left_out=np.zeros(grid.n_cells, dtype=bool),
        )  # fmt: skip
        one.meet(passing_of(flow, -1), 0.0)
        one.arrive(0.0, 1e9, {})
        length = COURANT * float(one.residence()[1].min())
        one.step(length)
        for _ in range(10):
            begin = time.perf_counter()
            one.step(length)
            seconds[threads].append(time.perf_counter() - begin)
        found.append(one.c.copy())
    unit = product(grid)
    for threads, times in seconds.items():
        print(
            f"{grid.n_cells} cells, {threads} thread(s): {min(times) / unit:.1f} products a step at best, "
            f"{np.median(times) / unit:.1f} in the middle"
        )
    same = all(np.array_equal(found[0], other) for other in found[1:])
    ratio = min(seconds[1]) / min(seconds[2])
    print(f"two threads are {ratio:.2f} times as fast; the same bits: {same}")


def plume(
    place: np.ndarray, at: np.ndarray, along: np.ndarray, sigma: float, far: float, wide: float, way: float
) -> np.ndarray:
    """A cloud that was round at first, after a way [m], by two dispersivities."""
    s1, s2 = sigma**2 + 2.0 * far * way, sigma**2 + 2.0 * wide * way
    u = (place - at) @ along - way
    w = (place - at) @ np.array([-along[1], along[0]])
    return sigma**2 / np.sqrt(s1 * s2) * np.exp(-0.5 * (u**2 / s1 + w**2 / s2))


def upstream(flow: ik.FlowResult, start: np.ndarray, duration: float, count: int, far: float) -> np.ndarray:
    """Implicit steps with upstream weights and dispersion along the lines between centres, as one would write it."""
    grid, q = flow.model.grid, flow.steps[-1].face_flow
    n, (a, b) = grid.n_cells, grid.faces.cells.T
    t = far * np.abs(q) / grid.faces.distance.sum(axis=1)
    out, back = np.maximum(q, 0.0) + t, np.maximum(-q, 0.0) + t
    lost = -flow.steps[-1].term_flow[0]
    rows, columns = np.concatenate([a, b, b, a]), np.concatenate([a, a, b, b])
    matrix = csc_array((np.concatenate([out, -out, back, -back]), (rows, columns)), shape=(n, n))
    matrix = matrix + diags_array(np.bincount(flow.model.terms[0].cells, np.maximum(lost, 0.0), n))
    water, c = POROSITY * grid.cells.volume, start
    factors = splu((matrix + diags_array(water * count / duration)).tocsc())
    for _ in range(count):
        c = factors.solve(water * count / duration * c)
    return c


def against_upstream() -> None:
    """Time to a mean error of 2 %, at a grid Péclet number of 20 on 40 000 cells."""
    side, far, way, sigma = 200.0, 1.0 / 20.0, 60.0, 8.0
    along, goal = np.array([np.cos(0.5), np.sin(0.5)]), 0.02
    begin_at = np.array([0.5 * side, 0.5 * side]) - 0.5 * way * along

    def run(cell: float) -> tuple[ik.FlowResult, np.ndarray, np.ndarray, float]:
        grid = ik.layered(ik.rectangles((0, 0, side, side), cell=cell), [0.0, -10.0])
        flow = even_flow(grid, 0.5)
        place = grid.centres_of_gravity
        start = plume(place, begin_at, along, sigma, far, 0.1 * far, 0.0)
        exact = plume(place, begin_at, along, sigma, far, 0.1 * far, way)
        return flow, start, exact, way / (K * 0.01 / POROSITY)

    flow, start, exact, duration = run(1.0)
    salt = ik.Species("salt", background=0.0)
    spread = ik.Dispersion(far, 0.1 * far)
    ik.solve_transport(flow, salt, duration=0.05 * duration, outputs=1, initial=start, dispersion=spread)
    begin = time.perf_counter()
    made = ik.solve_transport(flow, salt, duration=duration, outputs=1, initial=start, dispersion=spread)
    ours = time.perf_counter() - begin
    error = float(np.abs(made.values[-1] - exact).sum() / exact.sum())
    print(f"this scheme on {len(start)} cells: error {100 * error:.2f} %, {len(made.watched) - 1} steps")
    reached = False
    for cell in (1.0, 0.5, 0.25):
        flow, start, exact, duration = run(cell)
        for count in (int(way / cell), int(4 * way / cell)):
            begin = time.perf_counter()
            c = upstream(flow, start, duration, count, far)
            theirs = time.perf_counter() - begin
            error = float(np.abs(c - exact).sum() / exact.sum())
            how = f"upstream on {len(start)} cells, {count} steps"
            print(f"{how}: error {100 * error:.1f} %, {theirs / ours:.1f} times as long")
            reached = reached or error <= goal
    if not reached:
        print(
            f"upstream did not get to {100 * goal:g} %; its error falls with the size of cells and steps only"
        )


if __name__ == "__main__":
    against_upstream()
    steps(int(sys.argv[1]) if len(sys.argv) > 1 else 316, int(sys.argv[2]) if len(sys.argv) > 2 else 10)
