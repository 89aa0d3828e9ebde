"""Compiled loops over even rectangles: rows of one colour, in which the neighbours of a row stand as it does.

Cells are coloured as on a chess board. A row of the grid holds ``width`` cells of either colour at most; the cells of
one colour in one row and all layers make a *block*, layer after layer, each ``stride`` long. Blocks follow each other
row after row, with one of zeros before the first and after the last; all red ones come before all black ones. So the
neighbours of a red block, east or west, north and south, are black blocks or such a block shifted by one, and
loops run over whole blocks without looking up where a neighbour is.

Of each coupling in plan the red cell holds the only copy: with the black cell at the same place of its row, with the
one beside that (before it in even rows, after it in odd ones), and with those north and south. The parts of a stencil
stand in this order: inverses (red, black), couplings to the layer beneath (red, black), and these four, (8, half).
"""

from __future__ import annotations

import numpy as np
from numba import njit

# Sums may be taken in any order; nothing else about floating point is loosened.
_LOOSE = {"reassoc", "contract", "nsz"}
_U = np.uint64  # an index that is known not to count from the end


@njit(cache=True, nogil=True)
def _shift(row, black):  # type: ignore[no-untyped-def]
    """Where the neighbour beside the one at the same place stands, seen from a red block or from a black one."""
    return 1 if (row % 2 == 0) == black else -1


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _drawn_to_red(t, b, black, stencil, o, size, shift):  # type: ignore[no-untyped-def]
    """What a red block is given, and what its neighbours draw it to."""
    right, here, beside = b[o : o + size], black[o : o + size], black[o + shift : o + shift + size]
    same, other = stencil[4, o : o + size], stencil[5, o : o + size]
    for i in range(size):
        t[i] = right[i] + same[i] * here[i] + other[i] * beside[i]
    north, south = black[o - size : o], black[o + size : o + 2 * size]
    up, down = stencil[6, o : o + size], stencil[7, o : o + size]
    for i in range(size):
        t[i] += up[i] * north[i] + down[i] * south[i]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _drawn_to_black(t, b, red, stencil, o, size, shift):  # type: ignore[no-untyped-def]
    """The same of a black block."""
    a = o + shift
    right, here, beside = b[o : o + size], red[o : o + size], red[a : a + size]
    same, other = stencil[4, o : o + size], stencil[5, a : a + size]
    for i in range(size):
        t[i] = right[i] + same[i] * here[i] + other[i] * beside[i]
    north, south = red[o - size : o], red[o + size : o + 2 * size]
    up, down = stencil[7, o - size : o], stencil[6, o + size : o + 2 * size]
    for i in range(size):
        t[i] += up[i] * north[i] + down[i] * south[i]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _solve_columns(t, x, inverses, belows, o, n_layers, stride):  # type: ignore[no-untyped-def]
    """Solve the columns of a block, through all layers at once."""
    inverse = inverses[o : o + stride]
    for j in range(stride):
        t[j] *= inverse[j]
    for k in range(1, n_layers):
        a = o + k * stride
        above, own = t[(k - 1) * stride : k * stride], t[k * stride : (k + 1) * stride]
        below, inverse = belows[a - stride : a], inverses[a : a + stride]
        for j in range(stride):
            own[j] = (own[j] + below[j] * above[j]) * inverse[j]
    a = o + (n_layers - 1) * stride
    last, deepest = x[a : a + stride], t[(n_layers - 1) * stride : n_layers * stride]
    for j in range(stride):
        last[j] = deepest[j]
    for k in range(n_layers - 2, -1, -1):
        a = o + k * stride
        out, beneath, own = (
            x[a : a + stride],
            x[a + stride : a + 2 * stride],
            t[k * stride : (k + 1) * stride],
        )
        below, inverse = belows[a : a + stride], inverses[a : a + stride]
        for j in range(stride):
            out[j] = own[j] + inverse[j] * below[j] * beneath[j]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _product_of(one, other):  # type: ignore[no-untyped-def]
    total = 0.0
    for i in range(len(one)):
        total += np.float64(one[i]) * np.float64(other[i])
    return total


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _restrict_row(t, drawn, weights, o, row, along, across, n_layers, stride, c_half, c_stride, coarse):  # type: ignore[no-untyped-def]
    """Add what is left of a red block to the coarse cells that it belongs to."""
    size = n_layers * stride
    if weights.size:
        share = weights[o : o + size]
        for i in range(size):
            t[i] *= share[i]
    r = row // across
    base = (r + 1) * n_layers * c_stride
    for k in range(n_layers):
        own = t[k * stride : (k + 1) * stride]
        to = base + k * c_stride
        if (
            along == 2
        ):  # the red cell at place j belongs to coarse column j, red where row and column are even or odd
            even = (r % 2) * c_half + to
            odd = (1 - r % 2) * c_half + to
            for j in range(stride // 2):
                coarse[_U(even + j)] += own[2 * j]
                coarse[_U(odd + j)] += own[2 * j + 1]
        else:  # rows alone are joined: that at place j to coarse column 2 j, or the one after in odd rows
            first = ((r + row) % 2) * c_half + to
            for j in range(min(stride, c_stride)):
                coarse[_U(first + j)] += own[j]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _correct_row(x, weights, o, row, along, across, n_layers, stride, c_half, c_stride, coarse, t):  # type: ignore[no-untyped-def]
    """Move a red block as the coarse cells that it belongs to."""
    r = row // across
    base = (r + 1) * n_layers * c_stride
    size = n_layers * stride
    for k in range(n_layers):
        own = t[k * stride : (k + 1) * stride]
        to = base + k * c_stride
        if along == 2:
            even = (r % 2) * c_half + to
            odd = (1 - r % 2) * c_half + to
            for j in range(stride // 2):
                own[2 * j] = coarse[_U(even + j)]
                own[2 * j + 1] = coarse[_U(odd + j)]
        else:
            first = ((r + row) % 2) * c_half + to
            for j in range(min(stride, c_stride)):
                own[j] = coarse[_U(first + j)]
    out = x[o : o + size]
    if weights.size:
        share = weights[o : o + size]
        for i in range(size):
            out[i] += share[i] * t[i]
    else:
        for i in range(size):
            out[i] += t[i]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def relax_and_restrict(shape, stencil, b, x, weights, joined, coarse_shape, coarse):  # type: ignore[no-untyped-def]
    """Relax red and black blocks from zero; sum what is left over the coarse cells."""
    n_rows, n_layers, stride = shape
    size = n_layers * stride
    half = (n_rows + 2) * size
    c_stride = coarse_shape[2]
    c_half = (coarse_shape[0] + 2) * n_layers * c_stride
    red, black, of_black = x[:half], x[half : 2 * half], b[half : 2 * half]
    t, zero = np.empty(size, np.float32), np.zeros((n_rows + 2) * 0 + size, np.float32)
    coarse[: 2 * c_half] = 0.0
    along, across = joined
    for r in range(n_rows + 2):
        if r < n_rows:
            o = (r + 1) * size
            for i in range(size):
                t[i] = b[_U(o + i)]
            _solve_columns(t, red, stencil[0], stencil[2], o, n_layers, stride)
        if 0 < r <= n_rows:
            o = r * size
            _drawn_to_black(t, of_black, red, stencil, o, size, _shift(r - 1, True))
            _solve_columns(t, black, stencil[1], stencil[3], o, n_layers, stride)
        if r > 1:
            o = (r - 1) * size
            _left_red(t, black, stencil, o, size, _shift(r - 2, False))
            _restrict_row(
                t, zero, weights, o, r - 2, along, across, n_layers, stride, c_half, c_stride, coarse
            )


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _left_red(t, black, stencil, o, size, shift):  # type: ignore[no-untyped-def]
    """What black neighbours that have moved since leave in a red block."""
    here, beside = black[o : o + size], black[o + shift : o + shift + size]
    same, other = stencil[4, o : o + size], stencil[5, o : o + size]
    for i in range(size):
        t[i] = same[i] * here[i] + other[i] * beside[i]
    north, south = black[o - size : o], black[o + size : o + 2 * size]
    up, down = stencil[6, o : o + size], stencil[7, o : o + size]
    for i in range(size):
        t[i] += up[i] * north[i] + down[i] * south[i]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def prolong_and_relax(shape, stencil, b, x, weights, joined, coarse_shape, coarse):  # type: ignore[no-untyped-def]
    """Add the coarse correction; relax black blocks, then red ones; return ``b @ x``."""
    n_rows, n_layers, stride = shape
    size = n_layers * stride
    half = (n_rows + 2) * size
    c_stride = coarse_shape[2]
    c_half = (coarse_shape[0] + 2) * n_layers * c_stride
    red, black, of_black = x[:half], x[half : 2 * half], b[half : 2 * half]
    t = np.zeros(size, np.float32)
    along, across = joined
    dot = 0.0
    for r in range(n_rows + 2):
        if r < n_rows:
            o = (r + 1) * size
            _correct_row(red, weights, o, r, along, across, n_layers, stride, c_half, c_stride, coarse, t)
        if 0 < r <= n_rows:
            o = r * size
            _drawn_to_black(t, of_black, red, stencil, o, size, _shift(r - 1, True))
            _solve_columns(t, black, stencil[1], stencil[3], o, n_layers, stride)
            dot += _product_of(of_black[o : o + size], black[o : o + size])
        if r > 1:
            o = (r - 1) * size
            _drawn_to_red(t, b, black, stencil, o, size, _shift(r - 2, False))
            _solve_columns(t, red, stencil[0], stencil[2], o, n_layers, stride)
            dot += _product_of(b[o : o + size], red[o : o + size])
    return dot


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def relax_both_ways(shape, stencil, b, x, times):  # type: ignore[no-untyped-def]
    """Relax red, black and red again from zero, some times over; return ``b @ x``."""
    n_rows, n_layers, stride = shape
    size = n_layers * stride
    half = (n_rows + 2) * size
    red, black, of_black = x[:half], x[half : 2 * half], b[half : 2 * half]
    t = np.empty(size, np.float32)
    x[: 2 * half] = 0.0
    for turn in range(2 * times + 1):
        for r in range(n_rows):
            o = (r + 1) * size
            if turn % 2 == 0:
                _drawn_to_red(t, b, black, stencil, o, size, _shift(r, False))
                _solve_columns(t, red, stencil[0], stencil[2], o, n_layers, stride)
            else:
                _drawn_to_black(t, of_black, red, stencil, o, size, _shift(r, True))
                _solve_columns(t, black, stencil[1], stencil[3], o, n_layers, stride)
    return _product_of(b[: 2 * half], x[: 2 * half])


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _turned(z, p, share, o, size):  # type: ignore[no-untyped-def]
    new, own = z[o : o + size], p[o : o + size]
    for i in range(size):
        own[i] = new[i] + share * own[i]


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _given_by_column(q, p, sinks, belows, o, size, stride):  # type: ignore[no-untyped-def]
    """What a block gives to sinks and to the layers above and beneath; returns the product of that with it."""
    out, own, sink = q[o : o + size], p[o : o + size], sinks[o : o + size]
    beneath, below = p[o + stride : o + stride + size], belows[o : o + size]
    energy = np.float32(0.0)
    for i in range(size):
        down = own[i] - beneath[i]
        flow, drained = below[i] * down, sink[i] * own[i]
        out[i] = drained + flow
        energy += drained * own[i] + flow * down
    over, above = p[o - stride : o - stride + size], belows[o - stride : o - stride + size]
    for i in range(size):
        out[i] += above[i] * (own[i] - over[i])
    return energy


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _given_by_red(q, red, black, stencil, o, size, shift):  # type: ignore[no-untyped-def]
    """What a red block gives to its neighbours; returns the product with the differences, each coupling once."""
    out, own, here, beside = (
        q[o : o + size],
        red[o : o + size],
        black[o : o + size],
        black[o + shift : o + shift + size],
    )
    same, other = stencil[4, o : o + size], stencil[5, o : o + size]
    energy = np.float32(0.0)
    for i in range(size):
        one, two = own[i] - here[i], own[i] - beside[i]
        first, second = same[i] * one, other[i] * two
        out[i] += first + second
        energy += first * one + second * two
    north, south = black[o - size : o], black[o + size : o + 2 * size]
    up, down = stencil[6, o : o + size], stencil[7, o : o + size]
    for i in range(size):
        one, two = own[i] - north[i], own[i] - south[i]
        first, second = up[i] * one, down[i] * two
        out[i] += first + second
        energy += first * one + second * two
    return energy


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _given_by_black(q, black, red, stencil, o, size, shift):  # type: ignore[no-untyped-def]
    """What a black block gives to its neighbours."""
    a = o + shift
    out, own, here, beside = q[o : o + size], black[o : o + size], red[o : o + size], red[a : a + size]
    same, other = stencil[4, o : o + size], stencil[5, a : a + size]
    for i in range(size - 1):  # beyond the last, which is none, the next row begins
        out[i] += same[i] * (own[i] - here[i]) + other[i] * (own[i] - beside[i])
    north, south = red[o - size : o], red[o + size : o + 2 * size]
    up, down = stencil[7, o - size : o], stencil[6, o + size : o + 2 * size]
    for i in range(size):
        out[i] += up[i] * (own[i] - north[i]) + down[i] * (own[i] - south[i])


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def direct_and_multiply(shape, stencil, sinks, z, p, share, q):  # type: ignore[no-untyped-def]
    """``p = z + share p`` and ``q = A p``, as differences; returns ``p @ q``, as a sum of squares."""
    n_rows, n_layers, stride = shape
    size = n_layers * stride
    half = (n_rows + 2) * size
    red, black, q_red, q_black = p[:half], p[half : 2 * half], q[:half], q[half : 2 * half]
    z_black = z[half : 2 * half]
    share = np.float32(share)
    dot = 0.0
    for r in range(n_rows + 1):
        if r < n_rows:
            _turned(z, red, share, (r + 1) * size, size)
            _turned(z_black, black, share, (r + 1) * size, size)
        if r > 0:
            o = r * size
            dot += _given_by_column(q_red, red, sinks[0], stencil[2], o, size, stride)
            dot += _given_by_column(q_black, black, sinks[1], stencil[3], o, size, stride)
            dot += _given_by_red(q_red, red, black, stencil, o, size, _shift(r - 1, False))
            _given_by_black(q_black, black, red, stencil, o, size, _shift(r - 1, True))
    return dot


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def _given_by_own(q, p, other, own, colour, half, o, size, stride, shift):  # type: ignore[no-untyped-def]
    """What a block gives by its own couplings, which need not be those of its neighbours."""
    a = colour * half + o
    out, here = q[o : o + size], p[o : o + size]
    sink, beneath, below = own[0, a : a + size], own[1, a : a + size], p[o + stride : o + stride + size]
    for i in range(size):
        out[i] = sink[i] * here[i] + beneath[i] * (here[i] - below[i])
    over, above = own[2, a : a + size], p[o - stride : o - stride + size]
    same, first = own[3, a : a + size], other[o : o + size]
    for i in range(size):
        out[i] += over[i] * (here[i] - above[i]) + same[i] * (here[i] - first[i])
    beside, second = own[4, a : a + size], other[o + shift : o + shift + size]
    for i in range(size):
        out[i] += beside[i] * (here[i] - second[i])
    up, north, down, south = (
        own[5, a : a + size],
        other[o - size : o],
        own[6, a : a + size],
        other[o + size : o + 2 * size],
    )
    for i in range(size):
        out[i] += up[i] * (here[i] - north[i]) + down[i] * (here[i] - south[i])


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def multiply_own(shape, own, p, q):  # type: ignore[no-untyped-def]
    """``q = A p`` for couplings that need not act both ways."""
    n_rows, n_layers, stride = shape
    size = n_layers * stride
    half = (n_rows + 2) * size
    red, black, q_red, q_black = p[:half], p[half : 2 * half], q[:half], q[half : 2 * half]
    for r in range(n_rows):
        o = (r + 1) * size
        _given_by_own(q_red, red, black, own, 0, half, o, size, stride, _shift(r, False))
        _given_by_own(q_black, black, red, own, 1, half, o, size, stride, _shift(r, True))
