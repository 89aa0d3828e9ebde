"""Whole placed models as one NetCDF file: grid, properties, terms, schedule and what inputs_in_time in time."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.errors import InputError
from inkhorn.files.grid_netcdf import grid_dataset, grid_of_dataset, write_dataset
from inkhorn.files.grid_tables import assembled, cell_table
from inkhorn.files.meshes import opened_dataset
from inkhorn.files.reading import reading_as
from inkhorn.files.whole import written_whole
from inkhorn.model import Model, Solute, WaterTable, ZoneMap, terms
from inkhorn.model.solutes import concentration_from, concentration_told
from inkhorn.site import Schedule, properties
from inkhorn.units import KINDS

__all__ = ["read_model", "write_model"]

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

    Raises
    ------
    InputError
        If the ending of the path is not ``.nc``.
    """
    path = Path(path)
    if path.suffix.lower() != ".nc":
        raise InputError(f'"{path.name}" names no format of models; expected the ending .nc.')
    found = {k: model.property_of(k) for k in properties()}
    given = {k: v for k, v in found.items() if v is not None and k != "leakance"}
    crs = model.site.crs if model.site is not None else None
    table = cell_table(model.grid, given)
    if model.leakance is not None:
        table["leakance"] = model.leakance
    units = {k: KINDS[p.said.dimension_on("")].inside for k, p in properties().items()}
    data = grid_dataset(model.grid, table, units, crs)
    data.attrs |= {"title": model.name, "source": "Inkhorn, model"}
    law = model.water_table
    data.attrs["water_table"] = json.dumps(vars(law))
    data.attrs["inflow_concentration"] = json.dumps(
        {k: {n: concentration_told(c) for n, c in v.items()} for k, v in model.inflow_concentration.items()}
    )
    data.attrs["solutes"] = json.dumps(
        [
            {
                **vars(s),
                "cells": s.cells.tolist(),
                "share": s.share.tolist(),
                "value": concentration_told(s.value),
            }
            for s in model.solutes
        ]
    )
    for k, term in enumerate(model.terms):
        name = f"term_{k + 1}"
        data[f"{name}_cells"] = (f"{name}_entry", term.cells, {"kind": term.kind})
        data[f"{name}_feature_index"] = (f"{name}_entry", term.feature_index)
        data[f"{name}_feature_names"] = (f"{name}_name", np.array(term.feature_names, dtype=object))
        data[f"{name}_crossing"] = (f"{name}_entry", term.crossing.astype(object))
        data[f"{name}_outer_face"] = (f"{name}_entry", term.outer_face)
        for key, declared in term.declared_inputs().items():
            along, said = _along(name, declared.over), {"units": declared.unit or "1"}
            data[f"{name}_input_{key}"] = (along, getattr(term, key), said)
        for key, f in terms.placed_fields(type(term)).items():
            data[f"{name}_input_{key}"] = (_along(name, f.metadata["placed"]), getattr(term, key))
    for k, (name, zones) in enumerate(model.zones.items()):
        data[f"zones_{k + 1}"] = ("cell", zones.number, {"of": name})
        data[f"zones_{k + 1}_name"] = (f"zones_{k + 1}_zone", np.array(zones.names, dtype=object))
    if model.face_resistance is not None:
        data["face_cells"] = (("face", "side"), model.grid.faces.cells)
        data["face_resistance"] = ("face", model.face_resistance, {"units": "day"})
    if model.schedule is not None:
        s = model.schedule
        for key in _SCHEDULE:
            values = getattr(s, key)
            data[f"period_{key}"] = ("period", values.astype(np.int8) if values.dtype == bool else values)
        data.attrs["start"] = "" if s.start is None else str(s.start)
        for number, (name, values) in enumerate(model.inputs_in_time.items()):
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
    with reading_as(path, "a model written here"):
        tables = grid_of_dataset(data)
        grid, table = assembled(tables), tables.table
        known: dict[str, Any] = {k: table[k] for k in properties() if k in table}
        own = {k: v for k, v in known.items() if k in Model.__dataclass_fields__}
        made: list[terms.Term] = []
        while f"term_{len(made) + 1}_cells" in data:
            name = f"term_{len(made) + 1}"
            kind = _term(str(data[f"{name}_cells"].attrs["kind"]), path)
            head = f"{name}_input_"
            inputs = {str(k)[len(head) :]: v.to_numpy() for k, v in data.items() if str(k).startswith(head)}
            made.append(
                kind(
                    cells=data[f"{name}_cells"].to_numpy(),
                    feature_index=data[f"{name}_feature_index"].to_numpy(),
                    feature_names=tuple(str(f) for f in data[f"{name}_feature_names"].to_numpy()),
                    crossing=data[f"{name}_crossing"].to_numpy().astype(str),
                    outer_face=data[f"{name}_outer_face"].to_numpy(),
                    **inputs,
                )
            )
        schedule, inputs_in_time = None, {}
        if "period_ends" in data:
            parts = {key: data[f"period_{key}"].to_numpy() for key in _SCHEDULE}
            start = data.attrs["start"]
            schedule = Schedule(
                parts.pop("ends"), np.datetime64(start, "s") if start else None, **_flags(parts)
            )
            moving = [v for k, v in data.items() if str(k).startswith("change_")]
            inputs_in_time = {str(v.attrs["of"]): v.to_numpy() for v in moving}
        resistance = None
        if "face_resistance" in data:
            resistance = _on_faces(grid, data["face_cells"].to_numpy(), data["face_resistance"].to_numpy())
        zones: dict[str, ZoneMap] = {}
        while f"zones_{len(zones) + 1}" in data:
            division = data[f"zones_{len(zones) + 1}"]
            of_zones = data[f"zones_{len(zones) + 1}_name"].to_numpy()
            zones[str(division.attrs["of"])] = ZoneMap(tuple(map(str, of_zones)), division.to_numpy())
        return Model(
            grid=grid,
            terms=made,
            water_table=WaterTable(**json.loads(data.attrs["water_table"])),
            inflow_concentration={
                k: {n: concentration_from(c) for n, c in v.items()}
                for k, v in json.loads(data.attrs["inflow_concentration"]).items()
            },
            solutes=[
                Solute(**{**s, "value": concentration_from(s["value"])})
                for s in json.loads(data.attrs.get("solutes", "[]"))
            ],
            schedule=schedule,
            inputs_in_time=inputs_in_time,
            face_resistance=resistance,
            name=str(data.attrs["title"]),
            zones=zones,
            further={k: v for k, v in known.items() if k not in own},
            **own,
        )


def _along(term: str, over: str) -> str:
    """The dimension of an array of a term."""
    return "cell" if over == "cell" else f"{term}_{ {'feature': 'name'}.get(over, over) }"


def _term(kind: str, path: Path) -> type[terms.Term]:
    known = terms.terms_known()
    if kind not in known:
        raise InputError(
            f'"{path.name}" holds a {kind}, a kind that is not known here; known are {list(known)}. Import the package '
            "that declares it first."
        )
    return known[kind]


def _flags(parts: dict[str, Any]) -> dict[str, Any]:
    return {k: v.astype(bool) if k in ("steady", "warm_up") else v for k, v in parts.items()}


def _on_faces(grid: Any, cells: Any, values: Any) -> Any:
    """Values of faces, found by their two cells: a mesh read as polygons may count its faces otherwise."""
    n = grid.n_cells
    code, known = (np.sort(c, axis=1) @ np.array([n, 1]) for c in (grid.faces.cells, cells))
    order = np.argsort(known)
    at = np.minimum(np.searchsorted(known[order], code), len(known) - 1)
    return np.where(known[order][at] == code, values[order][at], 0.0)
