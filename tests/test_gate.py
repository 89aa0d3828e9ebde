"""The gate of input: ranges, sizes, encodings, damaged files; and results in the units asked for."""

from __future__ import annotations

import io
import os
import re
import subprocess
import sys

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn import runs, sizes
from tests import hostile
from tests.conftest import held, strip

ADDED = (
    '[transport]\nspecies = "salt"\nduration = "10 years"\nstep_length = "1 year"\n'
    '[[species]]\nname = "salt"\nbackground = 0\n'
)
TIME = "[time]\nstart = 2021-01-01\nend = 2022-01-01\n"


def changed(folder, old, new):
    site = folder / "site.toml"
    text = site.read_text(encoding="utf-8")
    assert old in text
    site.write_text(text.replace(old, new, 1), encoding="utf-8")
    return site


IMPOSSIBLE = [
    ('"17 m", "16 m"', "-9999, -9999", "stage is -9999 m; an elevation lies between -9000 and 9000 m"),
    ('"8 m/day"', "1e20", r"line \d+, material.sand.conductivity: conductivity is 1e\+20 m/day"),
    ("porosity = 0.25", "porosity = 25", "porosity is 25; expected a share from 0 to 1"),
    (
        "vertical_ratio = 5",
        "vertical_ratio = 1e300",
        r"vertical_ratio is 1e\+300; expected between 0 and 1e\+09",
    ),
    ('cell = "100 m"', "cell = -5", r"grid.cell: is -5 m; expected more than 0 m"),
    ('mark = "2 years"', "mark = -3", r"paths.#1.mark: is -3 days; expected 0 or more days"),
    (
        "[fit]",
        ADDED.replace('"1 year"', "0") + "[fit]",
        "transport.#1.step_length: is 0 days; expected more than 0",
    ),
    (
        "[fit]",
        ADDED.replace("[[sp", "dispersivity = -20\n[[sp") + "[fit]",
        "dispersivity: is -20 m; expected 0 or more",
    ),
    ("[fit]", ADDED + "initial = -5\n[fit]", "initial is -5 g/m³; a concentration lies between 0"),
    ("[fit]", ADDED + '[[species]]\nname = "salt"\n[fit]', 'two are called "salt"'),
    (
        "[fit]",
        TIME.replace("2021-01-01", '"NaT"') + "[fit]",
        'start is "NaT"; expected a date as in 2021-05-31 or 31.5.2021',
    ),
    ("[fit]", TIME.replace("2021-01-01", '"today"') + "[fit]", 'start is "today"; expected a date'),
    ("[fit]", TIME.replace("2022-01-01", '"20240901"') + "[fit]", 'end is "20240901"; expected a date'),
    (
        "[fit]",
        TIME + "growth = 1e300\n[fit]",
        r"time.growth: is 1e\+300; expected 0.1 or more and 10 at the most",
    ),
    (
        "recharge = false",
        "recharge = false\nwidest_factor = 0.5",
        "widest_factor: is 0.5; expected more than 1",
    ),
    ('material = "gravel"', 'material = "gravel"\nparts = 0', 'layer "gravel" cannot be cut into 0'),
    (
        'material = "gravel"',
        f'material = "gravel"\nparts = {"9" * 400}',
        "parts.*has 400 digits; expected a whole number",
    ),
    ('elevation = "8 m"', 'elevation = "1683 km"', r"elevation is 1.683e\+06 m; an elevation lies between"),
]


