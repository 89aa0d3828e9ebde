"""The contract of terms: levels, stores and states of their own, coupled to cells and to each other."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn.flow.equations import FlowEquations
from inkhorn.linear import LinearSystem
from inkhorn.model import levelless_cells
from tests.conftest import held, rain
from tests.outside import LakeTerm, NetworkTerm, SoilStoreTerm


def lakes(*, steady_first: bool, sill: float = 7.4, order: int = 1) -> ik.Model:
    """Two lakes in a valley of two layers under changing rain, a store of soil water above part of it."""
    grid = ik.layered(ik.rectangles((0, 0, 300, 200), cell=20), [10.0, 5.0, 0.0])
    c, top = grid.cells, grid.uppermost
    spots = [top[(abs(c.x[top] - x) < 45) & (abs(c.y[top] - 100) < 30)] for x in (90.0, 210.0)]
    cells, feature = np.concatenate(spots), np.repeat([0, 1], [len(s) for s in spots])
    lake = LakeTerm(
        cells=cells, feature_index=feature, feature_names=("north", "south"), conductance=4.0, floor=[6.0, 5.5],
        area=[900.0, 700.0], spread=[500.0, 300.0], rain=1e-3, sill=[sill, np.inf], weir=200.0, first_level=[7.0, 7.1],
    )  # fmt: skip
    dry = top[c.y[top] < 60]
    soil = SoilStoreTerm(cells=dry, rain=0.3, rate=0.02, feature_names=("heath",))
    west = np.flatnonzero(c.x < 20)
    terms = [held(west, 7.0), rain(grid, 5e-4), lake] + ([soil] if order == 1 else [])
    times = [0.0, 30.0, 90.0] if steady_first else [30.0, 90.0]
    schedule = ik.Schedule(times, steady=[True, False, False] if steady_first else False, steps=3)
    wet = np.linspace(0.5e-3, 3e-3, len(times))
    changes = {"lake.rain": np.column_stack([wet, 2 * wet])}
    if order == 1:
        changes["soil store.rain"] = np.outer(100.0 * wet, np.ones(len(dry)))
    return ik.Model(
        grid, 2.0, 0.2, specific_storage=1e-5, specific_yield=0.15, terms=terms, schedule=schedule,
        inputs_in_time=changes,
    )  # fmt: skip


def solved(model, **options):
    return ik.solve_flow(
        model, initial_heads=None if model.schedule.steady[0] else 7.0, **{"closure": 1e-12} | options
    )


@pytest.mark.parametrize(("steady_first", "order"), [(True, 1), (False, 1), (False, 2)])
def test_a_lake_stores_water_of_its_own(steady_first, order):
    """Its budget closes with what it stores, step by step; the aquifer's and its own are each other's reverse."""
    model = lakes(steady_first=steady_first, order=order)
    flow = solved(model, order=order)
    lake = model.term("lake")
    first = sum(t.n_extra for t in model.terms[: model.terms.index(lake)])
    levels = [
        flow.start.extra_unknowns[first : first + 2],
        *(s.extra_unknowns[first : first + 2] for s in flow.steps),
    ]
    depth = np.array(levels) - lake.floor
    volume = lake.area * depth + 0.5 * lake.spread * depth**2
    for k, step in enumerate(flow.steps):
        budget = flow.budget(by="store", step=k)
        assert abs(budget.attrs["closing_error_percent"]) < 1e-6
        assert abs(flow.budget(step=k).attrs["closing_error_percent"]) < 1e-6
        net = budget.iloc[:, 0] - budget.iloc[:, 1]
        flows = np.bincount(lake.feature_index, step.term_flow[model.terms.index(lake)])
        npt.assert_allclose(net.xs("aquifer", level="item"), -flows, rtol=1e-9)
        if not step.steady:
            taken = (volume[k + 1] - volume[k]) / (step.end - step.begin)
            npt.assert_allclose(-net.xs("storage", level="item"), taken, rtol=1e-6)
            wet = model.inputs_in_time["lake.rain"][step.period] * (lake.area + lake.spread * depth[k + 1])
            if order == 1:
                npt.assert_allclose(net.xs("rain", level="item"), wet, rtol=1e-9)
    assert flow.report.closing_error_percent < 1e-6


def test_own_levels_are_in_the_step_file_and_a_run_goes_on_to_the_same_bits(tmp_path):
    model = lakes(steady_first=True)
    whole = solved(model, steps=ik.StepFile(tmp_path / "whole.nc", model))
    names = [str(n) for n in whole.steps._open()["extra_unknown_name"].asstr()[:]]
    assert names == ["lake north", "lake south"]
    cut = ik.StepFile(tmp_path / "cut.nc", model)
    for record in whole.steps[:3]:
        cut.append(record)
    cut.close()
    again = solved(model, steps=ik.StepFile(tmp_path / "cut.nc", model))
    assert len(again.steps) == len(whole.steps) == 7
    for one, other in zip(whole.steps, again.steps, strict=True):
        for name in ("heads", "extra_unknowns", "extra_storage"):
            npt.assert_array_equal(getattr(one, name), getattr(other, name))
        for a, b in zip(one.state + one.outside, other.state + other.outside, strict=True):
            npt.assert_array_equal(a, b)


@pytest.mark.parametrize("steady_first", [True, False])
def test_tangent_and_adjoint_of_stores_and_states_agree(steady_first):
    flow = solved(lakes(steady_first=steady_first))
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-13)
    rng = np.random.default_rng(4)
    weights = rng.normal(size=(len(flow.steps), sensitivity.equations.n_unknowns))
    gradient = sensitivity.adjoint(weights)
    assert {"lake.area", "lake.sill", "soil store.rate", "initial.states"} <= set(gradient)
    assert ("initial.extra_unknowns" in gradient) != steady_first
    change = {k: rng.normal(size=v.shape) for k, v in gradient.items()}
    backward = sum(np.sum(gradient[k] * change[k]) for k in gradient)
    npt.assert_allclose(np.sum(weights * sensitivity.tangent(change)), backward, rtol=1e-10)


@pytest.mark.parametrize(
    "name",
    [
        "lake.conductance", "lake.floor", "lake.area", "lake.spread", "lake.rain", "lake.sill", "lake.weir",
        "soil store.rain", "soil store.rate", "specific_yield",
    ],
)  # fmt: skip
def test_derivatives_by_inputs_of_stores_and_states_equal_richardson_differences(name):
    flow = solved(lakes(steady_first=True))
    model = flow.model
    values = model.inputs_in_time.get(name, model.input(name))
    change = np.where(
        np.isfinite(values),
        0.05 * values * (1 + 0.3 * np.cos(np.arange(values.size)).reshape(values.shape)),
        0,
    )
    exact = ik.FlowSensitivity(flow, tolerance=1e-13).tangent({name: change})

    def unknowns(step):
        with np.errstate(invalid="ignore"):
            moved = np.where(change != 0.0, values + step * change, values)
        other = solved(model.with_changes({name: moved}), closure=1e-13)
        return np.array([np.concatenate([s.heads, s.extra_unknowns]) for s in other.steps])

    step = 1e-2
    d1, d2, d4 = ((unknowns(s) - unknowns(-s)) / (2 * s) for s in (step, step / 2, step / 4))
    npt.assert_allclose(exact, (64.0 * d4 - 20.0 * d2 + d1) / 45.0, atol=1e-6 * np.abs(exact).max())


def test_states_go_by_first_order_only():
    with pytest.raises(ik.InputError, match=r"\['soil store'\] carry a state.*Solve with order=1"):
        solved(lakes(steady_first=False), order=2)


def test_a_level_is_fixed_through_what_cells_are_coupled_to():
    """Two cells under one lake: they have a level only where it runs over a sill."""
    shape = ik.layered(ik.rectangles((0, 0, 200, 100), cell=100), [5.0, 0.0])
    for sill, without in ((np.inf, 1), (4.0, 0)):
        lake = LakeTerm(
            cells=[0, 1], feature_names=("l",), conductance=1.0, area=10.0, sill=sill, weir=5.0, rain=1e-3
        )
        model = ik.Model(shape, 1.0, terms=[lake])
        assert len(levelless_cells(model)) == without


def network(grid, cells, seed) -> NetworkTerm:
    """Nodes in some cells, joined by a tree and three in ten pipes more, couplings over six orders of magnitude."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import minimum_spanning_tree
    from scipy.spatial import Delaunay

    rng, n_nodes = np.random.default_rng(seed), len(cells)
    places = np.column_stack([grid.cells.x, grid.cells.y])[cells]
    corners = np.sort(Delaunay(places).simplices, axis=1)
    pairs = np.unique(np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [0, 2]]]), axis=0)
    lengths = coo_array((rng.uniform(0.1, 1.0, len(pairs)), pairs.T), shape=(n_nodes, n_nodes)).tocsr()
    tree = np.sort(np.transpose(minimum_spanning_tree(lengths).nonzero()), axis=1)
    rest = pairs[~np.isin(pairs @ [n_nodes, 1], tree @ [n_nodes, 1])]
    pipes = np.concatenate([tree, rng.permutation(rest)[: int(0.3 * len(tree))]])
    return NetworkTerm(
        cells=cells, exchange=10.0 ** rng.uniform(-3, 3, n_nodes), at=np.arange(n_nodes), pipes=pipes,
        pipe_conductance=10.0 ** rng.uniform(-3, 3, len(pipes)), feature_names=("karst",),
    )  # fmt: skip


