"""How many threads compiled loops run on: one where there is little to do, else as many as are allowed."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["threads_for"]

_WORTH_SHARING = 40_000  # items of a loop, below which a second thread gains nothing
# threads that wait in a loop take the processor from each other, where several processes run: up to fifty times slower
os.environ.setdefault("OMP_WAIT_POLICY", "PASSIVE")


@contextmanager
def threads_for(count: int) -> Iterator[None]:
    """Run loops over so many items on as many threads as are worth while, within what `NUMBA_NUM_THREADS` allows."""
    import numba

    before = numba.get_num_threads()
    if count < _WORTH_SHARING:
        numba.set_num_threads(1)
    try:
        yield
    finally:
        numba.set_num_threads(before)
