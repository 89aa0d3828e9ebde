"""VTK unstructured grids (XML, ``.vtu``) of upright prisms: written for viewers, read back for their numbers.

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

__all__ = ["read", "write"]

_TYPES = {"f": "Float64", "i": "Int64", "u": "UInt8"}
_DTYPES = {"Float64": np.float64, "Int64": np.int64, "UInt8": np.uint8}
_WEDGE, _HEXAHEDRON, _POLYHEDRON = 13, 12, 42


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


def _texts(parent: ElementTree.Element, name: str, texts: Sequence[str]) -> None:
    """Texts as VTK has them: codes, each text ended by a 0."""
    codes = " ".join(str(c) for text in texts for c in (*text.encode(), 0))
    element = ElementTree.SubElement(
        parent, "Array", Name=name, type="String", format="ascii", NumberOfTuples=str(len(texts))
    )
    element.text = codes


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
        Outline of each cell, not closed [m].
    bottom, top : ndarray of float, (n_cells,)
        [m]
    table : mapping of str to ndarray, (n_cells,)
        Numbers of each cell.
    fields : mapping of str to ndarray or list of str
        Of the whole.
    """
    count = np.array([len(r) for r in rings])
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
    kind = np.select([count == 4, count == 3], [_HEXAHEDRON, _WEDGE], _POLYHEDRON)
    faces, face_offset, total = [], np.full(len(rings), -1, dtype=np.int64), 0
    for k in np.flatnonzero(kind == _POLYHEDRON):
        n, start = count[k], first[k]
        base, lid = start + np.arange(n), start + n + np.arange(n)
        sides = np.column_stack([np.full(n, 4), base, np.roll(base, -1), np.roll(lid, -1), lid])
        stream = np.concatenate([[n + 2, n], base[::-1], [n], lid, sides.ravel()])
        total += len(stream)
        faces.append(stream)
        face_offset[k] = total

    root = ElementTree.Element(
        "VTKFile",
        type="UnstructuredGrid",
        version="1.0",
        byte_order="LittleEndian",
        header_type="UInt64",
    )
    unstructured = ElementTree.SubElement(root, "UnstructuredGrid")
    whole = ElementTree.SubElement(unstructured, "FieldData")
    for name, values in fields.items():
        if isinstance(values, list):
            _texts(whole, name, values)
        else:
            flat = np.asarray(values).ravel()
            _array(whole, name, flat, tuples=len(flat))
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
    for name, values in table.items():
        _array(data, name, values)
    ElementTree.ElementTree(root).write(path, xml_declaration=True, encoding="utf-8")


def read(path: Path) -> tuple[dict[str, NDArray[Any]], dict[str, Any]]:
    """Return the cell table and the fields of a file written here.

    Raises
    ------
    ValueError
        If the file is not such a file.
    """
    try:
        root = ElementTree.parse(path).getroot()
    except (ElementTree.ParseError, UnicodeDecodeError) as problem:
        raise ValueError(f"it is not XML ({problem})") from None
    fields: dict[str, Any] = {}
    for element in root.iterfind("./UnstructuredGrid/FieldData/*"):
        name = element.get("Name", "")
        fields[name] = _text_of(element) if element.get("type") == "String" else _values_of(element)
    table = {
        element.get("Name", ""): _values_of(element)
        for element in root.iterfind("./UnstructuredGrid/Piece/CellData/DataArray")
    }
    return table, fields


def _values_of(element: ElementTree.Element) -> NDArray[Any]:
    if element.get("format") != "binary" or element.get("type") not in _DTYPES:
        raise ValueError(f'the array "{element.get("Name")}" is not as written here')
    body = base64.b64decode(element.text or "")
    return np.frombuffer(
        body[8:], dtype=np.dtype(_DTYPES[str(element.get("type"))]).newbyteorder("<")
    ).astype(_DTYPES[str(element.get("type"))])


def _text_of(element: ElementTree.Element) -> list[str]:
    codes = bytes(int(c) for c in (element.text or "").split())
    return [t.decode() for t in codes.split(b"\0")[:-1]]
