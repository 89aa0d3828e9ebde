"""Conduits as files: pipes and nodes for a GIS, and both in time."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from inkhorn.errors import InputError
from inkhorn.files.whole import written_whole
from inkhorn.flow import FlowResult, conduits_of

__all__ = ["write_conduits", "write_conduits_in_time"]

_OF_PIPES = {
    "flow [m³/day]": ("flow", "m3 day-1", "flow from the first node to the second"),
    "velocity [m/s]": ("velocity", "m s-1", "mean velocity"),
    "Reynolds number": ("reynolds_number", "1", "Reynolds number"),
    "filled share": ("filled_share", "1", "share of the height that is filled, at the upper end"),
    "head loss [m]": ("head_loss", "m", "fall of the head from the first node to the second"),
}
_OF_NODES = {
    "head [m]": ("head", "m", "head"),
    "depth [m]": ("depth", "m", "depth of water"),
    "let in [m³/day]": ("let_in", "m3 day-1", "water let in from outside"),
    "spring [m³/day]": ("spring", "m3 day-1", "water that leaves by a spring"),
}


def write_conduits(flow: FlowResult, path: Path, step: int = -1) -> None:
    """Write what conduits carry over a step as a GeoPackage: a table of pipes, as lines, and one of nodes, as points."""
    import warnings

    import geopandas as gpd
    import shapely

    pipes, nodes = flow.conduits(step), flow.conduit_nodes(step)
    places = nodes[["x [m]", "y [m]"]].to_numpy()
    ends = pipes[["from node", "to node"]].to_numpy()
    crs = None if flow.model.site is None else flow.model.site.crs
    lines = gpd.GeoDataFrame(
        pipes.rename(columns={"exchange": "exchange, way"}),
        geometry=shapely.linestrings(places[ends]),
        crs=crs,
    )
    points = gpd.GeoDataFrame(
        nodes.rename(columns={"exchange": "exchange, way"}), geometry=shapely.points(places), crs=crs
    )
    with written_whole(path) as beside, warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        lines.to_file(beside, layer="pipes", driver="GPKG", engine="pyogrio")
        points.to_file(beside, layer="nodes", driver="GPKG", engine="pyogrio", mode="a")


def write_conduits_in_time(flow: FlowResult, path: Path) -> None:
    """Write what conduits carry as NetCDF, step by step (CF conventions): pipes and nodes with their places."""
    import xarray as xr

    term = conduits_of(flow.model)
    if term is None:
        raise InputError("the model has no conduits.")
    pipes = [flow.conduits(k) for k in range(len(flow.steps))]
    nodes = [flow.conduit_nodes(k) for k in range(len(flow.steps))]
    signed = np.where(np.array([p["exchange"] for p in pipes]) == "taken from the rock", -1.0, 1.0)
    exchange = signed * np.array([p["exchange [m³/day]"] for p in pipes])
    data = {
        name: (("time", of), np.array([t[column] for t in tables]), {"units": unit, "long_name": words})
        for of, tables, known in (("pipe", pipes, _OF_PIPES), ("node", nodes, _OF_NODES))
        for column, (name, unit, words) in known.items()
    }
    data["exchange"] = (
        ("time", "pipe"), exchange, {"units": "m3 day-1", "long_name": "water given to the rock, less what is taken"}
    )  # fmt: skip
    about = {
        "node_x": ("node", term.x, {"units": "m", "axis": "X"}),
        "node_y": ("node", term.y, {"units": "m", "axis": "Y"}),
        "ends": (("pipe", "end"), term.links, {"long_name": "nodes at both ends, from 0"}),
        "length": ("pipe", term.length, {"units": "m"}),
        "diameter": ("pipe", term.diameter, {"units": "m"}),
        "conduit": ("pipe", np.array(term.feature_names, dtype=object)[term.pipe_feature].astype(str), {}),
    }
    ends = np.array([s.end for s in flow.steps])
    units, schedule = "days", flow.model.schedule
    if schedule is not None and schedule.start is not None:
        units = f"days since {str(schedule.start).replace('T', ' ')}"
    whole = xr.Dataset(
        {**data, **about},
        coords={"time": ("time", ends, {"units": units, "long_name": "end of the step"})},
        attrs={"Conventions": "CF-1.11", "title": flow.model.name, "source": "Inkhorn, conduits"},
    )
    packed = {
        n: {"zlib": True, "complevel": 4}
        for n, v in whole.data_vars.items()
        if v.ndim > 1 and v.dtype.kind == "f"
    }
    with written_whole(path) as beside:
        whole.to_netcdf(beside, engine="h5netcdf", encoding=packed)
