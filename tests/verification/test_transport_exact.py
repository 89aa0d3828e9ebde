"""Concentrations against exact solutions, on every kind of mesh, with one set of settings for all."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.integrate import cumulative_trapezoid
from scipy.special import airy, erfc, erfcx, k0

import inkhorn as ik
from inkhorn.model import Solute, terms
from inkhorn.transport import Dispersion, ImmobileWater, numerical_spreading
from tests.conftest import held, rain, strip

SALT = ik.Species("salt", background=0.0)
CONFINED = ik.WaterTable(confined=True)
POROSITY, K, HEIGHT = 0.25, 10.0, 10.0
MESHES = ("rectangles", "split", "voronoi")
GROUND = 1.6e6  # g/m³


def mesh_over(kind, box, cell, fine=()):
    """Even cells over a box; of those split in four half of the box is finer, as told."""
    if kind == "rectangles":
        return ik.rectangles(box, cell=cell)
    if kind == "split":
        return ik.split_in_four(box, cell=cell, near=[(shapely.box(*fine), 0.5 * cell)] if len(fine) else [])
    return ik.voronoi(shapely.box(*box), cell=cell)


def even_flow(mesh, angle=0.0, gradient=0.01, **arrays):
    """Flow all over alike, from heads in the cells on the rim, and its velocity."""
    grid = ik.layered(mesh, [0.0, -HEIGHT])
    down = gradient * np.array([np.cos(angle), np.sin(angle)])
    rim = np.unique(grid.outer_faces.cell)
    term = terms.FixedHeadTerm(
        cells=rim,
        head=100.0 - down[0] * grid.cells.x[rim] - down[1] * grid.cells.y[rim],
        feature_names=("rim",),
    )
    model = ik.Model(grid, K, porosity=POROSITY, terms=[term], water_table=CONFINED, **arrays)
    return ik.solve_flow(model, closure=1e-13), K * down / POROSITY


def brings(flow, **concentrations):
    """The same flow with concentrations of the water from its rim."""
    known = {name: {"rim": c} for name, c in concentrations.items()}
    return replace(flow, model=replace(flow.model, inflow_concentration=known))


def talbot(transform, time):
    """Back from Laplace's transform, with the weights of Abate & Valko (2004), fixed Talbot, 32 points."""
    m = 32
    r = 2.0 * m / (5.0 * time)
    angle = np.arange(1, m) * np.pi / m
    cot = 1.0 / np.tan(angle)
    s = r * angle * (cot + 1j)
    sigma = angle + (angle * cot - 1.0) * cot
    total = 0.5 * np.exp(r * time) * transform(complex(r)).real
    for sk, gk in zip(s, sigma, strict=True):
        total = total + (np.exp(sk * time) * transform(sk) * (1.0 + 1j * gk)).real
    return r / m * total


def inlet_of_water(x, time, v, d, retarded=1.0, decay=0.0):
    """Water of 1 comes in with its mass: van Genuchten & Alves (1982), C14; without decay Lindstrom et al. (1967)."""
    d, v = d / retarded, v / retarded
    root = 2 * np.sqrt(d * time)
    a, b = (x - v * time) / root, (x + v * time) / root
    if decay == 0.0:
        behind = np.exp(-(a**2)) * erfcx(b)
        wide = np.sqrt(v**2 * time / (np.pi * d)) * np.exp(-(a**2))
        return 0.5 * erfc(a) + wide - 0.5 * (1.0 + v * x / d + v**2 * time / d) * behind
    u = np.sqrt(v**2 + 4.0 * decay * d)
    p, q = (x - u * time) / root, (x + u * time) / root
    first = v / (v + u) * np.exp((v - u) * x / (2 * d)) * erfc(p)
    second = v / (v - u) * np.exp((v + u) * x / (2 * d) - q**2) * erfcx(q)
    third = v**2 / (2 * decay * d) * np.exp(v * x / d - decay * time - b**2) * erfcx(b)
    return first + second + third


COLUMN = (0.0, 0.0, 300.0, 30.0)


