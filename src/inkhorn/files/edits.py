"""Edits of a site as text of a project file or a variant: what a fit found, to be run with."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from inkhorn.errors import InputError
from inkhorn.site import Edit
from inkhorn.space import PointSurface, Variogram

__all__ = ["edits_as_toml"]


def _text(value: str) -> str:
    escaped = value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", " ")
    return f'"{escaped}"'


def _number(value: float) -> str:
    return repr(float(value))


def _with_unit(value: float, unit: str) -> str:
    return f'"{_number(value)} {unit}"' if unit and unit != "-" else _number(value)


def _variogram(curve: Variogram) -> str:
    said = [f"kind = {_text(curve.kind)}", f'range = "{_number(curve.range)} m"']
    usual = Variogram()
    for key in ("sill", "nugget", "direction", "ratio", "exponent"):
        if getattr(curve, key) != getattr(usual, key):
            said.append(f"{key} = {_number(getattr(curve, key))}")
    return f"{{ {', '.join(said)} }}"


def _surface(surface: PointSurface, unit: str) -> list[str]:
    places = ", ".join(
        f'["{_number(x)} m", "{_number(y)} m", {_with_unit(z, unit)}]'
        for x, y, z in zip(surface.x, surface.y, surface.z, strict=True)
    )
    lines = [
        "[edit.surface]",
        f"places = [{places}]",
        f"method = {_text(surface.method)}",
        f"neighbours = {surface.neighbours}",
        f"variogram = {_variogram(surface.variogram)}",
        f"logarithms = {str(surface.on_logarithms).lower()}",
    ]
    if surface.least != 1:
        lines.append(f"least = {surface.least}")
    if np.isfinite(surface.reach):
        lines.append(f'reach = "{_number(surface.reach)} m"')
    if surface.too_few != "nearest":
        lines.append(f"too_few = {_text(surface.too_few)}")
    return lines


def edits_as_toml(edits: Sequence[tuple[Edit, str, dict[str, str]]]) -> str:
    """Return edits as tables ``[[edit]]``, to the last digit.

    Parameters
    ----------
    edits : sequence of (Edit, str, dict of str to str)
        Each with the unit of its value, and where its shape stands: ``file`` and ``table`` as the project file has
        them; empty for one without a shape.

    Raises
    ------
    InputError
        If an edit has a shape that stands in no file.
    """
    parts = []
    for edit, unit, shape in edits:
        if edit.shape is not None and not shape:
            raise InputError(
                f"{edit.where} is made within a shape that stands in no file; it cannot be written as text."
            )
        lines = ["[[edit]]", f"of = {_text(edit.of)}"]
        if isinstance(edit.value, PointSurface):
            if edit.how != "set":
                lines.append(f"surface_is = {_text({'factor': 'factor', 'add': 'added'}[edit.how])}")
        else:
            key = {"set": "value", "factor": "factor", "add": "add"}[edit.how]
            plain: Any = edit.value
            lines.append(f"{key} = {_number(plain) if edit.how == 'factor' else _with_unit(plain, unit)}")
        if edit.layers:
            lines.append(f"layers = [{', '.join(_text(n) for n in edit.layers)}]")
        if edit.zone is not None:
            lines.append(f"zone = [{_text(edit.zone[0])}, {_text(edit.zone[1])}]")
        if edit.feature is not None:
            lines.append(f"feature = {_text(edit.feature)}")
        if shape:
            lines.append(f"within = {{ {', '.join(f'{k} = {_text(v)}' for k, v in shape.items())} }}")
        if edit.reason:
            lines.append(f"reason = {_text(edit.reason)}")
        if isinstance(edit.value, PointSurface):
            lines += _surface(edit.value, "" if edit.how == "factor" else unit)
        parts.append("\n".join(lines) + "\n")
    return "\n".join(parts)
