"""Concentrations against exact solutions."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
from scipy.special import erfc, erfcx

import inkhorn as ik
from inkhorn.transport import numerical_spreading
from tests.conftest import held, rain, strip

SALT = ik.Species("salt", background=0.0)


def front(n: int, step: float, *, flushed: bool):
    """Water of 100 g/m³ moves into a column; errors against the exact solution.

    Flushed, the first cell is kept at 100: Ogata & Banks (1961), eq. 10. Otherwise the water arrives
    with 100 and the inflow of mass is given: Lindstrom et al. (1967), eq. 8.
    """
    length, k, porosity, alpha, time = 200.0, 10.0, 0.25, 5.0, 400.0
    grid = strip(n, length=length, surfaces=(10.0, 0.0))
    terms = [
        ik.terms.FixedHeadTerm(
            cells=[0, n], head=[30.0, 28.0], feature_names=("in", "out"), feature_index=[0, 1]
        )
    ]
    if flushed:
        terms.append(ik.terms.WellTerm(cells=[0], connection=1e4, rate=1e5, feature_names=("flush",)))
    model = ik.Model(
        grid,
        k,
        porosity=porosity,
        terms=terms,
        inflow_concentration={"salt": {"in": 100.0, "flush": 100.0}},
        water_table=ik.WaterTable(confined=True),
    )
    result = ik.solve_transport(
        ik.solve_flow(model, closure=1e-13),
        SALT,
        duration=time,
        step_length=step,
        dispersion=ik.Dispersion(longitudinal=alpha),
        outputs=1,
    )
    v = k * 2.0 / length / porosity
    x = grid.cells.x + (0.0 if flushed else 0.5 * length / n)
    d = alpha * v
    a, b = (x - v * time) / (2 * np.sqrt(d * time)), (x + v * time) / (2 * np.sqrt(d * time))
    behind = np.exp(-(a**2)) * erfcx(b)  # exp(v x / D) erfc(b), which would overflow
    exact = 50.0 * (erfc(a) + behind)
    if not flushed:
        exact = 100.0 * (
            0.5 * erfc(a)
            + np.sqrt(v**2 * time / (np.pi * d)) * np.exp(-(a**2))
            - 0.5 * (1.0 + v * x / d + v**2 * time / d) * behind
        )
    inner = (x > 10.0) & (x < 150.0)
    return result, (result.values[-1] - exact)[inner]


@pytest.mark.parametrize("flushed", [True, False])
def test_a_front_follows_its_exact_solution(flushed):
    result, error = front(400, 1.0, flushed=flushed)
    assert np.abs(error).max() < 1.2  # of 100; upstream weighting smears by half a cell and half a step
    assert abs(result.budget().attrs["closing_error_percent"]) < 1e-8


@pytest.mark.parametrize("flushed", [True, False])
def test_the_front_converges_with_first_order(flushed):
    errors = [np.sqrt(np.mean(front(n, 800.0 / n, flushed=flushed)[1] ** 2)) for n in (100, 200, 400)]
    assert np.log2(errors[1] / errors[2]) > 0.9


@pytest.fixture(scope="module")
def plume(quillmere):
    return ik.solve_transport(
        quillmere, ik.Species("chloride", initial=14.0, background=14.0), duration=7000.0, step_length=150.0, outputs=7,
        dispersion=ik.Dispersion(30.0, 3.0, 0.3, diffusion=1e-4),
    )  # fmt: skip


def test_concentrations_stay_within_what_comes_in(plume):
    assert plume.values.min() > 14.0 - 1e-9
    assert plume.values.max() < 9000.0
    assert plume.times[-1] == 7000.0
    assert len(plume.times) == 8


def test_the_mass_budget_closes_at_every_output(plume):
    for time in range(1, len(plume.times)):
        frame = plume.budget(time)
        assert abs(frame.attrs["closing_error_percent"]) < 1e-6
        brine = frame.loc[("recharge", "salt depot"), "in [kg]"]
        rate = plume.flow.budget(by="feature").loc[("recharge", "salt depot"), "in [m³/day]"]
        npt.assert_allclose(brine, 9.0 * rate * plume.times[time], rtol=1e-9)


def test_water_of_one_concentration_stays_so(quillmere):
    """All water that comes in has 14 g/m³ but the brine: without the brine nothing changes."""
    from dataclasses import replace

    everywhere = {name: 14.0 for t in quillmere.model.terms for name in t.feature_names}
    model = replace(quillmere.model, inflow_concentration={"chloride": everywhere})
    flow = ik.solve_flow(model, initial_heads=quillmere.steps[-1].heads)
    still = ik.solve_transport(
        flow, ik.Species("chloride", initial=14.0, background=14.0), duration=5000.0, step_length=500.0
    )
    npt.assert_allclose(still.values, 14.0, rtol=1e-6)


def test_a_limit_is_passed_between_outputs(plume):
    series = plume.at_well("hatchery")
    middle = 0.5 * (series.iloc[2] + series.iloc[3])
    npt.assert_allclose(plume.first_time_above(series, middle), 0.5 * (plume.times[2] + plume.times[3]))
    assert plume.first_time_above(series, 1e9) is None
    assert plume.first_time_above(series, 1.0) == 0.0


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"step_length": 0.0}, "step_length is 0 days"),
        ({"duration": -1.0}, "duration is -1 days"),
        ({"initial": -5.0}, r"initial\[0\] is -5 g/m³"),
    ],
)
def test_what_transport_refuses(quillmere, change, message):
    with pytest.raises(ik.InputError, match=message):
        ik.solve_transport(quillmere, SALT, **{"duration": 10.0, "step_length": 1.0, **change})


def test_transport_and_paths_need_porosity():
    grid = strip(5)
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[held([0], [5.0]), rain(grid, 0.001)]))
    with pytest.raises(ik.InputError, match="transport needs a porosity"):
        ik.solve_transport(flow, SALT, duration=1.0, step_length=1.0)
    with pytest.raises(ik.InputError, match="paths need a porosity"):
        ik.trace(flow, [(500.0, 5.0, 1.0)])


@pytest.mark.parametrize("pumped", [0.0, 0.4, 1.5])
def test_wells_give_back_the_mix_of_what_they_take(pumped):
    """A bore through three layers, idle or pumping a part of what rises in it: what is the same all over stays so."""
    from tests.test_paths import passing_bore

    idle = passing_bore()
    water = idle.term_flows()
    rises = water.loc[(water["term"] == "well") & (water["flow [m³/day]"] > 0), "flow [m³/day]"].sum()
    flow = passing_bore(-pumped * rises)
    even = ik.Species("salt", initial=3.0, background=3.0)
    still = ik.solve_transport(flow, even, duration=4000.0, step_length=100.0)
    npt.assert_allclose(still.values, 3.0, rtol=1e-10)
    # salt below only: the well hands up what it does not pump, and takes out no more than that
    layer = flow.model.grid.cells.layer
    salty = ik.solve_transport(
        flow, SALT, duration=60.0, step_length=1.0, initial=np.where(layer == 2, 1.0, 0.0)
    )
    mass = salty.budget()
    assert abs(mass.attrs["closing_error_percent"]) < 1e-8
    bore = salty.at_well("bore").to_numpy()
    assert (bore <= 1.0 + 1e-9).all()
    rate = -float(flow.well_levels()["abstraction [m³/day]"].iloc[0])
    if pumped == 0.0:
        assert mass.loc[("well", "bore"), "out [kg]"] == pytest.approx(0.0, abs=1e-12)
        npt.assert_allclose(bore, 1.0, atol=0.05)
        assert salty.values[-1][layer == 0].max() > 0.5  # around the bore, in the uppermost layer
    else:
        assert mass.loc[("well", "bore"), "out [kg]"] <= -rate * 60.0 / 1000.0 * 1.001
        assert mass.loc[("well", "bore"), "out [kg]"] > 0.0


def test_water_without_a_concentration_is_asked_for(quillmere):
    with pytest.raises(
        ik.InputError, match="no concentration of salt is stated for the water that comes from "
    ):
        ik.solve_transport(quillmere, ik.Species("salt"), duration=10.0, step_length=1.0)


@pytest.mark.parametrize("angle", [0.0, 30.0, 45.0])
def test_what_the_scheme_spreads_is_known(angle):
    """Upstream weights on squares spread by half a cell along the axes, across between them; steps by half their way."""
    from tests.verification.test_paths_exact import even_flow

    turn = np.deg2rad(angle)
    grid = ik.layered(ik.rectangles((0, 0, 400, 400), cell=10.0), [0.0, -15.0])
    flow, velocity, _ = even_flow(grid, turn)
    s, c = np.sin(turn), np.cos(turn)
    along, across = numerical_spreading(flow, 8.0)
    npt.assert_allclose(along, 5.0 * (c**3 + s**3) + 4.0 * np.hypot(*velocity), rtol=0.01)
    npt.assert_allclose(across, 5.0 * s * c * (s + c), atol=0.02)
