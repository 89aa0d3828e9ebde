"""Particle paths from and to wells."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from inkhorn import draw
from inkhorn.files import read_paths, write_paths, write_table
from inkhorn.model import Finding, Model
from inkhorn.paths import PathResult, refuse_many_paths, trace
from inkhorn.project import Project
from inkhorn.project.parts_asked import PathsPart
from inkhorn.runs.product import Picture, Product, Work
from inkhorn.runs.wants import lacking_porosity, left_out_in_time, too_much
from inkhorn.space import RectangularMesh

__all__ = ["PathsProduct"]

YEAR = 365.25


def _in_one_cell(model: Model, well: str) -> bool:
    """Whether no water can pass through a well from layer to layer."""
    found = [t for t in model.terms if well in t.feature_names]
    return all((t.feature_index == t.feature_names.index(well)).sum() <= 1 for t in found)


class PathsProduct(Product[PathResult]):
    """Particle paths, each table [paths] on its own."""

    table = "paths"
    what = "particle paths"

    def requests(self, project: Project, model: Model) -> Sequence[PathsPart]:
        return project.asked.paths

    def possible(self, model: Model) -> bool:
        mesh = model.grid.mesh
        return model.schedule is None and isinstance(mesh, RectangularMesh) and mesh.outline is None

    def lacks(self, project: Project, model: Model, asked: PathsPart) -> Iterator[Finding]:
        where = f"{project.path.name}, [paths]"
        yield from lacking_porosity(project, model, self.what, self.table)
        yield from left_out_in_time(project, model, f"{self.what} are", self.table)
        yield from too_much(lambda: refuse_many_paths(len(asked.wells) * asked.per_well), where)
        mesh = model.grid.mesh
        if not isinstance(mesh, RectangularMesh) or mesh.outline is not None:
            yield Finding(
                "note",
                "particle paths need whole rectangles and are left out on this grid",
                where,
                "Name a grid of whole rectangles.",
            )
        wells = {w.name: w for w in project.site.wells}
        idle = [n for n in asked.wells if wells[n].abstraction == 0.0 and wells[n].injection == 0.0]
        if idle and all(n in idle and _in_one_cell(model, n) for n in asked.wells):
            yield Finding(
                "error",
                f"paths begin at {', '.join(idle)}, which pumps nothing and lies in one layer: nothing can be followed",
                where,
                "Name wells that pump.",
            )
        elif idle:
            yield Finding(
                "warning",
                f"paths begin at {', '.join(idle)}, which pumps nothing: only what passes through its screen from layer "
                "to layer can be followed",
                where,
                "Name wells that pump.",
            )

    def solve(self, work: Work, asked: PathsPart) -> PathResult:
        return trace(
            work.flow,
            asked.wells,
            backward=asked.direction == "backward",
            max_time=asked.max_time,
            mark=asked.mark,
            per_well=asked.per_well,
            progress=work.journal.progress,
        )

    def write(self, work: Work, asked: PathsPart, made: PathResult) -> None:
        write_paths(made, work.folder.file("paths", asked.name))
        write_table(made.ends, work.folder.file("path ends", asked.name), work.project.shown_in)

    def read(self, work: Work, asked: PathsPart) -> PathResult:
        path = work.folder.there("paths", asked.name)
        return read_paths(path, work.flow, backward=asked.direction == "backward", mark=asked.mark)

    def draw(self, work: Work, asked: PathsPart, made: PathResult) -> Iterator[Picture]:
        yield Picture.of(work.folder.file("paths picture", asked.name), self.what, draw.paths, made)

    def tell(self, work: Work, asked: PathsPart, made: PathResult) -> Iterator[str]:
        longest = made.ends["travel time [day]"].max() / YEAR
        named = f", {asked.name}" if asked.name else ""
        yield f"{len(made.ends)} particles followed {asked.direction}, for up to {longest:.3g} years{named}"
