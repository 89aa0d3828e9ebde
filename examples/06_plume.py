"""
A plume
=======

A spill that sorbs and decays on its way to a well: when does it arrive, how much, and where is the rest?
"""

import shapely
from matplotlib.figure import Figure

import inkhorn as ik

# %%
# A slope of ground water in sand, and a well downstream of an old yard.

outline = shapely.box(0, 0, 1000, 500)
yard = shapely.box(150, 215, 190, 265)
features = (
    ik.FixedHead(name="upstream", shape=shapely.LineString([(0, 0), (0, 500)]), head=15.0),
    ik.FixedHead(name="downstream", shape=shapely.LineString([(1000, 0), (1000, 500)]), head=11.0),
    ik.Recharge(name="yard", shape=yard, rate="400 mm/year", concentration={"solvent": "900 g/m³"}),
    ik.Well(name="garden", x=700.0, y=260.0, screen_top=8.0, screen_bottom=1.0, abstraction=60.0),
)
solvent = ik.Species(
    "solvent",
    unit="mg/l",
    background=0.0,
    limit="0.5 mg/l",
    half_life="8 years",
    sorption=ik.LinearSorption("0.1 l/kg"),
)
sand = ik.Material("sand", 14.0, vertical_ratio=5.0, porosity=0.28, bulk_density="1.7 kg/l")
strata = ik.Strata(ik.ConstantSurface(18.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
site = ik.Site(outline, strata, {"sand": sand}, features=features, species=(solvent,), name="The yard")
flow = ik.solve_flow(ik.place(site, ik.rectangles(outline, cell=20)))

# %%
# Thirty years. Steps are chosen so that fronts stay sharp and nothing becomes negative.

plume = ik.solve_transport(
    flow, solvent, duration="30 years", outputs=10, dispersion=ik.Dispersion(10.0, 1.0, 0.1)
)
print(plume, plume.budget().to_string(), plume.arrivals().to_string(), sep="\n")
garden = plume.at_well("garden")
print(f"at the garden's well up to {garden.max():.3g} g/m³, in the end {garden.iloc[-1]:.3g}")

figure = Figure(figsize=(12.8, 4.8), layout="constrained")
left, right = figure.subplots(1, 2, width_ratios=(1.4, 1.0))
ik.draw.plume(plume, ax=left)
ik.draw.breakthrough(plume, ["garden"], ax=right)
figure.savefig("06_plume.png")
