"""Where many runs stand: all that the rest depends on, run by run in their order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from inkhorn.ensemble.maps import MapStatistics
from inkhorn.ensemble.readers import Watching
from inkhorn.ensemble.work import Made

__all__ = ["EnsembleState"]

Array = NDArray[np.float64]


@dataclass(eq=False)
class EnsembleState:
    """Runs that were taken in, from the first on without a gap.

    Attributes
    ----------
    numbers : list of ndarray of float, (n_numbers,)
        That each run had.
    values : list of ndarray of float, (n_watched,)
        That it came to; NaN where it failed.
    failed : dict of int to str
        Runs that failed, and why.
    maps : list of MapStatistics
    key : str
        Of the job that they are runs of.
    """

    numbers: list[Array] = field(repr=False, default_factory=list)
    values: list[Array] = field(repr=False, default_factory=list)
    failed: dict[int, str] = field(default_factory=dict)
    maps: list[MapStatistics] = field(repr=False, default_factory=list)
    key: str = ""

    @classmethod
    def empty(cls, watching: Watching, key: str) -> EnsembleState:
        """Return that of no run yet."""
        n = watching.model.grid.mesh.n_cells
        return cls(key=key, maps=[MapStatistics.empty(n, watching.map_limit(m)) for m in watching.maps])

    @property
    def count(self) -> int:
        """How many runs there are."""
        return len(self.values)

    def add(self, made: Made) -> None:
        """Take in the next run."""
        if made.run != self.count:
            raise ValueError(f"run {made.run} cannot follow after {self.count} runs")
        self.numbers.append(made.numbers)
        self.values.append(made.values)
        if made.reason:
            self.failed[made.run] = made.reason
            return
        for one, values in zip(self.maps, made.maps, strict=True):
            one.add(values)

    def column(self, number: int) -> Array:
        """Return one watched number of all runs that did not fail, (n,)."""
        kept = [v[number] for k, v in enumerate(self.values) if k not in self.failed]
        return np.array(kept, dtype=np.float64)


def together(values: Sequence[Array], width: int) -> Array:
    """Return rows as one array, (n, width)."""
    return np.array(values, dtype=np.float64).reshape(len(values), width)
