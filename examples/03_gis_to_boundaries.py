"""
From GIS files to boundaries
============================

Streams, a wood and a lake from a GeoPackage, their numbers in columns; placed on a grid, and what landed where.
"""

import geopandas as gpd
import shapely

import inkhorn as ik

# %%
# Files as a GIS leaves them. Here they are made first, so that the example runs by itself.

outline = shapely.box(0, 0, 2000, 1500)
streams = gpd.GeoDataFrame(
    {
        "name": ["north brook", "south brook"],
        "upper": [18.4, 17.2],
        "lower": [16.6, 16.4],
        "width": [2.0, 3.5],
    },
    geometry=[
        shapely.LineString([(50, 1300), (900, 1150), (1950, 1250)]),
        shapely.LineString([(60, 300), (1950, 250)]),
    ],
)
ponds = gpd.GeoDataFrame({"name": ["pond"], "level": [17.0]}, geometry=[shapely.Point(1400, 700).buffer(110)])
woods = gpd.GeoDataFrame(
    {"name": ["wood", "meadow"], "rain": [0.18, 0.31]},
    geometry=[shapely.box(0, 750, 2000, 1500), shapely.box(0, 0, 2000, 750)],
)
for name, layer in (("streams", streams), ("ponds", ponds), ("land", woods)):
    layer.set_crs("EPSG:25832").to_file("made_elsewhere.gpkg", layer=name)

# %%
# Each row becomes a feature. Numbers are plain (metres and days), or text with a unit.

read = {name: gpd.read_file("made_elsewhere.gpkg", layer=name) for name in ("streams", "ponds", "land")}
features = [
    ik.River(
        name=row["name"],
        shape=row.geometry,
        stage=(row["upper"], row["lower"]),
        bed=(row["upper"] - 0.8, row["lower"] - 0.8),
        width=row["width"],
        bed_thickness=0.4,
        bed_conductivity=0.6,
    )
    for _, row in read["streams"].iterrows()
]
features += [
    ik.FixedHead(name=r["name"], shape=r.geometry, head=r["level"]) for _, r in read["ponds"].iterrows()
]
features += [
    ik.Recharge(name=row["name"], shape=row.geometry, rate=f"{row['rain']} m/year")
    for _, row in read["land"].iterrows()
]
sand = ik.Material("sand", 12.0, vertical_ratio=5.0, porosity=0.25)
strata = ik.Strata(ik.ConstantSurface(21.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
site = ik.Site(outline, strata, {"sand": sand}, features=tuple(features), name="Two brooks", crs="EPSG:25832")

# %%
# Placing cuts every shape by the cells and says what landed where: how many cells, how long, how much fell outside.

model = ik.place(site, ik.rectangles(outline, cell=40))
print(model.placed[["feature", "kind", "cells", "total", "unit", "values", "note"]].to_string())
print(ik.check(model))
flow = ik.solve_flow(model)
print(flow.budget(by="feature").to_string())
ax = ik.draw.heads(flow, "sand")
ax.figure.savefig("03_gis_to_boundaries.png")
