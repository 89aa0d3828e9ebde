"""Observations, parameters and least squares."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn.calibration import FitStatistics, residual_table


@pytest.fixture(scope="module")
def known(quillmere):
    """Levels at the demo's bores as a model with known values computes them, and those values."""
    values = {"sand": 20.0, "gravel": 12.0, "lake clay": 0.03}
    parameters = [
        ik.LayerConductivity(name=n, layer=n, lower=k / 30, upper=k * 30) for n, k in values.items()
    ]
    parameters.append(ik.RechargeMultiplier(name="recharge", given=quillmere.model, lower=0.5, upper=2.0))
    truth = [*values.values(), 1.25]
    model = quillmere.model
    for parameter, value in zip(parameters, truth, strict=True):
        model = model.with_inputs(parameter.inputs(model, value))
    heads = ik.solve_flow(model).steps[-1].heads
    seen = ik.observe(quillmere.model)
    bores = [
        ik.Bore(b.name, b.x, b.y, b.layer, levels=np.array([level]))
        for b, level in zip(seen.bores, seen.rows @ heads, strict=True)
    ]
    return parameters, truth, ik.observe(quillmere.model, bores)


def test_a_fit_finds_the_values_its_levels_were_made_with(quillmere, known):
    parameters, truth, observations = known
    fit = ik.calibrate(quillmere.model, parameters, observations=observations)
    npt.assert_allclose(fit.values, truth, rtol=1e-3)
    assert fit.statistics().rms < 1e-4 < fit.statistics(before=True).rms
    table = fit.table()
    assert (table["lower 95 %"] <= table["fitted"]).all()
    assert (table["remark"] == "").all()
    npt.assert_allclose([p.start(fit.after.model) for p in parameters], fit.values)
    npt.assert_allclose(
        fit.after.model.horizontal_conductivity / fit.after.model.vertical_conductivity,
        quillmere.model.horizontal_conductivity / quillmere.model.vertical_conductivity,
    )


def test_a_fit_stays_within_its_bounds_and_says_so(quillmere, known):
    parameters, _, observations = known
    narrow = [
        ik.LayerConductivity(name="sand", layer="sand", lower=8.0, upper=9.5),
        *parameters[1:],
    ]
    fit = ik.calibrate(quillmere.model, narrow, observations=observations)
    assert fit.table()["remark"].iloc[0] == "on its bound"
    npt.assert_allclose(fit.values[0], 9.5)
    assert fit.spread()[0] == np.inf
    objectives = [row.objective for row in fit.history]
    assert objectives == sorted(objectives, reverse=True)


def test_what_no_level_tells_is_said(quillmere, known):
    """Two bores far from the clay: its conductivity cannot be told."""
    parameters, _, observations = known
    far = [b for b in observations.bores if b.name in ("Q01", "Q06", "Q08", "Q12")]
    fit = ik.calibrate(quillmere.model, parameters[2:3], observations=ik.observe(quillmere.model, far))
    assert fit.table()["remark"].iloc[0] in ("hardly told by the levels", "on its bound")


def test_statistics_of_known_residuals():
    stats = FitStatistics.of(np.array([1.0, 2.0, 3.0, 4.0]), np.array([1.5, 2.0, 2.5, 4.0]))
    assert (stats.count, stats.mean) == (4, 0.0)
    npt.assert_allclose([stats.rms, stats.scaled_rms], [np.sqrt(0.125), np.sqrt(0.125) / 3])
    npt.assert_allclose(stats.correlation, np.corrcoef([1, 2, 3, 4], [1.5, 2, 2.5, 4])[0, 1])


def test_residuals_are_measured_less_computed(quillmere):
    seen = ik.observe(quillmere.model)
    frame = residual_table(quillmere, seen)
    npt.assert_allclose(frame["residual [m]"], frame["measured [m]"] - frame["computed [m]"])
    assert set(frame["bore"]) | set(seen.left_out) == {b.name for b in quillmere.model.site.bores}


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda q: ik.calibrate(q.model, []), "nothing to fit"),
        (
            lambda q: ik.calibrate(
                q.model, [ik.LayerConductivity(name="K", layer="sand", lower=20, upper=30)]
            ),
            'parameter "K" starts at 8.64 m/day, outside its bounds 20 to 30',
        ),
        (
            lambda q: ik.calibrate(
                q.model,
                [ik.LayerConductivity(name=n, layer=n, lower=1e-4, upper=1e4) for n in ("sand", "gravel")],
                observations=ik.observe(q.model, q.model.site.bores[:1]),
            ),
            "1 observations cannot fit 2 parameters",
        ),
        (
            lambda q: ik.LayerConductivity(name="K", layer="sand", lower=3, upper=2),
            "lower 3 is not below upper 2",
        ),
        (
            lambda q: ik.observe(q.model, [ik.Bore("b", 0.0, 0.0, "sand", levels=np.ones(1))]),
            "none of the 1 bores",
        ),
    ],
)
def test_fits_that_cannot_be(quillmere, make, message):
    with pytest.raises(ik.InputError, match=message):
        make(quillmere)
