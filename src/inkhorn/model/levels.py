"""Where something fixes the level of the water."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.model import Model

__all__ = ["levelless_cells"]


def levelless_cells(model: Model) -> list[NDArray[np.int64]]:
    """Return the groups of connected cells in which nothing fixes the level of the water.

    Cells are connected through faces, and through the unknowns of terms, as along a well or a network.
    """
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    n = model.grid.n_cells
    pairs, held, first = [model.grid.faces.cells], [np.empty(0, np.int64)], n
    for term in model.terms:
        through = term.node >= 0
        pairs.append(np.column_stack([term.cells[through], first + term.node[through]]))
        pairs.append(first + term.links)
        held += [term.cells[term.sets_level], first + np.flatnonzero(term.own_sets_level)]
        first += term.n_own
    a, b = np.concatenate(pairs).T
    size = (first, first)
    count, group = connected_components(coo_array((np.ones(len(a)), (a, b)), shape=size), directed=False)
    has_level = np.zeros(count, dtype=bool)
    has_level[group[np.concatenate(held)]] = True
    without = [np.flatnonzero(group[:n] == g) for g in np.flatnonzero(~has_level)]
    return [cells for cells in without if len(cells)]
