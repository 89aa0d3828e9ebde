"""The numbers that a site states, of which arrays of a model are made."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["SiteInput", "SiteInputs"]

Index = NDArray[np.int64]


class SiteInput(NamedTuple):
    """One number that the site states, of which arrays of the model are made.

    Attributes
    ----------
    owner : str
        What states it, as in ``river brook`` or ``material sand``.
    name : str
        Which of its values.
    place : int
        Which of several along a line; 0 for one alone.
    value : float
        In metres, days and grams; 1 for what is a series, whose factor the input is.
    is_factor : bool
        Whether it is the factor of a series.
    """

    owner: str
    name: str
    place: int
    value: float
    is_factor: bool = False

    def __str__(self) -> str:
        at = f"[{self.place + 1}]" if self.place else ""
        return f"{self.owner}: {self.name}{at}{' (factor)' if self.is_factor else ''}"


class SiteInputs:
    """The numbers that a site states, in the order in which placing asked for them."""

    def __init__(self) -> None:
        self.known: list[SiteInput] = []
        self._number: dict[tuple[str, str, int], int] = {}

    def __len__(self) -> int:
        return len(self.known)

    def of(self, owner: str, name: str, values: Any, *, is_factor: bool = False) -> Index:
        """Return the numbers of some inputs, new ones if they were not asked for before."""
        found = []
        several = [float(values)] if isinstance(values, float | int) else np.atleast_1d(values).tolist()
        for k, value in enumerate(several):
            key = (owner, name, k)
            if key not in self._number:
                self._number[key] = len(self.known)
                self.known.append(SiteInput(owner, name, k, float(value), is_factor))
            found.append(self._number[key])
        return np.array(found, dtype=np.int64)
