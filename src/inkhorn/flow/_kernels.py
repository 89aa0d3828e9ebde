"""Compiled loops of the flow equations; the laws of partly filled cells are those of `inkhorn.model`."""

from __future__ import annotations

import numpy as np
from numba import njit

from inkhorn.model._kernels import bend_of, eased, filled_at, film_of, ramp_at

_DRAWS = 1.0  # share of the water upstream that the head of an empty cell draws, so that it is tied to its neighbours
_GENTLY = 0.01  # m of difference over which it begins to
_CLOSE = 1e-11  # share of the mean depth by which the most that flows may still rise with the fall
_ALIKE = 0.01  # of a bend: ends closer than that are taken for alike where their difference divides


@njit(cache=True)
def _mean_above(a, b, width):  # type: ignore[no-untyped-def]
    """Mean of `eased` over a way on which the value goes evenly from one to another, and its slopes."""
    if a <= 0.0 and b <= 0.0:
        return 0.0, 0.0, 0.0
    wide = 2.0 * width
    if a >= wide and b >= wide:
        return 0.5 * (a + b), 0.5, 0.5
    at_a, slope_a, area_a = eased(a, width)
    at_b, slope_b, area_b = eased(b, width)
    apart = a - b
    if abs(apart) > _ALIKE * width:
        mean = (area_a - area_b) / apart
        return mean, (at_a - mean) / apart, (mean - at_b) / apart
    middle, slope, _ = eased(0.5 * (a + b), width)
    mean = (at_a + 4.0 * middle + at_b) / 6.0  # by Simpson's rule
    return mean, (slope_a + 2.0 * slope) / 6.0, (2.0 * slope + slope_b) / 6.0


@njit(cache=True)
def _share_below(a, b, width):  # type: ignore[no-untyped-def]
    """Mean slope of `eased` over such a way less 1, taken from 0 for what is above: the share of it that is below 0."""
    at_a, slope_a, _ = eased(a, width)
    at_b, slope_b, _ = eased(b, width)
    apart = a - b
    if abs(apart) > _ALIKE * width:
        mean = (at_a - at_b) / apart
        return 1.0 - mean, (mean - slope_a) / apart, (slope_b - mean) / apart
    _, slope, _ = eased(0.5 * (a + b), width)
    bent = (slope_b - slope_a) / apart if apart != 0.0 else 0.0
    return 1.0 - slope, 0.5 * bent, 0.5 * bent


@njit(cache=True)
def _water(high, low, bottom, height, law):  # type: ignore[no-untyped-def]
    """Mean depth of the water on the way from a cell to another, and its slopes by either head.

    The head, the base and the top go evenly from one centre to the other: over a flat base the mean is that over the
    head, so that the flow is the difference of the integrals of the transmissivity, and below the top it is the depth
    alone that counts. Where water stands at the top the height is that of the face, which need not be midway.
    """
    width, off = law
    mean, by_high, by_low = _mean_above(high - bottom[0], low - bottom[1], width)
    a, b = bottom[0] + height[0] - high, bottom[1] + height[1] - low  # down from the top
    wide = 2.0 * width
    if a < wide or b < wide:
        above, by_a, by_b = _mean_above(a, b, width)
        mean += 0.5 * (a + b) - above
        by_high += by_a - 0.5
        by_low += by_b - 0.5
        if off != 0.0:
            full, full_a, full_b = _share_below(a, b, width)
            by_high = by_high * (1.0 + off * full) - mean * off * full_a
            by_low = by_low * (1.0 + off * full) - mean * off * full_b
            mean *= 1.0 + off * full
    return mean, by_high, by_low


