"""Fits against known truths: what they find, how sure they say they are, and what they say cannot be known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik
from inkhorn.calibration import ParameterSet, PilotPoints, WeightRule, sensitivities
from inkhorn.model import ZoneMap
from inkhorn.space import Variogram

TRUTH = {"west": 12.0, "east": 4.0, "recharge": 1e-3}


def valley(mesh=None, **options) -> ik.Model:
    """A water table between a lake and a divide, two wells, and two kinds of ground."""
    mesh = mesh or ik.rectangles((0, 0, 1200, 800), cell=80)
    grid = ik.layered(mesh, [24.0, 0.0])
    c = grid.cells
    wells = grid.cell_number[0, mesh.locate([900.0, 400.0], [500.0, 200.0])]
    terms = [
        ik.terms.RechargeTerm(cells=np.arange(len(c)), rate=TRUTH["recharge"], area=c.area),
        ik.terms.FixedHeadTerm(cells=np.flatnonzero(c.x < 80), head=10.0, feature_names=("lake",)),
        ik.terms.WellTerm(
            cells=wells,
            feature_index=[0, 1],
            feature_names=("a", "b"),
            connection=15.0,
            rate=[-250.0, -120.0],
        ),
    ]
    zones = ZoneMap(("west", "east"), (c.x > 600).astype(int))
    k = np.where(c.x > 600, TRUTH["east"], TRUTH["west"])
    return ik.Model(grid, k, terms=terms, zones={"ground": zones}, **options)


def three(**options) -> list[ik.Parameter]:
    made = [
        ik.Parameter(name=n, of="conductivity", how="set", zone=("ground", n), **options)
        for n in ("west", "east")
    ]
    return [*made, ik.Parameter(name="recharge", of="recharge.rate", **options)]


def bores(model, count=24, seed=1) -> list[ik.Bore]:
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(100, 1150, count), rng.uniform(30, 770, count)
    return [ik.Bore(f"b{k}", x[k], y[k], "layer 1", levels=np.zeros(1)) for k in range(count)]


def read(flow, places, noise=0.0, deviation=None):
    """Those bores with the levels of a flow and an error of reading."""
    noise = np.broadcast_to(noise, len(places))
    levels = ik.flow.BoreLevels(flow.model, places).values(flow, -1) + noise
    return [
        replace(b, levels=np.array([v]), deviation=deviation) for b, v in zip(places, levels, strict=True)
    ]


@pytest.mark.slow
@pytest.mark.parametrize("stated", [True, False])
def test_limits_hold_the_truth_as_often_as_they_say(stated):
    """Over draws of reading errors: three parameters, or two from levels of unknown error."""
    model = valley()
    flow, rng, held = ik.solve_flow(model, closure=1e-11), np.random.default_rng(7), []
    places = bores(model, 16)
    gain = ik.Measurement(name="lake", gain_of=("lake",), values=[1.0])
    exact = float(-flow.steps[-1].term_flow[1].sum())
    truth = np.array(list(TRUTH.values())) / [1, 1, TRUTH["recharge"]]
    start = model.with_inputs({"horizontal_conductivity": 0.8 * model.horizontal_conductivity})
    draws = 210 if stated else 110
    for _ in range(draws):
        seen = read(flow, places, rng.normal(0.0, 0.05, len(places)), 0.05 if stated else None)
        beside = (
            [replace(gain, values=np.array([exact + rng.normal(0.0, 30.0)]), deviation=30.0)]
            if stated
            else []
        )
        parameters = three() if stated else three()[:2]
        fit = ik.calibrate(start, parameters, observations=ik.observe(model, seen, beside), tolerance=1e-6)
        low, high = fit.knowledge.limits()
        n = len(parameters)
        held.append((low <= truth[:n]) & (truth[:n] <= high))
    shares = np.mean(held, axis=0)
    assert abs(np.mean(held) - 0.95) < (0.03 if stated else 0.035)
    assert (np.abs(shares - 0.95) < 3.0 * np.sqrt(0.05 * 0.95 / draws)).all(), shares
    npt.assert_allclose(fit.knowledge.freedom, len(fit.observations) - n, rtol=1e-6)


def test_levels_alone_fix_no_more_than_a_ratio_and_that_is_said():
    """Under the lake's level and no flow measured, recharge and all conductivities may rise together."""
    model = valley(water_table=ik.WaterTable(confined=True))
    model = replace(model, terms=[t for t in model.terms if t.kind != "well"])
    flow = ik.solve_flow(model, closure=1e-12)
    seen = ik.observe(model, read(flow, bores(model), np.random.default_rng(3).normal(0.0, 0.01, 24)))
    fit = ik.calibrate(
        model.with_inputs({"recharge.rate": 1.3 * model.input("recharge.rate")}), three(), observations=seen
    )
    (unknown,) = fit.knowledge.unknown
    assert unknown.words.startswith("all conductivities and recharge may rise or fall together")
    assert unknown.deviation > 1e3
    npt.assert_allclose(np.abs(unknown.parts), 1.0, rtol=1e-3)
    low, high = fit.knowledge.limits()
    assert (high / low > 1e6).all()
    assert all("known only together" in r for r in fit.table()["remark"])
    npt.assert_allclose(fit.numbers[0] / fit.numbers[1], 3.0, rtol=0.02)  # the ratio is known
    # the lake's gain tells the rest
    gain = ik.Measurement(name="lake", gain_of=("lake",), values=[820.0], deviation=8.0)
    both = ik.observe(model, read(flow, bores(model), deviation=0.01), [gain])
    known = ik.calibrate(model, three(), observations=both).knowledge
    assert known.unknown == ()
    assert (known.limits()[1] / known.limits()[0] < 1.1).all()


