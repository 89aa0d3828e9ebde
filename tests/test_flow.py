"""Budgets, reports, drying, convergence; and linear systems on their own."""

from __future__ import annotations

import h5py
import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.sparse import csr_array, diags_array, kron

import inkhorn as ik
from inkhorn.linear import LinearSystem
from inkhorn.site import Schedule
from tests.conftest import held, rain, strip


def laplacian(n: int):
    line = diags_array([-np.ones(n - 1), 2.0 * np.ones(n), -np.ones(n - 1)], offsets=[-1, 0, 1])
    one = diags_array(np.ones(n))
    return csr_array(kron(line, one) + kron(one, line))


@pytest.mark.parametrize("direct", [True, False])
@pytest.mark.parametrize("transpose", [False, True])
@pytest.mark.parametrize("falling", [0.0, 0.7])
def test_linear_systems_are_solved_to_their_tolerance(direct, transpose, falling):
    """Symmetric, and with couplings that act one way only as where water falls through air."""
    matrix = laplacian(25)
    one_way = diags_array([-falling * np.ones(575)], offsets=[-50], shape=matrix.shape)
    system = LinearSystem(matrix + one_way + diags_array(-one_way.sum(axis=0)), direct=direct)
    assert system.symmetric == (falling == 0.0)
    right = np.random.default_rng(1).normal(size=625)
    answer = system.solve(right, tolerance=1e-11, transpose=transpose)
    matrix = system.matrix.T if transpose else system.matrix
    assert np.linalg.norm(right - matrix @ answer) <= 1e-11 * np.linalg.norm(right)
    npt.assert_array_equal(system.solve(np.zeros(625)), 0.0)
    assert (system.iterations == 0) == direct


def test_a_linear_solver_that_stops_hands_on_what_it_has():
    system = LinearSystem(laplacian(30), direct=False)
    with pytest.raises(ik.ConvergenceError, match="stopped at a residual") as told:
        system.solve(np.ones(900), max_iterations=1, tolerance=1e-14)
    assert told.value.state.shape == (900,)
    assert told.value.history[-1] < told.value.history[0]


def test_budgets_close_by_term_feature_and_layer(quillmere):
    for by in ("term", "feature", "layer"):
        frame = quillmere.budget(by)
        assert abs(frame.attrs["closing_error_percent"]) < 1e-6
    terms, features = quillmere.budget("term"), quillmere.budget("feature")
    npt.assert_allclose(
        features.iloc[:-1].groupby("term").sum().to_numpy().sum(), terms.iloc[:-1].to_numpy().sum()
    )
    layers = quillmere.budget("layer").iloc[:-1]
    balance = (layers["in [m³/day]"] - layers["out [m³/day]"]).groupby("layer").sum()
    npt.assert_allclose(balance, 0.0, atol=1e-6 * terms.loc["total", "in [m³/day]"])
    with pytest.raises(ik.InputError, match="by is 'colour'"):
        quillmere.budget("colour")


def test_every_cell_balances(quillmere):
    record, model = quillmere.steps[-1], quillmere.model
    a, b = model.grid.faces.cells.T
    n = model.grid.n_cells
    net = np.bincount(b, record.face_flow, n) - np.bincount(a, record.face_flow, n)
    for term, flow in zip(model.terms, record.term_flow, strict=True):
        net += np.bincount(term.cells, flow, n)
    assert np.abs(net).sum() < 1e-8 * quillmere.budget().loc["total", "in [m³/day]"]
    wells = quillmere.well_levels().set_index("well")
    npt.assert_allclose(wells["abstraction [m³/day]"], [2073.6, 561.6, 432.0], rtol=1e-6)


def test_heads_are_labelled(quillmere):
    head = quillmere.head
    assert head.dims == ("time", "layer", "y", "x")
    assert head.attrs == {"units": "m", "long_name": "hydraulic head"}
    assert bool(head["steady"][0])
    inside = head.sel(layer="gravel").notnull().sum()
    assert int(inside) == int((quillmere.model.grid.cell_number[3] >= 0).sum())
    assert float(quillmere.saturation.max()) == 1.0
    table = quillmere.water_table()
    uppermost = quillmere.steps[-1].heads[quillmere.model.grid.uppermost]
    wet = quillmere.filled()[quillmere.model.grid.uppermost] > 0.01
    npt.assert_array_equal(table[wet], uppermost[wet])


def test_the_history_tells_how_it_went(quillmere):
    frame = quillmere.report.table()
    assert frame["closure"].iloc[-1] <= 1e-11  # as measured: rounding leaves that much
    assert frame["where"].str.contains("layer|well").all()
    assert "Newton steps" in repr(quillmere)


