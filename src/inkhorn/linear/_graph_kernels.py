"""Compiled loops of the multigrid over any columns.

Columns are kept in the order in which they are relaxed, neighbours earlier in that order before later ones
(`middle` parts them). Arrays over (column, layer) hold zero where a column lacks the layer.
"""

from __future__ import annotations

import numpy as np
from numba import njit

# Sums may be taken in any order; nothing else about floating point is loosened.
_LOOSE = {"reassoc", "contract", "nsz"}
_U = np.uint64  # an index that is known not to count from the end


@njit(cache=True, nogil=True)
def find_places(  # type: ignore[no-untyped-def]
    indptr, indices, cell, column, layer, start, neighbour, coupling, below, above, diagonal, gaps, others
):
    """Find where in the data of a matrix stand diagonals, and couplings to neighbours, down and up; -1 for none.

    ``gaps`` says how many layers down the next unknown of the column is. Entries that have no place are put into
    ``others``, (n, 2) row and place; returns how many there are.
    """
    n_columns, n_layers = cell.shape
    count = 0
    for c in range(n_columns):
        last = -1
        for k in range(n_layers):
            if cell[c, k] >= 0:
                if last >= 0:
                    gaps[c, last] = k - last
                last = k
    for i in range(len(indptr) - 1):
        c, k = column[i], layer[i]
        for t in range(indptr[i], indptr[i + 1]):
            j, found = indices[t], False
            if c >= 0 and column[j] >= 0:
                other, gap = column[j], layer[j] - k
                if other == c:
                    if gap == 0 and diagonal[c, k] < 0:
                        diagonal[c, k] = t
                        found = True
                    elif gap > 0 and gaps[c, k] == gap and below[c, k] < 0:
                        below[c, k] = t
                        found = True
                    elif gap < 0 and gaps[c, layer[j]] == -gap and above[c, k] < 0:
                        above[c, k] = t
                        found = True
                elif gap == 0:
                    for e in range(start[c], start[c + 1]):
                        if neighbour[e] == other and coupling[e, k] < 0:
                            coupling[e, k] = t
                            found = True
                            break
            if not found:
                if count < len(others):
                    others[count, 0] = i
                    others[count, 1] = t
                count += 1
    return count


@njit(cache=True, nogil=True)
def take_values(  # type: ignore[no-untyped-def]
    data, cell, start, at_coupling, at_below, at_above, at_diagonal, rest, coupling, below, above, left
):
    """Take couplings as they act on the unknown that has them, and what is left of diagonals with the rest of rows."""
    n_columns, n_layers = cell.shape
    total = np.empty(n_layers)
    for c in range(n_columns):
        for k in range(n_layers):
            i = cell[c, k]
            total[k] = rest[i] if i >= 0 else 0.0
            if at_diagonal[c, k] >= 0:
                total[k] += data[at_diagonal[c, k]]
            if at_below[c, k] >= 0:
                total[k] += data[at_below[c, k]]
                below[c, k] = -data[at_below[c, k]]
            if at_above[c, k] >= 0:
                total[k] += data[at_above[c, k]]
                above[c, k] = -data[at_above[c, k]]
        for e in range(start[c], start[c + 1]):
            for k in range(n_layers):
                t = at_coupling[e, k]
                if t >= 0:
                    total[k] += data[t]
                    coupling[e, k] = -data[t]
        for k in range(n_layers):
            left[c, k] = total[k]


