"""Properties of cells from what layers are made of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.placing.site_inputs import SiteInputs
from inkhorn.model.placing.traced import Traced, where
from inkhorn.site import Material, Property, Site, properties
from inkhorn.space import Grid

__all__ = ["MaterialArray", "material_arrays"]

Index = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class MaterialArray:
    """A property of cells as it follows from materials; worked out for the cells that are asked for.

    Attributes
    ----------
    made : Property
        Which.
    materials : tuple of Material
        Of every layer.
    number : mapping of (str, int) to int
        Of each field of each layer's material among the site's inputs.
    made_of : ndarray of int, (n_cells,)
        The layer whose material each cell is made of.
    thickness : ndarray of float, (n_cells,)
        [m].
    others : mapping of str to MaterialArray
        Properties made before.
    """

    made: Property
    materials: tuple[Material, ...]
    number: Mapping[tuple[str, int], int]
    made_of: Index
    thickness: NDArray[np.float64]
    others: Mapping[str, MaterialArray]

    def __len__(self) -> int:
        return len(self.made_of)

    @property
    def values(self) -> NDArray[np.float64]:
        """Of all cells; NaN where the material says nothing."""
        return self._made(None, traced=False).values

    def __getitem__(self, cells: Any) -> Traced:
        return self._made(cells, traced=True)

    def _made(self, cells: Any, *, traced: bool) -> Traced:
        made_of = self.made_of if cells is None else self.made_of[cells]
        thickness = self.thickness if cells is None else self.thickness[cells]
        whole: Traced | None = None
        done = np.zeros(len(self.materials), dtype=bool)
        others = _Others(self.others, cells, traced)
        for field, follow in self.made.ways or ((self.made.name, None),):
            given = [m.value(field) for m in self.materials]
            here = np.array([v is not None for v in given]) & ~done
            if not here.any():
                continue
            done |= here
            value = np.array([np.nan if v is None else v for v in given])[made_of]
            own = Traced(value)
            if traced:
                rows = np.flatnonzero(here[made_of])
                numbers = np.array([self.number.get((field, k), -1) for k in range(len(self.materials))])
                own = Traced(value, rows, numbers[made_of[rows]], np.ones(len(rows)))
            made = own if follow is None else follow(own, thickness, others)
            whole = made if whole is None else where(here[made_of], made, whole)
        return Traced(np.full(len(made_of), np.nan)) if whole is None else whole


@dataclass(frozen=True)
class _Others(Mapping[str, Traced]):
    """Properties made before, worked out for the same cells when they are asked for."""

    arrays: Mapping[str, MaterialArray]
    cells: Any
    traced: bool

    def __getitem__(self, name: str) -> Traced:
        return self.arrays[name]._made(self.cells, traced=self.traced)

    def __iter__(self) -> Iterator[str]:
        return iter(self.arrays)

    def __len__(self) -> int:
        return len(self.arrays)


def material_arrays(site: Site, grid: Grid, inputs: SiteInputs) -> dict[str, MaterialArray]:
    """Return the properties that every layer's material states, by the names of `Model`.

    One that some layers lack is missing: nothing is filled in. But a leakance is given for some alone.

    Raises
    ------
    InputError
        If a material says nothing of its conductivity.
    """
    if site.unknown_materials:
        names = ", ".join(f'"{m.name}"' for m in site.unknown_materials)
        raise InputError(f"material {names}: there is no conductivity. Give one, or a transmissivity.")
    materials = tuple(site.materials[n] for n in grid.layer_names)
    made_of, thickness = grid.cells.material_layer, grid.cells.thickness
    found: dict[str, MaterialArray] = {}
    for name, made in properties().items():
        stated = [[m.value(f) is not None for f in made.fields] for m in materials]
        if not (any(map(any, stated)) if name == "leakance" else all(map(any, stated))):
            continue
        number = {
            (field, k): int(inputs.of(f"material {m.name}", field, m.value(field))[0])
            for k, m in enumerate(materials)
            for field in made.fields
            if m.value(field) is not None
        }
        found[name] = MaterialArray(made, materials, number, made_of, thickness, dict(found))
    return found
