"""Particle paths: starts, choices, what follows from them, and what is refused."""

from __future__ import annotations

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely

import inkhorn as ik
from inkhorn.model import terms
from tests.conftest import held, rain, strip


def passing_bore(rate=0.0):
    """An idle well through three layers, the lowest under pressure: water rises in it from below."""
    grid = ik.layered(ik.rectangles((0, 0, 300, 300), cell=20), [30.0, 20.0, 10.0, 0.0])
    middle = grid.mesh.locate([151.0], [148.0])[0]
    cells = grid.cell_number[:, middle]
    outer = grid.outer_faces
    head = np.where(grid.cells.layer[outer.cell] == 2, 60.0, 40.0)
    rim = terms.FixedHeadTerm(
        cells=outer.cell, head=head, crossing="side", outer_face=np.arange(len(outer)),
        way=outer.length / outer.distance, feature_names=("rim",),
    )  # fmt: skip
    well = terms.WellTerm(cells=cells, connection=30.0, rate=rate, feature_names=("bore",), x=151.0, y=148.0)
    model = ik.Model(
        grid, 5.0, vertical_conductivity=1e-4, porosity=0.2, terms=[rim, well], water_table=ik.WaterTable(confined=True)
    )  # fmt: skip
    return ik.solve_flow(model)


def test_paths_through_a_bore_end_there_or_go_on():
    """Forward they enter from below and come out above, by share of what each layer gets; at no cost of time."""
    flow = passing_bore()
    water = flow.term_flows()
    gets = water[(water["term"] == "well") & (water["flow [m³/day]"] > 0)].set_index("layer")["flow [m³/day]"]
    start = ik.starts_in_area(
        flow, shapely.Point(151, 148).buffer(4.0), layers=["layer 3"], count=400, seed=1, height=0.5
    )
    ends = ik.trace(flow, start, points=False, max_time=1e7).ends
    assert set(ends["end"]) == {"taken by a well"}
    assert set(ends["feature"]) == {"bore"}
    through = ik.trace(flow, start, points=False, max_time=1e7, through_bores=True).ends
    assert set(through["end"]) == {"left by a side"}
    npt.assert_allclose(
        through["end layer"].value_counts(normalize=True)[gets.index].to_numpy(), gets / gets.sum(), atol=0.08
    )
    # a bore that also pumps half of what comes keeps that
    pumped = passing_bore(-0.5 * gets.sum())
    kept = ik.trace(pumped, start, points=False, max_time=1e7, through_bores=True).ends
    water = pumped.term_flows()
    water = water.loc[water["term"] == "well", "flow [m³/day]"]
    assert (kept["end"] == "taken by a well").mean() == pytest.approx(
        water.sum() / water[water < 0].sum(), abs=0.08
    )


def test_cells_that_give_up_a_part_of_their_water():
    """Rain of 10 mm/day over a drain that takes four of them: chance of the share, or pass, or end."""
    grid = strip(20, surfaces=(10.0, 0.0))
    drain = terms.DrainTerm(cells=[10], level=[0.0], conductance=[0.004], feature_names=("ditch",))
    model = ik.Model(
        grid, 50.0, porosity=0.3, terms=[held([19], 100.0), rain(grid, 0.01), drain],
        water_table=ik.WaterTable(confined=True),
    )  # fmt: skip
    flow = ik.solve_flow(model)
    into = flow.budget("feature")
    taken = float(into.loc[("drain", "ditch"), "out [m³/day]"])
    start = ik.starts_of_inflow(flow, count=100_000)
    ends = ik.trace(flow, start, points=False, max_time=1e9).ends
    npt.assert_allclose(ends.loc[ends["feature"] == "ditch", "flow [m³/day]"].sum(), taken, rtol=0.07)
    assert set(ends["feature"]) == {"ditch", "held"}
    upstream = [(55.0, 5.0, 5.0)] * 50
    for partly, reached in (("pass", {"held"}), ("end", {"ditch"})):
        assert set(ik.trace(flow, upstream, partly_taken=partly, max_time=1e9).ends["feature"]) == reached


