"""How long pictures of very many cells take: ``python benchmarks/drawing.py [VORONOI CELLS]``.

Ratios are to an empty figure of the same size with axes, drawn and saved in the same run.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

import inkhorn as ik
from inkhorn.draw import save_figure


def seconds(name: Callable[[], None], times: int = 3) -> float:
    """The least of several."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        name()
        found.append(time.perf_counter() - begun)
    return min(found)


def solved(mesh: ik.PlanMesh) -> ik.FlowResult:
    """Heads on one layer that nothing was solved for: as drawing takes them."""
    from inkhorn.flow import FlowStart, FlowStep, SolverReport

    grid = ik.layered(mesh, [30.0, 0.0])
    n = grid.n_cells
    heads = 20.0 + 5.0 * np.sin(grid.cells.x / 700.0) * np.cos(grid.cells.y / 900.0)
    model = ik.Model(grid, 10.0)
    nothing = np.empty(0)
    step = FlowStep(
        0.0, 0.0, True, heads, nothing, np.zeros(len(grid.faces.area)), (), np.zeros(n), np.zeros(n), nothing, (), (), ()
    )  # fmt: skip
    return ik.FlowResult(model, [step], SolverReport(), FlowStart(heads, nothing, ()))


def main() -> None:
    """Print a table of seconds and ratios."""
    many = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "one.png"

        def saved(fill: Callable[..., object]) -> float:
            return seconds(lambda: save_figure(out, lambda figure: fill(figure.subplots())))

        empty = saved(lambda ax: ax.set_title("empty"))
        print(f"{'empty figure':44} {empty:7.2f} s")
        squares = ik.rectangles((0.0, 0.0, 10_000.0, 10_000.0), cell=10.0)
        side = float(np.sqrt(2.0 / np.sqrt(3.0) / many)) * 10_000.0
        cells = ik.voronoi((0.0, 0.0, 10_000.0, 10_000.0), cell=side)
        for name, mesh in (("rectangles", squares), ("Voronoi cells", cells)):
            flow = solved(mesh)
            for words, paint in (
                ("heads", lambda ax, flow=flow: ik.draw.heads(flow, ax=ax)),
                ("plan", lambda ax, mesh=mesh: ik.draw.plan(mesh, ax=ax)),
            ):
                took = saved(paint)
                print(f"{f'{words}, {mesh.n_cells:,} {name}':44} {took:7.2f} s {took / empty:7.1f} times")


if __name__ == "__main__":
    main()
