"""Work on faces shared between two threads, with the same answer by one."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.threads import processors, worth_sharing

__all__ = ["Halves", "in_halves"]

Array = NDArray[np.float64]

_SHARED = 120_000  # faces from which on two threads share them
Halves = tuple[tuple[tuple[int, int], tuple[int, int]], tuple[tuple[int, int], tuple[int, int]]]


@cache
def _second() -> ThreadPoolExecutor:
    """The other thread, made once."""
    return ThreadPoolExecutor(1)


def in_halves(work: Callable[[Any, Array], float], halves: Halves, residual: Array) -> float:
    """Do both halves of some work that adds to residuals, in two threads where that is worth it; returns the sum."""
    first, second = halves
    faces = second[1][1]
    if faces < _SHARED:
        return work(first, residual) + work(second, residual)
    other = np.zeros_like(residual)  # by itself whether in a thread or not: the answer is the same
    if processors() > 1 and worth_sharing(faces):
        later = _second().submit(work, second, other)
        absolute = work(first, residual) + later.result()
    else:
        absolute = work(first, residual) + work(second, other)
    residual += other
    return absolute
