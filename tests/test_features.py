"""Features of every kind: how they are placed on any grid, what they do, and the edits made after them."""

from __future__ import annotations

import re

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from shapely import affinity

import inkhorn as ik
from inkhorn.flow import FlowEquations
from inkhorn.site import (
    Barrier,
    Collector,
    Edit,
    Evapotranspiration,
    HeadDependent,
    Schedule,
    Seepage,
    Series,
    Spring,
)
from tests.conftest import held, rain, strip
from tests.test_meshes import KINDS, L_SHAPE

SAND = ik.Material("sand", 8.0, vertical_ratio=4.0, specific_storage=1e-5, specific_yield=0.2)
STRATA = ik.Strata(
    ik.ConstantSurface(10.0),
    (ik.Layer("upper", ik.ConstantSurface(4.0)), ik.Layer("lower", ik.ConstantSurface(-5.0))),
)
INNER = shapely.Polygon([(180, 450), (380, 500), (330, 700), (170, 680)])
WAY = shapely.LineString([(200, 520), (260, 500), (310, 660), (180, 690)])


def site(*features, edits=(), schedule=None, **materials) -> ik.Site:
    return ik.Site(
        L_SHAPE,
        STRATA,
        {"upper": SAND, "lower": SAND} | materials,
        features=features,
        edits=edits,
        schedule=schedule,
    )


EVERY = (
    ik.FixedHead(name="pond", shape=shapely.Point(850, 30).buffer(60), head=8.0),
    HeadDependent(name="east", shape=shapely.LineString([(850, 100), (880, 400)]), head=7.5, conductance=0.5),
    HeadDependent(name="far", shape=WAY, head=(7.0, 8.0), conductivity=3.0, distance=50.0, layers=("lower",)),
    HeadDependent(name="pump pit", shape=shapely.Point(700, 300), head=7.0, conductance=4.0),
    ik.River(
        name="creek", shape=WAY, stage=(9.0, 8.5), bed=8.0, width=3, bed_thickness=0.5, bed_conductivity=0.4
    ),
    ik.Drain(name="ditch", shape=WAY, level=7.0, conductance=0.7),
    ik.Drain(name="field", shape=INNER, level=7.5, conductance=0.01),
    Spring(name="spring", shape=shapely.Point(500, 100), level=6.0, conductance=3.0),
    ik.Well(name="well", x=700.0, y=120.0, screen_top=3.0, screen_bottom=-4.0, abstraction=80.0, skin=1.0),
    Collector(name="gallery", shape=WAY, elevation=2.0, abstraction=60.0),
    ik.Recharge(name="rain", shape=INNER, rate=1e-3),
    Evapotranspiration(name="wood", shape=INNER, rate=2e-3, depth=3.0),
    Seepage(name="meadow", shape=INNER),
    Barrier(name="wall", shape=shapely.LineString([(430, 60), (440, 390)]), leakance=1e-3),
)


@pytest.mark.parametrize("kind", KINDS)
def test_totals_do_not_depend_on_the_grid(kind):
    """Lengths, areas, rates and conductances placed are those of the site, to 1e-9."""
    mesh = KINDS[kind]()
    cells = shapely.union_all(mesh.polygons())
    assert cells.buffer(1e-6).covers(INNER)
    assert cells.buffer(1e-6).covers(WAY)
    model = ik.place(site(*EVERY), mesh)
    total = model.placed.set_index("feature")["total"]
    area, length = INNER.area, WAY.length
    for name, expected in {
        "far": 3.0 / 50.0 * length * 9.0,
        "creek": length,
        "ditch": length,
        "field": area,
        "spring": 3.0,
        "well": 80.0,
        "gallery": 60.0,
        "rain": 1e-3 * area,
        "wood": 2e-3 * area,
        "meadow": area,
    }.items():
        npt.assert_allclose(total[name], expected, rtol=1e-9, err_msg=name)
    npt.assert_allclose(model.term("river").conductance.sum(), 0.4 * 3 / 0.5 * length, rtol=1e-9)
    npt.assert_allclose(model.term("recharge").area.sum(), area, rtol=1e-9)
    assert set(model.grid.cells.layer[model.term("collector").cells]) == {1}
    turned = ik.place(site(*EVERY[::-1]), mesh).placed.set_index("feature")["total"]
    npt.assert_allclose(turned[total.index], total, rtol=1e-12)


