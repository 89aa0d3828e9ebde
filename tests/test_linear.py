"""Linear systems of layered models: what the multigrid answers is what factors answer."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn.flow.balance import TimeStep
from inkhorn.flow.equations import FlowEquations
from inkhorn.linear import Columns, LinearSystem
from tests.conftest import held, rain
from tests.test_meshes import KINDS


def system(mesh, *, layers=6, seed=3, dry=False, wells=True, step=False, anisotropy=1.0):
    """A matrix with pinched layers, ln K of variance 2 and wells through several layers; its columns."""
    rng = np.random.default_rng(seed)
    levels = [np.full(mesh.n_cells, -3.0 * k) for k in range(layers + 1)]
    if layers > 2:
        gone = rng.uniform(size=mesh.n_cells) < 0.2
        levels[2] = np.where(gone, levels[1], levels[2])
    grid = ik.layered(mesh, levels)
    k = np.exp(np.sqrt(2.0) * rng.normal(size=grid.n_cells))
    column = grid.column_of(mesh.n_cells // 2)
    well = ik.terms.WellTerm(
        cells=column, connection=np.full(len(column), 3.0), rate=-20.0, lowest_level=-1e3, well_loss=0.0,
        feature_names=("w",),
    )  # fmt: skip
    terms = [held(grid.uppermost[:3], [1.0, 0.5, 0.0]), rain(grid, 1e-3), *([well] if wells else [])]
    model = ik.Model(
        grid, k, 0.1 * k, specific_storage=1e-5, specific_yield=0.2, anisotropy=anisotropy, terms=terms,
        water_table=ik.WaterTable(confined=not dry),
    )  # fmt: skip
    equations = FlowEquations(model)
    heads = rng.uniform(-4.0, 1.0, grid.n_cells) if dry else np.zeros(grid.n_cells)
    if step:
        equations = equations.over(
            TimeStep(
                0.0, 30.0, equations.storage.stored(heads), equations.extra_stored(equations.start(heads))
            )
        )
    balance = equations.evaluate(equations.start(heads))
    free = equations.free
    return -balance.jacobian[free][:, free], balance.residual[free], equations.columns


@pytest.mark.parametrize("transpose", [False, True])
@pytest.mark.parametrize(
    "options",
    [
        {},
        {"layers": 1, "wells": False},
        {"dry": True},
        {"dry": True, "step": True},
        {"anisotropy": 0.1},
    ],
    ids=["pinched", "one layer", "water table", "in time", "anisotropic"],
)
@pytest.mark.parametrize("kind", ["rectangles", "banded", "split, cut", "voronoi"])
def test_multigrid_answers_as_factors_do(kind, options, transpose):
    matrix, right, columns = system(KINDS[kind](), **options)
    exact = LinearSystem(matrix, direct=True).solve(right, transpose=transpose)
    iterated = LinearSystem(matrix, columns=columns, direct=False)
    answer = iterated.solve(right, transpose=transpose, tolerance=1e-11)
    npt.assert_allclose(answer, exact, atol=1e-7 * np.abs(exact).max())
    # rows that reach beyond the neighbours are known to the cycle only by their sum
    assert "anisotropy" in options or iterated.iterations < (160 if "dry" in options else 80)


@pytest.mark.parametrize("even", [True, False])
def test_iterations_hardly_grow_with_the_grid(even):
    """Neither on rectangles, joined two by two, nor where columns are joined along strong couplings."""
    count = []
    for side in (20, 80):
        matrix, right, columns = system(ik.rectangles((0, 0, 10 * side, 10 * side), count=side))
        c = columns
        given = Columns(c.column, c.layer, c.edges, c.x, c.y, c.area, c.grid if even else None)
        linear = LinearSystem(matrix, columns=given, direct=False)
        linear.solve(right, tolerance=1e-9)
        count.append(linear.iterations)
    assert count[1] <= 1.7 * count[0]
    assert count[1] < 40


def test_a_sum_of_residuals_may_suffice():
    matrix, right, columns = system(KINDS["rectangles"]())
    loose, tight = (LinearSystem(matrix, columns=columns, direct=False) for _ in range(2))
    answer = loose.solve(right, tolerance=1e-14, enough=1e-3 * np.abs(right).sum())
    tight.solve(right, tolerance=1e-12)
    assert np.abs(right - matrix @ answer).sum() <= 1e-3 * np.abs(right).sum()
    assert loose.iterations < tight.iterations


def test_an_unsymmetric_matrix_is_told_from_a_symmetric_one():
    matrix, _, _ = system(KINDS["voronoi"]())
    assert LinearSystem(matrix).symmetric
    one = matrix.tolil()
    one[5, 5 + 1] = one[5, 5 + 1] + 1e-6 * matrix[5, 5]
    assert not LinearSystem(one.tocsr()).symmetric


def test_columns_and_layers_of_unknowns_go_together():
    with pytest.raises(ik.InputError, match="3 columns and 2 layers of unknowns"):
        Columns([0, 1, 2], [0, 0], [[0, 1]], [0.0], [0.0], [1.0])


@pytest.mark.parametrize("transpose", [False, True])
@pytest.mark.parametrize("courant", [0.5, 20.0])
def test_incomplete_factors_answer_what_factors_do(transpose, courant):
    """A step of what water carries at an angle and thin layers mix: unsymmetric, each diagonal above its row."""
    from scipy.sparse import csr_array, diags_array
    from scipy.sparse.linalg import spsolve

    rng = np.random.default_rng(5)
    grid = ik.layered(ik.rectangles((0, 0, 200, 150), cell=10.0), np.linspace(0.0, -4.0, 9))
    a, b = grid.faces.cells.T
    flow, mix = rng.normal(size=(2, len(a)))
    mix = np.where(grid.faces.is_floor, 30.0, 0.2) * np.abs(mix)
    out, back = courant * (np.maximum(flow, 0.0) + mix), courant * (np.maximum(-flow, 0.0) + mix)
    n = grid.n_cells
    apart = csr_array((-np.r_[out, back], (np.r_[b, a], np.r_[a, b])), shape=(n, n))
    matrix = (apart + diags_array(1.0 - apart.sum(axis=0))).tocsr()
    right = rng.normal(size=n)
    made = LinearSystem(matrix, direct=False, dominant=True)
    found = made.solve(right, tolerance=1e-12, transpose=transpose)
    npt.assert_allclose(
        found, spsolve((matrix.T if transpose else matrix).tocsc(), right), rtol=1e-8, atol=1e-10
    )
    assert "_precondition" not in vars(made)  # the multigrid was not needed


def test_without_a_pivot_there_are_no_incomplete_factors():
    from scipy.sparse import csr_array

    from inkhorn.linear.incomplete import incomplete_factors

    assert incomplete_factors(csr_array([[0.0, 1.0], [1.0, 0.0]])) is None