@pytest.mark.parametrize(("old", "new", "message"), IMPOSSIBLE)
def test_what_cannot_be_is_refused_with_its_place(first_project, refused, old, new, message):
    refused(changed(first_project, old, new), message)


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("250 mm/year", "250 m/year", "rate of up to 0.684 m/day; usual are up to 0.1 m/day"),
        ('"17 m", "16 m"', '"1700 m", "1700 m"', "stage up to 1.68e+03 m above the ground"),
        (
            '"4 m"',
            '"100 km"',
            "(stream.geojson, row 1) is 1e+05 m; usual are 0.05 to 3000 m",
        ),
        ('"8 m/day"', '"8e5 m/day"', "conductivity is suspiciously high, 8e+05 m/day; usual are"),
        (
            "[fit]",
            ADDED.replace("[[sp", 'dispersivity = "20 km"\n[[sp') + "[fit]",
            "dispersivity is 20000 m; usual are",
        ),
        (
            "[fit]",
            TIME.replace("2021", "1021").replace("2022", "1022") + "[fit]",
            "usual are the years 1800 to 2200",
        ),
    ],
)
def test_what_seldom_is_is_told_with_the_usual_range(first_project, command, old, new, told):
    site = changed(first_project, old, new)
    _, out, err = command("check", site, "--json")
    assert told in out, out + err


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: ik.Material("m", 1e20), r"conductivity is 1e\+20 m/day; expected between 0 and 1e\+08"),
        (
            lambda: ik.Well(name="w", x=0, y=0, screen_top=1, screen_bottom=0, skin=-50),
            "skin is -50; expected between",
        ),
        (
            lambda: ik.Well(name="w", x=0, y=0, screen_top=1, screen_bottom=0, radius="100 km"),
            r"radius is 100000 m",
        ),
        (
            lambda: ik.Bore("b", 0, 0, "sand", dates=["2021-01-01"], levels=[-9999.0]),
            r"levels\[0\] is -9999 m",
        ),
        (
            lambda: ik.Bore("b", 0, 0, "sand", dates=["NaT"], levels=[1.0]),
            'dates.0. is "NaT"; expected a date',
        ),
        (lambda: ik.Schedule([1.0], start="today"), 'start is "today"'),
        (lambda: ik.Schedule([1.0], growth=1e300), r"growth of period 0 is 1e\+300; expected 0.1 to 10"),
        (
            lambda: ik.Spring(name="d", shape=shapely.Point(1e300, 0), level=1, conductance=1),
            "no place on a map",
        ),
        (lambda: ik.Model(strip(3), 1e20), r"horizontal_conductivity\[0\] is 1e\+20"),
        (lambda: ik.UnitChoice(["ft", "km"]), "two units of one kind"),
    ],
)
def test_python_refuses_the_same(make, message):
    with pytest.raises(ik.InputError, match=message):
        make()


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('cell = "100 m"', "cell = 1e-9", r"site.toml, \[grid\]: 1e\+12 cells along x would take about"),
        (
            'cell = "100 m"',
            'kind = "split"\ncell = "100 m"\nnear = [{ kinds = ["river"], size = 1e-7 }]',
            "of them already",
        ),
        ('cell = "100 m"', 'kind = "voronoi"\ncount = 1000000000', "Voronoi cells would take about"),
        (
            'cell = "100 m"',
            'cell = "100 m"\nband = [{ axis = "x", start = 1, end = 9, size = 1e-8 }]',
            "in bands would",
        ),
        (
            'material = "gravel"',
            'material = "gravel"\nparts = 1000000',
            "in 1000000 parts would take about 1,000,000 layers",
        ),
        (
            "[fit]",
            TIME.replace("2022", "9999") + 'every = "day"\n[fit]',
            r"a period every day .* 2,913,904 steps; the limit is 1,000,000",
        ),
        ("[fit]", TIME + "steps = 1000000000\n[fit]", r"the schedule would take about 1e\+09 steps"),
        ('mark = "2 years"', "per_well = 100000000", r"1e\+08 paths would take about 800 GB of memory"),
        (
            "[fit]",
            ADDED.replace('"1 year"', '"1 s"') + "[fit]",
            r"the transport would take about 3.16e\+08 steps",
        ),
    ],
)
def test_sizes_are_estimated_before_they_are_taken(first_project, refused, old, new, message):
    refused(changed(first_project, old, new), message)


def test_a_limit_is_moved_from_outside(monkeypatch):
    square = shapely.box(0, 0, 1000, 1000)
    monkeypatch.setenv("INKHORN_MAX_MEMORY", "1MB")
    with pytest.raises(ik.InputError, match="in the environment: INKHORN_MAX_MEMORY=1GB"):
        ik.rectangles(square, cell=10)
    monkeypatch.setenv("INKHORN_MAX_MEMORY", "1 GB")
    assert ik.rectangles(square, cell=10).n_cells == 10_000
    monkeypatch.setenv("INKHORN_MAX_MEMORY", "much")
    with pytest.raises(ik.InputError, match='INKHORN_MAX_MEMORY is "much"; expected a number, as in'):
        sizes.limit("memory")