def test_a_network_is_eliminated_within_the_column_solver():
    """As factors answer; iterations hardly more than without it; what pipes carry adds up at every node."""
    grid = ik.layered(ik.rectangles((0, 0, 2000, 2000), count=40), [0.0, -10.0, -20.0, -30.0])
    deep = np.random.default_rng(2).permutation(np.flatnonzero(grid.cells.layer == 2))[:600]
    iterations = []
    for terms in ([], [network(grid, deep, 5)]):
        fixed = held(np.flatnonzero(grid.cells.x < 50), 0.0)
        model = ik.Model(
            grid, 5.0, 0.5, terms=[fixed, rain(grid, 1e-3), *terms], water_table=ik.WaterTable(confined=True)
        )
        equations = FlowEquations(model)
        balance = equations.evaluate(equations.start(np.zeros(grid.n_cells)))
        matrix, right = equations.pattern.among_free(balance.jacobian), balance.residual[equations.free]
        system = LinearSystem(matrix, columns=equations.columns, direct=False)
        answer = system.solve(right, tolerance=1e-11)
        exact = LinearSystem(matrix, direct=True).solve(right)
        npt.assert_allclose(answer, exact, atol=1e-7 * np.abs(exact).max())
        assert system.columns is not None  # the general solver was not asked
        iterations.append(system.iterations)
    assert iterations[1] <= 1.5 * iterations[0] + 2
    flow = ik.solve_flow(model)
    term, step = model.term("network"), flow.steps[-1]
    a, b = term.links.T
    node = np.bincount(b, step.link_flow[2], 600) - np.bincount(a, step.link_flow[2], 600)
    npt.assert_allclose(node, step.term_flow[2], atol=1e-5 * np.abs(step.term_flow[2]).max())
    assert abs(flow.budget(by="store").attrs["closing_error_percent"]) < 1e-4


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"conductance": None}, "lake: conductance is not given. Give one number in m²/day, or one for each"),
        ({"conductance": [1.0, 2.0]}, r"lake: conductance has the shape \(2,\); expected one number or"),
        ({"area": [1.0, 2.0, 3.0]}, r"lake: area has the shape \(3,\); expected one number or \(2,\)"),
        ({"crossing": "sideways"}, 'crossing is "sideways"; expected one of'),
        ({"feature_index": np.full(32, 2)}, r"feature_index\[0\] is 2; expected 0 to 1"),
    ],
)
def test_what_terms_refuse(change, message):
    lake = lakes(steady_first=True).term("lake")
    if "feature_index" in change:
        change = {"feature_index": np.full(len(lake.cells), 2)}
    with pytest.raises(ik.InputError, match=message):
        replace(lake, **change)
