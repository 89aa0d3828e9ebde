"""Pits that are kept dry."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from inkhorn.site.declaration import Symbol, quantity
from inkhorn.site.features import Changing, Feature

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["Excavation"]


@dataclass(frozen=True, kw_only=True)
class Excavation(Feature):
    """A pit that is dug and kept dry: water leaves by its floor and, above it, by its sides.

    Cells above the floor hold air; what comes into them from beside seeps out of the pit's sides, layer by layer, at the
    height where it comes out. So layers in thin parts tell more.

    Parameters
    ----------
    floor : float or Series
        Its lowest level [m]; above the ground before it is dug and once it is filled. Where a run begins from a steady
        solution, that is of the floor as it is in the period after.
    """

    floor: Given[Changing] = quantity(
        "its lowest level; above the ground while it is not dug", "elevation", in_time=True, example="38 m"
    )
    kind: ClassVar[str] = "excavation"
    table: ClassVar[str] = "excavation"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")
    signs: ClassVar[str] = "takes water out only"
    symbol: ClassVar[Symbol] = Symbol(colour="#7f5539", width=1.6)