def test_all_bad_rows_of_all_files_come_in_one_report(first_project, command):
    for file, old, new in (
        ("levels.csv", "2024-03-01", "1/3/2024"),
        ("levels.csv", "16.74", "n.a."),
        ("bores.csv", "B2,", "B2,x"),
        ("wells.csv", "620", "six"),
    ):
        path = first_project / file
        path.write_text(path.read_text(encoding="utf-8").replace(old, new), encoding="utf-8")
    changed(first_project, 'file = "stream.geojson"', 'file = "brook.geojson"')
    code, _, err = command("check", first_project / "site.toml")
    lines = err.splitlines()
    assert code == 2
    assert all(line.startswith("error: ") for line in lines)
    for words in (
        "brook.geojson",
        "wells.csv, line 2",
        "bores.csv, line 3",
        "levels.csv, line 2",
        "levels.csv, line 8",
        '"n.a."',
    ):
        assert any(words in line for line in lines), (words, err)


@pytest.mark.parametrize(
    ("data", "expected"),
    [
        (b"name;x\na;1,5\nb;-2,25e1\n", [1.5, -22.5]),
        (
            b"name;x\na;1,250\n",
            r'line 2: "x" is 1,250, of which the comma may be a decimal one or part thousands',
        ),
        ("\ufeffname,x\nä,2\n".encode(), [2.0]),
        ("name,x\nä,2\n".encode("latin-1"), r"line 2: the text is not in UTF-8; it may be Latin-1"),
        ("name,x\na,2\n".encode("utf-16"), "is in UTF-16. Save it as UTF-8"),
        (b"name,x\na," + b"9" * 200_000 + b"\n", r'line 2: "x" is .*expected a'),
        (b"name,x\na,1e300\n", r'line 2: "x" is 1e\+300 m; a length lies between'),
        (b'name,x\n"a,2\n', "has no rows|there are|cells"),
    ],
)
def test_tables_of_other_writers(tmp_path, data, expected):
    path = tmp_path / "t.csv"
    path.write_bytes(data)
    if isinstance(expected, list):
        table = ik.read_table(path)
        npt.assert_allclose(table.numbers("x", "length"), expected)
        assert (table.remarks == ['decimal commas in "x"']) == (b";" in data)
    else:
        with pytest.raises(ik.InputError, match=expected):
            ik.read_table(path).numbers("x", "length")


def test_a_geojson_in_another_encoding_is_named_and_one_with_a_mark_is_read(first_project, refused, command):
    path = first_project / "stream.geojson"
    text = path.read_text(encoding="utf-8")
    path.write_bytes(text.replace("stream", "Bäche").encode("latin-1"))
    refused(first_project / "site.toml", r'stream.geojson".*the text is not in UTF-8')
    path.write_bytes(b"\xef\xbb\xbf" + text.encode())
    assert command("check", first_project / "site.toml")[0] == 0


@pytest.mark.parametrize(
    ("rows", "message"),
    [
        ("20 20 20\n20 -9999 20\n20 20 20", r"dem.asc\[1, 1\] is -9999 m; an elevation lies between"),
        ("hello 20 20\n20 20 20\n20 20 20", 'dem.asc".*line 6: "hello" is no number'),
        ("20 20 20\n20 -9999 20\n20 20 20\n", None),
    ],
)
def test_a_raster_that_hides_a_hole_or_a_word(first_project, refused, command, rows, message):
    head = "ncols 3\nnrows 3\nxllcorner -10\nyllcorner -10\ncellsize 400\n"
    (first_project / "dem.asc").write_text(head + ("" if message else "NODATA_value -9999\n") + rows)
    site = changed(first_project, 'elevation = "20 m"', 'raster = "dem.asc"')
    if message:
        refused(site, message)
    else:
        assert command("check", site)[0] == 0  # where the file says so it is a hole, filled from around


