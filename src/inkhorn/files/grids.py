"""Grids with their properties, written and read back without loss: NetCDF, VTK, GeoPackage.

All three carry the plan cells, the number of the cell in each layer of each, and a table of cells.
NetCDF also keeps what kind of mesh it was; from the others it comes back as polygons.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike

from inkhorn.errors import InputError
from inkhorn.files import vtk
from inkhorn.files.grid_netcdf import read_netcdf, write_netcdf
from inkhorn.files.grid_tables import GridTables, PlanOutlines, assembled, cell_table, numbers, outlines
from inkhorn.files.reading import reading_as
from inkhorn.files.whole import written_whole
from inkhorn.space import (
    Grid,
    PolygonMesh,
)

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["GridFile", "read_grid", "write_grid"]


@dataclass(frozen=True, eq=False)
class GridFile:
    """A grid from a file, and the properties of its cells.

    Attributes
    ----------
    grid : Grid
        Cells and faces.
    properties : pandas.DataFrame
        One row per cell, in the order of their numbers; only what stood in the file.
    units : mapping of str to str
        Of those properties that have one.
    source : str
        The file.
    """

    grid: Grid
    properties: pd.DataFrame
    units: Mapping[str, str]
    source: str

    def __str__(self) -> str:
        lines = [f"{self.source}: {self.grid!r} on {self.grid.mesh!r}"]
        for name, layer in zip(self.grid.layer_names, self.grid.within_layer, strict=True):
            lines.append(f"  layer {name}: {len(layer)} cells")
        for name, values in self.properties.items():
            unit = f" [{self.units[str(name)]}]" if str(name) in self.units else ""
            lines.append(f"  {name}{unit}: {values.min():.4g} to {values.max():.4g}")
        if self.properties.columns.empty:
            lines.append("  no properties")
        return "\n".join(lines)


def write_grid(
    grid: Grid,
    path: str | Path,
    properties: Mapping[str, ArrayLike] | None = None,
    *,
    units: Mapping[str, str] | None = None,
    crs: str | None = None,
    gaps: bool = False,
) -> None:
    """Write a grid and properties of its cells, for others and to be read back by `read_grid`.

    Parameters
    ----------
    grid : Grid
        Of any mesh.
    path : str or Path
        ``.nc`` for NetCDF (CF and UGRID conventions), ``.vtu`` for a VTK unstructured grid, ``.gpkg`` for a
        GeoPackage of plan cells and cells.
    properties : mapping of str to array_like of float
        By name, as `Grid.per_cell` takes them.
    units : mapping of str to str
        Of properties.
    crs : str, optional
        Coordinate system, as in ``"EPSG:25832"``.
    gaps : bool
        Whether properties may be NaN in cells that have none, one number for each cell being given.

    Raises
    ------
    InputError
        If the ending of the path names no format.
    """
    path, units = Path(path), dict(units or {})
    writers = {".nc": write_netcdf, ".vtu": _write_vtk, ".gpkg": _write_geopackage}
    if path.suffix.lower() not in writers:
        raise InputError(f'"{path.name}" names no format of grids; expected one of {list(writers)}.')
    table = cell_table(grid, properties or {}, gaps=gaps)
    with written_whole(path) as beside:
        writers[path.suffix.lower()](grid, beside, table, units, crs)


def read_grid(path: str | Path) -> GridFile:
    """Read a grid that `write_grid` wrote.

    Parameters
    ----------
    path : str or Path
        ``.nc``, ``.vtu`` or ``.gpkg``.

    Returns
    -------
    GridFile
        Print it for a summary of what came.

    Raises
    ------
    InputError
        If the file is missing, or is no such grid. For a plan mesh made elsewhere see `read_mesh`.
    """
    import pandas as pd

    path = Path(path)
    readers = {".nc": read_netcdf, ".vtu": _read_vtk, ".gpkg": _read_geopackage}
    if path.suffix.lower() not in readers:
        raise InputError(f'"{path.name}" names no format of grids; expected one of {list(readers)}.')
    with reading_as(path, "a grid written here (for a plan mesh made elsewhere use read_mesh)"):
        tables = readers[path.suffix.lower()](path)
        grid = assembled(tables)
    own = ("layer", "plan", "top", "bottom", "material")
    properties = {k: v for k, v in tables.table.items() if k not in own}
    by_cell = pd.DataFrame(properties, index=range(grid.n_cells))
    return GridFile(grid, by_cell, tables.units, path.name)


# --- VTK ----------------------------------------------------------------------------------------------


def _write_vtk(
    grid: Grid, path: Path, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> None:
    plan = outlines(grid.mesh.polygons())
    solids = []
    for mesh, present in zip(grid.meshes, grid.within_layer, strict=True):
        own = plan if mesh is grid.mesh else outlines(mesh.polygons())
        rings = np.split(own.node, own.start[1:-1])
        solids += [own.nodes[rings[k]] for k in present]
    fields = {
        "plan nodes": plan.nodes,
        "plan start": plan.start,
        "plan node": plan.node,
        "plan odd": plan.odd,
        "plan centres": np.column_stack([grid.mesh.x, grid.mesh.y]),
        "cell number": numbers(grid),
        "plan odd outlines": plan.text,
        "layer names": list(grid.layer_names),
        "whole layer names": list(grid.whole_names),
        "units": [f"{k}\t{v}" for k, v in units.items()],
        "coordinate system": [crs or ""],
    }
    vtk.write(path, solids, grid.cells.bottom, grid.cells.top, dict(table), fields)


def _read_vtk(path: Path) -> GridTables:
    table, fields = vtk.read(path)
    plan = PlanOutlines(
        fields["plan nodes"].reshape(-1, 2),
        fields["plan start"],
        fields["plan node"],
        fields["plan odd"],
        fields["plan odd outlines"],
    )
    names, whole_names = (tuple(fields[f"{k}layer names"]) for k in ("", "whole "))
    mesh = PolygonMesh(plan.polygons(), fields["plan centres"].reshape(-1, 2))
    units = dict(line.split("\t", 1) for line in fields["units"])
    return GridTables(mesh, names, whole_names, fields["cell number"].reshape(len(names), -1), table, units)


# --- GeoPackage ---------------------------------------------------------------------------------------


def _write_geopackage(
    grid: Grid, path: Path, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> None:
    import warnings

    import geopandas as gpd
    import pandas as pd

    number = numbers(grid)
    shapes = np.concatenate([m.polygons()[p] for m, p in zip(grid.meshes, grid.within_layer, strict=True)])
    plan = gpd.GeoDataFrame(
        {
            "x": grid.mesh.x,
            "y": grid.mesh.y,
            **{f"number_{k + 1}": row for k, row in enumerate(number)},
        },
        geometry=grid.mesh.polygons(),
        crs=crs,
    )
    cells = gpd.GeoDataFrame(
        {
            "number": np.arange(grid.n_cells),
            **table,
            "layer": np.array(grid.layer_names, dtype=object)[grid.cells.layer],
        },
        geometry=shapes,
        crs=crs,
    )
    about = pd.DataFrame(
        [("layer", n, whole) for n, whole in zip(grid.layer_names, grid.whole_names, strict=True)]
        + [("unit", k, v) for k, v in units.items()],
        columns=["what", "name", "value"],
    )
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        to = {"driver": "GPKG", "engine": "pyogrio"}
        plan.to_file(path, layer="plan", promote_to_multi=False, **to)
        cells.to_file(path, layer="cells", mode="a", promote_to_multi=False, **to)
        gpd.GeoDataFrame(about).to_file(path, layer="about", mode="a", **to)


def _read_geopackage(path: Path) -> GridTables:
    import pyogrio

    tables = {str(row[0]) for row in pyogrio.list_layers(path)}
    if not {"plan", "cells", "about"} <= tables:
        raise KeyError(f"its tables are {sorted(tables)}")
    plan, cells, about = (pyogrio.read_dataframe(path, layer=name) for name in ("plan", "cells", "about"))
    layers = about[about["what"] == "layer"]
    names, whole_names = tuple(layers["name"]), tuple(layers["value"])
    mesh = PolygonMesh(plan.geometry.to_numpy(), plan[["x", "y"]].to_numpy())
    number = plan[[f"number_{k + 1}" for k in range(len(names))]].to_numpy(dtype=np.int64).T
    table = {
        c: cells[c].to_numpy() for c in cells.columns if c not in ("number", "layer", "plan", "geometry")
    }
    units = about[about["what"] == "unit"].set_index("name")["value"].to_dict()
    return GridTables(mesh, names, whole_names, number, table, units)
