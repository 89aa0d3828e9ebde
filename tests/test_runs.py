"""What a run makes: kept through failures, signals and full disks, opened again, gone on from, made again."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import replace

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import xarray as xr

import inkhorn as ik
from inkhorn import runs
from inkhorn.files import file_name, records_kept
from inkhorn.files.steps import StepFile
from inkhorn.runs import run_files
from tests.conftest import tree
from tests.test_flow import basin


@pytest.fixture
def change(first_project):
    """Change words of the project file, or another of its files."""

    def replaced(*pairs: tuple[str, str], file: str = "site.toml") -> None:
        path = first_project / file
        text = path.read_text(encoding="utf-8")
        for before, after in pairs:
            assert before in text
            text = text.replace(before, after)
        path.write_text(text, encoding="utf-8")

    return replaced


IN_TIME = '\n[time]\nstart = "2020-01-01"\nduration = "60 d"\nsteps = 12\n'


@pytest.fixture
def in_time(first_project, change):
    """The project through time, and a wish for two sets of paths."""
    change(("porosity = 0.2", "specific_storage = 1e-5\nspecific_yield = 0.2\nporosity = 0.2"))
    site = first_project / "site.toml"
    site.write_text(site.read_text(encoding="utf-8") + IN_TIME, encoding="utf-8")
    return site


def stopped_after(monkeypatch, records: int) -> None:
    append = StepFile.append

    def stopped(self, record):
        if len(self) == records:
            raise KeyboardInterrupt
        append(self, record)

    monkeypatch.setattr(StepFile, "append", stopped)


@pytest.mark.parametrize(
    ("file", "before", "after", "named"),
    [
        ("site.toml", 'conductivity = "40 m/day"', 'conductivity = "41 m/day"', 'layer "gravel": horizontal cond'),
        ("wells.csv", "well 1,620", "well 1,655", 'well "well 1"'),
        ("site.toml", 'material = "gravel"', 'material = "sand"', 'layer "gravel": horizontal conductivity'),
        ("site.toml", 'start = "2020-01-01"', 'start = "2021-01-01"', "the date of the start"),
        ("site.toml", 'duration = "60 d"', 'duration = "70 d"', "periods"),
        ("site.toml", 'base = { elevation = "8 m" }', 'base = { elevation = "8.1 m" }', 'layer "sand": top and base'),
    ],
)  # fmt: skip
def test_going_on_with_another_model_is_refused(
    in_time, change, command, monkeypatch, file, before, after, named
):
    with monkeypatch.context() as patch:
        stopped_after(patch, 3)
        assert command("run", in_time)[0] == 1
    kept = in_time.parent / "runs" / "stopped-001"
    held = tree(kept)
    change((before, after), file=file)
    code, _, err = command("run", in_time, "--go-on", kept)
    assert (code, "of another model; what differs: " in err, named in err) == (2, True, True), err
    assert tree(kept) == held
    assert [p.name for p in kept.parent.iterdir()] == ["stopped-001"]


def test_records_of_another_model_are_refused_in_python():
    flow = ik.solve_flow(basin(4))
    with pytest.raises(ik.InputError, match=r'another model; what differs: recharge "rain"\. Go on'):
        ik.solve_flow(
            flow.model.with_inputs({"recharge.rate": 1.01 * flow.model.input("recharge.rate")}),
            steps=list(flow.steps[:2]),
        )


@pytest.mark.parametrize("order", [1, 2])
def test_steps_as_short_as_needed_are_gone_on_from_to_the_same_bits(tmp_path, order):
    """Wherever it stopped, in the middle of a step of the schedule too."""
    model, options = basin(4), {"head_error": 0.3 if order == 1 else 0.6, "order": order}
    whole = ik.solve_flow(model, **options)
    assert len(whole.steps) > 6
    for cut in range(1, len(whole.steps), 3):
        with StepFile(tmp_path / f"{cut}.nc", model) as steps:
            steps.begin(replace(whole.start, made_of=whole.steps[0].made_of))
            for record in whole.steps[:cut]:
                steps.append(record)
            again = ik.solve_flow(model, steps=steps, **options)
            assert [s.end for s in again.steps] == [s.end for s in whole.steps]
            npt.assert_array_equal(again.steps[-1].heads, whole.steps[-1].heads)
            npt.assert_array_equal(again.steps[cut].face_flow, whole.steps[cut].face_flow)


WRITER = """
import sys
import inkhorn as ik
from inkhorn.flow import FlowStep
from tests.test_flow import basin
model = basin(4)
flow = ik.solve_flow(model)
steps = ik.StepFile(sys.argv[1], model)
steps.begin(flow.start)
for k in range(100000):
    steps.append(flow.steps[k % 4])
    print(k + 1, flush=True)
