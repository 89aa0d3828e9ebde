"""Fenwold: a made-up site in files that others made, none of them for this program; placed anywhere, turned, mirrored."""

from __future__ import annotations

from pathlib import Path

import geopandas as gpd
import numpy as np
import pandas as pd
import rasterio
import shapely
from shapely.affinity import affine_transform

CRS, EAST, NORTH = "EPSG:25832", 512_000.0, 5_870_000.0
CORNERS = [(0, 0), (2000, 0), (2300, 900), (1500, 1600), (100, 1300), (0, 0)]
PROJECT = """
title = "Fenwold"

[boundary]
file = "area.shp"

[grid]
cell = "100 m"

[ground]
raster = "ground.tif"

[[layer]]
name = "sand"
material = "sand"
base = { under = "ground", points = "boreholes.xlsx", x = "Easting", y = "Northing", z = "Base of sand (m bgl)" }

[[layer]]
name = "gravel"
material = "gravel"
base = { under = "sand", raster = "thickness.tif" }

[material.sand]
conductivity = "5 m/day"

[material.gravel]
conductivity = "4e-4 m/s"

[[river]]
name = { column = "river" }
file = "water.gpkg"
table = "rivers"
stage = { column = ["up [m asl]", "down [m asl]"] }
bed = { column = "bed (dm)" }
width = "4 m"
bed_thickness = "0.5 m"
bed_conductivity = "1 m/day"

[[recharge]]
name = { column = "use" }
file = "landuse.geojson"
rate = { column = "new water (mm/year)" }

[wells]
file = "wells.xlsx"
columns = { name = "Well", x = "E", y = "N", abstraction = "Q (m3/h)", screen_top_depth = "from", screen_bottom_depth = "to (m bgl)" }

[bores]
file = "bores.csv"
levels = "levels.csv"
columns = { name = "Bore", x = "E", y = "N", screen_top = "Top (m asl)", screen_bottom = "Bottom (m asl)", level = "Level", date = "Day" }
"""  # noqa: E501


WAYS = {  # how x and y of the site lie on the map: along both of its axes, before it is moved there
    "as drawn": ((1.0, 0.0), (0.0, 1.0)),
    "mirrored": ((-1.0, 0.0), (0.0, 1.0)),
    "turned by 90°": ((0.0, -1.0), (1.0, 0.0)),
    "turned by 180°": ((-1.0, 0.0), (0.0, -1.0)),
}


def ground(x):
    """Level of the ground, by x of the site [m]."""
    return 52.0 + 0.002 * x


class Placed:
    """Where the site lies on the map, and how."""

    def __init__(self, way: str = "as drawn", east: float = EAST, north: float = NORTH) -> None:
        self.turn, self.corner = np.array(WAYS[way]), np.array([east, north])

    def shape(self, shape):
        """A shape of the site, on the map."""
        return affine_transform(shape, [*self.turn.ravel(), *self.corner])

    def points(self, points):
        """Places of the site (n, 2), on the map."""
        return np.asarray(points, dtype=float) @ self.turn.T + self.corner

    def back(self, x, y):
        """Places of the map, on the site."""
        return (np.stack([x, y], axis=-1) - self.corner) @ self.turn


def write_fenwold(folder: Path, placed: Placed | None = None, seed: int | None = None) -> None:
    """Write the site's files and its project, rows in the order of a seed."""
    placed = placed or Placed()
    mixed = np.random.default_rng(seed)

    def rows(table):
        return table if seed is None else table.sample(frac=1.0, random_state=mixed.integers(1 << 30))

    def shapes(columns, found):
        return rows(gpd.GeoDataFrame(columns, geometry=[placed.shape(s) for s in found], crs=CRS))

    area = shapely.Polygon(CORNERS)
    shapes({"ID": [1]}, [area]).to_file(folder / "area.shp")
    rivers = [shapely.LineString([(0, 650), (900, 700)]), shapely.LineString([(900, 700), (1500, 1600)])]
    told = {"up [m asl]": [49.5, 51.0], "down [m asl]": [48.0, 49.5], "bed (dm)": [470.0, 485.0]}
    shapes({"river": ["Wold", "Beck"], **told}, rivers).to_file(folder / "water.gpkg", layer="rivers")
    land = [shapely.box(-10, -10, 1000, 1700), shapely.box(1000, -10, 2400, 1700)]
    shapes({"use": ["field", "wood"], "new water (mm/year)": [200, 120]}, land).to_file(
        folder / "landuse.geojson"
    )
    west, south, east, north = placed.shape(area.buffer(120)).bounds
    west, north = 50.0 * np.floor(west / 50.0), 50.0 * np.ceil(north / 50.0)
    width, height = int(np.ceil((east - west) / 50.0)), int(np.ceil((north - south) / 50.0))
    x, _ = np.moveaxis(
        placed.back(
            *np.meshgrid(west + 50.0 * (np.arange(width) + 0.5), north - 50.0 * (np.arange(height) + 0.5))
        ),
        -1,
        0,
    )
    for name, z in (("ground", ground(x)), ("thickness", 20.0 + 0.001 * x)):
        with rasterio.open(
            folder / f"{name}.tif", "w", driver="GTiff", width=width, height=height, count=1, dtype="float64", crs=CRS,
            transform=rasterio.transform.from_origin(west, north, 50, 50),
        ) as file:  # fmt: skip
            file.write(z, 1)
    holes = np.array([(-100, -100), (2400, -100), (2400, 1700), (-100, 1700), (1100, 800)], dtype=float)
    there = placed.points(holes)
    logs = {"Name": list("ABCDE"), "Easting": there[:, 0], "Northing": there[:, 1]}
    logs |= {"Base of sand (m bgl)": 9.0 + 0.001 * holes[:, 0]}
    rows(pd.DataFrame(logs)).to_excel(folder / "boreholes.xlsx", index=False)
    there = placed.points([(1250, 450), (1550, 850)])
    wells = {"Well": ["PW1", "PW2"], "E": there[:, 0], "N": there[:, 1], "Q (m3/h)": [12.5, 8.0]}
    wells |= {"from": [15, 16], "to (m bgl)": [24, 25]}
    rows(pd.DataFrame(wells)).to_excel(folder / "wells.xlsx", index=False)
    there = placed.points([(450, 950), (1850, 250)])
    bores = {"Bore": ["P1", "P2"], "E": there[:, 0], "N": there[:, 1]}
    bores |= {"Top (m asl)": [46.5, 40.25], "Bottom (m asl)": [45.5, 38.25]}
    rows(pd.DataFrame(bores)).to_csv(folder / "bores.csv", sep=";", decimal=",", index=False)
    levels = {
        "Bore": ["P1", "P1", "P2"],
        "Day": ["1.3.2024", "15.03.2024", "02.12.2024"],
        "Level": [50.12, 50.25, 51.5],
    }
    rows(pd.DataFrame(levels)).to_csv(folder / "levels.csv", sep=";", decimal=",", index=False)
    (folder / "site.toml").write_text(PROJECT, encoding="utf-8")
