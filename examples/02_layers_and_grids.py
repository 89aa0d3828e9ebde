"""
Layers and grids
================

Surfaces through boreholes, a layer that thins out, and three grids for the same ground.
"""

import numpy as np
import shapely
from matplotlib.figure import Figure

import inkhorn as ik

# %%
# What is known of the ground: boreholes that met the base of the sand, and of a clay that is not everywhere.

rng = np.random.default_rng(4)
x, y = rng.uniform(0.0, 1500.0, (2, 60))
sand_base = 14.0 - 0.003 * x + 0.8 * np.sin(y / 250.0)
clay = np.maximum(2.5 - 0.004 * np.hypot(x - 400.0, y - 900.0), 0.0)
surfaces = {
    "sand": ik.PointSurface(x, y, sand_base, method="natural"),
    "clay": ik.PointSurface(x, y, sand_base - clay, method="natural"),
    "gravel": ik.ConstantSurface(-5.0),
}
strata = ik.Strata(ik.ConstantSurface(22.0), tuple(ik.Layer(n, s) for n, s in surfaces.items()))

# %%
# The same ground on rectangles, on rectangles that are split in four towards a well, and on Voronoi cells around it.

outline = shapely.box(0, 0, 1500, 1200)
well = ik.Well(name="well", x=700.0, y=500.0, screen_top=2.0, screen_bottom=-4.0, abstraction=600.0)
meshes = {
    "rectangles": ik.rectangles(outline, cell=50),
    "split in four": ik.split_in_four(outline, cell=100, near=[([well], 12.5)]),
    "Voronoi": ik.voronoi(outline, cell=80, near=[([well], 10)]),
}
grids = {name: ik.layered(mesh, strata) for name, mesh in meshes.items()}
for name, grid in grids.items():
    print(name, grid, grid.table().to_string(index=False), sep="\n")

# %%
# Where the clay is absent, sand lies on gravel, and there is no cell between.

figure = Figure(figsize=(12.8, 4.6), layout="constrained")
for ax, (name, mesh) in zip(figure.subplots(1, 3), meshes.items(), strict=True):
    ik.draw.plan(mesh, ax=ax)
    ax.set_title(f"{name}: {mesh.n_cells} plan cells")
figure.savefig("02_layers_and_grids.png")
