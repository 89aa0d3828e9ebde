"""How long grids take to make and how much memory they hold: ``python benchmarks/meshes.py``.

Medians of three; Voronoi cells beside SciPy's `Voronoi` in the same run, including sizing, cells and
faces, and quality. Memory is that of everything the grid keeps, faces included.
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
    return grid, len(grid.faces)


def split() -> Any:
    """200 000 cells in two layers split in four near 50 wells and lines, columns branching, every face."""
    rng = np.random.default_rng(1)
    wells = [shapely.Point(*place) for place in rng.uniform(3000, 17000, (50, 2))]
    lines = [shapely.LineString(way) for way in rng.uniform(2000, 18000, (8, 4, 2))]
    outline = shapely.Point(10000, 10000).buffer(10000)
    mesh = ik.split_in_four(outline, cell=200, near=[(wells, 4.0), (lines, 6.5)])
    grid = ik.layered(mesh, [20.0, 10.0, 0.0], names=["upper", "lower"], max_splits={"lower": 3})
    return grid, len(grid.faces)


def held(thing: Any, seen: set[int]) -> int:
    """Bytes of all arrays that something keeps, each once."""
    if isinstance(thing, np.ndarray):
        fresh = id(thing) not in seen
        seen.add(id(thing))
        return thing.nbytes * fresh
    parts = (
        thing
        if isinstance(thing, (list, tuple))
        else vars(thing).values()
        if hasattr(thing, "__dict__")
        else ()
    )
    if id(thing) in seen or not parts:
        return 0
    seen.add(id(thing))
    return sum(held(part, seen) for part in parts)


def polygonal() -> Any:
    """100 000 Voronoi cells of 5 to 200 m: two holes, three lines, 50 wells on 2000 km²."""
    pond = shapely.Point(12000, 12000).buffer(1800).exterior
    quarry = shapely.box(34000, 26000, 38000, 30000).exterior
    outline = shapely.Polygon(shapely.box(0, 0, 50000, 42000).exterior, [pond, quarry])
    ways = (
        [(1800, 38000), (22000, 26000), (48000, 40000)],
        [(800, 1800), (26000, 8000), (49000, 2600)],
        [(20000, 10000), (30000, 22000)],
    )
    lines = [shapely.LineString(way) for way in ways]
    rng = np.random.default_rng(1)
    places = rng.uniform((400, 400), (49600, 41600), (80, 2))
    wells = [w for w in map(shapely.Point, places) if outline.contains(w)][:50]
    mesh = ik.voronoi(outline, count=100_000, near=[(wells, 5.0), (lines, 25.0)])
    angles = mesh.triangle_angles()
    edges = mesh.edges()
    short = float((edges.length < 0.1 * edges.distance.sum(axis=1)).mean())
    fixed = np.vstack([shapely.get_coordinates(wells), *(np.asarray(line.coords) for line in lines)])
    off = float(np.abs(mesh.centres[mesh.locate(*fixed.T)] - fixed).max())
    sharp = int((angles < 20).sum())
    size = np.sqrt(mesh.area)
    error = mesh.area.sum() / outline.area - 1
    return mesh, (
        f"{mesh.n_cells} cells of {size.min():.3g} to {size.max():.3g} m; smallest angle {angles.min():.1f}° "
        f"({sharp} below 20°), wells and corners off their centres by {off:.0e} m, short faces {short:.1e}, "
        f"area off by {error:.0e}"
    )


def main() -> None:
    """Print seconds and ratios."""
    for name, make in (("rectangles", rectangular), ("split in four", split)):
        taken, (grid, faces) = seconds(make)
        memory = held(grid, set()) / grid.n_cells
        print(f"{name}: {taken:.2f} s for {grid.n_cells} cells and {faces} faces, {memory:.0f} bytes a cell")
    taken, (mesh, words) = seconds(polygonal)
    reference, _ = seconds(lambda: Voronoi(mesh.centres))
    print(f"Voronoi: {taken:.1f} s, {taken / reference:.1f} × SciPy's Voronoi ({reference:.2f} s); {words}")


if __name__ == "__main__":
    main()
