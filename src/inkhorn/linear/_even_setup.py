"""Compiled loops that make the levels of a multigrid over even rectangles, on arrays of (row, layer, column)."""

from __future__ import annotations

import numpy as np
from numba import njit

_LOOSE = {"reassoc", "contract", "nsz"}


@njit(cache=True, nogil=True)
def find_places(indptr, indices, number, row, column, layer, offsets, gaps, others):  # type: ignore[no-untyped-def]
    """Find where in each row of a matrix stand its diagonal and its couplings up, down and to the four sides.

    ``offsets`` counts from the beginning of the row, -1 for none, in the order of diagonal, beneath, above, east,
    west, south, north; ``gaps`` says how many layers down the next unknown of the column is. Entries that have no place
    are put into ``others``, (n, 2) row and place; returns how many there are.
    """
    n_rows, n_layers, n_columns = number.shape
    count = 0
    for r in range(n_rows):
        for c in range(n_columns):
            last = -1
            for k in range(n_layers):
                if number[r, k, c] >= 0:
                    if last >= 0:
                        gaps[r, last, c] = k - last
                    last = k
    for i in range(len(indptr) - 1):
        r, k, c = row[i], layer[i], column[i]
        for t in range(indptr[i], indptr[i + 1]):
            j, way = indices[t], -1
            if r >= 0 and row[j] >= 0:
                dr, dc, dk = row[j] - r, column[j] - c, layer[j] - k
                if dr == 0 and dc == 0:
                    if dk == 0:
                        way = 0
                    elif dk > 0 and gaps[r, k, c] == dk:
                        way = 1
                    elif dk < 0 and gaps[r, layer[j], c] == -dk:
                        way = 2
                elif dk == 0:
                    if dr == 0 and abs(dc) == 1:
                        way = 3 if dc == 1 else 4
                    elif dc == 0 and abs(dr) == 1:
                        way = 5 if dr == 1 else 6
            place = t - indptr[i]
            if way >= 0 and place < 127 and offsets[r, k, c, way] < 0:
                offsets[r, k, c, way] = place
            else:
                if count < len(others):
                    others[count, 0] = i
                    others[count, 1] = t
                count += 1
    return count


@njit(cache=True, nogil=True)
def paired(offsets, gaps):  # type: ignore[no-untyped-def]
    """Whether every coupling has one that leads back."""
    n_rows, n_layers, n_columns = gaps.shape
    for r in range(n_rows):
        for k in range(n_layers):
            for c in range(n_columns):
                own = offsets[r, k, c]
                for way, back, dr, dk, dc in ((1, 2, 0, 1, 0), (3, 4, 0, 0, 1), (5, 6, 1, 0, 0)):
                    there = -1
                    if dk:
                        if gaps[r, k, c] > 0:
                            there = offsets[r, k + gaps[r, k, c], c, back]
                        elif own[way] >= 0:
                            return False
                    elif r + dr < n_rows and c + dc < n_columns:
                        there = offsets[r + dr, k, c + dc, back]
                    if (own[way] >= 0) != (there >= 0):
                        return False
    return True


