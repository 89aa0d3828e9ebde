"""The water that cells store, as a function of their heads alone: its change is a difference, so that none is lost."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model import Model, WaterTable, filled
from inkhorn.space import Cells

__all__ = ["Storage"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Storage:
    """What cells store.

    Attributes
    ----------
    drains : ndarray of float, (n_cells,)
        Water that drains from a full cell [m³].
    elastic : ndarray of float, (n_cells,)
        Water stored by pressure per head while it is full [m²].
    """

    cells: Cells
    law: WaterTable
    drains: Array
    elastic: Array

    @classmethod
    def of(cls, model: Model) -> Storage:
        """Return that of a model.

        Raises
        ------
        InputError
            If it lacks a storage property.
        """
        cells, law = model.grid.cells, model.water_table
        needed = ["specific_storage"] if law.confined else ["specific_storage", "specific_yield"]
        missing = [name for name in needed if getattr(model, name) is None]
        if missing:
            raise InputError(
                f"transient flow needs {' and '.join(missing)}. Give them for every material (or to Model)."
            )
        volume = cells.volume
        drains = np.zeros(len(volume)) if law.confined else model.specific_yield * volume
        return cls(cells, law, drains, model.specific_storage * volume)

    def filled(self, heads: Array) -> tuple[Array, Array, Array]:
        """Return the filled share of each cell, its slope by head, and its integral over the height."""
        return filled(heads, self.cells.bottom, self.cells.top, self.law)

    def stored(self, heads: Array) -> Array:
        """Return the water stored in each cell, what drains and what is stored by pressure, (2, n_cells) [m³]."""
        share, _, integral = self.filled(heads)
        return np.stack([self.drains * share, self._elastic_height * integral])

    def change(
        self, share: Array, slope: Array, integral: Array, before: Array, length: float
    ) -> tuple[Array, Array]:
        """Return the water taken into storage over a step, and its slope by head [m³/day], [m²/day].

        Parameters
        ----------
        share, slope, integral : ndarray of float, (n_cells,)
            As of `filled`, at the step's end.
        before : ndarray of float, (n_cells,)
            Stored at its start [m³].
        length : float
            Of the step [day].
        """
        from inkhorn.flow import _kernels

        change, by_head = np.empty_like(before), np.empty_like(before)
        laws = (self.drains, self.elastic, self._elastic_height, share, slope, integral)
        _kernels.change_of_storage(*laws, before, length, change, by_head)
        return change, by_head

    @cached_property
    def _elastic_height(self) -> Array:
        return self.elastic * self.cells.thickness

    def slopes(self, heads: Array) -> tuple[Array, Array, Array]:
        """Return the derivatives of the water stored by head [m²], specific yield [m³] and specific storage [m⁴]."""
        share, slope, integral = self.filled(heads)
        volume = self.cells.volume
        yields = np.zeros(len(heads)) if self.law.confined else volume * share
        return self.drains * slope + self.elastic * share, yields, volume * self.cells.thickness * integral
