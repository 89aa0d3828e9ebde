"""Shapes from GIS files: points, lines and polygons with their attributes."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from inkhorn.errors import InputError, coordinate_off, did_you_mean
from inkhorn.files.headers import split_header
from inkhorn.files.reading import reading_as, text_of
from inkhorn.units import METRES_AND_DAYS, UnitSystem, quantity, refuse_impossible, unit_factor

__all__ = ["Shape", "read_shapes", "typed_shape"]


@dataclass(frozen=True, eq=False)
class Shape:
    """One row of a GIS file.

    Attributes
    ----------
    geometry : shapely geometry
        In plan.
    attributes : dict
        By column name.
    source : str
        File and row, for messages.
    """

    geometry: Any
    attributes: dict[str, Any]
    source: str

    def attribute(self, column: str) -> Any:
        """Return an attribute.

        Raises
        ------
        InputError
            If there is no such column, or it is empty here.
        """
        if column not in self.attributes:
            found = list(self.attributes)
            if not found:
                raise InputError(
                    f'{self.source}: there is no column "{column}": only shapes of a file have columns.'
                )
            raise InputError(
                f'{self.source}: there is no column "{column}"; there are {found}.{did_you_mean(column, found)}'
            )
        value = self.attributes[column]
        if value is None or value != value or value == "":  # NaN differs from itself
            raise InputError(f'{self.source}: "{column}" is empty. Fill it in.')
        return value

    def number(
        self, column: str, kind: str, *, unit: str | None = None, units: UnitSystem = METRES_AND_DAYS
    ) -> float:
        """Return an attribute as a number in metres, days and grams."""
        value = self.attribute(column)
        header = split_header(column)
        if header.counts == "depth" and kind == "elevation":
            raise InputError(
                f'{self.source}: "{column}" holds depths by its name; expected elevations. Count them upwards from '
                "the sea."
            )
        unit = unit or header.unit or None
        try:
            if unit and not isinstance(value, str):
                number = float(value) * unit_factor(unit, kind)
                refuse_impossible(f'"{column}"', number, kind)
                return number
            return quantity(
                value if isinstance(value, str) else float(value), kind, units=units, what=f'"{column}"'
            )
        except (InputError, TypeError, ValueError) as problem:
            raise InputError(f"{self.source}: {problem}") from None


def _own_crs(path: Path, crs: Any, asked: str) -> str | None:
    """The CRS a file states.

    A GeoJSON without a ``crs`` member states none, whatever is assumed of it, and one that is called undefined is none.
    """
    if path.suffix.lower() in (".geojson", ".json"):
        said = json.loads(text_of(path, asked))
        if not isinstance(said, dict) or not said.get("crs"):
            return None
    if crs is None or str(getattr(crs, "name", "")).lower().startswith("undefined"):
        return None
    return str(crs.to_string())


def read_shapes(
    path: Path, *, table: str | None = None, kinds: tuple[str, ...] = (), asked_by: str = ""
) -> tuple[list[Shape], str | None]:
    """Read every shape of a GeoPackage, GeoJSON or Shapefile.

    Parameters
    ----------
    path : Path
        The file.
    table : str, optional
        Which table of a GeoPackage; needed if it has several.
    kinds : tuple of str
        Geometry types that will do; all if empty.
    asked_by : str
        Who names the file, for messages.

    Returns
    -------
    shapes : list of Shape
    crs : str or None
        As the file states it.

    Raises
    ------
    InputError
        If the file is missing or unreadable, has no shapes, or one is empty or of the wrong type.
    """
    import pyogrio
    import shapely

    asked = f" ({asked_by})" if asked_by else ""
    with reading_as(path, "a GIS file: GeoPackage, GeoJSON or Shapefile", asked):
        if path.suffix.lower() in (".geojson", ".json"):
            text_of(path, asked)  # says which encoding it is in, where that is not the one it must be in
        tables = [str(row[0]) for row in pyogrio.list_layers(path)]
        if table is None and len(tables) > 1:
            raise InputError(f'"{path}"{asked} has several tables: {tables}. Say which with `table`.')
        if table is not None and table not in tables:
            raise InputError(
                f'"{path}"{asked} has no table "{table}"; it has {tables}.{did_you_mean(table, tables)}'
            )
        try:
            frame = pyogrio.read_dataframe(path, layer=table)
        except shapely.errors.GEOSException as problem:
            raise InputError(
                f'"{path}"{asked} holds a shape that is none ({problem}). Mend it in a GIS: rings end where they begin.'
            ) from None
        except UnicodeDecodeError:
            raise InputError(
                f'"{path}"{asked} holds text in another encoding than it states. Save it anew, as UTF-8.'
            ) from None
        crs = _own_crs(path, getattr(frame, "crs", None), asked)
    if "geometry" not in frame.columns:
        raise InputError(f'"{path}"{asked} has no shapes, only a table.')
    if len(frame) == 0:
        raise InputError(f'"{path}"{asked} has no shapes in it. Expected at least one.')
    columns = [c for c in frame.columns if c != "geometry"]
    twice = sorted({c for c in columns if columns.count(c) > 1})
    if twice or list(frame.columns).count("geometry") > 1:
        raise InputError(f'"{path}"{asked} has columns twice: {twice or ["geometry"]}. Rename them.')
    name = path.name + (f', table "{table}"' if table else "")
    shapes = []
    for k, (geometry, *values) in enumerate(frame[["geometry", *columns]].itertuples(index=False)):
        source = f"{name}, row {k + 1}"
        if geometry is None or geometry.is_empty:
            raise InputError(f"{source}{asked}: the shape is empty. Draw it or remove the row.")
        if geometry.geom_type.startswith("Multi") and len(geometry.geoms) == 1:
            geometry = geometry.geoms[0]
        _refuse_unfit(geometry, kinds, f"{source}{asked}", "in a GIS")
        shapes.append(Shape(geometry, dict(zip(columns, values, strict=True)), source))
    return shapes, crs


def typed_shape(corners: Sequence[tuple[float, float]], kinds: tuple[str, ...], source: str) -> Any:
    """Return the point, line or polygon that has these corners.

    Parameters
    ----------
    corners : sequence of (float, float)
        x and y [m]; one of a point; those of a polygon end where they begin.
    kinds : tuple of str
        Geometry types that will do.
    source : str
        Where they are told, for messages.

    Raises
    ------
    InputError
        If they make no shape, or one of the wrong type.
    """
    import shapely

    closed = len(corners) > 3 and tuple(corners[0]) == tuple(corners[-1])
    if len(corners) == 1:
        shape = shapely.Point(corners[0])
    elif closed and "Polygon" in kinds:
        shape = shapely.Polygon(corners)
    else:
        shape = shapely.LineString(corners)
    if shape.geom_type == "LineString" and kinds and "LineString" not in kinds and "Polygon" in kinds:
        raise InputError(
            f"{source}: the corners of a polygon end where they begin. Add the first at the end."
        )
    _refuse_unfit(shape, kinds, source, "there")
    return shape


def _refuse_unfit(geometry: Any, kinds: tuple[str, ...], source: str, where: str) -> None:
    """Refuse a shape of another kind, one off the map, and one that crosses itself."""
    if kinds and geometry.geom_type not in kinds:
        raise InputError(f"{source}: the shape is a {geometry.geom_type}; expected a {' or '.join(kinds)}.")
    off = coordinate_off(geometry)
    if off is not None:
        raise InputError(f"{source}: the shape has a corner at {off}, which is no place on a map. Mend it.")
    if not geometry.is_valid:
        from shapely.validation import explain_validity

        raise InputError(f"{source}: the shape is not valid ({explain_validity(geometry)}). Mend it {where}.")
