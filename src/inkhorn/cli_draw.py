"""The drawing commands: pictures of a project before it is solved, and of a run that was made."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from inkhorn.terminal import say

if TYPE_CHECKING:
    from inkhorn.flow import FlowResult
    from inkhorn.runs import Run

__all__ = [
    "GridName",
    "RunFolder",
    "SiteFile",
    "When",
    "drawing",
    "place_of",
    "read_of",
    "step_of",
    "when_of",
]

drawing = typer.Typer(
    no_args_is_help=True,
    help="Draw a project before it is solved (plan, section, block, surface, quality), or a run: heads, "
    "water-table, depth, drawdown; values of either.",
)

SiteFile = Annotated[
    Path, typer.Argument(help="The project file, such as quillmere/site.toml.", metavar="SITE.toml")
]
GridName = Annotated[
    str | None,
    typer.Option("--grid", help="One of the project's other grids, a table [grids.NAME].", metavar="NAME"),
]


def read_of(site: Path, variant: str | None = None) -> Any:
    """Return the project of a file."""
    from inkhorn.project import read_project

    return read_project(site, variant=variant)


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
    say(f"Drawn in {draw.save_new(folder, name, fill, out=out, margins=margins, units=project.shown_in)}")


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
    layer: Annotated[
        str | None,
        typer.Option(help="The cells of this layer, where they are larger than those above.", metavar="NAME"),
    ] = None,
    out: Picture = None,
) -> None:
    """Draw the cells of one or more grids in plan, with the site's features."""
    from inkhorn import draw

    project = read_of(site)
    names: list[str | None] = list(grid) if grid else [None]
    called = "plan-" + "-".join([*(n or "grid" for n in names), *([layer] if layer else [])])

    def fill(figure: Any) -> None:
        draw.project_plans(figure, project, names, over=over, layer=layer)

    _drawn(project, called, fill, out)


@drawing.command("section")
def draw_section(
    site: Annotated[
        Path, typer.Argument(help="A project file, or the folder of a run.", metavar="SITE.toml|RUN")
    ],
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
    time: When = None,
    out: Picture = None,
) -> None:
    """Draw a section through the layers, of a run with its water: along the project's line if no other is given."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if sum(v is not None for v in (line, row, column)) > 1:
        raise InputError("give one of --line, --row and --column.")
    corners = _corners(line, "--line")
    if site.is_dir():
        made = _run(site)
        mesh, step = made.flow.model.grid.mesh, step_of(made.flow, time)
        where = draw.line_of(mesh, corners or made.project.section_line, row, column)
        used = exaggeration or made.project.asked.draw.exaggeration
        _drawn_of_run(
            made,
            "section",
            lambda ax: draw.section(made.flow, where, step=step, exaggeration=used, ax=ax),
            out,
        )
        return
    project = read_of(site)

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

    project = read_of(site)
    corners = _corners(opened, "--open")

    def fill(figure: Any) -> None:
        draw.project_block(figure, project, grid, opened=corners, exaggeration=exaggeration)

    _drawn(project, f"block-{grid or 'grid'}", fill, out, margins=False)


@drawing.command("quality")
def draw_quality(site: SiteFile, grid: GridName = None, out: Picture = None) -> None:
    """Draw how good a grid of Voronoi cells is: sizes, faces, angles."""
    from inkhorn import draw

    project = read_of(site)
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

    project = read_of(site)
    _drawn(project, f"surface-{name}", lambda figure: draw.project_surface(figure, project, name), out)


RunFolder = Annotated[Path, typer.Argument(help="The folder of a run.", metavar="RUN")]
LayerName = Annotated[
    str | None, typer.Option("--layer", help="Which layer; the uppermost if not given.", metavar="NAME")
]
When = Annotated[
    str | None,
    typer.Option(
        "--time", help="A date, or days since the start; the end of the run if not given.", metavar="TIME"
    ),
]


def _time(text: str, option: str) -> Any:
    """A date or a number of days."""
    from inkhorn.dates import one_date
    from inkhorn.errors import InputError

    try:
        return float(text)
    except ValueError:
        pass
    try:
        return one_date(text)
    except (InputError, ValueError):
        raise InputError(
            f'{option} is "{text}"; expected a date such as 2021-05-31, or a number of days since the start.'
        ) from None


def step_of(flow: FlowResult, text: str | None, option: str = "--time") -> int:
    """Return the step nearest to a time, the last if none is given."""
    return len(flow.steps) - 1 if text is None else flow.step_at(_time(text, option))


def when_of(flow: FlowResult, step: int) -> str:
    """Return the end of a step in words, to follow others."""
    from inkhorn.draw import when

    return when(flow, step)


def place_of(text: str, option: str) -> tuple[float, ...]:
    """Return x, y and perhaps z, as in ``"3700,2900"``."""
    from inkhorn.errors import InputError

    try:
        place = tuple(float(v) for v in text.split(","))
    except ValueError:
        place = ()
    if len(place) not in (2, 3):
        raise InputError(
            f'{option} is "{text}"; expected x and y in m with a comma between, perhaps an elevation behind another, as '
            'in "3700,2900" or "3700,2900,25".'
        )
    return place


def _run(path: Path) -> Run:
    from inkhorn.runs import open_run

    return open_run(path)


def _drawn_of_run(run: Run, name: str, paint: Any, out: Path | None) -> None:
    """Draw one plot of a run into a file that is given, or into a new one in ``pictures`` beside the run folders."""
    from inkhorn import draw

    folder, units = run.path.parent / "pictures", run.project.shown_in
    called = f"{run.path.name}-{name}"
    path = draw.save_new(folder, called, lambda figure: paint(figure.subplots()), out=out, units=units)
    say(f"Drawn in {path}")


@drawing.command("heads")
def draw_heads(run: RunFolder, layer: LayerName = None, time: When = None, out: Picture = None) -> None:
    """Draw the heads of a layer of a run, with labelled lines; dry cells and water above ground marked."""
    from inkhorn import draw

    made = _run(run)
    flow, name = made.flow, layer or made.flow.model.grid.layer_names[0]
    step = step_of(flow, time)
    _drawn_of_run(made, f"heads-{name}", lambda ax: draw.heads(flow, name, step=step, ax=ax), out)


@drawing.command("water-table")
def draw_water_table(run: RunFolder, time: When = None, out: Picture = None) -> None:
    """Draw the level of the uppermost water of a run."""
    from inkhorn import draw

    made = _run(run)
    step = step_of(made.flow, time)
    _drawn_of_run(made, "water-table", lambda ax: draw.water_table(made.flow, step=step, ax=ax), out)


@drawing.command("depth")
def draw_depth(run: RunFolder, time: When = None, out: Picture = None) -> None:
    """Draw how deep the uppermost water of a run lies below the ground."""
    from inkhorn import draw

    made = _run(run)
    step = step_of(made.flow, time)
    _drawn_of_run(made, "depth", lambda ax: draw.depth_to_water(made.flow, step=step, ax=ax), out)


@drawing.command("drawdown")
def draw_drawdown(
    run: RunFolder,
    layer: LayerName = None,
    time: When = None,
    since: Annotated[
        str | None,
        typer.Option(help="A date, or days since the start; the first step if not given.", metavar="TIME"),
    ] = None,
    against: Annotated[
        Path | None, typer.Option(help="Another run, on any grid, instead of a time.", metavar="RUN")
    ] = None,
    out: Picture = None,
) -> None:
    """Draw by how much the heads of a layer are lower than at an earlier time, or than in another run."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if since is not None and against is not None:
        raise InputError("give one of --since and --against.")
    made = _run(run)
    flow, other = made.flow, None if against is None else _run(against).flow
    name = layer or flow.model.grid.layer_names[0]
    called = "" if against is None else against.name
    step, first = step_of(flow, time), 0 if since is None else step_of(flow, since, "--since")
    _drawn_of_run(
        made,
        f"drawdown-{name}",
        lambda ax: draw.drawdown(flow, name, step=step, since=first, against=other, other=called, ax=ax),
        out,
    )