def test_retardation_marks_threads_and_stops(quillmere):
    """A species that is held back comes later to the same place; two threads find the same; paths stop where told."""
    start = ik.starts_in_area(quillmere, layers=["sand"], count=300, seed=4)
    plain = ik.trace(quillmere, start, mark=365.25, max_time=36525.0, partly_taken="pass")
    late = ik.trace(quillmere, start, retardation=2.5, max_time=2.5 * 36525.0, partly_taken="pass", threads=2)
    npt.assert_allclose(late.ends["travel time [day]"], 2.5 * plain.ends["travel time [day]"], rtol=1e-6)
    npt.assert_allclose(late.ends["end x [m]"], plain.ends["end x [m]"], rtol=1e-9)
    marks = plain.marks()
    npt.assert_allclose(marks["time [day]"] / 365.25, np.round(marks["time [day]"] / 365.25), rtol=1e-9)
    zone = shapely.Point(3700, 2900).buffer(600)
    ended = ik.trace(quillmere, start, stop_in=zone, points=False).ends
    stopped = ended[ended["end"] == "stopped"]
    cells = quillmere.model.grid.cells
    assert shapely.contains_xy(zone, cells.x[stopped["end cell"]], cells.y[stopped["end cell"]]).all()
    assert len(stopped) > 10
    slow = ik.trace(quillmere, start, points=False, moisture=0.15).ends["travel time [day]"]
    assert (slow >= ik.trace(quillmere, start, points=False).ends["travel time [day]"] - 1e-6).all()


def test_rain_falls_to_a_deep_water_table_as_slowly_forward_as_backward():
    """Moisture times the depth over the rate, beside the way in the water; paths end there, too, in steps and limits."""
    rate, moisture = 0.002, 0.12
    grid = ik.layered(ik.rectangles((0, 0, 200, 40), cell=20, rotation=25), [50.0, 20.0, 0.0])
    east = int(np.argmax(grid.cells.x))
    low = [int(c) for c in grid.column_of(int(grid.cells.plan_cell[east]))][-1]
    term = terms.FixedHeadTerm(cells=[low], head=9.0, feature_names=("sea",))
    model = ik.Model(grid, 30.0, porosity=0.25, terms=[term, rain(grid, rate)])
    flow = ik.solve_flow(model)
    start = ik.starts_of_inflow(flow, count=60)
    plain, slow = (
        ik.trace(flow, start, moisture=m, max_time=1e7, points=False).ends for m in (0.0, moisture)
    )
    plan = grid.mesh.locate(plain["start x [m]"].to_numpy(), plain["start y [m]"].to_numpy())
    deep = 50.0 - flow.water_table()[plan]
    inland = (plain["start x [m]"] < 120.0).to_numpy()  # not above the sea
    npt.assert_allclose(
        (slow["travel time [day]"] - plain["travel time [day]"])[inland],
        moisture * deep[inland] / rate,
        rtol=0.02,
    )
    point = [(60.0, 45.0, 4.0)]
    back = [ik.trace(flow, point, backward=True, moisture=m, max_time=1e7).ends for m in (0.0, moisture)]
    level = flow.water_table()[grid.mesh.locate(back[0]["end x [m]"], back[0]["end y [m]"])[0]]
    longer = float((back[1]["travel time [day]"] - back[0]["travel time [day]"]).iloc[0])
    assert longer == pytest.approx(moisture * (50.0 - level) / rate, rel=0.05)
    short = ik.trace(flow, start, moisture=moisture, max_time=100.0, points=False).ends
    assert set(short["end"]) <= {"time limit", "left by the top", "taken inside"}
    assert short["travel time [day]"].max() <= 100.0


