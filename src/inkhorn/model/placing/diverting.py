"""Recharge that goes straight into conduits instead of into the rock."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np

from inkhorn.errors import InputError
from inkhorn.model.placing.footprints import Footprint
from inkhorn.model.placing.plan import Plan
from inkhorn.model.placing.traced import Traced, plain
from inkhorn.site import Recharge

__all__ = ["diverted"]


def diverted(plan: Plan, feature: Recharge, place: Footprint, rate: Traced, there: Any) -> Traced:
    """Return how much of the area of each entry of a recharge counts less, and keep that water for the conduits.

    Parameters
    ----------
    plan : Plan
    feature : Recharge
    place : Footprint
        Of it.
    rate : Traced, (n,) or (n_periods, n)
        At each entry [m/day].
    there : index
        Which parts of the footprint the entries are.
    """
    area = place.size if place.cells is None else plan.grid.cells.area[place.cells]
    less, whole = Traced(np.zeros(len(place.plan))), np.zeros(len(place.plan))
    for taker in plan.takers:
        shape = taker.shape
        if place.cells is None:
            shape = feature.shape.intersection(taker.shape)
        if shape.area <= 0.0:
            continue
        (inside,) = plan.footprints([dataclasses.replace(taker, shape=shape)])
        size = np.zeros(len(plan.grid.mesh.x))
        size[inside.plan] = inside.size
        mine, by_share = size[place.plan], plan.value(taker, "share")
        less, whole = less + by_share * mine, whole + plain(by_share) * mine
        if (whole > (1.0 + 1e-9) * area).any():
            raise InputError(
                f"{taker.where}: with others it takes more than all of the recharge where they overlap. Give "
                "smaller shares."
            )
        water = (rate * mine[there]).summed(np.zeros(len(mine[there]), np.int64), 1)
        plan.diverted.setdefault(taker.name, []).append(by_share * water)
    return less[there]
