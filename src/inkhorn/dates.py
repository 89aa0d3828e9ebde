"""Dates in, without a time zone: ``2021-05-31``, with a time of the day if need be; and times in words."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError

__all__ = ["Clock", "clock_for", "dates", "one_date", "time_in_words"]

_YEAR = 365.25  # days
_DAYS_FROM, _DAYS_UP_TO = 2.0, 1000.0  # days

_DATE = re.compile(r"\d{4}-\d{2}(?:-\d{2}(?:[T ]\d{2}:\d{2}(?::\d{2}(?:\.\d{1,9})?)?)?)?")
_DOTTED = re.compile(
    r"(?P<day>\d{1,2})\.(?P<month>\d{1,2})\.(?P<year>\d{4})(?P<time> \d{2}:\d{2}(?::\d{2})?)?"
)
_EXAMPLE = "expected a date as in 2021-05-31 or 31.5.2021"


def one_date(value: Any, what: str = "date") -> np.datetime64:
    """Return a date, to the second.

    Parameters
    ----------
    value : str, date, datetime or datetime64
        Text is year-month-day, or year-month for the first of a month, or day.month.year with dots; no time zone is
        taken.
    what : str
        How to name it in a message.

    Raises
    ------
    InputError
        If it is no such date.

    >>> print(one_date("2021-05-31 12:00"), one_date("31.5.2021"))
    2021-05-31T12:00:00 2021-05-31T00:00:00
    """
    if isinstance(value, str) and (dotted := _DOTTED.fullmatch(value.strip())):
        value = f"{dotted['year']}-{dotted['month']:0>2}-{dotted['day']:0>2}{dotted['time'] or ''}"
    if isinstance(value, str) and not _DATE.fullmatch(value.strip()):
        shown = value if len(value) <= 40 else value[:40] + "..."
        why = ", as with strokes the day may be mistaken for the month" if "/" in value else ""
        raise InputError(f'{what} is "{shown}"; {_EXAMPLE}{why}.')
    if isinstance(value, (int, float)) or getattr(value, "tzinfo", None) is not None:
        raise InputError(f"{what} is {value}; {_EXAMPLE}, without a time zone.")
    try:
        date = np.datetime64(value.strip() if isinstance(value, str) else value, "s")
    except (ValueError, TypeError, OverflowError):
        raise InputError(f'{what} is "{value}"; {_EXAMPLE}.') from None
    if np.isnat(date):
        raise InputError(f"{what} is missing; {_EXAMPLE}.")
    return date


def dates(values: Any, what: str = "dates") -> NDArray[np.datetime64]:
    """Return dates, to the second, (n,).

    Raises
    ------
    InputError
        If one is no date; the message names which.

    >>> dates(["2021-05", "2021-06"])
    array(['2021-05-01T00:00:00', '2021-06-01T00:00:00'], dtype='datetime64[s]')
    """
    array = np.atleast_1d(np.asarray(values))
    if array.dtype.kind == "M":
        found = array.astype("datetime64[s]")
        missing = np.flatnonzero(np.isnat(found))
        if len(missing):
            raise InputError(f"{what}[{missing[0]}] is missing; {_EXAMPLE}.")
        return found
    return np.array(
        [one_date(v, f"{what}[{k}]") for k, v in enumerate(array.tolist())], dtype="datetime64[s]"
    )


class Clock(NamedTuple):
    """A unit in which times are told: how long it is [day], and its name."""

    length: float
    name: str


def clock_for(longest: float) -> Clock:
    """Return in which unit times up to the longest [day] are told: hours, days or years."""
    if longest > _DAYS_UP_TO:
        return Clock(_YEAR, "years")
    return Clock(1.0, "days") if longest >= _DAYS_FROM else Clock(1.0 / 24.0, "hours")


def time_in_words(days: float, digits: int = 3) -> str:
    """Return a time in the unit that fits it.

    Examples
    --------
    >>> time_in_words(0.25), time_in_words(1.0), time_in_words(3652.5)
    ('6 hours', '1 day', '10 years')
    """
    length, name = clock_for(days)
    if days > 0.0 and days % _YEAR == 0.0:
        length, name = _YEAR, "years"
    elif days == 1.0:
        length, name = 1.0, "days"
    count = f"{days / length:.{digits}g}"
    return f"{count} {name.removesuffix('s') if count == '1' else name}"
