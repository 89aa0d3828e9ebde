"""Surfaces and layers, as a project file describes them."""

from __future__ import annotations

from typing import Any

import numpy as np

from inkhorn.errors import InputError, did_you_mean, naming, place_words
from inkhorn.files.rasters import read_raster
from inkhorn.project.parts import ShapeFile
from inkhorn.project.parts_space import SurfacePart
from inkhorn.project.source import Source
from inkhorn.space import (
    BetweenSurface,
    BoundedSurface,
    ConstantSurface,
    DepthSurface,
    Layer,
    OffsetSurface,
    PatchedSurface,
    PointSurface,
    Strata,
    Surface,
    Variogram,
    ZonedSurface,
)
from inkhorn.units import quantity, refuse_impossible, unit_factor

__all__ = ["StrataReader"]


class StrataReader:
    """Makes surfaces; those that others name stand above them in the file."""

    def __init__(self, source: Source) -> None:
        self.source, self.asked = source, source.asked
        self.surfaces: dict[str, Surface] = {}

    def surface(self, part: SurfacePart, *key: Any, kind: str = "elevation") -> Surface:
        """Make a surface, of elevations or of another kind of number; those it names stand above it in the file."""
        made: Surface
        if part.under is None:
            made = self._surface_alone(part, kind, *key)
        else:
            if kind != "elevation":
                raise InputError(
                    f"{self.source.by(*key)}: `under` is for elevations, not for a {kind}. Leave it out."
                )
            upper = self._known_surface(part.under, *key)
            by_one = all(getattr(part, way) is None for way in part.ways if way != "under")
            if by_one:
                made = OffsetSurface(upper, -part.depth)
            else:
                made = DepthSurface(upper, self._surface_alone(part, "length", *key))
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
                f'{self.source.by(*key)}: there is no surface "{name}" above this one; expected one of {known}, '
                f"which are the ground and the bases of layers.{did_you_mean(name, known)}"
            )
        return self.surfaces[name]

    def _surface_alone(self, part: SurfacePart, kind: str, *key: Any) -> Surface:
        if part.elevation is not None:
            return ConstantSurface(part.elevation)
        if part.raster is not None:
            metre = unit_factor(self.source.units.unit_of(kind), kind)
            with self.source.inputs.reading(part.raster) as path:
                raster, crs = read_raster(path, factor=metre, asked_by=f"named in {self.source.by(*key)}")
            with naming(self.source.by(*key)):
                refuse_impossible(part.raster, raster.z, kind)
            return raster.scaled(self.source.metres_of(crs, part.raster, *key)[0])
        if part.between is not None:
            upper, lower = (self._known_surface(name, *key) for name in part.between)
            return BetweenSurface(upper, lower, part.share)
        if part.polygons is not None:
            shapes = self.source.shapes(
                ShapeFile(file=part.polygons, table=part.table), ("Polygon", "MultiPolygon"), *key
            )
            heights = tuple(shape.number(part.z, kind, units=self.source.units) for shape in shapes)
            return ZonedSurface(tuple(s.geometry for s in shapes), heights, f"{part.z} of {part.polygons}")
        if part.places is not None:
            x, y = (np.array([place[k] for place in part.places]) for k in (0, 1))
            with naming(self.source.by(*key)):
                values = [
                    quantity(place[2], kind, units=self.source.units, what="value") for place in part.places
                ]
                return self._through(part, x, y, np.array(values, dtype=np.float64), "places", ())
        assert part.points is not None  # the file's model sees to that
        table = self.source.table(part.points, *key, sheet=part.sheet)
        x, y = self.source.on_map(table, part.local, *key, x=part.x, y=part.y)
        z = table.numbers(
            part.z, kind, instead=' Say under what they lie: under = "ground".', depths=part.under is not None
        )
        _, first, group = np.unique(np.column_stack([x, y]), axis=0, return_index=True, return_inverse=True)
        twice = np.flatnonzero(z != z[first][group.ravel()])
        if len(twice):
            k, other = int(twice[0]), int(first[group.ravel()[twice[0]]])
            raise InputError(
                f"{table.row(k)}: the point {place_words(x[k], y[k])} has {part.z} {z[k]:g} m, but {z[other]:g} m in "
                f"{table.row(other)} ({len(twice)} such points). Keep one of them."
            )
        kept = np.sort(first)  # a point that stands twice alike counts once
        x, y, z = x[kept], y[kept], z[kept]
        rows = tuple(table.row(int(k)) for k in kept)
        return self._through(part, x, y, z, f"{part.z} of {part.points}", rows)

    def _through(
        self, part: SurfacePart, x: Any, y: Any, z: Any, name: str, source: tuple[str, ...]
    ) -> PointSurface:
        """A surface through points."""
        curve = Variogram(**part.variogram.model_dump()) if part.variogram is not None else Variogram()
        return PointSurface(
            x, y, z, name=name, method=part.method, neighbours=part.neighbours, power=part.power, variogram=curve,
            least=part.least, reach=np.inf if part.reach is None else part.reach, too_few=part.too_few,
            on_logarithms=part.logarithms, source=source,
        )  # fmt: skip

    def strata(self) -> Strata:
        """Make the ground and the layers, each base known to those below it by its layer's name."""
        ground = self.surfaces["ground"] = self.surface(self.asked.ground, "ground")
        layers = []
        for k, part in enumerate(self.asked.layer):
            base = self.surface(part.base, "layer", k, "base")
            for j, change in enumerate(part.change):
                other = self.surface(change.base, "layer", k, "change", j, "base")
                for shape in self.source.shapes(change, ("Polygon", "MultiPolygon"), "layer", k, "change", j):
                    base = PatchedSurface(base, shape.geometry, other)
            self.surfaces[part.name] = base
            hole = None
            if part.taken_out is not None:
                hole = self.source.union(part.taken_out, "layer", k, "taken_out")
            with naming(self.source.by("layer", k)):
                layers.append(
                    Layer(
                        part.name,
                        base,
                        least_thickness=part.least_thickness,
                        where_thin=part.where_thin,
                        base_wins=part.base_wins,
                        taken_out=hole,
                        parts=1 if part.parts is None else part.parts,
                    )
                )
        return Strata(ground, tuple(layers))
