"""Transport as people ask for it: sources, several species, limits, files, runs that go on, project files."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pytest
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn.files import PlumeFile, read_concentration, write_concentration
from inkhorn.model import Solute
from tests.verification.test_transport_exact import brings, even_flow

SALT = ik.Species("salt", background=0.0, limit=0.5)


@pytest.fixture(scope="module")
def flow():
    return even_flow(ik.rectangles((0, 0, 200, 40), cell=10.0))[0]


@pytest.fixture(scope="module")
def made(flow):
    return ik.solve_transport(
        brings(flow, salt=1.0),
        SALT,
        duration=200.0,
        outputs=4,
        dispersion=ik.Dispersion(5.0, 0.5),
        keep_flows=True,
    )


def test_what_water_brings_may_change_in_time(flow, tmp_path):
    """Half of the time at 8, in steps that meet the change: as much mass as 4 all along."""
    store = ik.Series([0.0, 37.0], [8.0, 0.0], name="store")
    changing = ik.solve_transport(brings(flow, salt=store), SALT, duration=74.0, times=[10.0, 37.0])
    even = ik.solve_transport(brings(flow, salt=4.0), SALT, duration=74.0, outputs=2)
    npt.assert_array_equal(changing.times, [0.0, 10.0, 37.0, 74.0])
    brought = [r.budget().loc[("fixed head", "rim"), "in [kg]"] for r in (changing, even)]
    npt.assert_allclose(brought[0], brought[1], rtol=1e-12)
    assert changing.values[2].max() > 7.5
    by_date = ik.Series(np.array(["2020-01-01", "2020-02-07"], "datetime64[s]"), [8.0, 0.0], name="store")
    dated = ik.solve_transport(
        brings(flow, salt=by_date), SALT, duration=74.0, times=[10.0, 37.0], start="2020-01-01"
    )
    npt.assert_array_equal(dated.values[-1], changing.values[-1])
    assert str(dated.concentration["time"].to_numpy()[2])[:10] == "2020-02-07"
    write_concentration(dated, tmp_path / "dated.nc")
    assert read_concentration(tmp_path / "dated.nc", dated.flow, SALT).time_at("2020-02-07") == 2
    with pytest.raises(ik.InputError, match="goes by dates, but the schedule starts at none"):
        ik.solve_transport(brings(flow, salt=by_date), SALT, duration=74.0)


def test_water_taken_and_put_in_again_brings_back_what_was_not_treated():
    grid = ik.layered(ik.rectangles((0, 0, 200, 100), cell=10.0), [0.0, -10.0])
    well = ik.terms.WellTerm(
        cells=grid.mesh.locate([55.0, 155.0], [55.0, 55.0]), connection=40.0, rate=[-30.0, 30.0],
        feature_names=("brine well", "return"), feature_index=[0, 1],
    )  # fmt: skip
    rim = np.unique(grid.outer_faces.cell)
    heads = ik.terms.FixedHeadTerm(cells=rim, head=10.0 - 0.01 * grid.cells.x[rim], feature_names=("rim",))
    back = ik.ReturnedWater("brine well", treated=0.9)
    model = ik.Model(
        grid,
        10.0,
        porosity=0.2,
        terms=[well, heads],
        inflow_concentration={"salt": {"rim": 0.0, "return": back}},
    )
    flow = ik.solve_flow(model)
    made = ik.solve_transport(flow, ik.Species("salt", initial=2.0), duration=30.0, outputs=3)
    mass = made.budget()
    taken, returned = mass.loc[("well", "brine well"), "out [kg]"], mass.loc[("well", "return"), "in [kg]"]
    npt.assert_allclose(returned, 0.1 * taken, rtol=0.02)
    npt.assert_allclose(made.at("brine well").iloc[0], 2.0)
    lost = {"salt": {"rim": 0.0, "return": ik.ReturnedWater("brine wel")}}
    with pytest.raises(ik.InputError, match='puts in the water of "brine wel", which is not there'):
        ik.solve_transport(replace(flow, model=replace(model, inflow_concentration=lost)), SALT, duration=1.0)
    assert abs(mass.attrs["closing_error_percent"]) < 1e-9


def test_plants_may_leave_behind_what_is_dissolved():
    grid = ik.layered(ik.rectangles((0, 0, 100, 100), cell=50.0), [5.0, 0.0])
    rain = ik.terms.RechargeTerm(
        cells=np.arange(4), rate=0.002, area=grid.cells.area, feature_names=("rain",)
    )
    plants = ik.terms.EvapotranspirationTerm(
        cells=np.arange(4), rate=0.001, surface=0.0, depth=10.0, area=grid.cells.area, feature_names=("wood",)
    )
    ditch = ik.terms.DrainTerm(cells=[0], level=2.0, conductance=50.0, feature_names=("ditch",))
    flow = ik.solve_flow(ik.Model(grid, 5.0, porosity=0.3, terms=[rain, plants, ditch]))
    taken = -flow.term_flows().groupby("term")["flow [m³/day]"].sum()["evapotranspiration"]
    assert taken > 1.0
    left = ik.Species("salt", initial=1.0, background=1.0, taken_by_plants=0.0)
    made = ik.solve_transport(flow, left, duration=1e5, outputs=2)
    given = 0.002 * 1e4
    npt.assert_allclose(made.at("ditch").iloc[-1], given / (given - taken), rtol=1e-6)
    assert made.budget().loc[("evapotranspiration", "wood"), "out [kg]"] == 0.0


def test_masses_plumes_and_held_concentrations_land_on_cells():
    """Of two layers 4 and 6 m thick: by volume, by share of the cell, and where half of a cell lies within."""
    box = shapely.box(0, 0, 100, 60)
    ground = ik.Strata(
        ik.ConstantSurface(0.0),
        [ik.Layer("sand", ik.ConstantSurface(-4.0)), ik.Layer("clay", ik.ConstantSurface(-10.0))],
    )
    waste = ik.MassSource(
        name="waste", shape=shapely.box(20, 20, 50, 40), top=-2.0, bottom=-7.0, rate={"salt": "2 kg/day"}
    )
    tank = ik.HeldConcentration(
        name="tank", shape=shapely.Point(75, 35), layers=("clay",), concentration={"salt": 9.0}
    )
    old = ik.StartingPlume(
        name="old", shape=shapely.box(0, 0, 30, 20), layers=("sand",), concentration={"salt": "4 mg/l"}
    )
    site = ik.Site(
        box, ground, {n: ik.Material(n, 1.0, porosity=0.2) for n in ("sand", "clay")}, features=[waste, tank, old],
        species=[SALT],
    )  # fmt: skip
    grid = ik.layered(ik.rectangles(box.bounds, cell=20.0), site.strata)
    model = ik.place(site, grid)
    by_name = {s.name: s for s in model.solutes}
    spread = by_name["waste"]
    assert spread.value == 2000.0
    npt.assert_allclose(
        np.bincount(spread.cells, spread.share, 30)[[6, 7, 21, 22]], np.array([2, 1, 3, 1.5]) / 7.5
    )
    npt.assert_array_equal(by_name["tank"].cells, [15 + 5 + 3])
    npt.assert_allclose(np.bincount(by_name["old"].cells, by_name["old"].share, 30)[:2], [1.0, 0.5])
    assert model.inflow_concentration["salt"] == {}
    assert list(model.placed["cells"]) == [4, 1, 2]
    flow = ik.solve_flow(replace(model, terms=[ik.terms.FixedHeadTerm(cells=[0, 4], head=[1.0, 0.5])]))
    made = ik.solve_transport(flow, SALT, duration=50.0, outputs=1)
    mass = made.budget()
    npt.assert_allclose(mass.loc[("mass source", "waste"), "in [kg]"], 100.0)
    assert made.values[-1][23] == 9.0
    assert abs(mass.attrs["closing_error_percent"]) < 1e-9
    ik.draw.plan(grid.mesh, site)
    with pytest.raises(ik.InputError, match='"empty" names no species'):
        ik.MassSource(name="empty", shape=box)
    with pytest.raises(ik.InputError, match="changes in time, but is of the beginning"):
        replace(old, concentration={"salt": ik.Series([0.0, 5.0], [1.0, 2.0])})


def test_samples_and_tables_of_wells_tell_concentrations(first_project):
    """A starting plume through samples, never below 0; a well whose cell is empty brings what is not stated."""
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8").replace(
        'file = "wells.csv"',
        'file = "wells.csv"\nconcentration = { nitrate = { column = "nitrate", unit = "g/l" } }',
    )
    plume = """
