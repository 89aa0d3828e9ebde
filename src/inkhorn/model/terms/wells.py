"""Screens: wells and collectors, each with a water level that all cells along it share."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.laws import transmitted
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

# m above the lowest level over which a well takes less and less, and share of the height of its cells where that is less
_LAST, _LAST_SHARE = 0.5, 0.1


@dataclass(frozen=True, eq=False, kw_only=True)
class WellTerm(Term):
    """Wells, each with one water level that all cells along its screen share.

    Between the well and a cell flows ``connection * conductivity`` times the integral of the filled share of the screen
    over the head, from the level in the well to the head in the cell: what is above the level seeps out of the screen's
    face. So a well in a water table takes ``K (h² - hw²)``, with its seepage face (Charny 1951), and no more than
    there is. The level is an unknown, and its equation says that these flows, and what the casing stores, add up to the
    well's rate.

    Parameters
    ----------
    connection : array_like of float, () or (n_entries,)
        ``2 pi * screened height / ln(r0 / radius)`` [m], r0 from ``mesh.equivalent_radius`` (Peaceman 1983).
    rate : array_like of float, () or (n_features,)
        Positive into the aquifer, negative for abstraction [m³/day].
    lowest_level : array_like of float, () or (n_features,)
        Below which the water in the well cannot be drawn [m]: what a well takes out becomes less over the last half metre
        above it (over a tenth of the height of its cells, if that is less), smoothly to nothing. Of minus infinity it is
        the bottom of the lowest cell; but where all cells count as full there is then no end.
    well_loss : array_like of float, () or (n_features,)
        Fall of the level inside the well beyond the screen, over the square of the rate [day²/m⁵].
    casing_area : array_like of float, () or (n_features,)
        Of the water in the well, which counts as stored [m²].
    x, y : array_like of float, () or (n_features,)
        Where each stands [m]; NaN where that is not known, or no one place.
    screen_top, screen_bottom : array_like of float, () or (n_entries,)
        Of the part of the screen in each cell [m]; the cell's own where not given, or no height apart.

    References
    ----------
    Charny, I. A. (1951), A rigorous derivation of Dupuit's formula for unconfined seepage with seepage surface,
    Doklady Akademii Nauk SSSR 79, 937-940.
    Peaceman, D. W. (1983), Interpretation of well-block pressures in numerical reservoir simulation
    with nonsquare grid blocks and anisotropic permeability, SPE Journal 23(3), 531-543, eq. 22.
    Papadopulos, I. S. & Cooper, H. H. (1967), Drawdown in a well of large diameter, Water Resources Research 3(1),
    241-244 (the water in the casing).
    """

    connection: Any = entry_input("length", check="nonnegative", told=False)
    rate: Any = feature_input("flow")
    lowest_level: Any = feature_input("elevation", default=-np.inf, check="any")
    well_loss: Any = feature_input("well loss", check="nonnegative")
    casing_area: Any = feature_input("area", check="nonnegative")
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
        missing = np.setdiff1d(np.arange(len(self.feature_names)), self.feature_index)
        if len(missing):
            raise InputError(
                f'{self.kind} "{self.feature_names[missing[0]]}" meets no cell. Check its place and its screen.'
            )

    @property
    def n_extra(self) -> int:
        return len(self.feature_names)

    @property
    def node(self) -> NDArray[np.int64]:
        return self.feature_index

    @property
    def place(self) -> NDArray[np.float64] | None:
        return np.column_stack([self.x, self.y])[self.feature_index]

    def initial_guess(self, heads: NDArray[np.float64]) -> NDArray[np.float64]:
        count = np.bincount(self.feature_index, minlength=self.n_extra)
        return np.asarray(np.bincount(self.feature_index, heads[self.cells], self.n_extra) / count)

    def at_start(self, moment: Moment) -> NDArray[np.float64]:
        idle = replace(self, rate=np.where(self.casing_area > 0.0, 0.0, self.rate))
        return idle.settled(moment)

    def _screen(self, cells: Cells) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Bottom and top of the screen in each cell; the cell's own where that is not known, or of no height."""
        known = self.screen_top > self.screen_bottom
        return (
            np.where(known, self.screen_bottom, cells.bottom[self.cells]),
            np.where(known, self.screen_top, cells.top[self.cells]),
        )

    def _reached(
        self, moment: Moment, level: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The integral of the filled share of each screen up to a level [m], and that share."""
        bottom, top = self._screen(moment.cells)
        integral, depth = transmitted(level, bottom, top, moment.law)
        return integral / (top - bottom), depth / (top - bottom)

    def _exchange(self, moment: Moment) -> tuple[NDArray[Any], ...]:
        """What is driven from the well into each cell, over connection and conductivity [m], and its slopes."""
        by_well, slope = self._reached(moment, moment.extra_unknowns[self.feature_index])
        by_cell, cell_slope = self._reached(moment, moment.heads[self.cells])
        return by_well - by_cell, slope, -cell_slope

    def _lowest(self, moment: Moment) -> NDArray[np.float64]:
        """The lowest level of each well."""
        if moment.law.confined:
            return np.asarray(self.lowest_level)
        base = np.full(self.n_extra, np.inf)
        np.minimum.at(base, self.feature_index, self._screen(moment.cells)[0])
        return np.where(np.isfinite(self.lowest_level), self.lowest_level, base)

    def _last(self, moment: Moment) -> NDArray[np.float64]:
        """Above the lowest level, the height over which each well takes less and less [m]."""
        low, high = np.full(self.n_extra, np.inf), np.full(self.n_extra, -np.inf)
        np.minimum.at(low, self.feature_index, moment.cells.bottom[self.cells])
        np.maximum.at(high, self.feature_index, moment.cells.top[self.cells])
        return np.minimum(_LAST, _LAST_SHARE * (high - low))

    def seen(self, moment: Moment, flow: NDArray[np.float64]) -> Mapping[str, NDArray[np.float64]]:
        less = np.bincount(self.feature_index, flow, len(self.feature_names)) - self.rate
        told = (self.rate < 0.0) & (less > 1e-6 * np.abs(self.rate))
        return {"short": np.where(told, less, 0.0)[self.feature_index]}

    def taken_share(self, moment: Moment) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the share of its rate that each well gets at its level, and its slope [-], [1/m]."""
        depth, last = (
            moment.extra_unknowns - self.well_loss * self.rate**2 - self._lowest(moment),
            self._last(moment),
        )
        t = np.clip(depth / last, 0.0, 1.0)
        short = (self.rate < 0) & (t < 1.0)
        return np.where(short, t * t * (3.0 - 2.0 * t), 1.0), np.where(short, 6.0 * t * (1.0 - t) / last, 0.0)

    def settled(self, moment: Moment) -> NDArray[np.float64]:
        """Return the levels at which the screens give what the wells take, for the heads as they are.

        Newton's method within brackets: the balance of a well falls as its level rises, but turns sharply
        where its water runs short.
        """
        level, wells = moment.extra_unknowns.copy(), np.arange(self.n_extra)
        low, high, reach = np.full(self.n_extra, -np.inf), np.full(self.n_extra, np.inf), 1.0
        stores = (self.casing_area > 0.0) & (not moment.steady)  # these know their past
        for _ in range(80):
            answer = self.evaluate(replace(moment, extra_unknowns=level))
            missing, slopes = answer.extra_residual, answer.extra_slope
            own = slopes.column == moment.first_extra + slopes.row
            slope = np.bincount(slopes.row[own], slopes.value[own], self.n_extra)
            turnover = np.abs(self.rate) + np.bincount(self.feature_index, np.abs(answer.flow), self.n_extra)
            open_ = (np.abs(missing) > 1e-13 * turnover) & ~stores
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
        full = self.connection * moment.horizontal_conductivity[self.cells]
        drive, by_level, by_head = self._exchange(moment)
        got, got_slope = self.taken_share(moment)
        wells, n = np.arange(self.n_extra), np.arange(len(self.cells))
        level = moment.first_extra + self.feature_index
        flow, by_level, by_head = full * drive, full * by_level, full * by_head
        stores = bool(self.casing_area.any())
        return Contribution(
            flow=flow,
            flow_slope=Slope(
                np.concatenate([n, n]),
                np.concatenate([self.cells, level]),
                np.concatenate([by_head, by_level]),
            ),
            extra_residual=self.rate * got - np.bincount(self.feature_index, flow, self.n_extra),
            extra_slope=Slope(
                np.concatenate([self.feature_index, self.feature_index, wells]),
                np.concatenate([self.cells, level, moment.first_extra + wells]),
                np.concatenate([-by_head, -by_level, self.rate * got_slope]),
            ),
            stored=self.casing_area * moment.extra_unknowns if stores else np.empty(0),
            stored_slope=Slope(wells, moment.first_extra + wells, self.casing_area)
            if stores
            else Slope.none(),
            outside={"pumping": self.rate * got},
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        drive, _, _ = self._exchange(moment)
        n, wells = np.arange(len(self.cells)), np.arange(self.n_extra)
        got, got_slope = self.taken_share(moment)
        out, back = np.concatenate([n, len(n) + self.feature_index]), np.concatenate([n, n])
        by_k, by_connection = self.connection * drive, moment.horizontal_conductivity[self.cells] * drive
        less = -self.rate * got_slope  # by what raises the level that is needed
        given = np.isfinite(self.lowest_level)
        held = (
            Slope(len(n) + self.n_extra + wells, wells, moment.extra_unknowns)
            if self.casing_area.any()
            else Slope.none()
        )
        return {
            HORIZONTAL: Slope(out, self.cells[back], np.concatenate([by_k, -by_k])),
            "connection": Slope(out, back, np.concatenate([by_connection, -by_connection])),
            "rate": Slope(len(n) + wells, wells, got + 2.0 * self.well_loss * self.rate * less),
            "lowest_level": Slope(len(n) + wells, wells, np.where(given, less, 0.0)),
            "well_loss": Slope(len(n) + wells, wells, self.rate**2 * less),
            "casing_area": held,
        }


@dataclass(frozen=True, eq=False, kw_only=True)
class CollectorTerm(WellTerm):
    """Lying screens, each with one water level along all of it, as of a `WellTerm`."""

    kind: ClassVar[str] = "collector"
