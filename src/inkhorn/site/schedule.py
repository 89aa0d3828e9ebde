"""The schedule: periods over which stresses hold, and the steps within them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import KW_ONLY, dataclass, replace
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import one_date
from inkhorn.errors import InputError, check_finite
from inkhorn.shown import Shown
from inkhorn.site.series import DAY, Series, days_since
from inkhorn.sizes import refuse_beyond
from inkhorn.units import refuse_impossible

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Schedule", "in_each_period", "periods_between"]

_MOST_RATIO = 1e4


@dataclass(frozen=True, eq=False)
class Schedule(Shown):
    """Periods one after the other, each from its begin (not included) to its end.

    Parameters
    ----------
    ends : array_like of float, (n,)
        When periods end, rising [days since the start].
    start : datetime64, optional
        The date of the start.
    steps : array_like of int, () or (n,)
        Steps in each period.
    growth : array_like of float, () or (n,)
        Length of each step over that of the one before.
    steady : array_like of bool, () or (n,)
        Periods solved as if they had lasted for ever.
    warm_up : array_like of bool, () or (n,)
        Periods ahead of the record, left out of fits and plots; stresses are means of their season.

    Examples
    --------
    >>> Schedule([10.0, 40.0], steps=[1, 3], growth=2.0).step_ends(1).round(2).tolist()
    [14.29, 22.86, 40.0]
    """

    ends: Any
    start: np.datetime64 | None = None
    _: KW_ONLY
    steps: Any = 1
    growth: Any = 1.0
    steady: Any = False
    warm_up: Any = False

    def __post_init__(self) -> None:
        ends = np.atleast_1d(check_finite("schedule: ends", self.ends, unit="days"))
        object.__setattr__(self, "ends", ends)
        n = len(ends)
        for name, kind in (("steps", np.int64), ("growth", np.float64), ("steady", bool), ("warm_up", bool)):
            given = np.asarray(getattr(self, name))
            if given.shape not in ((), (n,)):
                raise InputError(
                    f"schedule: {name} has the shape {given.shape}; expected one value or ({n},), one per period."
                )
            object.__setattr__(self, name, np.array(np.broadcast_to(given, n), dtype=kind))
        if self.start is not None:
            object.__setattr__(self, "start", one_date(self.start, "schedule: start"))
        bad = np.flatnonzero((self.lengths < 0) | ((self.lengths == 0) & ~self.steady))
        if len(bad):
            k = int(bad[0])
            raise InputError(
                f"schedule: period {k} ends {ends[k]:g} days after the start, which is not after it begins "
                f"({self.begins[k]:g}). Sort the ends; only a steady period may have no length."
            )
        for name, low, high in (("steps", 1, np.inf), ("growth", 0.1, 10.0)):
            values = getattr(self, name)
            off = np.flatnonzero(~((values >= low) & (values <= high)))
            if len(off):
                expected = f"{low:g} or more" if high == np.inf else f"{low:g} to {high:g}"
                raise InputError(
                    f"schedule: {name} of period {off[0]} is {values[off[0]]:g}; expected {expected}."
                )
        refuse_beyond(
            "steps", float(self.steps.sum(dtype=np.float64)), "the schedule", "Take fewer periods or steps."
        )
        refuse_impossible("schedule: ends", ends, "time")

    def __len__(self) -> int:
        return len(self.ends)

    def __repr__(self) -> str:
        begin = f" from {str(self.start)[:10]}" if self.start is not None else ""
        return (
            f"Schedule({len(self)} periods{begin}, {self.ends[-1]:g} days, {int(self.steps.sum())} steps"
            f"{f', {int(self.steady.sum())} steady' if self.steady.any() else ''}"
            f"{f', {int(self.warm_up.sum())} of warm-up' if self.warm_up.any() else ''})"
        )

    @property
    def begins(self) -> NDArray[np.float64]:
        """When periods begin, (n,) [days since the start]."""
        return np.concatenate([[0.0], self.ends[:-1]])

    @property
    def lengths(self) -> NDArray[np.float64]:
        """Length of each period, (n,) [days]."""
        return np.asarray(self.ends - self.begins)

    def date(self, days: float) -> np.datetime64 | None:
        """Return the date so many days after the start; None if that has no date."""
        return None if self.start is None else self.start + np.timedelta64(round(days * 86400), "s")

    def step_ends(self, period: int) -> NDArray[np.float64]:
        """Return when the steps of a period end [days since the start]."""
        n, ratio = int(self.steps[period]), float(self.growth[period])
        run = np.cumsum(ratio ** np.arange(n))
        ends = self.begins[period] + self.lengths[period] * run / run[-1]
        ends[-1] = self.ends[period]
        return np.asarray(ends)

    def mean(self, series: Series) -> NDArray[np.float64]:
        """Return the value of a series in each period, (n, m).

        Its mean over the period; in the warm-up that over the same season of all years; in a steady period
        of no length that over the whole schedule, as far as the series goes back.
        """
        return np.array([self._mean(series, k) for k in range(len(self))])

    def _mean(self, series: Series, period: int) -> NDArray[np.float64]:
        begin, end = float(self.begins[period]), float(self.ends[period])
        if self.steady[period] and begin == end:
            first = float(days_since(self.start, series.times[:1], series.name)[0])
            return series.mean(max(begin, min(first, self.ends[-1])), float(self.ends[-1]), self.start)
        if self.warm_up[period]:
            dates = (self.date(t) for t in (begin, end, float(self.ends[-1])))
            return series.seasonal_mean(*dates)  # type: ignore[arg-type]  # a warm-up has dates
        return series.mean(begin, end, self.start)

    def split_at(self, series: Iterable[Series]) -> Schedule:
        """Return a schedule with more periods, so that all changes of the series fall between two of them.

        A period that is split keeps its number of steps in each part; steady and warm-up ones are not split.
        """
        times = np.unique(
            np.concatenate([np.empty(0), *(days_since(self.start, s.times, s.name) for s in series)])
        )
        period = np.searchsorted(self.ends, times, "left")
        inside = (times > 0) & (times < self.ends[-1])
        inside[inside] &= (
            (times[inside] < self.ends[period[inside]] - 1e-9)
            & (times[inside] > self.begins[period[inside]] + 1e-9)
            & ~self.steady[period[inside]]
            & ~self.warm_up[period[inside]]
        )
        ends = np.concatenate([self.ends, times[inside]])
        home = np.concatenate([np.arange(len(self)), period[inside]])
        order = np.argsort(ends, kind="stable")
        picked = {k: getattr(self, k)[home[order]] for k in ("steps", "growth", "steady", "warm_up")}
        return replace(self, ends=ends[order], **picked)

    def warmed_up(self, years: int) -> Schedule:
        """Return a schedule that starts some years earlier, in months, all of them warm-up.

        Raises
        ------
        InputError
            If the schedule starts at no date.
        """
        if self.start is None:
            raise InputError(
                "a warm-up needs dates, of which seasons are made. Give the schedule's start as a date."
            )
        if years < 1:
            raise InputError(f"the warm-up has {years} years; expected 1 or more.")
        whole = self.start.astype("datetime64[M]")
        rest = self.start - whole.astype("datetime64[s]")
        months = (whole - np.timedelta64(12 * years, "M") + np.arange(12 * years + 1)).astype(
            "datetime64[s]"
        ) + rest
        ahead = (months[1:] - months[0]) / DAY
        first_steady = bool(self.steady[0]) and self.lengths[0] == 0

        def joined(name: str, value: Any) -> NDArray[Any]:
            own = getattr(self, name)
            before = np.full(len(ahead), value)
            return (
                np.concatenate([own[:1], before, own[1:]]) if first_steady else np.concatenate([before, own])
            )

        later = self.ends + ahead[-1]
        ends = np.concatenate([[0.0], ahead, later[1:]]) if first_steady else np.concatenate([ahead, later])
        made = Schedule(
            ends,
            months[0],
            steps=joined("steps", 1),
            growth=joined("growth", 1.0),
            steady=joined("steady", False),
            warm_up=joined("warm_up", True),
        )
        if first_steady:
            made.warm_up[0] = True
        return made

    def extreme_steps(self) -> list[int]:
        """Return the periods with a step ten thousand times shorter than the longest of all."""
        shortest = np.array(
            [np.diff(self.step_ends(k), prepend=self.begins[k]).min() for k in range(len(self))]
        )
        timed = ~self.steady
        if not timed.any():
            return []
        return np.flatnonzero(timed & (shortest * _MOST_RATIO < shortest[timed].max())).tolist()

    def table(self, changes: dict[str, NDArray[np.float64]] | None = None) -> pd.DataFrame:
        """Return the periods as a table, with what changes at the begin of each.

        Parameters
        ----------
        changes : mapping of str to ndarray, (n, ...), optional
            Values of each period, by name.
        """
        import pandas as pd

        rows = []
        for k in range(len(self)):
            moved = [
                name
                for name, values in (changes or {}).items()
                if k == 0 or not np.array_equal(values[k], values[k - 1])
            ]
            row = {
                "period": k,
                "begin [day]": self.begins[k],
                "end [day]": self.ends[k],
                "steps": int(self.steps[k]),
                "kind": "warm-up" if self.warm_up[k] else "steady" if self.steady[k] else "",
                "changes": ", ".join(moved) if k else "",
            }
            if self.start is not None:
                row["begin"], row["end"] = (
                    str(self.date(self.begins[k]))[:10],
                    str(self.date(self.ends[k]))[:10],
                )
            rows.append(row)
        return pd.DataFrame(rows).set_index("period")


def periods_between(
    start: np.datetime64 | str, end: np.datetime64 | str, every: Literal["day", "week", "month", "year"]
) -> NDArray[np.float64]:
    """Return when periods of a calendar end [days since the start], the last one at the end given.

    Months and years are counted from the start: from 15 March a month ends on 15 April.

    Examples
    --------
    >>> periods_between("2021-01-01", "2021-04-15", "month").tolist()
    [31.0, 59.0, 90.0, 104.0]
    """
    first, last = one_date(start, "start"), one_date(end, "end")
    if last <= first:
        raise InputError(f"the schedule ends on {last}, which is not after its start on {first}.")
    length = float((last - first) / DAY)
    days = {"day": 1.0, "week": 7.0, "month": 30.0, "year": 365.0}[every]
    refuse_beyond(
        "steps", length / days, f"a period every {every} from {first} to {last}", "Let it end sooner."
    )
    if every in ("day", "week"):
        ends = np.arange(1, int(length) + 2) * (1.0 if every == "day" else 7.0)
    else:
        whole = first.astype("datetime64[M]")
        count = int((last.astype("datetime64[M]") - whole) / np.timedelta64(1, "M")) + 2
        step = 12 if every == "year" else 1
        months = whole + step * np.arange(1, count + 1)
        ends = (months.astype("datetime64[s]") + (first - whole.astype("datetime64[s]")) - first) / DAY
    return np.append(ends[ends < length - 1e-9], length)


def in_each_period(value: float | Sequence[float] | Series, schedule: Schedule | None, what: str) -> Any:
    """Return a value as it is, (m,), or one in time for each period, (n_periods, m).

    Raises
    ------
    InputError
        If it changes in time and there is no schedule.
    """
    if not isinstance(value, Series):
        return np.atleast_1d(np.asarray(value, dtype=np.float64))
    if schedule is None:
        raise InputError(
            f"{what} changes in time, but the site has no schedule. Give one, as in the table [time] of a project file."
        )
    return schedule.mean(value)