def test_a_bound_that_is_active_bends_the_rest_and_limits_say_so():
    model = valley()
    flow = ik.solve_flow(model, closure=1e-11)
    seen = ik.observe(model, read(flow, bores(model), np.random.default_rng(5).normal(0.0, 0.02, 24)))
    bent = [replace(three()[0], lower=5.0, upper=9.0, start=8.0), three()[1], replace(three()[2], held=True)]
    fit = ik.calibrate(model, bent, observations=seen)
    table = fit.table().set_index("parameter")
    npt.assert_allclose(table.loc["west", "fitted"], 9.0)
    assert table.loc["west", "remark"].startswith("on its bound")
    for name in ("west", "east"):
        assert table.loc[name, "lower 95 %"] <= TRUTH[name] <= table.loc[name, "upper 95 %"]
    assert table.loc["recharge", "remark"] == "held"


def test_what_nothing_tells_of_and_what_is_drained_are_told_apart():
    """A storey above the water table, and a property of cells far from any reading."""
    mesh = ik.rectangles((0, 0, 600, 100), cell=50)
    grid = ik.layered(mesh, [30.0, 20.0, 0.0])
    n = mesh.n_cells
    terms = [
        ik.terms.FixedHeadTerm(cells=[n, 2 * n - 1], head=[8.0, 5.0]),
        ik.terms.RechargeTerm(cells=np.arange(n), rate=1e-4, area=grid.cells.area[:n]),
    ]
    model = ik.Model(grid, 5.0, terms=terms, leakance=np.where(np.arange(2 * n) < n, 0.1, np.nan))
    flow = ik.solve_flow(model, closure=1e-10)
    held_level = [ik.Bore("in the pond", 25.0, 25.0, "layer 2", levels=np.array([8.0]))]
    some = [
        ik.Bore(f"b{k}", 120.0 + 90 * k, 60.0, "layer 2", levels=np.array([7.5 - 0.4 * k])) for k in range(5)
    ]
    parameters = [
        ik.Parameter(name="upper", of="conductivity", layers=("layer 1",)),
        ik.Parameter(name="lower", of="conductivity", layers=("layer 2",)),
    ]
    told = sensitivities(flow, parameters, ik.observe(model, [*some, *held_level]))
    assert told.dry.tolist() == [True, False]
    assert [u.names for u in told.unknown] == [("upper",)]
    assert "drained cells only" in told.unknown[0].words
    assert told.insensitive() == ("upper",)
    assert [p.held for p in told.hold_insensitive()] == [True, False]
    blind = sensitivities(flow, parameters[1:], ik.observe(model, held_level))
    assert blind.unknown[0].words == "no reading tells of lower"