@drawing.command("budget")
def draw_budget(
    run: RunFolder,
    by: Annotated[str, typer.Option(help="term, feature or layer.", metavar="WORD")] = "term",
    time: When = None,
    in_time: Annotated[bool, typer.Option("--in-time", help="Bands over the whole run.")] = False,
    out: Picture = None,
) -> None:
    """Draw the water budget of a run: bars of one time, or bands in time."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if in_time and (time is not None or by != "term"):
        raise InputError("bands in time are of all times, by term. Leave out --time and --by, or --in-time.")
    made = _run(run)
    if in_time:
        _drawn_of_run(made, "budget-in-time", lambda ax: draw.budget_in_time(made.flow, ax=ax), out)
        return
    if by not in ("term", "feature", "layer"):
        raise InputError(f'--by is "{by}"; expected term, feature or layer.')
    step = step_of(made.flow, time)
    _drawn_of_run(made, f"budget-by-{by}", lambda ax: draw.budget(made.flow, by=by, step=step, ax=ax), out)


@drawing.command("values")
def draw_values(
    of: Annotated[
        Path, typer.Argument(help="A project file, or the folder of a run.", metavar="SITE.toml|RUN")
    ],
    name: Annotated[
        str,
        typer.Argument(
            help="A property such as horizontal_conductivity, or a value of features such as river.stage.",
            metavar="NAME",
        ),
    ],
    layer: LayerName = None,
    grid: GridName = None,
    out: Picture = None,
) -> None:
    """Draw a property of cells, or which cells hold the features of a kind and with which value."""
    from inkhorn import draw

    called = f"{name}-{layer}" if layer else name
    if of.is_dir():
        made = _run(of)
        _drawn_of_run(made, called, lambda ax: draw.values(made.model, name, layer, ax=ax), out)
        return
    from inkhorn.runs import check_project

    project = read_of(of)
    model = check_project(project, grid)[0]
    _drawn(project, called, lambda figure: draw.values(model, name, layer, ax=figure.subplots()), out)
