"""Zones: ways to divide a site, by polygons or by the codes of a raster, free of any grid."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import KW_ONLY, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError

__all__ = ["Zones"]


@dataclass(frozen=True, eq=False)
class Zones:
    """One way to divide a site into zones.

    Parameters
    ----------
    names : tuple of str
        What the zones are called.
    shapes : tuple of shapely Polygon, optional
        One for each, in the order of their names; where they meet, the first counts.
    codes : object, optional
        A raster instead, with a method ``nearest(x, y)`` that gives a whole number; zones are then called by `code_of`.
    code_of : mapping of int to str
        The zone of each number of the raster; places of other numbers lie in none.
    layers : tuple of str
        Where they divide; every layer if not given.
    source : str
        Where they were read from, for messages.
    """

    names: tuple[str, ...]
    shapes: tuple[Any, ...] = field(default=(), repr=False)
    _: KW_ONLY
    codes: Any = field(default=None, repr=False)
    code_of: Mapping[int, str] = field(default_factory=dict, repr=False)
    layers: tuple[str, ...] = ()
    source: str = ""

    def __post_init__(self) -> None:
        twice = sorted({n for n in self.names if self.names.count(n) > 1})
        if twice and self.codes is not None:
            raise InputError(f"zones {self.source}: names appear twice: {twice}. Give each zone its own.")
        if (self.codes is None) == (not self.shapes):
            raise InputError(f"zones {self.source}: expected polygons, or a raster of codes, and not both.")
        if self.shapes and len(self.shapes) != len(self.names):
            raise InputError(
                f"zones {self.source}: {len(self.names)} names for {len(self.shapes)} polygons; expected as many."
            )

    @property
    def distinct(self) -> tuple[str, ...]:
        """The names, each once; several polygons of one name are one zone."""
        return tuple(dict.fromkeys(self.names))

    def at(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        """Return which of `distinct` each place lies in, -1 for none, (n,)."""
        import shapely

        x, y = (np.atleast_1d(np.asarray(v, dtype=np.float64)) for v in (x, y))
        found, position = np.full(len(x), -1), {n: k for k, n in enumerate(self.distinct)}
        if self.codes is not None:
            number = self.codes.nearest(x, y)
            for code, name in self.code_of.items():
                found[number == code] = position[name]
            return found
        first = np.full(len(x), len(self.shapes))
        point, shape = shapely.STRtree(self.shapes).query(shapely.points(x, y), predicate="intersects")
        np.minimum.at(first, point, shape)
        of_shape = np.array([position[n] for n in self.names] + [-1])
        return np.asarray(of_shape[first])
