"""Tables of a project file that say how space is cut: boundary, grids, surfaces, layers."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, PlainValidator, model_validator

from inkhorn.files.parts import Length, Number, Part, ShapeFile
from inkhorn.units import quantity

__all__ = ["BoundaryPart", "GridPart", "LayerPart", "LocalPart", "SurfacePart"]


class VariogramPart(Part):
    """How unlike two points are, by their distance; direction in degrees from the x axis."""

    kind: Literal["spherical", "exponential", "gaussian", "linear"] = "spherical"
    range: Length
    sill: Number = 1.0
    nugget: Number = 0.0
    direction: Number = 0.0
    ratio: Number = 1.0


class SurfacePart(Part):
    """A surface, from one of: points of a table, a raster, polygons, one elevation, another surface.

    Points stand in the columns `x`, `y` and `z` of a CSV, text or XLSX file, in coordinates of the map
    or of the table [local]; polygons hold their elevation in the attribute `z`.
    """

    points: str | None = None
    sheet: str | None = None
    x: str = "x"
    y: str = "y"
    z: str = "z"
    local: bool = False
    polygons: str | None = None
    table: str | None = None
    method: Literal["linear", "nearest", "inverse_distance", "natural", "cubic", "thin_plate", "kriging"] = (
        "linear"
    )
    neighbours: int = Field(default=24, ge=1)
    power: Number = 2.0
    variogram: VariogramPart | None = None
    raster: str | None = None
    elevation: Length | None = None
    under: str | None = None
    depth: Length = 0.0
    between: tuple[str, str] | None = None
    share: Number = 0.5
    never_above: str | None = None
    never_below: str | None = None

    @model_validator(mode="after")
    def _one(self) -> SurfacePart:
        ways = ("points", "raster", "polygons", "elevation", "under", "between")
        given = [way for way in ways if getattr(self, way) is not None]
        if len(given) != 1:
            raise ValueError(
                f"a surface is made in one way; got {given or 'none'}. Give one of `points` (a table with x, y "
                "and z), `raster` (a file), `polygons` (a file, with z in an attribute), `elevation`, `under` (a "
                "surface, and a `depth`) or `between` (two)"
            )
        if self.method == "kriging" and self.variogram is None:
            raise ValueError('kriging needs a variogram, as in variogram = { range = "800 m" }')
        return self


class BoundaryPart(ShapeFile):
    """The site's polygon, and polygons within it that take no part."""

    holes: ShapeFile | None = None


class LocalPart(Part):
    """Local coordinates: where their origin lies on the map, and how their axes are turned [degrees]."""

    origin: tuple[Length, Length]
    rotation: Number = 0.0


class ChangePart(ShapeFile):
    """Another surface within the polygons of a file."""

    base: SurfacePart


class BandPart(Part):
    """Columns (across x) or rows (across y) no wider than a size between two coordinates."""

    axis: Literal["x", "y"]
    start: Length
    end: Length
    size: Length


class NearPart(Part):
    """Smaller cells near features or bores, by their names, or by their kind."""

    features: list[str] = Field(default_factory=list)
    kinds: list[Literal["fixed head", "river", "drain", "well", "recharge", "bore"]] = Field(
        default_factory=list
    )
    size: Length

    @model_validator(mode="after")
    def _some(self) -> NearPart:
        if not (self.features or self.kinds):
            raise ValueError('name `features`, or `kinds` such as ["well"], near which cells are to be small')
        return self


def _keep(value: Any) -> float | str:
    if value in ("centre", "cut"):
        return str(value)
    share = quantity(value, "number", what="keep")
    if not 0.0 < share <= 1.0:
        raise ValueError('expected "centre", "cut" or a share of the area above 0 and up to 1')
    return share


_MESH_KEYS = {  # what each kind of mesh can be told, beside `kind`, `near` and `left_out`
    "rectangles": ("cell", "count", "margin", "rotation", "growth", "keep", "band"),
    "split": ("cell", "count", "margin", "rotation", "keep", "ring", "most_splits"),
    "voronoi": ("cell", "count", "growth", "boundary", "rounds", "seed"),
    "file": ("file", "table"),
}


class GridPart(Part):
    """A plan mesh over the boundary: rectangles, some of them split in four, Voronoi cells, or made elsewhere."""

    kind: Literal["rectangles", "split", "voronoi", "file"] = "rectangles"
    cell: Length | None = None
    count: int | tuple[int, int] | None = None
    margin: Length = 0.0
    rotation: Number = 0.0
    growth: Number | None = None
    boundary: Length | None = None
    rounds: int = Field(default=4, ge=0, le=100)
    seed: int = 0
    keep: Annotated[float | str, PlainValidator(_keep)] = "centre"
    band: list[BandPart] = Field(default_factory=list)
    near: list[NearPart] = Field(default_factory=list)
    left_out: list[str] = Field(default_factory=list)
    ring: int = Field(default=1, ge=1, le=20)
    most_splits: dict[str, Annotated[int, Field(ge=0)]] = Field(default_factory=dict)
    file: str | None = None
    table: str | None = None

    @model_validator(mode="after")
    def _one(self) -> GridPart:
        known = ("kind", *_MESH_KEYS[self.kind], *(() if self.kind == "file" else ("near", "left_out")))
        for key in self.model_fields_set:
            if key not in known:
                raise ValueError(f"`{key}` says nothing of {self.kind}; leave it out, or change the kind")
        if self.kind == "file":
            if self.file is None:
                raise ValueError("a mesh made elsewhere needs its `file`")
            return self
        if self.kind == "voronoi" and not isinstance(self.count, int | None):
            raise ValueError("the `count` of Voronoi cells is one number, about how many there are to be")
        if (self.cell is None) == (self.count is None):
            raise ValueError("give either `cell` (a size) or `count` (a number of cells)")
        return self


class LayerPart(Part):
    name: str
    material: str
    base: SurfacePart
    least_thickness: Length = 0.1
    where_thin: Literal["absent", "keep"] = "absent"
    base_wins: bool = False
    parts: int | list[float] | None = None
    change: list[ChangePart] = Field(default_factory=list)
    taken_out: ShapeFile | None = None
