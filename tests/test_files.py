"""What is written can be read back; files and folders appear whole or not at all."""

from __future__ import annotations

import os
import random
import re
import sqlite3
from contextlib import closing

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn.demo import write_demo, write_new
from inkhorn.files import (
    read_shapes,
    read_table,
    write_concentration,
    write_flow,
    write_paths,
    write_table,
    written_whole,
)
from inkhorn.project.project_file import Places
from tests.conftest import held, strip


def test_heads_come_back_from_netcdf(quillmere, tmp_path):
    path = tmp_path / "heads.nc"
    write_flow(quillmere, path)
    with xr.open_dataset(path, decode_timedelta=False) as data:
        xr.testing.assert_equal(data["head"].load(), quillmere.head.assign_coords(steady=data["steady"]))
        npt.assert_array_equal(data["layer"], quillmere.model.grid.layer_names)
        thickness = (data["top"] - data["bottom"]).to_numpy()
        npt.assert_allclose(np.nansum(thickness) * 250.0**2, quillmere.model.grid.cells.volume.sum())
        assert data["x"].attrs["standard_name"] == "projection_x_coordinate"
        assert data["time"].attrs["units"] == "days"


def test_concentrations_come_back_from_netcdf(quillmere, tmp_path):
    plume = ik.solve_transport(
        quillmere, ik.Species("chloride", initial=14.0, background=14.0), duration=900.0, outputs=3
    )
    write_concentration(plume, tmp_path / "c.nc")
    with xr.open_dataset(tmp_path / "c.nc", decode_timedelta=False) as data:
        xr.testing.assert_equal(data["chloride"].load(), plume.concentration)
        npt.assert_array_equal(data["time"], [0.0, 300.0, 600.0, 900.0])


def test_paths_come_back_from_a_geopackage(tmp_path):
    grid = strip(10)
    flow = ik.solve_flow(ik.Model(grid, 10.0, porosity=0.2, terms=[held([0, 10], [20.0, 19.0])]))
    paths = ik.trace(flow, [(200.0, 5.0, 4.0), (200.0, 5.0, 9.0)], mark=1000.0)
    write_paths(paths, tmp_path / "p.gpkg")
    lines, points = (gpd.read_file(tmp_path / "p.gpkg", layer=name) for name in ("paths", "points"))
    npt.assert_allclose(lines["travel time [day]"], paths.ends["travel time [day]"])
    npt.assert_allclose(shapely_z(points), paths.points["z [m]"])
    assert lines.geometry.iloc[0].coords[0] == (200.0, 5.0, 4.0)


def shapely_z(points):
    return [p.z for p in points.geometry]


def test_a_file_takes_its_place_only_when_it_is_whole(tmp_path):
    goal = tmp_path / "table.csv"
    goal.write_text("old")

    def fail_half_way() -> None:
        with written_whole(goal) as beside:
            beside.write_text("half")
            raise OSError("the disk is full")

    with pytest.raises(OSError, match="full"):
        fail_half_way()
    assert goal.read_text() == "old"
    with written_whole(goal) as beside:
        beside.write_text("new")
    assert [p.name for p in tmp_path.iterdir()] == ["table.csv"]
    assert goal.read_text() == "new"


@pytest.mark.parametrize("write", [write_new, write_demo])
def test_projects_are_made_in_empty_places_only(tmp_path, write):
    file = tmp_path / "file"
    file.write_text("mine")
    with pytest.raises(ik.InputError, match="is a file"):
        write(file)
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "mine").write_text("mine")
    with pytest.raises(ik.InputError, match="not empty"):
        write(tmp_path / "full")
    (tmp_path / "empty").mkdir()
    write(tmp_path / "empty")
    assert (tmp_path / "empty" / "site.toml").is_file()
    assert sorted(p.name for p in tmp_path.iterdir()) == ["empty", "file", "full"]


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "has no rows"),
        (b"x,y\n", "has no rows"),
        (b"x,x [m]\n1,2\n", r"columns appear twice: \['x'\]"),
        (b"x\n\xff\xfe\n", "line 2: the text is not in UTF-8"),
        (b"x,y\n1,2\n\n1,2,3\n", "line 4: there are 3 cells; the header has 2"),
        (b"x,y\n1,2\n5\n", "line 3: there are 1 cells"),
    ],
)
def test_tables_that_cannot_be_read(tmp_path, content, message):
    (tmp_path / "t.csv").write_bytes(content)
    with pytest.raises(ik.InputError, match=message):
        read_table(tmp_path / "t.csv").numbers("x", "length")


def test_shapes_carry_their_attributes(quillmere_folder):
    shapes, crs = read_shapes(quillmere_folder / "quillmere.gpkg", table="land_use", kinds=("Polygon",))
    assert crs is None
    assert {s.attribute("name") for s in shapes} == {"wood", "meadow", "heath 1", "heath 2"}
    assert shapes[0].number("recharge", "rate", unit="mm/year") == pytest.approx(0.14 / 365.25)
    with pytest.raises(ik.InputError, match=r"row 1: .*not a unit of flow"):
        shapes[0].number("recharge", "flow", unit="mm/year")


