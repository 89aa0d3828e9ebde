"""Water that comes or goes at a given rate: recharge, plants, flows across a line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.laws import ramp
from inkhorn.model.terms.base import Contribution, Moment, Slope, Term, Watch, entry_input

__all__ = ["EvapotranspirationTerm", "GivenFlowTerm", "RechargeTerm"]


@dataclass(frozen=True, eq=False)
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


@dataclass(frozen=True, eq=False)
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


@dataclass(frozen=True, eq=False)
class EvapotranspirationTerm(Term):
    """What plants and air draw from the water table.

    The greatest rate where the head stands at the surface or above, nothing where it is deeper than the
    extinction depth, and in between in proportion; a corner at either end.

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

    rate: Any = entry_input("rate", check="nonnegative")
    area: Any = entry_input("area", check="nonnegative", told=False)
    surface: Any = entry_input("length")
    depth: Any = entry_input("length", default=1.0, check="positive")
    kind: ClassVar[str] = "evapotranspiration"
    watches: ClassVar[Mapping[str, Watch]] = {
        "idle": Watch(
            "the water is never reached, it stays below the extinction depth",
            "Check the surface against the ground, and the depth.",
            ever=False,
        )
    }

    def seen(self, moment: Moment, flow: NDArray[np.float64]) -> Mapping[str, NDArray[np.float64]]:
        return {"idle": np.where((flow >= 0.0) & (self.rate * self.area > 0.0), 1.0, 0.0)}

    def _share(self, moment: Moment) -> tuple[Any, Any, Any]:
        """Share of the greatest rate, its slope by head, and that of what stands above the extinction depth."""
        height = moment.heads[self.cells] - self.surface + self.depth
        low, low_slope = ramp(height)
        high, high_slope = ramp(height - self.depth)
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