def test_readings_and_values_in_time_are_counted(first_project, command):
    changed(
        first_project,
        '"250 mm/year"',
        '{ series = "rain.csv", column = "rate" }',
    )
    days = pd.date_range("2023-01-01", periods=30, freq="MS").strftime("%Y-%m-%d")
    (first_project / "rain.csv").write_text(
        "date,rate [mm/day]\n" + "\n".join(f"{d},0.7" for d in days) + "\n"
    )
    site = changed(first_project, "[fit]", "[time]\nstart = 2024-01-01\nend = 2024-06-01\n[fit]")
    out = command("check", site, "--json")[1]
    assert "4 of 8 readings are compared with heads (4 before or after the run, or in its warm-up)" in out
    assert (
        "of 30 values of rate of rain.csv 6 fall into the run; 12 end before it begins, 12 begin after it ends"
        in out
    )
    path = first_project / "levels.csv"
    path.write_text(path.read_text(encoding="utf-8").replace("16.74", "1674"), encoding="utf-8")
    out = command("check", site, "--json")[1]
    assert 'of bore \\"B2\\" lies far above the ground, up to 1654 m: 1674 m on 2024-03-01' in out


def test_wells_and_bores_from_points_and_rates_by_their_sign(first_project, command, refused):
    plain = ik.read_site(first_project / "site.toml")
    well = plain.wells[0]
    at = [shapely.Point(well.x, well.y)]
    row = {"name": [well.name], "screen_top": [7.0], "screen_bottom": [-4.0], "rate [m³/h]": [-12.0]}
    gpd.GeoDataFrame(row, geometry=at, crs="EPSG:25832").to_file(first_project / "wells.gpkg", layer="wells")
    spots = [shapely.Point(b.x, b.y) for b in plain.bores]
    names = {"name": [b.name for b in plain.bores], "layer": [b.layer for b in plain.bores]}
    gpd.GeoDataFrame(names, geometry=spots, crs="EPSG:25832").to_file(first_project / "bores.geojson")
    changed(first_project, 'file = "wells.csv"', 'file = "wells.gpkg"\nsheet = "wells"\nsigned_rate = "rate"')
    site = changed(first_project, 'file = "bores.csv"', 'file = "bores.geojson"')
    other = ik.read_site(site)
    npt.assert_allclose([other.wells[0].abstraction, other.wells[0].injection], [well.abstraction, 0.0])
    assert [(b.name, b.x, b.layer) for b in other.bores] == [(b.name, b.x, b.layer) for b in plain.bores]
    assert "wells.gpkg" in command("check", site)[1]
    refused(
        changed(first_project, 'signed_rate = "rate"', 'signed_rate = "q"'), 'wells.gpkg has no column "q"'
    )
    row |= {"abstraction": [1.0]}
    gpd.GeoDataFrame(row, geometry=at, crs="EPSG:25832").to_file(first_project / "wells.gpkg", layer="wells")
    refused(
        changed(first_project, 'signed_rate = "q"', 'signed_rate = "rate"'), '"abstraction" beside "rate"'
    )


def test_a_box_needs_no_polygon(first_project):
    whole = ik.read_site(first_project / "site.toml").boundary
    for box in ("extent = [0, 0, 1000, 1000]", 'corner = [0, 0]\ncell = "50 m"\ncount = [20, 20]'):
        text = (first_project / "site.toml").read_text(encoding="utf-8")
        (first_project / "box.toml").write_text(
            text.replace('file = "boundary.geojson"', box, 1), encoding="utf-8"
        )
        assert ik.read_site(first_project / "box.toml").boundary.equals(whole)
    mesh = ik.rectangles((0, 0), cell=(50, 40), count=(20, 10))
    assert (mesh.shape, mesh.x_edges[-1], mesh.y_edges[-1]) == ((10, 20), 1000.0, 400.0)


def test_a_mesh_made_elsewhere_is_brought_to_the_map(first_project):
    cells = [shapely.box(x, y, x + 500, y + 500) for x in (0, 500) for y in (0, 500)]
    here = gpd.GeoSeries(cells, crs="EPSG:25832").translate(500_000, 5_600_000)
    gpd.GeoDataFrame(geometry=here.to_crs("EPSG:4326"), crs="EPSG:4326").to_file(first_project / "cells.gpkg")
    outline = gpd.GeoDataFrame(geometry=[shapely.union_all(here.to_numpy())], crs="EPSG:25832")
    outline.to_file(first_project / "outline.gpkg")
    changed(first_project, 'file = "boundary.geojson"', 'file = "outline.gpkg"')
    site = changed(
        first_project, "[grids.fine]", '[grids.own]\nkind = "file"\nfile = "cells.gpkg"\n[grids.fine]'
    )
    text = site.read_text(encoding="utf-8")
    text = text[: text.index("[grids.fine]")] + text[text.index("[ground]") :]
    text = text[: text.index("[[river]]")] + text[text.index("[[recharge]]") :]
    text = text[: text.index("[wells]")]
    site.write_text(text.replace('file = "boundary.geojson"', 'file = "outline.gpkg"'), encoding="utf-8")
    mesh = ik.read_project(site).mesh("own")
    npt.assert_allclose(mesh.area, 250_000.0, rtol=1e-6)
    npt.assert_allclose(np.sort(mesh.x), np.repeat([500_250.0, 500_750.0], 2), atol=0.01)


