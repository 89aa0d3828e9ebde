"""VTK unstructured grids (XML, ``.vtu``) of upright prisms and of lines, for viewers; read back for their numbers.

References
----------
The layout is that of the "VTK File Formats" chapter of the VTK User's Guide (Kitware, 2010).
"""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
from numpy.typing import NDArray

__all__ = ["read", "write", "write_lines"]

_TYPES = {"f": "Float64", "i": "Int64", "u": "UInt8"}
_DTYPES = {"Float64": np.float64, "Int64": np.int64, "UInt8": np.uint8}
_NUMBER = "number"  # of each cell
_LINE, _WEDGE, _HEXAHEDRON, _POLYHEDRON = 4, 13, 12, 42


def _array(parent: ElementTree.Element, name: str, values: Any, components: int = 1, tuples: int = 0) -> None:
    values = np.ascontiguousarray(values)
    values = values.astype({"f": np.float64, "u": np.uint8}.get(values.dtype.kind, np.int64))
    element = ElementTree.SubElement(
        parent, "DataArray", Name=name, type=_TYPES[values.dtype.kind], format="binary"
    )
    if components > 1:
        element.set("NumberOfComponents", str(components))
    if tuples:
        element.set("NumberOfTuples", str(tuples))
    body = values.astype(values.dtype.newbyteorder("<")).tobytes()
    element.text = base64.b64encode(np.uint64(len(body)).tobytes() + body).decode()


_TEXT = " as text"  # ends the name of an array that holds text: not every reader knows arrays of strings


def _coded(texts: Sequence[str]) -> NDArray[np.uint8]:
    """Texts as bytes, each ended by a 0."""
    return np.frombuffer(b"".join(t.encode() + b"\0" for t in texts), dtype=np.uint8)


def write(
    path: Path,
    rings: Sequence[NDArray[np.float64]],
    bottom: NDArray[np.float64],
    top: NDArray[np.float64],
    table: Mapping[str, NDArray[Any]],
    fields: Mapping[str, Any],
) -> None:
    """Write upright prisms.

    Parameters
    ----------
    rings : sequence of ndarray of float, (n, 2) each
        Outline of each cell, anticlockwise, not closed [m].
    bottom, top : ndarray of float, (n_cells,)
        [m]
    table : mapping of str to ndarray, (n_cells,)
        Numbers of each cell; but for one called ``number``, which holds its number itself.
    fields : mapping of str to ndarray or list of str
        Of the whole.
    """
    count = np.array([len(r) for r in rings])
    # some readers take polyhedra only by themselves, and their data only in the order of their corners' number
    solid = bool((count > 4).any())
    order = np.argsort(count, kind="stable") if solid else np.arange(len(count))
    rings, count, bottom, top = [rings[k] for k in order], count[order], bottom[order], top[order]
    plan = np.concatenate(rings)
    cell = np.repeat(np.arange(len(rings)), count)
    low = np.column_stack([plan, bottom[cell]])
    high = np.column_stack([plan, top[cell]])
    first = np.concatenate([[0], np.cumsum(2 * count)])
    points = np.empty((2 * len(plan), 3))
    within = np.arange(len(plan)) - np.repeat(np.concatenate([[0], np.cumsum(count)[:-1]]), count)
    at = first[cell] + within
    points[at], points[at + count[cell]] = low, high
    # a solid's points are its lower ring, then its upper one: as hexahedra and wedges want them
    kind = np.full(len(rings), _POLYHEDRON) if solid else np.where(count == 4, _HEXAHEDRON, _WEDGE)
    faces, face_offset, total = [], np.full(len(rings), -1, dtype=np.int64), 0
    for k in np.flatnonzero(kind == _POLYHEDRON):
        n, start = count[k], first[k]
        base, lid = start + np.arange(n), start + n + np.arange(n)
        sides = np.column_stack([np.full(n, 4), base, np.roll(base, -1), np.roll(lid, -1), lid])
        stream = np.concatenate([[n + 2, n], base[::-1], [n], lid, sides.ravel()])
        total += len(stream)
        faces.append(stream)
        face_offset[k] = total

    root = _root()
    unstructured = ElementTree.SubElement(root, "UnstructuredGrid")
    whole = ElementTree.SubElement(unstructured, "FieldData")
    for name, values in fields.items():
        flat = _coded(values) if isinstance(values, list) else np.asarray(values).ravel()
        _array(whole, name + _TEXT * isinstance(values, list), flat, tuples=len(flat))
    piece = ElementTree.SubElement(
        unstructured, "Piece", NumberOfPoints=str(len(points)), NumberOfCells=str(len(rings))
    )
    _array(ElementTree.SubElement(piece, "Points"), "Points", points, 3)
    cells = ElementTree.SubElement(piece, "Cells")
    _array(cells, "connectivity", np.arange(len(points)))
    _array(cells, "offsets", first[1:])
    _array(cells, "types", kind.astype(np.uint8))
    if faces:
        _array(cells, "faces", np.concatenate(faces))
        _array(cells, "faceoffsets", face_offset)
    data = ElementTree.SubElement(piece, "CellData")
    _array(data, _NUMBER, order)
    for name, values in table.items():
        _array(data, name, np.asarray(values)[order])
    ElementTree.ElementTree(root).write(path, xml_declaration=True, encoding="utf-8")