def test_keys_are_found_by_line():
    layers = '[[layer]]\nname = "a"\n[[layer]]  # second\nname = "b"\nbase = { points = "p" }\n'
    places = Places(f'title = "x"\n\n{layers}[material."c d"]\nk = 1\n', "site.toml")
    assert places.of(("title",)) == 1
    assert places.of(("layer", 1, "name")) == 6
    assert places.of(("layer", 1, "base", "points")) == 7
    assert places.of(("layer", 1, "least_thickness")) == 5
    assert places.of(("material", "c d", "k")) == 9
    assert places.of(("nowhere",)) == 1


def mutated(text: str, rng: random.Random) -> str:
    """A project file with one thing wrong, or merely other."""
    lines = text.splitlines()
    keys = [k for k, line in enumerate(lines) if "=" in line and not line.startswith("#")]
    k = rng.choice(keys)
    key, _, value = lines[k].partition("=")
    change = rng.randrange(6)
    if change == 0:
        del lines[k]
    elif change == 1:
        lines[k] = f"{key.strip()}x ={value}"
    elif change == 2:
        odd = ["-1", "0", "1e300", "true", "[]", "{}", "[1, 2, 3]", "nan", '""', '"-3 m"']
        lines[k] = f"{key}= {rng.choice(odd)}"
    elif change == 3:
        lines[k] = lines[k].replace("m/day", "kg").replace(" m", " s").replace("day", "m")
    elif change == 4:
        lines.insert(k, lines[rng.choice(keys)])
    else:
        lines[k] = re.sub(r"\d", lambda m: str(rng.randrange(10)), lines[k])
    return "\n".join(lines)


def broken(text: str, rng: random.Random) -> str:
    """A data file with a number, a mark or a row gone wrong."""
    at = rng.randrange(len(text))
    return rng.choice(
        [
            text[:at]
            + rng.choice(["", "x", "-", "9999", '"', "\n", ",", "nan"])
            + text[at + rng.randrange(1, 4) :],
            text[:at],
            re.sub(r"\d+\.?\d*", lambda m: m[0] if rng.random() < 0.9 else str(rng.uniform(-1e6, 1e6)), text),
        ]
    )


@pytest.mark.parametrize("batch", [0, 1, 2, *(pytest.param(k, marks=pytest.mark.slow) for k in range(3, 10))])
def test_spoilt_projects_end_in_a_message_or_a_model(full_project, batch):
    """A thousand of them: project files mutated, and every fourth time a data file instead."""
    site, rng = full_project / "site.toml", random.Random(batch)
    files = {f: f.read_text(encoding="utf-8") for f in sorted(full_project.iterdir()) if f.is_file()}
    good = 0
    for number in range(100):
        spoilt = site if number % 4 else rng.choice([f for f in files if f != site])
        spoilt.write_text((mutated if spoilt == site else broken)(files[spoilt], rng), encoding="utf-8")
        try:
            project = ik.read_project(site)
            if project.asked.grid.cell > 50.0:
                ik.check(ik.place(project.site, project.grid()))
            good += 1
        except ik.InputError as told:
            short = len(str(told)) < 20
            assert not short, told  # noqa: PT017 - either way is fine
        spoilt.write_text(files[spoilt], encoding="utf-8")
    assert 10 < good < 90


def test_what_is_no_file_or_would_never_end_is_refused_at_once(tmp_path, command):
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "blanks.toml").write_text("[" + " " * 100_000)
    (tmp_path / "deep.toml").write_text("a = " + "[" * 20_000)
    (tmp_path / "latin.toml").write_bytes('title = "Köln"'.encode("latin-1"))
    for name, message in (
        ("pipe", "it is a pipe or a device"),
        (".", "it is a folder"),
        ("blanks.toml", "is not TOML"),
        ("deep.toml", "nests its tables too deep"),
        ("latin.toml", "is not in UTF-8"),
    ):
        code, _, err = command("check", tmp_path / name)
        assert (code, message in err) == (2, True), err


def test_text_is_written_so_that_no_spreadsheet_runs_it(tmp_path):
    frame = pd.DataFrame(
        {"=name": ["=1+1", "@sum", "-2 m", "+1|!x", "plain"], "x": [1.0, 2.0, -3.0, 4.0, 5.0]}
    )
    write_table(frame, tmp_path / "table.csv")
    again = pd.read_csv(tmp_path / "table.csv")
    assert again.columns.tolist() == ["'=name", "x"]
    assert again["'=name"].tolist() == ["'=1+1", "'@sum", "-2 m", "'+1|!x", "plain"]
    assert again["x"].tolist() == frame["x"].tolist()


def test_a_coordinate_system_that_is_called_undefined_is_none(tmp_path):
    """As some programs write a GeoPackage of shapes without one."""
    path = tmp_path / "shapes.gpkg"
    gpd.GeoDataFrame({"name": ["a"]}, geometry=[shapely.box(0, 0, 1, 1)], crs="EPSG:25832").to_file(path)
    with closing(sqlite3.connect(path)) as book:
        for table in ("gpkg_contents", "gpkg_geometry_columns"):
            book.execute(f"UPDATE {table} SET srs_id = -1")
        book.commit()
    shapes, crs = ik.read_shapes(path)
    assert (len(shapes), crs) == (1, None)
