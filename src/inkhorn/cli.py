"""The command line: parses, calls, prints; no calculation."""

from __future__ import annotations

import json
import os
import sys
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from inkhorn.stopping import asked_to_stop, stopping_like_ctrl_c

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.calibration import FitResult
    from inkhorn.runs import Journal
    from inkhorn.unit_choice import UnitChoice

__all__ = ["app", "main"]

_INTERRUPTED = 130  # what typer exits with
_WIDEST_WORD = 14  # letters that a column of a table has room for
_SOME = 12  # periods that are printed of the first and of the last

app = typer.Typer(
    help="Groundwater in layered aquifers: flow, contaminants, particle paths, and how well they fit what was "
    "measured.\n\nBegin with `inkhorn demo`, or with `inkhorn new FOLDER` and your own data.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode="markdown",
    pretty_exceptions_enable=False,
)


def _version(asked: bool) -> None:
    if asked:
        from inkhorn import __version__

        _say(f"Inkhorn {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say which version this is.")
    ] = False,
) -> None:
    pass


drawing = typer.Typer(
    no_args_is_help=True, help="Draw a project before it is solved: plan, section, block, surface."
)
app.add_typer(drawing, name="draw")

SiteFile = Annotated[
    Path, typer.Argument(help="The project file, such as quillmere/site.toml.", metavar="SITE.toml")
]
Out = Annotated[
    Path | None,
    typer.Option(help="Where run folders go; `runs` beside the project file if not given.", metavar="FOLDER"),
]

GridName = Annotated[
    str | None,
    typer.Option("--grid", help="One of the project's other grids, a table [grids.NAME].", metavar="NAME"),
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


def _say(line: str, *, error: bool = False) -> None:
    """Print; on a terminal with lines broken between words, what goes on set in a little."""
    stream: Any = sys.stderr if error else sys.stdout
    if stream.isatty():
        import shutil
        import textwrap

        width = shutil.get_terminal_size().columns
        broken = (
            textwrap.wrap(one, width, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)
            for one in line.splitlines()
        )
        line = "\n".join("\n".join(parts) for parts in broken)
    print(line, file=stream)


def _print_frame(frame: pd.DataFrame, title: str, units: UnitChoice | None = None) -> None:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, header_style="bold")
    plain = frame.reset_index() if frame.index.names[0] is not None else frame
    if units is not None:
        plain = units.table(plain)
    for name in plain.columns:
        number = plain[name].dtype.kind in "fi"
        words = [len(word) for value in plain[name] for word in str(value).split()] if not number else []
        table.add_column(
            Text(str(name)),
            justify="right" if number else "left",
            overflow="fold",
            min_width=min(max(words, default=1), _WIDEST_WORD),  # names stay in one piece
        )
    for row in plain.itertuples(index=False):
        table.add_row(*(Text(_shown(v)) for v in row))
    console = Console(highlight=False)
    console.print(Text(title, style="bold"))  # apart from the table, which may be narrower
    console.print(table, width=max(console.width, 100))


def _shown(value: Any) -> str:
    """A number by four figures that matter, or whole if it is larger; text as it is."""
    if not isinstance(value, float):
        return str(value)
    if value != value:
        return "-"
    if abs(value) >= 1e7 or 0 < abs(value) < 1e-4:
        return f"{value:.2g}"
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.4g}"


def _parameters_for_people(result: FitResult) -> pd.DataFrame:
    """The table of parameters, short enough for a terminal."""
    table = result.table()
    low, high = (
        table[f"{side} 95 %"].clip([p.lower for p in result.parameters], [p.upper for p in result.parameters])
        for side in ("lower", "upper")
    )
    limits = [f"{_shown(a)} to {_shown(b)}" for a, b in zip(low, high, strict=True)]
    short = table[["parameter", "unit", "start", "fitted"]].assign(**{"95 % within bounds": limits})
    return short.assign(remark=table["remark"])


