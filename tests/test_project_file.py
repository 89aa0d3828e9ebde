"""Project files and the data they name: what is read, and what is refused with place and remedy."""

from __future__ import annotations

import json
import re
import runpy
import shutil
import warnings
from pathlib import Path

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pyproj
import pytest
import shapely
import shapely.affinity
import shapely.geometry
import xarray as xr
from PIL import Image
from scipy.special import erfc

import inkhorn as ik
from inkhorn.runs import compare_runs
from tests.conftest import tree

EMPTY = '{"type": "Polygon", "coordinates": []}'

# file, what stands there, what is put instead, what the message must say
BAD = {
    "missing file": ("site.toml", 'file = "wells.csv"', 'file = "well.csv"', ["well.csv", "site.toml, line {at}"]),
    "missing shape file": ("site.toml", "stream.geojson", "strm.geojson", ["strm.geojson", "no such file"]),
    "missing column": ("wells.csv", "screen_top", "screen_tp", ["wells.csv", "screen_top", "Did you mean"]),
    "no flow column": ("wells.csv", "abstraction [m³/h]", "pumping", ["wells.csv", "abstraction"]),
    "text in a number column": ("wells.csv", "620", "six hundred", ["wells.csv, line 2", '"x"', "six hundred"]),
    "empty cell": ("wells.csv", "well 1,620", "well 1,", ["wells.csv, line 2", '"x" is empty']),
    "unit of a column": ("wells.csv", "[m³/h]", "[mm]", ["wells.csv, line 1", "abstraction", "unit of flow"]),
    "negative abstraction": ("wells.csv", ",12", ",-12", ["wells.csv, line 2", "abstraction", "injection"]),
    "unknown key": (
        "site.toml",
        "conductivity = \"8 m/day\"",
        "conductivty = \"8 m/day\"",
        ["site.toml, line {at}", "material.sand", '"conductivty"', 'Did you mean "conductivity"'],
    ),
    "unknown table": ("site.toml", "[[river]]", "[[rivver]]", ["rivver", 'Did you mean "river"']),
    "missing key": ("site.toml", 'rate = "250 mm/year"\n', "", ["site.toml, line", "recharge", '"rate" is missing']),
    "half a bed": ("site.toml", 'bed_thickness = "0.5 m"\n', "", ["site.toml, line", "river", "bed_thickness"]),
    "length for a rate": (
        "site.toml", '"250 mm/year"', '"250 mm"', ["site.toml, line {at}, recharge.#1.rate", "unit of rate", "mm/year"],
    ),
    "number that is none": ("site.toml", '"100 m"', '"wide"', ["cell", "wide", "expected a number"]),
    "unknown unit": ("site.toml", 'time = "day"', 'time = "fortnightly"', ["units", "fortnightly", "not known"]),
    "list for text": ("site.toml", 'title = "A first model"', "title = [1]", ["title", "expected text"]),
    "surface of neither kind": ("site.toml", '{ elevation = "8 m" }', "{ }", ["layer.#1.base", "points", "elevation"]),
    "not TOML": ("site.toml", "[grid]", "[grid", ["site.toml is not TOML", "line {at}"]),
    "well outside": ("wells.csv", "620", "1620", ['well "well 1" (wells.csv, line 2)', "620 m outside the boundary"]),
    "layers upside down": ("site.toml", 'elevation = "20 m"', 'elevation = "-50 m"', ["layer", "upside down"]),
    "points upside down": (
        "site.toml",
        'elevation = "20 m"',
        'points = "points.csv"\nz = "ground"',
        ['layer "sand" is upside down: 4 of the 4 points'],
    ),
    "empty polygon": (
        "boundary.geojson",
        '{"type": "Polygon", "coordinates": [[[0, 0], [1000, 0], [1000, 1000], [0, 1000], [0, 0]]]}',
        EMPTY,
        ["boundary.geojson, row 1", "empty"],
    ),
    "polygon that crosses itself": (
        "boundary.geojson", "[1000, 0], [1000, 1000], [0, 1000]", "[1000, 1000], [1000, 0], [0, 1000]",
        ["boundary.geojson, row 1", "not valid"],
    ),
    "wrong geometry": ("site.toml", 'file = "stream.geojson"', 'file = "boundary.geojson"', ["Polygon", "LineString"]),
    "not a GIS file": ("stream.geojson", "{", "(", ["stream.geojson", "GIS file"]),
    "nothing fixes the level": (
        "site.toml", "[[river]]\nname = \"stream\"\nfile = \"stream.geojson\"", "[[drain]]\nname = \"x\"\nfile = \"y\"",
        ["level"],
    ),
    "stage below bed": ("site.toml", '["16.2 m"', '["19 m"', ['river "stream"', "below the bed"]),
    "unknown material": ("site.toml", 'material = "sand"', 'material = "snad"', ["line {at}", "snad", "gravel"]),
    "unknown layer of a bore": ("bores.csv", "B4,900,200,gravel", "B4,900,200,clay", ['bore "B4"', "clay"]),
    "levels of no bore": ("levels.csv", "B4,2024-09-01", "B9,2024-09-01", ["levels.csv, line 9", "B9", "bores.csv"]),
    "a date that is none": ("levels.csv", "B1,2024-09-01", "B1,1st of May", ["levels.csv, line 3", "1st of May"]),
    "two of a name": ("bores.csv", "B4,", "B3,1,1,sand\nB4,", ["bore names appear twice", "B3"]),
    "a well to trace that is none": ("site.toml", 'wells = ["well 1"]', 'wells = ["w"]', ["line {at}", '"w"', "well 1"]),
}  # fmt: skip


def spoil(folder, file, old, new):
    path = folder / file
    text = path.read_text(encoding="utf-8")
    assert old in text
    path.write_text(text.replace(old, new), encoding="utf-8")


def line_of(path, words) -> str:
    """The line of a text in a file; of its last line that says something, if it has several."""
    return str(path.read_text(encoding="utf-8").partition(words)[0].count("\n") + 1)


