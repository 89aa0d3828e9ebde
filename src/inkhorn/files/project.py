"""Reading a project: its file and the data it names, into a site and what is asked of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.errors import InputError
from inkhorn.files.project_file import (
    Column,
    ProjectFile,
    SurfacePart,
    load_project_file,
)
from inkhorn.files.shapes import Shape, read_shapes
from inkhorn.files.tables import Table, read_table
from inkhorn.site import Bore, Drain, Feature, FixedHead, Material, Recharge, River, Site, Species, Well
from inkhorn.space import ConstantSurface, Layer, PointSurface, RectangularMesh, Strata, Surface, rectangles
from inkhorn.units import UnitSystem

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

    def mesh(self) -> RectangularMesh:
        """Return the plan mesh that the project asks for."""
        return rectangles(self.site.boundary, cell=self.asked.grid.cell)


class _Reader:
    """Follows the files that a project file names, from the folder it stands in."""

    def __init__(self, path: Path) -> None:
        self.path, self.folder = path, path.parent
        self.asked, self.places = load_project_file(path)
        u = self.asked.units
        self.units = UnitSystem(u.length, u.time, u.concentration)
        self.files: dict[Path, None] = {path: None}
        self.crs: tuple[str, str] | None = None  # the CRS, and the file that stated it first

    def by(self, *key: Any) -> str:
        """Say where a key stands."""
        return f"{self.path.name}, line {self.places.of(key)}"

    def table(self, file: str, *key: Any) -> Table:
        table = read_table(self.folder / file, units=self.units, asked_by=f"named in {self.by(*key)}")
        self.files[self.folder / file] = None
        return table

    def shapes(self, part: Any, kinds: tuple[str, ...], *key: Any) -> list[Shape]:
        shapes, crs = read_shapes(
            self.folder / part.file, table=part.table, kinds=kinds, asked_by=f"named in {self.by(*key)}"
        )
        self.files[self.folder / part.file] = None
        if crs is not None:
            if self.crs is not None and self.crs[0] != crs:
                raise InputError(
                    f"{part.file} is in {crs}, but {self.crs[1]} is in {self.crs[0]} ({self.by(*key)}). "
                    "Bring both to one coordinate system."
                )
            self.crs = self.crs or (crs, part.file)
        return shapes

    def surface(self, part: SurfacePart, name: str, *key: Any) -> Surface:
        if part.points is None:
            assert part.elevation is not None  # the file's model sees to that
            return ConstantSurface(part.elevation)
        table = self.table(part.points, *key)
        x, y, z = (table.numbers(axis, "length") for axis in ("x", "y", part.z))
        _, first, count = np.unique(np.column_stack([x, y]), axis=0, return_index=True, return_counts=True)
        if (count > 1).any():
            k = int(first[count > 1][0])
            raise InputError(
                f"{table.row(k)}: the point x={x[k]:g}, y={y[k]:g} stands more than once. Keep one of them."
            )
        return PointSurface(x, y, z, name=f"{part.z} of {part.points}")

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
            yield from self._wells(self.asked.wells.file)

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

    def _wells(self, file: str) -> Iterator[Feature]:
        table = self.table(file, "wells", "file")
        if not (table.has("abstraction") or table.has("injection")):
            table.text("abstraction")  # says what is missing
        lengths = {k: table.numbers(k, "length") for k in ("x", "y", "screen_top", "screen_bottom")}
        lengths["radius"] = table.numbers("radius", "length", default=0.15)
        flows = {k: table.numbers(k, "flow", default=0.0) for k in ("abstraction", "injection")}
        for k, name in enumerate(table.text("name")):
            values: dict[str, Any] = {key: float(v[k]) for key, v in {**lengths, **flows}.items()}
            yield Well(name=name, source=table.row(k), **values)

    def bores(self) -> tuple[Bore, ...]:
        part = self.asked.bores
        if part is None:
            return ()
        table, dips = self.table(part.file, "bores", "file"), self.table(part.levels, "bores", "levels")
        names, layers = table.text("name"), table.text("layer")
        x, y = table.numbers("x", "length"), table.numbers("y", "length")
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
        return shapes[0].geometry

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
        return {layer.name: made[layer.material] for layer in self.asked.layer}

    def site(self) -> Site:
        asked = self.asked
        return Site(
            boundary=self.boundary(),
            strata=Strata(
                self.surface(asked.ground, "ground", "ground"),
                tuple(
                    Layer(p.name, self.surface(p.base, p.name, "layer", k, "base"), p.least_thickness)
                    for k, p in enumerate(asked.layer)
                ),
            ),
            materials=self.materials(),
            features=tuple(self.features()),
            bores=self.bores(),
            species=tuple(Species(s.name, s.unit, s.start, s.limit) for s in asked.species),
            name=asked.title,
            crs=self.crs[0] if self.crs else None,
        )

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
