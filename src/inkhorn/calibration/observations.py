"""What a fit goes by: readings, how much each weighs, and why some are left out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.gathering import Gathering
from inkhorn.calibration.weights import WeightRule, weigh
from inkhorn.errors import InputError
from inkhorn.flow import AllOf, FlowResult, Quantity, Readings
from inkhorn.model import Model, bore_cells
from inkhorn.site import Bore, Measurement

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Observations", "observe"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


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

    def dry(self, flow: FlowResult) -> list[str]:
        """Return the bores that stand in cells which are drained at the end of every step, by name."""
        grid, wet = flow.model.grid, np.zeros(flow.model.grid.n_cells, dtype=bool)
        for k in range(len(flow.steps)):
            wet |= flow.filled(k) > 0.01
        return [b.name for b in self.bores if not wet[bore_cells(grid, b)].any()]

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
    site = model.site
    if bores is None:
        bores = site.bores if site is not None else ()
    if measurements is None:
        measurements = site.measurements if site is not None else ()
    gathered = Gathering(model, bores, () if as_places else rules)
    for bore in bores:
        gathered.bore(bore, as_place=as_places)
    for one in measurements:
        gathered.measurement(one)
    if as_places:
        stated, notes = any(np.isfinite(one.deviation) for one in gathered.readings), list[str]()
        for place in gathered.readings:
            place.deviation = place.deviation if np.isfinite(place.deviation) else 1.0
    else:
        stated, notes = weigh(gathered.readings, rules)
    return readings_of(gathered, bores, len(measurements), stated, notes)


def readings_of(
    gathered: Gathering, bores: Sequence[Bore], n_measurements: int, stated: bool, notes: Sequence[str]
) -> Observations:
    """Return what was gathered as readings.

    Raises
    ------
    InputError
        If there is none that can be used.
    """
    import pandas as pd

    used = [one for one in gathered.readings if not one.why_not]
    out = [one for one in gathered.readings if one.why_not]
    if not used:
        why = f" For one, {out[0].name}: {out[0].why_not}." if out else ""
        raise InputError(
            f"none of the {len(bores)} bores and {n_measurements} measurements has a reading to go by.{why} Check "
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
        AllOf(tuple(gathered.parts)), np.concatenate(gathered.flows), (reading, quantity, day, counts),
    )  # fmt: skip
