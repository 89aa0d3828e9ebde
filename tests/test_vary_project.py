"""Many runs of a project: from its tables to the run folder, stopped, gone on from, added to."""

from __future__ import annotations

import errno
import json
import os
import shutil
import signal
import time

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import xarray as xr

import inkhorn as ik
from inkhorn import runs
from inkhorn.runs import vary as varying

ASKED = """
[[species]]
name = "salt"
unit = "mg/l"
limit = "20 mg/l"
background = 5

[transport]
species = "salt"
duration = "20 years"
outputs = 4
dispersivity = "20 m"

[paths]
wells = ["well 1"]
max_time = "20 years"
per_well = 12

[[across]]
name = "middle"
line = [[500, 0], [500, 1000]]

[vary]
runs = 12
seed = 3

[[vary.field]]
name = "ln K of sand"
of = "conductivity"
layers = ["sand"]
random = { variance = 0.5, length = "200 m", measured = { file = "tests.csv" } }

[[vary.number]]
name = "rain"
of = "recharge.rate"
uniform = { lower = 0.8, upper = 1.2 }

[[vary.watch]]
name = "level"
level_at = [300, 300]
layer = "gravel"
limit = "16.5 m"

[[vary.watch]]
name = "salt at the well"
concentration_in = "well 1"
every = "5 years"

[[vary.watch]]
name = "way"
travel_time_of = "well 1"

[[vary.watch]]
name = "through"
across = "middle"

[[vary.map]]
name = "salt"
of = "concentration"

[[vary.map]]
name = "catchment"
of = "capture"
within = "10 years"
"""


@pytest.fixture
def varied(first_project):
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    start = text.index("[paths]") if "[paths]" in text else len(text)
    head = text[:start]
    for name in ("[fit]", "[transport]", "[[species]]"):
        head = head[: head.index(name)] if name in head else head
    site.write_text(
        head.replace('rate = "250 mm/year"', 'rate = "250 mm/year"\nconcentration = { salt = "30 mg/l" }')
        + ASKED,
        encoding="utf-8",
    )
    rows = {
        "x": [150.0, 650.0],
        "y": [250.0, 450.0],
        "value [m/day]": [4.0, 30.0],
        "layer": "sand",
        "name": ["a", "b"],
    }
    pd.DataFrame(rows).to_csv(first_project / "tests.csv", index=False)
    return site


@pytest.mark.slow
def test_many_runs_of_a_project_are_told_kept_and_drawn_and_more_are_added(varied, command):
    code, out, err = command("vary", varied, "--workers", 0)
    assert (code, err) == (0, "")
    for words in (
        "varied: 1 number with a distribution and 1 random field",
        "12 runs, 0 of them failed",
        "nine in ten",
    ):
        assert words in out
    folder = varied.parent / "runs" / "vary-001"
    names = {p.name for p in folder.iterdir()}
    assert {
        "runs.nc", "statistics_of_runs.csv", "every_run.csv", "rank_correlations.csv", "runs.xlsx", "watched-level.png",
        "bands-salt_at_the_well.csv", "bands-salt_at_the_well.png", "map_of_runs-salt.nc", "map_of_runs-catchment.png",
        "first_order.csv",
    } <= names  # fmt: skip
    found = ik.open_run(folder).ensemble
    assert found.state.count == 12
    npt.assert_allclose(pd.read_csv(folder / "every_run.csv")["level [m]"], found.values[:, 0], rtol=1e-8)
    assert found.times("salt at the well").tolist() == [1826.25, 3652.5, 5478.75, 7305.0]
    with xr.open_dataset(folder / "map_of_runs-catchment.nc", engine="h5netcdf") as file:
        npt.assert_allclose(file["mean"], found.map("catchment")["mean"])
        assert 0.0 < float(file["mean"].mean()) < 1.0
    first = pd.read_csv(folder / "first_order.csv")
    assert first["watched"].tolist() == ["level", "through"]
    assert (first["first-order deviation"] / first["deviation of runs"]).between(0.4, 2.5).all()
    code, out, _ = command("vary", varied, "--workers", 0, "--runs", 16, "--go-on", folder)
    assert (code, "goes on after 12 runs" in out) == (0, True)
    more = ik.open_run(folder.with_name("vary-002")).ensemble
    ready = ik.vary_project(ik.read_project(varied), varied.parent / "other", workers=2)[1]
    npt.assert_array_equal(more.values[:12], found.values)
    npt.assert_array_equal(ready.values, found.values)
    assert not np.isin(more.values[12:, 0], found.values[:, 0]).any()
    code, _, err = command("vary", varied, "--runs", 16, "--go-on", folder.with_name("vary-002"))
    assert (code, "has 16 runs already" in err) == (2, True)
    text = varied.read_text(encoding="utf-8").replace("variance = 0.5", "variance = 0.6")
    varied.write_text(text, encoding="utf-8")
    code, _, err = command("vary", varied, "--runs", 20, "--go-on", folder)
    assert (code, "holds runs of something else" in err) == (2, True)


