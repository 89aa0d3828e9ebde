"""Features that bring or take water at a rate: wells, collectors, given flows, recharge, plants."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar

from inkhorn.errors import InputError
from inkhorn.site.cells import PickedCells
from inkhorn.site.declaration import Symbol, concentrations, layer_names, quantity
from inkhorn.site.features import Along, ByCell, Changing, Feature, mean_value

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["Collector", "Evapotranspiration", "GivenFlow", "Recharge", "Well"]

_WAYS = "Water that comes in is `inflow`, water that leaves is `outflow`; both count upwards from 0."
_OUT, _IN = "#c1121f", "#1d4ed8"


def _rate(
    words: str,
    dimension: Any = "flow",
    *,
    default: Any = 0.0,
    by_cell: bool = False,
    remedy: str = "Water taken out is `abstraction`, water put in is `injection`; both count upwards from 0.",
    example: Any = "5 l/s",
) -> Any:
    return quantity(
        f"{words}; counts upwards from 0",
        dimension,
        default=default,
        by_cell=by_cell,
        in_time=True,
        check="nonnegative",
        remedy=remedy,
        example=example,
    )


def _radius() -> Any:
    return quantity(
        "of the bore hole",
        "length",
        default=0.15,
        check="positive",
        usual=(0.01, 10.0),
        most=1000.0,
        example="0.2 m",
    )


def _skin() -> Any:
    return quantity(
        "loss of head at the screen, a pure number that adds to the logarithm of the radii",
        "number",
        default=0.0,
        usual=(-6.0, 300.0),
        least=-20.0,
        most=1e5,
        example=2.0,
    )


def _lowest(otherwise: str) -> Any:
    return quantity(
        f"level below which its water cannot be drawn; {otherwise} if not given",
        "elevation",
        default=None,
        example="12 m",
    )


@dataclass(frozen=True, kw_only=True)
class Well(Feature):
    """A well with one screen; its water level is solved for along with the heads.

    Parameters
    ----------
    x, y : float
        Place [m]. Or give a `shape`: a Point, or `PickedCells`, which it meets over their whole height.
    screen_top, screen_bottom : float
        Elevations [m].
    abstraction : float or Series
        Water taken out of the aquifer, 0 or more [m³/day].
    injection : float or Series
        Water put into the aquifer, 0 or more [m³/day].
    radius : float
        Of the bore hole [m].
    skin : float
        Loss of head at the screen, as a pure number that adds to the logarithm of the radii.
    lowest_level : float, optional
        Below which its water cannot be drawn [m]; the bottom of the screen if not given. It takes less, and
        the tables say so, before it would run dry.
    well_loss : float
        Loss of head inside the well that grows with the square of the rate [day²/m⁵]; the level in the tables
        lies that much lower.
    casing_radius : float, optional
        Of the pipe in which its water stands [m]: what flows out of there or into it as the level moves counts in time.
    concentration : mapping of str to float, Series or ReturnedWater
        Of each species in the water put in [g/m³].
    """

    x: float | None = None
    y: float | None = None
    screen_top: Given[float | None] = quantity(
        "elevation", {"point": "elevation"}, default=None, example="7 m"
    )
    screen_bottom: Given[float | None] = quantity(
        "elevation", {"point": "elevation"}, default=None, example="-4 m"
    )
    abstraction: Given[Changing] = _rate("water taken out of the aquifer")
    injection: Given[Changing] = _rate("water put into the aquifer")
    radius: Given[float] = _radius()
    skin: Given[float] = _skin()
    lowest_level: Given[float | None] = _lowest("the bottom of the screen")
    well_loss: Given[float] = quantity(
        "loss of head inside the well over the square of its rate",
        "well loss",
        default=0.0,
        check="nonnegative",
        example="1e-7 day²/m⁵",
    )
    casing_radius: Given[float | None] = quantity(
        "of the pipe in which the water of the well stands, which counts as stored; nothing is if not given",
        "length",
        default=None,
        check="positive",
        usual=(0.01, 10.0),
        most=1000.0,
        example="0.3 m",
    )
    concentration: Mapping[str, Any] = concentrations("of each species in the water put in, by name")
    kind: ClassVar[str] = "well"
    table: ClassVar[str] = "well"
    shapes: ClassVar[tuple[str, ...]] = ("Point",)
    signs: ClassVar[str] = "abstraction takes water out, injection puts it in"
    symbol: ClassVar[Symbol] = Symbol(colour="#6b7280", marker="o", named=True)

    def __post_init__(self) -> None:
        told = isinstance(self.shape, PickedCells)
        if not told and self.x is not None and self.y is not None:
            import shapely

            object.__setattr__(self, "shape", shapely.Point(self.x, self.y))
        super().__post_init__()
        for axis in ("x", "y"):
            object.__setattr__(self, axis, None if told else float(getattr(self.shape, axis)))
        if self.geometry == "point" and None in (self.screen_top, self.screen_bottom):
            raise InputError(
                f"{self.where} has no screen. Give screen_top and screen_bottom, both as elevations."
            )
        if None not in (self.screen_top, self.screen_bottom) and self.screen_top <= self.screen_bottom:  # type: ignore[operator]
            raise InputError(
                f"{self.where}: screen_top {self.screen_top:g} m is not above screen_bottom "
                f"{self.screen_bottom:g} m. Give both as elevations."
            )

    def marked(self) -> list[tuple[str, Symbol]]:
        marks = []
        for name, marker, colour in (("abstraction", "v", _OUT), ("injection", "^", _IN)):
            if mean_value(getattr(self, name)) > 0.0:
                marks.append((f"well, {name}", replace(self.symbol, marker=marker, colour=colour)))
        return marks or [("well, idle", replace(self.symbol, named=False))]


@dataclass(frozen=True, kw_only=True)
class Collector(Feature):
    """A lying screen, as of a gallery or a collector well, with one water level along all of it.

    Parameters
    ----------
    shape : shapely LineString or PickedCells
        Its course; of cells told one by one it has the length of a side of each.
    elevation : float
        Of its axis [m].
    abstraction, injection : float or Series
        As of a `Well` [m³/day].
    radius, skin, lowest_level
        As of a `Well`; the lowest level is the axis if not given.
    """

    elevation: Given[float] = quantity("of its axis", "elevation", example="10 m")
    abstraction: Given[Changing] = _rate("water taken out of the aquifer")
    injection: Given[Changing] = _rate("water put into the aquifer")
    radius: Given[float] = _radius()
    skin: Given[float] = _skin()
    lowest_level: Given[float | None] = _lowest("its axis")
    concentration: Mapping[str, Any] = concentrations("of each species in the water put in, by name")
    kind: ClassVar[str] = "collector"
    table: ClassVar[str] = "collector"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)
    signs: ClassVar[str] = "abstraction takes water out, injection puts it in"
    symbol: ClassVar[Symbol] = Symbol(colour=_OUT, width=2.4)


@dataclass(frozen=True, kw_only=True)
class GivenFlow(Feature):
    """Water that crosses a line at a given rate, as from a slope beside the site or out to one.

    Where the line lies on the rim of the grid it passes through the outer sides of the cells there; elsewhere it
    comes into the cells that the line crosses. Layers share it by transmissivity.

    Parameters
    ----------
    shape : shapely LineString or PickedCells
        Where it crosses; a stretch of the boundary, or a line inside.
    inflow, outflow : float or Series
        Into the aquifer and out of it, in all; 0 or more [m³/day]. Of cells told one by one shared evenly, or one for
        each.
    inflow_per_length, outflow_per_length : float or Series
        For each metre of the line, instead [m²/day]; of cells told one by one for each [m³/day].
    layers : tuple of str
        Where it passes; every layer if not given.
    concentration : mapping of str to float, Series or ReturnedWater
        Of each species in the water that comes in [g/m³].
    """

    inflow: Given[Along | None] = _rate(
        "water that comes in, in all", default=None, by_cell=True, remedy=_WAYS
    )
    outflow: Given[Along | None] = _rate(
        "water that leaves, in all", default=None, by_cell=True, remedy=_WAYS
    )
    inflow_per_length: Given[Along | None] = _rate(
        "water that comes in, for each metre of line; of cells told one by one for each",
        {"line": "conductance", "cells": "flow"},
        default=None,
        by_cell=True,
        remedy=_WAYS,
        example="0.3 m²/day",
    )
    outflow_per_length: Given[Along | None] = _rate(
        "water that leaves, for each metre of line; of cells told one by one for each",
        {"line": "conductance", "cells": "flow"},
        default=None,
        by_cell=True,
        remedy=_WAYS,
        example="0.3 m²/day",
    )
    layers: tuple[str, ...] = layer_names("where it passes; every layer if not given")
    concentration: Mapping[str, Any] = concentrations("of each species in the water that comes in, by name")
    kind: ClassVar[str] = "given flow"
    table: ClassVar[str] = "given_flow"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)
    ways: ClassVar[tuple[tuple[str, ...], ...]] = (
        ("inflow",),
        ("outflow",),
        ("inflow_per_length",),
        ("outflow_per_length",),
    )
    signs: ClassVar[str] = "inflow comes into the aquifer, outflow leaves it"
    symbol: ClassVar[Symbol] = Symbol(colour="#b45309", width=2.6, dashes=(2, 1))


@dataclass(frozen=True, kw_only=True)
class Recharge(Feature):
    """Water that arrives from above on the uppermost cell present.

    Parameters
    ----------
    shape : shapely Polygon, MultiPolygon or PickedCells
        Where. Overlapping polygons add up.
    rate : float or Series
        Positive into the aquifer [m/day].
    concentration : mapping of str to float, Series or ReturnedWater
        Of each species in that water [g/m³].
    """

    rate: Given[Along] = quantity(
        "what reaches the groundwater; counts upwards from 0",
        "rate",
        by_cell=True,
        in_time=True,
        weather=True,
        check="nonnegative",
        example="250 mm/year",
    )
    concentration: Mapping[str, Any] = concentrations()
    kind: ClassVar[str] = "recharge"
    table: ClassVar[str] = "recharge"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")
    signs: ClassVar[str] = "comes into the aquifer"
    symbol: ClassVar[Symbol] = Symbol(colour="#9ca3af", width=0.7, dashes=(1, 2))


@dataclass(frozen=True, kw_only=True)
class Evapotranspiration(Feature):
    """What plants and air draw from the water table, the less the deeper it lies.

    Parameters
    ----------
    shape : shapely Polygon, MultiPolygon or PickedCells
        Where. Overlapping polygons add up.
    rate : float or Series
        The greatest, where the water table stands at the surface or above; counted upwards from 0 [m/day].
    depth : float
        Below the surface, where it ends [m].
    below_ground : float
        How far the surface of greatest rate lies below the ground [m].
    """

    rate: Given[Along] = quantity(
        "the greatest, where the water table stands at the surface or above; counts upwards from 0",
        "rate",
        by_cell=True,
        in_time=True,
        check="nonnegative",
        remedy="What is drawn counts upwards from 0.",
        example="3 mm/day",
    )
    depth: Given[ByCell] = quantity(
        "below the surface, where it ends",
        "length",
        by_cell=True,
        check="positive",
        usual=(0.05, 30.0),
        most=1e4,
        example="2 m",
    )
    below_ground: Given[ByCell] = quantity(
        "how far the surface of greatest rate lies below the ground",
        "length",
        by_cell=True,
        default=0.0,
        check="nonnegative",
        usual=(0.0, 10.0),
        most=1e4,
        example="0.2 m",
    )
    kind: ClassVar[str] = "evapotranspiration"
    table: ClassVar[str] = "evapotranspiration"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")
    signs: ClassVar[str] = "takes water out only"
    symbol: ClassVar[Symbol] = Symbol(colour="#588157", width=0.9, dashes=(3, 1.5))
