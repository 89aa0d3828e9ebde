"""Conduits of a site: joined, cut by any grid, told, written, drawn; and what is refused before anything is solved."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn.draw import conduit_profile, conduits, spring_discharge
from inkhorn.files import read_model, write_model
from inkhorn.flow import conduits_of
from inkhorn.site import PickedCells

AVERLOW = Path(__file__).parents[1] / "examples" / "averlow"
BOX = shapely.box(0, 0, 1000, 600)
ROCK = ik.Material("rock", 2.0, porosity=0.02, specific_yield=0.02, specific_storage=1e-6)


def site(*features, schedule=None, ground=40.0, species=()):
    layers = [ik.Layer(n, ik.ConstantSurface(z)) for n, z in (("upper", 20.0), ("lower", 0.0))]
    strata = ik.Strata(ik.ConstantSurface(ground), tuple(layers))
    river = ik.HeadDependent(
        name="river", shape=shapely.LineString([(1000, 0), (1000, 600)]), head=24.0, conductance=5.0
    )
    return ik.Site(
        BOX, strata, {"upper": ROCK, "lower": ROCK}, features=(river, *features), schedule=schedule, species=species
    )  # fmt: skip


def conduit(name="main", line=((100, 300), (900, 300)), **given):
    base = {"elevation": (30.0, 18.0), "diameter": 0.5, "roughness": 0.02, "exchange": 0.1}
    return ik.Conduit(name=name, shape=shapely.LineString(line), **(base | given))


def spring(x=900, y=300, **given):
    return ik.ConduitSpring(name="spring", shape=shapely.Point(x, y), **({"level": 19.0} | given))


def sink(x=100, y=300, **given):
    return ik.Sinkhole(name="sink", shape=shapely.Point(x, y), **({"inflow": 2000.0} | given))


GRIDS = {
    "rectangles": lambda: ik.rectangles(BOX, cell=50),
    "turned": lambda: ik.rectangles(BOX, cell=40, rotation=25),
    "voronoi": lambda: ik.voronoi(BOX, cell=45, seed=3),
    "split": lambda: ik.split_in_four(BOX, cell=100, near=[(shapely.box(100, 290, 900, 310), 25)]),
}


@pytest.mark.parametrize("mesh", GRIDS)
def test_any_grid_cuts_the_same_network(mesh):
    """Lengths, volumes and what is let in are those of the site; heads and springs nearly alike."""
    side = conduit("side", [(500, 80), (500, 300)], elevation=(27.0, 24.0), diameter=(0.2, 0.3), winding=1.5)
    quick = ik.QuickRecharge(name="shafts", shape=shapely.box(-500, 100, 700, 500), rate=1e-3)
    rain = ik.Recharge(name="rain", shape=BOX, rate=1e-3)
    model = ik.place(site(conduit(), side, spring(), sink(), quick, rain), GRIDS[mesh]())
    term = conduits_of(model)
    by = term.pipe_feature
    npt.assert_allclose([term.length[by == 0].sum(), term.length[by == 1].sum()], [800.0, 330.0], rtol=1e-6)
    assert np.bincount(term.links.ravel()).max() == 3  # one junction
    flow = ik.solve_flow(model)
    budget = flow.conduit_budget()
    npt.assert_allclose(budget.loc[("let in", "shafts")].iloc[0], 1e-3 * 1200 * 400)
    npt.assert_allclose(budget.loc[("let in", "sink")].iloc[0], 2000.0)
    assert abs(budget.attrs["closing_error_percent"]) < 1e-7
    npt.assert_allclose(budget.loc[("spring", "spring")].iloc[1], 2860.0, rtol=0.03)
    placed = model.placed.set_index("feature")
    npt.assert_allclose(placed.loc["shafts", "total"], 480.0)
    assert "upper, lower" in placed.loc["main", "note"]
    assert not [f for f in ik.check(model) if "no cell" in f.what]


def test_lines_join_where_they_meet_and_pass_over_each_other_elsewhere():
    over = conduit("over", [(300, 100), (300, 500)], elevation=35.0)
    at_level = conduit("at level", [(700, 100), (700, 500)], elevation=21.0)
    near = conduit("near", [(500, 100), (500, 297)], elevation=24.0)
    model = ik.place(site(conduit(), over, at_level, near, spring()), ik.rectangles(BOX, cell=50))
    term = conduits_of(model)
    degree = np.bincount(term.links.ravel())
    assert (degree == 4).sum() == 1
    note = model.placed.set_index("feature").loc["main", "note"]
    assert '"main" and "over" cross 8 m apart' in note
    assert 'an end of "near" lies 3 m from "main", not joined' in note


def test_a_share_of_the_recharge_goes_straight_into_conduits():
    rain = ik.Recharge(name="rain", shape=BOX, rate=1e-3)
    quick = ik.QuickRecharge(name="quick", shape=shapely.box(200, 0, 600, 600), share=0.4, sinkhole="sink")
    flow = ik.solve_flow(
        ik.place(site(conduit(), spring(), sink(inflow=0.0), rain, quick), ik.rectangles(BOX, cell=50))
    )
    cells = replace(rain, shape=PickedCells(numbers=np.arange(240)))
    of_cells = ik.solve_flow(
        ik.place(site(conduit(), spring(), sink(inflow=0.0), cells, quick), ik.rectangles(BOX, cell=50))
    )
    npt.assert_allclose(of_cells.steps[0].heads, flow.steps[0].heads, rtol=1e-9)
    whole = 1e-3 * 1000 * 600
    npt.assert_allclose(flow.conduit_budget().loc[("let in", "quick")].iloc[0], 0.4 * 1e-3 * 400 * 600)
    npt.assert_allclose(flow.budget().loc["recharge"].iloc[0], whole - 0.4 * 1e-3 * 400 * 600)
    known = [str(k) for k in flow.model.traces.inputs]
    by_share = flow.model.traces.arrays["recharge.area"].matrix(len(known)).sum(axis=0)
    npt.assert_allclose(by_share[known.index("quick recharge quick: share")], -400.0 * 600.0)
    more = replace(quick, name="more", share=0.7)
    with pytest.raises(ik.InputError, match="more than all of the recharge"):
        ik.place(site(conduit(), sink(), rain, quick, more), ik.rectangles(BOX, cell=50))


def test_a_model_with_conduits_comes_back_from_its_file(tmp_path):
    model = ik.place(site(conduit(), spring(), sink()), ik.rectangles(BOX, cell=100))
    write_model(model, tmp_path / "model.nc")
    again = ik.solve_flow(read_model(tmp_path / "model.nc"))
    npt.assert_array_equal(again.steps[0].heads, ik.solve_flow(model).steps[0].heads)


@pytest.mark.parametrize(
    ("features", "words"),
    [
        ([conduit(), sink(x=100, y=340)], "lies 40 m from the nearest conduit"),
        ([conduit(elevation=(55.0, 18.0))], "above the ground"),
        ([conduit(elevation=(30.0, -18.0))], "below all layers"),
        ([conduit(line=[(100, 300), (1400, 300)])], "leaves the grid"),
        ([conduit(exchange=0.0), sink()], "nothing fixes the level"),
        ([conduit(), conduit("loose", [(200, 100), (400, 100)], exchange=0.0), spring()], '"loose"'),
        ([sink()], "there are none"),
        ([conduit(), conduit("twin", [(200, 300), (400, 300)])], "runs along"),
        ([conduit(), conduit("up", [(500, 100), (500, 300)], elevation=32.0)], "above or below it"),
        ([conduit(), ik.QuickRecharge(name="q", shape=BOX, rate=1e-3, sinkhole="sinc"), sink()], 'did you mean "sink"'),
    ],
)  # fmt: skip
def test_what_cannot_be_is_named_before_anything_is_solved(features, words):
    with pytest.raises(ik.InputError) as found:
        ik.solve_flow(ik.place(site(*features), ik.rectangles(BOX, cell=50)))
    assert words.lower() in str(found.value).lower()


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"diameter": 0.0}, "diameter"), ({"diameter": -1.0}, "diameter"), ({"elevation": None}, "no elevation"),
        ({"cross_section": 1.0}, "not both"), ({"turbulent_from": 2100.0}, "1.5 times"), ({"winding": 0.5}, "winding"),
        ({"line": [(0, 0), (100, 0), (50, 50), (50, -50)]}, "crosses itself"),
    ],
)  # fmt: skip
def test_what_no_conduit_can_be_is_refused(given, words):
    with pytest.raises(ik.InputError, match=words):
        conduit(**given)


def test_a_storm_is_followed_and_converges_with_the_order_of_its_steps():
    """The spring's discharge after a flood, by steps halved: Euler's method and that of second order."""
    flood = ik.Series([0.0, 0.25], [500.0, 9000.0])
    found = {}
    for order in (1, 2):
        values = []
        for steps in (8, 16, 32):
            schedule = ik.Schedule([0.0, 0.25, 1.0], steady=[True, False, False], steps=[1, steps, steps])
            model = ik.place(
                site(conduit(), spring(), sink(inflow=flood, shaft_radius=8.0), schedule=schedule),
                ik.rectangles(BOX, cell=100),
            )
            flow = ik.solve_flow(model, order=order)
            assert (
                max(
                    abs(flow.conduit_budget(k).attrs["closing_error_percent"]) for k in range(len(flow.steps))
                )
                < 1e-6
            )
            values.append(flow.conduit_nodes()["head [m]"].max())
        found[order] = np.abs(np.diff(values))
    assert found[1][0] / found[1][1] > 1.6
    assert found[2][0] / found[2][1] > 2.8


@pytest.fixture(scope="module")
def averlow(tmp_path_factory):
    """The example on coarse cells, over its first storm."""
    folder = tmp_path_factory.mktemp("karst") / "averlow"
    shutil.copytree(AVERLOW, folder)
    text = (folder / "site.toml").read_text(encoding="utf-8")
    text = text.replace('cell = "50 m"', 'cell = "200 m"')
    (folder / "periods.csv").write_text("date,steady\n2031-11-04,yes\n2031-11-07,no\n", encoding="utf-8")
    (folder / "site.toml").write_text(text, encoding="utf-8")
    return folder


@pytest.mark.slow
def test_the_example_runs_and_all_that_conduits_carry_is_kept(averlow, command):
    code, out, err = command("run", averlow / "site.toml")
    assert (code, err) == (0, "")
    assert "spring Averlow spring:" in out
    assert "the budget of the conduits closes to" in out
    folder = averlow / "runs" / "run-001"
    run = ik.open_run(folder)
    pipes, term = pd.read_csv(folder / "conduits.csv"), conduits_of(run.flow.model)
    assert len(pipes) == len(gpd.read_file(folder / "conduits.gpkg", layer="pipes")) == len(term.first)
    assert len(gpd.read_file(folder / "conduits.gpkg", layer="nodes")) == term.n_levels
    springs = pd.read_csv(folder / "springs.csv")
    assert springs["Averlow spring [l/s]"].max() > 2.5 * springs["Averlow spring [l/s]"].min()
    shares = pd.read_csv(folder / "path_shares-to_the_spring.csv").set_index("feature")["share [%]"]
    assert 5.0 < shares["the swallow"] < 50.0
    ends = pd.read_csv(folder / "path_ends-from_the_swallow.csv")
    assert len(ends) == 100
    assert ends["travel time [day]"].min() < 0.5
    with xr.open_dataset(folder / "conduits.nc", engine="h5netcdf") as file:
        npt.assert_allclose(file["flow"][-1], 86.4 * pipes["flow [l/s]"], rtol=1e-8)
        assert file["spring"].sum("node").max() > 3.0 * 86.4 * 100
    assert {
        "conduits.png",
        "conduit_profile.png",
        "springs.png",
        "conduit_budget.csv",
        "conduit_nodes.csv",
    } <= {p.name for p in folder.iterdir()}
    for ax in (conduits(run.flow, step=3), conduit_profile(run.flow, step=3), spring_discharge(run.flow)):
        assert ax.get_title()
        ax.figure.clear()
    with pytest.raises(ik.InputError, match="Averlow spring"):
        conduit_profile(run.flow, "Averlov spring")


DYE = ik.Species("dye", background=0.0)


def tracer(*features, mesh=None, species=DYE, **given):
    """A main conduit into which dye is put for a while, and the flow of the whole."""
    pulse = {"dye": ik.Series([0.0, 0.02, 0.03], [0.0, 1000.0, 0.0])}
    low = conduit(**({"elevation": (18.0, 14.0)} | given))
    made = site(low, spring(), sink(concentration=pulse), *features, species=(species,))
    return ik.solve_flow(ik.place(made, mesh or ik.rectangles(BOX, cell=50)))


def curve_of(plume, name):
    at = plume.places.index(name)
    times = np.concatenate([r.watch_times for r in plume.records])
    return times, np.concatenate([r.watched[:, at] for r in plume.records])


def test_dye_from_a_sinkhole_comes_out_at_the_spring_when_the_water_does():
    """After the sum of area times length over flow; all of it, as none is lost to the rock."""
    flow = tracer(exchange=0.0)
    pipes = flow.conduits()
    way = (0.25 * np.pi * pipes["diameter [m]"] ** 2 * pipes["length [m]"] / pipes["flow [m³/day]"]).sum()
    plume = ik.solve_transport(flow, DYE, duration=1.0, outputs=3)
    times, c = curve_of(plume, "spring")
    npt.assert_allclose(times[np.nanargmax(c)] - 0.025, way, rtol=0.02)
    budget = plume.budget()
    npt.assert_allclose(budget.loc[("conduit", "sink"), "in [kg]"], 20.0, rtol=1e-12)
    npt.assert_allclose(budget.loc[("conduit", "spring"), "out [kg]"], 20.0, rtol=1e-9)
    assert abs(budget.attrs["closing_error_percent"]) < 1e-7


def test_dye_goes_from_conduits_into_the_rock_and_back():
    """Where the conduit loses water its rock gets dye, where it gains it gets clean water; nothing is lost of it."""
    decaying = ik.Species("dye", background=0.0, half_life=2.0)
    for species in (DYE, decaying):
        flow = tracer(exchange=3.0, elevation=(23.0, 14.0), species=species)
        assert set(flow.conduits()["exchange"]) >= {"given to the rock", "taken from the rock"}
        plume = ik.solve_transport(flow, species, duration=3.0, outputs=3)
        budget = plume.budget()
        assert abs(budget.attrs["closing_error_percent"]) < 1e-7
        assert plume.values.min() > -1e-12
        assert plume.values[-1].max() > 0.1
        assert budget.loc[("conduit", "spring"), "out [kg]"] < 19.5


def test_a_plume_in_time_through_conduits_goes_on_from_its_file(tmp_path):
    """Through a flood, half of it, then the rest from the records: the same as in one go."""
    from inkhorn.files import PlumeFile

    flood = ik.Series([0.0, 0.25, 0.5], [500.0, 9000.0, 800.0])
    schedule = ik.Schedule([0.0, 0.25, 0.5, 1.0], steady=[True, False, False, False], steps=[1, 4, 4, 4])
    pulse = {"dye": ik.Series([0.0, 0.2, 0.4], [0.0, 50.0, 0.0])}
    put_in = sink(inflow=flood, shaft_radius=3.0, concentration=pulse)
    made = site(conduit(exchange=0.5), spring(), put_in, species=(DYE,), schedule=schedule)
    flow = ik.solve_flow(ik.place(made, ik.rectangles(BOX, cell=100)))
    whole = ik.solve_transport(flow, DYE, times=[0.3, 0.6, 1.0])
    file = PlumeFile(tmp_path / "dye.nc", flow, DYE)
    ik.solve_transport(flow, DYE, duration=0.6, times=[0.3, 0.6], store=file)
    half = PlumeFile.opened(tmp_path / "dye.nc", flow, DYE).result()
    gone_on = ik.solve_transport(flow, DYE, times=[1.0], go_on_from=half)
    npt.assert_allclose(gone_on.values[-1], whole.values[-1], atol=1e-9)
    for one in (whole, gone_on):
        assert abs(one.budget().attrs["closing_error_percent"]) < 1e-6
    npt.assert_allclose(gone_on.records[-1].stored, whole.records[-1].stored, rtol=1e-6, atol=1e-9)


def test_paths_go_through_conduits_with_their_water():
    """Forward in a flood, and from the spring back against it: as long as it takes the water to fill the pipe."""
    flood = ik.Series([0.0, 0.01, 0.03, 0.06], [900.0, 900.0, 5000.0, 3000.0])
    schedule = ik.Schedule([0.01, 0.09], steady=[True, False], steps=[1, 30])
    tight = site(
        conduit(exchange=0.0, elevation=(18.0, 14.0)), spring(), sink(inflow=flood), schedule=schedule
    )
    flow = ik.solve_flow(ik.place(tight, ik.rectangles(BOX, cell=100)))
    ends = np.array([s.end for s in flow.steps])
    rate = [flow.conduits(k)["flow [m³/day]"].iloc[0] for k in range(len(ends))]
    passed = np.concatenate([[0.0], np.cumsum(rate * np.diff(ends, prepend=0.0))])
    days, full = np.append(0.0, ends), 0.25 * np.pi * 0.5**2 * 800.0
    for backward, begins in ((False, 0.02), (True, 0.085)):
        starts = ik.starts_in_conduits(flow, count=2, backward=backward)
        found = ik.trace(flow, starts, backward=backward, release=begins, mark=0.01)
        sign = -1.0 if backward else 1.0
        there = np.interp(np.interp(begins, days, passed) + sign * full, passed, days)
        npt.assert_allclose(found.ends["travel time [day]"], sign * (there - begins), rtol=1e-9)
        word = "entered by a conduit" if backward else "left by a conduit"
        assert found.ends[["end", "feature"]].drop_duplicates().to_numpy().tolist() == [
            [word, "sink" if backward else "spring"]
        ]
        npt.assert_allclose(
            found.ends[["end x [m]", "end y [m]"]], [[100.0 if backward else 900.0, 300.0]] * 2
        )
        assert (found.marks().groupby("path").size() == int(sign * (there - begins) / 0.01)).all()


@pytest.mark.parametrize("mesh", ["turned", "split"])
def test_shares_of_paths_through_conduits_are_those_of_the_budgets(mesh):
    """Each way: what conduits take from the rock and what they give it back, with the time in an open shaft."""
    rain = ik.Recharge(name="rain", shape=BOX, rate=1e-3)
    made = site(conduit(exchange=1.0), spring(), sink(inflow=300.0, shaft_radius=2.0), rain)
    flow = ik.solve_flow(ik.place(made, GRIDS[mesh]()))
    lets_in, n = flow.conduit_budget(), 4000
    comes = 300.0 / lets_in.loc[("spring", "spring")].iloc[1]
    kept = {}
    for backward in (False, True):
        starts = ik.starts_of_inflow(flow, count=n, backward=backward)
        kept[backward] = ik.trace(flow, starts, backward=backward, points=False, seed=4)
        shares = kept[backward].shares()["flow [m³/day]"]
        way = ["sink", "spring"][:: -1 if backward else 1]
        through = shares.xs((way[0], way[1]), level=("start", "feature")).sum()
        assert abs(through - 300.0) < 3.5 * starts.flow.sum() * np.sqrt(comes * (1 - comes) / n)
        assert "stagnant" not in shares.index.get_level_values("end")
    npt.assert_allclose(
        kept[True].ends["flow [m³/day]"].sum(), kept[False].ends["flow [m³/day]"].sum(), rtol=1e-6
    )
    node = flow.conduit_nodes().set_index("feature").loc["sink"]
    stays = np.pi * 4.0 * (node["head [m]"] - node["bed [m]"]) / 300.0
    sent = ik.trace(
        flow,
        ik.starts_in_conduits(flow, ["sink"], count=n),
        points=False,
        stop_in=shapely.box(120, 0, 1000, 600),
    )
    times = sent.ends["travel time [day]"]
    times = times[times < 30.0 * stays]  # without those that went through the rock
    assert len(times) > 0.9 * n
    assert abs(times.std() - stays) < 4.0 * stays * np.sqrt(2.0 / n)
    with pytest.raises(ik.InputError, match='Did you mean "spring"'):
        ik.starts_in_conduits(flow, ["sprink"], backward=True)
    with pytest.raises(ik.InputError, match="no water is let into conduits at spring"):
        ik.starts_in_conduits(flow, ["spring"])


@pytest.mark.slow
def test_a_project_in_feet_fits_the_walls_of_conduits_to_a_spring(first_project, command):
    """z of the vertices is in the unit of the project; the gauge of a spring is a reading like any other."""
    site_file = first_project / "site.toml"
    text = site_file.read_text(encoding="utf-8")
    karst = """
