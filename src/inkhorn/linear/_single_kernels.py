"""Compiled loops over vectors in single precision."""

from __future__ import annotations

import numpy as np
from numba import njit

# Sums may be taken in any order; nothing else about floating point is loosened.
_LOOSE = {"reassoc", "contract", "nsz"}


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def advance(x, r, p, q, step):  # type: ignore[no-untyped-def]
    """Step along p, in double precision; return the squares and the absolute values of the residual, summed."""
    squares, absolute = 0.0, 0.0
    by_product = np.float32(step)
    n, block = len(x), 1024
    for begin in range(0, n, block):
        end = min(begin + block, n)
        there, left, along, by = x[begin:end], r[begin:end], p[begin:end], q[begin:end]
        s, a = np.float32(0.0), np.float32(0.0)
        for i in range(end - begin):
            there[i] += step * np.float64(along[i])
            rest = left[i] - by_product * by[i]
            left[i] = rest
            s += rest * rest
            a += abs(rest)
        squares += s
        absolute += a
    return squares, absolute


@njit(cache=True, nogil=True)
def add_others(row, column, value, drained, drain, p, q):  # type: ignore[no-untyped-def]
    """Add what single entries bring to ``q = A p``, as differences; returns the product of that with p."""
    dot = 0.0
    for e in range(len(row)):
        i = row[e]
        given = value[e] * (p[column[e]] - p[i])
        q[i] += given
        dot += given * p[i]
    for e in range(len(drained)):
        i = drained[e]
        given = drain[e] * p[i]
        q[i] += given
        dot += given * p[i]
    return dot


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def products(vectors, count, w, out):  # type: ignore[no-untyped-def]
    """Products of the first so many vectors with another."""
    n, block = len(w), 4096
    out[:count] = 0.0
    for begin in range(0, n, block):
        end = min(begin + block, n)
        other = w[begin:end]
        for m in range(count):
            one, total = vectors[m, begin:end], np.float32(0.0)
            for i in range(end - begin):
                total += one[i] * other[i]
            out[m] += total


@njit(cache=True, nogil=True, fastmath=_LOOSE)
def combine(vectors, count, factors, w):  # type: ignore[no-untyped-def]
    """Add so many vectors, each by its factor, to another; returns its squares, summed."""
    n, block, squares = len(w), 4096, 0.0
    for begin in range(0, n, block):
        end = min(begin + block, n)
        to = w[begin:end]
        for m in range(count):
            one, factor = vectors[m, begin:end], np.float32(factors[m])
            for i in range(end - begin):
                to[i] += factor * one[i]
        total = np.float32(0.0)
        for i in range(end - begin):
            total += to[i] * to[i]
        squares += total
    return squares


@njit(cache=True, nogil=True)
def scale(w, by, out):  # type: ignore[no-untyped-def]
    """Write a vector times a factor."""
    by = np.float32(by)
    for i in range(len(w)):
        out[i] = by * w[i]
