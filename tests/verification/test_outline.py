"""Heads given along the outline: linear ones under any tensor, and Dupuit's formula, through outer faces."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik

FIELD = shapely.Polygon([(0, 0), (1000, 100), (820, 900), (-150, 700)])
MESHES = {
    "whole": lambda: ik.rectangles(FIELD, cell=50),
    "cut": lambda: ik.rectangles(FIELD, cell=43, rotation=20, keep="cut"),
    "banded": lambda: ik.rectangles(FIELD, cell=60, near=[(shapely.Point(400, 500), 15)], keep="cut"),
    "split": lambda: ik.split_in_four(FIELD, cell=80, near=[(shapely.Point(400, 500), 20)], keep="cut"),
    "voronoi": lambda: ik.voronoi(FIELD, cell=50),
}


def site(field, features, top=5.0, bases=(-10.0,), conductivity=5.0, **material):
    layers = tuple(ik.Layer(f"part {k}", ik.ConstantSurface(base)) for k, base in enumerate(bases))
    sand = {layer.name: ik.Material(layer.name, conductivity, **material) for layer in layers}
    return ik.Site(field, ik.Strata(ik.ConstantSurface(top), layers), sand, features=tuple(features))


@pytest.mark.parametrize(
    ("mesh", "ratio", "direction"),
    [("whole", 1.0, 0.0)]  # there a step's conormal may miss the outline under a tensor
    + [(m, *t) for m in MESHES if m != "whole" for t in ((1.0, 0.0), (10.0, 35.0), (3.0, 100.0))],
)
def test_a_linear_head_along_a_slanted_outline_is_exact(mesh, ratio, direction):
    """Two sides told each for itself, two as one line; without gaps, and the table says how much is covered."""
    corners = np.array(FIELD.exterior.coords)
    head = 20.0 + corners @ [0.004, -0.002]
    sides = [(0, 2), (1, 3), (2, 5)]
    held = [
        ik.FixedHead(name=f"side {a}", shape=shapely.LineString(corners[a:b]), head=tuple(head[a:b]))
        for a, b in sides
    ]
    made = site(FIELD, held, anisotropy=ratio, direction=direction)
    model = ik.place(made, MESHES[mesh](), water_table=ik.WaterTable(confined=True))
    flow = ik.solve_flow(model, closure=1e-13)
    cells = model.grid.cells
    npt.assert_allclose(flow.steps[-1].heads, 20.0 + 0.004 * cells.x - 0.002 * cells.y, atol=1e-10)
    table = model.placed.set_index("feature")
    npt.assert_allclose(table["total"], [f.shape.length for f in held], rtol=1e-6)
    assert (table["unit"] == "m").all()
    npt.assert_allclose(table["share outside"], 0.0, atol=1e-6)
    assert table["note"].str.contains("through outer sides").all()


def test_a_line_that_leaves_the_outline_holds_cells_inside():
    """Its values are those along all of it; the first of two keeps what both would hold."""
    line = shapely.LineString([(0, 0), (500, 50), (500, 400)])
    held = ik.FixedHead(name="line", shape=line, head=(8.0, 7.5, 7.0))
    other = ik.FixedHead(name="other", shape=shapely.LineString([(0, 0), (1000, 100)]), head=6.0)
    model = ik.place(site(FIELD, [held, other]), MESHES["voronoi"]())
    table = model.placed.set_index("feature")
    assert "% through outer sides, the rest inside" in table.loc["line", "note"]
    assert "outer sides are already held" in table.loc["other", "note"]
    term = model.term("fixed head")
    mine, cells = term.feature_index == 0, model.grid.cells
    inside = mine & term.holds
    away = np.abs(cells.y[term.cells[inside]] - (400.0 - 700.0 * (term.head[inside] - 7.0)))
    assert away.max() < 40.0
    assert (term.head[mine & ~term.holds] > 7.45).all()


@pytest.mark.parametrize("mesh", ["rectangles", "turned", "voronoi"])
@pytest.mark.parametrize(("top", "bases"), [(12.0, (0.0,)), (60.0, (0.0,)), (9.0, (6.0, 4.5, 2.0, 0.0))])
@pytest.mark.parametrize(
    ("near", "far", "distance", "ground"),
    [(8.0, 5.0, 250.0, None), (5.0, 8.0, 90.0, 2.0), (7.0, 3.0, 0.0, None)],
)
def test_distant_water_follows_dupuit(mesh, top, bases, near, far, distance, ground):
    """K (h1² - h2²) / 2L, also through the ground beyond, for falling and rising tables, in one layer and four."""
    box, conductivity = shapely.box(0, 0, 1000, 200), 6.0
    west, east = (shapely.LineString([(x, 0), (x, 200)]) for x in (0, 1000))
    features = [ik.FixedHead(name="west", shape=west, head=near, every_layer=True)]
    if distance:
        features.append(
            ik.HeadDependent(name="east", shape=east, head=far, distance=distance, conductivity=ground)
        )
    else:
        features.append(ik.FixedHead(name="east", shape=east, head=far, every_layer=True))
    meshes = {
        "rectangles": lambda: ik.rectangles(box, cell=50),
        "turned": lambda: ik.rectangles(box, cell=40, rotation=25, keep="cut"),
        "voronoi": lambda: ik.voronoi(box, cell=60),
    }
    model = ik.place(site(box, features, top, bases, conductivity), meshes[mesh]())
    row = ik.solve_flow(model, closure=1e-11).budget("feature").loc[("fixed head", "west")]
    length = 1000.0 + distance * conductivity / (ground or conductivity)
    npt.assert_allclose(
        row.iloc[0] - row.iloc[1], conductivity * (near**2 - far**2) / 2 / length * 200.0, rtol=1e-3
    )


def test_a_river_on_the_outline_is_half_a_cell_from_its_cells():
    """Through its bed and on: dh / (L/K + width/conductance per area), whatever the cells."""
    box = shapely.box(0, 0, 400, 100)
    for cell in (100.0, 25.0):
        river = ik.River(
            name="river",
            shape=shapely.LineString([(400, 0), (400, 100)]),
            stage=6.0,
            bed=-50.0,
            conductance=0.5,
        )
        west = ik.FixedHead(name="west", shape=shapely.LineString([(0, 0), (0, 100)]), head=9.0)
        model = ik.place(site(box, [west, river], 0.0, (-10.0,), 4.0), ik.rectangles(box, cell=cell))
        flow = ik.solve_flow(model).budget().loc["river", "out [m³/day]"]
        npt.assert_allclose(flow, 3.0 / (400.0 / (4.0 * 1000.0) + 1.0 / 50.0), rtol=1e-6)


@pytest.mark.parametrize("slope", [0.0, 0.01, -0.015])
@pytest.mark.parametrize("mesh", ["rectangles", "graded", "voronoi"])
def test_thickness_without_water_is_no_matter(mesh, slope):
    """Dupuit with 1.5 to 0.8 m of water under a top at 20 and at 200 m, over bases that slope either way."""
    box = shapely.box(0, 0, 1000, 100)
    made = {
        "rectangles": lambda: ik.rectangles(box, cell=25),
        "graded": lambda: ik.rectangles(box, cell=50, near=[(shapely.Point(310, 55), 9)]),
        "voronoi": lambda: ik.voronoi(box, cell=30),
    }[mesh]()
    heads = []
    for top in (20.0, 60.0, 200.0):
        grid = ik.layered(made, [np.full(made.n_cells, top + 20.0), slope * made.x])
        ends = np.flatnonzero((made.x < 40) | (made.x > 960))
        depth = np.sqrt(1.5**2 - (1.5**2 - 0.8**2) * made.x[ends] / 1000)
        held = ik.terms.FixedHeadTerm(ends, head=slope * made.x[ends] + depth)
        flow = ik.solve_flow(ik.Model(grid, 10.0, terms=[held]), closure=1e-12)
        heads.append(flow.steps[-1].heads)
    npt.assert_allclose(heads[1:], np.tile(heads[0], (2, 1)), atol=1e-6)
    if slope == 0.0:
        npt.assert_allclose(heads[0], np.sqrt(1.5**2 - (1.5**2 - 0.8**2) * made.x / 1000), rtol=2e-4)
