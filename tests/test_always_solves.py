"""Problems full of switches are solved from any first heads, to one and the same answer."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn.flow import FlowEquations
from inkhorn.model import flow_problem
from inkhorn.units import KINDS
from tests.conftest import rain


def plants_and_a_stream(depth: float, confined: bool) -> ik.Model:
    """1000 × 200 m, 10 m deep: plants that drink more than it rains, and a stream at one end."""
    grid = ik.layered(ik.rectangles((0, 0, 1000, 200), cell=20), [0.0, -10.0])
    every = np.arange(grid.n_cells)
    west = np.flatnonzero(grid.cells.x < 20.0)
    terms = [
        rain(grid, 1.5e-3),
        ik.terms.EvapotranspirationTerm(
            cells=every, rate=3e-3, area=grid.cells.area, surface=0.0, depth=depth, feature_names=("wood",)
        ),
        ik.terms.RiverTerm(cells=west, conductance=20.0, stage=-3.0, bed=-4.0, feature_names=("stream",)),
    ]
    return ik.Model(grid, 5.0, terms=terms, water_table=ik.WaterTable(confined=confined))


@pytest.mark.parametrize("confined", [False, True])
@pytest.mark.parametrize("depth", [2.0, 0.5, 0.01])
def test_plants_rain_and_a_stream_are_solved_from_any_first_heads(depth, confined):
    model = plants_and_a_stream(depth, confined)
    answers = []
    for first in (None, -6.0, -3.5, -1.0, 0.0, 2.0):
        flow = ik.solve_flow(model, initial_heads=first)
        assert flow.report.iterations <= 60
        answers.append(flow.steps[-1].heads)
    npt.assert_allclose(answers, answers[0] + np.zeros_like(answers), atol=1e-6)


@pytest.mark.parametrize(
    "seed", [1, 26, 307, *(pytest.param(s, marks=pytest.mark.slow) for s in (269, 377, 413))]
)
def test_made_up_problems_have_one_answer(seed):
    problem = flow_problem(seed, in_time=False)
    flows = [ik.solve_flow(problem.model, initial_heads=first) for first in (None, problem.initial_heads)]
    assert max(f.report.iterations for f in flows) <= 60
    npt.assert_allclose(flows[0].steps[-1].heads, flows[1].steps[-1].heads, atol=1e-6)
    assert abs(flows[0].budget().attrs["closing_error_percent"]) < 1e-5


@pytest.mark.parametrize("stiff", [1.0, 1e7])
@pytest.mark.parametrize("confined", [False, True])
def test_how_high_a_site_lies_is_no_matter(stiff, confined):
    """Also where a bed answers to the last figure of a head by more than the closure."""
    heads = []
    for lifted in (0.0, 4000.0):
        model = flow_problem(25, in_time=False, lifted=lifted).model
        terms = [
            replace(t, conductance=stiff * t.conductance) if t.kind == "river" else t for t in model.terms
        ]
        flow = ik.solve_flow(replace(model, terms=terms, water_table=ik.WaterTable(confined=confined)))
        assert abs(flow.budget().attrs["closing_error_percent"]) < 1e-3
        heads.append(flow.steps[-1].heads - lifted)
    npt.assert_allclose(heads[0], heads[1], atol=1e-6)


@pytest.mark.parametrize("confined", [False, True])
def test_a_box_of_sand_is_as_the_field(confined):
    """All lengths by a hundredth, and times as they are: heads by a hundredth, whatever is in the model."""
    heads = []
    for size in (1.0, 0.01):
        mesh = ik.rectangles((0, 0, 900 * size, 500 * size), cell=25 * size)
        ground = size * (4.0 + np.sin(mesh.x / size / 200))
        grid = ik.layered(mesh, [ground, ground - 3 * size, -2 * size])
        up = np.arange(mesh.n_cells)
        field = [
            ik.terms.RechargeTerm(cells=up, rate=2e-3, area=625.0),
            ik.terms.RiverTerm(cells=up[:60], conductance=30.0, stage=2.0, bed=1.5),
            ik.terms.DrainTerm(cells=up[300:330], conductance=5.0, level=2.5),
            ik.terms.EvapotranspirationTerm(
                cells=up, rate=1e-3, area=625.0, surface=ground / size, depth=2.0
            ),
            ik.terms.WellTerm(cells=[1100], connection=6.0, rate=-40.0, lowest_level=-1.0),
        ]
        terms = [
            replace(t, **{k: size ** KINDS[v.dimension].length * getattr(t, k) for k, v in t.declared_inputs().items()})
            for t in field
        ]  # fmt: skip
        law = ik.WaterTable(confined=confined)
        flow = ik.solve_flow(ik.Model(grid, 5.0 * size, 0.5 * size, terms=terms, water_table=law))
        heads.append(flow.steps[-1].heads / size)
    npt.assert_allclose(heads[0], heads[1], atol=1e-4)  # cells above 1 m bend over a length of their own


@pytest.mark.parametrize("seed", range(4))
def test_no_flow_rises_with_the_head_it_goes_to(seed):
    """The derivative is an M-matrix whatever the heads: that makes the solution one."""
    problem = flow_problem(seed, mesh=("even", "turned", "voronoi")[seed % 3], in_time=False)
    equations = FlowEquations(problem.model)
    rng = np.random.default_rng(seed)
    heads = equations.cells.bottom + rng.uniform(-1.0, 2.0, len(equations.cells)) * equations.cells.thickness
    balance = equations.evaluate(equations.start(heads))
    slopes = balance.jacobian.tocoo()
    diagonal = -balance.jacobian.diagonal()
    apart = slopes.row != slopes.col
    assert (diagonal[equations.free] > 0.0).all()
    assert (slopes.data[apart] >= -1e-9 * diagonal[slopes.col[apart]]).all()


def test_what_kind_of_mesh_a_problem_has_is_checked():
    with pytest.raises(ik.InputError, match='mesh is "round"; expected one of'):
        flow_problem(1, mesh="round")


@pytest.mark.slow
@pytest.mark.parametrize("seed", [40, 70])
def test_steps_in_time_are_solved_with_what_varies(seed):
    problem = flow_problem(seed, in_time=True)
    flow = ik.solve_flow(problem.model, initial_heads=problem.initial_heads)
    assert flow.report.closure <= 1e-8
    assert max(flow.report.table().groupby("until [day]").size()) <= 60