@pytest.mark.parametrize("below", [0.0, 0.5, 20.0])
def test_a_wet_and_a_dry_start_agree(quillmere, below):
    c = quillmere.model.grid.cells
    low = ik.solve_flow(quillmere.model, initial_heads=c.bottom - below)
    npt.assert_allclose(low.steps[-1].heads, quillmere.steps[-1].heads, atol=1e-5)
    assert low.report.iterations <= 15


def test_a_falling_water_table_takes_few_newton_steps():
    """As it leaves one layer after the other and comes back; what a dry cell still passes on costs none."""
    rng = np.random.default_rng(5)
    grid = ik.layered(ik.rectangles((0, 0, 400, 400), count=20), list(-4.0 * np.arange(6)))
    k, top = 8.0 * np.exp(rng.normal(size=grid.n_cells)), grid.uppermost
    west = np.flatnonzero(grid.cells.x[top] < 25.0)
    river = ik.terms.RiverTerm(
        cells=west + 800, conductance=200.0, stage=-9.0, bed=-11.5, feature_names=("r",)
    )
    months = 1e-3 * (1.0 + 0.9 * np.cos(2.0 * np.pi * np.arange(24) / 12))
    model = ik.Model(
        grid, k, 0.1 * k, specific_storage=1e-5, specific_yield=0.15, terms=[river, rain(grid, 1e-3)],
        schedule=Schedule(30.0 * np.arange(1, 25)),
        inputs_in_time={"recharge.rate": np.repeat(months[:, None], len(top), axis=1)},
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=0.0)
    filled = np.array([flow.filled(n) for n in range(24)])
    assert (filled[:, top] < 0.01).any(axis=0).mean() > 0.5  # the top layer does drain
    assert flow.report.iterations < 5 * len(flow.steps)


def test_water_that_stands_still_is_solved():
    grid = strip(10)
    flow = ik.solve_flow(ik.Model(grid, 3.0, terms=[held([0, 10], 7.0)]))
    npt.assert_allclose(flow.steps[-1].heads, 7.0, atol=1e-9)


def test_not_converging_says_where():
    grid = strip(20)
    model = ik.Model(grid, 1.0, terms=[held([0], 5.0), rain(grid, 0.002)])
    with pytest.raises(
        ik.ConvergenceError, match=r"did not close.*cell \d+ of layer \"layer 1\", x="
    ) as told:
        ik.solve_flow(model, max_iterations=0)
    error = told.value
    assert error.iterations == len(error.history) == 0
    assert error.state.shape == (21,)
    assert "cell" in error.worst
    again = ik.solve_flow(model, initial_heads=error.state)
    npt.assert_allclose(again.budget().loc["fixed head", "out [m³/day]"], 0.002 * 10.0 * 1050.0)


def test_dry_cells_stay_in_the_equations_and_fill_again():
    """A step in the base drains the upper part; more rain fills it."""
    base = np.where(np.arange(41) < 20, 10.0, 0.0)
    grid = ik.layered(ik.rectangles((0, 0, 410, 10), count=(41, 1)), [20.0, base, base - 2.0])
    dry = ik.Model(grid, 50.0, 5.0, terms=[held(grid.cell_number[1, 40], 1.0), rain(grid, 1e-5)])
    flow = ik.solve_flow(dry)
    filled = flow.filled()[grid.cell_number[0]]
    assert (filled[:20] < 0.01).all()
    assert abs(flow.budget().attrs["closing_error_percent"]) < 1e-6
    wet = ik.solve_flow(
        dry.with_inputs({"recharge.rate": np.full(41, 0.5)}), initial_heads=flow.steps[-1].heads
    )
    assert (wet.filled()[grid.cell_number[0]][:20] > 0.03).all()


def basin(months: int = 6) -> ik.Model:
    """Three layers of Voronoi cells with rain, a river and a well whose water runs short, through some months."""
    mesh = ik.voronoi(shapely.box(0, 0, 900, 600), cell=60)
    grid = ik.layered(mesh, [10.0, 4.0, 0.0, -8.0])
    top, deep = grid.uppermost, int(grid.cell_number[2][mesh.locate([600.0], [300.0])[0]])
    terms = [
        rain(grid, 6e-4),
        ik.terms.RiverTerm(
            cells=top[mesh.x < 60], conductance=30.0, stage=6.0, bed=5.0, feature_names=("river",)
        ),
        ik.terms.WellTerm(
            cells=[deep],
            connection=4.0,
            rate=-400.0,
            lowest_level=-7.0,
            well_loss=0.0,
            feature_names=("well",),
        ),
    ]
    return ik.Model(
        grid, 2.0, 0.2, specific_storage=1e-5, specific_yield=0.2, terms=terms,
        schedule=ik.Schedule(30.0 * np.arange(1, months + 1), steady=[True] + [False] * (months - 1)),
        inputs_in_time={"recharge.rate": 6e-4 * np.cos(np.arange(months))[:, None] ** 2 * np.ones(len(top))},
    )  # fmt: skip


