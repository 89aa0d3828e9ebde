"""Numbers of a project file that can be but seldom are, as by a slip of units."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from inkhorn.model import Finding, usual_words
from inkhorn.project.parts import Part, range_of
from inkhorn.project.places import Places

__all__ = ["unusual"]


def unusual(part: Part, places: Places, *key: Any) -> Iterator[Finding]:
    """Yield a finding for each number, in a table and those within it, that lies beyond what is usual."""
    for name, declared in type(part).model_fields.items():
        value, within = getattr(part, name), range_of(declared)
        if within is not None and within.usual is not None:
            low, high = within.usual
            numbers = [
                v
                for v in (value.values() if isinstance(value, dict) else [value])
                if isinstance(v, (int, float))
            ]
            odd = [v for v in numbers if v != 0.0 and not low <= v <= high]
            if odd:
                yield Finding(
                    "warning",
                    f"{name} is {odd[0]:g}{within.unit}; {usual_words(within.usual, within.unit)}",
                    f"{places.at((*key, name))}, {'.'.join(str(k) for k in (*key, name) if not isinstance(k, int))}",
                    "Check its unit." if within.unit else "Check it.",
                )
        several = (
            value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        )
        for at, one in [((name,), value), *(((name, k), v) for k, v in several)]:
            if isinstance(one, Part):
                yield from unusual(one, places, *key, *at)
