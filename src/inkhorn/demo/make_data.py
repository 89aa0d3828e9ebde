"""Make the Quillmere demo data: ``python -m inkhorn.demo.make_data [FOLDER]``.

The levels in the bores come from a "truth" that the project file does not know: each layer a random
conductivity around its own mean, solved on a finer grid, with seasons and dipping errors on top. The
truth's means are kept in ``truth.csv``, so that a calibration can be judged against what is true.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration import level_table, seen_bores
from inkhorn.flow import FlowResult, solve_flow
from inkhorn.model import Model, place
from inkhorn.model.terms import HORIZONTAL
from inkhorn.project import read_project
from inkhorn.site import Bore
from inkhorn.space import Grid, RectangularMesh, rectangles

SEED = 20210406
CLOSED, CLEAN = "2027-04-01", "2042-04-01"  # the depot, and the ground below it
LAKE_LEVEL = 41.2
TRUE_CONDUCTIVITY = {
    "peat": 0.9,
    "sand": 14.0,
    "lake clay": 0.004,
    "gravel": 42.0,
    "upper limestone": 5.0,
    "lower limestone": 1.6,
}
TRUE_RECHARGE_MULTIPLIER = 1.12
Array = NDArray[np.float64]


def ring(x: float, y: float, rx: float, ry: float, waves: list[tuple[int, float, float]], n: int = 90) -> Any:
    """A closed wavy outline around a centre."""
    import shapely

    angle = 2.0 * np.pi * np.arange(n) / n
    r = 1.0 + sum(size * np.cos(k * angle + phase) for k, size, phase in waves)
    return shapely.Polygon(
        np.round(np.column_stack([x + rx * r * np.cos(angle), y + ry * r * np.sin(angle)]), 1)
    )


def outlines() -> dict[str, Any]:
    """Boundary, lake, brook, depot, and the low ground about lake and brook where water comes to the surface."""
    import shapely

    boundary = ring(3000, 2500, 2750, 2250, [(2, 0.04, 0.5), (3, 0.05, 1.0), (5, 0.02, 2.0)])
    lake = ring(2850, 2200, 620, 430, [(2, 0.10, 1.0), (3, 0.07, 0.3), (5, 0.03, 1.4)])
    brook = shapely.LineString(
        [(2330, 2010), (2180, 1900), (2080, 1720), (1870, 1600), (1690, 1420), (1520, 1340), (1340, 1130), (1160, 1020),
         (1010, 860)]
    )  # fmt: skip
    depot = shapely.Polygon([(4390, 3580), (4520, 3640), (4480, 3730), (4350, 3670)])
    low = shapely.buffer(shapely.union(lake, brook), 900.0, quad_segs=4)
    wet = shapely.difference(shapely.intersection(low, boundary), lake)
    return {"boundary": boundary, "lake": lake, "brook": brook, "depot": depot, "wet_ground": wet}


def ground_level(x: Array, y: Array, shapes: dict[str, Any]) -> Array:
    """Elevation of the ground, the lake's bed in the lake."""
    import shapely

    points = shapely.points(x, y)
    away = shapely.distance(points, shapes["lake"])
    level = LAKE_LEVEL + 0.5 + 7.0 * (away / 1500.0) ** 0.8
    level += 0.5 * np.sin(x / 410.0) * np.cos(y / 530.0) * np.tanh(away / 400)
    polder = np.exp(-((x - 4000.0) ** 2 + (y - 1350.0) ** 2) / (2.0 * 450.0**2))
    level -= 2.6 * polder
    along = shapely.line_locate_point(shapes["brook"], points, normalized=True)
    valley = LAKE_LEVEL + 0.4 - 2.3 * along + 0.012 * shapely.distance(points, shapes["brook"])
    level = np.where(away > 0, np.minimum(level, valley + 1.0e-3 * away), level)
    depth = shapely.distance(points, shapely.boundary(shapes["lake"]))
    return np.where(away > 0, level, LAKE_LEVEL - 0.4 - 2.2 * np.tanh(depth / 150.0))


