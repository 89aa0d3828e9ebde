"""Dates on figures: the end of a step in words, ticks along an axis."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["by_date", "when"]


def when(flow: FlowResult, step: int = -1) -> str:
    """Return the end of a step in words, to follow others; nothing where all is steady."""
    one = flow.steps[step]
    if one.steady and len(flow.steps) == 1:
        return ""
    start = None if flow.model.schedule is None else flow.model.schedule.start
    if start is None:
        return f", day {one.end:g}"
    date = start + np.timedelta64(round(one.end * 86400.0), "s")
    return f", {str(date).replace('T00:00:00', '').replace('T', ' ')}{' (steady)' if one.steady else ''}"


def by_date(ax: Axes) -> None:
    """Write dates along the x axis in as few letters as tell them, none over another."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    locator = AutoDateLocator(minticks=3, maxticks=6)
    ax.xaxis.set_major_locator(locator)
    ax.xaxis.set_major_formatter(ConciseDateFormatter(locator))
