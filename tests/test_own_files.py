"""Files as practitioners keep them: spreadsheets of depths, other names of columns, units in headers, dates with dots."""

from __future__ import annotations

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import rasterio
import shapely

import inkhorn as ik
from inkhorn.files.headers import split_header
from inkhorn.files.shapes import typed_shape

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


def on_map(*corners):
    return [(EAST + x, NORTH + y) for x, y in corners]


def ground(x):
    return 52.0 + 0.002 * x


@pytest.fixture
def fenwold(tmp_path):
    """A project of files that others made, none of them for this program."""
    area = shapely.Polygon(on_map(*CORNERS))
    gpd.GeoDataFrame({"ID": [1]}, geometry=[area], crs=CRS).to_file(tmp_path / "area.shp")
    rivers = [
        shapely.LineString(on_map((0, 650), (900, 700))),
        shapely.LineString(on_map((900, 700), (1500, 1600))),
    ]
    gpd.GeoDataFrame(
        {
            "river": ["Wold", "Beck"],
            "up [m asl]": [49.5, 51.0],
            "down [m asl]": [48.0, 49.5],
            "bed (dm)": [470.0, 485.0],
        },
        geometry=rivers,
        crs=CRS,
    ).to_file(tmp_path / "water.gpkg", layer="rivers")
    gpd.GeoDataFrame(
        {"use": ["field", "wood"], "new water (mm/year)": [200, 120]},
        geometry=[shapely.box(*on_map((-10, -10), (1000, 1700))[0], *on_map((1000, 1700))[0]),
                  shapely.box(*on_map((1000, -10))[0], *on_map((2400, 1700))[0])],
        crs=CRS,
    ).to_file(tmp_path / "landuse.geojson")  # fmt: skip
    x, y = -100 + 50.0 * (np.arange(52) + 0.5), np.ones((36, 1))
    for name, z in (("ground", ground(x) * y), ("thickness", (20.0 + 0.001 * x) * y)):
        with rasterio.open(
            tmp_path / f"{name}.tif", "w", driver="GTiff", width=52, height=36, count=1, dtype="float64", crs=CRS,
            transform=rasterio.transform.from_origin(EAST - 100, NORTH + 1700, 50, 50),
        ) as file:  # fmt: skip
            file.write(z, 1)
    places = np.array([(-100, -100), (2400, -100), (2400, 1700), (-100, 1700), (1100, 800)], dtype=float)
    pd.DataFrame(
        {"Name": list("ABCDE"), "Easting": EAST + places[:, 0], "Northing": NORTH + places[:, 1],
         "Base of sand (m bgl)": 9.0 + 0.001 * places[:, 0]}
    ).to_excel(tmp_path / "boreholes.xlsx", index=False)  # fmt: skip
    wells = {"Well": ["PW1", "PW2"], "E": [EAST + 1250, EAST + 1550], "N": [NORTH + 450, NORTH + 850]}
    wells |= {"Q (m3/h)": [12.5, 8.0], "from": [15, 16], "to (m bgl)": [24, 25]}
    pd.DataFrame(wells).to_excel(tmp_path / "wells.xlsx", index=False)
    bores = {"Bore": ["P1", "P2"], "E": [EAST + 450, EAST + 1850], "N": [NORTH + 950, NORTH + 250]}
    bores |= {"Top (m asl)": [46.5, 40.25], "Bottom (m asl)": [45.5, 38.25]}
    pd.DataFrame(bores).to_csv(tmp_path / "bores.csv", sep=";", decimal=",", index=False)
    levels = {"Bore": ["P1", "P1", "P2"], "Day": ["1.3.2024", "15.03.2024", "02.12.2024"]}
    pd.DataFrame(levels | {"Level": [50.12, 50.25, 51.5]}).to_csv(
        tmp_path / "levels.csv", sep=";", decimal=",", index=False
    )
    (tmp_path / "site.toml").write_text(PROJECT, encoding="utf-8")
    return tmp_path


