"""Many runs: what is varied and watched, who makes them, what is kept of them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import textwrap
import time

import numpy as np
import numpy.testing as npt
import pytest

import inkhorn as ik
from inkhorn import terms
from inkhorn.ensemble import Shares, VariedSet, statistics_of
from inkhorn.ensemble.distributions import Distribution
from inkhorn.ensemble.maps import MapStatistics


def aquifer(columns=20, rows=12, *, confined=True, specific_storage=None, schedule=None):
    grid = ik.layered(
        ik.rectangles((0, 0, 10.0 * columns, 10.0 * rows), cell=10), [10.0, 0.0], names=["sand"]
    )
    x = grid.cells.x
    sides = [np.flatnonzero(x < 10), np.flatnonzero(x > 10.0 * columns - 10)]
    rim = terms.FixedHeadTerm(
        cells=np.concatenate(sides),
        head=np.repeat([15.0, 10.0], [len(s) for s in sides]),
        feature_names=("rim",),
    )
    return ik.Model(grid, 10.0, porosity=0.25, terms=[rim], water_table=ik.WaterTable(confined=confined))


LN_K = ik.Varied(
    name="ln K", of="conductivity",
    value=ik.RandomField(variogram=ik.Variogram.of_lengths("exponential", 1.0, length=40.0)),
)  # fmt: skip
POROSITY = ik.Varied(name="porosity", of="porosity", how="set", value=ik.Uniform(0.2, 0.3))
LEVEL = ik.Watch(name="level", level_at=(100.0, 60.0), layer="sand")
K_THERE = ik.Watch(name="K", value_at=(100.0, 60.0), value="ln horizontal_conductivity", layer="sand")
SPEED = ik.Watch(name="speed", value_at=(100.0, 60.0), value="pore velocity along x", layer="sand", limit=0.1)


@pytest.mark.parametrize(
    "one",
    [
        ik.Normal(10.0, 2.0), ik.Normal(1.0, 2.0, lower=0.5, upper=3.0), ik.LogNormal(5.0, 0.7),
        ik.LogNormal(5.0, 0.7, upper=6.0), ik.Uniform(-1.0, 3.0), ik.Triangular(0.0, 1.0, 5.0),
    ],
    ids=lambda one: one.words,
)  # fmt: skip
def test_shares_of_a_distribution_give_its_mean_and_its_deviation(one: Distribution):
    shares = (np.arange(200_000) + 0.5) / 200_000
    values = one.at(shares)
    values = np.log(values) if one.logarithmic else values
    npt.assert_allclose([values.mean(), values.std()], [one.centre, one.spread], rtol=2e-3)
    assert (np.diff(one.at(shares)) >= 0.0).all()


@pytest.mark.parametrize("sampling", ["latin hypercube", "sobol", "random"])
def test_the_numbers_of_a_run_do_not_depend_on_how_many_runs_there_are(sampling):
    one = Shares(3, sampling, 7, block=50)
    rows = np.array([one.of(k) for k in range(400)])
    other = Shares(3, sampling, 7, block=50)
    npt.assert_array_equal([other.of(k) for k in (399, 3, 250, 120)], rows[[399, 3, 250, 120]])
    assert len(np.unique(rows, axis=0)) == 400
    if sampling == "latin hypercube":
        npt.assert_array_equal(np.sort((rows[50:100] * 50).astype(int), axis=0)[:, 0], np.arange(50))
    off = np.abs(rows.mean(axis=0) - 0.5).max()
    assert off < (0.06 if sampling == "random" else 0.006)


@pytest.mark.slow
def test_statistics_and_their_standard_errors_are_those_of_the_sample():
    numbers = np.random.default_rng(3)
    means, told = [], []
    for _ in range(120):
        values = numbers.lognormal(0.0, 0.4, 150)
        table = statistics_of(values, limit=1.0)
        means.append(table["value"])
        told.append(table["standard error"])
    spread = np.std(
        [m[["mean", "deviation", "median", "quantile 95 %", "share above 1"]] for m in means], axis=0
    )
    said = np.median(
        [t[["mean", "deviation", "median", "quantile 95 %", "share above 1"]] for t in told], axis=0
    )
    npt.assert_allclose(said, spread, rtol=0.25)
    many = statistics_of(numbers.lognormal(0.0, 0.5, 40_000), failed=3)["value"]
    s = np.exp(0.25)
    npt.assert_allclose(many["skewness"], (s + 2.0) * np.sqrt(s - 1.0), rtol=0.1)
    npt.assert_allclose(many["mode"], np.exp(-0.25), rtol=0.15)
    assert many["runs that failed"] == 3


def test_maps_in_bounded_memory_say_by_how_much_their_quantiles_may_be_off():
    numbers = np.random.default_rng(5)
    rows = numbers.lognormal(0.0, 1.0, (700, 40)) * np.linspace(0.1, 50.0, 40)
    rows[:, 7] = np.nan
    rows[::3, 9] = np.nan
    one = MapStatistics.empty(40, 5.0)
    for values in rows:
        one.add(values)
    assert one.first == []
    kept = np.delete(np.arange(40), 7)
    npt.assert_allclose(one.average[kept], np.nanmean(rows[:, kept], axis=0), rtol=1e-12)
    npt.assert_allclose(one.deviation[kept], np.nanstd(rows[:, kept], axis=0, ddof=1), rtol=1e-12)
    npt.assert_allclose(one.chance[[0, 39]], [(rows[:, k] > 5.0).mean() for k in (0, 39)])
    assert np.isnan(one.average[7])
    for share in (0.05, 0.5, 0.95):
        found, error = one.quantile(share)
        exact = np.nanquantile(rows[:, kept], share, axis=0, method="inverted_cdf")
        assert (np.abs(found[kept] - exact) <= error[kept] + 1e-12).all()
        assert (error[kept] <= 0.06 * (one.greatest - one.least)[kept] + 1e-12).all()


def test_what_is_varied_acts_in_its_order_and_where_it_is_said():
    model = aquifer()
    half = ik.Varied(name="west", of="conductivity", how="set", value=ik.Uniform(5.0, 15.0), shape=_west())
    factor = ik.Varied(name="all", of="conductivity", value=ik.Uniform(1.0, 3.0))
    ready = VariedSet(model, [half, factor, POROSITY])
    assert ready.names == ("west", "all", "porosity")
    assert ready.units == ("m/day", "-", "-")
    found = ready.model_of(ready.drawn(np.array([0.2, 0.5, 0.1]), 0))
    west = model.grid.cells.x < 100.0
    npt.assert_allclose(found.horizontal_conductivity[west], 7.0 * 2.0)
    npt.assert_allclose(found.vertical_conductivity[~west], 10.0 * 2.0)
    npt.assert_allclose(found.porosity, 0.21)
    edited = ik.FieldMaker(model.grid, LN_K.value)
    fields = VariedSet(model, [LN_K]).drawn(np.empty(0), np.random.SeedSequence(3)).inputs
    drawn = edited.draw(np.random.SeedSequence(3).spawn(1)[0])
    npt.assert_array_equal(fields["horizontal_conductivity"], 10.0 * drawn)


def _west():
    from shapely import box

    return box(0, 0, 100, 200)


@pytest.mark.slow
def test_runs_are_the_same_bits_whoever_makes_them_and_more_may_be_added():
    model = aquifer()
    options = {"maps": [ik.WatchMap(name="levels", layer="sand", limit=13.0)], "seed": 4, "block": 12}
    here = ik.vary(model, [LN_K, POROSITY], [LEVEL, K_THERE, SPEED], runs=24, workers=0, **options)
    one, two = (
        ik.vary(model, [LN_K, POROSITY], [LEVEL, K_THERE, SPEED], runs=24, workers=n, **options)
        for n in (1, 3)
    )
    kept = []
    ik.vary(
        model, [LN_K, POROSITY], [LEVEL, K_THERE, SPEED], runs=9, workers=0,
        keep=lambda state, last: kept.append(state), **options,
    )  # fmt: skip
    more = ik.vary(
        model, [LN_K, POROSITY], [LEVEL, K_THERE, SPEED], runs=24, workers=2, go_on=kept[-1], **options
    )
    for other in (one, two, more):
        npt.assert_array_equal(other.values, here.values)
        npt.assert_array_equal(other.numbers, here.numbers)
        for key in ("mean", "chance", "quantile"):
            npt.assert_array_equal(other.map("levels")[key], here.map("levels")[key])
    assert here.of("K").std() == pytest.approx(1.0, abs=0.4)
    npt.assert_allclose(here.stated[1], np.log(10.0))
    table = here.statistics("speed").set_index("statistic")["value"]
    assert table["share above 0.1"] == (here.of("speed") > 0.1).mean()
    assert here.rank_correlations("speed")["number"].tolist() == ["porosity"]
    assert "24 runs" in repr(here)


def test_runs_that_cannot_be_are_kept_with_their_reason_and_the_rest_goes_on():
    model = aquifer()
    wild = ik.Varied(name="added", of="porosity", how="add", value=ik.Normal(0.0, 0.07))
    with pytest.raises(ik.InputError, match=r'"added" may be so low that a model cannot be.*bounds'):
        ik.vary(
            model, [ik.Varied(name="added", of="porosity", how="add", value=ik.Normal(0.0, 0.2))], [LEVEL]
        )
    found = ik.vary(model, [wild, LN_K], [SPEED], runs=8, workers=0, seed=2, solver={"max_iterations": 30})
    assert not found.state.failed
    rough = ik.Varied(
        name="rough", of="porosity", how="add",
        value=ik.RandomField(
            mean=-0.02, variogram=ik.Variogram.of_lengths("exponential", 0.006, length=40.0), logarithmic=False
        ),
    )  # fmt: skip
    found = ik.vary(model, [rough], [SPEED, LEVEL], runs=30, workers=2, seed=2)
    assert 2 < len(found.state.failed) < 30
    assert found.failures()["why"].str.contains("porosity").all()
    assert np.isnan(found.values[list(found.state.failed)]).all()
    assert len(found.of("level")) == 30 - len(found.state.failed)
    assert (found.statistics()["statistic"] == "runs that failed").sum() == 2
    worse = ik.Varied(name="rough", of="porosity", how="add", value=ik.RandomField(
        mean=-0.2, variogram=ik.Variogram.of_lengths("exponential", 0.1, length=40.0), logarithmic=False
    ))  # fmt: skip
    with pytest.raises(ik.ConvergenceError, match="all 4 runs failed; the first because"):
        ik.vary(model, [worse], [LEVEL], runs=4, workers=0)


@pytest.mark.slow
def test_runs_end_when_what_is_to_settle_has_settled_however_they_are_made():
    model = aquifer()
    settle = ik.Settle("level", 0.05, least=20)
    counts = [
        ik.vary(model, [LN_K], [LEVEL], runs=400, settle=settle, workers=n, block=400).state.count
        for n in (0, 2)
    ]
    assert counts[0] == counts[1]
    assert 20 <= counts[0] < 400
    with pytest.raises(ik.InputError, match=r'"levl" is to settle, and is not watched.*level'):
        ik.vary(model, [LN_K], [LEVEL], settle=ik.Settle("levl", 0.05))


def test_what_dissolves_and_paths_are_watched_with_the_flow():
    model = aquifer()
    cells = model.grid.cells
    block = np.where((cells.x < 40) & (cells.x > 20) & (np.abs(cells.y - 60) < 20), 100.0, 0.0)
    species = ik.Species("salt", background=0.0, initial=block, limit=10.0)
    carry = ik.Carry(
        species, {"duration": 200.0, "outputs": 4, "dispersion": ik.Dispersion(2.0, 0.2), "keep_flows": True}
    )
    follow = ik.Follow(_start_west, {"max_time": 5000.0}, of_flow=True)
    from shapely import LineString

    across = LineString([(95, -5), (95, 125)])
    watch = [
        ik.Watch(name="salt", concentration_at=(65.0, 60.0), layer="sand", times=[50.0, 100.0, 200.0]),
        ik.Watch(name="area", above_limit="area"),
        ik.Watch(name="highest", above_limit="highest", times=[200.0]),
        ik.Watch(name="mass", mass_across=across, times=[200.0]),
        ik.Watch(name="water", across=across),
        ik.Watch(name="way", travel_time_of="line"),
    ]
    maps = [
        ik.WatchMap(name="plume", of="concentration", time=200.0),
        ik.WatchMap(name="passed", of="capture", within=300.0),
    ]
    found = ik.vary(model, [LN_K], watch, maps=maps, carry=carry, follow=follow, runs=6, workers=0)
    flow = ik.solve_flow(model)
    plume = ik.solve_transport(flow, species, **carry.options)
    at = dict(
        zip(
            zip(found.columns["watched"], found.columns["time [day]"], strict=True), found.stated, strict=True
        )
    )
    cell = int(model.grid.mesh.locate([65.0], [60.0])[0])
    npt.assert_allclose(at["salt", 100.0], plume.records[2].concentration[cell])
    npt.assert_allclose(at["highest", 200.0], plume.records[-1].concentration.max())
    npt.assert_allclose(found.stated[3], plume.above_limit()["area [m²]"].iloc[-1])
    assert abs(at["mass", 200.0]) > 0.0
    npt.assert_allclose(abs(found.stated[6]), 10.0 * 120.0 * 10.0 * 5.0 / 190.0, rtol=1e-6)
    assert 0.0 < float(found.map("plume")["chance"].max()) <= 1.0
    assert 0.0 < float(found.map("passed")["mean"].mean()) < 1.0
    assert found.of("way").std() > 0.0
    late = ik.Watch(name="late", concentration_at=(65.0, 60.0), layer="sand", times=[201.0])
    with pytest.raises(ik.InputError, match="lie outside the transport, which goes from day 0 to 200"):
        ik.vary(model, [LN_K], [late], carry=carry, runs=1, workers=0)
    bands = found.bands("salt")
    assert bands["runs"].tolist() == [6, 6, 6]
    assert (bands["quantile 5 %"] <= bands["quantile 95 %"]).all()


def _start_west(flow):
    return ik.starts_on_line(flow, [(25.0, 20.0), (25.0, 100.0)], count=9)


@pytest.mark.parametrize(
    ("watch", "message"),
    [
        ({"level_at": (1e4, 0.0), "layer": "sand"}, "lies outside the cells"),
        ({"level_at": (100.0, 60.0)}, "Give `layer`"),
        ({"level_in": "Q1"}, 'is in the well "Q1"'),
        ({"value_at": (100.0, 60.0), "value": "hed", "layer": "sand"}, 'is of "hed"; expected.*Did you mean'),
        ({"concentration_in": "well"}, "nothing is carried"),
        ({"travel_time_of": "well"}, "none are followed"),
        ({"level_at": (100.0, 60.0), "layer": "sand", "times": [3.0]}, "steady, and has no times"),
        ({}, "is of one thing; got none"),
        ({"passed_in": "a", "times": [1.0]}, "one number of all time"),
    ],
)
def test_what_cannot_be_watched_is_refused_before_any_run(watch, message):
    with pytest.raises(ik.InputError, match=message):
        ik.vary(aquifer(), [LN_K], [ik.Watch(name="it", **watch)], workers=0)


# --- workers that die, and clusters ---------------------------------------------------------------


class Deadly(ik.Carry):
    """Kills its worker in some runs: once, or each time."""

    def solved(self, flow):
        number = float(flow.model.porosity[0])
        if self.options["low"] < number < self.options["high"] and os.getpid() != self.options["main"]:
            once = self.options.get("once")
            if once is None:
                os.kill(os.getpid(), signal.SIGKILL)
            try:
                os.close(os.open(once, os.O_CREAT | os.O_EXCL))
                os.kill(os.getpid(), signal.SIGKILL)
            except FileExistsError:
                pass
        return {}


def deadly(**options):
    return Deadly((), {"main": os.getpid(), **options})


@pytest.mark.slow
def test_a_worker_that_is_killed_costs_no_run_and_one_that_dies_each_time_is_told(tmp_path):
    model = aquifer()
    plain = ik.vary(model, [LN_K, POROSITY], [LEVEL], runs=16, workers=0)
    once = deadly(low=0.25, high=0.26, once=str(tmp_path / "killed"))
    found = ik.vary(model, [LN_K, POROSITY], [LEVEL], runs=16, workers=2, carry=once)
    assert (tmp_path / "killed").exists()
    npt.assert_array_equal(found.values, plain.values)
    always = deadly(low=0.25, high=0.2562)
    found = ik.vary(model, [LN_K, POROSITY], [LEVEL], runs=16, workers=2, carry=always)
    bad = np.flatnonzero((plain.numbers[:, 0] > 0.25) & (plain.numbers[:, 0] < 0.2562))
    assert len(bad) == 1
    assert list(found.state.failed) == bad.tolist()
    assert "its worker died 3 times" in found.state.failed[int(bad[0])]
    npt.assert_array_equal(np.delete(found.values, bad, axis=0), np.delete(plain.values, bad, axis=0))


def scheduler(port):
    code = f"""
        import asyncio
        from distributed import Scheduler
        async def main():
            async with Scheduler(port={port}, host="127.0.0.1", dashboard=False) as s:
                print("up", flush=True)
                await s.finished()
        asyncio.run(main())
    """
    process = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(code)], stdout=subprocess.PIPE, text=True
    )
    with process.stdout as said:
        assert said.readline().strip() == "up"
    return process


def worker(port):
    command = [sys.executable, "-m", "distributed.cli.dask_worker", f"tcp://127.0.0.1:{port}", "--nthreads", "1",
               "--no-dashboard", "--no-nanny", "--death-timeout", "120"]  # fmt: skip
    return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def free_port():
    import socket

    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


@pytest.mark.slow
def test_a_cluster_makes_the_same_runs_though_a_worker_is_killed_and_its_scheduler_begins_anew():
    pytest.importorskip("distributed")
    model, port = aquifer(40, 30), free_port()
    plain = ik.vary(model, [LN_K, POROSITY], [LEVEL], runs=150, workers=0)
    running = [scheduler(port), worker(port), worker(port)]
    seen = []

    def disturbed(state, last):
        if state.count >= 30 and "worker" not in seen:
            seen.append("worker")
            running[1].kill()
        if state.count >= 60 and "scheduler" not in seen:
            seen.append("scheduler")
            for process in running:
                process.kill()
                process.wait()
            running[:] = [scheduler(port), worker(port), worker(port)]

    try:
        found = ik.vary(
            model, [LN_K, POROSITY], [LEVEL], runs=150, cluster=f"tcp://127.0.0.1:{port}", keep=disturbed
        )
    finally:
        for process in running:
            process.kill()
            process.wait()
    assert seen == ["worker", "scheduler"]
    npt.assert_array_equal(found.values, plain.values)
    assert not found.state.failed


def test_an_address_without_a_scheduler_is_named():
    pytest.importorskip("distributed")
    from inkhorn.ensemble import DaskCluster

    begin = time.monotonic()
    with pytest.raises(ik.InputError, match=r"there is no scheduler at tcp://127\.0\.0\.1:1"):
        DaskCluster("tcp://127.0.0.1:1", patience=2.0).open()
    assert time.monotonic() - begin < 30.0


def test_each_kind_of_number_with_a_distribution_may_be_put_into_a_model():
    model = aquifer()
    for one, low, high in (
        (ik.Varied(name="k", of="conductivity", how="factor", value=ik.Triangular(0.5, 1.0, 2.0)), 5.0, 20.0),
        (
            ik.Varied(name="k", of="horizontal_conductivity", how="add", value=ik.Uniform(-2.0, 4.0)),
            8.0,
            14.0,
        ),
        (ik.Varied(name="k", of="conductivity", how="set", value=ik.LogNormal(7.0, 0.3, 5.0, 9.0)), 5.0, 9.0),
        (ik.Varied(name="k", of="conductivity", how="set", value=ik.Normal(7.0, 1.0, 5.0, 9.0)), 5.0, 9.0),
    ):
        ready = VariedSet(model, [one])
        shares = np.linspace(0.001, 0.999, 30)
        values = [ready.model_of(ready.drawn(np.array([s]), 0)).horizontal_conductivity for s in shares]
        assert all(np.ptp(v) == 0.0 for v in values)
        own = np.array([v[0] for v in values])
        assert (np.diff(own) > 0.0).all()
        assert low <= own[0] < low + 0.25 * (high - low)
        assert high - 0.25 * (high - low) < own[-1] <= high


def test_derivatives_by_what_is_varied_equal_differences():
    model = aquifer(confined=False)
    parts = [
        ik.Varied(name="west", of="conductivity", how="set", value=ik.LogNormal(7.0, 0.3), shape=_west()),
        LN_K,
        ik.Varied(name="heads", of="fixed head.head", how="add", value=ik.Normal(0.0, 0.5)),
    ]
    ready = VariedSet(model, parts)
    at = ready.prior(np.array([0.3, 0.7]), 5)
    by = ready.changes(at)
    numbers = np.random.default_rng(1)
    way = numbers.standard_normal(ready.size)
    step = 1e-6
    more, less = (ready.of(at + sign * step * way).inputs for sign in (1.0, -1.0))
    for name, matrix in by.items():
        npt.assert_allclose(
            matrix @ way, (more[name] - less[name]).ravel() / (2 * step), rtol=1e-6, atol=1e-8
        )
    assert set(by) == {"horizontal_conductivity", "vertical_conductivity", "fixed head.head"}


@pytest.mark.parametrize(
    ("varied", "message"),
    [
        ([], "nothing is varied"),
        ([LN_K, LN_K], 'two varied things are called "ln K"'),
        ([ik.Varied(name="x", of="conductivit", value=ik.Uniform(1, 2))], "conductivit"),
        ([ik.Varied(name="x", of="conductivity", value=ik.Uniform(1, 2), layers=("clay",))], "clay"),
        (
            [ik.Varied(name="x", of="porosity", how="set", value=LN_K.value)],
            "the field sets values, and has no mean",
        ),
    ],
)
def test_what_cannot_be_varied_is_refused(varied, message):
    with pytest.raises(ik.InputError, match=message):
        ik.vary(aquifer(), varied, [LEVEL], workers=0)
    with pytest.raises(ik.InputError, match="value is 3; expected a distribution"):
        ik.Varied(name="x", of="porosity", value=3)
    with pytest.raises(ik.InputError, match="cannot lie between"):
        ik.Uniform(2.0, 1.0)
    with pytest.raises(ik.InputError, match="expected three that rise"):
        ik.Triangular(1.0, 3.0, 2.0)


def test_what_many_runs_say_is_drawn():
    from matplotlib.figure import Figure

    model = aquifer()
    found = ik.vary(
        model,
        [LN_K, POROSITY],
        [SPEED, LEVEL],
        maps=[ik.WatchMap(name="heads", limit=12.5)],
        runs=30,
        workers=0,
    )
    figure = Figure()
    ik.draw.watched(found, "speed", figure)
    words = [ax.get_xlabel() for ax in figure.axes] + [ax.get_ylabel() for ax in figure.axes]
    assert {"speed [m/day]", "share of runs below", "runs", "porosity [-]"} <= set(words)
    spread = ik.draw.spread(found, "level", ax=Figure().subplots())
    assert any(line.get_label() == f"mean {found.of('level').mean():.4g}" for line in spread.lines)
    assert not any("limit" in str(line.get_label()) for line in spread.lines)
    above = ik.draw.against_input(found, "speed", "level", ax=Figure().subplots())
    npt.assert_allclose(above.collections[0].get_offsets()[:, 1], found.of("speed")[:, 0])
    for of in ("mean", "deviation", "chance", "quantile"):
        ax = ik.draw.chance_map(found, "heads", of, share=0.9, ax=Figure().subplots())
        assert ax.get_title().startswith("heads: ")
    with pytest.raises(ik.InputError, match='has no "mode"'):
        ik.draw.chance_map(found, "heads", "mode", ax=Figure().subplots())
    with pytest.raises(ik.InputError, match='there is no number "rain"; expected one of'):
        ik.draw.against_input(found, "speed", "rain", ax=Figure().subplots())
    with pytest.raises(ik.InputError, match=r'there is no map "head"; .*Did you mean "heads"'):
        found.map("head")
    with pytest.raises(ik.InputError, match='nothing is watched under the name "leve"'):
        found.statistics("leve")
    checked = Figure()
    ik.draw.field_check(ik.FieldMaker(model.grid, LN_K.value), checked)
    assert len(checked.axes) == 4
    settled = found.settling("level")
    npt.assert_allclose(settled["mean"].iloc[-1], found.of("level").mean())
    npt.assert_allclose(settled["standard error"].iloc[-1], found.of("level").std(ddof=1) / np.sqrt(30))


SCRIPT = """
import inkhorn as ik
from tests.test_vary import LEVEL, LN_K, aquifer
{define}
found = ik.vary(aquifer(), [LN_K], [LEVEL], runs=4, workers=2{more})
print(found)
"""


@pytest.mark.slow
def test_a_script_needs_no_guard_but_where_runs_need_what_it_defines(tmp_path):
    root = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    environment = {**os.environ, "PYTHONPATH": root}
    define = "def begin(flow):\n    return ik.starts_on_line(flow, [(25, 20), (25, 100)], count=3)\n"
    for name, words, more in (
        ("plain", "", ""),
        ("own", define, ', follow=ik.Follow(begin, {"max_time": 100.0}, of_flow=True)'),
    ):
        script = tmp_path / f"{name}.py"
        script.write_text(SCRIPT.format(define=words, more=more), encoding="utf-8")
        done = subprocess.run(
            [sys.executable, str(script)], capture_output=True, text=True, env=environment, timeout=300
        )
        if name == "plain":
            assert "Ensemble(4 runs" in done.stdout, done.stderr
        else:
            assert done.returncode == 1
            assert 'call it below `if __name__ == "__main__":`' in done.stderr