def write_lines(
    path: Path, points: NDArray[np.float64], whose: NDArray[np.int64], table: Mapping[str, NDArray[Any]]
) -> None:
    """Write lines through points.

    Parameters
    ----------
    points : ndarray of float, (n, 3)
        In order along each line, line after line [m].
    whose : ndarray of int, (n,)
        The line that each belongs to.
    table : mapping of str to ndarray, (n,)
        Numbers of each point.
    """
    root = _root()
    unstructured = ElementTree.SubElement(root, "UnstructuredGrid")
    ends = np.append(np.flatnonzero(np.diff(whose)) + 1, len(whose))
    piece = ElementTree.SubElement(
        unstructured, "Piece", NumberOfPoints=str(len(points)), NumberOfCells=str(len(ends))
    )
    data = ElementTree.SubElement(piece, "PointData")
    for name, values in table.items():
        _array(data, name, values)
    data = ElementTree.SubElement(piece, "CellData")
    _array(data, "path", np.asarray(whose)[ends - 1])
    _array(ElementTree.SubElement(piece, "Points"), "Points", points, 3)
    cells = ElementTree.SubElement(piece, "Cells")
    _array(cells, "connectivity", np.arange(len(points)))
    _array(cells, "offsets", ends)
    _array(cells, "types", np.full(len(ends), _LINE, dtype=np.uint8))
    ElementTree.ElementTree(root).write(path, xml_declaration=True, encoding="utf-8")


def _root() -> ElementTree.Element:
    return ElementTree.Element(
        "VTKFile",
        type="UnstructuredGrid",
        version="1.0",
        byte_order="LittleEndian",
        header_type="UInt64",
    )


def read(path: Path) -> tuple[dict[str, NDArray[Any]], dict[str, Any]]:
    """Return the cell table and the fields of a file written here.

    Raises
    ------
    ValueError
        If the file is not such a file, or lacks the numbers of its cells.
    """
    try:
        root = ElementTree.parse(path).getroot()
    except (ElementTree.ParseError, UnicodeDecodeError) as problem:
        raise ValueError(f"it is not XML ({problem})") from None
    fields: dict[str, Any] = {}
    for element in root.iterfind("./UnstructuredGrid/FieldData/*"):
        name = element.get("Name", "")
        values = _values_of(element)
        if name.endswith(_TEXT):
            fields[name.removesuffix(_TEXT)] = [t.decode() for t in values.tobytes().split(b"\0")[:-1]]
        else:
            fields[name] = values
    table = {
        element.get("Name", ""): _values_of(element)
        for element in root.iterfind("./UnstructuredGrid/Piece/CellData/DataArray")
    }
    if _NUMBER not in table or any(len(v) != len(table[_NUMBER]) for v in table.values()):
        raise ValueError("its cells have no numbers")
    place = np.argsort(table.pop(_NUMBER))
    return {name: values[place] for name, values in table.items()}, fields


def _values_of(element: ElementTree.Element) -> NDArray[Any]:
    if element.get("format") != "binary" or element.get("type") not in _DTYPES:
        raise ValueError(f'the array "{element.get("Name")}" is not as written here')
    body = base64.b64decode(element.text or "")
    return np.frombuffer(
        body[8:], dtype=np.dtype(_DTYPES[str(element.get("type"))]).newbyteorder("<")
    ).astype(_DTYPES[str(element.get("type"))])
