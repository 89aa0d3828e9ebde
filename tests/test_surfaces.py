"""Surfaces from points, rasters and one another; and what strata make of them."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely

import inkhorn as ik
from inkhorn.calibration import ParameterSet
from inkhorn.space import (
    BetweenSurface,
    BoundedSurface,
    GriddedSurface,
    OffsetSurface,
    PatchedSurface,
    Variogram,
    kriging_rows,
)

METHODS = ["linear", "nearest", "inverse_distance", "natural", "cubic", "thin_plate", "kriging"]
RNG = np.random.default_rng(7)
X, Y = RNG.uniform(0, 1000, (2, 120))
INNER = RNG.uniform(200, 800, (2, 300))


def surface(z, method, **options):
    return ik.PointSurface(X, Y, z, name="base", method=method, **options)


@pytest.mark.parametrize("method", METHODS)
def test_surfaces_pass_through_their_points(method):
    z = 20.0 + 3.0 * np.sin(X / 200) * np.cos(Y / 300)
    made = surface(z, method)
    npt.assert_allclose(made.misses(), 0.0, atol=1e-6)
    between = made.at(*INNER)
    assert np.abs(between - (20.0 + 3.0 * np.sin(INNER[0] / 200) * np.cos(INNER[1] / 300))).max() < 2.5
    assert made.at(INNER[0].reshape(10, 30), INNER[1].reshape(10, 30)).shape == (10, 30)


@pytest.mark.parametrize("method", ["linear", "natural", "cubic", "thin_plate"])
def test_planes_are_met_exactly(method):
    """Laplace's natural neighbours too: their weights reproduce every linear function."""
    made = surface(5.0 + 0.01 * X - 0.02 * Y, method)
    npt.assert_allclose(made.at(*INNER), 5.0 + 0.01 * INNER[0] - 0.02 * INNER[1], atol=1e-8)


@pytest.mark.parametrize("method", METHODS)
def test_levels_stay_level_and_nothing_is_wild_outside(method):
    made = surface(np.full(len(X), 7.0), method)
    npt.assert_allclose(made.at([500.0, -300.0, 5000.0], [500.0, 2000.0, 500.0]), 7.0, atol=1e-6)
    if method not in ("thin_plate", "cubic"):
        z = RNG.uniform(0, 1, len(X))
        values = surface(z, method).at(*RNG.uniform(-500, 1500, (2, 500)))
        assert values.min() > z.min() - 0.5
        assert values.max() < z.max() + 0.5


BOX = shapely.box(0, 0, 1000, 1000)
LATTICE = np.stack(np.meshgrid(np.arange(0, 1001, 100.0), np.arange(0, 801, 100.0)), axis=-1).reshape(-1, 2)
SETS = {
    "a lattice less a corner": LATTICE[1:],
    "a rim all but straight": LATTICE + np.random.default_rng(3).normal(0, 1.0, LATTICE.shape),
    "turned, far away": LATTICE @ np.array([[0.8, -0.6], [0.6, 0.8]]) + 5e5,
    "two long lines": np.array([(x, y) for x in np.arange(0, 1000, 12.5) for y in (0.0, 800.0)]),
    "at random": np.random.default_rng(4).uniform(0, 1000, (300, 2)),
}


@pytest.mark.parametrize("points", SETS.values(), ids=SETS.keys())
@pytest.mark.parametrize("method", ["linear", "natural", "cubic"])
def test_surfaces_go_on_beyond_their_points_without_a_leap(points, method):
    """On the hull, on sides of triangles, through flat triangles of the rim and far outside."""
    rng, low, size = np.random.default_rng(5), points.min(axis=0), np.ptp(points, axis=0)
    made = ik.PointSurface(*points.T, 10.0 * np.sin((points - low) @ (0.006, 0.007)), method=method)
    sides = points[made.triangles.net.mesh.convex_hull]
    share = np.linspace(0, 1, 23)[:, None, None]
    hull = (share * sides[:, 0] + (1 - share) * sides[:, 1]).reshape(-1, 2)
    middle = low + 0.5 * size
    out = middle + np.linspace(0.9, 1.1, 601)[:, None, None] * (hull[::37] - middle)
    turn = np.linspace(0, 2 * np.pi, 20001)
    around = middle + 0.8 * size.max() * np.column_stack([np.cos(turn), np.sin(turn)])
    for line in (out, around[:, None]):
        steps = np.hypot(*np.diff(line, axis=0).transpose(2, 0, 1))
        leaps = np.abs(np.diff(made.at(line[..., 0], line[..., 1]), axis=0))
        assert (leaps < 0.35 * steps).all()  # the data slope by 0.09
    npt.assert_allclose(made.misses(), 0.0, atol=1e-7)
    assert np.isfinite(made.at([-1e6, 3e6], [2e6, 0.0])).all()
    plane = ik.PointSurface(*points.T, (points - low) @ (0.01, -0.02), method=method)
    inner = low + rng.uniform(0.02, 0.98, (500, 2)) * size
    inner = inner[plane.triangles.home(inner) >= 0]
    npt.assert_allclose(plane.at(*inner.T), (inner - low) @ (0.01, -0.02), atol=1e-8)