def strata_table(shapes: dict[str, Any], rng: np.random.Generator) -> dict[str, Array]:
    """Boreholes, hand augers along the shore and soundings in the lake: where each layer ends below."""
    import shapely

    x, y = np.meshgrid(np.arange(100.0, 6000.0, 225.0), np.arange(100.0, 5000.0, 225.0))
    x = np.round(x.ravel() + rng.uniform(-85, 85, x.size), 1)
    y = np.round(y.ravel() + rng.uniform(-85, 85, y.size), 1)
    points = shapely.points(x, y)
    rings = [shapely.get_exterior_ring(shapely.buffer(shapes["lake"], away)) for away in (5.0, -75.0)]
    near = (shapely.distance(points, shapes["boundary"]) < 350) & (
        shapely.distance(points, shapely.union(*rings)) > 90
    )
    spots = [shapely.line_interpolate_point(r, np.arange(0.0, r.length - 40.0, 120.0)) for r in rings]
    on_rings = np.round(shapely.get_coordinates(np.concatenate(spots)), 1)
    x, y = np.concatenate([x[near], on_rings[:, 0]]), np.concatenate([y[near], on_rings[:, 1]])
    away = shapely.distance(shapely.points(x, y), shapes["lake"])
    ground = ground_level(x, y, shapes)
    peat = np.where(away > 0, 2.2, 0.8) * np.clip(1.0 - away / 750.0, 0.0, 1.0)
    peat_base = ground - np.where(peat > 0.15, peat, 0.0)
    middle = np.hypot((x - 2750) / 1500, (y - 2250) / 1150)
    sand_base = (
        31.5
        + 5.0 * np.hypot((x - 3000) / 2900, (y - 2500) / 2400) ** 2
        + 0.6 * np.sin(x / 600)
        + 0.5 * np.cos(y / 450)
    )
    sand_base = np.minimum(sand_base, peat_base - 2.0)
    clay = 3.2 * np.clip(1.0 - middle**2, 0.0, 1.0)
    clay_base = sand_base - np.where(clay > 0.15, clay, 0.0)
    gravel_base = np.minimum(sand_base - 7.0 - 1.5 * np.sin(x / 800 + 1.0) * np.cos(y / 700), clay_base - 3.0)
    limestone = gravel_base - 18.0 - 2.0 * np.sin(x / 1300) - 1.5 * np.cos(y / 900)
    columns = {"x": x, "y": y, "ground": ground, "peat base": peat_base, "sand base": sand_base,
               "clay base": clay_base, "gravel base": gravel_base, "upper limestone base": limestone}  # fmt: skip
    return {k: np.round(v, 2) for k, v in columns.items()}


def land_use(shapes: dict[str, Any]) -> list[tuple[str, float, Any]]:
    """Heath, meadow and wood, which share the land among them; the wood drinks deep."""
    import shapely

    land = shapely.difference(shapes["boundary"], shapes["lake"])
    wood = shapely.intersection(
        land, shapely.Polygon([(0, 2600), (1500, 2750), (2300, 3300), (2900, 3900), (3000, 5100), (0, 5100)])
    )
    meadow = shapely.intersection(
        shapely.difference(land, wood), shapely.buffer(shapely.union(shapes["lake"], shapes["brook"]), 650)
    )
    heath = shapely.difference(shapely.difference(land, wood), meadow)
    rows = []
    for name, rate, shape in (("wood", 140.0, wood), ("meadow", 270.0, meadow), ("heath", 360.0, heath)):
        parts = [g for g in getattr(shape, "geoms", [shape]) if g.area > 1.0]
        rows += [(name if len(parts) == 1 else f"{name} {k + 1}", rate, g) for k, g in enumerate(parts)]
    return rows