def by_differences(parameters, observations, coordinates, which, options):
    def there(step):
        at = coordinates.copy()
        at[which] += step
        flow = ik.solve_flow(parameters.model_with(at), closure=1e-13, **options)
        return observations.computed(flow)

    step = 2e-3
    d1, d2, d4 = ((there(s) - there(-s)) / (2 * s) for s in (step, step / 2, step / 4))
    return (64.0 * d4 - 20.0 * d2 + d1) / 45.0


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
def test_jacobians_of_a_fit_equal_richardson_differences(kind):
    """Values, factors, additions, followers and pilot points, on levels, drawdowns, differences, gains and a line."""
    mesh = None if kind == "rectangles" else ik.voronoi(shapely.box(0, 0, 1200, 800), cell=85)
    schedule = ik.Schedule([1.0, 31.0, 91.0], steps=[1, 3, 4], steady=[True, False, False])
    rates = np.outer([0.2, 0.8, 1.2], [-150.0, -90.0])
    model = valley(mesh, schedule=schedule, specific_yield=0.15, specific_storage=1e-5)
    model = replace(model, inputs_in_time={"well.rate": rates})
    points = PilotPoints(
        [150.0, 420.0, 500.0, 250.0], [200.0, 150.0, 600.0, 640.0], variogram=Variogram(range=700.0), neighbours=3,
        held=[False, True, False, False], values=[10.0, 13.0, np.nan, 9.0],
    )  # fmt: skip
    parameters = ParameterSet(
        model,
        [
            ik.Parameter(name="west", of="conductivity", how="set", zone=("ground", "west"), points=points),
            ik.Parameter(name="east", of="conductivity", zone=("ground", "east")),
            ik.Parameter(name="yield", of="specific_yield", how="set"),
            ik.Parameter(name="lake", of="fixed head.head", how="add", lower=-2, upper=2),
            ik.Parameter(name="pumping", of="well.rate", logarithmic=True),
            ik.Parameter(name="recharge", of="recharge.rate", follows="pumping", multiple=1.1),
        ],
    )
    assert len(parameters) == 7
    days = [1.0, 17.0, 40.0, 88.0]
    places = [replace(b, levels=np.array([11.0])) for b in bores(model, 3)]
    measured = [
        ik.Measurement(name="w", level_in="a", times=days, values=[9.0] * 4, deviation=0.1),
        ik.Measurement(name="d", drawdown_in="b0", since=1.0, times=[9.0, 60.0], values=[0.2, 0.3], deviation=0.1),
        ik.Measurement(name="x", between=("b1", "b2"), times=[55.0], values=[0.2], deviation=0.1),
        ik.Measurement(name="g", gain_of=("lake",), times=days, values=[500.0] * 4, deviation=50.0),
        ik.Measurement(name="r", gain_of=("a",), times=[80.0], values=[300.0], deviation=50.0),
        ik.Measurement(
            name="l", across=shapely.LineString([(500, -10), (430, 820)]), times=[60.0], values=[500.0], deviation=50.0
        ),
    ]  # fmt: skip
    seen = ik.observe(model, places, measured)
    assert len(seen) == 13
    assert len(seen.left_out) == 3  # bores without dates
    at = parameters.start + 0.03 * np.cos(np.arange(7))
    options = {"initial_heads": 10.0}
    flow = ik.solve_flow(parameters.model_with(at), closure=1e-13, **options)
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-13)
    exact = sensitivity.jacobian(seen.readings(flow), parameters.made(at).by)
    scale = np.abs(exact).max(axis=1)
    for k in range(len(parameters)):
        npt.assert_allclose(
            exact[:, k] / scale,
            by_differences(parameters, seen, at, k, options) / scale,
            atol=1e-6,
            err_msg=parameters.names[k],
        )


def fields(rng, mesh, deviation, curve):
    """A field on cells with a variogram, by the root of its covariance."""
    covariance = deviation**2 * curve.covariance(mesh.x, mesh.y) / (curve.sill + curve.nugget)
    return np.linalg.cholesky(covariance + 1e-10 * np.eye(len(covariance))) @ rng.standard_normal(
        len(covariance)
    )


