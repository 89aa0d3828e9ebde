"""Sites, placing, checking, and models from arrays."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik
from inkhorn.flow import FlowEquations
from inkhorn.model import ramp, saturation
from inkhorn.site import along_line
from tests.conftest import held, rain, strip

SQUARE = shapely.box(0, 0, 1000, 1000)
STRATA = ik.Strata(
    ik.ConstantSurface(20.0),
    (ik.Layer("sand", ik.ConstantSurface(10.0)), ik.Layer("gravel", ik.ConstantSurface(0.0))),
)
MATERIALS = {
    "sand": ik.Material("sand", 5.0, vertical_ratio=5.0, porosity=0.25),
    "gravel": ik.Material("gravel", 50.0, vertical_ratio=5.0, porosity=0.2),
}
STREAM = shapely.LineString([(50, 950), (333, 507), (333, 100)])
RIVER = ik.River(
    name="stream", shape=STREAM, stage=(18.0, 17.0), bed=(17.0, 9.0), width=4.0, bed_thickness=0.5, bed_conductivity=0.5
)  # fmt: skip
WELL = ik.Well(name="w", x=700.0, y=500.0, screen_top=12.0, screen_bottom=2.0, abstraction=300.0)


def site(*features: ik.FixedHead, **changes: object) -> ik.Site:
    return ik.Site(
        **{"boundary": SQUARE, "strata": STRATA, "materials": MATERIALS, "features": features, **changes}
    )


@pytest.mark.parametrize("cell", [50.0, 62.5, 100.0])
def test_totals_of_what_is_placed_do_not_depend_on_the_grid(cell):
    field = shapely.Polygon([(10, 20), (480, 40), (260, 630)])
    everything = site(
        RIVER,
        ik.Drain(
            name="ditch", shape=shapely.LineString([(500, 0), (500, 1000)]), level=15.0, conductance=2.0
        ),
        ik.Drain(name="field", shape=field, level=15.0, conductance=0.01),
        WELL,
        ik.Recharge(name="rain", shape=SQUARE, rate=0.001),
        ik.Recharge(name="more", shape=field, rate=0.002, concentration={"salt": 7.0}),
        species=(ik.Species("salt"),),
    )
    model = ik.place(everything, ik.rectangles(SQUARE, cell=cell))
    placed = model.placed.set_index("feature")
    npt.assert_allclose(placed.loc["stream", "total"], STREAM.length, rtol=1e-9)
    npt.assert_allclose(model.input("river.conductance").sum(), STREAM.length * 4.0, rtol=1e-9)
    # the ditch runs along the edges of cells: each piece counts once
    npt.assert_allclose(placed.loc["ditch", "total"], 1000.0, rtol=1e-9)
    npt.assert_allclose(placed.loc["field", "total"], field.area, rtol=1e-9)
    npt.assert_allclose(placed.loc["rain", "total"], 1000.0, rtol=1e-9)
    npt.assert_allclose(placed.loc["more", "total"], 0.002 * field.area, rtol=1e-9)
    assert "screen in sand 2%, gravel 98%" in placed.loc["w", "note"]  # by transmissivity
    assert (placed["share outside"] == 0).all()
    assert model.inflow_concentration == {"salt": {"more": 7.0}}
    # lines go to the cell that holds their bed
    river = model.term("river")
    layer = model.grid.cells.layer[river.cells]
    npt.assert_array_equal(layer, (river.bed <= 10.0).astype(int))
    npt.assert_allclose(np.interp(river.stage, [17, 18], [9, 17]), river.bed)


def test_fixed_heads_by_polygon_line_and_point():
    lake = ik.FixedHead(name="lake", shape=shapely.box(0, 0, 200, 200), head=19.0)
    shore = ik.FixedHead(
        name="shore", shape=shapely.LineString([(150, 150), (950, 150)]), head=(19.0, 15.0), every_layer=True
    )
    spot = ik.FixedHead(name="spot", shape=shapely.Point(950, 950), head=12.0)
    model = ik.place(site(lake, shore, spot), ik.rectangles(SQUARE, cell=100))
    term, c = model.term("fixed head"), model.grid.cells
    counts = np.bincount(term.feature_index)
    assert counts.tolist() == [4, 17, 1]  # one cell of the shore was the lake's already
    assert "1 cells are already held by lake" in model.placed.set_index("feature").loc["shore", "note"]
    along = term.feature_index == 1
    npt.assert_allclose(term.head[along], 19.0 - (c.x[term.cells[along]] - 150) * 4 / 800, atol=0.27)
    assert model.grid.cells.layer[term.cells[term.feature_index == 0]].max() == 0


@pytest.mark.parametrize(
    ("values", "expected"), [(3.0, [3, 3, 3]), ((0.0, 10.0), [0, 5, 10]), ((0.0, 8.0, 0.0), [0, 4, 0])]
)
def test_values_along_a_line(values, expected):
    bent = shapely.LineString([(0, 0), (10, 0), (10, 0.0001)]) if len(np.atleast_1d(values)) == 3 else STREAM
    npt.assert_allclose(along_line(bent, values, np.array([0.0, 0.5, 1.0])), expected, atol=1e-3)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: replace(WELL, abstraction=-5.0), r'well "w": abstraction is -5 m³/day.*Water taken out'),
        (lambda: replace(WELL, screen_top=1.0), "screen_top 1 m is not above screen_bottom 2 m"),
        (lambda: replace(RIVER, stage=(16.0, 17.0)), r"the stage is up to 1 m below the bed, first at 0%"),
        (lambda: replace(RIVER, stage=(1.0, 2.0, 3.0, 4.0)), r"4 values; expected 1, 2 .* or 3"),
        (lambda: replace(RIVER, shape=shapely.Point(0, 0)), "shape of a Point; expected a LineString"),
        (lambda: replace(RIVER, shape=shapely.LineString()), "empty shape"),
        (lambda: ik.Recharge(name="r", shape=SQUARE, rate=-0.1), "rate is -0.1 m/day"),
        (lambda: ik.Material("m", 0.0, vertical_ratio=1.0), "conductivity is 0 m/day"),
        (
            lambda: ik.Material("m", 1.0, vertical_ratio=1.0, porosity=1.3),
            "porosity is 1.3; expected a share",
        ),
        (lambda: site(WELL, replace(WELL, x=1.0)), "feature names appear twice: \\['w'\\]"),
        (lambda: site(replace(WELL, x=1020.0)), "lies 20 m outside the boundary"),
        (lambda: site(materials={"sand": MATERIALS["sand"]}), "no material: \\['gravel'\\]"),
        (
            lambda: site(bores=(ik.Bore("b", 1.0, 1.0, "clay"),)),
            'bore "b" names the layer "clay"; expected one of',
        ),
        (lambda: site(boundary=shapely.Polygon()), "n empty Polygon"),
        (lambda: ik.Strata(ik.ConstantSurface(0.0), ()), "no layers"),
    ],
)
def test_descriptions_that_cannot_be(make, message):
    with pytest.raises(ik.InputError, match=message):
        make()


@pytest.mark.parametrize(
    ("features", "severity", "what", "where"),
    [
        ((WELL,), "error", "nothing fixes the level of the water", "site"),
        ((RIVER, replace(WELL, screen_top=-2.0, screen_bottom=-5.0)), "error", 'well "w" meets no cell', "w"),
        ((RIVER, replace(WELL, screen_bottom=-30.0)), "warning", '71% of well "w" lies outside', "w"),
        (
            (
                ik.FixedHead(name="pond", shape=shapely.box(600, 400, 800, 600), head=19.0, every_layer=True),
                WELL,
            ),
            "error",
            'well "w" stands in a cell of fixed head',
            'layer "sand", x=750, y=550',
        ),
        (
            (RIVER, ik.Drain(name="deep", shape=STREAM, level=-3.0, conductance=1.0)),
            "warning",
            'drain "deep" lies below the lowest layer',
            'layer "gravel"',
        ),
        (
            (RIVER, ik.FixedHead(name="low", shape=shapely.Point(900, 900), head=3.0)),
            "warning",
            'fixed head "low" lies below the bottom of its cell',
            'layer "sand"',
        ),
    ],
)
def test_the_check_finds(features, severity, what, where):
    findings = ik.check(ik.place(site(*features), ik.rectangles(SQUARE, cell=100)))
    found = [f for f in findings if what in f.what]
    assert found, str(findings)
    assert (found[0].severity, where in found[0].where, bool(found[0].remedy)) == (severity, True, True)
    assert len(findings.table()) == len(findings)
    if severity == "error":
        with pytest.raises(ik.InputError, match=what[:20]):
            findings.raise_errors()


def test_the_check_of_a_sound_site_finds_nothing():
    assert str(ik.check(ik.place(site(RIVER, WELL), ik.rectangles(SQUARE, cell=100)))) == "nothing found"


def test_an_island_without_a_level_is_refused():
    mesh = ik.rectangles(shapely.union(shapely.box(0, 0, 100, 100), shapely.box(300, 0, 400, 100)), cell=50)
    model = ik.Model(ik.layered(mesh, [0.0, -9.0]), 1.0, terms=[held([0], 1.0)])
    assert "4 cells cut off" in ik.check(model).errors[0].what
    with pytest.raises(ik.InputError, match=r"nothing fixes the level of the water in 4 of 8 cells"):
        ik.solve_flow(model)


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({"horizontal_conductivity": 0.0}, r"horizontal_conductivity\[0\] is 0"),
        ({"horizontal_conductivity": [1.0, 2.0, 3.0]}, "shape"),
        ({"terms": [held([4], 1.0)]}, r"cells\[0\] is 4; expected 0 to 3"),
        ({"terms": [held([0], 1.0), held([1], 1.0)]}, "one kind come in one object"),
    ],
)
def test_models_that_cannot_be(options, message):
    grid = ik.layered(ik.rectangles((0, 0, 40, 10), cell=10), [0.0, -1.0])
    with pytest.raises(ik.InputError, match=message):
        ik.Model(grid, **{"horizontal_conductivity": 1.0, **options})


def test_terms_refuse_what_cannot_be():
    with pytest.raises(ik.InputError, match=r"fixed head: head\[0\] is nan m"):
        held([0], np.nan)
    with pytest.raises(
        ik.InputError, match=r"river: stage has the shape \(3,\); expected one number or \(2,\)"
    ):
        ik.terms.RiverTerm(cells=[0, 1], conductance=1.0, stage=[1.0, 2.0, 3.0])
    with pytest.raises(ik.InputError, match='well "b" meets no cell'):
        ik.terms.WellTerm(cells=[0], feature_names=("a", "b"), feature_index=[0], connection=1.0, rate=0.0)


def test_laws_of_partly_filled_cells():
    law = ik.WaterTable(film=1e-3, smoothing=0.1)
    head = np.linspace(-1.0, 3.0, 4001)
    share, slope = saturation(head, np.zeros_like(head), np.full_like(head, 2.0), law)
    assert share.min() == 1e-3
    npt.assert_allclose(share[head >= 2.2], 1.0, rtol=1e-14)
    npt.assert_allclose(share[head == 1.0], 0.5005)
    npt.assert_allclose(np.gradient(share, head)[1:-1], slope[1:-1], atol=6e-3)
    over, _ = ramp(np.array([-1.0, 0.0, 1.0]), 0.1)
    npt.assert_allclose(over, [0.0, 0.025, 1.0])


def test_side_faces_take_the_mean_where_both_sides_are_wet():
    """None is drawn from a dry cell, and none held back by one: water falls onto its base."""
    grid = strip(1, surfaces=(10.0, 0.0))
    equations = FlowEquations(ik.Model(grid, 2.0, specific_storage=1e-4, specific_yield=0.2))
    for left, right, share in ((6.0, 4.0, 0.5), (6.0, -3.0, 0.39934), (-3.0, -5.0, 0.0), (12.0, 11.0, 1.0)):
        balance = equations.evaluate(np.array([left, right]))
        npt.assert_allclose(balance.share, share, atol=2e-5)
        npt.assert_allclose(
            balance.face_flow, balance.share * equations.rows.conductance * (left - right), atol=1e-3
        )
    heads = np.array([-2.0, 7.0])
    filled, _ = saturation(heads, grid.cells.bottom, grid.cells.top, equations.model.water_table)
    drained, elastic = equations.storage.stored(heads)
    npt.assert_allclose(drained, 0.2 * grid.cells.volume * filled, atol=0.03)
    assert elastic[0] == 0.0
    npt.assert_allclose(elastic[1], 1e-4 * grid.cells.area[1] * 7.0**2 / 2, rtol=1e-2)


def test_columns_without_any_layer_take_no_part():
    hill = ik.PointSurface(
        np.array([0.0, 1000, 500, 0]), np.array([0.0, 0, 500, 1000]), np.array([0.0, 0, 30, 0])
    )
    bare = ik.Strata(ik.ConstantSurface(10.0), (ik.Layer("sand", hill),))
    lake = ik.FixedHead(name="lake", shape=SQUARE, head=9.0)
    model = ik.place(
        site(RIVER, lake, ik.Recharge(name="rain", shape=SQUARE, rate=0.001), strata=bare),
        ik.rectangles(SQUARE, cell=100),
    )
    assert model.grid.n_cells < 100
    placed = model.placed.set_index("feature")
    npt.assert_allclose(placed.loc["rain", "share outside"], 1 - model.grid.n_cells / 100)
    assert placed.loc["lake", "cells"] == model.grid.n_cells


def test_one_cell_is_a_model():
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10), [5.0, 0.0])
    drain = ik.terms.DrainTerm(cells=[0], conductance=2.0, level=3.0)
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[drain, rain(grid, 0.01)]))
    npt.assert_allclose(flow.head.to_numpy().ravel(), 3.5)
    assert ik.FlowSensitivity(flow).tangent({"recharge.rate": np.array([1.0])}).tolist() == pytest.approx(
        [50.0]
    )


def test_rain_on_a_held_cell_goes_straight_through():
    grid = ik.layered(ik.rectangles((0, 0, 30, 10), cell=10), [0.0, -5.0])
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[held([0], -1.0), rain(grid, 0.01)]))
    npt.assert_allclose(flow.budget().loc["fixed head", "out [m³/day]"], 3.0)
