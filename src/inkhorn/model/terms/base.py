"""The one contract of everything that brings water in or takes it out.

A term stands for all features of one kind, placed on cells. It answers with the flows into cells; it may have unknowns
of its own beyond the heads (named, in any number, coupled to cells and to each other), water stored by them, and a
state that it carries from step to step. Assembly, budgets, records, sensitivities, checks, transport and model files
know a term by this contract alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import KW_ONLY, Field, dataclass, field, fields
from typing import Any, ClassVar, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative, check_positive
from inkhorn.model.findings import Finding
from inkhorn.model.laws import WaterTable
from inkhorn.read_only import freeze
from inkhorn.space import Cells
from inkhorn.units import KINDS, refuse_impossible

__all__ = [
    "CROSSINGS",
    "HORIZONTAL",
    "Contribution",
    "Input",
    "Moment",
    "Slope",
    "Term",
    "Watch",
    "entry_input",
    "feature_input",
    "link_input",
    "placed",
    "placed_fields",
    "terms_known",
]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

HORIZONTAL = "horizontal_conductivity"
CROSSINGS = ("top", "floor", "side", "screen", "inside")
"""Where water can pass between a cell and a feature: through its top or floor, a side, a screen, or anywhere inside."""

Over = Literal["entry", "feature", "extra", "cell", "link", "node", "source"]
_CHECKS = {"finite": check_finite, "nonnegative": check_nonnegative, "positive": check_positive}
_ENDLESS = ("any", "endless")  # checks that let a value be infinite


@dataclass(frozen=True)
class Input:
    """What an array of a term is.

    Attributes
    ----------
    over : {"entry", "feature", "extra", "cell", "link", "node", "source"}
        Of what there is one value each: entries, features, the term's extra unknowns, all cells of the grid, its links
        and the nodes between them, or places where water comes in from outside.
    dimension : str
        A key of `inkhorn.units.KINDS`.
    check : str
        "finite", "nonnegative" or "positive"; or "endless", not negative but perhaps infinite, or "any" number.
    below : str
        What the check says where such a level lies below the bottom of its cell; nothing if that is no matter.
    remedy : str
        What the check then advises.
    told : bool
        Whether the table of what landed tells its values; not of what only the grid makes.
    """

    over: Over
    dimension: str
    check: str = "finite"
    below: str = ""
    remedy: str = ""
    told: bool = True

    @property
    def unit(self) -> str:
        """The unit of its values."""
        return KINDS[self.dimension].inside


def _input(over: Over, dimension: str, default: Any, **options: Any) -> Any:
    return field(default=default, metadata={"input": Input(over, dimension, **options)})


def entry_input(dimension: str, *, default: Any = None, **options: Any) -> Any:
    """An array of a term with one value for each entry, which must be given unless it has a default; see `Input`."""
    return _input("entry", dimension, default, **options)


def feature_input(dimension: str, *, default: Any = 0.0, **options: Any) -> Any:
    """An array of a term with one value for each feature; see `Input`."""
    return _input("feature", dimension, default, **options)


def link_input(dimension: str, *, default: Any = 0.0, **options: Any) -> Any:
    """An array of a term with one value for each of its links; see `Input`."""
    return _input("link", dimension, default, **options)


def placed(over: Over = "entry", *, default: Any = np.nan) -> Any:
    """An array of a term that says where it is; nothing is derived by it."""
    return field(default=default, metadata={"placed": over})


class Slope(NamedTuple):
    """Entries of a sparse derivative: ``value`` stands at (row, column); repeats add up."""

    row: Index
    column: Index
    value: Array

    @classmethod
    def none(cls) -> Slope:
        """A derivative that is zero everywhere."""
        return cls(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0))


@dataclass(frozen=True)
class Watch:
    """Something that a look at an answer watches for at each entry of a term.

    Attributes
    ----------
    words : str
        What is said of a feature.
    remedy : str
        What to do about it.
    severity : {"warning", "note"}
    ever : bool
        Whether it is told where it happens at any entry at any time; else where it does at all of them, always.
    told : callable, optional
        Makes words of the largest value at a feature, how many of its entries show it, and of how many.
    """

    words: str
    remedy: str
    severity: str = "note"
    ever: bool = True
    told: Callable[[float, int, int], str] | None = None


@dataclass(frozen=True, eq=False)
class Moment:
    """What a term is told: the unknowns, the step, and its own state at the step's start.

    Attributes
    ----------
    heads : ndarray of float, (n_cells,)
        [m].
    extra_unknowns : ndarray of float, (n_extra,)
        The term's extra unknowns.
    first_extra : int
        Number of the first of them among all unknowns; cells come first.
    cells : Cells
        Geometry.
    horizontal_conductivity : ndarray of float, (n_cells,)
        [m/day].
    law : WaterTable
        Laws of partly filled cells.
    begin, end : float
        The step [day].
    steady : bool
        Whether nothing is stored.
    state : ndarray of float, (n_state,)
        What the term said of its state at the end of the step before.
    stored : ndarray of float, (n_extra,)
        Water in the term's extra unknowns at the step's start [m³]; empty when steady.
    weight : ndarray of float, (n_extra,)
        What flows count in the balances of extra unknowns, beside what is stored; empty where all count 1.
    """

    heads: Array
    extra_unknowns: Array
    first_extra: int
    cells: Cells
    horizontal_conductivity: Array
    law: WaterTable
    begin: float = 0.0
    end: float = 0.0
    steady: bool = True
    state: Array = field(default_factory=lambda: np.empty(0))
    stored: Array = field(default_factory=lambda: np.empty(0))
    weight: Array = field(default_factory=lambda: np.empty(0))


@dataclass(frozen=True, eq=False)
class Contribution:
    """What a term answers.

    Attributes
    ----------
    flow : ndarray of float, (n_entries,)
        Into each entry's cell, positive inwards [m³/day].
    flow_slope : Slope
        Rows are entries, columns unknowns [m²/day].
    extra_residual : ndarray of float, (n_extra,)
        Zero when the term's extra equations hold, but for what is stored: what comes in less what goes out [m³/day].
    extra_slope : Slope
        Rows are extra equations, columns unknowns.
    stored : ndarray of float, (n_extra,)
        Water that stands in each extra unknown [m³]; the equations take its change from the extra residual. Empty if none
        is stored.
    stored_slope : Slope
        Rows are extra unknowns, columns unknowns [m²].
    outside : mapping of str to ndarray of float, (n_extra,)
        Water that comes into extra unknowns from outside, neither from cells nor from each other, by what it is
        [m³/day]; for budgets. Always under the names of `Term.outside_names`.
    link_flow : ndarray of float, (n_links,)
        From the first to the second extra unknown of each of `Term.links` [m³/day].
    state : ndarray of float, (n_state,)
        The term's state at the step's end.
    state_slope : Slope
        Rows are states, columns unknowns.
    """

    flow: Array
    flow_slope: Slope
    extra_residual: Array = field(default_factory=lambda: np.empty(0))
    extra_slope: Slope = field(default_factory=Slope.none)
    stored: Array = field(default_factory=lambda: np.empty(0))
    stored_slope: Slope = field(default_factory=Slope.none)
    outside: Mapping[str, Array] = field(default_factory=dict)
    link_flow: Array = field(default_factory=lambda: np.empty(0))
    state: Array = field(default_factory=lambda: np.empty(0))
    state_slope: Slope = field(default_factory=Slope.none)


@dataclass(frozen=True, eq=False)
class Term:
    """All features of one kind, placed on cells.

    An *entry* is one feature meeting one cell; several may share a cell and add up.

    Parameters
    ----------
    cells : ndarray of int, (n_entries,)
        The cell of each entry.
    feature_names : tuple of str
        Names of the features.
    feature_index : ndarray of int, (n_entries,)
        Which of `feature_names` each entry came from; 0 for all if not given.
    crossing : sequence of str, (n_entries,), optional
        Where the water passes: "top", "floor", "side", "screen" or "inside"; as is usual for the kind if not given.
    outer_face : ndarray of int, (n_entries,)
        Of those that pass a side, which of the grid's outer faces it is; -1 for none.
    """

    cells: Index
    _: KW_ONLY
    feature_names: tuple[str, ...] = ("",)
    feature_index: Index = field(default_factory=lambda: np.empty(0, np.int64))
    crossing: Any = None
    outer_face: Any = -1

    kind: ClassVar[str] = "term"
    usual_crossing: ClassVar[str] = "top"
    extra_words: ClassVar[str] = "the water level of"  # what an extra unknown is, before its name
    outside_names: ClassVar[tuple[str, ...]] = ()  # what comes into extra unknowns from outside is called
    watches: ClassVar[Mapping[str, Watch]] = {}  # what is looked for in an answer, by the names of `seen`
    may_leave_behind: ClassVar[bool] = False  # whether it may take water without what is dissolved in it
    useless_in_held: ClassVar[str] = ""  # what an entry in a cell of fixed head comes to, for the check

    def __post_init__(self) -> None:
        object.__setattr__(self, "cells", np.atleast_1d(np.asarray(self.cells, dtype=np.int64)))
        object.__setattr__(self, "feature_names", tuple(self.feature_names))
        feature = np.asarray(self.feature_index, dtype=np.int64)
        if feature.size == 0 and len(self.feature_names) == 1:
            feature = np.zeros(len(self.cells), dtype=np.int64)
        if feature.shape != self.cells.shape:
            raise InputError(
                f"{self.kind}: feature_index has {feature.size} entries; expected {len(self.cells)}, one per cell."
            )
        outside = np.flatnonzero((feature < 0) | (feature >= len(self.feature_names)))
        if len(outside):
            raise InputError(
                f"{self.kind}: feature_index[{outside[0]}] is {feature[outside[0]]}; expected 0 to "
                f"{len(self.feature_names) - 1}, a place among `feature_names`."
            )
        object.__setattr__(self, "feature_index", feature)
        self._check_crossings()
        for name, said in self.declared_inputs().items():
            if getattr(self, name) is None:
                raise InputError(
                    f"{self.kind}: {name} is not given. Give one number{f' in {said.unit}' if said.unit else ''}, or one "
                    "for each entry."
                )
            values = self._spread(name, said.over)
            if said.check not in _ENDLESS:
                _CHECKS[said.check](f"{self.kind}: {name}", values, unit=said.unit)
                refuse_impossible(f"{self.kind}: {name}", values, said.dimension)
            elif said.check == "endless" and (values < 0.0).any():
                check_nonnegative(f"{self.kind}: {name}", np.where(values < 0.0, values, 0.0), unit=said.unit)
            elif np.isnan(values).any():
                raise InputError(f"{self.kind}: {name}[{int(np.isnan(values).argmax())}] is no number.")
        for f in fields(self):
            if "placed" in f.metadata:
                self._spread(f.name, f.metadata["placed"])
        freeze(self)

    def _check_crossings(self) -> None:
        given = self.usual_crossing if self.crossing is None else self.crossing
        crossing = np.array(np.broadcast_to(np.asarray(given, dtype=str), self.cells.shape))
        unknown = ~np.isin(crossing, CROSSINGS)
        if unknown.any():
            raise InputError(
                f'{self.kind}: crossing is "{crossing[unknown][0]}"; expected one of {list(CROSSINGS)}.'
            )
        object.__setattr__(self, "crossing", crossing)
        face = np.asarray(self.outer_face, dtype=np.int64)
        object.__setattr__(self, "outer_face", np.array(np.broadcast_to(face, self.cells.shape)))

    def count(self, over: Over) -> int:
        """Return how many values an array over entries, features and so on has."""
        known = {"entry": len(self.cells), "feature": len(self.feature_names), "extra": self.n_extra}
        return known[over] if over in known else self._count_of(over)

    def _count_of(self, over: Over) -> int:
        """How many there are of what only some kinds have."""
        raise NotImplementedError(f"{self.kind} has nothing over {over}")

    def _spread(self, name: str, over: Over) -> Array:
        """Turn an attribute into an array of one value for each of what it is over."""
        values = np.asarray(getattr(self, name), dtype=np.float64)
        if over != "cell":  # the model knows how many of these there are
            count = self.count(over)
            if values.ndim and values.shape != (count,):
                raise InputError(
                    f"{self.kind}: {name} has the shape {values.shape}; expected one number or ({count},)."
                )
            values = np.array(np.broadcast_to(values, count))
        object.__setattr__(self, name, values)
        return values

    @classmethod
    def declared_inputs(cls) -> dict[str, Input]:
        """Return the arrays that the term is made of, and what they are."""
        return {f.name: f.metadata["input"] for f in fields(cls) if "input" in f.metadata}

    @property
    def inputs(self) -> tuple[str, ...]:
        """Names of the arrays that the term is made of."""
        return tuple(self.declared_inputs())

    def over_entries(self, name: str, values: Array) -> Array:
        """Return values of an input, (..., n), one for each entry, whatever they are over."""
        over = self.declared_inputs()[name].over
        if over == "entry":
            return values
        if over == "feature":
            return values[..., self.feature_index]
        if over == "cell":
            return values[..., self.cells]
        return np.where(self.node >= 0, values[..., np.maximum(self.node, 0)], np.nan)

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        if "__repr__" not in vars(cls):  # or `dataclass` makes one that lists every array
            cls.__repr__ = Term.__repr__  # type: ignore[method-assign]

    def __repr__(self) -> str:
        return f"{type(self).__name__}({len(self.cells)} entries of {len(self.feature_names)} features)"

    # --- extra unknowns, what they are coupled to, and what they hold -------------------------------

    @property
    def n_extra(self) -> int:
        """Number of unknowns beyond the heads of cells."""
        return 0

    @property
    def n_levels(self) -> int:
        """How many of them, the first, are levels; those after them are the flows through `links`."""
        return self.n_extra

    @property
    def determined(self) -> NDArray[np.bool_]:
        """Which extra unknowns follow from others by one equation each, and so can be left out of a system, (n_extra,).

        Such an equation holds its own unknown and others, of these none that holds one again.
        """
        return np.zeros(self.n_extra, dtype=bool)

    @property
    def least_stored(self) -> Array:
        """The least water that each extra unknown can store, (n_extra,) [m³]."""
        return np.full(self.n_extra, -np.inf)

    @property
    def extra_feature(self) -> Index:
        """The feature that each extra unknown belongs to, (n_extra,)."""
        one_each = self.n_extra == len(self.feature_names)
        return np.arange(self.n_extra) if one_each else np.zeros(self.n_extra, dtype=np.int64)

    @property
    def extra_names(self) -> tuple[str, ...]:
        """Name of each extra unknown; those of the features where there is one for each."""
        if self.n_extra == len(self.feature_names):
            return self.feature_names
        return tuple(f"{self.feature_names[f]}, {k + 1}" for k, f in enumerate(self.extra_feature))

    @property
    def extra_said(self) -> list[str]:
        """Each extra unknown in words, for messages."""
        return [f"{self.extra_words} {self.kind} {name}" for name in self.extra_names]

    @property
    def node(self) -> Index:
        """The extra unknown that each entry's water comes from or goes to, -1 for water from outside, (n_entries,)."""
        return np.full(len(self.cells), -1, dtype=np.int64)

    @property
    def place(self) -> Array | None:
        """x and y of each entry that stands upright in its cell, NaN for others, (n_entries, 2) [m]; None for all.

        The flow around it is then that to where it stands.
        """
        return None

    @property
    def links(self) -> Index:
        """Pairs of extra unknowns between which water passes, (n_links, 2)."""
        return np.empty((0, 2), dtype=np.int64)

    @property
    def n_state(self) -> int:
        """Number of values that the term carries from step to step beside what its extra unknowns store."""
        return 0

    def initial_state(self, heads: Array) -> Array:
        """Return the state that a run through time begins with, (n_state,)."""
        return np.zeros(self.n_state)

    @property
    def holds(self) -> NDArray[np.bool_]:
        """Whether each entry gives the head of its cell, whose balance is then the entry's flow, (n_entries,)."""
        return np.zeros(len(self.cells), dtype=bool)

    @property
    def sets_level(self) -> NDArray[np.bool_]:
        """Whether each entry ties its cell to a level from outside, (n_entries,)."""
        return np.zeros(len(self.cells), dtype=bool)

    @property
    def level_outside(self) -> Array:
        """Return the level of open water that each entry brings to its cell, NaN for none, (n_entries,) [m]."""
        return np.full(len(self.cells), np.nan)

    @property
    def extra_sets_level(self) -> NDArray[np.bool_]:
        """Whether a level from outside holds each extra unknown, (n_extra,)."""
        return np.zeros(self.n_extra, dtype=bool)

    def initial_guess(self, heads: Array) -> Array:
        """Return a first guess of the term's extra unknowns, (n_extra,)."""
        return np.empty(0)

    def at_start(self, moment: Moment) -> Array:
        """Return the term's extra unknowns that a run through time begins with, (n_extra,)."""
        return self.settled(moment)

    def settled(self, moment: Moment) -> Array:
        """Return the term's extra unknowns where the heads alone determine them, else as they are, (n_extra,)."""
        return moment.extra_unknowns

    # --- the law -----------------------------------------------------------------------------------

    def evaluate(self, moment: Moment) -> Contribution:
        """Return flows, residuals, what is stored, the state, and their derivatives by the unknowns."""
        raise NotImplementedError

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        """Return the derivatives by the term's inputs.

        Returns
        -------
        mapping of str to Slope
            By name of the input (an array of the term, or ``"horizontal_conductivity"`` with one value per cell).
            Rows are the entries' flows, then the extra residuals, then what extra unknowns store, then the state;
            columns the input's values.
        """
        return {}

    def by_state(self, moment: Moment) -> Slope:
        """Return the derivatives by the state at the step's start; rows as of `by_input`."""
        return Slope.none()

    def seen(self, moment: Moment, flow: Array) -> Mapping[str, Array]:
        """Return how far each entry shows what `watches` name, 0 for not at all, (n_entries,).

        Parameters
        ----------
        moment : Moment
            Unknowns at the end of a step.
        flow : ndarray of float, (n_entries,)
            Into each entry's cell over the step [m³/day].
        """
        return {}

    def findings(self, grid: Any) -> Iterator[Finding]:
        """Look for what cannot be meant: levels below the bottom of the cell they act on, and what a kind adds.

        Parameters
        ----------
        grid : Grid
            Whose cells these are.
        """
        for name, said in self.declared_inputs().items():
            if not said.below:
                continue
            level = self.over_entries(name, getattr(self, name))
            level = np.where(np.isfinite(level), level, np.inf)  # without one there is nothing to lie below
            low = np.flatnonzero(level < grid.cells.bottom[self.cells] - 1e-9)
            yield from self.found_at(grid, low, "warning", said.below, said.remedy)

    def found_at(
        self, grid: Any, entries: Index, severity: str, words: str, remedy: str
    ) -> Iterator[Finding]:
        """Yield one finding for each feature among some entries, at the first of its entries."""
        features, first = np.unique(self.feature_index[entries], return_index=True)
        for feature, entry in zip(features, entries[first], strict=True):
            yield Finding(
                severity,
                f'{self.kind} "{self.feature_names[feature]}" {words}',
                grid.place_of(int(self.cells[entry])),
                remedy,
            )


def _below(kind: type[Term]) -> Iterator[type[Term]]:
    for one in kind.__subclasses__():
        yield one
        yield from _below(one)


def terms_known() -> dict[str, type[Term]]:
    """Return every kind of term there is, those of other packages included, by what it is called."""
    return {kind.kind: kind for kind in _below(Term) if "kind" in vars(kind)}


def placed_fields(kind: type[Term]) -> dict[str, Field[Any]]:
    """Return the arrays of a term that say where it is, by name."""
    return {f.name: f for f in fields(kind) if "placed" in f.metadata}