@pytest.mark.slow
def test_runs_that_are_stopped_go_on_to_the_same_bits(varied, command, begun):
    whole = command("vary", varied, "--workers", 2, "--runs", 120)
    assert whole[0] == 0
    made = varied.parent / "runs"
    for name in ("SIGINT", "SIGTERM"):
        process = begun("vary", varied, "--workers", 2, "--runs", 120)
        begin = time.monotonic()
        said = ""
        while " runs: level" not in said and time.monotonic() - begin < 120.0:
            said += process.stdout.readline()
        process.send_signal(getattr(signal, name))
        out, err = process.communicate(timeout=120)
        assert "Traceback" not in err
        (kept,) = made.glob("stopped-vary-*")
        about = json.loads((kept / "about.json").read_text())
        assert 10 <= about["runs"] < 120
        assert f"{about['runs']} runs are kept in" in out
        assert command("vary", varied, "--workers", 2, "--runs", 120, "--go-on", kept)[0] == 0
        again = sorted(made.glob("vary-0*"))[-1]
        npt.assert_array_equal(
            runs.open_run(again).ensemble.values, runs.open_run(made / "vary-001").ensemble.values
        )
        for path in kept.iterdir():
            assert not path.name.endswith(".part")
        shutil.rmtree(kept)
    time.sleep(0.5)
    assert not list(made.glob(".*"))
    assert not [p for p in _processes() if "spawn_main" in p and str(os.getpid()) in p]


def _processes():
    found = []
    for path in os.listdir("/proc") if os.path.isdir("/proc") else []:
        if path.isdigit():
            try:
                with open(f"/proc/{path}/cmdline", encoding="utf-8") as file:
                    found.append(file.read().replace("\0", " "))
            except OSError:
                continue
    return found


@pytest.mark.slow
def test_a_full_disk_ends_the_runs_with_a_word_and_costs_none_that_were_kept(varied, command, monkeypatch):
    monkeypatch.setattr(varying, "_EVERY", 0.0)
    monkeypatch.setattr(varying, "_SHARE", 1e9)
    write, written = varying.write_runs, []

    def full(found, path, about):
        if len(written) == 4:
            raise OSError(errno.ENOSPC, "No space left on device", str(path))
        write(found, path, about)
        written.append(found.state.count)

    monkeypatch.setattr(varying, "write_runs", full)
    code, out, err = command("vary", varied, "--workers", 0)
    assert code == 1
    assert "No space left" in err
    assert "Traceback" not in err
    monkeypatch.setattr(varying, "write_runs", write)
    (kept,) = (varied.parent / "runs").glob("stopped-vary-*")
    assert f"{written[-1]} runs are kept in" in out
    assert command("vary", varied, "--workers", 0, "--go-on", kept)[0] == 0


