"""Names of anything made into names of files: safe on every system, unlike each other, of limited length."""

from __future__ import annotations

import re
from collections.abc import Container

__all__ = ["file_name"]

_MOST = 60
_RESERVED = {"con", "prn", "aux", "nul", *(f"{port}{k}" for port in ("com", "lpt") for k in range(1, 10))}


def file_name(name: str, taken: Container[str] = ()) -> str:
    """Return a name for a file or folder, without its ending.

    Letters of any script, digits, ``-`` and ``_`` stay as they are; all else becomes ``_``, so that no name leads to
    another folder. Names of more than 60 letters are cut.

    Parameters
    ----------
    name : str
        Of a layer, a grid, a request.
    taken : container of str
        Names in lower case that others have; one that is among them gets a number.
    """
    plain = re.sub(r"[^\w-]+", "_", name)[:_MOST] or "_"
    if plain.lower() in _RESERVED:
        plain += "_"
    found, number = plain, 2
    while found.lower() in taken:
        found, number = f"{plain}-{number}", number + 1
    return found
