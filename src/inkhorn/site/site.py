"""The site: what the hydrogeologist knows, free of any grid."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative, check_positive
from inkhorn.site.edits import Edit
from inkhorn.site.features import Feature
from inkhorn.site.schedule import Schedule
from inkhorn.site.sources import Well
from inkhorn.space import Strata

__all__ = ["Bore", "Material", "Picture", "Site", "Species"]


@dataclass(frozen=True)
class Material:
    """What a layer is made of.

    Parameters
    ----------
    conductivity : float, optional
        Horizontal conductivity, the greatest [m/day]. Or give a transmissivity.
    vertical_ratio : float
        Horizontal over vertical conductivity; 1 is isotropic.
    porosity : float, optional
        Effective porosity, the share of the volume through which water moves; for travel times and transport.
    vertical_conductivity : float, optional
        Instead of the ratio [m/day].
    anisotropy : float
        Horizontal conductivity along `direction` over that at right angles to it.
    direction : float
        Anticlockwise from the x axis [degrees].
    specific_storage : float, optional
        Water given per volume and metre of head while full [1/m]; for transient flow. Or give a storativity.
    specific_yield : float, optional
        Share of the volume that drains; for transient flow with a water table.
    bulk_density : float, optional
        Of the dry ground [g/m³]; for sorption.
    transmissivity, storativity : float, optional
        Of the whole layer, whatever its thickness, instead of conductivity and specific storage [m²/day], [-].
    leakance : float, optional
        Flow through its base to what lies below, per area and head difference [1/day], instead of what follows
        from the vertical conductivities.
    """

    name: str
    conductivity: float | None = None
    vertical_ratio: float = 1.0
    porosity: float | None = None
    vertical_conductivity: float | None = None
    anisotropy: float = 1.0
    direction: float = 0.0
    specific_storage: float | None = None
    specific_yield: float | None = None
    bulk_density: float | None = None
    transmissivity: float | None = None
    storativity: float | None = None
    leakance: float | None = None

    def __post_init__(self) -> None:
        what = f'material "{self.name}"'
        for name, unit in _MATERIAL_UNITS.items():
            if getattr(self, name) is not None:
                check_positive(f"{what}: {name}", getattr(self, name), unit=unit)
        check_finite(f"{what}: direction", self.direction, unit="degrees")
        for name in ("porosity", "specific_yield"):
            share = getattr(self, name)
            if share is not None and share > 1:
                raise InputError(f"{what}: {name} is {share:g}; expected a share from 0 to 1.")
        for one, other in (("conductivity", "transmissivity"), ("specific_storage", "storativity")):
            if getattr(self, one) is not None and getattr(self, other) is not None:
                raise InputError(f"{what}: both {one} and {other} are given; expected one of them.")
        if self.conductivity is None and self.transmissivity is None:
            raise InputError(f"{what}: there is no conductivity. Give one, or a transmissivity.")
        if self.vertical_conductivity is not None and self.vertical_ratio != 1.0:
            raise InputError(
                f"{what}: both vertical_conductivity and vertical_ratio are given; expected one of them."
            )


_MATERIAL_UNITS = {
    "conductivity": "m/day",
    "vertical_ratio": "",
    "porosity": "",
    "vertical_conductivity": "m/day",
    "anisotropy": "",
    "specific_storage": "1/m",
    "specific_yield": "",
    "bulk_density": "g/m³",
    "transmissivity": "m²/day",
    "storativity": "",
    "leakance": "1/day",
}


@dataclass(frozen=True)
class Species:
    """Something dissolved in the water.

    Parameters
    ----------
    name : str
        As used in the concentrations of features.
    unit : str
        In which results are shown.
    start : float
        Concentration everywhere at the beginning [g/m³].
    limit : float or None
        What it should not pass [g/m³].
    """

    name: str
    unit: str = "mg/l"
    start: float = 0.0
    limit: float | None = None

    def __post_init__(self) -> None:
        check_nonnegative(f'species "{self.name}": start', self.start, unit="g/m³")
        if self.limit is not None:
            check_positive(f'species "{self.name}": limit', self.limit, unit="g/m³")


@dataclass(frozen=True, eq=False)
class Bore:
    """An observation bore and the levels dipped in it.

    Parameters
    ----------
    x, y : float
        Place [m].
    layer : str
        The layer its screen is in.
    dates : ndarray of datetime64, (n,)
        When.
    levels : ndarray of float, (n,)
        Elevations of the water [m].
    """

    name: str
    x: float
    y: float
    layer: str
    dates: NDArray[np.datetime64] = field(default_factory=lambda: np.empty(0, "datetime64[s]"), repr=False)
    levels: NDArray[np.float64] = field(default_factory=lambda: np.empty(0), repr=False)
    source: str = field(default="", repr=False)

    @property
    def mean_level(self) -> float:
        """Mean of the levels [m]; NaN where none was dipped."""
        return float(self.levels.mean()) if len(self.levels) else float("nan")


@dataclass(frozen=True, eq=False)
class Picture:
    """A picture to lay under maps.

    Parameters
    ----------
    dots : ndarray of uint8, (rows, columns, 3 or 4)
        Colours, the first row northernmost.
    extent : (float, float, float, float)
        West, east, south and north edge [m].
    """

    dots: NDArray[np.uint8] = field(repr=False)
    extent: tuple[float, float, float, float]
    source: str = ""


@dataclass(frozen=True, eq=False)
class Site:
    """Boundary, layers, materials, features and bores of a place.

    Parameters
    ----------
    boundary : shapely Polygon
        The area looked at; nothing flows across it but by a feature.
    strata : Strata
        The layers.
    materials : mapping of str to Material
        By layer name.
    features : tuple of Feature
        What brings water in or takes it out.
    bores : tuple of Bore
        Where levels were measured.
    species : tuple of Species
        What is dissolved.
    picture : Picture, optional
        Laid under maps.
    schedule : Schedule, optional
        Periods and steps; without one, flow is steady and nothing may change in time.
    edits : tuple of Edit
        What is changed by hand once all is placed.
    """

    boundary: Any = field(repr=False)
    strata: Strata = field(repr=False)
    materials: Mapping[str, Material] = field(repr=False)
    features: tuple[Feature, ...] = ()
    bores: tuple[Bore, ...] = ()
    species: tuple[Species, ...] = ()
    name: str = "site"
    crs: str | None = None
    picture: Picture | None = field(default=None, repr=False)
    schedule: Schedule | None = None
    edits: tuple[Edit, ...] = field(default=(), repr=False)

    def __post_init__(self) -> None:
        if self.boundary.is_empty or self.boundary.geom_type != "Polygon" or not self.boundary.is_valid:
            raise InputError(
                f"the boundary of {self.name} is not one valid polygon (it is a "
                f"{'n empty ' if self.boundary.is_empty else ' '}{self.boundary.geom_type}). "
                "Give one polygon that does not cross itself."
            )
        missing = [n for n in self.strata.names if n not in self.materials]
        if missing:
            raise InputError(f"these layers have no material: {missing}. Name one for each layer.")
        for group, things in (("feature", self.features), ("bore", self.bores)):
            names = [t.name for t in things]
            twice = sorted({n for n in names if names.count(n) > 1})
            if twice:
                raise InputError(f"{group} names appear twice: {twice}. Give each its own name.")
        self._check_places()

    def _check_places(self) -> None:
        import shapely

        for well in self.wells:
            if not self.boundary.covers(shapely.Point(well.x, well.y)):
                away = self.boundary.distance(shapely.Point(well.x, well.y))
                raise InputError(
                    f"{well.where} at x={well.x:g}, y={well.y:g} lies {away:.4g} m outside the boundary. "
                    "Correct its coordinates, or leave it out."
                )
        for bore in self.bores:
            if bore.layer not in self.strata.names:
                raise InputError(
                    f'bore "{bore.name}" ({bore.source}) is in the layer "{bore.layer}"; expected one of '
                    f"{list(self.strata.names)}."
                )

    @property
    def wells(self) -> tuple[Well, ...]:
        """The wells among the features."""
        return tuple(f for f in self.features if isinstance(f, Well))

    def feature(self, name: str) -> Feature:
        """Return a feature by its name."""
        for feature in self.features:
            if feature.name == name:
                return feature
        raise InputError(f'there is no feature "{name}"; expected one of {[f.name for f in self.features]}.')

    def __repr__(self) -> str:
        counts: dict[str, int] = {}
        for feature in self.features:
            counts[feature.kind] = counts.get(feature.kind, 0) + 1
        said = ", ".join(f"{n} {k}" for k, n in counts.items())
        return (
            f"Site({self.name!r}: {self.boundary.area / 1e6:.3g} km², layers {', '.join(self.strata.names)}; "
            f"{said or 'no features'}; {len(self.bores)} bores)"
        )