@pytest.mark.slow
def test_pilot_points_hold_random_fields_and_readings_that_were_kept_back():
    """Over 20 fields: where readings tell, limits hold the field; kept readings fall where they are forecast."""
    curve, deviation, sigma = Variogram("exponential", range=900.0), 0.7, 0.03
    mesh = ik.rectangles((0, 0, 1200, 800), cell=50)
    grid = ik.layered(mesh, [30.0, 0.0])
    c = grid.cells
    terms = [
        ik.terms.RechargeTerm(cells=np.arange(len(c)), rate=1e-3, area=c.area),
        ik.terms.FixedHeadTerm(cells=np.flatnonzero(c.x < 50), head=14.0, feature_names=("lake",)),
        ik.terms.WellTerm(cells=mesh.locate([900.0], [500.0]), connection=15.0, rate=-250.0),
    ]
    flat = ik.Model(grid, 6.0, terms=terms)
    points = PilotPoints(spacing=100.0, variogram=curve, neighbours=24)
    field = ik.Parameter(
        name="K", of="conductivity", how="set", start=6.0, deviation=deviation, points=points
    )
    parameters, inside, scores, rms, kept_in = ParameterSet(flat, [field]), [], [], [], []
    assert len(parameters) == 96
    for seed in range(20):
        rng = np.random.default_rng(seed)
        k = 6.0 * np.exp(fields(rng, mesh, deviation, curve))
        truth = flat.with_inputs({"horizontal_conductivity": k, "vertical_conductivity": k})
        flow = ik.solve_flow(truth, closure=1e-10)
        places = read(flow, bores(flat, 60, seed), rng.normal(0.0, sigma, 60), sigma)
        taken = float(-flow.steps[-1].term_flow[1].sum())
        gain = ik.Measurement(name="lake", gain_of=("lake",), values=[taken], deviation=20.0)
        fit = ik.calibrate(
            flat, parameters, observations=ik.observe(flat, places[:45], [gain]), max_iterations=15
        )
        k = fit.knowledge
        spread = parameters.field_deviation("K", fit.coordinates, k.covariance)
        found = np.log(parameters.field_of("K", fit.coordinates))
        # beside the points the field is known but for what kriging leaves open
        left = parameters.kriging_variance("K", deviation**2)
        whole = np.sqrt(spread**2 + left)
        told = whole**2 < 0.7 * deviation**2
        off = (np.log(truth.horizontal_conductivity) - found)[told]
        inside.append(np.mean(np.abs(off) < 1.96 * whole[told]))
        scores.append(told.mean())
        kept = ik.observe(flat, places[45:])
        forecast = ik.forecast(fit, kept)
        standard = (kept.measured - kept.computed(fit.after)) / np.sqrt(forecast.after**2 + sigma**2)
        rms.append(np.mean(standard**2))
        kept_in.append(np.mean(np.abs(standard) < 1.96))
    assert np.mean(scores) > 0.2
    assert 0.90 <= np.mean(inside) <= 0.98, np.mean(inside)
    assert 0.8 <= np.sqrt(np.mean(rms)) <= 1.25, np.sqrt(np.mean(rms))
    assert 0.90 <= np.mean(kept_in) <= 0.98, np.mean(kept_in)


def test_a_strength_that_meets_a_target_meets_it():
    model = valley()
    flow, rng = ik.solve_flow(model, closure=1e-11), np.random.default_rng(2)
    seen = ik.observe(model, read(flow, bores(model, 40), rng.normal(0.0, 0.05, 40), 0.05))
    points = PilotPoints(spacing=150.0)
    field = [ik.Parameter(name="K", of="conductivity", how="set", start=7.0, points=points)]
    smooth = ik.Regularisation(kind="neighbours alike", strength="target")
    fit = ik.calibrate(model, field, observations=seen, regularisation=smooth)
    npt.assert_allclose(fit.history[-1].misfit / len(seen), 1.0, atol=0.05)
    assert "reached its target" in fit.reason
    assert fit.knowledge.freedom < len(seen) - 2
    few = ik.Regularisation(most_directions=3)
    cut = ik.calibrate(model, field, observations=seen, regularisation=few, max_iterations=8)
    step = np.linalg.matrix_rank(np.diff([r.coordinates for r in cut.history[:2]], axis=0))
    assert step == 1
    assert 1.0 < cut.history[-1].misfit / len(seen) < cut.history[0].misfit / len(seen)


