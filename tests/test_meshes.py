"""What holds on every kind of plan mesh, whatever the layers."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

import inkhorn as ik
from inkhorn.space import FLOOR, MergedMesh, PlanMesh, area_of, flow_rows, rim, sampling_rows, tensor_rows
from inkhorn.space.meeting import Meeting
from inkhorn.space.rim import outer_edges

L_SHAPE = shapely.Polygon(
    [(0, 0), (900, -40), (1000, 480), (520, 430), (480, 900), (60, 850)],
    [shapely.Point(330, 300).buffer(70, quad_segs=3).exterior.coords],
)
WELL, CREEK = shapely.Point(700, 200), shapely.LineString([(100, 100), (400, 120), (300, 700)])
NEAR = [(WELL, 12.0), (CREEK, 40.0)]
KINDS = {
    "rectangles": lambda: ik.rectangles(L_SHAPE, cell=90),
    "banded": lambda: ik.rectangles(L_SHAPE, cell=120, near=[(WELL, 20.0)], keep=0.4),
    "rotated": lambda: ik.rectangles(L_SHAPE, cell=(80, 110), rotation=25),
    "cut": lambda: ik.rectangles(L_SHAPE, cell=90, rotation=-10, keep="cut"),
    "split": lambda: ik.split_in_four(L_SHAPE, cell=110, near=NEAR),
    "split, cut": lambda: ik.split_in_four(L_SHAPE, cell=110, near=NEAR, rotation=15, keep="cut"),
    "voronoi": lambda: ik.voronoi(L_SHAPE, cell=110, near=NEAR),
}
FILLING = ("cut", "split, cut", "voronoi")


@pytest.fixture(scope="module", params=KINDS)
def kind(request):
    return request.param


@pytest.fixture(scope="module")
def mesh(kind):
    return KINDS[kind]()


def layerings(mesh):
    """Layer columns in the ways a kind of mesh allows."""
    yield {}
    yield {"layer_cell": {"b": 180, "c": "0.4 km"}}
    if hasattr(mesh, "whole"):
        yield {"max_splits": {"b": 1, "c": 0}}
        yield {"max_splits": {"a": 0}}


def test_cells_cover_what_they_are_to(kind, mesh):
    assert isinstance(mesh, PlanMesh)
    shapes = mesh.polygons()
    npt.assert_allclose(shapely.area(shapes), mesh.area, rtol=1e-9)
    npt.assert_allclose(shapely.area(shapely.union_all(shapes)), mesh.area.sum(), rtol=1e-9)
    npt.assert_allclose(shapely.get_coordinates(shapely.centroid(shapes)), mesh.centroid, atol=1e-6)
    if kind in FILLING:
        npt.assert_allclose(mesh.area.sum(), L_SHAPE.area, rtol=1e-9)
    else:
        assert abs(mesh.area.sum() / L_SHAPE.area - 1) < 0.1
    inside = shapely.get_coordinates(shapely.point_on_surface(shapes))
    npt.assert_array_equal(mesh.locate(*inside.T), np.arange(mesh.n_cells))
    assert mesh.locate([330.0, 5000.0], [300.0, 0.0]).tolist() == [-1, -1]  # in the hole, and outside


def test_the_making_does_not_depend_on_the_order_of_features():
    two = [(CREEK, 40.0), (WELL, 12.0)]
    for make in (ik.voronoi, ik.split_in_four):
        size = {"cell": 110}
        first, again = make(L_SHAPE, near=NEAR, **size), make(L_SHAPE, near=two, **size)
        npt.assert_array_equal([first.x, first.y], [again.x, again.y])


@given(st.integers(0, 2**32 - 1), st.sampled_from(list(KINDS)), st.integers(1, 4))
@settings(max_examples=30, deadline=None)
def test_every_grid_is_whole(seed, kind, layers):
    """Cells are closed, faces stand once, volumes fill the space between the surfaces, absent layers or not."""
    mesh, rng = KINDS[kind](), np.random.default_rng(seed)
    thickness = rng.uniform(0.5, 5.0, (layers, mesh.n_cells)) * (rng.random((layers, mesh.n_cells)) > 0.3)
    thickness[rng.integers(layers)] += 1.0  # no empty column
    surfaces = -np.vstack([np.zeros(mesh.n_cells), np.cumsum(thickness, axis=0)])
    options = (
        {"layer_cell": {f"layer {k + 1}": rng.uniform(20, 500) for k in range(layers)}} if seed % 2 else {}
    )
    if kind.startswith("split") and not options:
        options = {"max_splits": {f"layer {k + 1}": int(rng.integers(3)) for k in range(layers)}}
    grid = ik.layered(mesh, list(surfaces), **options)
    cells, faces = grid.cells, grid.faces
    npt.assert_allclose(cells.volume.sum(), (thickness * mesh.area).sum())
    assert len(np.unique(np.sort(faces.cells, axis=1), axis=0)) == len(faces) or "cut" in kind  # by a notch
    floors = faces.kind == FLOOR
    # floors: what lies above each other in plan, all of it
    below = np.bincount(faces.cells[floors, 0], faces.area[floors], grid.n_cells)
    expected = np.zeros(grid.n_cells)
    for plan in range(mesh.n_cells):
        expected[grid.column_of(plan)[:-1]] += mesh.area[plan]
    npt.assert_allclose(below, expected, atol=1e-6)
    npt.assert_array_equal(cells.layer[faces.cells[~floors, 0]], cells.layer[faces.cells[~floors, 1]])
    npt.assert_array_less(cells.layer[faces.cells[floors, 0]], cells.layer[faces.cells[floors, 1]])
    for plan_mesh in grid.meshes:
        edges = plan_mesh.edges()
        rim = plan_mesh.outer_edges() if isinstance(plan_mesh, MergedMesh) else outer_edges(plan_mesh)
        turn = np.zeros((plan_mesh.n_cells, 2))
        for cell, sign, side in (
            (edges.cells[:, 0], 1.0, edges),
            (edges.cells[:, 1], -1.0, edges),
            (rim.cell, 1.0, rim),
        ):
            np.add.at(turn, cell, sign * side.length[:, None] * side.normal)
        npt.assert_allclose(turn, 0.0, atol=1e-5)  # edges of overlaid shapes meet to a micrometre
        along = edges.ends[:, 1] - edges.ends[:, 0]
        npt.assert_allclose((along * edges.normal).sum(axis=1), 0.0, atol=1e-6)


ROTATED = np.array([[3.0, 1.0, 0.2], [1.0, 2.0, 0.1], [0.2, 0.1, 0.4]])


def test_linear_heads_give_exact_flows(mesh):
    """Any constant tensor, level layers, branching columns included, to 1e-10 (DESIGN: face rows)."""
    slope = np.array([0.01, -0.02, 0.003])
    turned = np.deg2rad(30.0)
    axes = np.array([[np.cos(turned), -np.sin(turned)], [np.sin(turned), np.cos(turned)]])
    plan = np.zeros((3, 3))
    plan[:2, :2], plan[2, 2] = axes @ np.diag([7.0, 1.75]) @ axes.T, 0.5
    for options in layerings(mesh):
        grid = ik.layered(mesh, [0.0, -3.0, -10.0, -14.0], names="abc", **options)
        c, f = grid.cells, grid.faces
        head = 5.0 + np.column_stack([c.x, c.y, c.z]) @ slope
        for rows, tensor in (
            (flow_rows(grid, 7.0, 0.5), np.diag([7.0, 7.0, 0.5])),
            (flow_rows(grid, 7.0, 0.5, anisotropy=4.0, direction=30.0), plan),
            (tensor_rows(grid, ROTATED), ROTATED),
        ):
            exact = -(f.normal @ tensor @ slope) * f.area
            assert len(rows.inexact) == 0
            npt.assert_allclose(rows.matrix @ head, exact, atol=1e-10 * np.abs(exact).max())
        sample = sampling_rows(grid, [2, 0, 1], [700.0, 300.0, 640.0], [205.0, 560.0, 120.0])
        linear = 2.0 + 0.3 * c.x - 0.1 * c.y
        npt.assert_allclose(sample @ linear, [2 + 210 - 20.5, 2 + 90 - 56, 2 + 192 - 12])


def test_rows_of_two_stand_only_where_centres_are_square_to_the_face(kind, mesh):
    grid = ik.layered(mesh, [0.0, -3.0, -10.0])
    rows = flow_rows(grid, 7.0, 0.5)
    centre = np.column_stack([grid.cells.x, grid.cells.y, grid.cells.z])[grid.faces.cells]
    arm = centre[:, 1] - centre[:, 0]
    across = np.cross(arm, grid.faces.normal)
    straight = np.linalg.norm(across, axis=1) < 1e-6 * np.linalg.norm(arm, axis=1)
    npt.assert_array_equal(rows.two_point, straight)
    assert straight.all() == (
        kind not in ("split", "split, cut", "cut")
    )  # cut off at its centre, a cell has another one
    if straight.all():
        assert len(rows.losing_monotonicity()) == 0
    aslant = flow_rows(grid, 7.0, 0.5, anisotropy=9.0, direction=40.0)
    assert len(aslant.losing_monotonicity()) > 0
    assert aslant.two_point[grid.faces.is_floor].all()


def test_a_tensor_that_cannot_be():
    grid = ik.layered(ik.rectangles((0, 0, 20, 10), cell=10), [0.0, -1.0])
    with pytest.raises(ik.InputError, match=r"tensor\[0\] is not symmetric positive definite \(2 of 2"):
        tensor_rows(grid, np.diag([1.0, -1.0, 1.0]))
    with pytest.raises(ik.InputError, match=r"anisotropy\[0\] is 0; expected a ratio above 0"):
        flow_rows(grid, 1.0, 1.0, anisotropy=0.0)


def test_splits_reach_their_sizes_and_neighbours_differ_by_one():
    mesh = KINDS["split"]()
    size = np.sqrt(mesh.area)
    assert size[mesh.locate(WELL.x, WELL.y)] <= 12.0
    along = shapely.get_coordinates(shapely.segmentize(CREEK, 5.0))
    there = mesh.locate(*along.T)
    assert size[there[there >= 0]].max() <= 40.0
    npt.assert_allclose(size.max(), 110.0)
    pair = mesh.splits[mesh.edges().cells]
    assert np.abs(pair[:, 0] - pair[:, 1]).max() == 1
    slow = ik.split_in_four(L_SHAPE, cell=110, near=NEAR, ring=3)
    assert slow.n_cells > 1.3 * mesh.n_cells
    whole = MergedMesh(mesh, mesh.whole(0))
    npt.assert_allclose(whole.area.max(), 110.0**2)
    npt.assert_allclose(whole.area.sum(), mesh.area.sum())


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({"cell": 100, "ring": 0}, "ring is 0"),
        ({"cell": 100, "near": [(WELL, 1e-7)]}, "more than 20 splits"),
        ({"cell": 100, "near": [(WELL, -1.0)]}, "near is -1 m"),
        ({}, "either `cell`"),
        ({"cell": 100, "keep": 7}, "keep is 7"),
    ],
)
def test_split_meshes_that_cannot_be(options, message):
    with pytest.raises(ik.InputError, match=message):
        ik.split_in_four(L_SHAPE, **options)


@pytest.mark.parametrize("size", [130.0, 300.0])
def test_cells_are_joined_to_the_size_asked_for(kind, mesh, size):
    grid = ik.layered(mesh, [0.0, -1.0, -2.0], names="ab", layer_cell={"b": size})
    lower = grid.meshes[1]
    usual = np.sqrt((lower.area**2).sum() / lower.area.sum())
    assert 0.65 * size < usual < 1.2 * max(size, np.sqrt(mesh.area.max()))
    assert np.sqrt(lower.area).max() < max(1.5 * size, np.sqrt(mesh.area.max()) + 1e-9)
    npt.assert_allclose(lower.area.sum(), mesh.area.sum())
    assert len(grid.within_layer[0]) == mesh.n_cells
    with pytest.raises(ik.InputError, match='layer_cell of "b" is 0 m'):
        ik.layered(mesh, [0.0, -1.0, -2.0], names="ab", layer_cell={"b": 0.0})


@pytest.mark.parametrize("kind", ["voronoi", "split, cut"])
def test_larger_cells_below_change_little(kind):
    """A well in sand over clay and gravel of larger cells: heads within 3 % of the drawdown."""
    mesh = KINDS[kind]()
    heads = {}
    for name, options in {"fine": {}, "coarse": {"layer_cell": {"clay": 60, "gravel": 90}}}.items():
        grid = ik.layered(mesh, [0.0, -10.0, -13.0, -40.0], names=["sand", "clay", "gravel"], **options)
        rim = np.unique(grid.outer_faces.cell)
        rim = rim[grid.cells.layer[rim] == 2]
        well = grid.cell_number[0][mesh.locate([700.0], [200.0])]
        terms = [
            ik.terms.FixedHeadTerm(cells=rim, head=np.full(len(rim), 20.0)),
            ik.terms.WellTerm(cells=well, rate=-500.0, connection=1e3),
        ]
        flow = ik.solve_flow(ik.Model(grid, np.array([10.0, 0.05, 20.0]), terms=terms))
        heads[name] = flow.steps[-1].heads[: mesh.n_cells]
        budget = flow.budget()
        assert budget.iloc[-1, 0] == pytest.approx(budget.iloc[-1, 1], rel=1e-7)
    drawdown = 20.0 - heads["fine"].min()
    npt.assert_allclose(heads["coarse"], heads["fine"], atol=0.03 * drawdown)


@pytest.mark.parametrize(
    ("mesh", "most", "message"),
    [
        ("rectangles", {"b": 1}, "says nothing of a mesh that was not split"),
        ("split", {"sand": 1}, r'names the layer "sand"; expected one of'),
        ("split", {"b": -1}, 'max_splits of "b" is -1'),
    ],
)
def test_splits_by_layer_that_cannot_be(mesh, most, message):
    with pytest.raises(ik.InputError, match=message):
        ik.layered(KINDS[mesh](), [0.0, -1.0, -2.0], names="ab", max_splits=most)


@pytest.mark.parametrize("options", [{}, {"layer_cell": {"b": 200}}])
def test_an_even_flow_is_told_as_it_is_at_every_place(kind, mesh, options):
    """Heads of a plane held all round, under rain that goes straight down: flux and pore velocity in every cell."""
    grid = ik.layered(mesh, [0.0, -4.0, -10.0], names="ab", **options)
    cells, slope = grid.cells, np.array([0.004, -0.007])
    rim = np.unique(grid.outer_faces.cell)
    head = 20.0 + np.column_stack([cells.x, cells.y]) @ slope
    model = ik.Model(grid, 6.0, porosity=0.25, terms=[ik.terms.FixedHeadTerm(cells=rim, head=head[rim])])
    flow = ik.solve_flow(model, closure=1e-13)
    inner = np.setdiff1d(np.arange(grid.n_cells), rim)
    for cell in inner[:: max(1, len(inner) // 12)]:
        table = flow.at_cell(int(cell)).drop(columns="unit").iloc[:, 0]
        for k, axis in enumerate("xy"):
            assert table[f"Darcy flux along {axis}"] == pytest.approx(-6.0 * slope[k], rel=1e-6)
            assert table[f"pore velocity along {axis}"] == pytest.approx(-24.0 * slope[k], rel=1e-6)
        assert table["Darcy flux along z"] == pytest.approx(0.0, abs=1e-8)


def test_what_stands_at_a_place_is_shown():
    grid = ik.layered(ik.rectangles((0, 0, 30, 30), cell=10), [0.0, -2.0, -6.0], names="ab")
    rain = ik.terms.RechargeTerm(cells=np.arange(9), rate=0.01, area=100.0, feature_names=("rain",))
    model = ik.Model(
        grid, 5.0, terms=[rain, ik.terms.FixedHeadTerm(cells=np.arange(9, 18), head=1.0)], porosity=0.2
    )
    flow = ik.solve_flow(model)
    table = flow.at(15.0, 15.0)
    assert list(table.columns) == ["unit", "a", "b"]
    assert table.loc["from recharge rain", "a"] == pytest.approx(1.0)
    # 0.01 m/day comes in by the top and leaves by the floor; below it goes into the held cell by and by
    assert table.loc["Darcy flux along z", "a"] == pytest.approx(-0.01)
    assert flow.at(15.0, 15.0, -3.0).columns.tolist() == ["unit", "b"]
    assert flow.at_times(15.0, 15.0)["b [m]"].tolist() == [1.0]
    assert flow.of_feature("rain")["into the aquifer [m³/day]"].sum() == pytest.approx(9.0)
    for ask, message in (
        (lambda: flow.at(99.0, 15.0), "no cell at x=99, y=15"),
        (lambda: flow.at(15.0, 15.0, 7.0), "z=7"),
        (lambda: flow.at_cell(18), "no cell 18; expected 0 to 17"),
        (lambda: flow.of_feature("rian"), 'Did you mean "rain"'),
    ):
        with pytest.raises(ik.InputError, match=message):
            ask()


@pytest.mark.parametrize("other", KINDS)
@pytest.mark.parametrize("seed", [0, 1])
def test_what_is_carried_to_another_grid_keeps_its_total(kind, mesh, other, seed):
    """Other mesh, other layers, some of them absent: volumes are shared, amounts kept where both grids are."""
    rng = np.random.default_rng(seed)

    def some(plan, layers):
        thickness = rng.uniform(1, 4, (layers, plan.n_cells)) * (rng.random((layers, plan.n_cells)) > 0.2)
        thickness[-1] += 12.0 - thickness.sum(axis=0)
        return ik.layered(plan, list(-np.vstack([np.zeros(plan.n_cells), np.cumsum(thickness, axis=0)])))

    of, to = some(mesh, 3), some(KINDS[other](), 2)
    shared = ik.overlap(of, to)
    common = shapely.union_all(mesh.polygons()).intersection(shapely.union_all(to.mesh.polygons())).area
    npt.assert_allclose(shared.volume.sum(), 12.0 * common, rtol=1e-9)
    whole = shared.volume.sum(axis=0) / of.cells.volume
    amounts = rng.uniform(0, 5, of.n_cells)
    npt.assert_allclose(shared.share_out(amounts).sum(), (amounts * whole).sum(), rtol=1e-9)
    assert shared.shared.max() < 1 + 1e-9
    known = shared.shared > 0
    npt.assert_allclose(shared.mean(np.full(of.n_cells, 7.0))[known], 7.0)
    assert np.isnan(shared.mean(np.full(of.n_cells, 7.0))[~known]).all()


def test_shapes_meet_the_cells_that_their_outlines_meet(mesh):
    outlines, away = mesh.polygons(), shapely.Point(0, -1e5).buffer(10)
    ring = shapely.Point(480, 420).buffer(400).difference(shapely.Point(480, 420).buffer(150))
    shapes = np.array([ring, CREEK, away, outlines[3]], dtype=object)
    meeting = Meeting(mesh)
    whose, cell, whole = meeting.met(shapes)
    for k, shape in enumerate(shapes):
        mine = whose == k
        npt.assert_array_equal(cell[mine], np.flatnonzero(shapely.intersects(shape, outlines)))
        npt.assert_array_equal(whole[mine], shapely.contains_properly(shape, outlines[cell[mine]]))
    assert shapely.equals(meeting.outlines(cell), outlines[cell]).all()
    near = np.flatnonzero(shapely.dwithin(outlines, CREEK, 30.0))
    npt.assert_array_equal(meeting.within(CREEK, 30.0), near)


def test_areas_of_cells_are_the_same_from_their_sides(mesh, monkeypatch):
    around = np.hypot(mesh.x - 480, mesh.y - 420)
    monkeypatch.setattr(rim, "_MANY", 0)
    for cells in (np.arange(mesh.n_cells), np.flatnonzero((around > 130) & (around < 420)), np.array([5])):
        found, whole = area_of(mesh, cells), shapely.union_all(mesh.polygons()[cells])
        npt.assert_allclose(found.area, mesh.area[cells].sum(), rtol=1e-6)
        assert shapely.area(found.symmetric_difference(whole)) < 1e-5 * whole.area
