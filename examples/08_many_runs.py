"""
How sure? Many runs
===================

Conductivity as a random field, rain by chance: how likely does a wetland fall below its level when a well pumps?
"""

import shapely
from matplotlib.figure import Figure

import inkhorn as ik

# %%

outline = shapely.box(0, 0, 1500, 1000)
features = (
    ik.FixedHead(name="lake", shape=shapely.LineString([(0, 0), (0, 1000)]), head=12.0),
    ik.Recharge(name="rain", shape=outline, rate="200 mm/year"),
    ik.Well(name="well", x=1000.0, y=400.0, screen_top=6.0, screen_bottom=1.0, abstraction=350.0),
)
strata = ik.Strata(ik.ConstantSurface(16.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
site = ik.Site(outline, strata, {"sand": ik.Material("sand", 12.0)}, features=features, name="Wetland")
model = ik.place(site, ik.rectangles(outline, cell=50))

# %%
# A field whose logarithm has a variance of 0.6 and lengths of 250 m along and 100 m across; rain known to 15 %.

lengths = ik.Variogram.of_lengths("exponential", 0.6, length=250.0)
varied = [
    ik.Varied(name="ln K", of="conductivity", value=ik.RandomField(variogram=lengths)),
    ik.Varied(name="rain", of="recharge.rate", value=ik.LogNormal(1.0, 0.15)),
]
watched = [ik.Watch(name="wetland", level_at=(1250, 700), layer="sand", limit=13.2)]
many = ik.vary(model, varied, watched, runs=60, workers=0)
print(many.statistics("wetland").to_string())

# %%
# The same by derivatives, from one flow: close as long as the answer is nearly linear.

print(ik.first_order(model, varied[1:], watched).to_string())
figure = Figure(figsize=(12.8, 5.4), layout="constrained")
ik.draw.watched(many, "wetland", figure)
figure.savefig("08_many_runs.png")