@pytest.mark.parametrize("case", BAD)
def test_bad_input_is_named_with_place_and_remedy(first_project, command, case):
    """One clear message, exit code 2, no traceback, and what was there before is untouched."""
    file, old, new, words = BAD[case]
    earlier = first_project / "runs" / "run-001"
    earlier.mkdir(parents=True)
    (earlier / "heads.nc").write_bytes(b"precious")
    if case == "points upside down":
        (first_project / "points.csv").write_text(
            "x,y,ground,base\n0,0,1,9\n1000,0,1,9\n0,1000,1,9\n1000,1000,1,9\n"
        )
        spoil(first_project, file, '{ elevation = "8 m" }', '{ points = "points.csv", z = "base" }')
    if case == "nothing fixes the level":
        text = (first_project / file).read_text(encoding="utf-8")
        (first_project / file).write_text(
            text[: text.index("[[river]]")] + text[text.index("[[recharge]]") :]
        )
    else:
        spoil(first_project, file, old, new)
    at = line_of(first_project / file, new or "[[river]]")
    before = tree(first_project)
    for verb in ("check", "run"):
        code, out, err = command(verb, first_project / "site.toml")
        said = err if verb == "run" or err else out
        assert code == 2, said
        assert all(word.replace("{at}", at) in " ".join(said.split()) for word in words), said
        assert "Traceback" not in out + err
        assert 1 <= len(err.splitlines()) <= 3 or verb == "check"
    assert tree(first_project) == before


def test_every_mistake_of_a_file_is_told_at_once(first_project, command):
    spoil(first_project, "site.toml", "porosity = 0.25", "porosty = 0.25")
    spoil(first_project, "site.toml", '"250 mm/year"', '"250 mm"')
    _, _, err = command("check", first_project / "site.toml")
    assert len(err.splitlines()) == 2


def test_a_project_that_is_not_there(tmp_path, command):
    code, _, err = command("run", tmp_path / "none.toml")
    assert code == 2
    assert "inkhorn new" in err


def test_numbers_without_units_are_in_those_of_the_file(first_project):
    spoil(first_project, "site.toml", 'length = "m"', 'length = "ft"')
    spoil(first_project, "site.toml", 'elevation = "20 m"', "elevation = 20")
    spoil(first_project, "bores.csv", "name,x,y,layer", "name,x [ft],y [ft],layer")
    site = ik.read_site(first_project / "site.toml")
    npt.assert_allclose(site.boundary.area, 304.8**2)  # shapes without a coordinate system too
    npt.assert_allclose(site.wells[0].x, 0.3048 * 620)
    npt.assert_allclose(site.strata.ground.at([0.0], [0.0]), 6.096)
    npt.assert_allclose(site.wells[0].abstraction, 288.0)
    npt.assert_allclose(site.bores[0].mean_level, 0.3048 * 16.77)


def test_tables_with_semicolons_and_units_in_cells(first_project):
    text = (
        (first_project / "wells.csv").read_text(encoding="utf-8").replace(",", ";").replace(";12", ";3 l/s")
    )
    (first_project / "wells.csv").write_text("\ufeff" + text + "\n\n", encoding="utf-8")
    (well,) = ik.read_site(first_project / "site.toml").wells
    npt.assert_allclose((well.x, well.abstraction), (620.0, 259.2))


def test_maps_in_feet_are_brought_to_metres_and_degrees_refused(first_project):
    """Shapes, tables and rasters alike: areas, places, and the coordinate system that results carry."""
    corner = np.array([987_000.0, 200_000.0])
    square = shapely.box(*corner, *(corner + 1000.0))
    line = shapely.LineString(corner + np.array([[110.0, 0.0], [120.0, 1000.0]]))
    for name, shape in (("boundary", square), ("stream", line)):
        gpd.GeoDataFrame({"name": [name]}, geometry=[shape], crs="EPSG:2263").to_file(
            first_project / f"{name}.gpkg"
        )
        spoil(first_project, "site.toml", f"{name}.geojson", f"{name}.gpkg")
    spoil(first_project, "site.toml", 'length = "m"', 'length = "ft"')
    for name in ("wells.csv", "bores.csv"):
        table = pd.read_csv(first_project / name)
        table[["x", "y"]] += corner
        table.to_csv(first_project / name, index=False)
    project = ik.read_project(first_project / "site.toml")
    site, foot = project.site, 1200 / 3937  # that of the survey, in which the map is
    npt.assert_allclose(site.boundary.area, (1000 * foot) ** 2, rtol=1e-9)
    npt.assert_allclose(site.boundary.bounds[:2], corner * foot, rtol=1e-12)
    npt.assert_allclose(
        site.wells[0].x, (corner[0] + 620) * foot, rtol=1e-12
    )  # as the map, though the file says "ft"
    assert pyproj.CRS(site.crs).axis_info[0].unit_name == "metre"
    lon, lat = pyproj.Transformer.from_crs(site.crs, "EPSG:4326").transform(*site.boundary.bounds[:2])
    npt.assert_allclose(
        (lon, lat), pyproj.Transformer.from_crs("EPSG:2263", "EPSG:4326").transform(*corner), rtol=1e-10
    )
    assert "brought from the unit of EPSG:2263 to metres" in [r["note"] for r in project.read]
    brook = gpd.GeoDataFrame({"name": ["stream"]}, geometry=[line], crs="EPSG:2263").to_crs("EPSG:4326")
    (first_project / "stream.gpkg").unlink()
    brook.to_file(first_project / "stream.gpkg")  # degrees beside a map are brought to it
    there = ik.read_site(first_project / "site.toml").feature("stream").shape
    npt.assert_allclose(np.array(there.coords), np.array(line.coords) * foot, atol=1e-3)
    for crs, name in ((None, "boundary"), ("EPSG:2263", "stream")):  # a map whose unit comes too late
        shape = square if name == "boundary" else line
        (first_project / f"{name}.gpkg").unlink()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)  # of a file without a coordinate system
            gpd.GeoDataFrame({"name": [name]}, geometry=[shape], crs=crs).to_file(
                first_project / f"{name}.gpkg"
            )
    with pytest.raises(ik.InputError, match=r"boundary.gpkg, read before it, states no coordinate system"):
        ik.read_site(first_project / "site.toml")
    degrees = gpd.GeoDataFrame({"name": ["b"]}, geometry=[square], crs="EPSG:2263").to_crs("EPSG:4326")
    (first_project / "boundary.gpkg").unlink()
    degrees.to_file(first_project / "boundary.gpkg")
    with pytest.raises(ik.InputError, match=r"coordinates are degrees.*such as EPSG:32618 near this place"):
        ik.read_site(first_project / "site.toml")


