"""Values that change in time, by date or by days since the start."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import KW_ONLY, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.dates import dates
from inkhorn.errors import InputError, check_finite
from inkhorn.shown import Shown

__all__ = ["Series", "days_since"]

DAY = np.timedelta64(86400, "s")


def days_since(start: np.datetime64 | None, times: NDArray[Any], what: str) -> NDArray[np.float64]:
    """Return times as days since the start.

    Raises
    ------
    InputError
        If they are dates and the start has none.
    """
    if times.dtype.kind != "M":
        return np.asarray(times, dtype=np.float64)
    if start is None:
        raise InputError(
            f"{what} goes by dates, but the schedule starts at none. Give its start as a date, or days since the start."
        )
    return np.asarray((times.astype("datetime64[s]") - start) / DAY, dtype=np.float64)


@dataclass(frozen=True, eq=False)
class Series(Shown):
    """A value that changes: each holds from its time until the next, the last one on and on.

    Parameters
    ----------
    times : array_like, (n,)
        Rising dates (datetime64) or days since the start of the schedule.
    values : array_like of float, (n,) or (n, m)
        One value for each time; or several, as for the vertices of a line.
    name : str
        For messages.
    source : tuple of str, optional
        Where each row came from, for messages.

    Examples
    --------
    >>> rate = Series([0.0, 10.0], [100.0, 300.0])
    >>> rate.mean(5.0, 15.0)
    array([200.])
    """

    times: Any
    values: Any
    _: KW_ONLY
    name: str = "series"
    source: tuple[str, ...] = field(default=(), repr=False)

    def __repr__(self) -> str:
        return f"Series({self.name}: {len(self.times)} values from {self.times[0]} to {self.times[-1]})"

    def __post_init__(self) -> None:
        times = np.atleast_1d(np.asarray(self.times))
        if times.dtype.kind == "M":
            times = times.astype("datetime64[s]")
            missing = np.isnat(times)
        elif times.dtype.kind in "iuf":
            times = times.astype(np.float64)
            missing = ~np.isfinite(times)
        else:
            times = dates(times, f"{self.name}: times")
            missing = np.isnat(times)
        values = np.atleast_1d(check_finite(self.name, self.values))
        if len(times) == 0 or len(values) != len(times):
            raise InputError(
                f"{self.name} has {len(times)} times and {len(values)} values; expected as many, and at least one."
            )
        if missing.any():
            raise InputError(f"{self._row(int(np.argmax(missing)))}: the time is missing. Fill it in.")
        bad = np.flatnonzero(times[1:] <= times[:-1])
        if len(bad):
            k = int(bad[0]) + 1
            raise InputError(
                f"{self._row(k)}: the time {times[k]} does not come after {times[k - 1]}, the one before "
                f"({len(bad)} such rows). Sort the rows, each time once."
            )
        values = values.reshape(len(times), -1)
        object.__setattr__(self, "times", times)
        object.__setattr__(self, "values", values)

    def _row(self, k: int) -> str:
        return self.source[k] if self.source else f"{self.name}, row {k}"

    @property
    def by_date(self) -> bool:
        """True if times are dates."""
        return bool(self.times.dtype.kind == "M")

    def mean(self, begin: float, end: float, start: np.datetime64 | None = None) -> NDArray[np.float64]:
        """Return the mean from one time to another, weighted by how long each value holds, (m,).

        Parameters
        ----------
        begin, end : float
            Days since the start; the value at that time where they are equal.
        start : datetime64, optional
            The date of the start, for a series by dates.

        Raises
        ------
        InputError
            If the series begins after `begin`.
        """
        at = days_since(start, self.times, self.name)
        if begin < at[0] - 1e-9:
            raise InputError(
                f"{self.name} begins {at[0] - begin:.6g} days after it is needed, at {self.times[0]}. Give an earlier "
                "value, or let the schedule start later; years before the records can be warm-up (`warm_up_years`), "
                "which runs on the means of their season."
            )
        first = max(int(np.searchsorted(at, begin + 1e-9, "right")) - 1, 0)
        if end <= begin:
            return np.asarray(self.values[first])
        edges = np.clip(np.append(at[first:], np.inf), begin, end)
        weight = np.diff(edges)
        return np.asarray(weight @ self.values[first:] / (end - begin))

    def seasonal_mean(
        self, begin: np.datetime64, end: np.datetime64, until: np.datetime64 | None = None
    ) -> NDArray[np.float64]:
        """Return the mean over the same time of the year in all years that the series covers, (m,).

        The last value is taken to hold as long as the longest of the twelve before, or until a date.

        Raises
        ------
        InputError
            If the series is not by dates, or covers no such time of a year whole.
        """
        if not self.by_date:
            raise InputError(f"{self.name} goes by days, which have no season. Give dates.")
        gaps = np.diff(self.times[-13:])
        last = self.times[-1] + (gaps.max() if len(gaps) else 365 * DAY)
        last = last if until is None else max(last, until)
        means = []
        first, latest = (
            int((t.astype("datetime64[Y]") - begin.astype("datetime64[Y]")).astype(int))
            for t in (self.times[0], last)
        )
        for n in range(first - 1, latest + 2):
            shift = _years_later(begin, n) - begin
            if begin + shift >= self.times[0] and end + shift <= last:
                at = self.times[0]
                means.append(
                    self.mean(float((begin + shift - at) / DAY), float((end + shift - at) / DAY), at)
                )
        if not means:
            raise InputError(
                f"{self.name} covers no year from {str(begin)[5:10]} to {str(end)[5:10]} whole, of which a mean for the "
                "warm-up could be made. Give a longer record."
            )
        return np.asarray(np.mean(means, axis=0))

    def changed(self, change: Callable[[NDArray[np.float64]], ArrayLike]) -> Series:
        """Return a series of values changed by a function."""
        return Series(self.times, change(self.values), name=self.name, source=self.source)


def _years_later(date: np.datetime64, years: int) -> np.datetime64:
    """The same day of another year; 29 February becomes 1 March."""
    months = date.astype("datetime64[M]")
    rest = date - months.astype("datetime64[s]")
    return (months + np.timedelta64(12 * years, "M")).astype("datetime64[s]") + rest
