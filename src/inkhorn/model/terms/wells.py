"""Screens: wells and collectors, each with a water level that all cells along it share."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.laws import saturation
from inkhorn.model.terms.base import (
    HORIZONTAL,
    Contribution,
    Moment,
    Slope,
    Term,
    Watch,
    entry_input,
    feature_input,
    placed,
)
from inkhorn.space import Cells

__all__ = ["CollectorTerm", "WellTerm"]

_LAST = 0.5  # m above the lowest level over which a well takes less and less


@dataclass(frozen=True, eq=False)
class WellTerm(Term):
    """Wells, each with one water level that all cells along its screen share.

    Between the well and a cell flows ``connection * conductivity * saturation * (level - head)``;
    the level is an unknown, and its equation says that these flows add up to the well's rate
    (Peaceman 1983 gives r0 of the connection).

    Parameters
    ----------
    connection : array_like of float, () or (n_entries,)
        ``2 pi * screened height / ln(r0 / radius)`` [m], r0 from ``mesh.equivalent_radius``.
    rate : array_like of float, () or (n_features,)
        Positive into the aquifer, negative for abstraction [m³/day].
    lowest_level : array_like of float, () or (n_features,)
        Below which the water in the well cannot be drawn [m]: what a well takes out becomes less over
        the last half metre above it, smoothly to nothing.
    losses : array_like of float, () or (n_features,)
        Fall of the level inside the well beyond the screen, over the square of the rate [day²/m⁵].
    x, y : array_like of float, () or (n_features,)
        Where each stands [m]; NaN where that is not known, or no one place.
    screen_top, screen_bottom : array_like of float, () or (n_entries,)
        Of the part of the screen in each cell [m].

    References
    ----------
    Peaceman, D. W. (1983), Interpretation of well-block pressures in numerical reservoir simulation
    with nonsquare grid blocks and anisotropic permeability, SPE Journal 23(3), 531-543, eq. 22.
    """

    connection: Any = entry_input("length", check="nonnegative", told=False)
    rate: Any = feature_input("flow")
    lowest_level: Any = feature_input("length", default=-np.inf, check="any")
    losses: Any = feature_input("well loss", check="nonnegative")
    x: Any = placed("feature")
    y: Any = placed("feature")
    screen_top: Any = placed("entry")
    screen_bottom: Any = placed("entry")
    kind: ClassVar[str] = "well"
    usual_crossing: ClassVar[str] = "screen"
    outside_names: ClassVar[tuple[str, ...]] = ("pumping",)
    watches: ClassVar[Mapping[str, Watch]] = {
        "short": Watch(
            "less is taken than asked, as the screen would fall dry",
            "Ask for less, deepen the screen, or check the conductivity around it.",
            "warning",
            told=lambda value, count, of: f"up to {value:.4g} m³/day less",
        )
    }
    useless_in_held: ClassVar[str] = "stands in a cell of fixed head, where pumping changes nothing"

    def __post_init__(self) -> None:
        super().__post_init__()
        missing = np.setdiff1d(np.arange(len(self.features)), self.feature)
        if len(missing):
            raise InputError(
                f'{self.kind} "{self.features[missing[0]]}" meets no cell. Check its place and its screen.'
            )

    @property
    def n_own(self) -> int:
        return len(self.features)

    @property
    def node(self) -> NDArray[np.int64]:
        return self.feature

    def first_guess(self, heads: NDArray[np.float64]) -> NDArray[np.float64]:
        count = np.bincount(self.feature, minlength=self.n_own)
        return np.asarray(np.bincount(self.feature, heads[self.cells], self.n_own) / count)

    def _parts(self, moment: Moment) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
        """Conductance when full, saturation of the side the water comes from, and its slope by head."""
        c = self.cells
        head = moment.heads[c]
        share, slope = saturation(head, moment.cells.bottom[c], moment.cells.top[c], moment.law)
        into_well = head > moment.own[self.feature]
        full = self.connection * moment.horizontal_conductivity[c]
        return full, np.where(into_well, share, 1.0), np.where(into_well, slope, 0.0)

    def limited(self, cells: Cells) -> WellTerm | None:
        endless = (self.rate < 0.0) & ~np.isfinite(self.lowest_level)
        if not endless.any():
            return None
        base = np.full(len(self.features), np.inf)
        np.minimum.at(base, self.feature, cells.bottom[self.cells])
        return replace(self, lowest_level=np.where(endless, base, self.lowest_level))

    def seen(self, moment: Moment, flow: NDArray[np.float64]) -> Mapping[str, NDArray[np.float64]]:
        less = np.bincount(self.feature, flow, len(self.features)) - self.rate
        told = (self.rate < 0.0) & (less > 1e-6 * np.abs(self.rate))
        return {"short": np.where(told, less, 0.0)[self.feature]}

    def taken_share(self, level: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the share of its rate that each well gets at a level, and its slope [-], [1/m]."""
        t = np.clip((level - self.losses * self.rate**2 - self.lowest_level) / _LAST, 0.0, 1.0)
        short = (self.rate < 0) & (t < 1.0)
        return np.where(short, t * t * (3.0 - 2.0 * t), 1.0), np.where(
            short, 6.0 * t * (1.0 - t) / _LAST, 0.0
        )

    def settled(self, moment: Moment) -> NDArray[np.float64]:
        """Return the levels at which the screens give what the wells take, for the heads as they are.

        Newton's method within brackets: the balance of a well falls as its level rises, but turns sharply
        where its water runs short.
        """
        level, wells = moment.own.copy(), np.arange(self.n_own)
        low, high, reach = np.full(self.n_own, -np.inf), np.full(self.n_own, np.inf), 1.0
        for _ in range(80):
            answer = self.evaluate(replace(moment, own=level))
            missing, slopes = answer.own_residual, answer.own_slope
            own = slopes.column == moment.first_own + slopes.row
            slope = np.bincount(slopes.row[own], slopes.value[own], self.n_own)
            turnover = np.abs(self.rate) + np.bincount(self.feature, np.abs(answer.flow), self.n_own)
            open_ = np.abs(missing) > 1e-13 * turnover
            if not open_.any():
                break
            low, high = (
                np.where(missing > 0.0, np.maximum(low, level), low),
                np.where(missing < 0.0, np.minimum(high, level), high),
            )
            with np.errstate(divide="ignore", invalid="ignore"):
                there = np.where(slope < 0.0, level - missing / slope, np.nan)
                middle = np.where(np.isfinite(low), level + reach, level - reach)
                between = np.where(np.isfinite(low + high), 0.5 * (low + high), middle)
            there = np.where((there > low) & (there < high), there, between)
            level[wells[open_]] = there[open_]
            reach *= 2.0
        return level

    def evaluate(self, moment: Moment) -> Contribution:
        full, share, slope = self._parts(moment)
        got, got_slope = self.taken_share(moment.own)
        wells = np.arange(self.n_own)
        n, level = np.arange(len(self.cells)), moment.first_own + self.feature
        drop = moment.own[self.feature] - moment.heads[self.cells]
        flow = full * share * drop
        by_head = full * (slope * drop - share)
        return Contribution(
            flow=flow,
            flow_slope=Slope(
                np.concatenate([n, n]),
                np.concatenate([self.cells, level]),
                np.concatenate([by_head, full * share]),
            ),
            own_residual=self.rate * got - np.bincount(self.feature, flow, self.n_own),
            own_slope=Slope(
                np.concatenate([self.feature, self.feature, wells]),
                np.concatenate([self.cells, level, moment.first_own + wells]),
                np.concatenate([-by_head, -full * share, self.rate * got_slope]),
            ),
            outside={"pumping": self.rate * got},
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        _, share, _ = self._parts(moment)
        n, wells = np.arange(len(self.cells)), np.arange(self.n_own)
        drop = share * (moment.own[self.feature] - moment.heads[self.cells])
        got, got_slope = self.taken_share(moment.own)
        out, back = np.concatenate([n, len(n) + self.feature]), np.concatenate([n, n])
        by_k, by_connection = (
            self.connection * drop,
            moment.horizontal_conductivity[self.cells] * drop,
        )
        less = -self.rate * got_slope  # by what raises the level that is needed
        return {
            HORIZONTAL: Slope(out, self.cells[back], np.concatenate([by_k, -by_k])),
            "connection": Slope(out, back, np.concatenate([by_connection, -by_connection])),
            "rate": Slope(len(n) + wells, wells, got + 2.0 * self.losses * self.rate * less),
            "lowest_level": Slope(len(n) + wells, wells, less),
            "losses": Slope(len(n) + wells, wells, self.rate**2 * less),
        }


@dataclass(frozen=True, eq=False)
class CollectorTerm(WellTerm):
    """Lying screens, each with one water level along all of it, as of a `WellTerm`."""

    kind: ClassVar[str] = "collector"
