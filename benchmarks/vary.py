"""What many runs cost: flow and transport of 6 000 cells over random fields, by one worker and by two.

    python benchmarks/vary.py [RUNS]

Each run is a field of ln K, a steady flow, and transport of about 100 steps. Also: a field of a million
cells against as many normal numbers, and memory with 50 runs and with ten times as many.
"""

from __future__ import annotations

import resource
import sys
import time

import numpy as np

import inkhorn as ik
from inkhorn import terms
from inkhorn.ensemble.asked import Outcome
from inkhorn.ensemble.monte_carlo import Recipe, Shares, VariedSet, Watching

DAYS = 400.0


def case(rows: int = 60, columns: int = 100) -> tuple[ik.Model, list[ik.Varied], list[ik.Watch], ik.Carry]:
    """One confined layer, heads on two sides, a plume that begins as a block."""
    grid = ik.layered(
        ik.rectangles((0, 0, 10.0 * columns, 10.0 * rows), cell=10), [10.0, 0.0], names=["sand"]
    )
    cells = grid.cells
    sides = [np.flatnonzero(cells.x < 10), np.flatnonzero(cells.x > 10.0 * columns - 10)]
    heads = [
        terms.FixedHeadTerm(
            cells=np.concatenate(sides), head=np.repeat([15.0, 10.0], [len(s) for s in sides]),
            feature_names=("rim",),
        )
    ]  # fmt: skip
    model = ik.Model(grid, 10.0, porosity=0.25, terms=heads, water_table=ik.WaterTable(confined=True))
    field = ik.RandomField(variogram=ik.Variogram.of_lengths("exponential", 1.0, length=80.0))
    block = np.where((cells.x > 100) & (cells.x < 150) & (np.abs(cells.y - 5.0 * rows) < 60), 100.0, 0.0)
    species = ik.Species("salt", background=0.0, initial=block)
    options = {"duration": DAYS, "outputs": 20, "dispersion": ik.Dispersion(2.0, 0.2)}
    watch = [
        ik.Watch(name="level", level_at=(5.0 * columns, 5.0 * rows), layer="sand"),
        ik.Watch(
            name="salt",
            concentration_at=(5.0 * columns, 5.0 * rows),
            layer="sand",
            times=np.linspace(0, DAYS, 21),
        ),
    ]
    return model, [ik.Varied(name="ln K", of="conductivity", value=field)], watch, ik.Carry(species, options)


def parts(runs: int = 20) -> None:
    """Where the time of a run goes, in this process."""
    model, varied, watch, carry = case()
    ready, watching = VariedSet(model, varied), Watching(model, watch, (), [carry], ())
    near = np.asarray(ik.solve_flow(model).steps[0].heads)
    recipe = Recipe(ready, watching, Shares(0, "random", 0), 0, (carry,), (), {"results": "steps"}, near)
    recipe.made(0)
    spent = np.zeros(5)
    for run in range(runs):
        marks = [time.perf_counter()]
        drawn = recipe.drawn(run)
        marks.append(time.perf_counter())
        own = ready.model_of(drawn)
        marks.append(time.perf_counter())
        flow = recipe.flow_of(own)
        marks.append(time.perf_counter())
        plumes = carry.solved(flow)
        marks.append(time.perf_counter())
        watching.read(Outcome(flow, plumes, {}))
        marks.append(time.perf_counter())
        spent += np.diff(marks)
    words = ("field", "model", "flow", "transport", "reading")
    print("a run: " + ", ".join(f"{w} {1000.0 * s / runs:.1f} ms" for w, s in zip(words, spent, strict=True)))


def main(runs: int) -> None:
    """Print everything."""
    parts()
    model, varied, watch, carry = case()
    seconds, found = {}, {}
    for workers in (1, 2):
        begin = time.perf_counter()
        found[workers] = ik.vary(model, varied, watch, runs=runs, carry=carry, workers=workers)
        seconds[workers] = time.perf_counter() - begin
        print(f"{runs} runs by {workers} worker(s): {seconds[workers]:.1f} s")
    same = np.array_equal(found[1].values, found[2].values)
    print(f"two workers are {seconds[1] / seconds[2]:.2f} × as fast as one, the same bits: {same}")
    grid = ik.layered(ik.rectangles((0, 0, 10_000, 10_000), cell=10), [10.0, 0.0], names=["sand"])
    field = ik.RandomField(mean=1.0, variogram=ik.Variogram.of_lengths("exponential", 1.0, length=300.0))
    begin = time.perf_counter()
    maker = ik.FieldMaker(grid, field)
    set_up = time.perf_counter() - begin
    maker.draw(0)
    begin = time.perf_counter()
    maker.draw(1)
    drawn = time.perf_counter() - begin
    begin = time.perf_counter()
    np.exp(np.random.default_rng(0).standard_normal(grid.n_cells))
    print(
        f"a field of {grid.n_cells} cells: {drawn:.2f} s after {set_up:.1f} s, "
        f"{drawn / (time.perf_counter() - begin):.0f} × independent numbers"
    )
    small, varied, watch, _ = case(12, 20)
    maps = [ik.WatchMap(name="levels")]
    used = []
    for count in (50, 500):
        ik.vary(small, varied, watch[:1], runs=count, maps=maps, workers=0)
        used.append(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0)
    print(f"memory: {used[0]:.0f} MB with 50 runs, {used[1]:.0f} MB with 500")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