@pytest.mark.parametrize("kind", MESHES)
@pytest.mark.parametrize(
    ("distribution", "half_life"),
    [(0.0, None), (2e-7, None), (2e-7, 150.0)],
    ids=["plain", "sorbs", "decays"],
)
def test_a_front_in_a_column(kind, distribution, half_life):
    """Errors fall with second order; sorbed and dissolved decay alike, and nothing is lost."""
    retarded = 1.0 + GROUND * distribution / POROSITY
    decay = 0.0 if half_life is None else np.log(2.0) / half_life
    errors = []
    for cell in (10.0, 5.0):
        mesh = mesh_over(kind, COLUMN, cell, (100, 0, 200, 30))
        flow, v = even_flow(mesh, bulk_density=GROUND)
        salt = ik.Species(
            "salt", sorption=ik.LinearSorption(distribution) if distribution else None, half_life=half_life
        )
        made = ik.solve_transport(
            brings(flow, salt=1.0), salt, duration=250.0 * retarded, outputs=1, dispersion=Dispersion(8.0)
        )
        x = flow.model.grid.centres_of_gravity[:, 0]
        exact = inlet_of_water(x, 250.0 * retarded, v[0], 8.0 * v[0], retarded, decay)
        inner = (x > 15) & (x < 200)
        errors.append(np.abs(made.values[-1] - exact)[inner].mean())
        assert abs(made.budget().attrs["closing_error_percent"]) < 1e-9
    assert errors[1] < 4e-3
    assert np.log2(errors[0] / errors[1]) > 1.5  # with the cells at the inlet, which are few of few


def hill(place, at, sigma):
    return np.exp(-((place - at) ** 2).sum(axis=1) / (2.0 * sigma**2))


@pytest.mark.parametrize("kind", MESHES)
@pytest.mark.parametrize("angle", [0.0, 0.6])
def test_a_smooth_hill_is_carried_with_second_order(kind, angle):
    errors, way = [], np.array([np.cos(angle), np.sin(angle)])
    for cell in (4.0, 2.0):
        flow, v = even_flow(mesh_over(kind, (0, 0, 200, 140), cell, (80, 0, 120, 140)), angle)
        place = flow.model.grid.centres_of_gravity
        begin = np.array([100.0, 70.0]) - 30.0 * way
        made = ik.solve_transport(
            flow, SALT, duration=60.0 / np.hypot(*v), outputs=1, initial=hill(place, begin, 12.0)
        )
        exact = hill(place, begin + 60.0 * way, 12.0)
        errors.append(np.abs(made.values[-1] - exact).sum() / exact.sum())
        assert made.values.min() > -1e-15
        assert made.values.max() <= 1.0
    assert np.log2(errors[0] / errors[1]) > 1.8
    assert errors[1] < 0.01


@pytest.mark.slow
@pytest.mark.parametrize(("kind", "far"), [("rectangles", 1000.0), ("voronoi", 500.0)])
def test_a_hill_keeps_its_peak(kind, far):
    """Ten cells to its standard deviation, a hundred of these far, and fifty on polygons, where it costs more."""
    flow, v = even_flow(mesh_over(kind, (0, 0, far + 100.0, 70), 1.0))
    place = flow.model.grid.centres_of_gravity
    made = ik.solve_transport(
        flow, SALT, duration=far / v[0], outputs=1, initial=hill(place, [50.0, 35.0], 10.0)
    )
    assert made.values[-1].max() > 0.93
    npt.assert_allclose(made.values[-1] @ place / made.values[-1].sum(), [far + 50.0, 35.0], atol=0.5)


@pytest.mark.parametrize(("kind", "widest"), [("rectangles", 6.0), ("voronoi", 8.0)])
def test_a_sharp_front_stays_sharp(kind, widest):
    """Nine tenths of its rise within so many cells after a hundred; never beyond what comes in."""
    flow, v = even_flow(mesh_over(kind, (0, 0, 150, 15), 1.0))
    made = ik.solve_transport(brings(flow, salt=1.0), SALT, duration=100.0 / v[0], outputs=1)
    c, x = made.values[-1], flow.model.grid.centres_of_gravity[:, 0]
    assert x[c > 0.1].max() - x[c < 0.9].min() <= widest
    assert c.min() > -1e-15
    assert c.max() < 1.0 + 1e-12
    npt.assert_allclose((c * flow.model.grid.cells.area).sum() / 15.0, 100.0, rtol=1e-9)


