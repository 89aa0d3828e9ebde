"""Where concentrations are told at every step."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.model import Model, bore_cells
from inkhorn.transport.carried import Carried
from inkhorn.transport.taken import Taken

__all__ = ["Watched"]

Array = NDArray[np.float64]

_MOST = 200  # features beside wells and collectors, all of them or none


class Watched:
    """Where concentrations are told at every step: features that take water, wells and collectors first, and bores."""

    def __init__(self, model: Model) -> None:
        bores = _bores(model)
        mixing = [n for t in model.terms if t.n_extra for n in t.feature_names]
        others = [n for t in model.terms if not t.n_extra for n in t.feature_names]
        features = list(dict.fromkeys([*mixing, *(others if len(others) <= _MOST else [])]))
        self.names = tuple(dict.fromkeys([*features, *bores]))
        self.place = {n: k for k, n in enumerate(self.names)}
        self.at_bores = np.array([self.place[n] for n in bores], dtype=np.int64)
        self.cells = np.array(list(bores.values()), dtype=np.int64)
        self.known = np.empty(0, dtype=np.int64)  # of what is taken, those that are told
        self.at_known = np.empty(0, dtype=np.int64)

    def meet(self, taken: Taken) -> None:
        """Be told who takes water now."""
        self.known = np.array([k for k, n in enumerate(taken.names) if n in self.place], dtype=np.int64)
        self.at_known = np.array([self.place[taken.names[k]] for k in self.known], dtype=np.int64)

    def of(self, taken: Taken, one: Carried) -> Array:
        """Return the concentration at each place, (n,) [g/m³]; NaN where no water is taken."""
        row = np.full(len(self.names), np.nan)
        row[self.at_bores] = one.c[self.cells]
        row[self.at_known] = taken.of(one.c, one.brings)[self.known]
        if one.conduits is not None:
            for name, value in one.conduits.springs.items():
                row[self.place[name]] = value
        return row

    def within(
        self, one: Carried, begin: float, end: float, before: Array, after: Array
    ) -> list[tuple[float, Array]]:
        """Return times within a step at which concentrations at springs of conduits changed, and the rows then.

        Parameters
        ----------
        one : Carried
        begin, end : float
            Of the step [day].
        before, after : ndarray of float
            The rows at its ends: what is told of other places lies between them.
        """
        found = []
        for since, values in [] if one.conduits is None else one.conduits.curve:
            row = before + since / (end - begin) * (after - before)
            for name, value in values.items():
                row[self.place[name]] = value
            found.append((begin + since, row))
        return found


def _bores(model: Model) -> dict[str, int]:
    """The uppermost cell that each bore of the site reads."""
    bores = () if model.site is None else model.site.bores
    cells = {bore.name: bore_cells(model.grid, bore) for bore in bores}
    return {name: int(mine[0]) for name, mine in cells.items() if len(mine)}