def test_other_coordinate_systems_are_brought_to_the_first(first_project):
    crs = '"crs": {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::%s"}}, "features"'
    for name in ("boundary.geojson", "stream.geojson"):  # into the middle of a zone
        file = json.loads((first_project / name).read_text())
        for feature in file["features"]:
            moved = shapely.affinity.translate(shapely.geometry.shape(feature["geometry"]), 5e5, 5.6e6)
            feature["geometry"] = shapely.geometry.mapping(moved)
        (first_project / name).write_text(json.dumps(file))
    for name in ("wells.csv", "bores.csv"):
        table = pd.read_csv(first_project / name)
        table[["x", "y"]] += [500_000, 5_600_000]
        table.to_csv(first_project / name, index=False)
    there = ik.read_site(first_project / "site.toml").feature("stream").shape
    spoil(first_project, "boundary.geojson", '"features"', crs % "32631")
    assert ik.read_site(first_project / "site.toml").crs == "EPSG:32631"
    frame = gpd.GeoDataFrame({"name": ["stream"]}, geometry=[there], crs="EPSG:32631").to_crs("EPSG:3035")
    text = frame.to_json(drop_id=True).replace('"features"', crs % "3035", 1)
    (first_project / "stream.geojson").write_text(text)
    project = ik.read_project(first_project / "site.toml")
    assert shapely.hausdorff_distance(project.site.feature("stream").shape, there) < 0.01
    assert [r["note"] for r in project.read if r["file"] == "stream.geojson"] == [
        "brought from EPSG:3035 to EPSG:32631, that of boundary.geojson"
    ]


def test_the_demo_reads_as_it_is_described(quillmere_folder):
    project = ik.read_project(quillmere_folder / "site.toml")
    site = project.site
    assert site.strata.names == ("peat", "sand", "lake clay", "gravel", "upper limestone", "lower limestone")
    assert [len([f for f in site.features if f.kind == k]) for k in ("fixed head", "river", "drain", "recharge")] == [
        1, 1, 4, 5,
    ]  # fmt: skip
    assert len(site.bores) == 36
    assert all(len(b.levels) == 131 for b in site.bores)
    npt.assert_allclose(site.feature("heath 1").rate, 0.36 / 365.25)
    assert [p.name for p in project.inputs.files][:3] == ["site.toml", "quillmere.gpkg", "strata.csv"]
    assert sum(p.stat().st_size for p in quillmere_folder.iterdir() if p.is_file()) < 3e6
    with pytest.raises(ik.InputError, match='no feature "lake"'):
        site.feature("lake")


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('table = "lake"', "", "has several tables.*Say which with `table`"),
        ('table = "lake"', 'table = "lakes"', 'no table "lakes".*Did you mean "lake"'),
        ('name = { column = "name" }', 'name = "ditch"', "holds 4 shapes, which cannot all be called"),
        (
            'level = { column = "level" }',
            'level = { column = "lvl" }',
            'no column "lvl".*Did you mean "level"',
        ),
        ('unit = "mm/year"', 'unit = "mm"', "land_use.*not a unit of rate"),
        ('{ chloride = "9000', '{ bromide = "9000', 'no species "bromide"'),
        ('concentration = { chloride = "14 mg/l" }', "concentration = 14", "expected species and numbers"),
        ('z = "peat base"', 'z = "peat_base"', 'no column "peat_base"'),
    ],
)
def test_what_gis_tables_and_columns_refuse(quillmere_folder, tmp_path, refused, old, new, message):
    folder = tmp_path / "q"
    shutil.copytree(quillmere_folder, folder, ignore=shutil.ignore_patterns("runs"))
    spoil(folder, "site.toml", old, new)
    refused(folder / "site.toml", message)


def test_surfaces_of_every_kind(first_project):
    """Points by every method, a raster, a depth, a share, bounds, a change within a polygon, parts."""
    import rasterio
    from rasterio.transform import from_origin

    elevations = np.linspace(20.0, 24.0, 12 * 11).reshape(12, 11).astype("float32")
    place = from_origin(-50.0, 1150.0, 100.0, 100.0)
    with rasterio.open(
        first_project / "dem.tif",
        "w",
        driver="GTiff",
        height=12,
        width=11,
        count=1,
        dtype="float32",
        transform=place,
    ) as file:
        file.write(elevations, 1)
    rows = [f"{x},{y},{10 + x / 500}" for x in (-10, 500, 1010) for y in (-10, 480, 1010)]
    (first_project / "base.csv").write_text("\n".join(["x,y,base [m]", *rows]), encoding="utf-8")
    spoil(first_project, "site.toml", '[ground]\nelevation = "20 m"', '[ground]\nraster = "dem.tif"')
    sand = """base = { points = "base.csv", z = "base", method = "kriging", variogram = { range = "2 km" } }
parts = [0.3, 0.7]
where_thin = "keep"
[[layer.change]]
file = "boundary.geojson"
base = { under = "ground", depth = "9 m" }
[[layer]]
name = "silt"
material = "sand"
base = { between = ["sand", "ground"], share = 0, never_above = "sand" }"""
    spoil(first_project, "site.toml", 'base = { elevation = "8 m" }', sand)
    spoil(first_project, "bores.csv", ",sand", ",sand 2")
    spoil(first_project, "site.toml", '["sand", "gravel"]', '["sand 1", "gravel"]')
    project = ik.read_project(first_project / "site.toml")
    strata = project.site.strata
    assert strata.names == ("sand 1", "sand 2", "silt", "gravel")
    levels = strata.at(np.array([500.0]), np.array([500.0]))
    # row 5 and 6 of the raster meet at y = 500; column 5 has its middle at x = 500
    ground = 0.5 * (elevations[6, 5] + elevations[5, 5]) if elevations.shape[0] % 2 else levels.top[0, 0]
    npt.assert_allclose(levels.top[0], ground)
    npt.assert_allclose(levels.top[0] - levels.bottom[:2].T, [[2.7, 9.0]])
    assert np.isnan(levels.top[2, 0])
    model = ik.place(project.site, project.mesh())
    assert model.grid.n_cells == 3 * 100
    assert first_project / "dem.tif" in project.inputs.files


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('{ elevation = "8 m" }', '{ raster = "none.tif" }', "none.tif.*no such file"),
        ('{ elevation = "8 m" }', '{ raster = "wells.csv" }', "cannot be read as a raster"),
        ('{ elevation = "8 m" }', '{ under = "gravl" }', 'no surface "gravl" above this one'),
        (
            '{ elevation = "8 m" }',
            '{ points = "wells.csv", method = "kriging" }',
            "kriging needs a variogram",
        ),
        (
            '{ elevation = "8 m" }',
            '{ points = "wells.csv", method = "spline" }',
            "expected 'linear', 'nearest'",
        ),
        ('{ elevation = "8 m" }', '{ elevation = 8, raster = "x" }', "made in one way"),
        (
            'base = { elevation = "8 m" }',
            'base = { elevation = "8 m" }\nparts = 0',
            r"line \d+.*cannot be cut into 0 parts",
        ),
        ('base = { elevation = "8 m" }', 'base = { elevation = "8 m" }\nparts = [1, -2]', "cannot be cut"),
        ('cell = "100 m"', 'cell = "100 m"\ncount = 3', "either `cell`"),
        ('cell = "100 m"', 'cell = "100 m"\nkeep = 2', "share of the area above 0"),
        ('["well 1"], size', '["well 9"], size', 'line 2[0-9]: there is no feature or bore "well 9"'),
    ],
)
def test_surfaces_and_grids_that_cannot_be(first_project, refused, old, new, message):
    spoil(first_project, "site.toml", old, new)
    refused(first_project / "site.toml", message)


