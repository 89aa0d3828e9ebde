"""Placing barriers: they stand in faces, and are no term."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from inkhorn.model.placing.plan import Index, Plan, Spot, places
from inkhorn.model.placing.traced import Traced
from inkhorn.site import Barrier

__all__ = ["FaceSpot"]


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


@places(Barrier, None)
def place_barriers(features: list[Barrier], plan: Plan) -> list[Spot]:
    """Side faces between centres that a line parts; several in one face add up."""
    import shapely

    if not features:
        return []
    grid, faces = plan.grid, plan.grid.faces
    side = np.flatnonzero(~faces.is_floor)
    lines = [f for f in features if f.geometry == "line"]
    crossed: dict[int, Index] = {}
    if lines:
        centre = np.column_stack([grid.cells.x, grid.cells.y])[faces.cells[side]]
        shapes = np.array([f.shape for f in lines], dtype=object)
        whose, at = shapely.STRtree(shapely.linestrings(centre)).query(shapes, predicate="intersects")
        crossed = {id(f): side[at[whose == k]] for k, f in enumerate(lines)}
    spots: list[Spot] = []
    for feature in features:
        if feature.geometry == "cells":
            cells, _ = plan.picked(feature)
            pairs = np.sort(cells[: 2 * (len(cells) // 2)].reshape(-1, 2), axis=1)
            known = np.sort(faces.cells[side], axis=1)
            mine = side[np.isin(known @ [grid.n_cells, 1], pairs @ [grid.n_cells, 1])]
        else:
            mine = crossed[id(feature)]
            mine = mine[np.isin(grid.cells.layer[faces.cells[mine, 0]], plan.rows(feature))]
        if feature.leakance is not None:
            resistance = 1.0 / plan.value(feature, "leakance")
        else:
            resistance = plan.value(feature, "thickness") / plan.value(feature, "conductivity")
        spots.append(
            FaceSpot(
                feature,
                np.unique(faces.cells[mine]),
                {},
                float(faces.area[mine].sum()),
                "m² of faces",
                float(len(mine) == 0),
                faces=mine,
                resistance=resistance.spread((len(mine),)) if len(mine) else Traced([]),
            )
        )
    return spots