def ditches() -> list[tuple[str, float, Any]]:
    """The polder south-east of the lake."""
    import shapely

    lines = [
        [(3500, 1750), (4000, 1500), (4600, 1300)],
        [(3400, 1450), (3900, 1230), (4450, 1020)],
        [(3700, 1870), (3560, 1400), (3480, 1050)],
        [(4250, 1650), (4120, 1180), (4050, 880)],
    ]
    return [
        (f"ditch {k + 1}", 41.6 + 0.1 * (k % 2), shapely.LineString(line)) for k, line in enumerate(lines)
    ]


def write_shapes(folder: Path, shapes: dict[str, Any]) -> None:
    """Write all shapes as tables of one GeoPackage, in the site's own metres."""
    import warnings

    import geopandas as gpd

    warnings.filterwarnings("ignore", message="'crs' was not provided")
    path = folder / "quillmere.gpkg"
    path.unlink(missing_ok=True)
    tables = {k: gpd.GeoDataFrame({"name": [k]}, geometry=[v]) for k, v in shapes.items()}
    for table, rows, column in (("ditches", ditches(), "level"), ("land_use", land_use(shapes), "recharge")):
        names, values, geometry = zip(*rows, strict=True)
        tables[table] = gpd.GeoDataFrame({"name": names, column: values}, geometry=list(geometry))
    for name, frame in tables.items():
        frame.to_file(path, layer=name, driver="GPKG", engine="pyogrio", mode="a" if path.exists() else "w")


def random_field(mesh: RectangularMesh, length: float, rng: np.random.Generator) -> Array:
    """A standard normal field with a Gaussian covariance, by filtering noise, (n_plan,)."""
    rows, columns = mesh.shape
    ky = np.fft.fftfreq(2 * rows, np.diff(mesh.y_edges)[0])
    kx = np.fft.fftfreq(2 * columns, np.diff(mesh.x_edges)[0])
    filtered = np.exp(-((np.pi * length) ** 2) * (kx**2 + ky[:, None] ** 2) / 2.0)
    field = np.fft.ifft2(np.fft.fft2(rng.standard_normal((2 * rows, 2 * columns))) * filtered).real
    return np.asarray((field / field.std())[:rows, :columns][mesh.present])


def true_model(project: Any, rng: np.random.Generator) -> Model:
    """The site on a finer grid, with random conductivities and the true recharge."""
    mesh = rectangles(project.site.boundary, cell=50.0)
    model = place(project.site, mesh)
    grid: Grid = model.grid
    factor = np.ones(grid.n_cells)
    for k, (name, mean) in enumerate(TRUE_CONDUCTIVITY.items()):
        spread = 0.18 if name == "lake clay" else 0.25
        field = spread * random_field(mesh, 200.0, rng)
        here = grid.cells.layer == k
        plan = grid.cells.plan_cell[here]
        factor[here] = (
            mean / project.site.materials[name].conductivity * np.exp(field[plan] - field[plan].mean())
        )
    truer = model.with_inputs(
        {
            HORIZONTAL: model.horizontal_conductivity * factor,
            "vertical_conductivity": model.vertical_conductivity * factor,
        }
    )
    return truer.with_changes(
        {"recharge.rate": model.inputs_in_time["recharge.rate"] * TRUE_RECHARGE_MULTIPLIER}
    )


def seasons(rng: np.random.Generator) -> tuple[list[str], Array, Array]:
    """Begins of four-week periods over six years, the factor on recharge in each, and that on the gardens' wells.

    Wet winters and dry summers, wetter and drier years; gardens pump from May to August. Over the five years in
    which levels are dipped both have the mean 1.
    """
    days = np.arange(0, 6 * 365, 28)
    dates = np.datetime64("2020-04-07") + days.astype("timedelta64[D]")
    year = np.interp(days, np.arange(7) * 365.25, rng.normal(0.0, 0.25, 7))
    wet = np.maximum(1.0 + 0.8 * np.cos(2.0 * np.pi * (days - 270) / 365.25) + year, 0.05)
    summer = np.where(np.isin(dates.astype("datetime64[M]").astype(int) % 12, (4, 5, 6, 7)), 2.2, 0.4)
    dipped = days >= 364
    return [str(d) for d in dates], wet / wet[dipped].mean(), summer / summer[dipped].mean()