def test_wells_and_inflow_at_each_time_of_release_by_its_rates():
    """A well that pumps 100, then 300 m³/day: starts stand for the rate of their time, over the count of times."""
    grid = ik.layered(ik.voronoi((0, 0, 200, 200), cell=20), [20.0, 0.0])
    cell = int(grid.cell_number[0, grid.mesh.locate([104.0], [97.0])[0]])
    well = terms.WellTerm(cells=[cell], connection=40.0, rate=0.0, feature_names=("well",), x=104.0, y=97.0)
    rim = np.unique(grid.outer_faces.cell)
    model = ik.Model(
        grid, 8.0, porosity=0.2, specific_storage=1e-5, schedule=ik.Schedule([20.0, 60.0], steps=2),
        terms=[terms.FixedHeadTerm(cells=rim, head=30.0), well], water_table=ik.WaterTable(confined=True),
        inputs_in_time={"well.rate": [[-100.0], [-300.0]]},
    )  # fmt: skip
    flow = ik.solve_flow(model, initial_heads=30.0)
    ends = ik.trace(flow, ["well"], backward=True, release=[15.0, 50.0], per_well=8, points=False).ends
    npt.assert_allclose(
        ends.groupby("released [day]")["flow [m³/day]"].sum().abs().sort_values(), [50.0, 150.0]
    )
    into = ik.trace(
        flow, lambda step: ik.starts_of_inflow(flow, count=40, step=step), release=[5.0, 50.0]
    ).ends
    found = into.groupby("released [day]")["flow [m³/day]"].sum()
    expected = [0.5 * flow.budget(step=flow.step_at(t)).loc["total", "in [m³/day]"] for t in (5.0, 50.0)]
    npt.assert_allclose(found.sort_index(), expected, rtol=0.1)


@pytest.mark.slow
def test_zones_ages_and_trajectories(quillmere, tmp_path):
    """Zones grow with time and hold the well; trajectories give the points back; ages need paths followed backward."""
    traced = ik.trace(quillmere, ["hatchery"], backward=True, per_well=60, mark=3652.5)
    zones = traced.zones(["1 year", 3652.5])
    assert (zones["area [m²]"].diff().dropna() > 0).all()
    assert zones.geometry.iloc[0].distance(shapely.Point(3700, 2900)) < 250
    data = traced.trajectories()
    data.to_netcdf(tmp_path / "paths.nc", engine="h5netcdf")
    assert int(data["row_size"].sum()) == data.sizes["obs"] == len(traced.points)
    assert data.attrs["featureType"] == "trajectory"
    assert len(traced.lines()) == len(traced.ends)
    ages = traced.ages(["10 years"])
    younger = float(ages["younger than 3652.5 days [%]"].iloc[0])
    weight = traced.ends["flow [m³/day]"]
    assert younger == pytest.approx(
        100 * weight[traced.ends["travel time [day]"] < 3652.5].sum() / weight.sum()
    )
    rain = ik.trace(quillmere, ik.starts_of_inflow(quillmere, count=20_000), points=False)
    areas = rain.contributing_areas(share=0.5).set_index("feature")
    well = quillmere.budget("feature").loc[("well", "hatchery"), "out [m³/day]"]
    assert areas.loc["hatchery", "flow [m³/day]"] == pytest.approx(well, rel=0.15)
    assert areas["area [m²]"].sum() < 1.05 * quillmere.model.grid.mesh.area.sum()
    bores = ik.trace(quillmere, ik.starts_at_bores(quillmere, ["Q01", "Q20"]), backward=True).ages()
    assert (bores["mean [day]"] > 0).all()
    assert bores.index.tolist() == ["Q01", "Q20"]
    for by in ("layer", "end"):
        assert ik.draw.paths(traced, by=by).get_legend_handles_labels()[1]
    shares = traced.shares()
    npt.assert_allclose(shares["share [%]"].sum(), 100.0)
    assert isinstance(shares, pd.DataFrame)
    ends_only = ik.trace(quillmere, ["hatchery"], backward=True, per_well=60, points=False)
    pd.testing.assert_frame_equal(ends_only.ends, traced.ends)
    for ask, message in (
        (lambda: ends_only.lines(), "only the ends of these paths were kept"),
        (lambda: ik.trace(quillmere, [(4430.0, 3650.0, 40.0)]).ages(), "backward=True"),
        (lambda: ik.trace(quillmere, ["hatchery"]), "gives any water; nothing to trace forward"),
        (
            lambda: ik.trace(quillmere, ["hatchery"], backward=True, release="2024-01-01"),
            "the flow is steady",
        ),
        (lambda: ik.trace(quillmere, ["hatchery"], backward=True, partly_taken="x"), "expected one of"),
        (lambda: ik.trace(quillmere, ["hatchery"], backward=True, stop_in=[True]), "stop_in has the shape"),
        (lambda: ik.starts_on_line(quillmere, [(-9e5, 0), (-8e5, 0)]), "meets no cell"),
        (lambda: ik.starts_in_area(quillmere, shapely.Point(-9e5, 0).buffer(10)), "no cell of these layers"),
        (lambda: ik.draw.paths(traced, by="depth"), 'not "depth"'),
        (lambda: ik.starts_at_bores(quillmere, ["Q99"]), 'no bore "Q99"'),
    ):
        with pytest.raises(ik.InputError, match=message):
            ask()


