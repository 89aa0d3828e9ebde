"""Local models cut out of a region: the same cells, finer ones, exact solutions, budgets, and what is refused."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.special import exp1

import inkhorn as ik
from inkhorn.cuts.region import ways_to_rim
from inkhorn.flow import FlowEquations
from inkhorn.model import terms
from inkhorn.space import sampling_rows

CONFINED = ik.WaterTable(confined=True)
OUTLINE = shapely.box(600, 300, 1500, 900)
IN_TIME = ik.Schedule([0.0, 30.0, 60.0, 120.0], steady=[True, False, False, False], steps=[1, 3, 3, 4])
MESHES = {
    "rectangles": lambda: ik.rectangles((0, 0, 2000, 1200), cell=50),
    "voronoi": lambda: ik.voronoi(shapely.box(0, 0, 2000, 1200), cell=80, seed=2),
    "split": lambda: ik.split_in_four(shapely.box(0, 0, 2000, 1200), cell=100, near=[(OUTLINE, 50)]),
}


def region(mesh, schedule=None, river=()):
    """Two layers of scattered conductivity under rain, a river in the north, a lake in the west, and two wells."""
    grid, rng = ik.layered(mesh, [20.0, 8.0, -10.0]), np.random.default_rng(1)
    c, north = grid.cells, grid.mesh.locate(np.arange(25, 2000, 50), np.full(40, 1175.0))
    k = 10 ** rng.normal(0.5, 0.4, grid.n_cells)
    bed = np.unique(grid.cell_number[0][[*north, *(mesh.locate([x], [y])[0] for x, y in river)]])
    wells = grid.cell_number[1][mesh.locate([1025.0, 175.0], [525.0, 325.0])]
    made = [
        terms.FixedHeadTerm(cells=np.flatnonzero(c.x < 50), head=15.0),
        terms.RiverTerm(cells=bed, conductance=30.0, stage=12.0, bed=11.0),
        terms.RechargeTerm(cells=grid.uppermost, rate=8e-4, area=c.area[grid.uppermost]),
        terms.WellTerm(
            cells=wells,
            feature_names=("a", "b"),
            feature_index=[0, 1],
            connection=20.0,
            rate=[-800.0, -300.0],
        ),
    ]
    rates = np.array([[-800.0, -300.0], [-800.0, -300.0], [-2000.0, -100.0], [0.0, -300.0]])
    return ik.Model(
        grid, k, k / 5, specific_storage=1e-5, specific_yield=0.15, terms=made, schedule=schedule,
        inputs_in_time={} if schedule is None else {"well.rate": rates},
    )  # fmt: skip


def residual(local, flow, step=0):
    """What the region's heads leave over in the local equations of steady flow."""
    equations = FlowEquations(local.model)
    there = equations.settled(equations.start(local.initial_heads(step)))
    return np.abs(equations.evaluate(there).residual)


@pytest.mark.parametrize("schedule", [None, IN_TIME], ids=["steady", "in time"])
@pytest.mark.parametrize("mesh", MESHES)
def test_the_same_cells_have_the_same_heads(mesh, schedule):
    """Whatever the mesh, with heads or flows at the rim; and the budgets are the same."""
    flow = ik.solve_flow(region(MESHES[mesh](), schedule, river=[(1025, 825)]), closure=1e-12)
    for rim in (None, "flows"):
        local = ik.cut(flow, OUTLINE, rim=rim)
        if rim is None and schedule is None:
            assert residual(local, flow).max() < 1e-9
        found = local.solve(closure=1e-12)
        for step in range(len(found.steps)):
            agrees = local.agreement(found, step)
            if rim == "flows" or all(s.way == "heads" for s in local.stretches):
                assert np.nanmax(np.abs(agrees.difference)) < 1e-8
                turnover = agrees.budget.loc["total"].iloc[0]
                npt.assert_allclose(
                    agrees.budget.iloc[:, :2], agrees.budget.iloc[:, 2:], atol=1e-6 * turnover
                )


def test_closed_along_the_flow_and_otherwise_is_proposed():
    """In even flow to the east two sides lie along it; on a turned outline all are crossed at an angle."""
    grid = ik.layered(ik.rectangles((0, 0, 3000, 2000), cell=100), [10.0, 0.0])
    c = grid.cells
    ends = terms.FixedHeadTerm(
        cells=np.flatnonzero((c.x < 100) | (c.x > 2900)),
        head=np.where(c.x < 1500, 9.0, 5.0)[(c.x < 100) | (c.x > 2900)],
    )
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[ends]))
    square = shapely.box(800, 500, 2200, 1500)
    assert {s.name: s.way for s in ik.propose_rim(flow, square)} == {
        "south rim": "closed", "east rim": "heads", "north rim": "closed", "west rim": "heads",
    }  # fmt: skip
    assert all(s.way == "heads" for s in ik.propose_rim(flow, shapely.affinity.rotate(square, 30)))
    within = ik.propose_rim(flow, shapely.box(800, 0, 2200, 1500))
    assert {s.name: s.way for s in within}["south rim"] == "own"
    local = ik.cut(flow, square, grid=ik.rectangles(square, cell=20))
    table = local.rim()
    npt.assert_allclose(
        table.loc["west rim", "inflow [m³/day]"], table.loc["east rim", "outflow [m³/day]"], rtol=0.01
    )
    agrees = local.agreement(local.solve())
    assert np.nanmax(np.abs(agrees.difference)) < 2e-3
    assert not agrees.warnings()


