"""Tangent and adjoint of the flow equations."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik
from inkhorn.flow.equations import FlowEquations
from tests.conftest import held, rain


def test_tangent_and_adjoint_agree(quillmere):
    """The dot-product test, over every input of every term at once."""
    sensitivity = ik.FlowSensitivity(quillmere, tolerance=1e-13)
    rng = np.random.default_rng(5)
    weights = rng.normal(size=sensitivity.equations.n_unknowns)
    gradient = sensitivity.adjoint(weights)
    assert set(gradient) == {
        "horizontal_conductivity", "vertical_conductivity", "anisotropy", "direction", "fixed head.head",
        "river.conductance", "river.stage",
        "river.way", "river.bed", "drain.conductance", "drain.level", "seepage.conductance", "seepage.level", "well.rate",
        "well.connection", "well.lowest_level", "well.well_loss", "recharge.rate", "recharge.area",
    }  # fmt: skip
    change = {
        name: rng.normal(size=len(values))
        * (np.nan_to_num(np.abs(quillmere.model.input(name)), posinf=0.0) + 1e-3)
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
        return ik.solve_flow(model, initial_heads=quillmere.steps[-1].heads, closure=1e-12).steps[-1].heads

    step = 1e-5
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


def valley(steady: bool, mesh=None) -> ik.Model:
    """Every kind of term in one, on a water table in two layers, through four months and a pause."""
    rng = np.random.default_rng(7)
    mesh = mesh or ik.voronoi(shapely.box(0, 0, 900, 600), cell=110)
    grid = ik.layered(mesh, [10.0, 4.0, -6.0])
    n, top = mesh.n_cells, grid.uppermost
    place = {
        side: top[mesh.locate([x], [y])] for side, x, y in (("e", 850, 300), ("n", 450, 550), ("s", 450, 50))
    }
    wells = mesh.locate([300.0, 600.0], [300.0, 250.0])
    terms = [
        rain(grid, 8e-4),
        held(place["e"], 7.5),
        ik.terms.RiverTerm(cells=top[mesh.x < 90], conductance=40.0, stage=7.0, bed=6.6),
        ik.terms.HeadDependentTerm(cells=n + np.flatnonzero(mesh.x > 800), conductance=5.0, head=7.3),
        ik.terms.DrainTerm(cells=place["n"], conductance=15.0, level=6.2),
        ik.terms.SpringTerm(cells=place["s"], conductance=15.0, level=6.5),
        ik.terms.SeepageTerm(cells=top, conductance=50.0, level=10.0),
        ik.terms.EvapotranspirationTerm(cells=top, rate=5e-4, area=grid.cells.area[top], surface=9.0, depth=3.1),
        ik.terms.WellTerm(
            cells=[*wells, *(n + wells)], feature_index=[0, 1, 0, 1], feature_names=("a", "b"),
            connection=[9.0, 9.0, 20.0, 1.0], rate=[-150.0, -200.0], lowest_level=[-4.0, 4.4], well_loss=1e-5,
            casing_area=[3.0, 0.0],
            x=mesh.x[wells] + 9.0, y=mesh.y[wells] - 13.0,
        ),
    ]  # fmt: skip
    pumped = np.outer([0.5, 1.0, 1.3, 0.2], [-150.0, -200.0])
    middle, (one, other) = grid.cells.x, grid.faces.cells.T
    barrier = np.where((middle[one] < 500.0) != (middle[other] < 500.0), 20.0, 0.0)
    return ik.Model(
        grid, 3.0 * np.exp(0.5 * rng.normal(size=2 * n)), 0.3, specific_storage=1e-4, specific_yield=0.2, terms=terms,
        leakance=np.where(middle < 300.0, 0.02, np.nan), face_resistance=barrier,
        schedule=ik.Schedule([30.0, 60.0, 90.0, 100.0], steps=[1, 2, 3, 1], steady=[steady, False, False, False]),
        inputs_in_time={
            "well.rate": pumped,
            "recharge.rate": 8e-4 * np.outer([1.0, 0.3, 0.1, 2.0], np.ones(n)),
            "fixed head.head": np.array([[7.5], [7.4], [7.2], [7.3]]),
        },
    )  # fmt: skip


@pytest.fixture(scope="module", params=[True, False], ids=["steady first", "from heads"])
def in_time(request):
    model = valley(request.param)
    return ik.solve_flow(model, initial_heads=7.6, closure=1e-13)


def test_tangent_and_adjoint_agree_in_time(in_time):
    """The dot-product test over every input of every kind of term, storage and the heads to begin with."""
    sensitivity, rng = ik.FlowSensitivity(in_time, tolerance=1e-13), np.random.default_rng(5)
    model = in_time.model
    weights = rng.normal(size=(len(in_time.steps), sensitivity.equations.n_unknowns))
    gradient = sensitivity.adjoint(weights)
    every = {f"{t.kind}.{name}" for t in model.terms for name in t.inputs} - {
        "fixed head.way"
    }  # only of outer sides
    properties = {
        "horizontal_conductivity", "vertical_conductivity", "leakance", "face_resistance", "specific_storage",
        "specific_yield",
    }  # fmt: skip
    first = set() if in_time.steps[0].steady else {"initial.heads", "initial.extra_unknowns"}
    assert set(gradient) == every | properties | first | {"anisotropy", "direction"}
    change = {name: rng.normal(size=v.shape) for name, v in gradient.items()}
    backward = sum(np.sum(gradient[name] * change[name]) for name in gradient)
    npt.assert_allclose(np.sum(weights * sensitivity.tangent(change)), backward, rtol=1e-10)
    with pytest.raises(ik.InputError, match="weights have the shape"):
        sensitivity.adjoint(weights[0])


@pytest.mark.parametrize(
    "name",
    [
        "horizontal_conductivity", "specific_yield", "recharge.rate", "well.well_loss", "evapotranspiration.depth",
        "initial.heads",
        *(
            pytest.param(name, marks=pytest.mark.slow)
            for name in (
                "vertical_conductivity", "specific_storage", "river.stage", "fixed head.head", "well.rate",
                "well.lowest_level", "well.connection", "well.casing_area", "leakance", "face_resistance",
                "evapotranspiration.surface", "drain.level",
            )
        ),
    ],
)  # fmt: skip
def test_sensitivities_in_time_equal_richardson_differences(in_time, name):
    """Wells that run short, a water table and all: to 1e-6 of the largest."""
    model, first = in_time.model, name == "initial.heads"
    if first and in_time.steps[0].steady:
        return
    values = np.full(model.grid.n_cells, 7.6) if first else model.inputs_in_time.get(name, None)
    values = model.input(name) if values is None else values
    shape = 1.0 + 0.3 * np.sin(np.arange(values.size)).reshape(values.shape)
    change = shape * (
        0.1 if any(w in name for w in ("level", "head", "stage", "depth", "surface")) else values
    )
    change = np.where(np.isfinite(change), change, 0.0)  # a leakance is given in some cells only
    sensitivity, n = ik.FlowSensitivity(in_time, tolerance=1e-13), model.grid.n_cells
    moves = {name: change}
    if first:  # and the water that stands in casings with them
        up, down = (sensitivity.equations.start(values + s * change)[n:] for s in (1e-4, -1e-4))
        moves["initial.extra_unknowns"] = (up - down) / 2e-4
    exact = sensitivity.tangent(moves)[:, :n]

    def heads(step: float) -> np.ndarray:
        moved = values + step * change
        other = model if first else model.with_changes({name: moved})
        flow = ik.solve_flow(other, initial_heads=moved if first else 7.6, closure=1e-13)
        return np.array([s.heads for s in flow.steps])

    step = 1e-3  # small enough to stay clear of switches
    d1, d2, d4 = ((heads(s) - heads(-s)) / (2 * s) for s in (step, step / 2, step / 4))
    npt.assert_allclose(exact, (64.0 * d4 - 20.0 * d2 + d1) / 45.0, atol=1e-6 * np.abs(exact).max())


def test_the_other_inputs_together_equal_richardson_differences(in_time):
    """A tenth of each by turns more and less at once, in the unit of each."""
    model = in_time.model
    change = {}
    for name in (
        "river.conductance", "river.bed", "drain.conductance", "spring.conductance", "spring.level",
        "head-dependent boundary.conductance", "head-dependent boundary.head", "recharge.area",
        "evapotranspiration.rate", "evapotranspiration.area",
    ):  # fmt: skip
        values = model.input(name)
        change[name] = 0.1 * np.cos(np.arange(values.size) + len(name)) * values
    exact = ik.FlowSensitivity(in_time, tolerance=1e-13).tangent(change)[:, : model.grid.n_cells]

    def heads(step: float) -> np.ndarray:
        moved = {name: model.input(name) + step * v for name, v in change.items()}
        flow = ik.solve_flow(model.with_changes(moved), initial_heads=7.6, closure=1e-13)
        return np.array([s.heads for s in flow.steps])

    step = 1e-3
    d1, d2, d4 = ((heads(s) - heads(-s)) / (2 * s) for s in (step, step / 2, step / 4))
    npt.assert_allclose(exact, (64.0 * d4 - 20.0 * d2 + d1) / 45.0, atol=1e-6 * np.abs(exact).max())


def test_sensitivities_want_every_step():
    flow = ik.solve_flow(valley(True), order=2)
    with pytest.raises(ik.InputError, match="Solve with order=1"):
        ik.FlowSensitivity(flow)
