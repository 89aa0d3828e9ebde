"""What a network of unknowns coupled to each other costs beside 100 000 cells: ``python benchmarks/network.py``.

A random planar network of 10 000 nodes with 30 % loops, couplings over six orders of magnitude; times of whole steady
solutions, over that of the same cells without it.
"""

from __future__ import annotations

import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

import inkhorn as ik

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import held, rain
from tests.test_terms import network


def model(side: int = 183) -> ik.Model:
    """Three layers of random conductivity, one edge held, rain."""
    grid = ik.layered(ik.rectangles((0, 0, 50.0 * side, 50.0 * side), count=side), [0.0, -10.0, -20.0, -30.0])
    k = 5.0 * np.exp(np.random.default_rng(0).normal(size=grid.n_cells))
    edge = np.flatnonzero((grid.cells.x < 50) & (grid.cells.layer == 0))
    terms = [held(edge, 0.0), rain(grid, 1e-3)]
    return ik.Model(grid, k, 0.1 * k, terms=terms, water_table=ik.WaterTable(confined=True))


def main() -> None:
    """Print seconds, iterations and ratios."""
    plain = model()
    deep = np.random.default_rng(1).permutation(np.flatnonzero(plain.grid.cells.layer == 2))[:10_000]
    pipes = network(plain.grid, deep, 1)
    strong = replace(pipes, exchange=1e3 * pipes.exchange, pipe_conductance=1e3 * pipes.pipe_conductance)
    cases = {
        "cells alone": plain,
        "couplings 1e-3 to 1e3 m²/day": replace(plain, terms=(*plain.terms, pipes)),
        "couplings 1 to 1e6 m²/day": replace(plain, terms=(*plain.terms, strong)),
    }
    ik.solve_flow(cases["couplings 1 to 1e6 m²/day"])  # compiled and read into memory
    base = 0.0
    for name, made in cases.items():
        taken = []
        for _ in range(3):
            begun = time.perf_counter()
            flow = ik.solve_flow(made)
            taken.append(time.perf_counter() - begun)
        base = base or min(taken)
        linear = sum(row.linear_iterations for row in flow.report.rows)
        print(f"{name:30s} {min(taken):5.2f} s   {min(taken) / base:5.2f}   {linear} linear iterations")


if __name__ == "__main__":
    main()