def test_results_come_in_the_units_asked_for(first_project, command):
    site = changed(first_project, 'concentration = "mg/l"', 'concentration = "mg/l"\nresults = ["ft", "l/s"]')
    code, out, _ = command("run", site)
    folder = first_project / "runs" / "run-001"
    flow = ik.open_run(folder).flow
    assert code == 0
    assert "out [l/s]" in out
    placed = flow.model.placed.set_index("feature")
    told = pd.read_csv(folder / "placed.csv").set_index("feature")
    for k in ("values", "note"):  # m only where it is part of another unit
        assert not [words for words in told[k].dropna() if re.search(r"\d m(³/day)?\b(?!²|/)", words)]
    lines = told["measure"] == "ft"
    npt.assert_allclose(told.loc[lines, "met"] * 0.3048, placed.loc[told.index[lines], "met"])
    table = pd.read_csv(folder / "budget.csv").set_index("term")
    npt.assert_allclose(table["out [l/s]"], flow.budget()["out [m³/day]"] / 86.4)
    with xr.open_dataset(folder / "heads.nc", engine="h5netcdf") as data:
        assert data["head"].attrs["units"] == data["top"].attrs["units"] == "ft"
        npt.assert_allclose(data["head"] * 0.3048, flow.head)
    again = changed(
        first_project, "[fit]", TIME + 'initial_run = "runs/run-001"\nsteady_first = false\n[fit]'
    )
    project = ik.read_project(again)
    npt.assert_allclose(project.heads_before(project.grid()), flow.steps[-1].heads)  # in metres again
    ax = ik.draw.heads(flow, "sand")
    ik.draw.in_units(ax.figure, project.shown_in)
    ax.figure.canvas.draw()
    labels = [text.get_text() for text in ax.get_xticklabels()]
    assert (ax.get_xlabel(), labels[:2]) == ("x [ft]", ["0", "500"])
    assert ax.child_axes[0].get_ylabel() == "head [ft]"
    changed(first_project, TIME + 'initial_run = "runs/run-001"\nsteady_first = false\n', "")
    changed(first_project, 'results = ["ft", "l/s"]', "")
    assert command("run", site)[0] == 0
    found = runs.compare_runs([folder, first_project / "runs" / "run-002"])
    npt.assert_allclose(found.heads.iloc[:, 2], found.heads.iloc[:, 3], rtol=1e-9)
    table = ik.in_units(flow.well_levels(), "ft", "gal/min")
    npt.assert_allclose(table["level [ft]"] * 0.3048, flow.well_levels()["level [m]"])


def test_times_of_heads_are_dates_and_arrays_cannot_be_written_to():
    grid = strip(4)
    schedule = ik.Schedule([10.0, 40.0], start="2021-01-01")
    storage = {"specific_storage": 1e-4, "specific_yield": 0.2}
    model = ik.Model(grid, 5.0, terms=[held([0], 20.0)], schedule=schedule, **storage)
    head = ik.solve_flow(model, initial_heads=20.0).head
    assert [str(t)[:10] for t in head["time"].to_numpy()] == ["2021-01-11", "2021-02-10"]
    npt.assert_allclose(head["day"], [10.0, 40.0])
    assert head.sel(time="2021-02").shape[0] == 1
    of_model = (model.horizontal_conductivity, model.terms[0].head)
    for array in (grid.top, grid.cells.area, grid.faces.cells, grid.cell_number, *of_model):
        with pytest.raises(ValueError, match="read-only"):
            array[0] = 1


