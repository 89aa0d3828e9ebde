"""What of a line lies along the outline, and the outer faces there through which it acts."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from inkhorn.model.placing.footprints import Footprint
from inkhorn.model.placing.plan import Array, Index, Plan
from inkhorn.space import plan_tensor

__all__ = ["OnRim", "along_rim", "parts_of"]

_ON_RIM = 1e-3  # of a cell's size: how near to the rim, or to the boundary, a line is on it
_NEAR = 1.5  # cells: how far from a boundary the sides of cells may stand that stand for it
_REACH = 3.0  # distances to its side: how far from a cell's centre the line is looked for
_LEAST = 1e-3  # of that distance: no nearer to a centre is a line taken to pass
_SAMPLES = (np.arange(32) + 0.5) / 32.0  # along a face, to see what of it stands for a line


@dataclass(frozen=True, eq=False)
class OnRim:
    """Outer faces along a line, the steps of one cell together.

    Attributes
    ----------
    place : Footprint
        One entry for each: the plan cell inside, how much of the line it stands for [m], and where on the line the way
        from the centre of its cell along the conormal ends.
    face, cell : ndarray of int, (n,)
        Of the grid's outer faces, the longest of steps, and whose.
    way : ndarray of float, (n,)
        Width of what stands for the line over its distance, times how well the tensor leads there [-].
    share : ndarray of float, (n,)
        What of the face stands for it [-].
    """

    place: Footprint
    face: Index
    cell: Index
    way: Array
    share: Array


def parts_of(feature: Any, shapes: list[Any]) -> list[Any]:
    """Return the same feature along parts of its line; its values are still those along all of it."""
    parts = []
    for shape in shapes:
        part = copy(feature)  # no new feature: values may be more than a part has vertices
        object.__setattr__(part, "shape", shape)
        parts.append(part)
    return parts


class _Beside(NamedTuple):
    """Outer faces that stand for a stretch of the outline.

    Attributes
    ----------
    face : ndarray of int, (n,)
        Which; the longest of steps.
    cover : ndarray of float, (n,)
        How much of the stretch each stands for [m].
    share : ndarray of float, (n,)
        What of each stands for it [-].
    span : ndarray of float, (n, 2)
        Unit vectors out of it, times width [m]: of the steps of one cell their sum.
    """

    face: Index
    cover: Array
    share: Array
    span: Array


def along_rim(plan: Plan, feature: Any, rows: list[int] | None = None) -> tuple[OnRim | None, list[Any]]:
    """Return the outer faces along which a line lies on the outline, None if nowhere, and the rest of the line.

    Where cells are whole along a slanted outline, their steps there stand for it. The head where the way from a centre
    along the conormal meets the line, and the one at the centre, give the flow through a face exactly where the head is
    linear, under any tensor.

    Parameters
    ----------
    plan : Plan
    feature : Feature
        With a line for its shape.
    rows : list of int, optional
        Of which layers; of the uppermost cell of each column if not given.
    """
    import shapely

    line, grid, outer = feature.shape, plan.grid, plan.grid.outer_faces
    size = plan.rim_size
    outlines = [plan.rim_lines, *([plan.boundary.boundary] * (plan.boundary is not None))]
    near = [o.buffer(_ON_RIM * size) for o in outlines if shapely.dwithin(o, line, _ON_RIM * size)]
    if not near:
        return None, [line]
    on = shapely.line_merge(line.intersection(shapely.union_all(near)))
    stretches = [g for g in shapely.get_parts(on) if g.length > 8.0 * _ON_RIM * size]  # no mere crossings
    if rows is None:
        wanted = np.flatnonzero(grid.uppermost[grid.cells.plan_cell[outer.cell]] == outer.cell)
    else:
        wanted = np.flatnonzero(np.isin(grid.cells.layer[outer.cell], rows))
    parts = [_beside(plan, stretch, wanted) for stretch in stretches]
    if not any(len(p.face) for p in parts):
        return None, [line]
    beside = _Beside(*(np.concatenate(v) for v in zip(*parts, strict=True)))
    rest = line.difference(shapely.MultiLineString(stretches).buffer(_ON_RIM * size))
    left = [g for g in shapely.get_parts(rest) if g.length > 4.0 * _ON_RIM * size]
    met = sum(g.length for g in (*stretches, *left))
    at, way = _met(plan, line, beside)
    cell = outer.cell[beside.face]
    outside = max(1.0 - met / line.length, 0.0)
    place = Footprint(feature, grid.cells.plan_cell[cell], beside.cover, at, None, outside)
    return OnRim(place, beside.face, cell, way, beside.share), left


def _beside(plan: Plan, stretch: Any, wanted: Index) -> _Beside:
    """Those that lie on it; and of steps those whose middle is nearer to it than to the rest of the outline."""
    import shapely

    outer = plan.grid.outer_faces
    size = np.sqrt(plan.grid.cells.area[outer.cell[wanted]])
    away = shapely.distance(stretch, shapely.points(outer.middle[wanted]))
    close = away <= _NEAR * size
    wanted, size, away = wanted[close], size[close], away[close]
    ends = outer.ends[wanted]
    points = shapely.points(ends[:, :1] + _SAMPLES[:, None] * (ends[:, 1:] - ends[:, :1]))
    flat = (shapely.distance(stretch, points) <= 2.0 * _ON_RIM * size[:, None]).sum(axis=1) > 1
    begin, end = (shapely.line_locate_point(stretch, shapely.points(ends[:, k])) for k in (0, 1))
    cover = np.abs(end - begin)
    if stretch.is_ring:
        cover = np.minimum(cover, stretch.length - cover)
    nearest = np.ones(len(wanted), dtype=bool)
    if plan.boundary is not None and not flat.all():
        others = plan.boundary.boundary.difference(stretch.buffer(2.0 * _ON_RIM * float(size.min())))
        if not others.is_empty:
            nearest = away < shapely.distance(others, shapely.points(outer.middle[wanted]))
    kept = flat | nearest
    wanted, cover, flat = wanted[kept], cover[kept], flat[kept]
    run = outer.length[wanted]
    share = np.where(flat, np.minimum(cover / run, 1.0), 1.0)
    span = (share * run)[:, None] * outer.normal[wanted]
    # the steps of one cell act together, as what they stand for does
    key = np.where(flat, len(outer) + np.arange(len(wanted)), outer.cell[wanted])
    order = np.lexsort((-run, key))
    first = np.unique(key[order], return_index=True)[1]
    group = np.searchsorted(key[order][first], key)
    span = np.column_stack([np.bincount(group, span[:, k], len(first)) for k in (0, 1)])
    cover, longest = np.bincount(group, cover, len(first)), order[first]
    if not flat.all():  # steps cover it once
        layer = plan.grid.cells.layer[outer.cell[wanted[longest]]]
        cover = cover * (stretch.length / np.bincount(layer, cover))[layer]
    real = np.hypot(*span.T) > 1e-9 * run[longest]  # not of a cell that sticks out with a step on either side
    return _Beside(wanted[longest][real], cover[real], share[longest][real], span[real])


def _met(plan: Plan, line: Any, beside: _Beside) -> tuple[Array, Array]:
    """Where on a line the conormal from each centre ends, and how well what is between conducts."""
    import shapely

    outer, cells = plan.grid.outer_faces, plan.grid.cells
    cell, width = outer.cell[beside.face], np.hypot(*beside.span.T)
    normal = beside.span / width[:, None]
    tensor = plan_tensor(*(plan.properties[name].values[cell] for name in ("anisotropy", "direction")))
    conormal = normal if tensor is None else np.einsum("nij,nj->ni", tensor, normal)
    spread = (conormal * normal).sum(axis=1)
    along = conormal / spread[:, None]  # 1 m off
    centre = np.column_stack([cells.x, cells.y])[cell]
    side = np.maximum(outer.distance[beside.face], _LEAST * np.sqrt(cells.area[cell]))
    rays = shapely.linestrings(np.stack([centre, centre + _REACH * side[:, None] * along], axis=1))
    crossed = shapely.intersection(rays, line)
    there = ~shapely.is_empty(crossed)
    end = shapely.points(centre + side[:, None] * along)
    end[there] = shapely.get_point(shapely.shortest_line(shapely.points(centre[there]), crossed[there]), -1)
    foot = np.column_stack([shapely.get_x(end), shapely.get_y(end)])
    at = shapely.line_locate_point(line, end, normalized=True)
    corners = shapely.get_coordinates(line)
    for near, far, last in ((corners[0], corners[1], 0.0), (corners[-1], corners[-2], 1.0)):
        mine = ~there & (at == last)  # past an end it goes on as it ends
        ahead = (near - far) / np.hypot(*(near - far))
        across = np.array([-ahead[1], ahead[0]])
        with np.errstate(divide="ignore", invalid="ignore"):
            ray = ((near - centre) @ across) / (along @ across)
        mine &= (ray > 0.0) & (ray < _REACH * side)
        foot[mine] = centre[mine] + ray[mine, None] * along[mine]
        past = ((foot - near) @ ahead) / line.length
        at[mine] = (last + (2.0 * last - 1.0) * past)[mine]
    distance = np.maximum(((foot - centre) * normal).sum(axis=1), _LEAST * side)
    return at, width * spread / distance
