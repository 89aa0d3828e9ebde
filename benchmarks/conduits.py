"""Random networks of 10 000 pipes in rock of 100 000 cells: Newton steps, and time against the rock alone."""

from __future__ import annotations

import sys
import time

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import minimum_spanning_tree
from scipy.spatial import Delaunay

import inkhorn as ik
from inkhorn.model.terms import ConduitTerm, FixedHeadTerm, RechargeTerm

SIDE, N_PIPES = 10_000.0, 10_000
VISCOSITY = 1.31e-6 * 86400.0


def rock(count: int = 224) -> tuple[ik.Grid, list]:
    """Two layers between ditches, under rain."""
    grid = ik.layered(ik.rectangles((0, 0, SIDE, SIDE), count=count), [220.0, 100.0, 0.0])
    c, top = grid.cells, grid.uppermost
    sides = np.flatnonzero((c.x < SIDE / count) & (c.layer == 0))
    terms = [
        FixedHeadTerm(cells=sides, head=160.0, feature_names=("ditch",)),
        RechargeTerm(cells=top, rate=5e-4, area=c.area[top], feature_names=("rain",)),
    ]
    return grid, terms


def network(grid: ik.Grid, seed: int, n_pipes: int = N_PIPES) -> ConduitTerm:
    """A tree and a share of loops besides; every fourth network at rest in parts, one tied by exchange alone."""
    rng = np.random.default_rng(seed)
    looped = 0.3 * (seed % 7) / 6.0
    n = int(n_pipes / (1.0 + looped)) + 1
    places = rng.uniform(0.02 * SIDE, 0.98 * SIDE, (n, 2))
    corners = np.sort(Delaunay(places).simplices, axis=1)
    pairs = np.unique(np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [0, 2]]]), axis=0)
    drawn = np.hypot(*(places[pairs[:, 0]] - places[pairs[:, 1]]).T)
    weights = coo_array((drawn * rng.uniform(0.2, 1.0, len(pairs)), pairs.T), shape=(n, n)).tocsr()
    tree = np.sort(np.transpose(minimum_spanning_tree(weights).nonzero()), axis=1)
    rest = pairs[~np.isin(pairs @ [n, 1], tree @ [n, 1])]
    pipes = np.concatenate([tree, rng.permutation(rest)[: n_pipes - len(tree)]])
    first, second = pipes.T
    length = np.hypot(*(places[first] - places[second]).T) * rng.uniform(1.0, 1.5, len(pipes))
    middle = 0.5 * (places[first] + places[second])
    cells = grid.cell_number[rng.integers(0, 2, len(pipes)), grid.mesh.locate(*middle.T)]
    diameter = 10.0 ** rng.uniform(-0.7, 0.3, len(pipes))  # 0.2 to 2 m
    exchange = 10.0 ** rng.uniform(-3, 1, len(pipes))
    if seed % 4 == 1:  # a third of the plane without exchange or inflow: what hangs there is at rest
        exchange[middle[:, 0] < 0.35 * SIDE] = 0.0
    tied = seed % 10 == 3
    n_springs, n_sinks = (0 if tied else int(rng.integers(1, 6))), 30
    east = np.argsort(places[:, 0])
    springs = east[::-1][:n_springs]
    sinks = rng.choice(east[n // 2 :], n_sinks, replace=False)
    names = ("karst", *(f"spring {k}" for k in range(n_springs)), *(f"sink {k}" for k in range(n_sinks)))
    level = np.full(len(names), np.inf)
    level[1 : 1 + n_springs] = rng.uniform(140.0, 150.0, n_springs)
    at_node = np.full(len(names), np.nan)
    at_node[1 : 1 + n_springs] = springs
    inflow = np.zeros(len(names))
    inflow[1 + n_springs :] = 10.0 ** rng.uniform(0, 4.5 if tied else 4.9, n_sinks)  # up to 1 m³/s
    return ConduitTerm(
        cells=cells, feature_index=np.zeros(len(pipes), np.int64), feature_names=names, first=first,
        second=second, x=places[:, 0], y=places[:, 1], at_node=at_node, level=level, inflow=inflow,
        source_node=sinks, source_feature=1 + n_springs + np.arange(n_sinks), source_share=np.ones(n_sinks),
        bed_first=rng.uniform(20.0, 100.0), bed_second=20.0, length=length, diameter=diameter,
        roughness=diameter * 10.0 ** rng.uniform(-3, -1), exchange=exchange,
    )  # fmt: skip


def reynolds(term: ConduitTerm, flow: np.ndarray) -> np.ndarray:
    return np.abs(flow) * 4.0 / (np.pi * term.diameter * VISCOSITY)


def seconds(model: ik.Model) -> tuple[float, ik.FlowResult]:
    """The best of three solutions."""
    took = []
    for _ in range(3):
        begin = time.perf_counter()
        found = ik.solve_flow(model)
        took.append(time.perf_counter() - begin)
    return min(took), found


def main(seeds: list[int]) -> None:
    grid, terms = rock()
    wet = {"confined": True} if "--confined" in sys.argv else {}
    plain = ik.Model(grid, 1e-2 * 86400 * 1e-3, terms=terms, water_table=ik.WaterTable(**wet))
    ik.solve_flow(plain)
    print(f"{grid.n_cells} cells alone: {seconds(plain)[0]:.2f} s")
    ratios = []
    for seed in seeds:
        term = network(grid, seed)
        model = ik.Model(grid, 1e-2 * 86400 * 1e-3, terms=[*terms, term], water_table=ik.WaterTable(**wet))
        try:
            took, found = seconds(model)
        except ik.ConvergenceError as problem:
            print(f"network {seed}: FAILED {str(problem)[:300]}", flush=True)
            continue
        alone = seconds(plain)[0]
        ratios.append(took / alone)
        step = found.steps[0]
        flow, re = step.link_flow[-1], reynolds(term, step.link_flow[-1])
        balance = np.bincount(term.links[:, 1], flow, term.n_levels) - np.bincount(
            term.links[:, 0], flow, term.n_levels
        )
        balance -= np.bincount(term.node, step.term_flow[-1], term.n_levels)
        balance += step.outside[-1].sum(axis=0)[: term.n_levels]
        turnover = np.abs(step.outside[-1]).sum() / 2 + np.abs(step.term_flow[-1]).sum() / 2
        report = step.report
        print(
            f"network {seed}: {report} Reynolds {np.median(re):.0f} to {re.max():.1e}, {np.mean(re < 2000):.0%} laminar, "
            f"{np.mean(re < 1):.0%} at rest; balance {np.abs(balance).sum() / turnover:.1e} of {turnover:.3g} m³/day; "
            f"{took:.2f} s, {took / alone:.2f} of the rock alone",
            flush=True,
        )
    print(
        f"cost over that of the rock alone: {min(ratios):.2f} to {max(ratios):.2f}, median {np.median(ratios):.2f}"
    )


if __name__ == "__main__":
    chosen = [int(a) for a in sys.argv[1:] if a.isdigit()]
    main(chosen or list(range(20)))
