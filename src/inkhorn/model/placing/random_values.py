"""Random fields as the values of edits."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean, naming
from inkhorn.fields import FieldMaker, RandomField
from inkhorn.model.placing.targets import Target
from inkhorn.model.zones import ZoneMap
from inkhorn.site import Edit
from inkhorn.space import Grid

__all__ = ["RandomValues"]

Array = NDArray[np.float64]


class RandomValues:
    """The values that an edit sets, multiplies with or adds, drawn from a random field.

    Measured points are values of what is changed, whatever is done with the field: a factor is what makes them of what
    was there.

    Parameters
    ----------
    edit : Edit
    field : RandomField
    target : Target
        What it changes, as it is before.
    chosen : ndarray of bool, (n,)
        Where.
    grid : Grid
    zones : mapping of str to ZoneMap
        Divisions that the field may be apart by.

    Attributes
    ----------
    maker : FieldMaker
    cells : ndarray of int, (n_chosen,)
        Of the grid, where the field is.
    """

    def __init__(
        self, edit: Edit, field: RandomField, target: Target, chosen: NDArray[np.bool_], grid: Grid,
        zones: Mapping[str, ZoneMap],
    ) -> None:  # fmt: skip
        self.edit, self.chosen, self.n = edit, chosen, len(target.cells)
        self.cells, self.place = np.unique(target.cells[chosen], return_inverse=True)
        self.base: Array | None = None
        values = target.values.values
        if field.measured is not None and edit.how != "set":
            if values.ndim > 1 or len(self.cells) != int(chosen.sum()):
                raise InputError(
                    f"{edit.where}: points were measured, and there is more than one value in a cell or in time that "
                    'they could be of. Leave them out, or set values (how = "set").'
                )
            if (edit.how == "factor") != field.logarithmic:
                raise InputError(
                    f"{edit.where}: points were measured; a factor is a field of logarithms, and what is added is not. "
                    "Change one of both."
                )
            self.base = np.empty(len(self.cells))
            self.base[self.place] = values[chosen]
        number = None
        if field.apart_by is not None:
            if field.apart_by not in zones:
                raise InputError(
                    f'{edit.where}: the field is apart by "{field.apart_by}"; expected one of {list(zones)}.'
                    f"{did_you_mean(field.apart_by, list(zones))}"
                )
            number = zones[field.apart_by].number
        if edit.how == "set" and field.mean is None and field.measured is None:
            raise InputError(f"{edit.where}: the field sets values, and has no mean. Give one.")
        with naming(edit.where):
            self.maker = FieldMaker(grid, field, self.cells, base=self.base, zones=number)

    def at(self, seed: int | np.random.SeedSequence) -> Array:
        """Return the values of the edit for one field, 1 where it changes nothing, (n,)."""
        return self.of_field(self.maker.draw(seed))

    def of_field(self, drawn: Array) -> Array:
        """Return the values of the edit for a field over `cells`, (n,)."""
        if self.base is not None:
            drawn = drawn / self.base if self.edit.how == "factor" else drawn - self.base
        found = np.ones(self.n)
        found[self.chosen] = drawn[self.place]
        return found
