"""What a run says of a place: every input and result of the cells there, at one time or in time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean, place_words
from inkhorn.flow.record import FlowStep
from inkhorn.model import Model
from inkhorn.site import properties
from inkhorn.units import KINDS

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.flow.result import FlowResult

__all__ = ["cells_at", "feature_table", "heads_in_time", "mean_flux", "place_table"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


def mean_flux(model: Model, step: FlowStep, filled: Array) -> Array:
    """Return Darcy's flux as a mean over the water in each cell, (n_cells, 3) [m/day]; NaN in dry cells.

    That is the sum over a cell's faces of what leaves by each times the way to it from the middle, over the volume of
    the water (the divergence theorem, sources inside being even). What the water table takes up or gives leaves by it.
    """
    grid = model.grid
    cells, faces, n = grid.cells, grid.faces, grid.n_cells
    height = filled * cells.thickness
    moment = np.zeros((3, n))
    centroid = grid.centres_of_gravity
    side = ~faces.is_floor
    for k, sign in ((0, 1.0), (1, -1.0)):
        cell, flow = faces.cells[:, k], sign * step.face_flow
        for axis in (0, 1):
            arm = faces.centroid[side, axis] - centroid[cell[side], axis]
            moment[axis] += np.bincount(cell[side], flow[side] * arm, n)
        below = -0.5 if k == 0 else 0.5  # the floor of the first cell, the lid of the second
        moment[2] += np.bincount(cell[~side], flow[~side] * below * height[cell[~side]], n)
    for term, flow in zip(model.terms, step.term_flow, strict=True):
        if not len(flow):
            continue
        out = np.flatnonzero(term.outer_face >= 0)
        if len(out):
            place = grid.outer_faces.middle[term.outer_face[out]]
            for axis in (0, 1):
                arm = place[:, axis] - centroid[term.cells[out], axis]
                moment[axis] -= np.bincount(term.cells[out], flow[out] * arm, n)
        for crossing, way in (("top", 0.5), ("floor", -0.5)):
            here = np.flatnonzero(
                (term.crossing == crossing) & ~term.holds
            )  # what holds a cell may stand for a side
            moment[2] -= np.bincount(term.cells[here], flow[here] * way * height[term.cells[here]], n)
    moment[2] += step.drainage * 0.5 * height
    volume = cells.area * height
    return np.asarray(np.where(height > 0, moment / np.where(height > 0, volume, 1.0), np.nan).T)


def cells_at(model: Model, x: float, y: float, z: float | None = None) -> Index:
    """Return the cells below a place from the top down, or the one that holds it.

    Raises
    ------
    InputError
        If there is none.
    """
    grid = model.grid
    plan = int(grid.mesh.locate([x], [y])[0])
    found = grid.column_of(plan) if plan >= 0 else np.empty(0, dtype=np.int64)
    if z is not None:
        inside = (grid.cells.bottom[found] <= z) & (z <= grid.cells.top[found])
        found = found[inside][:1]
    if not len(found):
        at = place_words(x, y) + (f", z={z:g}" if z is not None else "")
        raise InputError(f"there is no cell at {at}. Choose a place inside the cells.")
    return found


def place_table(flow: FlowResult, cells: Index, step: int) -> pd.DataFrame:
    """Return every input and result of some cells; see `FlowResult.at`."""
    import pandas as pd

    model, record, grid = flow.model, flow.steps[step], flow.model.grid
    own, filled = grid.cells, flow.filled(step)
    rows: list[tuple[str, str, Any]] = [
        ("cell", "", cells),
        ("x", "m", own.x[cells]),
        ("y", "m", own.y[cells]),
        ("area", "m²", own.area[cells]),
        ("top", "m", own.top[cells]),
        ("bottom", "m", own.bottom[cells]),
    ]
    if model.site is not None:
        made = [model.site.materials[grid.layer_names[k]].name for k in own.material_layer[cells]]
        rows.append(("material", "", np.array(made, dtype=object)))
    for name, kind in properties().items():
        found = model.property_of(name)
        if found is not None and name != "leakance":
            unit = KINDS[kind.said.dimension_on("")].inside
            rows.append((name.replace("_", " "), unit, np.asarray(found)[cells]))
    flux = mean_flux(model, record, filled)[cells]
    rows += [
        ("head", "m", record.heads[cells]),
        ("filled share of the height", "", filled[cells]),
        *((f"Darcy flux along {axis}", "m/day", flux[:, k]) for k, axis in enumerate("xyz")),
    ]
    if model.porosity is not None:
        pore = flux / np.asarray(model.porosity)[cells][:, None]
        rows += [(f"pore velocity along {axis}", "m/day", pore[:, k]) for k, axis in enumerate("xyz")]
    if not record.steady:
        rows.append(("into storage", "m³/day", record.storage_change[cells]))
    for term, water in zip(flow.model_at(step).terms, record.term_flow, strict=True):
        for k, name in enumerate(term.feature_names):
            mine = np.isin(term.cells, cells) & (term.feature_index == k)
            if mine.any():
                into = np.array([water[mine & (term.cells == c)].sum() for c in cells])
                rows.append((f"from {term.kind} {name}", "m³/day", into))
    names = [grid.layer_names[k] for k in own.layer[cells]]
    table = pd.DataFrame(
        [[what, unit, *values] for what, unit, values in rows], columns=["what", "unit", *names]
    )
    return table.set_index("what")


def heads_in_time(flow: FlowResult, cells: Index) -> pd.DataFrame:
    """Return the heads of some cells at the end of each step; see `FlowResult.at_times`."""
    import pandas as pd

    grid = flow.model.grid
    names = [f"{grid.layer_names[k]} [m]" for k in grid.cells.layer[cells]]
    rows = [(step.end, *step.heads[cells]) for step in flow.steps]
    table = pd.DataFrame(rows, columns=["day", *names])
    start = None if flow.model.schedule is None else flow.model.schedule.start
    if start is not None:
        seconds = np.round(table["day"].to_numpy() * 86400.0).astype("timedelta64[s]")
        table.insert(0, "date", start + seconds)
    return table


def feature_table(flow: FlowResult, name: str, step: int) -> pd.DataFrame:
    """Return what a feature has and does in each of its cells; see `FlowResult.of_feature`."""
    import pandas as pd

    known = [n for term in flow.model.terms for n in term.feature_names]
    if name not in known:
        raise InputError(
            f'there is no feature "{name}" in the model; it has {known}.{did_you_mean(name, known)}'
        )
    grid, parts = flow.model.grid, []
    for term, water in zip(flow.model_at(step).terms, flow.steps[step].term_flow, strict=True):
        if name not in term.feature_names:
            continue
        number = term.feature_names.index(name)
        mine = np.flatnonzero(term.feature_index == number)
        cell = term.cells[mine]
        table = {
            "layer": np.array(grid.layer_names, dtype=object)[grid.cells.layer[cell]],
            "cell": cell,
            "x [m]": grid.cells.x[cell],
            "y [m]": grid.cells.y[cell],
            "head [m]": flow.steps[step].heads[cell],
        }
        for key, declared in term.declared_inputs().items():
            given = np.asarray(getattr(term, key))
            if declared.told and given.dtype.kind == "f":
                values = (
                    given[mine] if declared.over == "entry" else np.broadcast_to(given[number], len(mine))
                )
                if np.isfinite(values).any():
                    table[f"{key.replace('_', ' ')} [{declared.unit or '-'}]"] = values
        table["into the aquifer [m³/day]"] = water[mine]
        parts.append(pd.DataFrame(table))
    return pd.concat(parts, ignore_index=True)
