"""The files that a project file names: read, told where they are named, and brought to one coordinate system."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.files.headers import Header, split_header
from inkhorn.files.meshes import MeshFile, read_mesh
from inkhorn.files.reading import text_of
from inkhorn.files.shapes import Shape, read_shapes
from inkhorn.files.tables import Table, read_table
from inkhorn.model import Finding
from inkhorn.project.coordinates import metre_system
from inkhorn.project.inputs import Inputs
from inkhorn.project.parts import ShapeFile
from inkhorn.project.project_file import load_project_file
from inkhorn.project.region_run import region_of
from inkhorn.space import PolygonMesh
from inkhorn.units import UnitSystem, unit_factor

if TYPE_CHECKING:
    from inkhorn.project.parts_grid import FileMeshPart

__all__ = ["Source"]


_OF_SHAPES = (".gpkg", ".geojson", ".json", ".shp")


def _cell(value: Any) -> str:
    """An attribute as a table holds it."""
    return "" if value is None or value != value else str(value).strip()


class MapSystem(NamedTuple):
    """The coordinate system of the map.

    Attributes
    ----------
    stated : str
        As the first file that has one states it.
    used : str
        The same in metres.
    metres : float
        What one unit of the former is.
    unit : str
        What that is called.
    file : str
        Which file that is.
    """

    stated: str
    used: str
    metres: float
    unit: str
    file: str


class Source:
    """Follows the files that a project file names, from the folder it stands in."""

    def __init__(self, path: Path, variant: Path | None = None) -> None:
        self.path, self.variant, self.inputs = path, variant, Inputs(path)
        self.region = region_of(path, self.inputs.as_run.get("region"))
        if self.region is not None:
            self.inputs.beyond = Inputs(self.region.project)
        with ExitStack() as reading:
            for file in (path, variant):
                if file is not None and file.is_file():
                    reading.enter_context(self.inputs.reading(file.relative_to(path.parent)))
            self.asked, self.places, self.changes = load_project_file(path, variant, self.region)
        u = self.asked.units
        self.units = UnitSystem(u.length, u.time, u.concentration)
        self.read: dict[tuple[str, str], dict[str, Any]] = {}  # what came, by file and table
        self.findings: list[Finding] = []
        self.remarks: dict[tuple[str, str], list[str]] = {}  # what was understood of each table
        self.meshes: dict[tuple[str, str | None], MeshFile] = {}
        self.crs: MapSystem | None = None
        self.bare: tuple[str, float] | None = (
            None  # the first file that states none before one does, and its unit
        )

    def says(self, key: str) -> bool:
        """Whether the project file itself, or its variant, has a table, and not only that of its region."""
        own = [file for file in (self.path, self.variant) if file is not None]
        return self.region is None or any(key in tomllib.loads(text_of(file)) for file in own)

    def by(self, *key: Any) -> str:
        """Say where a key stands."""
        return self.places.at(key)

    def note(self, file: str, table: str | None, rows: int, what: str, remark: str = "") -> None:
        """Keep what was read of a file, for the summary."""
        row = {"file": file, "table": table or "", "rows": rows, "what": what, "note": remark}
        self.read.setdefault((file, table or ""), row)

    def table(self, file: str, *key: Any, sheet: str | None = None) -> Table:
        asked_by = f"named in {self.by(*key)}"
        with self.inputs.reading(file) as path:
            table = read_table(path, units=self.units, sheet=sheet, asked_by=asked_by)
        self.note(file, table.sheet, len(table), f"columns {', '.join(table.columns)}")
        self.remarks[file, table.sheet or ""] = table.remarks
        return table

    def as_expected(
        self, columns: dict[str, str], known: list[str], *tables: Table | None, key: Sequence[Any]
    ) -> list[Any]:
        """Tables whose columns are called otherwise than they are known here, with the names that are expected.

        Raises
        ------
        InputError
            If nobody asks for one of these names, or no table has such a column.
        """
        there = [table for table in tables if table is not None]
        for expected, named in columns.items():
            if expected not in known:
                raise InputError(
                    f'{self.by(*key, "columns", expected)}: no column "{expected}" is looked for; expected some of '
                    f"{known}.{did_you_mean(expected, known)}"
                )
            if not any(table.has(named) for table in there):
                found = [name for table in there for name in table.columns]
                raise InputError(
                    f"{self.by(*key, 'columns', expected)}: {' and '.join(t.path.name for t in there)} "
                    f'{"has" if len(there) == 1 else "have"} no column "{named}", but {found}.'
                    f"{did_you_mean(named, found)}"
                )
        under = f"under [{key[0]}]" if len(key) == 1 else "beside the file"
        how = f" Or say what it is called here: {under}, columns = {{ … }}."
        return [
            None
            if table is None
            else replace(table, otherwise=how).renamed({k: n for k, n in columns.items() if table.has(n)})
            for table in tables
        ]

    def points(self, file: str, *key: Any, sheet: str | None = None) -> Table:
        """Read a table whose rows stand at places: columns x and y of a table, or the points of a GIS file."""
        if Path(file).suffix.lower() not in _OF_SHAPES:
            return self.table(file, *key, sheet=sheet)
        shapes = self.shapes(ShapeFile(file=file, table=sheet), ("Point",), *key)
        columns = {str(c): [_cell(s.attributes[c]) for s in shapes] for c in shapes[0].attributes}
        headers = {name: split_header(name) for name in columns}
        table = Table(
            Path(file),
            {headers[name].name: cells for name, cells in columns.items()},
            [k + 1 for k in range(len(shapes))],
            {header.name: header for header in headers.values()},
            self.units,
            sheet,
            rows_are="row",
        )
        for axis in ("x", "y"):
            table.columns[axis] = [repr(float(getattr(s.geometry, axis))) for s in shapes]
            table.headers[axis] = Header(axis, "m")  # the map's by now
        return table

    def on_map(self, table: Table, local: bool, *key: Any, x: str = "x", y: str = "y") -> tuple[Any, Any]:
        """Read places on the map, from columns in its coordinates or in local ones."""
        if not local and self.crs is not None:  # bare numbers are in the unit of the map
            table = replace(table, units=replace(self.units, length=self.crs.unit))
        u, v = (
            table.numbers(axis, "length", unit=self._feet_of_the_map(table, axis, local)) for axis in (x, y)
        )
        if not local:
            return u, v
        frame = self.asked.local
        if frame is None:
            raise InputError(
                f"{self.by(*key)}: local coordinates need a table that places them, as in\n"
                "[local]\norigin = [3500, 2100]\nrotation = 30"
            )
        c, s = np.cos(np.deg2rad(frame.rotation)), np.sin(np.deg2rad(frame.rotation))
        return frame.origin[0] + c * u - s * v, frame.origin[1] + s * u + c * v

    def _feet_of_the_map(self, table: Table, column: str, local: bool) -> str | None:
        """Feet in the header of a coordinate are those of the map: of a survey's, 2 m in 1000 km makes a difference."""
        if local or self.crs is None or not table.has(column):
            return None
        feet = table.header(column).unit.lower() in ("ft", "foot", "feet")
        return self.crs.unit if feet and self.crs.unit == "survey_foot" else None

    def shapes(self, part: Any, kinds: tuple[str, ...], *key: Any) -> list[Shape]:
        with self.inputs.reading(part.file) as path:
            shapes, crs = read_shapes(
                path, table=part.table, kinds=kinds, asked_by=f"named in {self.by(*key)}"
            )
        there, moved = self.on_the_map([s.geometry for s in shapes], crs, part.file, *key)
        if there is not None:
            shapes = [replace(s, geometry=g) for s, g in zip(shapes, there, strict=True)]
        geometries = sorted({s.geometry.geom_type for s in shapes})
        columns = ", ".join(shapes[0].attributes) or "none"
        self.note(part.file, part.table, len(shapes), f"{', '.join(geometries)}; attributes {columns}", moved)
        return shapes

    def mesh(self, part: FileMeshPart, *key: Any) -> MeshFile:
        """Read a plan mesh made elsewhere, on the map; once."""
        if (part.file, part.table) not in self.meshes:
            with self.inputs.reading(part.file) as path:
                found = read_mesh(path, table=part.table)
            shapes, moved = self.on_the_map(found.mesh.polygons(), found.crs, part.file, *key)
            if shapes is not None:
                found = replace(found, mesh=PolygonMesh(shapes))
            taken = [a.column for a in part.attribute]
            idle = [str(c) for c in found.attributes.columns if c not in taken]
            words = [f"taken over: {', '.join(taken)}"] if taken else []
            words += [f"attributes not taken over: {', '.join(idle)}"] if idle else []
            words += [f"not read: {w}" for w in found.left]
            self.note(
                part.file, part.table, found.mesh.n_cells, "; ".join(["cells of a grid", *words]), moved
            )
            self.meshes[part.file, part.table] = found
        return self.meshes[part.file, part.table]

    def on_the_map(
        self, geometries: Any, crs: str | None, file: str, *key: Any
    ) -> tuple[NDArray[Any] | None, str]:
        """Bring shapes to the map: in metres, in the coordinate system of the first file that stated one.

        Returns
        -------
        shapes : ndarray of shapely geometry, or None
            None where they lie on it as they are.
        note : str
            What was done, to be told.
        """
        import shapely

        if crs is None or self.crs is None or self.crs.stated == crs:
            factor, note = self.metres_of(crs, file, *key, bounds=shapely.total_bounds(geometries))
            if factor == 1.0:
                return None, note
            return _moved(geometries, lambda xy: factor * xy), note
        import pyproj

        try:
            turn = pyproj.Transformer.from_crs(crs, self.crs.used, always_xy=True)
            moved = _moved(
                geometries, lambda xy: np.column_stack(turn.transform(xy[:, 0], xy[:, 1], errcheck=True))
            )
        except pyproj.exceptions.ProjError as problem:
            raise InputError(
                f"{file} is in {crs} and cannot be brought to {self.crs.stated}, that of {self.crs.file} "
                f"({self.by(*key)}): {problem}. Save it in that coordinate system."
            ) from None
        return moved, f"brought from {crs} to {self.crs.stated}, that of {self.crs.file}"

    def metres_of(self, crs: str | None, file: str, *key: Any, bounds: Any = None) -> tuple[float, str]:
        """Return what one unit of a file's coordinates is in metres, and what to tell of it.

        The first file that states a coordinate system gives that of the map; one that states none goes by the map's, or
        by the project's own unit of length if no file has stated one.

        Raises
        ------
        InputError
            If it is in degrees, or in another coordinate system than the map.
        """
        if crs is None:
            if self.crs is not None:
                return self.crs.metres, f"states no coordinate system; taken to be in that of {self.crs.file}"
            factor = unit_factor(self.units.length, "length")
            self.bare = self.bare or (file, factor)
            return factor, "" if factor == 1.0 else f"coordinates in {self.units.length}, brought to metres"
        if self.crs is None:
            self.crs = MapSystem(crs, *metre_system(crs, f"{file} ({self.by(*key)})", bounds), file)
            own = unit_factor(self.units.length, "length")
            if abs(own / self.crs.metres - 1.0) > 1e-12:
                self.findings.append(
                    Finding(
                        "warning",
                        f"the map is in {self.crs.unit} ({file}, {crs}), but coordinates and lengths of {self.path.name} "
                        f"that carry no unit are in {self.units.length}",
                        self.by("units"),
                        f'Set length = "{self.crs.unit}" under [units], or give each its unit.',
                    )
                )
            if self.bare is not None:
                if abs(self.bare[1] / self.crs.metres - 1.0) > 1e-12:
                    raise InputError(
                        f"{file} ({self.by(*key)}) is in {crs}, in {self.crs.unit}, but {self.bare[0]}, read before it, "
                        f"states no coordinate system and was taken to be in {self.units.length}. Save that "
                        "in a stated coordinate system."
                    )
                return self.crs.metres, f"first to state a coordinate system; {self.bare[0]} states none"
        if self.crs.stated != crs:
            raise InputError(
                f"{file} is in {crs}, but {self.crs.file} is in {self.crs.stated} ({self.by(*key)}). "
                "Bring both to one coordinate system."
            )
        return self.crs.metres, "" if self.crs.metres == 1.0 else f"brought from the unit of {crs} to metres"

    def came(self) -> tuple[dict[str, Any], ...]:
        """What came of each file: file, table, rows, what, and a note."""
        return tuple(
            row | {"note": "; ".join([*([row["note"]] if row["note"] else []), *self.remarks.get(key, [])])}
            for key, row in self.read.items()
        )

    def union(self, part: Any, *key: Any) -> Any:
        """Join all polygons of a file to one shape."""
        import shapely

        shapes = self.shapes(part, ("Polygon", "MultiPolygon"), *key)
        return shapely.union_all([s.geometry for s in shapes])


def _moved(geometries: Any, on_plan: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> NDArray[Any]:
    """Move shapes on the plan; what z their vertices have stays."""
    import shapely

    found = np.array(geometries, dtype=object)
    upright = shapely.has_z(found)
    found[~upright] = shapely.transform(found[~upright], on_plan)
    found[upright] = shapely.transform(
        found[upright], lambda xyz: np.column_stack([on_plan(xyz[:, :2]), xyz[:, 2]]), include_z=True
    )
    return found
