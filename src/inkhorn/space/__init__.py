"""Where: plan meshes, surfaces, strata, and the grid of cells and faces."""

from inkhorn.space.cells import FLOOR, SIDE, Cells, Faces, OuterFaces
from inkhorn.space.fans import Fans, fan_flow, fans_of
from inkhorn.space.flow_rows import flow_rows, plan_tensor, series_conductance, tensor_rows
from inkhorn.space.grid import Grid
from inkhorn.space.interpolation import POINT_METHODS, PointMethod
from inkhorn.space.kriging import kriging_rows
from inkhorn.space.layering import layered
from inkhorn.space.lines import line_corners
from inkhorn.space.merged import MergedMesh
from inkhorn.space.mesh import PlanEdges, PlanMesh
from inkhorn.space.overlap import Overlap, overlap
from inkhorn.space.polygons import PolygonMesh
from inkhorn.space.radial import Beside, RadialWells, beside_slopes, beside_wells, radius_slopes
from inkhorn.space.rectangles import Band, RectangularMesh, rectangles
from inkhorn.space.rim import area_of
from inkhorn.space.rows import FaceRows
from inkhorn.space.sampling import sampling_rows
from inkhorn.space.sizing import CellsWithin
from inkhorn.space.split import SplitMesh, split_in_four
from inkhorn.space.strata import Layer, Levels, Strata
from inkhorn.space.strewing import voronoi
from inkhorn.space.surfaces import (
    BetweenSurface,
    BoundedSurface,
    CellSurface,
    ConstantSurface,
    DepthSurface,
    GriddedSurface,
    OffsetSurface,
    PatchedSurface,
    PointSurface,
    Surface,
    ZonedSurface,
    point_surfaces,
)
from inkhorn.space.tensor import tensor_slopes
from inkhorn.space.variogram import Variogram, VariogramKind
from inkhorn.space.voronoi import VoronoiMesh

__all__ = [
    "FLOOR",
    "POINT_METHODS",
    "SIDE",
    "Band",
    "Beside",
    "BetweenSurface",
    "BoundedSurface",
    "CellSurface",
    "Cells",
    "CellsWithin",
    "ConstantSurface",
    "DepthSurface",
    "FaceRows",
    "Faces",
    "Fans",
    "Grid",
    "GriddedSurface",
    "Layer",
    "Levels",
    "MergedMesh",
    "OffsetSurface",
    "OuterFaces",
    "Overlap",
    "PatchedSurface",
    "PlanEdges",
    "PlanMesh",
    "PointMethod",
    "PointSurface",
    "PolygonMesh",
    "RadialWells",
    "RectangularMesh",
    "SplitMesh",
    "Strata",
    "Surface",
    "Variogram",
    "VariogramKind",
    "VoronoiMesh",
    "ZonedSurface",
    "area_of",
    "beside_slopes",
    "beside_wells",
    "fan_flow",
    "fans_of",
    "flow_rows",
    "kriging_rows",
    "layered",
    "line_corners",
    "overlap",
    "plan_tensor",
    "point_surfaces",
    "radius_slopes",
    "rectangles",
    "sampling_rows",
    "series_conductance",
    "split_in_four",
    "tensor_rows",
    "tensor_slopes",
    "voronoi",
]