def test_an_outline_along_the_flow_is_crossed_on_two_sides_alone():
    """Of flow around a corner: what enters by one side leaves by the other, next to nothing by those between."""
    grid = ik.layered(ik.rectangles((0, 0, 3000, 2000), cell=50), [10.0, 4.0, 0.0])
    c = grid.cells
    west, south = c.x < 50, (c.y < 50) & (c.x > 2000)
    ends = terms.FixedHeadTerm(
        cells=np.flatnonzero(west | south), head=np.where(west, 9.0, 5.0)[west | south]
    )
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[ends]))
    outline = ik.outline_along_flow(flow, (1500.0, 900.0), upstream=600.0, downstream=400.0, width=500.0)
    assert 3e5 < outline.area < 7e5
    assert shapely.contains_xy(outline, 1500.0, 900.0)
    stretches = ik.propose_rim(flow, outline)
    ways = [s.way for s in stretches]
    assert ways.count("closed") == 2
    crossed = sum(s.inflow + s.outflow for s in stretches if s.way == "heads")
    assert sum(s.inflow + s.outflow for s in stretches if s.way == "closed") < 0.02 * crossed
    with pytest.raises(ik.InputError, match="outside the region"):
        ik.outline_along_flow(flow, (1500.0, 900.0), upstream=2500.0, downstream=400.0, width=500.0)


RADIUS, T, Q = 0.2, 200.0, 1500.0


def drawn(x, y):
    """Uniform flow with a well at the origin."""
    return 50.0 - 0.002 * x + Q / (2 * np.pi * T) * np.log(np.maximum(np.hypot(x, y), RADIUS) / 3000.0)


def uniform_with_well(half, cell):
    mesh = ik.rectangles((-half, -half, half, half), cell=cell)
    grid = ik.layered(mesh, [0.0, -20.0])
    outer, plain = grid.outer_faces, ik.Model(grid, T / 20.0)
    rim = terms.FixedHeadTerm(
        cells=outer.cell,
        outer_face=np.arange(len(outer)),
        way=ways_to_rim(plain),
        head=drawn(*outer.middle.T),
    )
    middle = mesh.locate([0.0], [0.0])
    ring = np.log(mesh.equivalent_radius(middle)[0] / RADIUS)
    well = terms.WellTerm(cells=middle, connection=2 * np.pi * 20.0 / ring, rate=-Q, feature_names=("well",))
    return ik.Model(grid, T / 20.0, terms=[rim, well], water_table=CONFINED)


def test_a_well_in_uniform_flow_is_as_good_as_on_fine_cells_throughout():
    """Its level and five bores, with less than a tenth of the cells; aligned with the region's and turned."""
    bores = np.array([[30.0, -25.0], [40.0, 80.0], [-120.0, -60.0], [160.0, 100.0], [20.0, -180.0]])

    def off(flow):
        grid = flow.model.grid
        heads = sampling_rows(grid, np.zeros(5, int), *bores.T) @ flow.steps[0].heads
        level = flow.steps[0].extra_unknowns[-1] - drawn(0.0, 0.0)
        return np.abs(level), np.sqrt(((heads - drawn(*bores.T)) ** 2).mean())

    whole = ik.solve_flow(uniform_with_well(3050.0, 100.0))
    fine = ik.solve_flow(uniform_with_well(3050.0, 20.0))
    for angle in (0.0, 20.0):
        outline = shapely.affinity.rotate(shapely.box(-510, -510, 510, 510), angle)
        local = ik.cut(whole, outline, grid=ik.rectangles(outline, cell=20, rotation=angle), rim="heads")
        assert local.model.grid.n_cells + whole.model.grid.n_cells < 0.1 * fine.model.grid.n_cells
        level, heads = off(local.solve())
        assert level < 1.3 * off(fine)[0] < 0.005
        assert heads < 1.7 * off(fine)[1]
        assert heads < 0.15 * off(whole)[1]