"""


@pytest.mark.slow
def test_others_read_records_while_they_are_written_and_after_the_writer_was_killed(tmp_path):
    """From another process, at any moment; all but the record being written are there, and are gone on from."""
    model, path = basin(4), tmp_path / "flow.nc"
    here = ik.solve_flow(model)
    words = [sys.executable, "-c", WRITER, str(path)]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as writer:
        assert writer.stdout is not None
        for _ in range(300):  # more rows than small tables keep together
            writer.stdout.readline()
        reader = ik.StepReader(path, model)
        for _ in range(10):
            count = len(reader)
            npt.assert_array_equal(reader[count - 1].heads, here.steps[(count - 1) % 4].heads)
            npt.assert_array_equal(reader[count // 2].face_flow, here.steps[(count // 2) % 4].face_flow)
        writer.send_signal(signal.SIGKILL)
        said = int(writer.stdout.read().split()[-1])
    assert said <= len(reader) <= said + 1
    assert len(reader) > 300
    count = len(reader)
    assert records_kept(path)[0] == count
    with ik.StepFile(path, model) as again:
        again.append(here.steps[0])
        assert len(again) == count + 1
        npt.assert_array_equal(again[-2].heads, here.steps[(count - 1) % 4].heads)
        assert again[-2].report == here.steps[(count - 1) % 4].report
    assert [p.name for p in tmp_path.iterdir()] == ["flow.nc"]


def test_records_know_their_begin_their_means_and_what_goes_on_within_terms():
    model = basin(4)
    flow, joined = ik.solve_flow(model), ik.solve_flow(model, results=[120.0])
    begins = np.concatenate([[0.0], model.schedule.ends[:-1]])
    npt.assert_array_equal([s.begin for s in flow.steps], begins)
    assert (joined.steps[-1].words, flow.steps[-1].words) == ("means over 3 steps", "")
    assert joined.budget().attrs["flows"] == joined.steps[-1].words
    assert int(joined.head.joined_steps[-1]) == 3
    flows = flow.term_flows()
    by_kind = flows.groupby("term")["flow [m³/day]"].sum()
    budget = flow.budget()
    for kind in by_kind.index:
        npt.assert_allclose(by_kind[kind], budget.loc[kind].iloc[0] - budget.loc[kind].iloc[1])
    assert set(flows["crossing"]) <= {"top", "floor", "side", "screen", "inside"}
    within = flow.within_terms().set_index("item")["value"]
    assert within["level"] == flow.steps[-1].extra_unknowns[0]
    wet, stored = flow.saturated_volume(), flow.saturated_volume(film=False)
    assert (wet >= stored).all()
    assert (wet > stored).any()
    with pytest.raises(ik.InputError, match="the model has no porosity"):
        flow.water_volume()


@pytest.mark.slow
def test_a_run_gives_back_what_it_made(first_project, command, change):
    """Heads, budget, paths, levels of a run and of a fit, to the bit."""
    change(
        ("[paths]                         # where the well's water comes from", '[[paths]]\nname = "back"')
    )
    site = first_project / "site.toml"
    site.write_text(
        site.read_text(encoding="utf-8")
        + """
[[paths]]
name = "onward"
from_all_inflow = true
count = 40
direction = "forward"

[[species]]
name = "salt"
unit = "mg/l"
background = 0

[transport]
species = "salt"
duration = "10 years"
step_length = "1 year"
watch = ["well 1"]

[solver]
closure = 1e-10

[[region]]
name = "below"
layers = ["gravel"]