def test_an_edit_may_be_a_random_field(varied, command):
    text = varied.read_text(encoding="utf-8")
    edit = '[[edit]]\nof = "conductivity"\nlayers = ["sand"]\nrandom = { variance = 0.5, length = "200 m", seed = 4 }\n'
    varied.write_text(text + edit, encoding="utf-8")
    plain = ik.place(ik.read_site(varied, variant=None), ik.read_project(varied).grid())
    field = ik.RandomField(variogram=ik.Variogram.of_lengths("exponential", 0.5, length=200.0))
    here = np.flatnonzero(plain.grid.cells.layer == 0)
    drawn = ik.FieldMaker(plain.grid, field, here).draw(4)
    varied.write_text(text, encoding="utf-8")
    before = ik.place(ik.read_site(varied), ik.read_project(varied).grid())
    npt.assert_allclose(plain.horizontal_conductivity[here], before.horizontal_conductivity[here] * drawn)
    npt.assert_allclose(plain.vertical_conductivity[here], before.vertical_conductivity[here] * drawn)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("variance = 0.5, ", "", "give either a `variance` or a `deviation`"),
        ('length = "200 m"', 'length = "200 s"', "length"),
        ("uniform = { lower = 0.8, upper = 1.2 }", "uniform = { lower = 1.2, upper = 0.8 }", "cannot lie between"),
        ("uniform = { lower = 0.8, upper = 1.2 }", "", "has one distribution; got none"),
        (
            'of = "recharge.rate"\nuniform = { lower = 0.8, upper = 1.2 }',
            'of = "conductivity"\nnormal = { mean = 1, deviation = 1 }',
            "may be so low",
        ),
        ('of = "recharge.rate"', 'of = "recharge.rat"', "recharge.rat"),
        ('layers = ["sand"]\nrandom', 'layers = ["snad"]\nrandom', "snad"),
        ("level_at = [300, 300]", "level_at = [3000, 300]", "lies outside the cells"),
        ('concentration_in = "well 1"', 'concentration_in = "well 7"', 'is in "well 7"; expected one of'),
        ('across = "middle"', 'across = "midle"', 'there is no line "midle"'),
        ('of = "concentration"', 'of = "concentratio"', 'is of "concentratio"; expected one of'),
        ('file = "tests.csv"', 'file = "test.csv"', "test.csv"),
        ("runs = 12", 'runs = 12\nsettle = { watch = "levl", error = "1 cm" }', '"levl" is not watched'),
    ],
)  # fmt: skip
def test_tables_of_runs_that_cannot_be_are_refused(varied, refused, old, new, message):
    text = varied.read_text(encoding="utf-8")
    assert old in text
    varied.write_text(text.replace(old, new), encoding="utf-8")
    refused(varied, message)


IN_TIME = """
[time]
start = "2020-01-01"
duration = "60 d"
steps = 12
steady_first = false
initial_heads = { elevation = "18 m" }

[vary]
runs = 4

[[vary.number]]
name = "K"
of = "conductivity"
log_normal = { median = 1.0, deviation = 0.4 }

[[vary.number]]
name = "storage"
of = "specific_yield"
how = "set"
layers = ["sand"]
uniform = { lower = 0.1, upper = 0.25 }

[[vary.watch]]
name = "level"
level_in = "bore 1"
times = ["2020-01-11", "2020-02-10"]

[[vary.watch]]
name = "drawdown"
drawdown_in = "bore 1"
since = "2020-01-06"

[[vary.watch]]
name = "apart"
between = ["bore 1", "bore 2"]
every = "20 d"

[[vary.watch]]
name = "stream"
gain_of = ["stream"]
times = [30]

[[vary.watch]]
name = "well"
level_in = "well 1"

[[vary.map]]
name = "heads"
layer = "gravel"
time = "2020-01-31"
"""


