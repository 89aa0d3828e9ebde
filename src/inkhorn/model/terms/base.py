"""The one interface of everything that brings water in or takes it out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Any, ClassVar, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.laws import WaterTable
from inkhorn.space import Cells

__all__ = ["Contribution", "Moment", "Slope", "Term"]

HORIZONTAL = "horizontal_conductivity"


class Slope(NamedTuple):
    """Entries of a sparse derivative: ``value`` stands at (row, column); repeats add up."""

    row: NDArray[np.int64]
    column: NDArray[np.int64]
    value: NDArray[np.float64]

    @classmethod
    def none(cls) -> Slope:
        """A derivative that is zero everywhere."""
        return cls(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0))


@dataclass(frozen=True, eq=False)
class Moment:
    """What a term is told: the unknowns, the step, and its own state at the step's start.

    Attributes
    ----------
    heads : ndarray of float, (n_cells,)
        [m].
    own : ndarray of float, (n_own,)
        The term's own unknowns.
    first_own : int
        Number of the first of them among all unknowns; cells come first.
    cells : Cells
        Geometry.
    horizontal_conductivity : ndarray of float, (n_cells,)
        [m/day].
    law : WaterTable
        Laws of partly filled cells.
    start, end : float
        The step [day]; equal in a steady one.
    state : object
        Whatever the term returned at the end of the step before.
    """

    heads: NDArray[np.float64]
    own: NDArray[np.float64]
    first_own: int
    cells: Cells
    horizontal_conductivity: NDArray[np.float64]
    law: WaterTable
    start: float = 0.0
    end: float = 0.0
    state: Any = None


@dataclass(frozen=True, eq=False)
class Contribution:
    """What a term answers.

    Attributes
    ----------
    flow : ndarray of float, (n_entries,)
        Into each entry's cell, positive inwards [m³/day].
    flow_slope : Slope
        Rows are entries, columns unknowns [m²/day].
    own_residual : ndarray of float, (n_own,)
        Zero when the term's own equations hold [m³/day].
    own_slope : Slope
        Rows are own equations, columns unknowns.
    state : object
        The term's state at the step's end.
    """

    flow: NDArray[np.float64]
    flow_slope: Slope
    own_residual: NDArray[np.float64] = field(default_factory=lambda: np.empty(0))
    own_slope: Slope = field(default_factory=Slope.none)
    state: Any = None


@dataclass(frozen=True, eq=False)
class Term:
    """All features of one kind, placed on cells.

    An *entry* is one feature meeting one cell; several may share a cell and add up.

    Parameters
    ----------
    cells : ndarray of int, (n_entries,)
        The cell of each entry.
    features : tuple of str
        Names of the features.
    feature : ndarray of int, (n_entries,)
        Which of `features` each entry came from; 0 for all if not given.
    """

    cells: NDArray[np.int64]
    features: tuple[str, ...] = ("",)
    feature: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))

    kind: ClassVar[str] = "term"
    crossing: ClassVar[str] = "top"  # where the water passes: top, side, floor, screen or inside
    fixes_head: ClassVar[bool] = False  # the cell's head is given, its balance is this term's flow
    sets_level: ClassVar[bool] = False  # heads depend on a level that this term brings from outside

    def __post_init__(self) -> None:
        object.__setattr__(self, "cells", np.atleast_1d(np.asarray(self.cells, dtype=np.int64)))
        feature = np.asarray(self.feature, dtype=np.int64)
        if feature.size == 0 and len(self.features) == 1:
            feature = np.zeros(len(self.cells), dtype=np.int64)
        if feature.shape != self.cells.shape:
            raise InputError(
                f"{self.kind}: feature has {feature.size} entries; expected {len(self.cells)}, one per cell."
            )
        object.__setattr__(self, "feature", feature)

    def _spread(self, *names: str) -> None:
        """Turn attributes into arrays of one value per entry."""
        for name in names:
            values = np.asarray(getattr(self, name), dtype=np.float64)
            if values.ndim and values.shape != self.cells.shape:
                raise InputError(
                    f"{self.kind}: {name} has the shape {values.shape}; expected one number or "
                    f"({len(self.cells)},)."
                )
            object.__setattr__(self, name, np.array(np.broadcast_to(values, self.cells.shape)))

    @property
    def inputs(self) -> tuple[str, ...]:
        """Names of the arrays that the term is made of."""
        return tuple(f.name for f in fields(self) if f.name not in ("cells", "features", "feature"))

    @property
    def n_own(self) -> int:
        """Number of unknowns beyond the heads of cells."""
        return 0

    def first_guess(self, heads: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return a first guess of the term's own unknowns, (n_own,)."""
        return np.empty(0)

    def settled(self, moment: Moment) -> NDArray[np.float64]:
        """Return the term's own unknowns where the heads alone determine them, else as they are, (n_own,)."""
        return moment.own

    def evaluate(self, moment: Moment) -> Contribution:
        """Return flows, residuals and their derivatives by the unknowns."""
        raise NotImplementedError

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        """Return the derivatives by the term's inputs.

        Returns
        -------
        mapping of str to Slope
            By name of the input (an array of the term with one value per entry, or
            ``"horizontal_conductivity"`` with one per cell). Rows are the entries' flows, then the
            own residuals; columns the input's values.
        """
        return {}