def test_lines_and_cells_of_any_shape():
    """Starts along a line; cells with a notch and with a hole, cut by the rule of Delaunay: all ways lead out."""
    outline = shapely.box(-40, -40, 80, 80)
    outline = outline.difference(shapely.box(12, -50, 26, -8)).difference(shapely.box(8, 52, 24, 68))
    mesh = ik.rectangles(outline, cell=40.0, keep="cut")
    grid = ik.layered(mesh, [10.0, 0.0])
    west, east = (np.flatnonzero(np.abs(grid.outer_faces.middle[:, 0] - x) < 1e-6) for x in (-40.0, 80.0))
    outer, both = grid.outer_faces, np.concatenate([west, east])
    term = terms.FixedHeadTerm(
        cells=outer.cell[both], head=np.repeat([11.0, 10.0], [len(west), len(east)]), crossing="side",
        outer_face=both, way=(outer.length / outer.distance)[both], feature_names=("west", "east"),
        feature_index=np.repeat([0, 1], [len(west), len(east)]),
    )  # fmt: skip
    law = ik.WaterTable(confined=True)
    flow = ik.solve_flow(ik.Model(grid, 5.0, porosity=0.2, terms=[term], water_table=law))
    start = ik.starts_on_line(flow, [(-39.0, -39.0), (-39.0, 79.0)], count=200)
    ends = ik.trace(flow, start, max_time=1e7).ends
    assert set(ends["feature"]) == {"east"}
    back = ik.trace(
        flow, ik.starts_of_inflow(flow, count=500, backward=True), backward=True, max_time=1e7
    ).ends
    assert set(back["feature"]) == {"west"}


PATHS = """
[[paths]]
name = "wells"
wells = ["well 1"]
release = ["2020-02-10", 45]
zones = ["20 days", "40 days"]

[[paths]]
name = "bores"
bores = ["B1", "B2"]
per_well = 3
max_time = "30 days"

[[paths]]
name = "ground"
within = { file = "boundary.geojson" }
layers = ["sand"]
count = 60
direction = "forward"
partly_taken = "pass"
stop_in_regions = ["deep"]
moisture = 0.1
retardation = { sand = 2 }

[[region]]
name = "deep"
layers = ["gravel"]

[[paths]]
name = "rain"
from_all_inflow = true
count = 200
direction = "forward"
through_bores = true
"""


