"""Numbers with units in, plain floats in metres, days and grams inside.

A number may carry its unit (``"650 mm/year"``); one without is in the unit system of the
project. What cannot be converted (a length for a rate) is refused. pint does the conversion
and goes no further than this module.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from math import inf
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError

__all__ = [
    "KINDS",
    "METRES_AND_DAYS",
    "UnitSystem",
    "WithUnit",
    "conversion",
    "dimension_of_unit",
    "plain",
    "quantity",
    "refuse_impossible",
    "unit_factor",
]


T = TypeVar("T")

if TYPE_CHECKING:

    class Given(Generic[T]):
        """The type of a field that is a number once it is there, and may be given as text with its unit."""

        def __get__(self, of: object, kind: Any = None) -> T: ...
        def __set__(self, of: object, value: T | str | Sequence[float | str]) -> None: ...


WithUnit = float | Any
"""A number, or text such as "12 m"; for a type checker `Any`, as it is a float as soon as it has been read."""


class Kind(NamedTuple):
    """A kind of number.

    Attributes
    ----------
    length, time, mass : int
        Powers.
    example : str
        For messages.
    inside : str
        The unit inside.
    possible : (float, float)
        Between which any number of this kind lies: what is beyond is refused wherever it comes in.
    usual : (float, float)
        Between which nearly all of this kind lie that are not zero: what is beyond is told.
    """

    length: int
    time: int
    mass: int
    example: str
    inside: str
    possible: tuple[float, float]
    usual: tuple[float, float] = (-inf, inf)


KINDS: dict[str, Kind] = {
    "length": Kind(1, 0, 0, "12.5 m", "m", (-1e8, 1e8), (1e-4, 1e5)),
    "elevation": Kind(1, 0, 0, "41.2 m", "m", (-9000.0, 9000.0)),
    "area": Kind(2, 0, 0, "3 ha", "m²", (0.0, 1e15)),
    "time": Kind(0, 1, 0, "15 years", "days", (-1e10, 1e10)),
    "rate": Kind(1, -1, 0, "650 mm/year", "m/day", (-100.0, 100.0), (0.0, 0.1)),
    "conductivity": Kind(1, -1, 0, "1e-4 m/s", "m/day", (0.0, 1e9), (1e-9, 1e5)),
    "flow": Kind(3, -1, 0, "12 l/s", "m³/day", (-1e11, 1e11), (0.0, 5e5)),
    "leakance": Kind(0, -1, 0, "0.01 1/day", "1/day", (0.0, 1e9), (1e-9, 1e4)),
    "conductance": Kind(2, -1, 0, "25 m²/day", "m²/day", (0.0, 1e12), (1e-6, 1e7)),
    "diffusion": Kind(2, -1, 0, "1e-9 m²/s", "m²/day", (0.0, 1.0), (1e-7, 1e-2)),
    "viscosity": Kind(2, -1, 0, "1.3e-6 m²/s", "m²/day", (0.0, 1e6), (0.01, 1.0)),
    "concentration": Kind(-3, 0, 1, "250 mg/l", "g/m³", (0.0, 3e6), (0.0, 4e5)),
    "distribution coefficient": Kind(3, 0, -1, "0.2 l/kg", "m³/g", (0.0, 1.0), (1e-11, 1e-3)),
    "production": Kind(-3, -1, 1, "0.1 mg/(l day)", "g/(m³ day)", (0.0, 1e6), (0.0, 1e4)),
    "mass rate": Kind(0, -1, 1, "3 kg/year", "g/day", (0.0, 1e12), (0.0, 1e9)),
    "per length": Kind(-1, 0, 0, "1e-5 1/m", "1/m", (0.0, 1e6)),
    "density": Kind(-3, 0, 1, "1700 kg/m³", "g/m³", (0.0, 3e7), (1e5, 5e6)),
    "well loss": Kind(-5, 2, 0, "1e-7 day²/m⁵", "day²/m⁵", (0.0, 1e3), (0.0, 1e-2)),
    "angle": Kind(0, 0, 0, "30 degrees", "degrees", (-3600.0, 3600.0), (-360.0, 360.0)),
    "number": Kind(0, 0, 0, "0.3", "", (-1e300, 1e300)),
}

_BY_KILOGRAM = {
    "density": "kg/m^3",
    "distribution coefficient": "l/kg",
}  # bare numbers, whatever the units of length
_NUMBER = re.compile(r"^\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")
_PLAIN_POWER = re.compile(r"(?<=[A-Za-z])(-?[1-9])(?![A-Za-z0-9.])")  # as people type it: m3/day, m3 d-1
_POWER = r"(?:\^?-?[1-9](?![0-9.])|[⁻]?[¹²³⁴⁵]|\*\*-?[1-9](?![0-9.]))?"
_NAME, _BETWEEN = rf"[A-Za-z_µμ%°]{{1,20}}{_POWER}", r"(?:\s{0,3}[·*/]\s{0,3}|\s{1,3})"
_FACTOR = rf"(?:{_NAME}|\({_NAME}(?:{_BETWEEN}{_NAME}){{0,3}}\){_POWER}|1)"
# names with powers of one digit, multiplied and divided: no more is a unit, and the units library sees nothing else
_UNIT_TEXT = re.compile(rf"{_FACTOR}(?:{_BETWEEN}{_FACTOR}){{0,7}}")
_OF_THE_TRADE = (
    "gpm = gallon / minute",
    "gpd = gallon / day",
    "mgd = 1e6 * gallon / day = MGD",
    "cfs = foot ** 3 / second",
    "cfd = foot ** 3 / day",
)
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
        if kind in _BY_KILOGRAM:
            return _BY_KILOGRAM[kind]
        if kind == "production":
            return f"({self.concentration})/({self.time})"
        if kind == "mass rate":
            return f"kg/({self.time})"
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

    made: Any
    try:
        made = pint.UnitRegistry(cache_folder=":auto:")  # parsing its definitions anew takes 0.4 s
    except OSError:  # no folder to keep a cache in
        made = pint.UnitRegistry(cache_folder=None)
    for words in _OF_THE_TRADE:
        made.define(words)
    return made


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
    length, time, mass, example, inside = KINDS[kind][:5]
    text = unit.strip()
    if text == inside or (text == METRES_AND_DAYS.unit_of(kind) and not KINDS[kind].mass):
        return 1.0
    if kind == "concentration":
        text = {"ppm": "mg/l", "ppb": "ug/l"}.get(text, text)
    if text in ("", "-", "1"):
        text = "dimensionless"
    if not _is_unit(text):
        raise InputError(f'"{unit}" is not a unit; expected one of {kind}, as in "{example}".')
    _registry()  # what is wrong with the library is not wrong with the unit
    try:
        measure = _measure(text)
        goal = "degree" if kind == "angle" else f"meter**{length} * day**{time} * gram**{mass}"
        return float(measure.to(goal).magnitude)
    except Exception as problem:  # pint raises many kinds, some from its tokenizer
        if type(problem).__name__ == "DimensionalityError":
            raise InputError(
                f'"{unit}" is not a unit of {kind}; expected something like "{example}".'
            ) from None
        raise InputError(f'the unit "{unit}" is not known; expected something like "{example}".') from None


def _is_unit(text: str) -> bool:
    return len(text) <= _LONGEST and _UNIT_TEXT.fullmatch(text) is not None and "**" not in text


def _measure(text: str) -> Any:
    """One of a unit, as the units library has it."""
    return _registry().Quantity(1.0, _PLAIN_POWER.sub(r"**\1", text.replace("^", "**")))


@cache
def dimension_of_unit(unit: str) -> tuple[int, ...]:
    """Return the powers of length, time and mass of a unit.

    Raises
    ------
    InputError
        If it is unknown.

    >>> dimension_of_unit("l/s")
    (3, -1, 0)
    """
    for kind in KINDS.values():  # those inside need no library
        if unit.removesuffix("s") == kind.inside.removesuffix("s"):
            return kind.length, kind.time, kind.mass
    if not _is_unit(unit.strip()):
        raise InputError(f'"{unit}" is not a unit; expected something like "l/s".')
    _registry()
    try:
        powers = dict(_measure(unit.strip()).dimensionality)
    except Exception:  # pint raises many kinds, some from its tokenizer
        raise InputError(f'the unit "{unit}" is not known; expected something like "l/s".') from None
    return tuple(int(powers.get(f"[{name}]", 0)) for name in ("length", "time", "mass"))


@cache
def conversion(unit: str, goal: str) -> float:
    """Return what one of a unit is in another of the same kind.

    >>> round(conversion("m³/day", "l/s"), 6)
    0.011574
    """
    return float(_measure(unit.strip()).to(_measure(goal.strip()).units).magnitude)


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
        try:
            number, unit = float(value), ""
        except OverflowError:
            number, unit = inf, ""
    else:
        raise InputError(f'{what} is {value!r}; expected a number, as in "{KINDS[kind].example}".')
    if not abs(number) < float("inf"):
        raise InputError(f"{what} is {number}; expected a finite number.")
    try:
        inside = number * unit_factor(unit or units.unit_of(kind), kind)
    except InputError as problem:
        raise InputError(f"{what} is {value!r}: {problem}") from None
    refuse_impossible(what, inside, kind)
    return inside


def refuse_impossible(
    what: str, values: float | NDArray[np.float64], kind: str, *, least: float = -inf, most: float = inf
) -> None:
    """Refuse numbers that none of their kind can be.

    Parameters
    ----------
    what : str
        How to name them in a message.
    values : float or ndarray of float
        In metres, days and grams.
    kind : str
        What they measure, a key of `KINDS`.
    least, most : float
        Bounds narrower than those of the kind.

    Raises
    ------
    InputError
        With the first such number, what is possible, and how many there are.

    >>> refuse_impossible("stage", 1.7, "elevation")
    >>> refuse_impossible("stage", -9999.0, "elevation")
    Traceback (most recent call last):
    inkhorn.errors.InputError: stage is -9999 m; an elevation lies between -9000 and 9000 m. Check its unit, and whether \
it stands for "no data".
    """
    low, high = max(least, KINDS[kind].possible[0]), min(most, KINDS[kind].possible[1])
    array = np.atleast_1d(values)
    wrong = (array < low) | (array > high)
    if wrong.any():
        bad = np.argwhere(wrong)
        unit = f" {KINDS[kind].inside}".rstrip()
        place = f"[{', '.join(str(i) for i in bad[0])}]" if np.ndim(values) else ""
        article = "an" if kind[0] in "aeiou" else "a"
        count = f" ({len(bad)} of {array.size} are beyond)" if array.size > 1 else ""
        said = f"{article} {kind} lies " if (low, high) == KINDS[kind].possible else "expected "
        raise InputError(
            f"{what}{place} is {array[tuple(bad[0])]:g}{unit}; {said}between {low:g} and {high:g}{unit}{count}. "
            'Check its unit, and whether it stands for "no data".'
        )


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
