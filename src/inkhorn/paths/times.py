"""When particles begin, and in which order they go through the steps of a flow."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import one_date
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult

__all__ = ["Window", "days_of", "refuse_outside", "released", "windows_of"]


@dataclass(frozen=True)
class Window:
    """A step as particles go through it: from when to when by their clock."""

    step: int
    begin: float
    end: float


def windows_of(flow: FlowResult, backward: bool) -> list[Window]:
    """The steps in the order in which particles go through them; steady flow alone has no end."""
    n = len(flow.steps)
    if n == 1 and flow.steps[0].steady:
        return [Window(0, 0.0, np.inf)]
    spans = [(flow.steps[k].begin, flow.steps[k].end) for k in range(n)]
    made = [Window(k, *span) for k, span in enumerate(spans)]
    if not backward:
        return made
    return [Window(w.step, -w.end, -w.begin) for w in reversed(made)]


def released(flow: FlowResult, windows: list[Window], release: Any, backward: bool) -> NDArray[np.float64]:
    """Times of release by the clock of the particles."""
    if release is None:
        return np.array([windows[0].begin])
    if not np.isfinite(windows[0].end) and len(windows) == 1:
        raise InputError(
            "the flow is steady, so that it does not matter when particles begin. Leave out `release`."
        )
    schedule = flow.model.schedule
    first, last = sorted(abs(v) for v in (windows[0].begin, windows[-1].end))
    days = days_of(
        np.atleast_1d(np.asarray(release, dtype=object)), None if schedule is None else schedule.start
    )
    refuse_outside(days, first, last)
    return np.array([-day if backward else day for day in days])


def days_of(times: Iterable[Any], start: np.datetime64 | None) -> list[float]:
    """Return days since the start of a run, of dates or numbers of days.

    Raises
    ------
    InputError
        If one is a date, and the run begins at none; or is neither.
    """
    found = []
    for one in times:
        if isinstance(one, (int, float, np.integer, np.floating)):
            found.append(float(one))
        elif start is None:
            raise InputError(f"{one} is a date, but the run begins at none. Give days since its start.")
        else:
            found.append(float((one_date(one, "release") - start) / np.timedelta64(1, "s")) / 86400.0)
    return found


def refuse_outside(days: Iterable[float], first: float, last: float) -> None:
    """Refuse times of release outside a run.

    Raises
    ------
    InputError
        Naming the first.
    """
    for day in days:
        if not first - 1e-9 <= day <= last + 1e-9:
            raise InputError(
                f"particles are released on day {day:g}, outside the run from day {first:g} to {last:g}. Choose times "
                "within it."
            )
