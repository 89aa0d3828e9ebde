"""Walls at any angle on any mesh: uniform flow across a leaky one is exact."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik

BOX = shapely.box(0, 0, 1000, 600)
MESHES = {
    "even": lambda: ik.rectangles(BOX, cell=50),
    "turned": lambda: ik.rectangles(BOX, cell=40, rotation=20),
    "banded": lambda: ik.rectangles(BOX, cell=60, bands=[ik.Band("x", 300, 420, 12)]),
    "voronoi": lambda: ik.voronoi(BOX, cells=300, rounds=3),
}
CONDUCTIVITY, FLOW = 5.0, 0.02


@pytest.mark.parametrize("mesh", MESHES)
@pytest.mark.parametrize(("angle", "resistance"), [(0.0, 400.0), (17.0, 3.0), (45.0, 400.0), (71.0, 1e5)])
def test_uniform_flow_across_a_leaky_wall_is_exact(mesh, angle, resistance):
    """Heads fall evenly on either side, and by flow times resistance at the wall."""
    along = np.array([-np.sin(np.radians(angle)), np.cos(np.radians(angle))])
    middle = np.array([506.3, 298.7])
    wall = ik.Barrier(
        name="wall",
        shape=shapely.LineString([middle - 2000 * along, middle + 2000 * along]),
        leakance=1 / resistance,
    )
    strata = ik.Strata(ik.ConstantSurface(10.0), (ik.Layer("sand", ik.ConstantSurface(-3.0)),))
    sand = {"sand": ik.Material("sand", CONDUCTIVITY)}
    placed = ik.place(ik.Site(BOX, strata, sand, features=(wall,)), MESHES[mesh]())
    grid = placed.grid
    past = (np.column_stack([grid.cells.x, grid.cells.y]) - middle) @ [along[1], -along[0]]
    exact = 50.0 - FLOW * past / CONDUCTIVITY - FLOW * resistance * (past > 0.0)
    rim = np.unique(grid.outer_faces.cell)
    held = ik.terms.FixedHeadTerm(cells=rim, head=exact[rim])
    model = ik.Model(
        grid, CONDUCTIVITY, face_resistance=placed.face_resistance, terms=[held], water_table=ik.WaterTable(confined=True)
    )  # fmt: skip
    npt.assert_allclose(ik.solve_flow(model).steps[-1].heads, exact, atol=1e-11 * (FLOW * resistance + 5.0))
