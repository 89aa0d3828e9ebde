"""How long it takes to place 10 000 features on a million cells: ``python benchmarks/placing.py``."""

from __future__ import annotations

import time

import numpy as np
import shapely

import inkhorn as ik


def site(count: int) -> ik.Site:
    """Rivers, drains, wells and recharge polygons strewn over a square of 100 km."""
    rng = np.random.default_rng(1)
    features = []
    for k, (x, y) in enumerate(rng.uniform(2000, 98000, (count, 2))):
        way = shapely.LineString(np.cumsum([[x, y], *rng.uniform(-600, 600, (3, 2))], axis=0))
        kind = k % 4
        if kind == 0:
            features.append(
                ik.River(
                    name=f"river {k}", shape=way, stage=(29.0, 28.0), bed=27.0, width=3.0, bed_thickness=0.5,
                    bed_conductivity=0.5,
                )
            )  # fmt: skip
        elif kind == 1:
            features.append(ik.Drain(name=f"drain {k}", shape=way, level=28.0, conductance=1.0))
        elif kind == 2:
            features.append(
                ik.Well(name=f"well {k}", x=x, y=y, screen_top=15.0, screen_bottom=2.0, abstraction=50.0)
            )
        else:
            features.append(ik.Recharge(name=f"rain {k}", shape=shapely.Point(x, y).buffer(400), rate=1e-3))
    layers = [
        ik.Layer(name, ik.ConstantSurface(base)) for name, base in (("a", 20.0), ("b", 10.0), ("c", 0.0))
    ]
    sand = ik.Material("sand", 5.0)
    return ik.Site(
        shapely.box(0, 0, 1e5, 1e5),
        ik.Strata(ik.ConstantSurface(30.0), tuple(layers)),
        dict.fromkeys("abc", sand),
        features=tuple(features),
    )


def main() -> None:
    """Print seconds."""
    made = site(10_000)
    grid = ik.layered(ik.rectangles((0, 0, 1e5, 1e5), count=578), made.strata)
    assert grid.n_cells > 1_000_000
    begun = time.perf_counter()
    model = ik.place(made, grid)
    taken = time.perf_counter() - begun
    entries = sum(len(t.cells) for t in model.terms)
    print(f"placing {len(made.features)} features on {grid.n_cells} cells: {taken:.1f} s, {entries} entries")


if __name__ == "__main__":
    main()
