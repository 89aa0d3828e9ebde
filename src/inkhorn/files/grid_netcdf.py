"""Grids as NetCDF, by the CF and UGRID conventions, with the kind of mesh that it was."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.files.grid_tables import GridTables, PlanOutlines, numbers, outlines
from inkhorn.files.meshes import opened_dataset
from inkhorn.space import (
    Grid,
    PlanMesh,
    PolygonMesh,
    RectangularMesh,
    SplitMesh,
    VoronoiMesh,
)

if TYPE_CHECKING:
    import xarray as xr

__all__ = ["grid_dataset", "grid_of_dataset", "mesh_dataset", "read_netcdf", "write_dataset", "write_netcdf"]


def mesh_dataset(mesh: PlanMesh) -> xr.Dataset:
    """Return the plan cells as a dataset with UGRID conventions, over the dimension ``plan``."""
    import xarray as xr

    plan, metre = outlines(mesh.polygons()), {"units": "m"}
    data = xr.Dataset()
    data["mesh"] = (
        (),
        np.int32(0),
        {
            "cf_role": "mesh_topology",
            "topology_dimension": np.int32(2),
            "node_coordinates": "node_x node_y",
            "face_node_connectivity": "cell_nodes",
            "face_dimension": "plan",
            "face_coordinates": "cell_x cell_y",
        },
    )
    for k, axis in enumerate("xy"):
        place = {"standard_name": f"projection_{axis}_coordinate", **metre}
        data[f"node_{axis}"] = ("node", plan.nodes[:, k], place)
        data[f"cell_{axis}"] = ("plan", getattr(mesh, axis), place)
    around = plan.connectivity.astype(np.int32)
    data["cell_nodes"] = (
        ("plan", "corner"),
        around,
        {"cf_role": "face_node_connectivity", "start_index": np.int32(0), "_FillValue": np.int32(-1)},
    )
    if len(plan.odd):
        data["outline_of"] = ("outline", plan.odd, {"long_name": "plan cells of several rings"})
        data["outline"] = ("outline", np.array(plan.text, dtype=object), {"long_name": "as WKT"})
    return data


def grid_dataset(
    grid: Grid, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> xr.Dataset:
    """Return a grid and a table of its cells as a dataset with CF and UGRID conventions."""
    mesh, number = grid.mesh, numbers(grid)
    data = mesh_dataset(mesh)
    data.attrs = {"Conventions": "CF-1.11 UGRID-1.0", "source": "Inkhorn, grid"}
    data["layer"] = ("layer", np.array(grid.layer_names, dtype=object))
    data["whole_layer"] = ("layer", np.array(grid.whole_names, dtype=object))
    data["number"] = (("layer", "plan"), number, {"long_name": "cell; -1 absent, -2 taken out"})
    there = number >= 0
    for name, values in table.items():
        if name in ("layer", "plan"):  # said by the place in the array
            continue
        spread = np.full(number.shape, np.nan)
        spread[there] = values[number[there]]
        said = {"mesh": "mesh", "location": "face", "units": "m" if name in ("top", "bottom") else "1"}
        data[name] = (("layer", "plan"), spread, said | ({"units": units[name]} if name in units else {}))
    if crs:
        data["crs"] = ((), np.int32(0), {"crs_wkt": _wkt(crs)})
    for name, values, attributes in _kind_of(mesh):
        data[name] = (tuple(f"{name}_{k}" for k in range(np.ndim(values))), values, attributes)
    return data


def _wkt(crs: str) -> str:
    """A coordinate system as well-known text, which the CF conventions ask for."""
    import pyproj

    return str(pyproj.CRS(crs).to_wkt())


def write_dataset(data: xr.Dataset, path: Path) -> None:
    """Write a dataset as NetCDF, its numbers packed."""
    packed = {
        n: {"zlib": True, "complevel": 4} for n, v in data.data_vars.items() if v.ndim and v.dtype != object
    }
    data.to_netcdf(path, engine="h5netcdf", encoding=packed)


def write_netcdf(
    grid: Grid, path: Path, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> None:
    write_dataset(grid_dataset(grid, table, units, crs), path)


def _kind_of(mesh: PlanMesh) -> list[tuple[str, Any, dict[str, Any]]]:
    """What makes a mesh of its kind anew: names, values, attributes."""
    import shapely

    def frame(base: RectangularMesh, kind: str, outline: Any) -> list[tuple[str, Any, dict[str, Any]]]:
        said: dict[str, Any] = {"kind": kind, "rotation": base.rotation, "corner": np.array(base.corner)}
        if outline is not None:
            said["outline"] = shapely.to_wkt(outline, rounding_precision=-1)
        return [("made_of", np.int32(0), said), ("x_edges", base.x_edges, {}), ("y_edges", base.y_edges, {})]

    if isinstance(mesh, RectangularMesh):
        return [*frame(mesh, "rectangles", mesh.outline), ("present", mesh.present.astype(np.int8), {})]
    if isinstance(mesh, SplitMesh):
        parts: list[tuple[str, Any, dict[str, Any]]] = [
            (k, getattr(mesh, k), {}) for k in ("splits", "row", "column")
        ]
        return [*frame(mesh.base, "split", mesh.outline), *parts]
    if isinstance(mesh, VoronoiMesh):
        outline = shapely.to_wkt(mesh.outline, rounding_precision=-1)
        return [("made_of", np.int32(0), {"kind": "voronoi", "outline": outline})]
    return []


def _mesh_of_kind(data: xr.Dataset) -> PlanMesh | None:
    import shapely

    if "made_of" not in data:
        return None
    said = data["made_of"].attrs
    outline = shapely.from_wkt(said["outline"]) if "outline" in said else None
    if said["kind"] == "voronoi":
        return VoronoiMesh(np.column_stack([data["cell_x"].to_numpy(), data["cell_y"].to_numpy()]), outline)
    edges = data["x_edges"].to_numpy(), data["y_edges"].to_numpy()
    east, north = map(float, said["corner"])
    turn = float(said["rotation"]), (east, north)
    if said["kind"] == "rectangles":
        return RectangularMesh(*edges, data["present"].to_numpy().astype(bool), *turn, outline)
    whole = np.ones((len(edges[1]) - 1, len(edges[0]) - 1), dtype=bool)
    splits, row, column = (data[k].to_numpy().astype(np.int64) for k in ("splits", "row", "column"))
    return SplitMesh(RectangularMesh(*edges, whole, *turn), splits, row, column, outline)


def read_netcdf(path: Path) -> GridTables:
    return grid_of_dataset(opened_dataset(path))


def grid_of_dataset(data: xr.Dataset) -> GridTables:
    """Return what `grid_dataset` put into a dataset."""
    mesh, number = _mesh_of_kind(data), data["number"].to_numpy().astype(np.int64)
    if mesh is None:
        around = data["cell_nodes"].to_numpy()
        nodes = np.column_stack([data["node_x"].to_numpy(), data["node_y"].to_numpy()])
        odd = data["outline_of"].to_numpy() if "outline_of" in data else np.empty(0, dtype=np.int64)
        count = (around >= 0).sum(axis=1)
        plan = PlanOutlines(
            nodes,
            np.concatenate([[0], np.cumsum(count)]),
            around[around >= 0].astype(np.int64),
            odd.astype(np.int64),
            [str(t) for t in data["outline"].to_numpy()] if len(odd) else [],
        )
        mesh = PolygonMesh(
            plan.polygons(), np.column_stack([data["cell_x"].to_numpy(), data["cell_y"].to_numpy()])
        )
    there = number >= 0
    table, units = {}, {}
    for name, values in data.data_vars.items():
        if values.dims == ("layer", "plan") and name != "number":
            column = np.empty(number.max() + 1)
            column[number[there]] = values.to_numpy()[there]
            table[str(name)] = column
            if name not in ("top", "bottom") and values.attrs.get("units", "1") != "1":
                units[str(name)] = str(values.attrs["units"])
    names, whole_names = (tuple(str(n) for n in data[k].to_numpy()) for k in ("layer", "whole_layer"))
    return GridTables(mesh, names, whole_names, number, table, units)
