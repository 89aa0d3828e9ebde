"""Formats: shapes, rasters, tables, grids, models, records and results; nothing here knows a project."""

from inkhorn.files.grids import GridFile, read_grid, write_grid
from inkhorn.files.meshes import MeshFile, read_mesh
from inkhorn.files.models import read_model, write_model
from inkhorn.files.names import file_name
from inkhorn.files.pictures import read_picture
from inkhorn.files.rasters import read_raster
from inkhorn.files.results import (
    read_concentration,
    read_last_heads,
    read_paths,
    write_concentration,
    write_flow,
    write_paths,
    write_table,
)
from inkhorn.files.shapes import Shape, read_shapes
from inkhorn.files.steps import StepFile, StepReader, records_kept
from inkhorn.files.tables import Table, read_table
from inkhorn.files.whole import free_name, must_exist, written_whole

__all__ = [
    "GridFile",
    "MeshFile",
    "Shape",
    "StepFile",
    "StepReader",
    "Table",
    "file_name",
    "free_name",
    "must_exist",
    "read_concentration",
    "read_grid",
    "read_last_heads",
    "read_mesh",
    "read_model",
    "read_paths",
    "read_picture",
    "read_raster",
    "read_shapes",
    "read_table",
    "records_kept",
    "write_concentration",
    "write_flow",
    "write_grid",
    "write_model",
    "write_paths",
    "write_table",
    "written_whole",
]
