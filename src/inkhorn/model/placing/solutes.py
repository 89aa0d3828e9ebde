"""Placing what brings no water: masses that come in, concentrations that are held or were there at the beginning."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from inkhorn.model.placing.footprints import Footprint
from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.solutes import HELD, RATE, START, Solute
from inkhorn.site import HeldConcentration, MassSource, SoluteFeature, StartingPlume, mean_value
from inkhorn.space import Surface

__all__ = ["SoluteSpot"]

_HALF = 0.5  # of a cell, from which on its concentration is held


@dataclass(frozen=True, eq=False)
class SoluteSpot(Spot):
    """A feature that is no term.

    Attributes
    ----------
    solutes : tuple of Solute
        What it brings of each species, or holds.
    """

    solutes: tuple[Solute, ...] = field(default=())


def _within(feature: SoluteFeature, place: Footprint, plan: Plan) -> tuple[Index, Array, Array]:
    """Cells that a feature meets, the share of each that it takes up, and the volume of that [m³]."""
    of = plan.grid.cells
    cells, entry = plan.column_cells(place)
    spot = feature.geometry in ("point", "cells")
    share = np.ones(len(cells)) if spot else place.size[entry] / of.area[cells]
    top = of.top[cells] if feature.top is None else np.minimum(of.top[cells], feature.top)
    bottom = of.bottom[cells] if feature.bottom is None else np.maximum(of.bottom[cells], feature.bottom)
    share = share * np.maximum(top - bottom, 0.0) / of.thickness[cells]
    there = share > 0.0
    cells, which = np.unique(cells[there], return_inverse=True)  # of larger cells below several parts
    share = np.minimum(np.bincount(which, share[there], len(cells)), 1.0)
    return cells, share, share * of.volume[cells]


def _on_cells(value: Any, cells: Index, plan: Plan) -> Any:
    """A value as cells have it: a surface at their centres, and never below 0."""
    if not isinstance(value, Surface):
        return value
    of = plan.grid.cells
    return np.maximum(value.at(of.x[cells], of.y[cells]), 0.0)


def _spots(features: list[Any], plan: Plan, kind: str) -> list[Spot]:
    spots: list[Spot] = []
    for feature, place in zip(features, plan.footprints(features), strict=True):
        cells, share, volume = _within(feature, place, plan)
        if kind == RATE:
            share = volume / volume.sum() if len(cells) else volume
        elif kind == HELD and len(cells):
            chosen = share >= min(_HALF, float(share.max()))
            cells, share = cells[chosen], np.ones(int(chosen.sum()))
        values = {n: _on_cells(v, cells, plan) for n, v in feature.concentrations.items()}
        solutes = tuple(
            Solute(kind, feature.name, n, cells, share, v) for n, v in values.items() if len(cells)
        )
        unit = "g/day in" if kind == RATE else "g/m³"
        total = sum(mean_value(v) for v in values.values()) if len(cells) else 0.0
        note = "of " + ", ".join(values)
        spots.append(SoluteSpot(feature, cells, {}, total, unit, place.outside, note, solutes=solutes))
    return spots


@places(MassSource, None)
def place_mass_sources(features: list[MassSource], plan: Plan) -> list[Spot]:
    """The cells that each takes up, by volume."""
    return _spots(features, plan, RATE)


@places(HeldConcentration, None)
def place_held(features: list[HeldConcentration], plan: Plan) -> list[Spot]:
    """The cells that lie half within, or most of all."""
    return _spots(features, plan, HELD)


@places(StartingPlume, None)
def place_plumes(features: list[StartingPlume], plan: Plan) -> list[Spot]:
    """The cells that each takes up, each by its share."""
    return _spots(features, plan, START)
