"""The command line: parses, calls, prints; no calculation."""

from __future__ import annotations

import json
import os
import sys
import warnings
from dataclasses import asdict
from numbers import Integral
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

import inkhorn._start  # first of all
import inkhorn.cli_draw_conduits  # its commands
import inkhorn.cli_draw_local  # its commands
import inkhorn.cli_draw_run  # noqa: F401  # its commands
from inkhorn.cli_draw import (
    GridName,
    RunFolder,
    SiteFile,
    When,
    corners_of,
    drawing,
    place_of,
    read_of,
    step_of,
    when_of,
)
from inkhorn.errors import InputError
from inkhorn.stopping import asked_to_stop, stopping_like_ctrl_c
from inkhorn.terminal import MANNER, Listener, print_table, say, show_warning, shown, telling, telling_runs

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.calibration import Knowledge
    from inkhorn.runs import Journal
    from inkhorn.space import Grid
    from inkhorn.unit_choice import UnitChoice

__all__ = ["app", "main"]

_INTERRUPTED = 130  # what typer exits with
_SOME = 12  # periods that are printed of the first and of the last

app = typer.Typer(
    help="Groundwater in layered aquifers: flow, contaminants, particle paths, and how well they fit what was "
    "measured.\n\nBegin with `inkhorn demo`, or with `inkhorn new FOLDER` and your own data.",
    no_args_is_help=True,
    rich_markup_mode="markdown",
    pretty_exceptions_enable=False,
)


def _version(asked: bool) -> None:
    if asked:
        from inkhorn import __version__

        say(f"Inkhorn {__version__}", asked=True)
        raise typer.Exit


@app.callback()
def _options(
    quiet: Annotated[
        bool, typer.Option("--quiet", "-q", help="Say only what is or may be wrong, and what was asked for.")
    ] = False,
    verbose: Annotated[
        bool, typer.Option("--verbose", "-v", help="Say what is being done, too, and when.")
    ] = False,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say which version this is.")
    ] = False,
) -> None:
    if quiet and verbose:
        raise InputError("--quiet and --verbose ask for opposite things. Give one of them.")
    MANNER.quiet, MANNER.verbose = quiet, verbose


app.add_typer(drawing, name="draw")

Out = Annotated[
    Path | None,
    typer.Option(help="Where run folders go; `runs` beside the project file if not given.", metavar="FOLDER"),
]

VariantName = Annotated[
    str | None,
    typer.Option(
        "--variant", help="What differs, in variants/NAME.toml beside the project file.", metavar="NAME"
    ),
]


GoOn = Annotated[
    Path | None,
    typer.Option(
        "--go-on",
        help="Go on from this folder, of one that was stopped: what is done is taken over.",
        metavar="RUN",
    ),
]


def _parameters_for_people(table: pd.DataFrame, value: str) -> pd.DataFrame:
    """The table of parameters, short enough for a terminal."""
    known = table.reindex(columns=["lower 95 %", "upper 95 %"])
    limits = [
        "" if low != low else f"{shown(low)} to {shown(high)}"
        for low, high in zip(known["lower 95 %"], known["upper 95 %"], strict=True)
    ]
    short = table[["parameter", "unit", "start", value]].assign(**{"95 % limits": limits})
    if table["points"].notna().any():
        short = short.assign(**{"pilot points": table["points"].fillna("")})
    return short.assign(remark=table["remark"].fillna(""))


_LONGEST = 24


def _shortened(table: pd.DataFrame) -> pd.DataFrame:
    """The first rows of a long table."""
    return table if len(table) <= _LONGEST else table.head(_LONGEST)


def _layers_for_people(grid: Grid, units: UnitChoice) -> pd.DataFrame:
    """The table of layers, short enough for a terminal."""
    table = units.table(grid.table())
    short = table[["layer", "cells"]].copy()
    for what in ("size", "thickness"):
        columns = [c for c in table.columns if c.startswith(what)]
        unit = columns[0].partition("[")[2].partition("]")[0]
        words = [[f"{v:.4g}" for v in row] for row in table[columns].to_numpy()]
        spans = [" / ".join(row if len(set(row)) > 1 else row[:1]) for row in words]
        short[f"{what} [{unit}]"] = spans
    if table["made of another"].any():
        short["made of another"] = table["made of another"]
    return short


