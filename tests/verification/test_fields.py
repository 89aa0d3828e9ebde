"""Random fields against the variogram that they are to have."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pytest
import shapely
from scipy.spatial import KDTree
from scipy.stats import chi2
from shapely import Point, box

import inkhorn as ik
from inkhorn.fields import FIELD_METHODS

RUNS = 1000


def rectangles(cell=25.0, layers=(10.0, 0.0), rotation=0.0):
    return ik.layered(ik.rectangles((0, 0, 750, 500), cell=cell, rotation=rotation), list(layers))


def split():
    return ik.layered(
        ik.split_in_four((0, 0, 800, 480), cell=40, near=[(Point(300, 200), 10.0)]), [10.0, 0.0]
    )


def voronoi():
    return ik.layered(ik.voronoi(box(0, 0, 700, 500), cell=25), [10.0, 0.0])


GRIDS = {
    "rectangles": rectangles,
    "turned": lambda: rectangles(rotation=20.0),
    "split": split,
    "voronoi": voronoi,
}
CURVES = {
    "exponential": {}, "spherical": {}, "gaussian": {}, "matern": {"smoothness": 1.0}, "rougher": {"smoothness": 0.3},
}  # fmt: skip


def curve_of(kind, **more):
    name = "matern" if kind == "rougher" else kind
    options = {"length": 120.0, "across": 60.0, "direction": 30.0, "nugget": 0.1, **CURVES[kind], **more}
    return ik.Variogram.of_lengths(name, 0.8, **options)


def drawn(maker, seed=6):
    return np.array([maker.normal(np.random.SeedSequence([seed, k])) for k in range(RUNS)]) - maker.middle


def off_by(maker, curve, fields):
    """By how many standard errors mean, variance and half mean squares along four directions are off."""
    x, y = maker.grid.cells.x, maker.grid.cells.y

    def errors(per_field, expected):
        return (per_field.mean() - expected) / (per_field.std(ddof=1) / np.sqrt(RUNS))

    found = [errors(fields.mean(axis=1), 0.0), errors((fields**2).mean(axis=1), curve.sill + curve.nugget)]
    size, tree = float(np.median(np.sqrt(maker.grid.cells.area))), KDTree(np.column_stack([x, y]))
    for angle in np.deg2rad([0.0, 45.0, 90.0, 135.0]):
        for lag in (1, 2, 4, 6, 9):
            way = lag * size * np.array([np.cos(angle), np.sin(angle)])
            far, other = tree.query(np.column_stack([x, y]) + way)
            one = np.flatnonzero((far < 0.5 * lag * size) & (other != np.arange(len(x))))
            other = other[one]
            if len(one) < 20:
                continue
            apart = np.linalg.norm(curve.stretched(x[other] - x[one], y[other] - y[one]), axis=1)
            squares = 0.5 * ((fields[:, other] - fields[:, one]) ** 2).mean(axis=1)
            found.append(errors(squares, float((curve.at(apart) + curve.nugget).mean())))
    return np.array(found)


EVERY = [
    (grid, kind, method)
    for grid in GRIDS
    for kind in CURVES
    for method in FIELD_METHODS
    if not (grid == "voronoi" and method == "circulant")
    and not (method == "sequential" and kind in ("gaussian", "spherical"))
]
QUICK = {
    ("rectangles", "exponential", "circulant"),
    ("split", "spherical", "circulant"),
    ("voronoi", "rougher", "sequential"),
}


@pytest.mark.parametrize(
    ("grid", "kind", "method"),
    [pytest.param(*e, marks=() if e in QUICK else pytest.mark.slow) for e in EVERY],
)
def test_a_thousand_fields_have_the_mean_and_the_variogram_that_was_asked_for(grid, kind, method):
    curve = curve_of(kind)
    maker = ik.FieldMaker(GRIDS[grid](), ik.RandomField(mean=3.0, variogram=curve, method=method, waves=300))
    assert maker.methods == (method,)
    off = off_by(maker, curve, drawn(maker))
    assert np.abs(off).max() < 3.5, off.round(2)


@pytest.mark.parametrize("layers", [(9.0, 6.0, 3.0, 0.0), (9.0, 8.0, 4.0, 0.0)], ids=["even", "uneven"])
def test_layers_are_alike_by_their_height_where_there_is_a_vertical_range(layers):
    grid = ik.layered(ik.rectangles((0, 0, 300, 200), cell=20), list(layers))
    curve = ik.Variogram.of_lengths("exponential", 1.0, length=60.0, vertical=3.0)
    fields = drawn(ik.FieldMaker(grid, ik.RandomField(mean=1.0, variogram=curve, method="circulant")))
    layer, z = grid.cells.layer, grid.cells.z
    for a, b in ((0, 0), (0, 1), (1, 2), (0, 2)):
        product = (fields[:, layer == a] * fields[:, layer == b]).mean(axis=1)
        apart = abs(z[layer == a][0] - z[layer == b][0]) / curve.vertical
        expected = 1.0 - float(curve.at(np.array([apart]))[0])
        assert abs(product.mean() - expected) < 3.5 * product.std() / np.sqrt(RUNS)
    alone = drawn(
        ik.FieldMaker(grid, ik.RandomField(mean=1.0, variogram=curve_of("exponential", nugget=0.0)))
    )
    product = (alone[:, layer == 0] * alone[:, layer == 1]).mean(axis=1)
    assert abs(product.mean()) < 3.5 * product.std() / np.sqrt(RUNS)


@pytest.mark.parametrize(
    ("grid", "method"),
    [
        ("rectangles", "circulant"),
        pytest.param("rectangles", "spectral", marks=pytest.mark.slow),
        ("voronoi", "cholesky"),
    ],
)
def test_means_over_cells_vary_less_by_what_is_within_a_cell(grid, method):
    made = (
        rectangles(50.0)
        if grid == "rectangles"
        else ik.layered(ik.voronoi(box(0, 0, 700, 500), cell=60), [10.0, 0.0])
    )
    curve = ik.Variogram.of_lengths("exponential", 0.8, length=40.0)
    field = ik.RandomField(mean=1.0, variogram=curve, method=method, support="averages", waves=300)
    cell = made.mesh.polygons()[made.mesh.n_cells // 2]
    numbers = np.random.default_rng(1)
    low, high = np.array(cell.bounds[:2]), np.array(cell.bounds[2:])
    points = low + (high - low) * numbers.random((2, 40_000, 2))
    inside = [p[shapely.contains_xy(cell, *p.T)] for p in points]
    n = min(len(p) for p in inside)
    apart = np.linalg.norm(inside[0][:n] - inside[1][:n], axis=1) / curve.range
    expected = curve.sill - float(curve.at(apart).mean())
    own = drawn(ik.FieldMaker(made, field))[:, made.mesh.n_cells // 2] ** 2
    assert expected < 0.7 * curve.sill
    assert abs(own.mean() - expected) < 3.5 * own.std() / np.sqrt(RUNS) + 0.01 * curve.sill


@pytest.mark.parametrize("nugget", [0.0, 0.2])
@pytest.mark.parametrize(
    ("grid", "method"),
    [
        ("rectangles", "circulant"),
        ("turned", "cholesky"),
        ("voronoi", "sequential"),
        pytest.param("split", "spectral", marks=pytest.mark.slow),
    ],
)
def test_measured_points_are_honoured_and_the_rest_varies_as_kriging_says(grid, method, nugget):
    made, curve = GRIDS[grid](), curve_of("exponential", nugget=nugget)
    x, y, values = (
        np.array([120.0, 333.0, 510.0, 140.0]),
        np.array([90.0, 217.0, 410.0, 300.0]),
        np.array([2.0, 9.0, 30.0, 5.0]),
    )
    if grid == "turned":
        x, y = (v - 60.0 if k == 0 else v + 60.0 for k, v in enumerate((x, y)))
    points = ik.MeasuredPoints(x, y, values, "layer 1")
    field = ik.RandomField(mean=6.0, variogram=curve, method=method, measured=points, waves=300)
    maker = ik.FieldMaker(made, field)
    home = made.cell_number[0, made.mesh.locate(x, y)]
    npt.assert_allclose([maker.draw(s)[home] for s in range(3)], np.tile(values, (3, 1)), rtol=1e-10)
    fields = drawn(maker)
    near = made.cell_number[0, made.mesh.locate(x[:2] + 40.0, y[:2] + 10.0)]
    where = curve.stretched(made.cells.x, made.cells.y)
    system = curve.between(where[home], where[home]) + nugget * np.eye(4)
    across = curve.between(where[near], where[home])
    weights = np.linalg.solve(system, across.T).T
    mean = weights @ (np.log(values) - np.log(6.0))
    left = curve.sill + nugget - (weights * across).sum(axis=1)
    off = (fields[:, near].mean(axis=0) - mean) / np.sqrt(left / RUNS)
    assert np.abs(off).max() < 3.5
    own = fields[:, near].var(axis=0, ddof=1)
    assert np.abs(own / left - 1.0).max() < 3.5 * np.sqrt(2.0 / RUNS)
    npt.assert_allclose(maker.expected()[near] - np.log(6.0), mean, atol=1e-8)
    unit = np.zeros((made.n_cells, 2))
    unit[near, [0, 1]] = 1.0
    told = maker.covariance_times(unit)[near, [0, 1]]
    npt.assert_allclose(told, left, rtol=0.02 if method == "sequential" else 1e-6)


@pytest.mark.parametrize(
    "method", ["circulant", pytest.param("spectral", marks=pytest.mark.slow), "cholesky"]
)
def test_means_over_cells_are_conditioned_by_the_covariance_of_points_with_cells(method):
    grid, curve = rectangles(50.0), ik.Variogram.of_lengths("exponential", 0.8, length=60.0, nugget=0.05)
    points = ik.MeasuredPoints([110.0, 330.0], [90.0, 260.0], [2.0, 30.0], "layer 1")
    field = ik.RandomField(
        mean=6.0, variogram=curve, method=method, support="averages", measured=points, waves=300
    )
    maker = ik.FieldMaker(grid, field)
    fields = drawn(maker)
    variance = np.diag(maker.covariance_times(np.eye(grid.n_cells)))
    off = (fields.mean(axis=0) - (maker.expected() - maker.middle)) / np.sqrt(variance / RUNS)
    chance = chi2.sf(float(np.sort(off**2)[-1]), 1) * len(off)
    assert chance > 1e-3
    home = grid.mesh.locate(points.x, points.y)
    ratio = fields.var(axis=0, ddof=1) / variance
    assert np.abs(ratio - 1.0).max() < 4.5 * np.sqrt(2.0 / RUNS)
    assert (variance[home] > 0.02).all()  # a mean is not the point in it
    assert (variance[home] < 0.6 * variance.max()).all()


def test_zones_have_nothing_to_do_with_each_other_and_a_mean_may_be_found_from_points():
    grid = rectangles()
    zone = (grid.cells.x > 375.0).astype(np.int64)
    curve = ik.Variogram.of_lengths("exponential", 1.0, length=300.0)
    maker = ik.FieldMaker(grid, ik.RandomField(mean=1.0, variogram=curve, apart_by="soil"), zones=zone)
    fields = drawn(maker)
    row = np.abs(grid.cells.y - 262.5) < 1.0
    left, right = (np.flatnonzero(row & (np.abs(grid.cells.x - v) < 1.0))[0] for v in (362.5, 387.5))
    beside = np.flatnonzero(row & (np.abs(grid.cells.x - 337.5) < 1.0))[0]
    assert abs(np.corrcoef(fields[:, left], fields[:, right])[0, 1]) < 0.11
    assert np.corrcoef(fields[:, left], fields[:, beside])[0, 1] > 0.85
    points = ik.MeasuredPoints([100.0, 650.0], [100.0, 400.0], [2.0, 8.0], "layer 1")
    short = ik.Variogram.of_lengths("exponential", 1e-4, length=30.0)
    found = ik.FieldMaker(grid, ik.RandomField(variogram=short, measured=points)).draw(0)
    npt.assert_allclose(np.log(found).mean(), np.log(4.0), atol=0.02)


def test_a_seed_makes_the_same_bits_and_the_experimental_variogram_is_that_of_the_model():
    grid, curve = rectangles(), curve_of("exponential")
    field = ik.RandomField(mean=3.0, variogram=curve)
    one, other = ik.FieldMaker(grid, field), ik.FieldMaker(rectangles(), field)
    npt.assert_array_equal(one.draw(3), other.draw(3))
    assert not np.allclose(one.draw(3), one.draw(4))
    from inkhorn.fields.experimental import expected_curve

    found = ik.experimental_variogram(
        grid.cells.x, grid.cells.y, drawn(one)[:200].T, reach=250.0, classes=8, angle=30.0, within=10.0
    )
    npt.assert_allclose(found.half_square, expected_curve(curve, found.distance, 30.0), rtol=0.06)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: ik.RandomField(variogram=ik.Variogram("power"), mean=1.0), "rises without end"),
        (lambda: ik.RandomField(variogram=curve_of("exponential"), mean=-1.0), "no logarithm"),
        (lambda: ik.RandomField(variogram=curve_of("exponential"), mean=1.0, method="fast"), 'method is "fast"'),
        (
            lambda: ik.FieldMaker(
                voronoi(), ik.RandomField(variogram=curve_of("gaussian"), mean=1.0, method="circulant")
            ),
            "no even lattice. Those that can: spectral, cholesky",
        ),
        (
            lambda: ik.FieldMaker(
                rectangles(),
                ik.RandomField(
                    variogram=curve_of("exponential"), measured=ik.MeasuredPoints([9e3], [0.0], [1.0], "layer 1")
                ),
            ),
            "measured point 1 at x=9000, y=0 lies in no cell",
        ),
        (
            lambda: ik.FieldMaker(
                rectangles(),
                ik.RandomField(
                    variogram=curve_of("exponential"), mean=1.0,
                    measured=ik.MeasuredPoints([101.0, 109.0], [101.0, 109.0], [1.0, 2.0], "layer 1"),
                ),
            ),
            "measured at one place and both exact",
        ),
        (lambda: ik.MeasuredPoints([1.0], [1.0, 2.0], [1.0], "a"), "x has 1 numbers and y has 2"),
        (lambda: ik.Variogram.of_lengths("linear", 1.0, length=5.0), "no correlation length"),
        (lambda: ik.Edit("base", ik.RandomField(variogram=curve_of("exponential"), mean=1.0)), "inside out"),
    ],
)  # fmt: skip
def test_what_cannot_be_a_field_is_refused(make, message):
    with pytest.raises(ik.InputError, match=message):
        make()


@pytest.mark.parametrize(
    ("kind", "smoothness"),
    [
        ("exponential", 1.0),
        ("spherical", 1.0),
        ("gaussian", 1.0),
        *(("matern", s) for s in (0.3, 0.5, 1.0, 1.5, 2.5, 4.0)),
    ],
)
def test_a_correlation_length_is_the_area_below_the_curve_and_the_range_is_where_it_is_far(kind, smoothness):
    from scipy.integrate import quad

    curve = ik.Variogram.of_lengths(kind, 2.0, length=70.0, smoothness=smoothness)

    def correlation(h):
        return 1.0 - float(curve.at(np.array([h / curve.range]))[0]) / 2.0

    area = (
        quad(correlation, 0.0, curve.range, limit=400)[0]
        + quad(correlation, curve.range, 60 * 70.0, limit=400)[0]
    )
    npt.assert_allclose(area, 70.0, rtol=2e-5)
    npt.assert_allclose(curve.length, 70.0, rtol=1e-10)
    far = correlation(curve.range)
    npt.assert_allclose(
        far, 0.0 if kind == "spherical" else np.exp(-3.0) if kind != "matern" else 0.05, atol=1e-9
    )


def test_matern_of_one_half_is_exponential_and_lengths_may_be_longer_across():
    h = np.linspace(0.0, 2.0, 50)
    half = ik.Variogram.of_lengths("matern", 1.0, length=50.0, smoothness=0.5)
    plain = ik.Variogram.of_lengths("exponential", 1.0, length=50.0)
    npt.assert_allclose(half.at(h * 150.0 / half.range), plain.at(h), atol=1e-12)
    across = ik.Variogram.of_lengths("exponential", 1.0, length=50.0, across=200.0, direction=20.0)
    turned = ik.Variogram.of_lengths("exponential", 1.0, length=200.0, across=50.0, direction=110.0)
    x, y = np.random.default_rng(0).uniform(-300, 300, (2, 30))
    npt.assert_allclose(across.covariance(x, y), turned.covariance(x, y), atol=1e-12)


@pytest.mark.parametrize("kind", ["exponential", "rougher", "matern"])
@pytest.mark.parametrize("length", [40.0, 400.0])
def test_values_drawn_one_after_the_other_have_the_covariance_of_the_variogram(kind, length):
    grid, curve = voronoi(), curve_of(kind, length=length, across=length / 3.0, nugget=0.0)
    maker = ik.FieldMaker(grid, ik.RandomField(mean=1.0, variogram=curve, method="sequential"))
    cells = np.array([0, 100, 277, grid.n_cells - 1])
    unit = np.zeros((grid.n_cells, len(cells)))
    unit[cells, np.arange(len(cells))] = 1.0
    at = curve.stretched(grid.cells.x, grid.cells.y)
    npt.assert_allclose(maker.covariance_times(unit), curve.between(at, at[cells]), atol=0.012 * curve.sill)


@pytest.mark.parametrize(
    ("grid", "kind", "expected"),
    [
        ("rectangles", "exponential", "circulant"), ("turned", "gaussian", "circulant"),
        ("split", "spherical", "circulant"),
        ("voronoi", "exponential", "cholesky"),
    ],
)  # fmt: skip
def test_the_method_follows_from_the_mesh(grid, kind, expected):
    field = ik.RandomField(mean=1.0, variogram=curve_of(kind))
    assert ik.FieldMaker(GRIDS[grid](), field).methods == (expected,)


def test_many_cells_without_a_lattice_are_drawn_one_after_the_other_or_as_waves():
    grid = ik.layered(ik.voronoi(box(0, 0, 900, 700), cell=13), [10.0, 0.0])
    assert grid.n_cells > 3000
    short = ik.Variogram.of_lengths("exponential", 1.0, length=40.0)
    assert ik.FieldMaker(grid, ik.RandomField(mean=1.0, variogram=short)).methods == ("sequential",)
    means = ik.RandomField(mean=1.0, variogram=short, support="averages")
    assert ik.FieldMaker(grid, means).methods == ("spectral",)
    wide = ik.FieldMaker(
        rectangles(50.0), ik.RandomField(mean=1.0, variogram=curve_of("exponential", length=20.0))
    )
    assert "wider than the correlation length" in wide.notes[0]


def test_a_field_may_be_no_logarithm_have_a_trend_and_honour_uncertain_points_in_part():
    grid, curve = rectangles(), ik.Variogram.of_lengths("exponential", 0.04, length=80.0)
    trend = ik.PointSurface(
        np.array([0.0, 750.0, 0.0, 750.0]), np.array([0.0, 0.0, 500.0, 500.0]), np.array([1.0, 4.0, 1.0, 4.0])
    )
    field = ik.RandomField(mean=trend, variogram=curve, logarithmic=False)
    fields = np.array([ik.FieldMaker(grid, field).draw(s) for s in range(300)])
    npt.assert_allclose(
        fields.mean(axis=0), trend.at(grid.cells.x, grid.cells.y), atol=4.5 * 0.2 / np.sqrt(300)
    )
    points = ik.MeasuredPoints([375.0], [250.0], [9.0], "layer 1", deviations=0.2)
    maker = ik.FieldMaker(grid, ik.RandomField(mean=3.0, variogram=curve, logarithmic=False, measured=points))
    home = grid.mesh.locate([375.0], [250.0])
    there = np.array([maker.normal(s)[home][0] for s in range(600)])
    npt.assert_allclose(
        there.mean(), 6.0, atol=3.5 * 0.2 / np.sqrt(2 * 600)
    )  # halfway: it is as uncertain as the field
    npt.assert_allclose(there.std(), 0.2 / np.sqrt(2.0), rtol=0.12)


def test_layers_of_one_bed_share_their_measured_points_and_absent_cells_have_no_value():
    strata = [12.0, 8.0, 4.0, np.where(np.arange(600) % 30 < 8, 4.0, 0.0)]
    grid = ik.layered(ik.rectangles((0, 0, 750, 500), cell=25), strata, names=["sand", "sand below", "clay"])
    assert grid.n_cells < 3 * 600
    points = ik.MeasuredPoints([310.0, 610.0], [210.0, 310.0], [2.0, 8.0], ["sand", "clay"])
    curve = ik.Variogram.of_lengths("exponential", 0.5, length=80.0, vertical=3.0)
    maker = ik.FieldMaker(grid, ik.RandomField(mean=4.0, variogram=curve, measured=points))
    drawn = maker.draw(1)
    homes = [grid.cell_number[k, grid.mesh.locate([x], [y])[0]] for k, x, y in ((0, 310, 210), (2, 610, 310))]
    npt.assert_allclose(drawn[homes], [2.0, 8.0], rtol=1e-10)
    assert drawn.shape == (grid.n_cells,)
    with pytest.raises(ik.InputError, match="lies in no cell of the clay"):
        ik.FieldMaker(
            grid,
            ik.RandomField(
                mean=4.0, variogram=curve, measured=ik.MeasuredPoints([60.0], [210.0], [2.0], "clay")
            ),
        )
