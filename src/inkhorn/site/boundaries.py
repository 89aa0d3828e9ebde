"""Features with a level of their own: water held or at a distance, rivers, drains, springs, seepage."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from inkhorn.errors import InputError, check_positive
from inkhorn.site.features import Along, Feature, along_line
from inkhorn.site.series import Series

__all__ = ["Drain", "FixedHead", "HeadDependent", "River", "Seepage", "Spring"]


@dataclass(frozen=True, kw_only=True)
class FixedHead(Feature):
    """Water held at a given level, in the uppermost cell present below the shape.

    Parameters
    ----------
    shape : shapely Polygon, MultiPolygon, LineString or Point
        Of a polygon the cells whose centre is inside; of a line every cell it crosses.
    head : float, sequence of float along a line, or Series
        The level [m].
    every_layer : bool
        Hold every cell of the column, not the uppermost only.
    layers : tuple of str
        Hold the cells of these layers instead.
    """

    shape: Any = field(repr=False)
    head: Along
    every_layer: bool = False
    layers: tuple[str, ...] = ()
    kind: ClassVar[str] = "fixed head"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon", "LineString", "Point")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("head")


@dataclass(frozen=True, kw_only=True)
class HeadDependent(Feature):
    """Water whose level stands at some distance behind the shape, and which the aquifer exchanges with.

    Give a conductance; or the conductivity and the distance of the ground between, which makes
    ``conductivity * thickness of the cell / distance`` per metre of line.

    Parameters
    ----------
    shape : shapely LineString, Point, Polygon or MultiPolygon
        Where the water passes.
    head : float, sequence of float along a line, or Series
        The level there [m].
    conductance : float, optional
        Per metre of line [m/day], per square metre of polygon [1/day], or of a point [m²/day]; shared by the
        layers by thickness.
    conductivity, distance : float, optional
        Of a line, instead [m/day], [m].
    layers : tuple of str
        Where it passes; every layer if not given.
    """

    shape: Any = field(repr=False)
    head: Along
    conductance: float | None = None
    conductivity: float | None = None
    distance: float | None = None
    layers: tuple[str, ...] = ()
    kind: ClassVar[str] = "head-dependent boundary"
    shapes: ClassVar[tuple[str, ...]] = ("LineString", "Point", "Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("head")
        pair = (self.conductivity, self.distance)
        if (self.conductance is None) == (None in pair) or pair.count(None) == 1:
            raise InputError(
                f"{self.where}: expected either `conductance`, or `conductivity` and `distance`, and not both."
            )
        for name in ("conductance", "conductivity", "distance"):
            if getattr(self, name) is not None:
                check_positive(f"{self.where}: {name}", getattr(self, name))
        if self.conductivity is not None and self.shape.geom_type != "LineString":
            raise InputError(
                f"{self.where}: conductivity and distance are for lines. Give the conductance of this "
                f"{self.shape.geom_type}."
            )


@dataclass(frozen=True, kw_only=True)
class River(Feature):
    """A line of water that gives to or takes from the aquifer through its bed.

    The exchange is ``bed_conductivity * width / bed_thickness * (stage - head)`` per metre of line,
    with the bed level for the head where that is lower; or give the conductance of a metre itself.

    Parameters
    ----------
    shape : shapely LineString
        From upstream to downstream.
    stage, bed : float or sequence of float along the line; the stage also a Series
        Water level and level of the bed [m].
    width, bed_thickness : float, optional
        [m].
    bed_conductivity : float, optional
        [m/day].
    conductance : float, optional
        Of a metre of line, instead of these three [m/day].
    layer : str, optional
        The layer it lies in; that which holds its bed if not given.
    """

    shape: Any = field(repr=False)
    stage: Along
    bed: Along
    width: float | None = None
    bed_thickness: float | None = None
    bed_conductivity: float | None = None
    conductance: float | None = None
    layer: str | None = None
    kind: ClassVar[str] = "river"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("stage")
        if isinstance(self.bed, Series):
            raise InputError(
                f"{self.where}: the bed changes in time; expected one level, or one along the line."
            )
        self._check_along("bed")
        bed = [self.width, self.bed_thickness, self.bed_conductivity]
        if (self.conductance is None) == (None in bed) or bed.count(None) in (1, 2):
            raise InputError(
                f"{self.where}: expected either `conductance`, or `width`, `bed_thickness` and `bed_conductivity`, "
                "and not both."
            )
        for name in ("width", "bed_thickness", "bed_conductivity", "conductance"):
            if getattr(self, name) is not None:
                check_positive(f"{self.where}: {name}", getattr(self, name))
        along = np.linspace(0.0, 1.0, 1 + 4 * len(self.shape.coords))
        stage = self.stage.values if isinstance(self.stage, Series) else self.stage
        depth = along_line(self.shape, stage, along) - along_line(self.shape, self.bed, along)
        depth = np.atleast_2d(depth).min(axis=0)  # the lowest stage of all times
        if depth.min() < 0:
            raise InputError(
                f"{self.where}: the stage is up to {-depth.min():.3g} m below the bed, first at "
                f"{along[np.argmax(depth < 0)]:.0%} of its length. Raise the stage or lower the bed."
            )

    @property
    def conductance_per_length(self) -> float:
        """Bed conductance of one metre of line [m²/day per m]."""
        if self.conductance is not None:
            return self.conductance
        assert self.width and self.bed_thickness and self.bed_conductivity  # noqa: PT018 - all or none
        return self.bed_conductivity * self.width / self.bed_thickness


@dataclass(frozen=True, kw_only=True)
class Drain(Feature):
    """A line or polygon that takes water out where the head stands above its level, and never gives.

    Parameters
    ----------
    shape : shapely LineString or Polygon
        A ditch or a drained field.
    level : float, sequence of float along a line, or Series
        [m].
    conductance : float
        Per metre of line [m/day], or per square metre of polygon [1/day].
    layer : str, optional
        The layer it lies in; that which holds its level if not given.
    """

    shape: Any = field(repr=False)
    level: Along
    conductance: float
    layer: str | None = None
    kind: ClassVar[str] = "drain"
    shapes: ClassVar[tuple[str, ...]] = ("LineString", "Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("level")
        check_positive(f"{self.where}: conductance", self.conductance)


@dataclass(frozen=True, kw_only=True)
class Spring(Feature):
    """A point where water leaves as long as the head stands above its level.

    Parameters
    ----------
    shape : shapely Point
        Where.
    level : float or Series
        [m].
    conductance : float
        [m²/day].
    layer : str, optional
        The layer it drains; that which holds its level if not given.
    """

    shape: Any = field(repr=False)
    level: Along
    conductance: float
    layer: str | None = None
    kind: ClassVar[str] = "spring"
    shapes: ClassVar[tuple[str, ...]] = ("Point",)

    def __post_init__(self) -> None:
        self._check_shape()
        self._check_along("level")
        check_positive(f"{self.where}: conductance", self.conductance, unit="m²/day")


@dataclass(frozen=True, kw_only=True)
class Seepage(Feature):
    """Ground through which water leaves wherever the water table reaches its surface.

    Parameters
    ----------
    shape : shapely Polygon or MultiPolygon
        Where.
    conductance : float, optional
        Per square metre [1/day]; that of the upper half of the uppermost cell if not given.
    """

    shape: Any = field(repr=False)
    conductance: float | None = None
    kind: ClassVar[str] = "seepage"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")

    def __post_init__(self) -> None:
        self._check_shape()
        if self.conductance is not None:
            check_positive(f"{self.where}: conductance", self.conductance, unit="1/day")
