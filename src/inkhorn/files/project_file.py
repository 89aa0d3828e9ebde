"""The project file: typed tables that refuse unknown keys and say what they meant."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainValidator,
    ValidationError,
    model_validator,
)
from pydantic_core import PydanticCustomError

from inkhorn.errors import InputError, did_you_mean
from inkhorn.units import METRES_AND_DAYS, UnitSystem, quantity

__all__ = ["Column", "ProjectFile", "load_project_file"]


class Part(BaseModel):
    """A table of the project file."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    @model_validator(mode="before")
    @classmethod
    def _known_keys(cls, given: Any) -> Any:
        if isinstance(given, dict):
            for key in given:
                if key not in cls.model_fields:
                    known = list(cls.model_fields)
                    raise PydanticCustomError(
                        "unknown_key",
                        "{message}",
                        {
                            "message": f'"{key}" is not known here.{did_you_mean(key, known)} '
                            f"Known are {', '.join(known)}.",
                            "key": key,
                        },
                    )
        return given


class Column(Part):
    """A value that stands in a column of the file: ``{ column = "rate", unit = "mm/year" }``."""

    column: str
    unit: str | None = None


def _units(info: Any) -> UnitSystem:
    return info.context["units"] if info.context else METRES_AND_DAYS


def _number(kind: str) -> Any:
    def read(value: Any, info: Any) -> float:
        return quantity(value, kind, units=_units(info), what=info.field_name or kind)

    return BeforeValidator(read)


def _number_or_column(kind: str) -> Any:
    def read(value: Any, info: Any) -> float | Column:
        if isinstance(value, dict):
            return Column.model_validate(value)
        return quantity(value, kind, units=_units(info), what=info.field_name)

    return PlainValidator(read)


def _along(value: Any, info: Any) -> tuple[float, ...] | Column:
    if isinstance(value, dict):
        return Column.model_validate(value)
    values = value if isinstance(value, list) else [value]
    return tuple(quantity(v, "length", units=_units(info), what=info.field_name) for v in values)


def _concentrations(value: Any, info: Any) -> dict[str, float]:
    if not isinstance(value, dict):
        raise ValueError('expected species and numbers, as in { chloride = "30 mg/l" }')
    return {k: quantity(v, "concentration", units=_units(info), what=k) for k, v in value.items()}


Length = Annotated[float, _number("length")]
Time = Annotated[float, _number("time")]
Conductivity = Annotated[float, _number("conductivity")]
Concentration = Annotated[float, _number("concentration")]
Diffusion = Annotated[float, _number("diffusion")]
Number = Annotated[float, _number("number")]
LengthAlong = Annotated[tuple[float, ...] | Column, PlainValidator(_along)]
RateOrColumn = Annotated[float | Column, _number_or_column("rate")]
Concentrations = Annotated[dict[str, float], PlainValidator(_concentrations)]


class Units(Part):
    """Units of numbers that carry none."""

    length: str = "m"
    time: str = "day"
    concentration: str = "mg/l"


class ShapeFile(Part):
    """A GIS file, and which of its tables."""

    file: str
    table: str | None = None


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


class MaterialPart(Part):
    conductivity: Conductivity
    vertical_ratio: Number
    porosity: Number | None = None


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


class FeaturePart(ShapeFile):
    """A feature for each shape of a file; its name is given, or stands in a column."""

    name: str | Column


class FixedHeadPart(FeaturePart):
    head: LengthAlong
    every_layer: bool = False


class RiverPart(FeaturePart):
    stage: LengthAlong
    bed: LengthAlong
    width: Length
    bed_thickness: Length
    bed_conductivity: Conductivity


class DrainPart(FeaturePart):
    level: LengthAlong
    conductance: Conductivity


class RechargePart(FeaturePart):
    rate: RateOrColumn
    concentration: Concentrations = Field(default_factory=dict)


class WellsPart(Part):
    """A table with name, x, y, screen_top, screen_bottom, and abstraction or injection."""

    file: str
    sheet: str | None = None
    local: bool = False


class BoresPart(Part):
    """A table with name, x, y, layer; and one of levels with name, date, level."""

    file: str
    sheet: str | None = None
    local: bool = False
    levels: str
    levels_sheet: str | None = None


class SpeciesPart(Part):
    name: str
    unit: str = "mg/l"
    start: Concentration = 0.0
    limit: Concentration | None = None


class PathsPart(Part):
    wells: list[str]
    direction: Literal["backward", "forward"] = "backward"
    longest: Time = 200 * 365.25
    mark: Time = 3652.5
    per_well: int = Field(default=24, ge=1)


class TransportPart(Part):
    species: str
    duration: Time
    step: Time
    outputs: int = Field(default=20, ge=1)
    dispersivity: Length = 0.0
    transverse_dispersivity: Length = 0.0
    vertical_dispersivity: Length = 0.0
    diffusion: Diffusion = 0.0
    watch: list[str] = Field(default_factory=list)


class FitPart(Part):
    """Which parameters a fit may change, and how far."""

    conductivity_of: list[str] = Field(default_factory=list)
    recharge: bool = False
    widest_factor: Number = 30.0
    recharge_factor: Number = 2.0


