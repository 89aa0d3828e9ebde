"""The model: a site placed on a grid, as plain arrays."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import KW_ONLY, dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_nonnegative, did_you_mean
from inkhorn.model.laws import WaterTable
from inkhorn.model.solutes import Solute
from inkhorn.model.terms import Term
from inkhorn.model.traces import Traces
from inkhorn.model.zones import ZoneMap
from inkhorn.read_only import freeze
from inkhorn.shown import Shown
from inkhorn.site import Schedule, Site, properties
from inkhorn.space import FaceRows, Grid, flow_rows
from inkhorn.units import KINDS

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Model"]


@dataclass(frozen=True, eq=False)
class Model(Shown):
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
    inflow_concentration : mapping of str to mapping of str to float, Series or ReturnedWater
        Species, then feature: concentration of the water that feature brings in [g/m³], in time too, or that of water
        taken elsewhere.
    solutes : sequence of Solute
        Masses that come in without water, concentrations that are held, and plumes to begin with.
    schedule : Schedule, optional
        Periods and steps; without one, flow is steady.
    inputs_in_time : mapping of str to ndarray of float, (n_periods, n)
        Inputs that change in time, by the names of `with_inputs`: their values in each period.
    placed : pandas.DataFrame, optional
        What landed where.
    site : Site, optional
        The site that was placed.
    further : mapping of str to array_like of float
        Properties that other packages declare, by name.
    zones : mapping of str to ZoneMap
        Divisions of the cells.
    traces : Traces
        How the arrays follow from what the site states; empty for a model made from arrays.

    Examples
    --------
    >>> from inkhorn.space import rectangles, layered
    >>> Model(layered(rectangles((0, 0, 300, 100), cell=100), [0.0, -20.0]), 5.0)
    Model(3 cells, no terms)
    """

    grid: Grid
    horizontal_conductivity: Any
    vertical_conductivity: Any = None
    _: KW_ONLY
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
    inflow_concentration: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    solutes: Sequence[Solute] = ()
    schedule: Schedule | None = None
    inputs_in_time: Mapping[str, NDArray[np.float64]] = field(default_factory=dict, repr=False)
    placed: pd.DataFrame | None = field(default=None, repr=False)
    site: Site | None = field(default=None, repr=False)
    name: str = "model"
    further: Mapping[str, Any] = field(default_factory=dict, repr=False)
    zones: Mapping[str, ZoneMap] = field(default_factory=dict, repr=False)
    traces: Traces = field(default_factory=Traces, repr=False)

    def __post_init__(self) -> None:
        grid = self.grid
        if self.vertical_conductivity is None:
            object.__setattr__(self, "vertical_conductivity", self.horizontal_conductivity)
        unknown = [name for name in self.further if name not in properties()]
        if unknown:
            known = list(properties())
            raise InputError(
                f'"{unknown[0]}" is no property; expected one of {known}.{did_you_mean(unknown[0], known)}'
            )
        further = {}
        for name, declared in properties().items():
            own = name in self.__dataclass_fields__
            values = getattr(self, name) if own else self.further.get(name)
            if values is None or name == "leakance":
                continue
            spread = declared.said.checked(name, grid.per_cell(name, values))
            if own:
                object.__setattr__(self, name, spread)
            else:
                further[name] = spread
        object.__setattr__(self, "further", further)
        self._check_faces()
        object.__setattr__(self, "terms", tuple(self.terms))
        object.__setattr__(self, "solutes", tuple(self.solutes))
        kinds = [t.kind for t in self.terms]
        if len(set(kinds)) < len(kinds):
            raise InputError(f"terms of one kind come in one object; got {kinds}. Join them.")
        for term in self.terms:
            for name, said in term.declared_inputs().items():
                size = np.shape(getattr(term, name))
                if said.over == "cell" and size != (grid.n_cells,):
                    raise InputError(
                        f"{term.kind}: {name} has the shape {size}; expected ({grid.n_cells},), one per cell of the grid."
                    )
            outside = np.flatnonzero((term.cells < 0) | (term.cells >= grid.n_cells))
            if len(outside):
                raise InputError(
                    f"{term.kind}: cells[{outside[0]}] is {term.cells[outside[0]]}; expected 0 to "
                    f"{grid.n_cells - 1}. Use grid.mesh.locate and grid.cell_number to find cells."
                )

        for name, values in self.inputs_in_time.items():
            shape = (0 if self.schedule is None else len(self.schedule), self.input(name).shape[-1])
            if np.shape(values) != shape:
                raise InputError(
                    f"inputs_in_time of {name} have the shape {np.shape(values)}; expected {shape}, one row per period "
                    "of the schedule."
                )
        freeze(self)

    def at_period(self, period: int) -> Model:
        """Return the model as it is in one period of its schedule, nothing changing any more."""
        steady: Model = replace(self, schedule=None, inputs_in_time={})
        return steady.with_inputs({name: values[period] for name, values in self.inputs_in_time.items()})

    def with_changes(self, values: Mapping[str, NDArray[np.float64]]) -> Model:
        """Return a copy with inputs replaced, (n,), or in time, (n_periods, n)."""
        still = {k: v for k, v in values.items() if np.ndim(v) == 1}
        moving = {k: v for k, v in values.items() if np.ndim(v) == 2}
        in_time = {k: v for k, v in self.inputs_in_time.items() if k not in still} | moving
        first = still | {k: v[0] for k, v in moving.items()}
        return replace(self.with_inputs(first), inputs_in_time=in_time)

    def _check_faces(self) -> None:
        if self.leakance is not None:
            given = np.asarray(self.leakance, dtype=np.float64)
            here = np.isfinite(given)
            spread = self.grid.per_cell("leakance", np.where(here, given, -1.0))
            low = np.flatnonzero(here & (given <= 0)) if given.ndim else np.empty(0)
            if len(low):
                raise InputError(
                    f"leakance[{low[0]}] is {given[low[0]]:g} 1/day; expected a value above 0, or NaN where the vertical "
                    "conductivities hold."
                )
            object.__setattr__(self, "leakance", np.where(spread < 0, np.nan, spread))
        if self.face_resistance is not None:
            values = check_nonnegative("face_resistance", self.face_resistance, unit="day")
            if values.shape != (len(self.grid.faces),):
                raise InputError(
                    f"face_resistance has the shape {values.shape}; expected ({len(self.grid.faces)},), one per face."
                )
            object.__setattr__(self, "face_resistance", values)

    def flow_arrays(self) -> dict[str, Any]:
        """Return what the flow across faces is made of, as `inkhorn.space.flow_rows` takes it."""
        return {
            "horizontal": self.horizontal_conductivity,
            "vertical": self.vertical_conductivity,
            "anisotropy": self.anisotropy,
            "direction": self.direction,
            "resistance": self.face_resistance,
            "leakance": self.leakance,
        }

    def face_rows(self) -> FaceRows:
        """Return the flow across each face when all is saturated, as rows over the heads."""
        return flow_rows(self.grid, **self.flow_arrays())

    def __repr__(self) -> str:
        said = ", ".join(f"{len(t.cells)} × {t.kind}" for t in self.terms)
        return f"Model({self.grid.n_cells} cells, {said or 'no terms'})"

    def term(self, kind: str) -> Term:
        """Return the term of a kind, such as ``"well"``."""
        for term in self.terms:
            if term.kind == kind:
                return term
        raise InputError(f"the model has no {kind}; it has {[t.kind for t in self.terms]}.")

    @property
    def inputs(self) -> tuple[str, ...]:
        """Names of all arrays that can be changed and derived by: properties, and those of the terms by kind."""
        own = [k for k in properties() if self.property_of(k) is not None]
        own += ["face_resistance"] * (self.face_resistance is not None)
        return (*own, *(f"{t.kind}.{name}" for t in self.terms for name in t.inputs))

    def property_of(self, name: str) -> NDArray[np.float64] | None:
        """Return a property of the cells by its name, None where the model has none."""
        return getattr(self, name) if name in self.__dataclass_fields__ else self.further.get(name)

    def values_of(self, name: str) -> tuple[NDArray[np.float64], str]:
        """Return a property, or a value of the features of a kind, by cell.

        Parameters
        ----------
        name : str
            A property such as ``"horizontal_conductivity"``, or a value of features such as ``"river.stage"``.

        Returns
        -------
        values : ndarray of float, (n_cells,)
            NaN in cells that hold no such feature.
        unit : str
            Theirs.

        Raises
        ------
        InputError
            If there is no such value.
        """
        kind, _, what = name.rpartition(".")
        if not kind:
            self.refuse_unknown([name])
            found = self.property_of(name)
            if found is None:
                raise InputError(f"the model has no {name}. Give one for every material.")
            return np.asarray(found, dtype=np.float64), KINDS[properties()[name].said.dimension_on("")].inside
        term = self.term(kind)
        known = term.declared_inputs()
        if what not in known:
            raise InputError(f'the {kind} has no "{what}"; expected one of {list(known)}.')
        given = np.asarray(getattr(term, what))
        values = np.full(self.grid.n_cells, np.nan)
        values[term.cells] = term.over_entries(what, given)
        return values, known[what].unit

    def refuse_unknown(self, names: Iterable[str], *besides: str) -> None:
        """Refuse names that are none of `inputs`, nor of some besides.

        Raises
        ------
        InputError
            Naming the first, and the one that was meant.
        """
        known = [*self.inputs, *properties(), "face_resistance", *besides]
        for name in names:
            if name not in known:
                have = [*self.inputs, *besides]
                raise InputError(
                    f'there is no input "{name}"; this model has {have}.{did_you_mean(name, have)}'
                )

    def with_inputs(self, inputs: Mapping[str, NDArray[np.float64]]) -> Model:
        """Return a copy with some input arrays replaced.

        Parameters
        ----------
        inputs : mapping of str to ndarray
            By name, as of `inputs`: ``"horizontal_conductivity"``, ``"vertical_conductivity"``, ``"porosity"``, or a
            term's kind and input as in ``"recharge.rate"``.

        Raises
        ------
        InputError
            If there is no such input, or a value cannot be.
        """
        self.refuse_unknown(inputs)
        plain = {k: v for k, v in inputs.items() if "." not in k}
        own: dict[str, Any] = {k: v for k, v in plain.items() if k in self.__dataclass_fields__}
        further = {**self.further, **{k: v for k, v in plain.items() if k not in own}}
        terms = []
        for term in self.terms:
            changed: dict[str, Any] = {
                k.rpartition(".")[2]: v for k, v in inputs.items() if k.rpartition(".")[0] == term.kind
            }
            terms.append(replace(term, **changed) if changed else term)
        return replace(self, **own, further=further, terms=tuple(terms))

    def input(self, name: str) -> NDArray[np.float64]:
        """Return an input array by the names of `with_inputs`."""
        self.refuse_unknown([name])
        if "." in name:
            kind, _, attribute = name.rpartition(".")
            return np.asarray(getattr(self.term(kind), attribute))
        values = self.face_resistance if name == "face_resistance" else self.property_of(name)
        if values is None:
            raise InputError(f"the model has no {name}. Give one for every cell first.")
        return np.asarray(values)
