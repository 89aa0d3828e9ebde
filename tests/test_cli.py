"""The command line from end to end, and the run folders it leaves."""

from __future__ import annotations

import hashlib
import re
import subprocess
import sys
import time

import geopandas as gpd
import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import xarray as xr

import inkhorn as ik
from inkhorn.files import StepFile
from inkhorn.flow import FlowStep
from inkhorn.runs import compare_runs, open_run
from tests.conftest import tree


def test_help_names_every_command(command):
    code, out, _ = command("--help")
    assert code == 0
    for verb in ("check", "run", "fit", "compare", "new", "demo", "show"):
        assert verb in out
        assert command(verb, "--help")[0] == 0


def test_importing_loads_nothing_heavy():
    heavy = ("numpy", "pandas", "matplotlib", "numba", "pint")
    code = f"import sys, inkhorn; print([m for m in {heavy} if m in sys.modules])"
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert out.strip() == "[]"


def test_every_public_name_is_there():
    for name in ik.__all__:
        assert getattr(ik, name) is not None
    assert set(ik.__all__) == set(dir(ik))
    with pytest.raises(AttributeError, match="No inkhorn attribute solve_everything"):
        ik.solve_everything  # noqa: B018


def test_a_new_project_runs_as_it_is(tmp_path):
    """Through the interpreter, as a shell would."""
    for words in (["new", "first"], ["check", "first/site.toml"], ["run", "first/site.toml"]):
        done = subprocess.run(
            [sys.executable, "-m", "inkhorn", *words], cwd=tmp_path, capture_output=True, text=True
        )
        assert (done.returncode, done.stderr) == (0, "")
    folder = tmp_path / "first" / "runs" / "run-001"
    digests = (folder / "inputs" / "sha256.txt").read_text().split()[::2]
    assert hashlib.sha256((folder / "inputs" / "site.toml").read_bytes()).hexdigest() == digests[0]
    assert "water budget closes" in (folder / "log.txt").read_text()
    again = subprocess.run(
        [sys.executable, "-m", "inkhorn", "new", "first"], cwd=tmp_path, capture_output=True, text=True
    )
    assert again.returncode == 2
    assert "is not empty" in again.stderr


def test_runs_are_numbered_and_alike(first_project, command):
    """Same input, same bits; an earlier run is left as it was."""
    site = first_project / "site.toml"
    assert command("run", site)[0] == 0
    first = tree(first_project / "runs" / "run-001")
    code, out, _ = command("run", site)
    assert code == 0
    assert "run-002" in out
    assert tree(first_project / "runs" / "run-001") == first
    second = tree(first_project / "runs" / "run-002")
    assert second.keys() == first.keys()
    for name in ("budget.csv", "path_ends.csv", "residuals.csv", "solver.csv", "section.png"):
        assert second[name] == first[name]
    with xr.open_dataset(first_project / "runs" / "run-001" / "heads.nc", decode_timedelta=False) as data:
        assert data["head"].dims == ("time", "layer", "y", "x")
        assert data["head"].attrs["units"] == "m"
        assert data.attrs["Conventions"] == "CF-1.11"
        assert data["layer"].to_numpy().tolist() == ["sand", "gravel"]
    lines = gpd.read_file(first_project / "runs" / "run-001" / "paths.gpkg", layer="paths")
    assert len(lines) == 24
    assert lines.geometry.length.min() > 0


def test_layers_may_be_called_anything_and_folders_renamed(first_project, command):
    site = first_project / "site.toml"
    site.write_text(
        site.read_text(encoding="utf-8").replace('name = "sand"', 'name = "sand/silt"'), encoding="utf-8"
    )
    for file in (site, first_project / "bores.csv"):
        text = (
            file.read_text(encoding="utf-8")
            .replace('["sand",', '["sand/silt",')
            .replace(",sand\n", ",sand/silt\n")
        )
        file.write_text(text, encoding="utf-8")
    assert command("run", site)[0] == 0
    (first_project / "runs" / "run-001").rename(first_project / "runs" / "run-kept by hand")
    code, out, err = command("run", site)
    assert (code, err) == (0, "")
    assert "run-001" in out
    assert (first_project / "runs" / "run-001" / "heads_sand_silt.png").exists()


