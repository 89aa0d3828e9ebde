"""Voronoi meshes: whole, good, repeatable; and flow on them."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik
from inkhorn.space import PlanMesh, VoronoiMesh, flow_rows, sampling_rows

OUTLINE = shapely.Polygon(
    [(0, 0), (1100, -50), (1200, 700), (600, 500), (150, 900)],
    [shapely.Point(500, 250).buffer(90).exterior.coords],
)
CREEK = shapely.LineString([(200, 80), (640, 150), (1000, 500)])
WELLS = [shapely.Point(250, 600), shapely.Point(900, 200), shapely.Point(905, 230)]


@pytest.fixture(scope="module")
def mesh() -> VoronoiMesh:
    return ik.voronoi(OUTLINE, cell=60.0, near=[(WELLS, 8.0), (CREEK, 20.0)], boundary=40.0)


def test_cells_fill_the_outline(mesh):
    assert isinstance(mesh, PlanMesh)
    shapes = mesh.polygons()
    npt.assert_allclose(mesh.area.sum(), OUTLINE.area, rtol=1e-9)
    npt.assert_allclose(shapely.area(shapely.union_all(shapes)), OUTLINE.area, rtol=1e-9)
    npt.assert_array_equal(mesh.locate(mesh.x, mesh.y), np.arange(mesh.n_cells))
    inside = shapely.point_on_surface(shapes)
    npt.assert_array_equal(mesh.locate(shapely.get_x(inside), shapely.get_y(inside)), np.arange(mesh.n_cells))
    assert mesh.locate([500.0, 5000.0], [250.0, 0.0]).tolist() == [-1, -1]  # in the hole, and outside


def test_every_cell_is_closed(mesh):
    """Edges to neighbours and the rim go once around each cell; each edge stands once, square to its line."""
    edges = mesh.edges()
    assert len(np.unique(np.sort(edges.cells, axis=1), axis=0)) == len(edges.cells)
    rim = shapely.boundary(OUTLINE).buffer(1e-6)  # as thin a band as overlaying lines can tell
    around = shapely.length(shapely.intersection(shapely.boundary(mesh.polygons()), rim))
    for side in (0, 1):
        np.add.at(around, edges.cells[:, side], edges.length)
    npt.assert_allclose(around, shapely.length(mesh.polygons()), rtol=1e-5)
    along = edges.ends[:, 1] - edges.ends[:, 0]
    npt.assert_allclose((along * edges.normal).sum(axis=1) / edges.length, 0.0, atol=1e-7)
    arm = mesh.centres[edges.cells[:, 1]] - mesh.centres[edges.cells[:, 0]]
    npt.assert_allclose(np.hypot(*arm.T), edges.distance.sum(axis=1))


def test_wells_and_lines_have_cells_of_their_own(mesh):
    wanted = np.concatenate([shapely.get_coordinates(WELLS), np.asarray(CREEK.coords)])
    npt.assert_array_equal(mesh.centres[mesh.locate(*wanted.T)], wanted)
    size = np.sqrt(mesh.area)
    assert size[mesh.locate(*shapely.get_coordinates(WELLS).T)].max() < 12.0
    along = shapely.get_coordinates(shapely.segmentize(CREEK, 5.0))
    assert np.median(size[mesh.locate(*along.T)]) < 24.0
    assert 50.0 < np.quantile(size, 0.95) < 75.0


def test_the_mesh_is_good_and_says_how_good():
    mesh = ik.voronoi(OUTLINE, count=4000, near=[(WELLS[:2], 3.0), (CREEK, 8.0)])
    assert abs(mesh.n_cells - 4000) <= 400
    edges = mesh.edges()
    assert (edges.length < 0.1 * edges.distance.sum(axis=1)).mean() < 1e-3
    assert mesh.triangle_angles().min() > 20.0
    table = mesh.table()
    assert table.loc["smallest angle of a triangle [degrees]", "least"] == mesh.triangle_angles().min()
    assert table.loc["cell size [m]", "median"] == pytest.approx(np.median(np.sqrt(mesh.area)))


@pytest.mark.parametrize(
    "near", [[], [(WELLS, 8.0), (CREEK, 25.0)], [(shapely.box(100, 300, 300, 500), 12.0)]]
)
@pytest.mark.parametrize(("count", "growth"), [(60, 1.3), (900, 1.2), (2500, 1.5)])
def test_as_many_cells_as_asked_for_or_the_least_there_can_be(near, count, growth):
    try:
        made = ik.voronoi(OUTLINE, count=count, near=near, growth=growth)
    except ik.InputError as problem:
        assert near, "without shapes there is no least number"
        least = int(str(problem).split("alone take ")[1].split(".")[0])
        assert least > 1.1 * count
        made, count = ik.voronoi(OUTLINE, count=least, near=near, growth=growth), least
    assert abs(made.n_cells - count) <= 0.1 * count


@pytest.mark.parametrize("least", [28.0, 33.0])
def test_no_angle_is_smaller_than_asked(least):
    options = {"cell": 60.0, "near": [(WELLS, 8.0), (CREEK, 20.0)], "boundary": 40.0}
    made = ik.voronoi(OUTLINE, **options, least_angle=least)
    assert made.triangle_angles().min() >= least
    wanted = np.concatenate([shapely.get_coordinates(WELLS), np.asarray(CREEK.coords)])
    npt.assert_array_equal(made.centres[made.locate(*wanted.T)], wanted)
    with pytest.raises(ik.InputError, match=r"angles of at least 39 degrees.*one of 3\d"):
        ik.voronoi(OUTLINE, **options, least_angle=39.0)


@pytest.mark.parametrize(("count", "within", "growth"), [(12, 20.0, 1.3), (60, 40.0, 1.15), (8, 5.0, 1.6)])
def test_so_many_cells_around_a_point(count, within, growth):
    at = shapely.Point(300, 300)
    made = ik.voronoi(OUTLINE, cell=80, near=[(at, ik.CellsWithin(count, within))], growth=growth)
    shares = shapely.area(shapely.intersection(made.polygons(), at.buffer(within, quad_segs=32))) / made.area
    assert shares.sum() == pytest.approx(count, rel=0.2)
    even = ik.split_in_four(OUTLINE, cell=80, near=[(at, ik.CellsWithin(count, within))])
    assert even.area[even.locate([300.0], [300.0])] <= np.pi * within**2 / count
    with pytest.raises(ik.InputError, match="around a LineString; expected a point"):
        ik.voronoi(OUTLINE, cell=80, near=[(CREEK, ik.CellsWithin(5, "10 m"))])


def test_the_same_seed_gives_the_same_bits_whatever_the_order():
    near = [(WELLS, 15.0), (CREEK, 30.0)]
    first = ik.voronoi(OUTLINE, cell=90.0, near=near)
    again = ik.voronoi(OUTLINE, cell=90.0, near=[(CREEK, 30.0), (WELLS[::-1], 15.0)])
    npt.assert_array_equal(first.centres, again.centres)
    other = ik.voronoi(OUTLINE, cell=90.0, near=near, seed=1)
    assert not np.array_equal(first.centres[-1], other.centres[-1])


def test_cells_grow_away_no_faster_than_asked():
    mesh = ik.voronoi(OUTLINE, cell=100.0, near=[(WELLS[1], 5.0)], growth=1.2)
    away = np.hypot(mesh.x - 900, mesh.y - 200)
    size = np.sqrt(mesh.area)
    wanted = np.minimum(100.0, 5.0 + away * (0.2 / 1.2))
    assert np.quantile(size / wanted, 0.95) < 1.35


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({}, "either `cell`"),
        ({"cell": 10.0, "count": 10}, "not both"),
        ({"cell": 50.0, "growth": 1.0}, "growth is 1"),
        ({"cell": -50.0}, "cell is -50"),
        ({"cell": 50.0, "near": [(CREEK, 0.0)]}, "near"),
    ],
)
def test_meshes_that_cannot_be(options, message):
    with pytest.raises(ik.InputError, match=message):
        ik.voronoi(OUTLINE, **options)


def test_centres_outside_are_refused():
    with pytest.raises(ik.InputError, match="centre 1 of the Voronoi mesh lies outside"):
        VoronoiMesh(np.array([[100.0, 100.0], [500.0, 250.0]]), OUTLINE)


def test_linear_heads_give_exact_flows(mesh):
    """Level layers, isotropic in plan: two-point rows are exact, as faces are square to their lines."""
    grid = ik.layered(mesh, [0.0, -4.0, -10.0])
    c, f = grid.cells, grid.faces
    slope = np.array([0.01, -0.02, 0.003])
    rows = flow_rows(grid, 7.0, 0.5)
    flow = rows.matrix @ (5.0 + np.column_stack([c.x, c.y, c.z]) @ slope)
    exact = -(np.array([7.0, 7.0, 0.5]) * slope * f.normal).sum(axis=1) * f.area
    npt.assert_allclose(flow, exact, atol=1e-10 * np.abs(exact).max())
    sample = sampling_rows(grid, [1, 0], [820.0, 300.0], [330.0, 330.0])
    npt.assert_allclose(sample @ (2.0 + 0.3 * c.x - 0.1 * c.y), [2 + 246 - 33, 2 + 90 - 33])


def test_radial_flow_on_polygons_follows_thiem():
    """Thiem (1906) in a disc, heads held along its rim, and the level in the well itself."""
    disc = shapely.Point(0, 0).buffer(500.0, quad_segs=64)
    mesh = ik.voronoi(disc, cell=40.0, near=[(shapely.Point(0, 0), 4.0)], boundary=15.0)
    grid = ik.layered(mesh, [0.0, -15.0])
    distance = np.maximum(np.hypot(mesh.x, mesh.y), 0.2)
    exact = 20.0 + 600.0 / (2 * np.pi * 90.0) * np.log(distance / 500.0)
    rim = np.flatnonzero(distance > 480.0)
    middle = mesh.locate([0.0], [0.0])
    terms = [
        ik.terms.FixedHeadTerm(cells=rim, head=exact[rim]),
        ik.terms.WellTerm(
            cells=middle,
            rate=-600.0,
            connection=2 * np.pi * 15.0 / np.log(mesh.equivalent_radius(middle) / 0.2),
        ),
    ]
    flow = ik.solve_flow(ik.Model(grid, 6.0, terms=terms))
    # within 1.5 % of the drawdown over the disc, cells of 4 to 40 m
    npt.assert_allclose(flow.steps[-1].heads[distance > 20.0], exact[distance > 20.0], atol=0.036)
    npt.assert_allclose(flow.well_levels()["level [m]"], exact[middle], atol=0.05)
    assert flow.head.dims == ("time", "cell")


@pytest.mark.slow
def test_a_project_runs_on_polygons(quillmere_folder, command, tmp_path):
    code, out, err = command("run", quillmere_folder / "site.toml", "--grid", "voronoi", "--out", tmp_path)
    assert (code, err) == (0, "")
    assert "water of hatchery: " in out
    assert (tmp_path / "run-voronoi-001" / "zones.gpkg").exists()
    assert (tmp_path / "run-voronoi-001" / "plume.png").stat().st_size > 20000
    assert (tmp_path / "run-voronoi-001" / "heads.nc").exists()


@pytest.mark.parametrize(
    ("extra", "message"),
    [("rotation = 30", "`rotation` says nothing of voronoi"), ("count = [3, 4]", "one number")],
)
def test_keys_of_the_other_kind_are_refused(first_project, extra, message):
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8").replace(
        'cell = "100 m"', f'kind = "voronoi"\n{extra}\ncell = "100 m"'
    )
    site.write_text(text, encoding="utf-8")
    with pytest.raises(ik.InputError, match=message):
        ik.read_project(site)


def test_small_cells_far_from_zero_are_those_at_zero():
    """A box of sand of ten metres, surveyed in coordinates of the map."""
    shape = shapely.Polygon([(0, 0), (10, 0), (10, 3), (5, 3), (4.8, 6), (0, 6)])
    at_zero = ik.voronoi(shape, cell=0.4, near=[(shapely.LineString([(3, 2), (7, 1)]), 0.1)])
    moved = shapely.affinity.translate(shape, 5e5, 6e6)
    line = shapely.LineString([(5e5 + 3, 6e6 + 2), (5e5 + 7, 6e6 + 1)])
    far = ik.voronoi(moved, cell=0.4, near=[(line, 0.1)])
    npt.assert_allclose(far.area, at_zero.area, rtol=1e-6)
    npt.assert_allclose(far.x - 5e5, at_zero.x, atol=1e-8)
