"""What becomes of a particle, as numbers for the compiled loops and as words for tables."""

from __future__ import annotations

__all__ = [
    "BORE", "FLOOR", "INSIDE", "IN_PIPES", "LEFT", "LIMIT", "MANY", "OVER", "RIM", "RUNNING", "STILL", "STOPPED", "TOP",
    "TO_ROCK", "words_of",
]  # fmt: skip

RUNNING, LIMIT, TOP, FLOOR, RIM, BORE, INSIDE, STILL, STOPPED, MANY, OVER, LEFT = range(12)
IN_PIPES, TO_ROCK = 12, 13  # on its way in conduits, and out of them into the rock

_FORWARD = (
    "", "time limit", "left by the top", "left by the floor", "left by a side", "taken by a well", "taken inside",
    "stagnant", "stopped", "too many steps", "end of the run", "left by a conduit",
)  # fmt: skip
_BACKWARD = (
    "", "time limit", "entered by the top", "entered by the floor", "entered by a side", "given by a well",
    "given inside", "stagnant", "stopped", "too many steps", "start of the run", "entered by a conduit",
)  # fmt: skip


def words_of(backward: bool) -> tuple[str, ...]:
    """How each way of ending is called."""
    return _BACKWARD if backward else _FORWARD
