"""Giving the results of a run away, in any of several formats."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from inkhorn.errors import InputError, did_you_mean
from inkhorn.exports.formats import WRITERS
from inkhorn.exports.gathered import Gathered
from inkhorn.files import written_whole

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.runs import Run

__all__ = ["CONTENTS", "FORMATS", "export"]

FORMATS = tuple(WRITERS)
"""What results can be written as."""
CONTENTS = "contents.csv"
"""The file that says what the others hold."""


def export(
    run: Run,
    folder: Path | str,
    to: str | Sequence[str],
    *,
    time: float | str | None = None,
) -> pd.DataFrame:
    """Write the results of a run in formats that other programs read.

    Parameters
    ----------
    run : Run
        As `inkhorn.open_run` gives it.
    folder : Path or str
        Where files go; made if it is not there. Files of the same name are written over, others are left alone.
    to : str or sequence of str
        Formats, of `inkhorn.exports.FORMATS`: ``"netcdf"`` (CF, UGRID), ``"geopackage"``, ``"geojson"``, ``"geotiff"``,
        ``"csv"``, ``"xlsx"`` and ``"vtu"`` (VTK).
    time : float or str, optional
        Since the start [day], or a date: numbers of cells and rasters are of the step that ends nearest to it. The end if
        not given; NetCDF files and rasters then hold many times.

    Returns
    -------
    DataFrame
        What was written: format, file, what is in it, bytes; also in the folder, as ``contents.csv``.

    Raises
    ------
    InputError
        If a format is not known, or the time lies outside the run; before anything is written.
    """
    import pandas as pd

    wanted = [to] if isinstance(to, str) else list(dict.fromkeys(to))
    for name in wanted:
        if name not in WRITERS:
            raise InputError(
                f'results cannot be written as "{name}"; expected some of {list(FORMATS)}.{did_you_mean(name, FORMATS)}'
            )
    if not wanted:
        raise InputError(f"no format is named; expected some of {list(FORMATS)}.")
    folder, gathered = Path(folder), Gathered(run, time)
    _ = gathered.step  # a time that lies outside is refused first
    folder.mkdir(parents=True, exist_ok=True)
    rows = [
        (name, str(path.relative_to(folder)), words, path.stat().st_size)
        for name in wanted
        for path, words in WRITERS[name](gathered, folder)
    ]
    made = pd.DataFrame(rows, columns=["format", "file", "what", "bytes"])
    with written_whole(folder / CONTENTS) as beside:
        made.to_csv(beside, index=False)
    return made
