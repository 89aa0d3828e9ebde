"""Coordinate systems of maps: brought to metres, or refused where they are degrees."""

from __future__ import annotations

from typing import Any

from inkhorn.errors import InputError

__all__ = ["metre_system"]

_UNITS = {"foot": "ft", "US survey foot": "survey_foot", "kilometre": "km"}


def _metre_version(crs: Any) -> str:
    """The same projection with its axes in metres, as WKT."""
    import pyproj

    said = crs.to_json_dict()
    for part in (said, said.get("base_crs", {})):
        part.pop("id", None)
    for axis in said["coordinate_system"]["axis"]:
        axis["unit"] = "metre"
    said["name"] = f"{said['name']}, in metres"
    return str(pyproj.CRS.from_json_dict(said).to_wkt())


def metre_system(crs: str, words: str, bounds: Any = None) -> tuple[str, float, str]:
    """Return a coordinate system in metres for one that a file states, what one of its unit is, and its name.

    Parameters
    ----------
    crs : str
        As the file states it.
    words : str
        The file and who names it, for messages.
    bounds : array_like of float, (4,), optional
        Of what is in the file, to propose a projected system near it.

    Raises
    ------
    InputError
        If it is not known, or its coordinates are degrees.
    """
    import pyproj

    try:
        known = pyproj.CRS(crs)
    except pyproj.exceptions.CRSError:
        raise InputError(
            f'{words} states a coordinate system that is not known: "{crs[:80]}". Save it in one that has an EPSG code.'
        ) from None
    if known.is_geographic:
        near = ""
        if bounds is not None:
            lon, lat = 0.5 * (bounds[0] + bounds[2]), 0.5 * (bounds[1] + bounds[3])
            if abs(lon) <= 180 and abs(lat) <= 84:
                zone = min(int((lon + 180) // 6) + 1, 60)
                near = f", such as EPSG:{32600 + zone if lat >= 0 else 32700 + zone} near this place"
        raise InputError(
            f"{words} is in {known.name}, whose coordinates are degrees; lengths and areas need metres. Save it in a "
            f"projected coordinate system{near}."
        )
    axes = known.axis_info
    factor = float(axes[0].unit_conversion_factor) if axes else 1.0
    if abs(factor - 1.0) < 1e-12:
        return crs, 1.0, "m"
    if axes[0].unit_name not in _UNITS:
        raise InputError(
            f"{words} is in {known.name}, whose unit is the {axes[0].unit_name}; expected metres or one of "
            f"{list(_UNITS)}. Save it in a coordinate system in metres."
        )
    return _metre_version(known), factor, _UNITS[axes[0].unit_name]