def everything() -> ik.Model:
    return ik.place(site(*EVERY), KINDS["split"]())


def test_a_model_of_everything_closes_and_its_slopes_are_true():
    flow = ik.solve_flow(everything(), closure=1e-12)
    assert abs(flow.budget().attrs["closing_error_percent"]) < 1e-6
    equations = FlowEquations(flow.model)
    rng = np.random.default_rng(3)
    unknowns = equations.start(8.0 + rng.uniform(-3, 3, flow.model.grid.n_cells))
    direction = rng.normal(size=len(unknowns))
    exact = equations.evaluate(unknowns).jacobian @ direction
    step = 1e-6
    ahead, back = (equations.evaluate(unknowns + s * direction).residual for s in (step, -step))
    npt.assert_allclose((ahead - back) / (2 * step), exact, atol=2e-5 * np.abs(exact).max())
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-13)
    weights = rng.normal(size=equations.n_unknowns)
    gradient = sensitivity.adjoint(weights)
    assert {
        "evapotranspiration.rate",
        "head-dependent boundary.head",
        "seepage.level",
        "collector.rate",
    } <= set(gradient)
    size = {k: np.nan_to_num(np.abs(flow.model.input(k)), posinf=0.0) for k in gradient}
    change = {k: rng.normal(size=len(v)) * (size[k] + 1e-3) for k, v in gradient.items()}
    forward = weights @ sensitivity.tangent(change)
    npt.assert_allclose(forward, sum(gradient[k] @ change[k] for k in gradient), rtol=1e-9)


def confined_strip(**options) -> ik.Model:
    """One metre of fall over a kilometre of ten metres' thickness, one metre wide."""
    grid = strip(100, width=1.0, surfaces=(0.0, -10.0))
    return ik.Model(
        grid,
        5.0,
        terms=[held([0, 100], [11.0, 10.0])],
        water_table=ik.WaterTable(confined=True),
        **options,
    )


def through(model) -> float:
    return float(ik.solve_flow(model).steps[-1].face_flow[50])


def test_a_barrier_is_a_resistance_in_series():
    model = confined_strip()
    resistance = np.zeros(len(model.grid.faces))
    resistance[30] = 700.0
    npt.assert_allclose(
        through(confined_strip(face_resistance=resistance)), 10.0 / (1000.0 / 5.0 + 700.0), rtol=1e-9
    )


def test_anisotropy_counts_across_its_direction():
    for direction, k in ((0.0, 5.0), (90.0, 1.25)):
        npt.assert_allclose(
            through(confined_strip(anisotropy=4.0, direction=direction)), k * 10.0 / 1000.0, rtol=1e-9
        )


def test_a_given_leakance_replaces_vertical_conductivity():
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10), [0.0, -2.0, -4.0])
    model = ik.Model(
        grid,
        1.0,
        leakance=[3e-3, np.nan],
        terms=[held([0, 1], [5.0, 4.0])],
        water_table=ik.WaterTable(confined=True),
    )
    npt.assert_allclose(ik.solve_flow(model).steps[-1].face_flow, [3e-3 * 100.0], rtol=1e-9)


def test_transmissivity_and_storativity_are_those_of_the_whole_layer():
    plain = ik.Material("plain", transmissivity=90.0, storativity=1.8e-3, specific_yield=0.1)
    model = ik.place(site(lower=plain), KINDS["rectangles"]())
    lower = model.grid.cells.layer == 1
    npt.assert_allclose(model.horizontal_conductivity[lower], 10.0)
    npt.assert_allclose(model.specific_storage[lower], 2e-4)


@pytest.mark.parametrize(("head", "share"), [(10.5, 1.0), (9.0, 0.75), (7.0, 0.25), (5.5, 0.0)])
def test_plants_draw_less_from_deeper_water(head, share):
    """At 10 m all of it, at 6 m none, in proportion between."""
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10), [12.0, 0.0])
    plants = ik.terms.EvapotranspirationTerm(
        cells=[0], rate=2e-3, area=100.0, surface=10.0, depth=4.0, feature_names=("wood",)
    )
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[held([0], head), plants]))
    npt.assert_allclose(flow.steps[-1].term_flow[1], -0.2 * share, atol=1e-12)


