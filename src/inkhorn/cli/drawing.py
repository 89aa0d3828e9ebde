"""The drawing commands for what is there before anything is solved: of a project, or of a run of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from inkhorn.cli.application import app
from inkhorn.cli.asked import (
    Exaggeration,
    GridName,
    LayerName,
    Output,
    SiteOrRun,
    When,
    corners_of,
    read_of,
    step_of,
)
from inkhorn.cli.terminal import say, telling

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from inkhorn.flow import FlowResult
    from inkhorn.model import Model
    from inkhorn.project import Project
    from inkhorn.runs import Run

__all__ = ["Drawn", "drawing"]

drawing = typer.Typer(
    no_args_is_help=True,
    help="Draw a project, or a run of it (plan, section, block, surface, quality, values); or what a run found: heads, "
    "water-table, depth, drawdown, head-surface, budget, exchange, convergence, hydrographs, paths, travel-times, zones, "
    "plume, concentrations, conduits, conduit-profile, springs.",
)
app.add_typer(drawing, name="draw")


@dataclass(frozen=True)
class Drawn:
    """What is drawn, a project or a run of it, and where its pictures go.

    Attributes
    ----------
    project : Project
        As read; of a run from the inputs that it kept.
    made : Run or None
        The run.
    folder : Path
        For pictures that are given no file.
    prefix : str
        Of their names.
    """

    project: Project
    made: Run | None
    folder: Path
    prefix: str

    @classmethod
    def of(cls, path: Path) -> Drawn:
        """Open a project file, or the folder of a run."""
        if not path.is_dir():
            project = read_of(path)
            return cls(project, None, project.path.parent / "pictures", "")
        from inkhorn.runs import open_run

        made = open_run(path)
        return cls(made.project, made, made.path.parent / "pictures", f"{made.path.name}-")

    @property
    def run(self) -> Run:
        """The run; of a project file there is none, which is refused."""
        from inkhorn.errors import InputError

        if self.made is None:
            raise InputError(
                f'"{self.project.path}" is a project, of which nothing is solved yet. Give the folder of a run.'
            )
        return self.made

    @property
    def flow(self) -> FlowResult:
        """The flow of the run."""
        return self.run.flow

    def model(self, grid: str | None) -> Model:
        """The model of the run, or that of the project on one of its grids."""
        if self.made is not None and grid is None:
            return self.made.model
        from inkhorn.runs import check_project

        return check_project(self.project, grid)[0]

    def save(
        self, name: str, fill: Callable[[Figure], Any], out: Path | None, *, margins: bool = True
    ) -> None:
        """Draw into a file that is given, or into a new one, and say where."""
        from inkhorn import draw

        units, called = self.project.shown_in, f"{self.prefix}{name}"
        say(f"Drawn in {draw.save_new(self.folder, called, fill, out=out, margins=margins, units=units)}")

    def one(self, name: str, paint: Callable[[Axes], Any], out: Path | None) -> None:
        """Draw one plot."""
        self.save(name, lambda figure: paint(figure.subplots()), out)

    def film(
        self,
        name: str,
        paint: Callable[..., Any],
        steps: Sequence[int],
        out: Path | None,
        scale: Callable[[Sequence[int]], Any],
    ) -> None:
        """Draw a film, its pictures on one scale that is found first."""
        from inkhorn import draw
        from inkhorn.files import file_name, free_name

        goal = out or free_name(self.folder / f"{file_name(self.prefix + name)}.gif")
        goal.parent.mkdir(parents=True, exist_ok=True)
        with telling() as journal:
            span = scale(steps)
            draw.film(
                goal,
                lambda ax, k: paint(ax, k, span),
                steps,
                units=self.project.shown_in,
                progress=journal.progress,
            )
        say(f"Drawn in {goal}")


@drawing.command("plan")
def draw_plan(
    of: SiteOrRun,
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
    out: Output = None,
) -> None:
    """Draw the cells of one or more grids in plan, with the site's features."""
    from inkhorn import draw

    drawn = Drawn.of(of)
    names: list[str | None] = list(grid) if grid else [None]
    called = "plan-" + "-".join([*(n or "grid" for n in names), *([layer] if layer else [])])

    def fill(figure: Any) -> None:
        draw.project_plans(figure, drawn.project, names, over=over, layer=layer)

    drawn.save(called, fill, out)


