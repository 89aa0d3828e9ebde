"""Grids with their properties, written and read back without loss: NetCDF, VTK, GeoPackage.

All three carry the plan cells, the number of the cell in each layer of each, and a table of cells.
NetCDF also keeps what kind of mesh it was; from the others it comes back as polygons.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.files import vtk
from inkhorn.files.meshes import opened_dataset, rings_from_nodes
from inkhorn.files.whole import must_exist, written_whole
from inkhorn.space import (
    Grid,
    PlanMesh,
    PolygonMesh,
    RectangularMesh,
    SplitMesh,
    VoronoiMesh,
)

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = [
    "GridFile",
    "assembled",
    "cell_table",
    "grid_dataset",
    "grid_of_dataset",
    "read_grid",
    "write_dataset",
    "write_grid",
]

_TAKEN_OUT = -2  # instead of a cell's number, where a layer was taken out


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


class _Plan(NamedTuple):
    """The outlines of plan cells as corners shared between them; `odd` are those of several rings, as text."""

    nodes: NDArray[np.float64]
    start: NDArray[np.int64]
    node: NDArray[np.int64]
    odd: NDArray[np.int64]
    text: list[str]

    @property
    def connectivity(self) -> NDArray[np.int64]:
        """Nodes of each cell, -1 beyond its last, (n_cells, most)."""
        count = np.diff(self.start)
        there = np.arange(count.max()) < count[:, None]
        around = np.full(there.shape, -1, dtype=np.int64)
        around[there] = self.node
        return around

    def polygons(self) -> NDArray[Any]:
        import shapely

        around = self.connectivity
        shapes = rings_from_nodes(self.nodes, around, around >= 0)
        shapes[self.odd] = shapely.from_wkt(self.text)
        return shapes


def _outlines(shapes: NDArray[Any]) -> _Plan:
    """Corners around each cell; of those with holes or several parts, those of the largest part."""
    import shapely

    kinds = shapely.get_type_id(shapes)
    odd = np.flatnonzero(
        (kinds == shapely.GeometryType.MULTIPOLYGON) | (shapely.get_num_interior_rings(shapes) > 0)
    )
    simple = shapes.copy()
    for k in odd:
        simple[k] = max(shapely.get_parts(shapes[k]), key=shapely.area)
    rings = shapely.get_exterior_ring(simple)
    points, owner = shapely.get_coordinates(rings, return_index=True)
    last = np.append(owner[1:] != owner[:-1], True)  # each ring ends where it began
    nodes, node = np.unique(points[~last], axis=0, return_inverse=True)
    start = np.concatenate([[0], np.cumsum(np.bincount(owner[~last], minlength=len(shapes)))])
    return _Plan(
        nodes, start, node.ravel(), odd, [shapely.to_wkt(shapes[k], rounding_precision=-1) for k in odd]
    )


def _numbers(grid: Grid) -> NDArray[np.int64]:
    """Cell of each layer and plan cell, -1 where absent and -2 where taken out."""
    number = grid.number.copy()
    if grid.taken_out is not None:
        number[grid.taken_out] = _TAKEN_OUT
    return number


def cell_table(grid: Grid, properties: Mapping[str, ArrayLike]) -> dict[str, NDArray[Any]]:
    """The table of cells, properties last."""
    own = {
        "layer": grid.cells.layer,
        "plan": grid.cells.plan,
        "top": grid.cells.top,
        "bottom": grid.cells.bottom,
        "material": grid.cells.material,
    }
    taken = [k for k in properties if k in {*own, "x", "y", "number"}]
    if taken:
        raise InputError(
            f"a property cannot be called {taken[0]!r}: the file uses that name. Choose another."
        )
    return {**own, **{k: grid.per_cell(k, v) for k, v in properties.items()}}


def assembled(
    mesh: PlanMesh, names: tuple[str, ...], number: NDArray[np.int64], table: Mapping[str, NDArray[Any]]
) -> Grid:
    """A grid from its cells."""
    there = number >= 0
    levels = {}
    for key in ("top", "bottom"):
        levels[key] = np.full(number.shape, np.nan)
        levels[key][there] = np.asarray(table[key], dtype=np.float64)[number[there]]
    layer = np.broadcast_to(np.arange(len(names))[:, None], number.shape)
    material = layer.copy()
    material[there] = np.asarray(table["material"], dtype=np.int64)[number[there]]
    joined = {}
    for k, row in enumerate(number):
        if len(np.unique(row[row >= 0])) < (row >= 0).sum():
            # absent plan cells stand for themselves: nothing says which of them were one
            alone = np.where(row >= 0, row, number.max() + 1 + np.arange(len(row)))
            _, first, group = np.unique(alone, return_index=True, return_inverse=True)
            rank = np.empty(len(first), dtype=np.int64)
            rank[np.argsort(first)] = np.arange(len(first))
            joined[k] = rank[group.ravel()]
    removed = number == _TAKEN_OUT
    return Grid(
        mesh,
        names,
        levels["top"],
        levels["bottom"],
        None if (material == layer).all() else material,
        joined,
        removed if removed.any() else None,
    )


def write_grid(
    grid: Grid,
    path: str | Path,
    properties: Mapping[str, ArrayLike] | None = None,
    *,
    units: Mapping[str, str] | None = None,
    crs: str | None = None,
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

    Raises
    ------
    InputError
        If the ending of the path names no format.
    """
    path, units = Path(path), dict(units or {})
    writers = {".nc": _write_netcdf, ".vtu": _write_vtk, ".gpkg": _write_geopackage}
    if path.suffix.lower() not in writers:
        raise InputError(f'"{path.name}" names no format of grids; expected one of {list(writers)}.')
    table = cell_table(grid, properties or {})
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
    readers = {".nc": _read_netcdf, ".vtu": _read_vtk, ".gpkg": _read_geopackage}
    if path.suffix.lower() not in readers:
        raise InputError(f'"{path.name}" names no format of grids; expected one of {list(readers)}.')
    must_exist(path)
    try:
        mesh, names, number, table, units = readers[path.suffix.lower()](path)
        grid = assembled(mesh, names, number, table)
    except (KeyError, IndexError, ValueError) as problem:
        raise InputError(
            f'"{path.name}" is not a grid written here: {problem}. To take a plan mesh made elsewhere, use read_mesh.'
        ) from None
    own = ("layer", "plan", "top", "bottom", "material")
    properties = pd.DataFrame({k: v for k, v in table.items() if k not in own}, index=range(grid.n_cells))
    return GridFile(grid, properties, units, path.name)