@pytest.mark.parametrize("kind", MESHES)
@pytest.mark.parametrize(
    "degrees",
    [
        0,
        15,
        pytest.param(30, marks=pytest.mark.slow),
        45,
        *(pytest.param(d, marks=pytest.mark.slow) for d in (60, 75, 90)),
    ],
)
def test_what_spreads_sideways_is_the_dispersivity(kind, degrees):
    """A hundred times less than along the flow, at any angle to the mesh; nothing becomes negative."""
    angle = np.deg2rad(degrees)
    flow, v = even_flow(mesh_over(kind, (0, 0, 120, 120), 1.5, (50, 50, 70, 70)), angle)
    place, area = flow.model.grid.centres_of_gravity, flow.model.grid.cells.area
    along, speed = v / np.hypot(*v), np.hypot(*v)
    begin, far = np.array([60.0, 60.0]) - 15.0 * along, 30.0
    start = hill(place, begin, 9.0)
    made = ik.solve_transport(
        flow, SALT, duration=far / speed, outputs=1, initial=start, dispersion=Dispersion(2.0, 0.02)
    )
    sideways = place @ np.array([-along[1], along[0]])

    def spread(c):
        weight = c * area / (c * area).sum()
        return weight @ (sideways - weight @ sideways) ** 2

    found = (spread(made.values[-1]) - spread(start)) / (2.0 * far)
    npt.assert_allclose(found, 0.02, rtol=0.2 if kind == "split" else 0.1)
    assert made.values.min() > -1e-15


@pytest.mark.parametrize("kind", MESHES)
def test_a_source_of_mass_in_even_flow(kind):
    """Bear (1972), eq. 10.6.38: mass that comes in at a point, in plan, once all is steady."""
    flow, v = even_flow(mesh_over(kind, (0, 0, 240, 120), 4.0, (60, 40, 140, 80)))
    grid, rate, (far, wide) = flow.model.grid, 50.0, (8.0, 2.0)
    cell = int(grid.mesh.locate([80.0], [60.0])[0])
    source = Solute("mass source", "leak", "salt", [cell], [1.0], rate)
    flow = replace(flow, model=replace(flow.model, solutes=[source]))
    made = ik.solve_transport(flow, SALT, duration=900.0, outputs=1, dispersion=Dispersion(far, wide))
    x, y = (grid.centres_of_gravity - grid.centres_of_gravity[cell]).T
    reach = np.sqrt((x / far) ** 2 + y**2 / (far * wide))
    with np.errstate(divide="ignore", over="ignore", invalid="ignore"):
        exact = rate * np.exp(x / (2 * far)) * k0(0.5 * reach)
    exact /= 2 * np.pi * POROSITY * HEIGHT * v[0] * np.sqrt(far * wide)
    there = (np.hypot(x, y) > 15.0) & (np.abs(y) < 25.0) & (x > -40.0) & (x < 120.0)
    npt.assert_allclose(made.values[-1][there], exact[there], rtol=0.06, atol=0.01 * exact[there].max())
    assert made.budget().loc[("mass source", "leak"), "in [kg]"] == pytest.approx(rate * 0.9)


@pytest.mark.parametrize("kind", ["rectangles", "split"])
def test_a_strip_that_is_held(kind):
    """First-type inlet, sorbed and decaying: Wexler (1992), Analytical solutions for solute transport, strip source."""
    (far, wide), time, life = (6.0, 1.0), 400.0, 400.0
    errors = []
    for cell in (4.0, 2.0):
        flow, v = even_flow(mesh_over(kind, (0, 0, 200, 100), cell, (80, 30, 140, 70)), bulk_density=GROUND)
        x, y = flow.model.grid.centres_of_gravity.T
        first = np.flatnonzero(x < cell)
        strip_ = np.where(np.abs(y[first] - 50.0) < 14.0, 1.0, 0.0)
        inlet = Solute("held concentration", "inlet", "salt", first, np.ones(len(first)), strip_)
        salt = ik.Species("salt", background=0.0, sorption=ik.LinearSorption(2e-7), half_life=life)
        flow = replace(flow, model=replace(flow.model, solutes=[inlet]))
        made = ik.solve_transport(flow, salt, duration=time, outputs=1, dispersion=Dispersion(far, wide))
        some = (x > 8.0) & (x < 150.0) & (np.abs(y - 50.0) < 35.0)
        x, y, speed = x[some] - 0.5 * cell, y[some], v[0] / (1.0 + GROUND * 2e-7 / POROSITY)
        root = np.linspace(1e-6, np.sqrt(time), 4001)[:, None]
        age = root**2
        fall = (speed / (4.0 * far) + np.log(2.0) / life) * age + x**2 / (4.0 * far * speed * age)
        across = [erfc((edge - y) / (2.0 * np.sqrt(wide * speed) * root)) for edge in (36.0, 64.0)]
        inner = 2.0 / age * np.exp(x / (2.0 * far) - fall) * (across[0] - across[1])
        exact = x / (4.0 * np.sqrt(np.pi * far * speed)) * np.trapezoid(inner, root[:, 0], axis=0)
        errors.append(np.abs(made.values[-1][some] - exact).mean())
    assert errors[1] < 1e-3
    assert np.log2(errors[0] / errors[1]) > 1.6


