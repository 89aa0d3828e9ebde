"""The one law of water that passes through the side of a cell from a level outside, through what lies between."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.model.laws import WaterTable, transmitted
from inkhorn.model.terms.base import Moment

__all__ = ["Through", "level_driving", "through_side"]

Array = NDArray[np.float64]

_ROUNDS = 200  # of Newton's method, mostly five
_ALIKE = 1e-6  # m between levels that are taken for alike where their difference divides


@dataclass(frozen=True, eq=False)
class Through:
    """Flow into each cell [m³/day], and its derivatives, (n,).

    Attributes
    ----------
    flow, by_level, by_head : ndarray of float
        The flow, and by the level outside and the head [m³/day], [m²/day].
    by_conductance, by_way, by_beyond, by_conductivity : ndarray of float
        By what resists, and the conductivity of the cell.
    """

    flow: Array
    by_level: Array
    by_head: Array
    by_conductance: Array
    by_way: Array
    by_beyond: Array
    by_conductivity: Array


def through_side(
    moment: Moment,
    cells: NDArray[np.int64],
    level: Array,
    head: Array,
    conductance: Any,
    way: Any,
    beyond: Any,
) -> Through:
    """Return the flow between levels outside and cells.

    Three resistances in series: a conductance; ground whose transmissivity follows the water in it, on the way from the
    centre of the cell to its side; and more such ground beyond. The integral of the depth of water from one level to
    the other drives the flow through such ground: with it alone, Dupuit's formula.

    Parameters
    ----------
    moment : Moment
        Cells, their conductivity, and the law of partly filled ones.
    cells : ndarray of int, (n,)
    level, head : ndarray of float, (n,)
        Outside, and of the cell [m].
    conductance : ndarray of float, (n,)
        [m²/day]; infinite where there is none.
    way : ndarray of float, (n,)
        Width over length of the way through the cell, times how well its conductivity leads there [-]; infinite where
        there is none.
    beyond : ndarray of float, (n,)
        Conductance of the ground beyond, for a metre of water [m/day]; infinite where there is none.
    """
    k = moment.horizontal_conductivity[cells]
    with np.errstate(divide="ignore"):
        own = 1.0 / (k * way)
        rest = own + 1.0 / beyond  # day/m
        before = 1.0 / conductance
    bottom, top = moment.cells.bottom[cells], moment.cells.top[cells]
    area, depth = transmitted(level, bottom, top, moment.law)
    area_in, depth_in = transmitted(head, bottom, top, moment.law)
    apart, drive = level - head, area - area_in
    alike = np.abs(apart) < _ALIKE
    safe = np.where(alike, 1.0, apart)
    mean = np.where(alike, 0.5 * (depth + depth_in), drive / safe)
    up, down = (np.where(alike, 0.0, v / safe) for v in (depth - mean, mean - depth_in))
    drive = mean * apart
    # a conductance alone does not ask for the depth of the water
    plain = rest == 0.0
    held = np.where(plain, 1.0, mean * before + rest)
    share = np.where(plain, 0.0, drive / held**2)
    with np.errstate(divide="ignore", invalid="ignore"):
        alone = np.where(plain, conductance, 0.0)
        by_conductance = np.where(np.isfinite(before), share * mean * before**2, apart)
        by_conductance = np.where(plain, apart, by_conductance)
        by_way = np.where(np.isfinite(way), share * own / way, 0.0)
        by_beyond = np.where(np.isfinite(beyond), share / beyond**2, 0.0)
        by_k = np.where(np.isfinite(way), share * own / k, 0.0)
    through = np.where(plain, 0.0, 1.0)
    return Through(
        flow=through * drive / held + alone * apart,
        by_level=through * depth / held - share * before * up + alone,
        by_head=-through * depth_in / held - share * before * down - alone,
        by_conductance=by_conductance,
        by_way=by_way,
        by_beyond=by_beyond,
        by_conductivity=by_k,
    )


def level_driving(flow: Array, head: Array, lets: Array, bottom: Array, top: Array, law: WaterTable) -> Array:
    """Return the level at a side that drives given flows through the ground from there to the centre of a cell.

    What `through_side` says the other way about, where nothing else resists.

    Parameters
    ----------
    flow : ndarray of float, (n,)
        Into each cell [m³/day].
    head : ndarray of float, (n,)
        Of the cell [m].
    lets : ndarray of float, (n,)
        What the ground lets through for a metre of water: its conductivity times width over length [m/day].
    bottom, top : ndarray of float, (n,)
        Of the cell [m].
    law : WaterTable
        Of partly filled cells.
    """
    asked = transmitted(head, bottom, top, law)[0] + flow / lets
    level = np.array(head, dtype=np.float64)
    for _ in range(_ROUNDS):
        found, depth = transmitted(level, bottom, top, law)
        # the integral bends upwards: from above each step stays above, from below the first one leads there
        step = (asked - found) / depth
        level = level + step
        if (np.abs(step) <= 1e-13 * (np.abs(level) + 1.0)).all():
            break
    return level