def test_rules_weigh_readings_and_say_why_some_are_left_out():
    model = valley(schedule=ik.Schedule([1.0, 366.0], steps=[1, 4], steady=[True, False], start="2020-01-01"),
                   specific_yield=0.1, specific_storage=1e-5)  # fmt: skip
    dates = np.array(["2019-06-01", "2020-03-01", "2020-09-01", "2022-01-01"], dtype="datetime64[s]")
    good = ik.Bore(
        "good",
        500.0,
        300.0,
        "layer 1",
        dates=dates,
        levels=np.array([11.0, 11.2, -3.0, 11.0]),
        deviation=0.02,
    )
    out = ik.Bore("out", 5000.0, 300.0, "layer 1", dates=dates[1:3], levels=np.array([11.0, 11.0]))
    rules = [
        WeightRule(near=(500.0, 300.0), distance=50.0, factor=0.5),
        WeightRule(
            begin="2020-08-01", end="2021-01-01", names=("far",), factor=0.0, reason="kept to test the fit"
        ),
    ]
    far = ik.Bore("far", 900.0, 700.0, "layer 1", dates=dates[1:3], levels=np.array([12.0, 12.0]))
    seen = ik.observe(model, [good, out, far], rules=rules)
    assert seen.table["name"].tolist() == ["good", "far"]
    npt.assert_allclose(seen.table["deviation"], 0.02)  # that of the others
    npt.assert_allclose(seen.weights, [25.0, 50.0])
    assert any("without a standard deviation" in note for note in seen.notes)
    said = {(n, v): why for n, v, why in seen.left_out[["name", "measured", "why"]].itertuples(index=False)}
    assert said["good", -3.0].startswith("it lies below the bottom of its cell")
    assert set(seen.left_out["why"]) >= {
        "before the run begins",
        "after the run ends",
        "by a rule: kept to test the fit",
    }
    assert "lies outside the cells" in said["out", 11.0]
    # beside steady flow a window chooses what the mean is of
    levels = np.array([11.0, 12.0, 13.0, 20.0])
    steady = ik.observe(
        valley(), [replace(good, levels=levels)], rules=[WeightRule(begin="2022-01-01", factor=0.0)]
    )
    assert steady.measured.tolist() == [12.0]
    assert steady.left_out["measured"].tolist() == [20.0]


@pytest.mark.parametrize(
    ("kind", "when"),
    [
        ("voronoi", "steady"),
        pytest.param("rectangles", "in time", marks=pytest.mark.slow),
        pytest.param("rectangles", "steady", marks=pytest.mark.slow),
        pytest.param("voronoi", "in time", marks=pytest.mark.slow),
    ],
)
def test_where_pumping_takes_its_water_equals_running_anew(kind, when):
    """Small wells in twenty cells, one adjoint for all: what a lake goes without, and by how much a level falls."""
    mesh = None if kind == "rectangles" else ik.voronoi(shapely.box(0, 0, 1200, 800), cell=85)
    times = {} if when == "steady" else {
        "schedule": ik.Schedule([1.0, 61.0], steps=[1, 5], steady=[True, False]), "specific_yield": 0.1,
        "specific_storage": 1e-5,
    }  # fmt: skip
    model = valley(mesh, **times)
    gain = ik.Measurement(name="lake", gain_of=("lake",), values=[0.0], deviation=1.0)
    dates = {} if when == "steady" else {"times": [61.0]}
    level = ik.Measurement(name="level", level_in="b", values=[0.0], deviation=1.0, **dates)
    seen = ik.observe(model, (), [replace(gain, **dates), level])
    flow = ik.solve_flow(model, closure=1e-13, initial_heads=10.0)
    exact = ik.by_pumping(flow, seen.readings(flow), tolerance=1e-12)
    cells = np.random.default_rng(4).permutation(np.flatnonzero(model.grid.cells.x > 90))[:20]

    def there(cell, rate):
        term = model.term("well")
        joined = ik.terms.WellTerm(
            cells=[*term.cells, cell], feature_index=[*term.feature_index, 2], feature_names=("a", "b", "new"),
            connection=[*term.connection, 30.0], rate=[*term.rate, rate],
        )  # fmt: skip
        other = replace(model, terms=[joined if t.kind == "well" else t for t in model.terms])
        return seen.computed(ik.solve_flow(other, closure=1e-13, initial_heads=10.0))

    for cell in cells:
        d1, d2 = ((there(cell, s) - there(cell, -s)) / (2.0 * s) for s in (0.2, 0.1))
        npt.assert_allclose(exact[:, cell], (4.0 * d2 - d1) / 3.0, rtol=1e-6, atol=1e-9)
    assert (exact[0, cells] > 0.0).all()
    assert (exact[0, cells] <= 1.0).all()


