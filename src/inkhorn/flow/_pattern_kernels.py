"""Compiled loops that find and fill the places of the derivative of the flow balance."""

from __future__ import annotations

import numpy as np
from numba import njit

_FEW = 24  # columns of a row that are sorted by putting each in its place


@njit(cache=True)
def _sorted_once(row):  # type: ignore[no-untyped-def]
    """Sort a row of columns in its place, each once; returns how many are left."""
    n = len(row)
    if n > _FEW:
        row[:] = np.sort(row)
    else:
        for k in range(1, n):
            value, m = row[k], k
            while m > 0 and row[m - 1] > value:
                row[m] = row[m - 1]
                m -= 1
            row[m] = value
    kept = 0
    for k in range(n):
        if kept == 0 or row[k] != row[kept - 1]:
            row[kept] = row[k]
            kept += 1
    return kept


@njit(cache=True)
def pattern(indptr, indices, rows, columns, n):  # type: ignore[no-untyped-def]
    """Where rows begin, and their columns: diagonals, those of the face rows on either side, and entries besides."""
    start = np.zeros(n + 1, np.int64)
    for i in range(n):
        start[i + 1] = 1
    for f in range(len(indptr) - 1):
        begin, end = indptr[f], indptr[f + 1]
        start[indices[begin] + 1] += end - begin
        start[indices[begin + 1] + 1] += end - begin
    for e in range(len(rows)):
        start[rows[e] + 1] += 1
    for i in range(n):
        start[i + 1] += start[i]
    column, at = np.empty(start[n], np.int32), start[:-1].copy()
    for i in range(n):
        column[at[i]] = i
        at[i] += 1
    for f in range(len(indptr) - 1):
        begin, end = indptr[f], indptr[f + 1]
        for side in range(2):
            i = indices[begin + side]
            for e in range(begin, end):
                column[at[i]] = indices[e]
                at[i] += 1
    for e in range(len(rows)):
        column[at[rows[e]]] = columns[e]
        at[rows[e]] += 1
    first, count = np.zeros(n + 1, np.int32), 0
    for i in range(n):
        kept = _sorted_once(column[start[i] : start[i + 1]])
        for k in range(kept):
            column[count + k] = column[start[i] + k]
        count += kept
        first[i + 1] = count
    return first, column[:count].copy()


@njit(cache=True)
def diagonals(start, column):  # type: ignore[no-untyped-def]
    """Where the diagonal of each row stands."""
    n = len(start) - 1
    found = np.empty(n, np.int64)
    for i in range(n):
        found[i] = _place(i, i, start, column)
    return found


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
def put_diagonal(place, value, data):  # type: ignore[no-untyped-def]
    """Add to the diagonal of every row."""
    for i in range(len(place)):
        data[place[i]] += value[i]