def test_budgets_of_regions_close_and_their_exchanges_agree():
    flow = ik.solve_flow(basin(), closure=1e-12)
    east = shapely.box(500, 0, 900, 600)
    deep = (flow.model.grid.cells.layer == 2) & (flow.model.grid.cells.x < 500)
    for step in range(len(flow.steps)):
        table = flow.budget("region", step, regions={"east": east, "deep": deep})
        assert abs(table.attrs["closing_error_percent"]) < 1e-8
        parts = table.iloc[:-1].groupby(level="region").sum()
        assert parts.index.tolist() == ["deep", "east", "elsewhere"]
        npt.assert_allclose(parts.iloc[:, 0], parts.iloc[:, 1], rtol=1e-9)
        npt.assert_allclose(table.loc[("east", "deep")].to_numpy()[::-1], table.loc[("deep", "east")])
        assert (("east", "storage, elastic") in table.index) == (step > 0)
        assert (("east", "storage, drainage") in table.index) == (step > 0)
    for line, message in (([(0, 0)], r"shape \(1, 2\)"), ([(-9, 0), (-8, 0)], "crosses no cell")):
        with pytest.raises(ik.InputError, match=message):
            flow.across(line)
    for regions, message in (
        ({"a": east, "b": deep | True}, 'region "b" shares .* cells with "a"'),
        ({"a": shapely.box(-9, -9, -8, -8)}, "holds the centre of no cell"),
        ({"a": np.ones(3)}, "expected a polygon, or one truth value per cell"),
        (None, "needs `regions`"),
    ):
        with pytest.raises(ik.InputError, match=message):
            flow.budget("region", regions=regions)


def test_a_well_that_runs_short_does_not_hold_newtons_method_up():
    flow = ik.solve_flow(basin())
    wells = flow.well_levels()
    assert wells["less than asked [m³/day]"][0] > 50
    assert -7.0 < wells["level [m]"][0] < -6.0
    assert flow.report.iterations <= 8 * len(flow.steps)


def test_records_in_a_file_are_those_in_memory(tmp_path):
    model = basin(4)
    here = ik.solve_flow(model)
    with ik.StepFile(tmp_path / "flow.nc", model) as steps:
        there = ik.solve_flow(model, steps=steps)
        assert len(steps) == len(here.steps)
        npt.assert_array_equal(there.head, here.head)
        assert there.budgets().equals(here.budgets())
        rows = here.budgets().query("term == 'well'")
        lasting = rows["end [day]"] - rows["begin [day]"]
        npt.assert_allclose(rows["out so far [m³]"].iloc[-1], (rows["out [m³/day]"] * lasting).sum())
        assert [s.end for s in steps[1:3]] == [s.end for s in here.steps[1:3]]
        with pytest.raises(IndexError, match="there are 4 records"):
            steps[4]
    with h5py.File(tmp_path / "flow.nc", "a") as file:
        file["joined_steps"][-1] = 0  # cut off as it was written
    with ik.StepFile(tmp_path / "flow.nc", model) as steps:
        assert len(steps) == 3
        again = ik.solve_flow(model, steps=steps)
        npt.assert_array_equal(again.steps[3].heads, here.steps[3].heads)
    with pytest.raises(ik.InputError, match=r"records of another model.*periods \(gone\)"):
        ik.solve_flow(model.at_period(0), steps=list(again.steps))
    (tmp_path / "words.nc").write_text("words")
    for name, other, message in (
        ("flow.nc", ik.Model(strip(3), 1.0), "records of another model; what differs: the plan of the cells"),
        ("words.nc", model, "Expected the flow.nc of a run"),
    ):
        with pytest.raises(ik.InputError, match=message):
            ik.StepFile(tmp_path / name, other)


def test_budgets_that_miss_too_much_are_told():
    with pytest.warns(ik.InkhornWarning, match=r"the water budget of step \d misses .* %"):
        ik.solve_flow(basin(3), closure=1e-4)
    with pytest.raises(ik.ConvergenceError, match="Ask for a smaller `closure`"):
        ik.solve_flow(basin(3), closure=0.3)
