"""Ten years by months on 100 000 cells with a water table, a river and wells: ``python benchmarks/seasons.py``."""

from __future__ import annotations

import resource
import time

import numpy as np

import inkhorn as ik


def model(side: int = 100, months: int = 120) -> ik.Model:
    """Ten layers, rain and pumping of the season, a river along the west."""
    rng = np.random.default_rng(5)
    grid = ik.layered(ik.rectangles((0, 0, 20.0 * side, 20.0 * side), count=side), list(-4.0 * np.arange(11)))
    c, top = grid.cells, grid.uppermost
    k = 8.0 * np.exp(rng.normal(size=grid.n_cells))
    k[c.layer == 6] *= 1e-2
    west = top[c.x[top] < 25.0] + 2 * side**2
    deep = rng.choice(np.flatnonzero(c.layer == 8), 30, replace=False)
    month = np.arange(months) % 12
    rain = 7e-4 * (1.0 + 0.9 * np.cos(2.0 * np.pi * month / 12))
    pumped = -60.0 * np.where((month > 3) & (month < 9), 3.0, 0.5)
    terms = [
        ik.terms.RechargeTerm(cells=top, rate=7e-4, area=c.area[top], feature_names=("rain",)),
        ik.terms.RiverTerm(cells=west, conductance=200.0, stage=-9.0, bed=-11.5, feature_names=("river",)),
        ik.terms.WellTerm(
            cells=deep, connection=np.full(30, 3.0), rate=np.full(30, -60.0),
            lowest_level=np.full(30, -38.0), well_loss=np.zeros(30), feature_index=np.arange(30),
            feature_names=tuple(f"well {n}" for n in range(30)),
        ),
    ]  # fmt: skip
    times = 30.4 * np.arange(1, months + 1)
    steady = np.zeros(months, dtype=bool)
    steady[0] = True
    return ik.Model(
        grid, k, 0.1 * k, specific_storage=1e-5, specific_yield=0.15, terms=terms,
        schedule=ik.Schedule(times, steady=steady),
        inputs_in_time={
            "recharge.rate": np.broadcast_to(rain[:, None], (months, len(top))),
            "well.rate": np.broadcast_to(pumped[:, None], (months, 30)),
        },
    )  # fmt: skip


def main() -> None:
    """Print seconds, Newton steps a step, and the most memory taken."""
    made = model()
    begun = time.perf_counter()
    flow = ik.solve_flow(made)
    taken = time.perf_counter() - begun
    steps = len(flow.steps)
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(
        f"{made.grid.n_cells} cells, {steps} steps: {taken:.0f} s, {flow.report.iterations / steps:.1f} Newton steps "
        f"and {sum(r.linear_iterations for r in flow.report.rows) / steps:.0f} linear iterations a step, {most:.2f} GB "
        f"at the most; worst closure {flow.report.closure:.1e}"
    )


if __name__ == "__main__":
    main()
