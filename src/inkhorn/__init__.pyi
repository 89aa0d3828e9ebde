# what a user types after `ik.`, and where it is (ASCII: it is read in whatever encoding the system has)
from . import draw as draw
from .calibration import FitResult as FitResult
from .calibration import Knowledge as Knowledge
from .calibration import Observations as Observations
from .calibration import Parameter as Parameter
from .calibration import PilotPoints as PilotPoints
from .calibration import Regularisation as Regularisation
from .calibration import WeightRule as WeightRule
from .calibration import calibrate as calibrate
from .calibration import calibrate_field as calibrate_field
from .calibration import forecast as forecast
from .calibration import observe as observe
from .calibration import sensitivities as sensitivities
from .cuts import Agreement as Agreement
from .cuts import Cut as Cut
from .cuts import Stretch as Stretch
from .cuts import cut as cut
from .cuts import outline_along_flow as outline_along_flow
from .cuts import propose_rim as propose_rim
from .ensemble import Carry as Carry
from .ensemble import Ensemble as Ensemble
from .ensemble import Fitted as Fitted
from .ensemble import Follow as Follow
from .ensemble import LogNormal as LogNormal
from .ensemble import Normal as Normal
from .ensemble import Settle as Settle
from .ensemble import Triangular as Triangular
from .ensemble import Uniform as Uniform
from .ensemble import Varied as Varied
from .ensemble import Watch as Watch
from .ensemble import WatchMap as WatchMap
from .ensemble import first_order as first_order
from .ensemble import vary as vary
from .errors import ConvergenceError as ConvergenceError
from .errors import InkhornError as InkhornError
from .errors import InkhornWarning as InkhornWarning
from .errors import InputError as InputError
from .exports import export as export
from .fields import FieldMaker as FieldMaker
from .fields import MeasuredPoints as MeasuredPoints
from .fields import RandomField as RandomField
from .fields import experimental_variogram as experimental_variogram
from .files import StepFile as StepFile
from .files import StepReader as StepReader
from .files import read_grid as read_grid
from .files import read_mesh as read_mesh
from .files import read_model as read_model
from .files import read_raster as read_raster
from .files import read_shapes as read_shapes
from .files import read_table as read_table
from .files import write_grid as write_grid
from .files import write_model as write_model
from .flow import FlowResult as FlowResult
from .flow import FlowSensitivity as FlowSensitivity
from .flow import FlowStep as FlowStep
from .flow import by_pumping as by_pumping
from .flow import solve_flow as solve_flow
from .model import Finding as Finding
from .model import Findings as Findings
from .model import Model as Model
from .model import WaterTable as WaterTable
from .model import check as check
from .model import place as place
from .model import terms as terms
from .paths import PathResult as PathResult
from .paths import Starts as Starts
from .paths import starts_at_bores as starts_at_bores
from .paths import starts_at_points as starts_at_points
from .paths import starts_at_wells as starts_at_wells
from .paths import starts_in_area as starts_in_area
from .paths import starts_in_conduits as starts_in_conduits
from .paths import starts_of_inflow as starts_of_inflow
from .paths import starts_on_line as starts_on_line
from .paths import trace as trace
from .project import Project as Project
from .project import read_project as read_project
from .project import read_site as read_site
from .report import write_report as write_report
from .runs import Run as Run
from .runs import compare_runs as compare_runs
from .runs import fit_project as fit_project
from .runs import open_run as open_run
from .runs import run_project as run_project
from .runs import vary_project as vary_project
from .site import Barrier as Barrier
from .site import Bore as Bore
from .site import Collector as Collector
from .site import Conduit as Conduit
from .site import ConduitSpring as ConduitSpring
from .site import Drain as Drain
from .site import Edit as Edit
from .site import Evapotranspiration as Evapotranspiration
from .site import Excavation as Excavation
from .site import FixedHead as FixedHead
from .site import FreundlichSorption as FreundlichSorption
from .site import GivenFlow as GivenFlow
from .site import HeadDependent as HeadDependent
from .site import HeldConcentration as HeldConcentration
from .site import LangmuirSorption as LangmuirSorption
from .site import LinearSorption as LinearSorption
from .site import MassSource as MassSource
from .site import Material as Material
from .site import Measurement as Measurement
from .site import PickedCells as PickedCells
from .site import Picture as Picture
from .site import QuickRecharge as QuickRecharge
from .site import Recharge as Recharge
from .site import ReturnedWater as ReturnedWater
from .site import River as River
from .site import Schedule as Schedule
from .site import Seepage as Seepage
from .site import Series as Series
from .site import Sinkhole as Sinkhole
from .site import Site as Site
from .site import Species as Species
from .site import Spring as Spring
from .site import StartingPlume as StartingPlume
from .site import Well as Well
from .site import Zones as Zones
from .site import soil_water_balance as soil_water_balance
from .space import Band as Band
from .space import BetweenSurface as BetweenSurface
from .space import BoundedSurface as BoundedSurface
from .space import CellSurface as CellSurface
from .space import CellsWithin as CellsWithin
from .space import ConstantSurface as ConstantSurface
from .space import DepthSurface as DepthSurface
from .space import Grid as Grid
from .space import GriddedSurface as GriddedSurface
from .space import Layer as Layer
from .space import OffsetSurface as OffsetSurface
from .space import Overlap as Overlap
from .space import PatchedSurface as PatchedSurface
from .space import PlanMesh as PlanMesh
from .space import PointSurface as PointSurface
from .space import PolygonMesh as PolygonMesh
from .space import RectangularMesh as RectangularMesh
from .space import SplitMesh as SplitMesh
from .space import Strata as Strata
from .space import Variogram as Variogram
from .space import VoronoiMesh as VoronoiMesh
from .space import ZonedSurface as ZonedSurface
from .space import layered as layered
from .space import overlap as overlap
from .space import rectangles as rectangles
from .space import split_in_four as split_in_four
from .space import voronoi as voronoi
from .transport import Dispersion as Dispersion
from .transport import TransportResult as TransportResult
from .transport import solve_transport as solve_transport
from .unit_choice import UnitChoice as UnitChoice
from .unit_choice import in_units as in_units

