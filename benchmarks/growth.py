"""How cost grows with the number of cells: ``python benchmarks/growth.py [cells ...]``, by default 10 k to 4 M.

Ten layers of rectangles, steady: making grid and model, solving the flow, the gradient of one level by every input (one
row of a Jacobian), ten days of a tracer, and 10 000 particles for a hundred years at the most. Every size runs in
a process of its own; memory is the most it has taken after each. Prints a table in Markdown; seconds are this machine's.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from scipy.sparse import csr_array

import inkhorn as ik
from inkhorn.flow import Levels, Readings
from inkhorn.space import sampling_rows

SIZES = (10_000, 100_000, 1_000_000, 4_000_000)
LAYERS, DAYS = 10, 10.0


def model(cells: int) -> ik.Model:
    """Rain, a river along the west, wells; conductivities vary."""
    side = round((cells / LAYERS) ** 0.5)
    rng = np.random.default_rng(7)
    mesh = ik.rectangles((0.0, 0.0, 20.0 * side, 20.0 * side), count=side)
    grid = ik.layered(mesh, [np.full(mesh.n_cells, -5.0 * k) for k in range(LAYERS + 1)])
    top = grid.uppermost
    k = 5.0 * np.exp(rng.normal(size=grid.n_cells))
    west = top[grid.cells.x[top] < 25.0]
    wells = rng.choice(np.flatnonzero(grid.cells.layer == LAYERS - 2), 20, replace=False)
    pumped = -0.3 * 8e-4 * float(grid.cells.area[top].sum()) / 20
    terms = [
        ik.terms.RechargeTerm(cells=top, rate=8e-4, area=grid.cells.area[top], feature_names=("rain",)),
        ik.terms.HeadDependentTerm(cells=west, conductance=50.0, head=0.0, feature_names=("river",)),
        ik.terms.WellTerm(
            cells=wells, connection=np.full(20, 2.0), rate=np.full(20, pumped), lowest_level=np.full(20, -1e9),
            well_loss=np.zeros(20), feature_index=np.arange(20),
            feature_names=tuple(f"well {n}" for n in range(20)),
        ),
    ]  # fmt: skip
    return ik.Model(grid, k, 0.1 * k, porosity=0.2, terms=terms, water_table=ik.WaterTable(confined=True))


def one(cells: int) -> None:
    """Print seconds, and the most memory after each, of one size."""

    def step(work: Callable[[], Any]) -> Any:
        begun = time.perf_counter()
        made = work()
        taken = time.perf_counter() - begun
        print(f"{taken:.3g} {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.3g}", flush=True)
        return made

    if cells != 2000:
        with open("/dev/null", "w") as nowhere:  # compiled loops are loaded before the clock starts
            kept, sys.stdout = sys.stdout, nowhere
            one(2000)
            sys.stdout = kept
    made = step(lambda: model(cells))
    flow = step(lambda: ik.solve_flow(made))
    grid = made.grid
    middle = float(grid.mesh.x.mean())
    level = sampling_rows(grid, np.array([2]), np.array([middle]), np.array([middle]))
    step(lambda: gradient(flow, level))
    salt = ik.Species("salt", background=0.0)
    cloud = np.where(np.hypot(grid.cells.x - middle, grid.cells.y - middle) < 100.0, 1.0, 0.0)
    step(
        lambda: ik.solve_transport(
            flow, salt, duration=DAYS, outputs=1, initial=cloud, dispersion=ik.Dispersion(5.0)
        )
    )
    step(lambda: ik.trace(flow, ik.starts_of_inflow(flow, count=10_000), points=False, max_time=36525.0))


def gradient(flow: ik.FlowResult, level: Any) -> Any:
    """How one level answers to every input: a row of a Jacobian."""
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-8)
    shape = (1, sensitivity.equations.n_unknowns)
    readings = Readings.at_end(Levels(csr_array((level.data, level.indices, level.indptr), shape=shape)))
    return sensitivity.gradient(readings, np.ones(1))


def main() -> None:
    """Print the table."""
    if sys.argv[1:2] == ["--one"]:
        one(int(sys.argv[2]))
        return
    sizes = [int(float(a)) for a in sys.argv[1:]] or list(SIZES)
    heads = (
        "cells",
        "grid and model",
        "flow",
        "gradient of a level",
        "ten days of a tracer",
        "10 000 particles",
    )
    print("| " + " | ".join(heads) + " |\n|" + " --- |" * len(heads))
    for cells in sizes:
        command = [sys.executable, str(Path(__file__)), "--one", str(cells)]
        environment = {**os.environ, "INKHORN_MAX_MEMORY": "100GB"}
        done = subprocess.run(command, check=True, capture_output=True, text=True, env=environment)
        said = done.stdout.split("\n")
        found = [line.split() for line in said if line]
        print(
            f"| {cells:,} | " + " | ".join(f"{taken} s, {memory} GB" for taken, memory in found) + " |",
            flush=True,
        )


if __name__ == "__main__":
    main()
