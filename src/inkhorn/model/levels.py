"""Where something fixes the level of the water."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.model import Model
from inkhorn.model.terms import Moment, Term

__all__ = ["levelless_cells"]

_FAR = 1e3  # m beyond the aquifer, where all that answers to the head has answered


def levelless_cells(model: Model) -> list[NDArray[np.int64]]:
    """Return the groups of connected cells in which nothing fixes the level of the water.

    Cells are connected through faces, and through the unknowns of terms, as along a well or a network. Plants, too, fix
    it where they can draw all that comes in.
    """
    from inkhorn.model import _kernels

    n = model.grid.n_cells
    pairs, held, first = [model.grid.faces.cells], [np.empty(0, np.int64)], n
    for term in model.terms:
        through = term.node >= 0
        pairs.append(np.column_stack([term.cells[through], first + term.node[through]]))
        pairs.append(first + term.links)
        held += [term.cells[term.sets_level], first + np.flatnonzero(term.extra_sets_level)]
        first += term.n_extra
    group = np.arange(first)
    for some in pairs:
        _kernels.join(some, group)
    _kernels.lead(group)
    has_level = np.zeros(first, dtype=bool)
    has_level[group[np.concatenate(held)]] = True
    loose = np.unique(group[:n][~has_level[group[:n]]])
    without = [np.flatnonzero(group[:n] == g) for g in loose]
    if not without:
        return []
    low, high = (_gains(model, level) for level in (-_FAR, _FAR))
    return [cells for cells in without if not (low[cells].sum() > 0.0 > high[cells].sum())]


def _gains(model: Model, level: float) -> NDArray[np.float64]:
    """What terms bring to each cell where all heads stand so far above or below the aquifer, (n_cells,) [m³/day]."""
    cells, gains = model.grid.cells, np.zeros(model.grid.n_cells)
    heads = np.full(len(cells), (cells.top.max() if level > 0.0 else cells.bottom.min()) + level)
    for term in model.terms:
        if term.holds.any() or (term.n_extra and type(term).settled is Term.settled):
            continue  # what answers by levels of its own cannot be told alone
        moment = Moment(
            heads=heads,
            extra_unknowns=term.initial_guess(heads),
            first_extra=len(cells),
            cells=cells,
            horizontal_conductivity=model.horizontal_conductivity,
            law=model.water_table,
            state=term.initial_state(heads),
        )
        there = term.evaluate(replace(moment, extra_unknowns=term.settled(moment)))
        np.add.at(gains, term.cells, there.flow)
    return gains
