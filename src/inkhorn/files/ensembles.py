"""Many runs in a file: all that was drawn and watched, and what maps were accumulated to."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.ensemble import Ensemble, EnsembleState, MapStatistics
from inkhorn.errors import InputError
from inkhorn.files.grid_netcdf import mesh_dataset
from inkhorn.files.reading import reading_as
from inkhorn.files.whole import written_whole

__all__ = ["read_runs", "write_chance_map", "write_runs"]

_OF_MAPS = ("count", "mean", "square", "least", "greatest", "above")


def write_runs(found: Ensemble, path: Path, about: Mapping[str, Any]) -> None:
    """Write all runs so far, whole or not at all.

    Parameters
    ----------
    found : Ensemble
    path : Path
    about : mapping
        What tells whether other runs are of the same, and what goes on needs; plain values.
    """
    import xarray as xr

    state, columns = found.state, found.columns
    units = {"units": "as `unit` says"}
    data: dict[str, Any] = {
        "numbers": (("run", "number"), found.numbers),
        "values": (("run", "column"), found.values, units),
        "stated": (
            ("column",),
            found.stated,
            {**units, "long_name": "with the values that the model states"},
        ),
        "failed": (("run",), _words([state.failed.get(k, "") for k in range(state.count)])),
    }
    coordinates: dict[str, Any] = {
        "run": np.arange(1, state.count + 1),
        "number": _words(found.number_names),
        "number_unit": (("number",), _words(found.number_units)),
        "watched": (("column",), _words(columns["watched"])),
        "time": (
            ("column",),
            columns["time [day]"].to_numpy(dtype=float),
            {"long_name": "time since the start, in days"},
        ),
        "unit": (("column",), _words(columns["unit"])),
        "limit": (("column",), columns["limit"].to_numpy(dtype=float)),
    }
    for k, one in enumerate(state.maps):
        for key in _OF_MAPS:
            data[f"map_{k}_{key}"] = (("plan",), getattr(one, key))
        if one.classes is not None:
            data[f"map_{k}_low"] = (("plan",), one.low)
            data[f"map_{k}_width"] = (("plan",), one.width)
            data[f"map_{k}_classes"] = (("class", "plan"), one.classes)
        elif one.first:
            data[f"map_{k}_first"] = ((f"first_{k}", "plan"), np.array(one.first))
    said = {
        "title": "many runs with inputs drawn by chance: numbers, what was watched, and what maps were accumulated to",
        "about": json.dumps(dict(about)),
        "maps": json.dumps([m.name for m in found.watching.maps]),
        "reason": found.reason,
    }
    with written_whole(path) as beside:
        xr.Dataset(data, coordinates, said).to_netcdf(beside, engine="h5netcdf")


def read_runs(path: Path) -> tuple[EnsembleState, dict[str, Any], np.ndarray[Any, Any], str]:
    """Read runs again.

    Returns
    -------
    state : EnsembleState
    about : dict
        As it was written; with the names and units of numbers.
    stated : ndarray of float, (n_watched,)
    reason : str
        Why there are no more.

    Raises
    ------
    InputError
        If it is no such file.
    """
    import xarray as xr

    with reading_as(path, "a file of many runs"), xr.open_dataset(path, engine="h5netcdf") as file:
        if "about" not in file.attrs or "values" not in file:
            raise InputError(f'"{path}" holds no runs of `inkhorn vary`.')
        values, numbers = file["values"].to_numpy(), file["numbers"].to_numpy()
        why = [str(w) for w in file["failed"].to_numpy()]
        maps = []
        for k in range(len(json.loads(file.attrs["maps"]))):
            own: Any = {key: file[f"map_{k}_{key}"].to_numpy() for key in _OF_MAPS}
            one = MapStatistics(None, **own)
            if f"map_{k}_classes" in file:
                one.low, one.width = (file[f"map_{k}_{key}"].to_numpy() for key in ("low", "width"))
                one.classes = file[f"map_{k}_classes"].to_numpy()
            elif f"map_{k}_first" in file:
                one.first = list(file[f"map_{k}_first"].to_numpy())
            maps.append(one)
        state = EnsembleState(
            list(numbers), list(values), {k: w for k, w in enumerate(why) if w}, maps, path.name
        )
        said = json.loads(file.attrs["about"])
        said["number names"] = [str(n) for n in file["number"].to_numpy()]
        said["number units"] = [str(u) for u in file["number_unit"].to_numpy()]
        return state, said, file["stated"].to_numpy(), str(file.attrs["reason"])


def write_chance_map(found: Ensemble, name: str, path: Path) -> None:
    """Write the statistics of a map over its cells, by CF and UGRID."""
    values = found.map(name)
    base = mesh_dataset(found.watching.model.grid.mesh)
    for variable in values.data_vars.values():
        variable.attrs |= {"mesh": "mesh", "location": "face"}
    with written_whole(path) as beside:
        base.merge(values.drop_vars(["x", "y"])).assign_attrs(values.attrs).to_netcdf(
            beside, engine="h5netcdf"
        )


def _words(values: Sequence[Any] | Any) -> np.ndarray[Any, Any]:
    return np.array([str(v) for v in values], dtype=object)
