"""Flow in time against exact solutions, its order, and the water it keeps."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
from scipy.integrate import quad
from scipy.special import erfc, exp1, k0

import inkhorn as ik
from inkhorn.flow import FlowEquations
from inkhorn.site import Schedule
from tests.conftest import held, rain, strip

CONFINED = ik.WaterTable(confined=True)


T, S, Q = 500.0, 2e-4, 1000.0  # transmissivity [m²/day], storativity, rate of the well [m³/day]


def field(*, layers: int = 1, leakage: float = 0.0, leakance: float | None = None, **options):
    """A confined aquifer, or several alike, on 40 km with a well in the middle of the lowest, and the distance from it.

    Through its top it may leak from water that stands at 0; through floors the leakance is that given.
    """
    far = 20_000.0
    bands = [ik.Band(axis, 0.0, 0.0, 6.0) for axis in "xy"]
    mesh = ik.rectangles((-far, -far, far, far), cell=1500, bands=bands, growth=1.3)
    grid, middle = ik.layered(mesh, list(-10.0 * np.arange(layers + 1))), mesh.locate([0.0], [0.0])
    rim = np.flatnonzero((np.abs(grid.cells.x) > far - 800) | (np.abs(grid.cells.y) > far - 800))
    geometry = 20 * np.pi / np.log(mesh.equivalent_radius(middle) / 0.1)
    well = ik.terms.WellTerm(cells=grid.cell_number[-1, middle], rate=-Q, connection=geometry)
    terms = [well, held(rim, 0.0)]
    if leakage:
        terms.append(
            ik.terms.HeadDependentTerm(
                cells=np.arange(grid.n_cells), conductance=leakage * grid.cells.area, head=0.0
            )
        )
    model = ik.Model(
        grid, T / 10, specific_storage=S / 10, terms=terms, water_table=CONFINED,
        leakance=None if leakance is None else np.full(grid.n_cells, leakance), **options,
    )  # fmt: skip
    away = np.hypot(mesh.x - mesh.x[middle], mesh.y - mesh.y[middle])
    return model, away, (away > 30) & (away < 3000)


def test_drawdown_and_recovery_follow_theis():
    """Theis (1935): a well that pumps for a day and rests for one; the aquifer ends 20 km away."""
    model, away, near = field(
        schedule=Schedule([1.0, 2.0], steps=40, growth=1.15),
        inputs_in_time={"well.rate": np.array([[-Q], [0.0]])},
    )
    flow = ik.solve_flow(model, initial_heads=0.0)

    def theis(time):
        return Q / (4 * np.pi * T) * exp1(away[near] ** 2 * S / (4 * T * time))

    for step, exact in ((39, theis(1.0)), (79, theis(2.0) - theis(1.0))):
        npt.assert_allclose(-flow.steps[step].heads[near], exact, atol=0.006 * theis(1.0).max())
    assert max(abs(flow.budget(step=k).attrs["closing_error_percent"]) for k in range(80)) < 1e-6
    npt.assert_allclose(flow.well_levels(step=79)["abstraction [m³/day]"], 0.0, atol=1e-9)


def test_a_leaky_aquifer_follows_hantush_and_jacob():
    """Hantush & Jacob (1955): drawdown fed by leakage, on the way to steady and there (de Glee: K0)."""
    leakage = 5e-4
    model, away, near = field(leakage=leakage, schedule=Schedule([0.2, 20.0], steps=40, growth=1.15))
    flow = ik.solve_flow(model, initial_heads=0.0)

    def well_function(u, beta):
        value = quad(lambda y: np.exp(-np.exp(y) - beta**2 / (4 * np.exp(y))), np.log(u), 8.0, limit=200)
        return value[0]

    beta = away[near] * np.sqrt(leakage / T)
    early = [well_function(r**2 * S / (4 * T * 0.2), b) for r, b in zip(away[near], beta, strict=True)]
    scale = Q / (4 * np.pi * T)
    for step, exact in ((39, np.array(early)), (79, 2 * k0(beta))):
        npt.assert_allclose(-flow.steps[step].heads[near] / scale, exact, atol=0.01 * exact.max())


def test_two_aquifers_share_a_well_by_their_leakance():
    """Two alike, one pumped: their heads differ by Q/(2 pi T) K0(r sqrt(2 c/T)), c the leakance between.

    The difference of the two balances, each ``T del² s = c (s - s')``; Hantush (1967) for any two.
    """
    leakance = 1e-4
    model, away, near = field(layers=2, leakance=leakance)
    upper, lower = ik.solve_flow(model).steps[-1].heads.reshape(2, -1)
    exact = Q / (2 * np.pi * T) * k0(away[near] * np.sqrt(2 * leakance / T))
    npt.assert_allclose((upper - lower)[near], exact, atol=0.01 * exact.max())


def test_a_tide_dies_away_inland():
    """Ferris (1951): amplitude and lag of a level that swings at the edge of a half space."""
    cycle, each = 1.0, 200
    grid = strip(500, length=1200.0, surfaces=(0.0, -10.0))
    wave = np.sqrt(np.pi * 1e-3 / (50.0 * cycle))

    def exact(time):
        x = grid.cells.x
        return np.exp(-wave * x) * np.cos(2 * np.pi * time / cycle - wave * x)

    ends = np.arange(1, 2 * each + 1) * cycle / each
    model = ik.Model(
        grid, 50.0, specific_storage=1e-3, terms=[held(0, 1.0)], water_table=CONFINED,
        schedule=Schedule(ends), inputs_in_time={"fixed head.head": np.cos(2 * np.pi * ends / cycle)[:, None]},
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=exact(0.0))
    for part in (1.0, 1.25, 1.6, 2.0):
        npt.assert_allclose(flow.steps[round(part * each) - 1].heads, exact(part), atol=6e-3)


def test_a_sudden_stage_spreads_as_heat_does():
    """Carslaw & Jaeger (1959), 2.4: a half space whose edge is raised at once."""
    grid = strip(400, length=2000.0, surfaces=(0.0, -10.0))
    model = ik.Model(
        grid,
        50.0,
        specific_storage=1e-3,
        terms=[held(0, 1.0)],
        water_table=CONFINED,
        schedule=Schedule([4.0], steps=400),
    )
    flow = ik.solve_flow(model, initial_heads=0.0)
    spread = 50.0 / 1e-3
    exact = erfc(grid.cells.x / (2 * np.sqrt(spread * 4.0)))
    npt.assert_allclose(flow.steps[-1].heads, exact, atol=2e-3)


def cosine(**schedule):
    """A cosine of heads between closed ends, and how it dies away in cells of this size: what is left is of time."""
    grid = strip(200, surfaces=(0.0, -10.0))
    span = 1005.0  # with the half cells at both ends
    wave = np.cos(np.pi * (grid.cells.x + 2.5) / span)
    decay = 20.0 / 1e-2 * (2 * np.sin(np.pi * 5.0 / (2 * span)) / 5.0) ** 2
    model = ik.Model(
        grid, 20.0, specific_storage=1e-2, water_table=CONFINED, schedule=Schedule([50.0], **schedule)
    )
    return model, 1.0 + wave, lambda time: 1.0 + wave * np.exp(-decay * time)


@pytest.mark.parametrize("order", [1, 2])
def test_steps_are_of_the_order_asked_for(order):
    errors = []
    for steps in (10, 20, 40):
        model, first, exact = cosine(steps=steps)
        flow = ik.solve_flow(model, initial_heads=first, order=order, closure=1e-11)
        errors.append(np.abs(flow.steps[-1].heads - exact(50.0)).max())
        assert max(abs(flow.budget(step=k).attrs["closing_error_percent"]) for k in range(steps)) < 1e-8
    orders = np.log2(np.array(errors[:-1]) / errors[1:])
    assert np.all((orders > order - 0.1) & (orders < order + 0.15))


@pytest.mark.parametrize("order", [1, 2])
def test_steps_are_as_short_as_the_error_allowed_wants(order):
    model, first, exact = cosine()
    errors, counts = [], []
    for allowed in (0.02, 0.002):
        flow = ik.solve_flow(model, initial_heads=first, order=order, head_error=allowed)
        errors.append(np.abs(flow.steps[-1].heads - exact(50.0)).max())
        counts.append(len(flow.steps))
        assert flow.steps[-1].end == 50.0
    assert errors[1] < 0.6 * errors[0] < 0.03
    assert counts[0] < counts[1] < 120


def test_results_at_asked_times_are_joined_from_the_steps():
    model, first, exact = cosine(steps=5)
    asked = [7.0, 30.0, 50.0]
    flow = ik.solve_flow(model, initial_heads=first, order=2, results=asked)
    assert [(s.begin, s.end) for s in flow.steps] == [(0.0, 7.0), (7.0, 30.0), (30.0, 50.0)]
    assert [s.joins for s in flow.steps] == [1, 3, 2]
    before = FlowEquations(model.at_period(0)).storage.stored(first)
    for step in flow.steps:
        npt.assert_allclose(step.heads, exact(step.end), atol=3e-3)
        now = FlowEquations(model.at_period(0)).storage.stored(step.heads)
        npt.assert_allclose(
            step.storage_change * (step.end - step.begin), (now - before).sum(axis=0), atol=1e-9
        )
        before = now
    assert len(ik.solve_flow(model, initial_heads=first, results="periods").steps) == 1
    for results, message in (
        ([60.0], "results asks for 60 days; expected times after the start and up to the end, 50"),
        ("years", 'expected "steps", "periods" or times'),
    ):
        with pytest.raises(ik.InputError, match=message):
            ik.solve_flow(model, initial_heads=first, results=results)
    with pytest.raises(ik.InputError, match="expected 1 or 2"):
        ik.solve_flow(model, initial_heads=first, order=3)


def test_no_record_is_joined_across_a_steady_period():
    model, first, _ = cosine()
    steady = Schedule([20.0, 30.0, 50.0], steps=2, steady=[False, True, False])
    flow = ik.solve_flow(
        replace(model, terms=[held(0, 1.0)], schedule=steady), initial_heads=first, results=[50.0]
    )
    assert [(s.begin, s.end, s.steady) for s in flow.steps] == [
        (0.0, 20.0, False), (20.0, 30.0, True), (30.0, 50.0, False),
    ]  # fmt: skip


def test_second_order_steps_leave_draining_cells_to_euler():
    """Where a cell would be asked for more water than it holds; no water is lost."""
    model = drained_and_refilled(3)
    flow = ik.solve_flow(model, initial_heads=0.5, order=2)
    equations = FlowEquations(model.at_period(0))
    stored = (
        equations.storage.stored(flow.steps[-1].heads).sum()
        - equations.storage.stored(np.full(model.grid.n_cells, 0.5)).sum()
    )
    flows = [(sum(q.sum() for q in s.term_flow), s.end - s.begin) for s in flow.steps]
    assert abs(stored - sum(q * t for q, t in flows)) < 1e-8 * sum(abs(q) * t for q, t in flows)


def test_a_mound_spreads_over_dry_ground_as_barenblatt_has_it():
    """Barenblatt (1952): a water table spreading on a level base, its front wetting empty cells; first order."""
    conductivity, yield_, begun, lasts = 10.0, 0.2, 20.0, 200.0

    def depth(x, time):
        scaled = conductivity / yield_ / 2 * time
        height = 10.0 * (conductivity / yield_ / 2 * begun) ** (1 / 3)  # 10 m high at the beginning
        return np.maximum(scaled ** (-1 / 3) * (height - x**2 / (12 * scaled ** (2 / 3))), 0.0)

    errors = []
    for cells in (75, 150, 300):
        grid = ik.layered(ik.rectangles((0, 0, 750, 10), count=(cells, 1)), [20.0, 0.0])
        model = ik.Model(
            grid,
            conductivity,
            specific_storage=1e-9,
            specific_yield=yield_,
            schedule=Schedule([lasts], steps=cells // 2),
        )
        flow = ik.solve_flow(model, initial_heads=depth(grid.cells.x, begun))
        exact = depth(grid.cells.x, begun + lasts)
        errors.append(np.abs(np.maximum(flow.steps[-1].heads, 0.0) - exact).mean() / exact.mean())
    assert errors[-1] < 0.004
    assert np.all(np.log2(np.array(errors[:-1]) / errors[1:]) > 0.85)


def test_a_water_table_recedes_as_boussinesq_has_it():
    """Boussinesq (1904): drained to its base at one end, a mound keeps its shape and sinks as 1 / (1 + b t)."""
    length, high, conductivity, yield_ = 500.0, 10.0, 10.0, 0.2
    grid = strip(250, length=length, surfaces=(20.0, 0.0))

    def run(depth):
        return quad(lambda u: u / np.sqrt(1.0 - u**3), 0.0, depth)[0]

    depths = 1.0 - np.linspace(1.0, 0.0, 400) ** 2
    far = np.array([run(d) for d in depths])
    span = length + 1.0  # with the half cell at the closed end
    shape = high * np.interp(grid.cells.x / span, far / far[-1], depths)
    sinks = 1.5 * far[-1] ** 2 * conductivity * high / (yield_ * span**2)

    def after(steps, order):
        model = ik.Model(
            grid, conductivity, specific_storage=1e-9, specific_yield=yield_, terms=[held(0, 0.0)],
            schedule=Schedule([200.0], steps=steps),
        )  # fmt: skip
        return ik.solve_flow(model, initial_heads=shape, order=order).steps[-1].heads

    near = after(160, 2)
    away = grid.cells.x > 200.0  # from the end, where the water table is infinitely steep
    npt.assert_allclose(near[away], shape[away] / (1.0 + 200.0 * sinks), rtol=0.004)
    for order, least in ((1, 0.9), (2, 1.9)):
        one, other = (np.abs(after(steps, order) - near).mean() for steps in (10, 20))
        assert np.log2(one / other) > least


def drained_and_refilled(times: int, **law: float) -> ik.Model:
    """Sand over a tighter bed over sand, filled by rain and emptied by a deep drain, over and over."""
    mesh = ik.rectangles((0, 0, 300, 300), cell=60)
    grid = ik.layered(mesh, [10.0, 6.0, 5.0, 0.0])
    drain = ik.terms.DrainTerm(
        cells=grid.cell_number[2], conductance=160.0, level=0.5, feature_names=("ditch",)
    )
    shower = np.repeat([[0.03], [0.0]] * times, mesh.n_cells, axis=1)
    return ik.Model(
        grid,
        np.array([5.0, 0.05, 5.0])[grid.cells.layer],
        np.array([1.0, 0.01, 1.0])[grid.cells.layer],
        specific_storage=1e-5,
        specific_yield=0.15,
        terms=[drain, rain(grid, 0.0)],
        schedule=Schedule(np.arange(1, 2 * times + 1) * 90.0, steps=5, growth=1.5),
        inputs_in_time={"recharge.rate": shower},
        water_table=ik.WaterTable(**law),
    )


def test_layers_drained_and_refilled_fifty_times_keep_their_water():
    """With perched water on the way; no water is lost or found."""
    times = 50
    model = drained_and_refilled(times)
    grid = model.grid
    flow = ik.solve_flow(model, initial_heads=0.5)
    equations = FlowEquations(model.at_period(0))
    stored = [equations.storage.stored(s.heads).sum() for s in flow.steps]
    begun = equations.storage.stored(np.full(grid.n_cells, 0.5)).sum()
    brought = [sum(q.sum() for q in s.term_flow) * (s.end - s.begin) for s in flow.steps]
    turnover = sum(sum(np.abs(q).sum() for q in s.term_flow) * (s.end - s.begin) for s in flow.steps)
    assert abs(stored[-1] - begun - sum(brought)) < 1e-8 * turnover
    filled = np.array([flow.filled(k) for k in range(len(flow.steps))])
    period = np.array([s.period for s in flow.steps])
    driest = [(filled[period == p] < 0.01).mean(axis=1).max() for p in range(1, 2 * times, 2)]
    assert min(driest) > 0.3
    upper, lower = filled[:, grid.cells.layer == 0], filled[:, grid.cells.layer == 2]
    assert ((upper > 0.1) & (lower < 0.9)).any(axis=1).sum() >= times  # perched, every time


def test_answers_hardly_depend_on_the_film_that_a_drained_cell_keeps():
    stated = ik.WaterTable().film
    one, other = (
        ik.solve_flow(drained_and_refilled(2, film=f), initial_heads=0.5) for f in (stated, 0.1 * stated)
    )
    for k in range(len(one.steps)):
        npt.assert_allclose(one.filled(k), other.filled(k), atol=1e-3)
        drains = [flow.steps[k].term_flow[0].sum() for flow in (one, other)]
        npt.assert_allclose(*drains, rtol=1e-3, atol=1e-3)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"specific_storage": None}, "transient flow needs specific_storage"),
        ({"schedule": Schedule([1.0])}, "first period is not steady, so that heads must be given"),
    ],
)
def test_what_flow_in_time_refuses(change, message):
    given = {
        "specific_storage": 1e-5,
        "specific_yield": 0.1,
        "schedule": Schedule([0.0, 1.0], steady=[True, False]),
    }
    model = ik.Model(strip(3), 1.0, terms=[held(0, 20.0)], **{**given, **change})
    with pytest.raises(ik.InputError, match=message):
        ik.solve_flow(model)