@pytest.mark.parametrize(("kind", "angle"), [("rectangles", 0.3), ("split", 0.2), ("voronoi", 0.0)])
def test_a_point_source_in_three_dimensions(kind, angle):
    """Mass from a begin on: Hunt (1978), Journal of the Hydraulics Division 104, 75-85; images in roof and base."""
    (far, wide, high), rate, time = (6.0, 1.5, 0.3), 50.0, 150.0
    grid = ik.layered(mesh_over(kind, (0, 0, 120, 75), 3.0, (50, 30, 80, 45)), -np.arange(0.0, 13.5, 1.0))
    down = np.array([np.cos(angle), np.sin(angle)])
    rim = np.unique(grid.outer_faces.cell)
    plan = np.column_stack([grid.cells.x, grid.cells.y])
    heads = terms.FixedHeadTerm(cells=rim, head=-0.01 * plan[rim] @ down, feature_names=("rim",))
    at = int(grid.cell_number[6, grid.mesh.locate([36.0], [36.0])[0]])
    leak = Solute("mass source", "leak", "salt", [at], [1.0], rate)
    model = ik.Model(grid, K, porosity=POROSITY, terms=[heads], water_table=CONFINED, solutes=[leak])
    flow = ik.solve_flow(model, closure=1e-12)
    made = ik.solve_transport(flow, SALT, duration=time, outputs=1, dispersion=Dispersion(far, wide, high))
    off, v = grid.centres_of_gravity - grid.centres_of_gravity[at], K * 0.01 / POROSITY
    x, y, z = off @ down, off @ np.array([-down[1], down[0]]), grid.cells.z - grid.cells.z[at]
    some = (np.hypot(x, y) > 8.0) & (x < 60.0) & (np.abs(y) < 12.0)
    x, y, z, root = x[some], y[some], z[some], 2.0 * np.sqrt(far * v * time)
    exact = np.zeros(len(x))
    for image in np.arange(-3, 4) * 13.0:
        r = np.sqrt(x**2 + far / wide * y**2 + far / high * (z - image) ** 2)
        part = np.exp((x - r) / (2 * far)) * erfc((r - v * time) / root)
        part += np.exp((x + r) / (2 * far)) * erfc((r + v * time) / root)
        exact += rate / (8 * np.pi * POROSITY * v * r * np.sqrt(wide * high)) * part
    much = exact > 0.1 * exact.max()
    assert np.abs(made.values[-1][some][much] / exact[much] - 1.0).mean() < 0.03
    assert np.abs(made.values[-1][some] - exact).mean() < 0.01 * exact.max()


def test_a_cloud_in_three_dimensions():
    """Spread along, across and upwards by three dispersivities, from a cloud that is wide enough for the cells."""
    grid = ik.layered(ik.rectangles((0, 0, 160, 60), cell=2.5), np.linspace(0.0, -20.0, 26))
    rim = np.unique(grid.outer_faces.cell)
    heads = terms.FixedHeadTerm(cells=rim, head=-0.01 * grid.cells.x[rim], feature_names=("rim",))
    flow = ik.solve_flow(
        ik.Model(grid, K, porosity=POROSITY, terms=[heads], water_table=CONFINED), closure=1e-12
    )
    speed, time, sigma = K * 0.01 / POROSITY, 150.0, np.array([8.0, 6.0, 2.0])
    place = np.column_stack([grid.centres_of_gravity, grid.cells.z])

    def cloud(t):
        spread = sigma**2 + 2.0 * np.array([2.0, 0.3, 0.02]) * speed * t
        off = place - [45.0 + speed * t, 30.0, -10.0]
        return np.sqrt(np.prod(sigma**2 / spread)) * np.exp(-0.5 * (off**2 / spread).sum(axis=1))

    made = ik.solve_transport(
        flow, SALT, duration=time, outputs=1, initial=cloud(0.0), dispersion=Dispersion(2.0, 0.3, 0.02)
    )
    assert np.abs(made.values[-1] - cloud(time)).max() < 0.01


