"""What is dissolved without water that brings it: masses that come in, concentrations that are held, or were there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from inkhorn.errors import InputError
from inkhorn.site.declaration import Symbol, concentrations, layer_names, per_species, quantity
from inkhorn.site.features import Feature
from inkhorn.site.series import Series
from inkhorn.site.species import ReturnedWater

if TYPE_CHECKING:
    from inkhorn.units import Given

__all__ = ["HeldConcentration", "MassSource", "SoluteFeature", "StartingPlume"]

_SHAPES = ("Point", "Polygon", "MultiPolygon")


@dataclass(frozen=True, kw_only=True)
class SoluteFeature(Feature):
    """What such features have: the part of the ground that they take up.

    Parameters
    ----------
    shape : shapely Point, Polygon, MultiPolygon or PickedCells
        Where in plan.
    layers : tuple of str
        In which layers; every layer if not given.
    top, bottom : float, optional
        Between which elevations; from top to bottom of the layers if not given [m].
    """

    layers: tuple[str, ...] = layer_names("in which layers; every layer if not given")
    top: Given[float | None] = quantity(
        "elevation below which it is; the top of its layers if not given",
        "elevation",
        default=None,
        example="12 m",
    )
    bottom: Given[float | None] = quantity(
        "elevation above which it is; the base of its layers if not given",
        "elevation",
        default=None,
        example="8 m",
    )
    shapes: ClassVar[tuple[str, ...]] = _SHAPES
    brings_water: ClassVar[bool] = False
    changes: ClassVar[bool] = True  # whether it may change in time
    signs: ClassVar[str] = "brings no water"

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.concentrations:
            raise InputError(f"{self.where} names no species. Say which, and how much.")
        for species, value in self.concentrations.items():
            if isinstance(value, ReturnedWater):
                raise InputError(
                    f"{self.where}: {species} is of returned water, but it brings no water. Give a number."
                )
            if isinstance(value, Series) and not self.changes:
                raise InputError(
                    f"{self.where}: {species} changes in time, but is of the beginning. Give a number."
                )
        if self.top is not None and self.bottom is not None and self.top <= self.bottom:
            raise InputError(
                f"{self.where}: top {self.top:g} m is not above bottom {self.bottom:g} m. Give both as elevations."
            )


@dataclass(frozen=True, kw_only=True)
class MassSource(SoluteFeature):
    """Mass that comes into the water by itself, as out of a body that dissolves.

    Parameters
    ----------
    shape, layers, top, bottom
        As of `SoluteFeature`; the mass is spread evenly over that volume.
    rate : mapping of str to float or Series
        Of each species, in all [g/day].
    """

    rate: Mapping[str, Any] = per_species("of each species, in all, by name", "mass rate", "3 kg/year")
    kind: ClassVar[str] = "mass source"
    table: ClassVar[str] = "mass_source"
    symbol: ClassVar[Symbol] = Symbol(colour="#7b2d8b", marker="*", width=1.8, named=True)


@dataclass(frozen=True, kw_only=True)
class HeldConcentration(SoluteFeature):
    """Cells whose concentration is given, whatever the water brings.

    Parameters
    ----------
    shape, layers, top, bottom
        As of `SoluteFeature`; of polygons the cells that lie half within, or most of all.
    concentration : mapping of str to float or Series
        Of each species [g/m³].
    """

    concentration: Mapping[str, Any] = concentrations("of each species, by name")
    kind: ClassVar[str] = "held concentration"
    table: ClassVar[str] = "held_concentration"
    symbol: ClassVar[Symbol] = Symbol(colour="#7b2d8b", marker="X", width=1.8, named=True)


@dataclass(frozen=True, kw_only=True)
class StartingPlume(SoluteFeature):
    """Water that holds something else at the beginning than elsewhere.

    Parameters
    ----------
    shape, layers, top, bottom
        As of `SoluteFeature`; of cells that lie partly within, that part.
    concentration : mapping of str to float or Surface
        Of each species [g/m³]; one for each place, as of a raster or of scattered samples, counts as 0 where it is below.
    """

    concentration: Mapping[str, Any] = concentrations(
        'of each species at the beginning, by name; also of samples, as in { chloride = { points = "samples.csv", '
        'z = "chloride", method = "inverse_distance" } }, or of a raster',
        in_space=True,
    )
    kind: ClassVar[str] = "starting plume"
    table: ClassVar[str] = "starting_plume"
    changes: ClassVar[bool] = False
    symbol: ClassVar[Symbol] = Symbol(colour="#b5179e", marker="P", width=1.4, dashes=(2, 2), named=True)