def test_a_well_beside_a_stream_in_time_is_as_good_as_on_fine_cells_throughout():
    """Theis (1935) with an image beyond the stream; errors at five bores and three times."""
    conductivity, storage, rate = 10.0, 1e-4, 1500.0
    bores = np.array([[520.0, 40.0], [300.0, -60.0], [450.0, 170.0], [600.0, -150.0], [330.0, 120.0]])
    schedule = ik.Schedule([4.0], steps=30, growth=1.15)

    def exact(t):
        def of(r):
            return exp1(r * r * storage / (4.0 * conductivity * t))

        near, image = (np.hypot(bores[:, 0] - x, bores[:, 1]) for x in (450.0, -450.0))
        return 30.0 - rate / (4 * np.pi * conductivity * 20.0) * (of(near) - of(image))

    def model(cell):
        mesh = ik.rectangles((-cell / 2, -2970 - cell / 2, 4050 - cell / 2, 2970 + cell / 2), cell=cell)
        grid = ik.layered(mesh, [0.0, -20.0])
        stream = terms.FixedHeadTerm(cells=np.flatnonzero(grid.cells.x < cell / 4), head=30.0)
        well = terms.WellTerm(cells=mesh.locate([450.0], [0.0]), connection=10.0, rate=-rate, x=450.0, y=0.0)
        return ik.Model(
            grid, conductivity, specific_storage=storage, specific_yield=0.1, terms=[stream, well],
            water_table=CONFINED, schedule=schedule,
        )  # fmt: skip

    def off(flow):
        rows = sampling_rows(flow.model.grid, np.zeros(5, int), *bores.T)
        return np.abs([rows @ s.heads - exact(s.end) for s in (flow.steps[k] for k in (-1, -6, -12))]).max()

    whole = ik.solve_flow(model(90.0), initial_heads=30.0)
    fine = ik.solve_flow(model(18.0), initial_heads=30.0)
    outline = shapely.box(135, -405, 945, 405)
    local = ik.cut(whole, outline, grid=ik.rectangles(outline, cell=18), rim="heads")
    assert local.model.grid.n_cells + whole.model.grid.n_cells < 0.1 * fine.model.grid.n_cells
    assert off(local.solve()) < 1.1 * off(fine) < 0.5 * off(whole)


def test_what_acts_on_the_own_rim_of_a_region_of_arrays_is_taken_over():
    """On the same sides; on others it is refused."""
    whole = ik.solve_flow(uniform_with_well(550.0, 100.0))
    outline = shapely.box(-550, -350, 150, 350)
    local = ik.cut(whole, outline)
    assert {s.way for s in local.stretches} == {"own", "heads"}
    assert len(local.model.term("fixed head").cells) == 7
    agrees = local.agreement(local.solve(closure=1e-12))
    assert np.nanmax(np.abs(agrees.difference)) < 1e-8
    lake = terms.HeadDependentTerm(cells=[60], head=50.0, way=0.3, beyond=4.0)
    fine = ik.cut(
        replace(whole.model, terms=(*whole.model.terms, lake)),
        shapely.box(-300, -300, 300, 300),
        grid=ik.rectangles((-300, -300, 300, 300), cell=30),
    )
    npt.assert_allclose([getattr(fine.model.term(lake.kind), n).sum() for n in ("way", "beyond")], [0.3, 4.0])
    with pytest.raises(ik.InputError, match="acts on its own rim"):
        ik.cut(whole, outline, grid=ik.rectangles(outline, cell=50))


def test_holes_of_the_grid_stay_closed_and_a_grid_elsewhere_is_refused():
    grid = ik.layered(ik.rectangles((0, 0, 3000, 2000), cell=100), [10.0, 0.0])
    sides = np.flatnonzero((grid.cells.x < 100) | (grid.cells.x > 2900))
    ends = terms.FixedHeadTerm(cells=sides, head=np.where(grid.cells.x[sides] < 1500, 9.0, 5.0))
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[ends]))
    outline, hole = shapely.box(800, 500, 2200, 1500), shapely.box(1300, 900, 1700, 1100)
    local = ik.cut(flow, outline, grid=ik.rectangles(outline.difference(hole), cell=50), rim="heads")
    faces = local.model.term("rim head").outer_face
    middle = shapely.points(local.model.grid.outer_faces.middle[faces])
    assert shapely.distance(outline.exterior, middle).max() < 1.0
    assert len(faces) < len(local.model.grid.outer_faces)
    with pytest.raises(ik.InputError, match="the grid ends at"):
        ik.cut(flow, outline, grid=ik.rectangles(shapely.box(800, 500, 1900, 1500), cell=50))


