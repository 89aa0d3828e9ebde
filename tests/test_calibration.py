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


@pytest.mark.slow
def test_a_fit_with_pilot_points_goes_from_file_to_variant(quillmere_folder, tmp_path, command):
    import shutil

    folder = tmp_path / "q"
    shutil.copytree(quillmere_folder, folder, ignore=shutil.ignore_patterns("runs"))
    drier = '[[edit]]\nof = "recharge.rate"\nfactor = 0.97\nreason = "a dry year"\n'
    (folder / "variants" / "points.toml").write_text(drier + FITS, encoding="utf-8")
    rows = ["name,x [m],y [m],value [m/day],held"] + [
        f"G{k},{1000 + 900 * k},{1200 + 500 * k},,no" for k in range(5)
    ]
    (folder / "points.csv").write_text(
        "\n".join([*rows, "far,90000,0,5,no", "test,3000,3000,30,yes"]) + "\n", encoding="utf-8"
    )
    site = folder / "site.toml"
    text = site.read_text(encoding="utf-8").replace('cell = "100 m"', 'cell = "250 m"')
    begin, end = (text.index(f"[{name}]") for name in ("transport", "draw"))
    site.write_text(text[:begin] + text[end:], encoding="utf-8")
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


def test_kriging_looks_as_far_and_at_as_many_points_as_it_is_told():
    from inkhorn.space import PointSurface, kriging_rows

    x, y = np.array([0.0, 100.0, 200.0, 1000.0]), np.zeros(4)
    curve = Variogram("power", range=500.0, exponent=1.5)
    rows = kriging_rows(x, y, [50.0, 950.0], [0.0, 0.0], curve, neighbours=3, reach=160.0)
    assert np.diff(rows.indptr).tolist() == [3, 1]
    npt.assert_allclose(np.ravel(rows.sum(axis=1)), 1.0)
    least = kriging_rows(x, y, [600.0], [0.0], curve, neighbours=3, least=2, reach=150.0)
    assert sorted(least.indices.tolist()) == [2, 3]
    mean = kriging_rows(x, y, [600.0], [0.0], curve, neighbours=3, least=2, reach=150.0, too_few="mean")
    npt.assert_allclose(mean.toarray(), 0.25)
    # the weights are those of the whole system where all points are seen, whatever the direction
    turned = Variogram("exponential", range=300.0, ratio=3.0, direction=30.0, nugget=0.1)
    whole = kriging_rows(x, [0.0, 80.0, -50.0, 10.0], [120.0], [30.0], turned, neighbours=4).toarray()[0]
    places = turned.stretched(np.append(x, 120.0), np.append([0.0, 80.0, -50.0, 10.0], 30.0))
    gamma = turned.at(np.linalg.norm(places[:, None] - places, axis=2)) + 0.1 * (1 - np.eye(5))
    system = np.block([[gamma[:4, :4], np.ones((4, 1))], [np.ones((1, 4)), np.zeros((1, 1))]])
    npt.assert_allclose(whole, np.linalg.solve(system, np.append(gamma[:4, 4], 1.0))[:4], rtol=1e-9)
    logs = PointSurface(
        x, y, np.array([1.0, 100.0, 4.0, 9.0]), method="inverse_distance", neighbours=2, on_logarithms=True
    )
    npt.assert_allclose(logs.at([50.0], [0.0]), 10.0)
    with pytest.raises(ik.InputError, match="which has no logarithm"):
        PointSurface(x, y, x, method="kriging", on_logarithms=True)
    with pytest.raises(ik.InputError, match="exponent is 2"):
        Variogram("power", exponent=2.0)
    with pytest.raises(ik.InputError, match="at least 5 of 3"):
        kriging_rows(x, y, [0.0], [0.0], curve, neighbours=3, least=5)


def test_a_bore_with_a_screen_through_layers_stands_at_their_mean_by_transmissivity():
    grid = ik.layered(ik.rectangles((0, 0, 300, 100), cell=100), [20.0, 10.0, 0.0, -10.0])
    n = grid.mesh.n_cells
    heads = np.repeat([18.0, 12.0, 9.0], n)
    k = np.repeat([2.0, 5.0, 30.0], n)
    terms = [ik.terms.FixedHeadTerm(cells=np.arange(3 * n), head=heads)]
    flow = ik.solve_flow(ik.Model(grid, k, terms=terms))
    bore = ik.Bore("open", 150.0, 50.0, screen_top=15.0, screen_bottom=-4.0)
    level = ik.flow.BoreLevels(flow.model, [bore, ik.Bore("shut", 150.0, 50.0, "layer 2")]).values(flow, -1)
    weight = np.array([2.0 * 5.0, 5.0 * 10.0, 30.0 * 4.0])
    npt.assert_allclose(level, [weight @ [18.0, 12.0, 9.0] / weight.sum(), 12.0])
    seen = ik.observe(flow.model, [replace(bore, levels=np.array([11.0])), ik.Bore("deep", 150.0, 50.0, screen_top=-50.0,
                      screen_bottom=-60.0, levels=np.array([3.0]))])  # fmt: skip
    assert seen.left_out["why"].tolist() == ["its screen meets no cell there"]