def test_a_disk_that_refuses_is_a_problem_of_the_run(first_project, command, monkeypatch):
    def refuse(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("inkhorn.runs.flow.write_flow", refuse)
    code, _, err = command("run", first_project / "site.toml")
    assert code == 1
    assert "No space left on device" in err
    assert [p.name for p in (first_project / "runs").iterdir()] == ["stopped-001"]  # the heads are solved


def test_a_run_that_fails_leaves_nothing_half_written(first_project, command, monkeypatch):
    def stopped(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr("inkhorn.runs.flow.solve_flow", stopped)
    code, _, err = command("run", first_project / "site.toml")
    assert code == 1
    assert "interrupted" in err
    assert not (first_project / "runs").exists()


def test_a_run_through_time_that_is_stopped_goes_on_from_its_last_step(first_project, command, monkeypatch):
    site = first_project / "site.toml"
    text = (
        site.read_text(encoding="utf-8").replace(
            "porosity = 0.2", "specific_storage = 1e-5\nspecific_yield = 0.2\nporosity = 0.2"
        )
        + """
[time]
duration = "300 d"
steps = 6
order = 2
results = ["50 d", "100 d", "200 d", "300 d"]
"""
    )
    site.write_text(text, encoding="utf-8")
    code, out, err = command("run", site)
    assert (code, err) == (0, "")
    assert "5 steps in time" in out  # a steady one first
    straight = first_project / "runs" / "run-001"
    append = StepFile.append

    def stopped(self: StepFile, record: FlowStep) -> None:
        if len(self) == 3:
            raise KeyboardInterrupt
        append(self, record)

    with monkeypatch.context() as patch:
        patch.setattr(StepFile, "append", stopped)
        code, out, err = command("run", site)
    assert code == 1
    kept = first_project / "runs" / "stopped-001"
    assert f"3 steps, up to day 100, are kept in {kept}" in out
    code, out, err = command("run", site, "--go-on", kept)
    assert (code, err) == (0, "")
    assert "goes on after 3 steps, day 100" in out
    model = ik.place(ik.read_site(site), ik.read_project(site).grid(None))
    with (
        StepFile(straight / "flow.nc", model) as one,
        StepFile(straight.with_name("run-002") / "flow.nc", model) as two,
    ):
        assert [s.end for s in two] == [0.0, 50.0, 100.0, 200.0, 300.0]
        for a, b in zip(one, two, strict=True):
            npt.assert_array_equal(a.heads, b.heads)
            npt.assert_array_equal(a.face_flow, b.face_flow)
    code, _, err = command("run", site, "--go-on", straight)
    assert (code, "has come to its end" in err) == (2, True)
    code, _, err = command("run", site, "--go-on", first_project)
    assert (code, "is no run folder" in err) == (2, True)


def test_not_converging_is_a_problem_of_the_run(first_project, command, monkeypatch):
    from inkhorn import flow

    def hardly(model: ik.Model, **options: object) -> object:
        return flow.solve_flow(model, **{**options, "max_iterations": 0})

    monkeypatch.setattr("inkhorn.runs.flow.solve_flow", hardly)
    code, _, err = command("run", first_project / "site.toml", "--out", first_project / "elsewhere")
    assert code == 1
    assert "did not close" in err
    assert "layer" in err
    assert not (first_project / "elsewhere").exists()


def test_fit_brings_heads_to_levels(first_project, command):
    code, out, err = command("fit", first_project / "site.toml")
    assert (code, err) == (0, "")
    folder = first_project / "runs" / "fit-001"
    stats = pd.read_csv(folder / "statistics.csv", index_col="fit")
    assert stats.loc["after", "RMS"] < 0.5 * stats.loc["before", "RMS"]
    table = pd.read_csv(folder / "parameters.csv")
    assert table["parameter"].tolist() == ["conductivity of sand", "conductivity of gravel"]
    residuals = pd.read_csv(folder / "residuals.csv")
    npt.assert_allclose(
        residuals["residual [m]"], residuals["measured [m]"] - residuals["computed [m]"], atol=1e-8
    )
    npt.assert_allclose(
        np.sqrt((residuals["residual [m]"] ** 2).mean()), stats.loc["after", "RMS"], rtol=1e-6
    )
    assert "Parameters" in out


def test_runs_on_two_grids_are_compared(first_project, command):
    site, runs = first_project / "site.toml", first_project / "runs"
    for grid in ([], ["--grid", "fine"]):
        assert command("run", site, *grid)[0] == 0
    code, out, err = command(
        "compare", runs / "run-001", runs / "run-fine-001", "--out", first_project / "both"
    )
    assert (code, err) == (0, "")
    assert "run-fine-001" in out
    folder = first_project / "both" / "comparison-001"
    heads = pd.read_csv(folder / "heads.csv", index_col="bore")
    single = pd.read_csv(runs / "run-fine-001" / "residuals.csv", index_col="bore")
    npt.assert_allclose(heads["run-fine-001"], single["computed [m]"])
    npt.assert_allclose(heads["run-001"], heads["run-fine-001"], atol=0.05)
    fits = pd.read_csv(folder / "fits.csv", index_col=["run", "over"])
    npt.assert_allclose(
        fits.loc[("run-fine-001", "means of bores"), "RMS [m]"],
        np.sqrt((single["residual [m]"] ** 2).mean()),
        rtol=1e-6,
    )
    budgets = pd.read_csv(folder / "budgets.csv", index_col=["term", "direction"])
    npt.assert_allclose(budgets.loc[("well", "out [m³/day]")], 288.0, rtol=1e-6)
    assert (folder / "heads_at_bores.png").stat().st_size > 10000
    for name in ("differences_run-fine-001", "heads_side_by_side", "heads_along"):
        assert (folder / f"{name}.png").stat().st_size > 10000
    along = pd.read_csv(folder / "heads_along.csv").dropna()
    npt.assert_allclose(along["run-001"], along["run-fine-001"], atol=0.3)
    assert set(along["layer"]) == {"sand", "gravel"}
    code, _, err = command("compare", runs / "run-001", runs / "run-fine-001", "--line", "0,9e6 1,9e6")
    assert (code, "meets no cell of any run" in err) == (2, True)
    off = pd.read_csv(folder / "differences.csv", index_col=["run", "layer"])
    assert off["RMS [m]"].max() < 0.1
    npt.assert_allclose(off["share met"], 1.0)


def test_runs_without_bores_are_compared_by_their_inputs_and_heads(first_project, command):
    """Two grids, another conductivity, no bores: what the inputs differ in comes first; heads of the whole layer."""
    site, runs = first_project / "site.toml", first_project / "runs"
    text = site.read_text(encoding="utf-8")
    text = text[: text.index("[bores]")] + text[text.index("[paths]") :]  # nor a fit to them
    site.write_text(text, encoding="utf-8")
    assert command("run", site)[0] == 0
    site.write_text(text.replace('"40 m/day"', '"20 m/day"'), encoding="utf-8")
    (first_project / "wells.csv").write_text(
        (first_project / "wells.csv").read_text(encoding="utf-8").replace(",12", ",11"), encoding="utf-8"
    )
    assert command("run", site, "--grid", "fine")[0] == 0
    code, out, err = command("compare", runs / "run-001", runs / "run-fine-001")
    assert (code, err) == (0, "")
    said = " ".join(out.split())
    assert "They have no reading of any bore in common." in said
    found = compare_runs([runs / "run-001", runs / "run-fine-001"])
    assert found.inputs.index.tolist() == ["material.gravel.conductivity", "file wells.csv"]
    assert found.inputs.iloc[0].tolist() == ["40.0", "20.0"]
    one, two = (open_run(runs / name).flow for name in ("run-001", "run-fine-001"))
    heads = ik.overlap(two.model.grid, one.model.grid).mean(two.steps[-1].heads) - one.steps[-1].heads
    npt.assert_allclose(found.fields["run-fine-001"], heads)
    in_sand = one.model.grid.cells.layer == 0
    npt.assert_allclose(
        found.differences.loc[("run-fine-001", "sand"), "mean [m]"],
        np.average(heads[in_sand], weights=one.model.grid.cells.volume[in_sand]),
    )


@pytest.mark.parametrize(
    ("folders", "message"),
    [
        (["runs/run-001"], "expected two or more"),
        (["a", "b"], "no run folder"),
        (["a", "a"], "given twice"),
    ],
)
def test_what_cannot_be_compared(first_project, command, folders, message):
    code, _, err = command("compare", *(first_project / f for f in folders))
    assert code == 2
    assert message in err


def test_a_project_without_a_fit_says_what_to_add(first_project, command):
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    site.write_text(text[: text.index("[fit]")] + text[text.index("[paths]") :], encoding="utf-8")
    code, _, err = command("fit", site)
    assert code == 2
    assert "[fit]" in err


@pytest.fixture(scope="module")
def demo_run(tmp_path_factory):
    folder = tmp_path_factory.mktemp("shell")
    begun = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "inkhorn", "demo"], cwd=folder, capture_output=True, text=True
    )
    assert (done.returncode, done.stderr) == (0, ""), done.stderr
    return folder / "quillmere", done.stdout, time.perf_counter() - begun


