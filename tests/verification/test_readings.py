"""Every quantity that can be measured, by every input, against differences of solving anew."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.sparse import coo_array, csr_array, eye_array, vstack

import inkhorn as ik
from inkhorn.flow import (
    AllOf,
    FaceFlows,
    Levels,
    OpenLevels,
    Readings,
    TermFlows,
    WellLevels,
    rows_across_line,
)
from inkhorn.space import sampling_rows
from tests.verification.test_sensitivities import valley

MESHES = {
    "rectangles": lambda: ik.rectangles((0, 0, 900, 600), cell=(100, 120)),
    "split": lambda: ik.split_in_four(
        (0, 0, 900, 600), cell=150, near=[(shapely.Point(320, 310).buffer(60), 75.0)]
    ),
    "voronoi": lambda: ik.voronoi(shapely.box(0, 0, 900, 600), cell=110),
}


def everything(model: ik.Model) -> AllOf:
    """Two bores, one of them across both layers, levels and rates of wells, what each term brings, and a line."""
    grid, n = model.grid, model.grid.n_cells
    x, y = np.array([210.0, 505.0, 640.0]), np.array([222.0, 140.0, 411.0])
    size = n + sum(t.n_extra for t in model.terms)
    in_layer = [sampling_rows(grid, np.full(3, k), x, y) for k in (0, 1)]
    heads = csr_array((in_layer[1].data, in_layer[1].indices, in_layer[1].indptr), shape=(3, size))
    at = grid.cell_number[:, grid.mesh.locate(x, y)]
    parts = [
        Levels(heads),
        OpenLevels(tuple(in_layer), at, grid.cells.bottom[at] + 0.5, np.minimum(grid.cells.top[at], 8.0)),
    ]
    for k, term in enumerate(model.terms):
        names = len(term.feature_names)
        entries = coo_array(
            (np.ones(len(term.cells)), (term.feature_index, np.arange(len(term.cells)))),
            shape=(names, len(term.cells)),
        )
        parts.append(TermFlows(k, entries.tocsr()))
        if term.kind == "well":
            parts += [WellLevels(k, np.arange(names)), WellLevels(k, np.array([1]), rate=True)]
    parts.append(FaceFlows(*rows_across_line(grid, [(60, 30), (480, 330), (880, 560)])))
    return AllOf(tuple(parts))


def solved(model, first=7.6):
    return ik.solve_flow(model, initial_heads=first, closure=1e-13)


def moves(model, names, rng):
    """Two parameters for each input, each moving its values by a part of their size, unevenly."""
    found, count = {}, 2 * len(names)
    for k, name in enumerate(names):
        values = np.nan_to_num(
            model.inputs_in_time.get(name, model.input(name)).ravel(), posinf=0.0, neginf=0.0
        )
        level = any(w in name for w in ("level", "head.head", "stage", "bed", "surface"))
        shape = rng.uniform(0.5, 1.0, (len(values), 2)) * (0.05 if level else 0.2 * values[:, None])
        if name == "anisotropy":  # taken to be the same all around a well
            shape[:] = shape[0]
        matrix = np.zeros((len(values), count))
        matrix[:, 2 * k : 2 * k + 2] = shape
        found[name] = csr_array(matrix)
    return found


def moved(model, changes, step, parameter):
    values = {}
    for name, rows in changes.items():
        before = model.inputs_in_time.get(name, model.input(name))
        move = (rows[:, [parameter]].toarray() * step).reshape(before.shape)
        values[name] = np.where(move != 0.0, before + move, before)
    return model.with_changes(values)


NAMES = (
    "horizontal_conductivity", "vertical_conductivity", "specific_yield", "specific_storage", "anisotropy", "leakance",
    "face_resistance", "recharge.rate", "fixed head.head", "river.conductance", "river.stage", "drain.level",
    "drain.conductance", "head-dependent boundary.conductance", "head-dependent boundary.head", "well.rate",
    "well.well_loss", "well.connection", "evapotranspiration.depth", "spring.conductance",
)  # fmt: skip


def with_side(model):
    """Half of the eastern rim at a level, acting on the outer sides of cells."""
    outer = model.grid.outer_faces
    side = np.flatnonzero((outer.middle[:, 0] > 899.0) & (outer.middle[:, 1] > 350.0))
    cells = np.concatenate([model.term("fixed head").cells, outer.cell[side]])
    face = np.concatenate([[-1], side])
    way = np.concatenate([[np.inf], np.full(len(side), 1.5)])
    term = ik.terms.FixedHeadTerm(
        cells=cells, head=7.4, way=way, outer_face=face, feature_names=("pond", "side"),
        feature_index=(face >= 0).astype(int),
    )  # fmt: skip
    terms = [term if t.kind == "fixed head" else t for t in model.terms]
    in_time = {k: v for k, v in model.inputs_in_time.items() if k != "fixed head.head"}
    return replace(model, terms=terms, inputs_in_time=in_time, anisotropy=3.0)


CASES = [(kind, when) for kind in MESHES for when in ("steady", "in time")]
FIRST = (("voronoi", "steady"),)


@pytest.mark.parametrize(
    ("kind", "when"), [pytest.param(*c, marks=() if c in FIRST else pytest.mark.slow) for c in CASES]
)
def test_readings_by_inputs_equal_richardson_differences(kind, when):
    model = with_side(valley(True, mesh=MESHES[kind]()))
    if when == "steady":
        model = model.at_period(1)
    flow = solved(model)
    names = [n for n in NAMES if when == "in time" or not n.startswith("specific")]
    quantity = everything(model)
    m = len(quantity)
    if when == "steady":
        readings = Readings.at_end(quantity)
    else:  # at three times, and what has changed between two of them
        one = eye_array(m, format="csr")
        none = csr_array((m, m))
        weights = {1: [one, none, -0.5 * one], 4: [none, 0.3 * one, none], 5: [none, 0.7 * one, 1.5 * one]}
        readings = Readings(quantity, {k: vstack(w, format="csr") for k, w in weights.items()})
    changes = moves(model, names, np.random.default_rng(3))
    sensitivity = ik.FlowSensitivity(flow, tolerance=1e-13)
    exact = sensitivity.jacobian(readings, changes)
    by_tangents = sensitivity._by_tangents(readings, changes, 2 * len(names), lambda *_: None)
    by_adjoints = sensitivity._by_adjoints(readings, changes, 2 * len(names), lambda *_: None)
    scale = np.abs(exact).max(axis=1, keepdims=True)
    scale[scale == 0.0] = 1.0  # a drain that nothing reaches
    npt.assert_allclose(by_tangents / scale, by_adjoints / scale, atol=1e-10)
    weights = np.random.default_rng(1).normal(size=len(readings))
    gradient = sensitivity.gradient(readings, weights)
    whole = sum(changes[n].T @ np.ravel(gradient[n]) for n in names)
    npt.assert_allclose(whole, weights @ exact, atol=1e-10 * np.abs(weights @ exact).max())
    for p in range(0, 2 * len(names), 2):

        def there(step, p=p):
            return readings.values(solved(moved(model, changes, step, p)))

        # heads beside centres are read between other neighbours where the tensor turns a little further
        step = 2e-4 if names[p // 2] == "anisotropy" else 4e-3
        d1, d2, d4 = ((there(s) - there(-s)) / (2 * s) for s in (step, step / 2, step / 4))
        npt.assert_allclose(
            exact[:, p] / scale[:, 0],
            (64.0 * d4 - 20.0 * d2 + d1) / 45.0 / scale[:, 0],
            atol=1e-6,
            err_msg=names[p // 2],
        )
