"""What a column's header says: its name, the unit of its numbers, and from where these count."""

from __future__ import annotations

import re
from functools import cache
from typing import NamedTuple

from inkhorn.errors import InputError
from inkhorn.units import dimension_of_unit

__all__ = ["Header", "split_header"]

_IN_BRACKETS = re.compile(
    r"(?P<name>.*?)\s*(?:\[(?P<square>[^\[\]]*)\]|\((?P<round>[^()]*(?:\([^()]*\)[^()]*)*)\))"
)
_DOWN = (
    "bgl",
    "bgs",
    "btoc",
    "below ground",
    "below ground level",
    "below ground surface",
    "below top of casing",
)
_UP = ("asl", "amsl", "aod", "above sea level", "above mean sea level", "above datum")
_COUNTED = {words: "depth" for words in _DOWN} | {words: "elevation" for words in _UP}


class Header(NamedTuple):
    """A header, taken apart.

    Attributes
    ----------
    name : str
        Of the column.
    unit : str
        That stood in brackets behind it; empty if none did.
    counts : str
        ``"depth"`` where it says that numbers count from the ground down, as in ``"m bgl"``, ``"elevation"`` where they
        count upwards from the sea, as in ``"m asl"``; else empty.
    """

    name: str
    unit: str
    counts: str = ""

    @property
    def is_length(self) -> bool:
        """Whether the unit is one of length."""
        try:
            return bool(self.unit) and dimension_of_unit(self.unit) == (1, 0, 0)
        except InputError:
            return False


@cache
def split_header(header: str) -> Header:
    """Take a column's header apart; what stands in round brackets is a unit only if there is such a unit.

    >>> split_header("abstraction [m³/h]")
    Header(name='abstraction', unit='m³/h', counts='')
    >>> split_header("screen top (m bgl)")
    Header(name='screen top', unit='m', counts='depth')
    >>> split_header("base (of the sand)").name
    'base (of the sand)'
    """
    text = header.strip()
    found = _IN_BRACKETS.fullmatch(text)
    if found is None or not found["name"]:
        return Header(text, "")
    unit, counts = _counted((found["square"] or found["round"] or "").strip())
    if found["square"] is None and not _is_known(unit):
        return Header(text, "")
    return Header(found["name"], unit, counts)


def _counted(unit: str) -> tuple[str, str]:
    """A unit of length without what says from where it counts, and whether that is down or up."""
    length, _, words = unit.partition(" ")
    words = " ".join(words.replace(".", "").lower().split())
    if words not in _COUNTED and length[:1] == "m":  # written as one word
        length, words = "m", length[1:].replace(".", "").lower() + words
    return (length, _COUNTED[words]) if words in _COUNTED else (unit, "")


def _is_known(unit: str) -> bool:
    try:
        dimension_of_unit(unit)
    except InputError:
        return False
    return True
