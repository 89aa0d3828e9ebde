"""Files as practitioners keep them: spreadsheets of depths, other names of columns, units in headers, dates with dots."""

from __future__ import annotations

from dataclasses import replace

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest

import inkhorn as ik
from inkhorn.files.headers import split_header
from inkhorn.files.shapes import typed_shape
from tests.fenwold import EAST, NORTH, WAYS, Placed, ground, write_fenwold


@pytest.fixture
def fenwold(tmp_path):
    """A project of files that others made, none of them for this program."""
    write_fenwold(tmp_path)
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


def test_feet_of_coordinates_are_those_of_the_map(tmp_path):
    """Two millionths between feet are half a metre where a survey's coordinates begin far away."""
    write_fenwold(tmp_path)
    foot = 1200.0 / 3937.0
    for name, tables in (("area.shp", [None]), ("water.gpkg", ["rivers"]), ("landuse.geojson", [None])):
        for layer in tables:
            shapes = gpd.read_file(tmp_path / name, layer=layer)
            shapes = shapes.set_geometry(shapes.geometry.affine_transform([1 / foot, 0, 0, 1 / foot, 0, 0]))
            shapes = shapes.set_crs("EPSG:2263", allow_override=True)
            shapes.to_file(tmp_path / name, **({"layer": layer} if layer else {}))
    wells = pd.read_excel(tmp_path / "wells.xlsx")
    wells["E"], wells["N"] = wells["E"] / foot, wells["N"] / foot
    wells.rename(columns={"E": "E (ft)", "N": "N [ft]"}).to_excel(tmp_path / "wells.xlsx", index=False)
    path = tmp_path / "site.toml"
    text = path.read_text(encoding="utf-8")
    text = text[: text.index("[bores]")].replace('raster = "ground.tif"', 'elevation = "52 m"')
    text = (
        text[: text.index("[[layer]]")]
        + """
[[layer]]
name = "sand"
material = "sand"
base = { elevation = "8 m" }
"""
        + text[text.index("[material.sand]") :]
    )
    path.write_text(text, encoding="utf-8")
    found = {f.name: f for f in ik.read_project(path).site.features if isinstance(f, ik.Well)}
    npt.assert_allclose([found["PW1"].x, found["PW1"].y], [EAST + 1250.0, NORTH + 450.0], atol=1e-3)


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


# --- the same site, told otherwise ---------------------------------------------------------------------


def heads_of(folder, placed, grid=""):
    """Where cells lie on the site as it was drawn, by layer, their heads, and the levels in wells by name."""
    folder.mkdir(exist_ok=True)
    write_fenwold(folder, placed, seed=None if placed == STANDARD else 7)
    path = folder / "site.toml"
    text = path.read_text(encoding="utf-8").replace('cell = "100 m"', f'cell = "100 m"{grid}')
    path.write_text(text, encoding="utf-8")
    project = ik.read_project(path)
    flow = ik.solve_flow(ik.place(project.site, project.grid()), closure=1e-12)
    cells = flow.model.grid.cells
    there = np.round(placed.back(cells.x, cells.y), 2)
    order = np.lexsort((there[:, 1], there[:, 0], cells.layer))
    wells = flow.well_levels().set_index("well")["level [m]"].sort_index()
    return np.column_stack([cells.layer, there])[order], flow.steps[-1].heads[order], wells


STANDARD = Placed()


@pytest.mark.parametrize("grid", ["", '\nkind = "split"\nnear = [{ features = ["PW1"], size = "25 m" }]'])
@pytest.mark.parametrize("way", list(WAYS))
def test_heads_do_not_depend_on_where_a_site_lies_nor_on_the_order_of_rows(tmp_path, way, grid):
    """Moved, turned, mirrored, with the rows of every file in another order, every cell has the head it had."""
    place, heads, levels = heads_of(tmp_path / "one", STANDARD, grid)
    there, found, wells = heads_of(tmp_path / "other", Placed(way, 431_300.0, 5_612_700.0), grid)
    npt.assert_allclose(there, place, atol=0.02)
    npt.assert_allclose(found, heads, atol=2e-7)
    # on the finer grid a well stands at a corner: its level is that beside one of four cells
    npt.assert_allclose(wells, levels, atol=0.03 if grid else 2e-7)


