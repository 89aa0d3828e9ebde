"""Manufactured heads on every kind of mesh: order of heads and of face flows, rows of two and of more cells."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

import inkhorn as ik
from tests.conftest import held

SIDE = 1000.0
ZONE = shapely.box(310, 310, 590, 520)  # stays where it is as the cells get smaller
MESHES = {
    "rectangles": lambda size: ik.rectangles((0, 0, SIDE, SIDE), cell=size),
    "split": lambda size: ik.split_in_four((0, 0, SIDE, SIDE), cell=size, near=[(ZONE, size / 4)]),
    "voronoi": lambda size: ik.voronoi(
        shapely.box(0, 0, SIDE, SIDE), cell=size, near=[(ZONE, size / 4)], seed=1
    ),
}


def head(x, y):
    return np.sin(2.1 * x / SIDE) * np.cos(1.7 * y / SIDE) + x / SIDE


def conductivity(x, y):
    return 2 + np.sin(3 * x / SIDE) * np.cos(2 * y / SIDE)


def flux(x, y, plan):
    """Darcy's law, the gradient by complex steps, which round nothing."""
    step = 1e-20
    slope = np.imag(head(x + 1j * step, y)) / step, np.imag(head(x, y + 1j * step)) / step
    return tuple(-conductivity(x, y) * (plan[k, 0] * slope[0] + plan[k, 1] * slope[1]) for k in (0, 1))


def source(x, y, plan, step=1e-3):
    """The divergence of the flux, by fourth-order differences."""

    def across(k, ex, ey):
        at = {n: flux(x + n * step * ex, y + n * step * ey, plan)[k] for n in (-2, -1, 1, 2)}
        return (at[-2] - 8 * at[-1] + 8 * at[1] - at[2]) / (12 * step)

    return across(0, 1, 0) + across(1, 0, 1)


def errors(mesh, ratio):
    """Errors of heads and of flows per area (L2), with exact heads held along the rim."""
    grid = ik.layered(mesh, [0.0, -1.0])
    cells, faces = grid.cells, grid.faces
    turn = np.deg2rad(30.0)
    axes = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    plan = axes @ np.diag([1.0, 1.0 / ratio]) @ axes.T
    exact, every = head(cells.x, cells.y), np.arange(len(cells))
    inside = shapely.contains(shapely.box(1e-6, 1e-6, SIDE - 1e-6, SIDE - 1e-6), mesh.polygons())
    rim = np.flatnonzero(~inside)
    terms = [
        held(rim, exact[rim]),
        ik.terms.RechargeTerm(
            cells=every, rate=source(*mesh.centroid.T, plan), area=cells.area, feature_names=("source",)
        ),
    ]
    model = ik.Model(
        grid, conductivity(cells.x, cells.y), 1.0, anisotropy=ratio, direction=30.0, terms=terms,
        water_table=ik.WaterTable(confined=True),
    )  # fmt: skip
    step = ik.solve_flow(model, closure=1e-10).steps[-1]
    of_heads = np.sqrt(np.average((step.heads - exact)[inside] ** 2, weights=cells.area[inside]))
    true = sum(q * faces.normal[:, k] for k, q in enumerate(flux(*faces.centroid[:, :2].T, plan)))
    weights = faces.area * faces.distance.sum(axis=1)
    of_flows = np.sqrt(np.average((step.face_flow / faces.area - true) ** 2, weights=weights))
    return of_heads, of_flows


@pytest.mark.parametrize("ratio", [1.0, 4.0])
@pytest.mark.parametrize(
    "kind", [pytest.param(k, marks=pytest.mark.slow) if k == "voronoi" else k for k in MESHES]
)
def test_heads_are_of_second_and_flows_of_first_order(kind, ratio):
    # random cells scatter about their order, and come to it on finer meshes only
    sizes = (SIDE / 60, SIDE / 120) if kind == "voronoi" else (SIDE / 20, SIDE / 80)
    coarse, fine = (errors(MESHES[kind](size), ratio) for size in sizes)
    heads, flows = (np.log(a / b) / np.log(sizes[0] / sizes[1]) for a, b in zip(coarse, fine, strict=True))
    assert heads > 1.9
    assert flows > 1.0