def test_a_well_takes_less_before_it_runs_dry():
    grid = strip(20, surfaces=(0.0, -10.0))
    well = {"cells": [10], "connection": 50.0, "lowest_level": -7.0, "feature_names": ("well",)}
    for rate, short in ((-2.0, False), (-60.0, True)):
        terms = [held([0, 20], -3.0), ik.terms.WellTerm(rate=rate, **well)]
        (row,) = ik.solve_flow(ik.Model(grid, 2.0, terms=terms)).well_levels().to_dict("records")
        assert row["level [m]"] > -7.0
        npt.assert_allclose(row["abstraction [m³/day]"] + row["less than asked [m³/day]"], -rate, rtol=1e-6)
        assert (row["less than asked [m³/day]"] > 1.0) == short


def test_skin_and_losses_lower_the_level_in_a_well():
    grid = ik.layered(ik.rectangles((0, 0, 100, 100), cell=100), [0.0, -10.0])
    levels = []
    for well_loss in (0.0, 1e-4):
        well = ik.terms.WellTerm(
            cells=[0], connection=10.0, rate=-100.0, well_loss=well_loss, feature_names=("w",)
        )
        flow = ik.solve_flow(ik.Model(grid, 2.0, terms=[held([0], 1.0), well]))
        levels.append(float(flow.well_levels()["level [m]"][0]))
    level = (
        np.sqrt(20.0) - 10.0
    )  # 1 m above the top to the top, and from there (10² - h²) / 20, are the 5 m it takes
    npt.assert_allclose(levels, [level, level - 1.0], atol=1e-4)
    plain, clogged = (
        ik.place(
            site(ik.Well(name="w", x=700, y=120, screen_top=3, screen_bottom=-4, skin=s)),
            KINDS["rectangles"](),
        )
        for s in (0.0, 2.0)
    )
    assert clogged.term("well").connection[0] < 0.8 * plain.term("well").connection[0]


def test_values_in_time_are_placed_for_every_period():
    stage = Series([0.0, 10.0], [[9.0, 8.5], [9.5, 8.7]])
    bed = {"bed": 8.0, "width": 3, "bed_thickness": 0.5, "bed_conductivity": 0.4}
    creek, same = (ik.River(name="creek", shape=WAY, stage=v, **bed) for v in (stage, (9.5, 8.7)))
    model = ik.place(site(creek, schedule=Schedule([10.0, 20.0])), KINDS["voronoi"]())
    still = ik.place(site(same), KINDS["voronoi"]())
    npt.assert_allclose(model.at_period(1).term("river").stage, still.term("river").stage)
    assert model.placed["note"].tolist() == ["stage in time"]
    with pytest.raises(
        ik.InputError, match=r'river "creek": stage changes in time, but the site has no schedule'
    ):
        ik.place(site(creek), KINDS["voronoi"]())


def test_edits_follow_each_other():
    corners = np.array([(-500.0, -500.0), (1500.0, -500.0), (-500.0, 1500.0), (1500.0, 1500.0)])
    ramp = ik.PointSurface(*corners.T, 1.0 + 0.002 * (corners[:, 0] + 500.0))
    edits = (
        Edit("horizontal_conductivity", 20.0, layers=("lower",), reason="a pumping test"),
        Edit("horizontal_conductivity", 0.5, how="factor", layers=("lower",), shape=INNER),
        Edit("vertical_conductivity", ramp, layers=("upper",)),
        Edit("drain.level", 0.25, how="add", feature="ditch"),
        Edit("well.rate", Series([0.0, 5.0], [-80.0, -90.0])),
    )
    model = ik.place(site(*EVERY, edits=edits, schedule=Schedule([5.0, 9.0])), KINDS["rectangles"]())
    c = model.grid.cells
    lower, inside = c.layer == 1, shapely.contains_xy(INNER, c.x, c.y)
    npt.assert_allclose(model.horizontal_conductivity[lower & inside], 10.0)
    npt.assert_allclose(model.horizontal_conductivity[lower & ~inside], 20.0)
    npt.assert_allclose(model.horizontal_conductivity[~lower], 8.0)
    npt.assert_allclose(model.vertical_conductivity[~lower], 2.0 + 0.002 * c.x[~lower])
    drain = model.term("drain")
    npt.assert_allclose(
        np.unique(drain.level[drain.feature_index == drain.feature_names.index("ditch")]), 7.25
    )
    npt.assert_allclose(
        np.unique(drain.level[drain.feature_index == drain.feature_names.index("field")]), 7.5
    )
    npt.assert_allclose(model.inputs_in_time["well.rate"], [[-80.0], [-90.0]])