[[across]]
name = "middle"
line = [[0, 500], [1000, 500]]
""",
        encoding="utf-8",
    )
    project = ik.read_project(site)
    path, flow = runs.run_project(project)
    again = ik.open_run(path)
    npt.assert_array_equal(again.flow.head, flow.head)
    assert again.flow.report == flow.report
    assert again.flow.report.closure < 1e-10
    assert again.flow.budget().equals(flow.budget())
    assert again.site.name == project.site.name
    fresh = ik.trace(
        flow, ["well 1"], backward=True, mark=2 * 365.25, max_time=project.asked.paths[0].max_time
    )
    kept = again.paths("back")
    pd.testing.assert_frame_equal(kept.points, fresh.points)
    pd.testing.assert_frame_equal(kept.ends, fresh.ends, check_dtype=False)
    shares = again.paths("onward").shares()
    npt.assert_allclose(shares["flow [m³/day]"].sum(), flow.budget().loc["total", "in [m³/day]"])
    written = pd.read_csv(path / "path_shares-onward.csv")
    npt.assert_allclose(written["share [%]"], shares["share [%]"])
    plume = again.transport()
    assert plume.concentration.shape[1:] == flow.head.shape[1:]
    mass = again.table("mass budget").set_index(["term", "feature"])
    npt.assert_allclose(plume.budget().to_numpy(), mass.to_numpy(), rtol=1e-9)
    across = again.table("flow across")
    npt.assert_allclose(across.iloc[-1, -1], flow.across([[0, 500], [1000, 500]]).iloc[-1, -1], rtol=1e-9)
    assert set(again.table("budget by region")["region"]) == {"below", "elsewhere", "total"}
    with pytest.raises(ik.InputError, match=r"has no particle paths \"bak\"; it has \['back', 'onward'\]"):
        again.paths("bak")
    path, fit = runs.fit_project(project)
    again = ik.open_run(path)
    npt.assert_array_equal(again.fit.numbers, fit.numbers)
    pd.testing.assert_frame_equal(again.fit.table(), fit.table())
    npt.assert_array_equal(again.flow.head, fit.after.head)
    about = json.loads((path / "about.json").read_text(encoding="utf-8"))
    (path / "about.json").write_text(json.dumps({**about, "format": 99}), encoding="utf-8")
    with pytest.raises(ik.InputError, match="format 99; this version reads format 2"):
        ik.open_run(path)


def same_heads(one, other) -> bool:
    a, b = (xr.load_dataset(folder / "heads.nc", decode_timedelta=False) for folder in (one, other))
    return bool(a.identical(b))


@pytest.mark.slow
def test_a_failure_late_costs_nothing_that_was_done_early(first_project, command, monkeypatch):
    """A product that fails, and a picture: the others are made, and going on makes what is missing."""
    site, made = first_project / "site.toml", first_project / "runs"
    assert command("run", site)[0] == 0

    def fails(*_, **__):
        raise ik.ConvergenceError("nothing comes of it")

    with monkeypatch.context() as patch:
        patch.setattr("inkhorn.runs.levels.residual_table", fails)
        code, out, err = command("run", site)
    kept = made / "stopped-001"
    assert (code, "nothing comes of it" in err) == (1, True)
    assert f"the heads and paths are kept in {kept}" in out
    assert (kept / "paths.gpkg").exists()
    with monkeypatch.context() as patch:
        patch.setattr("inkhorn.runs.paths.trace", fails)  # they are taken over
        patch.setattr("inkhorn.flow.solve.solved", fails)
        code, _, err = command("run", site, "--go-on", kept)
    assert (code, err) == (0, "")
    assert tree(made / "run-002").keys() == tree(made / "run-001").keys()
    assert same_heads(made / "run-001", made / "run-002")

    with monkeypatch.context() as patch:
        patch.setattr("inkhorn.draw.paths", lambda *_, **__: 1 / 0)
        code, out, err = command("run", site)
    assert (code, "paths.png could not be drawn: ZeroDivisionError" in err) == (1, True)
    missing = tree(made / "run-001").keys() - tree(made / "run-003").keys()
    assert missing == {"paths.png"}


@pytest.mark.slow
def test_a_fit_that_is_stopped_goes_on_to_the_same_bits(first_project, command, monkeypatch):
    site, made = first_project / "site.toml", first_project / "runs"
    assert command("fit", site)[0] == 0
    from inkhorn.calibration import least_squares as fitting

    count = iter(range(100))

    def third_time(*args, **options):
        if next(count) == 2:
            raise KeyboardInterrupt
        return sensitivities(*args, **options)

    sensitivities = fitting.weighted_jacobian
    with monkeypatch.context() as patch:
        patch.setattr("inkhorn.calibration.least_squares.weighted_jacobian", third_time)
        code, out, _ = command("fit", site)
    kept = made / "stopped-fit-001"
    assert (code, f"the iterations up to 1 are kept in {kept}" in out) == (1, True)
    code, out, err = command("fit", site, "--go-on", kept)
    assert (code, err, "goes on after iteration 1" in out) == (0, "", True)
    one, two = tree(made / "fit-001"), tree(made / "fit-002")
    assert one.keys() == two.keys()
    for name in (
        "parameters.csv",
        "statistics.csv",
        "budget.csv",
        "history.csv",
        "fit.json",
        "path_ends.csv",
    ):
        assert one[name] == two[name], name
    code, _, err = command("run", site, "--go-on", kept)
    assert (code, "is of `inkhorn fit`" in err) == (2, True)


def test_inputs_are_kept_as_they_were_read_and_make_the_run_again(first_project, tmp_path, change, command):
    """Shapefiles whole, files of one name from elsewhere, a variant and a grid; though all change meanwhile."""
    (tmp_path / "a").mkdir()
    (tmp_path / "b").mkdir()
    area = gpd.read_file(first_project / "boundary.geojson").set_crs("EPSG:32631", allow_override=True)
    area.to_file(tmp_path / "a" / "area.shp")
    for name, folder in (("wells", "a"), ("bores", "b")):
        (first_project / f"{name}.csv").rename(tmp_path / folder / "data.csv")
    change(
        ('file = "boundary.geojson"', 'file = "../a/area.shp"'),
        ('file = "wells.csv"', 'file = "../a/data.csv"'),
        ('file = "bores.csv"', f'file = "{tmp_path / "b" / "data.csv"}"'),
    )
    (first_project / "variants").mkdir()
    (first_project / "variants" / "wet.toml").write_text(
        '[[recharge]]\nname = "rain"\nrate = "400 mm/year"\n'
    )
    project = ik.read_project(first_project / "site.toml", variant="wet")
    used = {p.name: p.read_bytes() for p in project.inputs.files}
    for file in project.inputs.files:
        file.write_bytes(b"edited meanwhile")
    path, _ = runs.run_project(project, tmp_path / "out", grid="fine")
    assert path.name == "run-wet-fine-001"
    inputs = path / "inputs"
    kept = {p.relative_to(inputs).as_posix(): p.read_bytes() for p in inputs.rglob("*") if p.is_file()}
    assert kept["site.toml"] == used["site.toml"]
    assert {f"elsewhere/area{e}" for e in (".shp", ".dbf", ".shx", ".prj")} < kept.keys()
    shutil.rmtree(first_project)
    before = tree(path)
    code, out, err = command("run", inputs / "site.toml")
    assert (code, err, "variant wet" in out) == (0, "", True)
    assert tree(path) == before
    assert same_heads(path, path.with_name("run-wet-fine-002"))
    assert (path / "budget.csv").read_bytes() == (
        path.with_name("run-wet-fine-002") / "budget.csv"
    ).read_bytes()


@pytest.mark.slow
@pytest.mark.parametrize("grid", [None, "split", "voronoi"])
def test_the_demo_is_made_again_from_the_inputs_of_a_run(quillmere_folder, tmp_path, grid):
    project = ik.read_project(quillmere_folder / "site.toml")
    one, flow = runs.run_project(project, tmp_path / "one", grid=grid)
    two, again = runs.run_project(ik.read_project(one / "inputs" / "site.toml"), tmp_path / "two")
    assert one.name == two.name
    assert same_heads(one, two)
    for name in ("face_flow", "extra_unknowns", "storage_change"):
        npt.assert_array_equal(getattr(flow.steps[-1], name), getattr(again.steps[-1], name))


def test_a_file_that_is_written_while_it_is_read_is_refused(first_project, monkeypatch):
    from inkhorn.project import source

    read = source.read_table

    def meanwhile(path, **options):
        table = read(path, **options)
        path.write_bytes(path.read_bytes() + b"\n")
        return table

    monkeypatch.setattr(source, "read_table", meanwhile)
    with pytest.raises(ik.InputError, match=r'wells.csv" was written while it was read'):
        ik.read_project(first_project / "site.toml")


def test_names_of_files_are_safe_and_unlike():
    taken: set[str] = set()
    for name in ("a/b", "a_b", "A_b", "../../x", "s" * 300, "s" * 301, "con", "", "Kies über Ton", "$x$"):
        plain = file_name(name, taken)
        assert plain.lower() not in taken
        assert len(plain) <= 63
        assert not set(plain) & set("/\\.:$ ")
        taken.add(plain.lower())
    assert {"a_b", "a_b-2", "a_b-3", "con_", "kies_über_ton"} <= taken


def test_a_grid_is_written_nowhere_else_and_text_is_never_mathematics(first_project, command, change):
    change(
        ("[grids.fine]", '[grids."../../../x"]'), ('title = "A first model"', 'title = "Cost $100 and $x_2^"')
    )
    code, _, err = command("run", first_project / "site.toml", "--grid", "../../../x")
    assert (code, err) == (0, "")
    assert [p.name for p in (first_project / "runs").iterdir()] == ["run-_x-001"]


@pytest.mark.slow
def test_who_stops_listening_stops_no_run(first_project):
    done = subprocess.run(
        f"{sys.executable} -m inkhorn run {first_project / 'site.toml'} | head -1; exit ${{PIPESTATUS[0]}}",
        shell=True,
        executable="/bin/bash",
        capture_output=True,
        text=True,
    )
    assert (done.returncode, done.stderr) == (0, "")
    assert (first_project / "runs" / "run-001" / "budget.csv").exists()


@pytest.mark.slow
def test_a_disk_that_fills_up_keeps_what_is_solved(in_time, change, command):
    """Simulated by a limit on the size of files; `ulimit` counts blocks of 1024."""
    change(("steps = 12", "steps = 200"))
    done = subprocess.run(
        f"ulimit -f 450; {sys.executable} -m inkhorn run {in_time}",
        shell=True, executable="/bin/bash", capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 1
    assert done.stderr == "error: File too large: flow.nc of the run. Nothing was left half-written.\n"
    kept = in_time.parent / "runs" / "stopped-001"
    assert f"kept in {kept}" in done.stdout
    assert 10 < records_kept(kept / "flow.nc")[0] < 200
    code, out, err = command("run", in_time, "--go-on", kept)
    assert (code, err, "201 steps in time" in out) == (0, "", True)


@pytest.mark.slow
@pytest.mark.skipif(os.name == "nt", reason="signals of POSIX")
def test_signals_at_any_moment_harm_nothing_and_lose_nothing(in_time, change, command, begun):
    """Earlier runs stay, none that is half is taken for whole, what was solved is kept and gone on from."""
    change(("steps = 12", "steps = 60"))
    made, draw = in_time.parent / "runs", random.Random(4)
    start = time.perf_counter()
    assert begun("run", in_time).communicate()[1] == ""
    whole = time.perf_counter() - start
    earlier = tree(made / "run-001")
    for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGKILL", "SIGKILL", "SIGTERM"):
        process = begun("run", in_time)
        time.sleep(whole * draw.uniform(0.5, 0.95))
        solved = max((records_kept(p / "flow.nc")[0] for p in made.glob(".*.part")), default=0)
        process.send_signal(getattr(signal, name))
        out, err = process.communicate()
        assert "Traceback" not in err
        if name == "SIGKILL":
            for part in made.glob(".*.part"):
                code, out, _ = command("run", in_time)
                assert (code, "killed" in out, part.exists()) == (0, True, False)
                shutil.rmtree(made / out.split()[-1].rpartition("/")[2])
        assert not list(made.glob(".*"))
        assert tree(made / "run-001") == earlier
        for folder in made.glob("*-00[!1]"):  # it was through already
            assert json.loads((folder / "about.json").read_text())["state"] == "whole"
            shutil.rmtree(folder)
        for kept in made.glob("stopped-*"):
            assert str(kept) in out
            assert records_kept(kept / "flow.nc")[0] >= solved
            assert command("run", in_time, "--go-on", kept)[0] == 0
            assert same_heads(made / "run-001", made / "run-002")
            assert tree(made / "run-002").keys() == earlier.keys()
            shutil.rmtree(made / "run-002")
            shutil.rmtree(kept)


@pytest.mark.skipif(os.name == "nt", reason="signals of POSIX")
def test_a_signal_while_a_file_is_being_closed_is_one_line(in_time):
    """What had half closed it cannot close it a second time, as Python tries when it puts it away; nobody need know."""
    asks = (
        "import os, signal, sys, h5py\n"
        "from inkhorn.cli import main\n"
        "close = h5py.File.close\n"
        "def closed(self):\n"
        "    close(self)\n"
        "    os.kill(os.getpid(), signal.SIGTERM)\n"
        "h5py.File.close = closed\n"
        f"sys.argv = ['inkhorn', 'run', {str(in_time)!r}]\n"
        "main()\n"
    )
    done = subprocess.run([sys.executable, "-c", asks], capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (1, "interrupted; nothing was left half-written\n")
    assert not list((in_time.parent / "runs").glob(".*"))


def test_every_file_of_a_run_is_told(first_project, command):
    """The list that the docs are made of names them all."""
    command("fit", first_project / "site.toml")
    patterns = [file.name.replace("{}", "*") for file in run_files.FILES.values()]
    for path in (first_project / "runs" / "fit-001").iterdir():
        assert any(path.match(p) for p in patterns), path.name
