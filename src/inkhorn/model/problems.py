"""Made-up flow problems, hard ones among them, with one solution each: for trying a solver, not to learn of water."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.model import Model
from inkhorn.model.terms import (
    DrainTerm,
    EvapotranspirationTerm,
    RechargeTerm,
    RiverTerm,
    SeepageTerm,
    WellTerm,
)
from inkhorn.model.terms.base import Term
from inkhorn.site import Schedule
from inkhorn.space import Band, Grid, PlanMesh, layered, rectangles, voronoi

__all__ = ["FlowProblem", "flow_problem"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_MESHES = ("even", "turned", "voronoi")


@dataclass(frozen=True, eq=False)
class FlowProblem:
    """A model and heads to begin with.

    Attributes
    ----------
    model : Model
    initial_heads : ndarray of float, (n_cells,)
        Anywhere within 100 m of the ground, differently in every cell or alike in all [m].
    """

    model: Model
    initial_heads: Array


def flow_problem(
    seed: int, *, mesh: str | None = None, in_time: bool | None = None, lifted: float = 0.0
) -> FlowProblem:
    """Make up a problem of flow with a water table and many switches.

    One to six layers of uneven surfaces, some with gaps; conductivities over six orders of magnitude; rain; a river
    with a bed; and, mostly, plants (their depth down to 1 cm), ditches and drains below ground, seepage, and wells
    that cannot take more than there is. Every term lets less water in, or more out, the higher the head: there is one
    solution, whatever the heads to begin with.

    Parameters
    ----------
    seed : int
        Same seed, same problem.
    mesh : {"even", "turned", "voronoi"}, optional
        Drawn if not given.
    in_time : bool, optional
        Whether stresses change over a few periods, from the first heads on; drawn if not given.
    lifted : float
        How much higher all of it lies [m].

    Returns
    -------
    FlowProblem

    Raises
    ------
    InputError
        If there is no such mesh.

    Examples
    --------
    >>> problem = flow_problem(7, mesh="even")
    >>> problem.initial_heads.shape == (problem.model.grid.n_cells,)
    True
    """
    if mesh is not None and mesh not in _MESHES:
        raise InputError(f'mesh is "{mesh}"; expected one of {list(_MESHES)}.')
    draw = np.random.default_rng([1806, seed])
    kind, timed = _MESHES[draw.integers(3)], bool(draw.random() < 0.3)
    grid = _grid(draw, kind if mesh is None else mesh, lifted)
    horizontal = _conductivity(draw, grid)
    terms = _terms(draw, grid, horizontal)
    ground = grid.cells.top[grid.uppermost][grid.cells.plan_cell]
    first = ground + (
        draw.uniform(-100, 100) if draw.random() < 0.5 else draw.uniform(-100, 100, grid.n_cells)
    )
    model = Model(
        grid,
        horizontal,
        horizontal * 10.0 ** draw.uniform(-2, 0),
        specific_storage=10.0 ** draw.uniform(-6, -3),
        specific_yield=draw.uniform(0.02, 0.3),
        terms=terms,
        name=f"problem {seed}",
    )
    if timed if in_time is None else in_time:
        ends = np.cumsum(10.0 ** draw.uniform(-1, 2.5, 4))
        rain, swing = model.input("recharge.rate"), draw.uniform(0, 3, (4, 1))
        model = Model(
            **{
                f: getattr(model, f)
                for f in ("grid", "horizontal_conductivity", "vertical_conductivity", "name")
            },
            specific_storage=model.specific_storage,
            specific_yield=model.specific_yield,
            terms=terms,
            schedule=Schedule(ends, steps=draw.integers(1, 6, 4), growth=1.3),
            inputs_in_time={"recharge.rate": swing * rain},
        )
    return FlowProblem(model, first)


def _mesh(draw: np.random.Generator, kind: str) -> PlanMesh:
    """A few hundred plan cells, 5 to 500 m wide."""
    cell = float(10.0 ** draw.uniform(0.7, 2.7))
    columns, rows = (int(k) for k in draw.integers(8, 24, 2))
    extent = (0.0, 0.0, columns * cell, rows * cell)
    if kind == "voronoi":
        from shapely.geometry import box

        return voronoi(box(*extent), count=columns * rows, rounds=3, seed=int(draw.integers(1000)))
    if kind == "even":
        return rectangles(extent, cell=cell)
    middle = float(draw.uniform(0.2, 0.8) * extent[2])
    bands = [Band("x", middle - cell, middle + cell, cell / 4)]
    return rectangles(extent, cell=cell, rotation=float(draw.uniform(5, 85)), bands=bands)


def _waves(draw: np.random.Generator, x: Array, y: Array, size: float) -> Array:
    """A smooth surface of hills and hollows."""
    reach, total = max(np.ptp(x), np.ptp(y)), np.zeros(len(x))
    for _ in range(4):
        along, across = draw.normal(0, 4, 2) / reach
        total += draw.normal() * np.sin(along * x + across * y + draw.uniform(0, 6))
    return 0.5 * size * total


def _grid(draw: np.random.Generator, kind: str, lifted: float) -> Grid:
    """One to six layers below hilly ground; some end somewhere."""
    mesh = _mesh(draw, kind)
    x, y = mesh.x, mesh.y
    surfaces = [lifted + _waves(draw, x, y, float(10.0 ** draw.uniform(-1, 1.3)))]
    for layer in range(int(draw.integers(1, 7))):
        thick = 10.0 ** draw.uniform(-0.3, 1.6) * np.exp(0.3 * _waves(draw, x, y, 1.0))
        if layer and draw.random() < 0.25:
            thick = np.where(_waves(draw, x, y, 1.0) > 0.3, 0.0, thick)
        surfaces.append(surfaces[-1] - thick)
    return layered(mesh, surfaces)


def _conductivity(draw: np.random.Generator, grid: Grid) -> Array:
    """Over six orders of magnitude from layer to layer, and uneven within each [m/day]."""
    layers = 10.0 ** draw.uniform(-4, 2, len(grid.layer_names))
    uneven = np.exp(draw.uniform(0, 1.5) * draw.normal(size=grid.n_cells))
    return np.asarray(np.clip(layers[grid.cells.layer] * uneven, 1e-4, 1e2))


def _terms(draw: np.random.Generator, grid: Grid, conductivity: Array) -> list[Term]:
    cells = grid.cells
    upper = grid.uppermost[grid.uppermost >= 0]
    ground, area = cells.top[upper], cells.area[upper]
    rain = 10.0 ** draw.uniform(-4.5, -2.5)
    terms: list[Term] = [RechargeTerm(cells=upper, rate=rain, area=area)]

    count = max(2, len(upper) // 20)
    start = int(draw.integers(len(upper)))
    near = np.hypot(cells.x[upper] - cells.x[upper[start]], 3.0 * (cells.y[upper] - cells.y[upper[start]]))
    reach = np.argsort(near)[:count]
    stage = ground[reach] - draw.uniform(0, 3)
    conductance = 10.0 ** draw.uniform(-2, 1) * np.sqrt(area[reach])
    terms.append(
        RiverTerm(cells=upper[reach], conductance=conductance, stage=stage, bed=stage - draw.uniform(0.05, 2))
    )

    def some(among: Index, least: float) -> Index:
        return np.asarray(among[draw.random(len(among)) < draw.uniform(least, 1.0)])

    if draw.random() < 0.8:
        there = some(np.arange(len(upper)), 0.3)
        terms.append(
            EvapotranspirationTerm(
                cells=upper[there],
                rate=10.0 ** draw.uniform(-3.3, -2),
                area=area[there],
                surface=ground[there] - draw.uniform(0, 0.5),
                depth=10.0 ** draw.uniform(-2, 0.7),
            )
        )
    if draw.random() < 0.6:
        there = some(np.arange(grid.n_cells), 0.0 if len(terms) > 2 else 0.3)
        level = cells.bottom[there] + draw.uniform(0, 1, len(there)) * cells.thickness[there]
        strength = 10.0 ** draw.uniform(-4, 0) * cells.area[there]
        terms.append(DrainTerm(cells=there, level=level, conductance=strength))
    if draw.random() < 0.5 or len(terms) < 3:
        terms.append(SeepageTerm(cells=upper, level=ground, conductance=10.0 ** draw.uniform(-2, 2) * area))
    number = int(draw.integers(0, 4))
    if number:
        terms.append(_wells(draw, grid, conductivity, number))
    return terms


def _wells(draw: np.random.Generator, grid: Grid, conductivity: Array, number: int) -> WellTerm:
    """Wells with screens across layers that mostly want more than they can get."""
    cells, feature, bottom = list[int](), list[int](), list[float]()
    for k in range(number):
        column = grid.column_of(int(draw.integers(grid.mesh.n_cells)))
        first = int(draw.integers(len(column)))
        screened = column[first : first + int(draw.integers(1, len(column) - first + 1))]
        cells += screened.tolist()
        feature += [k] * len(screened)
        bottom.append(float(grid.cells.bottom[screened].min()))
    size = grid.cells.thickness[cells] * draw.uniform(0.2, 1.0)
    rate = -(10.0 ** draw.uniform(0, 3.7, number))
    return WellTerm(
        cells=np.array(cells),
        feature_names=tuple(f"well {k + 1}" for k in range(number)),
        feature_index=np.array(feature),
        connection=2.0 * np.pi * size / draw.uniform(3, 7),
        rate=rate,
        lowest_level=np.array(bottom) + draw.uniform(0.0, 1.0),
    )
