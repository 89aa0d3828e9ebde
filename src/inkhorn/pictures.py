"""Pictures of a project before it is solved: plans, sections, blocks, surfaces, each into a PNG."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkhorn import draw
from inkhorn.errors import InputError, did_you_mean
from inkhorn.files import Project, free_name, written_whole
from inkhorn.space import Grid, RectangularMesh, VoronoiMesh

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = [
    "picture_block",
    "picture_plans",
    "picture_quality",
    "picture_section",
    "picture_surface",
    "save_figure",
]

Line = Sequence[Sequence[float]]


def save_figure(path: Path, fill: Callable[[Figure], Any], margins: bool = True) -> None:
    """Fill a figure of 1280 × 800 dots, without a window, and save it."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100)
    fill(figure)
    if margins:  # a layout engine would draw twice
        figure.subplots_adjust(left=0.07, right=0.98, bottom=0.09, top=0.92)
    figure.savefig(
        path, format="png", pil_kwargs={"compress_level": 3}
    )  # a third of the time for a tenth more


def _saved(
    project: Project, out: Path | None, name: str, fill: Callable[[Figure], Any], margins: bool
) -> Path:
    """Save into a file that is given, or into a new one in the project's folder ``pictures``."""
    goal = out or free_name(project.path.parent / "pictures" / f"{name}.png")
    try:
        goal.parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise InputError(
            f'cannot make the folder "{goal.parent}": {problem.strerror}. Choose another.'
        ) from None
    with written_whole(goal) as beside:
        save_figure(beside, fill, margins)
    return goal


def picture_plans(project: Project, grids: Sequence[str | None], *, over: bool, out: Path | None) -> Path:
    """Draw the plan of one or more grids, side by side or over each other, and return the file.

    Parameters
    ----------
    project : Project
        From `inkhorn.read_project`.
    grids : sequence of str or None
        Names of the project's grids; None is the one it runs on.
    over : bool
        Whether they lie over each other.
    out : Path, optional
        The file; a new one in the folder ``pictures`` beside the project file if not given.
    """
    names = [g or "grid" for g in grids]
    meshes = [project.mesh(g) for g in grids]

    def fill(figure: Figure) -> None:
        if over or len(meshes) == 1:
            ax = figure.subplots()
            for k, mesh in enumerate(meshes):
                last = k == len(meshes) - 1
                draw.plan(mesh, project.site if last else None, ax=ax, colour=k)
            ax.set_title(", ".join(f"{n}: {m.n_cells} cells" for n, m in zip(names, meshes, strict=True)))
            return
        columns = 2 if len(meshes) <= 4 else 3
        rows = -(-len(meshes) // columns)
        axes = figure.subplots(rows, columns, squeeze=False).ravel()
        for ax in axes[len(meshes) :]:
            ax.axis("off")
        for ax, name, mesh in zip(axes, names, meshes, strict=False):
            draw.plan(mesh, project.site, ax=ax, legend=ax is axes[0])
            ax.set_title(f"{name}: {ax.get_title()}", fontsize=9)

    return _saved(project, out, "plan-" + "-".join(names), fill, True)


def picture_quality(project: Project, grid: str | None, *, out: Path | None = None) -> Path:
    """Draw how often sizes, faces and angles of a Voronoi grid occur, and return the file."""
    mesh = project.mesh(grid)
    if not isinstance(mesh, VoronoiMesh):
        raise InputError(
            f"the grid {grid or 'of the project'} is not made of Voronoi cells, whose quality this is."
        )

    def fill(figure: Figure) -> None:
        for ax, measure in zip(figure.subplots(1, 3), mesh.measures(), strict=True):
            draw.quality(mesh, measure, ax=ax)
        figure.suptitle(f"{project.site.name}, {grid or 'grid'}: {mesh.n_cells} cells")

    return _saved(project, out, f"quality-{grid or 'grid'}", fill, True)


def _line(project: Project, grid: Grid, line: Line | None, row: int | None, column: int | None) -> Any:
    """The line asked for; else that of the project file; else through the middle from west to east."""
    if row is not None or column is not None:
        if not isinstance(grid.mesh, RectangularMesh):
            raise InputError(
                "only rectangles have rows and columns. Give a line instead, or name another grid."
            )
        return grid.mesh.row_line(row) if row is not None else grid.mesh.column_line(column or 0)
    if line is not None:
        return line
    west, south, east, north = project.site.boundary.bounds
    middle = 0.5 * (south + north)
    return project.asked.draw.section or [(west, middle), (east, middle)]


def picture_section(
    project: Project,
    grid: str | None,
    *,
    line: Line | None = None,
    row: int | None = None,
    column: int | None = None,
    exaggeration: float | None = None,
    out: Path | None = None,
) -> Path:
    """Draw a section through a grid along a line, a row or a column, and return the file."""
    cells = project.grid(grid)
    along = _line(project, cells, line, row, column)

    def fill(figure: Figure) -> None:
        draw.section(
            cells,
            along,
            site=project.site,
            exaggeration=exaggeration or project.asked.draw.exaggeration,
            cells=True,
            ax=figure.subplots(),
        )

    return _saved(project, out, f"section-{grid or 'grid'}", fill, True)


def picture_block(
    project: Project,
    grid: str | None,
    *,
    opened: Line | None = None,
    exaggeration: float | None = None,
    out: Path | None = None,
) -> Path:
    """Draw the block of a grid, opened along a line, and return the file."""
    cells = project.grid(grid)

    def fill(figure: Figure) -> None:
        ax = figure.add_subplot(projection="3d")
        draw.block(cells, opened=opened, exaggeration=exaggeration, ax=ax)
        ax.set_title(f"{project.site.name}, {grid or 'grid'}: {ax.get_title()}", y=1.02)

    return _saved(project, out, f"block-{grid or 'grid'}", fill, False)


def picture_surface(project: Project, name: str, *, out: Path | None = None) -> Path:
    """Draw the ground or the base of a layer with its data points, and return the file."""
    strata = project.site.strata
    surfaces = {"ground": strata.ground, **{layer.name: layer.base for layer in strata.layers}}
    if name not in surfaces:
        raise InputError(
            f'there is no surface "{name}"; expected one of {list(surfaces)}: the ground, or the layer whose base it '
            f"is.{did_you_mean(name, list(surfaces))}"
        )
    title = "ground" if name == "ground" else f"base of {name}"

    def fill(figure: Figure) -> None:
        draw.surface(surfaces[name], project.site.boundary, name=title, ax=figure.subplots())

    return _saved(project, out, f"surface-{name}".replace(" ", "-").replace("/", "-"), fill, True)