[[species]]
name = "nitrate"

[[starting_plume]]
name = "sampled"
file = "boundary.geojson"
layers = ["gravel"]
concentration = { nitrate = { points = "samples.csv", z = "nitrate", method = "thin_plate" } }
"""
    site.write_text(text + plume, encoding="utf-8")
    (first_project / "wells.csv").write_text(
        "name,x,y,screen_top,screen_bottom,injection [m³/h],nitrate\nwell 1,600,500,7,-4,12,0.03\ntwo,300,500,7,-4,12,\n"
    )
    rows = [(250, 250, 40.0), (250, 850, 0.0), (850, 250, 0.0), (550, 550, 0.0)]
    lines = "".join(f"{x},{y},{z}\n" for x, y, z in rows)
    (first_project / "samples.csv").write_text("x,y,nitrate [mg/l]\n" + lines, encoding="utf-8")
    model = ik.place(ik.read_site(site), ik.read_project(site).grid())
    assert model.inflow_concentration["nitrate"] == {"well 1": pytest.approx(30.0)}
    (sampled,) = model.solutes
    grid = model.grid
    at = {c: k for k, c in enumerate(sampled.cells.tolist())}
    found = [sampled.value[at[int(grid.cell_number[1, grid.mesh.locate([x], [y])[0]])]] for x, y, _ in rows]
    npt.assert_allclose(found, [z for *_, z in rows], atol=1e-9)
    assert (sampled.value == 0.0).sum() > 20
    assert set(grid.cells.layer[sampled.cells]) == {1}
    with pytest.raises(ik.InputError, match="nitrate is a surface"):
        ik.Recharge(
            name="rain",
            shape=shapely.box(0, 0, 9, 9),
            rate=1.0,
            concentration={"nitrate": ik.ConstantSurface(1)},
        )


def test_what_is_held_and_what_is_left_out(flow):
    spot = int(flow.model.grid.mesh.locate([105.0], [25.0])[0])
    held = Solute("held concentration", "spill", "salt", [spot], [1.0], 7.0)
    start = Solute("starting plume", "old", "salt", [0, 1], [1.0, 0.5], 4.0)
    model = replace(flow.model, solutes=[held, start])
    made = ik.solve_transport(replace(flow, model=model), SALT, duration=150.0, outputs=3)
    npt.assert_array_equal(made.values[0][:2], [4.0, 2.0])
    npt.assert_array_equal(made.values[1:, spot], 7.0)
    assert made.budget().loc[("held concentration", "spill"), "in [kg]"] > 1.0
    assert abs(made.budget().attrs["closing_error_percent"]) < 1e-9
    x = flow.model.grid.cells.x
    part = ik.solve_transport(brings(flow, salt=1.0), SALT, duration=150.0, outputs=1, only_in=x > 100.0)
    npt.assert_array_equal(part.values[-1][x < 100.0], 0.0)
    assert abs(part.budget().attrs["closing_error_percent"]) < 1e-9


def test_how_much_lies_above_a_limit(made):
    """The front is at 160 m of 200, 40 m wide; what passes a line is what water carries."""
    above = made.above_limit(source=shapely.LineString([(0, 0), (0, 40)]))
    npt.assert_allclose(above["area [m²]"].iloc[-1], 80.0 * 40.0, rtol=0.15)
    npt.assert_allclose(above["reach [m]"].iloc[-1], 80.0, atol=12.0)
    npt.assert_allclose(above["ground [m³]"], 10.0 * above["area [m²]"])
    outline = made.outline()
    npt.assert_allclose(outline["area [m²]"], above["area [m²]"][above["area [m²]"] > 0])
    x = made.flow.model.grid.cells.x
    arrived = made.first_above
    npt.assert_allclose(arrived[np.abs(x - 55.0) < 1.0], 55.0 / 0.4, rtol=0.1)
    assert np.isinf(arrived[x > 150.0]).all()
    line = [(55.0, -10.0), (55.0, 50.0)]
    crossed = made.across(line)
    water = made.flow.across(line)["net to the left [m³/day]"].loc["total"]
    npt.assert_allclose(crossed["net to the left [kg/day]"].loc["total"], 0.9 * water / 1000.0, rtol=0.15)
    with pytest.raises(ik.InputError, match="flows of mass across faces were not kept"):
        ik.solve_transport(made.flow, SALT, duration=1.0).across(line)
    parts = made.budgets()
    closing = parts[parts["end [day]"] == 200.0].set_index("term")["in so far [kg]"]["fixed head"]
    npt.assert_allclose(closing, made.budget().loc[("fixed head", "rim"), "in [kg]"])


def test_how_long_a_series_lies_above_a_limit(made):
    import pandas as pd

    series = pd.Series([0.0, 2.0, 0.0, 4.0, 4.0], index=[0.0, 10.0, 20.0, 30.0, 40.0])
    assert made.spans_above(series, 1.0) == [(5.0, 15.0), (22.5, np.inf)]
    assert made.first_time_above(series, 1.0) == 5.0
    assert made.first_time_above(series, 5.0) is None
    assert made.spans_above(series + 2.0, 1.0) == [(0.0, np.inf)]


def test_a_run_that_goes_on_is_the_same_as_one_that_was_not_stopped(tmp_path, flow):
    options = {"dispersion": ik.Dispersion(5.0, 0.5), "times": [50.0, 100.0, 150.0, 200.0]}
    water = brings(flow, salt=1.0)
    water = replace(water, model=replace(water.model, bulk_density=1.6e6))
    sorbing = replace(SALT, sorption=ik.LinearSorption(5e-8), half_life=300.0)
    whole = ik.solve_transport(water, sorbing, duration=200.0, **options)
    half = ik.solve_transport(water, sorbing, duration=100.0, **{**options, "times": [50.0, 100.0]})
    path = tmp_path / "half.nc"
    write_concentration(half, path)
    again = ik.solve_transport(
        water, sorbing, duration=200.0, go_on_from=read_concentration(path, water, sorbing), **options
    )
    npt.assert_allclose(again.values, whole.values, rtol=1e-10, atol=1e-14)
    npt.assert_allclose(again.budget().to_numpy(), whole.budget().to_numpy(), rtol=1e-9, atol=1e-12)
    npt.assert_array_equal(again.watched.index, whole.watched.index)


def test_records_go_to_a_file_as_they_are_made(tmp_path, made):
    path = tmp_path / "plume.nc"
    store = PlumeFile(path, made.flow, SALT)
    ik.solve_transport(
        made.flow,
        SALT,
        duration=200.0,
        outputs=4,
        dispersion=ik.Dispersion(5.0, 0.5),
        keep_flows=True,
        store=store,
    )
    read = read_concentration(path, made.flow, SALT)
    for k in (0, 3, -1):
        npt.assert_array_equal(read.records[k].concentration, made.records[k].concentration)
    npt.assert_array_equal(read.budget(2).to_numpy(), made.budget(2).to_numpy())
    npt.assert_array_equal(read.watched.to_numpy(), made.watched.to_numpy())
    npt.assert_array_equal(read.first_above, made.first_above)
    npt.assert_allclose(read.concentration.isel(time=2), made.concentration.isel(time=2))
    with xr.open_dataset(path, decode_times=False) as data:
        assert data["salt"].attrs["units"] == "g m-3"
        assert dict(data["salt"].sizes) == {"time": 5, "layer": 1, "y": 4, "x": 20}
    with pytest.raises(ik.InputError, match="holds no tracer of this grid"):
        read_concentration(path, made.flow, ik.Species("tracer"))


@pytest.mark.parametrize(
    ("species", "options", "message"),
    [
        (SALT, {"duration": -1.0}, "duration is -1 days"),
        (SALT, {}, "steady flow has no end; give a duration"),
        (SALT, {"duration": 9.0, "step_length": 0.0}, "step_length is 0 days"),
        (SALT, {"duration": 9.0, "initial": -5.0}, r"initial\[0\] is -5 g/m³"),
        (SALT, {"duration": 9.0, "method": "fast"}, 'method is "fast"; expected one of'),
        (SALT, {"duration": 9.0, "method": "upstream"}, "takes the steps it is given"),
        (
            ik.Species("salt"),
            {"duration": 9.0},
            "no concentration of salt is stated for the water that comes from rim",
        ),
        (
            replace(SALT, sorption=ik.LinearSorption(1e-7)),
            {"duration": 9.0},
            "salt sorbs, but the model has no bulk density",
        ),
        (
            replace(SALT, half_life=5.0, daughters={"other": 1.0}),
            {"duration": 9.0},
            'salt decays into "other", which is not carried along',
        ),
        (
            SALT,
            {"duration": 9.0, "dispersion": ik.Dispersion({"sandd": 5.0})},
            '"sandd" is no material, layer or zone',
        ),
    ],
)
def test_what_transport_refuses(species, options, message):
    flow = even_flow(ik.rectangles((0, 0, 40, 40), cell=10.0))[0]
    with pytest.raises(ik.InputError, match=message):
        ik.solve_transport(flow, species, **options)


def test_a_flow_that_ends_is_repeated_only_where_that_is_asked_for(flow):
    model = replace(flow.model, schedule=ik.Schedule([10.0]), specific_storage=1e-5)
    short = ik.solve_flow(model, initial_heads=flow.steps[0].heads)
    with pytest.raises(ik.InputError, match="is to last 30 days, but the flow ends after 10"):
        ik.solve_transport(short, SALT, duration=30.0)
    made = ik.solve_transport(short, SALT, duration=30.0, repeated=True, initial=1.0)
    steady = ik.solve_transport(flow, SALT, duration=30.0, initial=1.0)
    npt.assert_allclose(made.values[-1], steady.values[-1], atol=1e-4)  # by other steps


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"half_life": 0.0}, "half_life is 0 days; expected more than 0"),
        ({"daughters": {"b": 1.0}}, "has daughters and no half-life"),
        ({"half_life": 2.0, "daughters": {"a": 1.0}}, "decays into itself"),
        ({"taken_by_plants": 1.5}, "expected a share from 0 to 1"),
        ({"production": -1.0}, "production is -1"),
        ({"sorption": 3.0}, "expected one such as LinearSorption"),
    ],
)
def test_what_no_species_can_be(change, message):
    with pytest.raises(ik.InputError, match=message):
        ik.Species("a", **change)


SPECIES = """
[[species]]
name = "nitrate"
background = "5 mg/l"
initial = 5
limit = "6 mg/l"
half_life = "6 years"
daughters = { gas = 1 }
distribution = { sand = "0.02 l/kg", gravel = 0 }

