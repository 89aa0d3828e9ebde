"""Where features meet the plan cells of a grid: lines and polygons, cut."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.site import Feature, along_weights
from inkhorn.space import Grid
from inkhorn.space.meeting import Meeting

__all__ = ["Cutting", "Footprint"]

Index = NDArray[np.int64]
Array = NDArray[np.float64]

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
class Cutting:
    """Cuts lines and polygons by the plan cells of a grid: at grid lines by arithmetic, else by outlines."""

    grid: Grid
    meeting: Meeting

    def footprints(self, features: Sequence[Any]) -> list[Footprint]:
        """Return where lines or polygons meet the plan cells; a column that holds no layer at all takes nothing."""
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
