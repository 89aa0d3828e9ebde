"""Boundaries with a level of their own: fixed heads, rivers, drains."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from inkhorn.errors import check_finite, check_nonnegative
from inkhorn.model.laws import ramp
from inkhorn.model.terms.base import Contribution, Moment, Slope, Term

__all__ = ["DrainTerm", "FixedHeadTerm", "RiverTerm"]

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

    def evaluate(self, moment: Moment) -> Contribution:
        head = moment.heads[self.cells]
        bed = np.where(
            np.isfinite(self.bed), self.bed, np.minimum(head, self.stage) - 1.0
        )  # no bed: never dry
        over, slope = ramp(head - bed, _BEND)
        return Contribution(
            flow=self.conductance * (self.stage - bed - over),
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, -self.conductance * slope),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        flow = self.evaluate(moment).flow
        per_conductance = flow / np.where(self.conductance > 0, self.conductance, np.inf)
        return {"conductance": Slope(n, n, per_conductance), "stage": Slope(n, n, self.conductance)}


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
        check_nonnegative("drain conductance", self.conductance, unit="m²/day")
        check_finite("drain level", self.level, unit="m")

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
