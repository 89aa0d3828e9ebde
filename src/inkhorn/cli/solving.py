"""The commands that look at a project and solve it: check, run, fit, vary."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from inkhorn.cli.application import app
from inkhorn.cli.asked import (
    GoOn,
    GridName,
    Out,
    SiteFile,
    VariantName,
    read_of,
)
from inkhorn.cli.terminal import (
    SOME,
    end_of,
    of_all,
    parameters_for_people,
    print_table,
    say,
    shortened,
    telling,
    telling_runs,
)
from inkhorn.errors import InputError

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.calibration import Knowledge
    from inkhorn.space import Grid
    from inkhorn.unit_choice import UnitChoice

__all__: list[str] = []


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
    some = units.by_row(placed[placed["measure"].fillna("") != ""], "measure", "drawn", "met")
    off = [f"{share:+.1%}" if abs(share) >= 5e-4 else "-" for share in some["met"] / some["drawn"] - 1.0]
    own = ["feature", "kind", "drawn", "met", "measure"]
    return some[own].rename(columns={"measure": "unit"}).assign(difference=off)


def _print_periods(periods: pd.DataFrame) -> None:
    """Print when periods begin and end and what changes; of many the first and the last."""
    days = periods["end [day]"] - periods["begin [day]"]
    table = periods.drop(columns=["begin [day]", "end [day]"]).assign(**{"days": days.round(3)}).reset_index()
    order = ["period", *(c for c in ("begin", "end") if c in table), "days", "steps", "kind", "changes"]
    title = f"Periods; the change is at the begin ({len(table)} in all)"
    if len(table) > 2 * SOME:
        table = table[(table.index < SOME) | (table.index >= len(table) - SOME)]
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
        if project.read:
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
        landed = project.shown_in.by_row(table.drop(columns=own), "unit", "total")
        print_table(landed, "What landed where", project.shown_in)
        print_table(_met_for_people(model.placed, project.shown_in), "How lines and areas were met")
        arrived = table.loc[table["values"].fillna("") != "", ["feature", "values", "water"]]
        title = "What arrived at the cells, least to greatest, and what its water does"
        print_table(arrived, title, project.shown_in)
    if model.schedule is not None:
        _print_periods(model.schedule.table(dict(model.inputs_in_time)))
    if len(findings):
        say("Findings")
        for finding in findings:
            say(f" {project.shown_in.words(str(finding))}", asked=finding.severity != "note")
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
    end_of(folder, told)


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
    table = parameters_for_people(result.summary(), "fitted", project.shown_in)
    print_table(shortened(table), f"Parameters{of_all(table)}")
    end_of(folder, told)


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
    end_of(folder, told)


def _tell_sensitivities(found: Knowledge, folder: Path | None) -> None:
    """Print which parameters matter and which readings tell; write all tables into a folder."""
    table = found.table().sort_values("sensitivity [-]", ascending=False)
    short = table[["parameter", "sensitivity [-]", "share from readings [-]", "remark"]]
    print_table(shortened(short), f"What readings tell{of_all(short)}")
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