def test_flat_triangles_on_the_rim_make_no_walls():
    """A point 1 m inside the line between two others is no wall of 20 m; points that nothing is made of are known."""
    x, y = np.array([0.0, 1000, 500, 0, 1000, 500]), np.array([0.0, 0, 1, 800, 800, 5000])
    made = ik.PointSurface(x, y, np.array([0.0, 0, 20, 0, 0, 0]))
    npt.assert_allclose(made.at([500.0, 500, 500], [0.0, 1.0, -50]), 20.0)
    npt.assert_allclose(made.at([250.0, 750], [0.1, 0.0]), 10.0)
    assert made.used([500.0], [400.0]).sum() <= 3


@pytest.mark.parametrize("kind", ["spherical", "exponential", "gaussian", "linear"])
@pytest.mark.parametrize("nugget", [0.0, 0.2])
def test_kriging_weights_solve_their_system(kind, nugget):
    """Against the textbook's system solved one place at a time, all points looked at."""
    curve = Variogram(kind, range=400.0, sill=2.0, nugget=nugget, direction=30.0, ratio=2.0)
    x, y, at = X[:15], Y[:15], INNER[:, :20]
    rows = kriging_rows(x, y, *at, curve, neighbours=50)
    npt.assert_allclose(rows.sum(axis=1), 1.0, atol=1e-9)
    known = curve.stretched(x, y)
    system = np.ones((16, 16))
    system[:15, :15] = curve.at(np.hypot(*(known[:, None] - known[None]).T)) + nugget * (1 - np.eye(15))
    system[15, 15] = 0.0
    for k in range(20):
        away = np.hypot(*(known - curve.stretched(at[:1, k], at[1:, k])).T)
        right = np.append(curve.at(away) + nugget, 1.0)
        npt.assert_allclose(rows[[k]].toarray().ravel(), np.linalg.solve(system, right)[:15], atol=2e-5)


def test_the_longest_range_points_its_way():
    east = Variogram("exponential", range=500.0, ratio=5.0)
    along, across = east.stretched([100.0, 0.0], [0.0, 100.0])
    npt.assert_allclose([np.hypot(*along), np.hypot(*across)], [0.2, 1.0])
    north = Variogram("exponential", range=500.0, ratio=5.0, direction=90.0).stretched([100.0], [0.0])
    npt.assert_allclose(np.hypot(*north[0]), 1.0)


def test_a_nugget_smooths():
    z = np.sin(X / 100) + RNG.normal(0, 0.3, len(X))
    rough = surface(z, "kriging", variogram=Variogram(range=300.0))
    smooth = surface(z, "kriging", variogram=Variogram(range=300.0, nugget=1.0))
    assert np.abs(rough.misses()).max() < 1e-6 < 0.1 < np.abs(smooth.misses()).max()


def test_points_that_stand_out_are_named():
    z = 10.0 + 0.01 * X + RNG.normal(0, 0.02, len(X))
    z[[17, 60]] += [4.0, -2.0]
    assert surface(z, "linear").outliers()[:2].tolist() == [17, 60]


def test_rasters_are_bilinear_and_miss_nothing_silently():
    x, y = np.linspace(0, 100, 6), np.linspace(0, 50, 4)
    raster = GriddedSurface(x, y, 2.0 + 0.1 * x + 0.3 * y[:, None] + 0.01 * x * y[:, None], name="dem.tif")
    npt.assert_allclose(raster.at([33.0, 0.0], [21.0, 50.0]), [2 + 3.3 + 6.3 + 6.93, 17.0])
    with pytest.raises(ik.InputError, match=r"dem.tif has no elevation at x=500, y=10 \(1 of 2 places\)"):
        raster.at([50.0, 500.0], [10.0, 10.0])
    holed = GriddedSurface(x, y, np.where(x > 50, np.nan, raster.z), name="dem.tif")
    with pytest.raises(ik.InputError, match="x=90, y=10"):
        holed.at([10.0, 90.0], [10.0, 10.0])
    with pytest.raises(ik.InputError, match="does not rise"):
        GriddedSurface(x[::-1], y, raster.z)