@njit(cache=True, nogil=True)
def make_mutual(  # type: ignore[no-untyped-def]
    start, neighbour, reverse, gaps, own, own_below, own_above, left, coupling, below, sink
):
    """Keep of every coupling what acts both ways; the rest of it goes to the diagonal.

    A coupling across absent layers becomes one in series. Returns whether all act both ways alike, as far as the digits
    that are kept tell, and none is positive, nor what is left negative.
    """
    n_columns, n_layers = sink.shape
    alike, none, digits = True, np.float32(0.0), np.float32(1e-6)
    coupled = np.empty(n_layers, np.float32)
    for c in range(n_columns):
        for k in range(n_layers):
            sink[c, k] = left[c, k]
            coupled[k] = own_below[c, k] + own_above[c, k]
        for e in range(start[c], start[c + 1]):
            f = reverse[e]
            for k in range(n_layers):
                a, b = own[e, k], own[f, k]
                mutual = max(min(a, b), none)
                coupling[e, k] = mutual
                sink[c, k] += a - mutual
                coupled[k] += a
                alike = alike and abs(a - b) + mutual - min(a, b) <= digits * (abs(a) + abs(b))
        for k in range(n_layers - 1):
            gap = gaps[c, k]
            if gap == 0:
                continue
            a, b = own_below[c, k], own_above[c, k + gap]
            mutual = max(min(a, b), none)
            alike = alike and abs(a - b) + mutual - min(a, b) <= digits * (abs(a) + abs(b))
            sink[c, k] += a - mutual
            sink[c, k + gap] += b - mutual
            for m in range(k, k + gap):
                below[c, m] = mutual * gap
        for k in range(n_layers):
            alike = alike and sink[c, k] >= -digits * coupled[k]
            sink[c, k] = max(sink[c, k], none)
    return alike


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def direct_and_multiply(n_layers, start, neighbour, coupling, below, sink, z, p, share, q):  # type: ignore[no-untyped-def]
    """``p = z + share p`` and ``q = A p``, as differences; returns ``p @ q``, as a sum of squares."""
    n_columns = len(start) - 1
    share, half = np.float32(share), np.float32(0.5)
    for i in range(n_columns * n_layers):
        p[_U(i)] = z[_U(i)] + share * p[_U(i)]
    y = np.empty(n_layers, np.float32)
    dot = 0.0
    for c in range(n_columns):
        own = c * n_layers
        energy = np.float32(0.0)
        for k in range(n_layers):
            here = p[_U(own + k)]
            flow = sink[_U(own + k)] * here
            energy += flow * here
            y[k] = flow
        for e in range(np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])):
            entry, other = e * n_layers, np.int64(neighbour[_U(e)]) * n_layers
            for k in range(n_layers):
                apart = p[_U(own + k)] - p[_U(other + k)]
                flow = coupling[_U(entry + k)] * apart
                energy += half * flow * apart
                y[k] += flow
        for k in range(n_layers - 1):
            apart = p[_U(own + k)] - p[_U(own + k + 1)]
            flow = below[_U(own + k)] * apart
            energy += flow * apart
            y[k] += flow
            y[k + 1] -= flow
        for k in range(n_layers):
            q[_U(own + k)] = y[k]
        dot += energy
    return dot


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def multiply(n_layers, start, neighbour, coupling, below, above, left, p, q):  # type: ignore[no-untyped-def]
    """``q = A p`` for couplings that need not act both ways."""
    y = np.empty(n_layers, np.float32)
    for c in range(len(start) - 1):
        own = c * n_layers
        for k in range(n_layers):
            y[k] = left[_U(own + k)] * p[_U(own + k)]
        for e in range(np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])):
            entry, other = e * n_layers, np.int64(neighbour[_U(e)]) * n_layers
            for k in range(n_layers):
                y[k] += coupling[_U(entry + k)] * (p[_U(own + k)] - p[_U(other + k)])
        for k in range(n_layers - 1):
            apart = p[_U(own + k)] - p[_U(own + k + 1)]
            y[k] += below[_U(own + k)] * apart
            y[k + 1] -= above[_U(own + k + 1)] * apart
        for k in range(n_layers):
            q[_U(own + k)] = y[k]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def left_over(n_layers, start, neighbour, coupling, below, sink, x, b):  # type: ignore[no-untyped-def]
    """Take from a right-hand side what an answer makes of it."""
    y = np.empty(n_layers, np.float32)
    for c in range(len(start) - 1):
        own = c * n_layers
        for k in range(n_layers):
            y[k] = sink[_U(own + k)] * x[_U(own + k)]
        for e in range(np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])):
            entry, other = e * n_layers, np.int64(neighbour[_U(e)]) * n_layers
            for k in range(n_layers):
                y[k] += coupling[_U(entry + k)] * (x[_U(own + k)] - x[_U(other + k)])
        for k in range(n_layers - 1):
            flow = below[_U(own + k)] * (x[_U(own + k)] - x[_U(own + k + 1)])
            y[k] += flow
            y[k + 1] -= flow
        for k in range(n_layers):
            b[_U(own + k)] -= y[k]