__version__: str

__all__ = [
    "Band",
    "Barrier",
    "BetweenSurface",
    "Bore",
    "BoundedSurface",
    "Collector",
    "Conduit",
    "ConduitSpring",
    "ConstantSurface",
    "ConvergenceError",
    "DepthSurface",
    "Dispersion",
    "Drain",
    "Edit",
    "Evapotranspiration",
    "FieldMaker",
    "Finding",
    "Findings",
    "FitResult",
    "FixedHead",
    "FlowResult",
    "FlowSensitivity",
    "FlowStep",
    "FreundlichSorption",
    "GivenFlow",
    "Grid",
    "GriddedSurface",
    "HeadDependent",
    "HeldConcentration",
    "InkhornError",
    "InkhornWarning",
    "InputError",
    "Knowledge",
    "LangmuirSorption",
    "Layer",
    "LinearSorption",
    "MassSource",
    "Material",
    "Measurement",
    "Model",
    "Observations",
    "OffsetSurface",
    "Parameter",
    "PatchedSurface",
    "PathResult",
    "PickedCells",
    "Picture",
    "PilotPoints",
    "PlanMesh",
    "PointSurface",
    "PolygonMesh",
    "Project",
    "QuickRecharge",
    "Recharge",
    "RectangularMesh",
    "Regularisation",
    "ReturnedWater",
    "River",
    "Run",
    "Schedule",
    "Seepage",
    "Series",
    "Sinkhole",
    "Site",
    "Species",
    "SplitMesh",
    "Spring",
    "StartingPlume",
    "StepFile",
    "StepReader",
    "Strata",
    "TransportResult",
    "UnitChoice",
    "Variogram",
    "VoronoiMesh",
    "WaterTable",
    "WeightRule",
    "Well",
    "ZonedSurface",
    "Zones",
    "by_pumping",
    "calibrate",
    "calibrate_field",
    "check",
    "compare_runs",
    "draw",
    "fit_project",
    "forecast",
    "in_units",
    "layered",
    "observe",
    "open_run",
    "place",
    "read_grid",
    "read_mesh",
    "read_model",
    "read_project",
    "read_raster",
    "read_shapes",
    "read_site",
    "read_table",
    "rectangles",
    "run_project",
    "sensitivities",
    "soil_water_balance",
    "solve_flow",
    "solve_transport",
    "split_in_four",
    "terms",
    "trace",
    "voronoi",
    "write_grid",
    "write_model",
]