def _met_for_people(placed: pd.DataFrame, units: UnitChoice) -> pd.DataFrame:
    """Lengths and areas as drawn and as met."""
    some = placed[placed["measure"].fillna("") != ""]
    drawn, met = (units.by_row(some, k, "measure") for k in ("drawn", "met"))
    off = [f"{share:+.1%}" if abs(share) >= 5e-4 else "-" for share in some["met"] / some["drawn"] - 1.0]
    return (
        some[["feature", "kind"]]
        .assign(drawn=drawn["drawn"], met=met["met"], unit=drawn["measure"])
        .assign(difference=off)
    )


def _end(folder: Path, told: Journal, more: str = "") -> None:
    """Say where everything is; exit with 1 if something went wrong on the way."""
    say(f"Everything is in {folder}" + (f"\n{more}" if more else ""))
    if told.problems:
        say("\n".join(f"error: {line}" for line in told.problems), error=True)
        raise typer.Exit(1)


def _print_periods(periods: pd.DataFrame) -> None:
    """Print when periods begin and end and what changes; of many the first and the last."""
    days = periods["end [day]"] - periods["begin [day]"]
    table = periods.drop(columns=["begin [day]", "end [day]"]).assign(**{"days": days.round(3)}).reset_index()
    order = ["period", *(c for c in ("begin", "end") if c in table), "days", "steps", "kind", "changes"]
    title = f"Periods; the change is at the begin ({len(table)} in all)"
    if len(table) > 2 * _SOME:
        table = table[(table.index < _SOME) | (table.index >= len(table) - _SOME)]
    print_table(table[order].set_index("period"), title)


@app.command()
def check(
    site: SiteFile,
    grid: GridName = None,
    variant: VariantName = None,
    as_json: Annotated[
        bool, typer.Option("--json", help="Print the findings as JSON, and nothing else.")
    ] = False,
) -> None:
    """Read a project, place it on its grid, report what landed where, and look for mistakes. Solves nothing."""
    import pandas as pd

    from inkhorn.runs import check_project
    from inkhorn.space import VoronoiMesh

    project = read_of(site, variant)
    if as_json:
        findings = check_project(project, grid)[1]
        text = json.dumps([asdict(finding) for finding in findings], ensure_ascii=False, indent=1)
        say(text, asked=True)
        raise typer.Exit(2 if findings.errors else 0)
    say(repr(project.site))
    for change in project.changes:
        say(f"variant {variant}: {change}")
    try:
        model, findings = check_project(project, grid)
    finally:
        print_table(pd.DataFrame(project.read), "What was read")
    if project.site.schedule is not None:
        say(repr(project.site.schedule))
    covered, boundary = model.grid.mesh.area.sum(), project.site.boundary.area
    say(f"{model.grid.mesh!r}, {covered / boundary - 1:+.2%} against the boundary\n{model.grid!r}")
    print_table(_layers_for_people(model.grid, project.shown_in), "Cells by layer: least / median / greatest")
    if isinstance(model.grid.mesh, VoronoiMesh):
        print_table(model.grid.mesh.table().rename_axis("quality"), "How good the cells are")
    if model.placed is not None:
        shares = [f"{share:.1%}" if share else "-" for share in model.placed["share outside"]]
        table = model.placed.assign(**{"share outside": shares})
        own = ["values", "water", "drawn", "met", "measure"]
        print_table(project.shown_in.by_row(table.drop(columns=own), "total", "unit"), "What landed where")
        print_table(_met_for_people(model.placed, project.shown_in), "How lines and areas were met")
        arrived = table.loc[table["values"].fillna("") != "", ["feature", "values", "water"]]
        print_table(arrived, "What arrived at the cells, least to greatest, and what its water does")
    if model.schedule is not None:
        _print_periods(model.schedule.table(dict(model.inputs_in_time)))
    if len(findings):
        say("Findings")
        for finding in findings:
            say(f" {finding}", asked=finding.severity != "note")
    else:
        say("The check found nothing to complain of.")
    if findings.errors:
        raise typer.Exit(2)


