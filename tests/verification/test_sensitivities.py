"""Tangent and adjoint of the flow equations, and what a fit makes of them."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn.calibration import head_sensitivities, observe
from inkhorn.flow.equations import FlowEquations


@pytest.fixture(scope="module")
def parameters(quillmere):
    made = [
        ik.LayerConductivity(name=n, layer=n, lower=1e-4, upper=1e4) for n in quillmere.model.grid.layer_names
    ]
    return [*made, ik.RechargeMultiplier(name="recharge", given=quillmere.model, lower=0.1, upper=10.0)]


@pytest.fixture(scope="module")
def observations(quillmere):
    return observe(quillmere.model)


def heads_with(flow, parameters, logs):
    model = flow.model
    for parameter, value in zip(parameters, np.exp(logs), strict=True):
        model = model.with_inputs(parameter.inputs(model, float(value)))
    return ik.solve_flow(model, first=flow.steps[-1].heads, closure=1e-12).steps[-1].heads


@pytest.mark.parametrize("which", range(7))
def test_sensitivities_equal_richardson_differences(quillmere, parameters, observations, which):
    """Every parameter of the demo, water table and all, to 1e-6 of the largest."""
    exact = head_sensitivities(quillmere, parameters, observations)[:, which]
    logs = np.log([p.start(quillmere.model) for p in parameters])
    e = np.zeros(len(logs))

    def central(step: float) -> np.ndarray:
        e[which] = step
        up, down = (heads_with(quillmere, parameters, logs + s * e) for s in (1.0, -1.0))
        return observations.rows @ (up - down) / (2.0 * step)

    step = 4e-3
    d1, d2, d4 = central(step), central(step / 2), central(step / 4)
    richardson = (64.0 * d4 - 20.0 * d2 + d1) / 45.0
    npt.assert_allclose(exact, richardson, atol=1e-6 * np.abs(exact).max())


def test_tangent_and_adjoint_agree(quillmere):
    """The dot-product test, over every input of every term at once."""
    sensitivity = ik.FlowSensitivity(quillmere, tolerance=1e-13)
    rng = np.random.default_rng(5)
    weights = rng.normal(size=sensitivity.equations.n_unknowns)
    gradient = sensitivity.adjoint(weights)
    assert set(gradient) == {
        "horizontal_conductivity", "vertical_conductivity", "fixed head.head", "river.conductance", "river.stage",
        "drain.conductance", "drain.level", "well.rate", "recharge.rate",
    }  # fmt: skip
    change = {
        name: rng.normal(size=len(values)) * (np.abs(quillmere.model.input(name)) + 1e-3)
        for name, values in gradient.items()
    }
    forward = weights @ sensitivity.tangent(change)
    backward = sum(gradient[name] @ change[name] for name in gradient)
    npt.assert_allclose(forward, backward, rtol=1e-10)


@pytest.mark.parametrize(
    "name", ["fixed head.head", "river.stage", "drain.level", "well.rate", "river.conductance"]
)
def test_inputs_of_terms_equal_differences(quillmere, name):
    values = quillmere.model.input(name)
    change = np.linspace(0.5, 1.5, len(values)) * (
        1.0 if "level" in name or "head" in name else np.abs(values)
    )
    exact = ik.FlowSensitivity(quillmere).tangent({name: change})[: quillmere.model.grid.n_cells]

    def heads(step: float) -> np.ndarray:
        model = quillmere.model.with_inputs({name: values + step * change})
        return ik.solve_flow(model, first=quillmere.steps[-1].heads, closure=1e-12).steps[-1].heads

    # a smaller step for levels, to stay clear of the switches of drains
    step = 1e-3
    d1, d2 = ((heads(s) - heads(-s)) / (2 * s) for s in (step, step / 2))
    npt.assert_allclose(exact, (4 * d2 - d1) / 3, atol=2e-5 * np.abs(exact).max())


def test_the_jacobian_is_the_derivative_of_the_residual(quillmere):
    """At heads far from any solution, dry and full cells mixed."""
    equations = FlowEquations(quillmere.model)
    rng = np.random.default_rng(3)
    c = quillmere.model.grid.cells
    unknowns = equations.start(c.bottom + rng.uniform(-0.3, 1.3, len(c)) * c.thickness)
    direction = rng.normal(size=len(unknowns))
    exact = equations.evaluate(unknowns).jacobian @ direction
    e = 1e-6
    ahead, behind = (equations.evaluate(unknowns + s * direction).residual for s in (e, -e))
    error = np.abs((ahead - behind) / (2 * e) - exact)
    # a few cells stand within e of a switch; all others agree
    assert np.quantile(error / np.abs(exact).max(), 0.999) < 1e-7


def test_more_parameters_than_observations_go_by_the_adjoint(quillmere, parameters, observations):
    from dataclasses import replace

    few = replace(
        observations,
        bores=observations.bores[:3],
        measured=observations.measured[:3],
        rows=observations.rows[:3],
    )
    by_adjoint = head_sensitivities(quillmere, parameters, few)
    by_tangent = head_sensitivities(quillmere, parameters, observations)[:3]
    npt.assert_allclose(by_adjoint, by_tangent, rtol=1e-6, atol=1e-9)
