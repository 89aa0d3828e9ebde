"""The model: a site placed on a grid, as plain arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_positive
from inkhorn.model.laws import WaterTable
from inkhorn.model.terms import HORIZONTAL, Term
from inkhorn.site import Site
from inkhorn.space import Grid

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Model"]


@dataclass(frozen=True, eq=False)
class Model:
    """Property arrays on cells, and the terms.

    Properties may be given as one number, one per layer, or an array as `Grid.per_cell` takes it.

    Parameters
    ----------
    grid : Grid
        Cells and faces.
    horizontal_conductivity : array_like of float
        [m/day].
    vertical_conductivity : array_like of float, optional
        [m/day]; the same as horizontal if not given.
    porosity : array_like of float, optional
        Effective porosity; needed for travel times and transport.
    terms : sequence of Term
        What brings water in or takes it out.
    water_table : WaterTable
        Laws of partly filled cells.
    inflow_concentration : mapping of str to mapping of str to float
        Species, then feature: concentration of the water that feature brings in [g/m³].
    placed : pandas.DataFrame, optional
        What landed where.
    site : Site, optional
        The site that was placed.

    Examples
    --------
    >>> from inkhorn.space import rectangles, layered
    >>> Model(layered(rectangles((0, 0, 300, 100), cell=100), [0.0, -20.0]), 5.0)
    Model(3 cells, no terms)
    """

    grid: Grid
    horizontal_conductivity: Any
    vertical_conductivity: Any = None
    porosity: Any = None
    terms: Sequence[Term] = ()
    water_table: WaterTable = field(default_factory=WaterTable)
    inflow_concentration: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    placed: pd.DataFrame | None = field(default=None, repr=False)
    site: Site | None = field(default=None, repr=False)
    name: str = "model"

    def __post_init__(self) -> None:
        grid = self.grid
        if self.vertical_conductivity is None:
            object.__setattr__(self, "vertical_conductivity", self.horizontal_conductivity)
        for name in (HORIZONTAL, "vertical_conductivity", "porosity"):
            values = getattr(self, name)
            if values is not None:
                spread = check_positive(name, grid.per_cell(name, values), remedy="Give every cell a value.")
                object.__setattr__(self, name, spread)
        object.__setattr__(self, "terms", tuple(self.terms))
        kinds = [t.kind for t in self.terms]
        if len(set(kinds)) < len(kinds):
            raise InputError(f"terms of one kind come in one object; got {kinds}. Join them.")
        for term in self.terms:
            outside = np.flatnonzero((term.cells < 0) | (term.cells >= grid.n_cells))
            if len(outside):
                raise InputError(
                    f"{term.kind}: cells[{outside[0]}] is {term.cells[outside[0]]}; expected 0 to "
                    f"{grid.n_cells - 1}. Use grid.mesh.locate and grid.number to find cells."
                )

    def __repr__(self) -> str:
        said = ", ".join(f"{len(t.cells)} × {t.kind}" for t in self.terms)
        return f"Model({self.grid.n_cells} cells, {said or 'no terms'})"

    def term(self, kind: str) -> Term:
        """Return the term of a kind, such as ``"well"``."""
        for term in self.terms:
            if term.kind == kind:
                return term
        raise InputError(f"the model has no {kind}; it has {[t.kind for t in self.terms]}.")

    def with_inputs(self, inputs: Mapping[str, NDArray[np.float64]]) -> Model:
        """Return a copy with some input arrays replaced.

        Parameters
        ----------
        inputs : mapping of str to ndarray
            By name: ``"horizontal_conductivity"``, ``"vertical_conductivity"``, ``"porosity"``, or a
            term's kind and input as in ``"recharge.rate"``.
        """
        own: dict[str, Any] = {k: v for k, v in inputs.items() if "." not in k}
        terms = []
        for term in self.terms:
            changed: dict[str, Any] = {
                k.split(".", 1)[1]: v for k, v in inputs.items() if k.startswith(term.kind + ".")
            }
            terms.append(replace(term, **changed) if changed else term)
        return replace(self, **own, terms=tuple(terms))

    def input(self, name: str) -> NDArray[np.float64]:
        """Return an input array by the names of `with_inputs`."""
        if "." in name:
            kind, attribute = name.split(".", 1)
            return np.asarray(getattr(self.term(kind), attribute))
        return np.asarray(getattr(self, name))
