"""
From the region to the site
===========================

A region on coarse cells, a part of it on fine ones, and whether both agree.
"""

import shapely
from matplotlib.figure import Figure

import inkhorn as ik

# %%

outline = shapely.box(0, 0, 6000, 4000)
features = (
    ik.FixedHead(name="river", shape=shapely.LineString([(0, 0), (0, 4000)]), head=20.0),
    ik.Recharge(name="rain", shape=outline, rate="200 mm/year"),
    ik.Drain(
        name="ditch", shape=shapely.LineString([(3300, 1500), (3900, 2300)]), level=22.4, conductance=3.0
    ),
)
strata = ik.Strata(ik.ConstantSurface(30.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
site = ik.Site(outline, strata, {"sand": ik.Material("sand", 25.0)}, features=features, name="Region")
region = ik.solve_flow(ik.place(site, ik.rectangles(outline, cell=200)))

# %%
# The part: cells of 20 m, with the region's heads, or nothing where its water flows along the rim.

part = shapely.box(2800, 1200, 4400, 2600)
cut = ik.cut(region, part, grid=ik.rectangles(part, cell=20))
local = ik.solve_flow(cut.model)
agreement = cut.agreement(local)
print(cut.rim().to_string(), agreement.heads.to_string(), sep="\n")

figure = Figure(figsize=(12.8, 5.2), layout="constrained")
left, right = figure.subplots(1, 2)
ik.draw.rim(cut, ax=left)
ik.draw.heads(local, "sand", ax=right)
figure.savefig("09_local_model.png")
