"""Water that comes or goes at a given rate: recharge, plants, flows across a line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.laws import filled, ramp
from inkhorn.model.terms.base import Contribution, Moment, Slope, Term, Watch, entry_input, placed

__all__ = ["EvapotranspirationTerm", "GivenFlowTerm", "RechargeTerm"]

_ENOUGH = 0.1  # m of water that serve all plants above; of less the cell below serves the rest


@dataclass(frozen=True, eq=False, kw_only=True)
class RechargeTerm(Term):
    """Water arriving from above at a given rate.

    Parameters
    ----------
    rate : array_like of float, () or (n_entries,)
        Positive into the aquifer [m/day].
    area : array_like of float, () or (n_entries,)
        On which it falls [m²].
    """

    rate: Any = entry_input("rate")
    area: Any = entry_input("area", check="nonnegative", told=False)
    kind: ClassVar[str] = "recharge"

    def evaluate(self, moment: Moment) -> Contribution:
        return Contribution(flow=self.rate * self.area, flow_slope=Slope.none())

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        return {"rate": Slope(n, n, self.area), "area": Slope(n, n, self.rate)}


@dataclass(frozen=True, eq=False, kw_only=True)
class GivenFlowTerm(Term):
    """Water that crosses a line, or a side of the grid, at a given rate.

    Parameters
    ----------
    rate : array_like of float, () or (n_entries,)
        Positive into the aquifer [m³/day].
    """

    rate: Any = entry_input("flow")
    kind: ClassVar[str] = "given flow"
    usual_crossing: ClassVar[str] = "side"
    useless_in_held: ClassVar[str] = "meets a cell of fixed head, where it changes nothing"

    def evaluate(self, moment: Moment) -> Contribution:
        return Contribution(flow=self.rate.copy(), flow_slope=Slope.none())

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        return {"rate": Slope(n, n, np.ones(len(n)))}


@dataclass(frozen=True, eq=False, kw_only=True)
class EvapotranspirationTerm(Term):
    """What plants and air draw from the water table.

    The greatest rate where the head stands at the surface or above, nothing where it is deeper than the
    extinction depth, and in between in proportion; a corner at either end. Where a column has several entries it is
    the cell that holds the water table that gives: a cell hands on to the next one below what it is too dry for.

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
    column : array_like of float, () or (n_entries,)
        A number shared by the entries of one column, told from the top down; NaN for one that stands alone.
    """

    rate: Any = entry_input("rate", check="nonnegative")
    area: Any = entry_input("area", check="nonnegative", told=False)
    surface: Any = entry_input("elevation")
    depth: Any = entry_input("length", default=1.0, check="positive")
    column: Any = placed("entry")
    kind: ClassVar[str] = "evapotranspiration"
    may_leave_behind: ClassVar[bool] = True
    watches: ClassVar[Mapping[str, Watch]] = {
        "idle": Watch(
            "the water is never reached, it stays below the extinction depth",
            "Check the surface against the ground, and the depth.",
            ever=False,
        )
    }

    def seen(self, moment: Moment, flow: NDArray[np.float64]) -> Mapping[str, NDArray[np.float64]]:
        return {"idle": np.where((flow >= 0.0) & (self.rate * self.area > 0.0), 1.0, 0.0)}

    @cached_property
    def _columns(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
        """The entry above each, -1 for the uppermost of its column; how many there are; and whether none is below."""
        n = len(self.cells)
        above, rank, last = (
            np.full(n, -1, dtype=np.int64),
            np.zeros(n, dtype=np.int64),
            np.ones(n, dtype=bool),
        )
        order = np.argsort(self.column, kind="stable")  # those that stand alone come last
        same = self.column[order[1:]] == self.column[order[:-1]]
        above[order[1:][same]] = order[:-1][same]
        last[order[:-1][same]] = False
        begins = np.concatenate([[True], ~same]) if n else np.empty(0, dtype=bool)
        place = np.arange(n)
        rank[order] = place - np.maximum.accumulate(np.where(begins, place, 0))
        return above, rank, last

    def _share(self, moment: Moment) -> tuple[Any, Any, Any]:
        """Share of the greatest rate, its slope by head, and that of what stands above the extinction depth."""
        height = moment.heads[self.cells] - self.surface + self.depth
        low, low_slope = ramp(height)
        high, high_slope = ramp(height - self.depth)
        return (low - high) / self.depth, (low_slope - high_slope) / self.depth, low_slope

    def _falls(self, moment: Moment) -> tuple[NDArray[np.float64], list[tuple[Any, Any, Any]]]:
        """What share of its plants each cell serves; entries, cells and values of its derivative by heads."""
        above, rank, last = self._columns
        if last.all():
            return np.ones(len(last)), []
        if moment.law.confined:
            return np.where(rank == 0, 1.0, 0.0), []
        c = self.cells
        height = moment.cells.thickness[c]
        share, slope, _ = filled(moment.heads[c], moment.cells.bottom[c], moment.cells.top[c], moment.law)
        enough = np.minimum(_ENOUGH / height, 0.5)
        t = np.minimum(share / enough, 1.0)
        wet = np.where(last, 1.0, t * t * (3.0 - 2.0 * t))
        bends = np.where(last, 0.0, 6.0 * t * (1.0 - t) * slope / enough)
        left = np.ones(len(c))  # of the plants, after the cells above
        for r in range(1, int(rank.max()) + 1):
            here = np.flatnonzero(rank == r)
            left[here] = left[above[here]] * (1.0 - wet[above[here]])
        slopes: list[tuple[Any, Any, Any]] = [(np.arange(len(c)), c, left * bends)]
        here, over = np.flatnonzero(rank > 0), above[rank > 0]
        while len(here):
            rest = 1.0 - wet[over]
            by = -left[here] * wet[here] * bends[over] / np.where(rest > 0.0, rest, 1.0)
            slopes.append((here, c[over], by))
            here, over = here[above[over] >= 0], above[over][above[over] >= 0]
        return left * wet, slopes

    def evaluate(self, moment: Moment) -> Contribution:
        share, slope, _ = self._share(moment)
        falls, slopes = self._falls(moment)
        most = self.rate * self.area
        rows, columns, values = [np.arange(len(self.cells))], [self.cells], [-most * falls * slope]
        for row, column, value in slopes:
            rows.append(row)
            columns.append(column)
            values.append(-(most * share)[row] * value)
        return Contribution(
            flow=-most * share * falls,
            flow_slope=Slope(np.concatenate(rows), np.concatenate(columns), np.concatenate(values)),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n = np.arange(len(self.cells))
        share, slope, low_slope = self._share(moment)
        falls, _ = self._falls(moment)
        most = self.rate * self.area * falls
        return {
            "rate": Slope(n, n, -self.area * share * falls),
            "area": Slope(n, n, -self.rate * share * falls),
            "surface": Slope(n, n, most * slope),
            "depth": Slope(n, n, most * (share - low_slope) / self.depth),
        }
