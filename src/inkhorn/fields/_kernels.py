"""Compiled loops of random fields."""

from __future__ import annotations

from typing import Any

from numba import njit

__all__ = ["after_neighbours", "before_neighbours"]


@njit(cache=True)
def after_neighbours(white: Any, first: Any, neighbour: Any, weight: Any, left: Any) -> None:
    """Draw each value in turn after some drawn before: z_i = sum w z + s e, in place of e."""
    for i in range(len(white)):
        total = left[i] * white[i]
        for j in range(first[i], first[i + 1]):
            total += weight[j] * white[neighbour[j]]
        white[i] = total


@njit(cache=True)
def before_neighbours(load: Any, first: Any, neighbour: Any, weight: Any, left: Any) -> None:
    """The transpose of it, from the last to the first, in place."""
    for i in range(len(load) - 1, -1, -1):
        for j in range(first[i], first[i + 1]):
            load[neighbour[j]] += weight[j] * load[i]
        load[i] *= left[i]
