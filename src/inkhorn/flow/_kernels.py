"""Compiled loops of the flow equations; the laws of partly filled cells are those of `inkhorn.model`."""

from __future__ import annotations

import numpy as np
from numba import njit

from inkhorn.model._kernels import filled_at, ramp_at

_DRAWS = 1.0  # share of the water upstream that the head of an empty cell draws, so that it is tied to its neighbours
_GENTLY = 0.01  # m of difference over which it begins to
_ALIKE = 1e-4  # relative depths closer than that are taken for alike where their difference divides


@njit(cache=True)
def _mean_share(a, b, width):  # type: ignore[no-untyped-def]
    """Mean filled share along a way over which the relative depth goes from one value to another, and its slopes."""
    share_a, slope_a, area_a = filled_at(a, 0.0, 1.0, width)
    share_b, slope_b, area_b = filled_at(b, 0.0, 1.0, width)
    apart = a - b
    if abs(apart) > _ALIKE:
        mean = (area_a - area_b) / apart
        return mean, (share_a - mean) / apart, (mean - share_b) / apart
    middle, slope, _ = filled_at(0.5 * (a + b), 0.0, 1.0, width)
    mean = (share_a + 4.0 * middle + share_b) / 6.0  # by Simpson's rule, exact for the law's cubics
    return mean, (slope_a + 2.0 * slope) / 6.0, (2.0 * slope + slope_b) / 6.0


@njit(cache=True)
def _between(high, low, bottom, height, width):  # type: ignore[no-untyped-def]
    """Mean filled share of the way from a cell down to another, and its slopes by either head.

    Where the base falls faster than the water the flow would fall again as the head downstream does: it stays at the
    most that it reaches on the way, as over a weir.
    """
    a, b = (high - bottom[0]) / height[0], (low - bottom[1]) / height[1]
    mean, by_a, by_b = _mean_share(a, b, width)
    apart, falls = high - low, high - bottom[1] - height[1] * a
    if min(falls, apart) <= 0.0 or (mean > 0.0 and apart * by_b <= height[1] * mean):
        return mean, by_a / height[0], by_b / height[1]
    under, over = 0.0, (high - bottom[1]) / height[1]  # wherever it stands, the same most is found
    for _ in range(50):
        middle = 0.5 * (under + over)
        mean, by_a, by_b = _mean_share(a, middle, width)
        if (high - bottom[1] - height[1] * middle) * by_b > height[1] * mean:
            under = middle
        else:
            over = middle
    most = high - bottom[1] - height[1] * under
    mean, by_a, _ = _mean_share(a, under, width)
    scale = most / apart
    return mean * scale, (by_a / height[0] * most + mean * (1.0 - scale)) / apart, mean * scale / apart


@njit(cache=True)
def _all_there_is(height, filled, filled_slope, step):  # type: ignore[no-untyped-def]
    """The depth of water that may leave a cell over a base that falls by a step, and its slope by head.

    As much as there is where that is less than the step, so that none is drawn from an empty cell; up to twice as
    much where there is more, or where the cell is full, so that it is the mean of both sides that counts.
    """
    depth, by_head = height * filled, height * filled_slope
    t, by_depth = 2.0 * filled - 1.0, 2.0 / height
    if depth > (t + 1.0) * step:
        t, by_depth = (depth / step - 1.0, 1.0 / step) if depth < 2.0 * step else (1.0, 0.0)
    if t <= 0.0:
        return depth, by_head
    more = t * t * (3.0 - 2.0 * t)
    return depth * (1.0 + more), by_head * (1.0 + more + depth * 6.0 * t * (1.0 - t) * by_depth)