@njit(cache=True, nogil=True)
def take_values(indptr, data, number, offsets, rest, taken):  # type: ignore[no-untyped-def]
    """Take every coupling as it acts on the unknown that has it, and what is left of the diagonal.

    ``taken``, (7, n_rows, n_layers, n_columns), is in the order of ``offsets``, zero where nothing is; the ``rest`` of
    each row goes to the diagonal.
    """
    n_rows, n_layers, n_columns = number.shape
    for r in range(n_rows):
        for k in range(n_layers):
            for c in range(n_columns):
                i = number[r, k, c]
                if i < 0:
                    continue
                start, left = indptr[i], rest[i]
                places = offsets[r, k, c]
                if places[0] >= 0:
                    left += data[start + places[0]]
                for way in range(1, 7):
                    at = places[way]
                    if at >= 0:
                        value = data[start + at]
                        left += value
                        taken[way, r, k, c] = -value
                taken[0, r, k, c] = left


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def make_mutual(taken, gaps, any_gaps, sink, below, east, south):  # type: ignore[no-untyped-def]
    """Keep of every coupling what acts both ways; the rest of it goes to the sinks.

    A coupling across absent layers becomes one in series. Returns whether all act both ways alike, as far as the digits
    that are kept tell, and none is positive, nor what is left negative.
    """
    n_rows, n_layers, n_columns = sink.shape
    none, differ, digits = np.float32(0.0), np.float32(0.0), np.float32(1e-6)
    for r in range(n_rows):
        for k in range(n_layers):
            left, to_east, to_west, to = taken[0, r, k], taken[3, r, k], taken[4, r, k], east[r, k]
            drain = sink[r, k]
            for c in range(n_columns):
                drain[c] = left[c]
            for c in range(n_columns - 1):
                a, b = to_east[c], to_west[c + 1]
                mutual = max(min(a, b), none)
                to[c] = mutual
                differ = max(differ, abs(a - b) + mutual - min(a, b) - digits * (abs(a) + abs(b)))
                drain[c] += a - mutual
            for c in range(1, n_columns):
                drain[c] += to_west[c] - to[c - 1]
    for r in range(n_rows - 1):
        for k in range(n_layers):
            to_south, to_north, to = taken[5, r, k], taken[6, r + 1, k], south[r, k]
            drain, beyond = sink[r, k], sink[r + 1, k]
            for c in range(n_columns):
                a, b = to_south[c], to_north[c]
                mutual = max(min(a, b), none)
                to[c] = mutual
                differ = max(differ, abs(a - b) + mutual - min(a, b) - digits * (abs(a) + abs(b)))
                drain[c] += a - mutual
                beyond[c] += b - mutual
    for r in range(n_rows):
        for k in range(n_layers - 1):
            if any_gaps:
                for c in range(n_columns):
                    gap = gaps[r, k, c]
                    if gap == 0:
                        continue
                    a, b = taken[1, r, k, c], taken[2, r, k + gap, c]
                    mutual = max(min(a, b), none)
                    for m in range(k, k + gap):
                        below[r, m, c] = mutual * gap
                    differ = max(differ, abs(a - b) + mutual - min(a, b) - digits * (abs(a) + abs(b)))
                    sink[r, k, c] += a - mutual
                    sink[r, k + gap, c] += b - mutual
                continue
            downward, upward, to = taken[1, r, k], taken[2, r, k + 1], below[r, k]
            drain, beneath = sink[r, k], sink[r, k + 1]
            for c in range(n_columns):
                a, b = downward[c], upward[c]
                mutual = max(min(a, b), none)
                to[c] = mutual
                differ = max(differ, abs(a - b) + mutual - min(a, b) - digits * (abs(a) + abs(b)))
                drain[c] += a - mutual
                beneath[c] += b - mutual
    for r in range(n_rows):
        for k in range(n_layers):
            drain, down, up = sink[r, k], taken[1, r, k], taken[2, r, k]
            one, two, three, four = taken[3, r, k], taken[4, r, k], taken[5, r, k], taken[6, r, k]
            for c in range(n_columns):
                coupled = down[c] + up[c] + one[c] + two[c] + three[c] + four[c]
                differ = max(differ, -drain[c] - digits * coupled)
                drain[c] = max(drain[c], none)
    return differ <= none