def test_the_demo_goes_from_data_to_a_fitted_plume(demo_run):
    project, out, _ = demo_run
    folder = project / "runs" / "fit-001"
    stats = pd.read_csv(folder / "statistics.csv", index_col="fit")
    assert stats.loc["after", "RMS"] < 0.1 < 0.2 < stats.loc["before", "RMS"]
    budget = pd.read_csv(folder / "budget.csv", index_col="term")
    npt.assert_allclose(budget.loc["total", "in [m³/day]"], budget.loc["total", "out [m³/day]"], rtol=1e-8)
    mass = pd.read_csv(folder / "mass_budget.csv", index_col=["term", "feature"])
    total = mass.loc["total"].iloc[0]
    npt.assert_allclose(total["in [kg]"], total["out [kg]"], rtol=1e-8)
    with xr.open_dataset(folder / "concentration.nc", decode_timedelta=False) as data:
        assert data["chloride"].dims == ("time", "layer", "y", "x")
        assert float(data["chloride"].min()) > 13.999
    pictures = sorted(p.stem for p in folder.glob("*.png"))
    assert len([p for p in pictures if p.startswith("heads_")]) == 6
    assert {"section", "paths", "plume", "measured_against_computed", "concentration_at_wells"} < set(
        pictures
    )
    assert "passes the limit of 90" in out
    assert "truth" in out


