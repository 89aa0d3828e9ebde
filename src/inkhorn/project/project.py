"""Reading a project: its file and the data it names, into a site and what is asked of it."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.errors import InputError, did_you_mean, gathering, naming
from inkhorn.files import read_last_heads, read_picture, read_raster
from inkhorn.model import Finding, dimension_of
from inkhorn.project.inputs import Inputs
from inkhorn.project.parts_grid import FileMeshPart, MeshPart
from inkhorn.project.parts_site import SpeciesPart
from inkhorn.project.project_file import ProjectFile
from inkhorn.project.read_features import FeatureReader
from inkhorn.project.read_strata import StrataReader
from inkhorn.project.source import Source
from inkhorn.project.unusual import unusual
from inkhorn.project.variants import variant_file
from inkhorn.site import (
    Bore,
    Edit,
    Feature,
    FreundlichSorption,
    LangmuirSorption,
    LinearSorption,
    Material,
    Picture,
    Series,
    Site,
    Sorption,
    Species,
    Zones,
    kinds,
    properties,
    value_named,
)
from inkhorn.space import CellSurface, Grid, PlanMesh, Surface, layered
from inkhorn.unit_choice import UnitChoice

__all__ = ["Project", "read_project", "read_site"]


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


def _series_of(thing: Feature | Any) -> list[Series]:
    """The values of a feature or an edit that change in time."""
    values = [getattr(thing, f.name) for f in fields(thing)]
    return [v for v in values if isinstance(v, Series)]


class _Reader:
    """Reads all that a project file names, and makes the site of it."""

    def __init__(self, path: Path, variant: Path | None = None) -> None:
        self.source = Source(path, variant)
        self.asked = self.source.asked
        self.strata = StrataReader(self.source)
        self.features = FeatureReader(self.source, self.strata)

    def boundary(self) -> Any:
        import shapely

        part = self.asked.boundary
        if part.sides is not None:
            boundary = shapely.box(*part.sides)
            if part.crs is not None:
                self.source.metres_of(part.crs, self.source.path.name, "boundary", "crs", bounds=part.sides)
        else:
            shapes = self.source.shapes(part, ("Polygon",), "boundary", "file")
            if len(shapes) != 1:
                raise InputError(
                    f"{part.file} ({self.source.by('boundary', 'file')}) holds {len(shapes)} polygons; the boundary is "
                    "one."
                )
            boundary = shapes[0].geometry
        if self.asked.boundary.holes is None:
            return boundary
        left = boundary.difference(self.source.union(self.asked.boundary.holes, "boundary", "holes"))
        if left.geom_type != "Polygon" or left.is_empty:
            raise InputError(
                f"{self.source.by('boundary', 'holes')}: without its holes the boundary falls into several parts, or "
                "nothing is left. Let holes lie inside it."
            )
        return left

    def materials(self) -> dict[str, Material]:
        made = {}
        for name, part in self.asked.material.items():
            try:
                stated = part.model_dump()
                own = {k: v for k, v in stated.items() if k in Material.__dataclass_fields__}
                further = {k: v for k, v in stated.items() if k not in own and v is not None}
                made[name] = Material(name, **own, further=further)
            except InputError as problem:
                raise InputError(f"{self.source.by('material', name)}: {problem}") from None
        for k, layer in enumerate(self.asked.layer):
            if layer.material not in made:
                raise InputError(
                    f'{self.source.by("layer", k, "material")}: layer "{layer.name}" is made of "{layer.material}"; '
                    f"known materials are {list(made)}."
                )
        return {layer.name: made[layer.material] for layer in self.asked.layer}

    def zones(self) -> dict[str, Zones]:
        """Make the divisions of the site into zones."""
        found = {}
        for name, part in self.asked.zones.items():
            source, layers = self.source.by("zones", name), tuple(part.layers)
            if part.file is not None and part.name is not None:
                shapes = self.source.shapes(part, ("Polygon", "MultiPolygon"), "zones", name)
                names = tuple(str(s.attribute(str(part.name.column))) for s in shapes)
                found[name] = Zones(names, tuple(s.geometry for s in shapes), layers=layers, source=source)
                continue
            with self.source.inputs.reading(str(part.raster)) as path:
                raster, crs = read_raster(path, asked_by=f"named in {source}")
            raster = raster.scaled(self.source.metres_of(crs, str(part.raster), "zones", name)[0])
            code_of = {code: zone for zone, code in part.codes.items()}
            found[name] = Zones(
                tuple(part.codes), codes=raster, code_of=code_of, layers=layers, source=source
            )
        return found

    def bores(self) -> tuple[Bore, ...]:
        part = self.asked.bores
        if part is None:
            return ()
        table = self.source.points(part.file, "bores", "file", sheet=part.sheet)
        dips = self.source.table(part.levels, "bores", "levels", sheet=part.levels_sheet)
        with gathering() as tried:
            names, layers = tried(table.text, "name"), tried(table.text, "layer")
            places = tried(self.source.on_map, table, part.local, "bores", "local")
            whose = np.array(tried(dips.text, "name"))
            dates = tried(dips.dates, "date")
            by_depth = dips.has("depth") and not dips.has("level")
            levels = tried(dips.numbers, *(("depth", "length") if by_depth else ("level", "elevation")))
            points = tried(table.numbers, "measuring_point", "elevation") if by_depth else None
        x, y = places
        unknown = np.flatnonzero(~np.isin(whose, names))
        if len(unknown):
            raise InputError(
                f'{dips.row(int(unknown[0]))}: the bore "{whose[unknown[0]]}" is not in {part.file}. Add it there.'
            )
        if points is not None:
            point = dict(zip(names, points, strict=True))
            levels = np.array([point[n] for n in whose]) - levels
        return tuple(
            Bore(
                name,
                x[k],
                y[k],
                layers[k],
                dates=dates[whose == name],
                levels=levels[whose == name],
                source=table.row(k),
            )
            for k, name in enumerate(names)
        )

    def initial_heads(self) -> Surface | None:
        """Make the heads that a run through time begins with."""
        part = self.asked.time.initial_heads if self.asked.time is not None else None
        return None if part is None else self.strata.surface(part, "time", "initial_heads")

    def regions(self) -> dict[str, Any]:
        """Read the polygons of the regions whose budget is wanted."""
        return {
            part.name: None if part.within is None else self.source.union(part.within, "region", k, "within")
            for k, part in enumerate(self.asked.region)
        }

    def starts(self) -> dict[str, Any]:
        """Read the polygons in which paths begin."""
        return {
            part.name: self.source.union(part.within, "paths", k, "within")
            for k, part in enumerate(self.asked.paths)
            if part.within is not None
        }

    def lines(self) -> dict[str, Any]:
        """Read the lines across which flow is wanted."""
        import shapely

        found = {}
        for k, part in enumerate(self.asked.across):
            if part.line is not None:
                found[part.name] = shapely.LineString(part.line)
                continue
            shapes = self.source.shapes(part, ("LineString",), "across", k, "file")
            if len(shapes) != 1:
                raise InputError(
                    f"{part.file} ({self.source.by('across', k, 'file')}) holds {len(shapes)} lines; expected one. Give "
                    "each a table [[across]] of its own."
                )
            found[part.name] = shapes[0].geometry
        return found

    def site(self) -> Site:
        """Make the site."""
        asked = self.asked
        with gathering() as tried:  # what is wrong with one does not hide what is with the others
            boundary = tried(self.boundary)
            strata = tried(self.strata.strata)
            materials = tried(self.materials)
            found = tried(self.features.features)
            bores = tried(self.bores)
            zones = tried(self.zones)
            picture = tried(self.picture)
        features = tuple(f for f in found if f.name not in asked.leave_out)
        names = Counter(f.name for f in features)
        for feature in features:
            if names[feature.name] > 1:
                raise InputError(
                    f"{feature.where}: there is another feature of that name. Give each its own."
                )
        edits = tuple(self.features.edits(features))
        changing = [s for thing in (*features, *edits) for s in _series_of(thing)]
        return Site(
            boundary=boundary,
            strata=strata,
            materials=materials,
            features=features,
            bores=bores,
            species=tuple(_species(k, s, self.source) for k, s in enumerate(asked.species)),
            name=asked.title,
            crs=self.source.crs.used if self.source.crs else None,
            picture=picture,
            schedule=self.features.schedule(changing),
            edits=edits,
            zones=zones,
        )

    def near_shapes(self) -> dict[tuple[str | None, int], list[Any]]:
        """Read the shapes near which cells of the grids are to be small."""
        found: dict[tuple[str | None, int], list[Any]] = {}
        with gathering() as tried:
            for name, part in [(None, self.asked.grid), *self.asked.grids.items()]:
                for k, near in enumerate(part.near_parts):
                    if near.file is not None:
                        key = ("grid", "near", k) if name is None else ("grids", name, "near", k)
                        shapes = tried(self.source.shapes, near, _ANY_SHAPE, *key)
                        found[name, k] = [s.geometry for s in shapes or ()]
        return found

    def picture(self) -> Picture | None:
        """Read the picture to lay under maps."""
        name = self.asked.draw.picture
        if name is None:
            return None
        with self.source.inputs.reading(name) as path:
            picture, crs = read_picture(path, asked_by=f"named in {self.source.by('draw', 'picture')}")
        factor, _ = self.source.metres_of(crs, name, "draw", "picture")
        west, east, south, north = (factor * v for v in picture.extent)
        return replace(picture, extent=(west, east, south, north))

    def check_names(self, site: Site) -> None:
        """See that what is asked for is there."""

        def known(names: list[str], have: list[str], what: str, *key: Any) -> None:
            for name in names:
                if name not in have:
                    raise InputError(
                        f'{self.source.by(*key)}: there is no {what} "{name}"; expected one of {have}.'
                    )

        asked, wells = self.asked, [w.name for w in site.wells]
        layers = list(dict.fromkeys([*site.strata.names, *site.strata.whole_names]))
        if asked.use_grid is not None:
            known([asked.use_grid], list(asked.grids), "grid", "use_grid")
        species = [s.name for s in site.species]
        watched = [f.name for f in site.features] + [b.name for b in site.bores]
        for k, paths in enumerate(asked.paths):
            known(paths.wells, wells, "well", "paths", k, "wells")
            known(
                paths.stop_in_regions, [r.name for r in asked.region], "region", "paths", k, "stop_in_regions"
            )
            known(paths.bores, [b.name for b in site.bores], "bore", "paths", k, "bores")
            known(paths.layers, layers, "layer", "paths", k, "layers")
            known(list(paths.retardation), list(asked.material), "material", "paths", k, "retardation")
        for k, plume in enumerate(asked.transport):
            known(plume.of, species, "species", "transport", k, "species")
            known(plume.watch, watched, "well, feature or bore", "transport", k, "watch")
            regions = [r.name for r in asked.region]
            known(plume.only_in_regions, regions, "region", "transport", k, "only_in_regions")
            known(plume.across, [a.name for a in asked.across], "line", "transport", k, "across")
        for k, dissolved in enumerate(asked.species):
            known(list(dissolved.daughters), species, "species", "species", k, "daughters")
        for k, region in enumerate(asked.region):
            known(region.layers, layers, "layer", "region", k, "layers")
            known(region.materials, list(asked.material), "material", "region", k, "materials")
        if asked.fit is not None:
            known(asked.fit.conductivity_of, layers, "layer", "fit", "conductivity_of")
        places = [f.name for f in site.features] + [b.name for b in site.bores]
        grids: list[tuple[tuple[str, ...], MeshPart]] = [(("grid",), asked.grid)]
        grids += [(("grids", name), grid) for name, grid in asked.grids.items()]
        for path, grid in grids:
            for j, near in enumerate(grid.near_parts):
                known(near.features, places, "feature or bore", *path, "near", j)
            known(getattr(grid, "left_out", []), places, "feature or bore", *path, "left_out")
            for key in ("max_splits", "layer_cell"):
                known(list(getattr(grid, key, {})), layers, "layer", *path, key)
        for group in kinds():
            for k, part in enumerate(getattr(asked, group)):
                known(list(getattr(part, "concentration", {})), species, "species", group, k, "concentration")


def _species(k: int, part: SpeciesPart, source: Source) -> Species:
    """A species, with its law of sorption."""
    law: Sorption | None = None
    try:
        if part.distribution is not None:
            law = LinearSorption(part.distribution)
        elif part.freundlich is not None:
            law = FreundlichSorption(part.freundlich.coefficient, part.freundlich.exponent)
        elif part.langmuir is not None:
            law = LangmuirSorption(part.langmuir.capacity, part.langmuir.half_at)
        return Species(
            part.name,
            part.unit,
            initial=part.initial,
            limit=part.limit,
            background=part.background,
            sorption=law,
            half_life=part.half_life,
            sorbed_half_life=part.sorbed_half_life,
            production=part.production,
            daughters=part.daughters,
            diffusion=part.diffusion,
            taken_by_plants=part.taken_by_plants,
        )
    except InputError as problem:
        raise InputError(f"{source.by('species', k)}: {problem}") from None


def read_project(path: str | Path, *, variant: str | None = None) -> Project:
    """Read a project file and all that it names.

    Parameters
    ----------
    path : str or Path
        A TOML file; other files are looked for from its folder.
    variant : str, optional
        The name of a file in the folder ``variants`` beside it that says what differs. Of a project file that a run
        kept among its inputs it is that of the run if not given; so is the grid.

    Returns
    -------
    Project

    Raises
    ------
    InputError
        Naming file, line and remedy.
    """
    path = Path(path)
    variant = variant if variant is not None else Inputs(path).as_run.get("variant")
    reader = _Reader(path, variant_file(path, variant) if variant is not None else None)
    site, source = reader.site(), reader.source
    reader.check_names(site)
    further: dict[str, Any] = {
        "initial_heads": reader.initial_heads(),
        "regions": reader.regions(),
        "starts": reader.starts(),
        "lines": reader.lines(),
        "near_shapes": reader.near_shapes(),
    }
    return Project(
        path,
        site,
        reader.asked,
        source,
        variant,
        tuple(source.changes),
        findings=(*source.findings, *unusual(reader.asked, source.places)),
        **further,
    )


def read_site(path: str | Path, *, variant: str | None = None) -> Site:
    """Read the site of a project file; see `read_project`.

    Raises
    ------
    InputError
        As `read_project`.
    """
    return read_project(path, variant=variant).site
