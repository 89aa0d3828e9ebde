"""What the tables of a project file are made of: parts that refuse unknown keys, and values with units."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    PlainValidator,
    WithJsonSchema,
    model_validator,
)
from pydantic_core import PydanticCustomError

from inkhorn.errors import did_you_mean
from inkhorn.units import KINDS, METRES_AND_DAYS, UnitSystem, quantity

__all__ = [
    "Column",
    "Concentration",
    "Concentrations",
    "Conductance",
    "Conductivity",
    "Density",
    "Diffusion",
    "FlowChanging",
    "Leakance",
    "Length",
    "LengthAlong",
    "Number",
    "NumberChanging",
    "Part",
    "PerLength",
    "RateChanging",
    "RechargeRate",
    "SeriesPart",
    "ShapeFile",
    "SoilWaterPart",
    "Time",
    "Units",
]


def _units(info: Any) -> UnitSystem:
    return info.context["units"] if info.context else METRES_AND_DAYS


def _in_words(kind: str) -> WithJsonSchema:
    """For editors: a number, or text with a unit."""
    words = f"a {kind}: a number in the project's units, or text with a unit, as in {KINDS[kind][3]!r}"
    return WithJsonSchema({"anyOf": [{"type": "number"}, {"type": "string"}], "description": words})


def _reads(kind: str) -> BeforeValidator:
    """A number of some kind, turned into metres, days and grams."""

    def read(value: Any, info: Any) -> float:
        return quantity(value, kind, units=_units(info), what=info.field_name or kind)

    return BeforeValidator(read)


Length = Annotated[float, _reads("length"), _in_words("length")]
Time = Annotated[float, _reads("time"), _in_words("time")]
Conductivity = Annotated[float, _reads("conductivity"), _in_words("conductivity")]
Conductance = Annotated[float, _reads("conductance"), _in_words("conductance")]
Leakance = Annotated[float, _reads("leakance"), _in_words("leakance")]
Concentration = Annotated[float, _reads("concentration"), _in_words("concentration")]
Diffusion = Annotated[float, _reads("diffusion"), _in_words("diffusion")]
PerLength = Annotated[float, _reads("per length"), _in_words("per length")]
Density = Annotated[float, _reads("density"), _in_words("density")]
Number = Annotated[float, _reads("number"), _in_words("number")]


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


class SeriesPart(Part):
    """A value in time, from a table: ``{ series = "rates.csv", column = "rate" }``.

    The table has a column of dates, or of days since the start of the run, and one of values, or several
    for the vertices or the two ends of a line. Of a table for several features the rows of one are those
    whose column `by` holds its name.
    """

    series: str
    sheet: str | None = None
    column: str | list[str] | None = None
    time: str = "date"
    by: str | None = None


class SoilWaterPart(Part):
    """Recharge from daily rain: ``{ weather = "weather.csv", available_water = "80 mm" }``.

    The table has the columns date, rain and evapotranspiration; see `inkhorn.site.soil_water_balance`.
    """

    weather: str
    sheet: str | None = None
    available_water: Length
    easily_taken: Number = 0.5
    runoff: Number = 0.0
    crop_factor: Number = 1.0
    first_deficit: Length = 0.0


_OTHERWISE: dict[str, type[Part]] = {"series": SeriesPart, "weather": SoilWaterPart, "column": Column}


def _elsewhere(value: dict[str, Any], info: Any, allowed: tuple[str, ...]) -> Any:
    """A value that stands in a column, or in time in another file."""
    for key in allowed:
        if key in value:
            return _OTHERWISE[key].model_validate(value, context=info.context)
    raise ValueError(f"expected a value, or a table with one of {list(allowed)}; got {list(value)}")


def _reads_changing(kind: str, *allowed: str) -> PlainValidator:
    """A number, or one that stands in a column or in time."""

    def read(value: Any, info: Any) -> Any:
        if isinstance(value, dict):
            return _elsewhere(value, info, allowed)
        return quantity(value, kind, units=_units(info), what=info.field_name)

    return PlainValidator(read)


def _elsewhere_in_words(kind: str) -> WithJsonSchema:
    one = {"anyOf": [{"type": "number"}, {"type": "string"}, {"type": "array"}, {"type": "object"}]}
    words = f"a {kind}, as in {KINDS[kind][3]!r}; or {{ column = … }}, or {{ series = … }}"
    return WithJsonSchema({**one, "description": words})


def _along(value: Any, info: Any) -> Any:
    if isinstance(value, dict):
        return _elsewhere(value, info, ("series", "column"))
    values = value if isinstance(value, list) else [value]
    return tuple(quantity(v, "length", units=_units(info), what=info.field_name) for v in values)


def _concentrations(value: Any, info: Any) -> dict[str, float]:
    if not isinstance(value, dict):
        raise ValueError('expected species and numbers, as in { chloride = "30 mg/l" }')
    return {k: quantity(v, "concentration", units=_units(info), what=k) for k, v in value.items()}


FlowChanging = Annotated[Any, _reads_changing("flow", "series", "column"), _elsewhere_in_words("flow")]
NumberChanging = Annotated[Any, _reads_changing("number", "series"), _elsewhere_in_words("number")]
RateChanging = Annotated[Any, _reads_changing("rate", "series", "column"), _elsewhere_in_words("rate")]
RechargeRate = Annotated[
    Any, _reads_changing("rate", "series", "weather", "column"), _elsewhere_in_words("rate")
]
LengthAlong = Annotated[Any, PlainValidator(_along), _elsewhere_in_words("length")]
Concentrations = Annotated[
    dict[str, float],
    PlainValidator(_concentrations),
    WithJsonSchema({"type": "object", "description": "by species"}),
]


class Units(Part):
    """Units of numbers that carry none."""

    length: str = "m"
    time: str = "day"
    concentration: str = "mg/l"


class ShapeFile(Part):
    """A GIS file, and which of its tables."""

    file: str
    table: str | None = None
