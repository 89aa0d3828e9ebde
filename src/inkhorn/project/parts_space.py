"""Tables of a project file that say how space is cut: boundary, surfaces, layers."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import model_validator

from inkhorn.project.parts import (
    SHARE,
    Angle,
    Elevation,
    Length,
    Number,
    Part,
    Range,
    ShapeFile,
    Whole,
    nonnegative,
    positive,
    told,
)
from inkhorn.space import POINT_METHODS

__all__ = ["BoundaryPart", "LayerPart", "LocalPart", "SurfacePart"]


class VariogramPart(Part):
    """How unlike two points are, by their distance."""

    kind: Literal["spherical", "exponential", "gaussian", "linear", "power"] = told(
        "its form", "spherical", default="spherical"
    )
    range: Length = told(
        "how far points tell of each other", "800 m", within=positive("length", usual=(1.0, 1e5))
    )
    sill: Number = told(
        "variance far away, over that of the data",
        1.0,
        default=1.0,
        within=positive("number", 1e9, (0.01, 100.0)),
    )
    nugget: Number = told(
        "variance right beside a point", 0.05, default=0.0, within=nonnegative("number", 1e9)
    )
    direction: Angle = told("of the longest range, anticlockwise from the x axis", 30, default=0.0)
    ratio: Number = told(
        "of the longest range to the shortest", 3, default=1.0, within=Range("number", 1.0, 1e4, (1.0, 100.0))
    )
    exponent: Number = told("of the power", 1.5, default=1.0, within=Range("number", 1e-3, 1.999))


class SurfacePart(Part):
    """A surface, from one of: points of a table, a raster, polygons, one elevation, another surface.

    Where it is told `under` which other surface it lies, what points, a raster or polygons hold are depths under that
    one: from the ground down as drillers note them, or a layer's thickness under the base of that above.

    Points stand in the columns `x`, `y` and `z` of a CSV, text or XLSX file, in coordinates of the map
    or of the table [local]; polygons hold their elevation in the attribute `z`. Beyond the points, "linear", "natural"
    and "cubic" keep the elevation on their rim, "nearest" that of the nearest point; "inverse_distance" and "kriging"
    tend to a mean of the nearest points, and "thin_plate" goes on as it is bent.
    """

    ways: ClassVar[tuple[str, ...]] = (
        "points",
        "places",
        "raster",
        "polygons",
        "elevation",
        "under",
        "between",
    )
    points: str | None = told("a table of points", "strata.csv", default=None)
    places: list[tuple[Length, Length, Any]] | None = told(
        "or points typed here: x, y and the value of each", [[3500, 2100, "12 m"]], default=None, min_length=1
    )
    sheet: str | None = told("which sheet of an XLSX file", "bores", default=None)
    x: str = told("the column of x", "easting", default="x")
    y: str = told("the column of y", "northing", default="y")
    z: str = told("the column, or the attribute of polygons, of the values", "sand base", default="z")
    local: bool = told("whether x and y are local coordinates", True, default=False)
    polygons: str | None = told("polygons with their elevation", "cells.gpkg", default=None)
    table: str | None = told("which table of a GeoPackage", "cells", default=None)
    method: Literal[tuple(POINT_METHODS)] = told(  # type: ignore[valid-type]  # those that the space knows
        "how the surface is laid through points", "kriging", default="linear"
    )
    neighbours: Whole = told(
        "points looked at for each place", 12, default=24, within=Range("number", 1, 1e5)
    )
    power: Number = told(
        "of the inverse distance", 2, default=2.0, within=positive("number", 100.0, (0.5, 8.0))
    )
    variogram: VariogramPart | None = told("for kriging", {"range": "800 m"}, default=None)
    least: Whole = told(
        "points that kriging needs within its reach", 2, default=1, within=Range("number", 1, 1e5)
    )
    reach: Length | None = told(
        "how far kriging looks for points; endlessly if not given",
        "2 km",
        default=None,
        within=positive("length"),
    )
    too_few: Literal["nearest", "mean"] = told(
        "what kriging takes where there are fewer: the nearest all the same, or the mean of all",
        "mean",
        default="nearest",
    )
    logarithms: bool = told("whether logarithms are laid through those of the values", True, default=False)
    raster: str | None = told("a GeoTIFF or ESRI ASCII grid", "sand_base.tif", default=None)
    elevation: Elevation | None = told("one for all places", "-30 m", default=None)
    under: str | None = told(
        "a surface above: the ground, or a layer's base; what is told are depths under it",
        "ground",
        default=None,
    )
    depth: Length = told(
        "how far under it, if that is the same everywhere",
        "12 m",
        default=0.0,
        within=Range("length", -1e4, 1e4, (-1000.0, 3000.0)),
    )
    between: tuple[str, str] | None = told(
        "two surfaces above, the upper one first", ["ground", "sand"], default=None
    )
    share: Number = told("of the way down from one to the other", 0.3, default=0.5, within=SHARE)
    never_above: str | None = told("a surface that it is kept below", "ground", default=None)
    never_below: str | None = told("a surface that it is kept above", "gravel", default=None)

    @model_validator(mode="after")
    def _one(self) -> SurfacePart:
        given = [way for way in self.ways if getattr(self, way) is not None]
        by_depths = [way for way in given if way in ("points", "places", "raster", "polygons")]
        if self.under is not None and len(given) == 2 and by_depths:
            if "depth" in self.model_fields_set:
                raise ValueError(
                    f"`{by_depths[0]}` hold the depths under `under`; leave out `depth`, which is one for all"
                )
        elif len(given) != 1:
            raise ValueError(
                f"a surface is made in one way; got {given or 'none'}. Give one of `points` (a table with x, y "
                "and z), `places` (x, y and value of each, typed), "
                "`raster` (a file), `polygons` (a file, with z in an attribute), `elevation`, `under` (a "
                "surface, and a `depth`, or depths in one of those) or `between` (two)"
            )
        if self.method == "kriging" and self.variogram is None:
            raise ValueError('kriging needs a variogram, as in variogram = { range = "800 m" }')
        return self


class BoundaryPart(Part):
    """The site's polygon, and polygons within it that take no part; or an upright box, by its sides or its cells.

    A box stands on the map as ``extent = [0, 0, 1000, 800]`` (least x and y, greatest x and y), or as
    ``corner = [0, 0]``, ``cell = "25 m"`` and ``count = [40, 32]``.
    """

    file: str | None = told("GeoPackage, GeoJSON or Shapefile", "site.gpkg", default=None)
    table: str | None = told("which table of a GeoPackage", "boundary", default=None)
    extent: tuple[Length, Length, Length, Length] | None = told(
        "instead of a file: least x and y, greatest x and y", [0, 0, 1000, 800], default=None
    )
    corner: tuple[Length, Length] | None = told(
        "instead of a file: least x and y of a box of cells", [0, 0], default=None
    )
    cell: Length | None = told(
        "of that box: the size of its cells", "25 m", default=None, within=positive("length")
    )
    count: tuple[Whole, Whole] | None = told("of that box: cells along x and y", [40, 32], default=None)
    crs: str | None = told("coordinate system of a box", "EPSG:25832", default=None)
    holes: ShapeFile | None = told("polygons that take no part", {"file": "holes.geojson"}, default=None)

    @model_validator(mode="after")
    def _one(self) -> BoundaryPart:
        given = [k for k in ("file", "extent", "corner") if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(
                "a boundary is the polygon of a `file`, a box by its `extent`, or one by its `corner`, `cell` and "
                f"`count`; got {given or 'none'}"
            )
        box = self.corner is not None
        if box != (self.cell is not None) or box != (self.count is not None):
            raise ValueError("a box by its cells needs `corner`, `cell` and `count`, and nothing else does")
        if (self.file is None and self.table is not None) or (self.file is not None and self.crs is not None):
            raise ValueError("`table` is one of a `file`, and `crs` that of a box; leave it out")
        x0, y0, x1, y1 = self.sides or (0.0, 0.0, 1.0, 1.0)
        if x1 <= x0 or y1 <= y0:
            raise ValueError("an extent is least x and y, then greatest x and y, with room between them")
        return self

    @property
    def sides(self) -> tuple[float, float, float, float] | None:
        """Least x and y, greatest x and y of a box [m]; None of a polygon."""
        if self.corner is not None and self.cell is not None and self.count is not None:
            x, y = self.corner
            return x, y, x + self.cell * self.count[0], y + self.cell * self.count[1]
        return self.extent


class CutPart(Part):
    """A local model, cut out of a region that was run: what the region's project says holds here, too.

    This file adds to that or changes it, as a variant does; grids and what is asked (fits, paths, transport, regions,
    lines) it says itself. Files are looked for beside it, then among the inputs of the region's run.
    """

    run: str = told("the folder of the region's run", "../quillmere/runs/run-001")
    outline: ShapeFile | list[tuple[Length, Length]] = told(
        "of the local model, within the region: a polygon, or its corners", {"file": "outline.geojson"}
    )
    rim: Literal["heads", "flows"] | dict[str, Literal["heads", "flows", "closed"]] | None = told(
        'what water flows across: the region\'s heads or its flows; or what each stretch is, by name, "rest" for all '
        "others; what `inkhorn check` proposes if not given",
        {"west rim": "flows", "rest": "heads"},
        default=None,
    )
    whole: bool = told(
        "solve the whole region with what this file says and on its grid, instead of cutting: to see what a cut misses",
        True,
        default=False,
    )
    plume: str | None = told(
        "transport begins with this species as the region's run left it; several transports of it by their name",
        "chloride",
        default=None,
    )


class LocalPart(Part):
    """Local coordinates: where their origin lies on the map, and how their axes are turned."""

    origin: tuple[Length, Length] = told("its x and y on the map", [3500, 2100])
    rotation: Angle = told("of their x axis, anticlockwise", 30, default=0.0)


class ChangePart(ShapeFile):
    """Another surface within the polygons of a file."""

    base: SurfacePart = told("the surface there", {"under": "ground", "depth": "2 m"})


class LayerPart(Part):
    """A layer, from its top down to its base; layers stand in the order from the ground down."""

    name: str = told("what it is called; of a layer in parts all of them", "sand")
    material: str = told("what it is made of, a table [material.NAME]", "sand")
    base: SurfacePart = told("its lower surface", {"elevation": "8 m"})
    least_thickness: Length = told(
        "what counts as thin", "0.3 m", default=0.1, within=positive("length", 1e4, (0.001, 20.0))
    )
    where_thin: Literal["absent", "keep"] = told(
        "whether it is gone there, or kept in its neighbour's material", "keep", default="absent"
    )
    base_wins: bool = told("whether its base wins where it crosses those above", True, default=False)
    parts: Whole | list[float] | None = told(
        "a number of equal parts, or their shares from the top down", [1, 2], default=None
    )
    change: list[ChangePart] = told(
        "another base within polygons",
        [{"file": "pit.geojson", "base": {"elevation": "4 m"}}],
        default_factory=list,
    )
    taken_out: ShapeFile | None = told(
        "polygons where it takes no part", {"file": "shaft.geojson"}, default=None
    )
