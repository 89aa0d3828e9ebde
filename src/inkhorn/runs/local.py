"""Local models: cut out of a region that was run, and how they agree with it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn import draw
from inkhorn.cuts import Agreement, Cut, cut, recut
from inkhorn.draw.comparison import head_differences
from inkhorn.errors import InputError
from inkhorn.files import write_table
from inkhorn.flow import FlowResult
from inkhorn.model import Finding, Model, place
from inkhorn.project import Project
from inkhorn.runs.product import Picture, Product, Work
from inkhorn.site import Site

if TYPE_CHECKING:
    from inkhorn.project.parts_space import CutPart

__all__ = ["LocalProduct", "begun_with", "cut_again", "cut_of", "placed"]


_LAST: dict[str, Cut] = {}  # the last one that was asked for


def _region(project: Project) -> FlowResult:
    """The flow of the region."""
    found = project.source.region
    assert found is not None  # the project is of a local model
    return _flow_in(found.folder)


@lru_cache(maxsize=2)
def _flow_in(folder: Path) -> FlowResult:
    """The flow of a run: opened once, as its site has to be placed again."""
    from inkhorn.runs.opening import open_run

    return open_run(folder).flow


def cut_of(project: Project, grid: str | None = None, site: Site | None = None) -> Cut:
    """Cut the local model that a project asks for out of its region.

    Raises
    ------
    InputError
        If the outline is none within the region, or the rim is not one of it.
    """
    part = project.cut_from
    assert part is not None  # asked for
    flow = _region(project)
    known = project.site_on(grid) if site is None else site
    own_time = project.source.asked.time is not None and project.source.says("time")
    schedule = known.schedule if own_time or flow.model.schedule is None else None
    try:
        made = cut(flow, known.boundary, grid=project.grid(grid), rim=part.rim, site=known, schedule=schedule)
    except InputError as problem:
        raise InputError(f"{project.source.by('cut_from')}: {problem}") from None
    _LAST["cut"] = made
    return made


def cut_again(project: Project, model: Model) -> Cut:
    """The cut that a model was made by, without making it once more."""
    part = project.cut_from
    assert part is not None  # asked for
    last = _LAST.get("cut")
    if last is None or last.model is not model or last.region is not _region(project):
        last = _LAST["cut"] = recut(model, _region(project), project.site.boundary, part.rim)
    return last


def placed(project: Project, grid: str | None = None, site: Site | None = None) -> Model:
    """Place a project's site on one of its grids; of a local model with what its region says at its rim."""
    if project.cut_from is not None:
        return cut_of(project, grid, site).model
    return place(project.site_on(grid) if site is None else site, project.grid(grid))


def begun_with(project: Project, model: Model) -> Any:
    """Heads that a run begins with, (n_cells,) [m]: those told, of a local model else the region's; None for others."""
    told = project.heads_before(model.grid)
    if told is not None or project.cut_from is None:
        return told
    return cut_again(project, model).initial_heads()


class LocalProduct(Product[Agreement]):
    """How a local model and its region agree."""

    table = "cut_from"
    what = "the cut"

    def requests(self, project: Project, model: Model) -> Sequence[CutPart]:
        return [] if project.cut_from is None else [project.cut_from]

    def lacks(self, project: Project, model: Model, asked: CutPart) -> Iterator[Finding]:
        for one in cut_again(project, model).stretches:
            across = (
                ""
                if one.way == "own"
                else f", {one.inflow:.4g} m³/day in and {one.outflow:.4g} out in the region"
            )
            what = {
                "heads": "takes the region's heads", "flows": "takes the region's flows", "closed": "is closed",
                "own": "is on the region's own rim",
            }[one.way]  # fmt: skip
            yield Finding(
                "note", f"the {one.name} {what}: {one.line.length:.4g} m{across}", f"{project.path.name}, [cut_from]",
                "" if one.way == "own" else "Say otherwise by `rim`.",
            )  # fmt: skip

    def solve(self, work: Work, asked: CutPart) -> Agreement:
        return cut_again(work.project, work.model).agreement(work.flow)

    def write(self, work: Work, asked: CutPart, made: Agreement) -> None:
        file, units = work.folder.file, work.project.shown_in
        made_by = cut_again(work.project, work.model)
        write_table(made_by.rim(), file("rim"), units)
        write_table(made_by.sources, file("cut arrays"), units)
        write_table(made.heads, file("agreement of heads"), units)
        write_table(made.rim, file("agreement at the rim"), units)
        write_table(made.budget, file("agreement of budgets"), units)

    def read(self, work: Work, asked: CutPart) -> Agreement:
        return self.solve(work, asked)

    def draw(self, work: Work, asked: CutPart, made: Agreement) -> Iterator[Picture]:
        file = work.folder.file
        yield Picture.of(file("rim picture"), "the rim", draw.rim, cut_again(work.project, work.model))
        words = "this model less those of the region"
        fill = partial(head_differences, model=work.model, off=made.difference, words=words)
        yield Picture(file("difference picture"), "the difference from the region", fill)

    def tell(self, work: Work, asked: CutPart, made: Agreement) -> Iterator[str]:
        worst = made.heads.loc["all cells"]
        yield (
            f"beside the region: heads differ by {worst['mean [m]']:+.3g} m as a mean, {worst['greatest [m]']:.3g} m at "
            f"the most; {made.from_rim:+.4g} m³/day more by the rim"
        )
        for line in made.warnings():
            yield f"warning: {line}"
        if not np.isfinite(made.difference).all():
            missing = int((~np.isfinite(made.difference)).sum())
            yield f"{missing} cells are dry, or stand where the region has none: their heads are not compared"
