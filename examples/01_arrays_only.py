"""
Arrays only
===========

A confined layer with a slope, a well that takes and one that gives back.
"""

import numpy as np

import inkhorn as ik

mesh = ik.rectangles((0, 0, 1000, 600), cell=10)
grid = ik.layered(mesh, [0.0, -20.0], names=["sand"])
ends = np.flatnonzero((mesh.x < 10) | (mesh.x > 990))
slope = ik.terms.FixedHeadTerm(cells=ends, head=12.0 - 0.002 * mesh.x[ends])
wells = ik.terms.WellTerm(
    cells=mesh.locate([400, 600], [300, 300]),
    feature_names=("taking", "giving back"),
    feature_index=[0, 1],
    # 20 m of screen, radius 0.15 m
    connection=2 * np.pi * 20 / np.log(mesh.equivalent_radius([0, 0]) / 0.15),
    rate=[-500.0, 500.0],  # m³/day into the aquifer
)
confined = ik.WaterTable(confined=True)
flow = ik.solve_flow(ik.Model(grid, 8.0, porosity=0.25, terms=[slope, wells], water_table=confined))
print(flow.findings())
print(flow.budget(), flow.well_levels(), sep="\n\n")
ax = ik.draw.paths(ik.trace(flow, ["giving back"], mark=365.25, max_time=3652.5))
ax.figure.savefig("01_arrays_only.png")
