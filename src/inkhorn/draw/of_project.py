"""Figures of a project before it is solved: plans, a section, a block, a surface, the quality of a mesh."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from inkhorn.draw.blocks import block
from inkhorn.draw.mesh import plan, quality
from inkhorn.draw.sections import section
from inkhorn.draw.surfaces import surface
from inkhorn.errors import InputError, did_you_mean
from inkhorn.space import PlanMesh, RectangularMesh, VoronoiMesh

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from inkhorn.project import Project

__all__ = [
    "line_of",
    "project_block",
    "project_plans",
    "project_quality",
    "project_section",
    "project_surface",
]

Line = Sequence[Sequence[float]]


def project_plans(
    figure: Figure,
    project: Project,
    grids: Sequence[str | None],
    *,
    over: bool,
    layer: str | None = None,
) -> None:
    """Draw the plan of one or more grids, side by side or over each other.

    Parameters
    ----------
    figure : Figure
        Filled.
    project : Project
        From `inkhorn.read_project`.
    grids : sequence of str or None
        Names of the project's grids; None is the one it runs on.
    over : bool
        Whether they lie over each other.
    layer : str, optional
        Whose cells, where those of lower layers are larger; the smallest if not given.
    """
    names = [(g or "grid") + (f", {layer}" if layer else "") for g in grids]
    meshes = [_cells_of(project, g, layer) for g in grids]
    if over or len(meshes) == 1:
        ax = figure.subplots()
        for k, mesh in enumerate(meshes):
            last = k == len(meshes) - 1
            plan(mesh, project.site if last else None, ax=ax, colour=k)
        ax.set_title(", ".join(f"{n}: {m.n_cells} cells" for n, m in zip(names, meshes, strict=True)))
        return
    columns = 2 if len(meshes) <= 4 else 3
    rows = -(-len(meshes) // columns)
    axes = figure.subplots(rows, columns, squeeze=False).ravel()
    for ax in axes[len(meshes) :]:
        ax.axis("off")
    for ax, name, mesh in zip(axes, names, meshes, strict=False):
        plan(mesh, project.site, ax=ax, legend=ax is axes[0])
        ax.set_title(f"{name}: {ax.get_title()}", fontsize=9)


def _cells_of(project: Project, grid: str | None, layer: str | None) -> PlanMesh:
    """The plan cells of a grid, or those of one of its layers."""
    if layer is None:
        return project.mesh(grid)
    made = project.grid(grid)
    return made.meshes[made.layers_named(layer)[0]]


def project_quality(figure: Figure, project: Project, grid: str | None) -> None:
    """Draw how often sizes, faces and angles of a Voronoi grid occur."""
    mesh = project.mesh(grid)
    if not isinstance(mesh, VoronoiMesh):
        raise InputError(
            f"the grid {grid or 'of the project'} is not made of Voronoi cells, whose quality this is."
        )
    for ax, measure in zip(figure.subplots(1, 3), mesh.measures(), strict=True):
        quality(mesh, measure, ax=ax)
    figure.suptitle(f"{project.site.name}, {grid or 'grid'}: {mesh.n_cells} cells")


def line_of(mesh: PlanMesh, line: Line, row: int | None, column: int | None) -> Any:
    """Return the line along a row or a column of rectangles if one is given, else the line.

    Raises
    ------
    InputError
        If the mesh has no rows.
    """
    if row is None and column is None:
        return line
    if not isinstance(mesh, RectangularMesh):
        raise InputError("only rectangles have rows and columns. Give a line instead, or name another grid.")
    return mesh.row_line(row) if row is not None else mesh.column_line(column or 0)


def project_section(
    figure: Figure,
    project: Project,
    grid: str | None,
    *,
    line: Line | None = None,
    row: int | None = None,
    column: int | None = None,
    exaggeration: float | None = None,
) -> None:
    """Draw a section through a grid along a line, a row or a column."""
    cells = project.grid(grid)
    section(
        cells,
        line_of(cells.mesh, project.section_line if line is None else line, row, column),
        site=project.site,
        exaggeration=exaggeration or project.asked.draw.exaggeration,
        cells=True,
        ax=figure.subplots(),
    )


def project_block(
    figure: Figure,
    project: Project,
    grid: str | None,
    *,
    opened: Line | None = None,
    exaggeration: float | None = None,
) -> None:
    """Draw the block of a grid, opened along a line."""
    ax = figure.add_axes((0.0, 0.0, 1.0, 0.95), projection="3d")
    block(project.grid(grid), opened=opened, exaggeration=exaggeration, ax=ax)
    ax.set_title(f"{project.site.name}, {grid or 'grid'}: {ax.get_title()}", y=1.02)


def project_surface(figure: Figure, project: Project, name: str) -> None:
    """Draw the ground or the base of a layer with its data points."""
    strata = project.site.strata
    surfaces = {"ground": strata.ground, **{layer.name: layer.base for layer in strata.layers}}
    if name not in surfaces:
        raise InputError(
            f'there is no surface "{name}"; expected one of {list(surfaces)}: the ground, or the layer whose base it '
            f"is.{did_you_mean(name, list(surfaces))}"
        )
    title = "ground" if name == "ground" else f"base of {name}"
    surface(surfaces[name], project.site.boundary, name=title, ax=figure.subplots())
