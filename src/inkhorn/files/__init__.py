"""Everything that touches a disk: project file, tables, shapes, results."""

from inkhorn.files.grids import GridFile, read_grid, write_grid
from inkhorn.files.meshes import MeshFile, read_mesh
from inkhorn.files.models import read_model, write_model
from inkhorn.files.pictures import read_picture
from inkhorn.files.project import Project, read_project, read_site
from inkhorn.files.rasters import read_raster
from inkhorn.files.results import read_last_heads, write_concentration, write_flow, write_paths, write_table
from inkhorn.files.shapes import Shape, read_shapes
from inkhorn.files.steps import StepFile, StepReader
from inkhorn.files.tables import Table, read_table
from inkhorn.files.whole import NewFolder, free_name, must_exist, new_folder, written_whole

__all__ = [
    "GridFile",
    "MeshFile",
    "NewFolder",
    "Project",
    "Shape",
    "StepFile",
    "StepReader",
    "Table",
    "free_name",
    "must_exist",
    "new_folder",
    "read_grid",
    "read_last_heads",
    "read_mesh",
    "read_model",
    "read_picture",
    "read_project",
    "read_raster",
    "read_shapes",
    "read_site",
    "read_table",
    "write_concentration",
    "write_flow",
    "write_grid",
    "write_model",
    "write_paths",
    "write_table",
    "written_whole",
]