def bores(project: Any, rng: np.random.Generator) -> list[Bore]:
    """Bores spread over the land, in layers that are there on finer and coarser cells."""
    import shapely

    site = project.site
    made: list[Bore] = []
    lake = site.feature("Quillmere").shape
    screened = (
        ["sand"] * 13
        + ["gravel"] * 10
        + ["upper limestone"] * 6
        + ["lower limestone"] * 3
        + ["peat"] * 2
        + ["lake clay"] * 2
    )
    grids = [place(site, rectangles(site.boundary, cell=cell)).grid for cell in (50.0, 100.0, 150.0)]
    while len(made) < len(screened):
        layer = screened[len(made)]
        x, y = np.round(rng.uniform(*np.array(site.boundary.bounds).reshape(2, 2)), 1)
        spot = shapely.Point(x, y)
        apart = min((np.hypot(x - b.x, y - b.y) for b in made), default=1e9)
        inside = site.boundary.contains(spot) and site.boundary.exterior.distance(spot) > 150
        if not inside or apart < 250 or lake.distance(spot) < 80:
            continue
        plans = [int(grid.mesh.locate([x], [y])[0]) for grid in grids]
        if min(plans) >= 0 and all(
            g.cell_number[g.layer_index(layer), p] >= 0 for g, p in zip(grids, plans, strict=True)
        ):
            made.append(Bore(f"Q{len(made) + 1:02d}", float(x), float(y), layer))
    return made


def dipped(flow: FlowResult, places: list[Bore], rng: np.random.Generator) -> list[tuple[str, str, str]]:
    """Levels every two weeks over five years, as bore, date and level, with dipping errors of 2 cm."""
    dates = np.datetime64("2021-04-06", "s") + (np.arange(0, 5 * 365, 14) * 86400).astype("timedelta64[s]")
    empty = np.zeros(len(dates))
    every = [Bore(b.name, b.x, b.y, b.layer, dates=dates, levels=empty) for b in places]
    seen, _ = seen_bores(flow.model, every)
    levels = level_table(flow, seen)
    found = levels["computed [m]"] + rng.normal(0.0, 0.02, len(levels))
    days = levels["date"].astype(str).str[:10]
    return [(n, d, f"{z:.2f}") for n, d, z in zip(levels["bore"], days, found, strict=True)]


def pumping_tests(model: Model, rng: np.random.Generator) -> list[tuple[Any, ...]]:
    """Conductivities by pumping tests with their errors, as name, place, layer, value, deviation."""
    cells, deviation = model.grid.cells, 0.15
    rows: list[tuple[Any, ...]] = []
    for layer, count in (("sand", 6), ("gravel", 7), ("upper limestone", 4)):
        here = np.flatnonzero(
            (cells.layer == model.grid.layer_index(layer)) & (np.hypot(cells.x - 3900, cells.y - 3000) < 1500)
        )
        for cell in rng.choice(here, count, replace=False):
            found = model.horizontal_conductivity[cell] * np.exp(deviation * rng.standard_normal())
            name = f"test {len(rows) + 1}"
            place = f"{cells.x[cell]:.1f}", f"{cells.y[cell]:.1f}"
            rows.append((name, *place, layer, f"{found:.3g}", deviation))
    return rows


def write_rows(path: Path, header: str, rows: list[Any]) -> None:
    """Write a CSV file."""
    path.write_text(
        "\n".join([header, *(",".join(str(v) for v in row) for row in rows)]) + "\n", encoding="utf-8"
    )