@app.command()
def run(
    site: SiteFile,
    out: Out = None,
    grid: GridName = None,
    variant: VariantName = None,
    go_on: GoOn = None,
) -> None:
    """Solve what a project asks for, into a new run folder: heads, budget, paths, plume, pictures."""
    from inkhorn.runs import run_project

    project = read_of(site, variant)
    with telling() as told:
        folder, flow = run_project(project, out, told, grid=grid, go_on=go_on)
    last = flow.steps[-1]
    when = "" if last.steady else f" of the last step, day {last.begin:g} to {last.end:g}"
    print_table(flow.budget(), f"Water budget{when}", project.shown_in)
    _end(folder, told)


@app.command()
def fit(
    site: SiteFile,
    out: Out = None,
    grid: GridName = None,
    variant: VariantName = None,
    go_on: GoOn = None,
    of: Annotated[
        str | None, typer.Option("--of", help="Which fit, of several in the project.", metavar="NAME")
    ] = None,
    list_: Annotated[
        bool,
        typer.Option("--list", help="Only list what a fit could change, as tables for the project file."),
    ] = False,
    only_sensitivities: Annotated[
        bool,
        typer.Option(
            "--sensitivities",
            help="Only solve once and tell which parameters matter, which readings tell, and what cannot be known.",
        ),
    ] = False,
    tables: Annotated[
        Path | None,
        typer.Option(
            help="With --sensitivities: a new folder for all tables (CSV) and a picture.", metavar="FOLDER"
        ),
    ] = None,
    keep_as: Annotated[
        str | None,
        typer.Option(
            "--keep-as", help="Keep the fitted values as a new variant of this name.", metavar="NAME"
        ),
    ] = None,
) -> None:
    """Fit parameters to what was measured, then solve all that is asked with them."""
    from inkhorn.runs import fit_project, look_before_fit, parameter_list

    project = read_of(site, variant)
    if list_:
        from inkhorn.runs.local import placed

        typer.echo(parameter_list(project, placed(project, grid)), nl=False)
        return
    if only_sensitivities:
        if tables is not None and tables.exists():
            raise InputError(f'"{tables}" is there already, and is not written over. Name a new folder.')
        with telling() as told:
            found = look_before_fit(project, told, grid=grid, of=of)
        _tell_sensitivities(found, tables)
        return
    with telling() as told:
        folder, result = fit_project(project, out, told, grid=grid, go_on=go_on, of=of, keep_as=keep_as)
    table = _parameters_for_people(result.summary(), "fitted")
    print_table(_shortened(table), f"Parameters{_of_all(table)}")
    _end(folder, told)


@app.command()
def vary(
    site: SiteFile,
    out: Out = None,
    grid: GridName = None,
    variant: VariantName = None,
    go_on: Annotated[
        Path | None,
        typer.Option(
            "--go-on",
            help="Add to the runs of this folder, stopped or whole: the same sequence goes on.",
            metavar="RUN",
        ),
    ] = None,
    of: Annotated[
        str | None, typer.Option("--of", help="Which table [[vary]], of several.", metavar="NAME")
    ] = None,
    runs: Annotated[
        int | None, typer.Option("--runs", min=1, help="How many in all, instead of what the project says.")
    ] = None,
    fit_levels: Annotated[
        bool | None,
        typer.Option(
            "--fit-levels/--no-fit-levels",
            help="Fit each run to what was measured, or not, instead of what the project says.",
        ),
    ] = None,
    workers: Annotated[
        int | None,
        typer.Option(
            "--workers",
            min=0,
            help="Processes of this machine; one for each processor if not given, 0 for none beside this.",
        ),
    ] = None,
    cluster: Annotated[
        str | None,
        typer.Option(
            "--cluster",
            help="Scheduler of a Dask cluster that makes the runs, as tcp://10.0.0.5:8786.",
            metavar="ADDRESS",
        ),
    ] = None,
) -> None:
    """Run many times with inputs drawn by chance: how sure is the answer?"""
    from inkhorn.runs import vary_project

    project = read_of(site, variant)
    with telling_runs() as (told, heard):
        folder, found = vary_project(
            project,
            out,
            told,
            grid=grid,
            go_on=go_on,
            of=of,
            runs=runs,
            fit_levels=fit_levels,
            workers=workers,
            cluster=cluster,
            heard=heard,
        )
    table = found.glance()
    print_table(table, f"What {found.state.count} runs say, at the last time of each", project.shown_in)
    _end(folder, told)