def test_finer_cells_agree_within_the_errors_of_the_region():
    """Refining both, the difference falls with the square of the cells'."""
    found = []
    for cell in (100.0, 50.0, 25.0):
        grid = ik.layered(ik.rectangles((0, 0, 2000, 1200), cell=cell), [20.0, 0.0])
        c = grid.cells
        west = terms.FixedHeadTerm(cells=np.flatnonzero(c.x < cell), head=15.0)
        rain = terms.RechargeTerm(cells=grid.uppermost, rate=1e-3, area=c.area)
        flow = ik.solve_flow(ik.Model(grid, 8.0, terms=[west, rain], water_table=CONFINED))
        for turn in (0.0, 25.0):
            outline = shapely.affinity.rotate(shapely.box(700, 300, 1500, 900), turn)
            local = ik.cut(
                flow, outline, grid=ik.rectangles(outline, cell=cell / 5, rotation=turn), rim="heads"
            )
            found.append(np.nanmax(np.abs(local.agreement(local.solve()).difference)))
    orders = np.log2(np.array(found[:-2]) / np.array(found[2:]))
    assert (orders > 1.7).all()


def test_flows_across_any_outline_balance():
    """Along no sides of cells, with rain and a well within: what the rim brings is what is missing."""
    flow = ik.solve_flow(region(MESHES["rectangles"](), river=[(1025, 825)]), closure=1e-12)
    outline = shapely.Polygon([(610, 480), (1010, 215), (1480, 560), (1333, 890), (700, 870)])
    mesh = ik.rectangles(outline, cell=15, keep="cut")
    local = ik.cut(flow, outline, grid=mesh, rim={"rest": "flows"})
    agrees = local.agreement(local.solve())
    within = agrees.budget.drop(index="total").iloc[:, 0] - agrees.budget.drop(index="total").iloc[:, 1]
    assert abs(within.sum()) < 1e-6 * agrees.budget.loc["total"].iloc[0]
    assert agrees.heads.loc["all cells", "RMS [m]"] < 0.3


@pytest.mark.parametrize(
    ("outline", "rim", "words"),
    [
        ([(600, 300), (1500, 900), (1500, 300), (600, 900)], None, "not valid: Self-intersection"),
        (shapely.box(600, 300, 2600, 900), None, "outside the region"),
        (shapely.box(5000, 300, 6000, 900), None, "100.0% of the outline lies outside the region"),
        ([(600, 300), (700, 300)], None, "no polygon"),
        (OUTLINE, "flows", "fixes no level"),
        (OUTLINE, "head", 'expected one of .* Did you mean "heads"'),
        (OUTLINE, {"sud rim": "heads"}, 'Did you mean "south rim"'),
    ],
)  # fmt: skip
def test_what_no_local_model_can_be_is_refused(outline, rim, words):
    flow = ik.solve_flow(region(MESHES["rectangles"]()))
    with pytest.raises(ik.InputError, match=words):
        ik.cut(flow, outline, rim=rim)


def test_a_pit_takes_what_dupuit_says_while_it_is_dug():
    """Down to the base of an island under a water table (Charny 1951, whatever seeps out of its sides); none before."""
    disc, pit = (shapely.Point(0, 0).buffer(r, quad_segs=32) for r in (400.0, 40.0))
    strata = ik.Strata(ik.ConstantSurface(12.0), (ik.Layer("sand", ik.ConstantSurface(0.0), parts=4),))
    sea = ik.FixedHead(
        name="sea", shape=shapely.LineString(disc.exterior.coords), head=10.0, every_layer=True
    )
    sand = ik.Material("sand", 5.0, specific_storage=1e-5, specific_yield=1e-3)
    mesh = ik.voronoi(disc, cell=25, near=[(pit, 8)], seed=1)

    def taken(floor):
        dug = ik.Excavation(name="pit", shape=pit, floor=floor)
        flow = ik.solve_flow(
            ik.place(ik.Site(disc, strata, {"sand": sand}, features=(sea, dug), schedule=when), mesh)
        )
        return [-flow.steps[k].term_flow[-1].sum() for k in range(len(flow.steps))]

    when = None
    npt.assert_allclose(taken(0.0)[0], np.pi * 5.0 * 10.0**2 / np.log(10.0), rtol=0.02)
    by_depth = [taken(floor)[0] for floor in (11.0, 8.0, 7.5, 6.0, 4.5, 3.0, 0.0)]
    assert by_depth[0] == 0.0
    assert (np.diff(by_depth) > 0.0).all()
    when = ik.Schedule([0.0, 10.0, 300.0, 310.0], steady=[True, False, False, False], steps=[1, 1, 20, 1])
    in_time = taken(ik.Series([0.0, 10.0, 300.0], [14.0, 0.0, 14.0]))
    npt.assert_allclose(in_time[:2], 0.0, atol=1e-9)
    npt.assert_allclose(in_time[-2], np.pi * 5.0 * 10.0**2 / np.log(10.0), rtol=0.02)
    npt.assert_allclose(in_time[-1], 0.0, atol=1e-9)
