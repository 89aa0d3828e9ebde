"""Pictures placed on the map: PNG or JPEG with a world file, GeoTIFF."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from inkhorn.errors import InputError
from inkhorn.files.reading import reading_as
from inkhorn.site import Picture
from inkhorn.sizes import refuse_beyond

__all__ = ["read_picture"]

_MOST = 4_000_000  # dots kept; a larger picture is thinned


def read_picture(path: str | Path, *, asked_by: str = "") -> tuple[Picture, str | None]:
    """Read a georeferenced picture to lay under maps.

    Parameters
    ----------
    path : str or Path
        GeoTIFF; or PNG or JPEG with its world file (``.pgw``, ``.jgw``, ``.wld``) beside it.
    asked_by : str
        Who names the file, for messages.

    Returns
    -------
    picture : Picture
        Thinned to four million dots.
    crs : str or None
        As the file states it.

    Raises
    ------
    InputError
        If the file is missing, is no picture, or does not say where it lies.
    """
    import rasterio

    path, asked = Path(path), f" ({asked_by})" if asked_by else ""
    with reading_as(path, "a picture: PNG, JPEG or GeoTIFF", asked), rasterio.open(path) as file:
        words = f'"{path}"{asked}, {file.height} by {file.width} dots,'
        refuse_beyond(
            "memory", float(file.count) * file.width * file.height, words, "Thin it, or cut it to the site."
        )
        thin = max(1, int(np.ceil(np.sqrt(file.width * file.height / _MOST))))
        shape = (max(file.height // thin, 1), max(file.width // thin, 1))
        bands = file.read(out_shape=(file.count, *shape))
        place, extent, table = file.transform, file.bounds, None
        crs = file.crs.to_string() if file.crs else None
        if file.count == 1 and file.colorinterp[0].name == "palette":
            table = file.colormap(1)
    if place.is_identity or place.b or place.d:
        why = "does not say where it lies" if place.is_identity else "is rotated"
        raise InputError(
            f'"{path}"{asked} {why}. Put a world file beside it (six lines: width of a dot, 0, 0, minus its height, '
            "x and y of the middle of the first dot), or give a GeoTIFF with rows along x."
        )
    if table is not None:
        bands = np.array([table[k] for k in range(max(table) + 1)], dtype=np.uint8)[bands[0]].transpose(
            2, 0, 1
        )
    if len(bands) == 2:
        bands = bands[:1]
    dots = np.repeat(bands, 3, axis=0) if len(bands) == 1 else bands[:4]
    if dots.dtype != np.uint8:
        low, high = float(dots.min()), float(dots.max())
        dots = (255 * (dots.astype(np.float64) - low) / max(high - low, 1e-300)).astype(np.uint8)
    picture = Picture(
        np.moveaxis(dots, 0, -1), (extent.left, extent.right, extent.bottom, extent.top), path.name
    )
    return picture, crs