def test_files_as_they_are_make_the_same_model_as_python_does(fenwold):
    found = ik.read_project(fenwold / "site.toml")
    site = found.site
    x = np.array([300.0, 1250.0, 1900.0])
    surfaces = [layer.base.at(EAST + x, np.full(3, NORTH + 500.0)) for layer in site.strata.layers]
    sand = ground(x) - 9.0 - 0.001 * x
    npt.assert_allclose(surfaces, [sand, sand - 20.0 - 0.001 * x], atol=1e-9)
    wells = {f.name: f for f in site.features if isinstance(f, ik.Well)}
    npt.assert_allclose([w.abstraction for w in wells.values()], [300.0, 192.0], rtol=1e-12)
    npt.assert_allclose(
        [wells["PW2"].screen_top, wells["PW2"].screen_bottom], ground(1550) - np.array([16.0, 25.0])
    )
    rivers = {f.name: f for f in site.features if isinstance(f, ik.River)}
    assert rivers["Beck"].stage == (51.0, 49.5)
    assert rivers["Beck"].bed == 48.5
    rain = {f.name: f.rate for f in site.features if isinstance(f, ik.Recharge)}
    npt.assert_allclose([rain["field"], rain["wood"]], [0.2 / 365.25, 0.12 / 365.25], rtol=1e-12)
    bores = {bore.name: bore for bore in site.bores}
    assert bores["P1"].dates.astype("datetime64[D]").astype(str).tolist() == ["2024-03-01", "2024-03-15"]
    assert (bores["P2"].screen_top, bores["P2"].levels.tolist()) == (40.25, [51.5])


def test_a_first_run_of_such_files_goes_through(fenwold, command):
    code, out, problem = command("run", fenwold / "site.toml")
    assert code == 0, problem
    assert "water budget closes" in out
    read = pd.read_csv(fenwold / "runs" / "run-001" / "levels.csv")
    assert set(read.iloc[:, 0]) == {"P1", "P2"}


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('base = { under = "ground", points', "base = { points", ["Base of sand", "depths below the ground", "under ="]),
        ("screen_top_depth = ", "screen_top_dpeth = ", ["line", "screen_top_dpeth", 'mean "screen_top_depth"']),
        ('screen_bottom_depth = "to', 'screen_bottom = "to', ["depths below the ground", '"screen_bottom_depth"']),
        ('name = "Well"', 'name = "Wells"', ["site.toml, line", "wells.xlsx", '"Wells"', 'Did you mean "Well"']),
        ('columns = { name = "Bore", x = "E", y = "N", screen_top = "Top (m asl)", screen_bottom = "Bottom (m asl)", ',
         'columns = { name = "Bore", x = "E", y = "N", ', ['no column "layer"', "screen_top and", "[bores]"]),
        ('under = "sand", raster', 'under = "sand", depth = "3 m", raster', ["raster", "leave out `depth`"]),
        ('under = "sand", raster', 'under = "clay", raster', ['no surface "clay"', "ground"]),
        ('bed = { column = "bed (dm)" }\n', "", ['"bed" is missing', "level of the bed", 'bed = ["']),
    ],
    ids=["depths for elevations", "a misspelt name", "depths for a screen", "no such column", "neither layer nor screen",
         "two depths", "an unknown surface", "what is missing, in words"],
)  # fmt: skip
def test_what_such_files_get_wrong_is_told_with_its_remedy(fenwold, command, old, new, message):
    path = fenwold / "site.toml"
    text = path.read_text(encoding="utf-8")
    assert text.count(old) == 1
    path.write_text(text.replace(old, new), encoding="utf-8")
    code, _, problem = command("check", path)
    assert code == 2
    assert all(words in problem for words in message), problem


@pytest.mark.parametrize(
    ("header", "name", "unit", "counts"),
    [
        ("Q (m3/h)", "Q", "m3/h", ""),
        (" sand base [ m ] ", "sand base", "m", ""),
        ("x", "x", "", ""),
        ("base (m bgl)", "base", "m", "depth"),
        ("base [m b.g.l.]", "base", "m", "depth"),
        ("top (ft below ground level)", "top", "ft", "depth"),
        ("top (mbgl)", "top", "m", "depth"),
        ("head (m a.s.l.)", "head", "m", "elevation"),
        ("head (mAOD)", "head", "m", "elevation"),
        ("sand (upper)", "sand (upper)", "", ""),
        ("c (mg/(l year))", "c", "mg/(l year)", ""),
        ("(m)", "(m)", "", ""),
    ],
)
def test_headers_say_units_and_from_where_numbers_count(header, name, unit, counts):
    assert split_header(header) == (name, unit, counts)