@pytest.mark.parametrize("kind", MESHES)
def test_water_put_in_by_a_well_spreads_around_it(kind):
    """Radial flow: Moench & Ogata (1981), Water Resources Research 17, eq. 11, by Airy's functions."""
    rate, far, time = 200.0, 5.0, 150.0
    grid = ik.layered(mesh_over(kind, (-80, -80, 80, 80), 4.0, (-30, -30, 30, 30)), [0.0, -HEIGHT])
    centre = int(grid.mesh.locate([0.1], [0.1])[0])
    outer = grid.outer_faces
    rim = terms.FixedHeadTerm(
        cells=outer.cell, head=-rate / (2 * np.pi * K * HEIGHT) * np.log(np.hypot(*outer.middle.T)), crossing="side",
        outer_face=np.arange(len(outer)), way=outer.length / outer.distance, feature_names=("rim",),
    )  # fmt: skip
    x, y = grid.centres_of_gravity[centre]
    well = terms.WellTerm(cells=[centre], connection=50.0, rate=rate, feature_names=("well",), x=x, y=y)
    model = ik.Model(grid, K, porosity=POROSITY, terms=[rim, well], water_table=CONFINED)
    flow = ik.solve_flow(replace(model, inflow_concentration={"salt": {"well": 1.0, "rim": 0.0}}))
    made = ik.solve_transport(
        flow, ik.Species("salt"), duration=time, outputs=1, dispersion=Dispersion(far, 0.5)
    )
    radius = np.hypot(*(grid.centres_of_gravity - [x, y]).T)
    some = np.argsort(radius)[5:400:9]
    r = radius[some] / far
    time_ = rate / (2 * np.pi * POROSITY * HEIGHT * far**2) * time
    exact = talbot(
        lambda s: (
            np.exp(0.5 * r)
            / s
            * airy(s ** (1 / 3) * (r + 0.25 / s))[0]
            / airy(s ** (1 / 3) * (1e-3 + 0.25 / s))[0]
        ),
        time_,
    )
    assert np.abs(made.values[-1][some] - exact).max() < 0.05
    assert np.abs(made.values[-1][some] - exact).mean() < 0.02


@pytest.mark.parametrize(
    ("length", "holds"), [(None, {0: 5.0}), (40.0, {0: 5.0}), (None, {0: 5.0, 700: 0.0, 1400: 8.0})]
)
def test_salt_diffuses_into_clay(length, holds):
    """Carslaw & Jaeger (1959), 2.4: a concentration held in the uppermost of thin layers, long steps, jumps in time."""
    d, time = 1e-4, 3000.0
    grid = ik.layered(ik.rectangles((0, 0, 10, 10), cell=10.0), -np.linspace(0.0, 3.0, 151))
    model = ik.Model(grid, 1e-5, porosity=0.4, terms=[held([0], [1.0])], water_table=CONFINED)
    brine = ik.Series(list(map(float, holds)), list(holds.values()), name="brine")
    model = replace(model, solutes=[Solute("held concentration", "brine", "salt", [0], [1.0], brine)])
    made = ik.solve_transport(
        ik.solve_flow(model),
        SALT,
        duration=time,
        outputs=2,
        step_length=length,
        dispersion=Dispersion(diffusion=d),
    )
    depth = -grid.cells.z - 0.01
    jumps = zip(holds, np.diff(list(holds.values()), prepend=0.0), strict=True)
    exact = sum(c * erfc(depth / (2 * np.sqrt(d * (time - begin)))) for begin, c in jumps)
    npt.assert_allclose(made.values[-1], exact, atol=0.02)
    assert len(made.watched) < 700  # not the thousands that thin layers would take explicitly
    assert abs(made.budget().attrs["closing_error_percent"]) < 1e-9


FAMILY = {"a": 4e-8, "b": 3e-7, "c": 0.0}


