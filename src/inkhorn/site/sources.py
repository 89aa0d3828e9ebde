"""Features that bring or take water at a rate: wells, collectors, recharge, plants."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

from inkhorn.errors import InputError, check_finite, check_nonnegative, check_positive
from inkhorn.site.features import Changing, Feature

__all__ = ["Collector", "Evapotranspiration", "Recharge", "Well"]

_SIGNS = "Water taken out is `abstraction`, water put in is `injection`; both count upwards from 0."


@dataclass(frozen=True, kw_only=True)
class Well(Feature):
    """A well with one screen; its water level is solved for along with the heads.

    Parameters
    ----------
    x, y : float
        Place [m].
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
    losses : float
        Loss of head inside the well that grows with the square of the rate [day²/m⁵]; the level in the tables
        lies that much lower.
    concentration : mapping of str to float
        Of each species in the water put in [g/m³].
    """

    x: float
    y: float
    screen_top: float
    screen_bottom: float
    abstraction: Changing = 0.0
    injection: Changing = 0.0
    radius: float = 0.15
    skin: float = 0.0
    lowest_level: float | None = None
    losses: float = 0.0
    concentration: Mapping[str, float] = field(default_factory=dict)
    kind: ClassVar[str] = "well"

    def __post_init__(self) -> None:
        for name in ("abstraction", "injection"):
            self._check_rate(name, "m³/day", _SIGNS)
        check_nonnegative(f"{self.where}: losses", self.losses, unit="day²/m⁵")
        check_finite(f"{self.where}: skin", self.skin)
        check_positive(f"{self.where}: radius", self.radius, unit="m")
        if self.screen_top <= self.screen_bottom:
            raise InputError(
                f"{self.where}: screen_top {self.screen_top:g} m is not above screen_bottom "
                f"{self.screen_bottom:g} m. Give both as elevations."
            )


@dataclass(frozen=True, kw_only=True)
class Collector(Feature):
    """A lying screen, as of a gallery or a collector well, with one water level along all of it.

    Parameters
    ----------
    shape : shapely LineString
        Its course.
    elevation : float
        Of its axis [m].
    abstraction, injection : float or Series
        As of a `Well` [m³/day].
    radius, skin, lowest_level
        As of a `Well`; the lowest level is the axis if not given.
    """

    shape: Any = field(repr=False)
    elevation: float
    abstraction: Changing = 0.0
    injection: Changing = 0.0
    radius: float = 0.15
    skin: float = 0.0
    lowest_level: float | None = None
    concentration: Mapping[str, float] = field(default_factory=dict)
    kind: ClassVar[str] = "collector"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)

    def __post_init__(self) -> None:
        self._check_shape()
        for name in ("abstraction", "injection"):
            self._check_rate(name, "m³/day", _SIGNS)
        check_finite(f"{self.where}: elevation", self.elevation, unit="m")
        check_positive(f"{self.where}: radius", self.radius, unit="m")
        check_finite(f"{self.where}: skin", self.skin)


@dataclass(frozen=True, kw_only=True)
class Recharge(Feature):
    """Water that arrives from above on the uppermost cell present.

    Parameters
    ----------
    shape : shapely Polygon or MultiPolygon
        Where. Overlapping polygons add up.
    rate : float or Series
        Positive into the aquifer [m/day].
    concentration : mapping of str to float
        Of each species in that water [g/m³].
    """

    shape: Any = field(repr=False)
    rate: Changing
    concentration: Mapping[str, float] = field(default_factory=dict)
    kind: ClassVar[str] = "recharge"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_rate("rate", "m/day")


@dataclass(frozen=True, kw_only=True)
class Evapotranspiration(Feature):
    """What plants and air draw from the water table, the less the deeper it lies.

    Parameters
    ----------
    shape : shapely Polygon or MultiPolygon
        Where. Overlapping polygons add up.
    rate : float or Series
        The greatest, where the water table stands at the surface or above; counted upwards from 0 [m/day].
    depth : float
        Below the surface, where it ends [m].
    below_ground : float
        How far the surface of greatest rate lies below the ground [m].
    """

    shape: Any = field(repr=False)
    rate: Changing
    depth: float
    below_ground: float = 0.0
    kind: ClassVar[str] = "evapotranspiration"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_rate("rate", "m/day", "What is drawn counts upwards from 0.")
        check_positive(f"{self.where}: depth", self.depth, unit="m")
        check_nonnegative(f"{self.where}: below_ground", self.below_ground, unit="m")