@contextmanager
def _told() -> Iterator[Journal]:
    """A run that prints its lines, with a spinner and a bar on a terminal and neither elsewhere."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

    from inkhorn.runs import Journal

    console = Console(highlight=False)
    columns = (SpinnerColumn(), TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn())
    with Progress(*columns, console=console, transient=True, disable=not console.is_terminal) as bar:
        task = bar.add_task("reading", total=None)

        def progress(words: str, share: float | None) -> None:
            bar.update(task, description=words, total=None if share is None else 1.0, completed=share or 0.0)

        def say(line: str) -> None:
            console.print(line, markup=False, soft_wrap=True)

        journal = Journal(say=say, progress=progress)
        try:
            yield journal
        except KeyboardInterrupt:
            bar.stop()
            _say("interrupted; nothing was left half-written", error=True)
            raise typer.Exit(1) from None


def _end(folder: Path, told: Journal, more: str = "") -> None:
    """Say where everything is; exit with 1 if something went wrong on the way."""
    _say(f"Everything is in {folder}" + (f"\n{more}" if more else ""))
    if told.problems:
        _say("\n".join(f"error: {line}" for line in told.problems), error=True)
        raise typer.Exit(1)


def _read(site: Path, variant: str | None = None) -> Any:
    from inkhorn.project import read_project

    return read_project(site, variant=variant)


def _print_periods(periods: pd.DataFrame) -> None:
    """Print when periods begin and end and what changes; of many the first and the last."""
    days = periods["end [day]"] - periods["begin [day]"]
    table = periods.drop(columns=["begin [day]", "end [day]"]).assign(**{"days": days.round(3)}).reset_index()
    order = ["period", *(c for c in ("begin", "end") if c in table), "days", "steps", "kind", "changes"]
    title = f"Periods; the change is at the begin ({len(table)} in all)"
    if len(table) > 2 * _SOME:
        table = table[(table.index < _SOME) | (table.index >= len(table) - _SOME)]
    _print_frame(table[order].set_index("period"), title)


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

    project = _read(site, variant)
    if as_json:
        findings = check_project(project, grid)[1]
        _say(json.dumps([asdict(finding) for finding in findings], ensure_ascii=False, indent=1))
        raise typer.Exit(2 if findings.errors else 0)
    _say(repr(project.site))
    for change in project.changes:
        _say(f"variant {variant}: {change}")
    _print_frame(pd.DataFrame(project.read), "What was read")
    if project.site.schedule is not None:
        _say(repr(project.site.schedule))
    model, findings = check_project(project, grid)
    covered, boundary = model.grid.mesh.area.sum(), project.site.boundary.area
    _say(f"{model.grid.mesh!r}, {covered / boundary - 1:+.2%} against the boundary\n{model.grid!r}")
    if isinstance(model.grid.mesh, VoronoiMesh):
        _print_frame(model.grid.mesh.table().rename_axis("quality"), "How good the cells are")
    if model.placed is not None:
        shares = [f"{share:.1%}" if share else "-" for share in model.placed["share outside"]]
        table = model.placed.assign(**{"share outside": shares})
        landed = project.shown_in.by_row(table.drop(columns=["values", "water"]), "total", "unit")
        _print_frame(landed, "What landed where")
        arrived = table.loc[table["values"].fillna("") != "", ["feature", "values", "water"]]
        _print_frame(arrived, "What arrived at the cells, least to greatest, and what its water does")
    if model.schedule is not None:
        _print_periods(model.schedule.table(dict(model.inputs_in_time)))
    if len(findings):
        _print_frame(findings.table(), "Findings")
    else:
        _say("The check found nothing to complain of.")
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

    project = _read(site, variant)
    with _told() as told:
        folder, flow = run_project(project, out, told, grid=grid, go_on=go_on)
    last = flow.steps[-1]
    when = "" if last.steady else f" of the last step, day {last.begin:g} to {last.end:g}"
    _print_frame(flow.budget(), f"Water budget{when}", project.shown_in)
    _end(folder, told)


@app.command()
def fit(
    site: SiteFile,
    out: Out = None,
    grid: GridName = None,
    variant: VariantName = None,
    go_on: GoOn = None,
) -> None:
    """Fit conductivities and recharge to the levels in the bores, then solve all that is asked with them."""
    from inkhorn.runs import fit_project

    project = _read(site, variant)
    with _told() as told:
        folder, result = fit_project(project, out, told, grid=grid, go_on=go_on)
    _print_frame(_parameters_for_people(result), "Parameters")
    _end(folder, told)


@app.command()
def compare(
    runs: Annotated[
        list[Path], typer.Argument(help="Two or more run folders of one site.", metavar="RUN RUN ...")
    ],
    out: Annotated[
        Path | None,
        typer.Option(
            help="A folder for the tables (CSV) and a picture; only printed if not given.", metavar="FOLDER"
        ),
    ] = None,
) -> None:
    """Put runs side by side: how well each fits, its budget, and the heads at the bores."""
    from inkhorn.runs import compare_runs, write_comparison

    found = compare_runs(runs)
    _print_frame(found.runs, "What was run")
    _print_frame(
        found.fits, "Fits, over the readings that all runs cover; residuals are measured less computed"
    )
    _print_frame(found.budgets, "Water budgets [m³/day]; of runs through time means over time")
    _print_frame(found.heads, "Heads at the bores [m]")
    if out is not None:
        _say(f"Everything is in {write_comparison(found, out)}")


@app.command()
def new(
    folder: Annotated[
        Path, typer.Argument(help="A folder that does not exist yet, or is empty.", metavar="FOLDER")
    ],
) -> None:
    """Make a small project to start from: a commented project file and the data it names. It runs as it is."""
    from inkhorn.demo import write_new

    write_new(folder)
    _say(f"Made {folder / 'site.toml'}. Change it, then: inkhorn check {folder / 'site.toml'}")


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
    _say(f"{'Made' if made else 'Using'} the project in {folder}")
    project = _read(site)
    _say(repr(project.site))
    with _told() as told:
        run_folder, result = fit_project(project, None, told)
    table = _parameters_for_people(result)
    known = truth(folder)
    table["truth"] = [known.get(n.removeprefix("conductivity of "), float("nan")) for n in table["parameter"]]
    _print_frame(table, "Parameters, beside the truth that the levels were made with")
    _print_frame(result.after.budget(), "Water budget", project.shown_in)
    _end(run_folder, told, f"Now change {site} and try: inkhorn run {site}")


Picture = Annotated[
    Path | None,
    typer.Option(
        help="The PNG file; a new one in the folder `pictures` beside the project file if not given.",
        metavar="FILE.png",
    ),
]
Exaggeration = Annotated[
    float | None, typer.Option(help="Of heights over lengths.", min=1e-3, metavar="FACTOR")
]


def _corners(words: str | None, option: str) -> list[tuple[float, float]] | None:
    """Corners of a line, as in ``"0,0 500,300"``."""
    from inkhorn.errors import InputError

    if words is None:
        return None
    try:
        pairs = [tuple(float(v) for v in corner.split(",")) for corner in words.split()]
    except ValueError:
        pairs = []
    if len(pairs) < 2 or any(len(p) != 2 for p in pairs):
        raise InputError(
            f'{option} is "{words}"; expected two or more corners in m, x and y with a comma between, as in '
            '"0,0 500,300".'
        )
    return [(p[0], p[1]) for p in pairs]


def _drawn(project: Any, name: str, fill: Any, out: Path | None, *, margins: bool = True) -> None:
    """Draw into a file that is given, or into a new one in the project's folder ``pictures``, and say where."""
    from inkhorn import draw

    folder = project.path.parent / "pictures"
    _say(f"Drawn in {draw.save_new(folder, name, fill, out=out, margins=margins, units=project.shown_in)}")


