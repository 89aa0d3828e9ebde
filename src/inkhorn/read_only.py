"""Arrays that cannot be written to: what a grid or a model is made of is changed by copy."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import numpy as np

__all__ = ["freeze"]


def freeze(thing: Any) -> None:
    """Make the arrays that are fields of a dataclass read-only there; who gave them may still write to theirs.

    >>> from dataclasses import dataclass
    >>> @dataclass(frozen=True)
    ... class Pair:
    ...     values: np.ndarray
    >>> given = np.zeros(2)
    >>> pair = Pair(given)
    >>> freeze(pair)
    >>> pair.values.flags.writeable, given.flags.writeable
    (False, True)
    """
    for field in fields(thing):
        value = getattr(thing, field.name)
        if isinstance(value, np.ndarray) and value.flags.writeable:
            view = value.view()
            view.flags.writeable = False
            object.__setattr__(thing, field.name, view)