@pytest.mark.slow
def test_a_project_through_time_asks_for_paths_of_every_kind(first_project, command, tmp_path):
    """Wells at two dates with zones, bores, an area, all inflow: files, what is told, pictures by command, films."""
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    text = text.replace("porosity = 0.2", "specific_storage = 1e-5\nspecific_yield = 0.2\nporosity = 0.2")
    time = '\n[time]\nstart = "2020-01-01"\nduration = "60 d"\nsteps = 6\n'
    site.write_text(text[: text.index("[paths]")] + PATHS + time, encoding="utf-8")
    code, out, err = command("run", site)
    assert (code, err) == (0, "")
    assert "water of well 1, wells: " in out
    made = first_project / "runs" / "run-001"
    ends = pd.read_csv(made / "path_ends-wells.csv")
    npt.assert_allclose(sorted(ends["released [day]"].abs().unique()), [40.0, 45.0])
    assert (ends["travel time [day]"] <= ends["released [day]"].abs() + 1e-6).all()
    assert pd.read_csv(made / "path_ages-bores.csv")["start"].tolist() == ["B1", "B2"]
    ground = pd.read_csv(made / "path_ends-ground.csv")
    assert set(ground["start layer"]) == {"sand"}
    assert (ground.loc[ground["end"] == "stopped", "end layer"] == "gravel").all()
    rain = pd.read_csv(made / "path_shares-rain.csv")
    budget = pd.read_csv(made / "budget_in_time.csv")
    first = budget[(budget["step"] == budget["step"].min()) & (budget["term"] == "total")]
    assert rain["flow [m³/day]"].sum() > 0.5 * float(first["in [m³/day]"].iloc[0])
    zones = ik.open_run(made).paths("wells").zones(["20 days"])
    assert float(zones["area [m²]"].iloc[0]) > 0
    for words in (
        ("paths", "--name", "ground", "--by", "end"),
        ("zones", "--name", "wells", "--within", "20 days", "--layer", "gravel"),
        ("travel-times", "--name", "rain", "--histogram"),
        ("section", "--paths", "ground", "--line", "100,500 900,500"),
        ("hydrographs", "--at", "500,500"),
        ("head-surface", "--layer", "gravel", "--time", "30"),
        ("block", "--values", "horizontal_conductivity"),
        ("water-table", "--in-time", "--time", "20"),
    ):
        ending = ".gif" if "--in-time" in words else ".png"
        goal = tmp_path / f"{'-'.join(words[:3])}{ending}"
        code, _, err = command("draw", words[0], made, *words[1:], "--out", goal)
        assert (code, err) == (0, ""), words
        assert goal.stat().st_size > 5000
    for words, message in (
        (("draw", "heads", site), "nothing is solved yet"),
        (("draw", "hydrographs", made, "--bore", "B9"), 'no levels of the bore "B9"'),
        (("draw", "depth", made, "--show", "fil"), 'Did you mean "fill"'),
        (("draw", "zones", made, "--name", "wells", "--within", "soon"), "--within"),
        (("draw", "heads", made, "--picture", "beside"), '"beside"'),
    ):
        code, _, err = command(*words)
        assert (code, message in err) == (2, True), (words, err)


@pytest.mark.parametrize(
    ("before", "after", "message"),
    [
        ('release = ["2020-02-10", 45]', 'release = ["2020-05-10"]', "released on day 130, outside the run"),
        ('release = ["2020-02-10", 45]', 'release = ["soon"]', 'release is "soon"; expected a date'),
        (
            "retardation = { sand = 2 }",
            "retardation = { sand = 0.5 }",
            "expected 1, of what moves as water does",
        ),
        ("retardation = { sand = 2 }", "retardation = { snad = 2 }", 'no material "snad"'),
        (
            'bores = ["B1", "B2"]',
            'bores = ["B1", "B2"]\nwells = ["well 1"]',
            "say where paths begin, by one of",
        ),
        ("from_all_inflow = true", 'from_all_inflow = true\nzones = ["1 year"]', "zones are of wells"),
        ('layers = ["sand"]', 'layers = ["snd"]', 'no layer "snd"'),
    ],
)
def test_paths_that_cannot_be_are_refused_before_anything_is_solved(
    first_project, command, before, after, message
):
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    text = text.replace("porosity = 0.2", "specific_storage = 1e-5\nspecific_yield = 0.2\nporosity = 0.2")
    time = '\n[time]\nstart = "2020-01-01"\nduration = "60 d"\nsteps = 6\n'
    assert before in PATHS
    site.write_text(text[: text.index("[paths]")] + PATHS.replace(before, after) + time, encoding="utf-8")
    code, out, err = command("check", site)
    assert (code, message in " ".join((out + err).split())) == (2, True), out + err