def test_grids_are_chosen_by_name(first_project, command):
    project = ik.read_project(first_project / "site.toml")
    fine = project.mesh("fine")
    assert fine.area[fine.locate([620.0], [540.0])[0]] < 25.1
    code, out, _ = command("check", first_project / "site.toml", "--grid", "fine")
    assert code == 0
    assert repr(fine) in out
    code, _, err = command("run", first_project / "site.toml", "--grid", "fin")
    assert code == 2
    assert 'has no grid "fin"' in err
    assert 'Did you mean "fine"' in err
    assert command("run", first_project / "site.toml", "--grid", "fine")[0] == 0


def boxes(path, *rows):
    """A GeoJSON file of boxes with attributes."""
    frame = gpd.GeoDataFrame([r[1] for r in rows], geometry=[shapely.box(*r[0]) for r in rows])
    path.write_text(frame.to_json())


def test_every_kind_of_grid_and_its_holes(first_project, command):
    """Split in four with branching columns, made elsewhere, holes in the site and in a layer."""
    boxes(first_project / "cells.geojson", *[
        ((500 * i, 500 * j, 500 * i + 500, 500 * j + 500), {"base": 7.0 + i}) for i in (0, 1) for j in (0, 1)
    ])  # fmt: skip
    boxes(first_project / "hole.geojson", ((100, 100, 300, 300), {"use": "quarry"}))
    spoil(first_project, "site.toml", 'file = "boundary.geojson"\n\n[grid]', """file = "boundary.geojson"
holes = { file = "hole.geojson" }

[grids.split]
kind = "split"
cell = "100 m"
near = [{ kinds = ["well", "river"], size = "30 m" }]
left_out = ["stream"]
max_splits = { gravel = 1 }

[grids.elsewhere]
kind = "file"
file = "cells.geojson"

[grid]""")  # fmt: skip
    spoil(
        first_project,
        "site.toml",
        'base = { elevation = "8 m" }',
        'base = { polygons = "cells.geojson", z = "base" }\ntaken_out = { file = "hole.geojson" }',
    )
    project = ik.read_project(first_project / "site.toml")
    split = project.grid("split")
    assert split.mesh.splits[split.mesh.locate([620.0], [540.0])[0]] == 2
    assert split.mesh.area[split.mesh.locate([250.0], [950.0])[0]] == 1e4  # the stream is left out
    assert len(split.within_layer[1]) < len(split.within_layer[0])
    assert project.grid("elsewhere").n_cells == 7  # less one of sand
    assert sorted(set(project.grid("elsewhere").cells.bottom)) == [-5.0, 7.0, 8.0]
    assert project.grid().mesh.locate([200.0], [200.0])[0] == -1
    for grid in ("split", "elsewhere"):
        code, out, err = command("run", first_project / "site.toml", "--grid", grid)
        assert (code, err) == (0, ""), out
    code, out, _ = command("check", first_project / "site.toml", "--grid", "split")
    assert "against the boundary" in out


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('cell = "100 m"', 'kind = "split"\ncell = "100 m"\ngrowth = 2', "`growth` says nothing of split"),
        ('cell = "100 m"', 'kind = "file"', '"file" is missing'),
        ('cell = "100 m"', 'cell = "100 m"\nring = 2', "`ring` says nothing of rectangles"),
        ('cell = "100 m"', 'kind = "voronoi"\nsize = "100 m"', '"size" is not known here.*cell'),
        ('cell = "100 m"', 'cell = "100 m"\nnear = [{ size = 5 }]', "name `features`, `kinds`"),
        ('cell = "100 m"', 'cell = "100 m"\nleft_out = ["x"]', 'no feature or bore "x"'),
        (
            'cell = "100 m"',
            'kind = "split"\ncell = "100 m"\nmax_splits = { sad = 1 }',
            'there is no layer "sad"',
        ),
        (
            'file = "boundary.geojson"\n\n[grid]',
            'file = "boundary.geojson"\nholes = { file = "boundary.geojson" }\n\n[grid]',
            "falls into several parts, or nothing is left",
        ),
        ('{ elevation = "8 m" }', '{ points = "wells.csv", local = true }', r"\[local\].*origin"),
        ('{ elevation = "8 m" }', '{ points = "wells.csv", sheet = "a" }', "wells.csv.* has no sheets"),
    ],
)
def test_grids_and_points_that_cannot_be(first_project, refused, old, new, message):
    spoil(first_project, "site.toml", old, new)
    refused(first_project / "site.toml", message)


GRIDS = """
[grids.own]
kind = "file"
file = "cells.gpkg"
attribute = [
  { column = "kf", of = "horizontal_conductivity", layers = ["sand"] },
  { column = "bottom", of = "base", unit = "cm", layers = ["sand"] },
]
[grids.cells]
kind = "voronoi"
count = 700
least_angle = 30
near = [{ file = "fine.gpkg", size = "20 m" }, { kinds = ["well"], count = 12, within = "30 m" }]
layer_cell = { gravel = "120 m" }
[grids.banded]
cell = "50 m"
band = [{ axis = "x", start = 137, end = 260, size = "20 m" }]
layer_cell = { gravel = "100 m" }
"""


def with_grids(folder):
    """The project with cells made elsewhere, and with a patch and a line that are no features."""
    x, y = np.meshgrid(np.arange(0, 1000, 125.0), np.arange(0, 1000, 100.0))
    cells = [shapely.box(u, v, u + 125, v + 100) for u, v in zip(x.ravel(), y.ravel(), strict=True)]
    table = {"kf [m/s]": 1e-5 * (1 + x.ravel() / 500), "bottom": 800 + y.ravel() / 10, "who": "me"}
    fine = [shapely.box(200, 200, 400, 350), shapely.LineString([(600, 100), (900, 500)])]
    with warnings.catch_warnings(action="ignore"):  # they are in metres of their own
        gpd.GeoDataFrame(table, geometry=cells).to_file(folder / "cells.gpkg", layer="cells")
        gpd.GeoDataFrame(geometry=fine).to_file(folder / "fine.gpkg", layer="fine")
    with (folder / "site.toml").open("a", encoding="utf-8") as file:
        file.write(GRIDS)
    return ik.read_project(folder / "site.toml")