def test_a_forecast_says_how_sure_it_is_and_what_to_measure_next():
    """Against draws of what a fit leaves open, and against closed forms."""
    model = valley()
    flow, rng = ik.solve_flow(model, closure=1e-11), np.random.default_rng(9)
    places = bores(model, 8)
    seen = read(flow, places, rng.normal(0.0, 0.05, 8), 0.05)
    known = [replace(p, deviation=0.05) for p in three()]
    fit = ik.calibrate(model, known, observations=ik.observe(model, seen))
    gain = ik.Measurement(name="lake", gain_of=("lake",), values=[0.0], deviation=15.0)
    spot = ik.Bore("spot", 1000.0, 610.0, "layer 1", levels=np.zeros(1), deviation=0.05)
    targets = ik.observe(model, [spot], [gain])
    made = ik.forecast(fit, targets)
    assert (made.after < made.before).all()
    draws = fit.coordinates + rng.multivariate_normal(np.zeros(3), fit.knowledge.covariance, 60)
    values = [targets.computed(ik.solve_flow(fit.parameters.model_with(d))) for d in draws]
    npt.assert_allclose(np.std(values, axis=0), made.after, rtol=0.35)
    worth = made.worth_of_readings("lake").set_index("name")
    assert (worth["more [%]"] >= 0.0).all()
    new = made.worth_of(targets, "lake").set_index("name")
    after = 1.0 / np.sqrt(1.0 / made.after[1] ** 2 + 1.0 / 15.0**2)  # the gain itself measured
    npt.assert_allclose(new.loc["lake", "standard error with"], after, rtol=1e-4)
    anywhere = made.worth_of_level("layer 1", 0.05, "lake")
    at = int(model.grid.mesh.locate([1000.0], [610.0])[0])
    one = ik.observe(model, [replace(spot, x=model.grid.mesh.x[at], y=model.grid.mesh.y[at])], ())
    npt.assert_allclose(anywhere[at], made.worth_of(one, "lake")["less [%]"].iloc[0], rtol=1e-4)
    pumped = replace(
        model, terms=[replace(t, rate=1.4 * t.rate) if t.kind == "well" else t for t in model.terms]
    )
    more = ik.forecast(fit, targets, scenario=pumped)
    assert more.values[0] < made.values[0]
    assert more.after[0] > made.after[0]


