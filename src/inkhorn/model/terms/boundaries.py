"""Boundaries with a level of their own: fixed heads, distant water, rivers, drains, springs, seepage, plants."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from inkhorn.errors import check_finite, check_nonnegative, check_positive
from inkhorn.model.laws import ramp
from inkhorn.model.terms.base import Contribution, Moment, Slope, Term

__all__ = [
    "DrainTerm",
    "EvapotranspirationTerm",
    "FixedHeadTerm",
    "HeadDependentTerm",
    "RiverTerm",
    "SeepageTerm",
    "SpringTerm",
]

_BEND = 0.005  # m: half the length over which a river or drain switches


@dataclass(frozen=True, eq=False)
class FixedHeadTerm(Term):
    """Cells whose head is given; what they give or take is what their balance needs.

    Parameters
    ----------
    head : array_like of float, () or (n_entries,)
        [m].
    """

    head: Any = 0.0
    kind: ClassVar[str] = "fixed head"
    fixes_head: ClassVar[bool] = True
    sets_level: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._spread("head")
        check_finite("fixed head", self.head, unit="m")

    def evaluate(self, moment: Moment) -> Contribution:
        return Contribution(flow=np.zeros(len(self.cells)), flow_slope=Slope.none())


@dataclass(frozen=True, eq=False)
class RiverTerm(Term):
    """Exchange through a bed: ``conductance * (stage - max(head, bed))``.

    Parameters
    ----------
    conductance : array_like of float, () or (n_entries,)
        [m²/day].
    stage, bed : array_like of float, () or (n_entries,)
        [m].
    """

    conductance: Any = 0.0
    stage: Any = 0.0
    bed: Any = -np.inf
    kind: ClassVar[str] = "river"
    sets_level: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._spread("conductance", "stage", "bed")
        check_nonnegative("river conductance", self.conductance, unit="m²/day")
        check_finite("river stage", self.stage, unit="m")

    def _drop(self, moment: Moment) -> tuple[Any, Any]:
        """How far the stage stands above the head or the bed, and how fast that falls with the head."""
        head = moment.heads[self.cells]
        bed = np.where(
            np.isfinite(self.bed), self.bed, np.minimum(head, self.stage) - 1.0
        )  # no bed: never dry
        over, slope = ramp(head - bed, _BEND)
        return self.stage - bed - over, slope

    def evaluate(self, moment: Moment) -> Contribution:
        drop, slope = self._drop(moment)
        return Contribution(
            flow=self.conductance * drop,
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, -self.conductance * slope),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        drop, slope = self._drop(moment)
        by_bed = np.where(np.isfinite(self.bed), -self.conductance * (1.0 - slope), 0.0)
        return {
            "conductance": Slope(n, n, drop),
            "stage": Slope(n, n, self.conductance),
            "bed": Slope(n, n, by_bed),
        }


@dataclass(frozen=True, eq=False)
class HeadDependentTerm(Term):
    """Exchange with water whose level stands at some distance: ``conductance * (head there - head)``.

    Parameters
    ----------
    conductance : array_like of float, () or (n_entries,)
        [m²/day].
    head : array_like of float, () or (n_entries,)
        The level there [m].
    """

    conductance: Any = 0.0
    head: Any = 0.0
    kind: ClassVar[str] = "head-dependent boundary"
    crossing: ClassVar[str] = "side"
    sets_level: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._spread("conductance", "head")
        check_nonnegative(f"{self.kind}: conductance", self.conductance, unit="m²/day")
        check_finite(f"{self.kind}: head", self.head, unit="m")

    def evaluate(self, moment: Moment) -> Contribution:
        return Contribution(
            flow=self.conductance * (self.head - moment.heads[self.cells]),
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, -self.conductance),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        return {
            "conductance": Slope(n, n, self.head - moment.heads[self.cells]),
            "head": Slope(n, n, self.conductance),
        }


@dataclass(frozen=True, eq=False)
class DrainTerm(Term):
    """Takes water out where the head is above the level: ``-conductance * max(head - level, 0)``.

    Parameters
    ----------
    conductance : array_like of float, () or (n_entries,)
        [m²/day].
    level : array_like of float, () or (n_entries,)
        [m].
    """

    conductance: Any = 0.0
    level: Any = 0.0
    kind: ClassVar[str] = "drain"
    sets_level: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._spread("conductance", "level")
        check_nonnegative(f"{self.kind} conductance", self.conductance, unit="m²/day")
        check_finite(f"{self.kind} level", self.level, unit="m")

    def evaluate(self, moment: Moment) -> Contribution:
        over, slope = ramp(moment.heads[self.cells] - self.level, _BEND)
        return Contribution(
            flow=-self.conductance * over,
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, -self.conductance * slope),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        over, slope = ramp(moment.heads[self.cells] - self.level, _BEND)
        return {"conductance": Slope(n, n, -over), "level": Slope(n, n, self.conductance * slope)}


@dataclass(frozen=True, eq=False)
class SpringTerm(DrainTerm):
    """Water that leaves at a place where the head stands above its level, as of a `DrainTerm`."""

    kind: ClassVar[str] = "spring"


@dataclass(frozen=True, eq=False)
class SeepageTerm(DrainTerm):
    """Water that leaves wherever the water table reaches the ground, as of a `DrainTerm` at that level."""

    kind: ClassVar[str] = "seepage"


@dataclass(frozen=True, eq=False)
class EvapotranspirationTerm(Term):
    """What plants and air draw from the water table.

    The greatest rate where the head stands at the surface or above, nothing where it is deeper than the
    extinction depth, and in between in proportion; corners rounded.

    Parameters
    ----------
    rate : array_like of float, () or (n_entries,)
        The greatest [m/day].
    area : array_like of float, () or (n_entries,)
        [m²].
    surface : array_like of float, () or (n_entries,)
        Where the rate is greatest [m].
    depth : array_like of float, () or (n_entries,)
        Below the surface, where it ends [m].
    """

    rate: Any = 0.0
    area: Any = 0.0
    surface: Any = 0.0
    depth: Any = 1.0
    kind: ClassVar[str] = "evapotranspiration"

    def __post_init__(self) -> None:
        super().__post_init__()
        self._spread("rate", "area", "surface", "depth")
        check_nonnegative(f"{self.kind}: rate", self.rate, unit="m/day")
        check_nonnegative(f"{self.kind}: area", self.area, unit="m²")
        check_finite(f"{self.kind}: surface", self.surface, unit="m")
        check_positive(f"{self.kind}: depth", self.depth, unit="m")

    def _share(self, moment: Moment) -> tuple[Any, Any, Any]:
        """Share of the greatest rate, its slope by head, and that of what stands above the extinction depth."""
        height = moment.heads[self.cells] - self.surface + self.depth
        bend = np.minimum(_BEND, 0.25 * self.depth)
        low, low_slope = ramp(height, bend)
        high, high_slope = ramp(height - self.depth, bend)
        return (low - high) / self.depth, (low_slope - high_slope) / self.depth, low_slope

    def evaluate(self, moment: Moment) -> Contribution:
        share, slope, _ = self._share(moment)
        most = self.rate * self.area
        return Contribution(
            flow=-most * share,
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, -most * slope),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        share, slope, low_slope = self._share(moment)
        return {
            "rate": Slope(n, n, -self.area * share),
            "area": Slope(n, n, -self.rate * share),
            "surface": Slope(n, n, self.rate * self.area * slope),
            "depth": Slope(n, n, self.rate * self.area * (share - low_slope) / self.depth),
        }
