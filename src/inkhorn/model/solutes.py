"""What features bring to the water, or hold in it, that is no water itself: as it landed on the cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.read_only import freeze
from inkhorn.site import ReturnedWater, Series

__all__ = ["HELD", "RATE", "START", "Solute", "concentration_from", "concentration_told"]

RATE, HELD, START = "mass source", "held concentration", "starting plume"


@dataclass(frozen=True, eq=False)
class Solute:
    """A mass that comes in, a concentration that is held, or one to begin with, of one species.

    Parameters
    ----------
    kind : {"mass source", "held concentration", "starting plume"}
        Which of them.
    name : str
        Of the feature.
    species : str
        Of what.
    cells : ndarray of int, (n,)
        Where.
    share : ndarray of float, (n,)
        Of the mass what each cell gets; of a cell what a plume covers.
    value : float or Series or ndarray of float, (n,)
        The mass [g/day], or the concentration [g/m³].
    """

    kind: str
    name: str
    species: str
    cells: NDArray[np.int64]
    share: NDArray[np.float64]
    value: Any

    def __post_init__(self) -> None:
        object.__setattr__(self, "cells", np.asarray(self.cells, dtype=np.int64))
        object.__setattr__(self, "share", np.asarray(self.share, dtype=np.float64))
        if self.kind not in (RATE, HELD, START):
            raise InputError(f'kind is "{self.kind}"; expected one of {[RATE, HELD, START]}.')
        if self.cells.shape != self.share.shape:
            raise InputError(
                f'{self.kind} "{self.name}": share has the shape {self.share.shape}; expected {self.cells.shape}.'
            )
        freeze(self)

    def __repr__(self) -> str:
        return f'Solute({self.kind} "{self.name}", {self.species}, {len(self.cells)} cells)'

    def at(self, begin: float, end: float, start: np.datetime64 | None) -> Any:
        """Return the value as a mean between two days."""
        if not isinstance(self.value, Series):
            return self.value
        return float(self.value.mean(begin, end, start)[0])


def concentration_told(value: Any) -> Any:
    """Return a concentration, in time or of water taken elsewhere too, as what JSON can hold."""
    if isinstance(value, Series):
        times = value.times.astype(str) if value.by_date else value.times
        return {"times": times.tolist(), "values": value.values[:, 0].tolist(), "name": value.name}
    if isinstance(value, ReturnedWater):
        return vars(value)
    return value if np.ndim(value) == 0 else np.asarray(value).tolist()


def concentration_from(told: Any) -> Any:
    """Return what `concentration_told` told."""
    if not isinstance(told, dict):
        return np.array(told) if isinstance(told, list) else told
    return (
        Series(told["times"], told["values"], name=told["name"]) if "times" in told else ReturnedWater(**told)
    )
