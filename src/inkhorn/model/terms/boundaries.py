"""Boundaries with a level of their own: fixed heads, distant water, rivers, drains, springs, seepage."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.findings import Finding
from inkhorn.model.laws import ramp
from inkhorn.model.terms.base import HORIZONTAL, Contribution, Moment, Slope, Term, Watch, entry_input
from inkhorn.model.terms.sides import Through, through_side

__all__ = [
    "DrainTerm",
    "ExcavationTerm",
    "FixedHeadTerm",
    "HeadDependentTerm",
    "RiverTerm",
    "SeepageTerm",
    "SpringTerm",
]


@dataclass(frozen=True, eq=False, kw_only=True)
class FixedHeadTerm(Term):
    """Given heads: of cells, which give or take what their balance needs; or on outer faces.

    An entry with an outer face acts there: what flows in or out is driven from the face to the cell.

    Parameters
    ----------
    head : array_like of float, () or (n_entries,)
        [m].
    way : array_like of float, () or (n_entries,)
        Of entries with an outer face: its width over the distance of the centre, times how well the conductivity leads
        there [-].
    """

    head: Any = entry_input(
        "elevation",
        below="lies below the bottom of its cell, which is held dry",
        remedy="Raise the head, or give it to a lower layer.",
    )
    way: Any = entry_input("number", default=np.inf, check="endless", told=False)
    kind: ClassVar[str] = "fixed head"

    def __post_init__(self) -> None:
        super().__post_init__()
        endless = np.flatnonzero(~self.holds & ~np.isfinite(self.way))
        if len(endless):
            raise InputError(
                f"{self.kind}: way[{endless[0]}] is {self.way[endless[0]]}; expected width over distance of the outer "
                "face that the entry names. Give it, or no outer face."
            )

    @property
    def holds(self) -> NDArray[np.bool_]:
        return np.asarray(self.outer_face < 0)

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        return np.ones(len(self.cells), dtype=bool)

    @property
    def level_outside(self) -> NDArray[np.float64]:
        return np.asarray(self.head)

    def _through(self, moment: Moment) -> tuple[NDArray[np.int64], Through]:
        """The entries on outer faces, and what passes there."""
        some = np.flatnonzero(~self.holds)
        cells, head, none = self.cells[some], self.head[some], np.full(len(some), np.inf)
        return some, through_side(moment, cells, head, moment.heads[cells], none, self.way[some], none)

    def evaluate(self, moment: Moment) -> Contribution:
        flow = np.zeros(len(self.cells))
        if self.holds.all():
            return Contribution(flow=flow, flow_slope=Slope.none())
        some, passed = self._through(moment)
        flow[some] = passed.flow
        return Contribution(flow=flow, flow_slope=Slope(some, self.cells[some], passed.by_head))

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        if self.holds.all():
            return {}
        some, passed = self._through(moment)
        return {
            HORIZONTAL: Slope(some, self.cells[some], passed.by_conductivity),
            "head": Slope(some, some, passed.by_level),
            "way": Slope(some, some, passed.by_way),
        }


@dataclass(frozen=True, eq=False, kw_only=True)
class RiverTerm(Term):
    """Exchange through a bed: ``conductance * (stage - max(head, bed))``.

    Parameters
    ----------
    conductance : array_like of float, () or (n_entries,)
        [m²/day].
    way : array_like of float, () or (n_entries,)
        Of a river on the rim, what lies between there and the centre of the cell; see `HeadDependentTerm`.
    stage, bed : array_like of float, () or (n_entries,)
        [m]; a bed of minus infinity is never passed.
    """

    conductance: Any = entry_input("conductance", check="nonnegative")
    stage: Any = entry_input("elevation")
    bed: Any = entry_input(
        "elevation",
        default=-np.inf,
        check="any",
        below="has its bed below the bottom of its cell",
        remedy="Raise the bed, or place it on a lower layer.",
    )
    way: Any = entry_input("number", default=np.inf, check="endless", told=False)
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
        lost = np.bincount(self.feature_index, np.where(past, flow, 0.0), len(self.feature_names))
        return {"past": np.where(past, lost[self.feature_index], 0.0)}

    def findings(self, grid: Any) -> Iterator[Finding]:
        yield from super().findings(grid)
        high = np.flatnonzero(self.bed > self.stage)
        depth = (
            f"has its stage up to {np.max((self.bed - self.stage)[high], initial=0.0):.3g} m below its bed"
        )
        yield from self.found_at(grid, high, "error", depth, "Raise the stage or lower the bed.")

    def _through(self, moment: Moment) -> tuple[Through, NDArray[np.float64]]:
        """What passes from the stage to the head or the bed, and how fast the latter follows the head."""
        head = moment.heads[self.cells]
        passed = np.isfinite(self.bed)  # one without a bed never falls below it
        over, slope = ramp(head - np.where(passed, self.bed, head))
        lower = np.where(passed, self.bed + over, head)
        none = np.full(len(head), np.inf)
        flow = through_side(moment, self.cells, self.stage, lower, self.conductance, self.way, none)
        return flow, np.where(passed, slope, 1.0)

    def evaluate(self, moment: Moment) -> Contribution:
        through, slope = self._through(moment)
        return Contribution(
            flow=through.flow,
            flow_slope=Slope(np.arange(len(self.cells)), self.cells, through.by_head * slope),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        through, slope = self._through(moment)
        by_bed = np.where(np.isfinite(self.bed), through.by_head * (1.0 - slope), 0.0)
        return {
            HORIZONTAL: Slope(n, self.cells, through.by_conductivity),
            "conductance": Slope(n, n, through.by_conductance),
            "stage": Slope(n, n, through.by_level),
            "bed": Slope(n, n, by_bed),
            "way": Slope(n, n, through.by_way),
        }


@dataclass(frozen=True, eq=False, kw_only=True)
class HeadDependentTerm(Term):
    """Exchange with water whose level stands at some distance: ``conductance * (head there - head)``.

    Instead of a conductance, or in series with it, there may be ground whose transmissivity follows the water in it: then
    ``conductance per metre of water * (integral of the depth of water from the head to the head there)``.

    Parameters
    ----------
    conductance : array_like of float, () or (n_entries,)
        [m²/day]; infinite where nothing else resists.
    head : array_like of float, () or (n_entries,)
        The level there [m].
    way : array_like of float, () or (n_entries,)
        Width over length of ground of the cell's own conductivity, as between its centre and its side [-]; infinite for
        none.
    beyond : array_like of float, () or (n_entries,)
        Conductance of other ground, for a metre of water: its conductivity times width over length [m/day]; infinite for
        none.
    """

    conductance: Any = entry_input("conductance", default=np.inf, check="endless")
    head: Any = entry_input(
        "elevation",
        below="has its level below the bottom of its cell",
        remedy="Raise the level, or let it pass lower layers only.",
    )
    way: Any = entry_input("number", default=np.inf, check="endless", told=False)
    beyond: Any = entry_input("conductivity", default=np.inf, check="endless", told=False)
    kind: ClassVar[str] = "head-dependent boundary"
    usual_crossing: ClassVar[str] = "side"

    def __post_init__(self) -> None:
        super().__post_init__()
        open_ = ~np.isfinite(self.conductance) & ~np.isfinite(self.way) & ~np.isfinite(self.beyond)
        if open_.any():
            raise InputError(
                f"{self.kind}: conductance[{int(open_.argmax())}] is infinite, and nothing else resists. Give one of "
                "conductance, way and beyond, or fix the head."
            )

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        return np.asarray((self.conductance > 0.0) & (self.way > 0.0) & (self.beyond > 0.0))

    @property
    def level_outside(self) -> NDArray[np.float64]:
        return np.asarray(self.head)

    def _through(self, moment: Moment) -> Through:
        heads = moment.heads[self.cells]
        return through_side(moment, self.cells, self.head, heads, self.conductance, self.way, self.beyond)

    def evaluate(self, moment: Moment) -> Contribution:
        through = self._through(moment)
        return Contribution(
            flow=through.flow, flow_slope=Slope(np.arange(len(self.cells)), self.cells, through.by_head)
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n, through = np.arange(len(self.cells)), self._through(moment)
        return {
            HORIZONTAL: Slope(n, self.cells, through.by_conductivity),
            "conductance": Slope(n, n, through.by_conductance),
            "head": Slope(n, n, through.by_level),
            "way": Slope(n, n, through.by_way),
            "beyond": Slope(n, n, through.by_beyond),
        }


@dataclass(frozen=True, eq=False, kw_only=True)
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
        "elevation", below="lies below the lowest layer", remedy="Raise its level or lower the base."
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


@dataclass(frozen=True, eq=False, kw_only=True)
class SpringTerm(DrainTerm):
    """Water that leaves at a place where the head stands above its level, as of a `DrainTerm`."""

    kind: ClassVar[str] = "spring"


@dataclass(frozen=True, eq=False, kw_only=True)
class SeepageTerm(DrainTerm):
    """Water that leaves wherever the water table reaches the ground, as of a `DrainTerm` at that level."""

    kind: ClassVar[str] = "seepage"
    watches: ClassVar[Mapping[str, Watch]] = {}  # it waits wherever the water may come up


@dataclass(frozen=True, eq=False, kw_only=True)
class ExcavationTerm(DrainTerm):
    """Water that leaves by the floor and the sides of a pit that is kept dry: a `DrainTerm` in each of its cells."""

    kind: ClassVar[str] = "excavation"
    watches: ClassVar[Mapping[str, Watch]] = {}  # its upper cells are dry before long
