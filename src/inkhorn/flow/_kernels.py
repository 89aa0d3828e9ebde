"""Compiled loops of the flow equations; the laws of partly filled cells are those of `inkhorn.model`."""

from __future__ import annotations

import numpy as np
from numba import njit

from inkhorn.model._kernels import filled_at, ramp_at

_WET = 0.1  # above this filled share on both sides a side face takes the mean of the two


@njit(cache=True)
def _wet(share):  # type: ignore[no-untyped-def]
    if share >= _WET:
        return 1.0, 0.0
    if share <= 0.0:
        return 0.0, 0.0
    t = share / _WET
    return t * t * (3.0 - 2.0 * t), 6.0 * t * (1.0 - t) / _WET


@njit(cache=True)
def cross_faces(  # type: ignore[no-untyped-def]
    indptr,
    indices,
    data,
    is_floor,
    level,
    bend,
    film,
    heads,
    filled,
    filled_slope,
    drive,
    share,
    flow,
    slope,
    residual,
):
    """Write the flow across every face, and its slope by the head of each entry of its row.

    A side face carries the mean of the filled shares on either side where both are wet, which is second order and
    makes a flat-based aquifer follow Dupuit's parabola exactly; that of the upstream cell where either runs dry, so
    that no water is drawn from an empty cell and none is held back by one. With a film of 1 all is full.

    Adds the flows to the residuals of the cells on either side; returns the sum of the absolute values that they are
    made of.
    """
    absolute = 0.0
    for f in range(len(is_floor)):
        begin, end = indptr[f], indptr[f + 1]
        full = 0.0
        falls = film < 1.0 and is_floor[f]
        for e in range(begin, end):
            head = heads[indices[e]]
            driven, by_head = head, 1.0
            if falls:
                over, bent = ramp_at(head - level[f], bend[f])
                driven = (1.0 - film) * (level[f] + over) + film * head
                by_head = (1.0 - film) * bent + film
            drive[e] = driven
            slope[e] = data[e] * by_head
            full += data[e] * driven
            absolute += abs(data[e] * driven)
        wet = 1.0
        if film < 1.0 and not is_floor[f]:
            up = begin if full >= 0.0 else begin + 1
            down = begin + 1 if full >= 0.0 else begin
            above, beneath = filled[indices[up]], filled[indices[down]]
            by_up, by_up_slope = _wet(above)
            by_down, by_down_slope = _wet(beneath)
            half, mixed = 0.5 * (beneath - above), 0.5 * by_up * by_down
            wet = above + by_up * by_down * half
            for e in range(begin, end):
                slope[e] *= wet
            slope[up] += full * (1.0 - mixed + by_up_slope * by_down * half) * filled_slope[indices[up]]
            slope[down] += full * (mixed + by_up * by_down_slope * half) * filled_slope[indices[down]]
        share[f] = wet
        flow[f] = wet * full
        residual[indices[begin]] -= flow[f]
        residual[indices[begin + 1]] += flow[f]
    return absolute


@njit(cache=True)
def _place(i, j, start, column):  # type: ignore[no-untyped-def]
    """Where the entry (i, j) stands, -1 if nowhere; columns rise within a row."""
    low, high = start[i], start[i + 1]
    while high - low > 12:  # rows of unknowns that many cells share are long
        middle = (low + high) // 2
        if column[middle] <= j:
            low = middle
        else:
            high = middle
    for k in range(low, high):
        if column[k] == j:
            return k
    return -1


@njit(cache=True)
def face_places(indptr, indices, start, column, place):  # type: ignore[no-untyped-def]
    """Write where every entry of the face rows stands in the rows of the cells on either side."""
    for f in range(len(indptr) - 1):
        for e in range(indptr[f], indptr[f + 1]):
            for side in range(2):
                place[e, side] = _place(indices[indptr[f] + side], indices[e], start, column)


@njit(cache=True)
def put_faces(place, slope, data):  # type: ignore[no-untyped-def]
    """Add the slopes of the flows across faces to the rows of the cells on either side."""
    for e in range(len(slope)):
        data[place[e, 0]] -= slope[e]
        data[place[e, 1]] += slope[e]


@njit(cache=True)
def put_entries(rows, columns, values, start, column, data):  # type: ignore[no-untyped-def]
    """Add entries one by one; False if the pattern has no place for one of them."""
    for e in range(len(rows)):
        k = _place(rows[e], columns[e], start, column)
        if k < 0:
            return False
        data[k] += values[e]
    return True


@njit(cache=True)
def _own_law(head, bottom, height, width, film, drains, elastic, falls, bend, rest):  # type: ignore[no-untyped-def]
    """What a cell gives and stores as its own head alone changes, and its slope [m³/day], [m²/day]."""
    over, bent = ramp_at(head - bottom, bend)
    given = falls * ((1.0 - film) * over + film * (head - bottom))
    slope = falls * ((1.0 - film) * bent + film)
    if drains > 0.0 or elastic > 0.0:
        share, by_head, integral = filled_at(head, bottom, height, width)
        given += drains * share + elastic * height * integral
        slope += drains * by_head + elastic * share
    return given + rest * (head - bottom), slope + rest


@njit(cache=True)
def land(  # type: ignore[no-untyped-def]
    heads, step, diagonal, bottom, height, width, film, drains, elastic, falls, fall_bend, reach
):
    """Write where each head comes to when its cell's own law, not the slope of that law, takes the step.

    The step asks a cell for a change ``slope * step`` of what it gives and stores. That the law itself answers:
    a scalar equation, by Newton's method within brackets. Of the flows only that through the floor is its own.
    """
    for i in range(len(heads)):
        before, asked = heads[i], min(max(step[i], -reach), reach)
        edge, bend = bottom[i], width * height[i]
        roof, corner = edge + height[i], max(2.0 * width * height[i], fall_bend[i])
        lower, upper = min(before, before + asked), max(before, before + asked)
        if upper < edge - fall_bend[i] or (lower > edge + corner and upper < roof - corner) or lower > roof:
            heads[i] += (
                asked  # away from all corners the slope is the law, but for the last digits of pressure
            )
            continue
        args = (edge, height[i], width, film, drains[i], elastic[i], falls[i], fall_bend[i])
        _, slope = _own_law(before, *args, 0.0)
        rest = max(diagonal[i] - slope, 0.0)
        given, slope = _own_law(before, *args, rest)
        goal = given + slope * asked
        there = before + asked
        low, high = -np.inf, np.inf
        for _ in range(60):
            given, slope = _own_law(there, *args, rest)
            missing = goal - given
            if missing > 0.0:
                low = there
            else:
                high = there
            if slope <= 0.0 or abs(missing) <= 1e-9 * slope * abs(asked):
                break
            after = there + missing / slope
            if after <= low or after >= high:
                if np.isinf(low):
                    after = high - 2.0 * abs(high - before) - height[i]
                elif np.isinf(high):
                    after = low + 2.0 * abs(low - before) + height[i]
                else:
                    after = 0.5 * (low + high)
            if abs(there - before) > reach:
                break
            there = after
        if there < edge - bend and before > edge + 1.01 * bend:
            there = edge + bend  # more is asked than is left; in the bend, where slopes tell
        elif there < edge - bend < before:
            there = min(edge - 0.5 * bend, before + asked)
        elif before < edge and there > edge + bend:
            there = edge + bend  # the slopes of a dry cell say little of a wet one
        heads[i] = min(max(there, before - reach), before + reach)
