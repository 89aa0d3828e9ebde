"""Heads and paths to open formats: NetCDF, GeoPackage, CSV."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.files.layout import CellLayout
from inkhorn.files.meshes import opened_dataset
from inkhorn.files.reading import reading_as
from inkhorn.files.whole import written_whole
from inkhorn.flow import FlowResult
from inkhorn.paths import PathResult
from inkhorn.space import Grid
from inkhorn.unit_choice import UnitChoice
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    import geopandas as gpd
    import pandas as pd
    import xarray as xr

__all__ = [
    "read_last_heads",
    "read_paths",
    "write_flow",
    "write_paths",
    "write_shapes",
    "write_table",
    "write_trajectories",
]

_AS_INSIDE = UnitChoice()


def _write(data: xr.Dataset, path: Path) -> None:
    with written_whole(path) as beside:
        data.to_netcdf(beside, engine="h5netcdf", encoding=_packed(data))


def _packed(data: xr.Dataset) -> dict[Any, dict[str, Any]]:
    return {name: {"zlib": True, "complevel": 4} for name, v in data.data_vars.items() if v.ndim > 1}


def write_flow(flow: FlowResult, path: Path, units: UnitChoice = _AS_INSIDE) -> None:
    """Write heads, saturation, and the layers' elevations as NetCDF (CF conventions), step by step, in some units.

    Over layers, rows and columns of rectangles; over the layers and polygons of other meshes (UGRID conventions).
    """
    import h5netcdf

    length, factor = units.of("m")
    grid, schedule, layout = flow.model.grid, flow.model.schedule, CellLayout(flow.model.grid)
    first = FlowResult(flow.model, [flow.steps[0]], None, flow.start)
    head, saturation = first.head, first.saturation
    values = {
        "top": (factor * grid.cells.top, {"units": length, "long_name": "top of the layer"}),
        "bottom": (factor * grid.cells.bottom, {"units": length, "long_name": "base of the layer"}),
        "head": (factor * flow.steps[0].heads, {**head.attrs, "units": length}),
        "saturation": (flow.filled(0), saturation.attrs),
    }
    data = layout.base.assign_coords(
        {k: v for k, v in head.coords.items() if v.dims == ("time",) and k != "day"}
    )
    for name, (of_cells, said) in values.items():
        in_time = name in ("head", "saturation")
        block = layout(of_cells)
        data[name] = (
            (*("time",) * in_time, *layout.dims),
            block[None] if in_time else block,
            {**said, **layout.about},
        )
    conventions = "CF-1.11" if layout.even else "CF-1.11 UGRID-1.0"
    data.attrs = {"Conventions": conventions, "title": flow.model.name, "source": "Inkhorn, flow"}
    ends = {"long_name": "time since the start", "units": "days"}
    data = data.assign_coords(time=("time", [flow.steps[0].end], ends))
    data["steady"] = data["steady"].astype("int8")
    if schedule is not None:  # CF: flows hold over the step, heads are those at its end
        data["time_bounds"] = (("time", "bound"), np.array([[flow.steps[0].begin, flow.steps[0].end]]))
        data["time"].attrs["bounds"] = "time_bounds"
        if schedule.start is not None:
            start = str(schedule.start).replace("T", " ")
            data["time"].attrs |= {"units": f"days since {start}", "calendar": "proleptic_gregorian"}
    packed = _packed(data)
    for name in ("head", "saturation"):
        packed[name]["chunksizes"] = data[name].shape
    with written_whole(path) as beside:
        data.to_netcdf(beside, engine="h5netcdf", encoding=packed, unlimited_dims=["time"])
        with h5netcdf.File(beside, "a") as file:
            file.resize_dimension("time", len(flow.steps))
            for k in range(1, len(flow.steps)):
                step = flow.steps[k]
                file["time"][k], file["steady"][k] = step.end, int(step.steady)
                file["head"][k] = factor * layout(step.heads)
                file["saturation"][k] = layout(flow.filled(k))
                if schedule is not None:
                    file["time_bounds"][k] = (step.begin, step.end)


def read_last_heads(path: Path, grid: Grid) -> NDArray[np.float64]:
    """Return the heads at the end of an earlier run, from its ``heads.nc``, (n_cells,) [m].

    Raises
    ------
    InputError
        If the file is missing, or the run was on another grid.
    """
    data, layout = opened_dataset(path), CellLayout(grid)
    if "head" not in data:
        raise InputError(f'"{path}" holds no heads. Give the folder of a run.')
    metre = unit_factor(str(data["head"].attrs.get("units", "m")), "elevation")
    head = metre * np.asarray(data["head"].to_numpy()[-1], dtype=np.float64)
    if head.shape != layout.shape:
        raise InputError(
            f'"{path}" has heads of the shape {head.shape}; this grid has {layout.shape}. '
            "Begin from a run on the same grid."
        )
    cells = layout.read(head)
    if not np.isfinite(cells).all():
        raise InputError(f'"{path}" has no head in {int((~np.isfinite(cells)).sum())} cells of this grid.')
    return cells


def write_paths(paths: PathResult, path: Path) -> None:
    """Write paths as a GeoPackage: a table of lines, and one of their points with times."""
    import warnings

    import geopandas as gpd

    lines, points = paths.lines(), paths.points
    with written_whole(path) as beside, warnings.catch_warnings():
        warnings.filterwarnings(
            "ignore", message="'crs' was not provided"
        )  # a site in metres of its own has none
        lines.to_file(beside, layer="paths", driver="GPKG", engine="pyogrio")
        places = gpd.points_from_xy(points["x [m]"], points["y [m]"], points["z [m]"])
        columns = ["path", "time [day]", "layer", "cell", "speed [m/day]", "mark"]
        gpd.GeoDataFrame(points[columns], geometry=places, crs=lines.crs).to_file(
            beside, layer="points", driver="GPKG", engine="pyogrio", mode="a"
        )


def write_trajectories(paths: PathResult, path: Path) -> None:
    """Write the points of paths as NetCDF, trajectories by the CF conventions."""
    _write(paths.trajectories(), path)


def write_shapes(shapes: gpd.GeoDataFrame, path: Path) -> None:
    """Write polygons with their columns as a GeoPackage."""
    import warnings

    with written_whole(path) as beside, warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        shapes.to_file(beside, layer="zones", driver="GPKG", engine="pyogrio")


def read_paths(path: Path, flow: FlowResult, *, backward: bool, mark: float) -> PathResult:
    """Read paths that `write_paths` wrote, on the flow that they follow.

    Raises
    ------
    InputError
        If the file is missing, or is none.
    """
    import pandas as pd
    import pyogrio

    with reading_as(path, "paths that `write_paths` wrote"):
        lines = pyogrio.read_dataframe(path, layer="paths")
        points = pyogrio.read_dataframe(path, layer="points")
    places = {f"{k} [m]": getattr(points.geometry, k).to_numpy() for k in "xyz"}
    table = pd.DataFrame({"path": points["path"], "time [day]": points["time [day]"], **places})
    for name in ("layer", "cell", "speed [m/day]", "mark"):
        table[name] = points[name]
    table["mark"] = table["mark"].astype(bool)
    return PathResult(flow, table, pd.DataFrame(lines.drop(columns="geometry")), backward, mark)


def _harmless(value: Any) -> Any:
    """Text as it is, but for an apostrophe before what a spreadsheet would run."""
    if not isinstance(value, str) or value[:1] not in "=@+-\t\r" or not value:
        return value
    signed = value[0] in "+-" and not set(value) & set("|!('=\"")  # a number, perhaps with its unit
    return value if signed else f"'{value}"


def write_workbook(
    tables: Mapping[str, pd.DataFrame],
    path: Path,
    units: UnitChoice = _AS_INSIDE,
    *,
    charts: Callable[[Any], None] | None = None,
) -> None:
    """Write tables as one XLSX file, a sheet each, in some units; text is written as in `write_table`.

    What makes `charts` gets the workbook (openpyxl) when all sheets are there.
    """
    import pandas as pd

    with written_whole(path) as beside, pd.ExcelWriter(beside, engine="openpyxl") as book:
        for name, table in tables.items():
            frame = units.table(table)
            text = frame.select_dtypes(exclude=["number", "datetime", "bool"]).columns
            frame = frame.assign(**{c: frame[c].map(_harmless) for c in text}).rename(columns=_harmless)
            frame.to_excel(book, sheet_name=name[:31], index=False)
            sheet = book.sheets[name[:31]]
            sheet.freeze_panes = "B2"
            sheet.page_setup.orientation, sheet.page_setup.fitToHeight = "landscape", 0  # as wide as a page
            sheet.sheet_properties.pageSetUpPr.fitToPage = True
            for column in sheet.columns:
                widest = max(len(str(cell.value)) for cell in column[:40] if cell.value is not None)
                sheet.column_dimensions[column[0].column_letter].width = min(max(widest, 8), 48) + 2
        if charts is not None:
            charts(book.book)


def write_table(frame: pd.DataFrame, path: Path, units: UnitChoice = _AS_INSIDE) -> None:
    """Write a table as CSV, in some units; an index with names is written along.

    Text that a spreadsheet would take for a formula to be run has an apostrophe before it.
    """
    indexed = any(n is not None for n in frame.index.names)
    frame = units.table(frame.reset_index() if indexed else frame)
    text = frame.select_dtypes(exclude=["number", "datetime", "bool"]).columns
    frame = frame.assign(**{c: frame[c].map(_harmless) for c in text}).rename(columns=_harmless)
    with written_whole(path) as beside:
        frame.to_csv(beside, index=False, float_format="%.10g")