@pytest.mark.slow
def test_runs_through_time_are_watched_at_times_and_dates(varied, command):
    text = varied.read_text(encoding="utf-8")
    head = text[: text.index("[[species]]")].replace('\nconcentration = { salt = "30 mg/l" }', "")
    head = head.replace("porosity = 0.2", "specific_storage = 1e-5\nspecific_yield = 0.2\nporosity = 0.2")
    varied.write_text(head + IN_TIME, encoding="utf-8")
    project = ik.read_project(varied)
    names = [b.name for b in project.site.bores][:2]
    text = varied.read_text(encoding="utf-8").replace("bore 1", names[0]).replace("bore 2", names[1])
    varied.write_text(text, encoding="utf-8")
    code, out, err = command("vary", varied, "--workers", 0)
    assert (code, err) == (0, ""), out
    found = ik.open_run(varied.parent / "runs" / "vary-001").ensemble
    assert found.times("level").tolist() == [10.0, 40.0]
    assert found.times("apart").tolist() == [20.0, 40.0, 60.0]
    project = ik.read_project(varied)
    model = ik.place(project.site_on(), project.grid())
    flow = ik.solve_flow(model, closure=1e-8, initial_heads=18.0)
    bore = project.site.bores[0]
    heads = flow.at_times(float(bore.x), float(bore.y))
    column = next(c for c in heads.columns if c.startswith(bore.layer or "sand"))
    told = np.interp([10.0, 40.0, 5.0, 60.0], heads["day"], heads[column])
    npt.assert_allclose(found.stated[:2], told[:2], atol=0.15)  # read between the centres of cells
    npt.assert_allclose(found.stated[2], told[2] - told[3], atol=0.1)
    flows = -flow.budget(step=flow.step_at(30.0)).loc["river"]
    npt.assert_allclose(
        found.stated[found.rows_of("stream")], flows["in [m³/day]"] - flows["out [m³/day]"], rtol=1e-6
    )
    assert found.values.std(axis=0).min() > 0.0
    assert np.isfinite(found.map("heads")["mean"]).any()
    bands = pd.read_csv(varied.parent / "runs" / "vary-001" / "bands-apart.csv")
    assert bands["time [day]"].tolist() == [20.0, 40.0, 60.0]
    first = pd.read_csv(varied.parent / "runs" / "vary-001" / "first_order.csv")
    assert len(first) == 8
    assert (first["first-order deviation"] / first["deviation of runs"]).between(0.2, 5.0).all()


@pytest.mark.slow
def test_the_parameters_of_a_fit_are_varied_as_it_left_them(varied, command):
    text = varied.read_text(encoding="utf-8")
    plain = text[: text.index("[[species]]")].replace('\nconcentration = { salt = "30 mg/l" }', "")
    fit = '[fit]\nconductivity_of = ["sand", "gravel"]\n[[fit.weight]]\ngroups = ["levels"]\ndeviation = "5 cm"\n'
    varied.write_text(plain + fit, encoding="utf-8")
    assert command("fit", varied)[0] == 0
    asked = """
[vary]
runs = 24
[[vary.fit]]
run = "runs/fit-001"
name = "as fitted"
[[vary.number]]
name = "rain"
of = "recharge.rate"
uniform = { lower = 0.9, upper = 1.1 }
[[vary.watch]]
name = "K"
value_at = [300, 300]
value = "ln horizontal_conductivity"
layer = "gravel"
[[vary.watch]]
name = "level"
level_at = [300, 300]
layer = "gravel"
"""
    varied.write_text(plain + fit + asked, encoding="utf-8")
    code, out, err = command("vary", varied, "--workers", 0)
    assert (code, err) == (0, "")
    assert "as fitted: 2 numbers as the fit left them" in out
    found = ik.open_run(varied.parent / "runs" / "vary-001").ensemble
    result = ik.open_run(varied.parent / "runs" / "fit-001").fit
    assert found.number_names == ("conductivity of sand", "conductivity of gravel", "rain")
    npt.assert_allclose(np.exp(found.of("K")[:, 0]), found.numbers[:, 1], rtol=1e-9)
    spread = np.sqrt(np.diag(np.linalg.inv(result.knowledge.afterwards)))
    npt.assert_allclose(
        np.log(found.numbers[:, :2]).mean(axis=0), result.coordinates, atol=0.5 * spread.max()
    )
    varied.write_text((plain + fit + asked).replace("fit-001", "fit-007"), encoding="utf-8")
    code, out, err = command("vary", varied)
    assert code == 2
    assert "fit-007" in out + err


@pytest.mark.slow
def test_a_terminal_shows_what_is_watched_as_runs_come_in(varied):
    from rich.console import Console

    from inkhorn.cli.terminal import watched_table

    found = ik.vary_project(ik.read_project(varied), varied.parent / "out", workers=0, runs=8)[1]
    console = Console(record=True, width=100, file=open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115 - of the test
    console.print(watched_table(found))
    said = console.export_text()
    console.file.close()
    for words in ("salt at the well", "standard error", "8 runs", "█"):
        assert words in said
