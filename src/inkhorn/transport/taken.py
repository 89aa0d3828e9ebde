"""Concentrations of the water that features take, as it comes out of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.model import Model
from inkhorn.transport.passing import Passing

__all__ = ["Taken"]

Array = NDArray[np.float64]


class Taken:
    """What wells, collectors, drains and other features take: the mix of the water of their cells.

    Parameters
    ----------
    model : Model
        Whose features.
    passing : Passing
        What they take now.
    """

    def __init__(self, model: Model, passing: Passing) -> None:
        from scipy.sparse import csr_array, diags_array, vstack

        names, rows, self.added = [], [], []
        n = model.grid.n_cells
        mixed = {}
        for mix in passing.mixes:
            term = model.terms[mix.term]
            mixed[term.kind, term.feature_names[mix.feature]] = mix
        for (_, name), mix in mixed.items():
            names.append(name)
            whole = mix.total
            places = (np.zeros(len(mix.takes), np.int64), mix.takes)
            rows.append(
                csr_array((mix.taken / whole if whole > 0.0 else np.nan * mix.taken, places), shape=(1, n))
            )
            self.added.append(mix.added / whole if whole > 0.0 else np.nan)
        others = [k for k, key in enumerate(passing.takers) if key not in mixed]
        if others:
            amount = np.asarray(passing.taking[others].sum(axis=1)).ravel()
            some = [k for k, a in zip(others, amount.tolist(), strict=True) if a > 0.0]
            if some:
                rows.append((diags_array(1.0 / amount[amount > 0.0]) @ passing.taking[some]).tocsr())
                names += [passing.takers[k][1] for k in some]
                self.added += [0.0] * len(some)
        self.names: list[str] = names
        self.rows: Any = vstack(rows).tocsr() if rows else csr_array((0, n))

    def of(self, c: Array, brings: dict[tuple[str, str], float]) -> Array:
        """Return the concentration in the water of each feature of `names` [g/m³], NaN where it takes none.

        Parameters
        ----------
        c : ndarray of float, (n_cells,)
            In the aquifer [g/m³].
        brings : dict of float
            In water that is added, by kind and feature [g/m³].
        """
        mixed = np.asarray(self.rows @ c)
        if any(self.added):
            known = {name: value for (_, name), value in brings.items()}
            mixed = mixed + [
                a * known.get(n, 0.0) if a else 0.0 for n, a in zip(self.names, self.added, strict=True)
            ]
        return mixed
