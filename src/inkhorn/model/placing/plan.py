"""What placing works with: the plan cells of a grid cut by shapes, values taken from features, what came of each."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.placing.footprints import Cutting, Footprint
from inkhorn.model.placing.site_inputs import SiteInputs
from inkhorn.model.placing.traced import Traced, plain
from inkhorn.model.terms import Term
from inkhorn.site import Feature, QuickRecharge, Schedule, Series, in_each_period
from inkhorn.space import Grid
from inkhorn.space.meeting import Meeting
from inkhorn.space.rim import OuterEdges

__all__ = ["Placing", "Plan", "Spot", "places", "placings"]

Index = NDArray[np.int64]
Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Spot:
    """One feature on one grid: its cells, a value of each input, and a line for the report.

    Attributes
    ----------
    values : mapping of str to Traced or ndarray, (n,) or (n_periods, n)
        By input of the term, in the unit in which the feature states it: one for each entry, or one alone for inputs
        of the whole feature.
    measure : mapping of str to ndarray, (n,)
        What such a value is multiplied with to become the term's: the length of a line in a cell, or an area.
    total : float
        For the report, in `unit`.
    outside : float
        Share of the feature that met nothing.
    met : float, optional
        Length or area of the cells that stand for it, where that is not what of it lies in them.
    crossing, outer_face : sequence, (n,), optional
        As of a `Term`.
    where : mapping of str to ndarray
        Arrays of the term that say where it is.
    belongs : bool
        Whether it is part of the term though it meets no cell itself, as a spring of conduits.
    """

    feature: Feature
    cells: Index
    values: Mapping[str, Any]
    total: float = 0.0
    unit: str = ""
    outside: float = 0.0
    note: str = ""
    measure: Mapping[str, Array] = field(default_factory=dict)
    crossing: Any = None
    outer_face: Any = -1
    where: Mapping[str, Array] = field(default_factory=dict)
    met: float | None = None
    belongs: bool = False

    @property
    def drawn(self) -> float:
        """Length of a line [m], or area of a polygon [m²], as it is drawn; NaN of others."""
        shape, geometry = self.feature.shape, self.feature.geometry
        return float(shape.length if geometry == "line" else shape.area if geometry == "polygon" else np.nan)


@dataclass(frozen=True, eq=False)
class Plan:
    """The plan cells of a grid, the schedule that values are taken for, and what the cells are made of."""

    grid: Grid
    schedule: Schedule | None = None
    properties: Mapping[str, Traced] = field(default_factory=dict)  # as of `Model`
    features: Sequence[Feature] = ()
    inputs: SiteInputs = field(default_factory=SiteInputs)
    boundary: Any = None

    def over_time(self, totals: Any) -> tuple[float, str]:
        """Return the mean of totals over the time that they last, and words for that.

        Parameters
        ----------
        totals : array_like of float, () or (n_periods,)
            What does not change in time is its own mean. Steady periods and warm-up are left out, unless there is
            nothing else.
        """
        totals = np.atleast_1d(np.asarray(totals, dtype=np.float64))
        if len(totals) == 1 or self.schedule is None or np.ptp(totals) == 0.0:
            return float(totals[0]), ""
        lasting = np.where(self.schedule.steady | self.schedule.warm_up, 0.0, self.schedule.lengths)
        if not lasting.any():
            return float(totals[-1]), ", in the last period"
        return float(np.average(totals, weights=lasting)), ", mean over time"

    @cached_property
    def meeting(self) -> Meeting:
        """Which plan cells shapes meet, and the outlines of these."""
        return Meeting(self.grid.mesh)

    @property
    def rim(self) -> OuterEdges:
        """The sides of plan cells on the rim."""
        return self.grid.rim

    @cached_property
    def rim_size(self) -> float:
        """Of the least cell on the rim [m]."""
        return float(np.sqrt(self.grid.mesh.area[self.rim.cell]).min())

    @cached_property
    def rim_lines(self) -> Any:
        """The same as one shape."""
        import shapely

        return shapely.union_all(shapely.linestrings(self.rim.ends))

    @cached_property
    def held_share(self) -> Array:
        """What share of each outer face some feature holds the head of."""
        return np.zeros(len(self.grid.outer_faces))

    @cached_property
    def held(self) -> NDArray[Any]:
        """The feature that holds the head of each cell, None where none does, (n_cells,)."""
        return np.full(self.grid.n_cells, None, dtype=object)

    @cached_property
    def takers(self) -> list[QuickRecharge]:
        """What takes a share of the recharge for conduits."""
        return [f for f in self.features if isinstance(f, QuickRecharge) and f.share is not None]

    @cached_property
    def diverted(self) -> dict[str, list[Traced]]:
        """What of the recharge goes straight into conduits, by the quick recharge that says so [m³/day]."""
        return {}

    def near(self, shape: Any) -> Index:
        """Return the plan cells that a shape meets, in order."""
        return self.meeting.met(np.array([shape], dtype=object))[1]

    # --- where -------------------------------------------------------------------------------------

    def footprints(self, features: Sequence[Any]) -> list[Footprint]:
        """Cut lines and polygons by the plan cells, and find points and cells told one by one."""
        cut = [f for f in features if f.geometry in ("line", "polygon")]
        found = dict(zip(map(id, cut), Cutting(self.grid, self.meeting).footprints(cut), strict=True))
        return [found[id(f)] if id(f) in found else self._told(f) for f in features]

    def _told(self, feature: Any) -> Footprint:
        """Where a point lies, or cells told one by one."""
        if feature.geometry == "point":
            plan = self.located(feature.shape.x, feature.shape.y)
            n = len(plan)
            return Footprint(feature, plan, np.ones(n), np.zeros(n), None, float(n == 0))
        cells, whose = self.picked(feature)
        missed = 1.0 - len(np.unique(whose)) / len(feature.shape)
        plan = self.grid.cells.plan_cell[cells]
        return Footprint(feature, plan, np.ones(len(cells)), whose.astype(np.float64), cells, missed)

    def picked(self, feature: Any, *, again: bool = False) -> tuple[Index, Index]:
        """Return the cells that a feature tells one by one, and which of those told each is.

        Raises
        ------
        InputError
            If a number is that of no cell, or a layer is not known; if two of the places told fall in one cell, unless
            it may come `again`.
        """
        grid, shape = self.grid, feature.shape
        if len(shape.numbers):
            bad = (shape.numbers < 0) | (shape.numbers >= grid.n_cells)
            if bad.any():
                raise InputError(
                    f"{feature.where}: there is no cell {shape.numbers[bad][0]}; expected 0 to {grid.n_cells - 1} on "
                    "this grid. Numbers hold for one grid only; name layers and places instead."
                )
            return shape.numbers, np.arange(len(shape.numbers))
        cells, whose = [], []
        for k, (layer, x, y) in enumerate(shape.places):
            plan = int(grid.mesh.locate([x], [y])[0])
            for row in grid.layers_named(layer, feature.where):
                if plan >= 0 and grid.cell_number[row, plan] >= 0:
                    cells.append(int(grid.cell_number[row, plan]))
                    whose.append(k)
        found, often = np.unique(np.array(cells, dtype=np.int64), return_counts=True)
        if not again and (often > 1).any():
            raise InputError(
                f"{feature.where}: two of its places fall in one cell on this grid, that of "
                f"{grid.place_of(int(found[often > 1][0]))}. Name one of them, or make the cells smaller."
            )
        return np.array(cells, dtype=np.int64), np.array(whose, dtype=np.int64)

    def located(self, x: float, y: float) -> Index:
        """Return the plan cell of a point, as an array of one or none."""
        found = self.grid.mesh.locate([x], [y])
        return np.asarray(found[(found >= 0) & (self.grid.uppermost[found] >= 0)])

    def rows(self, feature: Feature) -> list[int]:
        """Return the positions of the layers that a feature names in `layers`; all of them if it names none."""
        names: tuple[str, ...] = feature.layers  # type: ignore[attr-defined]  # asked of those that have them
        found = [k for name in names for k in self.grid.layers_named(name, feature.where)]
        return sorted(set(found)) if names else list(range(len(self.grid.layer_names)))

    def rows_of(self, layer: str | None, feature: Feature) -> list[int]:
        """Return the positions of a layer that a feature names, of all if it names none."""
        whole = range(len(self.grid.layer_names))
        return list(whole if layer is None else self.grid.layers_named(layer, feature.where))

    def column_cells(self, place: Footprint) -> tuple[Index, Index]:
        """Return the cells in the layers that a feature names, and which entry of its footprint each belongs to."""
        if place.cells is not None:
            return place.cells, np.arange(len(place.cells))
        number = self.grid.cell_number[np.array(self.rows(place.feature))[:, None], place.plan]
        layer, entry = np.nonzero(number >= 0)
        return number[layer, entry], entry

    def cell_holding(
        self, place: Footprint, level: Any, layer: str | None = None
    ) -> tuple[Index, NDArray[np.bool_]]:
        """Return in each column the uppermost cell that reaches below a level, else the lowest; or that of a layer.

        Parameters
        ----------
        place : Footprint
            Of the feature; of cells told one by one those, each in one part of its layer.
        level : Traced
            [m]; of a level in time the lowest counts.
        layer : str, optional
            Of a layer in parts, that part of it.

        Returns
        -------
        cells : ndarray of int
            Where there are any.
        there : ndarray of bool, (n,)
            For which entries there are.
        """
        values = plain(level)
        lowest = values if values.ndim == 1 else values.min(axis=0)
        lowest = np.broadcast_to(lowest, len(place.plan))
        if place.cells is not None:
            there = self.one_of_each(place, lowest)
            return place.cells[there], there
        rows = self.rows_of(layer, place.feature)
        chosen = np.full(len(place.plan), -1, dtype=np.int64)
        done = np.zeros(len(place.plan), dtype=bool)
        for number in (self.grid.cell_number[k, place.plan] for k in rows):
            here = ~done & (number >= 0)
            chosen[here] = number[here]
            done |= here & (self.grid.cells.bottom[number] < lowest)
        there = chosen >= 0
        return chosen[there], there

    def one_of_each(self, place: Footprint, lowest: Array | None = None) -> NDArray[np.bool_]:
        """Return which entries stand for the cells told one by one, where their layer is in parts, (n,).

        Of the parts the uppermost, or the uppermost that reaches below a level, else the lowest.
        """
        assert place.cells is not None
        row = self.grid.cells.layer[place.cells]
        reaches = np.ones(len(row), dtype=bool)
        if lowest is not None:
            reaches = self.grid.cells.bottom[place.cells] < lowest
        order = np.lexsort((np.where(reaches, row, 2 * len(self.grid.layer_names) - row), place.along))
        chosen = np.zeros(len(row), dtype=bool)
        chosen[order[np.unique(place.along[order], return_index=True)[1]]] = True
        return chosen

    def on_top(self, place: Footprint) -> tuple[Index, Array, Any]:
        """Return the uppermost cells below a polygon, its area on each, and which of its entries they are.

        Cells told one by one are met whole, in the uppermost part of their layer.
        """
        if place.cells is None:
            return self.grid.uppermost[place.plan], place.size, slice(None)
        there = self.one_of_each(place)
        cells = place.cells[there]
        return cells, self.grid.cells.area[cells], there

    # --- what ----------------------------------------------------------------------------------------

    def value(self, feature: Feature, name: str, place: Footprint | None = None) -> Traced:
        """Return a value that a feature states, at each entry of its footprint, or one alone.

        Returns
        -------
        Traced
            (n,), or (n_periods, n) for one in time.
        """
        given = getattr(feature, name)
        if isinstance(given, float | int):
            alone = self.inputs.of(f"{feature.kind} {feature.name}", name, given)
            one = Traced(np.array([float(given)]), np.zeros(1, np.int64), alone, np.ones(1))
            return one if place is None else one.spread((len(place.plan),))
        values = in_each_period(given, self.schedule, f"{feature.where}: {name}")
        owner = f"{feature.kind} {feature.name}"
        count = values.shape[-1]
        n, value, weight = place.weights(count) if place is not None else (np.arange(1),) * 2 + (np.ones(1),)
        size = len(place.plan) if place is not None else 1
        if isinstance(given, Series):
            made = np.zeros((*values.shape[:-1], size))
            spot: Any = (..., n)
            np.add.at(made, spot, values[..., value] * weight)
            number = self.inputs.of(owner, name, 1.0, is_factor=True)
            flat = made.ravel()
            return Traced(made, np.arange(flat.size), np.full(flat.size, number[0]), flat.copy())
        numbers = self.inputs.of(owner, name, values)
        made = np.bincount(n, values[value] * weight, size)
        order = np.argsort(n, kind="stable")
        return Traced(made, n[order], numbers[value][order], weight[order])


@dataclass(frozen=True)
class Placing:
    """How features of one kind are placed: the function, and the term they become (none for what stands in faces).

    Those that are placed last can take what the others left to them, as conduits do of the recharge.
    """

    kind: type[Feature]
    place: Callable[[list[Any], Plan], list[Spot]]
    term: type[Term] | None
    last: bool = False


_PLACINGS: dict[type[Feature], Placing] = {}


def places(
    kind: type[Feature], term: type[Term] | None, *, last: bool = False
) -> Callable[[Callable[[list[Any], Plan], list[Spot]]], Callable[[list[Any], Plan], list[Spot]]]:
    """Say how features of a kind are placed, beside the function that does it.

    Parameters
    ----------
    kind : type of Feature
        Which.
    term : type of Term or None
        What they become.
    last : bool
        Whether they are placed after all others.

    Examples
    --------
    >>> from inkhorn.site import Feature
    >>> class Ford(Feature):
    ...     kind = "ford"
    >>> @places(Ford, None)
    ... def place_fords(features, plan):
    ...     return []
    >>> placings()[Ford].place is place_fords
    True
    >>> del _PLACINGS[Ford]
    """

    def registered(place: Callable[[list[Any], Plan], list[Spot]]) -> Callable[[list[Any], Plan], list[Spot]]:
        _PLACINGS[kind] = Placing(kind, place, term, last)
        return place

    return registered


def placings() -> Mapping[type[Feature], Placing]:
    """Return how every kind of feature is placed, in the order in which they are."""
    return dict(sorted(_PLACINGS.items(), key=lambda one: one[1].last))