@njit(cache=True)
def _steepest(high, bottom, height, law):  # type: ignore[no-untyped-def]
    """The head downstream to which most flows from another: by false position (Dowell & Jarratt 1971), or else halves."""
    under, over = min(bottom[1], high), high  # wherever the head stands, the same most is found
    mean, _, by_low = _water(high, under, bottom, height, law)
    rising = (high - under) * by_low - mean
    if rising <= 0.0:
        return under
    falling = -_water(high, over, bottom, height, law)[0]
    last, width = 0, over - under
    for k in range(60):
        middle = over - falling * (over - under) / (falling - rising)
        if k % 3 == 2:
            if over - under > 0.5 * width or not under < middle < over:
                middle, last = 0.5 * (under + over), 0
            width = over - under
        mean, _, by_low = _water(high, middle, bottom, height, law)
        found = (high - middle) * by_low - mean
        if abs(found) <= _CLOSE * mean:
            return middle
        if found > 0.0:
            under, rising = middle, found
            falling *= 0.5 if last == 1 else 1.0
            last = 1
        else:
            over, falling = middle, found
            rising *= 0.5 if last == -1 else 1.0
            last = -1
    return under


@njit(cache=True)
def _between(high, low, bottom, height, law):  # type: ignore[no-untyped-def]
    """Mean depth on the way from a cell down to another as the flow has it, and its slopes by either head.

    Where the base falls faster than the water the flow would fall again as the head downstream does: it stays at the
    most that it reaches on the way, as over a weir.
    """
    mean, by_high, by_low = _water(high, low, bottom, height, law)
    apart = high - low
    if apart <= 0.0 or mean <= 0.0 or apart * by_low <= mean:
        return mean, by_high, by_low
    under = _steepest(high, bottom, height, law)
    most = high - under
    mean, by_high, _ = _water(high, under, bottom, height, law)
    scale = most / apart
    return mean * scale, (by_high * most + mean * (1.0 - scale)) / apart, mean * scale / apart


@njit(cache=True)
def _all_there_is(height, depth, by_head, step):  # type: ignore[no-untyped-def]
    """The depth of water that may leave a cell over a base that falls by a step, and its slope by head.

    As much as there is where that is less than the step, so that none is drawn from an empty cell; up to twice as
    much where there is more, or where the cell is full, so that it is the mean of both sides that counts.
    """
    t, by_depth = 2.0 * depth / height - 1.0, 2.0 / height
    if depth > (t + 1.0) * step:
        t, by_depth = (depth / step - 1.0, 1.0 / step) if depth < 2.0 * step else (1.0, 0.0)
    if t <= 0.0:
        return depth, by_head
    more = t * t * (3.0 - 2.0 * t)
    return depth * (1.0 + more), by_head * (1.0 + more + depth * 6.0 * t * (1.0 - t) * by_depth)


@njit(cache=True)
def _wet(head, bottom, height, depth, law):  # type: ignore[no-untyped-def]
    """The depth of water in a face, and its slopes by the heads upstream and downstream.

    Parameters
    ----------
    head, bottom, height : pair of float
        Of the cell upstream and that downstream [m].
    depth : pair of float
        Of the water in the cell upstream, and its slope by head [m], [-].
    law : pair of float
        Half the length over which water begins to fill a cell [m], and by how much of it the face is higher than
        halfway between both cells.
    """
    apart, base = head[0] - head[1], bottom[1]
    if depth[0] <= 0.0:  # nothing to give
        return 0.0, 0.0, 0.0
    mean, by_up, by_down = _between(head[0], head[1], bottom, height, law)
    most, most_slope = _all_there_is(height[0], depth[0], depth[1], bottom[0] - base)
    if apart <= 0.0:  # other cells of its row drive the flow
        if most < mean:
            return most, most_slope, 0.0
        return mean, by_up, by_down
    (high, by_high), (low, by_low) = ramp_at(head[0] - base, law[0]), ramp_at(head[1] - base, law[0])
    fall = high - low
    if most * fall < mean * apart:
        mean = most * fall / apart
        by_up = (most_slope * fall + most * by_high - mean) / apart
        by_down = (mean - most * by_low) / apart
    dry = min(head[0], base) - head[1]
    if dry > 0.0:
        over = dry + _GENTLY
        held, all_up, drawn = _DRAWS * depth[0], 1.0 if head[0] < base else 0.0, dry * dry / over
        by_dry = (2.0 - dry / over) * dry / over
        mean += held * drawn / apart
        by_up += (_DRAWS * depth[1] * drawn + held * (all_up * by_dry - drawn / apart)) / apart
        by_down -= held * (by_dry - drawn / apart) / apart
    return mean, by_up, by_down


