"""Grids to files and back, and meshes made elsewhere."""

from __future__ import annotations

import meshio
import numpy as np
import numpy.testing as npt
import pytest
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn.files import read_shapes
from inkhorn.space import PolygonMesh
from tests.test_meshes import KINDS


def some_grid(mesh):
    """Absent layers, a layer taken out in part, and columns that branch where they can."""
    rng = np.random.default_rng(0)
    thickness = rng.uniform(1, 3, (3, mesh.n_cells)) * (rng.random((3, mesh.n_cells)) > 0.2)
    surfaces = list(-np.vstack([np.zeros(mesh.n_cells), np.cumsum(thickness, axis=0)]))
    return ik.layered(
        mesh,
        surfaces,
        names=["peat", "Lößlehm", "gravel"],
        taken_out={"Lößlehm": shapely.Point(700, 200).buffer(150)},
        **({"max_splits": {"gravel": 1}} if hasattr(mesh, "whole") else {"layer_cell": {"gravel": 200}}),
    )


@pytest.mark.parametrize("ending", [".nc", ".vtu", ".gpkg"])
@pytest.mark.parametrize("kind", KINDS)
def test_a_grid_comes_back_as_it_was(tmp_path, kind, ending):
    grid = some_grid(KINDS[kind]())
    path = tmp_path / f"grid{ending}"
    k = np.random.default_rng(1).uniform(1, 2, grid.n_cells)
    ik.write_grid(grid, path, {"conductivity": k}, units={"conductivity": "m/day"})
    file = ik.read_grid(path)
    back = file.grid
    if ending == ".nc":  # the others bring polygons
        assert type(back.mesh) is type(grid.mesh)
    assert back.layer_names == grid.layer_names
    shapes = shapely.normalize(back.mesh.polygons()), shapely.normalize(grid.mesh.polygons())
    npt.assert_array_equal(shapely.equals_exact(*shapes), True)
    assert back.whole_names == grid.whole_names
    npt.assert_array_equal(back.cell_number, grid.cell_number)
    for name in ("top", "bottom", "x", "y", "area", "layer", "material_layer"):
        npt.assert_allclose(getattr(back.cells, name), getattr(grid.cells, name), rtol=1e-12)
    npt.assert_array_equal(file.properties["conductivity"], k)
    assert file.units == {"conductivity": "m/day"}
    assert f"conductivity [m/day]: {k.min():.4g} to {k.max():.4g}" in str(file)
    rank = [np.lexsort(np.sort(g.faces.cells, axis=1).T) for g in (grid, back)]
    for name in ("area", "kind"):
        npt.assert_allclose(
            getattr(back.faces, name)[rank[1]], getattr(grid.faces, name)[rank[0]], rtol=1e-9, atol=1e-9
        )