@njit(cache=True, nogil=True)
def factor(start, coupling, below, sink, multiplier, inverse):  # type: ignore[no-untyped-def]
    """Factor the tridiagonal matrix of every column."""
    n_columns, n_layers = sink.shape
    d = np.empty(n_layers)
    for c in range(n_columns):
        for k in range(n_layers):
            d[k] = sink[c, k] + below[c, k]
            if k > 0:
                d[k] += below[c, k - 1]
        for e in range(start[c], start[c + 1]):
            for k in range(n_layers):
                d[k] += coupling[e, k]
        last = 1.0
        for k in range(n_layers):
            m = below[c, k - 1] / last if k > 0 else 0.0
            last = d[k] - m * below[c, k - 1] if k > 0 else d[k]
            if last <= 1e-7 * d[k]:  # rounding, where nothing holds the column
                last = 1e-7 * d[k]
            if last <= 0.0:
                last = 1.0
            multiplier[c, k] = m
            inverse[c, k] = 1.0 / last


@njit(inline="always")  # a call would copy fifty words of array headers for every column
def _relax(c, first, last, n_layers, neighbour, coupling, multiplier, inverse, b, x, y):  # type: ignore[no-untyped-def]
    """Solve one column, its neighbours among the entries `first` to `last` as they are."""
    own = c * n_layers
    for k in range(n_layers):
        y[k] = b[_U(own + k)]
    for e in range(first, last):
        entry, other = e * n_layers, np.int64(neighbour[_U(e)]) * n_layers
        for k in range(n_layers):
            y[k] += coupling[_U(entry + k)] * x[_U(other + k)]
    carried = np.float32(0.0)
    for k in range(n_layers):
        carried = y[k] + multiplier[_U(own + k)] * carried
        y[k] = carried * inverse[_U(own + k)]
    carried, m = np.float32(0.0), np.float32(0.0)
    for i in range(n_layers):
        k = n_layers - 1 - i
        carried = y[_U(k)] + m * carried
        x[_U(own + k)] = carried
        m = multiplier[_U(own + k)]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def relax_and_restrict(  # type: ignore[no-untyped-def]
    n_layers, start, middle, neighbour, coupling, multiplier, inverse, b, x, parent, held, weight, coarse
):
    """Relax forwards from zero; sum what is left over the coarse columns."""
    y = np.empty(n_layers, np.float32)
    for c in range(len(middle)):
        first, last = np.int64(start[c]), np.int64(middle[c])
        _relax(c, first, last, n_layers, neighbour, coupling, multiplier, inverse, b, x, y)
    coarse[:] = 0.0
    for c in range(len(middle)):
        if middle[_U(c)] == start[_U(c + 1)]:
            continue
        to = np.int64(parent[c]) * n_layers
        for k in range(n_layers):
            y[k] = 0.0
        for e in range(np.int64(middle[c]), np.int64(start[c + 1])):  # only later columns have moved since
            entry, other = e * n_layers, np.int64(neighbour[_U(e)]) * n_layers
            for k in range(n_layers):
                y[k] += coupling[_U(entry + k)] * x[_U(other + k)]
        h = np.int64(held[c])
        if h >= 0:
            for k in range(n_layers):
                y[k] *= weight[_U(h * n_layers + k)]
        for k in range(n_layers):
            coarse[_U(to + k)] += y[k]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def prolong_and_relax(  # type: ignore[no-untyped-def]
    n_layers, start, middle, neighbour, coupling, multiplier, inverse, b, x, parent, held, weight, coarse
):
    """Add the coarse correction; relax backwards; return ``b @ x``."""
    n_columns = len(parent)
    for c in range(n_columns):
        if middle[_U(c)] == start[_U(c + 1)]:  # nothing later looks at it before it is relaxed
            continue
        own, to, h = c * n_layers, np.int64(parent[c]) * n_layers, np.int64(held[c])
        if h >= 0:
            for k in range(n_layers):
                x[_U(own + k)] += weight[_U(h * n_layers + k)] * coarse[_U(to + k)]
        else:
            for k in range(n_layers):
                x[_U(own + k)] += coarse[_U(to + k)]
    y, dot = np.empty(n_layers, np.float32), 0.0
    for i in range(n_columns):
        c = n_columns - 1 - i
        first, last = np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])
        _relax(c, first, last, n_layers, neighbour, coupling, multiplier, inverse, b, x, y)
        product = np.float32(0.0)
        for k in range(n_layers):
            product += b[_U(c * n_layers + k)] * x[_U(c * n_layers + k)]
        dot += product
    return dot


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def relax_both_ways(n_layers, start, neighbour, coupling, multiplier, inverse, b, x, times):  # type: ignore[no-untyped-def]
    """Relax forwards and backwards, from zero, some times over; return ``b @ x``."""
    n_columns = len(start) - 1
    y = np.empty(n_layers, np.float32)
    x[: n_columns * n_layers] = 0.0
    for turn in range(2 * times):
        for i in range(n_columns):
            c = i if turn % 2 == 0 else n_columns - 1 - i
            first, last = np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])
            _relax(c, first, last, n_layers, neighbour, coupling, multiplier, inverse, b, x, y)
    dot = 0.0
    for i in range(n_columns * n_layers):
        dot += b[i] * x[i]
    return dot


