"""Features with a level of their own: water held or at a distance, rivers, drains, springs, seepage."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from inkhorn.errors import InputError
from inkhorn.site.declaration import Symbol, choice, concentrations, layer_names, quantity
from inkhorn.site.features import Along, ByCell, Feature, along_line
from inkhorn.site.series import Series

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["Drain", "FixedHead", "HeadDependent", "River", "Seepage", "Spring"]

_CONDUCTANCE = {
    "line": "conductivity",  # per metre: m²/day per m
    "polygon": "leakance",  # per square metre
    "point": "conductance",
    "cells": "conductance",
}


def _some(*geometries: str) -> dict[str, str]:
    return {k: v for k, v in _CONDUCTANCE.items() if k in geometries or k == "cells"}


@dataclass(frozen=True, kw_only=True)
class FixedHead(Feature):
    """Water held at a given level, in the uppermost cell present below the shape.

    Of a polygon the cells whose centre is inside; of a line every cell it crosses, or where it lies along the outline of
    the site the outer sides of cells, half a cell away from their heads. What two would hold stays with the first.

    Parameters
    ----------
    head : float, sequence of float along a line, or Series
        The level [m].
    every_layer : bool
        Hold every cell of the column, not the uppermost only.
    layers : tuple of str
        Hold the cells of these layers instead.
    concentration : dict of float, Series or ReturnedWater
        Of each species in the water it brings in, by name [g/m³].
    """

    head: Given[Along] = quantity(
        "level of the water", "elevation", along=True, in_time=True, example="41.2 m"
    )
    every_layer: bool = choice(
        "whether every cell of the column is held, not the uppermost only", default=False
    )
    layers: tuple[str, ...] = layer_names("hold the cells of these layers instead of the uppermost")
    concentration: Mapping[str, Any] = concentrations()
    kind: ClassVar[str] = "fixed head"
    table: ClassVar[str] = "fixed_head"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon", "LineString", "Point")
    symbol: ClassVar[Symbol] = Symbol(fill="#8fc1dd", width=1.2, marker="s")

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.every_layer and self.geometry == "cells":
            raise InputError(
                f"{self.where}: every_layer says nothing of cells told one by one, whose layers are told. Leave it out."
            )


@dataclass(frozen=True, kw_only=True)
class HeadDependent(Feature):
    """Water whose level stands at some distance behind the shape, and which the aquifer exchanges with.

    Give a conductance; or, of a line, how far away that water is, and the conductivity of the ground between if it is
    not that of the cell. The transmissivity of that ground follows the water in it: per metre of line there flows
    ``conductivity / distance`` times the integral of the depth of water from the head in the cell to the level there.

    Along the outline of the site it acts on the outer sides of cells.

    Parameters
    ----------
    head : float, sequence of float along a line, or Series
        The level there [m].
    conductance : float, optional
        Per metre of line [m²/day per m], per square metre of polygon [1/day], or of a point [m²/day]; shared by the
        layers by thickness. Of cells told one by one as a whole, one for all or one for each.
    conductivity, distance : float, optional
        Of a line, instead [m/day], [m].
    layers : tuple of str
        Where it passes; every layer if not given.
    concentration : dict of float, Series or ReturnedWater
        Of each species in the water it brings in, by name [g/m³].
    """

    head: Given[Along] = quantity(
        "level of the water there", "elevation", along=True, in_time=True, example="38 m"
    )
    conductance: Given[ByCell | None] = quantity(
        "flow per metre of head, for each metre of a line, each square metre of a polygon, or as a whole at a point "
        "or of a cell; shared by the layers by thickness",
        _CONDUCTANCE,
        by_cell=True,
        default=None,
        check="positive",
        example="0.5 m/day",
    )
    conductivity: Given[float | None] = quantity(
        "of the ground between, with a distance; that of the cell if not given",
        {"line": "conductivity"},
        default=None,
        check="positive",
        example="5 m/day",
    )
    distance: Given[float | None] = quantity(
        "how far away that water is, instead of a conductance",
        {"line": "length"},
        default=None,
        check="positive",
        example="300 m",
    )
    layers: tuple[str, ...] = layer_names("where it passes; every layer if not given")
    concentration: Mapping[str, Any] = concentrations()
    kind: ClassVar[str] = "head-dependent boundary"
    table: ClassVar[str] = "head_dependent"
    shapes: ClassVar[tuple[str, ...]] = ("LineString", "Point", "Polygon", "MultiPolygon")
    ways: ClassVar[tuple[tuple[str, ...], ...]] = (
        ("conductance",),
        ("conductivity", "distance"),
        ("distance",),
    )
    symbol: ClassVar[Symbol] = Symbol(colour="#4a6fa5", width=2.2, dashes=(1, 1.5), marker="D")


@dataclass(frozen=True, kw_only=True)
class River(Feature):
    """A line of water that gives to or takes from the aquifer through its bed.

    The exchange is ``bed_conductivity * width / bed_thickness * (stage - head)`` per metre of line,
    with the bed level for the head where that is lower; or give the conductance of a metre itself.

    Parameters
    ----------
    shape : shapely LineString or PickedCells
        From upstream to downstream.
    stage, bed : float or sequence of float along the line; the stage also a Series
        Water level and level of the bed [m].
    width, bed_thickness : float, optional
        [m].
    bed_conductivity : float, optional
        [m/day].
    conductance : float, optional
        Of a metre of line, instead of these three [m²/day per m]; of a cell told one by one as a whole [m²/day].
    layer : str, optional
        The layer it lies in; that which holds its bed if not given.
    concentration : dict of float, Series or ReturnedWater
        Of each species in the water it brings in, by name [g/m³].
    """

    stage: Given[Along] = quantity(
        "level of the water", "elevation", along=True, in_time=True, example=["41.2 m", "38.9 m"]
    )
    bed: Given[Along] = quantity("level of the bed", "elevation", along=True, example=["40.6 m", "38.4 m"])
    width: Given[float | None] = quantity(
        "of the bed",
        {"line": "length"},
        default=None,
        check="positive",
        usual=(0.05, 3000.0),
        most=1e6,
        example="3 m",
    )
    bed_thickness: Given[float | None] = quantity(
        "of the bed",
        {"line": "length"},
        default=None,
        check="positive",
        usual=(0.005, 50.0),
        most=1e4,
        example="0.5 m",
    )
    bed_conductivity: Given[float | None] = quantity(
        "of the bed", {"line": "conductivity"}, default=None, check="positive", example="0.8 m/day"
    )
    conductance: Given[ByCell | None] = quantity(
        "flow per metre of head for each metre of line, instead of width, thickness and conductivity of the bed; "
        "of a cell told one by one as a whole",
        _some("line"),
        by_cell=True,
        default=None,
        check="positive",
        example="5 m/day",
    )
    layer: str | None = layer_names("the layer it lies in; that which holds its bed if not given", many=False)
    concentration: Mapping[str, Any] = concentrations()
    kind: ClassVar[str] = "river"
    table: ClassVar[str] = "river"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)
    ways: ClassVar[tuple[tuple[str, ...], ...]] = (
        ("conductance",),
        ("width", "bed_thickness", "bed_conductivity"),
    )
    symbol: ClassVar[Symbol] = Symbol(width=2.0)

    def __post_init__(self) -> None:
        super().__post_init__()
        stage = self.stage.values if isinstance(self.stage, Series) else self.stage
        along, values = (
            np.zeros(1),
            tuple(np.atleast_1d(np.asarray(v, dtype=np.float64)) for v in (stage, self.bed)),
        )
        if self.geometry == "line":
            along = np.linspace(0.0, 1.0, 1 + 4 * len(self.shape.coords))
            values = tuple(along_line(self.shape, v, along) for v in values)
        depth = np.atleast_2d(values[0] - values[1]).min(axis=0)  # the lowest stage of all times
        if depth.min() < 0:
            at = f", first at {along[np.argmax(depth < 0)]:.0%} of its length" if len(along) > 1 else ""
            raise InputError(
                f"{self.where}: the stage is up to {-depth.min():.3g} m below the bed{at}. Raise the stage or lower "
                "the bed."
            )


@dataclass(frozen=True, kw_only=True)
class Drain(Feature):
    """A line or polygon that takes water out where the head stands above its level, and never gives.

    Parameters
    ----------
    level : float, sequence of float along a line, or Series
        [m].
    conductance : float
        Per metre of line [m²/day per m], or per square metre of polygon [1/day].
    layer : str, optional
        The layer it lies in; that which holds its level if not given.
    """

    level: Given[Along] = quantity(
        "above which it takes water", "elevation", along=True, in_time=True, example="41 m"
    )
    conductance: Given[ByCell] = quantity(
        "flow per metre of head, for each metre of a line or each square metre of a polygon; of a cell told one by "
        "one as a whole",
        _some("line", "polygon"),
        by_cell=True,
        check="positive",
        example="1.2 m/day",
    )
    layer: str | None = layer_names(
        "the layer it lies in; that which holds its level if not given", many=False
    )
    kind: ClassVar[str] = "drain"
    table: ClassVar[str] = "drain"
    shapes: ClassVar[tuple[str, ...]] = ("LineString", "Polygon", "MultiPolygon")
    signs: ClassVar[str] = "takes water out only"
    symbol: ClassVar[Symbol] = Symbol(colour="#1b998b", width=1.2, dashes=(4, 2))


@dataclass(frozen=True, kw_only=True)
class Spring(Feature):
    """A point where water leaves as long as the head stands above its level.

    Parameters
    ----------
    level : float or Series
        [m].
    conductance : float
        [m²/day].
    layer : str, optional
        The layer it drains; that which holds its level if not given.
    """

    level: Given[Along] = quantity(
        "above which water leaves", "elevation", by_cell=True, in_time=True, example="15 m"
    )
    conductance: Given[ByCell] = quantity(
        "flow per metre of head", "conductance", by_cell=True, check="positive", example="30 m²/day"
    )
    layer: str | None = layer_names(
        "the layer it drains; that which holds its level if not given", many=False
    )
    kind: ClassVar[str] = "spring"
    table: ClassVar[str] = "spring"
    shapes: ClassVar[tuple[str, ...]] = ("Point",)
    signs: ClassVar[str] = "takes water out only"
    symbol: ClassVar[Symbol] = Symbol(colour="#0b7a75", marker="P", named=True)


@dataclass(frozen=True, kw_only=True)
class Seepage(Feature):
    """Ground through which water leaves wherever the water table reaches its surface.

    Parameters
    ----------
    conductance : float, optional
        Per square metre [1/day]; that of the upper half of the uppermost cell if not given.
    """

    conductance: Given[ByCell | None] = quantity(
        "flow per metre of head for each square metre; that of the upper half of the uppermost cell if not given",
        "leakance",
        by_cell=True,
        default=None,
        check="positive",
        example="0.1 1/day",
    )
    kind: ClassVar[str] = "seepage"
    table: ClassVar[str] = "seepage"
    shapes: ClassVar[tuple[str, ...]] = ("Polygon", "MultiPolygon")
    signs: ClassVar[str] = "takes water out only"
    symbol: ClassVar[Symbol] = Symbol(colour="#3a8f7a", width=1.2, dashes=(5, 1.5, 1, 1.5))
