from .conduits import write_conduits as write_conduits
from .conduits import write_conduits_in_time as write_conduits_in_time
from .edits import edits_as_toml as edits_as_toml
from .ensembles import read_runs as read_runs
from .ensembles import write_chance_map as write_chance_map
from .ensembles import write_runs as write_runs
from .grids import GridFile as GridFile
from .grids import read_grid as read_grid
from .grids import write_grid as write_grid
from .meshes import MeshFile as MeshFile
from .meshes import read_mesh as read_mesh
from .models import read_model as read_model
from .models import write_model as write_model
from .names import file_name as file_name
from .pictures import read_picture as read_picture
from .plumes import PlumeFile as PlumeFile
from .plumes import read_concentration as read_concentration
from .plumes import write_concentration as write_concentration
from .rasters import read_raster as read_raster
from .reading import must_exist as must_exist
from .results import read_last_heads as read_last_heads
from .results import read_paths as read_paths
from .results import write_flow as write_flow
from .results import write_paths as write_paths
from .results import write_shapes as write_shapes
from .results import write_table as write_table
from .results import write_trajectories as write_trajectories
from .results import write_workbook as write_workbook
from .shapes import Shape as Shape
from .shapes import read_shapes as read_shapes
from .steps import StepFile as StepFile
from .steps import StepReader as StepReader
from .steps import records_kept as records_kept
from .tables import Table as Table
from .tables import read_table as read_table
from .vtk import write_lines as write_lines
from .whole import free_name as free_name
from .whole import written_whole as written_whole

__all__ = [
    "GridFile",
    "MeshFile",
    "PlumeFile",
    "Shape",
    "StepFile",
    "StepReader",
    "Table",
    "edits_as_toml",
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
    "read_runs",
    "read_shapes",
    "read_table",
    "records_kept",
    "write_chance_map",
    "write_concentration",
    "write_conduits",
    "write_conduits_in_time",
    "write_flow",
    "write_grid",
    "write_model",
    "write_paths",
    "write_runs",
    "write_shapes",
    "write_table",
    "write_trajectories",
    "write_workbook",
    "written_whole",
]
