"""Results as other programs read them: each format is read back by a library that knows it."""

from __future__ import annotations

import json

import geopandas as gpd
import meshio
import numpy as np
import numpy.testing as npt
import openpyxl
import pandas as pd
import pytest
import rasterio
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn.demo import write_new
from inkhorn.exports import CONTENTS, FORMATS

ASKED = """
[[species]]
name = "salt/brine"
unit = "mg/l"
limit = "10 mg/l"
background = "1 mg/l"

[transport]
species = "salt/brine"
duration = "300 days"
outputs = 3
dispersivity = "20 m"
transverse_dispersivity = "5 m"
vertical_dispersivity = "1 m"
"""


MESHES = {"rectangles": "", "turned": "\nrotation = 25", "voronoi": '\nkind = "voronoi"'}


@pytest.fixture(scope="module", params=["rectangles", "turned", "voronoi"])
def run(request, tmp_path_factory):
    """A run with paths and a plume, in a coordinate system of the earth."""
    folder = tmp_path_factory.mktemp("export") / "first"
    write_new(folder)
    for path in folder.glob("*.geojson"):
        told = json.loads(path.read_text(encoding="utf-8"))
        told["crs"] = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::25832"}}
        path.write_text(json.dumps(told), encoding="utf-8")
    site = folder / "site.toml"
    text = site.read_text(encoding="utf-8")
    for old, new in (
        ('cell = "25 m"', 'cell = "100 m"' + MESHES[request.param]),
        ('rate = "250 mm/year"', 'rate = "250 mm/year"\nconcentration = { "salt/brine" = "40 mg/l" }'),
    ):
        assert old in text
        text = text.replace(old, new)
    site.write_text(text + ASKED, encoding="utf-8")
    made, _ = ik.run_project(ik.read_project(site))
    return ik.open_run(made)


@pytest.fixture(scope="module")
def out(run, tmp_path_factory):
    folder = tmp_path_factory.mktemp("out") / "given"
    told = ik.export(run, folder, FORMATS)
    assert set(told["format"]) == set(FORMATS)
    assert sorted(told["file"]) == sorted(p.name for p in folder.iterdir() if p.name != CONTENTS)
    assert (told["bytes"] == [(folder / f).stat().st_size for f in told["file"]]).all()
    pd.testing.assert_frame_equal(pd.read_csv(folder / CONTENTS), told)
    return folder


def wet_heads(run):
    return np.where(run.flow.filled(-1) > 0.01, run.flow.steps[-1].heads, np.nan)


def test_cells_carry_the_same_numbers_in_every_format(run, out):
    heads, cells = wet_heads(run), run.model.grid.cells
    salt = run.transport().records[-1].concentration  # g/m³ is mg/l
    table = pd.read_csv(out / "cells.csv")
    shapes = gpd.read_file(out / "results.gpkg", layer="cells")
    for found in (table, shapes):
        npt.assert_allclose(found["head [m]"], heads, rtol=1e-12)
        npt.assert_allclose(found["concentration_salt_brine [mg/l]"], salt, rtol=1e-12, atol=1e-12)
        npt.assert_allclose(found["top [m]"], cells.top, rtol=1e-12)
    npt.assert_allclose(shapely.area(shapes.geometry), cells.area, rtol=1e-9)
    assert shapes.crs.to_epsg() == 25832
    grid = ik.read_grid(out / "cells.nc")
    npt.assert_allclose(grid.properties["head"], heads, rtol=1e-12)
    assert grid.units["concentration_salt_brine"] == "mg/l"
    with xr.open_dataset(out / "heads.nc", engine="h5netcdf", decode_timedelta=False) as data:
        assert data.attrs["Conventions"].startswith("CF-")
    solids = meshio.read(out / "cells.vtu")
    numbers = np.concatenate(solids.cell_data["number"])
    npt.assert_allclose(np.concatenate(solids.cell_data["head"])[np.argsort(numbers)], heads, rtol=1e-12)


def test_a_viewer_of_solids_reads_cells_and_paths(run, out):
    vtk = pytest.importorskip("vtk")

    def read(name):
        reader = vtk.vtkXMLUnstructuredGridReader()
        reader.SetFileName(str(out / name))
        reader.Update()
        return reader.GetOutput()

    cells, paths = read("cells.vtu"), read("paths.vtu")
    assert cells.GetNumberOfCells() == run.model.grid.n_cells
    points = run.paths().points
    assert paths.GetNumberOfCells() == points["path"].nunique()
    assert paths.GetNumberOfPoints() == len(points)
    last = paths.GetPoint(paths.GetNumberOfPoints() - 1)
    npt.assert_allclose(last, points[["x [m]", "y [m]", "z [m]"]].iloc[-1], rtol=1e-12)
    assert paths.GetPointData().GetArray("time").GetValue(0) == points["time [day]"].iloc[0]