def test_a_grid_brings_its_attributes_as_properties(first_project, command):
    project = with_grids(first_project)
    site, grid = project.site_on("own"), project.grid("own")
    model = ik.place(site, grid)
    cells = model.grid.cells
    npt.assert_allclose(cells.bottom[:80], 8.0 + np.repeat(np.arange(10), 8) / 10)
    npt.assert_allclose(model.horizontal_conductivity[:80], 0.864 * (1 + np.tile(np.arange(8), 10) / 4))
    npt.assert_allclose(model.horizontal_conductivity[80:], 40.0)
    assert 'attribute "kf" of cells.gpkg' in model.placed["note"].str.cat()
    code, out, _ = command("check", first_project / "site.toml", "--grid", "own")
    said = " ".join(re.sub("[│|]", " ", out).split())
    assert code == 0
    assert "cells of a grid; taken over: kf, bottom; attributes not taken over: who" in said
    code, _, err = command("run", first_project / "site.toml", "--grid", "own")
    assert (code, err) == (0, "")
    heads = ik.open_run(first_project / "runs" / "run-own-001").flow.model.grid.cells.bottom
    npt.assert_array_equal(heads, cells.bottom)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('"kf", of', '"kx", of', 'cells.gpkg has no attribute "kx"; it has .*kf'),
        ('"kf", of', '"who", of', '"who" is me; expected a number .80 of 80'),
        ('"horizontal_conductivity", l', '"conductance", l', "is no property of cells"),
        ('unit = "cm"', 'unit = "day"', "cells.gpkg.*bottom.*unit"),
        ('unit = "cm"', 'unit = "km"', "an elevation lies between"),
        ('layers = ["sand"] },\n]', 'layers = ["snad"] },\n]', "snad"),
        (', size = "20 m" }', " }", "give either a `size`, or a `count`"),
        ('count = 12, ', '', "give either a `size`"),
        ("least_angle = 30", "least_angle = 55", "least_angle.*40"),
        ('gravel = "120 m"', 'grvel = "120 m"', 'no layer "grvel"'),
        ("count = 700", "count = 20", "20 cells are too few.*alone take"),
    ],
)  # fmt: skip
def test_settings_of_grids_that_cannot_be(first_project, refused, old, new, message):
    with_grids(first_project)
    spoil(first_project, "site.toml", old, new)
    refused(first_project / "site.toml", message, "--grid", "cells" if "count = 700" in old else "own")


def test_cells_are_small_where_a_file_says(first_project, command):
    project = with_grids(first_project)
    made = project.mesh("cells")
    assert abs(made.n_cells - 700) <= 70
    assert made.triangle_angles().min() >= 30
    size = np.sqrt(made.area)
    assert size[made.locate([300.0, 750.0], [275.0, 300.0])].max() < 30
    assert size[made.locate([620.0], [540.0])[0]] < 25
    assert len(project.site.features) == 3  # none was made of the patch
    banded = project.grid("banded")
    assert {137.0, 260.0} <= set(banded.mesh.x_edges.tolist())
    assert len(banded.within_layer[1]) < 0.5 * len(banded.within_layer[0])
    code, out, err = command("run", first_project / "site.toml", "--grid", "cells")
    assert (code, err) == (0, ""), out
    found = ik.read_mesh(
        first_project / "runs" / "run-cells-001" / "heads.nc"
    )  # polygons, as any UGRID reader sees them
    npt.assert_allclose(found.mesh.area, made.area)
    with xr.open_dataset(first_project / "runs" / "run-cells-001" / "heads.nc") as data:
        assert data["head"].dims == ("time", "layer", "plan")
        flow = ik.open_run(first_project / "runs" / "run-cells-001").flow
        npt.assert_array_equal(data["head"].to_numpy()[-1], flow.steps[-1].heads[flow.model.grid.cell_number])


def test_points_from_spreadsheets_text_and_local_coordinates(first_project, refused):
    """Chosen columns of a sheet in local coordinates turned by 90 degrees, and of a text file with blanks."""
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 1000, (2, 40))
    sheet = pd.DataFrame(
        {"along [km]": (y - 100) / 1e3, "across": -(x - 50), "depth": 0.0, "sand": 5 + 0.004 * x}
    )
    with pd.ExcelWriter(first_project / "points.xlsx") as book:
        pd.DataFrame({"a": ["about"]}).to_excel(book, sheet_name="read me", index=False)
        sheet.to_excel(book, sheet_name="bores", index=False)
    np.savetxt(
        first_project / "ground.txt", np.column_stack([x, y, 20 + 0.001 * y]), header="x y z", comments=""
    )
    spoil(
        first_project, "site.toml", "[boundary]", "[local]\norigin = [50, 100]\nrotation = 90\n\n[boundary]"
    )
    spoil(first_project, "site.toml", '[ground]\nelevation = "20 m"', '[ground]\npoints = "ground.txt"')
    spoil(
        first_project,
        "site.toml",
        '{ elevation = "8 m" }',
        '{ points = "points.xlsx", sheet = "bores", x = "along", y = "across", z = "sand", local = true }',
    )
    strata = ik.read_site(first_project / "site.toml").strata
    npt.assert_allclose(strata.ground.at([500.0], [400.0]), 20.4)
    npt.assert_allclose(strata.layers[0].base.at([500.0], [400.0]), 7.0)
    assert strata.layers[0].base.where(0) == 'points.xlsx, sheet "bores", row 2'
    spoil(first_project, "site.toml", 'sheet = "bores", ', "")
    refused(first_project / "site.toml", r"several sheets: \['read me', 'bores'\]. Say which")


