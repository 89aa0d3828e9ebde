"""The site: what the hydrogeologist knows, free of any grid."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import KW_ONLY, dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import dates
from inkhorn.errors import (
    InputError,
    check_finite,
    check_positive,
    coordinate_off,
    did_you_mean,
    place_words,
)
from inkhorn.figures import area_in_words
from inkhorn.shown import Shown
from inkhorn.site.edits import Edit
from inkhorn.site.features import Feature
from inkhorn.site.materials import Material
from inkhorn.site.measurements import Measurement
from inkhorn.site.schedule import Schedule
from inkhorn.site.sources import Well
from inkhorn.site.species import Species
from inkhorn.site.zones import Zones
from inkhorn.space import Strata
from inkhorn.units import plain, refuse_impossible

if TYPE_CHECKING:
    from inkhorn.units import WithUnit

__all__ = ["Bore", "Picture", "Site"]


@dataclass(frozen=True, eq=False)
class Bore:
    """An observation bore and the levels dipped in it.

    Parameters
    ----------
    x, y : float
        Place [m].
    layer : str
        The layer its screen is in; nothing where its screen is told.
    dates : ndarray of datetime64, (n,)
        When; none where only the levels are known, which then stand beside steady heads.
    levels : ndarray of float, (n,)
        Elevations of the water [m].
    screen_top, screen_bottom : float, optional
        Elevations of a screen that may reach several layers, instead of a layer [m].
    group : str
        With which others it is weighed.
    deviation : float or ndarray of float, (n,), optional
        Standard deviation of its levels, of each if several are given (NaN where it is not known) [m].
    """

    name: str
    x: WithUnit
    y: WithUnit
    layer: str = ""
    _: KW_ONLY
    screen_top: WithUnit | None = None
    screen_bottom: WithUnit | None = None
    group: str = ""
    deviation: Any = None
    dates: NDArray[np.datetime64] = field(default_factory=lambda: np.empty(0, "datetime64[s]"), repr=False)
    levels: NDArray[np.float64] = field(default_factory=lambda: np.empty(0), repr=False)
    source: str = field(default="", repr=False)

    def __post_init__(self) -> None:
        what = f'bore "{self.name}"' + (f" ({self.source})" if self.source else "")
        for axis in ("x", "y"):
            value = plain(getattr(self, axis), "length", f"{what}: {axis}")
            refuse_impossible(f"{what}: {axis}", check_finite(f"{what}: {axis}", value, unit="m"), "length")
            object.__setattr__(self, axis, float(value))
        when = dates(self.dates, f"{what}: dates") if len(self.dates) else np.empty(0, "datetime64[s]")
        levels = np.atleast_1d(
            check_finite(f"{what}: levels", plain(self.levels, "elevation", f"{what}: levels"), unit="m")
        )
        if len(when) not in (0, len(levels)):
            raise InputError(
                f"{what} has {len(when)} dates and {len(levels)} levels; expected a date for each level, or no dates."
            )
        refuse_impossible(f"{what}: levels", levels, "elevation")
        object.__setattr__(self, "dates", when)
        object.__setattr__(self, "levels", levels)
        self._check_screen(what)
        if self.deviation is not None:
            own = np.asarray(plain(self.deviation, "length", f"{what}: deviation"), dtype=np.float64)
            if own.ndim and own.shape != levels.shape:
                raise InputError(
                    f"{what} has {own.size} deviations and {len(levels)} levels; expected one for all, or for each."
                )
            check_positive(f"{what}: deviation", np.where(np.isnan(own), 1.0, own), unit="m")
            object.__setattr__(self, "deviation", own if own.ndim else float(own))

    def _check_screen(self, what: str) -> None:
        given = [k for k in ("screen_top", "screen_bottom") if getattr(self, k) is not None]
        if bool(self.layer) == bool(given) or len(given) == 1:
            raise InputError(
                f"{what} wants either the layer that its screen is in, or the top and the bottom of its screen; "
                f"got {[*(['layer'] if self.layer else []), *given] or 'neither'}."
            )
        for key in given:
            value = plain(getattr(self, key), "elevation", f"{what}: {key}")
            refuse_impossible(f"{what}: {key}", check_finite(f"{what}: {key}", value, unit="m"), "elevation")
            object.__setattr__(self, key, float(value))
        if given and not self.screen[0] < self.screen[1]:
            raise InputError(
                f"{what}: screen_bottom {self.screen_bottom:g} m is not below screen_top {self.screen_top:g} m. Swap "
                "them, and check that they are elevations and not depths."
            )

    @property
    def screen(self) -> tuple[float, float]:
        """Bottom and top of the screen [m]; endless where its layer is told."""
        if self.screen_top is None or self.screen_bottom is None:
            return -np.inf, np.inf
        return float(self.screen_bottom), float(self.screen_top)

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
class Site(Shown):
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
    zones : mapping of str to Zones
        Ways to divide the site, by name.
    measurements : tuple of Measurement
        What was measured beside levels in bores.
    part_of : str
        The region that it was cut out of, if any: its features may reach beyond.
    """

    boundary: Any = field(repr=False)
    strata: Strata = field(repr=False)
    materials: Mapping[str, Material] = field(repr=False)
    _: KW_ONLY
    features: tuple[Feature, ...] = ()
    bores: tuple[Bore, ...] = ()
    species: tuple[Species, ...] = ()
    name: str = "site"
    crs: str | None = None
    picture: Picture | None = field(default=None, repr=False)
    schedule: Schedule | None = None
    edits: tuple[Edit, ...] = field(default=(), repr=False)
    zones: Mapping[str, Zones] = field(default_factory=dict, repr=False)
    measurements: tuple[Measurement, ...] = field(default=(), repr=False)
    part_of: str = ""

    def __post_init__(self) -> None:
        if self.boundary.is_empty or self.boundary.geom_type != "Polygon" or not self.boundary.is_valid:
            raise InputError(
                f"the boundary of {self.name} is not one valid polygon (it is a "
                f"{'n empty ' if self.boundary.is_empty else ' '}{self.boundary.geom_type}). "
                "Give one polygon that does not cross itself."
            )
        off = coordinate_off(self.boundary)
        if off is not None:
            raise InputError(
                f"the boundary of {self.name} has a corner at {off}, which is no place on a map. Mend it."
            )
        materials = dict(self.materials)
        for name, whole in zip(self.strata.names, self.strata.whole_names, strict=True):
            if name not in materials and whole in materials:  # parts are made of what the whole is made of
                materials[name] = materials[whole]
        object.__setattr__(self, "materials", materials)
        missing = [n for n in self.strata.names if n not in self.materials]
        if missing:
            raise InputError(f"these layers have no material: {missing}. Name one for each layer.")
        groups: tuple[tuple[str, Any], ...] = (
            ("feature", self.features), ("bore", self.bores), ("species", self.species),
            ("measurement", self.measurements),
        )  # fmt: skip
        for group, things in groups:
            names = [t.name for t in things]
            twice = sorted({n for n in names if names.count(n) > 1})
            if twice:
                raise InputError(f"{group} names appear twice: {twice}. Give each its own name.")
        self._check_places()
        self._check_names()

    def _check_places(self) -> None:
        import shapely

        for well in self.wells:
            if well.geometry == "point" and not self.boundary.covers(well.shape):
                away = self.boundary.distance(shapely.Point(well.x, well.y))
                raise InputError(
                    f"{well.where} at {place_words(well.shape.x, well.shape.y)} lies {away:.4g} m outside the boundary. "
                    "Correct its coordinates, or leave it out."
                )
        for bore in self.bores:
            source = f" ({bore.source})" if bore.source else ""
            if bore.layer:
                self.layers_named(bore.layer, f'bore "{bore.name}"{source}')

    def _check_names(self) -> None:
        """See that layers and species that features name are there."""
        species = [s.name for s in self.species]
        for feature in self.features:
            for name in feature.layer_names:
                self.layers_named(name, feature.where)
            for name in feature.concentrations:
                if name not in species:
                    words = f"one of {species}" if species else "one that is described"
                    raise InputError(
                        f'{feature.where} brings "{name}": there is no species "{name}"; expected {words}.'
                        f"{did_you_mean(name, species)} Name it under [[species]], or mend its name."
                    )

    def layers_named(self, name: str, what: str = "") -> tuple[str, ...]:
        """Return the layers that a name stands for: of a layer in parts all of its parts.

        Raises
        ------
        InputError
            If there is none; `what` says who names it.
        """
        return self.strata.named(name, what)

    @property
    def wells(self) -> tuple[Well, ...]:
        """The wells among the features."""
        return tuple(f for f in self.features if isinstance(f, Well))

    @property
    def unknown_materials(self) -> tuple[Material, ...]:
        """Those of layers that do not say how well they let water through: no model is made of them."""
        used = {self.materials[n].name: self.materials[n] for n in self.strata.names}
        return tuple(m for m in used.values() if not m.conducts)

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
            f"Site({self.name!r}: {area_in_words(self.boundary.area)}, layers {', '.join(self.strata.names)}; "
            f"{said or 'no features'}; {len(self.bores)} bores)"
        )
