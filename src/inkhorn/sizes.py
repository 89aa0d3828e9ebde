"""Sizes are estimated before memory and time are taken; what is beyond a limit is refused, and the limit can be raised.

A limit stands in the environment of the process, as in ``INKHORN_MAX_MEMORY=16GB``; there is one for each of `LIMITS`.
"""

from __future__ import annotations

import math
import os
import re
from typing import NamedTuple

from inkhorn.errors import InputError

__all__ = ["LIMITS", "limit", "refuse_beyond"]


class Limit(NamedTuple):
    """How much of something is taken unless a user says otherwise.

    Attributes
    ----------
    usual : float
        Where nothing is said.
    words : str
        What it is of, after a number.
    """

    usual: float
    words: str


LIMITS = {
    "memory": Limit(4e9, "of memory"),  # 1.3 million cells, placed and solved
    "steps": Limit(1e6, "steps"),
    "layers": Limit(1000.0, "layers"),
}
"""Memory in bytes; steps of a run through time or of a transport; layers of a grid, parts counted one by one."""

_IN_REACH = 1000.0  # times a limit: how to take more than that is not said
_SIZE = re.compile(r"\s*(\d+(?:\.\d*)?(?:[eE]\d+)?)\s*([kKMGT]?B)?\s*")
_BYTES = {"kB": 1e3, "KB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12, "B": 1.0, None: 1.0}


def limit(name: str) -> float:
    """Return a limit by its name in `LIMITS`: what the environment says, else the usual one.

    Raises
    ------
    InputError
        If the environment says something that is no number.

    >>> limit("layers")
    1000.0
    """
    said = os.environ.get(_variable(name))
    if said is None:
        return LIMITS[name].usual
    match = _SIZE.fullmatch(said)
    if match is None:
        example = "16GB" if name == "memory" else f"{10 * LIMITS[name].usual:g}"
        raise InputError(
            f'{_variable(name)} is "{said}"; expected a number, as in {_variable(name)}={example}.'
        )
    return float(match[1]) * _BYTES[match[2]]


def _variable(name: str) -> str:
    return f"INKHORN_MAX_{name.upper()}"


def _shown(name: str, amount: float) -> str:
    unit, size = ("", 1.0) if name != "memory" else ("GB ", 1e9) if amount >= 1e9 else ("MB ", 1e6)
    number = amount / size
    shown = f"{number:,.0f}" if 1e3 <= number < 1e7 else f"{number:.3g}"
    return f"{shown} {unit}{LIMITS[name].words}"


def refuse_beyond(name: str, amount: float, what: str, remedy: str) -> None:
    """Refuse what would take more than its limit.

    Parameters
    ----------
    name : str
        Of the limit, a key of `LIMITS`.
    amount : float
        The estimate; of memory in bytes.
    what : str
        What would take so much, to begin a message with.
    remedy : str
        How to take less.

    Raises
    ------
    InputError
        With the estimate, the limit, and how to raise it.
    """
    most = limit(name)
    if not amount <= most:
        raised = ""
        if amount <= _IN_REACH * most:
            setting = f"{_variable(name)}={_setting(name, amount)}"
            raised = f" Or, if this machine can do that, raise the limit in the environment: {setting}."
        raise InputError(
            f"{what} would take about {_shown(name, amount)}; the limit is {_shown(name, most)}. {remedy}{raised}"
        )


def _setting(name: str, amount: float) -> str:
    if name != "memory":
        return f"{math.ceil(1.1 * amount)}"
    return f"{math.ceil(1.1 * amount / 1e9)}GB"