class DrawPart(Part):
    """Where sections are cut: x and y of the line's corners; a georeferenced picture to lay under maps."""

    section: list[tuple[Length, Length]] | None = Field(default=None, min_length=2)
    exaggeration: Number | None = None
    picture: str | None = None


class ProjectFile(Part):
    """A project: the site, its grid, and what is asked of it."""

    title: str
    units: Units = Units()
    local: LocalPart | None = None
    boundary: BoundaryPart
    grid: GridPart
    grids: dict[str, GridPart] = Field(default_factory=dict)
    ground: SurfacePart
    layer: list[LayerPart] = Field(min_length=1)
    material: dict[str, MaterialPart]
    fixed_head: list[FixedHeadPart] = Field(default_factory=list)
    river: list[RiverPart] = Field(default_factory=list)
    drain: list[DrainPart] = Field(default_factory=list)
    recharge: list[RechargePart] = Field(default_factory=list)
    wells: WellsPart | None = None
    bores: BoresPart | None = None
    species: list[SpeciesPart] = Field(default_factory=list)
    paths: PathsPart | None = None
    transport: TransportPart | None = None
    fit: FitPart | None = None
    draw: DrawPart = DrawPart()


class Places:
    """Line numbers of the keys of a TOML text."""

    _TABLE = re.compile(r"^\s*\[(\[)?\s*([^\[\]]+?)\s*\]?\]\s*(?:#.*)?$")
    _KEY = re.compile(r"^\s*([A-Za-z0-9_\-\".]+)\s*=")

    def __init__(self, text: str) -> None:
        self.lines: dict[tuple[Any, ...], int] = {}
        here: tuple[Any, ...] = ()
        counts: dict[tuple[Any, ...], int] = {}
        for number, line in enumerate(text.splitlines(), start=1):
            if table := self._TABLE.match(line):
                here = tuple(part.strip().strip('"') for part in table[2].split("."))
                if table[1]:
                    counts[here] = counts.get(here, -1) + 1
                    here = (*here, counts[here])
                self.lines.setdefault(here, number)
            elif key := self._KEY.match(line):
                path = (*here, *(part.strip('"') for part in key[1].split(".")))
                self.lines.setdefault(path, number)

    def of(self, path: tuple[Any, ...]) -> int:
        """Return the line of a key, or of the nearest table around it."""
        for length in range(len(path), 0, -1):
            if path[:length] in self.lines:
                return self.lines[path[:length]]
        return 1


_MESSAGES: dict[str, Callable[[Any], str]] = {
    "missing": lambda e: f'"{e["loc"][-1]}" is missing. Add it.',
    "string_type": lambda e: f"is {e['input']!r}; expected text in quotes.",
    "list_type": lambda e: f"is {e['input']!r}; expected a list in square brackets.",
    "model_type": lambda e: f"is {e['input']!r}; expected a table of keys and values.",
    "dict_type": lambda e: f"is {e['input']!r}; expected a table of keys and values.",
    "bool_parsing": lambda e: f"is {e['input']!r}; expected true or false.",
    "literal_error": lambda e: f"is {e['input']!r}; expected {e['ctx']['expected']}.",
    "bool_type": lambda e: f"is {e['input']!r}; expected true or false.",
}


def _message(error: Any, name: str, places: Places) -> str:
    path = tuple(error["loc"])
    text = (
        _MESSAGES[error["type"]](error)
        if error["type"] in _MESSAGES
        else error["msg"].removeprefix("Value error, ")
    )
    key = error.get("ctx", {}).get("key")
    line = places.of((*path, key) if key else path)
    shown = ".".join(f"{p}" if not isinstance(p, int) else f"#{p + 1}" for p in path)
    return f"{name}, line {line}{f', {shown}' if shown else ''}: {text}"


def load_project_file(path: Path) -> tuple[ProjectFile, Places]:
    """Read and validate a project file.

    Returns
    -------
    project : ProjectFile
        Numbers in metres, days and grams.
    places : Places
        Line numbers, for messages about what the keys name.

    Raises
    ------
    InputError
        With every problem found, a line each: file, line, table and key.
    """
    try:
        text = path.read_text(encoding="utf-8")
        given = tomllib.loads(text)
    except OSError as problem:
        raise InputError(
            f'cannot read "{path}": {problem.strerror}. Give the path of a project file, or make one with `inkhorn new`.'
        ) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as problem:
        raise InputError(f"{path.name} is not TOML: {problem}.") from None
    places = Places(text)
    try:
        units = Units.model_validate(given.get("units", {}))
        system = UnitSystem(units.length, units.time, units.concentration)
        for kind, unit in (
            ("length", units.length),
            ("time", units.time),
            ("concentration", units.concentration),
        ):
            quantity(1.0, kind, units=system, what=f'units.{kind} = "{unit}"')
        return ProjectFile.model_validate(given, context={"units": system}), places
    except ValidationError as problem:
        raise InputError("\n".join(_message(e, path.name, places) for e in problem.errors())) from None
    except InputError as problem:
        raise InputError(f"{path.name}, line {places.of(('units',))}: {problem}") from None
