"""What placing works with: the plan cells of a grid cut by shapes, values taken from features, what came of each."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.placing.traced import Traced, plain
from inkhorn.model.terms import Term
from inkhorn.site import Feature, QuickRecharge, Schedule, Series, along_weights, in_each_period
from inkhorn.space import Grid
from inkhorn.space.meeting import Meeting
from inkhorn.space.rim import OuterEdges

__all__ = ["Footprint", "Placing", "Plan", "SiteInput", "SiteInputs", "Spot", "places", "placings"]

Index = NDArray[np.int64]
Array = NDArray[np.float64]


class SiteInput(NamedTuple):
    """One number that the site states, of which arrays of the model are made.

    Attributes
    ----------
    owner : str
        What states it, as in ``river brook`` or ``material sand``.
    name : str
        Which of its values.
    place : int
        Which of several along a line; 0 for one alone.
    value : float
        In metres, days and grams; 1 for what is a series, whose factor the input is.
    is_factor : bool
        Whether it is the factor of a series.
    """

    owner: str
    name: str
    place: int
    value: float
    is_factor: bool = False

    def __str__(self) -> str:
        at = f"[{self.place + 1}]" if self.place else ""
        return f"{self.owner}: {self.name}{at}{' (factor)' if self.is_factor else ''}"


class SiteInputs:
    """The numbers that a site states, in the order in which placing asked for them."""

    def __init__(self) -> None:
        self.known: list[SiteInput] = []
        self._number: dict[tuple[str, str, int], int] = {}

    def __len__(self) -> int:
        return len(self.known)

    def of(self, owner: str, name: str, values: Any, *, is_factor: bool = False) -> Index:
        """Return the numbers of some inputs, new ones if they were not asked for before."""
        found = []
        several = [float(values)] if isinstance(values, float | int) else np.atleast_1d(values).tolist()
        for k, value in enumerate(several):
            key = (owner, name, k)
            if key not in self._number:
                self._number[key] = len(self.known)
                self.known.append(SiteInput(owner, name, k, float(value), is_factor))
            found.append(self._number[key])
        return np.array(found, dtype=np.int64)


_ROUNDING = 1e-5  # of a cell's size: how far off the rim a line is on it all the same


@dataclass(frozen=True, eq=False)
class Footprint:
    """Where a feature meets the plan.

    Attributes
    ----------
    feature : Feature
        Whose it is.
    plan : ndarray of int, (n,)
        Cells of the plan mesh.
    size : ndarray of float, (n,)
        Length of a line or area of a polygon in each [m], [m²]; 1 at a point and of a cell told one by one.
    along : ndarray of float, (n,)
        Where along a line each part has its middle, 0 to 1; of cells told one by one which of them each is.
    cells : ndarray of int, (n,), optional
        The cells themselves, where they were told one by one.
    outside : float
        Share of the shape that met no column.
    """

    feature: Feature
    plan: Index
    size: Array
    along: Array
    cells: Index | None = None
    outside: float = 0.0

    def weights(self, count: int) -> tuple[Any, Any, Any]:
        """Return how so many values are taken at each place; see `along_weights`."""
        if self.cells is not None and count > 1:
            n = np.arange(len(self.plan))
            return n, self.along.astype(np.int64), np.ones(len(n))
        return along_weights(self.feature.shape, count, self.along)


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
        found = dict(zip(map(id, cut), self._cut(cut), strict=True))
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

    def _cut(self, features: Sequence[Any]) -> list[Footprint]:
        """Cut lines or polygons by the plan cells; a column that holds no layer at all takes nothing."""
        import shapely

        if not features:
            return []
        shapes = np.asarray([f.shape for f in features], dtype=object)
        lines = shapely.get_dimensions(shapes) == 1
        whole_size = np.where(lines, shapely.length(shapes), shapely.area(shapes))
        found, todo = self._cut_at_grid_lines(shapes, lines, whole_size)
        whose, plan, size, along = self._cut_by_outlines(shapes[todo], lines[todo])
        parts = [np.concatenate(v) for v in zip(found, (todo[whose], plan, size, along), strict=True)]
        order = np.lexsort((parts[1], parts[0]))
        whose, plan, size, along = (v[order] for v in parts)
        ends = np.searchsorted(whose, np.arange(len(shapes) + 1))
        return [
            Footprint(f, plan[a:b], size[a:b], along[a:b], None, 1.0 - float(size[a:b].sum() / all_))
            for f, (a, b), all_ in zip(features, pairwise(ends), whole_size.tolist(), strict=True)
        ]

    def _cut_at_grid_lines(
        self, shapes: NDArray[Any], lines: NDArray[np.bool_], whole_size: Array
    ) -> tuple[tuple[Index, Index, Array, Array], Index]:
        """As `_cut_by_outlines` where cells are whole rectangles, and which shapes are left to that."""
        import shapely

        cuts = self.meeting.grid_lines
        if cuts is None:
            none = np.empty(0, np.int64)
            return (none, none, np.empty(0), np.empty(0)), np.arange(len(shapes))
        there = self.grid.uppermost >= 0
        ask, polygons = np.flatnonzero(lines), np.flatnonzero(~lines)
        cut = cuts.lengths(shapes[ask], there)
        # what is not wholly in cells may run along the rim, but for rounding
        inside = np.bincount(cut.whose, cut.length, len(ask)) >= (1.0 - 1e-9) * whole_size[ask]
        real = inside[cut.whose]
        whose = ask[cut.whose[real]]
        along = shapely.line_locate_point(shapes[whose], shapely.points(cut.middle[real]), normalized=True)
        owner, plan, area = cuts.areas(shapes[polygons], there)
        found = (
            np.concatenate([whose, polygons[owner]]),
            np.concatenate([cut.plan[real], plan]),
            np.concatenate([cut.length[real], area]),
            np.concatenate([along, np.zeros(len(area))]),
        )
        return found, ask[~inside]

    def _cut_by_outlines(
        self, shapes: NDArray[Any], lines: NDArray[np.bool_]
    ) -> tuple[Index, Index, Array, Array]:
        """Return which shape has how much of which plan cell, and how far along a line, as a share of it."""
        import shapely

        whose, plan, whole = self.meeting.met(shapes)
        # a cell within a polygon needs no cutting
        parts, size = np.full(len(plan), None, dtype=object), self.grid.mesh.area[plan]
        parts[~whole] = shapely.intersection(self.meeting.outlines(plan[~whole]), shapes[whose[~whole]])
        cut = parts[~whole]
        size[~whole] = np.where(lines[whose[~whole]], shapely.length(cut), shapely.area(cut))
        real = (size > 0) & (self.grid.uppermost[plan] >= 0)
        whose, plan, parts, size = whose[real], plan[real], parts[real], size[real]
        parts, size = self._shared(whose, plan, parts, size, lines)
        whose, plan, parts, size = self._beside_rim(whose, plan, parts, size, shapes, lines)
        real = size > 0
        whose, plan, parts, size = whose[real], plan[real], parts[real], size[real]
        along = np.zeros(len(size))
        on_line = lines[whose]
        along[on_line] = shapely.line_locate_point(
            shapes[whose[on_line]], shapely.centroid(parts[on_line]), normalized=True
        )
        return whose, plan, size, along

    def _shared(
        self, whose: Index, plan: Index, parts: NDArray[Any], size: Array, lines: NDArray[np.bool_]
    ) -> tuple[NDArray[Any], Array]:
        """Share what of a line runs along the edge between two cells between both."""
        import shapely

        ask = np.flatnonzero(lines[whose])
        on_edge = shapely.length(
            shapely.intersection(parts[ask], shapely.boundary(self.meeting.outlines(plan[ask])))
        )
        ask = ask[on_edge > 1e-9 * size[ask]]
        one, other = (ask[k] for k in shapely.STRtree(parts[ask]).query(parts[ask], predicate="intersects"))
        pairs = (one != other) & (whose[one] == whose[other])
        one, other = one[pairs], other[pairs]
        twice = shapely.length(shapely.intersection(parts[one], parts[other]))
        return parts, size - 0.5 * np.bincount(one, twice, len(size))

    def _beside_rim(
        self,
        whose: Index,
        plan: Index,
        parts: NDArray[Any],
        size: Array,
        shapes: Any,
        lines: NDArray[np.bool_],
    ) -> tuple[Index, Index, NDArray[Any], Array]:
        """Add what of a line lies on the rim but for rounding, and so in no cell, to the cells beside it."""
        import shapely

        met = np.bincount(whose, size, len(shapes))
        short = np.flatnonzero(lines & (met < (1.0 - 1e-9) * shapely.length(shapes)))
        side = np.sqrt(self.grid.mesh.area)
        near = _ROUNDING * float(side.min())
        found: list[tuple[int, int, Any]] = []
        for k in short.tolist():
            mine = parts[slice(*np.searchsorted(whose, [k, k + 1]))]
            rest = shapes[k].difference(shapely.union_all(mine).buffer(near)) if len(mine) else shapes[k]
            beside = self.meeting.within(rest, near)
            for cell in np.sort(beside[self.grid.uppermost[beside] >= 0]).tolist():
                piece = rest.intersection(self.meeting.outlines(np.array([cell]))[0].buffer(near))
                if piece.length > 0.01 * side[cell]:  # no mere crossing
                    found.append((k, cell, piece))
                    rest = rest.difference(piece.buffer(near))
        if not found:
            return whose, plan, parts, size
        own = {key: n for n, key in enumerate(zip(whose.tolist(), plan.tolist(), strict=True))}
        known = [(own[k, cell], piece) for k, cell, piece in found if (k, cell) in own]
        for n, piece in known:  # a cell that the line is in as well
            parts[n], size[n] = shapely.union(parts[n], piece), size[n] + piece.length
        new = [f for f in found if f[:2] not in own]
        pieces = np.array([piece for _, _, piece in new], dtype=object)
        whose = np.concatenate([whose, np.array([k for k, _, _ in new], dtype=np.int64)])
        plan = np.concatenate([plan, np.array([cell for _, cell, _ in new], dtype=np.int64)])
        parts = np.concatenate([parts, pieces])
        size = np.concatenate([size, shapely.length(pieces)])
        order = np.lexsort((plan, whose))
        return whose[order], plan[order], parts[order], size[order]

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