@pytest.mark.parametrize("make", [
    lambda: ik.rectangles((0, 0, 900, 600), cell=(90, 75), rotation=15),
    lambda: ik.split_in_four((0, 0, 900, 600), cell=150, near=[(shapely.Point(320, 310), 40.0)]),
    lambda: ik.voronoi(shapely.box(0, 0, 900, 600), cell=90),
])  # fmt: skip
def test_rows_across_a_line_say_what_crosses_it(make):
    grid = ik.layered(make(), [10.0, 0.0, -20.0])
    c = grid.cells
    rim = np.unique(grid.outer_faces.cell)
    terms = [
        ik.terms.FixedHeadTerm(
            cells=rim, head=20.0 + 0.01 * c.x[rim] - 0.004 * c.y[rim] + 0.5 * c.layer[rim]
        ),
        ik.terms.RechargeTerm(cells=grid.uppermost, rate=1e-3, area=c.area[grid.uppermost]),
    ]
    flow = ik.solve_flow(ik.Model(grid, 3.0 + 0.01 * c.x, terms=terms))
    line = [(220.0, 130.0), (410.0, 260.0), (590.0, 520.0)]
    table = flow.across(line)
    for layers, name in ((None, "total"), ([1], "layer 2")):
        faces, rim_rows = ik.flow.rows_across_line(grid, line, layers)
        through = faces @ flow.steps[0].face_flow + rim_rows @ np.zeros(len(grid.outer_faces))
        npt.assert_allclose(through, table.loc[name, "net to the left [m³/day]"], rtol=1e-9)


TIMED = """
[time]
start = 2020-01-01
end = 2020-07-01
every = "month"
steps = 2
steady_first = true

[[edit]]
of = "recharge.rate"
factor = { series = "rain.csv", column = "rain" }

[[measured]]
name = "stream"
gain_of = ["stream"]
file = "gauge.csv"
group = "gauges"

[[measured]]
name = "test"
drawdown_in = "B1"
since = 2020-02-01
value = "10 cm"
date = 2020-05-01
deviation = "3 cm"
"""


@pytest.fixture
def timed_project(first_project):
    """The first project through half a year, with a gauge and a pumping test, fitted in time."""
    dates = ["2020-01-01", "2020-02-01", "2020-03-01", "2020-04-01", "2020-05-01", "2020-06-01"]
    pd.DataFrame({"date": dates, "rain": [1.0, 1.8, 1.2, 0.6, 0.3, 0.1]}).to_csv(
        first_project / "rain.csv", index=False
    )
    pd.DataFrame(
        {"date": dates[1:5], "value [m³/day]": [300.0, 320.0, 280.0, 240.0], "deviation [m³/day]": 40.0}
    ).to_csv(first_project / "gauge.csv", index=False)
    names = pd.read_csv(first_project / "bores.csv")["name"].tolist()
    rows = [(n, d, 17.5 + 0.1 * k) for k, n in enumerate(names) for d in dates[1:]]
    pd.DataFrame(rows, columns=["name", "date", "level"]).to_csv(first_project / "levels.csv", index=False)
    site = first_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    storage = '\nspecific_storage = "1e-5 1/m"\nspecific_yield = 0.2\n\n'
    for old, new in (
        ("[material.gravel]", storage[1:] + "[material.gravel]"),
        ("porosity = 0.2\n", "porosity = 0.2" + storage),
        (
            'conductivity_of = ["sand", "gravel"]',
            'in_time = true\nmax_iterations = 3\nconductivity_of = ["sand", "gravel"]',
        ),
        ("recharge = false", 'recharge = false\n[[fit.weight]]\ngroups = ["levels"]\ndeviation = "5 cm"'),
    ):
        assert old in text
        text = text.replace(old, new)
    site.write_text(text.replace("B1", names[0]) + TIMED.replace('"B1"', f'"{names[0]}"'), encoding="utf-8")
    return first_project


