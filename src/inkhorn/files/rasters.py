"""Rasters of elevations from GeoTIFF and ESRI ASCII grids."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from inkhorn.errors import InputError
from inkhorn.files.reading import reading_as, text_of
from inkhorn.sizes import refuse_beyond
from inkhorn.space import GriddedSurface

__all__ = ["read_raster"]

_HEADER = {
    "ncols",
    "nrows",
    "xllcorner",
    "yllcorner",
    "xllcenter",
    "yllcenter",
    "cellsize",
    "dx",
    "dy",
    "nodata_value",
}


def _refuse_words(path: Path, asked: str) -> None:
    """Refuse words among the numbers of a text grid, which would be read as zeros."""
    for number, line in enumerate(text_of(path, asked).splitlines(), start=1):
        cells = line.split()
        numbers = cells[1:] if cells and cells[0].lower() in _HEADER else cells
        try:
            np.array(numbers, dtype=np.float64)
        except ValueError:
            word = next(c for c in numbers if not _is_number(c))
            raise InputError(
                f'"{path}"{asked}, line {number}: "{word[:40]}" is no number. Mend it, or give the value of no data.'
            ) from None


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True


def read_raster(path: Path, *, factor: float = 1.0, asked_by: str = "") -> tuple[GriddedSurface, str | None]:
    """Read the first band of a raster.

    Parameters
    ----------
    path : Path
        The file; anything GDAL reads as a raster with rows along x.
    factor : float
        What one of its unit of elevation is in metres.
    asked_by : str
        Who names the file, for messages.

    Returns
    -------
    surface : GriddedSurface
        NaN where the file says there are no data.
    crs : str or None
        As the file states it.

    Raises
    ------
    InputError
        If the file is missing, is no raster, is rotated, or has no data at all.
    """
    import rasterio

    asked = f" ({asked_by})" if asked_by else ""
    if path.suffix.lower() == ".asc":
        _refuse_words(path, asked)
    with reading_as(path, "a raster: GeoTIFF or ESRI ASCII grid", asked), rasterio.open(path) as file:
        words = f'"{path}"{asked}, {file.height} rows and {file.width} columns,'
        refuse_beyond("memory", 24.0 * file.width * file.height, words, "Thin it, or cut it to the site.")
        band = file.read(1, masked=True).astype(np.float64).filled(np.nan)
        place, crs = file.transform, file.crs
        crs_words = crs.to_string() if crs else None
    if place.b or place.d or place.is_identity:
        raise InputError(
            f'"{path}"{asked} is {"rotated" if not place.is_identity else "not placed on the map"}. '
            "Expected a raster with rows along x and a stated corner."
        )
    if not np.isfinite(band).any():
        raise InputError(f'"{path}"{asked} holds no data. Expected elevations.')
    sizes = np.abs([place.a, place.e])
    far = float(np.abs([place.c, place.f]).max())
    if not (sizes.min() >= 1e-3 and sizes.max() <= 1e6 and far <= 1e8):
        raise InputError(
            f'"{path}"{asked} has cells of {place.a:g} by {place.e:g} from x={place.c:g}, y={place.f:g}. Expected metres '
            "on the map, and cells of 1 mm to 1000 km."
        )
    rows, columns = band.shape
    x = place.c + place.a * (np.arange(columns) + 0.5)
    y = place.f + place.e * (np.arange(rows) + 0.5)
    if place.e < 0:
        y, band = y[::-1], band[::-1]
    return GriddedSurface(x, y, band * factor, name=path.name), crs_words
