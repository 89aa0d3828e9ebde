"""Water that mixes in wells and collectors: what they take from several cells they give back as one."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow import FlowStep
from inkhorn.model import Model
from inkhorn.model.terms import ConduitTerm

__all__ = ["Mix", "mixes_of", "passed_on"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_NOTHING = 1e-12  # m³/day


class Mix(NamedTuple):
    """The water in one well or collector.

    Attributes
    ----------
    term, feature : int
        Whose it is.
    takes, gives : ndarray of int
        Cells that water comes from, and that it goes to.
    taken, given : ndarray of float
        How much [m³/day].
    added, removed : float
        From outside, and to there [m³/day].
    """

    term: int
    feature: int
    takes: Index
    gives: Index
    taken: Array
    given: Array
    added: float
    removed: float

    @property
    def total(self) -> float:
        """All that comes into it [m³/day]."""
        return float(self.taken.sum()) + self.added

    def of(self, concentration: Array, added: float = 0.0) -> Any:
        """Return the concentration of the mix [g/m³].

        Parameters
        ----------
        concentration : ndarray of float, (..., n_cells)
            In the aquifer [g/m³].
        added : float
            In what is added [g/m³].
        """
        return (concentration[..., self.takes] @ self.taken + self.added * added) / max(self.total, _NOTHING)


def mixes_of(model: Model, step: FlowStep) -> Iterator[Mix]:
    """Yield the mix of each feature that holds water of its own, as wells and collectors do."""
    for t, (term, flow, outside) in enumerate(zip(model.terms, step.term_flow, step.outside, strict=True)):
        if not term.n_extra or isinstance(term, ConduitTerm):  # these hold what is in them on its way
            continue
        whose = term.extra_feature
        for k in range(len(term.feature_names)):
            mine = np.flatnonzero(term.feature_index == k)
            takes, gives = mine[flow[mine] < 0.0], mine[flow[mine] > 0.0]
            water = np.asarray(outside)[:, whose == k].sum(axis=0) if len(outside) else np.zeros(1)
            yield Mix(
                t, k, term.cells[takes], term.cells[gives], -flow[takes], flow[gives],
                float(np.maximum(water, 0.0).sum()), float(np.maximum(-water, 0.0).sum()),
            )  # fmt: skip


def passed_on(model: Model, step: FlowStep) -> Any:
    """Return what wells carry from cells to cells, (n_cells, n_cells) [m³/day]: rows get it, columns lose it."""
    from scipy.sparse import coo_array

    rows, columns, values = [np.empty(0, np.int64)], [np.empty(0, np.int64)], [np.empty(0)]
    for mix in mixes_of(model, step):
        if len(mix.takes) and len(mix.gives) and mix.total > _NOTHING:
            rows.append(np.repeat(mix.gives, len(mix.takes)))
            columns.append(np.tile(mix.takes, len(mix.gives)))
            values.append(np.outer(mix.given, mix.taken).ravel() / mix.total)
    n = model.grid.n_cells
    return coo_array(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=(n, n)
    ).tocsr()
