"""Reading a project: its file and the data it names, into a site and what is asked of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.errors import InputError, did_you_mean
from inkhorn.files.meshes import read_mesh
from inkhorn.files.pictures import read_picture
from inkhorn.files.project_file import (
    Column,
    GridPart,
    LayerPart,
    ProjectFile,
    ShapeFile,
    SurfacePart,
    WellsPart,
    load_project_file,
)
from inkhorn.files.rasters import read_raster
from inkhorn.files.shapes import Shape, read_shapes
from inkhorn.files.tables import Table, read_table
from inkhorn.site import (
    Bore,
    Drain,
    Feature,
    FixedHead,
    Material,
    Picture,
    Recharge,
    River,
    Site,
    Species,
    Well,
)
from inkhorn.space import (
    Band,
    BetweenSurface,
    BoundedSurface,
    ConstantSurface,
    Grid,
    Layer,
    OffsetSurface,
    PatchedSurface,
    PlanMesh,
    PointSurface,
    Strata,
    Surface,
    Variogram,
    ZonedSurface,
    layered,
    rectangles,
    split_in_four,
    voronoi,
)
from inkhorn.units import UnitSystem, unit_factor

__all__ = ["Project", "read_project", "read_site"]


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
    files : tuple of Path
        Every file that was read, the project file first.
    """

    path: Path
    site: Site
    asked: ProjectFile = field(repr=False)
    files: tuple[Path, ...] = field(repr=False, default=())

    def grid(self, name: str | None = None) -> Grid:
        """Return the grid that the project asks for, or one of its others by name.

        Raises
        ------
        InputError
            If there is no grid of that name, or it cannot be made.
        """
        part = self._grid_part(name)
        return layered(self.mesh(name), self.site.strata, most_splits=part.most_splits)

    def _grid_part(self, name: str | None) -> GridPart:
        if name is not None and name not in self.asked.grids:
            known = list(self.asked.grids)
            raise InputError(
                f'{self.path.name} has no grid "{name}"; it has {known}.{did_you_mean(name, known)} '
                f"Add a table [grids.{name}]."
            )
        return self.asked.grid if name is None else self.asked.grids[name]

    def _near(self, part: GridPart) -> list[tuple[list[Any], float]]:
        """Features and bores near which cells are to be small, and how small."""
        places: dict[str, Any] = {b.name: b for b in self.site.bores}
        places |= {f.name: f for f in self.site.features}
        kinds: dict[str, list[str]] = {"bore": [b.name for b in self.site.bores]}
        for feature in self.site.features:
            kinds.setdefault(feature.kind, []).append(feature.name)
        found = []
        for near in part.near:
            names = dict.fromkeys([*near.features, *(n for k in near.kinds for n in kinds.get(k, []))])
            found.append(([places[n] for n in names if n not in part.left_out], near.size))
        return found

    def mesh(self, name: str | None = None) -> PlanMesh:
        """Return the plan mesh of the grid that the project asks for, or of one of its others by name.

        Raises
        ------
        InputError
            If there is no grid of that name, or it cannot be made.
        """
        part, outline = self._grid_part(name), self.site.boundary
        if part.kind == "file":
            assert part.file is not None  # the file's model sees to that
            return read_mesh(self.path.parent / part.file, table=part.table).mesh
        near = self._near(part)
        if part.kind == "voronoi":
            return voronoi(
                outline,
                size=part.cell,
                cells=part.count,  # type: ignore[arg-type]  # one number, the file's model has seen to that
                near=near,
                boundary=part.boundary,
                growth=part.growth or 1.3,
                rounds=part.rounds,
                seed=part.seed,
            )
        frame: dict[str, Any] = {k: getattr(part, k) for k in ("cell", "count", "margin", "rotation", "keep")}
        if part.kind == "split":
            return split_in_four(outline, near=near, ring=part.ring, **frame)
        bands = [Band(b.axis, b.start, b.end, b.size) for b in part.band]
        return rectangles(outline, growth=part.growth or 1.5, bands=bands, near=near, **frame)