@njit(cache=True)
def _partly(a, b, forward, heads, bottom, height, face_height, smoothing, film, filled, filled_slope):  # type: ignore[no-untyped-def]
    """The share of its flow that a partly filled side face carries, from its first cell or to it, and slopes by heads."""
    up, down = (a, b) if forward else (b, a)
    heights, bases = (height[up], height[down]), (bottom[up], bottom[down])
    ends, depth = (heads[up], heads[down]), (height[up] * filled[up], height[up] * filled_slope[up])
    law = bend_of(smoothing, min(heights)), 2.0 * face_height / (heights[0] + heights[1]) - 1.0
    mean, by_up, by_down = _wet(ends, bases, heights, depth, law)
    least = film_of(film, face_height)
    keep = (1.0 - least) / face_height
    by_a, by_b = (by_up, by_down) if forward else (by_down, by_up)
    return least + keep * mean, keep * by_a, keep * by_b


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
    face_height,
    smoothing,
    filled,
    filled_slope,
    drive,
    share,
    flow,
    slope,
    residual,
):
    """Write the flow across every face, and its slope by the head of each entry of its row.

    Through a side face flows what the row says times the share of its height that is filled on the way, as a mean over
    all depths between those on either side: over a flat base Dupuit's parabola is exact. No more leaves than there is
    in the cell it comes from, and what falls into an empty one falls onto its base; the lower its head lies below, the
    more, so that it is tied to its neighbours. That way the flow rises with the head upstream and falls with that
    downstream, whatever they are, where a row is of two cells: there is one solution. With a film of 1 all is full.

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
        wet, a, b = 1.0, indices[begin], indices[begin + 1]
        if film < 1.0 and not is_floor[f] and (filled[a] < 1.0 or filled[b] < 1.0):
            wet, by_a, by_b = _partly(
                a,
                b,
                full >= 0.0,
                heads,
                bottom,
                height,
                face_height[f],
                smoothing,
                film,
                filled,
                filled_slope,
            )
            for e in range(begin, end):
                slope[e] *= wet
            slope[begin] += full * by_a
            slope[begin + 1] += full * by_b
        share[f] = wet
        flow[f] = wet * full
        residual[a] -= flow[f]
        residual[b] += flow[f]
    return absolute


@njit(cache=True, nogil=True)
def cross_pairs(  # type: ignore[no-untyped-def]
    cells,
    sides,
    floors,
    conductance,
    level,
    bend,
    film,
    heads,
    bottom,
    height,
    face_height,
    smoothing,
    filled,
    filled_slope,
    share,
    flow,
    slope,
    residual,
):
    """As `cross_faces`, for rows of two cells each, some of the side faces and some of the floors."""
    absolute = 0.0
    for f in range(sides[0], sides[1]):
        a, b, c = cells[f, 0], cells[f, 1], conductance[f]
        first, second = heads[a], heads[b]
        full, wet = c * (first - second), 1.0
        absolute += c * (abs(first) + abs(second))
        by_first, by_second = c, -c
        if film < 1.0 and (filled[a] < 1.0 or filled[b] < 1.0):
            wet, by_a, by_b = _partly(
                a,
                b,
                full >= 0.0,
                heads,
                bottom,
                height,
                face_height[f],
                smoothing,
                film,
                filled,
                filled_slope,
            )
            by_first, by_second = c * wet + full * by_a, full * by_b - c * wet
        slope[f, 0], slope[f, 1] = by_first, by_second
        share[f], flow[f] = wet, wet * full
        residual[a] -= wet * full
        residual[b] += wet * full
    for f in range(floors[0], floors[1]):
        a, b, c = cells[f, 0], cells[f, 1], conductance[f]
        first, second, by_a, by_b = heads[a], heads[b], 1.0, 1.0
        if film < 1.0:
            over, bent = ramp_at(first - level[f], bend[f])
            first, by_a = (1.0 - film) * (level[f] + over) + film * first, (1.0 - film) * bent + film
            over, bent = ramp_at(second - level[f], bend[f])
            second, by_b = (1.0 - film) * (level[f] + over) + film * second, (1.0 - film) * bent + film
        full = c * (first - second)
        absolute += c * (abs(first) + abs(second))
        slope[f, 0], slope[f, 1] = c * by_a, -c * by_b
        share[f], flow[f] = 1.0, full
        residual[a] -= full
        residual[b] += full
    return absolute


@njit(cache=True)
def _own_law(head, cell, common):  # type: ignore[no-untyped-def]
    """What a cell gives through its faces and takes into storage by its own head alone, and the slope of that.

    Through its floor; with `whole` through sides and roof as well. Where all is confined faces do not bend.
    """
    bottom, height, side, beneath, roof, bend, drains, elastic = cell
    smoothing, film, confined, whole = common
    above, keep = head - bottom, 1.0 - film
    if confined:
        return elastic * above, elastic
    share, by_head, area = filled_at(head, bottom, height, bend_of(smoothing, height) / height)
    over, bent = ramp_at(above, bend)
    given = beneath * (keep * over + film * above)
    slope = beneath * (keep * bent + film)
    if whole:
        over, bent = ramp_at(above - height, bend)
        aside = film_of(film, height)
        given += side * ((1.0 - aside) * height * area + aside * above) + roof * (keep * over + film * above)
        slope += side * ((1.0 - aside) * share + aside) + roof * (keep * bent + film)
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
    smoothing = common[0]
    for i in which:
        cell = bottom[i], height[i], side[i], beneath[i], roof[i], bend[i], drains[i], elastic[i]
        origin, at, low, high = before[i], heads[i], -np.inf, np.inf
        if min(origin, at) > bottom[i] + height[i] + max(bend[i], bend_of(smoothing, height[i])):
            continue  # full before and after: no law bends
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


@njit(cache=True)
def sums_of_faces(  # type: ignore[no-untyped-def]
    cells, is_floor, conductance, height, smoothing, face_bend, sides, beneath, roof, bend
):
    """Add up what the faces of every cell conduct, by kind; write over what length water begins to fall through each."""
    for f in range(len(is_floor)):
        a, b = cells[f]
        face_bend[f] = bend_of(smoothing, min(height[a], height[b]))
        lead = abs(conductance[f])
        if is_floor[f]:
            beneath[a] += lead
            roof[b] += lead
            bend[a] = face_bend[f]
        else:
            sides[a] += lead
            sides[b] += lead


@njit(cache=True)
def change_of_storage(  # type: ignore[no-untyped-def]
    drains, elastic, elastic_height, share, slope, integral, before, length, change, by_head
):
    """Write the water taken into storage over a step, and its slope by head."""
    for i in range(len(before)):
        now = drains[i] * share[i] + elastic_height[i] * integral[i]
        change[i] = (now - before[i]) / length
        by_head[i] = (drains[i] * slope[i] + elastic[i] * share[i]) / length


@njit(cache=True)
def stop_at_base(before, heads, base, bend):  # type: ignore[no-untyped-def]
    """Let heads that would fall far below the base of their cell stop about there first, where slopes tell again."""
    for i in range(len(heads)):
        far = base[i] - 1.01 * bend[i]
        if heads[i] < far:
            if before[i] > base[i] + 1.01 * bend[i]:
                heads[i] = base[i] + bend[i]
            elif before[i] > base[i] - bend[i]:
                heads[i] = far
