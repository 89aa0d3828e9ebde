"""One writer for each format: it writes into a folder and says what it wrote."""

from __future__ import annotations

import shutil
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from inkhorn.exports.gathered import Gathered
from inkhorn.files import file_name, write_grid, write_lines, write_workbook, written_whole
from inkhorn.runs.run_files import FILES, files_of
from inkhorn.space import RectangularMesh

if TYPE_CHECKING:
    from openpyxl import Workbook

__all__ = ["WRITERS", "Written"]

_BANDS = 60  # times of a raster, at the most
_DOTS = 1000  # along the longer side, of rasters of cells that are no even rectangles
_LETTERS = 31  # that a sheet's name may have

_IN, _OUT = "2A6F97", "D9894C"  # colours of water that comes in and goes out
_RECORDS = ("before", "iterate", "steps")  # of the program itself, with which runs go on


class Written(NamedTuple):
    """A file that was written, and what is in it."""

    path: Path
    words: str


@contextmanager
def _no_crs_is_fine() -> Iterator[None]:
    with warnings.catch_warnings():  # a site in metres of its own has none
        warnings.filterwarnings("ignore", message="'crs' was not provided")
        yield


def _netcdf(one: Gathered, folder: Path) -> Iterator[Written]:
    path = folder / "cells.nc"
    write_grid(
        one.run.model.grid, path, {k: f.numbers for k, f in one.fields.items()},
        units={k: f.unit for k, f in one.fields.items()}, crs=one.crs, gaps=True,
    )  # fmt: skip
    yield Written(path, "the grid and numbers of every cell")
    for key, file in FILES.items():
        if file.name.endswith(".nc") and key not in _RECORDS:
            for found in files_of(one.run.path, key).values():
                with written_whole(folder / found.name) as beside:
                    shutil.copyfile(found, beside)
                yield Written(folder / found.name, file.words)


def _geopackage(one: Gathered, folder: Path) -> Iterator[Written]:
    path = folder / "results.gpkg"
    with written_whole(path) as beside, _no_crs_is_fine():
        for name, shapes in one.shapes.items():
            mode = "a" if beside.exists() else "w"
            shapes.to_file(beside, layer=name, driver="GPKG", engine="pyogrio", mode=mode)
    yield Written(path, ", ".join(one.shapes))


def _geojson(one: Gathered, folder: Path) -> Iterator[Written]:
    for name, shapes in one.shapes.items():
        path, where = folder / f"{name}.geojson", "in the coordinates of the site, which names no system"
        if shapes.crs is not None:
            shapes, where = shapes.to_crs(4326), "in longitude and latitude (WGS 84)"
        with written_whole(path) as beside, _no_crs_is_fine():
            shapes.to_file(beside, driver="GeoJSON", engine="pyogrio")
        yield Written(path, f"{name.replace('_', ' ')}, {where}")