[[conduit]]
name = "main"
file = "main.geojson"
diameter = "0.4 m"
roughness = "1 cm"
exchange = "0.3 m/day"

[[conduit_spring]]
name = "rising"
file = "rising.geojson"
level = "12 m"

[[measured]]
name = "gauge"
gain_of = ["rising"]
value = "900 m3/day"

[[fit]]
[[fit.parameter]]
name = "walls"
of = "conduit.exchange"
"""
    text = text[: text.index("[bores]")] + karst
    places = {
        "main": shapely.LineString([(300, 500, 11.0), (900, 500, 10.0)]),
        "rising": shapely.Point(900, 500),
    }
    for name, shape in places.items():
        (first_project / f"{name}.geojson").write_text(gpd.GeoSeries([shape]).to_json())
    for unit, metres in (("ft", 0.3048), ("m", 1.0)):
        site_file.write_text(text.replace('length = "m"', f'length = "{unit}"'), encoding="utf-8")
        main = ik.read_site(site_file).feature("main")
        npt.assert_allclose(main.elevation, np.array([11.0, 10.0]) * metres)
        npt.assert_allclose(main.shape.length, 600.0 * metres)
    grid = ik.rectangles(shapely.box(0, 0, 1000, 1000), cell=100)
    before = (
        ik.solve_flow(ik.place(ik.read_site(site_file), grid)).spring_discharge()["rising [m³/day]"].iloc[-1]
    )
    assert command("fit", site_file)[::2] == (0, "")
    run = ik.open_run(first_project / "runs" / "fit-001")
    npt.assert_allclose(run.flow.spring_discharge()["rising [m³/day]"].iloc[-1], 900.0, rtol=1e-3)
    assert abs(before - 900.0) > 50.0
