"""Numbers with units in, plain floats in metres, days and grams inside.

A number may carry its unit (``"650 mm/year"``); one without is in the unit system of the
project. What cannot be converted (a length for a rate) is refused. pint does the conversion
and goes no further than this module.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from typing import Any, NamedTuple

from inkhorn.errors import InputError

__all__ = [
    "KINDS",
    "METRES_AND_DAYS",
    "UnitSystem",
    "plain",
    "quantity",
    "split_header",
    "unit_factor",
]


class Kind(NamedTuple):
    """A kind of number: powers of length, time and mass, an example for messages, and the unit inside."""

    length: int
    time: int
    mass: int
    example: str
    inside: str


KINDS: dict[str, Kind] = {
    "length": Kind(1, 0, 0, "12.5 m", "m"),
    "area": Kind(2, 0, 0, "3 ha", "m²"),
    "time": Kind(0, 1, 0, "15 years", "days"),
    "rate": Kind(1, -1, 0, "650 mm/year", "m/day"),
    "conductivity": Kind(1, -1, 0, "1e-4 m/s", "m/day"),
    "flow": Kind(3, -1, 0, "12 l/s", "m³/day"),
    "leakance": Kind(0, -1, 0, "0.01 1/day", "1/day"),
    "conductance": Kind(2, -1, 0, "25 m²/day", "m²/day"),
    "diffusion": Kind(2, -1, 0, "1e-9 m²/s", "m²/day"),
    "concentration": Kind(-3, 0, 1, "250 mg/l", "g/m³"),
    "per length": Kind(-1, 0, 0, "1e-5 1/m", "1/m"),
    "density": Kind(-3, 0, 1, "1700 kg/m³", "g/m³"),
    "well loss": Kind(-5, 2, 0, "1e-7 day²/m⁵", "day²/m⁵"),
    "angle": Kind(0, 0, 0, "30 degrees", "degrees"),
    "number": Kind(0, 0, 0, "0.3", ""),
}

_NUMBER = re.compile(r"^\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")
_PLAIN_POWER = re.compile(r"(?<=[A-Za-z])(-?[1-9])(?![A-Za-z0-9.])")  # as people type it: m3/day, m3 d-1
_POWER = r"(?:\^?-?[1-9](?![0-9.])|[⁻]?[¹²³⁴⁵]|\*\*-?[1-9](?![0-9.]))?"
_NAME, _BETWEEN = rf"[A-Za-z_µμ%°]{{1,20}}{_POWER}", r"(?:\s{0,3}[·*/]\s{0,3}|\s{1,3})"
_FACTOR = rf"(?:{_NAME}|\({_NAME}(?:{_BETWEEN}{_NAME}){{0,3}}\){_POWER}|1)"
# names with powers of one digit, multiplied and divided: no more is a unit, and the units library sees nothing else
_UNIT_TEXT = re.compile(rf"{_FACTOR}(?:{_BETWEEN}{_FACTOR}){{0,7}}")
_LONGEST = 60  # letters of a number with its unit


@dataclass(frozen=True)
class UnitSystem:
    """The units of numbers that carry none.

    Parameters
    ----------
    length, time, concentration : str
        Unit names, such as ``"m"``, ``"day"`` and ``"mg/l"``.
    """

    length: str = "m"
    time: str = "day"
    concentration: str = "mg/l"

    def unit_of(self, kind: str) -> str:
        """Return the unit that a bare number of this kind is in.

        >>> UnitSystem(time="s").unit_of("flow")
        '(m)^3/(s)'
        """
        if kind == "concentration":
            return self.concentration
        if kind == "density":
            return "kg/m^3"
        if kind == "angle":
            return "degree"
        length, time = KINDS[kind][:2]
        above = f"({self.length})^{length}" if length else "1"
        if abs(time) == 1:
            return f"{above}*({self.time})" if time > 0 else f"{above}/({self.time})"
        return f"{above}*({self.time})^{time}" if time else above


METRES_AND_DAYS = UnitSystem()


@cache
def _registry() -> Any:
    import pint

    try:
        return pint.UnitRegistry(cache_folder=":auto:")  # parsing its definitions anew takes 0.4 s
    except OSError:  # no folder to keep a cache in
        return pint.UnitRegistry(cache_folder=None)


@cache
def unit_factor(unit: str, kind: str) -> float:
    """Return what one of `unit` is inside, in metres, days and grams.

    Parameters
    ----------
    unit : str
        A unit, such as ``"l/s"``; powers as ``"m³"``, ``"m^3"`` or ``"m3"``. For concentrations ppm means mg/l and ppb
        µg/l (water of 1 kg/l).
    kind : str
        A key of `KINDS`.

    Returns
    -------
    float
        The factor from `unit` to the unit used inside.

    Raises
    ------
    InputError
        If the unit is unknown or is not one of this kind.

    >>> round(unit_factor("l/s", "flow"), 6)
    86.4
    """
    length, time, mass, example, _ = KINDS[kind]
    text = unit.strip()
    if kind == "concentration":
        text = {"ppm": "mg/l", "ppb": "ug/l"}.get(text, text)
    if text in ("", "-", "1"):
        text = "dimensionless"
    if len(text) > _LONGEST or not _UNIT_TEXT.fullmatch(text) or "**" in text:
        raise InputError(f'"{unit}" is not a unit; expected one of {kind}, as in "{example}".')
    try:
        measure = _registry().Quantity(1.0, _PLAIN_POWER.sub(r"**\1", text.replace("^", "**")))
        inside = "degree" if kind == "angle" else f"meter**{length} * day**{time} * gram**{mass}"
        return float(measure.to(inside).magnitude)
    except Exception as problem:  # pint raises many kinds, some from its tokenizer
        if type(problem).__name__ == "DimensionalityError":
            raise InputError(
                f'"{unit}" is not a unit of {kind}; expected something like "{example}".'
            ) from None
        raise InputError(f'the unit "{unit}" is not known; expected something like "{example}".') from None


def quantity(value: object, kind: str, *, units: UnitSystem = METRES_AND_DAYS, what: str = "value") -> float:
    """Return a number, with or without its unit, in metres, days and grams.

    Parameters
    ----------
    value : int, float or str
        ``12.5`` (in `units`) or ``"12 l/s"``.
    kind : str
        What it measures, a key of `KINDS`.
    units : UnitSystem
        The unit of a bare number.
    what : str
        How to name the value in a message.

    Returns
    -------
    float
        The value inside.

    Raises
    ------
    InputError
        If it is no number, not finite, or its unit is unknown or of another kind.

    >>> round(quantity("365.25 mm/year", "rate"), 9)
    0.001
    """
    if isinstance(value, str):
        match = _NUMBER.match(value) if len(value) <= _LONGEST else None
        if match is None:
            shown = value if len(value) <= _LONGEST else value[:_LONGEST] + "..."
            raise InputError(f'{what} is "{shown}"; expected a number, as in "{KINDS[kind].example}".')
        number, unit = float(match[1]), match[2]
    elif isinstance(value, (int, float)) and not isinstance(value, bool):
        number, unit = float(value), ""
    else:
        raise InputError(f'{what} is {value!r}; expected a number, as in "{KINDS[kind].example}".')
    if not abs(number) < float("inf"):
        raise InputError(f"{what} is {number}; expected a finite number.")
    try:
        return number * unit_factor(unit or units.unit_of(kind), kind)
    except InputError as problem:
        raise InputError(f"{what} is {value!r}: {problem}") from None


def plain(value: Any, kind: str, what: str = "value") -> Any:
    """Return a value with all text in it turned into numbers inside; what is no text stays as it is.

    Parameters
    ----------
    value : object
        A number, text such as ``"12 l/s"``, or a list or tuple of these.
    kind : str
        What it measures, a key of `KINDS`.
    what : str
        How to name it in a message.

    Raises
    ------
    InputError
        If text is no number, or its unit is unknown or of another kind.

    >>> plain(["1 km", 250.0], "length")
    [1000.0, 250.0]
    """
    if isinstance(value, str):
        return quantity(value, kind, what=what)
    if isinstance(value, (list, tuple)) and any(isinstance(v, (str, list, tuple)) for v in value):
        return type(value)(plain(v, kind, f"{what}[{k}]") for k, v in enumerate(value))
    return value


def split_header(header: str) -> tuple[str, str]:
    """Split a column header into its name and the unit in brackets behind it.

    >>> split_header("abstraction [m³/h]")
    ('abstraction', 'm³/h')
    """
    text = header.strip()
    name, bracket, unit = text.partition("[")
    if not bracket or not text.endswith("]"):
        return text, ""
    return name.strip(), unit[:-1].strip()
