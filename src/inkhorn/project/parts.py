"""What the tables of a project file are made of: parts that refuse unknown keys, and values with units."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from math import inf
from typing import Annotated, Any, ClassVar, NamedTuple, Self

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainValidator,
    WithJsonSchema,
    model_validator,
)
from pydantic.fields import FieldInfo
from pydantic_core import PydanticCustomError

from inkhorn.errors import InputError, did_you_mean
from inkhorn.site import Quantity
from inkhorn.units import KINDS, METRES_AND_DAYS, UnitSystem, quantity

__all__ = [
    "GROWTH",
    "SHARE",
    "Angle",
    "ByGroundConcentration",
    "ByGroundDiffusion",
    "ByGroundLength",
    "ByGroundNumber",
    "Column",
    "Concentration",
    "Concentrations",
    "Diffusion",
    "Distribution",
    "Elevation",
    "Length",
    "Number",
    "NumberChanging",
    "Part",
    "Production",
    "Range",
    "Raw",
    "ReturnedPart",
    "SeriesPart",
    "ShapeFile",
    "SoilWaterPart",
    "Time",
    "Units",
    "Whole",
    "declared_type",
    "nonnegative",
    "per_species",
    "plain_number",
    "positive",
    "range_in_schema",
    "range_of",
    "told",
    "value_keys",
]


class Range(NamedTuple):
    """Which numbers a key can be, and which are usual, in metres, days and grams.

    Attributes
    ----------
    kind : str
        A key of `inkhorn.units.KINDS`.
    least, most : float
        What is beyond is refused.
    usual : (float, float), optional
        What is beyond, and not zero, is told.
    open_below : bool
        Whether it must lie above the least.
    """

    kind: str
    least: float = -inf
    most: float = inf
    usual: tuple[float, float] | None = None
    open_below: bool = False

    @property
    def unit(self) -> str:
        """The unit of the bounds, a blank before it."""
        return f" {KINDS[self.kind].inside}".rstrip()

    def in_schema(self) -> dict[str, Any]:
        """For editors and the reference: bounds that are there, in metres, days and grams."""
        bounds: dict[str, Any] = {"least": self.least, "most": self.most, "usual": list(self.usual or ())}
        return {"range": {k: v for k, v in bounds.items() if v not in ([], inf, -inf)}}

    def problem(self, value: float) -> str | None:
        """Say what is wrong with a number that cannot be."""
        low = value <= self.least if self.open_below else value < self.least
        if not low and value <= self.most:
            return None
        above = f"more than {self.least:g}" if self.open_below else f"{self.least:g} or more"
        wanted = [above] * (self.least > -inf) + [f"{self.most:g} at the most"] * (self.most < inf)
        return f"is {value:g}{self.unit}; expected {' and '.join(wanted)}{self.unit}."


def positive(kind: str, most: float = inf, usual: tuple[float, float] | None = None) -> Range:
    """Numbers above 0."""
    return Range(kind, 0.0, most, usual, open_below=True)


def nonnegative(kind: str, most: float = inf, usual: tuple[float, float] | None = None) -> Range:
    """Numbers from 0 up."""
    return Range(kind, 0.0, most, usual)


SHARE = Range("number", 0.0, 1.0)
GROWTH = Range("number", 1.0, 10.0, (1.0, 2.0))


def told(words: str, example: Any = None, *, within: Range | None = None, **options: Any) -> Any:
    """A key of a table: what it means, how it may stand in the file, and which numbers it can be."""
    if within is not None:
        options["json_schema_extra"] = within.in_schema()
    made = Field(description=words, examples=None if example is None else [example], **options)
    if within is not None:
        made.metadata.append(within)
    return made


def range_of(key: FieldInfo) -> Range | None:
    """Return which numbers a key can be, None where that is not said."""
    return next((m for m in key.metadata if isinstance(m, Range)), None)


def _units(info: Any) -> UnitSystem:
    return info.context["units"] if info.context else METRES_AND_DAYS


def _in_schema(kind: str) -> WithJsonSchema:
    """For editors: a number, or text with a unit; and for the reference which kind of number."""
    return WithJsonSchema({"anyOf": [{"type": "number"}, {"type": "string"}], "unit": kind})


def _reads(kind: str) -> BeforeValidator:
    """A number of some kind, turned into metres, days and grams."""

    def read(value: Any, info: Any) -> float:
        return quantity(value, kind, units=_units(info), what=info.field_name or kind)

    return BeforeValidator(read)


def plain_number(kind: str, within: dict[str, Any] | None = None) -> Any:
    """The type of a key that is one number of some kind, whatever it is of; and its range, for the schema."""
    extras = {"anyOf": [{"type": "number"}, {"type": "string"}], "unit": kind, "range": within or {}}
    return Annotated[float, _reads(kind), WithJsonSchema(extras)]


_MOST_WHOLE = 10**15  # far beyond anything that is counted, and exact as a float


def _not_truth(value: Any) -> Any:
    if isinstance(value, bool):
        raise ValueError(f"is {str(value).lower()}; expected a whole number.")
    if isinstance(value, int) and abs(value) > _MOST_WHOLE:
        raise ValueError(f"has {len(str(abs(value)))} digits; expected a whole number up to {_MOST_WHOLE:g}.")
    return value


Whole = Annotated[int, BeforeValidator(_not_truth)]
Length = Annotated[float, _reads("length"), _in_schema("length")]
Elevation = Annotated[float, _reads("elevation"), _in_schema("elevation")]
Time = Annotated[float, _reads("time"), _in_schema("time")]
Concentration = Annotated[float, _reads("concentration"), _in_schema("concentration")]
Diffusion = Annotated[float, _reads("diffusion"), _in_schema("diffusion")]
Production = Annotated[float, _reads("production"), _in_schema("production")]
Angle = Annotated[float, _reads("angle"), _in_schema("angle")]
Number = Annotated[float, _reads("number"), _in_schema("number")]


class Part(BaseModel):
    """A table of the project file.

    `ways` are keys of which one makes the table one value, to be replaced as a whole in a variant.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)
    ways: ClassVar[tuple[str, ...]] = ()

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

    @model_validator(mode="after")
    def _possible(self) -> Self:
        for name, key in type(self).model_fields.items():
            within, value = range_of(key), getattr(self, name)
            if within is None:
                continue
            for one in value.values() if isinstance(value, dict) else [value]:
                problem = within.problem(one) if isinstance(one, (int, float)) else None
                if problem is not None:
                    raise PydanticCustomError("impossible", "{message}", {"message": problem, "key": name})
        return self


