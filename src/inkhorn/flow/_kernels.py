"""Compiled loops of the flow equations; the laws of partly filled cells are those of `inkhorn.model`."""

from __future__ import annotations

from numba import njit

from inkhorn.model._kernels import filled_at, ramp_at

_DRAWS = 1.0  # share of the water upstream that the head of an empty cell draws, so that it is tied to its neighbours
_ALIKE = 1e-6  # relative depths closer than that are taken for alike where their difference divides


@njit(cache=True)
def _mean_share(a, b, width, blur):  # type: ignore[no-untyped-def]
    """Mean filled share along a way over which the relative depth goes from one value to another, and its slopes."""
    share_a, _, area_a = filled_at(a, 0.0, 1.0, width, blur)
    share_b, _, area_b = filled_at(b, 0.0, 1.0, width, blur)
    apart = a - b
    if abs(apart) > _ALIKE:
        mean = (area_a - area_b) / apart
        return mean, (share_a - mean) / apart, (mean - share_b) / apart
    middle, slope, _ = filled_at(0.5 * (a + b), 0.0, 1.0, width, blur)
    return (share_a + 4.0 * middle + share_b) / 6.0, 0.5 * slope, 0.5 * slope


@njit(cache=True)
def _between(high, low, bottom, height, width, blur):  # type: ignore[no-untyped-def]
    """Mean filled share of the way from a cell down to another, and its slopes by either head.

    Where the base falls faster than the water the flow would fall again as the head downstream does: it stays at the
    most that it reaches on the way, as over a weir.
    """
    blur = 2.0 * blur / (height[0] + height[1])
    a, b = (high - bottom[0]) / height[0], (low - bottom[1]) / height[1]
    mean, by_a, by_b = _mean_share(a, b, width, blur)
    apart, falls = high - low, high - bottom[1] - height[1] * a
    if falls <= 0.0 or apart * by_b <= height[1] * mean:
        return mean, by_a / height[0], by_b / height[1]
    under, over = b, (high - bottom[1]) / height[1]
    for _ in range(50):
        middle = 0.5 * (under + over)
        mean, by_a, by_b = _mean_share(a, middle, width, blur)
        if (high - bottom[1] - height[1] * middle) * by_b > height[1] * mean:
            under = middle
        else:
            over = middle
    most = high - bottom[1] - height[1] * under
    mean, by_a, _ = _mean_share(a, under, width, blur)
    scale = most / apart
    return mean * scale, (by_a / height[0] * most + mean * (1.0 - scale)) / apart, mean * scale / apart


@njit(cache=True)
def _all_there_is(depth, depth_slope, step):  # type: ignore[no-untyped-def]
    """The depth of water that may leave a cell over a base that falls by a step, and its slope by head.

    As much as there is where that is less than the step, so that none is drawn from an empty cell; up to twice as
    much where there is more, so that it is the mean of both sides that counts.
    """
    t = 1.0 if step <= 0.0 else min(max(depth / step - 1.0, 0.0), 1.0)
    more, by_depth = t * t * (3.0 - 2.0 * t), 0.0
    if 0.0 < t < 1.0:
        by_depth = 6.0 * t * (1.0 - t) / step
    return depth * (1.0 + more), depth_slope * (1.0 + more + depth * by_depth)


@njit(cache=True)
def _wet(head, bottom, height, filled, width, blur):  # type: ignore[no-untyped-def]
    """The filled share of a face, and its slopes by the heads upstream and downstream."""
    apart, base = head[0] - head[1], bottom[1]
    mean, by_up, by_down = _between(head[0], head[1], bottom, height, width, blur)
    depth, slope = height[0] * filled[0], height[0] * filled[1]
    most, most_slope = _all_there_is(depth, slope, bottom[0] - base)
    over, by_level = ramp_at(head[1] - base, max(blur, width * height[1]))
    fall, thin = head[0] - base - over, 0.5 / height[0] + 0.5 / height[1]
    if apart <= 0.0:  # other cells of its row drive the flow
        if most * thin < mean:
            return most * thin, most_slope * thin, 0.0
        return mean, by_up, by_down
    if fall <= 0.0:  # the base of an empty cell lies above the water
        fall = by_level = most_slope = most = 0.0
    if most * thin * fall < mean * apart:
        mean = most * thin * fall / apart
        by_up = (thin * (most_slope * fall + most) - mean) / apart
        by_down = (mean - most * thin * by_level) / apart
    dry = min(head[0], base - blur) - head[1]
    if dry > 0.0:
        held, all_up = _DRAWS * filled[0], 1.0 if head[0] < base - blur else 0.0
        mean += held * dry / apart
        by_up += (_DRAWS * filled[1] * dry + held * (all_up - dry / apart)) / apart
        by_down -= held * (1.0 - dry / apart) / apart
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
    blur,
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
        if film < 1.0 and not is_floor[f] and (blur > 0.0 or filled[a] < 1.0 or filled[b] < 1.0):
            up, down = (a, b) if full >= 0.0 else (b, a)
            at_up = 0 if full >= 0.0 else 1
            heights, bases = (height[up], height[down]), (bottom[up], bottom[down])
            ends, wetness = (heads[up], heads[down]), (filled[up], filled_slope[up])
            mean, by_up, by_down = _wet(ends, bases, heights, wetness, width, blur)
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
def own_faces(  # type: ignore[no-untyped-def]
    which, heads, bottom, height, width, blur, film, sides, beneath, roof, bend, whole, given, slope
):
    """Add what the faces of some cells carry away by their own heads alone, and its slope [m³/day], [m²/day].

    Through the floor; with `whole` through sides and roof as well.
    """
    keep = 1.0 - film
    for k in range(len(which)):
        i = which[k]
        above = heads[i] - bottom[i]
        over, bent = ramp_at(above, bend[i])
        given[k] += beneath[i] * (keep * over + film * above)
        slope[k] += beneath[i] * (keep * bent + film)
        if whole:
            share, _, area = filled_at(heads[i], bottom[i], height[i], width, blur)
            over, bent = ramp_at(above - height[i], bend[i])
            given[k] += sides[i] * (keep * height[i] * area + film * above)
            given[k] += roof[i] * (keep * over + film * above)
            slope[k] += sides[i] * (keep * share + film) + roof[i] * (keep * bent + film)


@njit(cache=True)
def own_storage(  # type: ignore[no-untyped-def]
    which, heads, bottom, height, width, blur, confined, drains, elastic, given, slope
):
    """Add what some cells take into storage by their own heads, and its slope [m³/day], [m²/day]."""
    for k in range(len(which)):
        i = which[k]
        if confined:
            given[k] += elastic[i] * (heads[i] - bottom[i])
            slope[k] += elastic[i]
        else:
            share, by_head, area = filled_at(heads[i], bottom[i], height[i], width, blur)
            given[k] += drains[i] * share + elastic[i] * height[i] * area
            slope[k] += drains[i] * by_head + elastic[i] * share
