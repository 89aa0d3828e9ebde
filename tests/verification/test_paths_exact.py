"""Travel times and ways of particles against exact solutions, on every kind of mesh."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely
from scipy.integrate import solve_ivp

import inkhorn as ik
from inkhorn.model import terms
from tests.conftest import held, rain, strip
from tests.verification.test_flow_exact import around_a_well

POROSITY, HEIGHT, K = 0.2, 15.0, 5.0
SIDE = 400.0
SQUARE = shapely.box(0, 0, SIDE, SIDE)


def mesh_of(kind, cell=10.0):
    """A square of even cells."""
    if kind == "rectangles":
        return ik.rectangles(SQUARE.bounds, cell=cell)
    if kind == "cut":
        return ik.rectangles(shapely.Point(200, 200).buffer(190), cell=cell, keep="cut", rotation=20)
    if kind == "split":
        near = [(shapely.Point(200, 200).buffer(90.0), cell)]
        return ik.split_in_four(SQUARE.bounds, cell=2 * cell, near=near)
    return ik.voronoi(SQUARE, cell=cell)


def rim_of(grid, head):
    """Heads on the whole outline."""
    outer = grid.outer_faces
    return terms.FixedHeadTerm(
        cells=outer.cell, head=head(*outer.middle.T), crossing="side", outer_face=np.arange(len(outer)),
        way=outer.length / outer.distance, feature_names=("rim",),
    )  # fmt: skip


def even_flow(grid, angle):
    """Uniform flow with a gradient of one in a hundred, from heads in all cells on the rim; which those are."""
    down = 0.01 * np.array([np.cos(angle), np.sin(angle)])
    rim = np.unique(grid.outer_faces.cell)
    term = terms.FixedHeadTerm(
        cells=rim, head=100.0 - down[0] * grid.cells.x[rim] - down[1] * grid.cells.y[rim]
    )
    model = ik.Model(grid, K, porosity=POROSITY, terms=[term], water_table=ik.WaterTable(confined=True))
    return ik.solve_flow(model, closure=1e-13), K * down / POROSITY, np.isin(np.arange(grid.n_cells), rim)


LAYERS = {"one layer": {}, "joined below": {"layer_cell": {"layer 2": 35.0}}}


@pytest.mark.parametrize("layers", LAYERS)
@pytest.mark.parametrize("kind", ["rectangles", "cut", "split", "voronoi"])
@pytest.mark.parametrize("angle", [0.0, 0.3, 2.2, 4.0])
def test_even_flow_is_straight_and_on_time(kind, angle, layers):
    """Ways and times exact to 1e-9 at any angle, forward and backward, in columns that branch too."""
    surfaces = [0.0, -15.0] if layers == "one layer" else [0.0, -7.0, -15.0]
    grid = ik.layered(mesh_of(kind, 20.0), surfaces, **LAYERS[layers])
    flow, velocity, rim = even_flow(grid, angle)
    random = np.random.default_rng(3)
    points = np.column_stack([random.uniform(150, 250, (20, 2)), random.uniform(-14.9, -0.1, 20)])
    for backward in (False, True):
        ends = ik.trace(flow, points, backward=backward, max_time=1e6, stop_in=rim).ends
        way = ends[["end x [m]", "end y [m]"]].to_numpy() - points[:, :2]
        speed = np.hypot(*velocity)
        along = (-1.0 if backward else 1.0) * velocity / speed
        npt.assert_allclose(way[:, 0] * along[1] - way[:, 1] * along[0], 0.0, atol=1e-9 * SIDE)
        npt.assert_allclose(ends["travel time [day]"], way @ along / speed, rtol=1e-9)
        npt.assert_allclose(ends["end z [m]"], points[:, 2], atol=1e-9)
        assert set(ends["end"]) == {"stopped"}


def radial(kind, off, rate=600.0, cell=10.0, ratio=1.0, direction=0.0):
    """A well off the middle of its cell by shares of it, exact heads in the cells on the rim; the root of the ratio."""
    middle = np.array([200.0, 200.0]) + cell * np.array(off)
    sand = ik.Material("sand", K, porosity=POROSITY, anisotropy=ratio, direction=direction)
    well = ik.Well(
        name="well",
        x=middle[0],
        y=middle[1],
        screen_top=0,
        screen_bottom=-HEIGHT,
        abstraction=rate,
        radius=0.1,
    )
    strata = ik.Strata(ik.ConstantSurface(0.0), [ik.Layer("sand", ik.ConstantSurface(-HEIGHT))])
    site = ik.Site(SQUARE, strata, materials={"sand": sand}, features=[well])
    grid = ik.layered(mesh_of(kind, cell), site.strata)
    model = replace(ik.place(site, grid), water_table=ik.WaterTable(confined=True))
    ease = float(model.horizontal_conductivity[0]) / np.sqrt(ratio)
    rim, root = np.unique(grid.outer_faces.cell), 1.0 / np.sqrt(ratio)
    turn = np.deg2rad(direction)
    x, y = grid.cells.x[rim] - middle[0], grid.cells.y[rim] - middle[1]
    along, across = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
    stretched = np.sqrt(root * along**2 + across**2 / root)
    held_ = terms.FixedHeadTerm(cells=rim, head=50.0 + rate / (2 * np.pi * ease * HEIGHT) * np.log(stretched))
    return ik.solve_flow(replace(model, terms=(*model.terms, held_))), middle


@pytest.mark.parametrize("kind", ["rectangles", "split", "voronoi"])
@pytest.mark.parametrize("off", [(0.0, 0.0), (0.5, 0.5), (0.3, 0.45), (0.01, -0.4)])
@pytest.mark.parametrize(("distance", "within"), [(2, 0.02), (5, 0.01)])
def test_radial_flow_to_a_well_anywhere_in_its_cell(kind, off, distance, within):
    """t = pi n b (r² - rw²) / Q, within 2 % from two cells away and 1 % from five; and back to where it came from."""
    flow, middle = radial(kind, off)
    r, angle = 10.0 * distance, np.linspace(0.1, 6.2, 12)
    start = np.column_stack([middle[0] + r * np.cos(angle), middle[1] + r * np.sin(angle), np.full(12, -7.0)])
    exact = np.pi * POROSITY * HEIGHT * (r**2 - 0.01) / 600.0
    ends = ik.trace(flow, start).ends
    assert set(ends["end"]) == {"taken by a well"}
    assert set(ends["feature"]) == {"well"}
    npt.assert_allclose(ends["travel time [day]"], exact, rtol=within)
    back = ik.trace(flow, ["well"], backward=True, max_time=exact, per_well=12).ends
    npt.assert_allclose(
        np.hypot(back["end x [m]"] - middle[0], back["end y [m]"] - middle[1]), r, rtol=within
    )
    npt.assert_allclose(back["flow [m³/day]"].sum(), 600.0)


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
@pytest.mark.parametrize(("ratio", "direction"), [(4.0, 0.0), (9.0, 60.0)])
def test_radial_flow_where_conductivity_has_a_direction(kind, ratio, direction):
    """t = pi n b r² (a cos² + sin² / a) / Q, a the root of least over greatest conductivity, along straight lines."""
    flow, middle = radial(kind, (0.3, 0.4), ratio=ratio, direction=direction)
    angle = np.linspace(0.1, 6.2, 12)
    turned = angle + np.deg2rad(direction)
    start = np.column_stack(
        [middle[0] + 30 * np.cos(turned), middle[1] + 30 * np.sin(turned), np.full(12, -7.0)]
    )
    root = 1.0 / np.sqrt(ratio)
    exact = (
        np.pi * POROSITY * HEIGHT * 900.0 * (root * np.cos(angle) ** 2 + np.sin(angle) ** 2 / root) / 600.0
    )
    npt.assert_allclose(ik.trace(flow, start, max_time=1e7).ends["travel time [day]"], exact, rtol=0.015)


def test_a_well_by_its_cell_alone_stands_in_the_middle():
    flow, *_ = around_a_well(101)
    exact = np.pi * 0.2 * 15.0 * 200.0**2 / 600.0
    ends = ik.trace(flow, [(200.0 * np.cos(0.8), 200.0 * np.sin(0.8), -7.0)], max_time=1e5).ends
    assert ends.loc[0, ["end", "feature"]].tolist() == ["taken by a well", "well"]
    npt.assert_allclose(ends.loc[0, "travel time [day]"], exact, rtol=0.01)


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
def test_a_well_in_even_flow(kind):
    """What passes a well and what it takes: streamline, stagnation point and time on the axis (Bear and Jacobs 1965)."""
    rate, gradient, cell = 12.0, 0.01, 8.0
    well = np.array([180.0, 203.0])
    unit = K * gradient * HEIGHT  # flow a metre of width along x
    site = ik.Site(
        SQUARE,
        ik.Strata(ik.ConstantSurface(0.0), [ik.Layer("sand", ik.ConstantSurface(-HEIGHT))]),
        materials={"sand": ik.Material("sand", K, porosity=POROSITY)},
        features=[
            ik.Well(name="well", x=well[0], y=well[1], screen_top=0, screen_bottom=-HEIGHT, abstraction=rate)
        ],
    )
    grid = ik.layered(mesh_of(kind, cell), site.strata)
    model = replace(ik.place(site, grid), water_table=ik.WaterTable(confined=True))

    def head(x, y):
        away = np.hypot(x - well[0], y - well[1])
        return 100.0 - gradient * x + rate / (2 * np.pi * K * HEIGHT) * np.log(away)

    flow = ik.solve_flow(replace(model, terms=(*model.terms, rim_of(grid, head))))
    stagnation = rate / (2 * np.pi * unit)  # downstream of the well
    # upstream the streamline that divides: y = ± (rate / 2 pi unit) * (pi - angle seen from the well)
    x = 20.0
    offset = np.linspace(-12.0, 12.0, 241)
    start = np.column_stack([np.full(241, x), well[1] + offset, np.full(241, -7.0)])
    ends = ik.trace(flow, start, max_time=1e6, points=False).ends
    taken = offset[(ends["end"] == "taken by a well").to_numpy()]
    angle = np.arctan2(taken[-1], x - well[0])
    npt.assert_allclose(taken[-1], rate / (2 * np.pi * unit) * angle, atol=0.6)
    npt.assert_allclose(taken[-1] - taken[0], 2 * taken[-1], atol=0.3)
    # on the axis: n b / unit * (d - s ln(1 + d / s)) from a distance d upstream (the well's radius is nothing)
    d = well[0] - x
    exact = POROSITY * HEIGHT / unit * (d - stagnation * np.log(1 + d / stagnation))
    axis = ik.trace(flow, [(x, well[1], -7.0)], max_time=1e6).ends
    npt.assert_allclose(axis.loc[0, "travel time [day]"], exact, rtol=0.01)
    # a path that starts just beyond the stagnation point leaves, one before it is taken
    both = [(well[0] + f * stagnation, well[1], -7.0) for f in (0.6, 1.5)]
    assert ik.trace(flow, both, max_time=1e6).ends["end"].tolist() == ["taken by a well", "left by a side"]


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
@pytest.mark.parametrize("ratio", [1.0, 4.0])
@pytest.mark.parametrize("place", [(4.0, 7.0), (12.0, 120.0), (23.0, 31.0)])
def test_a_well_beside_closed_sides(kind, ratio, place):
    """Two closed sides at right angles are mirrors: a well and three images (Bear 1979, section 8-10)."""
    root, rate = 1.0 / np.sqrt(ratio), 600.0
    places = np.array([(x, y) for x in (place[0], -place[0]) for y in (place[1], -place[1])])

    def drawn(x, y):
        arms = np.array([x, y]).reshape(2, 1, -1) - places.T[:, :, None]
        return arms, root * arms[0] ** 2 + arms[1] ** 2 / root

    def head(x, y):
        return 50.0 + rate / (4 * np.pi * K * root * HEIGHT) * np.log(drawn(x, y)[1]).sum(axis=0)

    def speed(_, at):
        arms, size = drawn(*at)
        return -rate / (2 * np.pi * HEIGHT * POROSITY) * (arms / size).sum(axis=1)[:, 0]

    def met(_, at):
        return np.hypot(at[0] - place[0], at[1] - place[1]) - 0.1

    met.terminal = True
    sand = ik.Material("sand", K, porosity=POROSITY, anisotropy=ratio)
    well = ik.Well(
        name="well", x=place[0], y=place[1], screen_top=0, screen_bottom=-HEIGHT, abstraction=rate, radius=0.1
    )
    strata = ik.Strata(ik.ConstantSurface(0.0), [ik.Layer("sand", ik.ConstantSurface(-HEIGHT))])
    site = ik.Site(SQUARE, strata, materials={"sand": sand}, features=[well])
    model = replace(
        ik.place(site, ik.layered(mesh_of(kind), strata)), water_table=ik.WaterTable(confined=True)
    )
    rim = rim_of(model.grid, head)
    free = np.flatnonzero(model.grid.outer_faces.middle.max(axis=1) > SIDE - 1e-6)
    way = rim.way[free] * np.where(model.grid.outer_faces.middle[free, 0] > SIDE - 1e-6, 1.0, root**2)
    rim = replace(
        rim, cells=rim.cells[free], head=rim.head[free], way=way, outer_face=free, crossing="side", feature_index=0 * free
    )  # fmt: skip
    flow = ik.solve_flow(replace(model, terms=(*model.terms, rim)))
    middle = [(place[0] + 60.0, 1e-6), (1e-6, place[1] + 50.0), (place[0] + 70.0, place[1] + 80.0)]
    paths = ik.trace(flow, [(*at, -7.0) for at in middle], max_time=1e6)
    assert (paths.ends["feature"] == "well").all()
    assert paths.points.groupby("path").size().max() < 300
    exact = [solve_ivp(speed, (0.0, 1e6), at, events=met, rtol=1e-9, atol=1e-9).t[-1] for at in middle[2:]]
    npt.assert_allclose(paths.ends["travel time [day]"][2:], exact, rtol=0.015)
    on_sides = paths.points[paths.points["path"] < 2].groupby("path").nth(list(range(4)))
    assert on_sides[["x [m]", "y [m]"]].min(axis=1).abs().max() < 0.1


@pytest.mark.parametrize("outline", [SQUARE, SQUARE.difference(shapely.box(250, 200, 400, 400))])
def test_no_particle_comes_to_rest_beside_wells(outline):
    """Where sides are closed that no image serves, as conductivity has a direction, and where fields of wells meet."""
    mesh = ik.voronoi(outline, cell=15.0)
    grid = ik.layered(mesh, [0.0, -10.0, -20.0])
    draw = np.random.default_rng(3)
    at_sides = np.unique(grid.outer_faces.cell[grid.outer_faces.cell >= mesh.n_cells])
    wells = draw.choice(at_sides, 6, replace=False)
    stress = [
        rain(grid, 1e-3),
        terms.FixedHeadTerm(cells=np.argsort(mesh.x)[:10], head=5.0),
        terms.WellTerm(
            cells=wells, connection=21.0, rate=np.full(6, -1.2e-4 * mesh.area.sum()), feature_index=np.arange(6),
            feature_names=tuple("abcdef"),
        ),
    ]  # fmt: skip
    ground = 5.0 * np.exp(0.7 * draw.normal(size=grid.n_cells))
    law = ik.WaterTable(confined=True)
    model = ik.Model(
        grid,
        ground,
        0.1 * ground,
        porosity=0.2,
        terms=stress,
        anisotropy=5.0,
        direction=30.0,
        water_table=law,
    )
    flow = ik.solve_flow(model)
    paths = ik.trace(flow, ik.starts_of_inflow(flow, count=2000), max_time=1e7)
    ends = paths.ends
    assert not ends["end"].isin(["time limit", "too many steps", "stagnant"]).any()
    assert paths.points.groupby("path").size().max() < 1000
    share = ends.loc[ends["end"] == "taken by a well", "flow [m³/day]"].sum()
    budget = flow.budget().xs("well")["out [m³/day]"]
    npt.assert_allclose(share, budget, rtol=0.01)


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
def test_the_least_time_of_a_doublet(kind):
    """pi n b L² / (3 Q) straight from the injecting to the pumping well (Muskat 1937)."""
    apart, rate = 120.0, 90.0
    places = np.array([[200.0 - apart / 2, 196.0], [200.0 + apart / 2, 196.0]])
    site = ik.Site(
        SQUARE,
        ik.Strata(ik.ConstantSurface(0.0), [ik.Layer("sand", ik.ConstantSurface(-HEIGHT))]),
        materials={"sand": ik.Material("sand", K, porosity=POROSITY)},
        features=[
            ik.Well(name="in", x=places[0, 0], y=196.0, screen_top=0, screen_bottom=-HEIGHT, injection=rate),
            ik.Well(
                name="out", x=places[1, 0], y=196.0, screen_top=0, screen_bottom=-HEIGHT, abstraction=rate
            ),
        ],
    )
    grid = ik.layered(mesh_of(kind, 8.0), site.strata)
    model = replace(ik.place(site, grid), water_table=ik.WaterTable(confined=True))

    def head(x, y):
        one, two = (np.hypot(x - p[0], y - p[1]) for p in places)
        return 50.0 + rate / (2 * np.pi * K * HEIGHT) * np.log(two / one)

    flow = ik.solve_flow(replace(model, terms=(*model.terms, rim_of(grid, head))))
    paths = ik.trace(flow, ["in"], per_well=360, max_time=1e5, points=False)
    least = np.pi * POROSITY * HEIGHT * apart**2 / (3 * rate)
    arrived = paths.ends[paths.ends["end"] == "taken by a well"]
    npt.assert_allclose(arrived["travel time [day]"].min(), least, rtol=0.01)
    # breakthrough by a time: half the angle of the last path there, over pi; t(angle) for a doublet (Muskat 1937)
    for share in (0.2, 0.4):
        a = np.pi * share
        exact = np.pi * POROSITY * HEIGHT * apart**2 / rate / np.sin(a) ** 2 * (1 - a / np.tan(a))
        found = np.sort(paths.ends.loc[arrived.index, "travel time [day]"])[int(share * 360) - 1]
        npt.assert_allclose(found, exact, rtol=0.02)


def test_travel_time_under_recharge_from_the_divide():
    """Confined thickness H with rain R: from x0 to x takes n H / R ln(x / x0); heights shrink as x0 / x."""
    n, height, rate, porosity = 100, 20.0, 0.001, 0.3
    grid = strip(n, surfaces=(height, 0.0))
    model = ik.Model(
        grid, 50.0, porosity=porosity, terms=[held([n], 100.0), rain(grid, rate)],
        water_table=ik.WaterTable(confined=True),
    )  # fmt: skip
    # the divide is the closed side of the first cell, at x = -5
    flow = ik.solve_flow(model)
    paths = ik.trace(flow, [(195.0, 5.0, height)], mark=100.0)
    x, z, t = (paths.points[c].to_numpy() for c in ("x [m]", "z [m]", "time [day]"))
    moving = x < 990.0  # the last cell lets water out by its top
    npt.assert_allclose(
        t[moving], porosity * height / rate * np.log((x[moving] + 5) / 200.0), rtol=2e-3, atol=1.0
    )
    npt.assert_allclose(z[moving], height * 200.0 / (x[moving] + 5), rtol=5e-3)
    assert paths.ends.loc[0, ["end", "feature"]].tolist() == ["left by the top", "held"]
    npt.assert_allclose(np.diff(paths.marks()["time [day]"]), 100.0)


@pytest.mark.parametrize("kind", ["rectangles", "voronoi"])
def test_age_at_depth_under_even_recharge(kind):
    """n H / R ln(H / height over the base) at any place, twenty layers (Haitjema 1995)."""
    height, rate, porosity = 40.0, 0.001, 0.3
    box = (0.0, 0.0, 1000.0, 60.0)
    mesh = ik.rectangles(box, cell=20.0) if kind == "rectangles" else ik.voronoi(box, cell=20.0)
    grid = ik.layered(mesh, np.linspace(height, 0.0, 21))
    outer = grid.outer_faces
    east = np.flatnonzero(outer.middle[:, 0] > 999.0)
    out = terms.FixedHeadTerm(
        cells=outer.cell[east], head=100.0, crossing="side", outer_face=east,
        way=(outer.length / outer.distance)[east], feature_names=("sea",),
    )  # fmt: skip
    model = ik.Model(
        grid, 50.0, vertical_conductivity=50.0, porosity=porosity, terms=[out, rain(grid, rate)],
        water_table=ik.WaterTable(confined=True),
    )  # fmt: skip
    flow = ik.solve_flow(model, closure=1e-11)
    level = np.array([37.0, 30.0, 21.0, 11.0, 5.0])
    points = [(x, y, z) for x in (330.0, 610.0) for y in (22.0, 41.0) for z in level]
    ends = ik.trace(flow, points, backward=True, max_time=1e9, points=False).ends
    exact = np.tile(porosity * height / rate * np.log(height / level), 4)
    npt.assert_allclose(ends["travel time [day]"], exact, rtol=0.01)
    # water leaving the east side is of all ages: a share exp(-t R / n H) is older than t
    leaving = ik.trace(
        flow, ik.starts_of_inflow(flow, count=4000, backward=True), backward=True, max_time=1e9, points=False
    ).ends["travel time [day]"]
    mean = porosity * height / rate
    for age in (0.3, 1.0, 2.0):
        npt.assert_allclose((leaving > age * mean).mean(), np.exp(-age), atol=0.03)


def test_flow_that_turns_at_a_known_time():
    """East for ten days, then north; forward, released at two times, and backward from the end."""
    grid = ik.layered(ik.rectangles((0, 0, 400, 400), cell=20), [0.0, -HEIGHT])
    outer = grid.outer_faces
    middle = outer.middle
    way = outer.length / outer.distance
    first, second = (100.0 - 0.5 * middle[:, k] for k in (0, 1))
    rim = terms.FixedHeadTerm(
        cells=outer.cell,
        head=first,
        crossing="side",
        outer_face=np.arange(len(outer)),
        way=way,
        feature_names=("rim",),
    )
    schedule = ik.Schedule([10.0, 30.0], steps=[1, 1])
    model = ik.Model(
        grid, K, porosity=POROSITY, terms=[rim], water_table=ik.WaterTable(confined=True), specific_storage=1e-12,
        schedule=schedule, inputs_in_time={"fixed head.head": np.array([first, second])},
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=100.0 - 0.5 * grid.cells.x)
    speed = K * 0.5 / POROSITY  # m/day
    paths = ik.trace(flow, [(101.0, 103.0, -5.0)], release=[0.0, 4.0], max_time=18.0)
    ends = paths.ends
    npt.assert_allclose(ends["released [day]"], [0.0, 4.0])
    east = speed * np.array([10.0, 6.0])
    npt.assert_allclose(ends["end x [m]"], 101.0 + east, rtol=1e-6)
    npt.assert_allclose(ends["end y [m]"], 103.0 + speed * np.array([8.0, 12.0]), rtol=1e-6)
    back = ik.trace(
        flow, [(101.0 + east[0], 103.0 + speed * 8.0, -5.0)], backward=True, release=18.0, max_time=18.0
    ).ends
    npt.assert_allclose(back[["end x [m]", "end y [m]"]].to_numpy(), [[101.0, 103.0]], atol=1e-4)
    with pytest.raises(ik.InputError, match="released on day 40, outside the run from day 0 to 30"):
        ik.trace(flow, [(101.0, 103.0, -5.0)], release=40.0)


def test_water_under_a_moving_water_table():
    """A closed column that rain fills: what is there stays where it is; what falls on it lies above."""
    rate, porosity, days = 0.01, 0.25, 200.0
    grid = ik.layered(ik.rectangles((0, 0, 60, 60), cell=20), [30.0, 0.0])
    model = ik.Model(
        grid, K, porosity=porosity, terms=[rain(grid, rate)], schedule=ik.Schedule([days], steps=[8]),
        specific_storage=1e-10, specific_yield=porosity,
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=10.0)
    stays = ik.trace(flow, [(31.0, 29.0, z) for z in (1.0, 5.0, 9.9)])
    npt.assert_allclose(stays.ends["end z [m]"], [1.0, 5.0, 9.9], atol=1e-3)
    assert set(stays.ends["end"]) == {"end of the run"}
    # rain of day 50 lies as high as the table then stood
    falls = ik.trace(flow, [(31.0, 29.0, 29.0)], release=50.0)
    npt.assert_allclose(falls.ends["end z [m]"], 10.0 + 50.0 * rate / porosity, atol=2e-3)


@pytest.fixture(scope="module")
def quillmere_site_on(quillmere_folder):
    """Steady heads of the demo on one of its grids."""
    project = ik.read_project(quillmere_folder / "site.toml")

    def solved(grid):
        return ik.solve_flow(ik.place(project.site_on(grid), project.grid(grid)))

    return solved


def test_there_and_back_again(quillmere):
    """Paths followed backward from where they got to return to where they began, to 1e-6 of a cell."""
    starts = ik.starts_in_area(quillmere, count=300, seed=2)
    there = ik.trace(quillmere, starts, max_time=2000.0, partly_taken="pass")
    ends = there.ends[there.ends["end"] == "time limit"]
    assert len(ends) > 100
    back = ik.trace(
        quillmere,
        ends[["end x [m]", "end y [m]", "end z [m]"]].to_numpy(),
        backward=True,
        max_time=2000.0,
        partly_taken="pass",
    ).ends
    miss = np.hypot(
        back["end x [m]"].to_numpy() - ends["start x [m]"].to_numpy(),
        back["end y [m]"].to_numpy() - ends["start y [m]"].to_numpy(),
    )
    size = np.sqrt(quillmere.model.grid.cells.area[ends["start cell"]])
    assert np.quantile(miss / size, 0.99) < 1e-6


def test_there_and_back_in_time():
    """A water table that falls as a well pumps by turns: back to the start through eight steps, to 1e-6 of a cell."""
    grid = ik.layered(ik.voronoi((0, 0, 300, 240), cell=20), [20.0, 8.0, 0.0])
    cell = int(grid.cell_number[1, grid.mesh.locate([151.0], [119.0])[0]])
    well = terms.WellTerm(cells=[cell], connection=40.0, rate=0.0, feature_names=("well",), x=151.0, y=119.0)
    rim = np.unique(grid.outer_faces.cell)
    model = ik.Model(
        grid, 8.0, porosity=0.2, specific_storage=1e-5, specific_yield=0.15, schedule=ik.Schedule([20.0, 60.0], steps=4),
        terms=[terms.FixedHeadTerm(cells=rim, head=15.0 - 0.01 * grid.cells.x[rim]), well, rain(grid, 0.002)],
        inputs_in_time={"well.rate": [[-400.0], [-50.0]]},
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=14.0)
    starts = ik.starts_in_area(flow, shapely.box(60, 60, 240, 180), count=200, seed=8)
    there = ik.trace(flow, starts, max_time=47.0, partly_taken="pass", points=False).ends
    ends = there[there["end"] == "time limit"]
    assert len(ends) > 100
    places = ends[["end x [m]", "end y [m]", "end z [m]"]].to_numpy()
    back = ik.trace(flow, places, backward=True, release=47.0, partly_taken="pass", points=False).ends
    miss = np.hypot(
        *(back[["end x [m]", "end y [m]"]].to_numpy() - ends[["start x [m]", "start y [m]"]].to_numpy()).T
    )
    assert np.quantile(miss, 0.98) < 1e-6 * 20.0


@pytest.mark.parametrize(
    "grid", ["voronoi", *(pytest.param(g, marks=pytest.mark.slow) for g in (None, "split"))]
)
def test_capture_adds_up(quillmere_site_on, grid):
    """Forward from all inflow each well gets its rate; by origin both ways agree; all end by leaving, with a name."""
    flow = quillmere_site_on(grid)
    count = 20_000
    forward = ik.trace(flow, ik.starts_of_inflow(flow, count=count), points=False, max_time=1e9, threads=2)
    ends = forward.ends
    assert ends["end"].isin(["left by the top", "taken by a well", "taken inside"]).all()
    assert (ends["feature"] != "").all()
    arrived = ends[ends["term"] == "well"].groupby("feature")["flow [m³/day]"].sum()
    rates = flow.budget("feature").loc["well", "out [m³/day]"]
    each = ends["flow [m³/day]"].iloc[0]
    for well, rate in rates.items():
        error = np.sqrt(each / rate)  # of drawing that many
        assert abs(arrived[well] / rate - 1.0) < max(3.0 * error, 0.01)
    backward = ik.trace(flow, list(rates.index), backward=True, per_well=600, points=False, max_time=1e9)
    npt.assert_allclose(backward.ends.groupby("start")["flow [m³/day]"].sum(), rates.sort_index(), rtol=1e-9)
    one = ends[ends["term"] == "well"].groupby(["feature", "start"])["flow [m³/day]"].sum()
    two = backward.shares()["flow [m³/day]"].groupby(["start", "feature"]).sum()
    both = pd.concat([one, two], axis=1).fillna(0.0)
    of = rates.reindex(both.index.get_level_values(0)).to_numpy()
    assert (np.abs(both.iloc[:, 0] - both.iloc[:, 1]) / of).max() < 0.05
    ages = backward.ages([3652.5])
    assert (ages["not known [%]"] == 0.0).all()
    assert (ages["10% younger than [day]"] < ages["90% younger than [day]"]).all()


@pytest.mark.parametrize(
    ("start", "message"),
    [
        ([], "`start` is empty"),
        ([(0.0, 0.0)], r"shape \(1, 2\); expected \(n, 3\)"),
        ([(3000.0, 3000.0, 500.0)], "start point 0 at x=3000, y=3000, z=500 lies in no cell"),
        (["hatchry"], 'no well "hatchry"'),
    ],
)
def test_starts_that_cannot_be(quillmere, start, message):
    with pytest.raises(ik.InputError, match=message):
        ik.trace(quillmere, start)