@pytest.mark.parametrize(
    "grid",
    [KINDS["rectangles"], lambda: ik.layered(KINDS["split"](), STRATA, max_splits={"lower": 0})],
    ids=["plain", "branching"],
)
def test_elevations_are_edited_cell_by_cell(grid):
    """What lies beneath a base that moves begins where that ends; nothing else changes."""
    edits = (
        Edit("base", -1.5, how="add", layers=("upper",), shape=INNER),
        Edit("ground", 12.0, shape=shapely.Point(250, 550)),
    )
    was, model = (ik.place(site(*EVERY, edits=e), grid()) for e in ((), edits))
    now, before = model.grid, was.grid.cells
    inside = shapely.contains_xy(INNER, before.x, before.y) & (before.layer == 0)
    npt.assert_allclose(now.cells.bottom - before.bottom, np.where(inside, -1.5, 0.0))
    assert (now.cells.top - before.top > 1.9).sum() == 1
    area = now.mesh.area * (now.cell_number >= 0).all(axis=0)
    npt.assert_allclose(area @ np.nan_to_num(now.bottom[0]), area @ np.nan_to_num(now.top[1]))
    placed = model.placed.set_index("kind").loc["edit"]
    assert placed["feature"].tolist() == ["base", "ground"]
    assert placed["cells"].tolist() == [inside.sum(), 1]


def test_screens_meet_the_mean_of_unlike_conductivities():
    """Upwards for lying ones, along and across for standing ones: sqrt(K1 K2)."""
    mesh = ik.rectangles(L_SHAPE.bounds, cell=20)
    well = ik.Well(name="w", x=210.0, y=510.0, screen_top=3.0, screen_bottom=-4.0, abstraction=8.0)
    lying = Collector(name="c", shape=WAY, elevation=2.0, abstraction=60.0)
    alike, unlike = (
        ik.place(site(well, lying, upper=m, lower=m), mesh)
        for m in (ik.Material("m", 8.0), ik.Material("m", 8.0, vertical_ratio=16.0, anisotropy=4.0))
    )
    radius = [2 * np.pi * 7.0 / m.term("well").connection[0] * f for m, f in ((alike, 1.0), (unlike, 0.5))]
    # neighbours at 20 m, or at 20 and 40 m where all is stretched, and the bore 1.5 times as wide in the mean
    reach = 20.0 * np.exp([-0.5 * np.pi, 0.2 * np.log(2.0) - 0.4 * np.pi]) / [1.0, 1.5]
    npt.assert_allclose(radius, np.log(reach / 0.15), rtol=1e-4)
    ratio = unlike.term("collector").connection / alike.term("collector").connection
    assert ((ratio > 0.2) & (ratio < 0.3)).all()  # 1/4, and an equivalent radius of another size


