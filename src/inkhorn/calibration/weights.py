"""Readings one by one, and how much each weighs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from inkhorn.dates import one_date
from inkhorn.errors import InputError, check_nonnegative, check_positive

__all__ = ["Reading", "WeightRule", "weigh"]


@dataclass(eq=False)
class Reading:
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

    def meets(self, one: Reading) -> bool:
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


def weigh(readings: list[Reading], rules: Sequence[WeightRule]) -> tuple[bool, list[str]]:
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