def _of_all(table: pd.DataFrame) -> str:
    return "" if len(table) <= _LONGEST else f", the first {_LONGEST} of {len(table)}"


def _tell_sensitivities(found: Knowledge, folder: Path | None) -> None:
    """Print which parameters matter and which readings tell; write all tables into a folder."""
    table = found.table().sort_values("sensitivity [-]", ascending=False)
    short = table[["parameter", "sensitivity [-]", "share from readings [-]", "remark"]]
    print_table(_shortened(short), f"What readings tell{_of_all(short)}")
    readings = found.readings_table().sort_values("leverage [-]", ascending=False)
    short = readings[["name", "kind", "leverage [-]", "tells most of"]].head(8)
    print_table(short, "Readings with the greatest leverage")
    if folder is None:
        return
    from inkhorn import draw
    from inkhorn.files import write_table
    from inkhorn.runs import knowledge_tables

    folder.mkdir(parents=True)
    for key, table in knowledge_tables(found).items():
        write_table(table, folder / f"{key.replace(' ', '_')}.csv")
    draw.save_figure(folder / "sensitivities.png", lambda figure: draw.what_readings_tell(found, figure))
    say(f"Tables and a picture are in {folder}")


@app.command()
def compare(
    runs: Annotated[
        list[Path], typer.Argument(help="Two or more run folders of one site.", metavar="RUN RUN ...")
    ],
    out: Annotated[
        Path | None,
        typer.Option(
            help="A folder for the tables (CSV) and pictures; only printed if not given.", metavar="FOLDER"
        ),
    ] = None,
    line: Annotated[
        str | None,
        typer.Option(
            help="A line along which heads are told; the section line of the first project if not given.",
            metavar="CORNERS",
        ),
    ] = None,
    layer: Annotated[
        str | None,
        typer.Option(help="Whose heads are drawn side by side; the uppermost if not given.", metavar="NAME"),
    ] = None,
) -> None:
    """Put runs on any grids side by side: inputs, heads by layer, at bores and along a line, budgets, fits."""
    from inkhorn.runs import compare_runs, write_comparison

    found = compare_runs(runs, line=corners_of(line, "--line"))
    print_table(found.runs, "What was run")
    if len(found.inputs):
        print_table(found.inputs, "What their inputs differ in")
    else:
        say("Their inputs are the same.")
    print_table(found.differences, f"Heads at the end, less those of {found.runs.index[0]}, by volume")
    print_table(found.budgets, "Water budgets [m³/day]; of runs through time means over time")
    if len(found.in_time):
        ends = found.in_time.index.get_level_values("end").unique()
        last = found.in_time.xs(ends[-1], level="end")
        print_table(
            last[last.any(axis=1)],
            f"Water budgets of the step to {ends[-1]}, one of {len(ends)} that end alike [m³/day]",
        )
    if len(found.parameters):
        values = [c for c in found.parameters.columns if "95 %" not in c]
        print_table(_shortened(found.parameters[values]), f"What was fitted{_of_all(found.parameters)}")
    if len(found.fits):
        print_table(
            found.fits, "Fits, over the readings that all runs cover; residuals are measured less computed"
        )
        print_table(found.heads, "Heads at the bores [m]")
    else:
        say("They have no reading of any bore in common.")
    if out is not None:
        say(f"Everything is in {write_comparison(found, out, layer=layer)}")


def _in_units(table: pd.DataFrame, units: UnitChoice) -> pd.DataFrame:
    """A table with a unit for each row, in other units; numbers short."""
    new = table.astype(object).copy()
    for row, unit in enumerate(table["unit"]):
        named, factor = units.of(unit) if unit else ("", 1.0)
        new.iloc[row, 0] = named
        for column in range(1, len(table.columns)):
            value = table.iloc[row, column]
            new.iloc[row, column] = (
                value if isinstance(value, (str, Integral)) else shown(float(value) * factor)
            )
    return new