@pytest.mark.slow
def test_a_chain_of_three_with_unequal_retardation():
    """By Laplace's transform of its equations, van Genuchten (1985), Computers & Geosciences 11, 129-147."""
    lives, shares = {"a": 80.0, "b": 150.0, "c": 400.0}, {"a": ("b", 0.8), "b": ("c", 0.5)}
    family = [
        ik.Species(
            n, background=0.0, sorption=ik.LinearSorption(k) if k else None, half_life=lives[n],
            daughters=dict([shares[n]]) if n in shares else {},
        )
        for n, k in FAMILY.items()
    ]  # fmt: skip
    flow, v = even_flow(ik.rectangles((0, 0, 300, 6), cell=2.0), bulk_density=GROUND)
    time, d = 300.0, 5.0 * v[0]
    made = ik.solve_transport(
        brings(flow, a=1.0, b=0.0, c=0.0), family, duration=time, outputs=1, dispersion=Dispersion(5.0)
    )
    x = flow.model.grid.centres_of_gravity[:, 0]
    retarded = {n: 1.0 + GROUND * k / POROSITY for n, k in FAMILY.items()}
    decay = {n: np.log(2.0) / t for n, t in lives.items()}

    def transformed(s, wanted):
        # each is a sum of exp(m x); the mass that comes in is that of the first alone (third-type inlet)
        roots, terms_ = {}, {}
        for n in family:
            k = (s + decay[n.name]) * retarded[n.name]
            roots[n.name] = (v[0] - np.sqrt(v[0] ** 2 + 4.0 * d * k)) / (2.0 * d)
        before = None
        for n in "abc":
            k = (s + decay[n]) * retarded[n]
            mine = {}
            if before is not None:
                share = shares[before][1] * decay[before] * retarded[before]
                for m, amount in terms_[before].items():
                    mine[m] = -share * amount / (d * m**2 - v[0] * m - k)
            flux = (1.0 / s if n == "a" else 0.0) - sum(a * (1.0 - d * m / v[0]) for m, a in mine.items())
            mine[roots[n]] = mine.get(roots[n], 0.0) + flux / (1.0 - d * roots[n] / v[0])
            terms_[n], before = mine, n
        return sum(a * np.exp(m * x) for m, a in terms_[wanted].items())

    inner = (x > 4) & (x < 200)
    for n in "abc":
        exact = talbot(lambda s, n=n: transformed(s, n), time)
        npt.assert_allclose(made[n].values[-1][inner], exact[inner], atol=2e-3)
        assert abs(made[n].budget().attrs["closing_error_percent"]) < 1e-9


@pytest.mark.parametrize("law", ["Freundlich", "Langmuir"])
def test_a_front_that_sorbs_by_a_curve_travels_as_a_wave(law):
    """Its speed by what is held behind it, its shape by quadrature: van der Zee (1990), Water Resources Research 26."""
    if law == "Freundlich":
        sorption, sorbed = ik.FreundlichSorption(2.0, 0.5), lambda c: 2e-6 * np.sqrt(c)
    else:
        sorption, sorbed = ik.LangmuirSorption(40.0, 5.0), lambda c: 40e-6 * c / (5.0 + c)
    before, behind, far, length = 0.0, 10.0, 4.0, 400.0
    flow, v = even_flow(ik.rectangles((0, 0, length, 4), cell=2.0), bulk_density=GROUND)
    salt = ik.Species("salt", sorption=sorption, background=0.0)

    def hold(c):
        return c + GROUND / POROSITY * sorbed(c)

    speed = v[0] * (behind - before) / (hold(behind) - hold(before))
    time = 250.0 / speed
    made = ik.solve_transport(
        brings(flow, salt=behind), salt, duration=time, outputs=1, dispersion=Dispersion(far)
    )
    x, c = flow.model.grid.centres_of_gravity[:, 0], made.values[-1]
    row = np.argsort(x)[::2]
    x, c = x[row], c[row]
    mass = np.trapezoid(hold(c), x)
    npt.assert_allclose(mass, 250.0 * hold(behind), rtol=0.01)
    # in a wave v (c - c0) - D dc/dx = speed (hold(c) - hold(c0))
    level = np.linspace(0.02, 0.98, 2001) * behind
    slope = (v[0] * level - speed * hold(level)) / (far * v[0])
    place = cumulative_trapezoid(1.0 / slope, level, initial=0.0)
    reached = np.interp(-level, -c, x)
    npt.assert_allclose(reached - reached[1000], place - place[1000], atol=2.5)
    assert c.max() <= behind * (1 + 1e-12)


