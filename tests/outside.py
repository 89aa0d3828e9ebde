"""Kinds that no line of the package knows: what another package could declare, for the tests that need one.

Terms: a lake, a network, a store of soil water. A kind of boundary, the moat, with its feature, law and placing. A
property of the ground. All are known from when this is imported until the process ends.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from inkhorn.model import Spot, places, ramp
from inkhorn.model.terms import Contribution, Slope, Term, entry_input, feature_input
from inkhorn.site import (
    Feature,
    Property,
    Quantity,
    Symbol,
    concentrations,
    declare_property,
    layer_names,
    quantity,
)


@dataclass(frozen=True, eq=False)
class LakeTerm(Term):
    """Lakes: a level each, ``conductance * (level - head)`` into cells, rain on an area that grows with the level.

    Its volume is ``area * depth + 0.5 * spread * depth²`` over its floor; above the sill it runs over.
    """

    conductance: Any = entry_input("conductance")
    floor: Any = feature_input("length")
    area: Any = feature_input("area")
    spread: Any = feature_input("length")
    rain: Any = feature_input("rate")
    sill: Any = feature_input("length", default=np.inf, check="any")
    weir: Any = feature_input("conductance")
    first_level: Any = feature_input("length")
    kind: ClassVar[str] = "lake"
    outside_names: ClassVar[tuple[str, ...]] = ("rain", "overflow")

    @property
    def n_extra(self):
        return len(self.feature_names)

    @property
    def node(self):
        return self.feature_index

    @property
    def extra_sets_level(self):
        return np.isfinite(self.sill)

    def initial_guess(self, heads):
        return self.first_level.copy()

    def _over(self, level):
        return ramp(np.where(np.isfinite(self.sill), level - self.sill, -1.0), 0.05)

    def evaluate(self, moment):
        level, n, wells = moment.extra_unknowns, np.arange(len(self.cells)), np.arange(self.n_extra)
        own, depth = moment.first_extra + wells, level - self.floor
        flow = self.conductance * (level[self.feature_index] - moment.heads[self.cells])
        over, steep = self._over(level)
        rain, wide = self.rain * (self.area + self.spread * depth), self.area + self.spread * depth
        columns = np.concatenate([self.cells, own[self.feature_index]])
        by_level = self.rain * self.spread - self.weir * steep
        return Contribution(
            flow=flow,
            flow_slope=Slope(np.concatenate([n, n]), columns, np.concatenate([-self.conductance, self.conductance])),
            extra_residual=rain - self.weir * over - np.bincount(self.feature_index, flow, self.n_extra),
            extra_slope=Slope(
                np.concatenate([self.feature_index, self.feature_index, wells]),
                np.concatenate([columns, own]),
                np.concatenate([self.conductance, -self.conductance, by_level]),
            ),
            stored=self.area * depth + 0.5 * self.spread * depth**2,
            stored_slope=Slope(wells, own, wide),
            outside={"rain": rain, "overflow": -self.weir * over},
        )  # fmt: skip

    def by_input(self, moment):
        level, n, m = moment.extra_unknowns, np.arange(len(self.cells)), self.n_extra
        wells, depth = np.arange(m), level - self.floor
        drop, own, stored = (
            level[self.feature_index] - moment.heads[self.cells],
            len(n) + wells,
            len(n) + m + wells,
        )
        over, steep = self._over(level)
        both, here = np.concatenate([own, stored]), np.concatenate([wells, wells])
        ends = np.concatenate([n, len(n) + self.feature_index])
        return {
            "conductance": Slope(ends, np.concatenate([n, n]), np.concatenate([drop, -drop])),
            "floor": Slope(both, here, np.concatenate([-self.rain * self.spread, -self.area - self.spread * depth])),
            "area": Slope(both, here, np.concatenate([self.rain, depth])),
            "spread": Slope(both, here, np.concatenate([self.rain * depth, 0.5 * depth**2])),
            "rain": Slope(own, wells, self.area + self.spread * depth),
            "sill": Slope(own, wells, self.weir * steep),
            "weir": Slope(own, wells, -over),
        }  # fmt: skip


@dataclass(frozen=True, eq=False)
class NetworkTerm(Term):
    """Pipes between nodes that water enters from cells: a level at each node, many to one feature."""

    exchange: Any = entry_input("conductance")
    at: Any = ()  # the node of each entry
    pipes: Any = ()  # the two nodes of each
    pipe_conductance: Any = ()
    kind: ClassVar[str] = "network"

    @property
    def n_extra(self):
        return int(np.max(self.at)) + 1

    @property
    def node(self):
        return np.asarray(self.at)

    @property
    def links(self):
        return np.asarray(self.pipes)

    def initial_guess(self, heads):
        return np.bincount(self.at, heads[self.cells]) / np.bincount(self.at)

    def evaluate(self, moment):
        level, n, first = moment.extra_unknowns, np.arange(len(self.cells)), moment.first_extra
        a, b = self.links.T
        flow = self.exchange * (level[self.at] - moment.heads[self.cells])
        through = self.pipe_conductance * (level[a] - level[b])
        residual = -np.bincount(self.at, flow, self.n_extra)
        residual += np.bincount(b, through, self.n_extra) - np.bincount(a, through, self.n_extra)
        k, columns = self.pipe_conductance, np.concatenate([self.cells, first + self.at])
        return Contribution(
            flow=flow,
            flow_slope=Slope(np.concatenate([n, n]), columns, np.concatenate([-self.exchange, self.exchange])),
            extra_residual=residual,
            extra_slope=Slope(
                np.concatenate([self.at, self.at, a, a, b, b]),
                np.concatenate([columns, first + a, first + b, first + b, first + a]),
                np.concatenate([self.exchange, -self.exchange, -k, k, -k, k]),
            ),
            link_flow=through,
        )  # fmt: skip


@dataclass(frozen=True, eq=False)
class SoilStoreTerm(Term):
    """Water that seeps from a store above each cell at ``store * rate``, filled by rain: a state, not an unknown."""

    rain: Any = entry_input("flow")
    rate: Any = entry_input("leakance")
    kind: ClassVar[str] = "soil store"

    @property
    def n_state(self):
        return len(self.cells)

    def _next(self, moment):
        length = 0.0 if moment.steady else moment.end - moment.begin
        return (moment.state + length * self.rain) / (1.0 + length * self.rate), length

    def evaluate(self, moment):
        store, _ = self._next(moment)
        if moment.steady:
            store = self.rain / self.rate
        return Contribution(flow=self.rate * store, flow_slope=Slope.none(), state=store)

    def by_input(self, moment):
        n = np.arange(len(self.cells))
        store, length = self._next(moment)
        by_rain, by_rate = length / (1.0 + length * self.rate), -length * store / (1.0 + length * self.rate)
        flow_by_rate = store + self.rate * by_rate
        if moment.steady:
            by_rain, by_rate, flow_by_rate = 1.0 / self.rate, -self.rain / self.rate**2, np.zeros(len(n))
        rows, columns = np.concatenate([n, len(n) + n]), np.concatenate([n, n])
        by_rain = np.broadcast_to(by_rain, len(n))
        return {
            "rain": Slope(rows, columns, np.concatenate([self.rate * by_rain, by_rain])),
            "rate": Slope(rows, columns, np.concatenate([flow_by_rate, by_rate])),
        }

    def by_state(self, moment):
        n = np.arange(len(self.cells))
        if moment.steady:
            return Slope.none()
        kept = 1.0 / (1.0 + (moment.end - moment.begin) * self.rate)
        return Slope(
            np.concatenate([n, len(n) + n]), np.concatenate([n, n]), np.concatenate([self.rate * kept, kept])
        )


@dataclass(frozen=True, eq=False)
class MoatTerm(Term):
    """Gives water where the head stands below its low level, takes it above its high one, and neither between."""

    conductance: Any = entry_input("conductance", check="nonnegative")
    low: Any = entry_input("length", below="has its low level below its cell", remedy="Raise it.")
    high: Any = entry_input("length")
    kind: ClassVar[str] = "moat"

    @property
    def sets_level(self):
        return self.conductance > 0

    def findings(self, grid):
        yield from super().findings(grid)
        crossed = np.flatnonzero(self.low > self.high)
        yield from self.found_at(grid, crossed, "error", "has its low level above its high one", "Swap them.")

    def _parts(self, moment):
        head = moment.heads[self.cells]
        return *ramp(self.low - head, 0.01), *ramp(head - self.high, 0.01)

    def evaluate(self, moment):
        given, less, taken, more = self._parts(moment)
        slope = Slope(np.arange(len(self.cells)), self.cells, -self.conductance * (less + more))
        return Contribution(flow=self.conductance * (given - taken), flow_slope=slope)

    def by_input(self, moment):
        n = np.arange(len(self.cells))
        given, less, taken, more = self._parts(moment)
        return {
            "conductance": Slope(n, n, given - taken),
            "low": Slope(n, n, self.conductance * less),
            "high": Slope(n, n, self.conductance * more),
        }


@dataclass(frozen=True, kw_only=True)
class Moat(Feature):
    """A ring of water around a castle, between two sills."""

    low: Any = quantity("below which it gives water", "elevation", in_time=True, along=True, example="7 m")
    high: Any = quantity("above which it takes water", "elevation", in_time=True, example="8 m")
    conductance: Any = quantity(
        "flow per metre of head for each metre",
        {"line": "conductivity", "cells": "conductance"},
        example="2 m/day",
        check="positive",
    )
    layers: Any = layer_names("where it lies; every layer if not given")
    concentration: Any = concentrations()
    kind: ClassVar[str] = "moat"
    table: ClassVar[str] = "moat"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)
    signs: ClassVar[str] = "gives below, takes above"
    symbol: ClassVar[Symbol] = Symbol(colour="#123456", width=3.0)


@places(Moat, MoatTerm)
def place_moats(features, plan):
    spots = []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, entry = plan.column_cells(place)
        values = {
            name: plan.value(feature, name, place)[..., entry] for name in ("low", "high", "conductance")
        }
        measure = {"conductance": place.size[entry]}
        spots.append(
            Spot(feature, cells, values, float(place.size.sum()), "m", place.outside, measure=measure)
        )
    return spots


CARBON = declare_property(
    Property(
        "organic_carbon",
        Quantity("share of organic carbon", 0.01, check="positive", usual=(1e-5, 0.2), most=1.0),
    )
)