@njit(cache=True)
def _wet(head, bottom, height, filled, width):  # type: ignore[no-untyped-def]
    """The filled share of a face, and its slopes by the heads upstream and downstream."""
    apart, base = head[0] - head[1], bottom[1]
    if filled[0] <= 0.0:  # nothing to give
        return 0.0, 0.0, 0.0
    mean, by_up, by_down = _between(head[0], head[1], bottom, height, width)
    most, most_slope = _all_there_is(height[0], filled[0], filled[1], bottom[0] - base)
    bend = width * height[1]
    (high, by_high), (low, by_low) = ramp_at(head[0] - base, bend), ramp_at(head[1] - base, bend)
    fall, thin = high - low, 0.5 / height[0] + 0.5 / height[1]
    if apart <= 0.0:  # other cells of its row drive the flow
        if most * thin < mean:
            return most * thin, most_slope * thin, 0.0
        return mean, by_up, by_down
    if most * thin * fall < mean * apart:
        mean = most * thin * fall / apart
        by_up = (thin * (most_slope * fall + most * by_high) - mean) / apart
        by_down = (mean - most * thin * by_low) / apart
    dry = min(head[0], base) - head[1]
    if dry > 0.0:
        over = dry + _GENTLY
        held, all_up, drawn = _DRAWS * filled[0], 1.0 if head[0] < base else 0.0, dry * dry / over
        by_dry = (2.0 - dry / over) * dry / over
        mean += held * drawn / apart
        by_up += (_DRAWS * filled[1] * drawn + held * (all_up * by_dry - drawn / apart)) / apart
        by_down -= held * (by_dry - drawn / apart) / apart
    return mean, by_up, by_down


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
    bottom,
    height,
    width,
    filled,
    filled_slope,
    drive,
    share,
    flow,
    slope,
    residual,
):
    """Write the flow across every face, and its slope by the head of each entry of its row.

    Through a side face flows what the row says times the share of the way that is filled, as a mean over all relative
    depths between those on either side: over a flat base the integral of the transmissivity over the head, so that
    Dupuit's parabola is exact. No more leaves than there is in the cell it comes from, and what falls into an empty
    one falls onto its base; the lower its head lies below, the more, so that it is tied to its neighbours. That way
    the flow rises with the head upstream and falls with that downstream, whatever they are, where a
    row is of two cells: there is one solution. With a film of 1 all is full.

    Adds the flows to the residuals of the cells on either side; returns the sum of the absolute values that they are
    made of.
    """
    absolute, keep = 0.0, 1.0 - film
    for f in range(len(is_floor)):
        begin, end = indptr[f], indptr[f + 1]
        full = 0.0
        falls = film < 1.0 and is_floor[f]
        for e in range(begin, end):
            head = heads[indices[e]]
            driven, by_head = head, 1.0
            if falls:
                over, bent = ramp_at(head - level[f], bend[f])
                driven = keep * (level[f] + over) + film * head
                by_head = keep * bent + film
            drive[e] = driven
            slope[e] = data[e] * by_head
            full += data[e] * driven
            absolute += abs(data[e] * driven)
        wet = 1.0
        a, b = indices[begin], indices[begin + 1]
        if film < 1.0 and not is_floor[f] and (filled[a] < 1.0 or filled[b] < 1.0):
            up, down = (a, b) if full >= 0.0 else (b, a)
            at_up = 0 if full >= 0.0 else 1
            heights, bases = (height[up], height[down]), (bottom[up], bottom[down])
            ends, wetness = (heads[up], heads[down]), (filled[up], filled_slope[up])
            mean, by_up, by_down = _wet(ends, bases, heights, wetness, width)
            wet = film + keep * mean
            for e in range(begin, end):
                slope[e] *= wet
            slope[begin + at_up] += keep * full * by_up
            slope[begin + 1 - at_up] += keep * full * by_down
        share[f] = wet
        flow[f] = wet * full
        residual[a] -= flow[f]
        residual[b] += flow[f]
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
def _own_law(head, cell, common):  # type: ignore[no-untyped-def]
    """What a cell gives through its faces and takes into storage by its own head alone, and the slope of that.

    Through its floor; with `whole` through sides and roof as well. Where all is confined faces do not bend.
    """
    bottom, height, side, beneath, roof, bend, drains, elastic = cell
    width, film, confined, whole = common
    above, keep = head - bottom, 1.0 - film
    if confined:
        return elastic * above, elastic
    share, by_head, area = filled_at(head, bottom, height, width)
    over, bent = ramp_at(above, bend)
    given = beneath * (keep * over + film * above)
    slope = beneath * (keep * bent + film)
    if whole:
        over, bent = ramp_at(above - height, bend)
        given += side * (keep * height * area + film * above) + roof * (keep * over + film * above)
        slope += side * (keep * share + film) + roof * (keep * bent + film)
    given += drains * share + elastic * height * area
    return given, slope + drains * by_head + elastic * share


@njit(cache=True)
def own_laws(which, heads, cells, common, given, slope):  # type: ignore[no-untyped-def]
    """Add what some cells give by their own heads alone, and its slope [m³/day], [m²/day]."""
    bottom, height, side, beneath, roof, bend, drains, elastic = cells
    for k in range(len(which)):
        i = which[k]
        cell = bottom[i], height[i], side[i], beneath[i], roof[i], bend[i], drains[i], elastic[i]
        gives, rises = _own_law(heads[k], cell, common)
        given[k] += gives
        slope[k] += rises


@njit(cache=True)
def _next_head(at, missing, slope, low, high, origin):  # type: ignore[no-untyped-def]
    """Where a law that rises is looked for next, and the bracket narrowed: Newton's method, else a bisection."""
    if missing > 0.0:
        low = max(low, at)
    else:
        high = min(high, at)
    after = at + missing / slope if slope > 0.0 else -np.inf
    if low < after < high:
        return after, low, high
    if high == np.inf:
        return low + 2.0 * abs(low - origin) + 1.0, low, high
    if low == -np.inf:
        return high - 2.0 * abs(high - origin) - 1.0, low, high
    return 0.5 * (low + high), low, high


@njit(cache=True)
def next_heads(which, missing, slope, origin, at, low, high):  # type: ignore[no-untyped-def]
    """Move some heads, and their brackets, on to where they are looked for next."""
    for k in which:
        at[k], low[k], high[k] = _next_head(at[k], missing[k], slope[k], low[k], high[k], origin[k])


@njit(cache=True)
def landed(which, before, asked, diagonal, cells, common, rounds, close, rounding, heads):  # type: ignore[no-untyped-def]
    """Write the heads at which some cells give what is asked of each, by its own law and the slopes of all else."""
    bottom, height, side, beneath, roof, bend, drains, elastic = cells
    for i in which:
        cell = bottom[i], height[i], side[i], beneath[i], roof[i], bend[i], drains[i], elastic[i]
        origin, at, low, high = before[i], heads[i], -np.inf, np.inf
        begun, slope = _own_law(origin, cell, common)
        scale = (
            min(diagonal[i] / slope, 1.0) if slope > 0.0 else 1.0
        )  # no steeper than the linear system has it
        rest = diagonal[i] - scale * slope
        for _ in range(rounds):
            given, slope = _own_law(at, cell, common)
            slope = scale * slope + rest
            missing = asked[i] - (scale * (given - begun) + rest * (at - origin))
            exact = abs(given) + abs(begun) + slope * abs(at)
            if not abs(missing) > close * abs(asked[i]) + rounding * exact:
                break
            at, low, high = _next_head(at, missing, slope, low, high, origin)
        heads[i] = at