def test_lines_of_paths_are_read_as_such(run, out):
    lines = meshio.read(out / "paths.vtu")
    points = run.paths().points
    npt.assert_allclose(lines.points, points[["x [m]", "y [m]", "z [m]"]], rtol=1e-12)
    npt.assert_allclose(lines.point_data["time"], points["time [day]"], rtol=1e-12)


def test_shapes_lie_on_the_earth_where_the_site_does(run, out):
    for path in out.glob("*.geojson"):
        there = gpd.read_file(path)
        assert there.crs.to_epsg() == 4326
        back = there.to_crs(25832)
        layer = gpd.read_file(out / "results.gpkg", layer=path.stem)
        assert len(layer) == len(back)
        npt.assert_allclose(back.total_bounds, layer.total_bounds, atol=0.02)
    assert {p.stem for p in out.glob("*.geojson")} >= {"cells", "boundary", "features", "bores", "paths"}


def test_rasters_hold_the_value_of_the_cell_under_each_dot(run, out):
    grid, heads = run.model.grid, wet_heads(run)
    layer = grid.layer_names[0]
    with rasterio.open(out / f"head_{layer}.tif") as file:
        assert file.crs.to_epsg() == 25832
        assert file.units == ("m",)
        band = file.read(1)
        rows, columns = np.meshgrid(*(np.arange(n) for n in band.shape), indexing="ij")
        x, y = (np.asarray(v) for v in rasterio.transform.xy(file.transform, rows.ravel(), columns.ravel()))
    home = grid.mesh.locate(x, y)
    row = grid.cell_number[0]
    there = (home >= 0) & (row[home] >= 0)
    wanted = np.where(there, heads[row[home]], np.nan)
    npt.assert_allclose(band.ravel(), wanted, rtol=1e-6)
    assert np.isfinite(band).mean() > 0.4
    with rasterio.open(out / "concentration_salt_brine.tif") as file:
        assert file.count == len(run.transport().records)
        npt.assert_allclose(
            np.nanmax(file.read(file.count)), run.transport().records[-1].concentration.max(), rtol=1e-6
        )


def test_a_workbook_has_a_sheet_for_each_table_and_charts_of_its_numbers(run, out):
    book = openpyxl.load_workbook(out / "results.xlsx")
    tables = sorted(run.path.glob("*.csv"))
    assert len(book.sheetnames) == len(tables)
    budget = pd.read_csv(run.path / "budget.csv")
    assert [c.value for c in book["budget"][1]] == list(budget.columns)
    npt.assert_allclose([row[1].value for row in book["budget"].iter_rows(min_row=2)], budget.iloc[:, 1])
    (chart,) = book["budget"]._charts
    assert len(chart.series) == 2
    assert "'budget'!$B$2:$B$" in chart.series[0].val.numRef.f
    (points,) = book["residuals"]._charts
    assert points.series[0].yVal.numRef.f != points.series[0].xVal.numRef.f


def test_of_steady_flow_a_time_is_one_of_its_plumes(run, tmp_path):
    plume = run.transport()
    ik.export(run, tmp_path, ["csv", "geotiff"], time=110.0)
    found = pd.read_csv(tmp_path / "cells.csv")["concentration_salt_brine [mg/l]"]
    middle = plume.records[plume.time_at(110.0)]
    assert middle.time == 100.0
    npt.assert_allclose(found, middle.concentration, rtol=1e-12, atol=1e-12)
    with rasterio.open(tmp_path / "concentration_salt_brine.tif") as file:
        assert file.count == 1


def test_what_cannot_be_written_is_refused_before_anything_is(run, tmp_path, command):
    with pytest.raises(ik.InputError, match=r"geotif.*geotiff"):
        ik.export(run, tmp_path / "none", ["csv", "geotif"])
    with pytest.raises(ik.InputError, match="no format"):
        ik.export(run, tmp_path / "none", [])
    assert not (tmp_path / "none").exists()
    code, said, _ = command("export", run.path, "--to", "csv,xlsx", "--out", tmp_path / "some")
    assert code == 0
    assert "results.xlsx" in said
    assert len(list((tmp_path / "some").glob("*.xlsx"))) == 1
    code, _, problem = command("export", run.path, "--to", "csv", "--time", "400", "--out", tmp_path / "none")
    assert code == 2
    assert "400" in problem
    assert "lies outside the run, which goes from day 0 to 300" in problem
    code, _, problem = command("export", run.path, "--to", "pdf", "--out", tmp_path / "none")
    assert code == 2
    assert "pdf" in problem