def _below(part: type[Part]) -> Iterator[type[Part]]:
    for one in part.__subclasses__():
        yield one
        yield from _below(one)


def value_keys() -> set[str]:
    """Return the keys that make a table one value, of all parts there are."""
    return {key for part in _below(Part) for key in part.ways}


class Column(Part):
    """A value that stands in a column of the file: ``{ column = "rate", unit = "mm/year" }``."""

    ways: ClassVar[tuple[str, ...]] = ("column",)
    column: str | list[str] = told("its name; of a line with two values those of its two ends", "rate")
    unit: str | None = told("of the numbers in it; that of the project if not given", "mm/year", default=None)
    negative: bool = told(
        "whether they count downwards from 0, as where abstraction is negative", True, default=False
    )


class SeriesPart(Part):
    """A value in time, from a table: ``{ series = "rates.csv", column = "rate" }``.

    The table has a column of dates, or of days since the start of the run, and one of values, or several
    for the vertices or the two ends of a line. Of a table for several features the rows of one are those
    whose column `by` holds its name; or each has a column that is called as it is.
    """

    ways: ClassVar[tuple[str, ...]] = ("series",)
    series: str = told("the table: CSV, text or XLSX", "rates.csv")
    sheet: str | None = told("which sheet of an XLSX file", "rates", default=None)
    column: str | list[str] | None = told(
        "of the values; called as the key, or as the feature, if not given", "rate", default=None
    )
    time: str = told("the column of dates, or of days since the start", "date", default="date")
    by: str | None = told("the column that says whose row it is", "name", default=None)
    negative: bool = told(
        "whether values count downwards from 0, as where abstraction is negative", True, default=False
    )


