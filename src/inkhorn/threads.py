"""Whether compiled loops share their work among threads."""

from __future__ import annotations

import os

__all__ = ["processors", "worth_sharing"]

_ENOUGH = 40_000  # items of a loop, below which a second thread gains nothing
_BORN = os.getpid()
# threads that wait in a loop take the processor from each other, where several processes run: up to fifty times slower
os.environ.setdefault("OMP_WAIT_POLICY", "PASSIVE")


def processors() -> int:
    """How many processors this process may use; what the environment sets for compiled loops holds here too."""
    return min(
        int(os.environ.get("NUMBA_NUM_THREADS", 2**20)),
        len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1,
    )


def worth_sharing(count: int) -> bool:
    """Whether loops over so many items are worth several threads; never in a process that was forked.

    Threads of the process that it was forked from are not there, and would be waited for.
    """
    return count >= _ENOUGH and os.getpid() == _BORN
