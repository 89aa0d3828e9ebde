"""Goes through all that was measured on a site: what each number is read of, or why it is not."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.weights import Reading, WeightRule
from inkhorn.errors import InputError, did_you_mean
from inkhorn.flow import BoreLevels, FaceFlows, Quantity, SpringFlows, TermFlows, WellLevels, rows_across_line
from inkhorn.model import Model, bore_cells, why_no_cell
from inkhorn.model.terms import ConduitTerm, WellTerm
from inkhorn.site import Bore, Measurement, days_since

__all__ = ["Gathering"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


class Gathering:
    """Goes through what was measured on one model."""

    def __init__(self, model: Model, bores: Sequence[Bore], rules: Sequence[WeightRule] = ()) -> None:
        self.model, self.schedule = model, model.schedule
        self.windows = [r for r in rules if r.factor == 0.0 and (r.begin is not None or r.end is not None)]
        self.readings: list[Reading] = []
        self.parts: list[Quantity] = []
        self.flows: list[NDArray[np.bool_]] = []
        self.bores = {b.name: b for b in bores}
        cells = {b.name: bore_cells(model.grid, b) for b in bores}
        standing = [b for b in bores if len(cells[b.name])]
        self.lowest = {b.name: float(model.grid.cells.bottom[cells[b.name]].min()) for b in standing}
        self.at = {b.name: k for k, b in enumerate(standing)}
        if standing:
            self.add(BoreLevels(model, standing), flow=False)
        self.n_bores = len(standing)

    def add(self, quantity: Quantity, *, flow: bool) -> int:
        """Keep quantities, and return the number of the first."""
        first = sum(len(p) for p in self.parts)
        self.parts.append(quantity)
        self.flows.append(np.full(len(quantity), flow))
        return first

    def day_of(self, times: Any, what: str) -> Array:
        """Days since the start of the run."""
        return days_since(None if self.schedule is None else self.schedule.start, np.asarray(times), what)

    def why_not_at(self, day: float) -> str:
        """Why a time is not one of the run, its warm-up left out; nothing if it is."""
        if self.schedule is None:
            return ""
        begin = 0.0
        if self.schedule.warm_up.any():
            begin = float(self.schedule.ends[self.schedule.warm_up][-1])
        if day < 0.0:
            return "before the run begins"
        if day < begin:
            return "in the warm-up"
        return "after the run ends" if day > float(self.schedule.ends[-1]) else ""

    def series(
        self, base: dict[str, Any], values: Array, times: Any, deviation: Any,
        parts: Callable[[float], list[tuple[int, float, float]]], why_not: str, *, from_day: float = 0.0,
    ) -> None:  # fmt: skip
        """Keep one reading for each value in time, or their mean beside steady flow."""
        own = np.broadcast_to(np.nan if deviation is None else deviation, len(values)).astype(np.float64)
        none = np.datetime64("NaT", "s")
        dated = times is not None and len(times) and np.asarray(times).dtype.kind == "M"
        if self.schedule is None:
            if dated and not why_not:
                kept = self._within_windows(base, values, times, own)
                values, own = values[kept], own[kept]
                if not len(values):
                    return
            self.readings.append(
                Reading(
                    **base, date=none, day=np.nan, value=float(values.mean()),
                    deviation=float(own.mean()), parts=parts(np.nan), why_not=why_not,
                )
            )  # fmt: skip
            return
        if times is None or not len(times):
            if not why_not and not self.schedule.steady.all():
                why_not = "it has no date, and the run goes through time"
            days = np.full(len(values), float(self.schedule.ends[-1]))
        elif dated and self.schedule.start is None:
            why_not, days = (
                why_not or "it goes by dates, and the run begins at none",
                np.full(len(values), np.nan),
            )
        else:
            days = self.day_of(times, base["name"]) + (0.0 if dated else from_day)
        for k, (value, day) in enumerate(zip(values.tolist(), days.tolist(), strict=True)):
            self.readings.append(
                Reading(
                    **base, date=times[k] if dated else self._date(day), day=day, value=value, deviation=float(own[k]),
                    parts=parts(day), why_not=why_not or self.why_not_at(day),
                )
            )  # fmt: skip

    def _within_windows(
        self, base: dict[str, Any], values: Array, times: Any, own: Array
    ) -> NDArray[np.bool_]:
        """Which values count in a mean beside steady flow: all but those that a rule leaves out by their dates."""
        kept = np.ones(len(values), dtype=bool)
        for k, (value, date) in enumerate(zip(values.tolist(), np.asarray(times), strict=True)):
            one = Reading(
                **base, date=date, day=np.nan, value=value, deviation=float(own[k]), parts=[], why_not="",
            )  # fmt: skip
            for rule in self.windows:
                if rule.meets(one):
                    one.why_not = f"by a rule: {rule}"
            if one.why_not:
                kept[k] = False
                self.readings.append(one)
        return kept

    def _date(self, day: float) -> np.datetime64:
        if self.schedule is None or self.schedule.start is None or not np.isfinite(day):
            return np.datetime64("NaT", "s")
        return np.datetime64(str(self.schedule.date(day)), "s")

    def bore(self, bore: Bore, *, as_place: bool = False) -> None:
        """Levels in an observation bore."""
        if not len(bore.levels):
            return
        why = why_no_cell(self.model.grid, bore)
        place = self.at.get(bore.name, -1)
        base = {
            "name": bore.name, "kind": "level", "unit": "m", "group": bore.group or "levels",
            "layer": bore.layer or "several", "x": float(bore.x), "y": float(bore.y),
        }  # fmt: skip
        first = len(self.readings)
        self.series(base, bore.levels, bore.dates, bore.deviation, lambda day: [(place, day, 1.0)], why)
        for one in self.readings[first:] if not why else []:
            low = self.lowest[bore.name]
            if one.value < low and not one.why_not and not as_place:
                one.why_not = f"it lies below the bottom of its cell, {low:.4g} m"

    def measurement(self, one: Measurement) -> None:
        """Anything else."""
        base = {
            "name": one.name, "unit": one.unit, "group": one.group or ("flows" if one.unit == "m³/day" else "levels"),
            "layer": ", ".join(one.layers), "x": np.nan, "y": np.nan,
        }  # fmt: skip
        from_day = 0.0
        if one.level_in is not None:
            kind, made = "level in a well", self._in_well(one, base)
        elif one.gain_of:
            kind, made = "gain", self._gain(one, base)
        elif one.across is not None:
            kind, made = "flow across", self._across(one)
        else:
            kind, made = (
                ("drawdown", self._drawdown(one, base))
                if one.drawdown_in
                else ("difference", self._between(one, base))
            )
            if one.drawdown_in and self.schedule is not None and not made[1]:
                from_day = float(self.day_of([one.since], one.where)[0])
        self.series(
            {**base, "kind": kind}, one.values, one.times, one.deviation, made[0], made[1], from_day=from_day
        )

    def _known_bore(self, name: str, one: Measurement, base: dict[str, Any]) -> tuple[int, str]:
        if name not in self.bores:
            known = list(self.bores)
            raise InputError(
                f'{one.where} names the bore "{name}"; expected one of {known}.{did_you_mean(name, known)}'
            )
        bore = self.bores[name]
        base.update(x=float(bore.x), y=float(bore.y), layer=bore.layer or "several")
        why = why_no_cell(self.model.grid, bore)
        return self.at.get(name, -1), f'the bore "{name}": {why}' if why else ""

    def _in_well(self, one: Measurement, base: dict[str, Any]) -> tuple[Any, str]:
        name, known = str(one.level_in), []
        for number, term in enumerate(self.model.terms):
            if not isinstance(term, WellTerm):
                continue
            known += list(term.feature_names)
            if name in term.feature_names:
                place = term.feature_names.index(name)
                base.update(x=float(term.x[place]), y=float(term.y[place]))
                return self._alone(self.add(WellLevels(number, np.array([place])), flow=False)), ""
        raise InputError(
            f'{one.where} is in the well "{name}"; expected one of {known}.{did_you_mean(name, known)}'
        )

    def _gain(self, one: Measurement, base: dict[str, Any]) -> tuple[Any, str]:
        import shapely
        from scipy.sparse import csr_array

        grid, parts, left = self.model.grid, [], set(one.gain_of)
        known = [n for t in self.model.terms for n in t.feature_names]
        layers = [k for n in one.layers for k in grid.layers_named(n, one.where)]
        met: list[Index] = []
        for number, term in enumerate(self.model.terms):
            mine = [k for k, n in enumerate(term.feature_names) if n in one.gain_of]
            left -= {term.feature_names[k] for k in mine}
            chosen = np.isin(term.feature_index, mine)
            if one.within is not None:
                chosen &= shapely.contains_xy(one.within, grid.cells.x[term.cells], grid.cells.y[term.cells])
            if layers:
                chosen &= np.isin(grid.cells.layer[term.cells], layers)
            entry = np.flatnonzero(chosen)
            if len(entry):
                row = csr_array((np.ones(len(entry)), entry, [0, len(entry)]), shape=(1, len(term.cells)))
                parts.append(self.add(TermFlows(number, row), flow=True))
                met.append(term.cells[entry])
            if isinstance(term, ConduitTerm):
                springs, cells = self._springs(term, mine, one.within, layers)
                if len(springs):
                    parts.append(self.add(SpringFlows(number, springs), flow=True))
                    met.append(cells)
        for name in left:
            site = self.model.site
            if site is None or name not in [f.name for f in site.features]:
                raise InputError(
                    f'{one.where} is of the feature "{name}"; expected one of {known}.{did_you_mean(name, known)}'
                )
        if not parts:
            return (lambda day: []), "the features it is of meet no cell there"
        cells = np.concatenate(met)
        base.update(x=float(grid.cells.x[cells].mean()), y=float(grid.cells.y[cells].mean()))
        return (lambda day: [(k, day, -1.0) for k in parts]), ""

    def _springs(
        self, term: ConduitTerm, features: Sequence[int], within: Any, layers: Sequence[int]
    ) -> tuple[Index, Index]:
        """Springs of conduits among some features, and the cells that they are in."""
        import shapely

        springs = np.intersect1d(term.springs, np.asarray(features, dtype=np.int64))
        node = term.at_node[springs].astype(np.int64)
        cell = term.cells[term.end_at[node] // 2]
        kept = np.ones(len(springs), dtype=bool)
        if within is not None:
            kept &= shapely.contains_xy(within, term.x[node], term.y[node])
        if layers:
            kept &= np.isin(self.model.grid.cells.layer[cell], layers)
        return springs[kept], cell[kept]

    def _across(self, one: Measurement) -> tuple[Any, str]:
        layers = [k for n in one.layers for k in self.model.grid.layers_named(n, one.where)]
        try:
            rows = rows_across_line(self.model.grid, np.asarray(one.across.coords)[:, :2], layers or None)
        except InputError as problem:
            return (lambda day: []), str(problem)
        return self._alone(self.add(FaceFlows(*rows), flow=True)), ""

    @staticmethod
    def _alone(quantity: int) -> Callable[[float], list[tuple[int, float, float]]]:
        return lambda day: [(quantity, day, 1.0)]

    def _drawdown(self, one: Measurement, base: dict[str, Any]) -> tuple[Any, str]:
        place, why = self._known_bore(str(one.drawdown_in), one, base)
        if self.schedule is None:
            return (lambda day: []), "a drawdown is one in time, and the flow is steady"
        since = float(self.day_of([one.since], one.where)[0])
        why = why or (f"since {one.since}: {w}" if (w := self.why_not_at(since)) else "")
        return (lambda day: [(place, since, 1.0), (place, day, -1.0)]), why

    def _between(self, one: Measurement, base: dict[str, Any]) -> tuple[Any, str]:
        assert one.between is not None
        (first, why), (second, why_second) = (self._known_bore(n, one, base) for n in one.between)
        return (lambda day: [(first, day, 1.0), (second, day, -1.0)]), why or why_second