@drawing.command("section")
def draw_section(
    of: SiteOrRun,
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
    paths: Annotated[
        str | None,
        typer.Option(
            "--paths", help='With the paths of a run near it, by name; "" where there is one.', metavar="NAME"
        ),
    ] = None,
    in_time: Annotated[
        bool,
        typer.Option("--in-time", help="A film of all steps up to --time, GIF, or MP4 by the name of --out."),
    ] = False,
    out: Output = None,
) -> None:
    """Draw a section through the layers, of a run with its water: along the project's line if no other is given."""
    from inkhorn import draw
    from inkhorn.errors import InputError

    if sum(v is not None for v in (line, row, column)) > 1:
        raise InputError("give one of --line, --row and --column.")
    corners, drawn = corners_of(line, "--line"), Drawn.of(of)
    if drawn.made is None or grid is not None:
        if time is not None or in_time:
            raise InputError(
                "--time and --in-time are of the water of a run. Give the folder of one, without --grid."
            )

        def fill(figure: Any) -> None:
            draw.project_section(
                figure, drawn.project, grid, line=corners, row=row, column=column, exaggeration=exaggeration
            )

        drawn.save(f"section-{grid or 'grid'}", fill, out)
        return
    flow = drawn.flow
    last, used = step_of(flow, time), exaggeration or drawn.project.asked.draw.exaggeration
    traced = None if paths is None else drawn.run.paths(paths)
    where = draw.line_of(flow.model.grid.mesh, corners or drawn.project.section_line, row, column)

    def paint(ax: Axes, step: int, scale: None = None) -> None:
        draw.section(flow, where, step=step, exaggeration=used, paths=traced, ax=ax)

    if in_time:
        drawn.film("section", paint, range(last + 1), out, lambda steps: None)
    else:
        drawn.one("section", lambda ax: paint(ax, last), out)


@drawing.command("block")
def draw_block(
    of: SiteOrRun,
    grid: GridName = None,
    opened: Annotated[
        str | None,
        typer.Option(
            "--open", help="A line to open it along; what lies right of it is taken away.", metavar="CORNERS"
        ),
    ] = None,
    values: Annotated[
        str | None,
        typer.Option(
            "--values",
            help="Colour it by a property such as horizontal_conductivity; of a run by head, too.",
            metavar="NAME",
        ),
    ] = None,
    time: When = None,
    exaggeration: Exaggeration = None,
    out: Output = None,
) -> None:
    """Draw the layers as a block, opened along a line; coloured by what they are made of, or by value."""
    from inkhorn import draw

    drawn, corners = Drawn.of(of), corners_of(opened, "--open")
    flow = drawn.flow if values == "head" or time is not None else None

    def fill(figure: Any) -> None:
        if values is None:
            draw.project_block(figure, drawn.project, grid, opened=corners, exaggeration=exaggeration)
            return
        model = drawn.model(grid)
        if flow is not None and values == "head":
            step = step_of(flow, time)
            given, label = flow.steps[step].heads, "head [m]"
        else:
            given, unit = model.values_of(values)
            label = f"{values.replace('_', ' ')} [{unit or '-'}]"
        ax = figure.add_axes((0.0, 0.0, 1.0, 0.95), projection="3d")
        draw.block(model.grid, opened=corners, values=given, label=label, exaggeration=exaggeration, ax=ax)
        when = "" if flow is None else draw.when(flow, step_of(flow, time))
        ax.set_title(f"{drawn.project.site.name}: {label.split(' [')[0]}{when}, {ax.get_title()}", y=1.02)

    drawn.save("-".join(w for w in ("block", grid or "grid", values) if w), fill, out, margins=False)


@drawing.command("quality")
def draw_quality(of: SiteOrRun, grid: GridName = None, out: Output = None) -> None:
    """Draw how good a grid of Voronoi cells is: sizes, faces, angles."""
    from inkhorn import draw

    drawn = Drawn.of(of)
    drawn.save(
        f"quality-{grid or 'grid'}", lambda figure: draw.project_quality(figure, drawn.project, grid), out
    )


@drawing.command("surface")
def draw_surface(
    of: SiteOrRun,
    name: Annotated[str, typer.Argument(help="`ground`, or the layer whose base it is.", metavar="LAYER")],
    out: Output = None,
) -> None:
    """Draw a surface with its contours and the points it was made of."""
    from inkhorn import draw

    drawn = Drawn.of(of)
    drawn.save(f"surface-{name}", lambda figure: draw.project_surface(figure, drawn.project, name), out)


@drawing.command("values")
def draw_values(
    of: SiteOrRun,
    name: Annotated[
        str,
        typer.Argument(
            help="A property such as horizontal_conductivity, or a value of features such as river.stage.",
            metavar="NAME",
        ),
    ],
    layer: LayerName = None,
    grid: GridName = None,
    out: Output = None,
) -> None:
    """Draw a property of cells, or which cells hold the features of a kind and with which value."""
    from inkhorn import draw

    drawn = Drawn.of(of)
    called, model = f"{name}-{layer}" if layer else name, drawn.model(grid)
    drawn.one(called, lambda ax: draw.values(model, name, layer, ax=ax), out)
