"""Results in other units than those inside: tables, labelled arrays, labels of pictures."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeVar

from inkhorn.errors import InputError
from inkhorn.units import UnitSystem, conversion, dimension_of_unit

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["UnitChoice", "in_units"]

_IN_BRACKETS = re.compile(r"\[([^\[\]]+)\]")
_KEPT = re.compile(
    r'"[^"]*"|\[[^\[\]]*\]|\([^()]*\.[a-z]\w*[^()]*\)'
)  # what people call things, and where they stand
_NUMBER = r"-?\d[\d,]*(?:\.\d+)?(?:e[-+]?\d+)?"
_UNIT = "m³/day|m²/day|m/day|m³|m²|m"
_SAID = re.compile(rf"(?<![\w.,-])({_NUMBER})( to {_NUMBER})? ({_UNIT})(?![\w/²³^-])|\bin ({_UNIT})(?=[:,.])")
_SENTENCES = {"values", "note", "remark", "what"}  # columns that may hold them
_POWERS = {1: "", 2: "²", 3: "³"}
T = TypeVar("T")


@dataclass(frozen=True)
class UnitChoice:
    """The units that results are told in, one for each kind of number; kinds of which none is named stay as they are.

    Parameters
    ----------
    units : sequence of str
        Such as ``("ft", "l/s")``.

    Raises
    ------
    InputError
        If one is unknown, or two measure the same.

    Examples
    --------
    >>> UnitChoice(["ft", "l/s"]).label("head [m]")
    'head [ft]'
    """

    units: Sequence[str] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "units", tuple(self.units))
        if len(self._by_dimension) < len(self.units):
            raise InputError(f"{list(self.units)} names two units of one kind. Name one for each.")

    @classmethod
    def of_system(cls, system: UnitSystem) -> UnitChoice:
        """Return the units made of those of length and time of a project; times stay in days."""
        length, time = system.length, system.time
        if (length, time) == ("m", "day"):
            return cls()
        return cls(
            [
                *(f"{length}{_POWERS[p]}" for p in (1, 2, 3)),
                *(f"{length}{_POWERS[p]}/{time}" for p in (1, 2, 3)),
            ]
        )

    @cached_property
    def _by_dimension(self) -> dict[tuple[int, ...], str]:
        return {dimension_of_unit(unit): unit for unit in self.units}

    def of(self, unit: str) -> tuple[str, float]:
        """Return the unit that numbers in another are told in, and what one of the latter is in it.

        >>> unit, factor = UnitChoice(["l/s"]).of("m³/day")
        >>> unit, round(1.0 / factor, 6)
        ('l/s', 86.4)
        """
        if self.units:
            try:
                asked = self._by_dimension.get(dimension_of_unit(unit))
            except InputError:  # what stands in brackets is no unit
                asked = None
            if asked is not None:
                return asked, conversion(unit, asked)
        return unit, 1.0

    def label(self, text: str) -> str:
        """Return words with the units in their brackets changed."""
        return _IN_BRACKETS.sub(lambda m: f"[{self.of(m[1])[0]}]", text)

    def factor(self, text: str) -> float:
        """Return what numbers are multiplied with that stand under words with a unit in brackets."""
        found = _IN_BRACKETS.search(text)
        return self.of(found[1])[1] if found else 1.0

    def table(self, frame: pd.DataFrame) -> pd.DataFrame:
        """Return a table in these units: its numbers by the units in the names of columns, and its sentences."""
        factors = {name: self.factor(str(name)) for name in frame.columns if frame[name].dtype.kind in "fi"}
        changed = {name: frame[name] * factor for name, factor in factors.items() if factor != 1.0}
        for name in _SENTENCES.intersection(frame.columns) if self.units else ():
            changed[name] = [self.words(v) if isinstance(v, str) else v for v in frame[name]]
        made = frame.assign(**changed) if changed else frame
        made = made.rename(
            columns=lambda name: self.label(str(name)) if factors.get(name, 1.0) != 1.0 else name
        )
        made.attrs = dict(frame.attrs)
        return made

    def by_row(self, frame: pd.DataFrame, unit: str, *values: str) -> pd.DataFrame:
        """Return a table with columns of numbers whose unit begins the text of another column, if there is any."""
        parts = [(words if isinstance(words, str) else "").partition(" ") for words in frame[unit]]
        found = [self.of(first) if first else ("", 1.0) for first, _, _ in parts]
        words = [f"{new}{blank}{rest}" for (new, _), (_, blank, rest) in zip(found, parts, strict=True)]
        factors = [factor for _, factor in found]
        return frame.assign(**{unit: words, **{value: frame[value] * factors for value in values}})

    def words(self, text: str) -> str:
        """Return a sentence with its numbers in these units, but for what stands in quotes or names a place.

        >>> UnitChoice(["ft"]).words('up to 839 m from the nearest of "20 m grid"')
        'up to 2,753 ft from the nearest of "20 m grid"'
        """
        if not self.units:
            return text
        parts, end = list[str](), 0
        for kept in _KEPT.finditer(text):
            parts += [_SAID.sub(self._changed, text[end : kept.start()]), kept[0]]
            end = kept.end()
        return "".join([*parts, _SAID.sub(self._changed, text[end:])])

    def _changed(self, said: re.Match[str]) -> str:
        number, other, unit, alone = said.groups()
        if alone:
            return f"in {self.of(alone)[0]}"
        new, factor = self.of(unit)
        if factor == 1.0:
            return said[0]
        numbers = [_rounded(one, factor) for one in (number, (other or "").removeprefix(" to ")) if one]
        return f"{' to '.join(numbers)} {new}"

    def array(self, data: xr.DataArray) -> xr.DataArray:
        """Return a labelled array in these units, by its attribute and those of its coordinates."""
        unit, factor = self.of(str(data.attrs.get("units", "")))
        made = data if factor == 1.0 else (data * factor).assign_attrs({**data.attrs, "units": unit})
        for name, place in data.coords.items():
            unit, factor = self.of(str(place.attrs.get("units", "")))
            if factor != 1.0:
                made = made.assign_coords(
                    {name: (place.dims, place.to_numpy() * factor, {**place.attrs, "units": unit})}
                )
        return made


def _rounded(number: str, factor: float) -> str:
    """A number in another unit, by as many figures as it has, and no fewer than three."""
    figures = len(number.partition("e")[0].replace(",", "").replace(".", "").lstrip("-0"))
    value = factor * float(number.replace(",", ""))
    text = f"{value:.{max(figures, 3)}g}"
    return f"{value:,.0f}" if abs(value) >= 1000.0 and "e" not in number else text


def in_units(result: T, *units: str) -> T:
    """Return a result in other units: heads in feet, flows in litres a second.

    Parameters
    ----------
    result : pandas.DataFrame or xarray.DataArray
        Its columns state their units in brackets, or its attributes do.
    units : str
        One for each kind of number that is to change.

    Raises
    ------
    InputError
        If a unit is unknown, two are of one kind, or the result is neither table nor array.

    Examples
    --------
    >>> import pandas as pd
    >>> in_units(pd.DataFrame({"out [m³/day]": [86.4]}), "l/s")
       out [l/s]
    0        1.0
    """
    choice: Any = UnitChoice(units)
    if hasattr(result, "columns"):
        return choice.table(result)
    if hasattr(result, "coords"):
        return choice.array(result)
    raise InputError(
        f"a {type(result).__name__} has no units to change; expected a table or a labelled array."
    )
