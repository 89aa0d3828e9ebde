"""Local models of projects: what is taken from the region's run, what is added, told, drawn, and refused."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely

import inkhorn as ik
from inkhorn.draw import rim

LOCAL = """
title = "Pit by the well"

[cut_from]
run = "../first/runs/run-001"
outline = [[400, 300], [900, 300], [900, 800], [400, 800]]

[grid]
cell = "20 m"

[[layer]]
name = "sand"
parts = 3
"""
PIT = """
[[excavation]]
name = "pit"
file = "pit.geojson"
floor = "15 m"
"""


@pytest.fixture
def local(first_project, command):
    """A region that was run, and beside it the project of a local model."""
    assert command("run", first_project / "site.toml")[0] == 0
    folder = first_project.parent / "local"
    folder.mkdir()
    (folder / "site.toml").write_text(LOCAL, encoding="utf-8")
    box = {"type": "Polygon", "coordinates": [[[700, 600], [760, 600], [760, 660], [700, 660], [700, 600]]]}
    (folder / "pit.geojson").write_text(str(box).replace("'", '"'), encoding="utf-8")
    return folder / "site.toml"


def test_a_local_model_runs_opens_and_agrees_with_its_region(local, command):
    code, out, err = command("draw", "rim", local, "--out", local.parent / "rim.png")
    assert (code, err) == (0, "")
    assert (local.parent / "rim.png").stat().st_size > 20_000
    code, out, err = command("run", local)
    assert (code, err) == (0, "")
    assert "takes the region's heads" in out
    assert "lie far outside" not in out
    assert "beside the region: heads differ by" in out
    folder = local.parent / "runs" / "run-001"
    assert {"rim.csv", "rim.png", "difference.png", "agreement_budget.csv"} <= {
        p.name for p in folder.iterdir()
    }
    run = ik.open_run(folder)
    assert run.model.grid.layer_names == ("sand 1", "sand 2", "sand 3", "gravel")
    assert {t.kind for t in run.model.terms} >= {"recharge", "well", "rim head"}
    assert "stream" not in [f.name for f in run.model.site.features]
    off = pd.read_csv(folder / "agreement_heads.csv").set_index("where")
    assert off.loc["all cells", "RMS [m]"] < 0.1
    budget = pd.read_csv(folder / "agreement_budget.csv").set_index("term")
    npt.assert_allclose(budget.loc["well"].iloc[1], budget.loc["well"].iloc[3])
    again = ik.solve_flow(run.model)
    npt.assert_allclose(again.steps[0].heads, run.flow.steps[0].heads, atol=1e-6)
    region = ik.open_run(local.parent.parent / "first" / "runs" / "run-001")
    assert set(run.cut.sources["from"]) == {"the site", "the region's flow"}
    made = ik.cut(region, [(400, 300), (900, 300), (900, 800), (400, 800)], rim="heads")
    assert made.model.grid.layer_names == ("sand", "gravel")
    agrees = made.agreement(made.solve())
    assert np.nanmax(np.abs(agrees.difference)) < 0.05
    missing = ik.Edit("porosity", 0.2, shape=shapely.box(400, 300, 401, 301))
    with pytest.warns(ik.InkhornWarning, match="meets no cell of this part"):
        ik.cut(region, made.outline, site=replace(region.site, edits=(missing,)))
    ax = rim(made)
    assert "rim of a local model" in ax.get_title()
    ax.figure.clear()


@pytest.mark.slow
def test_a_pit_in_a_local_model_tells_how_far_it_reaches(local, command):
    """As a variant of the local project; its rim given flows on one side, and what that is off by is said."""
    variants = local.parent / "variants"
    variants.mkdir()
    (variants / "pit.toml").write_text(PIT + '\n[cut_from.rim]\nrest = "heads"\n', encoding="utf-8")
    code, out, err = command("run", local, "--variant", "pit")
    assert (code, err) == (0, "")
    assert "that new features take" in out
    run = ik.open_run(next((local.parent / "runs").glob("run-*")))
    budget = run.flow.budget()
    assert budget.loc["excavation", "out [m³/day]"] > 100.0
    at = run.model.grid.mesh.locate([730.0], [630.0])[0]
    assert run.flow.water_table(0)[at] < 15.4
    whole = PIT + "\n[cut_from]\nwhole = true\n"
    (variants / "whole.toml").write_text(whole, encoding="utf-8")
    code, out, err = command("run", local, "--variant", "whole")
    assert (code, err) == (0, "")
    assert "takes the region's heads" not in out
    region = ik.open_run(next((local.parent / "runs").glob("*whole*")))
    assert {"stream", "pit"} <= {f.name for f in region.model.site.features}
    taken = region.flow.budget().loc["excavation", "out [m³/day]"]
    assert 0.5 * taken < budget.loc["excavation", "out [m³/day]"] < 2.0 * taken


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (LOCAL.replace("run-001", "run-007"), "no run of a region"),
        (LOCAL.replace("900, 800]", "2900, 800]"), "outside the region"),
        (LOCAL.replace("[900, 300], [900, 800], [400, 800]", "[900, 800], [900, 300], [400, 800]"), "not valid"),
        (LOCAL + '[boundary]\nextent = [0, 0, 1, 1]\n', "boundary of a local model is the `outline`"),
        (LOCAL + '[units]\nlength = "ft"\n', "length is in 'ft', in the region's project in 'm'"),
        (LOCAL + '[cut_from.rim]\nwest = "heads"\n', 'no stretch "west"'),
        (LOCAL.replace("[cut_from]", '[cut_from]\nrim = "levels"'), "line 5, cut_from.rim"),
    ],
)  # fmt: skip
def test_what_no_local_project_can_be_is_refused(local, command, text, words):
    local.write_text(text, encoding="utf-8")
    code, _, err = command("run", local)
    assert code == 2
    assert words in err.replace("\n", " ")
    assert "Traceback" not in err
    assert not (local.parent / "runs").exists()


@pytest.mark.slow
def test_a_plume_begins_with_that_of_the_region(first_project, command):
    """What the region's run ended with, by the volume that cells share; the run gives back how it was cut."""
    site_file = first_project / "site.toml"
    asked = """
[[species]]
name = "salt"
background = 0

[transport]
species = "salt"
duration = "{}"
dispersivity = "10 m"
"""
    text = site_file.read_text(encoding="utf-8").replace(
        'rate = "250 mm/year"', 'rate = "250 mm/year"\nconcentration = { salt = "50 mg/l" }'
    )
    text = text[: text.index("[paths]")] + asked.format("3 years")
    site_file.write_text(text, encoding="utf-8")
    assert command("run", site_file)[::2] == (0, "")
    folder = first_project.parent / "local"
    folder.mkdir()
    local = LOCAL.replace("[cut_from]", '[cut_from]\nplume = "salt"').replace("parts = 3", "parts = 1")
    own = asked[asked.index("[transport]") :].format("10 days")
    (folder / "site.toml").write_text(local + own, encoding="utf-8")
    assert command("run", folder / "site.toml")[::2] == (0, "")
    run = ik.open_run(folder / "runs" / "run-001")
    region = ik.open_run(first_project / "runs" / "run-001").transport()
    begun = run.transport().records[0].concentration
    npt.assert_allclose(begun, run.cut.initial_concentration(region))
    assert 1.0 < begun.max() <= region.records[-1].concentration.max() + 1e-9
    assert run.agreement.heads.loc["all cells", "RMS [m]"] < 0.1
    with pytest.raises(ik.InputError, match="no local model"):
        _ = ik.open_run(first_project / "runs" / "run-001").cut
