"""Observations, parameters, fits, and what comes of them in files."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.testing as npt
import pandas as pd
import pytest
import shapely
import xarray as xr

import inkhorn as ik
from inkhorn.calibration import FitStatistics, ParameterSet, PilotPoints, residual_table, seen_bores
from inkhorn.space import Variogram


def conductivity(layer, **options):
    return ik.Parameter(
        name=f"conductivity of {layer}", of="conductivity", how="set", layers=(layer,), **options
    )


@pytest.fixture(scope="module")
def known(quillmere):
    """Levels at the demo's bores as a model with known values computes them, and those values."""
    values = {"sand": 20.0, "gravel": 12.0, "lake clay": 0.03}
    parameters = [conductivity(n, lower=k / 30, upper=k * 30) for n, k in values.items()]
    parameters.append(ik.Parameter(name="recharge", of="recharge.rate", lower=0.5, upper=2.0))
    truth = [*values.values(), 1.25]
    made = ParameterSet(quillmere.model, parameters)
    flow = ik.solve_flow(made.model_with(made.coordinates(truth)))
    seen, _ = seen_bores(quillmere.model)
    levels = seen.values(flow, -1)
    bores = [replace(b, dates=(), levels=np.array([v])) for b, v in zip(seen.bores, levels, strict=True)]
    return parameters, truth, ik.observe(quillmere.model, bores)


def test_a_fit_finds_the_values_its_levels_were_made_with(quillmere, known):
    parameters, truth, observations = known
    fit = ik.calibrate(quillmere.model, parameters, observations=observations)
    npt.assert_allclose(fit.numbers, truth, rtol=1e-3)
    assert fit.statistics().rms < 1e-4 < fit.statistics(before=True).rms
    table = fit.table()
    assert (table["lower 95 %"] <= table["fitted"]).all()
    assert (table["remark"] == "").all()
    npt.assert_allclose(
        fit.model.horizontal_conductivity / fit.model.vertical_conductivity,
        quillmere.model.horizontal_conductivity / quillmere.model.vertical_conductivity,
    )
    objectives = [row.objective for row in fit.history]
    assert objectives == sorted(objectives, reverse=True)


def test_statistics_of_known_residuals():
    stats = FitStatistics.of(np.array([1.0, 2.0, 3.0, 4.0]), np.array([1.5, 2.0, 2.5, 4.0]))
    assert (stats.count, stats.mean) == (4, 0.0)
    npt.assert_allclose([stats.rms, stats.scaled_rms], [np.sqrt(0.125), np.sqrt(0.125) / 3])
    npt.assert_allclose(stats.correlation, np.corrcoef([1, 2, 3, 4], [1.5, 2, 2.5, 4])[0, 1])


def test_residuals_are_measured_less_computed(quillmere):
    seen, left_out = seen_bores(quillmere.model)
    frame = residual_table(quillmere, seen)
    npt.assert_allclose(frame["residual [m]"], frame["measured [m]"] - frame["computed [m]"])
    assert set(frame["bore"]) | set(left_out) == {b.name for b in quillmere.model.site.bores}
    whole = ik.observe(quillmere.model)
    used = frame.set_index("bore").loc[whole.table["name"], "residual [m]"]
    npt.assert_allclose(whole.residuals(quillmere)["residual"], used)
    assert len(whole) + len(whole.left_out) == len(frame)