@pytest.mark.parametrize(
    ("edit", "message"),
    [
        (Edit("permeability", 1.0), "there is no such value; expected one of"),
        (Edit("porosity", 1.0), "the model has no porosity"),
        (Edit("anisotropy", 2.0, layers=("uper",)), 'Did you mean "upper"'),
        (Edit("drain.level", 2.0, feature="dich"), r'names the feature "dich"; expected one of \[\'ditch'),
        (Edit("anisotropy", 2.0, shape=shapely.Point(-50, -50)), "meets no cell"),
    ],
)
def test_edits_that_cannot_be(edit, message):
    with pytest.raises(ik.InputError, match=message):
        ik.place(site(*EVERY, edits=[edit]), KINDS["rectangles"]())


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: HeadDependent(name="h", shape=WAY, head=1.0), "either `conductance`, or `conductivity`"),
        (
            lambda: HeadDependent(name="h", shape=INNER, head=1.0, conductivity=1.0, distance=1.0),
            "conductivity says nothing of a polygon; it is for lines",
        ),
        (lambda: Barrier(name="b", shape=WAY, conductivity=1.0), "either `leakance`, or"),
        (
            lambda: Spring(name="s", shape=WAY, level=1.0, conductance=1.0),
            "shape of a LineString; expected a Point",
        ),
        (lambda: Evapotranspiration(name="e", shape=INNER, rate=-1.0, depth=1.0), "rate is -1"),
        (
            lambda: ik.Drain(name="d", shape=WAY, level="3 kg", conductance=1.0),
            r"level is '3 kg'.*not a unit of elevation",
        ),
        (lambda: ik.Drain(name="d", shape=WAY, level=3.0, conductance=True), "conductance is True; expected"),
        (lambda: ik.GivenFlow(name="g", shape=WAY, inflow=-1.0), "water that leaves is `outflow`"),
        (
            lambda: ik.Well(name="w", shape=ik.PickedCells([3]), screen_top=2.0, abstraction=1.0),
            "screen_top says nothing of cells told one by one; it is for points",
        ),
        (
            lambda: ik.Drain(name="d", shape=ik.PickedCells([3]), level=2.0, conductance=1.0, layer="upper"),
            "layer says nothing of cells told one by one, whose layers are told",
        ),
        (lambda: ik.Material("m", 1.0, transmissivity=2.0), "both conductivity and transmissivity"),
        (lambda: ik.Material("m", 1.0, specific_yield=2.0), "specific_yield is 2; expected a share"),
    ],
)
def test_features_that_cannot_be(make, message):
    with pytest.raises(ik.InputError, match=message):
        make()


def test_slips_of_units_and_missing_properties_are_found():
    wells = [
        ik.Well(name=f"w{k}", x=100.0 + 50 * k, y=100.0, screen_top=3, screen_bottom=0, abstraction=rate)
        for k, rate in enumerate((5.0, 6.0, 4.0, 9000.0))
    ]
    clay = ik.Material("clay", 1e-12)
    schedule = Schedule([0.0, 1e-6, 100.0], steady=[True, False, False])
    found = ik.check(ik.place(site(*wells, schedule=schedule, lower=clay), KINDS["rectangles"]()))
    said = " | ".join(str(f) for f in found)
    assert 'the rate of well "w3" is 1.6e+03 times that of the others' in said
    assert "the horizontal_conductivity is suspiciously low, 1e-12 m/day" in said
    assert "flow in time needs the specific_storage of clay" in said
    assert "1 period with steps ten thousand times shorter" in said


@pytest.mark.parametrize(
    ("feature", "words"),
    [
        (ik.Drain(name="ditch", shape=WAY, level=300.0, conductance=1.0), "its level up to 29. m above the ground"),
        (ik.FixedHead(name="lake", shape=L_SHAPE, head=-99.0), "its head up to .* m below all layers"),
        (ik.River(name="brook", shape=WAY, stage=-25.0, bed=-26.0, conductance=1.0), "stage up to 20 m below all layers"),
        (ik.Recharge(name="rain", shape=L_SHAPE, rate=0.7), "has a rate of up to 0.7 m/day"),
        (ik.Drain(name="ditch", shape=WAY, level=6.0, conductance=1.0), ""),
    ],
)  # fmt: skip
def test_single_values_are_held_against_ground_and_range(feature, words):
    river = ik.River(name="ordinary", shape=WAY, stage=8.0, bed=7.0, conductance=1.0)
    found = [str(f) for f in ik.check(ik.place(site(feature, river), KINDS["rectangles"]()))]
    told = [f for f in found if "ground" in f or "layers" in f or "rate of" in f]
    assert len(told) == bool(words)
    assert re.search(words, " ".join(found))


def test_rain_on_a_seepage_face_stays_below_ground():
    """More rain than the ground can carry leaves where the water table reaches its surface."""
    model = ik.place(
        site(
            ik.Recharge(name="rain", shape=L_SHAPE, rate=0.05),
            Seepage(name="ground", shape=L_SHAPE),
            Spring(name="spring", shape=shapely.Point(500, 100), level=6.0, conductance=3.0),
        ),
        KINDS["cut"](),
    )
    flow = ik.solve_flow(model)
    assert flow.steps[-1].heads.max() < 10.2
    budget = flow.budget()
    npt.assert_allclose(
        budget.loc["seepage", "out [m³/day]"] + budget.loc["spring", "out [m³/day]"], 0.05 * L_SHAPE.area
    )