@njit(cache=True, nogil=True)
def pairs(start, neighbour, weight, order, group):  # type: ignore[no-untyped-def]
    """Join columns two by two along strong couplings; returns how many groups there are.

    Among couplings of similar strength the first wins, which keeps the groups of an even grid even. A
    column that is left over joins the group of its strongest neighbour.
    """
    group[:] = -1
    count = 0
    for c in order:
        if group[c] >= 0:
            continue
        strongest, best, at = 0.0, 0.0, -1
        for e in range(start[c], start[c + 1]):
            strongest = max(strongest, weight[e])
        for e in range(start[c], start[c + 1]):
            if group[neighbour[e]] < 0 and weight[e] > 0.25 * strongest and weight[e] > 2.0 * best:
                best, at = weight[e], neighbour[e]
        if at >= 0:
            group[c] = count
            group[at] = count
            count += 1
    for c in order:
        if group[c] < 0:
            best, at = 0.0, -1
            for e in range(start[c], start[c + 1]):
                if group[neighbour[e]] >= 0 and weight[e] > best:
                    best, at = weight[e], neighbour[e]
            if at >= 0:
                group[c] = group[at]
            else:
                group[c] = count
                count += 1
    return count


@njit(cache=True, nogil=True)
def coarse_graph(start, neighbour, group, n):  # type: ignore[no-untyped-def]
    """The graph of groups, and which of its entries each entry of the finer graph belongs to, -1 inside."""
    n_fine = len(group)
    first = np.zeros(n + 1, np.int64)
    for c in range(n_fine):
        first[group[c] + 1] += 1
    for p in range(n):
        first[p + 1] += first[p]
    member, at = np.empty(n_fine, np.int64), first[:-1].copy()
    for c in range(n_fine):
        member[at[group[c]]] = c
        at[group[c]] += 1
    seen, slot = np.full(n, -1, np.int64), np.empty(n, np.int64)
    coarse_start = np.zeros(n + 1, np.int32)
    coarse_neighbour = np.empty(len(neighbour), np.int32)
    entry = np.full(len(neighbour), -1, np.int32)
    t = 0
    for p in range(n):
        coarse_start[p] = t
        for m in range(first[p], first[p + 1]):
            c = member[m]
            for e in range(start[c], start[c + 1]):
                q = group[neighbour[e]]
                if q == p:
                    continue
                if seen[q] != p:
                    seen[q] = p
                    slot[q] = t
                    coarse_neighbour[t] = q
                    t += 1
                entry[e] = slot[q]
    coarse_start[n] = t
    return coarse_start, coarse_neighbour[:t].copy(), entry


@njit(cache=True, nogil=True)
def colours(start, neighbour):  # type: ignore[no-untyped-def]
    """A colour for every column, unlike those of its neighbours."""
    n = len(start) - 1
    colour = np.full(n, -1, np.int32)
    most = 1
    for c in range(n):
        most = max(most, start[c + 1] - start[c] + 1)
    taken = np.full(most + 1, -1, np.int64)
    for c in range(n):
        for e in range(start[c], start[c + 1]):
            k = colour[neighbour[e]]
            if k >= 0:
                taken[k] = c
        k = 0
        while taken[k] == c:
            k += 1
        colour[c] = k
    return colour