def test_things_show_themselves_in_a_notebook(quillmere):
    site = ik.Site(
        quillmere.model.site.boundary,
        quillmere.model.site.strata,
        quillmere.model.site.materials,
        features=(
            ik.Drain(name="<b>&", shape=shapely.LineString([(0, 0), (9, 9)]), level=1.0, conductance=1.0),
        ),
        name="<script>",
    )
    for thing in (site, quillmere.model.grid, quillmere.model.grid.mesh, quillmere.model, quillmere):
        html = thing._repr_html_()
        assert "data:image/png;base64," in html
        assert "<script>" not in html
        assert "<table" in html or thing is quillmere.model.grid.mesh
    assert "nothing found" in ik.check(strip_model())._repr_html_()


def strip_model():
    return ik.Model(strip(3), 5.0, terms=[held([0], 20.0)])


def test_a_terminal_of_few_letters_and_help_without_python(first_project):
    def said(*words, **more):
        environment = {**os.environ, "COLUMNS": "80", **more}
        done = subprocess.run([sys.executable, "-m", "inkhorn", *words], capture_output=True, env=environment)
        return done.returncode, done.stdout, done.stderr

    code, out, err = said("check", str(first_project / "site.toml"), PYTHONIOENCODING="ascii")
    assert (code, err) == (0, b"")
    assert b"m3/day" in out
    assert out.isascii()
    assert (
        said("check", str(first_project / "site.toml"), LC_ALL="C", PYTHONUTF8="0", PYTHONCOERCECLOCALE="0")[
            0
        ]
        == 0
    )
    code, out, err = said("compare", "--help")
    assert (code, err) == (0, b"")
    assert b"RUN RUN" in out
    assert not any(word in out for word in (b"list[", b"path>", b"Path"))


@pytest.fixture(scope="module")
def base(tmp_path_factory):
    folder = tmp_path_factory.mktemp("hostile")
    hostile.write_base(folder / "base")
    return folder / "base"


@pytest.mark.slow
@pytest.mark.skipif(not hasattr(os, "fork"), reason="mutations run in forked processes")
def test_no_mutation_of_a_project_or_its_files_ends_in_a_traceback(base, tmp_path):
    """A share, by seed, of what ``benchmarks/hostile.py`` tries; and one that must be found out."""
    program = (
        "import sys; from pathlib import Path; from tests import hostile\n"
        "base, work = map(Path, sys.argv[1:]); hostile.prepare(base, work)\n"
        "found = [hostile.attempt(base, work, seed, solve=seed % 8 == 0) for seed in range(40)]\n"
        "print(*(f'{o.seed} {o.changed} {o.stage}: {o.problem}' for o in found if o.problem), sep='\\n')\n"
        "print(len(found), 'tried,', sum(o.stage != 'read' for o in found), 'placed')\n"
        "import inkhorn.project.project_file as read\n"
        "read.tomllib = None\n"
        "print('broken:', hostile.attempt(base, work, 40, solve=False).problem[:11])\n"
    )
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", program, str(base), str(tmp_path)],
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr
    words = done.stdout.strip().splitlines()
    assert words[-1] == "broken: a traceback"
    tried, placed = (int(words[-2].split()[k]) for k in (0, 2))
    assert (tried, words[:-2]) == (40, [""] if not words[0] else [])
    assert placed >= 15


def test_output_may_be_anything_that_takes_text(first_project, monkeypatch, command):
    monkeypatch.setattr(sys, "stdout", io.StringIO())
    assert command("check", first_project / "site.toml")[0] == 0


def test_a_damaged_run_folder_is_told(first_project, command):
    for _ in range(2):
        assert command("run", first_project / "site.toml")[0] == 0
    one, two = (first_project / "runs" / f"run-00{k}" for k in (1, 2))
    (one / "budget.csv").write_bytes(b"term,in\nr\xb1,1\n")
    with pytest.raises(ik.InputError, match=r'budget.csv" cannot be read as a table of a run'):
        ik.open_run(one).table("budget")
    levels = (one / "levels.csv").read_text(encoding="utf-8")
    (one / "levels.csv").write_text(levels.replace("16.", "x16.", 1), encoding="utf-8")
    code, _, err = command("compare", one, two)
    assert (code, "something that is no number" in err) == (2, True), err
    data = bytearray((two / "flow.nc").read_bytes())
    data[300:2000] = bytes(1700)
    (two / "flow.nc").write_bytes(data)
    with pytest.raises(ik.InputError, match=r'flow.nc"'):
        ik.open_run(two).flow.budget()
