"""Reading a project: its file and the data it names, into a site and what is asked of it."""

from __future__ import annotations

from collections import Counter
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from inkhorn.errors import InputError, gathering
from inkhorn.files import read_picture, read_raster
from inkhorn.project.inputs import Inputs
from inkhorn.project.parts import ShapeFile
from inkhorn.project.parts_grid import MeshPart
from inkhorn.project.parts_site import SpeciesPart
from inkhorn.project.project import Project
from inkhorn.project.read_features import FeatureReader
from inkhorn.project.read_fit import FitReader
from inkhorn.project.read_strata import StrataReader
from inkhorn.project.read_vary import VaryReader
from inkhorn.project.source import Source
from inkhorn.project.unusual import unusual
from inkhorn.project.variants import variant_file
from inkhorn.site import (
    ConduitSpring,
    Feature,
    FreundlichSorption,
    LangmuirSorption,
    LinearSorption,
    Material,
    Picture,
    QuickRecharge,
    Series,
    Sinkhole,
    Site,
    Sorption,
    Species,
    Zones,
    kinds,
)
from inkhorn.space import Surface

__all__ = ["read_project", "read_site"]

_ANY_SHAPE = ("Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon")


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
        self.fit = FitReader(self.source)
        self.vary = VaryReader(self.source, self.strata)

    def boundary(self) -> Any:
        import shapely

        if self.asked.cut_from is not None and not self.asked.cut_from.whole:
            return self._outline(self.asked.cut_from.outline)
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

    def _outline(self, part: ShapeFile | list[tuple[float, float]]) -> Any:
        """The outline of a local model."""
        import shapely

        key = ("cut_from", "outline")
        if isinstance(part, ShapeFile):
            shapes = self.source.shapes(part, ("Polygon",), *key)
            if len(shapes) != 1:
                raise InputError(
                    f"{part.file} ({self.source.by(*key)}) holds {len(shapes)} polygons; the outline is one."
                )
            return shapes[0].geometry
        if len(part) < 3:
            raise InputError(
                f"{self.source.by(*key)}: the outline has {len(part)} corners; expected three or more."
            )
        outline = shapely.Polygon(part)
        if not outline.is_valid:
            raise InputError(
                f"{self.source.by(*key)}: the outline is not valid: {shapely.is_valid_reason(outline)}."
            )
        return outline

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
            bores = tried(self.fit.bores)
            lines = tried(self.lines)
            measurements = tried(self.fit.measurements, lines)
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
            measurements=measurements,
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
            ways: tuple[type[Feature], ...] = (Sinkhole, QuickRecharge)
            what = "sinkhole or quick recharge"
            if paths.direction == "backward":
                ways, what = (ConduitSpring,), "spring of conduits"
            known(
                paths.conduits,
                [f.name for f in site.features if isinstance(f, ways)],
                what,
                "paths",
                k,
                "conduits",
            )
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
        for k, fit in enumerate(asked.fit):
            known(fit.conductivity_of, layers, "layer", "fit", k, "conductivity_of")
        bores = [b.name for b in site.bores]
        features = [f.name for f in site.features]
        for k, measured in enumerate(asked.measured):
            known([n for n in (measured.drawdown_in,) if n], bores, "bore", "measured", k, "drawdown_in")
            known(list(measured.between or ()), bores, "bore", "measured", k, "between")
            known(measured.gain_of, features, "feature", "measured", k, "gain_of")
            known(measured.layers, layers, "layer", "measured", k, "layers")
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
    lines = reader.lines()
    further: dict[str, Any] = {
        "initial_heads": reader.initial_heads(),
        "regions": reader.regions(),
        "starts": reader.starts(),
        "lines": lines,
        "near_shapes": reader.near_shapes(),
        "fits": reader.fit.plans(site),
        "varies": reader.vary.plans(site, lines),
        "forecasts": reader.fit.places(reader.asked.forecast, lines, "forecast"),
        "candidates": reader.fit.places(reader.asked.candidate, lines, "candidate"),
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