def test_points_that_contradict_stand_out_or_lie_far_away_are_named(first_project, command, refused):
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(0, 1000, 6), np.linspace(0, 1000, 6)))
    z = 8 + 0.002 * x
    z[14] = -8.0  # a depth among elevations
    x, y, z = np.append(x, [200.0, 9e4]), np.append(y, [200.0, 0.0]), np.append(z, [8.4, 8.0])
    np.savetxt(
        first_project / "base.csv", np.column_stack([x, y, z]), delimiter=",", header="x,y,z", comments=""
    )
    spoil(
        first_project,
        "site.toml",
        '{ elevation = "8 m" }',
        '{ points = "base.csv", method = "inverse_distance" }',
    )
    code, out, _ = command("check", first_project / "site.toml")
    said = " ".join(out.split())
    assert code == 0
    findings = ik.check(
        ik.place(*(lambda p: (p.site, p.grid()))(ik.read_project(first_project / "site.toml")))
    )
    assert [f.where for f in findings if "stand out" in f.what] == ["base.csv, line 39; base.csv, line 16"]
    assert [f.where for f in findings if "lies far outside" in f.what] == ["base.csv, line 39"]
    assert "2 data points of the base" in said
    text = (first_project / "base.csv").read_text()
    (first_project / "base.csv").write_text(text + "200,200,9\n")
    refused(first_project / "site.toml", r"base.csv, line 40: the point x=200, y=200 has z 9 m, but 8.4 m in")


def test_pictures_before_solving(first_project, command, refused, tmp_path):
    """inkhorn draw: each kind, into a new file each time, with a site picture under the map."""
    Image.new("RGB", (50, 40), "#88aa66").save(first_project / "photo.png")
    (first_project / "photo.pgw").write_text("20\n0\n0\n-25\n10\n987.5\n")
    with (first_project / "site.toml").open("a", encoding="utf-8") as file:
        file.write('\n[draw]\npicture = "photo.png"\n[grids.cells]\nkind = "voronoi"\ncell = 200\n')
    site = first_project / "site.toml"
    picture = ik.read_site(site).picture
    assert (picture.dots.shape, picture.extent) == ((40, 50, 3), (0.0, 1000.0, 0.0, 1000.0))
    for words in (
        ("plan", "--grid", "fine"),
        ("plan", "--grid", "fine", "--grid", "fine", "--over"),
        ("plan", "--grid", "fine", "--grid", "fine"),
        ("section", "--row", "2"),
        ("section", "--column", "2", "--exaggeration", "5"),
        ("section", "--line", "0,0 900,800", "--out", tmp_path / "new" / "cut.png"),
        ("block", "--open", "0,0 500,500 1000,900"),
        ("surface", "sand"),
        ("quality", "--grid", "cells"),
    ):
        code, out, err = command("draw", words[0], site, *words[1:])
        assert (code, err) == (0, "")
        assert Path(out.removeprefix("Drawn in ").replace("\n", "")).stat().st_size > 8000
    assert len(list((first_project / "pictures").glob("plan-fine-fine*.png"))) == 2
    for words, message in (
        (("section", "--row", "99"), "there is no row 99; expected 0 to 9"),
        (("section", "--line", "0,0"), "expected two or more corners"),
        (("section", "--row", "1", "--column", "1"), "give one of"),
        (("block", "--open", "-900,-900 -900,2000"), "leaves nothing"),
        (("surface", "snad"), 'Did you mean "sand"'),
        (("quality", "--grid", "fine"), "is not made of Voronoi cells"),
    ):
        code, _, err = command("draw", words[0], site, *words[1:])
        assert code == 2
        assert message in err
    (first_project / "photo.pgw").unlink()
    refused(site, r"does not say where it lies\. Put a world file beside it")


VARIANT = """
use_grid = "fine"
leave_out = ["gallery"]

[material.sand]
conductivity = "9 m/day"

[[river]]
name = "stream"
width = "5 m"

[[drain]]
name = "new ditch"
file = "wall.geojson"
level = "14 m"
conductance = "1 m/day"
"""


def test_variants_say_only_what_differs(full_project, command):
    site = full_project / "site.toml"
    (full_project / "variants").mkdir()
    file = full_project / "variants" / "wide.toml"
    file.write_text(VARIANT)
    base, project = ik.read_project(site), ik.read_project(site, variant="wide")
    assert project.site.materials["sand"].conductivity == 9.0
    assert project.site.materials["sand"].porosity == base.site.materials["sand"].porosity
    assert project.site.feature("stream").width == 5.0
    assert {f.name for f in base.site.features} ^ {f.name for f in project.site.features} == {
        "gallery",
        "new ditch",
    }
    assert project.mesh().n_cells == base.mesh("fine").n_cells
    assert 'river "stream".width: 4 m -> 5 m' in project.changes
    assert 'one more drain "new ditch"' in project.changes
    code, out, _ = command("check", site, "--variant", "wide")
    assert code == 0
    assert "variant wide: material.sand.conductivity: 8 m/day -> 9 m/day" in out
    code, out, _ = command("check", site, "--variant", "wide", "--json")
    assert isinstance(json.loads(out), list)
    code, _, err = command("check", site, "--variant", "wid")
    assert code == 2
    assert 'Did you mean "wide"' in err
    file.write_text(VARIANT.replace("width", "widht").replace('"9 m/day"', '"9 m"'))
    code, _, err = command("check", site, "--variant", "wide")
    assert code == 2
    assert "variants/wide.toml, line 6, material.sand.conductivity" in err
    assert 'variants/wide.toml, line 10, river.#1: "widht" is not known here. Did you mean "width"' in err


