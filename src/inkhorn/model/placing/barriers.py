"""Placing barriers: they stand in faces, and are no term."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.traced import Traced
from inkhorn.site import Barrier

__all__ = ["FaceSpot"]

_ON_CENTRE = 1e-6  # of a cell's width: how near to a centre a line passes through it
_BEYOND = 0.32  # of a cell: how much farther than it is drawn a wall made of closed faces acts
_LEAST = 0.05  # share of a face that its projection on the wall is, at least


@dataclass(frozen=True, eq=False)
class FaceSpot(Spot):
    """A feature that stands in faces between cells.

    Attributes
    ----------
    faces : ndarray of int, (n,)
        Which.
    resistance : Traced, (n,)
        Thickness over conductivity of what stands in each [day].
    """

    faces: Any = None
    resistance: Any = None


def _between(plan: Plan, feature: Barrier, side: Index) -> tuple[Index, float]:
    """Side faces between cells told one by one, by twos, and the share of these pairs that have none."""
    told: list[list[int]] = [[] for _ in range(len(feature.shape))]
    for cell, k in zip(*(part.tolist() for part in plan.picked(feature, again=True)), strict=True):
        told[k].append(cell)  # of a layer in parts there are several
    pairs = [
        (k, min(pair), max(pair))
        for k, (one, other) in enumerate(zip(told[::2], told[1::2], strict=True))
        for pair in product(one, other)
    ]
    whose, *ends = np.array(pairs, dtype=np.int64).reshape(-1, 3).T
    asked = ends[0] * plan.grid.n_cells + ends[1]
    known = np.sort(plan.grid.faces.cells[side], axis=1) @ [plan.grid.n_cells, 1]
    met = np.unique(whose[np.isin(asked, known)])
    return side[np.isin(known, asked)], 1.0 - len(met) / (len(told) // 2)


def _crossed(line: Any, between: Array, width: float) -> tuple[NDArray[np.bool_], Array]:
    """Which straight ways from centre to centre, (n, 2, 2), a line parts, and its direction there, (n, 2).

    Those that it crosses once, or another odd number of times; centres on it lie to its left.
    """
    import shapely

    ends = between.copy()
    points = shapely.points(ends)
    on = shapely.distance(line, points) <= _ON_CENTRE * width
    if on.any():
        ahead = _ahead(line, shapely.line_locate_point(line, points[on]), 0.01 * width)
        ends[on] += 1000.0 * _ON_CENTRE * width * np.column_stack([-ahead[:, 1], ahead[:, 0]])
    met = shapely.intersection(line, shapely.linestrings(ends))
    parted = shapely.get_num_geometries(met) % 2 == 1
    parted &= ~shapely.is_empty(met)
    places = shapely.line_locate_point(line, shapely.point_on_surface(met[parted]))
    return parted, _ahead(line, places, 1e-3 * width)


def _as_it_acts(plan: Plan, feature: Barrier, walls: list[Barrier]) -> Any:
    """A wall without the last third of a cell at an end inside the model.

    Closed faces hold water up as a plate does that reaches a third of a cell farther than their centres tell: so one
    finds from the jump across plates in uniform flow at many angles. At the outline or another wall it ends there.
    """
    import shapely
    from shapely.ops import substring

    line = feature.shape
    if line.is_ring:
        return line
    corners = shapely.get_coordinates(line)[[0, -1]]
    home = plan.grid.mesh.locate(*corners.T)
    cut = []
    for corner, cell in zip(shapely.points(corners), home.tolist(), strict=True):
        size = float(np.sqrt(plan.grid.mesh.area[cell])) if cell >= 0 else 0.0
        others = [w.shape for w in walls if w is not feature and w.geometry == "line"]
        met = [plan.rim_lines, *([plan.boundary.boundary] * (plan.boundary is not None)), *others]
        free = cell >= 0 and not any(shapely.dwithin(m, corner, size) for m in met)
        cut.append(min(_BEYOND * size, 0.25 * line.length) if free else 0.0)
    return substring(line, cut[0], line.length - cut[1]) if any(cut) else line


def _ahead(line: Any, at: Array, step: float) -> Array:
    """The direction of a line at places along it, (n, 2)."""
    import shapely

    before, after = (
        shapely.get_coordinates(shapely.line_interpolate_point(line, np.clip(at + way, 0.0, line.length)))
        for way in (-step, step)
    )
    run = np.hypot(*(after - before).T)[:, None]
    return np.asarray((after - before) / np.where(run > 0, run, 1.0))


@places(Barrier, None)
def place_barriers(features: list[Barrier], plan: Plan) -> list[Spot]:
    """Side faces between centres that a line parts; several in one face add up.

    Where the line runs oblique to a face, the wall has less area than the face: its resistance is larger by what the
    one is projected on the other. So uniform flow through a straight wall is exact where centres are joined at right
    angles to their face, and a wall that lets nothing through closes every face whole.
    """
    import shapely

    if not features:
        return []
    grid, faces = plan.grid, plan.grid.faces
    side = np.flatnonzero(~faces.is_floor)
    between = np.column_stack([grid.cells.x, grid.cells.y])[faces.cells[side]]  # from centre to centre
    lines = any(f.geometry == "line" for f in features)
    tree = shapely.STRtree(shapely.linestrings(between) if lines else [])
    width = float(np.sqrt(grid.mesh.area.min()))
    spots: list[Spot] = []
    for feature in features:
        if feature.geometry == "cells":
            mine, missed = _between(plan, feature, side)
            share = np.ones(len(mine))
        else:
            line = _as_it_acts(plan, feature, features)
            close = np.sort(tree.query(line, predicate="dwithin", distance=_ON_CENTRE * width))
            parted, ahead = _crossed(line, between[close], width)
            mine = side[close[parted]]
            across = np.abs(ahead[:, 0] * faces.normal[mine, 1] - ahead[:, 1] * faces.normal[mine, 0])
            cut = np.isin(grid.cells.layer[faces.cells[mine, 0]], plan.rows(feature))
            if feature.foot is not None:
                cut &= faces.centroid[mine, 2] > feature.foot
            mine, share = mine[cut], np.maximum(across[cut], _LEAST)
            missed = float(len(mine) == 0)
        if feature.leakance is not None:
            resistance = 1.0 / plan.value(feature, "leakance")
        else:
            resistance = plan.value(feature, "thickness") / plan.value(feature, "conductivity")
        spots.append(
            FaceSpot(
                feature,
                np.unique(faces.cells[mine]),
                {},
                float((faces.area[mine] * share).sum()),
                "m² of wall",
                missed,
                _told(plan, feature, mine, share),
                faces=mine,
                resistance=resistance.spread((len(mine),)) / share if len(mine) else Traced([]),
            )
        )
    return spots


def _told(plan: Plan, feature: Barrier, mine: Index, share: Array) -> str:
    """What of a wall landed in which faces: its length in its longest layer, theirs, and down to where."""
    if not len(mine):
        return ""
    faces = plan.grid.faces
    layer = plan.grid.cells.layer[faces.cells[mine, 0]]
    run = np.hypot(*(faces.ends[mine, 1] - faces.ends[mine, 0]).T)
    wall, sides = (float(np.bincount(layer, v).max()) for v in (run * share, run))
    words = [f"{wall:.4g} m of it in {len(mine)} faces"]
    if sides > 1.001 * wall:
        words.append(f"{sides:.4g} m of sides, of which its projection counts")
    if feature.foot is not None:
        words.append(f"down to {plan.grid.cells.bottom[faces.cells[mine]].min():.4g} m")
    return ", ".join(words)
