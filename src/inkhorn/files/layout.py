"""How values of cells stand in a NetCDF file."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.files.grid_netcdf import mesh_dataset
from inkhorn.space import Grid, RectangularMesh

__all__ = ["CellLayout"]


class CellLayout:
    """How values of cells stand in a file: over rows and columns, or over the plan cells of a UGRID mesh, by layer."""

    def __init__(self, grid: Grid) -> None:
        import xarray as xr

        self.grid, self.even = grid, isinstance(grid.mesh, RectangularMesh)
        if self.even:
            self.dims, coordinates = grid.coordinates()
            self.about, self.shape, self.base = {}, grid.shape, xr.Dataset(coords=coordinates)
            return
        self.dims, self.shape = ("layer", "plan"), grid.cell_number.shape
        self.base = mesh_dataset(grid.mesh).assign_coords(
            layer=("layer", np.array(grid.layer_names, dtype=object))
        )
        self.about = {"mesh": "mesh", "location": "face"}
        self._number, self._there = grid.cell_number, grid.cell_number >= 0

    def __call__(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Values of cells (n_cells,) as they stand in a file; NaN where there is no cell."""
        if self.even:
            return self.grid.to_block(values)
        spread = np.full(self.shape, np.nan)
        spread[self._there] = np.asarray(values, dtype=np.float64)[self._number[self._there]]
        return spread

    def read(self, block: NDArray[np.float64]) -> NDArray[np.float64]:
        """Values of cells (n_cells,) from a file."""
        if self.even:
            return self.grid.per_block(block)
        found = np.full(self.grid.n_cells, np.nan)
        found[self._number[self._there]] = block[self._there]
        return found
