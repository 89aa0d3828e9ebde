"""What a fit goes by: readings, how much each weighs, and why some are left out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import one_date
from inkhorn.errors import InputError, check_nonnegative, check_positive, did_you_mean
from inkhorn.flow import (
    AllOf,
    BoreLevels,
    FaceFlows,
    FlowResult,
    Quantity,
    Readings,
    TermFlows,
    WellLevels,
    rows_across_line,
)
from inkhorn.model import Model, bore_cells, why_no_cell
from inkhorn.model.terms import WellTerm
from inkhorn.site import Bore, Measurement, days_since

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Observations", "WeightRule", "observe"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


@dataclass(frozen=True, kw_only=True, eq=False)
class WeightRule:
    """How much some readings weigh: those that meet all that is said.

    Rules are gone through in order, and later ones act on what earlier ones left.

    Parameters
    ----------
    names, groups, layers : tuple of str
        Of bores and measurements; all if not given.
    within : shapely Polygon, optional
        Only those at a place in it.
    near : (float, float), optional
        Only those no farther from a place than `distance` [m].
    distance : float, optional
    begin, end : datetime64 or str, optional
        Only readings from this date on, and before that one.
    deviation : float, optional
        The standard deviation that they have from now on [m], [m³/day].
    factor : float, optional
        By how much they weigh more; 0 leaves them out.
    reason : str
        Why, for the report.
    """

    names: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    layers: tuple[str, ...] = ()
    within: Any = field(default=None, repr=False)
    near: tuple[float, float] | None = None
    distance: float | None = None
    begin: Any = None
    end: Any = None
    deviation: float | None = None
    factor: float | None = None
    reason: str = ""

    def __post_init__(self) -> None:
        if (self.near is None) != (self.distance is None):
            raise InputError("a rule for weights has `near` and `distance` together. Give both, or none.")
        if (self.deviation is None) == (self.factor is None):
            raise InputError("a rule for weights gives either a `deviation` or a `factor`.")
        if self.deviation is not None:
            check_positive("a rule for weights: deviation", self.deviation)
        if self.factor is not None:
            check_nonnegative("a rule for weights: factor", self.factor)
        for key in ("begin", "end"):
            if getattr(self, key) is not None:
                object.__setattr__(self, key, one_date(getattr(self, key), f"a rule for weights: {key}"))

    def __str__(self) -> str:
        said = [*self.names, *self.groups, *self.layers]
        said += ["within a polygon"] * (self.within is not None) + ["near a place"] * (self.near is not None)
        said += [f"from {str(self.begin)[:10]}"] * (self.begin is not None)
        said += [f"before {str(self.end)[:10]}"] * (self.end is not None)
        return self.reason or ", ".join(said) or "all readings"

    def meets(self, one: _Reading) -> bool:
        """Whether it is meant for a reading."""
        import shapely

        return (
            (not self.names or one.name in self.names)
            and (not self.groups or one.group in self.groups)
            and (not self.layers or one.layer in self.layers)
            and (self.within is None or bool(shapely.contains_xy(self.within, one.x, one.y)))
            and (
                self.near is None
                or np.hypot(one.x - self.near[0], one.y - self.near[1]) <= (self.distance or 0.0)
            )
            and (self.begin is None or (not np.isnat(one.date) and one.date >= self.begin))
            and (self.end is None or (not np.isnat(one.date) and one.date < self.end))
        )


@dataclass(eq=False)
class _Reading:
    """One number that was measured."""

    name: str
    kind: str
    unit: str
    group: str
    layer: str
    x: float
    y: float
    date: np.datetime64
    day: float  # NaN of steady flow
    value: float
    deviation: float
    parts: list[tuple[int, float, float]]  # quantity, day, and how it counts
    factor: float = 1.0
    why_not: str = ""


@dataclass(frozen=True, eq=False)
class Observations:
    """Readings that a fit goes by.

    Attributes
    ----------
    table : pandas.DataFrame
        Columns name, kind, group, layer, x [m], y [m], date, time [day] (NaN of steady flow), unit, measured,
        deviation (standard deviation, in that unit; 1 where none is known), factor (of the weight).
    left_out : pandas.DataFrame
        Columns name, date, unit, measured, why.
    stated : bool
        Whether standard deviations are known.
    bores : tuple of Bore
        Those with a level among the readings.
    """

    table: pd.DataFrame
    left_out: pd.DataFrame
    stated: bool
    bores: tuple[Bore, ...]
    notes: tuple[str, ...]
    _quantity: Quantity = field(repr=False)
    _flows: NDArray[np.bool_] = field(repr=False)  # which quantities are means over a step
    _parts: tuple[Index, Index, Array, Array] = field(repr=False)  # reading, quantity, day, how it counts

    def __len__(self) -> int:
        return len(self.table)

    def __repr__(self) -> str:
        kinds = ", ".join(f"{n} × {k}" for k, n in self.table["kind"].value_counts(sort=False).items())
        return f"Observations({kinds}; {len(self.left_out)} left out)"

    @property
    def measured(self) -> Array:
        """What was measured, (n,)."""
        return self.table["measured"].to_numpy(dtype=np.float64)

    @property
    def weights(self) -> Array:
        """What residuals are multiplied with: factor over standard deviation, (n,)."""
        return self.table["factor"].to_numpy(dtype=np.float64) / self.table["deviation"].to_numpy(
            dtype=np.float64
        )

    def readings(self, flow: FlowResult) -> Readings:
        """Return how they are read of a flow: levels between the ends of its steps, flows over them."""
        from scipy.sparse import coo_array

        reading, quantity, day, counts = self._parts
        ends = np.array([step.end for step in flow.steps])
        if flow.model.schedule is None:
            later, share = np.zeros(len(day), dtype=np.int64), np.ones(len(day))
        else:
            later = np.clip(np.searchsorted(ends, day, "left"), 0, len(ends) - 1)
            before = np.maximum(later - 1, 0)
            gap = ends[later] - ends[before]
            share = np.where(gap > 0.0, (day - ends[before]) / np.where(gap > 0.0, gap, 1.0), 1.0)
            share = np.where(self._flows[quantity], 1.0, np.clip(share, 0.0, 1.0))
        step = np.concatenate([later, np.maximum(later - 1, 0)])
        value = np.concatenate([share * counts, (1.0 - share) * counts])
        row, column = np.tile(reading, 2), np.tile(quantity, 2)
        weights = {}
        for k in np.unique(step[value != 0.0]).tolist():
            here = (step == k) & (value != 0.0)
            entries = (value[here], (row[here], column[here]))
            weights[k] = coo_array(entries, shape=(len(self), len(self._quantity))).tocsr()
        return Readings(self._quantity, weights)

    def computed(self, flow: FlowResult) -> Array:
        """Return what a flow has instead, (n,)."""
        return self.readings(flow).values(flow)

    def residuals(self, flow: FlowResult) -> pd.DataFrame:
        """Return the table with computed values, residuals (measured less computed), and weighted ones [-]."""
        computed = self.computed(flow)
        return self.table.assign(
            computed=computed,
            residual=self.measured - computed,
            **{"weighted residual": (self.measured - computed) * self.weights},
        )

    def named(self, names: Sequence[str]) -> Observations:
        """Return the readings of some bores and measurements.

        Raises
        ------
        InputError
            If one of them has none that is used; it says why.
        """
        have = set(self.table["name"])
        for name in names:
            if name not in have:
                why = self.left_out.loc[self.left_out["name"] == name, "why"]
                said = f": {why.iloc[0]}" if len(why) else ""
                raise InputError(f'"{name}" has no place in the model{said}. Mend it, or leave it out.')
        return self.some(self.table["name"].isin(names).to_numpy())

    def some(self, which: Any) -> Observations:
        """Return some of the readings: a mask or places, (m,)."""
        from dataclasses import replace

        kept = np.arange(len(self))[which]
        if not len(kept):
            raise InputError("no reading is left. Choose at least one.")
        new = np.full(len(self), -1)
        new[kept] = np.arange(len(kept))
        mine = new[self._parts[0]] >= 0
        reading, quantity, day, counts = self._parts
        return replace(
            self,
            table=self.table.iloc[kept].reset_index(drop=True),
            _parts=(new[reading[mine]], quantity[mine], day[mine], counts[mine]),
        )


class _Collecting:
    """Goes through what was measured on one model."""

    def __init__(self, model: Model, bores: Sequence[Bore]) -> None:
        self.model, self.schedule = model, model.schedule
        self.readings: list[_Reading] = []
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
            self.readings.append(
                _Reading(
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
                _Reading(
                    **base, date=times[k] if dated else self._date(day), day=day, value=value, deviation=float(own[k]),
                    parts=parts(day), why_not=why_not or self.why_not_at(day),
                )
            )  # fmt: skip

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


def _weigh(readings: list[_Reading], rules: Sequence[WeightRule]) -> tuple[bool, list[str]]:
    """Put weights to readings; whether deviations are known, and what is to be said."""
    for one in readings:
        for rule in rules:
            if rule.meets(one):
                one.deviation = one.deviation if rule.deviation is None else rule.deviation
                one.factor *= 1.0 if rule.factor is None else rule.factor
                if one.factor == 0.0 and not one.why_not:
                    one.why_not = f"by a rule: {rule}"
    for rule in rules:
        if not any(rule.meets(one) for one in readings):
            raise InputError(f"a rule for weights is meant for no reading: {rule}. Mend it, or leave it out.")
    used = [one for one in readings if not one.why_not]
    units = {one.unit for one in used}
    notes, stated = [], any(np.isfinite(one.deviation) for one in used)
    for unit in sorted(units):
        mine = [one for one in used if one.unit == unit]
        known = [one.deviation for one in mine if np.isfinite(one.deviation)]
        without = [one for one in mine if not np.isfinite(one.deviation)]
        if not without:
            continue
        if known:
            usual = float(np.median(known))
            notes.append(
                f"{len(without)} readings without a standard deviation are given the median of the others, "
                f"{usual:.3g} {unit}"
            )
        elif stated or len(units) > 1:
            names = sorted({one.name for one in without})
            raise InputError(
                f"readings in {' and in '.join(sorted(units))} are weighed against each other by their standard "
                f"deviations, and {', '.join(names[:5])}{' and more' if len(names) > 5 else ''} have none. "
                "Give `deviation`."
            )
        else:
            usual = 1.0
        for one in without:
            one.deviation = usual
    return stated, notes


def observe(
    model: Model,
    bores: Sequence[Bore] | None = None,
    measurements: Sequence[Measurement] | None = None,
    *,
    rules: Sequence[WeightRule] = (),
    as_places: bool = False,
) -> Observations:
    """Gather what was measured on a model's site, for a fit.

    Beside steady flow the levels of a bore count once, by their mean, as do the values of a measurement. In time each is
    a reading; what lies outside the run or in its warm-up is left out.

    Parameters
    ----------
    model : Model
        With the schedule that fits go through.
    bores : sequence of Bore, optional
        Those of the model's site if not given.
    measurements : sequence of Measurement, optional
        Likewise.
    rules : sequence of WeightRule
        How much readings weigh beyond what they say themselves.
    as_places : bool
        Whether values stand for what might be measured, and are not looked at: as for a `forecast`.

    Returns
    -------
    Observations

    Raises
    ------
    InputError
        If no reading can be used; if readings in several units have no standard deviations.
    """
    import pandas as pd

    site = model.site
    if bores is None:
        bores = site.bores if site is not None else ()
    if measurements is None:
        measurements = site.measurements if site is not None else ()
    collecting = _Collecting(model, bores)
    for bore in bores:
        collecting.bore(bore, as_place=as_places)
    for one in measurements:
        collecting.measurement(one)
    if as_places:
        stated, notes = any(np.isfinite(one.deviation) for one in collecting.readings), list[str]()
        for place in collecting.readings:
            place.deviation = place.deviation if np.isfinite(place.deviation) else 1.0
    else:
        stated, notes = _weigh(collecting.readings, rules)
    used = [one for one in collecting.readings if not one.why_not]
    out = [one for one in collecting.readings if one.why_not]
    if not used:
        why = f" For one, {out[0].name}: {out[0].why_not}." if out else ""
        raise InputError(
            f"none of the {len(bores)} bores and {len(measurements)} measurements has a reading to go by.{why} Check "
            "layers, places and dates."
        )
    table = pd.DataFrame(
        {
            "name": [one.name for one in used],
            "kind": [one.kind for one in used],
            "group": [one.group for one in used],
            "layer": [one.layer for one in used],
            "x [m]": [one.x for one in used],
            "y [m]": [one.y for one in used],
            "date": np.array([one.date for one in used], dtype="datetime64[s]"),
            "time [day]": [one.day for one in used],
            "unit": [one.unit for one in used],
            "measured": [one.value for one in used],
            "deviation": [one.deviation for one in used],
            "factor": [one.factor for one in used],
        }
    )
    left_out = pd.DataFrame(
        {
            "name": [one.name for one in out],
            "date": np.array([one.date for one in out], dtype="datetime64[s]"),
            "unit": [one.unit for one in out],
            "measured": [one.value for one in out],
            "why": [one.why_not for one in out],
        }
    )
    parts = [(k, *part) for k, one in enumerate(used) for part in one.parts]
    reading, quantity, day, counts = (np.array(v) for v in zip(*parts, strict=True))
    levels = {one.name for one in used if one.kind == "level"}
    return Observations(
        table, left_out, stated, tuple(b for b in bores if b.name in levels), tuple(notes),
        AllOf(tuple(collecting.parts)), np.concatenate(collecting.flows), (reading, quantity, day, counts),
    )  # fmt: skip