[[species]]
name = "gas"
background = 0

[transport]
species = ["nitrate", "gas"]
duration = "3 years"
outputs = 6
start = 2015-01-01
dispersivity = { sand = "10 m", gravel = "20 m" }
transverse_dispersivity = "1 m"
watch = ["well 1"]
across = ["middle"]
immobile = { porosity = 0.05, exchange = 0.001 }

[[across]]
name = "middle"
file = "line.geojson"
"""


@pytest.mark.slow
def test_a_project_asks_for_species_that_decay_into_each_other(first_project, command):
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    text = text.replace("porosity = 0.25  ", "bulk_density = 1650\nporosity = 0.25  ").replace(
        "porosity = 0.2\n", "bulk_density = 1700\nporosity = 0.2\n"
    )
    text = text.replace(
        'rate = "250 mm/year"', 'rate = "250 mm/year"\nconcentration = { nitrate = { series = "soil.csv" } }'
    )
    site.write_text(text + SPECIES, encoding="utf-8")
    (first_project / "soil.csv").write_text("date,nitrate [mg/l]\n2014-01-01,40\n2016-06-01,10\n")
    (first_project / "line.geojson").write_text(
        shapely.to_geojson(shapely.LineString([(500, 0), (500, 1000)])), encoding="utf-8"
    )
    code, out, errors = command("run", site)
    assert code == 0, errors
    assert "mass budget of nitrate closes to" in out
    assert "nitrate at well 1: up to" in out
    run = ik.open_run(first_project / "runs" / "run-001")
    nitrate, gas = run.transport(species="nitrate"), run.transport(species="gas")
    lost = nitrate.budget().loc[("decay", ""), "out [kg]"]
    npt.assert_allclose(gas.budget().loc[("decay", ""), "in [kg]"], lost, rtol=1e-9)
    rate = run.flow.budget(by="feature").loc[("recharge", "rain"), "in [m³/day]"]
    days = [517.0, 1095.75 - 517.0]  # until the first of June 2016, and on
    npt.assert_allclose(
        nitrate.budget().loc[("recharge", "rain"), "in [kg]"],
        rate * (0.04 * days[0] + 0.01 * days[1]),
        rtol=1e-6,
    )
    names = {p.name for p in run.path.iterdir()}
    assert {
        "concentration-nitrate.nc",
        "mass_across-gas.csv",
        "limit_passed-nitrate.csv",
        "outlines-nitrate.gpkg",
    } <= names
    assert command("draw", "plume", run.path)[0] == 0
    with pytest.raises(ik.InputError, match="has no chloride"):
        run.transport(species="chloride")


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('"0.02 l/kg", gravel = 0 }', '"0.02 l/kg" }', 'distribution: nothing is told of "gravel"'),
        ('duration = "3 years"\n', "", "no duration of transport is given"),
        ("start = 2015-01-01\n", "", "goes by dates, but the schedule starts at none"),
        ("start = 2015-01-01\n", "start = 2013-12-01\n", "begins 31 days after it is needed"),
        ('watch = ["well 1"]', 'watch = ["wel 1"]', 'there is no well, feature or bore "wel 1"'),
        ("{ gas = 1 }", "{ gass = 1 }", 'there is no species "gass"'),
        (
            "distribution = {",
            "langmuir = { capacity = 3, half_at = 2 }\ndistribution = {",
            "expected one of them",
        ),
    ],
)
def test_what_a_project_lacks_is_told_before_anything_is_solved(first_project, command, old, new, message):
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8").replace(
        "porosity = 0.25  ", "bulk_density = 1650\nporosity = 0.25  "
    )
    text = text.replace("porosity = 0.2\n", "bulk_density = 1700\nporosity = 0.2\n") + SPECIES
    text = text.replace(
        'rate = "250 mm/year"', 'rate = "250 mm/year"\nconcentration = { nitrate = { series = "soil.csv" } }'
    )
    assert old in text
    site.write_text(text.replace(old, new), encoding="utf-8")
    (first_project / "soil.csv").write_text("date,nitrate [mg/l]\n2014-01-01,40\n2016-06-01,10\n")
    (first_project / "line.geojson").write_text(
        shapely.to_geojson(shapely.LineString([(500, 0), (500, 1000)])), encoding="utf-8"
    )
    code, out, errors = command("check", site)
    assert code in (1, 2)
    assert message in " ".join((out + errors).split())