class SoilWaterPart(Part):
    """Recharge from daily rain: ``{ weather = "weather.csv", available_water = "80 mm" }``.

    The table has the columns date, rain and evapotranspiration, as rates or as lengths of each day; see
    `inkhorn.site.soil_water_balance`.
    """

    ways: ClassVar[tuple[str, ...]] = ("weather",)
    weather: str = told("the table of every day's rain and evapotranspiration", "weather.csv")
    sheet: str | None = told("which sheet of an XLSX file", "rain", default=None)
    columns: dict[str, str] = told(
        "what its columns are called, where it is not date, rain and evapotranspiration",
        {"date": "Day", "evapotranspiration": "ET0"},
        default_factory=dict,
    )
    available_water: Length = told(
        "what the roots can take between wet and wilting",
        "80 mm",
        within=positive("length", 10.0, (0.005, 0.5)),
    )
    easily_taken: Number = told(
        "share of it that plants take at the full rate", 0.5, default=0.5, within=SHARE
    )
    runoff: Number = told("share of the rain that runs off", 0.1, default=0.0, within=SHARE)
    crop_factor: Number = told(
        "what the plants would drink, over the reference",
        1.1,
        default=1.0,
        within=nonnegative("number", 100.0, (0.1, 3.0)),
    )
    initial_deficit: Length = told(
        "missing to field capacity at the beginning", "20 mm", default=0.0, within=nonnegative("length", 10.0)
    )


class ReturnedPart(Part):
    """Water taken elsewhere and put in here: ``{ returned_from = "brine well", treated = 0.9 }``."""

    ways: ClassVar[tuple[str, ...]] = ("returned_from",)
    returned_from: str = told("the feature whose water it is, as it is at the time", "brine well")
    treated: Number = told("share of the species that is taken out of it", 0.9, default=0.0, within=SHARE)
    added: Concentration = told(
        "what comes to it besides", "2 mg/l", default=0.0, within=nonnegative("concentration")
    )


_OTHERWISE: dict[str, type[Part]] = {"series": SeriesPart, "weather": SoilWaterPart, "column": Column}
_OF_SPECIES: dict[str, type[Part]] = {
    "series": SeriesPart,
    "returned_from": ReturnedPart,
    "column": Column,
}


class Raw:
    """A value whose unit depends on the shape that it is of, as it stands in the file."""

    def __init__(self, value: Any) -> None:
        self.value = value


def _elsewhere(value: dict[str, Any], info: Any, allowed: Mapping[str, type[Part]]) -> Any:
    """A value that stands in a column, or in time in another file."""
    for key, part in allowed.items():
        if key in value:
            return part.model_validate(value, context=info.context)
    raise ValueError(f"expected a value, or a table with one of {list(allowed)}; got {list(value)}")


