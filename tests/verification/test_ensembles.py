"""Many runs against theory: first order, stochastic theory of flow in random fields, draws from the posterior."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn import terms
from inkhorn.ensemble import Fitted
from inkhorn.ensemble.adjusting import Adjusting
from inkhorn.ensemble.varied import VariedSet
from tests.conftest import rain


def block(columns, rows, cell, *, left=15.0, right=10.0, fed=1e-3, layer="sand", mesh=None):
    plan = mesh or ik.rectangles((0, 0, cell * columns, cell * rows), cell=cell)
    grid = ik.layered(plan, [10.0, 0.0], names=[layer])
    x = grid.cells.x
    sides = [np.flatnonzero(x < x.min() + 0.6 * cell), np.flatnonzero(x > x.max() - 0.6 * cell)]
    rim = terms.FixedHeadTerm(
        cells=np.concatenate(sides), head=np.repeat([left, right], [len(s) for s in sides]),
        feature_names=("left", "right"), feature_index=np.repeat([0, 1], [len(s) for s in sides]),
    )  # fmt: skip
    return ik.Model(
        grid, 10.0, porosity=0.25, terms=[rim, rain(grid, fed)], water_table=ik.WaterTable(confined=True)
    )


def field(variance, length, **more):
    return ik.RandomField(variogram=ik.Variogram.of_lengths("exponential", variance, length=length), **more)


LEVEL = ik.Watch(name="level", level_at=(205.0, 105.0), layer="sand")
WATER = ik.Watch(name="inflow", gain_of=("left",))


def test_first_order_is_exact_where_heads_change_evenly_and_tells_what_brings_the_variance():
    model = block(20, 11, 20.0, fed=1e-3)
    wet = ik.Varied(name="rain", of="recharge.rate", how="add", value=ik.Normal(5e-4, 2e-4))
    even = ik.Varied(name="K", of="conductivity", value=ik.Uniform(0.999, 1.001))
    table = ik.first_order(model, [wet, even], [LEVEL])
    high = ik.solve_flow(model.with_inputs({"recharge.rate": np.full(model.grid.n_cells, 1.7e-3)}))
    low = ik.solve_flow(model.with_inputs({"recharge.rate": np.full(model.grid.n_cells, 1.3e-3)}))
    cell = model.grid.mesh.locate([205.0], [105.0])[0]
    sampled = [f.at(205.0, 105.0).loc["head"].iloc[-1] for f in (high, low)]
    assert cell >= 0
    npt.assert_allclose(table["first-order deviation"], abs(sampled[0] - sampled[1]) / 2.0, rtol=0.01)
    assert table["rain [%]"].iloc[0] > 99.0
    runs = ik.vary(model, [wet], [LEVEL], runs=64, sampling="sobol", workers=0)
    npt.assert_allclose(runs.of("level").std(ddof=1), table["first-order deviation"], rtol=0.05)
    npt.assert_allclose(runs.of("level").mean(), table["first-order mean"], atol=2e-3)


@pytest.mark.parametrize("mesh", ["rectangles", "voronoi"])
def test_first_order_over_a_field_agrees_with_many_runs_where_its_variance_is_small(mesh):
    from shapely import box

    plan = None if mesh == "rectangles" else ik.voronoi(box(0, 0, 400, 220), cell=20)
    model = block(20, 11, 20.0, mesh=plan, fed=5e-4)
    ln_k = ik.Varied(name="ln K", of="conductivity", value=field(0.04, 60.0))
    factor = ik.Varied(name="rain", of="recharge.rate", value=ik.LogNormal(1.0, 0.1))
    watch = [LEVEL, WATER]
    table = ik.first_order(model, [ln_k, factor], watch)
    runs = ik.vary(model, [ln_k, factor], watch, runs=600, workers=0, sampling="sobol")
    for row, name in enumerate(("level", "inflow")):
        values = runs.of(name)[:, 0]
        deviation = float(table["first-order deviation"].iloc[row])
        assert abs(values.std(ddof=1) / deviation - 1.0) < 3.5 / np.sqrt(2 * 600) + 0.03
    assert (table[["ln K [%]", "rain [%]"]].sum(axis=1) > 99.99).all()


def test_runs_that_are_fitted_to_readings_are_draws_from_the_posterior_where_all_is_linear():
    model = block(20, 11, 20.0, fed=1e-3)
    wet = ik.Varied(name="rain", of="recharge.rate", how="add", value=ik.Normal(0.0, 3e-4))
    bores = [ik.Bore("Q1", 205.0, 105.0, "sand", levels=np.array([12.8]), deviation=0.1)]
    seen = ik.observe(model, bores)
    found = ik.vary(model, [wet], [LEVEL], runs=250, workers=0, fit_to=seen, sampling="random", seed=3)
    first = ik.first_order(model, [wet], [LEVEL])
    prior, spread = float(first["first-order mean"].iloc[0]), float(first["first-order deviation"].iloc[0])
    gain = spread**2 / (spread**2 + 0.1**2)
    mean, deviation = prior + gain * (12.8 - prior), spread * np.sqrt(1.0 - gain)
    values = found.of("level")[:, 0]
    assert abs(values.mean() - mean) < 3.5 * deviation / np.sqrt(250)
    assert abs(values.std(ddof=1) / deviation - 1.0) < 3.5 / np.sqrt(500)
    npt.assert_allclose(found.of("level").std(), values.std())
    many = ik.vary(model, [wet], [LEVEL], runs=12, workers=2, fit_to=seen, sampling="random", seed=3)
    npt.assert_array_equal(many.of("level")[:, 0], values[:12])


@pytest.mark.slow
@pytest.mark.parametrize("variance", [0.05, 0.8])
def test_bands_of_fitted_runs_hold_their_share_of_synthetic_truths(variance):
    model, runs = block(24, 14, 20.0, fed=0.0), 40
    ready = VariedSet(model, [ik.Varied(name="ln K", of="conductivity", value=field(variance, 80.0))])
    numbers = np.random.default_rng(8)
    places = numbers.uniform((30.0, 30.0), (450.0, 250.0), (9, 2))
    inner = (model.grid.cells.x > 30.0) & (model.grid.cells.x < 450.0)
    near = np.asarray(ik.solve_flow(model).steps[0].heads)
    inside, narrower = [], []

    def heads_of(coordinates):
        flow = ik.solve_flow(ready.model_of(ready.of(coordinates)), initial_heads=near)
        return flow, np.asarray(flow.steps[0].heads)[inner]

    for truth in range(10):
        drawn = ready.prior(np.empty(0), np.random.SeedSequence([99, truth]))
        flow, true = heads_of(drawn)
        bores = []
        for k, (x, y) in enumerate(places):
            level = float(flow.at(x, y).loc["head"].iloc[-1]) + 0.05 * numbers.standard_normal()
            bores.append(ik.Bore(f"Q{k}", x, y, "sand", levels=np.array([level]), deviation=0.05))
        adjusting = Adjusting(ready, ik.observe(model, bores), {}, near)
        before = [ready.prior(np.empty(0), np.random.SeedSequence([truth, 4, r])) for r in range(runs)]
        after = [adjusting.adjusted(u, np.random.SeedSequence([truth, 5, r])) for r, u in enumerate(before)]
        heads = [np.array([heads_of(u)[1] for u in some]) for some in (before, after)]
        narrower.append(np.mean(heads[1].std(axis=0) / heads[0].std(axis=0)))
        for told, is_so in ((heads[1], true), (np.array(after), drawn)):
            low, high = np.quantile(told, (0.05, 0.95), axis=0)
            inside.append(((is_so >= low) & (is_so <= high)).mean())
    share = 0.9 * (runs - 1) / (runs + 1)  # of a band that is itself drawn from so many
    assert abs(np.mean(inside[1::2]) - share) < 0.05
    assert abs(np.mean(inside[::2]) - share) < 0.12
    assert np.mean(narrower) < 0.6


def head_variogram(distance, along, variance, length):
    """Half the mean square of head differences in the plane over the squared gradient, of an exponential covariance.

    To first order (Gelhar 1993, sec. 4.1; the integral over directions is done).
    """
    from scipy.integrate import quad
    from scipy.special import j0, jv

    sign = 1.0 if along else -1.0

    def integrand(k):
        z = k * distance
        return (1.0 - j0(z) + sign * jv(2, z)) / k / (1.0 + (length * k) ** 2) ** 1.5

    whole = quad(integrand, 1e-9, 200.0 / length, limit=4000)[0]
    return 0.5 * variance * length**2 * whole


def spreading(tau):
    """Longitudinal variance of displacements over variance of ln K and squared length (Dagan 1989, eq. 4.7.5 in 2D)."""
    from scipy.special import expi

    euler = 0.5772156649
    return (
        2.0 * tau
        - 3.0 * np.log(tau)
        + 1.5
        - 3.0 * euler
        + 3.0 * (expi(-tau) + ((1.0 + tau) * np.exp(-tau) - 1.0) / tau**2)
    )


@pytest.mark.slow
def test_flow_in_weakly_random_ground_is_that_of_first_order_theory():
    variance, length, cell, fields = 0.1, 80.0, 10.0, 160
    columns, rows = 200, 160
    model = block(columns, rows, cell, left=20.0, right=0.0, fed=0.0)
    grid, gradient = model.grid, 20.0 / (cell * (columns - 1))
    maker = ik.FieldMaker(grid, field(variance, length, mean=10.0))
    speed = 10.0 * gradient / 0.25
    times = np.array([0.5, 1.0, 2.0, 4.0, 6.0]) * length / speed
    x = grid.cells.x.reshape(rows, columns)
    middle = (slice(rows // 4, 3 * rows // 4), slice(columns // 4, 3 * columns // 4))
    lags = np.array([1, 2, 4]) * int(length / cell)
    through, half_squares, moved = [], [], []
    for k in range(fields):
        ln_k = maker.draw(np.random.SeedSequence([12, k]))
        own = model.with_inputs({"horizontal_conductivity": ln_k, "vertical_conductivity": ln_k})
        flow = ik.solve_flow(own)
        through.append(float(flow.budget()["in [m³/day]"].max()))
        head = np.asarray(flow.steps[0].heads).reshape(rows, columns)
        off = (head - (20.0 - gradient * (x - 0.5 * cell)))[middle]
        half_squares.append(
            [0.5 * ((off[:, n:] - off[:, :-n]) ** 2).mean() for n in lags]
            + [0.5 * ((off[n:] - off[:-n]) ** 2).mean() for n in lags]
        )
        places = np.column_stack([np.full(18, 500.0), np.linspace(300.0, 1300.0, 18), np.full(18, 5.0)])
        starts = ik.starts_at_points(flow, places)
        paths = ik.trace(flow, starts, max_time=float(times[-1]), mark=float(times[0]))
        marks = paths.points
        along = [
            np.array([np.interp(t, m["time [day]"], m["x [m]"]) for _, m in marks.groupby("path")]) - 500.0
            for t in times
        ]
        moved.append(along)
    effective = np.mean(through) / (10.0 * cell * rows * gradient)
    error = np.std(through) / np.sqrt(fields) / (10.0 * cell * rows * gradient)
    assert abs(effective / 10.0 - 1.0) < 0.05
    assert abs(effective / 10.0 - 1.0) < 3.0 * error / 10.0 + 0.01
    seen = np.array(half_squares) / gradient**2
    expected = [head_variogram(n * cell, along, variance, length) for along in (True, False) for n in lags]
    errors = seen.std(axis=0) / np.sqrt(fields)
    assert (np.abs(seen.mean(axis=0) - expected) < 0.05 * np.array(expected) + 3.0 * errors).all()
    assert (errors < 0.06 * np.array(expected)).all()
    x11 = np.array(moved)  # fields, times, paths
    square = ((x11 - x11.mean(axis=(0, 2), keepdims=True)) ** 2).mean(axis=2)
    told = variance * length**2 * spreading(times * speed / length)
    errors = square.std(axis=0) / np.sqrt(fields)
    npt.assert_allclose(
        spreading(np.array([1e-2])) / 1e-4, 3.0 / 8.0, rtol=0.02
    )  # the variance of the velocity
    assert (np.abs(square.mean(axis=0) - told) < 0.05 * told + 3.0 * errors).all(), square.mean(axis=0) / told
    assert (errors < 0.1 * told).all()


def test_adjusting_needs_deviations_and_says_what_cannot_be_met():
    model = block(20, 11, 20.0, fed=1e-3)
    wet = ik.Varied(name="rain", of="recharge.rate", value=ik.Uniform(0.99, 1.01))
    far = [ik.Bore("Q1", 205.0, 105.0, "sand", levels=np.array([25.0]), deviation=0.1)]
    with pytest.raises(
        ik.ConvergenceError, match=r"all 2 runs failed; the first because: the readings cannot be met"
    ):
        ik.vary(model, [wet], [LEVEL], runs=2, workers=0, fit_to=ik.observe(model, far))
    bare = ik.observe(model, [ik.Bore("Q1", 205.0, 105.0, "sand", levels=np.array([14.0]))])
    with pytest.raises(ik.InputError, match="no standard deviations"):
        Adjusting(VariedSet(model, [wet]), bare)


@pytest.mark.slow
def test_the_parameters_of_a_fit_are_drawn_with_its_covariance():
    model = block(20, 11, 20.0, fed=1e-3)
    bores = [
        ik.Bore(f"Q{k}", x, 105.0, "sand", levels=np.array([level]), deviation=0.02)
        for k, (x, level) in enumerate([(85.0, 14.14), (205.0, 12.67), (305.0, 11.35)])
    ]
    parameters = [
        ik.Parameter(name="K", of="conductivity", lower=0.2, upper=5.0),
        ik.Parameter(name="rain", of="recharge.rate", lower=0.5, upper=1.5, expected=1.0, deviation=0.1),
    ]
    fit = ik.calibrate(model, parameters, observations=ik.observe(model, bores))
    found = ik.vary(model, [Fitted(fit)], [LEVEL], runs=1024, workers=0, sampling="sobol")
    covariance = np.linalg.inv(fit.knowledge.afterwards)
    npt.assert_allclose(np.cov(np.log(found.numbers).T), covariance, rtol=0.12, atol=2e-4)
    npt.assert_allclose(np.log(found.numbers).mean(axis=0), fit.coordinates, atol=0.01)
    assert found.number_names == ("K", "rain")