@app.command()
def show(
    run: RunFolder,
    at: Annotated[
        str | None, typer.Option(help='A place, as in "3700,2900" or with an elevation.', metavar="X,Y[,Z]")
    ] = None,
    feature: Annotated[
        str | None, typer.Option(help="A feature by its name: each of its cells.", metavar="NAME")
    ] = None,
    cell: Annotated[int | None, typer.Option(help="A cell by its number.", metavar="NUMBER")] = None,
    time: When = None,
    out: Annotated[
        Path | None,
        typer.Option(help="A folder for the tables (CSV); only printed if not given.", metavar="FOLDER"),
    ] = None,
) -> None:
    """Show every input and result of a run at a place, of a cell or of a feature."""
    from inkhorn.errors import InputError
    from inkhorn.files import file_name, free_name, write_table
    from inkhorn.runs import open_run

    if sum(v is not None for v in (at, feature, cell)) != 1:
        raise InputError("give one of --at, --feature and --cell.")
    made = open_run(run)
    flow, units = made.flow, made.project.shown_in
    step = step_of(flow, time)
    tables: dict[str, pd.DataFrame] = {}
    if feature is not None:
        tables[f"feature {feature}"] = flow.of_feature(feature, step=step)
        short = tables[f"feature {feature}"]
        idle = [c for c in short.columns[5:-1] if not short[c].any()]
        print_table(short.drop(columns=[*idle, "x [m]", "y [m]"]), f"{feature}{when_of(flow, step)}", units)
    else:
        place = (0.0,) if at is None else place_of(at, "--at")
        found = flow.at_cell(cell, step=step) if cell is not None else flow.at(*place, step=step)
        called = f"cell {cell}" if cell is not None else f"place {at}"
        print_table(_in_units(found, units), f"{called}{when_of(flow, step)}")
        tables[called] = found.reset_index()
        if at is not None and len(flow.steps) > 1:
            times = flow.at_times(*place)
            tables[f"{called} in time"] = times
            some = times if len(times) <= 2 * _SOME else times.iloc[[*range(_SOME), *range(-_SOME, 0)]]
            print_table(some, f"Heads at the ends of steps ({len(times)} in all)", units)
    if out is not None:
        out.mkdir(parents=True, exist_ok=True)
        for name, table in tables.items():
            path = free_name(out / f"{file_name(name)}.csv")
            write_table(table, path)
            say(f"Written to {path}")


@app.command()
def report(
    run: RunFolder,
    out: Annotated[
        Path | None,
        typer.Option(help="The file; report.html in the run's folder if not given.", metavar="FILE.html"),
    ] = None,
) -> None:
    """Write the report of a run: one HTML file to hand over, that opens without a network."""
    from inkhorn.report import write_report
    from inkhorn.runs import open_run

    path = write_report(open_run(run), out)
    say(f"Written to {path} ({path.stat().st_size / 1e6:.1f} MB)")


@app.command()
def export(
    run: RunFolder,
    to: Annotated[
        list[str],
        typer.Option(
            help="netcdf, geopackage, geojson, geotiff, csv, xlsx, vtu, or all; several with commas between.",
            metavar="FORMAT",
        ),
    ],
    out: Annotated[
        Path | None,
        typer.Option(help="A folder; `export` in the run's folder if not given.", metavar="FOLDER"),
    ] = None,
    time: When = None,
) -> None:
    """Write the results of a run in formats that other programs read."""
    from inkhorn.exports import CONTENTS, FORMATS
    from inkhorn.exports import export as write
    from inkhorn.runs import open_run

    made = open_run(run)
    asked = [name.strip().lower() for names in to for name in names.split(",")]
    formats = list(FORMATS) if "all" in asked else asked
    at = None if time is None else made.flow.steps[step_of(made.flow, time)].end
    folder = made.path / "export" if out is None else out
    written = write(made, folder, formats, time=at)
    whole = written.groupby("format", sort=False).agg(
        files=("file", "size"), MB=("bytes", "sum"), largest=("file", "first")
    )
    largest = written.sort_values("bytes", ascending=False).groupby("format")["file"].first()
    whole["MB"], whole["largest"] = (whole["MB"] / 1e6).round(2), largest
    print_table(whole, f"Written to {folder}")
    say(f"What each file holds is in {folder / CONTENTS}")


