"""What a field of a feature, or a property of the ground, is: said once where it stands, and used everywhere.

Tables of the project file, their schema and reference, units, columns, series, edits, checks and the table of what
landed all follow from these declarations.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, Field, dataclass, field, fields
from math import inf
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative, check_positive
from inkhorn.units import KINDS, refuse_impossible

__all__ = [
    "Choice",
    "Concentrations",
    "Declared",
    "FeatureName",
    "LayerNames",
    "Quantity",
    "Symbol",
    "choice",
    "concentrations",
    "declared_fields",
    "feature_name",
    "layer_names",
    "per_species",
    "quantity",
]

Check = Literal["finite", "nonnegative", "positive"]
_UP_TO = {1.0: "a share from 0 to 1"}
_CHECKS = {"finite": check_finite, "nonnegative": check_nonnegative, "positive": check_positive}


@dataclass(frozen=True)
class Declared:
    """What every field says of itself.

    Attributes
    ----------
    words : str
        What it means, for the reference.
    example : object
        As it may stand in a project file.
    """

    words: str
    example: Any = None


@dataclass(frozen=True)
class Quantity(Declared):
    """A number with a unit.

    Attributes
    ----------
    dimension : str, or mapping of str to str
        A key of `inkhorn.units.KINDS`; or one for each geometry: line, polygon, point, cells.
    along : bool
        Whether it may have several values along a line, and one for each of cells told one by one.
    by_cell : bool
        Whether it may have one for each of cells told one by one.
    in_time : bool
        Whether it may be a `Series`.
    weather : bool
        Whether it may follow from daily rain, by a balance of the soil's water.
    check : {"finite", "nonnegative", "positive"}
        Which numbers it can be.
    remedy : str
        What to do about a number that it cannot be; of flows what their sign means.
    usual : (float, float), optional
        Between which it commonly lies where it is not zero, in metres, days and grams: beyond that a slip of units is
        likely. That of its kind of number if not given.
    least, most : float
        Bounds beyond which it cannot be, as a share cannot exceed 1; besides those of its kind of number.
    """

    dimension: str | Mapping[str, str] = "number"
    along: bool = False
    by_cell: bool = False
    in_time: bool = False
    weather: bool = False
    check: Check = "finite"
    remedy: str = ""
    usual: tuple[float, float] | None = None
    least: float = -inf
    most: float = inf

    def usual_on(self, geometry: str) -> tuple[float, float]:
        """Return between which it commonly lies."""
        return self.usual or KINDS[self.dimension_on(geometry)].usual

    def dimension_on(self, geometry: str) -> str:
        """Return what kind of number it is on a line, a polygon, a point, or cells told one by one."""
        if isinstance(self.dimension, str):
            return self.dimension
        return self.dimension[geometry]

    @property
    def dimensions(self) -> tuple[str, ...]:
        """Every kind of number that it may be."""
        named = (self.dimension,) if isinstance(self.dimension, str) else self.dimension.values()
        return tuple(dict.fromkeys(named))

    def checked(self, what: str, values: Any, geometry: str = "line") -> NDArray[np.float64]:
        """Return values as floats, refusing what cannot be."""
        unit = KINDS[self.dimension_on(geometry)].inside
        array = _CHECKS[self.check](what, values, unit=unit, remedy=self.remedy)
        if self.most in _UP_TO and array.size and array.max() > self.most:
            at = f" in cell {int(array.argmax())}" if array.ndim else ""
            raise InputError(f"{what} is {array.max():g}{at}; expected {_UP_TO[self.most]}.")
        least = self.least if self.check == "finite" else max(self.least, 0.0)
        refuse_impossible(what, array, self.dimension_on(geometry), least=least, most=self.most)
        return array


@dataclass(frozen=True)
class LayerNames(Declared):
    """The layers that a feature meets, by name; of a layer in parts all of them unless one is named."""

    many: bool = True


@dataclass(frozen=True)
class FeatureName(Declared):
    """Another feature, by its name."""


@dataclass(frozen=True)
class Choice(Declared):
    """Yes or no, or one of several words."""


@dataclass(frozen=True)
class Concentrations(Declared):
    """Of each species in the water that a feature brings, by its name.

    Attributes
    ----------
    dimension : str
        A key of `inkhorn.units.KINDS`.
    in_space : bool
        Whether it may be a surface, of scattered points or a raster.
    """

    dimension: str = "concentration"
    in_space: bool = False


@dataclass(frozen=True)
class Symbol:
    """How a kind of feature is drawn on a map.

    Attributes
    ----------
    colour : str
        Of lines, edges and markers.
    fill : str, optional
        Of polygons; an outline alone if not given.
    hatch : str
        Of polygons, as Matplotlib writes hatches.
    width : float
        Of lines [points].
    dashes : tuple of float
        Lengths of dashes and gaps [points]; none for a line drawn through.
    marker : str
        Of points, as Matplotlib names them.
    named : bool
        Whether its name is written beside it.
    """

    colour: str = "#2a6f97"
    fill: str | None = None
    hatch: str = ""
    width: float = 1.4
    dashes: tuple[float, ...] = ()
    marker: str = "o"
    named: bool = False


def _field(declared: Declared, default: Any, default_factory: Any = MISSING) -> Any:
    made: Any = {"default": default} if default_factory is MISSING else {"default_factory": default_factory}
    return field(metadata={"declared": declared}, **made)


def quantity(
    words: str,
    dimension: str | Mapping[str, str],
    *,
    default: Any = MISSING,
    along: bool = False,
    by_cell: bool = False,
    in_time: bool = False,
    weather: bool = False,
    check: Check = "finite",
    remedy: str = "",
    usual: tuple[float, float] | None = None,
    least: float = -inf,
    most: float = inf,
    example: Any = None,
) -> Any:
    """A field that is a `Quantity`; needed where no default is given."""
    said = Quantity(
        words,
        example,
        dimension,
        along,
        along or by_cell,
        in_time,
        weather,
        check,
        remedy,
        usual,
        least,
        most,
    )
    return _field(said, default)


def layer_names(words: str, *, many: bool = True) -> Any:
    """A field of `LayerNames`: a tuple, or one name or None."""
    return _field(LayerNames(words, ["sand"] if many else "sand", many), () if many else None)


def choice(words: str, *, default: Any) -> Any:
    """A field that is yes or no."""
    return _field(Choice(words, default), default)


def feature_name(words: str, *, example: str) -> Any:
    """A field of `FeatureName`; empty if not given."""
    return _field(FeatureName(words, example), "")


def concentrations(
    words: str = "of each species in the water it brings in, by name", *, in_space: bool = False
) -> Any:
    """A field of `Concentrations`."""
    return _field(Concentrations(words, {"chloride": "30 mg/l"}, in_space=in_space), MISSING, dict)


def per_species(words: str, dimension: str, example: str) -> Any:
    """A field of another kind of number for each species."""
    return _field(Concentrations(words, {"chloride": example}, dimension), MISSING, dict)


def declared_fields(of: Any) -> dict[str, tuple[Field[Any], Declared]]:
    """Return the fields of a dataclass that say what they are, by name."""
    return {f.name: (f, f.metadata["declared"]) for f in fields(of) if "declared" in f.metadata}
