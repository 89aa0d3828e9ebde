"""How long grids take to make, beside SciPy's `Voronoi` in the same run: ``python benchmarks/meshes.py``.

Medians of three. Making a Voronoi mesh includes sizing, its cells and faces, and its quality.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

import numpy as np
import shapely
from scipy.spatial import Voronoi

import inkhorn as ik


def seconds(make: Callable[[], Any], runs: int = 3) -> tuple[float, Any]:
    """Median wall time of a call, and its last result."""
    times, made = [], None
    for _ in range(runs):
        begun = time.perf_counter()
        made = make()
        times.append(time.perf_counter() - begun)
    return statistics.median(times), made


def rectangular() -> Any:
    """1 M cells in three layers, with every face."""
    grid = ik.layered(ik.rectangles((0, 0, 57800, 57800), cell=100), [30.0, 20.0, 10.0, 0.0])
    return grid.n_cells, len(grid.faces)


def polygonal() -> Any:
    """100 000 Voronoi cells of 5 to 200 m: two holes, three lines, 50 wells."""
    pond = shapely.Point(6000, 6000).buffer(900).exterior
    quarry = shapely.box(17000, 13000, 19000, 15000).exterior
    outline = shapely.Polygon(shapely.box(0, 0, 26000, 22000).exterior, [pond, quarry])
    ways = (
        [(900, 19000), (11000, 13000), (24000, 20000)],
        [(400, 900), (13000, 4000), (25500, 1300)],
        [(10000, 5000), (15000, 11000)],
    )
    lines = [shapely.LineString(way) for way in ways]
    rng = np.random.default_rng(1)
    places = rng.uniform((200, 200), (25800, 21800), (80, 2))
    wells = [w for w in map(shapely.Point, places) if outline.contains(w)][:50]
    mesh = ik.voronoi(outline, cells=100_000, near=[(wells, 5.0), (lines, 25.0)])
    angles = mesh.triangle_angles()
    edges = mesh.edges()
    short = float((edges.length < 0.1 * edges.distance.sum(axis=1)).mean())
    size = np.sqrt(mesh.area)
    error = mesh.area.sum() / outline.area - 1
    return mesh, (
        f"{mesh.n_cells} cells of {size.min():.3g} to {size.max():.3g} m; smallest angle {angles.min():.1f}°, "
        f"short faces {short:.1e}, area off by {error:.0e}"
    )


def main() -> None:
    """Print seconds and ratios."""
    taken, (cells, faces) = seconds(rectangular)
    print(f"rectangles: {taken:.2f} s for {cells} cells and {faces} faces")
    taken, (mesh, words) = seconds(polygonal)
    reference, _ = seconds(lambda: Voronoi(mesh.centres))
    print(f"Voronoi: {taken:.1f} s, {taken / reference:.1f} × SciPy's Voronoi ({reference:.2f} s); {words}")


if __name__ == "__main__":
    main()
