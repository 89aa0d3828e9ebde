"""Boundaries with a level of their own: fixed heads, distant water, rivers, drains, springs, seepage."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.findings import Finding
from inkhorn.model.laws import ramp
from inkhorn.model.terms.base import Contribution, Moment, Slope, Term, Watch, entry_input

__all__ = [
    "DrainTerm",
    "FixedHeadTerm",
    "HeadDependentTerm",
    "RiverTerm",
    "SeepageTerm",
    "SpringTerm",
]


@dataclass(frozen=True, eq=False)
class FixedHeadTerm(Term):
    """Cells whose head is given; what they give or take is what their balance needs.

    Parameters
    ----------
    head : array_like of float, () or (n_entries,)
        [m].
    """

    head: Any = entry_input(
        "length",
        below="lies below the bottom of its cell, which is held dry",
        remedy="Raise the head, or give it to a lower layer.",
    )
    kind: ClassVar[str] = "fixed head"
    fixes_head: ClassVar[bool] = True

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        return np.ones(len(self.cells), dtype=bool)

    @property
    def level_outside(self) -> NDArray[np.float64]:
        return np.asarray(self.head)

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
        [m]; a bed of minus infinity is never passed.
    """

    conductance: Any = entry_input("conductance", check="nonnegative")
    stage: Any = entry_input("length")
    bed: Any = entry_input(
        "length",
        default=-np.inf,
        check="any",
        below="has its bed below the bottom of its cell",
        remedy="Raise the bed, or place it on a lower layer.",
    )
    kind: ClassVar[str] = "river"
    watches: ClassVar[Mapping[str, Watch]] = {
        "past": Watch(
            "the water table has fallen below the bed, so that as much is lost as can be",
            "Check that so much water is carried; what is lost is not limited by that.",
            told=lambda value, count, of: f"{count} of {of} cells, {value:.3g} m³/day",
        )
    }

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        return np.asarray(self.conductance > 0.0)

    @property
    def level_outside(self) -> NDArray[np.float64]:
        return np.asarray(self.stage)

    def seen(self, moment: Moment, flow: NDArray[np.float64]) -> Mapping[str, NDArray[np.float64]]:
        past = (moment.heads[self.cells] < self.bed) & (flow > 0.0)
        lost = np.bincount(self.feature, np.where(past, flow, 0.0), len(self.features))
        return {"past": np.where(past, lost[self.feature], 0.0)}

    def findings(self, grid: Any) -> Iterator[Finding]:
        yield from super().findings(grid)
        high = np.flatnonzero(self.bed > self.stage)
        depth = (
            f"has its stage up to {np.max((self.bed - self.stage)[high], initial=0.0):.3g} m below its bed"
        )
        yield from self.found_at(grid, high, "error", depth, "Raise the stage or lower the bed.")

    def _drop(self, moment: Moment) -> tuple[Any, Any]:
        """How far the stage stands above the head or the bed, and how fast that falls with the head."""
        head = moment.heads[self.cells]
        passed = np.isfinite(self.bed)  # one without a bed never falls below it
        over, slope = ramp(head - np.where(passed, self.bed, head))
        return self.stage - np.where(passed, self.bed + over, head), np.where(passed, slope, 1.0)

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

    conductance: Any = entry_input("conductance", check="nonnegative")
    head: Any = entry_input(
        "length",
        below="has its level below the bottom of its cell",
        remedy="Raise the level, or let it pass lower layers only.",
    )
    kind: ClassVar[str] = "head-dependent boundary"
    usual_crossing: ClassVar[str] = "side"

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        return np.asarray(self.conductance > 0.0)

    @property
    def level_outside(self) -> NDArray[np.float64]:
        return np.asarray(self.head)

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

    conductance: Any = entry_input("conductance", check="nonnegative")
    level: Any = entry_input(
        "length", below="lies below the lowest layer", remedy="Raise its level or lower the base."
    )
    kind: ClassVar[str] = "drain"
    watches: ClassVar[Mapping[str, Watch]] = {
        "idle": Watch(
            "no water is ever taken, the head stays below the level",
            "Check the level, and the layer.",
            ever=False,
        )
    }

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        return np.asarray(self.conductance > 0.0)

    def seen(self, moment: Moment, flow: NDArray[np.float64]) -> Mapping[str, NDArray[np.float64]]:
        return {"idle": np.where((flow >= 0.0) & (self.conductance > 0.0), 1.0, 0.0)}

    def evaluate(self, moment: Moment) -> Contribution:
        over, slope = ramp(moment.heads[self.cells] - self.level)
        return Contribution(
            flow=-self.conductance * over,
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, -self.conductance * slope),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        over, slope = ramp(moment.heads[self.cells] - self.level)
        return {"conductance": Slope(n, n, -over), "level": Slope(n, n, self.conductance * slope)}


@dataclass(frozen=True, eq=False)
class SpringTerm(DrainTerm):
    """Water that leaves at a place where the head stands above its level, as of a `DrainTerm`."""

    kind: ClassVar[str] = "spring"


@dataclass(frozen=True, eq=False)
class SeepageTerm(DrainTerm):
    """Water that leaves wherever the water table reaches the ground, as of a `DrainTerm` at that level."""

    kind: ClassVar[str] = "seepage"
    watches: ClassVar[Mapping[str, Watch]] = {}  # it waits wherever the water may come up
