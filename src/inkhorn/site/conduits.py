"""Conduits in karst: pipes in the rock, the springs that they end in, and what is let into them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from inkhorn.errors import InputError
from inkhorn.site.declaration import Symbol, concentrations, feature_name, quantity
from inkhorn.site.features import Along, Changing, Feature

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["Conduit", "ConduitSpring", "QuickRecharge", "Sinkhole"]

_WATER = "#1d4ed8"


def _reach() -> Any:
    return quantity(
        "how far from a conduit it may lie",
        "length",
        default=10.0,
        check="positive",
        usual=(0.01, 500.0),
        example="10 m",
    )


@dataclass(frozen=True, kw_only=True)
class Conduit(Feature):
    """A pipe in the rock, full or partly filled, through whose wall water passes to the rock and back.

    Lines that meet at an end, or cross at one level, are joined there. The flow is laminar or turbulent, as the Reynolds
    number has it. Water has no inertia in it, and losses at bends and junctions are those of the roughness alone.

    Parameters
    ----------
    shape : shapely LineString
        Its course.
    elevation : float or sequence of float
        Of its axis [m]: one, two for its ends, or one for each vertex; the z of the vertices if not given.
    diameter : float or sequence of float
        [m]; one, for the ends or for each vertex.
    cross_section : float or sequence of float
        Area instead, of a round pipe [m²].
    roughness : float or sequence of float
        Height of what its wall is rough by [m].
    winding : float
        Its true length over that of the line.
    exchange : float or sequence of float
        Water that passes its wall for each metre of its true length and each metre of difference of the heads inside and
        outside [m/day]; none does if not given.
    viscosity : float
        Kinematic, of the water [m²/day]; that at 10 °C if not given.
    laminar_up_to, turbulent_from : float
        Reynolds numbers between which the one kind of flow goes over into the other.
    """

    elevation: Given[Along | None] = quantity(
        "of its axis; the z of its vertices if not given",
        "elevation",
        along=True,
        default=None,
        example=[212.5, 208.0],
    )
    diameter: Given[Along | None] = quantity(
        "of the pipe", "length", along=True, default=None, check="positive", usual=(0.01, 50.0), most=1000.0,
        example="0.8 m",
    )  # fmt: skip
    cross_section: Given[Along | None] = quantity(
        "area of the pipe, taken as round, instead of the diameter", "area", along=True, default=None, check="positive",
        example="2 m²",
    )  # fmt: skip
    roughness: Given[Along] = quantity(
        "height of what its wall is rough by", "length", along=True, check="nonnegative", usual=(1e-5, 5.0), most=100.0,
        example="5 cm",
    )  # fmt: skip
    winding: Given[float] = quantity(
        "its true length over that of the line",
        "number",
        default=1.0,
        least=1.0,
        most=100.0,
        usual=(1.0, 5.0),
        example=1.3,
    )
    exchange: Given[Along] = quantity(
        "water that passes its wall for each metre of its true length and each metre of difference of the heads; none "
        "does if not given",
        "conductivity",
        along=True,
        default=0.0,
        check="nonnegative",
        usual=(1e-6, 1e4),
        example="0.2 m/day",
    )
    viscosity: Given[float] = quantity(
        "kinematic, of the water; that at 10 °C if not given", "viscosity", default=1.31e-6 * 86400.0, check="positive",
        example="1.31e-6 m²/s",
    )  # fmt: skip
    laminar_up_to: Given[float] = quantity(
        "Reynolds number", "number", default=2000.0, check="positive", usual=(100.0, 1e5), example=2000
    )
    turbulent_from: Given[float] = quantity(
        "Reynolds number", "number", default=4000.0, check="positive", usual=(100.0, 1e5), example=4000
    )
    kind: ClassVar[str] = "conduit"
    table: ClassVar[str] = "conduit"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)
    ways: ClassVar[tuple[tuple[str, ...], ...]] = (("diameter",), ("cross_section",))
    signs: ClassVar[str] = "gives the rock water where its head is higher, takes it where it is lower"
    symbol: ClassVar[Symbol] = Symbol(colour="#7c2d12", width=2.2)

    def __post_init__(self) -> None:
        import shapely

        if self.geometry == "cells":
            raise InputError(
                f"{self.where}: its course is a line; cells told one by one do not say how they are joined."
            )
        if self.elevation is None:
            if not self.shape.has_z:
                raise InputError(
                    f"{self.where} has no elevation. Give it for its axis, or a z for each vertex of its line."
                )
            object.__setattr__(
                self, "elevation", tuple(shapely.get_coordinates(self.shape, include_z=True)[:, 2].tolist())
            )
        object.__setattr__(self, "shape", shapely.force_2d(self.shape))
        super().__post_init__()
        if not self.turbulent_from >= 1.5 * self.laminar_up_to:
            raise InputError(
                f"{self.where}: turbulent_from is {self.turbulent_from:g} and laminar_up_to {self.laminar_up_to:g}; "
                "expected the first to be at least 1.5 times the second."
            )
        if not self.shape.is_simple:
            raise InputError(f"{self.where}: its line crosses itself. Make two lines of it.")
        if (np.hypot(*np.diff(np.asarray(self.shape.coords), axis=0).T) == 0.0).any():
            raise InputError(f"{self.where}: two of its vertices are one. Leave one out.")


@dataclass(frozen=True, kw_only=True)
class ConduitSpring(Feature):
    """Where conduits come to light: the level of the water there is given.

    Parameters
    ----------
    shape : shapely Point
        On a conduit, or near one.
    level : float or Series
        Of the water [m].
    reach : float
        How far from a conduit it may lie [m].
    """

    level: Given[Changing] = quantity(
        "of the water where it comes out", "elevation", in_time=True, example="204.2 m"
    )
    reach: Given[float] = _reach()
    kind: ClassVar[str] = "conduit spring"
    table: ClassVar[str] = "conduit_spring"
    shapes: ClassVar[tuple[str, ...]] = ("Point",)
    signs: ClassVar[str] = "takes water out of the conduits, or lets it in where they stand lower"
    symbol: ClassVar[Symbol] = Symbol(colour=_WATER, marker="o", named=True)


@dataclass(frozen=True, kw_only=True)
class Sinkhole(Feature):
    """Where water goes straight into conduits, as of a stream that is lost.

    Parameters
    ----------
    shape : shapely Point
        On a conduit, or near one.
    inflow : float or Series
        0 or more [m³/day]. What falls on its catchment is a `QuickRecharge`.
    shaft_radius : float, optional
        Of an open shaft in which its water stands [m]: what that holds counts in time.
    reach : float
        How far from a conduit it may lie [m].
    concentration : mapping of str to float, Series or ReturnedWater
        Of each species in the water [g/m³].
    """

    inflow: Given[Changing] = quantity(
        "water let in; counts upwards from 0",
        "flow",
        default=0.0,
        in_time=True,
        check="nonnegative",
        example="40 l/s",
    )
    shaft_radius: Given[float | None] = quantity(
        "of an open shaft in which its water stands, which counts as stored; nothing is if not given",
        "length",
        default=None,
        check="positive",
        usual=(0.05, 50.0),
        most=1e4,
        example="1.5 m",
    )
    reach: Given[float] = _reach()
    concentration: Mapping[str, Any] = concentrations("of each species in the water let in, by name")
    kind: ClassVar[str] = "sinkhole"
    table: ClassVar[str] = "sinkhole"
    shapes: ClassVar[tuple[str, ...]] = ("Point",)
    signs: ClassVar[str] = "lets water into the conduits"
    symbol: ClassVar[Symbol] = Symbol(colour="#0f766e", marker="v", named=True)


@dataclass(frozen=True, kw_only=True)
class QuickRecharge(Feature):
    """Water from a catchment that goes straight into conduits: all that runs off it, or a share of its recharge.

    Parameters
    ----------
    shape : shapely Polygon or MultiPolygon
        The catchment; it may reach beyond the grid.
    rate : float or Series
        What runs off it [m/day]; or give a `share`.
    share : float
        Of the recharge that falls there on the grid, 0 to 1: so much less reaches the rock.
    sinkhole : str
        The name of the sinkhole it goes to; if not given, all conduits below take it, by their length.
    concentration : mapping of str to float, Series or ReturnedWater
        Of each species in the water [g/m³].
    """

    rate: Given[Changing | None] = quantity(
        "what runs off; counts upwards from 0", "rate", default=None, in_time=True, weather=True, check="nonnegative",
        example="300 mm/year",
    )  # fmt: skip
    share: Given[float | None] = quantity(
        "of the recharge that falls there on the grid: so much less reaches the rock", "number", default=None,
        check="nonnegative", most=1.0, usual=(0.0, 1.0), example=0.3,
    )  # fmt: skip
    sinkhole: str = feature_name(
        "the sinkhole it goes to; if not given, all conduits below take it, by their length",
        example="the swallow",
    )
    concentration: Mapping[str, Any] = concentrations("of each species in that water, by name")
    kind: ClassVar[str] = "quick recharge"
    table: ClassVar[str] = "quick_recharge"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")
    ways: ClassVar[tuple[tuple[str, ...], ...]] = (("rate",), ("share",))
    signs: ClassVar[str] = "lets water into the conduits"
    symbol: ClassVar[Symbol] = Symbol(colour="#0f766e", width=0.8, dashes=(4, 2))

    def __post_init__(self) -> None:
        if self.geometry == "cells":
            raise InputError(f"{self.where}: its catchment is a polygon.")
        super().__post_init__()
