"""Compiled loops of particle tracking; symbols follow Pollock (1988)."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

TIME, TOP, SINK, STAGNANT, STEPS = 0, 1, 2, 3, 4


@njit(cache=True)
def exit_time(x1, x2, v1, v2, x):  # type: ignore[no-untyped-def]
    """Time from x to the face it moves to (inf if it reaches none), speed there, slope of speed.

    The velocity varies linearly from v1 at x1 to v2 at x2. Third value: 0 towards x1, 1 towards x2.
    """
    gradient = (v2 - v1) / (x2 - x1)
    # measured from the nearer face: a particle that stands on a face has exactly that face's speed
    v = v1 + gradient * (x - x1) if x - x1 < x2 - x else v2 - gradient * (x2 - x)
    if v > 0.0 and v2 > 0.0:
        goal, distance, side = v2, x2 - x, 1
    elif v < 0.0 and v1 < 0.0:
        goal, distance, side = v1, x1 - x, 0
    else:
        return math.inf, v, gradient, 0
    ratio = gradient * distance / v
    if abs(ratio) < 1e-9:
        return distance / v, v, gradient, side
    return math.log(goal / v) / gradient, v, gradient, side


@njit(cache=True)
def advance(x, v, gradient, t):  # type: ignore[no-untyped-def]
    """Place after time t."""
    a = gradient * t
    if abs(a) < 1e-9:
        return x + v * t
    return x + v * math.expm1(a) / gradient


@njit(cache=True)
def track(  # type: ignore[no-untyped-def]
    cell, x, y, z, t, low, high, velocity, neighbour, limit, mark, out_cell, out_xyz, out_t
):
    """Follow one particle; return the number of points written and why it ended.

    low, high : (n_cells, 3) corners of the water in each cell; velocity : (n_cells, 3, 2) on the low and
    high face; neighbour : (n_cells, 3, 2), -1 closed, -2 the way out by the top.
    """
    place = np.array([x, y, z])
    most, count = len(out_t), 0
    speed, slope = np.empty(3), np.empty(3)
    times, sides = np.empty(3), np.empty(3, dtype=np.int64)
    next_mark = (math.floor(t / mark) + 1.0) * mark if mark > 0.0 else math.inf
    while True:
        out_cell[count], out_t[count] = cell, t
        out_xyz[count] = place
        count += 1
        if t >= limit:
            return count, TIME
        if count == most:
            return count, STEPS
        first = 0
        for d in range(3):
            times[d], speed[d], slope[d], sides[d] = exit_time(
                low[cell, d], high[cell, d], velocity[cell, d, 0], velocity[cell, d, 1], place[d]
            )
            if times[d] < times[first]:
                first = d
        leave = times[first]
        step = min(leave, limit - t, next_mark - t)
        if not step < math.inf:
            moving = abs(speed[0]) + abs(speed[1]) + abs(speed[2])
            return count, SINK if moving > 0.0 else STAGNANT
        if leave == math.inf:
            # it only nears a stagnation point inside: a sink takes it
            return count, SINK
        for d in range(3):
            place[d] = advance(place[d], speed[d], slope[d], step)
            place[d] = min(max(place[d], low[cell, d]), high[cell, d])
        t += step
        if step < leave:
            if next_mark <= t:
                next_mark += mark
            continue
        side = sides[first]
        place[first] = high[cell, first] if side == 1 else low[cell, first]
        after = neighbour[cell, first, side]
        if after < 0:
            out_cell[count - 1] = cell
            if count < most:
                out_cell[count], out_t[count] = cell, t
                out_xyz[count] = place
                count += 1
            return count, TOP if after == -2 else STAGNANT
        if first < 2:
            # the share of the water's height is kept from cell to cell
            share = (place[2] - low[cell, 2]) / (high[cell, 2] - low[cell, 2])
            place[2] = low[after, 2] + share * (high[after, 2] - low[after, 2])
        else:
            place[2] = high[after, 2] if side == 0 else low[after, 2]
        cell = after
