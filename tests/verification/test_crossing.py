"""What crosses a line, against uniform flow, the faces themselves, and rain."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik
from tests.conftest import held, rain

FIELD = shapely.Polygon([(0, 0), (900, 60), (820, 700), (-90, 560)])
MESHES = {
    "rectangles": lambda: ik.rectangles(FIELD, cell=45),
    "turned": lambda: ik.rectangles(FIELD, cell=50, rotation=31, keep="cut"),
    "split": lambda: ik.split_in_four(FIELD, cell=90, near=[(shapely.Point(400, 300), 20)], keep="cut"),
    "voronoi": lambda: ik.voronoi(FIELD, cell=45),
}
SLOPE = np.array([0.003, -0.005])
LINE = np.array([(150.0, 130.0), (420.0, 480.0), (433.0, 250.0), (640.0, 330.0)])


def uniform(mesh, ratio=1.0):
    """Uniform flow, heads held along the outline where it is cut, else in the cells of the rim."""
    grid = ik.layered(mesh, [0.0, -4.0, -10.0])
    head = 20.0 + SLOPE[0] * grid.cells.x + SLOPE[1] * grid.cells.y
    rim = np.unique(grid.outer_faces.cell)
    terms = [held(rim, head[rim])]
    model = ik.Model(
        grid, 5.0, anisotropy=ratio, direction=25.0, terms=terms, water_table=ik.WaterTable(confined=True)
    )
    return ik.solve_flow(model, closure=1e-13)


@pytest.mark.parametrize("kind", MESHES)
@pytest.mark.parametrize("ratio", [1.0, 4.0])
def test_uniform_flow_crosses_any_line(kind, ratio):
    flow = uniform(MESHES[kind](), ratio)
    angle = np.deg2rad(25.0)
    axis, other = np.array([np.cos(angle), np.sin(angle)]), np.array([-np.sin(angle), np.cos(angle)])
    q = -5.0 * (axis * (axis @ SLOPE) + other * (other @ SLOPE) / ratio)
    way = LINE[-1] - LINE[0]
    exact = 10.0 * (q @ [-way[1], way[0]])
    whole = flow.across(LINE)
    npt.assert_allclose(whole.loc["total", "net to the left [m³/day]"], exact, rtol=1e-9)
    npt.assert_allclose(whole.loc["layer 1", "net to the left [m³/day]"], 0.4 * exact, rtol=1e-9)
    cut = np.insert(LINE, 2, 0.3 * LINE[1] + 0.7 * LINE[2], axis=0)
    pieces = sum(flow.across(cut[a:b]).loc["total"] for a, b in ((0, 3), (2, 4), (3, 5)))
    npt.assert_allclose(pieces.to_numpy(), whole.loc["total"].to_numpy(), rtol=1e-9)


@pytest.mark.parametrize("kind", MESHES)
def test_along_edges_it_is_the_faces_own_flow(kind):
    mesh = MESHES[kind]()
    grid = ik.layered(mesh, [8.0, 0.0])
    rim = np.unique(grid.outer_faces.cell)
    flow = ik.solve_flow(ik.Model(grid, 3.0, terms=[held(rim, 7.0 + 0.002 * mesh.x[rim]), rain(grid, 2e-3)]))
    faces, rng = grid.faces, np.random.default_rng(1)
    for face in rng.choice(len(faces), 12, replace=False):
        begin, end = faces.ends[face]
        left = np.array([begin[1] - end[1], end[0] - begin[0]])
        exact = flow.steps[-1].face_flow[face] * np.sign(left @ faces.normal[face, :2])
        crossing = flow.across([begin, end]).loc["total", "net to the left [m³/day]"]
        npt.assert_allclose(crossing, exact, rtol=0.0, atol=1e-12)


@pytest.mark.parametrize("kind", MESHES)
def test_a_ring_takes_what_rains_inside(kind):
    """Anywhere, also through the middle of cells: divergence is that of the rain; on rectangles exact piece by piece."""
    mesh = MESHES[kind]()
    grid = ik.layered(mesh, [8.0, 0.0])
    rim = np.unique(grid.outer_faces.cell)
    flow = ik.solve_flow(ik.Model(grid, 3.0, terms=[held(rim, 7.0), rain(grid, 2e-3)]), closure=1e-13)
    ring = shapely.Point(403.0, 297.0).buffer(171.3, quad_segs=4)
    inwards = flow.across(np.asarray(ring.exterior.coords)).loc["total", "net to the left [m³/day]"]
    npt.assert_allclose(abs(inwards), 2e-3 * ring.area, rtol=1e-9)


def test_rain_on_a_strip_is_crossed_in_proportion():
    mesh = ik.rectangles((0, 0, 1000, 60), cell=20)
    grid = ik.layered(mesh, [12.0, 0.0])
    west = np.flatnonzero(mesh.x < 20)
    flow = ik.solve_flow(ik.Model(grid, 8.0, terms=[held(west, 6.0), rain(grid, 1e-3)]), closure=1e-13)
    for x in (25.0, 333.3, 990.0):
        crossing = flow.across([(x, 0.0), (x, 60.0)]).loc["total", "net to the left [m³/day]"]
        npt.assert_allclose(crossing, 1e-3 * 60.0 * (1000.0 - x), rtol=1e-9)
