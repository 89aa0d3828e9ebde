"""Values changed by hand once they are placed."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InkhornWarning, InputError, did_you_mean
from inkhorn.fields import RandomField
from inkhorn.model.placing.plan import Index
from inkhorn.model.placing.random_values import RandomValues
from inkhorn.model.placing.site_inputs import SiteInputs
from inkhorn.model.placing.targets import Target
from inkhorn.model.placing.traced import Traced, where
from inkhorn.model.zones import ZoneMap
from inkhorn.site import Edit, Schedule, Series, in_each_period
from inkhorn.space import Grid, PointSurface

__all__ = ["CONDUCTIVITY", "change", "changed_by", "chosen_cells", "edit_row", "edit_targets"]

CONDUCTIVITY = "conductivity"
"""As what an edit is of: the horizontal conductivity, with which the vertical one changes in proportion."""
_BOTH = ("horizontal_conductivity", "vertical_conductivity")


def changed_by(edit: Edit) -> tuple[str, ...]:
    """Return the names of the arrays that an edit changes, by the first of which it says what and where."""
    return _BOTH if edit.of == CONDUCTIVITY else (edit.of,)


def chosen_cells(
    edit: Edit,
    grid: Grid,
    zones: Mapping[str, ZoneMap],
    cells: Index,
    features: NDArray[Any] | None = None,
) -> NDArray[np.bool_]:
    """Return which of some cells, of features if given, an edit is meant for; it must be for one at least."""
    import shapely

    of = grid.cells
    chosen = np.ones(len(cells), dtype=bool)
    if edit.layers:
        rows = [k for name in edit.layers for k in grid.layers_named(name, edit.where)]
        chosen &= np.isin(of.layer[cells], rows)
    if edit.shape is not None:
        points = [g for g in shapely.get_parts(edit.shape) if g.geom_type == "Point"]
        if points:
            plan = grid.mesh.locate([p.x for p in points], [p.y for p in points])
            chosen &= np.isin(cells, grid.cell_number[:, plan[plan >= 0]])
        else:
            chosen &= shapely.contains_xy(edit.shape, of.x[cells], of.y[cells])
    if edit.zone is not None:
        division, zone = edit.zone
        if division not in zones:
            raise InputError(
                f'{edit.where} names the zones "{division}"; expected one of {list(zones)}.'
                f"{did_you_mean(division, list(zones))}"
            )
        chosen &= zones[division].mask(zone, edit.where)[cells]
    if edit.feature is not None:
        if features is None or edit.feature not in features:
            there = [] if features is None else sorted(set(features.tolist()))
            raise InputError(f'{edit.where} names the feature "{edit.feature}"; expected one of {there}.')
        chosen &= features == edit.feature
    if not chosen.any():
        if not edit.may_miss:
            raise InputError(
                f"{edit.where} meets no cell. Check its layers, its shape, its zone and its feature."
            )
        warnings.warn(
            f"{edit.where} meets no cell of this part, and changes nothing.", InkhornWarning, stacklevel=2
        )
    return chosen


def edit_row(edit: Edit, number: int) -> dict[str, Any]:
    """Return what an edit did, as a row of the table of what landed."""
    layers = f"in {', '.join(edit.layers)}" if edit.layers else ""
    zone = f"in {edit.zone[1]}" if edit.zone else ""
    return {
        "feature": edit.of,
        "kind": "edit",
        "cells": number,
        "unit": "",
        "share outside": 0.0,
        "note": "; ".join(n for n in (edit.how, layers, zone, edit.reason, edit.source) if n),
    }


def _value(
    edit: Edit,
    number: int,
    target: Target,
    chosen: NDArray[np.bool_],
    plan: Any,
    zones: Mapping[str, ZoneMap],
) -> Traced:
    """The value of an edit at each place of its target, (n,) or (n_periods, n)."""
    grid: Grid = plan.grid
    if isinstance(edit.value, RandomField):
        drawn = RandomValues(edit, edit.value, target, chosen, grid, zones)
        return Traced(drawn.at(edit.value.seed))
    owner, n = f"edit {number + 1} of {edit.of}", len(target.cells)
    inputs: SiteInputs = plan.inputs
    if isinstance(edit.value, int | float | Series):
        schedule: Schedule | None = plan.schedule
        value = in_each_period(edit.value, schedule, edit.where)
        is_factor = isinstance(edit.value, Series)
        own = inputs.of(owner, "value", 1.0 if is_factor else edit.value, is_factor=is_factor)
        slope = value.ravel() if is_factor else np.ones(1)
        made = Traced(value, np.arange(value.size), np.full(value.size, own[0]), slope)
        return made.spread((*value.shape[:-1], n))
    x, y = grid.cells.x[target.cells], grid.cells.y[target.cells]
    if isinstance(edit.value, PointSurface) and edit.value.weighs:
        numbers, z = inputs.of(owner, "point", edit.value.z), np.asarray(edit.value.z)
        points = Traced(z, np.arange(len(z)), numbers, np.ones(len(z)))
        rows = edit.value.rows(x, y)
        return points.log().times(rows).exp() if edit.value.on_logarithms else points.times(rows)
    return Traced(edit.value.at(x, y))


def edit_targets(
    targets: dict[str, Target], edits: list[tuple[int, Edit]], plan: Any, zones: Mapping[str, ZoneMap]
) -> list[dict[str, Any]]:
    """Make edits of some arrays, one after the other, in their place in `targets`.

    Returns
    -------
    list of dict
        A row for each edit.

    Raises
    ------
    InputError
        If an edit meets nothing.
    """
    report = []
    for number, edit in edits:
        target = targets[changed_by(edit)[0]]
        chosen = chosen_cells(edit, plan.grid, zones, target.cells, target.features)
        if chosen.any():
            change(targets, edit, _value(edit, number, target, chosen, plan, zones), chosen)
        report.append(edit_row(edit, int(chosen.sum())))
    return report


def change(targets: dict[str, Target], edit: Edit, value: Traced, chosen: NDArray[np.bool_]) -> None:
    """Make one edit of some arrays in their place, with a value at each place of its target, where chosen."""
    name = changed_by(edit)[0]
    old = targets[name].values
    new = {"set": lambda: value, "factor": lambda: value * old, "add": lambda: value + old}[edit.how]()
    targets[name] = replace(targets[name], values=where(chosen, new, old))
    if edit.of == CONDUCTIVITY:
        vertical = targets[_BOTH[1]]
        by = value if edit.how == "factor" else new / old
        targets[_BOTH[1]] = replace(vertical, values=where(chosen, by * vertical.values, vertical.values))
