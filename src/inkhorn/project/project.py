"""A project: the site, its grids, and what is asked of it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.errors import InputError, did_you_mean, naming
from inkhorn.files import read_last_heads
from inkhorn.model import Finding, dimension_of
from inkhorn.project.inputs import Inputs
from inkhorn.project.parts_grid import FileMeshPart, MeshPart
from inkhorn.project.parts_space import CutPart
from inkhorn.project.project_file import ProjectFile
from inkhorn.project.read_fit import FitPlan, Places
from inkhorn.project.read_vary import VaryPlan
from inkhorn.project.source import Source
from inkhorn.site import (
    Edit,
    Site,
    properties,
    value_named,
)
from inkhorn.space import CellSurface, Grid, PlanMesh, Surface, layered
from inkhorn.unit_choice import UnitChoice

__all__ = ["Project"]


_ANY_SHAPE = ("Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon")


@dataclass(frozen=True, eq=False)
class Project:
    """A site, the grid asked for, and what is to be done with it.

    Attributes
    ----------
    path : Path
        The project file.
    site : Site
        What is known.
    asked : ProjectFile
        The file's tables, numbers in metres, days and grams.
    source : Source
        Finds the files that are named.
    variant : str or None
        Its name, if one was laid over the project file.
    changes : tuple of str
        What the variant differs in.
    initial_heads : Surface or None
        What a run through time begins with, if not with a steady solution.
    regions : dict of str to shapely geometry or None
        The polygons of the regions whose budget is wanted; None for one that is not told by polygons.
    starts : dict of str to shapely geometry
        The polygons in which paths begin, by the name of the paths.
    lines : dict of str to shapely LineString
        Across which flow is wanted.
    findings : tuple of Finding
        Numbers of the file that seldom are.
    near_shapes : dict of (str or None, int) to list of shapely geometry
        The shapes of files near which cells are to be small, by grid and place in its list.
    fits : tuple of FitPlan
        The fits that are asked for.
    varies : tuple of VaryPlan
        Many runs that are asked for.
    forecasts, candidates : Places
        Where numbers are forecast with each fit, and what might be measured next.
    """

    path: Path
    site: Site
    asked: ProjectFile = field(repr=False)
    source: Source = field(repr=False)
    variant: str | None = None
    changes: tuple[str, ...] = field(repr=False, default=())
    initial_heads: Surface | None = field(repr=False, default=None)
    regions: dict[str, Any] = field(repr=False, default_factory=dict)
    starts: dict[str, Any] = field(repr=False, default_factory=dict)
    lines: dict[str, Any] = field(repr=False, default_factory=dict)
    findings: tuple[Finding, ...] = field(repr=False, default=())
    near_shapes: dict[tuple[str | None, int], list[Any]] = field(repr=False, default_factory=dict)
    fits: tuple[FitPlan, ...] = field(repr=False, default=())
    varies: tuple[VaryPlan, ...] = field(repr=False, default=())
    forecasts: Places = field(repr=False, default=Places())
    candidates: Places = field(repr=False, default=Places())

    def cells_of_regions(self, grid: Grid) -> dict[str, Any]:
        """Return the cells of each region whose budget is wanted, (n_cells,) of bool.

        Raises
        ------
        InputError
            If a region holds the centre of no cell, or two overlap.
        """
        import shapely

        found: dict[str, Any] = {}
        cells = grid.cells
        for part in self.asked.region:
            inside, shape = np.ones(len(cells), dtype=bool), self.regions[part.name]
            if shape is not None:
                inside &= shapely.contains_xy(shape, cells.x, cells.y)
            if part.layers:
                inside &= np.isin(
                    cells.layer, [k for n in part.layers for k in grid.layers_named(n, part.name)]
                )
            if part.materials:
                made = [self.site.materials[n].name in part.materials for n in grid.layer_names]
                inside &= np.array(made)[cells.material_layer]
            found[part.name] = inside
        return found

    @property
    def cut_from(self) -> CutPart | None:
        """What it is cut out of, if it is a local model that is."""
        part = self.asked.cut_from
        return None if part is None or part.whole else part

    @property
    def read(self) -> tuple[dict[str, Any], ...]:
        """What came of each file: file, table, rows, what, and a note; of a grid's file once that is made."""
        return self.source.came()

    def site_on(self, name: str | None = None) -> Site:
        """Return the site as it is placed on a grid: with the attributes that the grid's file has of its cells.

        Raises
        ------
        InputError
            If the file has no such attribute, or it cannot be what it is taken for.
        """
        part = self._grid_part(name)
        if not isinstance(part, FileMeshPart) or not part.attribute:
            return self.site
        used, edits = self.grid_name(name), []
        for k, attribute in enumerate(part.attribute):
            key = ("grid", "attribute", k) if used is None else ("grids", used, "attribute", k)
            with naming(self.source.by(*key)):
                found, of = self.source.mesh(part, *key[:-2]), value_named(attribute.of)
                if of not in (*properties(), "base", "ground"):
                    raise InputError(
                        f'"{attribute.of}" is no property of cells; expected one of {[*properties(), "base", "ground"]}.'
                        f"{did_you_mean(attribute.of, list(properties()))}"
                    )
                values = found.numbers(
                    attribute.column, dimension_of(of, []), unit=attribute.unit, units=self.source.units
                )
            what = f'"{attribute.column}" of {part.file}'
            edits.append(
                Edit(
                    of,
                    CellSurface(found.mesh, values, what),
                    layers=tuple(attribute.layers),
                    reason=f"attribute {what}",
                    source=self.source.by(*key),
                )
            )
        return replace(self.site, edits=(*edits, *self.site.edits))

    @property
    def shown_in(self) -> UnitChoice:
        """The units that results are told in."""
        asked = self.asked.units.results
        return UnitChoice.of_system(self.source.units) if asked is None else UnitChoice(asked)

    @property
    def inputs(self) -> Inputs:
        """Every file that was read, the project file first, as it was then."""
        return self.source.inputs

    @property
    def runs_folder(self) -> Path:
        """Where run folders go: ``runs`` beside the project file; of inputs within the folder of a run, beside that."""
        home = self.path.resolve().parent
        if self.inputs.as_run and home.name == "inputs" and (home.parent / "about.json").is_file():
            return home.parent.parent
        return self.path.parent / "runs"

    @property
    def section_line(self) -> Any:
        """Where a section is drawn: as the file says, else through the middle from west to east."""
        west, south, east, north = self.site.boundary.bounds
        middle = 0.5 * (south + north)
        return self.asked.draw.section or [(west, middle), (east, middle)]

    def grid(self, name: str | None = None) -> Grid:
        """Return the grid that the project asks for, or one of its others by name.

        Raises
        ------
        InputError
            If there is no grid of that name, or it cannot be made.
        """
        part, mesh = self._grid_part(name), self.mesh(name)
        with naming(self.path.name):
            splits = getattr(part, "max_splits", {})
            return layered(mesh, self.site.strata, max_splits=splits, layer_cell=part.layer_cell)

    def grid_name(self, name: str | None = None) -> str | None:
        """Return the name of the grid that is used: the one given, that of the run whose inputs these are, `use_grid`."""
        return name or self.inputs.as_run.get("grid") or self.asked.use_grid

    def _grid_part(self, name: str | None) -> MeshPart:
        name = self.grid_name(name)
        if name is not None and name not in self.asked.grids:
            known = list(self.asked.grids)
            raise InputError(
                f'{self.path.name} has no grid "{name}"; it has {known}.{did_you_mean(name, known)} '
                f"Add a table [grids.{name}]."
            )
        return self.asked.grid if name is None else self.asked.grids[name]

    def _near(self, name: str | None) -> list[tuple[list[Any], Any]]:
        """Features, bores and shapes of files near which cells of a grid are to be small, and how small."""
        part = self._grid_part(name)
        places: dict[str, Any] = {b.name: b for b in self.site.bores}
        places |= {f.name: f for f in self.site.features}
        kinds: dict[str, list[str]] = {"bore": [b.name for b in self.site.bores]}
        for feature in self.site.features:
            kinds.setdefault(feature.kind, []).append(feature.name)
        found = []
        for k, near in enumerate(part.near_parts):
            names = dict.fromkeys([*near.features, *(n for k in near.kinds for n in kinds.get(k, []))])
            things = [places[n] for n in names if n not in getattr(part, "left_out", ())]
            found.append((things + self.near_shapes.get((self.grid_name(name), k), []), near.wanted))
        return found

    def mesh(self, name: str | None = None) -> PlanMesh:
        """Return the plan mesh of the grid that the project asks for, or of one of its others by name.

        Raises
        ------
        InputError
            If there is no grid of that name, or it cannot be made.
        """
        part = self._grid_part(name)
        where = "[grid]" if self.grid_name(name) is None else f"[grids.{self.grid_name(name)}]"
        with naming(f"{self.path.name}, {where}"):
            return part.made(self.site.boundary, self._near(name), self.source)

    def heads_before(self, grid: Grid) -> Any:
        """Return what a run through time begins with, (n_cells,) [m]; None if with a steady solution."""
        time = self.asked.time
        if time is not None and time.initial_run is not None:
            with self.inputs.reading(f"{time.initial_run}/heads.nc") as path:
                return read_last_heads(path, grid)
        return None if self.initial_heads is None else self.initial_heads.at(grid.cells.x, grid.cells.y)
