"""Pictures of water budgets: bars of one step, bands in time."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.draw.dates import by_date, when
from inkhorn.draw.scales import NUMBER, short
from inkhorn.draw.style import FLOW_IN, FLOW_OUT, INK, axes_or_new, material_style
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["budget", "budget_in_time"]

_IN_NAME, _OUT_NAME = "in [m³/day]", "out [m³/day]"


def budget(flow: FlowResult, *, by: str = "term", step: int = -1, ax: Axes | None = None) -> Axes:
    """Draw the water budget of a step as bars: what comes in to the right, what goes out to the left.

    Parameters
    ----------
    flow : FlowResult
        Flows.
    by : {"term", "feature", "layer"}
        What there is a bar for; as of `FlowResult.budget`.
    step : int
        Which step.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    table = flow.budget(by, step=step)
    table = table.drop(index="total", errors="ignore")
    names = [" ".join(map(str, n)) if isinstance(n, tuple) else str(n) for n in table.index]
    into, out = table[_IN_NAME].to_numpy(), table[_OUT_NAME].to_numpy()
    ax = axes_or_new(ax, (9.0, 5.5))
    place = np.arange(len(names))[::-1]
    ax.barh(place, into, color=FLOW_IN, label="into the aquifer")
    ax.barh(place, -out, color=FLOW_OUT, hatch="///", edgecolor="white", label="out of it")
    reach = max(float(into.max(initial=0.0)), float(out.max(initial=0.0))) or 1.0
    for at, one, other in zip(place, into, out, strict=True):
        for value, sign in ((one, 1.0), (other, -1.0)):
            if value > 0:
                ax.text(
                    sign * (value + 0.01 * reach), at, short(value), va="center", fontsize=8, color=INK,
                    ha="left" if sign > 0 else "right", gid=f"{NUMBER} [m³/day]",
                )  # fmt: skip
    ax.set_yticks(place, names)
    ax.set_xlim(-1.18 * reach, 1.18 * reach)
    ax.axvline(0.0, color=INK, lw=0.8)
    ax.set_xlabel("flow [m³/day]")
    ax.grid(axis="x", alpha=0.3)
    ax.set_axisbelow(True)
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    error = table.attrs.get("closing_error_percent", flow.budget(step=step).attrs["closing_error_percent"])
    ax.set_title(f"{flow.model.name}: water budget by {by}{when(flow, step)}, closes to {abs(error):.2g} %")
    return ax


def budget_in_time(flow: FlowResult, *, ax: Axes | None = None) -> Axes:
    """Draw the water budget in time as bands, one for each kind of term: what comes in upwards, what goes out downwards.

    Parameters
    ----------
    flow : FlowResult
        Of more than one step.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes

    Raises
    ------
    InputError
        If there is one step only.
    """
    if len(flow.steps) < 2:
        raise InputError("the run has one step; draw its budget as bars.")
    table = flow.budgets()
    table = table[(table["term"] != "total") & (table["end [day]"] > table["begin [day]"])]
    ends = table["end [day]"].unique()
    edges = np.concatenate([[table["begin [day]"].min()], ends])
    start = None if flow.model.schedule is None else flow.model.schedule.start
    times = edges if start is None else start + np.round(edges * 86400.0).astype("timedelta64[s]")
    ax = axes_or_new(ax, (11.0, 5.5))
    shown = 0
    for column, sign in ((_IN_NAME, 1.0), (_OUT_NAME, -1.0)):
        floor = np.zeros(len(ends))
        for term in table["term"].unique():
            own = table[table["term"] == term].set_index("end [day]")[column].reindex(ends).fillna(0.0)
            if not own.any():
                continue
            top = floor + sign * own.to_numpy()
            low, high = (np.append(v, v[-1]) for v in (floor, top))
            ax.fill_between(
                times, low, high, step="post", lw=0, **material_style(shown).fill,
                label=f"{term}, {'in' if sign > 0 else 'out'}",
            )  # fmt: skip
            floor, shown = top, shown + 1
    ax.axhline(0.0, color=INK, lw=0.8)
    ax.set_xlim(times[0], times[-1])
    ax.set_ylabel("flow [m³/day]")
    if start is None:
        ax.set_xlabel("time since the start [day]")
    else:
        by_date(ax)
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    ax.set_title(f"{flow.model.name}: water budget in time")
    return ax
