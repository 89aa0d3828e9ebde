"""How fast particles are followed: ``python benchmarks/paths.py``.

Crossings of cells a second by the compiled loop alone, on each kind of mesh, with one thread and with two; 100 000
particles across 200 × 200 × 10 cells of uneven conductivity; and how much sooner a way is known than by a general solver
of ordinary differential equations on the same field.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np
import shapely

import inkhorn as ik
from inkhorn.model import terms
from inkhorn.paths import VelocityMaker

SIDE = 2000.0


def across(mesh: ik.PlanMesh, layers: int, spread: float = 1.0) -> ik.FlowResult:
    """Flow from west to east through cells of uneven conductivity."""
    grid = ik.layered(mesh, np.linspace(0.0, -50.0, layers + 1))
    conductivity = 10.0 * np.exp(spread * np.random.default_rng(1).normal(size=grid.n_cells))
    outer = grid.outer_faces
    west, east = (np.flatnonzero(np.abs(outer.middle[:, 0] - x) < 1e-6) for x in (0.0, SIDE))
    face = np.concatenate([west, east])
    ends = terms.FixedHeadTerm(
        cells=outer.cell[face], head=np.repeat([20.0, 0.0], [len(west), len(east)]), crossing="side", outer_face=face,
        way=(outer.length / outer.distance)[face], feature_names=("west", "east"),
        feature_index=np.repeat([0, 1], [len(west), len(east)]),
    )  # fmt: skip
    law = ik.WaterTable(confined=True)
    model = ik.Model(grid, conductivity, porosity=0.2, terms=[ends], water_table=law)
    return ik.solve_flow(model)


class _Watch:
    """Time spent where all threads follow particles, apart from making velocities and tables."""

    def __init__(self) -> None:
        from inkhorn.paths.following import Tracer

        self.tracer: Any = Tracer  # looked into to be measured
        self.plain, self.seconds = self.tracer._follow, 0.0
        watch = self

        def follow(tracer: Any, *args: Any) -> None:
            begun = time.perf_counter()
            watch.plain(tracer, *args)
            watch.seconds += time.perf_counter() - begun

        self.tracer._follow = follow

    def done(self) -> float:
        self.tracer._follow = self.plain
        return self.seconds


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """Seconds, and what came of it."""
    begun = time.perf_counter()
    made = work()
    return time.perf_counter() - begun, made


def cells_crossed(flow: ik.FlowResult, starts: ik.Starts) -> float:
    """Cells that a path crosses, as a mean over some."""
    few = ik.Starts(
        *(
            getattr(starts, n)[:: max(len(starts) // 300, 1)]
            for n in ("layer", "x", "y", "height", "flow", "name", "plan")
        )
    )
    points = ik.trace(flow, few, max_time=1e9).points
    changes = points.groupby("path")["cell"].apply(lambda c: int((np.diff(c.to_numpy()) != 0).sum()))
    return float(changes.mean())


def main() -> None:
    """Print a table of rates and ratios."""
    box = shapely.box(0, 0, SIDE, SIDE)
    meshes = {
        "rectangles": ik.rectangles(box.bounds, cell=10.0),
        "split in four": ik.split_in_four(
            box.bounds, cell=40.0, near=[(shapely.Point(1000, 1000).buffer(700.0), 10.0)]
        ),
        "Voronoi": ik.voronoi(box, cell=13.0),
    }
    for name, mesh in meshes.items():
        flow = across(mesh, 2)
        starts = ik.starts_of_inflow(flow, count=20_000)
        ik.trace(flow, starts, points=False, max_time=1e9)  # compiled, and warm
        crossed = cells_crossed(flow, starts) * len(starts)
        seconds, ends = [], []
        for threads in (1, 2):
            watch = _Watch()
            ends.append(ik.trace(flow, starts, points=False, max_time=1e9, threads=threads).ends)
            seconds.append(watch.done())
        left = (ends[0]["feature"] == "east").mean()
        print(
            f"{name:16} {crossed / seconds[0]:10.3g} cells/s by the loop, {seconds[0] / seconds[1]:4.2f} times with two "
            f"threads (the same paths: {ends[0].equals(ends[1])}); {left:.2%} arrive"
        )
    flow = across(ik.rectangles(box.bounds, cell=10.0), 10)
    starts = ik.starts_of_inflow(flow, count=100_000)
    seconds, paths = timed(lambda: ik.trace(flow, starts, points=False, max_time=1e9, threads=2))
    arrived = (paths.ends["feature"] == "east").mean()
    print(
        f"100 000 particles across 200 × 200 × 10 cells: {seconds:.1f} s with two threads, "
        f"{cells_crossed(flow, starts):.0f} cells each; {arrived:.2%} arrive"
    )
    against_ode()


def against_ode() -> None:
    """The same way by SciPy's solver, told the same velocities."""
    from scipy.integrate import solve_ivp

    flow = across(ik.rectangles((0, 0, SIDE, SIDE), cell=10.0), 1, spread=0.5)
    maker = VelocityMaker(flow)
    field, fans = maker.made(0), maker.fans
    mesh = flow.model.grid.mesh
    height = field.height[0]

    def velocity(_: float, place: Any) -> Any:
        x, y = place
        plan = mesh.locate([x], [y])
        t = int(fans.holding(plan, np.array([x]), np.array([y]))[0])
        arm = np.array([x, y]) - fans.origin - fans.corner[t, 0]
        return (field.value[t] + field.slope[t] * arm) / (0.2 * height)

    start = (405.0, 1003.0, -25.0)
    end = ik.trace(flow, [start], max_time=2000.0).ends
    count = 2000
    ours, _ = timed(lambda: ik.trace(flow, [start] * count, max_time=2000.0, points=False))
    for tolerance in (1e-3, 1e-5, 1e-7):
        theirs, found = timed(
            lambda tolerance=tolerance: solve_ivp(
                velocity, (0, 2000.0), start[:2], rtol=tolerance, atol=tolerance
            )
        )
        miss = float(np.hypot(*(found.y[:, -1] - end[["end x [m]", "end y [m]"]].to_numpy()[0])))
        print(
            f"solve_ivp, tolerance {tolerance:g}: {theirs / (ours / count):9.0f} times as long, {miss:.2g} m off"
        )


if __name__ == "__main__":
    main()
