"""Features: what brings water in or takes it out, described without any grid.

Signs are in the names: what a well takes out is its ``abstraction``, what it gives back its
``injection``, and neither can be negative. Recharge adds water to the aquifer.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative, check_positive

__all__ = ["Drain", "Feature", "FixedHead", "Recharge", "River", "Well", "along_line"]

Along = float | Sequence[float]


def along_line(line: Any, values: Along, fraction: NDArray[np.float64]) -> NDArray[np.float64]:
    """Interpolate values given along a line.

    Parameters
    ----------
    line : shapely LineString
        The line.
    values : float or sequence of float
        One value for all of it, two for its ends, or one for each vertex.
    fraction : ndarray of float, (n,)
        Where along the line, 0 at its first vertex and 1 at its last.

    Returns
    -------
    ndarray of float, (n,)
    """
    v = np.atleast_1d(np.asarray(values, dtype=np.float64))
    if len(v) == 1:
        return np.full(len(fraction), v[0])
    if len(v) == 2:
        return np.asarray(v[0] + (v[1] - v[0]) * fraction)
    points = np.asarray(line.coords)[:, :2]
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    return np.interp(fraction, run / run[-1], v)


@dataclass(frozen=True, kw_only=True)
class Feature:
    """What all features have.

    Parameters
    ----------
    name : str
        Unique within the site; budgets and tables use it.
    source : str
        Where it was read from, for messages.
    """

    name: str
    source: str = field(default="", repr=False)

    kind: ClassVar[str] = "feature"
    shapes: ClassVar[tuple[str, ...]] = ()

    @property
    def where(self) -> str:
        """The feature in words, for messages."""
        return f'{self.kind} "{self.name}"' + (f" ({self.source})" if self.source else "")

    def _check_shape(self) -> None:
        shape: Any = getattr(self, "shape", None)
        if shape is None or shape.is_empty:
            raise InputError(f"{self.where} has an empty shape; expected a {' or '.join(self.shapes)}.")
        if shape.geom_type not in self.shapes:
            raise InputError(
                f"{self.where} has the shape of a {shape.geom_type}; expected a {' or '.join(self.shapes)}."
            )

    def _check_along(self, name: str) -> None:
        values = check_finite(f"{self.where}: {name}", getattr(self, name), unit="m")
        shape: Any = getattr(self, "shape")  # noqa: B009 - not every feature has one
        vertices = len(shape.coords) if shape.geom_type == "LineString" else 1
        if values.size not in {1, 2 if vertices > 1 else 1, vertices}:
            raise InputError(
                f"{self.where}: {name} has {values.size} values; expected 1, 2 (at the ends) or "
                f"{vertices} (at the vertices)."
            )


@dataclass(frozen=True, kw_only=True)
class FixedHead(Feature):
    """Water held at a given level, in the uppermost cell present below the shape.

    Parameters
    ----------
    shape : shapely Polygon, MultiPolygon, LineString or Point
        Of a polygon the cells whose centre is inside; of a line every cell it crosses.
    head : float, or sequence of float along a line
        The level [m].
    every_layer : bool
        Hold every cell of the column, not the uppermost only.
    """

    shape: Any = field(repr=False)
    head: Along
    every_layer: bool = False
    kind: ClassVar[str] = "fixed head"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon", "LineString", "Point")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("head")


@dataclass(frozen=True, kw_only=True)
class River(Feature):
    """A line of water that gives to or takes from the aquifer through its bed.

    The exchange is ``bed_conductivity * width / bed_thickness * (stage - head)`` per metre of line,
    with the bed level for the head where that is lower.

    Parameters
    ----------
    shape : shapely LineString
        From upstream to downstream.
    stage, bed : float or sequence of float along the line
        Water level and level of the bed [m].
    width, bed_thickness : float
        [m].
    bed_conductivity : float
        [m/day].
    """

    shape: Any = field(repr=False)
    stage: Along
    bed: Along
    width: float
    bed_thickness: float
    bed_conductivity: float
    kind: ClassVar[str] = "river"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("stage")
        self._check_along("bed")
        check_positive(f"{self.where}: width", self.width, unit="m")
        check_positive(f"{self.where}: bed_thickness", self.bed_thickness, unit="m")
        check_positive(f"{self.where}: bed_conductivity", self.bed_conductivity, unit="m/day")
        along = np.linspace(0.0, 1.0, 1 + 4 * len(self.shape.coords))
        depth = along_line(self.shape, self.stage, along) - along_line(self.shape, self.bed, along)
        if depth.min() < 0:
            raise InputError(
                f"{self.where}: the stage is up to {-depth.min():.3g} m below the bed, first at "
                f"{along[np.argmax(depth < 0)]:.0%} of its length. Raise the stage or lower the bed."
            )

    @property
    def conductance_per_length(self) -> float:
        """Bed conductance of one metre of line [m²/day per m]."""
        return self.bed_conductivity * self.width / self.bed_thickness


@dataclass(frozen=True, kw_only=True)
class Drain(Feature):
    """A line or polygon that takes water out where the head stands above its level, and never gives.

    Parameters
    ----------
    shape : shapely LineString or Polygon
        A ditch or a drained field.
    level : float, or sequence of float along a line
        [m].
    conductance : float
        Per metre of line [m/day], or per square metre of polygon [1/day].
    """

    shape: Any = field(repr=False)
    level: Along
    conductance: float
    kind: ClassVar[str] = "drain"
    shapes: ClassVar[tuple[str, ...]] = ("LineString", "Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("level")
        check_positive(f"{self.where}: conductance", self.conductance)


@dataclass(frozen=True, kw_only=True)
class Well(Feature):
    """A well with one screen; its water level is solved for along with the heads.

    Parameters
    ----------
    x, y : float
        Place [m].
    screen_top, screen_bottom : float
        Elevations [m].
    abstraction : float
        Water taken out of the aquifer, 0 or more [m³/day].
    injection : float
        Water put into the aquifer, 0 or more [m³/day].
    radius : float
        Of the bore hole [m].
    concentration : mapping of str to float
        Of each species in the water put in [g/m³].
    """

    x: float
    y: float
    screen_top: float
    screen_bottom: float
    abstraction: float = 0.0
    injection: float = 0.0
    radius: float = 0.15
    concentration: Mapping[str, float] = field(default_factory=dict)
    kind: ClassVar[str] = "well"

    def __post_init__(self) -> None:
        for name in ("abstraction", "injection"):
            check_nonnegative(
                f"{self.where}: {name}",
                getattr(self, name),
                unit="m³/day",
                remedy="Water taken out is `abstraction`, water put in is `injection`; both count upwards from 0.",
            )
        check_positive(f"{self.where}: radius", self.radius, unit="m")
        if self.screen_top <= self.screen_bottom:
            raise InputError(
                f"{self.where}: screen_top {self.screen_top:g} m is not above screen_bottom "
                f"{self.screen_bottom:g} m. Give both as elevations."
            )


@dataclass(frozen=True, kw_only=True)
class Recharge(Feature):
    """Water that arrives from above on the uppermost cell present.

    Parameters
    ----------
    shape : shapely Polygon or MultiPolygon
        Where. Overlapping polygons add up.
    rate : float
        Positive into the aquifer [m/day].
    concentration : mapping of str to float
        Of each species in that water [g/m³].
    """

    shape: Any = field(repr=False)
    rate: float
    concentration: Mapping[str, float] = field(default_factory=dict)
    kind: ClassVar[str] = "recharge"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        check_nonnegative(f"{self.where}: rate", self.rate, unit="m/day")
