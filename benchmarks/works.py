"""What a user waits for, against another state of the sources: ``python benchmarks/works.py OTHER/src [work ...]``.

Each work is done in a process of its own, by turns from these sources and from the others, five times; printed are the
medians of the seconds, their ratio, and the most memory taken. Compiled loops are loaded before the clock starts, except
for commands, whose caches are warm. ``python benchmarks/works.py`` alone names the works and tells the machine's triad.
"""

from __future__ import annotations

import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import shapely

TIMES = 5
_HERE = Path(__file__).parent


def _took(work: Callable[[], Any]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _model(side: int) -> Any:
    """Ten layers of rectangles, confined: rain, a river along the west, wells."""
    import inkhorn as ik

    rng = np.random.default_rng(7)
    mesh = ik.rectangles((0.0, 0.0, 20.0 * side, 20.0 * side), count=side)
    grid = ik.layered(mesh, [np.full(mesh.n_cells, -5.0 * k) for k in range(11)])
    cells, top = grid.cells, grid.uppermost
    k = 5.0 * np.exp(np.sqrt(2.0) * rng.normal(size=grid.n_cells))
    k[cells.layer == 5] *= 1e-3
    west = top[cells.x[top] < 25.0]
    wells = rng.choice(np.flatnonzero(cells.layer == 8), 20, replace=False)
    terms = [
        ik.terms.RechargeTerm(cells=top, rate=8e-4, area=cells.area[top], feature_names=("rain",)),
        ik.terms.HeadDependentTerm(cells=west, conductance=50.0, head=0.0, feature_names=("river",)),
        ik.terms.WellTerm(
            cells=wells, connection=np.full(20, 2.0), rate=np.full(20, -100.0), lowest_level=np.full(20, -1e9),
            well_loss=np.zeros(20), feature_index=np.arange(20),
            feature_names=tuple(f"well {n}" for n in range(20)),
        ),
    ]  # fmt: skip
    return ik.Model(grid, k, 0.1 * k, terms=terms, water_table=ik.WaterTable(confined=True))


def steady_flow() -> float:
    """`solve_flow` of 1 M rectangles, steady, everything from the faces on."""
    import inkhorn as ik

    ik.solve_flow(_model(60))
    model = _model(316)
    return _took(lambda: ik.solve_flow(model))


def _system(kind: str, *, again: bool = False) -> float:
    """One linear system of 1 M cells with its set-up, or the set-up again with the structure known."""
    import flow as systems

    import inkhorn as ik
    from inkhorn.linear import LinearSystem

    extent = (0.0, 0.0, 6320.0, 6320.0)
    mesh = ik.rectangles(extent, count=316) if kind == "even" else ik.voronoi(shapely.box(*extent), cell=20.0)
    system = systems.system_of(systems.grid_of(mesh))
    systems.solved(system)
    vector = np.ones(len(system.right))
    unit = systems.best_of(lambda: system.matrix @ vector, 20)
    if not again:
        return systems.best_of(lambda: systems.solved(system), 3) / unit

    def set_up() -> Any:
        return LinearSystem(system.matrix, columns=system.columns, direct=False)._precondition

    return systems.best_of(set_up, 4) / unit


def rectangles() -> float:
    """Products for the linear system of 1 M rectangles, set-up included."""
    return _system("even")


def columns() -> float:
    """Products for that of 1 M Voronoi cells."""
    return _system("voronoi")


def rectangles_again() -> float:
    """Products for the set-up of rectangles again."""
    return _system("even", again=True)


def columns_again() -> float:
    """Products for the set-up of Voronoi cells again."""
    return _system("voronoi", again=True)


def seasons() -> float:
    """100 000 cells, 120 months, a water table."""
    import seasons as months

    import inkhorn as ik

    ik.solve_flow(months.model(60, 2))
    model = months.model()
    return _took(lambda: ik.solve_flow(model))


def features() -> float:
    """10 000 features on 1 M cells."""
    import placing

    import inkhorn as ik

    made = placing.site(10_000)
    grid = ik.layered(ik.rectangles((0, 0, 1e5, 1e5), count=578), made.strata)
    ik.place(placing.site(40), ik.layered(ik.rectangles((0, 0, 1e5, 1e5), count=50), made.strata))
    return _took(lambda: ik.place(made, grid))


def _large(folder: Path) -> Path:
    """A site of 2 M cells in two layers, as a user writes it."""
    square = shapely.box(0.0, 0.0, 20_000.0, 20_000.0)
    shapes = {
        "boundary": square,
        "river": shapely.LineString([(0, 10_000), (9_000, 12_000), (20_000, 9_000)]),
    }
    shapes["well"] = shapely.Point(5_000, 5_000)
    for name, shape in shapes.items():
        feature = {"type": "Feature", "properties": {}, "geometry": shapely.geometry.mapping(shape)}
        (folder / f"{name}.geojson").write_text(
            json.dumps({"type": "FeatureCollection", "features": [feature]})
        )
    path = folder / "site.toml"
    path.write_text(
        """title = "Large"
[boundary]
file = "boundary.geojson"
[grid]
cell = "20 m"
[ground]
elevation = "30 m"
[[layer]]
name = "upper"
material = "sand"
base = { elevation = "10 m" }
[[layer]]
name = "lower"
material = "sand"
base = { elevation = "-20 m" }
[material.sand]
conductivity = "12 m/day"
[[river]]
name = "river"
file = "river.geojson"
stage = "26 m"
bed = "24 m"
width = "12 m"
bed_thickness = "0.5 m"
bed_conductivity = "0.4 m/day"
[[recharge]]
name = "rain"
file = "boundary.geojson"
rate = "0.3 mm/day"
[[well]]
name = "well"
file = "well.geojson"
screen_top = "0 m"
screen_bottom = "-15 m"
abstraction = "900 m³/day"
"""
    )
    return path


def _command(*arguments: str) -> float:
    command = [sys.executable, "-m", "inkhorn", *arguments]
    environment = {**os.environ, "INKHORN_MAX_MEMORY": "20GB"}
    return _took(lambda: subprocess.run(command, check=True, stdout=subprocess.DEVNULL, env=environment))


def check() -> float:
    """`inkhorn check` of 2 M cells."""
    with tempfile.TemporaryDirectory() as folder:
        return _command("check", str(_large(Path(folder))))


def run() -> float:
    """`inkhorn run` of 2 M cells: everything by command."""
    with tempfile.TemporaryDirectory() as folder:
        return _command("run", str(_large(Path(folder))))


def demo() -> float:
    """`inkhorn demo`, caches warm."""
    with tempfile.TemporaryDirectory() as folder:
        return _command("demo", str(Path(folder) / "quillmere"))


WORKS = {
    work.__name__: work
    for work in (
        steady_flow, rectangles, columns, rectangles_again, columns_again, seasons, features, check, run, demo
    )
}  # fmt: skip


def _measured(name: str, sources: Path) -> tuple[float, float]:
    """What a work says in a process of its own, and the most memory it or its commands took [GB]."""
    environment = {**os.environ, "PYTHONPATH": f"{sources}{os.pathsep}{_HERE}"}
    command = [sys.executable, str(Path(__file__)), "--work", name]
    said = subprocess.run(command, check=True, capture_output=True, text=True, env=environment).stdout
    found, memory = said.split()[-2:]
    return float(found), float(memory)


def triad() -> float:
    """What the machine streams, ``a = b + s c`` [GB/s]."""
    one, other, out = (np.ones(20_000_000) for _ in range(3))
    taken = min(_took(lambda: np.add(one, np.multiply(other, 3.0, out=out), out=out)) for _ in range(5))
    return 5 * 8 * len(one) / taken / 1e9


def main() -> None:
    """Measure by turns."""
    if sys.argv[1:2] == ["--work"]:
        found = WORKS[sys.argv[2]]()
        most = max(
            resource.getrusage(who).ru_maxrss for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)
        )
        print(found, most / 1e6)
        return
    print(f"triad {triad():.1f} GB/s; works: {', '.join(WORKS)}")
    if len(sys.argv) < 2:
        return
    sources = {"these": _HERE.parent / "src", "others": Path(sys.argv[1]).resolve()}
    for name in sys.argv[2:] or WORKS:
        taken: dict[str, list[tuple[float, float]]] = {whose: [] for whose in sources}
        for path in sources.values():
            _measured(name, path)  # what is compiled is kept
        for _ in range(TIMES):
            for whose, path in sources.items():
                taken[whose].append(_measured(name, path))
        found, memory = (
            {whose: statistics.median(one[k] for one in all_) for whose, all_ in taken.items()}
            for k in (0, 1)
        )
        print(
            f"{name}: {found['these']:.3g} against {found['others']:.3g}, {found['these'] / found['others']:.2f} of it; "
            f"{memory['these']:.2f} GB against {memory['others']:.2f} ({WORKS[name].__doc__})",
            flush=True,
        )


if __name__ == "__main__":
    main()
