"""How long work tells how it goes: one signature for all of it."""

from __future__ import annotations

from collections.abc import Callable

__all__ = ["Progress"]

Progress = Callable[[str, float | None], None]
"""Called with what is being done, in words, and its share from 0 to 1; None while that is not known."""