class _Raster:
    """Even places over the grid, from the north-west corner."""

    def __init__(self, one: Gathered) -> None:
        import shapely
        from affine import Affine

        grid = one.run.model.grid
        mesh = grid.mesh
        widths = (
            [np.diff(e) for e in (mesh.x_edges, mesh.y_edges)] if isinstance(mesh, RectangularMesh) else []
        )
        if isinstance(mesh, RectangularMesh) and all(np.allclose(w, widths[0][0], rtol=1e-9) for w in widths):
            # each cell is a dot
            size, (rows, columns) = float(widths[0][0]), mesh.shape
            self.home = mesh.number[::-1]
            corner = mesh.to_map(mesh.x_edges[0], mesh.y_edges[-1])
            self.place = (
                Affine.translation(*(float(v) for v in corner))
                * Affine.rotation(mesh.rotation)
                * Affine.scale(size, -size)
            )
            self.words = f"{columns} × {rows} dots, one for each cell"
            return
        west, south, east, north = (float(v) for v in shapely.total_bounds(mesh.polygons()))
        finest = float(np.sqrt(mesh.area.min())) if mesh.n_cells else 1.0
        size = max(0.5 * finest, max(east - west, north - south) / _DOTS)
        x, y = np.arange(west + 0.5 * size, east, size), np.arange(north - 0.5 * size, south, -size)
        self.home = np.asarray(mesh.locate(*np.meshgrid(x, y)))
        self.place = Affine.translation(west, north) * Affine.scale(size, -size)
        self.words = f"{len(x)} × {len(y)} dots of {size:.4g} m, each of the cell it lies in"

    def write(self, path: Path, bands: dict[str, Any], crs: str | None, words: str, unit: str) -> Written:
        """Write values of plan cells, a band for each time, NaN where there are none."""
        import rasterio
        from rasterio.errors import NotGeoreferencedWarning

        with written_whole(path) as beside, warnings.catch_warnings():
            warnings.filterwarnings("ignore", category=NotGeoreferencedWarning)
            with rasterio.open(
                beside, "w", driver="GTiff", width=self.home.shape[1], height=self.home.shape[0], count=len(bands),
                dtype="float32", nodata=np.nan, crs=crs, transform=self.place, compress="deflate", predictor=3,
            ) as file:  # fmt: skip
                for k, (name, values) in enumerate(bands.items(), start=1):
                    dots = np.where(self.home >= 0, np.asarray(values)[self.home], np.nan)
                    file.write(dots.astype(np.float32), k)
                    file.set_band_description(k, name)
                file.units = [unit] * len(bands)
        count = f"; {len(bands)} times, a band each" if len(bands) > 1 else ""
        return Written(path, f"{words}; {self.words}{count}")


def _some(count: int) -> list[int]:
    """Even choice of times, the first and the last among them."""
    return sorted(set(np.linspace(0, count - 1, min(count, _BANDS)).round().astype(int).tolist()))


def _geotiff(one: Gathered, folder: Path) -> Iterator[Written]:
    from inkhorn.dates import time_in_words
    from inkhorn.draw import when

    grid, raster = one.run.model.grid, _Raster(one)
    layers = [(k, n) for k, n in enumerate(grid.layer_names) if (grid.cell_number[k] >= 0).any()]

    def plan(values: Any, row: Any) -> Any:
        return np.where(row >= 0, values[row], np.nan)

    taken: set[str] = set()
    if one.flow is not None:
        flow, unit = one.flow, one.units.of("m")
        steps = _some(len(flow.steps)) if one.time is None else [one.step]
        names = {step: when(flow, step)[2:] or "steady" for step in steps}
        bands = {name: unit[1] * flow.water_table(step) for step, name in names.items()}
        yield raster.write(folder / "water_table.tif", bands, one.crs, "the water table", unit[0])
        heads = {name: one.heads(step) for step, name in names.items()}
        for k, layer in layers:
            called = f"head_{file_name(layer, taken)}"
            taken.add(called.removeprefix("head_").lower())
            bands = {name: plan(values, grid.cell_number[k]) for name, values in heads.items()}
            yield raster.write(folder / f"{called}.tif", bands, one.crs, f"heads in the {layer}", unit[0])
    for name, plume in one.plumes.items():
        records = _some(len(plume.records)) if one.time is None else [one.record_of(plume)]
        bands = {}
        for record in records:
            values = one.concentrations(plume, record)[grid.cell_number]
            values = np.where((grid.cell_number >= 0) & np.isfinite(values), values, -np.inf).max(axis=0)
            bands[time_in_words(plume.records[record].time)] = np.where(np.isfinite(values), values, np.nan)
        words = f"{name}, the highest concentration in any layer"
        path = folder / f"concentration_{file_name(name)}.tif"
        yield raster.write(path, bands, one.crs, words, plume.species.unit)


def _csv(one: Gathered, folder: Path) -> Iterator[Written]:
    for path, words in one.table_files:
        with written_whole(folder / path.name) as beside:
            shutil.copyfile(path, beside)
        yield Written(folder / path.name, words)
    path = folder / "cells.csv"
    with written_whole(path) as beside:
        one.cells.to_csv(beside, index=False)
    yield Written(path, "where every cell is, and all numbers of it")