@drawing.command("plan")
def draw_plan(
    site: SiteFile,
    grid: Annotated[
        list[str] | None,
        typer.Option("--grid", help="A grid by name; may be given several times.", metavar="NAME"),
    ] = None,
    over: Annotated[
        bool, typer.Option("--over", help="Lay several over each other, not side by side.")
    ] = False,
    out: Picture = None,
) -> None:
    """Draw the cells of one or more grids in plan, with the site's features."""
    from inkhorn import draw

    project = _read(site)
    names: list[str | None] = list(grid) if grid else [None]
    called = "plan-" + "-".join(n or "grid" for n in names)
    _drawn(project, called, lambda figure: draw.project_plans(figure, project, names, over=over), out)


@drawing.command("section")
def draw_section(
    site: SiteFile,
    grid: GridName = None,
    line: Annotated[
        str | None, typer.Option(help='Corners in m, as in "0,0 500,300".', metavar="CORNERS")
    ] = None,
    row: Annotated[
        int | None, typer.Option(help="Along a row of rectangles, from 0 in the south.", metavar="NUMBER")
    ] = None,
    column: Annotated[
        int | None, typer.Option(help="Along a column, from 0 in the west.", metavar="NUMBER")
    ] = None,
    exaggeration: Exaggeration = None,
    out: Picture = None,
) -> None:
    """Draw a section through the layers: along the project's line if no other is given."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if sum(v is not None for v in (line, row, column)) > 1:
        raise InputError("give one of --line, --row and --column.")
    project = _read(site)
    corners = _corners(line, "--line")

    def fill(figure: Any) -> None:
        draw.project_section(
            figure, project, grid, line=corners, row=row, column=column, exaggeration=exaggeration
        )

    _drawn(project, f"section-{grid or 'grid'}", fill, out)


@drawing.command("block")
def draw_block(
    site: SiteFile,
    grid: GridName = None,
    opened: Annotated[
        str | None,
        typer.Option(
            "--open", help="A line to open it along; what lies right of it is taken away.", metavar="CORNERS"
        ),
    ] = None,
    exaggeration: Exaggeration = None,
    out: Picture = None,
) -> None:
    """Draw the layers as a block, opened along a line."""
    from inkhorn import draw

    project = _read(site)
    corners = _corners(opened, "--open")

    def fill(figure: Any) -> None:
        draw.project_block(figure, project, grid, opened=corners, exaggeration=exaggeration)

    _drawn(project, f"block-{grid or 'grid'}", fill, out, margins=False)


@drawing.command("quality")
def draw_quality(site: SiteFile, grid: GridName = None, out: Picture = None) -> None:
    """Draw how good a grid of Voronoi cells is: sizes, faces, angles."""
    from inkhorn import draw

    project = _read(site)
    called = f"quality-{grid or 'grid'}"
    _drawn(project, called, lambda figure: draw.project_quality(figure, project, grid), out)


@drawing.command("surface")
def draw_surface(
    site: SiteFile,
    name: Annotated[str, typer.Argument(help="`ground`, or the layer whose base it is.", metavar="LAYER")],
    out: Picture = None,
) -> None:
    """Draw a surface with its contours and the points it was made of."""
    from inkhorn import draw

    project = _read(site)
    _drawn(project, f"surface-{name}", lambda figure: draw.project_surface(figure, project, name), out)


def _leave_what_the_disk_refused() -> None:
    """End at once where records could not be written: h5py would try to close their file at every turn, and complain."""
    from inkhorn.files.steps import refused

    if refused():
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(1)


_PLAIN_LETTERS = str.maketrans(
    {
        "²": "2",
        "³": "3",
        "⁵": "5",
        "–": "-",
        "—": "-",
        "…": "...",
        "·": " ",
        "×": "x",
        "°": " degrees",
        "µ": "u",
        "≤": "<=",
    }
)


class _Listener:
    """The terminal, or whoever reads what is printed: one who goes away stops no work, as after ``| head -1``."""

    def __init__(self, stream: Any) -> None:
        self._stream, self._there = stream, True

    def _tried(self, act: Any) -> Any:
        if self._there:
            try:
                return act()
            except OSError:
                self._there = False
                nowhere = os.open(os.devnull, os.O_WRONLY)  # for what is flushed when Python ends
                os.dup2(nowhere, self._stream.fileno())
        return None

    def write(self, text: str) -> int:
        self._tried(lambda: self._stream.write(self._writable(text)))
        return len(text)

    def _writable(self, text: str) -> str:
        """Text in letters that the terminal knows."""
        if text.isascii():
            return text
        encoding = self._stream.encoding or "ascii"
        try:
            text.encode(encoding)
        except UnicodeEncodeError:
            return text.translate(_PLAIN_LETTERS).encode(encoding, "replace").decode(encoding)
        return text

    def flush(self) -> None:
        self._tried(self._stream.flush)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def _show_warning(message: Any, category: type[Warning], *place: Any, **more: Any) -> None:
    """Say our own warnings in words; what a library warns of is for those who ask Python for it."""
    from inkhorn.errors import InkhornWarning

    if issubclass(category, InkhornWarning):
        _say(f"warning: {message}", error=True)
    elif sys.warnoptions:
        _say(f"{category.__name__}: {message}", error=True)


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
    warnings.showwarning = _show_warning
    streams = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = _Listener(streams[0]), _Listener(streams[1])
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
            _say("interrupted; nothing was left half-written", error=True)
            sys.exit(1)
        if isinstance(problem, OSError):  # a full disk, a folder that may not be written
            named = f": {problem.filename}" if problem.filename else ""
            _say(f"error: {problem.strerror or problem}{named}. Nothing was left half-written.", error=True)
            _leave_what_the_disk_refused()
            sys.exit(1)
        if not isinstance(problem, InkhornError):
            raise
        for line in str(problem).splitlines():
            _say(line if line.startswith("error: ") else f"error: {line}", error=True)
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