def test_surfaces_made_of_others():
    flat, low = ik.ConstantSurface(10.0), ik.ConstantSurface(2.0)
    slope = surface(0.02 * X, "linear")
    here = np.array([[250.0, 750.0], [500.0, 500.0]])
    npt.assert_allclose(OffsetSurface(slope, -3.0).at(*here), [2.0, 12.0])
    npt.assert_allclose(BetweenSurface(flat, low, 0.25).at(*here), 8.0)
    npt.assert_allclose(
        BoundedSurface(slope, below=flat, above=ik.ConstantSurface(6.0)).at(*here), [6.0, 10.0]
    )
    patched = PatchedSurface(flat, shapely.box(0, 0, 500, 1000), slope)
    npt.assert_allclose(patched.at(*here), [5.0, 10.0])
    with pytest.raises(ik.InputError, match=r"share is 1\.5"):
        BetweenSurface(flat, low, 1.5)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: surface(X, "krigging"), 'method is "krigging".*Did you mean "kriging"'),
        (lambda: surface(X, "kriging", neighbours=0), "neighbours is 0"),
        (lambda: Variogram("round"), 'kind is "round"'),
        (lambda: Variogram(range=-1.0), "range is -1 m"),
        (lambda: Variogram(ratio=0.5), "ratio is 0.5"),
        (lambda: ik.Layer("a", ik.ConstantSurface(0.0), where_thin="gone"), 'where_thin is "gone"'),
        (lambda: ik.Layer("a", ik.ConstantSurface(0.0), least_thickness=0.0), "least_thickness is 0 m"),
    ],
)
def test_surfaces_that_cannot_be(make, message):
    with pytest.raises(ik.InputError, match=message):
        make()


def wedge(**middle: object) -> ik.Strata:
    """Sand to 4 m at x = 0 and 16 m at x = 1000; clay below it to 10 m; gravel to 0 m."""
    corners = np.array([0.0, 1000, 0, 1000]), np.array([0.0, 0, 1000, 1000])
    ramp = ik.PointSurface(*corners, np.array([4.0, 16, 4, 16]))
    clay = ik.Layer("clay", ik.ConstantSurface(10.0), **{"least_thickness": 0.5, **middle})
    return ik.Strata(
        ik.ConstantSurface(20.0),
        (ik.Layer("sand", ramp, least_thickness=0.5), clay, ik.Layer("gravel", ik.ConstantSurface(0.0))),
    )


AT = np.array([100.0, 900.0]), np.array([500.0, 500.0])  # the ramp is at 5.2 and at 14.8 m


def test_a_thin_layer_is_absent_or_kept_in_borrowed_material():
    gone = wedge().at(*AT)
    npt.assert_allclose(gone.bottom, [[5.2, 14.8], [np.nan, 10.0], [0.0, 0.0]])
    kept = wedge(where_thin="keep").at(*AT)
    npt.assert_allclose(kept.top[1:], [[5.2, 14.8], [4.7, 10.0]])
    npt.assert_array_equal(kept.material, [[0, 0], [2, 1], [2, 2]])  # of gravel where it would be no clay
    site = ik.Site(
        shapely.box(0, 0, 1000, 1000),
        wedge(where_thin="keep"),
        {
            n: ik.Material(n, k, vertical_ratio=2.0, porosity=0.2)
            for n, k in (("sand", 5.0), ("clay", 0.01), ("gravel", 50.0))
        },
    )
    model = ik.place(site, ik.rectangles(site.boundary, cell=200))
    clay = model.grid.cell_number[1]
    npt.assert_allclose(model.horizontal_conductivity[clay[:5]], [50.0, 50.0, 50.0, 0.01, 0.01])
    fitted = ik.Parameter(name="K", of="conductivity", how="set", zone=("material", "clay"))
    assert ParameterSet(model, [fitted]).scalars[0].start == pytest.approx(0.01)


def test_a_base_that_wins_cuts_into_what_lies_over_it():
    """The clay's flat base cuts the sand off where that reaches deeper."""
    cut = wedge(base_wins=True).at(*AT)
    npt.assert_allclose(cut.bottom, [[10.0, 14.8], [np.nan, 10.0], [0.0, 0.0]])
    assert wedge(base_wins=True).crossings == ()


@pytest.mark.parametrize(("parts", "levels"), [(2, [10.0]), ([1, 2, 1], [12.5, 7.5])])
def test_layers_are_split_and_inserted(parts, levels):
    whole = ik.Strata(ik.ConstantSurface(15.0), (ik.Layer("sand", ik.ConstantSurface(5.0)),))
    split = whole.split("sand", parts)
    assert split.names == tuple(f"sand {k + 1}" for k in range(len(levels) + 1))
    npt.assert_allclose(split.at([0.0], [0.0]).bottom.ravel(), [*levels, 5.0])
    more = split.insert(ik.Layer("silt", ik.ConstantSurface(3.0)), below="sand")
    npt.assert_allclose(more.at([0.0], [0.0]).bottom[-1], 3.0)
    with pytest.raises(ik.InputError, match='part of the layer "sand"'):
        split.insert(ik.Layer("silt", ik.ConstantSurface(6.0)), below="sand 1")
    with pytest.raises(ik.InputError, match="cannot be cut"):
        whole.split("sand", [0.5, -0.6])
    with pytest.raises(ik.InputError, match='no layer "snad"'):
        whole.split("snad", 2)


