"""The commands to begin with: new, demo, doctor."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from inkhorn.cli.application import app
from inkhorn.cli.asked import (
    read_of,
)
from inkhorn.cli.terminal import (
    end_of,
    parameters_for_people,
    print_table,
    say,
    telling,
)

if TYPE_CHECKING:
    pass

__all__: list[str] = []


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
    table = parameters_for_people(result.summary(), "fitted", project.shown_in)
    known = truth(folder)
    table["truth"] = [known.get(n.removeprefix("conductivity of "), float("nan")) for n in table["parameter"]]
    print_table(table, "Parameters, beside the truth that the levels were made with")
    print_table(result.after.budget(), "Water budget", project.shown_in)
    end_of(run_folder, told, f"Now change {site} and try: inkhorn run {site}")


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