def _parts(layer: LayerPart) -> int:
    """Into how many parts a layer is split, 0 for none."""
    return 0 if layer.parts is None else layer.parts if isinstance(layer.parts, int) else len(layer.parts)


class _Reader:
    """Follows the files that a project file names, from the folder it stands in."""

    def __init__(self, path: Path) -> None:
        self.path, self.folder = path, path.parent
        self.asked, self.places = load_project_file(path)
        u = self.asked.units
        self.units = UnitSystem(u.length, u.time, u.concentration)
        self.files: dict[Path, None] = {path: None}
        self.crs: tuple[str, str] | None = None  # the CRS, and the file that stated it first
        self.surfaces: dict[str, Surface] = {}

    def by(self, *key: Any) -> str:
        """Say where a key stands."""
        return f"{self.path.name}, line {self.places.of(key)}"

    def table(self, file: str, *key: Any, sheet: str | None = None) -> Table:
        asked_by = f"named in {self.by(*key)}"
        table = read_table(self.folder / file, units=self.units, sheet=sheet, asked_by=asked_by)
        self.files[self.folder / file] = None
        return table

    def on_map(self, table: Table, local: bool, *key: Any, x: str = "x", y: str = "y") -> tuple[Any, Any]:
        """Read places on the map, from columns in its coordinates or in local ones."""
        u, v = table.numbers(x, "length"), table.numbers(y, "length")
        if not local:
            return u, v
        frame = self.asked.local
        if frame is None:
            raise InputError(
                f"{self.by(*key)}: local coordinates need a table that places them, as in\n"
                "[local]\norigin = [3500, 2100]\nrotation = 30"
            )
        c, s = np.cos(np.deg2rad(frame.rotation)), np.sin(np.deg2rad(frame.rotation))
        return frame.origin[0] + c * u - s * v, frame.origin[1] + s * u + c * v

    def shapes(self, part: Any, kinds: tuple[str, ...], *key: Any) -> list[Shape]:
        shapes, crs = read_shapes(
            self.folder / part.file, table=part.table, kinds=kinds, asked_by=f"named in {self.by(*key)}"
        )
        self.files[self.folder / part.file] = None
        self._same_crs(crs, part.file, *key)
        return shapes

    def _same_crs(self, crs: str | None, file: str, *key: Any) -> None:
        """See that all files that state a coordinate system state the same."""
        if crs is None:
            return
        if self.crs is not None and self.crs[0] != crs:
            raise InputError(
                f"{file} is in {crs}, but {self.crs[1]} is in {self.crs[0]} ({self.by(*key)}). "
                "Bring both to one coordinate system."
            )
        self.crs = self.crs or (crs, file)

    def surface(self, part: SurfacePart, *key: Any) -> Surface:
        """Make a surface; those it names must stand above it in the file."""
        made = self._surface_alone(part, *key)
        if part.never_above is not None or part.never_below is not None:
            below, above = (
                None if name is None else self._known_surface(name, *key)
                for name in (part.never_above, part.never_below)
            )
            made = BoundedSurface(made, below=below, above=above)
        return made

    def _known_surface(self, name: str, *key: Any) -> Surface:
        if name not in self.surfaces:
            known = list(self.surfaces)
            raise InputError(
                f'{self.by(*key)}: there is no surface "{name}" above this one; expected one of {known}, which are '
                f"the ground and the bases of layers.{did_you_mean(name, known)}"
            )
        return self.surfaces[name]

    def _surface_alone(self, part: SurfacePart, *key: Any) -> Surface:
        if part.elevation is not None:
            return ConstantSurface(part.elevation)
        if part.raster is not None:
            metre = unit_factor(self.units.length, "length")
            raster, crs = read_raster(
                self.folder / part.raster, factor=metre, asked_by=f"named in {self.by(*key)}"
            )
            self.files[self.folder / part.raster] = None
            self._same_crs(crs, part.raster, *key)
            return raster
        if part.under is not None:
            return OffsetSurface(self._known_surface(part.under, *key), -part.depth)
        if part.between is not None:
            upper, lower = (self._known_surface(name, *key) for name in part.between)
            return BetweenSurface(upper, lower, part.share)
        if part.polygons is not None:
            shapes = self.shapes(
                ShapeFile(file=part.polygons, table=part.table), ("Polygon", "MultiPolygon"), *key
            )
            heights = tuple(shape.number(part.z, "length", units=self.units) for shape in shapes)
            return ZonedSurface(tuple(s.geometry for s in shapes), heights, f"{part.z} of {part.polygons}")
        assert part.points is not None  # the file's model sees to that
        table = self.table(part.points, *key, sheet=part.sheet)
        x, y = self.on_map(table, part.local, *key, x=part.x, y=part.y)
        z = table.numbers(part.z, "length")
        _, first, group = np.unique(np.column_stack([x, y]), axis=0, return_index=True, return_inverse=True)
        twice = np.flatnonzero(z != z[first][group.ravel()])
        if len(twice):
            k, other = int(twice[0]), int(first[group.ravel()[twice[0]]])
            raise InputError(
                f"{table.row(k)}: the point x={x[k]:g}, y={y[k]:g} has {part.z} {z[k]:g} m, but {z[other]:g} m in "
                f"{table.row(other)} ({len(twice)} such points). Keep one of them."
            )
        kept = np.sort(first)  # a point that stands twice alike counts once
        x, y, z = x[kept], y[kept], z[kept]
        curve = Variogram(**part.variogram.model_dump()) if part.variogram is not None else Variogram()
        return PointSurface(
            x,
            y,
            z,
            name=f"{part.z} of {part.points}",
            method=part.method,
            neighbours=part.neighbours,
            power=part.power,
            variogram=curve,
            source=tuple(table.row(int(k)) for k in kept),
        )

    def strata(self) -> Strata:
        """Make the ground and the layers, each base known to those below it by its layer's name."""
        ground = self.surfaces["ground"] = self.surface(self.asked.ground, "ground")
        layers = []
        for k, part in enumerate(self.asked.layer):
            base = self.surface(part.base, "layer", k, "base")
            for j, change in enumerate(part.change):
                other = self.surface(change.base, "layer", k, "change", j, "base")
                for shape in self.shapes(change, ("Polygon", "MultiPolygon"), "layer", k, "change", j):
                    base = PatchedSurface(base, shape.geometry, other)
            self.surfaces[part.name] = base
            hole = None
            if part.taken_out is not None:
                hole = self.union(part.taken_out, "layer", k, "taken_out")
            layers.append(Layer(part.name, base, part.least_thickness, part.where_thin, part.base_wins, hole))
        strata = Strata(ground, tuple(layers))
        for k, part in enumerate(self.asked.layer):
            if part.parts is not None:
                try:
                    strata = strata.split(part.name, part.parts)
                except InputError as problem:
                    raise InputError(f"{self.by('layer', k, 'parts')}: {problem}") from None
        return strata

    def features(self) -> Iterator[Feature]:
        makers: list[tuple[str, Any, Callable[[Any, Shape], dict[str, Any]]]] = [
            ("fixed_head", FixedHead, self._fixed_head),
            ("river", River, self._river),
            ("drain", Drain, self._drain),
            ("recharge", Recharge, self._recharge),
        ]
        for group, kind, values in makers:
            for k, part in enumerate(getattr(self.asked, group)):
                shapes = self.shapes(part, kind.shapes, group, k)
                if len(shapes) > 1 and isinstance(part.name, str):
                    raise InputError(
                        f"{self.by(group, k, 'name')}: {part.file} holds {len(shapes)} shapes, which cannot all be "
                        f'called "{part.name}". Take the names from a column: name = {{ column = "…" }}.'
                    )
                for shape in shapes:
                    name = shape.attribute(part.name.column) if isinstance(part.name, Column) else part.name
                    yield kind(
                        name=str(name), source=shape.source, shape=shape.geometry, **values(part, shape)
                    )
        if self.asked.wells is not None:
            yield from self._wells(self.asked.wells)

    def _value(self, value: Any, shape: Shape, kind: str) -> Any:
        if isinstance(value, Column):
            return shape.number(value.column, kind, unit=value.unit, units=self.units)
        return value

    def _fixed_head(self, part: Any, shape: Shape) -> dict[str, Any]:
        return {"head": self._value(part.head, shape, "length"), "every_layer": part.every_layer}

    def _river(self, part: Any, shape: Shape) -> dict[str, Any]:
        levels = {k: self._value(getattr(part, k), shape, "length") for k in ("stage", "bed")}
        return {**levels, **{k: getattr(part, k) for k in ("width", "bed_thickness", "bed_conductivity")}}

    def _drain(self, part: Any, shape: Shape) -> dict[str, Any]:
        return {"level": self._value(part.level, shape, "length"), "conductance": part.conductance}

    def _recharge(self, part: Any, shape: Shape) -> dict[str, Any]:
        return {"rate": self._value(part.rate, shape, "rate"), "concentration": part.concentration}

    def _wells(self, part: WellsPart) -> Iterator[Feature]:
        table = self.table(part.file, "wells", "file", sheet=part.sheet)
        if not (table.has("abstraction") or table.has("injection")):
            table.text("abstraction")  # says what is missing
        x, y = self.on_map(table, part.local, "wells", "local")
        lengths = {k: table.numbers(k, "length") for k in ("screen_top", "screen_bottom")}
        lengths |= {"x": x, "y": y}
        lengths["radius"] = table.numbers("radius", "length", default=0.15)
        flows = {k: table.numbers(k, "flow", default=0.0) for k in ("abstraction", "injection")}
        for k, name in enumerate(table.text("name")):
            values: dict[str, Any] = {key: float(v[k]) for key, v in {**lengths, **flows}.items()}
            yield Well(name=name, source=table.row(k), **values)

    def bores(self) -> tuple[Bore, ...]:
        part = self.asked.bores
        if part is None:
            return ()
        table = self.table(part.file, "bores", "file", sheet=part.sheet)
        dips = self.table(part.levels, "bores", "levels", sheet=part.levels_sheet)
        names, layers = table.text("name"), table.text("layer")
        x, y = self.on_map(table, part.local, "bores", "local")
        whose = np.array(dips.text("name"))
        unknown = np.flatnonzero(~np.isin(whose, names))
        if len(unknown):
            raise InputError(
                f'{dips.row(int(unknown[0]))}: the bore "{whose[unknown[0]]}" is not in {part.file}. Add it there.'
            )
        dates, levels = dips.dates("date"), dips.numbers("level", "length")
        return tuple(
            Bore(name, x[k], y[k], layers[k], dates[whose == name], levels[whose == name], table.row(k))
            for k, name in enumerate(names)
        )

    def boundary(self) -> Any:
        shapes = self.shapes(self.asked.boundary, ("Polygon",), "boundary", "file")
        if len(shapes) != 1:
            raise InputError(
                f"{self.asked.boundary.file} ({self.by('boundary', 'file')}) holds {len(shapes)} polygons; "
                "the boundary is one."
            )
        boundary = shapes[0].geometry
        if self.asked.boundary.holes is None:
            return boundary
        left = boundary.difference(self.union(self.asked.boundary.holes, "boundary", "holes"))
        if left.geom_type != "Polygon" or left.is_empty:
            raise InputError(
                f"{self.by('boundary', 'holes')}: without its holes the boundary falls into several parts, or "
                "nothing is left. Let holes lie inside it."
            )
        return left

    def union(self, part: Any, *key: Any) -> Any:
        """Join all polygons of a file to one shape."""
        import shapely

        shapes = self.shapes(part, ("Polygon", "MultiPolygon"), *key)
        return shapely.union_all([s.geometry for s in shapes])

    def materials(self) -> dict[str, Material]:
        made = {
            name: Material(name, m.conductivity, m.vertical_ratio, m.porosity)
            for name, m in self.asked.material.items()
        }
        for k, layer in enumerate(self.asked.layer):
            if layer.material not in made:
                raise InputError(
                    f'{self.by("layer", k, "material")}: layer "{layer.name}" is made of "{layer.material}"; '
                    f"known materials are {list(made)}."
                )
        names = {layer.name: layer.material for layer in self.asked.layer}
        parted = {
            f"{part.name} {k + 1}": part.material for part in self.asked.layer for k in range(_parts(part))
        }
        return {name: made[material] for name, material in {**names, **parted}.items()}

    def site(self) -> Site:
        asked = self.asked
        return Site(
            boundary=self.boundary(),
            strata=self.strata(),
            materials=self.materials(),
            features=tuple(self.features()),
            bores=self.bores(),
            species=tuple(Species(s.name, s.unit, s.start, s.limit) for s in asked.species),
            name=asked.title,
            crs=self.crs[0] if self.crs else None,
            picture=self.picture(),
        )

    def picture(self) -> Picture | None:
        """Read the picture to lay under maps."""
        name = self.asked.draw.picture
        if name is None:
            return None
        picture, crs = read_picture(self.folder / name, asked_by=f"named in {self.by('draw', 'picture')}")
        self._same_crs(crs, name, "draw", "picture")
        self.files[self.folder / name] = None
        return picture

    def check_names(self, site: Site) -> None:
        """See that what is asked for is there."""

        def known(names: list[str], have: list[str], what: str, *key: Any) -> None:
            for name in names:
                if name not in have:
                    raise InputError(f'{self.by(*key)}: there is no {what} "{name}"; expected one of {have}.')

        asked, wells = self.asked, [w.name for w in site.wells]
        species = [s.name for s in site.species]
        if asked.paths is not None:
            known(asked.paths.wells, wells, "well", "paths", "wells")
        if asked.transport is not None:
            known([asked.transport.species], species, "species", "transport", "species")
            known(asked.transport.watch, wells, "well", "transport", "watch")
        if asked.fit is not None:
            known(asked.fit.conductivity_of, list(site.strata.names), "layer", "fit", "conductivity_of")
        places = [f.name for f in site.features] + [b.name for b in site.bores]
        grids: list[tuple[tuple[str, ...], GridPart]] = [(("grid",), asked.grid)]
        grids += [(("grids", name), grid) for name, grid in asked.grids.items()]
        for path, grid in grids:
            for j, near in enumerate(grid.near):
                known(near.features, places, "feature or bore", *path, "near", j)
            known(grid.left_out, places, "feature or bore", *path, "left_out")
            known(list(grid.most_splits), list(site.strata.names), "layer", *path, "most_splits")
        for k, part in enumerate(asked.recharge):
            known(list(part.concentration), species, "species", "recharge", k, "concentration")


def read_project(path: str | Path) -> Project:
    """Read a project file and all that it names.

    Parameters
    ----------
    path : str or Path
        A TOML file; other files are looked for from its folder.

    Returns
    -------
    Project

    Raises
    ------
    InputError
        Naming file, line and remedy.
    """
    reader = _Reader(Path(path))
    site = reader.site()
    reader.check_names(site)
    return Project(Path(path), site, reader.asked, tuple(reader.files))


def read_site(path: str | Path) -> Site:
    """Read the site of a project file; see `read_project`."""
    return read_project(path).site
