"""Values of every step as labelled arrays; of records in a file only what is asked for is read."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.record import Records
from inkhorn.space import Grid

if TYPE_CHECKING:
    import xarray as xr

__all__ = ["blocks_of", "labelled"]

Values = Callable[[int], NDArray[np.float64]]


def labelled(
    steps: Records,
    grid: Grid,
    values: Values,
    name: str,
    units: str,
    words: str,
    start: np.datetime64 | None = None,
) -> xr.DataArray:
    """Return values of cells as a labelled array with a time axis.

    Parameters
    ----------
    steps : Records
        The records.
    grid : Grid
        Whose cells they are of.
    values : callable
        Returns those of a step by its number, (n_cells,).
    name, units, words : str
        What they are.
    start : datetime64, optional
        The date from which days are counted: times are dates then, with days beside them.
    """
    import xarray as xr

    dims, coords = grid.coordinates()
    records = list(steps)  # as many as there are now: another process may be adding to them
    time = np.array([s.end for s in records])
    bounds = np.array([[s.begin, s.end] for s in records]).reshape(-1, 2)
    joins = np.array([s.joins for s in records])
    data = xr.DataArray(
        blocks_of(steps, len(records), grid, values),
        dims=("time", *dims),
        coords={
            "time": ("time", time, {"long_name": "time since the start", "units": "days"}),
            "begin": ("time", bounds[:, 0], {"long_name": "begin of the record", "units": "days"}),
            "steady": ("time", np.array([s.steady for s in records])),
            **coords,
        },
        name=name,
        attrs={"units": units, "long_name": words},
    )
    if start is not None:
        dates = start + np.round(time * 86400.0).astype("timedelta64[s]")
        data = data.assign_coords(
            time=("time", dates, {"long_name": "end of the step"}),
            day=("time", time, {"long_name": "time since the start", "units": "days"}),
        )
    if (joins > 1).any():
        said = {"long_name": "steps joined in the record; its flows are their means"}
        data = data.assign_coords(joined_steps=("time", joins, said))
    return data


def blocks_of(steps: Any, count: int, grid: Grid, values: Values) -> Any:
    """The values of all steps, at once if the records are at hand, else each when it is asked for."""
    if isinstance(steps, list):
        return np.stack([grid.to_block(values(k)) for k in range(count)])
    from xarray.backends import BackendArray
    from xarray.core import indexing

    class Steps(BackendArray):  # xarray's way to read when asked
        """Blocks of values, one for each step."""

        shape = (count, *np.shape(grid.to_block(np.zeros(grid.n_cells))))
        dtype = np.dtype(np.float64)

        def __getitem__(self, key: Any) -> Any:
            return indexing.explicit_indexing_adapter(
                key, self.shape, indexing.IndexingSupport.BASIC, self._blocks
            )

        def _blocks(self, key: tuple[Any, ...]) -> NDArray[np.float64]:
            which, inside = key[0], key[1:]
            if isinstance(which, slice):
                chosen = range(*which.indices(self.shape[0]))
                blocks = [grid.to_block(values(k))[inside] for k in chosen]
                return np.stack(blocks) if blocks else np.empty((0, *self.shape[1:]))[(slice(None), *inside)]
            return np.asarray(grid.to_block(values(int(which)))[inside])

    return indexing.LazilyIndexedArray(Steps())