@njit(cache=True, nogil=True)
def in_order(start, neighbour, new):  # type: ignore[no-untyped-def]
    """Renumber a graph; earlier neighbours first. Also where each entry goes."""
    n = len(start) - 1
    old = np.empty(n, np.int64)
    for c in range(n):
        old[new[c]] = c
    ordered_start = np.zeros(n + 1, np.int32)
    middle = np.empty(n, np.int32)
    ordered = np.empty_like(neighbour)
    where = np.empty(len(neighbour), np.int32)
    t = 0
    for c in range(n):
        ordered_start[c] = t
        for later in (False, True):
            if later:
                middle[c] = t
            for e in range(start[old[c]], start[old[c] + 1]):
                j = new[neighbour[e]]
                if (j > c) == later:
                    ordered[t] = j
                    where[e] = t
                    t += 1
    ordered_start[n] = t
    return ordered_start, middle, ordered, where


@njit(cache=True, nogil=True)
def reverses(start, neighbour):  # type: ignore[no-untyped-def]
    """For every entry of a graph the one that leads back."""
    back = np.empty(len(neighbour), np.int32)
    for c in range(len(start) - 1):
        for e in range(start[c], start[c + 1]):
            j = neighbour[e]
            for f in range(start[j], start[j + 1]):
                if neighbour[f] == c:
                    back[e] = f
                    break
    return back


@njit(cache=True, nogil=True)
def inner_couplings(start, entry, weight, bound):  # type: ignore[no-untyped-def]
    """The mean coupling of each column to others of its coarse one."""
    for c in range(len(start) - 1):
        inside, total = 0, 0.0
        for e in range(start[c], start[c + 1]):
            if entry[e] < 0:
                inside += 1
                total += weight[e]
        bound[c] = total / max(inside, 1)


@njit(cache=True, nogil=True)
def coarse_couplings(coupling, share, entry, coarse):  # type: ignore[no-untyped-def]
    """Sum the couplings between coarse columns, each by its share."""
    for e in range(len(entry)):
        w = entry[e]
        if w >= 0:
            for k in range(coupling.shape[1]):
                coarse[w, k] += share[e] * coupling[e, k]


@njit(cache=True, nogil=True)
def coarse_sinks(  # type: ignore[no-untyped-def]
    start, coupling, sink, below, group, entry, alone, c_below, c_sink, held, weights
):
    """Sinks of the coarse columns, and how much of a correction the columns near them take.

    A column that is held at a level follows the coarse correction only in part: as the mean of its own coarse
    column and of what holds it, with the resistances to either. Where the whole coarse column is held,
    there is no way to go to what holds it: `alone` is the share of it that is not.
    """
    n_columns, n_layers = sink.shape
    way, d, level = np.empty(n_layers), np.empty(n_layers), np.empty(n_layers)
    n_held = 0
    for c in range(n_columns):
        p = group[c]
        inside, total, joined = 0, 0.0, 0.0
        for k in range(n_layers):
            way[k] = 0.0
        for e in range(start[c], start[c + 1]):
            if entry[e] < 0:
                inside += 1
                for k in range(n_layers):
                    way[k] += coupling[e, k]
        for k in range(n_layers):
            c_below[p, k] += below[c, k]
            total += sink[c, k]
            joined += way[k]
        held[c] = -1
        if inside == 0 or total * inside <= 0.01 * joined:
            for k in range(n_layers):
                c_sink[p, k] += sink[c, k]
            continue
        last = 0.0
        for k in range(n_layers):
            way[k] *= 2.0 / inside * max(0.5 / alone[p], 1.0)
            above = below[c, k - 1] if k > 0 else 0.0
            m = above / last if last > 0.0 else 0.0
            last = sink[c, k] + way[k] + below[c, k] + above - m * above
            d[k] = last
            level[k] = way[k] + (m * level[k - 1] if k > 0 else 0.0)
        carried = 0.0
        for i in range(n_layers):
            k = n_layers - 1 - i
            carried = min((level[k] + below[c, k] * carried) / d[k], 1.0) if d[k] > 0.0 else 1.0
            weights[n_held, k] = carried
            c_sink[p, k] += way[k] * (1.0 - carried)
        held[c] = n_held
        n_held += 1
