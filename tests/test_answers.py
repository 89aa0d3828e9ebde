"""What a flow finds when it looks at its own answer: each finding where it belongs, and none where it does not."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest
import shapely

import inkhorn as ik
from inkhorn.model import Finding, Findings
from tests.conftest import held, rain

LEFT, MIDDLE, RIGHT = 0, 10, 20


def made(
    *terms: ik.terms.Term, rate: float = 1e-3, lower: float = 5.0, bases: tuple[float, ...] = (-10.0, -20.0)
) -> ik.FlowResult:
    """Two layers below flat ground between a held level and what is given besides."""
    grid = ik.layered(ik.rectangles((0, 0, 210, 10), count=(21, 1)), [0.0, *bases])
    conductivity = np.where(grid.cells.layer == 0, 5.0, lower)
    ends = held(grid.cell_number[:, LEFT], -3.0)
    return ik.solve_flow(ik.Model(grid, conductivity, terms=[ends, rain(grid, rate), *terms]))


def drain(level: float) -> ik.terms.DrainTerm:
    return ik.terms.DrainTerm(cells=[MIDDLE], level=level, conductance=5.0, feature_names=("ditch",))


def plants(surface: float) -> ik.terms.EvapotranspirationTerm:
    return ik.terms.EvapotranspirationTerm(
        cells=[5, 6], rate=1e-3, area=100.0, surface=surface, depth=2.0, feature_names=("wood",)
    )


def river(stage: float) -> ik.terms.RiverTerm:
    return ik.terms.RiverTerm(
        cells=[RIGHT], conductance=0.1, stage=stage, bed=stage - 0.5, feature_names=("brook",)
    )


def well(rate: float) -> ik.terms.WellTerm:
    return ik.terms.WellTerm(
        cells=[21 + MIDDLE], connection=6.0, rate=rate, lowest_level=-12.0, feature_names=("village",)
    )


def test_a_sound_answer_has_nothing_to_find():
    flow = made(drain(-3.2), plants(-2.0), river(-3.0), well(-2.0))
    assert str(flow.findings()) == "nothing found"


@pytest.mark.parametrize(
    ("flow", "severity", "words"),
    [
        (lambda: made(rate=0.05), "warning", r"above the ground in \d+ of 21 columns, .* by up to"),
        (lambda: made(bases=(-1.0, -20.0)), "note", "21 of 42 cells are dry"),
        (lambda: made(rate=0.0, bases=(-1.0, -2.0)), "warning", "21 of 21 columns hold no water"),
        (lambda: made(drain(-1.0)), "note", 'drain "ditch": no water is ever taken'),
        (lambda: made(plants(0.0)), "note", 'evapotranspiration "wood": the water is never reached'),
        (
            lambda: made(river(-1.0)),
            "note",
            r'river "brook" \(1 of 1 cells, 0.05 m³/day\): the water table has fallen',
        ),
        (lambda: made(well(-900.0)), "warning", r'well "village" \(up to \d+.* m³/day less\): less is taken'),
        (lambda: made(lower=1e-11), "warning", "next to no water flows through the layer"),
    ],
)
def test_what_is_odd_is_told(flow, severity, words):
    told = [f for f in flow().findings() if re.search(words, f.what)]
    assert [f.severity for f in told] == [severity], str(flow().findings())
    assert told[0].where
    assert told[0].remedy


@pytest.mark.parametrize(("by", "words"), [(1.0, "no water comes in there"), (-1.0, "no water leaves there")])
def test_heads_that_nothing_can_have_caused_are_told(by, words):
    """Not where water does come in or leave: rain makes a mound, a well a funnel."""
    flow = made(well(-5.0), rate=1e-4)
    assert "all around it" not in str(flow.findings())
    heads = flow.steps[0].heads.copy()
    heads[30] += by
    bent = replace(flow, steps=[replace(flow.steps[0], heads=heads)])
    assert f"the head of 1 cell lies {'above' if by > 0 else 'below'} all around it though {words}" in str(
        bent.findings()
    )


def test_the_funnel_of_a_well_at_a_corner_may_be_lowest_beside_its_cell():
    """A flow across makes the head of one of the four cells around it the lowest, wherever the well is counted."""
    box = shapely.box(0, 0, 1000, 1000)
    pumped = ik.Well(name="pumped", x=500, y=500, screen_top=9, screen_bottom=1, abstraction=600.0)
    strata = ik.Strata(ik.ConstantSurface(40.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
    beside = []
    for low, high in ((30.0, 31.0), (31.0, 30.0)):
        ends = [
            ik.FixedHead(name=f"{h}", shape=shapely.LineString([(0, 1000), corner, (1000, 0)]), head=h)
            for corner, h in (((0, 0), low), ((1000, 1000), high))
        ]
        site = ik.Site(box, strata, {"sand": ik.Material("sand", 20.0)}, features=(*ends, pumped))
        flow = ik.solve_flow(ik.place(site, ik.rectangles(box, cell=50)))
        heads, mesh = flow.steps[0].heads, flow.model.grid.mesh
        around = np.flatnonzero(np.hypot(mesh.x - 500.0, mesh.y - 500.0) < 40.0)
        own = next(t.cells[0] for t in flow.model.terms if t.n_extra)
        beside.append(own != around[heads[around].argmin()])
        assert "all around it" not in str(flow.findings())
    assert any(beside)  # the well's own cell is not the lowest of them both ways


def test_what_the_solver_left_is_told():
    flow = made()
    moved = replace(flow.report.rows[-1], largest_change=0.02)
    report = replace(flow.report, rows=(*flow.report.rows, moved), closing_error_percent=0.01)
    said = [f.what for f in replace(flow, report=report).findings()]
    assert said == [
        "the water budget misses 1.0e-02 % of its turnover",
        "the last Newton step still changed a head by 0.02 m",
    ]


def test_a_lake_may_stand_above_the_ground():
    grid = ik.layered(ik.rectangles((0, 0, 210, 10), count=(21, 1)), [0.0, -10.0])
    lake = held([0, 1, 2, 20], [1.5, 1.5, 1.5, -4.0])
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[lake]))
    assert (flow.above_ground()[:3] == 0.0).all()
    assert flow.above_ground()[3] > 1.0


def test_no_more_lines_are_told_than_can_be_read():
    many = Findings.of(Finding("note", f"finding {k}", "here", "none") for k in range(30))
    assert len(many.lines()) == 12
    assert many.lines()[-1] == "and 19 more"


@pytest.mark.parametrize(("drawn", "fixed"), [(1e-3, True), (1e-4, False)])
def test_plants_fix_the_level_where_they_can_draw_all_that_comes(drawn, fixed):
    grid = ik.layered(ik.rectangles((0, 0, 100, 100), cell=10), [0.0, -10.0])
    wood = ik.terms.EvapotranspirationTerm(
        cells=np.arange(100), rate=drawn, area=100.0, surface=0.0, depth=2.0, feature_names=("wood",)
    )
    model = ik.Model(grid, 5.0, terms=[rain(grid, 5e-4), wood])
    if fixed:
        assert not ik.check(model).errors
        np.testing.assert_allclose(ik.solve_flow(model).steps[0].heads, -1.0, atol=1e-6)
    else:
        with pytest.raises(ik.InputError, match="nothing fixes the level of the water in 100 of 100 cells"):
            ik.solve_flow(model)


def test_a_well_of_arrays_takes_no_more_than_there_is():
    endless = made(ik.terms.WellTerm(cells=[MIDDLE], connection=6.0, rate=-900.0, feature_names=("village",)))
    (row,) = endless.well_levels().to_dict("records")
    assert row["less than asked [m³/day]"] > 10.0
    assert row["level [m]"] > endless.model.grid.cells.bottom[MIDDLE]
    assert "less is taken than asked" in str(endless.findings())


def test_one_cell_alone_is_a_model():
    """No face at all, no unknown but one head."""
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10), [0.0, -10.0])
    out = ik.terms.HeadDependentTerm(cells=[0], conductance=2.0, head=-3.0)
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[out, rain(grid, 1e-3)]))
    assert flow.steps[-1].heads == pytest.approx(-3.0 + 0.1 / 2.0)
    assert str(flow.findings()) == "nothing found"


def test_a_confined_model_of_arrays_knows_no_ground():
    grid = ik.layered(ik.rectangles((0, 0, 210, 10), count=(21, 1)), [0.0, -10.0])
    ends = held([0, 20], [5.0, 4.0])
    confined = ik.Model(grid, 5.0, terms=[ends], water_table=ik.WaterTable(confined=True))
    assert str(ik.solve_flow(confined).findings()) == "nothing found"
    assert "above the ground in 19 of 21" in str(ik.solve_flow(ik.Model(grid, 5.0, terms=[ends])).findings())
