"""The plan cells of a grid, ready to be cut by the shapes of features; and what came of one feature."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.site import Feature, Schedule, in_each_period
from inkhorn.space import Grid

__all__ = ["Piece", "Plan", "Spot"]

Index = NDArray[np.int64]
Array = NDArray[np.float64]


class Piece(NamedTuple):
    """A shape cut by plan cells: the cells, the length or area in each, and the parts themselves."""

    plan: Index
    size: Array
    parts: NDArray[Any]


@dataclass(frozen=True)
class Spot:
    """One feature on one grid: its cells, a value of each input per cell, and a line for the report.

    Attributes
    ----------
    values : dict of str to ndarray, (n,) or (n_periods, n)
        By input, one value per cell; or one alone, (1,) or (n_periods, 1), for inputs of the whole feature.
    """

    feature: Feature
    cells: Index
    values: dict[str, Any]
    total: float = 0.0
    unit: str = ""
    outside: float = 0.0
    note: str = ""


@dataclass(frozen=True)
class Plan:
    """The plan cells of a grid, the schedule that values are taken for, and what the cells are made of."""

    grid: Grid
    schedule: Schedule | None = None
    properties: dict[str, Array] = field(default_factory=dict)  # as of `Model`, before edits
    held: dict[int, str] = field(default_factory=dict)  # cells with a fixed head, by feature

    @cached_property
    def polygons(self) -> NDArray[Any]:
        return self.grid.mesh.polygons()

    @cached_property
    def _tree(self) -> Any:
        import shapely

        return shapely.STRtree(self.polygons)

    def cut(self, given: Sequence[Any]) -> list[Piece]:
        """Cut lines or polygons by the plan cells; a column that holds no layer at all takes nothing."""
        import shapely

        if not given:
            return []
        shapes = np.asarray(given, dtype=object)
        whose, plan = self._tree.query(shapes, predicate="intersects")
        order = np.lexsort((plan, whose))
        whose, plan = whose[order], plan[order]
        lines = shapely.get_dimensions(shapes) == 1
        # a cell within a polygon needs no cutting
        whole = ~lines[whose]
        shapely.prepare(shapes)
        whole[whole] = shapely.contains_properly(shapes[whose[whole]], self.polygons[plan[whole]])
        parts = self.polygons[plan].copy()
        parts[~whole] = shapely.intersection(parts[~whole], shapes[whose[~whole]])
        size = np.where(lines[whose], shapely.length(parts), shapely.area(parts))
        real = (size > 0) & (self.grid.uppermost[plan] >= 0)
        whose, plan, parts, size = whose[real], plan[real], parts[real], size[real]
        parts, size = self._once(whose, plan, parts, size, lines)
        ends = np.searchsorted(whose, np.arange(len(shapes) + 1))
        return [
            Piece(plan[a:b][size[a:b] > 0], size[a:b][size[a:b] > 0], parts[a:b][size[a:b] > 0])
            for a, b in pairwise(ends)
        ]

    def _once(
        self, whose: Index, plan: Index, parts: NDArray[Any], size: Array, lines: NDArray[np.bool_]
    ) -> tuple[NDArray[Any], Array]:
        """Let what of a line runs along the edge between two cells belong to the first of them only."""
        import shapely

        ask = np.flatnonzero(lines[whose])
        on_edge = shapely.length(shapely.intersection(parts[ask], shapely.boundary(self.polygons[plan[ask]])))
        taken: dict[int, Any] = {}
        parts, size = parts.copy(), size.copy()
        for k in ask[on_edge > 1e-9 * size[ask]]:
            before = taken.get(int(whose[k]))
            if before is not None:
                parts[k] = shapely.difference(parts[k], before)
                size[k] = shapely.length(parts[k])
            taken[int(whose[k])] = parts[k] if before is None else shapely.union(before, parts[k])
        return parts, size

    def fractions(self, shape: Any, piece: Piece) -> Array:
        """Where along a line each part of it has its middle, 0 to 1."""
        import shapely

        return np.asarray(shapely.line_locate_point(shape, shapely.centroid(piece.parts), normalized=True))

    def in_time(self, feature: Feature, name: str) -> Any:
        """Return a value of a feature, (m,), or in each period, (n_periods, m)."""
        return in_each_period(getattr(feature, name), self.schedule, f"{feature.where}: {name}")

    def layer(self, feature: Feature, name: str) -> int:
        """Return the position of a layer that a feature names."""
        names = self.grid.layer_names
        if name not in names:
            raise InputError(
                f'{feature.where} names the layer "{name}"; expected one of {list(names)}.{did_you_mean(name, names)}'
            )
        return names.index(name)

    def cell_holding(self, plan: Index, level: Array, feature: Feature, layer: str | None = None) -> Index:
        """In each column the uppermost cell that reaches below a level, else the lowest; or that of a layer."""
        if layer is not None:
            return self.grid.number[self.layer(feature, layer), plan]
        chosen = self.grid.uppermost[plan].copy()
        done = self.grid.cells.bottom[chosen] < level
        for number in self.grid.number[:, plan]:
            here = ~done & (number >= 0)
            chosen[here] = number[here]
            done |= here & (self.grid.cells.bottom[number] < level)
        return chosen

    def located(self, x: float, y: float) -> Index:
        """Return the plan cell of a point, as an array of one or none."""
        found = self.grid.mesh.locate([x], [y])
        return np.asarray(found[(found >= 0) & (self.grid.uppermost[found] >= 0)])
