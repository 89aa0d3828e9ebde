"""Which zone each cell lies in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.site import Site
from inkhorn.space import Grid

__all__ = ["ZoneMap", "placed_zones"]


@dataclass(frozen=True, eq=False)
class ZoneMap:
    """One division of the cells into zones.

    Attributes
    ----------
    names : tuple of str
        What the zones are called.
    number : ndarray of int, (n_cells,)
        Which of them each cell lies in, -1 for none.
    """

    names: tuple[str, ...]
    number: NDArray[np.int64] = field(repr=False)

    def mask(self, zone: str, what: str = "") -> NDArray[np.bool_]:
        """Return which cells lie in a zone, (n_cells,).

        Raises
        ------
        InputError
            If there is no such zone; `what` says who names it.
        """
        if zone not in self.names:
            raise InputError(
                f'{what or "this division"} names the zone "{zone}"; expected one of {list(self.names)}.'
                f"{did_you_mean(zone, list(self.names))}"
            )
        return self.number == self.names.index(zone)

    def regions(self) -> dict[str, NDArray[np.bool_]]:
        """Return the cells of each zone that has any, as budgets by region take them."""
        return {n: self.number == k for k, n in enumerate(self.names) if (self.number == k).any()}

    def factors(self, values: NDArray[np.float64]) -> Any:
        """Return how an array over the cells follows from a factor of each zone, sparse, (n_cells, n_zones)."""
        from scipy.sparse import coo_array

        cells = np.flatnonzero(self.number >= 0)
        entries = (values[cells], (cells, self.number[cells]))
        return coo_array(entries, shape=(len(self.number), len(self.names))).tocsr()


def placed_zones(site: Site, grid: Grid) -> Mapping[str, ZoneMap]:
    """Return every division of the cells: by what they are made of, by layer, and those of the site."""
    cells = grid.cells
    materials = [site.materials[n].name for n in grid.layer_names]
    known = tuple(dict.fromkeys(materials))
    of_layer = np.array([known.index(m) for m in materials])
    found = {
        "material": ZoneMap(known, of_layer[cells.material_layer]),
        "layer": ZoneMap(grid.layer_names, cells.layer),
    }
    for name, zones in site.zones.items():
        number = zones.at(cells.x, cells.y)
        if zones.layers:
            rows = [k for n in zones.layers for k in grid.layers_named(n, f'the zones "{name}"')]
            number = np.where(np.isin(cells.layer, rows), number, -1)
        found[name] = ZoneMap(zones.distinct, number)
    return found
