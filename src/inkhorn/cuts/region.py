"""What the flow of a region says at the rim of a smaller grid: heads on its sides, and what passes through them."""

from __future__ import annotations

from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.model.terms import level_driving
from inkhorn.paths import VelocityMaker
from inkhorn.space import Grid, sampling_rows

__all__ = ["RegionAtRim", "ways_to_rim"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_SAME = 1e-6  # of a cell's size, and m of height: what lies so near is the same
_INSIDE = 1e-4  # of a side's length: how far within the rim a cell is looked for


class _Pieces(NamedTuple):
    """What of each side lies in which triangle of the region: the middle of the piece, and how much of the side it is."""

    side: Index
    triangle: Index
    middle: Array
    weight: Array


def ways_to_rim(model: Model) -> Array:
    """Return width over distance of each outer face, times how well the conductivity of its cell leads there [-]."""
    from inkhorn.space import plan_tensor

    outer = model.grid.outer_faces
    tensor = plan_tensor(model.anisotropy[outer.cell], model.direction[outer.cell])
    spread = np.ones(len(outer))
    if tensor is not None:
        spread = np.einsum("ni,nij,nj->n", outer.normal, tensor, outer.normal)
    least = 1e-3 * np.sqrt(model.grid.cells.area[outer.cell])
    return np.asarray(outer.length * spread / np.maximum(outer.distance, least))


class RegionAtRim:
    """The flow of a region on the outer faces of a smaller grid.

    Parameters
    ----------
    flow : FlowResult
        Of the region.
    local : Model
        Of the smaller grid, without anything at its rim.
    faces : ndarray of int, (n,)
        Outer faces of the smaller grid.
    """

    def __init__(self, flow: FlowResult, local: Model, faces: Index) -> None:
        self.flow, self.local, self.faces = flow, local, faces
        self.region: Grid = flow.model.grid
        outer = local.grid.outer_faces
        self.ends, self.normal = outer.ends[faces], outer.normal[faces]
        self.length, self.cell = outer.length[faces], outer.cell[faces]
        self.middle = self.ends.mean(axis=1)
        within = self.middle - _INSIDE * self.length[:, None] * self.normal
        home = self.region.mesh.locate(*within.T)
        self.home = np.where(home >= 0, home, self.region.mesh.locate(*self.middle.T))
        self.maker = VelocityMaker(flow)

    # --- where ---------------------------------------------------------------------------------------

    @cached_property
    def overlaps(self) -> tuple[Index, Index, Array, Array]:
        """Pairs of faces and layers of the region that they meet: face, layer, and from where to where [m]."""
        cells, there = self.local.grid.cells, self.home >= 0
        column = self.region.cell_number[:, np.maximum(self.home, 0)].T
        there = there[:, None] & (column >= 0)
        face, layer = np.nonzero(there)
        own, mine = self.region.cells, column[face, layer]
        low = np.maximum(cells.bottom[self.cell[face]], own.bottom[mine])
        high = np.minimum(cells.top[self.cell[face]], own.top[mine])
        some = high - low > 0.0
        return face[some], layer[some], low[some], high[some]

    @cached_property
    def layer(self) -> Index:
        """The layer of the region that each face stands in by its middle, or next to; -1 where there is none, (n,)."""
        cells = self.local.grid.cells
        middle = 0.5 * (cells.bottom + cells.top)[self.cell]
        column = self.region.cell_number[:, np.maximum(self.home, 0)]
        own = self.region.cells
        off = np.maximum(np.maximum(own.bottom[column] - middle, middle - own.top[column]), 0.0)
        off = np.where((column >= 0) & (self.home >= 0), off, np.inf)
        nearest = off.argmin(axis=0)
        return np.where(np.isfinite(off[nearest, np.arange(len(nearest))]), nearest, -1)

    @cached_property
    def region_cell(self) -> Index:
        """The cell of the region just within each face, -1 where there is none, (n,)."""
        found = self.region.cell_number[np.maximum(self.layer, 0), np.maximum(self.home, 0)]
        return np.where(self.layer >= 0, found, -1)

    @cached_property
    def shared(self) -> tuple[Index, Index, Array]:
        """Faces that are faces of the region, too: which, which of the region's, and 1 where that leads in, else -1.

        Theirs is the region's cell within, in height, and in plan from the centre to the face.
        """
        from scipy.spatial import KDTree

        found, number, way = [], [], []
        cells, own = self.local.grid.cells, self.region.cells
        here = self.region_cell
        alike = here >= 0
        for name in ("bottom", "top"):
            alike &= np.abs(getattr(cells, name)[self.cell] - getattr(own, name)[here]) < _SAME
        size = np.sqrt(own.area[np.maximum(here, 0)])
        alike &= np.hypot(cells.x[self.cell] - own.x[here], cells.y[self.cell] - own.y[here]) < _SAME * size
        for k, (_, edges, _, _, face, _, _) in enumerate(self.maker.side_faces):
            mine = np.flatnonzero(alike & (self.layer == k))
            if not len(mine) or not len(edges.cells):
                continue
            off, edge = KDTree(edges.middle).query(self.middle[mine])
            same = (off < _SAME * size[mine]) & (face[edge] >= 0)
            same &= np.abs(edges.length[edge] - self.length[mine]) < 10.0 * _SAME * size[mine]
            found.append(mine[same])
            number.append(face[edge[same]])
            way.append(
                np.where((edges.normal[edge[same]] * self.normal[mine[same]]).sum(axis=1) > 0.0, -1.0, 1.0)
            )
        none: tuple[Any, ...] = (np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0))
        parts = (found, number, way)
        return tuple(np.concatenate([e, *p]) for e, p in zip(none, parts, strict=True))  # type: ignore[return-value]

    @cached_property
    def _pieces(self) -> tuple[Index, _Pieces]:
        """The sides in plan that faces stand on, each once, and what of each lies in which triangle."""
        import shapely

        grain = 1e-6 * float(np.sqrt(self.region.mesh.area.min()))
        keys = np.round(self.ends.reshape(len(self.ends), 4) / grain).astype(np.int64)
        _, first, which = np.unique(keys, axis=0, return_index=True, return_inverse=True)
        ends, fans = self.ends[first], self.maker.fans
        tree = shapely.STRtree(self.region.mesh.polygons())
        side, plan = tree.query(shapely.linestrings(ends), predicate="dwithin", distance=grain)
        count = fans.first[plan + 1] - fans.first[plan]
        side = np.repeat(side, count)
        triangle = (
            np.arange(len(side))
            - np.repeat(np.cumsum(count) - count, count)
            + np.repeat(fans.first[plan], count)
        )
        begin, step = ends[side, 0] - fans.origin, ends[side, 1] - ends[side, 0]
        low, high = np.zeros(len(side)), np.ones(len(side))
        for k in range(3):
            a, b = fans.corner[triangle, (k + 1) % 3], fans.corner[triangle, (k + 2) % 3]
            along = b - a
            size = np.maximum(np.hypot(*along.T), 1e-300)
            # how far within a triangle a side begins, and what it gains on its way
            at = (
                along[:, 0] * (begin[:, 1] - a[:, 1]) - along[:, 1] * (begin[:, 0] - a[:, 0])
            ) / size + grain
            gain = (along[:, 0] * step[:, 1] - along[:, 1] * step[:, 0]) / size
            with np.errstate(divide="ignore", invalid="ignore"):
                meets = -at / gain
            low = np.where(gain > 0.0, np.maximum(low, meets), low)
            high = np.where(gain < 0.0, np.minimum(high, meets), high)
            high = np.where((gain == 0.0) & (at < 0.0), -1.0, high)
        some = (high - low) * np.hypot(*step.T) > 10.0 * grain  # no mere corners
        side, triangle, low, high = side[some], triangle[some], low[some], high[some]
        covered = np.bincount(
            side, high - low, len(first)
        )  # twice along the sides of triangles, which say the same
        middle = begin[some] + (0.5 * (low + high))[:, None] * step[some]
        return np.asarray(which).ravel(), _Pieces(side, triangle, middle, (high - low) / covered[side])

    # --- what ----------------------------------------------------------------------------------------

    def inflow(self, step: int) -> Array:
        """Return what flows in through each face over a step, of the region, (n,) [m³/day].

        In each triangle of the region's cells the flow is that of lowest order which balances: along sides of cells
        what the region passes there, elsewhere what balances with its sources spread evenly over its cells.
        """
        side_of, pieces = self._pieces
        fans, n = self.maker.fans, int(side_of.max(initial=-1)) + 1
        value, slope = self.maker.in_plan(step)
        one = np.zeros(n, dtype=np.int64)
        one[side_of] = np.arange(len(side_of))  # a face on each side
        normal, length = self.normal[one], self.length[one]
        arm = pieces.middle - fans.corner[pieces.triangle, 0]
        through = np.zeros((len(self.region.layer_names), n))
        for k in range(len(through)):
            prism = k * len(fans) + pieces.triangle
            speed = value[prism] + slope[prism][:, None] * arm
            out = (speed * normal[pieces.side]).sum(axis=1) * pieces.weight * length[pieces.side]
            through[k] = -np.bincount(pieces.side, out, n)
        return self._shared_out(through, side_of, step)

    def _shared_out(self, through: Array, side_of: Index, step: int) -> Array:
        """Share what passes each side in each layer of the region among the faces there, by water and conductivity."""
        face, layer, low, high = self.overlaps
        own = self.region.cell_number[layer, self.home[face]]
        heads = self.flow.steps[step].heads
        wet = high if self.flow.model.water_table.confined else np.clip(heads[own], low, high)
        conductivity = self.local.horizontal_conductivity[self.cell[face]]
        weight = (np.maximum(wet - low, 0.0) + 1e-9 * (high - low)) * conductivity
        key = side_of[face] * len(through) + layer
        whole = np.bincount(key, weight, through.size)
        share = weight / whole[key]
        return np.asarray(np.bincount(face, share * through[layer, side_of[face]], len(self.faces)))

    @cached_property
    def _rows(self) -> Any:
        return sampling_rows(self.region, np.maximum(self.layer, 0), *self.middle.T)

    def heads(self, step: int) -> Array:
        """Return the head on each face at the end of a step, (n,) [m]; NaN where the region has no cell.

        Where the cell within is one of the region's, the head that drives into it what passes there; else between the
        centres of its cells.
        """
        record = self.flow.steps[step]
        found = np.asarray(self._rows @ record.heads)
        found[self.layer < 0] = np.nan
        which, number, way = self.shared
        if len(which):
            cell, cells = self.cell[which], self.local.grid.cells
            lets = self.local.horizontal_conductivity[cell] * ways_to_rim(self.local)[self.faces[which]]
            found[which] = level_driving(
                way * record.face_flow[number], record.heads[self.region_cell[which]], lets, cells.bottom[cell],
                cells.top[cell], self.local.water_table,
            )  # fmt: skip
        return found