@pytest.mark.parametrize("kind", KINDS)
def test_other_readers_take_the_solids(tmp_path, kind):
    """With meshio: every cell, its numbers beside it, corners of its floor anticlockwise; both names of parts."""
    strata = ik.Strata(
        ik.ConstantSurface(5.0),
        (
            ik.Layer("sand", ik.ConstantSurface(0.0), parts=[1, 2]),
            ik.Layer("gravel", ik.ConstantSurface(-4.0)),
        ),
    )
    grid = ik.layered(KINDS[kind](), strata)
    path = tmp_path / "grid.vtu"
    ik.write_grid(grid, path, {"volume": grid.cells.volume}, units={"volume": "m³"})
    assert ik.read_grid(path).grid.whole_names == ("sand", "sand", "gravel")
    solids = meshio.read(path)
    assert sum(len(block) for block in solids.cells) == grid.n_cells
    volumes = solids.cell_data["volume"]
    for block, stated in zip(solids.cells, volumes, strict=True):
        for corners, volume in zip(block.data, stated, strict=True):
            floor = corners[0][::-1] if block.type.startswith("polyhedron") else corners[: len(corners) // 2]
            points = solids.points[floor]
            top = solids.points[np.unique(np.hstack(corners)), 2].max()
            assert shapely.LinearRing(points[:, :2]).is_ccw
            assert shapely.Polygon(points[:, :2]).area * (top - points[0, 2]) == pytest.approx(
                volume, rel=1e-9
            )


def test_water_does_not_cross_where_a_layer_was_taken_out():
    mesh = ik.rectangles((0, 0, 30, 10), cell=10)
    levels = [0.0, -1.0, -2.0, -3.0]
    grid = ik.layered(mesh, levels, names="abc", taken_out={"b": shapely.box(0, 0, 10, 10)})
    assert grid.n_cells == 8
    floors = grid.faces.cells[grid.faces.is_floor]
    assert sorted(grid.cells.plan_cell[floors[:, 0]].tolist()) == [1, 1, 2, 2]
    with pytest.raises(ik.InputError, match='taken_out names the layer "d"; expected one of'):
        ik.layered(mesh, levels, names="abc", taken_out={"d": shapely.box(0, 0, 1, 1)})


def triangles(path):
    """A UGRID file of two triangles and a square, as another program might write it: counted from 1."""
    data = xr.Dataset(
        {
            "net": ((), 0, {
                "cf_role": "mesh_topology", "topology_dimension": 2, "node_coordinates": "nx ny",
                "face_node_connectivity": "fn",
            }),
            "nx": ("n", [0.0, 10, 0, 10, 20, 20]),
            "ny": ("n", [0.0, 0, 10, 10, 0, 10]),
            "fn": (("f", "c"), [[1, 2, 3, -9], [2, 4, 3, -9], [2, 5, 6, 4]], {"start_index": 1, "_FillValue": -9}),
            "ground": ("f", [5.0, 6.0, np.nan]),
            "depth": (("n",), np.zeros(6)),
        }
    )  # fmt: skip
    data.to_netcdf(path, engine="h5netcdf")


def test_a_mesh_made_elsewhere_is_taken_and_summarised(tmp_path):
    triangles(tmp_path / "net.nc")
    file = ik.read_mesh(tmp_path / "net.nc")
    assert isinstance(file.mesh, PolygonMesh)
    npt.assert_allclose(file.mesh.area, [50, 50, 100])
    npt.assert_array_equal(np.sort(np.sort(file.mesh.edges().cells, axis=1), axis=0), [[0, 1], [1, 2]])
    assert "ground: numbers, empty in 1 of 3 cells" in str(file)
    assert "not taken: depth (over n)" in str(file)
    with pytest.raises(ik.InputError, match=r'net.nc, row 3: "ground" is nan; expected a number \(1 of 3'):
        file.numbers("ground")
    with pytest.raises(ik.InputError, match='has no attribute "base"'):
        file.numbers("base")
    with pytest.raises(ik.InputError, match="holds 1 two-dimensional meshes"):
        ik.read_mesh(tmp_path / "net.nc", table="other")


def test_flow_on_a_mesh_made_elsewhere(tmp_path):
    """A split mesh that comes back as polygons with hanging corners gives the same heads."""
    mesh = KINDS["split"]()
    ik.write_grid(ik.layered(mesh, [0.0, -5.0]), tmp_path / "cells.gpkg")
    again = ik.read_mesh(tmp_path / "cells.gpkg", table="plan").mesh
    heads = []
    for plan in (mesh, again):
        west, east = np.argmin(plan.x), np.argmax(plan.x)
        held = ik.terms.FixedHeadTerm(cells=[west, east], head=[3.0, 1.0])
        flow = ik.solve_flow(ik.Model(ik.layered(plan, [0.0, -5.0]), 4.0, terms=[held]))
        heads.append(flow.steps[-1].heads)
    npt.assert_allclose(heads[1], heads[0], rtol=1e-8)
    table, _ = read_shapes(tmp_path / "cells.gpkg", table="cells")
    assert table[0].attributes["layer"] == "layer 1"


def bent():
    """A cell whose centre of gravity lies in a bay that its neighbour fills."""
    bay = shapely.box(2, 1, 10, 9)
    return [shapely.box(0, 0, 10, 10).difference(bay), bay]


@pytest.mark.parametrize(
    ("shapes", "message"),
    [
        ([], "has no cell"),
        (
            [shapely.box(0, 0, 2, 2), shapely.box(1, 0, 3, 2)],
            r"cells 0 and 1 overlap by 2 m² \(1 such pairs\)",
        ),
        ([shapely.Polygon([(0, 0), (2, 2), (2, 0), (0, 2)])], "cell 0 is not a polygon with an area"),
        (bent(), "lies behind its edge"),
    ],
)
def test_polygons_that_make_no_mesh(shapes, message):
    with pytest.raises(ik.InputError, match=message):
        PolygonMesh(np.array(shapes, dtype=object)).edges()


@pytest.mark.parametrize(
    ("name", "message"),
    [
        ("grid.xyz", "names no format of grids"),
        ("none.nc", "there is no such file"),
        ("text.nc", "cannot be read as NetCDF 4"),
        ("text.vtu", "it is not XML"),
        ("net.nc", "cannot be read as a grid written here .*use read_mesh"),
    ],
)
def test_files_that_are_no_grids(tmp_path, name, message):
    triangles(tmp_path / "net.nc")
    (tmp_path / name).write_text("hello") if name.startswith("text") else None
    with pytest.raises(ik.InputError, match=message):
        ik.read_grid(tmp_path / name)


def test_a_whole_model_comes_back_as_it_was(full_project, tmp_path):
    project = ik.read_project(full_project / "site.toml")
    model = ik.place(project.site, project.grid())
    ik.write_model(model, tmp_path / "model.nc")
    back = ik.read_model(tmp_path / "model.nc")
    assert repr(back) == repr(model)
    assert repr(back.schedule) == repr(model.schedule)
    assert set(back.inputs_in_time) == set(model.inputs_in_time)
    npt.assert_array_equal(back.face_resistance, model.face_resistance)
    for period in (0, 20):
        one, other = (ik.solve_flow(m.at_period(period)) for m in (model, back))
        npt.assert_array_equal(one.steps[-1].heads, other.steps[-1].heads)
    ik.write_grid(model.grid, tmp_path / "grid.nc")
    with pytest.raises(ik.InputError, match="cannot be read as a model written here"):
        ik.read_model(tmp_path / "grid.nc")


def test_a_cell_without_a_number_is_told_unless_gaps_are_meant(tmp_path):
    mesh = ik.rectangles((0, 0, 100, 100), cell=50)
    grid = ik.layered(mesh, [0.0, -1.0])
    heads = np.array([1.0, np.nan, 3.0, 4.0])
    with pytest.raises(ik.InputError, match="head"):
        ik.write_grid(grid, tmp_path / "grid.nc", {"head": heads})
    ik.write_grid(grid, tmp_path / "grid.nc", {"head": heads}, gaps=True)
    np.testing.assert_array_equal(ik.read_grid(tmp_path / "grid.nc").properties["head"], heads)
    with pytest.raises(ik.InputError, match="head"):
        ik.write_grid(grid, tmp_path / "grid.nc", {"head": heads * np.inf}, gaps=True)
