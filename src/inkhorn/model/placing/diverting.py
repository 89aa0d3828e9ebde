"""Recharge that goes straight into conduits instead of into the rock."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np

from inkhorn.model.placing.plan import Array, Footprint, Plan
from inkhorn.model.placing.traced import Traced
from inkhorn.site import QuickRecharge, Recharge

__all__ = ["diverted"]


def diverted(plan: Plan, feature: Recharge, place: Footprint, rate: Traced, there: Any) -> Array:
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
    less = np.zeros(len(place.plan))
    takers = [f for f in plan.features if isinstance(f, QuickRecharge) and f.share is not None]
    for taker in takers if feature.geometry == "polygon" else ():
        shape = feature.shape.intersection(taker.shape)
        if shape.area <= 0.0:
            continue
        (inside,) = plan.footprints([dataclasses.replace(feature, shape=shape)])
        size = np.zeros(len(plan.grid.mesh.x))
        size[inside.plan] = inside.size
        share = float(taker.share)  # type: ignore[arg-type]  # those with one were chosen
        mine = size[place.plan]
        less += share * mine
        water = (rate * mine[there]).summed(np.zeros(len(mine[there]), np.int64), 1)
        by_share = plan.value(taker, "share")
        plan.diverted.setdefault(taker.name, []).append(by_share * water)
    return less[there]