def test_edits_of_a_fit_placed_anew_make_the_same_model(quillmere):
    """Values, factors, additions and pilot points of every kind: what is fitted is what a variant of it is placed as."""
    curve = Variogram("power", range=2000.0, exponent=1.4, direction=30.0, ratio=2.0, nugget=0.01)
    points = PilotPoints(spacing=1500.0, variogram=curve, neighbours=5, least=2, reach=2500.0, too_few="mean")
    polygon = shapely.box(0, 0, 3000, 6000)
    parameters = [
        conductivity("sand", points=points),
        ik.Parameter(name="west", of="conductivity", shape=polygon),
        ik.Parameter(name="clay", of="vertical_conductivity", layers=("lake clay",)),
        ik.Parameter(name="lake", of="fixed head.head", how="add"),
        ik.Parameter(name="bed", of="river.conductance", how="set", feature="outflow brook"),
        ik.Parameter(name="ditches", of="drain.conductance"),
        ik.Parameter(name="rain", of="recharge.rate", feature="meadow", points=PilotPoints(spacing=900.0)),
        ik.Parameter(name="loss", of="well.well_loss", how="add"),
    ]
    made = ParameterSet(quillmere.model, parameters)
    at = made.start + np.random.default_rng(1).normal(0.0, 0.2, len(made))
    model = made.model_with(at)
    site = replace(quillmere.model.site, edits=(*quillmere.model.site.edits, *made.edits(at)))
    again = ik.place(site, quillmere.model.grid.mesh)
    for name in ("horizontal_conductivity", "vertical_conductivity", "fixed head.head", "river.conductance",
                 "drain.conductance", "recharge.rate", "well.well_loss"):  # fmt: skip
        npt.assert_allclose(again.input(name), model.input(name), rtol=1e-12, err_msg=name)


def test_pilot_points_outside_are_named_and_held_ones_stay(quillmere):
    points = PilotPoints(
        [2000.0, 4000.0, 90000.0], [3000.0, 2500.0, 0.0], names=["a", "b", "far"], values=[5.0, np.nan, 1.0],
        held=[True, False, False],
    )  # fmt: skip
    made = ParameterSet(quillmere.model, [conductivity("gravel", start=20.0, points=points)])
    assert made.dropped("conductivity of gravel") == ("far",)
    assert made.names == ("conductivity of gravel at b",)
    npt.assert_allclose(made.all_numbers(made.coordinates([40.0])), [5.0, 40.0])
    field = made.field_of("conductivity of gravel", made.coordinates([40.0]))
    at = quillmere.model.grid.mesh.locate([2000.0, 4000.0], [3000.0, 2500.0])
    assert 5.0 <= field[at[0]] < 7.0 < 30.0 < field[at[1]] <= 40.0
    one = ParameterSet(quillmere.model, [conductivity("gravel", points=PilotPoints())])
    assert len(one) == 1


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda q: ik.calibrate(q.model, []), "nothing to fit"),
        (lambda q: ik.calibrate(q.model, [conductivity("sand", held=True)]), "all parameters are held"),
        (lambda q: ParameterSet(q.model, [conductivity("sand", lower=20, upper=30)]), "starts at 8.64 m/day, outside"),
        (
            lambda q: ik.calibrate(
                q.model, [conductivity("sand"), conductivity("gravel")],
                observations=ik.observe(q.model, q.model.site.bores[:1]),
            ),
            "1 readings cannot fit 2 numbers",
        ),
        (lambda q: conductivity("sand", lower=3, upper=2), "lower 3 is not below upper 2"),
        (lambda q: ik.observe(q.model, [ik.Bore("b", 0.0, 0.0, "sand", levels=np.ones(1))]), "none of the 1 bores"),
        (lambda q: ParameterSet(q.model, [conductivity("snad")]), 'Did you mean "sand"'),
        (lambda q: ParameterSet(q.model, [ik.Parameter(name="p", of="river.width")]), "no input"),
        (lambda q: ik.Parameter(name="p", of="porosity"), "heads do not depend on porosity"),
        (lambda q: ParameterSet(q.model, [ik.Parameter(name="p", of="lake.area")]), 'parameter "p"'),
        (
            lambda q: ParameterSet(q.model, [ik.Parameter(name="p", of="drain.conductance", feature="dich 1")]),
            'names the feature "dich 1"',
        ),
        (
            lambda q: ParameterSet(q.model, [conductivity("sand"), replace(conductivity("gravel"), follows="sand")]),
            'follows "sand"; expected one of',
        ),
        (
            lambda q: ParameterSet(q.model, [conductivity("sand", points=PilotPoints([9e4], [9e4]))]),
            "none of the 1 pilot points lies in the cells",
        ),
        (lambda q: PilotPoints([1.0], [1.0], held=[True]), "held at no value"),
        (lambda q: PilotPoints([1.0, 2.0], [1.0]), "2 x and 1 y"),
        (lambda q: ik.Parameter(name="p", of="drain.level", how="add", logarithmic=True), "has no logarithm"),
        (lambda q: ik.Measurement(name="m", values=[1.0]), "is of one thing; got none"),
        (lambda q: ik.Measurement(name="m", level_in="w", values=[1.0, 2.0], times=[1.0]), "1 times and 2 values"),
        (lambda q: ik.Measurement(name="m", drawdown_in="Q01", values=[1.0]), "`since` some time"),
        (
            lambda q: ik.observe(q.model, (), [ik.Measurement(name="m", level_in="hachery", values=[1.0])]),
            'Did you mean "hatchery"',
        ),
        (
            lambda q: ik.observe(q.model, None, [ik.Measurement(name="m", gain_of=("outflow brook",), values=[1.0])]),
            "weighed against each other by their standard deviations",
        ),
        (
            lambda q: ik.observe(q.model, rules=[ik.WeightRule(names=("nobody",), factor=2.0)]),
            "meant for no reading: nobody",
        ),
        (lambda q: ik.WeightRule(factor=-1.0), "factor"),
        (lambda q: ik.WeightRule(near=(0.0, 0.0), factor=1.0), "`near` and `distance` together"),
        (lambda q: ik.calibrate(q.model, [conductivity("sand", deviation=1.0)]), "no reading does"),
        (
            lambda q: ik.calibrate(
                q.model, [conductivity("sand")],
                regularisation=ik.Regularisation(kind="first guess", strength="target"),
            ),
            "a misfit is aimed at",
        ),
        (lambda q: ik.Regularisation(kind="smooth"), "expected one of"),
        (lambda q: ik.Bore("b", 0.0, 0.0), "either the layer that its screen is in, or the top and the bottom"),
        (lambda q: ik.Bore("b", 0.0, 0.0, screen_top=1.0, screen_bottom=2.0), "is not below screen_top"),
    ],
)  # fmt: skip
def test_fits_that_cannot_be(quillmere, make, message):
    with pytest.raises(ik.InputError, match=message):
        make(quillmere)


