"""Compiled loops of the column multigrid and of conjugate gradients.

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
def take_matrix(  # type: ignore[no-untyped-def]
    indptr, indices, data, order, cell, column, layer, held, start, neighbour, coupling, below, above, sink
):
    """Sort the entries of a matrix by column and layer.

    With `held` the unknowns that stand in no column are taken as they are; else each as level with the cell.

    A coupling across absent layers becomes one in series through them. What couples neither up and down
    one column nor sideways within one layer is lumped, so that rows keep their sum.
    """
    n_columns, n_layers = cell.shape
    likely = np.zeros(64, np.int64)  # where the entry of this place stood in the row before
    block = 64  # columns that stand side by side in the matrix too are taken together: less to fetch
    for side in range(0, n_columns, block):
        for k in range(n_layers):
            for place in range(side, min(side + block, n_columns)):
                c = np.int64(order[_U(place)])
                i = np.int64(cell[_U(c), _U(k)])
                if i < 0:
                    continue
                first, last = np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])
                total = 0.0
                begin = np.int64(indptr[_U(i)])
                for t in range(begin, np.int64(indptr[_U(i + 1)])):
                    j = _U(indices[_U(t)])
                    a = data[_U(t)]
                    if held and column[j] < 0:
                        continue
                    total += a
                    if a >= 0.0 or j == _U(i):
                        continue
                    other = column[j]
                    if other < 0:
                        continue
                    if other == c:
                        gap = np.int64(layer[j]) - k
                        if gap > 0:
                            for m in range(k, k + gap):
                                below[_U(c), _U(m)] = -a * gap
                        else:
                            for m in range(k + gap, k):
                                above[_U(c), _U(m)] = a * gap
                    elif layer[j] == k:
                        guess = first + likely[_U((t - begin) & 63)]
                        if guess >= last or neighbour[_U(guess)] != other:
                            guess = first
                            while guess < last and neighbour[_U(guess)] != other:
                                guess += 1
                            if guess == last:
                                continue
                            likely[_U((t - begin) & 63)] = guess - first
                        coupling[_U(guess), _U(k)] = -a
                sink[_U(c), _U(k)] = total


@njit(cache=True, nogil=True)
def make_mutual(start, neighbour, reverse, cell, coupling, below, above, sink):  # type: ignore[no-untyped-def]
    """Keep of every coupling what acts both ways; the rest of it goes to the diagonal."""
    n_columns, n_layers = sink.shape
    for c in range(n_columns):
        for e in range(start[c], start[c + 1]):
            if neighbour[e] > c:
                f = reverse[e]
                for k in range(n_layers):
                    mutual = min(coupling[e, k], coupling[f, k])
                    sink[c, k] += coupling[e, k] - mutual
                    sink[neighbour[e], k] += coupling[f, k] - mutual
                    coupling[e, k] = mutual
                    coupling[f, k] = mutual
        k = 0
        while k < n_layers - 1:
            if cell[c, k] < 0 or (below[c, k] == 0.0 and above[c, k] == 0.0):
                k += 1
                continue
            m = k + 1
            while m < n_layers - 1 and cell[c, m] < 0:
                m += 1
            gap = m - k
            mutual = min(below[c, k], above[c, k])
            sink[c, k] += (below[c, k] - mutual) / gap
            sink[c, m] += (above[c, k] - mutual) / gap
            for s in range(k, m):
                below[c, s] = mutual
            k = m
        for k in range(n_layers):
            sink[c, k] = max(sink[c, k], 0.0)


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
    """Add the coarse correction; relax backwards."""
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
    y = np.empty(n_layers, np.float32)
    for i in range(n_columns):
        c = n_columns - 1 - i
        first, last = np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])
        _relax(c, first, last, n_layers, neighbour, coupling, multiplier, inverse, b, x, y)


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def relax_both_ways(n_layers, start, neighbour, coupling, multiplier, inverse, b, x, times):  # type: ignore[no-untyped-def]
    """Relax forwards and backwards, from zero, some times over."""
    n_columns = len(start) - 1
    y = np.empty(n_layers, np.float32)
    x[:] = 0.0
    for turn in range(2 * times):
        for i in range(n_columns):
            c = i if turn % 2 == 0 else n_columns - 1 - i
            first, last = np.int64(start[_U(c)]), np.int64(start[_U(c + 1)])
            _relax(c, first, last, n_layers, neighbour, coupling, multiplier, inverse, b, x, y)


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


@njit(cache=True, nogil=True)
def product_and_dot(indptr, indices, data, p, q):  # type: ignore[no-untyped-def]
    """Write ``q = A p`` and return ``p @ q``; indices are unsigned."""
    dot = 0.0
    for i in range(len(p)):
        total = 0.0
        for t in range(indptr[i], indptr[i + 1]):
            total += data[t] * p[indices[t]]
        q[i] = total
        dot += total * p[i]
    return dot


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def advance(x, r, p, q, step):  # type: ignore[no-untyped-def]
    """Step along p; return the squares and the absolute values of the residual, summed."""
    squares, absolute = 0.0, 0.0
    for i in range(len(x)):
        x[i] += step * p[i]
        left = r[i] - step * q[i]
        r[i] = left
        squares += left * left
        absolute += abs(left)
    return squares, absolute


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def dot(one, other):  # type: ignore[no-untyped-def]
    """``one @ other``, on this thread alone."""
    total = 0.0
    for i in range(len(one)):
        total += one[i] * other[i]
    return total


@njit(cache=True, nogil=True)
def to_columns(cell, r, b):  # type: ignore[no-untyped-def]
    """Copy values of unknowns into columns."""
    n_columns, n_layers = cell.shape
    for c in range(n_columns):
        for k in range(n_layers):
            i = cell[c, k]
            b[c, k] = np.float32(r[i]) if i >= 0 else np.float32(0.0)


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def from_columns_and_dot(slot, x, r, z):  # type: ignore[no-untyped-def]
    """Copy values of columns back to unknowns; return ``r @ z``."""
    dot = 0.0
    for i in range(len(slot)):
        value = np.float64(x[_U(slot[i])]) if slot[i] >= 0 else 0.0
        z[i] = value
        dot += value * r[i]
    return dot


@njit(cache=True, nogil=True)
def turn(z, p, share):  # type: ignore[no-untyped-def]
    """``p = z + share p``."""
    for i in range(len(p)):
        p[i] = z[i] + share * p[i]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def lopsided(indptr, indices, data):  # type: ignore[no-untyped-def]
    """Return ``x A y - y A x`` for two random vectors, scaled by the diagonals; indices are unsigned.

    That is zero, to rounding, if the matrix equals its transpose, and if not but by a chance that never comes.
    """
    n = len(indptr) - 1
    one, other = np.empty(n), np.empty(n)
    state = np.uint64(88172645463325252)
    for i in range(n):
        diagonal = 0.0
        for t in range(indptr[i], indptr[i + 1]):
            if indices[t] == _U(i):
                diagonal = abs(data[t])
        scale = 1.0 / np.sqrt(diagonal) if diagonal > 0.0 else 1.0
        state ^= state << _U(13)  # Marsaglia's xorshift
        state ^= state >> _U(7)
        state ^= state << _U(17)
        one[i] = scale * (np.float64(state & _U(65535)) / 65536.0 - 0.5)
        other[i] = scale * (np.float64((state >> _U(32)) & _U(65535)) / 65536.0 - 0.5)
    total = 0.0
    for i in range(n):
        x, y = one[i], other[i]
        for t in range(indptr[i], indptr[i + 1]):
            j = indices[t]
            total += data[t] * (x * other[j] - y * one[j])
    return total


@njit(cache=True, nogil=True)
def turn_twice(r, p, q, share, omega):  # type: ignore[no-untyped-def]
    """``p = r + share (p - omega q)``."""
    for i in range(len(p)):
        p[i] = r[i] + share * (p[i] - omega * q[i])


@njit(cache=True, nogil=True)
def product_and_dots(indptr, indices, data, p, w, q):  # type: ignore[no-untyped-def]
    """Write ``q = A p``; return ``w @ q`` and ``q @ q``; indices are unsigned."""
    one, other = 0.0, 0.0
    for i in range(len(p)):
        total = 0.0
        for t in range(indptr[i], indptr[i + 1]):
            total += data[t] * p[indices[t]]
        q[i] = total
        one += total * w[i]
        other += total * total
    return one, other


@njit(cache=True, nogil=True)
def factor_incompletely(indptr, indices, data, diagonal):  # type: ignore[no-untyped-def]
    """Turn the entries of a matrix into those of its incomplete factors; return whether every pivot is there."""
    n = len(diagonal)
    place = np.full(n, -1, np.int64)
    for i in range(n):
        diagonal[i] = -1
        for e in range(indptr[i], indptr[i + 1]):
            place[indices[e]] = e
            if indices[e] == i:
                diagonal[i] = e
        for e in range(indptr[i], indptr[i + 1]):
            k = indices[e]
            if k >= i:
                break
            data[e] /= data[diagonal[k]]
            for f in range(diagonal[k] + 1, indptr[k + 1]):
                at = place[indices[f]]
                if at >= 0:
                    data[at] -= data[e] * data[f]
        for e in range(indptr[i], indptr[i + 1]):
            place[indices[e]] = -1
        if diagonal[i] < 0 or not abs(data[diagonal[i]]) > 0.0:
            return False
    return True


@njit(cache=True, nogil=True)
def solve_incomplete(indptr, indices, data, diagonal, right, answer):  # type: ignore[no-untyped-def]
    """Write the answer of incomplete factors to a right-hand side; return the product of both."""
    n, product = len(right), 0.0
    for i in range(n):
        value = right[i]
        for e in range(indptr[i], diagonal[i]):
            value -= data[e] * answer[indices[e]]
        answer[i] = value
    for i in range(n - 1, -1, -1):
        value = answer[i]
        for e in range(diagonal[i] + 1, indptr[i + 1]):
            value -= data[e] * answer[indices[e]]
        answer[i] = value / data[diagonal[i]]
        product += answer[i] * right[i]
    return product


@njit(cache=True, nogil=True)
def solve_incomplete_turned(indptr, indices, data, diagonal, right, answer):  # type: ignore[no-untyped-def]
    """The same with the factors transposed."""
    n, product = len(right), 0.0
    answer[:] = right
    for i in range(n):
        answer[i] /= data[diagonal[i]]
        for e in range(diagonal[i] + 1, indptr[i + 1]):
            answer[indices[e]] -= data[e] * answer[i]
    for i in range(n - 1, -1, -1):
        for e in range(indptr[i], diagonal[i]):
            answer[indices[e]] -= data[e] * answer[i]
        product += answer[i] * right[i]
    return product
