"""Plan meshes, surfaces, strata, cells and faces."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely
import shapely.affinity
from hypothesis import given, settings
from hypothesis import strategies as st

import inkhorn as ik
from inkhorn.space import FLOOR, PlanMesh, flow_rows, sampling_rows, series_conductance
from inkhorn.space.grid_lines import GridLines
from inkhorn.space.rectangles import RectangularMesh


@pytest.mark.parametrize(("half_a", "half_b", "expected"), [
    (6.0, 3.0, 2.0),  # 1/6 + 1/3 = 1/2
    (0.0, 4.0, 0.0),  # a closed half closes the face
    (0.0, 0.0, 0.0),  # and 0/0 makes no warning
])  # fmt: skip
def test_half_cells_add_their_resistances(half_a, half_b, expected):
    npt.assert_allclose(series_conductance(half_a, half_b), expected, rtol=1e-14)


def test_a_negative_half_is_named():
    with pytest.raises(
        ik.InputError, match=r"half_b\[1\] is -3 m²/day; expected .* \(1 of 2 are bad\). Use 0"
    ):
        series_conductance([1.0, 1.0], [2.0, -3.0])


def test_cells_take_part_by_their_centre_and_the_overhang_is_shared():
    triangle = shapely.Polygon([(0, 0), (950, 0), (0, 950)])
    mesh = ik.rectangles(triangle, cell=100)
    assert mesh.shape == (10, 10)
    assert mesh.x_edges[0] == -25.0
    assert np.all(shapely.contains_xy(triangle, mesh.x, mesh.y))
    assert isinstance(mesh, PlanMesh)
    npt.assert_allclose([p.area for p in mesh.polygons()], mesh.area)


@pytest.mark.parametrize(
    ("outline", "options", "message"),
    [
        ((0, 0, 100, 100), {}, "either `cell`"),
        ((0, 0, 100, 100), {"cell": 10, "count": 10}, "not both"),
        ((0, 0, 100, 100), {"cell": 30}, "do not fill 100 m along x"),
        ((0, 0, 100, 100), {"cell": -10}, "cell"),
        ((0, 0, 100, 100), {"count": 0}, "count is 0"),
        ((100, 0, 0, 100), {"cell": 10}, "extent"),
        (shapely.Polygon([(0, 0), (9, 0), (0, 1)]), {"cell": 100}, "has no cell"),
    ],
)
def test_rectangles_that_cannot_be(outline, options, message):
    with pytest.raises(ik.InputError, match=message):
        ik.rectangles(outline, **options)


@given(st.integers(1, 7), st.integers(1, 6), st.integers(1, 4), st.integers(0, 2**32 - 1))
@settings(max_examples=40, deadline=None)
def test_every_grid_is_whole(columns, rows, layers, seed):
    """Every cell is closed, every face counted once, volumes fill the space between the surfaces."""
    rng = np.random.default_rng(seed)
    mesh = ik.rectangles((0.0, 0.0, 30.0 * columns, 20.0 * rows), count=(columns, rows))
    thickness = np.where(
        rng.random((layers, mesh.n_cells)) < 0.3, 0.0, rng.uniform(0.5, 5.0, (layers, mesh.n_cells))
    )
    thickness[rng.integers(layers)] += 1.0  # no empty column
    surfaces = -np.vstack([np.zeros(mesh.n_cells), np.cumsum(thickness, axis=0)])
    grid = ik.layered(mesh, list(surfaces))
    cells, faces = grid.cells, grid.faces
    npt.assert_allclose(cells.volume.sum(), (thickness * mesh.area).sum())
    npt.assert_array_equal(mesh.locate(mesh.x, mesh.y), np.arange(mesh.n_cells))
    pairs = {tuple(sorted(p)) for p in faces.cells.tolist()}
    assert len(pairs) == len(faces)
    # floors: each column is joined from its top to its base, and layers touch across absent ones
    floors = faces.kind == FLOOR
    assert floors.sum() == sum(len(grid.column_of(p)) - 1 for p in range(mesh.n_cells))
    first, second = faces.cells[floors].T
    npt.assert_allclose(cells.bottom[first], cells.top[second])
    npt.assert_allclose(cells.top[grid.uppermost], 0.0)
    # sides: between neighbours of one layer only, at right angles
    side = faces.cells[~floors]
    npt.assert_array_equal(cells.layer[side[:, 0]], cells.layer[side[:, 1]])
    arm = np.column_stack([cells.x, cells.y])[side]
    npt.assert_allclose(
        arm[:, 1] - arm[:, 0], faces.distance[~floors].sum(axis=1)[:, None] * faces.normal[~floors, :2]
    )
    npt.assert_allclose(
        grid.to_block(cells.volume)[np.isfinite(grid.to_block(cells.volume))].sum(), cells.volume.sum()
    )


def test_level_layers_reproduce_a_linear_head():
    """Face rows under constant conductivity give the exact flow of a linear head, to 1e-10."""
    grid = ik.layered(ik.rectangles((0, 0, 400, 300), cell=(40, 50)), [0.0, -3.0, -10.0])
    c, f = grid.cells, grid.faces
    slope = np.array([0.01, -0.02, 0.003])
    head = 5.0 + np.column_stack([c.x, c.y, c.z]) @ slope
    rows = flow_rows(grid, 7.0, 0.5)
    exact = -(np.array([7.0, 7.0, 0.5]) * slope * f.normal).sum(axis=1) * f.area
    npt.assert_allclose(rows.matrix @ head, exact, rtol=1e-10)


def test_surfaces_pass_through_their_points_and_do_not_extrapolate():
    rng = np.random.default_rng(0)
    x, y = rng.uniform(0, 100, (2, 30))
    surface = ik.PointSurface(x, y, 3.0 + 0.1 * x - 0.2 * y)
    npt.assert_allclose(surface.at(x, y), surface.z)
    npt.assert_allclose(surface.at([50.0], [50.0]), 3.0 + 5.0 - 10.0)
    assert surface.z.min() <= surface.at([1e4], [-1e4])[0] <= surface.z.max()


@pytest.mark.parametrize(
    ("xyz", "message"),
    [
        (([0, 1], [0, 1], [0, 1]), "has 2 points; expected at least 3"),
        (([0, 1, 2], [0, 1, 2], [0, 0, 0]), "all lie in one line"),
        (([0, 1, np.nan], [0, 1, 0], [0, 0, 0]), r"surface.x\[2\] is nan m"),
    ],
)
def test_surfaces_that_cannot_be(xyz, message):
    with pytest.raises(ik.InputError, match=message):
        ik.PointSurface(*(np.array(v, float) for v in xyz)).at([0.0], [0.0])


def test_the_upper_surface_wins_and_slivers_are_absent():
    """Where a base rises above its top the layer is gone, and its neighbours touch."""
    ramp = ik.PointSurface(
        np.array([0.0, 100, 0, 100]), np.array([0.0, 0, 100, 100]), np.array([-4.0, 4, -4, 4])
    )
    strata = ik.Strata(
        ik.ConstantSurface(2.0),
        (
            ik.Layer("upper", ramp, least_thickness=0.5),
            ik.Layer("middle", ik.ConstantSurface(0.0), least_thickness=0.5),
            ik.Layer("lower", ik.ConstantSurface(-10.0)),
        ),
    )
    top, bottom, _ = strata.at(np.array([10.0, 60.0, 98.0]), np.array([50.0, 50.0, 50.0]))
    # x = 10: the ramp at -3.2 leaves no middle; x = 60: 0.8; x = 98: 3.84, above the ground
    npt.assert_allclose(top, [[2, 2, np.nan], [np.nan, 0.8, 2], [-3.2, 0, 0]])
    npt.assert_allclose(bottom, [[-3.2, 0.8, np.nan], [np.nan, 0, 0], [-10, -10, -10]])
    first = strata.crossings[0]
    assert (first.layer, first.over, first.of) == ("upper", "ground", 4)
    assert (first.points.tolist(), first.rise.tolist()) == ([1, 3], [2.0, 2.0])
    assert 'never_above = "ground"' in first.cure


@pytest.mark.parametrize(
    ("values", "spread"),
    [(3.0, [3, 3, 3, 3]), ([1.0, 2.0], [1, 1, 2, 2]), ([[[1.0, 2.0]], [[3.0, 4.0]]], [1, 2, 3, 4])],
)
def test_values_spread_over_cells(values, spread):
    grid = ik.layered(ik.rectangles((0, 0, 20, 10), cell=10), [0.0, -1.0, -2.0])
    npt.assert_allclose(grid.per_cell("k", values), spread)


def test_grids_that_cannot_be():
    mesh = ik.rectangles((0, 0, 20, 10), cell=10)
    with pytest.raises(ik.InputError, match='layer "b" is upside down at x=5, y=5: top -2 m, bottom -1 m'):
        ik.layered(mesh, [0.0, -2.0, [-1.0, -3.0]], names=["a", "b"])
    with pytest.raises(ik.InputError, match="at least a top and a base"):
        ik.layered(mesh, [0.0])
    with pytest.raises(
        ik.InputError, match=r"k has the shape \(3,\); expected one number, one per layer \(1,\)"
    ):
        ik.layered(mesh, [0.0, -1.0]).per_cell("k", [1.0, 2.0, 3.0])
    with pytest.raises(ik.InputError, match='no layer "sadn"'):
        ik.layered(mesh, [0.0, -1.0], names=["sand"]).layer_index("sadn")


def test_sampling_is_linear_and_leaves_out_what_is_absent():
    mesh = ik.rectangles((0, 0, 100, 100), cell=10)
    base = np.where((mesh.x > 50) & (mesh.y > 50), 0.0, -5.0)  # layer 0 absent in one quarter
    grid = ik.layered(mesh, [0.0, base, -10.0])
    values = 2.0 + 0.3 * grid.cells.x - 0.1 * grid.cells.y
    rows = sampling_rows(grid, [0, 0, 1], [22.0, 75.0, 75.0], [31.0, 75.0, 81.0])
    npt.assert_allclose(rows @ values, [2 + 6.6 - 3.1, 0.0, 2 + 22.5 - 8.1])
    npt.assert_array_equal(np.diff(rows.indptr) > 0, [True, False, True])


BAY = shapely.Polygon([(0, 0), (900, 50), (1000, 700), (400, 900), (100, 500)])


@pytest.mark.parametrize("rotation", [0.0, 25.0])
@pytest.mark.parametrize("near", [[], [(shapely.Point(700, 300), 3.0)]])
def test_edges_stand_where_bands_begin_and_end(rotation, near):
    bands = [ik.Band("x", 117, 230.5, 30), ik.Band("x", 230.5, 300, 7), ik.Band("y", 90, 91, 40)]
    mesh = ik.rectangles(BAY, cell=70, bands=bands, near=near, rotation=rotation)
    assert {117, 230.5, 300} <= set(mesh.x_edges.tolist())
    assert {90, 91} <= set(mesh.y_edges.tolist())
    width = np.diff(mesh.x_edges)
    assert width.min() > 2.0
    assert width[(mesh.x_edges[:-1] >= 117) & (mesh.x_edges[1:] <= 230.5)].max() <= 30
    assert width[(mesh.x_edges[:-1] >= 230.5) & (mesh.x_edges[1:] <= 300)].max() <= 7 * (1 + 1e-9)


@pytest.mark.parametrize("growth", [1.1, 1.5])
def test_bands_are_narrow_and_widths_change_smoothly(growth):
    bands = [ik.Band("x", 200, 260, 5), ik.Band("x", 600, 600, 2), ik.Band("y", 100, 400, 20)]
    mesh = ik.rectangles((0, 0, 1000, 1000), cell=80, bands=bands, growth=growth)
    for edges, axis in ((mesh.x_edges, "x"), (mesh.y_edges, "y")):
        width = np.diff(edges)
        ratio = width[1:] / width[:-1]
        assert max(ratio.max(), 1 / ratio.min()) <= growth * (1 + 1e-3)
        assert width.max() <= 80 * (1 + 1e-3)
        for band in (b for b in bands if b.axis == axis):
            there = (edges[1:] > band.start) & (edges[:-1] < band.end)
            assert width[there].max() <= band.size * (1 + 1e-3)
    npt.assert_allclose([mesh.x_edges[0], mesh.x_edges[-1], mesh.area.sum()], [0, 1000, 1e6])


def test_bands_stand_near_features():
    well = ik.Well(name="w", x=310.0, y=420.0, screen_top=1.0, screen_bottom=0.0)
    creek = shapely.LineString([(700, 100), (720, 300)])
    mesh = ik.rectangles(BAY, cell=50, near=[([well], 4.0), (creek, 10.0)])
    at = mesh.locate([310.0, 710.0], [420.0, 200.0])
    npt.assert_array_less(mesh.area[at], [4.1**2 * 1.5, 10.1**2 * 1.5])
    assert mesh.area.max() > 1500


@pytest.mark.parametrize("rotation", [0.0, 30.0, -75.0])
def test_rotated_cells_lie_on_the_map(rotation):
    mesh = ik.rectangles(BAY, cell=37.0, rotation=rotation, margin=20.0)
    npt.assert_array_equal(mesh.locate(mesh.x, mesh.y), np.arange(mesh.n_cells))
    shapes = mesh.polygons()
    npt.assert_allclose(shapely.area(shapes), mesh.area)
    assert np.all(shapely.contains_xy(shapes, mesh.x, mesh.y))
    npt.assert_allclose(shapely.area(shapely.union_all(shapes)), mesh.area.sum())
    assert abs(mesh.area.sum() / BAY.area - 1) < 0.02
    edges = mesh.edges()
    centre = np.column_stack([mesh.x, mesh.y])
    between = centre[edges.cells[:, 1]] - centre[edges.cells[:, 0]]
    npt.assert_allclose(between, 37.0 * edges.normal, atol=1e-9)
    along = edges.ends[:, 1] - edges.ends[:, 0]
    npt.assert_allclose((along * edges.normal).sum(axis=1), 0.0, atol=1e-9)


@pytest.mark.parametrize(("keep", "covers"), [("centre", False), (0.3, False), ("cut", True)])
def test_cells_that_straddle_the_boundary(keep, covers):
    mesh = ik.rectangles(BAY, cell=60.0, rotation=12.0, keep=keep)
    if covers:
        npt.assert_allclose(mesh.area.sum(), BAY.area, rtol=1e-9)
        assert mesh.locate([50.0], [800.0])[0] == -1
        inner = shapely.LineString(mesh.edges().ends[0])
        assert BAY.buffer(1e-6).contains(inner)
    else:
        shares = shapely.area(shapely.intersection(mesh.polygons(), BAY)) / mesh.area
        assert shares.min() > 0.29
        assert abs(mesh.area.sum() / BAY.area - 1) < 0.15


def test_a_rotated_grid_gives_the_heads_and_paths_of_a_straight_one():
    """The same square, well and ends, turned by 30 degrees about its corner."""
    found = []
    for turn in (0.0, 30.0):
        square = shapely.affinity.rotate(shapely.box(0, 0, 400, 400), turn, origin=(0, 0))
        mesh = ik.rectangles(square, cell=20.0, rotation=turn)
        grid = ik.layered(mesh, [0.0, -10.0])
        column = mesh.row_column[1]
        ends = np.flatnonzero((column == 0) | (column == 19))
        held = ik.terms.FixedHeadTerm(cells=ends, head=np.where(column[ends] == 0, 12.0, 8.0))
        flow = ik.solve_flow(ik.Model(grid, 5.0, porosity=0.2, terms=[held]))
        assert flow.head.shape == (1, 1, 20, 20)
        u0, v0 = mesh.x_edges[0], mesh.y_edges[0]
        x, y = mesh.to_map(u0 + np.array([50.0, 310.0]), v0 + np.array([50.0, 210.0]))
        sample = sampling_rows(grid, [0], x[1:], y[1:])
        path = ik.trace(flow, [(x[0], y[0], -5.0)], max_time=500.0).ends.iloc[0]
        end = mesh.from_map(path["end x [m]"], path["end y [m]"])
        found.append([float((sample @ flow.steps[-1].heads)[0]), float(end[0]) - u0, float(end[1]) - v0])
    npt.assert_allclose(found[0], found[1], rtol=1e-9)


@pytest.mark.parametrize("rotation", [0.0, 23.0])
def test_shapes_are_cut_at_grid_lines_as_their_outlines_would_cut_them(rotation):
    rng = np.random.default_rng(3)
    edges = np.arange(0.0, 1001.0, 50.0)
    uneven = np.concatenate([[0.0], np.sort(rng.uniform(0, 1000, 18)), [1000.0]])
    present = rng.random((20, 19)) > 0.2
    mesh = RectangularMesh(uneven, edges, present, rotation=rotation, corner=(0.0, 0.0))
    there = rng.random(mesh.n_cells) > 0.1
    at = rng.uniform(0, 1000, (40, 2))
    disk = shapely.Point(400, 500).buffer(300).difference(shapely.Point(420, 500).buffer(90))
    polygons = [shapely.Point(*c).buffer(r) for c, r in zip(at, rng.uniform(1, 300, 40), strict=True)]
    polygons += [shapely.union(disk, shapely.box(800, 0, 830, 1500)), shapely.box(-50, -50, 1200, 1200)]
    lines = [shapely.LineString(c + np.cumsum(rng.normal(0, 80, (5, 2)), axis=0)) for c in at]
    lines += [shapely.MultiLineString([[(0, 10), (990, 20)], [(5, 5), (400, 400)]])]
    if not rotation:  # along edges, and through corners
        lines += [
            shapely.LineString([(uneven[4], 100), (uneven[4], 530), (uneven[7], 530), (uneven[7], 550)])
        ]
        lines += [shapely.LineString([(0, 100), (1000, 100)])]
        polygons += [shapely.box(uneven[2], 100, uneven[9], 350)]
    cuts, outlines = GridLines(mesh), mesh.polygons()

    whose, plan, area = cuts.areas(np.array(polygons, dtype=object), there)
    found = np.zeros((len(polygons), mesh.n_cells))
    found[whose, plan] = area
    wanted = shapely.area(shapely.intersection(outlines, np.array(polygons, dtype=object)[:, None])) * there
    npt.assert_allclose(found, wanted, atol=1e-8)
    assert (area > 0).all()

    cut = cuts.lengths(np.array(lines, dtype=object), there)
    found = np.zeros((len(lines), mesh.n_cells))
    found[cut.whose, cut.plan] = cut.length
    parts = shapely.intersection(outlines, np.array(lines, dtype=object)[:, None])
    for k, row in enumerate(parts):  # what runs along an edge is shared by the cells there that take part
        ring = shapely.boundary(outlines)
        wanted = shapely.length(row) * there
        for i in np.flatnonzero(shapely.length(shapely.intersection(ring, row)) * there > 1e-9):
            for j in np.flatnonzero(shapely.length(shapely.intersection(row, row[i])) * there > 1e-9):
                wanted[i] -= 0.5 * shapely.length(shapely.intersection(row[i], row[j])) * (i != j)
        npt.assert_allclose(found[k], wanted, atol=1e-8)
    centre = shapely.centroid(parts[cut.whose, cut.plan])
    npt.assert_allclose(cut.middle, shapely.get_coordinates(centre), atol=1e-6)
