"""Compiled loops of iterations over sparse matrices."""

from __future__ import annotations

import numpy as np
from numba import njit

# Sums may be taken in any order; nothing else about floating point is loosened.
_LOOSE = {"reassoc", "contract", "nsz"}
_U = np.uint64  # an index that is known not to count from the end


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
