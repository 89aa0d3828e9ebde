"""Properties of cells from what layers are made of, and the edits that change them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.model.model import PROPERTIES, Model
from inkhorn.site import Edit, Material, Schedule, Site
from inkhorn.space import Grid

__all__ = ["chosen_cells", "edit_row", "edited", "material_properties"]

Array = NDArray[np.float64]


def material_properties(site: Site, grid: Grid) -> dict[str, Array]:
    """Return the properties that every layer's material states, by the names of `Model`."""
    materials = [site.materials[n] for n in grid.layer_names]
    made_of, thickness = grid.cells.material, grid.cells.thickness

    def values(name: str, default: float = np.nan) -> Array:
        given = [getattr(m, name) for m in materials]
        return np.array([default if v is None else v for v in given], dtype=np.float64)[made_of]

    horizontal = np.where(
        np.isfinite(values("conductivity")), values("conductivity"), values("transmissivity") / thickness
    )
    vertical = np.where(
        np.isfinite(values("vertical_conductivity")),
        values("vertical_conductivity"),
        horizontal / values("vertical_ratio"),
    )
    found = {
        "horizontal_conductivity": horizontal,
        "vertical_conductivity": vertical,
        "anisotropy": values("anisotropy"),
        "direction": values("direction"),
        "specific_storage": np.where(
            np.isfinite(values("specific_storage")),
            values("specific_storage"),
            values("storativity") / thickness,
        ),
        **{name: values(name) for name in ("porosity", "specific_yield", "bulk_density")},
    }
    # a property that some layers lack is missing: nothing is filled in
    found = {name: array for name, array in found.items() if np.isfinite(array).all()}
    if np.isfinite(values("leakance")).any():
        found["leakance"] = values("leakance")
    return found


def missing_properties(materials: Iterable[Material], name: str) -> list[str]:
    """Return the materials that do not state a property."""
    return sorted({m.name for m in materials if getattr(m, name) is None})


def chosen_cells(
    edit: Edit, grid: Grid, cells: NDArray[np.int64], features: NDArray[Any] | None = None
) -> NDArray[np.bool_]:
    """Return which of some cells, of features if given, an edit is meant for; it must be for one at least."""
    import shapely

    names = grid.layer_names
    for name in edit.layers:
        if name not in names:
            raise InputError(
                f'{edit.where} names the layer "{name}"; expected one of {list(names)}.{did_you_mean(name, names)}'
            )
    of_cells = grid.cells
    chosen = np.ones(len(cells), dtype=bool)
    if edit.layers:
        chosen &= np.isin(of_cells.layer[cells], [names.index(n) for n in edit.layers])
    if edit.shape is not None:
        points = [g for g in shapely.get_parts(edit.shape) if g.geom_type == "Point"]
        if points:
            plan = grid.mesh.locate([p.x for p in points], [p.y for p in points])
            chosen &= np.isin(cells, grid.number[:, plan[plan >= 0]])
        else:
            chosen &= shapely.contains_xy(edit.shape, of_cells.x[cells], of_cells.y[cells])
    if edit.feature is not None:
        if features is None or edit.feature not in features:
            there = [] if features is None else sorted(set(features.tolist()))
            raise InputError(f'{edit.where} names the feature "{edit.feature}"; expected one of {there}.')
        chosen &= features == edit.feature
    if not chosen.any():
        raise InputError(f"{edit.where} meets no cell. Check its layers, its shape and its feature.")
    return chosen


def edit_row(edit: Edit, number: int) -> dict[str, Any]:
    """Return what an edit did, as a row of a report."""
    return {
        "edit of": edit.of,
        "how": edit.how,
        "layers": ", ".join(edit.layers) or "all",
        "values changed": number,
        "reason": edit.reason,
        "where": edit.source,
    }


def edited(
    model: Model, edits: Iterable[Edit], schedule: Schedule | None
) -> tuple[Model, list[dict[str, Any]]]:
    """Make edits of properties and inputs, one after the other.

    Returns
    -------
    model : Model
        Changed.
    report : list of dict
        A row for each edit: what, how many values it changed, and why.
    """
    report = []
    for edit in edits:
        known = [*PROPERTIES, *(f"{t.kind}.{k}" for t in model.terms for k in t.inputs)]
        if edit.of not in known:
            raise InputError(
                f"{edit.where}: there is no such value; expected one of {known}.{did_you_mean(edit.of, known)}"
            )
        try:
            now = model.changes.get(edit.of, model.input(edit.of))
        except InputError as problem:
            raise InputError(f"{edit.where}: {problem}") from None
        cells, features = np.arange(model.grid.n_cells), None
        if "." in edit.of:
            term = model.term(edit.of.split(".")[0])
            per_entry = now.shape[-1] == len(term.cells)
            # of inputs of whole features the first cell says where they are
            entry = np.arange(len(term.cells)) if per_entry else np.unique(term.feature, return_index=True)[1]
            cells, features = term.cells[entry], np.array(term.features)[term.feature[entry]]
        chosen = chosen_cells(edit, model.grid, cells, features)
        of = model.grid.cells
        value = edit.changed(now[..., chosen], of.x[cells[chosen]], of.y[cells[chosen]], schedule)
        new = np.array(np.broadcast_to(now, (*value.shape[:-1], now.shape[-1])))
        new[..., chosen] = value
        model = model.with_changes({edit.of: new})
        report.append(edit_row(edit, int(chosen.sum())))
    return model, report
