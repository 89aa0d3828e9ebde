"""Features: what brings water in or takes it out, described without any grid.

A kind of feature is one class here or elsewhere: its fields say what they are, and the project file, checks, maps and
tables know it by that. Signs are in the names: what a well takes out is its ``abstraction``, what it gives back its
``injection``, and neither can be negative. Recharge adds water to the aquifer.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, coordinate_off, did_you_mean
from inkhorn.site.cells import PickedCells
from inkhorn.site.declaration import Concentrations, LayerNames, Quantity, Symbol, declared_fields
from inkhorn.site.series import Series
from inkhorn.site.species import ReturnedWater
from inkhorn.space import Surface
from inkhorn.units import plain

__all__ = [
    "Along",
    "Changing",
    "Feature",
    "along_line",
    "along_weights",
    "geometry_of",
    "kind_named",
    "kinds",
    "mean_value",
]

Along = float | Sequence[float] | Series  # one value, or several along a line, or either in time
Changing = float | Series
ByCell = float | Sequence[float]  # one value, or one for each of cells told one by one

_GEOMETRY = {
    "LineString": "line",
    "Polygon": "polygon",
    "MultiPolygon": "polygon",
    "Point": "point",
    "Cells": "cells",
}
_ONE = {"line": "a line", "polygon": "a polygon", "point": "a point", "cells": "cells told one by one"}
_PLURAL = {"line": "lines", "polygon": "polygons", "point": "points", "cells": "cells told one by one"}


def geometry_of(shape: Any) -> str:
    """Return what a shape is: line, polygon, point, or cells told one by one."""
    return _GEOMETRY[shape.geom_type]


def along_weights(line: Any, count: int, fraction: NDArray[np.float64]) -> tuple[Any, Any, Any]:
    """Return how values given along a line are interpolated, as entries of a sparse matrix.

    Parameters
    ----------
    line : shapely LineString
        The line.
    count : int
        Values given: one for all of it, two for its ends, or one for each vertex.
    fraction : ndarray of float, (n,)
        Where along the line, 0 at its first vertex and 1 at its last.

    Returns
    -------
    place, value, weight : ndarray, (m,) each
        The value asked for at each place is the sum of the values given times their weights.
    """
    n = np.arange(len(fraction))
    if count == 1:
        return n, np.zeros(len(fraction), np.int64), np.ones(len(fraction))
    if count == 2:
        before, share = np.zeros(len(fraction), np.int64), fraction
    else:
        points = np.asarray(line.coords)[:, :2]
        run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
        before = np.clip(np.searchsorted(run / run[-1], fraction, "right"), 1, len(run) - 1) - 1
        share = (fraction * run[-1] - run[before]) / (run[before + 1] - run[before])
    return (
        np.concatenate([n, n]),
        np.concatenate([before, before + 1]),
        np.concatenate([1.0 - share, share]),
    )


def along_line(line: Any, values: ArrayLike, fraction: NDArray[np.float64]) -> NDArray[np.float64]:
    """Interpolate values given along a line.

    Parameters
    ----------
    line : shapely LineString
        The line.
    values : array_like of float, (m,) or (n_periods, m)
        As `along_weights` counts them; if in time, for each period.
    fraction : ndarray of float, (n,)
        Where along the line.

    Returns
    -------
    ndarray of float, (n,) or (n_periods, n)
    """
    v = np.atleast_1d(np.asarray(values, dtype=np.float64))
    place, value, weight = along_weights(line, v.shape[-1], fraction)
    answer = np.zeros((*v.shape[:-1], len(fraction)))
    spot: Any = (..., place)
    np.add.at(answer, spot, v[..., value] * weight)
    return answer


def _values(value: Along) -> NDArray[np.float64]:
    """All values there are, (m,) or in time (n, m)."""
    return np.asarray(value.values if isinstance(value, Series) else np.atleast_1d(value), dtype=np.float64)


def value_count(value: Along) -> int:
    """Return how many values there are at one time."""
    return int(_values(value).shape[-1])


def mean_value(value: Along) -> float:
    """Return the mean of all values, along a line and in time."""
    return float(_values(value).mean())


def says_nothing(name: str, dimension: Mapping[str, str], geometry: str) -> str:
    """Say that a quantity is for features of other geometries."""
    fit = " and ".join(_PLURAL[k] for k in dimension)
    return f"{name} says nothing of {_ONE[geometry]}; it is for {fit}. Leave it out."


@dataclass(frozen=True, kw_only=True)
class Feature:
    """What all features have.

    Parameters
    ----------
    shape : shapely geometry or PickedCells
        Where.
    name : str
        Unique within the site; budgets and tables use it.
    source : str
        Where it was read from, for messages.

    Attributes
    ----------
    kind : str
        What such a feature is called.
    table : str
        The array of tables of the project file in which it stands.
    shapes : tuple of str
        Which geometries it can have, as shapely names them.
    ways : tuple of tuple of str
        Sets of fields of which one, and no more, is given whole.
    signs : str
        What the sign of its flow means, in words.
    symbol : Symbol
        How it is drawn on a map.
    brings_water : bool
        False of what is dissolved without any water that brings it.
    """

    name: str
    shape: Any = field(default=None, repr=False)
    source: str = field(default="", repr=False)

    kind: ClassVar[str] = "feature"
    table: ClassVar[str] = ""
    shapes: ClassVar[tuple[str, ...]] = ()
    ways: ClassVar[tuple[tuple[str, ...], ...]] = ()
    signs: ClassVar[str] = "positive into the aquifer"
    symbol: ClassVar[Symbol] = Symbol()
    brings_water: ClassVar[bool] = True

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_ways()
        for name, (_, declared) in declared_fields(self).items():
            value = getattr(self, name)
            if isinstance(declared, Quantity) and value is not None:
                self._check_quantity(name, declared, value)
            elif isinstance(declared, Concentrations):
                what = f"{self.where}: {name} of"
                said = Quantity("", dimension=declared.dimension, check="nonnegative")
                numbers = {
                    k: v
                    if isinstance(v, (Series, ReturnedWater, Surface))
                    else plain(v, declared.dimension, f"{what} {k}")
                    for k, v in value.items()
                }
                for species, number in numbers.items():
                    if isinstance(number, Surface) and not declared.in_space:
                        raise InputError(f"{what} {species} is a surface. Give a number.")
                    if not isinstance(number, (ReturnedWater, Surface)):
                        given = number.values if isinstance(number, Series) else number
                        said.checked(f"{what} {species}", given)
                object.__setattr__(self, name, numbers)
            elif isinstance(declared, LayerNames) and declared.many:
                names = (value,) if isinstance(value, str) else tuple(value)
                object.__setattr__(self, name, names)
            if isinstance(declared, LayerNames) and value and self.geometry == "cells":
                raise InputError(
                    f"{self.where}: {name} says nothing of cells told one by one, whose layers are told. Leave it out."
                )

    @classmethod
    def at(cls, shape: Any) -> dict[str, Any]:
        """Return the fields that say where a feature is, from a shape of a file."""
        return {"shape": shape}

    @property
    def where(self) -> str:
        """The feature in words, for messages."""
        return f'{self.kind} "{self.name}"' + (f" ({self.source})" if self.source else "")

    @property
    def geometry(self) -> str:
        """Line, polygon, point, or cells told one by one."""
        return geometry_of(self.shape)

    @property
    def layer_names(self) -> tuple[str, ...]:
        """Every layer that it names."""
        named: list[str] = []
        for name, (_, declared) in declared_fields(self).items():
            value = getattr(self, name)
            if isinstance(declared, LayerNames) and value:
                named += [value] if isinstance(value, str) else value
        return tuple(named)

    @property
    def concentrations(self) -> dict[str, Any]:
        """Of each species that it brings, by name: a number [g/m³], a Series, a ReturnedWater or a Surface."""
        found: dict[str, Any] = {}
        for name, (_, declared) in declared_fields(self).items():
            if isinstance(declared, Concentrations):
                found |= getattr(self, name)
        return found

    @property
    def highest_concentrations(self) -> dict[str, float]:
        """The highest there is of each species in the water that it brings [g/m³], of returned water what is added.

        Of surfaces nothing is said before they are placed.
        """
        return {
            name: value.added if isinstance(value, ReturnedWater) else float(np.max(_values(value)))
            for name, value in self.concentrations.items()
            if not isinstance(value, Surface)
        }

    def marked(self) -> list[tuple[str, Symbol]]:
        """Return how it is drawn and what the legend says; nothing if it is not."""
        return [(self.kind, self.symbol)]

    def _check_shape(self) -> None:
        words = " or ".join(self.shapes)
        if isinstance(self.shape, PickedCells):
            self.shape.refuse_repeats(self.where)
            return
        if self.shape is None or self.shape.is_empty:
            raise InputError(f"{self.where} has an empty shape; expected a {words}.")
        if self.shape.geom_type not in self.shapes:
            raise InputError(f"{self.where} has the shape of a {self.shape.geom_type}; expected a {words}.")
        off = coordinate_off(self.shape)
        if off is not None:
            raise InputError(
                f"{self.where} has a corner at {off}, which is no place on a map. Mend its shape."
            )

    def _check_ways(self) -> None:
        if not self.ways:
            return
        given = {k for way in self.ways for k in way if getattr(self, k) is not None}
        if given not in map(set, self.ways):
            said = ", or ".join(_listed(way) for way in self.ways)
            raise InputError(f"{self.where}: expected either {said}, and not both.")

    def _check_quantity(self, name: str, declared: Quantity, value: Any) -> None:
        if isinstance(value, Series) and not declared.in_time:
            words = "one level, or one along the line" if declared.along else "one number"
            raise InputError(f"{self.where}: the {name} changes in time; expected {words}.")
        if isinstance(declared.dimension, dict) and self.geometry not in declared.dimension:
            raise InputError(f"{self.where}: {says_nothing(name, declared.dimension, self.geometry)}")
        if not isinstance(value, Series):
            value = plain(value, declared.dimension_on(self.geometry), f"{self.where}: {name}")
            object.__setattr__(self, name, value)
        given = value.values if isinstance(value, Series) else value
        values = np.atleast_1d(declared.checked(f"{self.where}: {name}", given, self.geometry))
        vertices = len(self.shape.coords) if self.geometry == "line" and declared.along else 1
        allowed = {1, 2 if vertices > 1 else 1, vertices}
        if self.geometry == "cells" and declared.by_cell:
            allowed = {1, len(self.shape)}
        if values.shape[-1] not in allowed:
            if declared.along and self.geometry == "line":
                words = f"1, 2 (at the ends) or {vertices} (at the vertices)"
            elif self.geometry == "cells" and declared.by_cell:
                words = f"1 or {len(self.shape)} (one for each cell)"
            else:
                words = " or ".join(map(str, sorted(allowed)))
            raise InputError(f"{self.where}: {name} has {values.shape[-1]} values; expected {words}.")


def _listed(names: Sequence[str]) -> str:
    """Names as a message lists them."""
    quoted = [f"`{name}`" for name in names]
    return quoted[0] if len(quoted) == 1 else f"{', '.join(quoted[:-1])} and {quoted[-1]}"


def _below(kind: type[Feature]) -> Iterator[type[Feature]]:
    for one in kind.__subclasses__():
        yield one
        yield from _below(one)


def kinds() -> dict[str, type[Feature]]:
    """Return every kind of feature there is, those of other packages included, by its table in the project file.

    Raises
    ------
    InputError
        If two kinds have the same table or are called the same.
    """
    found: dict[str, type[Feature]] = {}
    for kind in _below(Feature):
        if "table" not in vars(kind):
            continue
        same = [k for k in found.values() if kind.kind == k.kind or kind.table == k.table]
        if same:
            one = f"{kind.__module__}.{kind.__name__}"
            raise InputError(
                f'{one} is called "{kind.kind}" and stands in the table "{kind.table}", as {same[0].__name__} does. '
                "Give each kind its own."
            )
        found[kind.table] = kind
    return found


def value_named(of: str) -> str:
    """Return the name of a value of features by what their kind is called, also where its table was named.

    >>> value_named("head_dependent.head")
    'head-dependent boundary.head'
    """
    table, dot, name = of.partition(".")
    known = kinds() if dot else {}
    return f"{known[table].kind}.{name}" if table in known else of


def kind_named(name: str) -> type[Feature]:
    """Return a kind by what it is called.

    Raises
    ------
    InputError
        If there is none.
    """
    known = {kind.kind: kind for kind in kinds().values()}
    if name not in known:
        raise InputError(
            f'there is no kind of feature "{name}"; expected one of {list(known)}.{did_you_mean(name, list(known))}'
        )
    return known[name]
