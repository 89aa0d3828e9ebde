"""
Paths, and an area to be protected
==================================

Where a well's water comes from, how old it is, and within which area it arrives in fifty days and in ten years.
"""

import shapely

import inkhorn as ik

# %%
# Sand over gravel between a lake and a stream; rain; a well in the gravel.

outline = shapely.box(0, 0, 2400, 1800)
features = (
    ik.FixedHead(name="lake", shape=shapely.LineString([(0, 0), (0, 1800)]), head=22.0),
    ik.River(
        name="stream",
        shape=shapely.LineString([(2300, 0), (2200, 900), (2320, 1800)]),
        stage=18.0,
        bed=17.0,
        conductance=8.0,
    ),
    ik.Recharge(name="rain", shape=outline, rate="220 mm/year"),
    ik.Well(
        name="waterworks", x=1430.0, y=860.0, screen_top=4.0, screen_bottom=-4.0, abstraction="1800 m³/day"
    ),
)
strata = ik.Strata(
    ik.ConstantSurface(26.0),
    (ik.Layer("sand", ik.ConstantSurface(8.0)), ik.Layer("gravel", ik.ConstantSurface(-6.0))),
)
ground = {
    "sand": ik.Material("sand", 10.0, vertical_ratio=8.0, porosity=0.25),
    "gravel": ik.Material("gravel", 60.0, vertical_ratio=4.0, porosity=0.2),
}
site = ik.Site(outline, strata, ground, features=features, name="Waterworks", crs="EPSG:25832")
mesh = ik.voronoi(outline, cell=90, near=[(site.wells, 12)])
flow = ik.solve_flow(ik.place(site, mesh))

# %%
# Particles go back from the screen; each stands for the same share of the well's water.

paths = ik.trace(flow, ["waterworks"], backward=True, per_well=300, mark="5 years")
print(paths, paths.shares().to_string(), paths.ages(["50 days", "10 years"]).to_string(), sep="\n")

# %%
# Zones hold all water that arrives within a time. They are a table of polygons, to be saved for a GIS.

zones = paths.zones(["50 days", "1 year", "10 years"])
print(zones[["time [day]", "area [m²]"]].to_string())
zones.to_file("protection.gpkg")
ax = ik.draw.zones(paths, [50.0, 365.25, 3652.5])
ax.figure.savefig("05_paths_and_protection.png")