def test_wells_in_one_cell_are_told():
    wells = [
        ik.Well(name=n, x=x, y=120.0, screen_top=3.0, screen_bottom=-4.0, abstraction=8.0)
        for n, x in (("one", 700.0), ("two", 703.0), ("three", 300.0))
    ]
    notes = ik.place(site(*wells), KINDS["rectangles"]()).placed.set_index("feature")["note"]
    assert "shares a cell with two" in notes["one"]
    assert "shares a cell with one" in notes["two"]
    assert "shares" not in notes["three"]


def test_plain_arrays_still_suffice():
    grid = strip(10)
    model = ik.Model(grid, 3.0, terms=[held([0, 10], [7.0, 8.0]), rain(grid, 1e-3)])
    assert ik.solve_flow(model).steps[-1].heads.max() > 7.5


@pytest.mark.parametrize("angle", [0.0, 30.0, 77.0, -41.3])
def test_a_line_on_the_rim_meets_every_cell_beside_it(angle):
    """However the site is turned and wherever it lies: rounding puts parts of such a line beside the cells."""
    turn = lambda shape: affinity.translate(affinity.rotate(shape, angle, origin=(0, 0)), 512345.6, 234567.8)  # noqa: E731
    box, line = turn(shapely.box(0, 0, 1000, 300)), turn(shapely.LineString([(1000, 0), (1000, 300)]))
    strata = ik.Strata(ik.ConstantSurface(10.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
    grid = ik.layered(ik.rectangles(box, cell=25.0, rotation=angle), strata)
    for feature in (
        ik.FixedHead(name="sea", shape=line, head=8.0),
        ik.Drain(name="ditch", shape=line, level=8.0, conductance=2.0),
        HeadDependent(name="lake", shape=line, head=8.0, conductance=2.0),
    ):
        model = ik.place(ik.Site(box, strata, {"sand": SAND}, features=(feature,)), grid)
        assert model.placed.loc[0, ["cells", "share outside"]].tolist() == [12, 0.0], feature.kind
        if feature.kind != "fixed head":
            npt.assert_allclose(model.terms[0].conductance, 50.0, rtol=1e-4)
    four = ik.split_in_four(box, cell=50.0, rotation=angle, near=[(turn(shapely.Point(1000, 100)), 12.0)])
    sea = ik.FixedHead(name="sea", shape=line, head=8.0)
    split = ik.place(ik.Site(box, strata, {"sand": SAND}, features=(sea,)), four)
    assert split.placed.loc[0, ["cells", "share outside"]].tolist() == [12, 0.0]
    beyond = turn(shapely.LineString([(1010, 0), (1010, 300)]))
    lost = ik.place(
        ik.Site(box, strata, {"sand": SAND}, features=(ik.FixedHead(name="sea", shape=beyond, head=8.0),)),
        grid,
    )
    assert lost.placed.loc[0, ["cells", "share outside"]].tolist() == [0, 1.0]


@pytest.mark.parametrize("angle", [0.0, 77.0])
@pytest.mark.parametrize("at", [45.0, 50.0, 60.0])
@pytest.mark.parametrize("back", [False, True])
def test_a_wall_counts_once_wherever_it_stands(angle, at, back):
    """Through centres of cells, beside them, along their faces, drawn from either end: dh / (L/K + 1/leakance)."""
    turn = lambda shape: affinity.rotate(shape, angle, origin=(0, 0))  # noqa: E731
    box, ends = turn(shapely.box(0, 0, 200, 100)), [(at, -5.0), (at, 105.0)]
    strata = ik.Strata(ik.ConstantSurface(10.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
    held = [
        ik.FixedHead(name=f"{x}", shape=turn(shapely.LineString([(x, 0), (x, 100)])), head=20.0 - x / 40)
        for x in (0, 200)
    ]
    wall = Barrier(name="wall", shape=turn(shapely.LineString(ends[::-1] if back else ends)), leakance=0.01)
    made = ik.Site(box, strata, {"sand": ik.Material("sand", 5.0)}, features=(*held, wall))
    flow = ik.solve_flow(ik.place(made, ik.rectangles(box, cell=20.0, rotation=angle)))
    npt.assert_allclose(flow.budget().iloc[0, 0], 5.0 / (200 / 5.0 + 100.0) * 1000.0, rtol=1e-9)
