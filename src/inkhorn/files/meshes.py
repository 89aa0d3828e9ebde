"""Plan meshes made elsewhere: polygon layers of GIS files, and NetCDF files with UGRID conventions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean, naming
from inkhorn.files.headers import Header, split_header
from inkhorn.files.reading import reading_as
from inkhorn.files.shapes import read_shapes
from inkhorn.sizes import refuse_beyond
from inkhorn.space import PlanMesh, PolygonMesh
from inkhorn.units import METRES_AND_DAYS, UnitSystem, refuse_impossible, unit_factor

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["MeshFile", "opened_dataset", "read_mesh", "rings_from_nodes"]


@dataclass(frozen=True, eq=False)
class MeshFile:
    """A plan mesh from a file, with what else stood there.

    Attributes
    ----------
    mesh : PlanMesh
        One cell per polygon, in the order of the file.
    attributes : pandas.DataFrame
        One row per cell: the file's columns, as they came.
    crs : str or None
        As the file states it.
    source : str
        The file, for messages.
    left : tuple of str
        What the file holds besides, in words.
    units : mapping of str to str
        Of attributes, as the file states them: beside the values, or in brackets behind the name.
    """

    mesh: PlanMesh
    attributes: pd.DataFrame
    crs: str | None
    source: str
    left: tuple[str, ...] = ()
    units: Mapping[str, str] = field(default_factory=dict)

    def __str__(self) -> str:
        lines = [f"{self.source}: {self.mesh!r}; {self.crs or 'no coordinate system stated'}"]
        for name, values in self.attributes.items():
            empty = int(values.isna().sum())
            lines.append(
                f"  {name}{f' [{unit}]' if (unit := self.units.get(str(name))) else ''}: "
                f"{'numbers' if values.dtype.kind in 'fiub' else 'text'}"
                f"{f', empty in {empty} of {len(values)} cells' if empty else ''}"
            )
        if self.attributes.columns.empty:
            lines.append("  no attributes of cells")
        lines += [f"  not taken: {words}" for words in self.left]
        return "\n".join(lines)

    def numbers(
        self,
        column: str,
        kind: str = "number",
        *,
        unit: str | None = None,
        units: UnitSystem = METRES_AND_DAYS,
    ) -> NDArray[np.float64]:
        """Return an attribute as numbers in metres, days and grams, (n_cells,).

        Parameters
        ----------
        column : str
            Its name.
        kind : str
            What it measures, a key of `inkhorn.units.KINDS`.
        unit : str, optional
            Of the attribute; as the file states it if not given.
        units : UnitSystem
            Where neither says.

        Raises
        ------
        InputError
            If there is no such attribute, it is no number somewhere (nothing is filled in), or none that can be.
        """
        import pandas as pd

        if column not in self.attributes:
            known = list(self.attributes.columns)
            raise InputError(
                f'{self.source} has no attribute "{column}"; it has {known}.{did_you_mean(column, known)}'
            )
        values = pd.to_numeric(self.attributes[column], errors="coerce").to_numpy(dtype=np.float64)
        bad = np.flatnonzero(~np.isfinite(values))
        if len(bad):
            raise InputError(
                f'{self.source}, row {bad[0] + 1}: "{column}" is {self.attributes[column].iloc[bad[0]]}; expected a '
                f"number ({len(bad)} of {len(values)} are bad). Fill them in, or take the cells out."
            )
        with naming(f'{self.source}, "{column}"'):
            values = values * unit_factor(unit or self.units.get(column) or units.unit_of(kind), kind)
            refuse_impossible("a value", values, kind)
        return values


def _split_units(attributes: pd.DataFrame, stated: Mapping[str, str]) -> tuple[pd.DataFrame, dict[str, str]]:
    """Attributes by their bare names, and the units that stood behind these in brackets, or are stated."""
    names = {str(n): split_header(str(n)) for n in attributes.columns}
    bare = [header.name for header in names.values()]
    names = {n: h if bare.count(h.name) == 1 else Header(n, "") for n, h in names.items()}
    units = {h.name: h.unit or stated.get(n, "") for n, h in names.items()}
    return attributes.rename(columns={n: h.name for n, h in names.items()}), {
        n: u for n, u in units.items() if u
    }


def read_mesh(path: str | Path, *, table: str | None = None) -> MeshFile:
    """Read the polygons of a GIS file, or the mesh of a NetCDF file with UGRID conventions.

    Parameters
    ----------
    path : str or Path
        GeoPackage, GeoJSON or Shapefile with one polygon per cell; or NetCDF (``.nc``) with a
        two-dimensional mesh topology.
    table : str, optional
        Which table of a GeoPackage, or which mesh of a NetCDF file; needed if there are several.

    Returns
    -------
    MeshFile
        Print it for a summary of what came.

    Raises
    ------
    InputError
        If the file cannot be read, or its cells overlap or are no polygons.
    """
    import pandas as pd

    path = Path(path)
    if path.suffix.lower() == ".nc":
        return _read_ugrid(path, table)
    shapes, crs = read_shapes(path, table=table, kinds=("Polygon", "MultiPolygon"))
    try:
        mesh = PolygonMesh(np.array([s.geometry for s in shapes], dtype=object))
    except InputError as problem:
        raise InputError(f"{path.name}: {problem}") from None
    attributes, units = _split_units(pd.DataFrame([s.attributes for s in shapes]), {})
    return MeshFile(mesh, attributes, crs, path.name, units=units)


def opened_dataset(path: Path) -> xr.Dataset:
    """Read a NetCDF file whole, or say why it cannot be."""
    import xarray as xr

    with (
        reading_as(path, "NetCDF 4"),
        xr.open_dataset(path, engine="h5netcdf", mask_and_scale=False, decode_times=False) as file,
    ):
        refuse_beyond("memory", float(file.nbytes), f'"{path}"', "Take out what is not needed.")
        return file.load()


def rings_from_nodes(
    nodes: NDArray[Any], connectivity: NDArray[Any], there: NDArray[np.bool_]
) -> NDArray[Any]:
    """Return a polygon from the nodes around each cell.

    Parameters
    ----------
    nodes : ndarray of float, (n_nodes, 2)
        Places [m].
    connectivity : ndarray of int, (n_cells, most nodes)
        Nodes of each cell, from 0.
    there : ndarray of bool, as `connectivity`
        False where a cell has fewer.
    """
    import shapely

    owner, _ = np.nonzero(there)
    return np.asarray(shapely.polygons(shapely.linearrings(nodes[connectivity[there]], indices=owner)))


def _read_ugrid(path: Path, name: str | None) -> MeshFile:
    import pandas as pd

    data = opened_dataset(path)
    found = [
        str(n)
        for n, v in data.variables.items()
        if v.attrs.get("cf_role") == "mesh_topology" and int(v.attrs.get("topology_dimension", 0)) == 2
    ]
    if name is None and len(found) == 1:
        name = found[0]
    if name is None or name not in found:
        raise InputError(
            f'"{path.name}" holds {len(found)} two-dimensional meshes ({found}); expected '
            f"{'one' if name is None else repr(name)}. Name one with `table`, or export the mesh with UGRID conventions."
        )
    topology = data[name].attrs
    try:
        nodes = np.column_stack([data[n].to_numpy() for n in topology["node_coordinates"].split()[:2]])
        around = data[topology["face_node_connectivity"]]
    except KeyError as missing:
        raise InputError(
            f'"{path.name}", mesh "{name}": there is no {missing}, which a UGRID mesh names. Export it anew.'
        ) from None
    index = np.asarray(around.to_numpy(), dtype=np.float64)
    fill = around.attrs.get("_FillValue", around.encoding.get("_FillValue"))
    start = int(around.attrs.get("start_index", 0))
    there = np.isfinite(index) & (index >= start) & (True if fill is None else index != fill)
    index = np.where(there, index - start, 0).astype(np.int64)
    if there.any() and index[there].max() >= len(nodes):
        raise InputError(
            f'"{path.name}", mesh "{name}": a cell names node {index[there].max()} of {len(nodes)}.'
        )
    if (there.sum(axis=1) < 3).any():
        raise InputError(
            f'"{path.name}", mesh "{name}": cell {int(np.argmin(there.sum(axis=1)))} has fewer than three nodes.'
        )
    shapes = rings_from_nodes(nodes, index, there)
    dimension = around.dims[0]
    centres = None
    if "face_coordinates" in topology:
        centres = np.column_stack([data[n].to_numpy() for n in topology["face_coordinates"].split()[:2]])
    structure = {name, around.name, *topology.get("node_coordinates", "").split()}
    structure |= set(topology.get("face_coordinates", "").split())
    attributes: dict[str, Any] = {}
    left, stated = [], {}
    for variable, values in data.variables.items():
        if variable in structure:
            continue
        if values.dims == (dimension,):
            column = values.to_numpy()
            if str(values.attrs.get("units", "1")) != "1":
                stated[str(variable)] = str(values.attrs["units"])
            empty = values.attrs.get("_FillValue")
            attributes[str(variable)] = (
                np.where(column == empty, np.nan, column) if empty is not None else column
            )
        else:
            left.append(f"{variable} (over {', '.join(map(str, values.dims)) or 'nothing'})")
    try:
        mesh = PolygonMesh(shapes, centres)
    except InputError as problem:
        raise InputError(f'{path.name}, mesh "{name}": {problem}') from None
    crs = next((str(v.attrs["crs_wkt"]) for v in data.variables.values() if "crs_wkt" in v.attrs), None)
    by_cell, units = _split_units(pd.DataFrame(attributes, index=range(mesh.n_cells)), stated)
    return MeshFile(mesh, by_cell, crs, path.name, tuple(left), units)