@pytest.mark.parametrize("angle", [23.0, 61.0])
def test_a_grid_turned_with_its_site_has_the_same_heads(tmp_path, angle):
    """Turned by any angle, with rows along the same sides of the site."""
    turned = Placed()
    a = np.deg2rad(angle)
    turned.turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
    place, heads, levels = heads_of(tmp_path / "one", STANDARD)
    there, found, wells = heads_of(tmp_path / "other", turned, f"\nrotation = {angle}")
    was = dict(zip(map(tuple, place), heads, strict=True))
    moved = {
        cell: head for cell, head in zip(map(tuple, np.round(there, 1)), found, strict=True) if cell in was
    }
    assert len(moved) > 0.99 * len(was)  # of a cell whose centre lies on the boundary rounding decides
    npt.assert_allclose(list(moved.values()), [was[cell] for cell in moved], atol=0.02)  # rasters do not turn
    npt.assert_allclose(wells, levels, atol=0.02)


def test_wells_may_share_what_one_takes(tmp_path):
    """Two wells at one place with half the rate each draw down as much as one."""
    write_fenwold(tmp_path)
    project = ik.read_project(tmp_path / "site.toml")
    grid, site = project.grid(), project.site
    whole = ik.solve_flow(ik.place(site, grid), closure=1e-12)
    parted = [f for f in site.features if f.name != "PW1"]
    one = next(f for f in site.features if f.name == "PW1")
    parted += [replace(one, name=n, abstraction=0.5 * one.abstraction) for n in ("a", "b")]
    both = ik.solve_flow(ik.place(replace(site, features=tuple(parted)), grid), closure=1e-12)
    npt.assert_allclose(both.steps[-1].heads, whole.steps[-1].heads, atol=1e-7)


def test_what_two_rains_bring_is_what_one_of_both_does(tmp_path):
    write_fenwold(tmp_path)
    project = ik.read_project(tmp_path / "site.toml")
    grid, site = project.grid(), project.site
    more = [
        ik.Recharge(name="leak", shape=f.shape, rate=0.25 * f.rate) for f in site.features if f.name == "wood"
    ]
    other = [replace(f, rate=1.25 * f.rate) if f.name == "wood" else f for f in site.features]
    flows = [
        ik.solve_flow(ik.place(replace(site, features=tuple(features)), grid), closure=1e-12)
        for features in ([*site.features, *more], other)
    ]
    npt.assert_allclose(flows[0].steps[-1].heads, flows[1].steps[-1].heads, atol=1e-7)


@pytest.mark.parametrize(
    ("file", "was", "called", "message"),
    [
        (
            "boreholes.xlsx",
            "Base of sand (m bgl)",
            "Base of sand (m asl)",
            "holds elevations; expected depths",
        ),
        ("wells.xlsx", "to (m bgl)", "to (m a.s.l.)", "holds elevations; expected depths"),
        ("levels.csv", "Level", "Level (m below ground)", 'depths below the ground.*Call it "depth"'),
    ],
)
def test_numbers_that_count_the_other_way_are_refused(fenwold, refused, file, was, called, message):
    path, site = fenwold / file, fenwold / "site.toml"
    read = {".xlsx": pd.read_excel, ".csv": lambda p: pd.read_csv(p, sep=";", dtype=str)}[path.suffix]
    table = read(path).rename(columns={was: called})
    if path.suffix == ".csv":
        table.to_csv(path, sep=";", index=False)
    else:
        table.to_excel(path, index=False)
    text = site.read_text(encoding="utf-8")
    assert text.count(f'"{was}"') == 1
    site.write_text(text.replace(f'"{was}"', f'"{called}"'), encoding="utf-8")
    refused(site, message)


def test_attributes_that_hold_depths_are_no_elevations(fenwold, refused):
    shapes = gpd.read_file(fenwold / "water.gpkg", layer="rivers").rename(columns={"bed (dm)": "bed (m bgl)"})
    shapes.to_file(fenwold / "water.gpkg", layer="rivers")
    site = fenwold / "site.toml"
    site.write_text(site.read_text(encoding="utf-8").replace("bed (dm)", "bed (m bgl)"), encoding="utf-8")
    refused(site, r'"bed \(m bgl\)" holds depths by its name; expected elevations')
