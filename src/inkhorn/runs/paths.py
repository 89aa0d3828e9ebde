"""Particle paths: from and to wells and springs, from polygons, from all inflow; shares, ages and zones that follow."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from inkhorn import draw
from inkhorn.dates import time_in_words
from inkhorn.ensemble import Follow
from inkhorn.files import read_paths, write_paths, write_shapes, write_table, write_trajectories
from inkhorn.flow import FlowResult
from inkhorn.model import Finding, Model
from inkhorn.paths import (
    PathResult,
    Starts,
    days_of,
    refuse_many_paths,
    refuse_outside,
    starts_at_bores,
    starts_in_area,
    starts_in_conduits,
    starts_of_inflow,
    trace,
)
from inkhorn.project import Project
from inkhorn.project.parts_asked import PathsPart
from inkhorn.runs.product import Picture, Product, Work
from inkhorn.runs.wants import lacking_porosity, too_much

__all__ = ["PathsProduct", "followed_by"]

YEAR = 365.25
_YOUNGER = (50.0, YEAR, 10 * YEAR, 50 * YEAR)


def _in_one_cell(model: Model, well: str) -> bool:
    """Whether no water can pass through a well from layer to layer."""
    found = [t for t in model.terms if well in t.feature_names]
    return all((t.feature_index == t.feature_names.index(well)).sum() <= 1 for t in found)


@dataclass(frozen=True, eq=False)
class _StartsOf:
    """Starts that follow from the flow."""

    asked: PathsPart
    polygon: Any = None
    layers: tuple[int, ...] = ()

    def __call__(self, flow: FlowResult) -> Any:
        asked = self.asked
        if self.polygon is not None:
            return starts_in_area(flow, self.polygon, layers=list(self.layers) or None, count=asked.count)
        if asked.bores:
            return starts_at_bores(flow, asked.bores, per_bore=asked.per_well)
        return partial(self._of_step, flow)

    def _of_step(self, flow: FlowResult, step: int) -> Starts:
        asked, backward = self.asked, self.asked.direction == "backward"
        if asked.conduits:
            return starts_in_conduits(
                flow, asked.conduits, count=asked.per_well, backward=backward, step=step
            )
        return starts_of_inflow(flow, count=asked.count, backward=backward, step=step)


def followed_by(project: Project, model: Model, asked: PathsPart) -> Follow:
    """Return the paths of a table [paths], of one run or of many."""
    start: Any = asked.wells
    of_flow = asked.within is not None or bool(asked.bores or asked.conduits) or asked.from_all_inflow
    if of_flow:
        layers = tuple(k for n in asked.layers for k in model.grid.layers_named(n, "paths"))
        start = _StartsOf(asked, None if asked.within is None else project.starts[asked.name], layers)
    stops = None
    if asked.stop_in_regions:
        regions = project.cells_of_regions(model.grid)
        stops = np.any([regions[name] for name in asked.stop_in_regions], axis=0)
    grid, materials = model.grid, project.site.materials
    by_layer = [asked.retardation.get(materials[n].name, 1.0) for n in grid.layer_names]
    options = {
        "backward": asked.direction == "backward", "max_time": asked.max_time, "mark": asked.mark,
        "per_well": asked.per_well, "release": asked.release or None, "partly_taken": asked.partly_taken,
        "through_bores": asked.through_bores, "moisture": asked.moisture,
        "retardation": np.array(by_layer)[grid.cells.material_layer], "stop_in": stops,
    }  # fmt: skip
    return Follow(start, options, asked.name, of_flow)


class PathsProduct(Product[PathResult]):
    """Particle paths, each table [paths] on its own."""

    table = "paths"
    what = "particle paths"

    def requests(self, project: Project, model: Model) -> Sequence[PathsPart]:
        return project.asked.paths

    def lacks(self, project: Project, model: Model, asked: PathsPart) -> Iterator[Finding]:
        where = f"{project.path.name}, [paths]"
        yield from lacking_porosity(project, model, self.what, self.table)
        count = len(asked.wells or asked.bores or asked.conduits) * asked.per_well or asked.count
        yield from too_much(lambda: refuse_many_paths(count * max(len(asked.release), 1)), where)
        if asked.release and model.schedule is None:
            yield Finding(
                "error", "particles are released at some times, but the flow is steady", where, "Leave out `release`."
            )  # fmt: skip
        elif asked.release and model.schedule is not None:
            yield from too_much(lambda: self._refuse_outside(model, asked), where)
        if asked.within is not None:
            yield from self._nowhere(project, model, asked, where)
        wells = {w.name: w for w in project.site.wells}
        backward = asked.direction == "backward"
        idle = [
            n
            for n in asked.wells
            if model.schedule is None and (wells[n].abstraction if backward else wells[n].injection) == 0.0
        ]
        does = "takes no water" if backward else "gives no water, as paths that go forward need,"
        if idle and all(n in idle and _in_one_cell(model, n) for n in asked.wells):
            yield Finding(
                "error",
                f"paths begin at {', '.join(idle)}, which {does} and lies in one layer: nothing can be followed",
                where,
                "Name wells that do, or change the direction.",
            )
        elif idle:
            yield Finding(
                "warning",
                f"paths begin at {', '.join(idle)}, which {does}: only what passes through its screen from layer "
                "to layer can be followed",
                where,
                "Name wells that do, or change the direction.",
            )

    def _refuse_outside(self, model: Model, asked: PathsPart) -> None:
        schedule = model.schedule
        assert schedule is not None  # there are times of release
        refuse_outside(
            days_of(asked.release, schedule.start), float(schedule.begins[0]), float(schedule.ends[-1])
        )

    def _nowhere(self, project: Project, model: Model, asked: PathsPart, where: str) -> Iterator[Finding]:
        """Polygons of starts with no cell of the layers."""
        import shapely

        grid = model.grid
        layers = [k for n in asked.layers for k in grid.layers_named(n, "paths")] or range(
            len(grid.layer_names)
        )
        inside = shapely.contains_xy(project.starts[asked.name], grid.cells.x, grid.cells.y)
        if not (inside & np.isin(grid.cells.layer, list(layers))).any():
            yield Finding(
                "error",
                "the polygons in which paths begin hold the centre of no cell"
                + (f" of {', '.join(asked.layers)}" if asked.layers else ""),
                where,
                "Check their place, or make cells smaller there.",
            )

    def solve(self, work: Work, asked: PathsPart) -> PathResult:
        follow = followed_by(work.project, work.model, asked)
        start = follow.start(work.flow) if follow.of_flow else follow.start
        return trace(work.flow, start, **follow.options, progress=work.journal.progress)

    def write(self, work: Work, asked: PathsPart, made: PathResult) -> None:
        file, units = work.folder.file, work.project.shown_in
        write_paths(made, file("paths", asked.name))
        write_trajectories(made, file("trajectories", asked.name))
        write_table(made.ends, file("path ends", asked.name), units)
        write_table(made.shares(), file("path shares", asked.name), units)
        if made.backward:
            write_table(made.ages(_YOUNGER), file("path ages", asked.name), units)
        if asked.zones:
            write_shapes(made.zones(asked.zones), file("zones", asked.name))

    def read(self, work: Work, asked: PathsPart) -> PathResult:
        path = work.folder.there("paths", asked.name)
        return read_paths(path, work.flow, backward=asked.direction == "backward", mark=asked.mark)

    def draw(self, work: Work, asked: PathsPart, made: PathResult) -> Iterator[Picture]:
        file = work.folder.file
        yield Picture.of(file("paths picture", asked.name), self.what, draw.paths, made)
        if len(made.ends) > 1:
            yield Picture.of(file("ages picture", asked.name), "travel times", draw.travel_times, made)
        if asked.zones:
            yield Picture.of(
                file("zones picture", asked.name), "zones", draw.zones, made, asked.zones
            )  # fmt: skip

    def tell(self, work: Work, asked: PathsPart, made: PathResult) -> Iterator[str]:
        longest = made.ends["travel time [day]"].max()
        named = f", {asked.name}" if asked.name else ""
        yield f"{len(made.ends)} particles followed {asked.direction}, for up to {time_in_words(longest)}{named}"
        if not (asked.wells or asked.bores or asked.conduits):
            return
        shares = made.shares().reset_index()
        for well in dict.fromkeys(made.ends["start"]):
            mine = shares[shares["start"] == well].head(3)
            parts = [f"{row['share [%]']:.3g} % {row['feature'] or row['end']}" for _, row in mine.iterrows()]
            age = ""
            if made.backward:
                found = made.ages().loc[well]
                unknown = float(found["not known [%]"])
                least = "at least " if unknown > 0.0 else ""
                some = f" ({unknown:.3g} % of it was followed for so long only)" if unknown > 0.0 else ""
                age = f"; mean age {least}{time_in_words(found['mean [day]'])}{some}"
            yield f"water of {well}{named}: {', '.join(parts)}{age}"