@pytest.mark.slow
def test_a_run_through_time_leaves_levels_budgets_and_what_it_differs_in(full_project, command):
    site, runs = full_project / "site.toml", full_project / "runs"
    dips = pd.DataFrame(
        {"name": "B1", "date": ["2020-02-10", "2020-05-11", "2020-09-12"], "level": [16.9, 17.0, 16.8]}
    )
    dips.to_csv(full_project / "levels.csv", index=False)
    (full_project / "variants").mkdir()
    (full_project / "variants" / "less.toml").write_text('[[edit]]\nof = "well.rate"\nfactor = 0.5\n')
    for words in ((), ("--variant", "less")):
        code, out, err = command("run", site, *words)
        assert (code, err) == (0, ""), out
    with xr.open_dataset(runs / "run-001" / "heads.nc") as data:
        assert str(data.time.to_numpy()[0])[:10] == "2019-01-01"
        assert str(data.time.to_numpy()[-1])[:10] == "2021-01-01"
        assert data.time.attrs["bounds"] == "time_bounds"
        bounds = data.time_bounds.to_numpy()[1:]
    npt.assert_array_equal(bounds[1:, 0], bounds[:-1, 1])
    budget = pd.read_csv(runs / "run-001" / "budget_in_time.csv")
    assert budget["closing error [%]"].abs().max() < 1e-6
    assert set(budget["step"]) == set(range(budget["step"].max() + 1))
    levels = pd.read_csv(runs / "run-001" / "levels.csv")
    assert levels["date"].tolist() == ["2020-02-10", "2020-05-11", "2020-09-12"]
    assert (runs / "run-001" / "levels.png").stat().st_size > 8000
    periods = pd.read_csv(runs / "run-001" / "periods.csv")
    assert periods["kind"].tolist() == ["warm-up"] * 13 + [np.nan] * 12 or periods["kind"][13:].isna().all()
    code, out, _ = command("compare", runs / "run-001", runs / "run-less-001")
    assert code == 0
    assert "one more edit" in " ".join(out.split())
    alike = compare_runs([runs / "run-001", runs / "run-less-001"], line=[(0, 0), (600, 400)]).in_time
    both = [pd.read_csv(runs / name / "budget_in_time.csv") for name in ("run-001", "run-less-001")]
    begun = pd.Timestamp("2019-01-01")  # of the warm-up
    days = [b.loc[b["end [day]"] > b["begin [day]"], "end [day]"] for b in both]
    ends = [set((begun + pd.to_timedelta(d, "D")).dt.round("s")) for d in days]
    assert set(alike.index.get_level_values("end")) == ends[0] & ends[1]
    assert len(alike) > 50
    last = both[1][both[1]["step"] == both[1]["step"].max()].set_index("term")["out [m³/day]"]
    found = alike.xs(max(ends[1]), level="end").xs("out", level="direction")["run-less-001"]
    npt.assert_allclose(found[last.index], last)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("start = 2020-01-01\n", "", "need a `start` date"),
        ("end = 2021-01-01", "end = 2019-01-01", "ends on 2019-01-01.*not after its start"),
        ("end = 2021-01-01", 'end = 2021-01-01\nduration = "1 year"', "expected one of `end`, `duration`"),
        ("start = 2020-01-01", 'start = "spring"', 'start is "spring"; expected a date'),
        ('by = "who"', 'by = "whom"', 'has no column "whom"'),
        ("factor = 2", "factor = 2\nvalue = 3", r"an edit is one change; got \['value', 'factor'\]"),
        ('of = "horizontal_conductivity"', 'of = "permeability"', "there is no such value"),
        (
            'leakance = "1e-4 1/day"',
            'thickness = "1 m"',
            "either `leakance`, or `conductivity` and `thickness`",
        ),
        ('weather = "weather.csv"', 'wether = "weather.csv"', "a table with one of"),
    ],
)
def test_times_and_edits_that_cannot_be(full_project, refused, old, new, message):
    spoil(full_project, "site.toml", old, new)
    refused(full_project / "site.toml", message)


# file, what stands there, what is put instead, the exit code of `check`, and what it says
FOUND = {
    "a well on a fixed head": (
        "site.toml",
        "[[seepage]]\nname",
        '[[fixed_head]]\nname = "pond"\nfile = "boundary.geojson"\n'
        "head = 17\nevery_layer = true\n\n[[seepage]]\nname",
        2,
        'well "well 1" stands in a cell of fixed head.*Move the well',
    ),
    "a well above the layers": (
        "wells.csv",
        "7,-4",
        "70,60",
        2,
        'well "well 1" meets no cell.*screen elevations',
    ),
    "a screen below the layers": (
        "wells.csv",
        "7,-4",
        "-4,-9",
        0,
        '80% of well "well 1" lies outside the cells',
    ),
    "wells unlike each other": (
        "wells.csv",
        "well 1,",
        "a,10,10,7,-4,1\nb,90,10,7,-4,1\nc,10,90,7,-4,9000\nwell 1,",
        0,
        'rate of well "c" is .* times that of the others.*Check its unit',
    ),
    "a bed below its cell": (
        "site.toml",
        'bed = ["16.2 m", "15.2 m"]',
        'bed = ["6 m", "5 m"]\nlayer = "sand"',
        0,
        "below the bottom of",
    ),
    "a drain below its layer": ("site.toml", 'level = "15 m"', 'level = "5 m"\nlayer = "sand"', 0, "below"),
    "a conductivity of another unit": (
        "site.toml",
        '"40 m/day"',
        '"40 m/s"',
        0,
        "horizontal_conductivity is suspiciously high",
    ),
    "no conductivity at all": (
        "site.toml",
        '"40 m/day"',
        '"0 m/day"',
        2,
        "conductivity is 0 m/day; expected a finite value > 0",
    ),
    "a negative one": ("site.toml", '"40 m/day"', '"-4 m/day"', 2, "conductivity is -4"),
    "no storage": (
        "site.toml",
        'specific_storage = "1e-5 1/m"\n',
        "",
        2,
        "flow in time needs the specific_storage of",
    ),
    "a series too short": (
        "stages.csv",
        "2020-01-01,",
        "2020-01-05,",
        2,
        "upper, lower of stages.csv begins 4 days after it is needed",
    ),
    "days of rain that are missing": (
        "weather.csv",
        "2020-03-01,",
        "2020-03-02,",
        2,
        r"weather.csv.*2020-03-02",
    ),
    "dates out of order": (
        "rates.csv",
        "2020-04-01",
        "2019-04-01",
        2,
        "rates.csv, line 3: .* does not come after .*Sort the rows",
    ),
    "a feature outside": (
        "spring.geojson",
        "700.0, 700.0",
        "7000.0, 700.0",
        0,
        'spring "spring" meets no cell.*Check its place',
    ),
    "a name given twice": (
        "site.toml",
        'name = "trees"',
        'name = "rain"',
        2,
        "row 1.: there is another feature of that name",
    ),
    "no number in an attribute": (
        "site.toml",
        'level = "15 m"',
        'level = "15 m"\nconductance = "1 m²/day"\n\n'
        '[[spring]]\nname = "d"\nfile = "spring.geojson"\nlevel = { column = "c" }',
        2,
        'spring.geojson, row 1.*"c" is empty',
    ),
    "a bore of no cell": ("bores.csv", "B1,300,800", "B1,-300,800", 0, 'bore "B1" meets no cell'),
    "elevations that leave nothing": (
        "site.toml",
        'of = "horizontal_conductivity"\nfactor = 2',
        'of = "base"\nvalue = "30 m"',
        2,
        'edit of base .site.toml, line .*"sand" is upside down',
    ),
}


@pytest.mark.parametrize("case", FOUND)
def test_the_check_says_what_is_wrong_with_a_site(full_project, command, case):
    file, old, new, code, words = FOUND[case]
    spoil(full_project, "spring.geojson", '"properties": {}', '"properties": {"c": null}')
    spoil(full_project, file, old, new)
    found, out, err = command("check", full_project / "site.toml")
    said = " ".join(re.sub("[│|]", " ", err or out).split())
    assert found == code, said
    assert re.search(words, said), said