def declared_type(said: Quantity) -> Any:
    """Return the type of a key that is a declared quantity: a number, text with a unit, a list along a line, a column,
    a series."""
    ways = ("series",) * said.in_time + ("weather",) * said.weather + ("column",)
    allowed = {way: _OTHERWISE[way] for way in ways}

    def one(value: Any, info: Any) -> Any:
        units, what = _units(info), info.field_name
        if len(said.dimensions) == 1:
            return quantity(value, said.dimensions[0], units=units, what=what)
        problems = []
        for kind in said.dimensions:
            try:
                quantity(value, kind, units=units, what=what)
            except InputError as problem:
                problems.append(problem)
        if len(problems) == len(said.dimensions):
            raise problems[0]
        return value

    def read(value: Any, info: Any) -> Any:
        if isinstance(value, dict):
            return _elsewhere(value, info, allowed)
        if isinstance(value, list) and not said.by_cell:
            raise ValueError(
                "expected one value; several are for what varies along a line or from cell to cell"
            )
        several = isinstance(value, list)
        found = tuple(one(v, info) for v in value) if several else one(value, info)
        return found if len(said.dimensions) == 1 else Raw(found)

    forms: list[dict[str, Any]] = [{"type": "number"}, {"type": "string"}, {"type": "object"}]
    forms += [{"type": "array"}] * said.by_cell
    extras = {
        "anyOf": forms,
        "unit": said.dimension,
        "ways": list(allowed),
        "along": said.along,
        "by_cell": said.by_cell,
        "range": range_in_schema(said),
    }
    return Annotated[Any, PlainValidator(read), WithJsonSchema(extras)]


def range_in_schema(said: Quantity) -> dict[str, Any]:
    """Which numbers a declared quantity can be and which are usual, as far as that is the same on every shape."""
    low = said.least if said.check == "finite" else max(said.least, 0.0)
    bounds = {k: v for k, v in (("least", low), ("most", said.most)) if abs(v) < inf}
    usual = said.usual or (KINDS[said.dimensions[0]].usual if len(said.dimensions) == 1 else None)
    return bounds | ({"usual": list(usual)} if usual is not None and max(map(abs, usual)) < inf else {})


def per_species(kind: str, **further: type[Part]) -> Any:
    """Return the type of a key that has a number of some kind for each species: told, in time, or from a column.

    Tables with one of the keys `further` are such parts.
    """
    ways = _OF_SPECIES | further

    def read(value: Any, info: Any) -> dict[str, Any]:
        if not isinstance(value, dict):
            raise ValueError(f'expected species and numbers, as in {{ chloride = "{KINDS[kind].example}" }}')
        return {
            k: _elsewhere(v, info, ways)
            if isinstance(v, dict)
            else quantity(v, kind, units=_units(info), what=k)
            for k, v in value.items()
        }

    return Annotated[dict[str, Any], PlainValidator(read), WithJsonSchema({"type": "object", "unit": kind})]


def by_ground(kind: str) -> Any:
    """Return the type of a key that is one number, or one for each material, layer or zone by name."""

    def read(value: Any, info: Any) -> Any:
        units, what = _units(info), str(info.field_name)
        if isinstance(value, dict):
            return {k: quantity(v, kind, units=units, what=f"{what} of {k}") for k, v in value.items()}
        return quantity(value, kind, units=units, what=what)

    forms = [{"type": "number"}, {"type": "string"}, {"type": "object"}]
    return Annotated[Any, PlainValidator(read), WithJsonSchema({"anyOf": forms, "unit": kind})]


ByGroundNumber, ByGroundConcentration = by_ground("number"), by_ground("concentration")
ByGroundLength, ByGroundDiffusion = by_ground("length"), by_ground("diffusion")
Distribution = by_ground("distribution coefficient")
Concentrations = per_species("concentration")
NumberChanging = declared_type(Quantity("", in_time=True))


class Units(Part):
    """Units of numbers that carry none."""

    length: str = told("of lengths, and of areas and volumes made of them", "ft", default="m")
    time: str = told("of times and rates", "s", default="day")
    concentration: str = told("of concentrations", "mg/l", default="mg/l")
    results: list[str] | None = told(
        "that results are told in, one for each kind of number; those above for lengths, areas, volumes and rates if not "
        "given",
        ["ft", "l/s"],
        default=None,
    )


class ShapeFile(Part):
    """A GIS file, and which of its tables."""

    file: str = told("GeoPackage, GeoJSON or Shapefile", "site.gpkg")
    table: str | None = told("which table of a GeoPackage", "lake", default=None)