def _xlsx(one: Gathered, folder: Path) -> Iterator[Written]:
    path = folder / "results.xlsx"
    sheets: dict[str, Any] = {}
    for name, table in one.tables.items():
        called = name.removesuffix(".csv").replace("_", " ")[:_LETTERS]
        while called in sheets:  # long names that begin alike
            called = f"{called[: _LETTERS - 2]} {len(sheets) % 10}"
        sheets[called] = table
    with written_whole(path) as beside:
        write_workbook(sheets, beside, charts=_charts)
    yield Written(path, f"{len(sheets)} tables, a sheet each, with charts of the budget and the fit")


def _charts(book: Workbook) -> None:
    """Charts of the workbook itself: they change with its numbers."""
    from openpyxl.chart import BarChart, Reference, ScatterChart, Series
    from openpyxl.chart.shapes import GraphicalProperties

    if "budget" in book.sheetnames:
        sheet = book["budget"]
        chart = BarChart()
        chart.type, chart.title, chart.height, chart.width = "bar", "Water budget", 9, 16
        last = sheet.max_row - (str(sheet.cell(sheet.max_row, 1).value) == "total")
        chart.add_data(Reference(sheet, min_col=2, max_col=3, min_row=1, max_row=last), titles_from_data=True)
        chart.set_categories(Reference(sheet, min_col=1, min_row=2, max_row=last))
        chart.x_axis.delete = chart.y_axis.delete = False
        chart.x_axis.scaling.orientation = "maxMin"  # from the top down, as in the table
        chart.y_axis.title = str(sheet.cell(1, 2).value).partition(" ")[2].strip("[]")
        for series, shade in zip(chart.series, (_IN, _OUT), strict=True):
            series.graphicalProperties.solidFill = shade
        sheet.add_chart(chart, "F2")
    for name in ("fit residuals", "residuals", "levels"):
        if name not in book.sheetnames:
            continue
        sheet = book[name]
        heads = {str(c.value).partition(" [")[0]: c.column for c in sheet[1]}
        if not {"measured", "computed"} <= set(heads):
            continue
        chart = ScatterChart(style=13)
        chart.title, chart.height, chart.width, chart.legend = "Computed against measured", 11, 14, None
        chart.x_axis.title, chart.y_axis.title = "measured", "computed"
        chart.x_axis.delete = chart.y_axis.delete = False
        measured, computed = (
            Reference(sheet, min_col=heads[k], min_row=2, max_row=sheet.max_row)
            for k in ("measured", "computed")
        )
        points, same = Series(computed, measured), Series(measured, measured)
        points.marker.symbol, points.marker.size, points.graphicalProperties.line.noFill = "circle", 6, True
        points.marker.graphicalProperties = GraphicalProperties(solidFill=_IN)
        same.marker.symbol, same.graphicalProperties.line.solidFill = "none", "7F7F7F"
        chart.series += [points, same]
        sheet.add_chart(chart, f"{sheet.cell(1, sheet.max_column + 2).column_letter}2")
        return


def _vtu(one: Gathered, folder: Path) -> Iterator[Written]:
    path = folder / "cells.vtu"
    write_grid(one.run.model.grid, path, {k: f.numbers for k, f in one.fields.items()}, gaps=True)
    units = ", ".join(f"{k} [{f.unit}]" for k, f in one.fields.items())
    yield Written(path, f"the grid in three dimensions [m], with {units}")
    for asked in one.run.project.asked.paths:
        if f"paths {asked.name}".strip() in one.run.about.get("done", {}):
            points = one.run.paths(asked.name).points
            if not len(points):
                continue
            path = folder / (f"paths-{file_name(asked.name)}.vtu" if asked.name else "paths.vtu")
            whose = points["path"].to_numpy()
            names = ["x [m]", "y [m]", "z [m]", "time [day]", "speed [m/day]"]
            columns = points[names].to_numpy(dtype=float)
            with written_whole(path) as beside:
                write_lines(beside, columns[:, :3], whose, {"time": columns[:, 3], "speed": columns[:, 4]})
            yield Written(path, "particle paths as lines [m], with time [day] and speed [m/day]")


WRITERS = {
    "netcdf": _netcdf, "geopackage": _geopackage, "geojson": _geojson, "geotiff": _geotiff, "csv": _csv, "xlsx": _xlsx,
    "vtu": _vtu,
}  # fmt: skip
"""By format; each takes what a run has to give away and a folder."""
