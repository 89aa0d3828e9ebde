"""
Conduits in karst
=================

A passage through limestone gathers water and gives it to a spring; how much through the pipe, how much through its wall?
"""

import shapely
from matplotlib.figure import Figure

import inkhorn as ik

# %%

outline = shapely.box(0, 0, 2000, 1000)
features = (
    ik.Recharge(name="rain", shape=outline, rate="350 mm/year"),
    ik.FixedHead(name="valley", shape=shapely.LineString([(0, 0), (0, 1000)]), head=20.0),
    ik.Conduit(
        name="passage",
        shape=shapely.LineString([(1800, 600), (1100, 520), (300, 480)]),
        elevation=(24.0, 20.5),
        diameter=0.6,
        roughness=0.02,
        exchange=0.4,
    ),
    ik.ConduitSpring(name="spring", shape=shapely.Point(300, 480), level=21.0),
)
limestone = ik.Material("limestone", 1.5, vertical_ratio=2.0, porosity=0.02)
strata = ik.Strata(ik.ConstantSurface(60.0), (ik.Layer("limestone", ik.ConstantSurface(-10.0)),))
site = ik.Site(outline, strata, {"limestone": limestone}, features=features, name="A passage")
flow = ik.solve_flow(ik.place(site, ik.rectangles(outline, cell=50)))
print(
    flow.budget().to_string(), flow.conduit_budget().to_string(), flow.conduits().head().to_string(), sep="\n"
)

figure = Figure(figsize=(12.8, 5.4), layout="constrained")
left, right = figure.subplots(1, 2)
ik.draw.conduits(flow, ax=left)
ik.draw.conduit_profile(flow, ax=right)
figure.savefig("10_conduits.png")
