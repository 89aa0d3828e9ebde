"""Tables of a project file that ask for a plan mesh, one class for each kind; a new kind is one more class."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import (
    Discriminator,
    Field,
    PlainValidator,
    Tag,
    WithJsonSchema,
    field_validator,
    model_validator,
)
from pydantic_core import PydanticCustomError

from inkhorn.errors import did_you_mean
from inkhorn.project.parts import (
    GROWTH,
    Angle,
    Length,
    Number,
    Part,
    Range,
    Whole,
    nonnegative,
    positive,
    told,
)
from inkhorn.site import kinds
from inkhorn.space import Band, CellsWithin, PlanMesh, rectangles, split_in_four, voronoi
from inkhorn.units import quantity

if TYPE_CHECKING:
    from inkhorn.project.source import Source

__all__ = ["MESH_TAG", "MeshPart", "NearPart", "grid_part", "mesh_parts"]

MESH_TAG = "mesh: "  # before the kind, in the places of messages, from which it is taken out again
Near = list[tuple[list[Any], float | CellsWithin]]


class BandPart(Part):
    """Columns (across x) or rows (across y) no wider than a size between two coordinates, with an edge on each."""

    axis: Literal["x", "y"] = told("across which axis", "x")
    start: Length = told("where it begins", 400)
    end: Length = told("where it ends", 900)
    size: Length = told("how wide columns or rows may be there", "25 m", within=positive("length"))


class NearPart(Part):
    """Smaller cells near features or bores, by their names or kind, or near the shapes of a file that are nothing else.

    How small is said as a `size`; or, near points, as a `count` of cells `within` a distance of each.
    """

    features: list[str] = told("by name", ["hatchery"], default_factory=list)
    kinds: list[str] = told('by kind; "bore" is one too', ["well", "river"], default_factory=list)
    file: str | None = told(
        "polygons, lines or points of a GeoPackage, GeoJSON or Shapefile", "patches.gpkg", default=None
    )
    table: str | None = told("which table of a GeoPackage", "fine", default=None)
    size: Length | None = told("of the cells there", "15 m", default=None, within=positive("length"))
    count: Whole | None = told(
        "of cells around each point, instead of a size", 12, default=None, within=Range("number", 1, 1e6)
    )
    within: Length | None = told(
        "what distance of the point they are", "20 m", default=None, within=positive("length")
    )

    @field_validator("kinds")
    @classmethod
    def _known(cls, given: list[str]) -> list[str]:
        called = {table: kind.kind for table, kind in kinds().items()}
        known = [*called.values(), "bore"]
        given = [called.get(name, name) for name in given]  # by its table as well
        for name in given:
            if name not in known:
                raise ValueError(
                    f'there is no kind "{name}"; expected one of {known}.{did_you_mean(name, known)}'
                )
        return given

    @model_validator(mode="after")
    def _some(self) -> NearPart:
        if not (self.features or self.kinds or self.file):
            raise ValueError(
                'name `features`, `kinds` such as ["well"] or a `file`, near which cells are to be small'
            )
        by_count = self.count is not None
        if by_count == (self.size is not None) or by_count != (self.within is not None):
            raise ValueError("give either a `size`, or a `count` of cells and `within` which distance")
        return self

    @property
    def wanted(self) -> float | CellsWithin:
        """How small cells are to be, as makers of meshes take it."""
        if self.count is not None and self.within is not None:
            return CellsWithin(self.count, self.within)
        return float(self.size or 0.0)


def _keep(value: Any) -> float | str:
    if value in ("centre", "cut"):
        return str(value)
    share = quantity(value, "number", what="keep")
    if not 0.0 < share <= 1.0:
        raise ValueError('expected "centre", "cut" or a share of the area above 0 and up to 1')
    return share


Keep = Annotated[
    float | str,
    PlainValidator(_keep),
    WithJsonSchema({"anyOf": [{"type": "number"}, {"enum": ["centre", "cut"]}]}),
]


class MeshPart(Part):
    """A plan mesh over the boundary."""

    mesh_kind: ClassVar[str] = ""
    layer_cell: dict[str, Length] = told(
        "about what size smaller cells are joined to, by layer, so that upper layers may be finer than lower ones",
        {"gravel": "200 m"},
        default_factory=dict,
    )

    @model_validator(mode="before")
    @classmethod
    def _keys_of_this_kind(cls, given: Any) -> Any:
        """Say of which kind of mesh a key says nothing."""
        if isinstance(given, dict):
            for key in given:
                others = [k for k, part in mesh_parts().items() if key in part.model_fields]
                if key not in cls.model_fields and others:
                    raise PydanticCustomError(
                        "unknown_key",
                        "{message}",
                        {
                            "message": f"`{key}` says nothing of {cls.mesh_kind}; leave it out, or change the kind to "
                            f"{' or '.join(others)}",
                            "key": key,
                        },
                    )
        return given

    @property
    def near_parts(self) -> list[NearPart]:
        """Where cells are to be small."""
        return getattr(self, "near", [])

    def made(self, outline: Any, near: Near, source: Source) -> PlanMesh:
        """Make the mesh.

        Parameters
        ----------
        outline : shapely Polygon
            The site's boundary.
        near : list of (list of features or shapes, size or number of cells)
            Where cells are to be small.
        source : Source
            Finds the files that are named, and brings them to the map.
        """
        raise NotImplementedError


def mesh_parts() -> Mapping[str, type[MeshPart]]:
    """Return the table of every kind of mesh there is, by its kind."""

    def below(part: type[MeshPart]) -> Iterator[type[MeshPart]]:
        for one in part.__subclasses__():
            yield one
            yield from below(one)

    return {part.mesh_kind: part for part in below(MeshPart) if part.mesh_kind}


class _OverBoundary(MeshPart):
    """What all meshes made here can be told."""

    cell: Length | None = told("size of the cells", "100 m", default=None, within=positive("length"))
    near: list[NearPart] = told(
        "where cells are to be smaller", [{"kinds": ["well"], "size": "15 m"}], default_factory=list
    )
    left_out: list[str] = told("features and bores that are not looked at", ["ditch 3"], default_factory=list)

    @model_validator(mode="after")
    def _one_size(self) -> _OverBoundary:
        if (self.cell is None) == (getattr(self, "count", None) is None):
            raise ValueError("give either `cell` (a size) or `count` (a number of cells)")
        return self


class _Frame(_OverBoundary):
    """A frame of rectangles."""

    count: Whole | tuple[Whole, Whole] | None = told(
        "of cells along x, or along x and y", [60, 50], default=None, within=Range("number", 1)
    )
    margin: Length = told("around the boundary", "200 m", default=0.0, within=nonnegative("length"))
    rotation: Angle = told("of the rows, anticlockwise from the x axis", 30, default=0.0)
    keep: Keep = told(
        'which cells take part: those with their centre inside, "cut" to the boundary, or with a share of area inside',
        "cut",
        default="centre",
    )

    def frame(self) -> dict[str, Any]:
        """What `rectangles` and `split_in_four` both take."""
        return {k: getattr(self, k) for k in ("cell", "count", "margin", "rotation", "keep")}


class RectanglesPart(_Frame):
    """Equal rectangles, or narrower rows and columns in bands and near features."""

    mesh_kind: ClassVar[str] = "rectangles"
    kind: Literal["rectangles"] = told("of the mesh", "rectangles", default="rectangles")
    growth: Number | None = told(
        "how much wider a row or column may be than its neighbour",
        1.4,
        default=None,
        within=GROWTH,
    )
    band: list[BandPart] = told(
        "narrower rows or columns",
        [{"axis": "x", "start": 400, "end": 900, "size": 25}],
        default_factory=list,
    )

    def made(self, outline: Any, near: Near, source: Source) -> PlanMesh:
        bands = [Band(b.axis, b.start, b.end, b.size) for b in self.band]
        return rectangles(outline, growth=self.growth or 1.5, bands=bands, near=near, **self.frame())


class SplitPart(_Frame):
    """Rectangles split in four, and again, near features."""

    mesh_kind: ClassVar[str] = "split"
    kind: Literal["split"] = told("of the mesh", "split")
    ring: Whole = told("cells of one size around smaller ones", 2, default=1, within=Range("number", 1, 20))
    max_splits: dict[str, Annotated[Whole, Field(ge=0)]] = told(
        "how often cells are split at the most, by layer", {"gravel": 1}, default_factory=dict
    )

    def made(self, outline: Any, near: Near, source: Source) -> PlanMesh:
        return split_in_four(outline, near=near, ring=self.ring, **self.frame())


class VoronoiPart(_OverBoundary):
    """Polygons around points, along lines and boundary, growing away from them."""

    mesh_kind: ClassVar[str] = "voronoi"
    kind: Literal["voronoi"] = told("of the mesh", "voronoi")
    count: Whole | None = told(
        "how many cells there are to be, within a tenth, instead of a size",
        3000,
        default=None,
        within=Range("number", 3),
    )
    growth: Number | None = told("of the size from cell to cell", 1.3, default=None, within=GROWTH)
    boundary: Length | None = told("size along the boundary", "50 m", default=None, within=positive("length"))
    least_angle: Angle | None = told(
        "of the triangles of three cells that meet", 30, default=None, within=Range("angle", 1.0, 40.0)
    )
    rounds: Whole = told("of evening out", 4, default=4, within=Range("number", 0, 100))
    seed: Whole = told("of the points strewn", 7, default=0)

    def made(self, outline: Any, near: Near, source: Source) -> PlanMesh:
        return voronoi(
            outline,
            cell=self.cell,
            count=self.count,
            near=near,
            boundary=self.boundary,
            growth=self.growth or 1.3,
            least_angle=self.least_angle,
            rounds=self.rounds,
            seed=self.seed,
        )


class AttributePart(Part):
    """An attribute of the cells of a mesh made elsewhere, taken as a property or an elevation of the model's cells."""

    column: str = told("the attribute", "kf")
    of: str = told(
        'what it is, as of [[edit]]: a property, "base" or "ground"',
        "horizontal_conductivity",
    )
    unit: str | None = told("if the file states none", "m/s", default=None)
    layers: list[str] = told("in which layers; every one if not given", ["sand"], default_factory=list)


