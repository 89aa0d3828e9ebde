"""Outlines of local models that suit the flow: two sides along it, two across."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.cuts.rim import FlowInPlan
from inkhorn.errors import InputError, check_positive
from inkhorn.flow import FlowResult
from inkhorn.space import sampling_rows
from inkhorn.units import WithUnit, plain

__all__ = ["outline_along_flow"]

Array = NDArray[np.float64]

_LINES = 9  # along the flow, from one side to the other
_STEP = 0.2  # of a cell of the region
_MOST = 20_000  # steps of a line


def outline_along_flow(
    flow: FlowResult, place: tuple[float, float], *, upstream: WithUnit, downstream: WithUnit, width: WithUnit
) -> Any:
    """Return an outline about a place, two of its sides along the flow and two across it, at one head each.

    Parameters
    ----------
    flow : FlowResult
        Of the region; of flow in time its mean counts for directions, heads are those at the end.
    place : (float, float)
        x and y [m].
    upstream, downstream : float
        How far it reaches from there, along the flow [m].
    width : float
        Across the flow, at the place [m].

    Returns
    -------
    shapely Polygon

    Raises
    ------
    InputError
        If the lines leave the region, or hardly any water flows.
    """
    import shapely

    up, down, wide = (
        float(plain(v, "length", n))
        for v, n in ((upstream, "upstream"), (downstream, "downstream"), (width, "width"))
    )
    for name, value in (("upstream", up), ("downstream", down), ("width", wide)):
        check_positive(name, value, unit="m")
    field, region = FlowInPlan(flow), flow.model.grid
    start = np.array([place], dtype=np.float64)
    size = float(np.sqrt(region.mesh.area[_cell_at(region, start)]))
    across = np.concatenate(
        [
            _refuse_stuck(_followed(field, start, 0.5 * wide, size, turn=1.0)[:, 0])[::-1],
            _refuse_stuck(_followed(field, start, 0.5 * wide, size, turn=-1.0)[:, 0])[1:],
        ]
    )
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(across, axis=0).T))])
    at = np.linspace(0.0, run[-1], _LINES)
    begins = np.column_stack([np.interp(at, run, across[:, k]) for k in (0, 1)])
    ends = []
    for length, way in ((up, -1.0), (down, 1.0)):
        middle = _refuse_stuck(_followed(field, begins[[_LINES // 2]], length, size, way=way)[:, 0])
        level = _heads(flow, middle[[-1]])[0]
        lines = _followed(field, begins, 2.0 * length, size, way=way)
        ends.append([_until(flow, lines[:, k], level, way) for k in range(_LINES)])
    first, last = ends
    ring = [
        *first[0][::-1], *last[0][1:], *[line[-1] for line in last[1:-1]], *last[-1][::-1], *first[-1][1:],
        *[line[-1] for line in first[-2:0:-1]],
    ]  # fmt: skip
    outline = shapely.Polygon(np.array(ring)).simplify(0.02 * size)
    if not outline.is_valid or outline.is_empty:
        raise InputError("lines along the flow meet there: draw the outline narrower or shorter, or by hand.")
    return outline


def _cell_at(region: Any, place: Array) -> int:
    cell = int(region.mesh.locate(*place.T)[0])
    if cell < 0:
        raise InputError(f"x={place[0, 0]:g}, y={place[0, 1]:g} lies outside the region.")
    return cell


def _followed(
    field: FlowInPlan, begins: Array, length: float, size: float, *, way: float = 1.0, turn: float = 0.0
) -> Array:
    """Places along the flow, or across it, by equal steps (Runge and Kutta's of fourth order), (n_steps + 1, n, 2)."""

    def direction(at: Array) -> Array:
        flow = field.at(at)
        speed = np.hypot(*flow.T)
        # where none flows, as outside the region, a line stays
        ahead = flow / np.where(speed > 0.0, speed, 1.0)[:, None]
        return turn * np.column_stack([-ahead[:, 1], ahead[:, 0]]) if turn else way * ahead

    n = min(max(int(np.ceil(length / (_STEP * size))), 4), _MOST)
    step, places = length / n, [begins]
    for _ in range(n):
        here = places[-1]
        one = direction(here)
        two = direction(here + 0.5 * step * one)
        three = direction(here + 0.5 * step * two)
        four = direction(here + step * three)
        places.append(here + step / 6.0 * (one + 2.0 * two + 2.0 * three + four))
    return np.array(places)


def _refuse_stuck(line: Array) -> Array:
    """Refuse a line that came to a stop; return it."""
    if (line[-1] == line[-2]).all():
        x, y = line[-1]
        raise InputError(
            f"no water flows at x={x:.6g}, y={y:.6g}, or it lies outside the region. Draw a smaller outline."
        )
    return line


def _heads(flow: FlowResult, place: Array) -> Array:
    """Heads at places, in the uppermost layer that is wet there [m]."""
    grid, heads = flow.model.grid, flow.steps[-1].heads
    found = np.full(len(place), np.nan)
    for k in range(len(grid.layer_names)):
        value = np.asarray(sampling_rows(grid, np.full(len(place), k), *place.T) @ heads)
        plan = grid.mesh.locate(*place.T)
        cell = np.where(plan >= 0, grid.cell_number[k, np.maximum(plan, 0)], -1)
        wet = np.isnan(found) & (cell >= 0) & (value > grid.cells.bottom[cell])
        found[wet] = value[wet]
    return found


def _until(flow: FlowResult, line: Array, level: float, way: float) -> Array:
    """The line up to where it comes to a head, downstream as it falls and upstream as it rises."""
    beyond = np.flatnonzero(way * (_heads(flow, line) - level) <= 0.0)
    if not len(beyond):
        _refuse_stuck(line)
        x, y = line[-1]
        raise InputError(
            f"a side does not come to the head {level:.4g} m of the middle by x={x:.6g}, y={y:.6g}. Draw the outline "
            "narrower, or by hand."
        )
    return line[: max(int(beyond[0]), 1) + 1]