@njit(cache=True, nogil=True)
def lay_out_own(taken, number, gaps, any_gaps, stride, own):  # type: ignore[no-untyped-def]
    """Lay out couplings in rows of one colour as they act on the unknown that has them.

    ``own`` is (7, 2 half): what is left, beneath, above, at the same place, beside it, north, south. Those across absent
    layers are left out: they are told one by one.
    """
    n_rows, n_layers, n_columns = number.shape
    size = n_layers * stride
    half = (n_rows + 2) * size
    for r in range(n_rows):
        for k in range(n_layers):
            for first in range(2):
                o = ((r + first) % 2) * half + (r + 1) * size + k * stride
                same, beside = (3, 4) if first == 0 else (4, 3)
                for way, to in ((0, 0), (1, 1), (2, 2), (same, 3), (beside, 4), (6, 5), (5, 6)):
                    out, values = own[to, o : o + stride], taken[way, r, k]
                    for j in range((n_columns - first + 1) // 2):
                        out[j] = values[2 * j + first]
                if any_gaps:
                    for j in range((n_columns - first + 1) // 2):
                        c = 2 * j + first
                        if gaps[r, k, c] > 1:
                            own[1, o + j] = 0.0
                        if k > 0 and number[r, k - 1, c] < 0:
                            own[2, o + j] = 0.0


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def lay_out(sink, below, east, south, stride, stencil, sinks):  # type: ignore[no-untyped-def]
    """Factor all columns; lay out inverses, couplings and sinks in rows of one colour."""
    n_rows, n_layers, n_columns = sink.shape
    size = n_layers * stride
    inverse, one = np.zeros((n_layers, n_columns + 1), np.float32), np.float32(1.0)
    for r in range(n_rows):
        north = south[r - 1] if r > 0 else south[r]
        there = one if r > 0 else one - one
        for k in range(n_layers):
            beneath, beside, before = below[r, k], east[r, k], south[r, k]
            behind, own, to = north[k], sink[r, k], inverse[k]
            for c in range(n_columns):
                to[c] = own[c] + beneath[c] + beside[c] + before[c] + there * behind[c]
            for c in range(1, n_columns):
                to[c] += beside[c - 1]
            if k == 0:
                for c in range(n_columns):
                    d = to[c]
                    to[c] = one / d if d > 0.0 else one
            else:
                over, past = below[r, k - 1], inverse[k - 1]
                for c in range(n_columns):
                    d = to[c] + over[c]
                    last = max(
                        d - over[c] * over[c] * past[c], np.float32(1e-7) * d
                    )  # rounding, where nothing holds
                    to[c] = one / last if last > 0.0 else one
        for k in range(n_layers):
            o = (r + 1) * size + k * stride
            for first in range(2):  # columns 0, 2, 4 ... are red in even rows, 1, 3, 5 ... in odd ones
                colour = (r + first) % 2
                values, downward, drain = stencil[colour], stencil[2 + colour], sinks[colour]
                for j in range((n_columns - first + 1) // 2):
                    c = 2 * j + first
                    values[o + j] = inverse[k, c]
                    downward[o + j] = below[r, k, c]
                    drain[o + j] = sink[r, k, c]
            first = r % 2
            same, other, up, down = stencil[4], stencil[5], stencil[6], stencil[7]
            for j in range((n_columns - first + 1) // 2):
                c = 2 * j + first
                west = east[r, k, c - 1] if c > 0 else one - one
                same[o + j] = east[r, k, c] if first == 0 else west
                other[o + j] = west if first == 0 else east[r, k, c]
                up[o + j] = south[r - 1, k, c] if r > 0 else one - one
                down[o + j] = south[r, k, c]


@njit(cache=True, nogil=True)
def coarser(  # type: ignore[no-untyped-def]
    sink,
    below,
    east,
    south,
    present,
    along,
    across,
    near_x,
    near_y,
    further,
    c_sink,
    c_below,
    c_east,
    c_south,
    stride,
    weights,
):
    """Make the next coarser level; returns whether a column is held, and so follows it only in part.

    Couplings are summed, each by the share that is left over the longer way that it bridges: that of the distances, as
    far as couplings within the coarse columns are no stronger. A column that is held at a level follows the coarse
    correction only in part: as the mean of its own coarse column and of what holds it, with the resistances to either.
    Where the whole coarse column is held, there is no way to go to what holds it.
    """
    n_rows, n_layers, n_columns = sink.shape
    size = n_layers * stride
    plan = np.zeros((3, n_rows, n_columns))  # east, south, sinks
    for r in range(n_rows):
        for k in range(n_layers):
            for c in range(n_columns):
                plan[0, r, c] += east[r, k, c]
                plan[1, r, c] += south[r, k, c]
                plan[2, r, c] += sink[r, k, c]
    bound = np.zeros((n_rows, n_columns))
    inside = np.zeros((n_rows, n_columns), np.int64)
    joined = np.zeros((n_rows, n_columns))
    coarse = (c_sink.shape[0], c_sink.shape[2])
    count, total, most = np.zeros(coarse, np.int64), np.zeros(coarse), np.zeros(coarse)
    for r in range(n_rows):
        for c in range(n_columns):
            if not present[r, c]:
                continue
            if along == 2:
                d = c + 1 if c % 2 == 0 else c - 1
                if d < n_columns and present[r, d]:
                    inside[r, c] += 1
                    joined[r, c] += plan[0, r, min(c, d)]
            if across == 2:
                d = r + 1 if r % 2 == 0 else r - 1
                if d < n_rows and present[d, c]:
                    inside[r, c] += 1
                    joined[r, c] += plan[1, min(r, d), c]
            bound[r, c] = joined[r, c] / max(inside[r, c], 1)
            p, q = r // across, c // along
            count[p, q] += 1
            total[p, q] += plan[2, r, c]
            most[p, q] = max(most[p, q], plan[2, r, c])
    for r in range(n_rows):
        p = r // across
        for c in range(n_columns):
            q = c // along
            if c + 1 < n_columns and (c + 1) // along != q and plan[0, r, c] > 0.0:
                w = plan[0, r, c]
                loose = min(2.0 * w / (w + 0.5 * (bound[r, c] + bound[r, c + 1])), 1.0)
                share = np.float32(1.0 - further * (1.0 - near_x[c]) * loose)
                for k in range(n_layers):
                    c_east[p, k, q] += share * east[r, k, c]
            if r + 1 < n_rows and (r + 1) // across != p and plan[1, r, c] > 0.0:
                w = plan[1, r, c]
                loose = min(2.0 * w / (w + 0.5 * (bound[r, c] + bound[r + 1, c])), 1.0)
                share = np.float32(1.0 - further * (1.0 - near_y[r]) * loose)
                for k in range(n_layers):
                    c_south[p, k, q] += share * south[r, k, c]
    any_held = False
    way, level, d = np.empty(n_layers), np.empty(n_layers), np.empty(n_layers)
    for r in range(n_rows):
        p = r // across
        for c in range(n_columns):
            q = c // along
            for k in range(n_layers):
                c_below[p, k, q] += below[r, k, c]
            if inside[r, c] == 0 or plan[2, r, c] * inside[r, c] <= 0.01 * joined[r, c]:
                for k in range(n_layers):
                    c_sink[p, k, q] += sink[r, k, c]
                continue
            if not any_held:
                any_held = True
                weights[:] = 1.0
            alone = 1.0
            if most[p, q] > 0.0:
                alone = max(1.0 - total[p, q] / (count[p, q] * most[p, q]), 1e-6)
            by = 2.0 / inside[r, c] * max(0.5 / alone, 1.0)
            c2 = c - c % 2
            r2 = r - r % 2
            last = 0.0
            for k in range(n_layers):
                w = 0.0
                if along == 2 and c2 + 1 < n_columns:
                    w += east[r, k, c2]
                if across == 2 and r2 + 1 < n_rows:
                    w += south[r2, k, c]
                w *= by
                way[k] = w
                above = below[r, k - 1, c] if k > 0 else 0.0
                m = above / last if last > 0.0 else 0.0
                last = sink[r, k, c] + w + below[r, k, c] + above - m * above
                d[k] = last
                level[k] = w + (m * level[k - 1] if k > 0 else 0.0)
            carried = 0.0
            red = (r + c) % 2 == 0
            at = (r + 1) * size + c // 2
            for i in range(n_layers):
                k = n_layers - 1 - i
                carried = min((level[k] + below[r, k, c] * carried) / d[k], 1.0) if d[k] > 0.0 else 1.0
                if red:
                    weights[at + k * stride] = carried
                c_sink[p, k, q] += way[k] * (1.0 - carried)
    return any_held