class FileMeshPart(MeshPart):
    """Polygons or a UGRID mesh made elsewhere, and those of its attributes that are taken over."""

    mesh_kind: ClassVar[str] = "file"
    kind: Literal["file"] = told("of the mesh", "file")
    file: str = told("GeoPackage, GeoJSON, Shapefile, or NetCDF with a UGRID mesh", "cells.gpkg")
    table: str | None = told("which table of a GeoPackage", "cells", default=None)
    attribute: list[AttributePart] = told(
        "attributes of its cells that are taken over",
        [{"column": "kf", "of": "horizontal_conductivity", "unit": "m/s"}],
        default_factory=list,
    )

    def made(self, outline: Any, near: Near, source: Source) -> PlanMesh:
        return source.mesh(self, "grid").mesh


def _tag(value: Any) -> str:
    kind = value.get("kind", "rectangles") if isinstance(value, dict) else getattr(value, "mesh_kind", "")
    return f"{MESH_TAG}{kind}"


def grid_part() -> Any:
    """Return the type of a grid's table: that of its kind of mesh."""
    union: Any = None
    for kind, part in mesh_parts().items():
        one: Any = Annotated[part, Tag(f"{MESH_TAG}{kind}")]
        union = one if union is None else union | one
    return Annotated[union, Discriminator(_tag)]
