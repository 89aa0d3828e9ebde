"""The model: a site placed on a grid, as plain arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.model.laws import WaterTable
from inkhorn.model.terms import HORIZONTAL, Term
from inkhorn.site import Schedule, Site
from inkhorn.space import FaceRows, Grid, flow_rows

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["PROPERTIES", "Model"]

PROPERTIES = {  # of cells, with their units
    HORIZONTAL: "m/day",
    "vertical_conductivity": "m/day",
    "porosity": "",
    "specific_storage": "1/m",
    "specific_yield": "",
    "bulk_density": "g/m³",
    "anisotropy": "",
    "direction": "degrees",
}


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
    specific_storage : array_like of float, optional
        Water given per volume and metre of head while the cell stays full [1/m]; for transient flow.
    specific_yield : array_like of float, optional
        Share of the volume that drains; for transient flow with a water table.
    bulk_density : array_like of float, optional
        Of the dry ground [g/m³]; for sorption.
    anisotropy : array_like of float
        Horizontal conductivity along `direction` over that at right angles to it.
    direction : array_like of float
        Of the greatest horizontal conductivity, anticlockwise from the x axis [degrees].
    leakance : array_like of float, optional
        Flow through the floor of a cell per area and head difference [1/day], instead of what follows from
        the vertical conductivities; NaN where these hold.
    face_resistance : ndarray of float, (n_faces,), optional
        Of barriers in the faces: thickness over conductivity [day].
    terms : sequence of Term
        What brings water in or takes it out.
    water_table : WaterTable
        Laws of partly filled cells.
    inflow_concentration : mapping of str to mapping of str to float
        Species, then feature: concentration of the water that feature brings in [g/m³].
    schedule : Schedule, optional
        Periods and steps; without one, flow is steady.
    changes : mapping of str to ndarray of float, (n_periods, n)
        Inputs that change in time, by the names of `with_inputs`: their values in each period.
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
    specific_storage: Any = None
    specific_yield: Any = None
    bulk_density: Any = None
    anisotropy: Any = 1.0
    direction: Any = 0.0
    leakance: Any = None
    face_resistance: Any = None
    terms: Sequence[Term] = ()
    water_table: WaterTable = field(default_factory=WaterTable)
    inflow_concentration: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    schedule: Schedule | None = None
    changes: Mapping[str, NDArray[np.float64]] = field(default_factory=dict, repr=False)
    placed: pd.DataFrame | None = field(default=None, repr=False)
    site: Site | None = field(default=None, repr=False)
    name: str = "model"

    def __post_init__(self) -> None:
        grid = self.grid
        if self.vertical_conductivity is None:
            object.__setattr__(self, "vertical_conductivity", self.horizontal_conductivity)
        for name, unit in PROPERTIES.items():
            values = getattr(self, name)
            if values is not None:
                spread = grid.per_cell(name, values)
                if name != "direction":
                    check_positive(name, spread, unit=unit, remedy="Give every cell a value above 0.")
                object.__setattr__(self, name, spread)
        for name in ("porosity", "specific_yield"):
            values = getattr(self, name)
            if values is not None and values.max() > 1.0:
                raise InputError(
                    f"{name} is {values.max():g} in cell {values.argmax()}; expected a share up to 1."
                )
        self._check_faces()
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

        for name, values in self.changes.items():
            shape = (0 if self.schedule is None else len(self.schedule), self.input(name).shape[-1])
            if np.shape(values) != shape:
                raise InputError(
                    f"changes of {name} have the shape {np.shape(values)}; expected {shape}, one row per period of the "
                    "schedule."
                )

    def at_period(self, period: int) -> Model:
        """Return the model as it is in one period of its schedule, nothing changing any more."""
        steady: Model = replace(self, schedule=None, changes={})
        return steady.with_inputs({name: values[period] for name, values in self.changes.items()})

    def with_changes(self, values: Mapping[str, NDArray[np.float64]]) -> Model:
        """Return a copy with inputs replaced, (n,), or in time, (n_periods, n)."""
        still = {k: v for k, v in values.items() if np.ndim(v) == 1}
        moving = {k: v for k, v in values.items() if np.ndim(v) == 2}
        changes = {k: v for k, v in self.changes.items() if k not in still} | moving
        first = still | {k: v[0] for k, v in moving.items()}
        return replace(self.with_inputs(first), changes=changes)

    def _check_faces(self) -> None:
        if self.leakance is not None:
            given = np.asarray(self.leakance, dtype=np.float64)
            here = np.isfinite(given)
            spread = self.grid.per_cell("leakance", np.where(here, given, -1.0))
            object.__setattr__(self, "leakance", np.where(spread < 0, np.nan, spread))
        if self.face_resistance is not None:
            values = check_nonnegative("face_resistance", self.face_resistance, unit="day")
            if values.shape != (len(self.grid.faces),):
                raise InputError(
                    f"face_resistance has the shape {values.shape}; expected ({len(self.grid.faces)},), one per face."
                )
            object.__setattr__(self, "face_resistance", values)

    def face_rows(self) -> FaceRows:
        """Return the flow across each face when all is saturated, as rows over the heads."""
        return flow_rows(
            self.grid,
            self.horizontal_conductivity,
            self.vertical_conductivity,
            anisotropy=self.anisotropy,
            direction=self.direction,
            resistance=self.face_resistance,
            leakance=self.leakance,
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
        values = getattr(self, name)
        if values is None:
            raise InputError(f"the model has no {name}. Give one for every cell first.")
        return np.asarray(values)
