"""Walls, faults and sheet piles that water crosses with difficulty."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from inkhorn.errors import InputError
from inkhorn.site.cells import PickedCells
from inkhorn.site.declaration import Symbol, layer_names, quantity
from inkhorn.site.features import Feature

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["Barrier"]


@dataclass(frozen=True, kw_only=True)
class Barrier(Feature):
    """A line that stands between cells and resists flow across it.

    Parameters
    ----------
    shape : shapely LineString or PickedCells
        Its course. It follows the faces between the cells on either side; of cells told one by one, those between
        the first and the second, the third and the fourth, and so on.
    conductivity, thickness : float, optional
        Of what it is made of [m/day], [m].
    leakance : float, optional
        Flow per area and head difference instead, conductivity over thickness [1/day].
    layers : tuple of str
        Which layers it cuts; every one if not given.
    foot : float, optional
        How deep it reaches, as an elevation [m]: it cuts the cells more than half of which stand above that.
    """

    conductivity: Given[float | None] = quantity(
        "of what it is made of",
        "conductivity",
        default=None,
        check="positive",
        usual=(1e-12, 1e4),
        example="1e-9 m/s",
    )
    thickness: Given[float | None] = quantity(
        "of the wall",
        "length",
        default=None,
        check="positive",
        usual=(1e-3, 100.0),
        most=1e5,
        example="0.6 m",
    )
    leakance: Given[float | None] = quantity(
        "conductivity over thickness, instead of these two",
        "leakance",
        default=None,
        check="positive",
        example="1e-4 1/day",
    )
    layers: tuple[str, ...] = layer_names("which layers it cuts; every one if not given")
    foot: Given[float | None] = quantity(
        "elevation down to which it reaches; through all of these layers if not given",
        {"line": "elevation"},
        default=None,
        example="12 m",
    )
    kind: ClassVar[str] = "barrier"
    table: ClassVar[str] = "barrier"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)
    ways: ClassVar[tuple[tuple[str, ...], ...]] = (("leakance",), ("conductivity", "thickness"))
    signs: ClassVar[str] = "neither gives nor takes water"
    symbol: ClassVar[Symbol] = Symbol(colour="#2b2b2b", width=3.0)

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.geometry == "cells" and len(self.shape) % 2:
            raise InputError(
                f"{self.where} is told by {len(self.shape)} cells; expected pairs, one on either side of the wall."
            )

    def _check_shape(self) -> None:
        if not isinstance(self.shape, PickedCells):  # whose cells may be of several pairs
            super()._check_shape()
