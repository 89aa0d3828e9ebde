"""Whole placed models as one NetCDF file: grid, properties, terms, schedule and what changes in time."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.errors import InputError
from inkhorn.files.grids import assembled, cell_table, grid_dataset, grid_of_dataset, write_dataset
from inkhorn.files.meshes import opened_dataset
from inkhorn.files.whole import written_whole
from inkhorn.model import PROPERTIES, Model, WaterTable, terms
from inkhorn.site import Schedule

__all__ = ["read_model", "write_model"]

_TERMS = {
    kind.kind: kind
    for kind in (getattr(terms, name) for name in terms.__all__ if name.endswith("Term") and name != "Term")
}
_SCHEDULE = ("ends", "steps", "growth", "steady", "warm_up")


def write_model(model: Model, path: str | Path) -> None:
    """Write a model into one NetCDF file (CF and UGRID conventions), to be read back by `read_model`.

    The site it was placed from is not written; its numbers are.

    Parameters
    ----------
    model : Model
        A site placed on a grid, or made from arrays.
    path : str or Path
        Ending in ``.nc``.
    """
    path = Path(path)
    given = {k: getattr(model, k) for k in PROPERTIES if getattr(model, k) is not None}
    crs = model.site.crs if model.site is not None else None
    table = cell_table(model.grid, given)
    if model.leakance is not None:
        table["leakance"] = model.leakance
    data = grid_dataset(model.grid, table, {**PROPERTIES, "leakance": "1/day"}, crs)
    data.attrs |= {"title": model.name, "source": "Inkhorn, model"}
    law = model.water_table
    data.attrs["water_table"] = json.dumps(vars(law))
    data.attrs["inflow_concentration"] = json.dumps(
        {k: dict(v) for k, v in model.inflow_concentration.items()}
    )
    for k, term in enumerate(model.terms):
        name = f"term_{k + 1}"
        data[f"{name}_cells"] = (f"{name}_entry", term.cells, {"kind": term.kind})
        data[f"{name}_feature"] = (f"{name}_entry", term.feature)
        data[f"{name}_features"] = (f"{name}_name", np.array(term.features, dtype=object))
        for key in term.inputs:
            values = np.asarray(getattr(term, key), dtype=np.float64)
            along = f"{name}_entry" if len(values) == len(term.cells) else f"{name}_name"
            data[f"{name}_input_{key}"] = (along, values)
    if model.face_resistance is not None:
        data["face_cells"] = (("face", "side"), model.grid.faces.cells)
        data["face_resistance"] = ("face", model.face_resistance, {"units": "day"})
    if model.schedule is not None:
        s = model.schedule
        for key in _SCHEDULE:
            values = getattr(s, key)
            data[f"period_{key}"] = ("period", values.astype(np.int8) if values.dtype == bool else values)
        data.attrs["start"] = "" if s.start is None else str(s.start)
        for number, (name, values) in enumerate(model.changes.items()):
            data[f"change_{number + 1}"] = (("period", f"change_{number + 1}_value"), values, {"of": name})
    with written_whole(path) as beside:
        write_dataset(data, beside)


def read_model(path: str | Path) -> Model:
    """Read a model that `write_model` wrote.

    Returns
    -------
    Model
        Its ``repr`` says what came; there is no site and no table of what landed where.

    Raises
    ------
    InputError
        If the file is missing, or is no such model.
    """
    path = Path(path)
    data = opened_dataset(path)
    try:
        mesh, names, number, table, _ = grid_of_dataset(data)
        grid = assembled(mesh, names, number, table)
        properties: dict[str, Any] = {k: table[k] for k in (*PROPERTIES, "leakance") if k in table}
        made: list[terms.Term] = []
        while f"term_{len(made) + 1}_cells" in data:
            name = f"term_{len(made) + 1}"
            kind = _TERMS[data[f"{name}_cells"].attrs["kind"]]
            head = f"{name}_input_"
            inputs = {str(k)[len(head) :]: v.to_numpy() for k, v in data.items() if str(k).startswith(head)}
            made.append(
                kind(
                    cells=data[f"{name}_cells"].to_numpy(),
                    feature=data[f"{name}_feature"].to_numpy(),
                    features=tuple(str(f) for f in data[f"{name}_features"].to_numpy()),
                    **inputs,
                )
            )
        schedule, changes = None, {}
        if "period_ends" in data:
            parts = {key: data[f"period_{key}"].to_numpy() for key in _SCHEDULE}
            start = data.attrs["start"]
            schedule = Schedule(
                parts.pop("ends"), np.datetime64(start, "s") if start else None, **_flags(parts)
            )
            moving = [v for k, v in data.items() if str(k).startswith("change_")]
            changes = {str(v.attrs["of"]): v.to_numpy() for v in moving}
        resistance = None
        if "face_resistance" in data:
            resistance = _on_faces(grid, data["face_cells"].to_numpy(), data["face_resistance"].to_numpy())
        return Model(
            grid=grid,
            terms=made,
            water_table=WaterTable(**json.loads(data.attrs["water_table"])),
            inflow_concentration=json.loads(data.attrs["inflow_concentration"]),
            schedule=schedule,
            changes=changes,
            face_resistance=resistance,
            name=str(data.attrs["title"]),
            **properties,
        )
    except (KeyError, ValueError) as problem:
        if isinstance(problem, InputError):
            raise
        raise InputError(f'"{path.name}" is not a model written here: {problem}.') from None


def _flags(parts: dict[str, Any]) -> dict[str, Any]:
    return {k: v.astype(bool) if k in ("steady", "warm_up") else v for k, v in parts.items()}


def _on_faces(grid: Any, cells: Any, values: Any) -> Any:
    """Values of faces, found by their two cells: a mesh read as polygons may count its faces otherwise."""
    n = grid.n_cells
    code, known = (np.sort(c, axis=1) @ np.array([n, 1]) for c in (grid.faces.cells, cells))
    order = np.argsort(known)
    at = np.minimum(np.searchsorted(known[order], code), len(known) - 1)
    return np.where(known[order][at] == code, values[order][at], 0.0)
