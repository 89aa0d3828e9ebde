"""Wells against exact solutions: in a water table, under anisotropy, beside the centre of a cell, of large diameter."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.special import k0, k1

import inkhorn as ik
from tests.conftest import held

SQUARE = shapely.box(-500, -500, 500, 500)
BORE = 0.2  # m


def mesh_of(kind: str, size: float):
    if kind == "rotated":
        return ik.rectangles(SQUARE, cell=size, rotation=20.0)
    if kind == "banded":
        return ik.rectangles(SQUARE, cell=2 * size, near=[(shapely.Point(130, -90), size / 2)])
    if kind == "split":
        return ik.split_in_four(SQUARE, cell=2 * size, near=[(shapely.box(-150, -150, 160, 160), size)])
    return ik.voronoi(SQUARE, cell=size) if kind == "voronoi" else ik.rectangles(SQUARE, cell=size)


def pumped(mesh, levels, exact, rate, at, conductivity=10.0, anisotropy=1.0, direction=0.0, **law):
    """A bore at a place through all layers between some levels, and exact heads beyond 300 m from it."""
    grid = ik.layered(mesh, levels)
    column = grid.cell_number[:, mesh.locate([at[0]], [at[1]])[0]]
    reach = grid.equivalent_radius(column, np.tile(at, (len(column), 1)), anisotropy, direction)
    length = grid.cells.thickness[column] / np.sqrt(anisotropy)
    well = ik.terms.WellTerm(
        column, feature_names=("w",), x=at[0], y=at[1], rate=-rate,
        connection=2.0 * np.pi * length / np.log(reach / BORE),
    )  # fmt: skip
    head = exact(grid.cells.x - at[0], grid.cells.y - at[1])
    far = (np.hypot(grid.cells.x - at[0], grid.cells.y - at[1]) > 300.0) & (head > grid.cells.bottom)
    return ik.solve_flow(
        ik.Model(
            grid, conductivity, anisotropy=anisotropy, direction=direction, water_table=ik.WaterTable(**law),
            terms=[held(np.flatnonzero(far), head[far]), well],
        )
    )  # fmt: skip


@pytest.mark.parametrize("layers", [1, 4])
@pytest.mark.parametrize(
    ("kind", "size"), [("rectangles", 40), ("rotated", 25), ("banded", 50), ("voronoi", 20), ("split", 30)]
)
def test_a_well_in_a_water_table(kind, size, layers):
    """Charny (1951): its rate and the level in it follow K (h² - hw²), with the seepage face, down to the last drop."""
    conductivity, radius, high = 10.0, 500.0, 20.0
    most = np.pi * conductivity * high**2 / np.log(radius / BORE)
    levels = [30.0, *np.linspace(high, 0.0, layers + 1)[1:]]
    for rate in (900.0, 1500.0, 2400.0):

        def squared(distance, rate=rate):
            return high**2 + min(rate, most) / (np.pi * conductivity) * np.log(distance / radius)

        flow = pumped(
            mesh_of(kind, size), levels,
            lambda x, y: np.sqrt(np.maximum(squared(np.maximum(np.hypot(x, y), BORE)), 0.0)), rate, (123.0, -81.0),
        )  # fmt: skip
        (row,) = flow.well_levels().to_dict("records")
        npt.assert_allclose(row["abstraction [m³/day]"], min(rate, most), rtol=0.004)
        if rate < most:
            npt.assert_allclose(row["level [m]"], np.sqrt(squared(BORE)), rtol=0.02)
        else:
            assert 0.0 < row["level [m]"] < 0.5
            assert row["less than asked [m³/day]"] > 700.0


@pytest.mark.parametrize(
    ("kind", "size", "ratio", "direction"),
    [
        ("rectangles", 20, 1, 0), ("rectangles", 20, 100, 0), ("rectangles", 20, 100, 30), ("rotated", 20, 60, 65),
        ("voronoi", 20, 1, 0), ("voronoi", 15, 100, 50), ("split", 20, 1, 0), ("split", 20, 25, 0), ("banded", 30, 1, 0),
        ("banded", 30, 100, 0),
    ],
)  # fmt: skip
@pytest.mark.parametrize("at", [(130.0, -90.0), (3.0, 7.0)])
def test_drawdown_of_a_well_wherever_it_stands(kind, size, ratio, direction, at):
    """Thiem (1906), stretched along the axes of the tensor: to 2 % in the well, to 1 % in bores two cells away.

    Under strong anisotropy oblique to the cells, rows read heads farther away: to 3 % there.
    """
    angle, rate, deep = np.deg2rad(direction), 700.0, 15.0

    def head(x, y):
        along, across = np.cos(angle) * x + np.sin(angle) * y, np.cos(angle) * y - np.sin(angle) * x
        distance = np.maximum(np.hypot(along, np.sqrt(ratio) * across), 1e-3)
        return 20.0 + rate * np.sqrt(ratio) / (2 * np.pi * 10.0 * deep) * np.log(distance / 500.0)

    flow = pumped(mesh_of(kind, size), [0.0, -deep], head, rate, at, 10.0, ratio, direction, confined=True)
    (row,) = flow.well_levels().to_dict("records")
    bore = 0.5 * BORE * (1 + np.sqrt(ratio)) / np.sqrt(ratio)  # the mean of an ellipse's half axes
    level = head(np.array(-np.sin(angle) * bore), np.array(np.cos(angle) * bore))
    cells = flow.model.grid.cells
    distance = np.hypot(cells.x - at[0], cells.y - at[1])
    exact = head(cells.x - at[0], cells.y - at[1])
    still = exact[distance > 300.0].max()
    npt.assert_allclose(still - row["level [m]"], still - level, rtol=0.02)
    own = np.sqrt(cells.area[flow.model.term("well").cells[0]])
    bores = (distance > 2 * own) & (distance < 250.0)
    error = np.abs(flow.steps[-1].heads - exact)[bores] / (still - exact[bores])
    assert error.max() < (0.01 if ratio == 1 or (direction == 0 and kind != "voronoi") else 0.03)


@pytest.mark.parametrize(
    ("casing", "storativity", "size"), [(1.0, 1e-4, 4.0), (0.4, 1e-3, 2.0), (2.5, 1e-3, 10.0)]
)
def test_a_well_of_large_diameter_empties_first(casing, storativity, size):
    """Papadopulos & Cooper (1967), by Stehfest's (1970) inversion: within 1 % from 30 r0² S / T on.

    Before that the water that its cell stores counts for too much.
    """
    rate, transmissivity, radius = 300.0, 80.0, 0.4
    mesh = ik.rectangles(
        (-2500, -2500, 2500, 2500), cell=300.0, near=[(shapely.Point(0.0, 0.0), size)], growth=1.2
    )
    grid = ik.layered(mesh, [0.0, -10.0])
    cell = mesh.locate([0.0], [0.0])
    reach = grid.equivalent_radius(cell, [[0.0, 0.0]])
    well = ik.terms.WellTerm(
        cell, x=0.0, y=0.0, rate=-rate, casing_area=np.pi * casing**2, connection=20.0 * np.pi / np.log(reach / radius),
        feature_names=("w",),
    )  # fmt: skip
    begin = 30.0 * float(reach[0]) ** 2 * storativity / transmissivity
    times = begin * np.array([1.0, 4.0, 16.0, 64.0, 256.0])
    schedule = ik.Schedule([times[-1]], steps=60, growth=1.15)
    model = ik.Model(
        grid, transmissivity / 10.0, specific_storage=storativity / 10.0, terms=[well], schedule=schedule,
        water_table=ik.WaterTable(confined=True),
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=30.0, order=2, results=times)
    drawdown = np.array([30.0 - s.extra_unknowns[0] for s in flow.steps])

    def transformed(p):
        q = radius * np.sqrt(p * storativity / transmissivity)
        return rate / (p * (np.pi * casing**2 * p + 2 * np.pi * transmissivity * q * k1(q) / k0(q)))

    npt.assert_allclose(drawdown, [inverted(transformed, t) for t in times], rtol=0.01)


def inverted(transformed, time, terms=14):
    """Stehfest (1970), Communications of the ACM 13(1), 47-49."""
    from math import factorial

    half, total = terms // 2, 0.0
    for k in range(1, terms + 1):
        weight = sum(
            j**half * factorial(2 * j)
            / (factorial(half - j) * factorial(j) * factorial(j - 1) * factorial(k - j) * factorial(2 * j - k))
            for j in range((k + 1) // 2, min(k, half) + 1)
        )  # fmt: skip
        total += (-1) ** (k + half) * weight * transformed(k * np.log(2.0) / time)
    return total * np.log(2.0) / time