def test_brackets_that_hold_no_unit_are_told(fenwold, command):
    """Whoever wrote a unit that is not known learns in which the numbers were taken."""
    path = fenwold / "wells.xlsx"
    pd.read_excel(path).rename(columns={"Q (m3/h)": "Q (buckets)"}).to_excel(path, index=False)
    site = fenwold / "site.toml"
    site.write_text(site.read_text(encoding="utf-8").replace("Q (m3/h)", "Q (buckets)"), encoding="utf-8")
    code, told, _ = command("check", site)
    assert code == 0
    assert '"Q (buckets)" is a name without a unit; its numbers are taken in m^3/day' in told


def test_columns_that_differ_in_their_unit_alone_are_both_there(tmp_path):
    (tmp_path / "t.csv").write_text("name,depth (m),depth (ft)\na,3,10\n", encoding="utf-8")
    table = ik.read_table(tmp_path / "t.csv")
    assert table.numbers("depth (m)", "length") == [3.0]
    npt.assert_allclose(table.numbers("depth (ft)", "length"), [3.048])


def test_a_table_in_time_may_have_a_column_for_each_feature(fenwold):
    path, rain = fenwold / "site.toml", fenwold / "rain.csv"
    rain.write_text("Month,field [mm/day],wood [mm/day]\n2024-01,2,1\n2024-02,0.5,0.25\n", encoding="utf-8")
    text = path.read_text(encoding="utf-8").replace(
        'rate = { column = "new water (mm/year)" }', 'rate = { series = "rain.csv", time = "Month" }'
    )
    storage = 'specific_storage = "1e-5 1/m"\nspecific_yield = 0.2\nconductivity'
    text = text.replace("conductivity", storage).replace("bed_" + storage, "bed_conductivity")
    path.write_text(
        text + '[time]\nstart = 2024-01-01\nend = 2024-03-01\nevery = "month"\n', encoding="utf-8"
    )
    rates = {f.name: f.rate for f in ik.read_project(path).site.features if isinstance(f, ik.Recharge)}
    npt.assert_allclose(np.ravel(rates["field"].values), [2e-3, 5e-4])
    npt.assert_allclose(np.ravel(rates["wood"].values), [1e-3, 2.5e-4])


def test_shapes_may_be_typed(first_project, command):
    """A line and a well whose corners stand in the project file are those of the files."""
    before = ik.read_project(first_project / "site.toml").site
    path = first_project / "site.toml"
    stream = next(f for f in before.features if isinstance(f, ik.River))
    corners = [list(c) for c in stream.shape.coords]
    well = next(f for f in before.features if isinstance(f, ik.Well))
    text = path.read_text(encoding="utf-8").replace('file = "stream.geojson"', f"shape = {corners}")
    text += f"""
[[well]]
name = "typed"
shape = [[{well.x}, {well.y}]]
screen_top = {well.screen_top}
screen_bottom = {well.screen_bottom}
"""
    path.write_text(text, encoding="utf-8")
    after = {f.name: f for f in ik.read_project(path).site.features}
    assert after[stream.name].shape.equals(stream.shape)
    assert (after["typed"].x, after["typed"].y) == (well.x, well.y)
    path.write_text(
        text.replace(f"shape = [[{well.x}, {well.y}]]", "shape = [[1, 2], [3, 4]]"), encoding="utf-8"
    )
    code, _, problem = command("check", path)
    assert code == 2
    assert "the shape is a LineString; expected a Point" in problem


def test_typed_corners_are_closed_where_polygons_are_meant():
    area = ("Polygon",)
    assert typed_shape([(0, 0), (4, 0), (4, 3), (0, 0)], area, "here").area == 6.0
    assert typed_shape([(0, 0), (4, 0), (4, 3), (0, 0)], ("LineString",), "here").length == 12.0
    with pytest.raises(ik.InputError, match="end where they begin"):
        typed_shape([(0, 0), (4, 0), (4, 3)], area, "here")
    with pytest.raises(ik.InputError, match="not valid"):
        typed_shape([(0, 0), (4, 0), (0, 3), (4, 3), (0, 0)], area, "here")
