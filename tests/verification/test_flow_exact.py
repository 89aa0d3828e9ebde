"""Heads and flows against exact solutions."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.special import k0

import inkhorn as ik
from tests.conftest import held, rain, strip

CONFINED = ik.WaterTable(confined=True)


def around_a_well(n: int):
    """A square of n by n cells of 1000 m, a well in its middle, heads of Thiem (1906) on its rim."""
    mesh = ik.rectangles((-500, -500, 500, 500), count=n)
    grid = ik.layered(mesh, [0.0, -15.0])
    rate, transmissivity, radius = 600.0, 6.0 * 15.0, 0.2
    distance = np.maximum(np.hypot(mesh.x, mesh.y), radius)
    exact = 20.0 + rate / (2 * np.pi * transmissivity) * np.log(distance / 500.0)
    row, column = mesh.row_column
    rim = np.flatnonzero((row == 0) | (row == n - 1) | (column == 0) | (column == n - 1))
    middle = mesh.locate([0.0], [0.0])
    well = ik.terms.WellTerm(
        cells=middle,
        rate=-rate,
        connection=2 * np.pi * 15.0 / np.log(mesh.equivalent_radius(middle) / radius),
        feature_names=("well",),
    )
    flow = ik.solve_flow(ik.Model(grid, 6.0, porosity=0.2, terms=[held(rim, exact[rim]), well]))
    level = 20.0 + rate / (2 * np.pi * transmissivity) * np.log(radius / 500.0)
    return flow, exact, level, distance


def test_radial_flow_follows_thiem():
    """Thiem (1906), in cells and in the well itself."""
    flow, exact, level, distance = around_a_well(101)
    away = distance > 60.0  # six cells
    npt.assert_allclose(flow.steps[-1].heads[away], exact[away], atol=0.003)
    npt.assert_allclose(flow.well_levels()["level [m]"], level, atol=0.02)


def test_radial_heads_converge_with_second_order():
    errors = []
    for n in (21, 63):
        flow, exact, _, distance = around_a_well(n)
        there = (distance > 150.0) & (distance < 450.0)
        errors.append(np.sqrt(np.mean((flow.steps[-1].heads - exact)[there] ** 2)))
    assert np.log(errors[0] / errors[1]) / np.log(3.0) > 1.8


@pytest.mark.parametrize("recharge", [0.0, 0.001])
@pytest.mark.parametrize("n", [20, 80])
def test_flow_between_canals_follows_dupuit(n, recharge):
    """Dupuit (1863) with recharge: h² is a parabola. Exact on any grid but for the film of drained cells."""
    grid = strip(n)
    terms = [held([0, n], [10.0, 5.0]), rain(grid, recharge)]
    flow = ik.solve_flow(ik.Model(grid, 10.0, terms=terms))
    x = grid.cells.x
    exact = np.sqrt(100.0 - 75.0 * x / 1000.0 + recharge / 10.0 * x * (1000.0 - x))
    npt.assert_allclose(flow.steps[-1].heads, exact, atol=2e-5)
    # no recharge: Q = K (h1² - h2²) / 2L per metre of width
    if recharge == 0.0:
        npt.assert_allclose(
            flow.budget().loc["fixed head", "in [m³/day]"], 10.0 * 75.0 / 2000.0 * 10.0, rtol=1e-5
        )


def test_the_film_hardly_matters():
    grid = strip(40)
    model = ik.Model(grid, 10.0, terms=[held([0, 40], [10.0, 5.0]), rain(grid, 0.001)])
    heads = [
        ik.solve_flow(replace(model, water_table=ik.WaterTable(film=film))).steps[-1].heads
        for film in (1e-6, 1e-7)
    ]
    npt.assert_allclose(heads[0], heads[1], atol=1e-5)


@pytest.mark.parametrize(("vertical", "sides"), [(10.0, "wet"), (1000.0, "all")])
def test_a_water_table_crosses_layers_like_one_layer(vertical, sides):
    """Cut a thick layer into three: where flow is nearly level, Dupuit's parabola stays.

    Held heads below the bottom of their cells ("all") are a hard case for Newton's method.
    """
    n = 50
    grid = strip(n, surfaces=(30.0, 8.0, 6.0, 0.0))
    both, head = (
        np.concatenate([grid.cell_number[:, 0], grid.cell_number[:, n]]),
        np.tile([10.0, 5.0], (3, 1)).T.ravel(),
    )
    keep = np.full(6, sides == "all") | (grid.cells.bottom[both] < head)
    model = ik.Model(grid, 10.0, vertical, terms=[held(both[keep], head[keep]), rain(grid, 0.001)])
    table = ik.solve_flow(model).water_table()
    x = grid.mesh.x
    npt.assert_allclose(table, np.sqrt(100 - 75 * x / 1000 + 1e-4 * x * (1000 - x)), atol=0.02)


@pytest.mark.parametrize("thickness", [(5.0, 1.0, 10.0), (0.2, 30.0, 0.2)])
def test_flow_across_layers_adds_resistances(thickness):
    """Darcy (1856) through layers in series: q = dh / sum(d/K), between the middles of the outer ones."""
    k = np.array([2.0, 0.01, 5.0])
    surfaces = 0.0 - np.concatenate([[0.0], np.cumsum(thickness)])
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10), list(surfaces))
    flow = ik.solve_flow(ik.Model(grid, 1.0, k, terms=[held([0, 2], [9.0, 4.0])]))
    d = np.array(thickness) * [0.5, 1.0, 0.5]
    npt.assert_allclose(flow.steps[-1].face_flow, 100.0 * 5.0 / (d / k).sum(), rtol=1e-10)


def test_flow_along_cells_in_series_is_harmonic():
    """Cells of differing conductivity in a row: the flow is that of their resistances in series."""
    n = 10
    k = np.geomspace(1.0, 100.0, n + 1)
    grid = strip(n, length=100.0)
    flow = ik.solve_flow(ik.Model(grid, k, terms=[held([0, n], [40.0, 39.0])]))
    lengths = np.full(n + 1, 10.0)
    lengths[[0, n]] = 5.0
    npt.assert_allclose(flow.steps[-1].face_flow, 300.0 / (lengths / k).sum(), rtol=1e-9)


def manufactured(n: int, layers: int):
    """Heads and conductivities of smooth functions, the source that they need, the rim held."""
    length = 100.0
    mesh = ik.rectangles((0, 0, length, length), count=n)
    grid = ik.layered(mesh, [0.0 - length * i / layers for i in range(layers + 1)])
    c = grid.cells
    a = np.pi / length

    def head(x, y, z):
        return 50.0 + np.sin(a * x + 0.3) * np.cos(a * y) * np.cos(0.7 * a * z)

    def conductivity(x, y, z):
        return 5.0 + 2.0 * np.sin(a * x) * np.cos(1.3 * a * y) + np.sin(a * z)

    e = 1e-3  # the source by central differences of the exact functions, with an error of order e²

    def flux(x, y, z, axis, step):
        ahead = np.zeros(3)
        ahead[axis] = step
        d = [0.5 * e if k == axis else 0.0 for k in range(3)]
        mid = [x + ahead[0], y + ahead[1], z + ahead[2]]
        slope = (
            head(mid[0] + d[0], mid[1] + d[1], mid[2] + d[2])
            - head(mid[0] - d[0], mid[1] - d[1], mid[2] - d[2])
        ) / e
        return conductivity(*mid) * slope

    place = (c.x, c.y, c.z)
    axes = range(3) if layers > 1 else range(2)
    source = -sum((flux(*place, k, 0.5 * e) - flux(*place, k, -0.5 * e)) / e for k in axes) * c.volume
    if layers == 1:
        place = (c.x, c.y, np.zeros(len(c)))
        source = -sum((flux(*place, k, 0.5 * e) - flux(*place, k, -0.5 * e)) / e for k in axes) * c.volume
    row, column = mesh.row_column
    outer = ((row == 0) | (row == n - 1) | (column == 0) | (column == n - 1))[c.plan_cell]
    if layers > 1:
        outer |= (c.layer == 0) | (c.layer == layers - 1)
    exact, k = head(*place), conductivity(*place)
    every = np.arange(len(c))
    terms = [
        held(every[outer], exact[outer]),
        ik.terms.RechargeTerm(cells=every, rate=source, area=1.0, feature_names=("source",)),
    ]
    flow = ik.solve_flow(ik.Model(grid, k, terms=terms, water_table=CONFINED))
    error = (flow.steps[-1].heads - exact)[~outer]
    return np.sqrt(np.mean(error**2))


@pytest.mark.parametrize(("sizes", "layered"), [((16, 32, 64), False), ((8, 16, 32), True)])
def test_manufactured_heads_converge_with_second_order(sizes, layered):
    errors = [manufactured(n, n if layered else 1) for n in sizes]
    orders = np.log2(np.array(errors[:-1]) / errors[1:])
    assert orders[-1] > 1.9, f"errors {errors} on {sizes} cells"


def test_perched_water_falls_at_the_rate_of_the_upper_cell():
    """Rain on sand over clay with an unsaturated zone below it: the lower water level does not matter."""
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10), [20.0, 15.0, 14.0, 0.0])
    rate, k = 0.01, np.array([5.0, 0.008, 5.0])
    perched = []
    for low in (3.0, 6.0):
        flow = ik.solve_flow(ik.Model(grid, k, terms=[held([2], low), rain(grid, rate)]))
        perched.append(flow.steps[-1].heads[:2])
        npt.assert_allclose(flow.steps[-1].face_flow, rate * 100.0, rtol=1e-9)
    npt.assert_allclose(perched[0], perched[1], atol=1e-4)  # but for the film
    # clay: water falls from its bottom at 14 m through half the clay and half the sand below it
    npt.assert_allclose(perched[0][1], 14.0 + rate * (0.5 / 0.008 + 7.0 / 5.0), rtol=1e-4)


def test_two_layers_share_a_well_by_transmissivity():
    """Heads alike all round: each layer gives its part of K times height, and the levels agree."""
    n = 31
    mesh = ik.rectangles((-155, -155, 155, 155), count=n)
    grid = ik.layered(mesh, [0.0, -10.0, -40.0])
    row, column = mesh.row_column
    rim = np.flatnonzero((row == 0) | (row == n - 1) | (column == 0) | (column == n - 1))
    cells = np.concatenate([grid.cell_number[0, rim], grid.cell_number[1, rim]])
    middle = grid.cell_number[:, mesh.locate([0.0], [0.0])[0]]
    well = ik.terms.WellTerm(
        cells=middle, connection=np.array([10.0, 30.0]), rate=-100.0, feature_names=("w",)
    )
    flow = ik.solve_flow(
        ik.Model(grid, np.array([6.0, 1.0]), np.array([1e-9, 1e-9]), terms=[held(cells, 5.0), well])
    )
    npt.assert_allclose(-flow.steps[-1].term_flow[1], [100.0 * 60 / 90, 100.0 * 30 / 90], rtol=1e-6)


def test_a_leaky_aquifer_follows_de_glee():
    """de Glee (1930): drawdown Q / (2 pi T) K0(r / lambda) under a layer of resistance c, and in the well."""
    mesh = ik.rectangles((-1510, -1510, 1510, 1510), cell=20.0)
    grid = ik.layered(mesh, [2.0, 1.0, 0.0, -20.0])
    transmissivity, resistance = 200.0, 200.0
    middle = mesh.locate([0.0], [0.0])
    radius = mesh.equivalent_radius(middle)
    well = ik.terms.WellTerm(
        cells=grid.cell_number[2, middle], rate=-500.0, connection=2 * np.pi * 20.0 / np.log(radius / 0.1)
    )
    kh, kv = np.array([1e-6, 1e-6, 10.0]), np.array([1e5, 1 / resistance, 1e5])
    flow = ik.solve_flow(ik.Model(grid, kh, kv, terms=[held(grid.cell_number[0], 10.0), well]))
    r, reach = np.hypot(mesh.x, mesh.y), np.sqrt(transmissivity * resistance)
    drawdown = 500.0 / (2 * np.pi * transmissivity) * k0(r / reach)
    seen = (r > 60.0) & (r < 700.0)
    npt.assert_allclose(flow.steps[-1].heads[grid.cell_number[2]][seen], 10.0 - drawdown[seen], atol=0.005)
    level = 10.0 - 500.0 / (2 * np.pi * transmissivity) * k0(0.1 / reach)
    npt.assert_allclose(flow.well_levels()["level [m]"], level, atol=0.01)


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
def test_a_round_island_in_the_rain(kind):
    """h² = h_R² + N / 2K (R² - r²): a water table with recharge in two directions, on either mesh."""
    disc = shapely.Point(0, 0).buffer(500.0, quad_segs=90)
    mesh = (
        ik.voronoi(disc, cell=25.0) if kind == "voronoi" else ik.rectangles((-510, -510, 510, 510), cell=20.0)
    )
    grid = ik.layered(mesh, [20.0, 0.0])
    r = np.hypot(mesh.x, mesh.y)
    exact = np.sqrt(np.maximum(36.0 + 0.002 / 10.0 * (500.0**2 - r**2), 1.0))
    rim = np.flatnonzero(r > 470.0)
    flow = ik.solve_flow(ik.Model(grid, 5.0, terms=[held(rim, exact[rim]), rain(grid, 0.002)]))
    inner = r < 460.0
    npt.assert_allclose(flow.steps[-1].heads[inner], exact[inner], atol=2e-5)