def test_the_reference_is_made_of_the_models():
    """docs/project-file.md and its schema are what `python docs/make_reference.py` writes."""
    docs = Path(__file__).parent.parent / "docs"
    made = runpy.run_path(str(docs / "make_reference.py"))
    assert (docs / "project-file.md").read_text(encoding="utf-8") == made["page"]()
    assert (docs / "run-folder.md").read_text(encoding="utf-8") == made["run_page"]()
    assert json.loads((docs / "project-file.schema.json").read_text(encoding="utf-8")) == made["schema"]()


def test_depths_below_ground_and_below_measuring_points(first_project):
    wells = pd.read_csv(first_project / "wells.csv").rename(
        columns={"screen_top [m]": "screen_top_depth [m]", "screen_bottom [m]": "screen_bottom_depth [m]"}
    )
    wells[["screen_top_depth [m]", "screen_bottom_depth [m]"]] = [13.0, 24.0]
    wells.to_csv(first_project / "wells.csv", index=False)
    bores = pd.read_csv(first_project / "bores.csv").assign(measuring_point=20.5)
    bores.to_csv(first_project / "bores.csv", index=False)
    dips = pd.read_csv(first_project / "levels.csv")
    there = ik.read_site(first_project / "site.toml").bores[0].levels if "level" in dips else None
    dips["depth"] = 20.5 - dips["level"]
    dips.drop(columns="level").to_csv(first_project / "levels.csv", index=False)
    site = ik.read_site(first_project / "site.toml")
    assert (site.wells[0].screen_top, site.wells[0].screen_bottom) == (7.0, -4.0)
    npt.assert_allclose(site.bores[0].levels, there)


@pytest.mark.slow
def test_a_run_begins_from_heads_and_properties_come_from_places(full_project, command):
    """First heads and a conductivity of scattered points, in their own units; a river by its conductance."""
    points = np.array([(0.0, 0.0), (1000.0, 0.0), (0.0, 1000.0), (1000.0, 1000.0)])
    table = {"x": points[:, 0], "y": points[:, 1], "head": 17.0, "k [m/s]": 1e-4 * np.array([1, 2, 1, 2])}
    pd.DataFrame(table).to_csv(full_project / "points.csv", index=False)
    site = full_project / "site.toml"
    spoil(
        full_project,
        "site.toml",
        "steps = 2",
        'steps = 2\nsteady_first = false\ninitial_heads = { points = "points.csv", z = "head" }',
    )
    spoil(full_project, "site.toml", "warm_up_years = 1\n", "")
    spoil(full_project, "site.toml", "factor = 2\n", 'surface = { points = "points.csv", z = "k" }\n')
    spoil(full_project, "site.toml", "at = [[500, 500]]\n", "")
    text = site.read_text(encoding="utf-8")
    old = text[text.index("width =") : text.index("[[recharge]]")]
    site.write_text(text.replace(old, 'conductance = "8 m/day"\n\n'), encoding="utf-8")
    project = ik.read_project(site)
    model = ik.place(project.site, project.grid())
    sand = model.grid.cells.layer == 0
    npt.assert_allclose(model.horizontal_conductivity[sand], 8.64 * (1 + model.grid.cells.x[sand] / 1000))
    assert project.site.feature("stream").conductance == 8.0
    code, out, err = command("run", site)
    assert (code, err) == (0, ""), out
    assert not project.site.schedule.steady.any()
    spoil(
        full_project,
        "site.toml",
        'initial_heads = { points = "points.csv", z = "head" }',
        'initial_run = "runs/run-001"',
    )
    code, out, err = command("run", site)
    assert (code, err) == (0, "")
    with (
        xr.open_dataset(full_project / "runs" / "run-001" / "heads.nc") as one,
        xr.open_dataset(full_project / "runs" / "run-002" / "heads.nc") as other,
    ):
        assert not np.allclose(one["head"][0], other["head"][0], equal_nan=True)
    spoil(full_project, "site.toml", 'cell = "100 m"', 'cell = "50 m"')
    code, _, err = command("run", site)
    assert code == 2
    assert "Begin from a run on the same grid" in err


COLUMN = """
title = "Column"
[units]
length = "cm"
time = "minute"
concentration = "mg/l"
[boundary]
extent = [0, 0, 30, 2]
[grid]
count = [120, 1]
[ground]
elevation = 4
[[layer]]
name = "beads"
material = "beads"
base = { elevation = 0 }
least_thickness = 1
[material.beads]
conductivity = "3 cm/min"
porosity = 0.38
[[given_flow]]
name = "pump"
shape = [[0, 0], [0, 2]]
inflow = "2 cm³/min"
concentration = { dye = 100 }
[[fixed_head]]
name = "outlet"
shape = [[30, 0], [30, 2]]
head = 5
[[species]]
name = "dye"
background = 0
[transport]
species = "dye"
duration = "90 min"
dispersivity = "0.3 cm"
watch = ["outlet"]
[[paths]]
from_all_inflow = true
direction = "forward"
count = 4
max_time = "1 day"
"""


def test_a_column_in_the_laboratory(tmp_path, command):
    """No well, cells of millimetres, minutes: when its dye is through (Lapidus & Amundson 1952), and what is told."""
    site = tmp_path / "site.toml"
    site.write_text(COLUMN, encoding="utf-8")
    code, out, problem = command("run", site)
    assert (code, problem) == (0, "")
    assert "cells wide" not in out
    run = ik.open_run(tmp_path / "runs" / "run-001")
    pores = 0.38 * 4.0 * 2.0 * 30.0 / 2.0 / 1440.0  # days
    npt.assert_allclose(run.paths().ends["travel time [day]"], pores, rtol=1e-6)
    seen = run.transport().watched["outlet"]
    times = seen.index.to_numpy(dtype=float)
    t, peclet = times[times > 0] / pores, 30.0 / 0.3
    exact = 50.0 * erfc((1.0 - t) / np.sqrt(4.0 * t / peclet))
    exact += 50.0 * np.exp(peclet) * erfc((1.0 + t) / np.sqrt(4.0 * t / peclet))
    npt.assert_allclose(seen[times > 0], exact, atol=2.0)
    code, _, problem = command("run", change_of(site, "least_thickness = 1\n", ""))
    assert code == 2
    assert '"beads" is at most 0.04 m thick where 0.1 m count as thin' in problem


def change_of(path, before, after):
    """Change words of a file."""
    text = path.read_text(encoding="utf-8")
    assert before in text
    path.write_text(text.replace(before, after), encoding="utf-8")
    return path