_Read = tuple[PlanMesh, tuple[str, ...], NDArray[np.int64], dict[str, NDArray[Any]], dict[str, str]]


# --- NetCDF -------------------------------------------------------------------------------------------


def grid_dataset(
    grid: Grid, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> xr.Dataset:
    """Return a grid and a table of its cells as a dataset with CF and UGRID conventions."""
    import xarray as xr

    mesh, plan, number = grid.mesh, _outlines(grid.mesh.polygons()), _numbers(grid)
    metre = {"units": "m"}
    data = xr.Dataset(attrs={"Conventions": "CF-1.11 UGRID-1.0", "source": "Inkhorn, grid"})
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
    data["layer"] = ("layer", np.array(grid.layer_names, dtype=object))
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
        data["crs"] = ((), np.int32(0), {"crs_wkt": crs})
    for name, values, attributes in _kind_of(mesh):
        data[name] = (tuple(f"{name}_{k}" for k in range(np.ndim(values))), values, attributes)
    return data


def write_dataset(data: xr.Dataset, path: Path) -> None:
    """Write a dataset as NetCDF, its numbers packed."""
    packed = {
        n: {"zlib": True, "complevel": 4} for n, v in data.data_vars.items() if v.ndim and v.dtype != object
    }
    data.to_netcdf(path, engine="h5netcdf", encoding=packed)


def _write_netcdf(
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


def _read_netcdf(path: Path) -> _Read:
    return grid_of_dataset(opened_dataset(path))


def grid_of_dataset(data: xr.Dataset) -> _Read:
    """Return what `grid_dataset` put into a dataset."""
    mesh, number = _mesh_of_kind(data), data["number"].to_numpy().astype(np.int64)
    if mesh is None:
        around = data["cell_nodes"].to_numpy()
        nodes = np.column_stack([data["node_x"].to_numpy(), data["node_y"].to_numpy()])
        odd = data["outline_of"].to_numpy() if "outline_of" in data else np.empty(0, dtype=np.int64)
        count = (around >= 0).sum(axis=1)
        plan = _Plan(
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
    return mesh, tuple(str(n) for n in data["layer"].to_numpy()), number, table, units


# --- VTK ----------------------------------------------------------------------------------------------


def _write_vtk(
    grid: Grid, path: Path, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> None:
    plan = _outlines(grid.mesh.polygons())
    solids = []
    for mesh, present in zip(grid.meshes, grid.within_layer, strict=True):
        own = plan if mesh is grid.mesh else _outlines(mesh.polygons())
        rings = np.split(own.node, own.start[1:-1])
        solids += [own.nodes[rings[k]] for k in present]
    fields = {
        "plan nodes": plan.nodes,
        "plan start": plan.start,
        "plan node": plan.node,
        "plan odd": plan.odd,
        "plan centres": np.column_stack([grid.mesh.x, grid.mesh.y]),
        "cell number": _numbers(grid),
        "plan odd outlines": plan.text,
        "layer names": list(grid.layer_names),
        "units": [f"{k}\t{v}" for k, v in units.items()],
        "coordinate system": [crs or ""],
    }
    vtk.write(path, solids, grid.cells.bottom, grid.cells.top, dict(table), fields)


def _read_vtk(path: Path) -> _Read:
    table, fields = vtk.read(path)
    plan = _Plan(
        fields["plan nodes"].reshape(-1, 2),
        fields["plan start"],
        fields["plan node"],
        fields["plan odd"],
        fields["plan odd outlines"],
    )
    names = tuple(fields["layer names"])
    mesh = PolygonMesh(plan.polygons(), fields["plan centres"].reshape(-1, 2))
    units = dict(line.split("\t", 1) for line in fields["units"])
    return mesh, names, fields["cell number"].reshape(len(names), -1), table, units


# --- GeoPackage ---------------------------------------------------------------------------------------


def _write_geopackage(
    grid: Grid, path: Path, table: Mapping[str, Any], units: Mapping[str, str], crs: str | None
) -> None:
    import warnings

    import geopandas as gpd
    import pandas as pd

    number = _numbers(grid)
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
        [("layer", n, "") for n in grid.layer_names] + [("unit", k, v) for k, v in units.items()],
        columns=["what", "name", "value"],
    )
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        to = {"driver": "GPKG", "engine": "pyogrio"}
        plan.to_file(path, layer="plan", promote_to_multi=False, **to)
        cells.to_file(path, layer="cells", mode="a", promote_to_multi=False, **to)
        gpd.GeoDataFrame(about).to_file(path, layer="about", mode="a", **to)


def _read_geopackage(path: Path) -> _Read:
    import pyogrio

    tables = {str(row[0]) for row in pyogrio.list_layers(path)}
    if not {"plan", "cells", "about"} <= tables:
        raise KeyError(f"its tables are {sorted(tables)}")
    plan, cells, about = (pyogrio.read_dataframe(path, layer=name) for name in ("plan", "cells", "about"))
    names = tuple(about.loc[about["what"] == "layer", "name"])
    mesh = PolygonMesh(plan.geometry.to_numpy(), plan[["x", "y"]].to_numpy())
    number = plan[[f"number_{k + 1}" for k in range(len(names))]].to_numpy(dtype=np.int64).T
    table = {
        c: cells[c].to_numpy() for c in cells.columns if c not in ("number", "layer", "plan", "geometry")
    }
    units = about[about["what"] == "unit"].set_index("name")["value"].to_dict()
    return mesh, names, number, table, units
