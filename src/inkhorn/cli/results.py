"""The commands for what runs found: compare, show, report, export."""

from __future__ import annotations

from numbers import Integral
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from inkhorn.cli.application import app
from inkhorn.cli.asked import (
    RunFolder,
    When,
    corners_of,
    place_of,
    step_of,
    time_of,
    when_of,
)
from inkhorn.cli.terminal import (
    SOME,
    of_all,
    print_table,
    say,
    shortened,
    shown,
)
from inkhorn.errors import InputError

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.unit_choice import UnitChoice

__all__: list[str] = []


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
        print_table(shortened(found.parameters[values]), f"What was fitted{of_all(found.parameters)}")
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
            some = times if len(times) <= 2 * SOME else times.iloc[[*range(SOME), *range(-SOME, 0)]]
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
    at = None if time is None else time_of(time)
    folder = made.path / "export" if out is None else out
    written = write(made, folder, formats, time=at)
    whole = written.groupby("format", sort=False).agg(
        files=("file", "size"), MB=("bytes", "sum"), largest=("file", "first")
    )
    largest = written.sort_values("bytes", ascending=False).groupby("format")["file"].first()
    whole["MB"], whole["largest"] = (whole["MB"] / 1e6).round(2), largest
    print_table(whole, f"Written to {folder}")
    say(f"What each file holds is in {folder / CONTENTS}")