@app.command()
def doctor() -> None:
    """Say whether all is well here: versions, processors, caches, and a few answers that are known exactly."""
    import pandas as pd

    from inkhorn.doctor import surroundings, trials, versions

    for title, told in (("Versions", versions()), ("This machine", surroundings())):
        say(f"{title}: " + "; ".join(f"{name} {value}" for name, value in told.items()))
    rows = []
    for trial in trials():
        rows.append((trial.what, "well" if trial.well else "NOT WELL", f"{trial.seconds:.1f}", trial.found))
    print_table(pd.DataFrame(rows, columns=["tried", "", "seconds", "found"]).set_index("tried"), "Trials")
    bad = [row for row in rows if row[1] != "well"]
    missing = [name for name, found in versions().items() if found == "missing"]
    for what, _, _, found in bad:
        say(f"error: {what}: {found}", error=True)
    if missing:
        say(f"error: not installed: {', '.join(missing)}. Install Inkhorn again.", error=True)
    if bad or missing:
        raise typer.Exit(1)
    say("All is well.")


@app.command()
def new(
    folder: Annotated[
        Path, typer.Argument(help="A folder that does not exist yet, or is empty.", metavar="FOLDER")
    ],
) -> None:
    """Make a small project to start from: a commented project file and the data it names. It runs as it is."""
    from inkhorn.demo import write_new

    write_new(folder)
    say(f"Made {folder / 'site.toml'}. Change it, then: inkhorn check {folder / 'site.toml'}")


@app.command()
def demo(
    folder: Annotated[
        Path,
        typer.Argument(
            help="Where the demo project goes; one that is there already is used as it is.",
            metavar="[FOLDER]",
        ),
    ] = Path("quillmere"),
) -> None:
    """Run the whole example: the Quillmere basin, from its data to a fitted plume.

    The project folder stays, for you to change: edit site.toml in it and use `inkhorn run` or `inkhorn fit`.
    """
    from inkhorn.demo import truth, write_demo
    from inkhorn.runs import fit_project

    site, made = write_demo(folder)
    say(f"{'Made' if made else 'Using'} the project in {folder}")
    project = read_of(site)
    say(repr(project.site))
    with telling() as told:
        run_folder, result = fit_project(project, None, told)
    table = _parameters_for_people(result.summary(), "fitted")
    known = truth(folder)
    table["truth"] = [known.get(n.removeprefix("conductivity of "), float("nan")) for n in table["parameter"]]
    print_table(table, "Parameters, beside the truth that the levels were made with")
    print_table(result.after.budget(), "Water budget", project.shown_in)
    _end(run_folder, told, f"Now change {site} and try: inkhorn run {site}")


def _leave_what_the_disk_refused() -> None:
    """End at once where records could not be written: h5py would try to close their file at every turn, and complain."""
    from inkhorn.files.steps import refused

    if refused():
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(1)


def _command() -> Any:
    """The whole command line; its help names what is to be given and not which Python type that is."""
    command = typer.main.get_command(app)

    def named(one: Any) -> None:
        for parameter in one.params:
            parameter.display_type_rich = lambda ctx, said=parameter: (
                "" if said.metavar is None or said.param_type_name == "argument" else said.metavar
            )
        for below in getattr(one, "commands", {}).values():
            named(below)

    named(command)
    return command


def main() -> None:
    """Run the command line: exit code 0 fine, 1 a problem in the run, 2 bad input."""
    warnings.showwarning = show_warning
    streams = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = Listener(streams[0]), Listener(streams[1])
    try:
        with stopping_like_ctrl_c():
            _command()(standalone_mode=True)
    except SystemExit as end:
        if end.code != _INTERRUPTED:
            raise
        sys.exit(1)
    except Exception as problem:
        from inkhorn.errors import InkhornError, InputError

        if asked_to_stop():
            say("interrupted; nothing was left half-written", error=True)
            sys.exit(1)
        if isinstance(problem, OSError):  # a full disk, a folder that may not be written
            named = f": {problem.filename}" if problem.filename else ""
            say(f"error: {problem.strerror or problem}{named}. Nothing was left half-written.", error=True)
            _leave_what_the_disk_refused()
            sys.exit(1)
        if not isinstance(problem, InkhornError):
            raise
        for line in str(problem).splitlines():
            say(line if line.startswith("error: ") else f"error: {line}", error=True)
        sys.exit(2 if isinstance(problem, InputError) else 1)
    finally:
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        sys.stdout, sys.stderr = streams
        # an interrupt that met Python within `exec`, as dataclasses use it, leaves a mark by which it would end with
        # SIGINT though all was put in order; the next `exec` takes it away
        exec("pass")


if __name__ == "__main__":
    main()