def write_depot(folder: Path) -> None:
    """Write what seeps in at the salt depot winter by winter, and how it is cleaned up once the depot is closed."""
    import shapely

    winters = [
        (f"{year}-{day}", *c)
        for year in range(2005, 2086)
        for day, c in (
            ("04-01", (2600, 1800)),
            ("11-01", (18000, 12400)),
        )  # as much salt where winters are wet
    ]
    rows = [(day, c, c if day < CLOSED else 14, wet) for day, c, wet in winters]
    write_rows(folder / "depot.csv", "date,open [mg/l],closed [mg/l],wet winters [mg/l]", rows)
    wells = {"brine well": (4340, 3560, 40.0, 28.0), "return well": (3900, 3900, 44.0, 35.0)}
    pumped = [
        (name, day, *((rate, 0) if name == "brine well" else (0, rate)))
        for name in wells
        for day, rate in (("2005-10-01", 0), (CLOSED, 2.0), (CLEAN, 0))
    ]
    write_rows(folder / "clean_up.csv", "name,date,abstraction [l/s],injection [l/s]", pumped)
    places = [
        {
            "type": "Feature",
            "properties": {"name": name, "screen_top": top, "screen_bottom": bottom},
            "geometry": json.loads(shapely.to_geojson(shapely.Point(x, y))),
        }
        for name, (x, y, top, bottom) in wells.items()
    ]
    collection = json.dumps({"type": "FeatureCollection", "features": places}, indent=1)
    (folder / "clean_up.geojson").write_text(collection + "\n", encoding="utf-8")


def make(folder: Path) -> None:
    """Write every data file of the demo; ``site.toml`` must be there."""
    rng = np.random.default_rng(SEED)
    shapes = outlines()
    strata = strata_table(shapes, rng)
    write_rows(
        folder / "strata.csv", ",".join(f"{k} [m]" for k in strata), list(zip(*strata.values(), strict=True))
    )
    write_shapes(folder, shapes)
    wells = [
        ("hatchery", 3700, 2900, 31.0, 14.0, 24.0),
        ("gardens north", 4650, 2850, 31.0, 26.0, 6.5),
        ("gardens south", 4300, 2250, 31.0, 25.5, 5.0),
    ]
    write_rows(
        folder / "wells.csv", "name,x [m],y [m],screen_top [m],screen_bottom [m],abstraction [l/s]", wells
    )
    write_rows(folder / "bores.csv", "name,x [m],y [m],layer", [("first", 3000, 3000, "gravel")])
    write_rows(folder / "levels.csv", "name,date,level [m]", [("first", "2021-04-06", 42)])

    dates, wet, summer = seasons(np.random.default_rng(SEED + 1))
    factors = [(d, f"{f:.3f}") for d, f in zip(dates, wet, strict=True)]
    write_rows(folder / "seasons.csv", "date,recharge", factors)
    rates = [
        (name, d, f"{mean * f:.2f}")
        for name, _, _, _, _, mean in wells[1:]
        for d, f in zip(dates, summer, strict=True)
    ]
    write_rows(folder / "rates.csv", "name,date,abstraction [l/s]", rates)

    write_depot(folder)

    project = read_project(folder / "site.toml", variant="seasons")
    places = bores(project, np.random.default_rng(SEED + 3))
    true = true_model(project, rng)
    tests = pumping_tests(true, np.random.default_rng(SEED + 4))
    write_rows(folder / "pumping_tests.csv", "name,x [m],y [m],layer,conductivity [m/day],deviation", tests)
    flow = solve_flow(true)
    dips = dipped(flow, places, rng)
    write_rows(folder / "bores.csv", "name,x [m],y [m],layer", [(b.name, b.x, b.y, b.layer) for b in places])
    write_rows(folder / "levels.csv", "name,date,level [m]", dips)
    truth = [*TRUE_CONDUCTIVITY.items(), ("recharge", TRUE_RECHARGE_MULTIPLIER)]
    write_rows(folder / "truth.csv", "parameter,truth", truth)
    print(f"{folder}: {len(places)} bores, {len(dips)} levels; {flow}")


if __name__ == "__main__":
    make(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "data")
