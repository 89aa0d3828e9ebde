"""Numbers that belong to the ground: one for all, by material, layer or zone, or cell by cell."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.model import Model

__all__ = ["by_ground"]


def by_ground(model: Model, what: str, given: Any) -> NDArray[np.float64]:
    """Return what was given for each cell, (n_cells,).

    Raises
    ------
    InputError
        If a name is no material, layer or zone of the model, or something has no number.
    """
    grid = model.grid
    if not isinstance(given, Mapping):
        return grid.per_cell(what, given)
    values = np.full(grid.n_cells, np.nan)
    whole = np.array(grid.whole_names, dtype=object)
    made_of = whole if model.site is None else _materials(model)
    divisions = [
        made_of[grid.cells.material_layer], whole[grid.cells.layer], np.array(grid.layer_names, object)[grid.cells.layer],
        *(np.array([*z.names, ""], dtype=object)[z.number] for z in model.zones.values()),
    ]  # fmt: skip
    for name, number in given.items():
        here = next((d == name for d in divisions if (d == name).any()), None)
        if here is None:
            known = sorted({str(n) for d in divisions[:3] for n in np.unique(d.astype(str))})
            raise InputError(
                f'{what}: "{name}" is no material, layer or zone; expected one of {known}.{did_you_mean(name, known)}'
            )
        values[here] = number
    lacking = np.flatnonzero(~np.isfinite(values))
    if len(lacking):
        raise InputError(
            f'{what}: nothing is told of "{divisions[0][lacking[0]]}" ({len(lacking)} cells, as at '
            f"{grid.place_of(int(lacking[0]))}). Give a number for each material."
        )
    return values


def _materials(model: Model) -> NDArray[Any]:
    """The name of the material of each layer."""
    site, names = model.site, model.grid.layer_names
    known = {} if site is None else site.materials
    return np.array([known[n].name if n in known else n for n in names], dtype=object)