def test_water_that_stands_takes_up_and_gives_back():
    """Immobile pores, by Laplace's transform: van Genuchten & Wierenga (1976)."""
    flow, v = even_flow(ik.rectangles((0, 0, 300, 6), cell=2.0))
    exchange, standing, time, d = 2e-3, 0.1, 300.0, 5.0 * v[0]
    made = ik.solve_transport(
        brings(flow, salt=1.0), SALT, duration=time, outputs=1, dispersion=Dispersion(5.0),
        immobile=ImmobileWater(standing, exchange),
    )  # fmt: skip
    x = flow.model.grid.centres_of_gravity[:, 0]

    def transformed(s):
        k = s + exchange / POROSITY * s / (s + exchange / standing)
        m = (v[0] - np.sqrt(v[0] ** 2 + 4.0 * d * k)) / (2.0 * d)
        return np.exp(m * x) / (s * (1.0 - d * m / v[0]))

    inner = (x > 4) & (x < 200)
    npt.assert_allclose(made.values[-1][inner], talbot(transformed, time)[inner], atol=2e-3)
    assert abs(made.budget().attrs["closing_error_percent"]) < 1e-9


# --- what is the same all over stays so, and mass is kept -----------------------------------------


def up_and_down(porosity, specific_yield, film=1e-6):
    """Three thin layers that are drained and filled again fifty times, with rain and a well through all of them."""
    grid = ik.layered(ik.rectangles((0, 0, 300, 60), cell=20.0), [10.0, 7.0, 4.0, 0.0])
    lowest = grid.cells.layer == 2
    ends = np.flatnonzero(lowest & ((grid.cells.x < 15) | (grid.cells.x > 285)))
    levels = np.where(np.arange(100) % 2 == 0, 2.0, 9.0)[:, None] + np.where(
        grid.cells.x[ends] > 150, 0.5, 0.0
    )
    column = grid.cell_number[:, 22]
    return ik.Model(
        grid, 5.0, 0.5, porosity=porosity, specific_yield=specific_yield, specific_storage=1e-4,
        terms=[
            held(ends, levels[0]), rain(grid, 0.001),
            ik.terms.WellTerm(cells=column, connection=30.0, rate=-20.0, feature_names=("well",)),
        ],
        schedule=ik.Schedule(np.arange(1, 101) * 20.0, steps=1),
        inputs_in_time={"fixed head.head": levels}, water_table=ik.WaterTable(film=film), bulk_density=GROUND,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("porosity", "specific_yield"),
    [(0.3, 0.2), *(pytest.param(*pair, marks=pytest.mark.slow) for pair in ((0.15, 0.2), (0.25, 0.25)))],
)
def test_what_is_the_same_all_over_stays_so_while_cells_drain_and_fill(porosity, specific_yield):
    model = up_and_down(porosity, specific_yield)
    flow = ik.solve_flow(model, initial_heads=8.0)
    assert flow.saturation.min() < 0.01
    even = ik.Species("salt", initial=3.0, background=3.0, sorption=ik.LinearSorption(1e-7))
    still = ik.solve_transport(flow, even, outputs=8, dispersion=Dispersion(5.0, 0.5, 0.05, diffusion=1e-4))
    npt.assert_allclose(still.values, 3.0, rtol=1e-10)
    start = np.where(model.grid.cells.x < 100, 10.0, 1.0)
    plume = ik.solve_transport(flow, replace(even, background=1.0), outputs=8, initial=start)
    assert plume.values.min() > 1.0 - 1e-10
    assert plume.values.max() < 10.0 + 1e-10
    for k in range(1, 9):
        assert abs(plume.budget(k).attrs["closing_error_percent"]) < 1e-7
    # and a flow that is gone through twice is the same as one that lasts twice as long
    again = ik.solve_transport(flow, even, duration=3000.0, outputs=3, repeated=True)
    npt.assert_allclose(again.values, 3.0, rtol=1e-10)


@pytest.fixture(scope="module")
def plume(quillmere):
    return ik.solve_transport(
        quillmere, ik.Species("chloride", initial=14.0, background=14.0), duration=7000.0, outputs=7,
        dispersion=Dispersion(30.0, 3.0, 0.3, diffusion=1e-4),
    )  # fmt: skip


def test_concentrations_stay_within_what_comes_in(plume):
    assert plume.values.min() > 14.0 - 1e-9
    assert plume.values.max() < 9000.0
    assert plume.times[-1] == 7000.0
    assert len(plume.times) == 8


def test_the_mass_budget_closes_at_every_output(plume):
    for time in range(1, len(plume.times)):
        frame = plume.budget(time)
        assert abs(frame.attrs["closing_error_percent"]) < 1e-7
        brine = frame.loc[("recharge", "salt depot"), "in [kg]"]
        rate = plume.flow.budget(by="feature").loc[("recharge", "salt depot"), "in [m³/day]"]
        npt.assert_allclose(brine, 9.0 * rate * plume.times[time], rtol=1e-9)