FITS = """
[[measured]]
name = "brook"
gain_of = ["outflow brook"]
value = "4800 m3/day"
deviation = "300 m3/day"

[[forecast]]
name = "brook ahead"
gain_of = ["outflow brook"]

[[forecast]]
name = "under the depot"
level_at = ["4400 m", "3600 m"]
layer = "gravel"

[[candidate]]
name = "new bore"
level_at = ["4300 m", "3500 m"]
layer = "gravel"
deviation = "1.5 cm"

[[fit]]
name = "points"
max_iterations = 3

[[fit.weight]]
groups = ["levels"]
deviation = "2 cm"

[[fit.parameter]]
name = "conductivity of gravel"
of = "conductivity"
how = "set"
layers = ["gravel"]
start = "1e-4 m/s"
deviation = 1.0
points = { file = "points.csv", variogram = { kind = "exponential", range = "4 km" } }

[[fit.parameter]]
name = "meadow"
of = "recharge.rate"
feature = "meadow"
deviation = 0.2

[[fit]]
name = "layers"
conductivity_of = ["sand"]
[[fit.weight]]
deviation = "2 cm"
groups = ["levels"]
"""


def test_a_fit_with_pilot_points_goes_from_file_to_variant(quillmere_folder, tmp_path, command):
    import shutil

    folder = tmp_path / "q"
    shutil.copytree(quillmere_folder, folder, ignore=shutil.ignore_patterns("runs"))
    (folder / "variants" / "points.toml").write_text(FITS, encoding="utf-8")
    rows = ["name,x [m],y [m],value [m/day],held"] + [
        f"G{k},{1000 + 900 * k},{1200 + 500 * k},,no" for k in range(5)
    ]
    (folder / "points.csv").write_text(
        "\n".join([*rows, "far,90000,0,5,no", "test,3000,3000,30,yes"]) + "\n", encoding="utf-8"
    )
    site = folder / "site.toml"
    code, _, err = command("fit", site, "--variant", "points")
    assert (code, "name one of points, layers by --of" in err) == (2, True)
    code, out, err = command(
        "fit", site, "--variant", "points", "--of", "points", "--sensitivities", "--tables", folder / "told"
    )
    assert (code, err, "What readings tell" in out) == (0, "", True)
    assert (folder / "told" / "correlations.csv").exists()
    code, out, err = command("fit", site, "--variant", "points", "--of", "points", "--keep-as", "found")
    assert (code, err) == (0, "")
    assert "pilot points outside are dropped: far" in out
    run = folder / "runs" / "fit-points-points-001"
    table = pd.read_csv(run / "parameters.csv").set_index("parameter")
    assert table.loc["conductivity of gravel at test", "remark"] == "held"
    assert (
        table.loc["meadow", "lower 95 %"] < table.loc["meadow", "fitted"] < table.loc["meadow", "upper 95 %"]
    )
    ahead = pd.read_csv(run / "forecasts.csv").set_index("name")
    assert (ahead["standard error"] < ahead["standard error before"]).all()
    worth = pd.read_csv(run / "worth_of_candidates.csv").set_index("forecast")
    assert worth.loc["under the depot", "less [%]"] > 0.1
    assert {"fit", "parameters", "history"} - {"fit"} <= set(pd.read_excel(run / "fit.xlsx", sheet_name=None))
    with xr.open_dataset(run / "fit.nc", decode_timedelta=False) as data:
        assert data["sensitivity"].dims == ("reading", "number")
    assert (run / "field-conductivity_of_gravel.png").exists()
    # the variant that was kept makes the fitted model again; it is not written over
    fitted = ik.open_run(run).fit
    project = ik.read_project(site, variant="found")
    again = ik.place(project.site, project.grid())
    npt.assert_allclose(again.horizontal_conductivity, fitted.model.horizontal_conductivity, rtol=1e-12)
    npt.assert_allclose(again.input("recharge.rate"), fitted.model.input("recharge.rate"), rtol=1e-12)
    code, _, err = command("fit", site, "--variant", "points", "--of", "points", "--keep-as", "found")
    assert (code, "is there already, and is not written over" in err) == (2, True)
    code, out, err = command(
        "draw", "depletion", run, "--of", "outflow brook", "--layer", "gravel", "--out", folder / "d.png"
    )
    assert (code, err, (folder / "d.png").exists()) == (0, "", True)


def test_a_list_of_parameters_is_one_that_can_be_fitted(quillmere_folder, tmp_path, command):
    import shutil

    folder = tmp_path / "q"
    shutil.copytree(quillmere_folder, folder, ignore=shutil.ignore_patterns("runs"))
    code, out, err = command("fit", folder / "site.toml", "--list")
    assert (code, err) == (0, "")
    text = (folder / "site.toml").read_text(encoding="utf-8")
    begin = text.index("[fit]")
    (folder / "site.toml").write_text(text[:begin] + out + text[text.index("[paths]") :], encoding="utf-8")
    project = ik.read_project(folder / "site.toml")
    model = ik.place(project.site, project.grid())
    made = ParameterSet(model, project.fits[0].parameters)
    assert {"conductivity of sand", "rate of meadow", "drain conductance"} <= set(made.names) | {
        "drain conductance"
    }
    npt.assert_allclose(
        made.model_with(made.start).horizontal_conductivity, model.horizontal_conductivity, rtol=1e-3
    )