@pytest.mark.slow
def test_a_fit_goes_through_time_and_goes_on_to_the_same_bits(timed_project, command, monkeypatch):
    from inkhorn.calibration import least_squares

    site, made = timed_project / "site.toml", timed_project / "runs"
    code, out, err = command("fit", site)
    assert (code, err, "fitted is in time" in out) == (0, "", True)
    table = pd.read_csv(made / "fit-001" / "fit_residuals.csv")
    assert table["kind"].value_counts().to_dict() == {"level": len(table) - 5, "gain": 4, "drawdown": 1}
    assert pd.read_csv(made / "fit-001" / "statistics.csv")["group"].nunique() == 2
    fit = ik.open_run(made / "fit-001").fit
    npt.assert_allclose(fit.observations.computed(fit.after), table["computed"], rtol=1e-8)
    whole, count = least_squares.weighted_jacobian, iter(range(100))

    def stopped(*args, **options):
        if next(count) == 1:
            raise KeyboardInterrupt
        return whole(*args, **options)

    with monkeypatch.context() as patch:
        patch.setattr("inkhorn.calibration.least_squares.weighted_jacobian", stopped)
        assert command("fit", site)[0] == 1
    code, _, err = command("fit", site, "--go-on", made / "stopped-fit-001")
    assert (code, err) == (0, "")
    for name in ("parameters.csv", "history.csv", "fit.json", "fit_residuals.csv"):
        assert (made / "fit-001" / name).read_bytes() == (made / "fit-002" / name).read_bytes(), name
    text = site.read_text(encoding="utf-8")
    site.write_text(text.replace('deviation = "5 cm"', 'deviation = "6 cm"'), encoding="utf-8")
    code, _, err = command("fit", site, "--go-on", made / "stopped-fit-001")
    assert (code, "the readings or their weights" in " ".join(err.split())) == (2, True)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('gain_of = ["stream"]', 'gain_of = ["streem"]', r'line \d+: there is no feature "streem"'),
        ('gain_of = ["stream"]', 'across = "valley"', 'there is no line "valley"'),
        ('gain_of = ["stream"]', 'gain_of = ["stream"]\nlevel_in = "well 1"', "is of one thing; got"),
        ('file = "gauge.csv"', 'value = "3 m"', "gain_of|value"),
        ('file = "gauge.csv"', 'file = "gauges.csv"', "gauges.csv"),
        ("since = 2020-02-01\n", "", "a drawdown is one `since` some time"),
        ('value = "10 cm"', 'value = "10 l/s"', "l/s"),
        ("in_time = true", 'in_time = true\nstrength = "goal"', "strength"),
        ("in_time = true", 'regularisation = "smooth"', "regularisation"),
        ("max_iterations = 3", "max_iterations = 0", "max_iterations: is 0; expected 1 or more"),
        ('deviation = "5 cm"', 'deviation = "5 kg"', "deviation"),
        ('deviation = "5 cm"', 'deviation = "5 cm"\nfactor = 2', "either a `deviation` or a `factor`"),
        ("recharge = false", 'recharge = false\n[[fit.parameter]]\nname = "p"\nof = "river.conductnce"', "p|conductnce"),
        ("recharge = false", 'recharge = false\n[[fit.parameter]]\nname = "p"\nof = "conductivity"\nhow = "st"', "how"),
        (
            "recharge = false",
            'recharge = false\n[[fit.parameter]]\nname = "p"\nof = "conductivity"\nhow = "set"\nlower = "3 mm/year/K"',
            "lower",
        ),
        (
            "recharge = false",
            'recharge = false\n[[fit.parameter]]\nname = "p"\nof = "conductivity"\n'
            'points = { spacing = "50 m", file = "x.csv" }',
            "either a `spacing` or a `file`",
        ),
        ("[[measured]]\nname = \"test\"", "[[measured]]\nname = \"stream\"", 'two are called "stream"'),
        ("[[measured]]\nname = \"test\"", "[[candidate]]\nname = \"c\"\nlevel_in = \"w\"\n[[measured]]\nname = \"t\"",
         "with which standard deviation"),
        ("[[measured]]\nname = \"test\"", "[[forecast]]\nname = \"c\"\nlevel_at = [500, 500]\n[[measured]]\nname = \"t\"",
         "`level_at` and `layer` together"),
    ],
)  # fmt: skip
def test_fits_of_a_project_file_that_cannot_be(timed_project, command, old, new, message):
    import re

    site = timed_project / "site.toml"
    text = site.read_text(encoding="utf-8")
    assert old in text
    site.write_text(text.replace(old, new, 1), encoding="utf-8")
    code, out, err = command("fit", site)
    assert code == 2, out
    assert "Traceback" not in out + err
    assert re.search(message, " ".join(err.split())), err
    assert not (timed_project / "runs").exists()