def test_water_of_one_concentration_stays_so(quillmere):
    """All water that comes in has 14 g/m³ but the brine: without the brine nothing changes."""
    everywhere = {name: 14.0 for t in quillmere.model.terms for name in t.feature_names}
    flow = replace(quillmere, model=replace(quillmere.model, inflow_concentration={"chloride": everywhere}))
    even = ik.Species("chloride", initial=14.0, background=14.0)
    for options in ({"dispersion": Dispersion(20.0, 2.0, 0.2)}, {"method": "upstream", "step_length": 500.0}):
        still = ik.solve_transport(flow, even, duration=5000.0, outputs=2, **options)
        npt.assert_allclose(still.values, 14.0, rtol=1e-10)


@pytest.mark.parametrize("pumped", [0.0, 0.4, 1.5])
def test_wells_give_back_the_mix_of_what_they_take(pumped):
    """A bore through three layers, idle or pumping a part of what rises in it: what is the same all over stays so."""
    from tests.test_paths import passing_bore

    idle = passing_bore()
    water = idle.term_flows()
    rises = water.loc[(water["term"] == "well") & (water["flow [m³/day]"] > 0), "flow [m³/day]"].sum()
    flow = passing_bore(-pumped * rises)
    even = ik.Species("salt", initial=3.0, background=3.0)
    still = ik.solve_transport(flow, even, duration=1000.0)
    npt.assert_allclose(still.values, 3.0, rtol=1e-10)
    # salt below only: the well hands up what it does not pump, and takes out no more than that
    layer = flow.model.grid.cells.layer
    salty = ik.solve_transport(flow, SALT, duration=60.0, initial=np.where(layer == 2, 1.0, 0.0))
    mass = salty.budget()
    assert abs(mass.attrs["closing_error_percent"]) < 1e-8
    bore = salty.at_well("bore").to_numpy()
    assert (bore <= 1.0 + 1e-9).all()
    rate = -float(flow.well_levels()["abstraction [m³/day]"].iloc[0])
    out = mass.loc[("well", "bore"), "out [kg]"]
    if pumped == 0.0:
        assert out == pytest.approx(0.0, abs=1e-12)
        npt.assert_allclose(bore, 1.0, atol=0.05)
        assert salty.values[-1][layer == 0].max() > 0.5  # around the bore, in the uppermost layer
    else:
        assert 0.0 < out <= -rate * 60.0 / 1000.0 * 1.001


@pytest.mark.parametrize("angle", [0.0, 30.0, 45.0])
def test_what_the_upstream_method_spreads_is_known(angle):
    """Upstream weights on squares spread by half a cell along the axes, across between them; steps by half their way."""
    turn = np.deg2rad(angle)
    flow, velocity = even_flow(ik.rectangles((0, 0, 400, 400), cell=10.0), turn)
    s, c = np.sin(turn), np.cos(turn)
    along, across = numerical_spreading(flow, 8.0)
    npt.assert_allclose(along, 5.0 * (c**3 + s**3) + 4.0 * np.hypot(*velocity), rtol=0.01)
    npt.assert_allclose(across, 5.0 * s * c * (s + c), atol=0.02)


def test_the_upstream_method_spreads_as_it_says():
    flow, v = even_flow(ik.rectangles((0, 0, 400, 20), cell=4.0))
    made = ik.solve_transport(
        brings(flow, salt=1.0), SALT, duration=200.0 / v[0], outputs=1, method="upstream", step_length=10.0
    )
    x = flow.model.grid.centres_of_gravity[:, 0]
    exact = inlet_of_water(x, 200.0 / v[0], v[0], numerical_spreading(flow, 10.0)[0] * v[0])
    assert np.abs(made.values[-1] - exact)[(x > 40) & (x < 320)].max() < 0.03


def test_transport_and_paths_need_porosity():
    grid = strip(5)
    flow = ik.solve_flow(ik.Model(grid, 1.0, terms=[held([0], [5.0]), rain(grid, 0.001)]))
    with pytest.raises(ik.InputError, match="transport needs a porosity"):
        ik.solve_transport(flow, SALT, duration=1.0)
    with pytest.raises(ik.InputError, match="paths need a porosity"):
        ik.trace(flow, [(500.0, 5.0, 1.0)])