@pytest.mark.parametrize("seed", range(6))
def test_parts_of_layers_are_there_together_and_share_what_the_whole_has(seed):
    """Several layers in parts at once, thin, crossing, kept or absent: as without parts, cut in the same shares."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(0, 1000, (2, 40))
    layers = tuple(
        ik.Layer(
            f"layer {k}",
            ik.PointSurface(x, y, -2.0 * k + rng.uniform(-2, 2, 40)),
            least_thickness=rng.uniform(0.2, 1.0),
            where_thin=rng.choice(["absent", "keep"]),
            base_wins=bool(rng.integers(2)),
        )
        for k in range(1, 6)
    )
    whole = ik.Strata(ik.ConstantSurface(0.0), layers)
    shares = [rng.uniform(0.2, 3.0, rng.integers(1, 5)) for _ in layers]
    cut = whole
    for layer, parts in zip(layers, shares, strict=True):
        cut = cut.split(layer.name, parts)
    at = rng.uniform(0, 1000, (2, 500))
    expected, found = whole.at(*at), cut.at(*at)
    assert np.isnan(expected.top).any()
    for k, parts in enumerate(shares):
        mine = [j for j, n in enumerate(cut.whole_names) if n == f"layer {k + 1}"]
        thickness = expected.top[k] - expected.bottom[k]
        for j, share in zip(mine, parts / parts.sum(), strict=True):
            npt.assert_allclose(found.top[j] - found.bottom[j], share * thickness, atol=1e-12)
        npt.assert_array_equal(found.top[mine[0]], expected.top[k])
        npt.assert_array_equal(found.bottom[mine[-1]], expected.bottom[k])
        lent = np.array([whole.names.index(n) for n in cut.whole_names])[found.material[mine]]
        npt.assert_array_equal(lent, np.broadcast_to(expected.material[k], lent.shape))


def test_a_lens_is_told_its_cure_and_what_lies_beyond_the_points():
    """Clay whose base lies above that of the sand at most points, as beside a lens; points in the middle only."""
    x, y = np.meshgrid(np.linspace(200, 800, 7), np.linspace(200, 800, 7))
    x, y = x.ravel(), y.ravel()
    lens = ik.PointSurface(
        x, y, 12.0 - 6.0 * np.exp(-(((x - 500) / 120) ** 2) - ((y - 500) / 120) ** 2), name="lens.csv"
    )
    sand, gravel = ik.Layer("sand", ik.ConstantSurface(10.0)), ik.Layer("gravel", ik.ConstantSurface(0.0))

    def site(base, **options):
        layers = (sand, ik.Layer("clay", base, **options), gravel)
        strata = ik.Strata(ik.ConstantSurface(20.0), layers)
        rain = ik.Recharge(name="rain", shape=BOX, rate=1e-3)
        lake = ik.FixedHead(name="lake", shape=shapely.Point(500, 500).buffer(130), head=18.0)
        return ik.Site(
            BOX, strata, dict.fromkeys(strata.names, ik.Material("any", 5.0)), features=(rain, lake)
        )

    mesh = ik.rectangles(BOX, cell=100)
    with pytest.raises(ik.InputError, match=r'never_above = "sand".*base_wins = true'):
        ik.place(site(lens), mesh)
    model = ik.place(site(BoundedSurface(lens, below=sand.base)), mesh)
    assert 0 < len(model.grid.within_layer[1]) < 30
    found = str(ik.check(model))
    assert "64% of the area lies beyond the data points" in found
    assert "takes the value on the rim" in found
    row = model.placed.set_index("feature").loc["lake"]
    assert row["drawn"] == pytest.approx(np.pi * 130**2, rel=0.01)
    assert row["met"] == model.grid.cells.area[model.term("fixed head").cells].sum()


@pytest.mark.parametrize("method", ["inverse_distance", "nearest", "kriging"])
def test_points_in_one_line_are_looked_at_all_the_same(method):
    """A line of bores askew: methods that need no triangles read it, and the check says that the area lies beyond."""
    x = np.linspace(100, 900, 9)
    base = ik.PointSurface(x, 50 + 0.7 * x, 4 + x / 500, method=method, name="line.csv")
    strata = ik.Strata(ik.ConstantSurface(20.0), (ik.Layer("sand", base),))
    lake = ik.FixedHead(name="lake", shape=shapely.Point(500, 500), head=18.0)
    site = ik.Site(BOX, strata, {"sand": ik.Material("sand", 5.0)}, features=(lake,))
    assert "100% of the area lies beyond" in str(ik.check(ik.place(site, ik.rectangles(BOX, cell=100))))