def test_a_value_for_each_cell_is_fitted_by_adjoint_gradients():
    """The slope by differences; a fit that stops and goes on to the same bits; a smooth field of the right spread."""
    from inkhorn.calibration.field import Smooth

    model = valley()
    flow, rng = ik.solve_flow(model, closure=1e-11), np.random.default_rng(2)
    places = read(flow, bores(model, 40), rng.normal(0.0, 0.05, 40), 0.05)
    seen = ik.observe(model, places)
    flat = model.with_inputs({"horizontal_conductivity": 7.0 + 0.0 * model.horizontal_conductivity})
    states = []
    options = {"range": 800.0, "deviation": 0.8, "observations": seen, "max_iterations": 40}
    fit = ik.calibrate_field(flat, keep=states.append, **options)
    assert fit.history[-1][0] < 2.0 * len(seen) < fit.history[0][0]
    again = ik.calibrate_field(flat, go_on=states[5], **options)
    npt.assert_array_equal(again.factor, fit.factor)
    east = model.grid.cells.x > 700
    assert (
        np.exp(np.log(7.0 * fit.factor[east]).mean())
        < 5.5
        < 8.0
        < np.exp(np.log(7.0 * fit.factor[~east]).mean())
    )
    smooth = Smooth(model.grid, np.arange(model.grid.n_cells), 800.0, 0.8)
    several = np.array([smooth.field(rng.standard_normal(smooth.n)) for _ in range(150)])
    npt.assert_allclose(several.std(), 0.8, rtol=0.15)
    z, g = rng.standard_normal((2, smooth.n))
    npt.assert_allclose(g @ smooth.field(z), smooth.turned(g) @ z, rtol=1e-8)
    with pytest.raises(ik.InputError, match="heads do not depend on porosity"):
        ik.calibrate_field(flat, of="porosity", **options)
    with pytest.raises(ik.InputError, match="no standard deviations"):
        ik.calibrate_field(
            flat, range=800.0, deviation=0.8, observations=ik.observe(model, read(flow, bores(model)))
        )


def test_a_pumping_test_gives_transmissivity_and_storage():
    """Drawdowns by Theis (1935) at three bores, with errors of reading: both within their limits, and near the truth."""
    from scipy.special import exp1

    rate, transmissivity, storage = 900.0, 250.0, 2e-4
    mesh = ik.voronoi(
        shapely.box(-3000, -3000, 3000, 3000), cell=500, near=[(shapely.Point(0, 0).buffer(250), 25.0)]
    )
    grid = ik.layered(mesh, [0.0, -20.0])
    well = int(mesh.locate([0.0], [0.0])[0])
    connection = 2.0 * np.pi * 20.0 / np.log(grid.equivalent_radius([well], [[0.0, 0.0]])[0] / 0.1)
    terms = [
        ik.terms.WellTerm(cells=[well], connection=connection, rate=[-rate], x=0.0, y=0.0),
        ik.terms.FixedHeadTerm(cells=np.unique(grid.outer_faces.cell), head=0.0),
    ]
    ends = np.concatenate([[1e-3], 1e-3 + np.geomspace(0.01, 1.0, 28)])
    model = ik.Model(
        grid, 10.0, specific_storage=1e-5, specific_yield=0.1, terms=terms, water_table=ik.WaterTable(confined=True),
        schedule=ik.Schedule(ends, steps=2, steady=[True] + [False] * 28),
        inputs_in_time={"well.rate": np.concatenate([[[0.0]], np.full((28, 1), -rate)])},
    )  # fmt: skip
    rng, times = np.random.default_rng(6), np.geomspace(0.02, 0.9, 14)
    places = [
        ik.Bore(f"b{k}", x, y, "layer 1")
        for k, (x, y) in enumerate([(60.0, 10.0), (-20.0, 110.0), (-150.0, -90.0)])
    ]
    measured = []
    for bore in places:
        away = np.hypot(bore.x, bore.y)
        drawdown = (
            rate / (4 * np.pi * transmissivity) * exp1(away**2 * storage / (4 * transmissivity * times))
        )
        measured.append(
            ik.Measurement(
                name=f"test {bore.name}", drawdown_in=bore.name, since=1e-3, times=times, deviation=0.01,
                values=drawdown + rng.normal(0.0, 0.01, len(times)),
            )
        )  # fmt: skip
    parameters = [
        ik.Parameter(name="K", of="conductivity", how="set"),
        ik.Parameter(name="S", of="specific_storage", how="set", start=3e-5),
    ]
    fit = ik.calibrate(model, parameters, observations=ik.observe(model, places, measured))
    npt.assert_allclose(20.0 * fit.numbers[0], transmissivity, rtol=0.02)
    npt.assert_allclose(20.0 * fit.numbers[1], storage, rtol=0.06)
    assert 0.5 < fit.knowledge.variance < 2.0