def test_what_a_material_lacks_hides_no_other_finding(first_project, command):
    site = first_project / "site.toml"
    lines = site.read_text(encoding="utf-8").splitlines()
    without = [line for line in lines if not line.startswith(("conductivity", "porosity"))]
    site.write_text("\n".join(without), encoding="utf-8")
    code, out, _ = command("check", site)
    words = " ".join(out.split())
    assert code == 2
    assert "conductivity" in words
    assert "porosity" in words
    with pytest.raises(ik.InputError, match=r'material ".*": there is no conductivity'):
        ik.place(ik.read_site(site), ik.rectangles(ik.read_site(site).boundary, cell=100))


@pytest.mark.slow
def test_the_demo_uses_a_project_that_is_there(demo_run, command):
    project, *_ = demo_run
    site = project / "site.toml"
    site.write_text(
        site.read_text(encoding="utf-8").replace('cell = "100 m"', 'cell = "250 m"'), encoding="utf-8"
    )
    code, out, _ = command("demo", project)
    assert code == 0
    assert "Using the project" in out
    assert (project / "runs" / "fit-002" / "heads.nc").exists()


def test_a_command_says_as_much_as_is_wanted(first_project, command):
    site = first_project / "site.toml"
    code, said, _ = command("--quiet", "check", site)
    assert (code, said) == (0, "")
    site.write_text(
        site.read_text(encoding="utf-8").replace("conductivity = ", "conductivitty = "), encoding="utf-8"
    )
    code, said, problem = command("-q", "check", site)
    assert code == 2
    assert "conductivitty" in said + problem
    site.write_text(
        site.read_text(encoding="utf-8").replace("conductivitty = ", "conductivity = "), encoding="utf-8"
    )
    code, said, _ = command("--verbose", "run", site)
    assert code == 0
    assert re.search(r"^ +\d+\.\d s  water budget closes", said, re.M)
    assert re.search(r"^ +\d+\.\d s  drawing ", said, re.M)
    assert command("-q", "-v", "check", site)[0] == 2


def test_tables_fit_eighty_letters_and_their_notes_stand_below(first_project, command, monkeypatch):
    from inkhorn.cli import terminal

    monkeypatch.setattr("rich.console.Console.width", 80)
    code, said, _ = command("check", first_project / "site.toml")
    assert code == 0
    assert "\n well 1: screen in " in said
    tables = said[said.index("What landed where") :]
    assert max(map(len, tables.splitlines())) <= 80
    assert terminal.MANNER.quiet is False


def test_the_doctor_finds_all_well_or_says_what_is_not(command, monkeypatch):
    code, said, _ = command("doctor")
    assert code == 0
    assert said.rstrip().endswith("All is well.")
    assert "numpy" in said
    monkeypatch.setattr("inkhorn.draw.heads", lambda *_, **__: 1 / 0)
    code, said, problem = command("doctor")
    assert code == 1
    assert "pictures: ZeroDivisionError" in problem
    assert "All is well" not in said


def test_what_is_asked_of_every_command_may_stand_behind_it(first_project, command):
    code, told, _ = command("run", first_project / "site.toml", "--quiet")
    assert (code, told.strip()) == (0, "")
    code, told, _ = command("run", first_project / "site.toml")
    assert code == 0
    assert "Everything is in" in told
    code, _, problem = command("check", first_project / "site.toml", "--quiet", "--verbose")
    assert code == 2
    assert "opposite things" in problem
