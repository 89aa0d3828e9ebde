"""Where: plan meshes, surfaces, strata, and the grid of cells and faces."""

from inkhorn.space.grid import FLOOR, SIDE, Cells, Faces, Grid, layered
from inkhorn.space.kriging import Variogram, kriging_rows
from inkhorn.space.mesh import PlanEdges, PlanMesh
from inkhorn.space.rectangles import Band, RectangularMesh, rectangles
from inkhorn.space.rows import FaceRows, series_conductance, two_point_rows
from inkhorn.space.sampling import sampling_rows
from inkhorn.space.strata import Layer, Levels, Strata
from inkhorn.space.surfaces import (
    BetweenSurface,
    BoundedSurface,
    ConstantSurface,
    GriddedSurface,
    OffsetSurface,
    PatchedSurface,
    PointSurface,
    Surface,
)
from inkhorn.space.voronoi import VoronoiMesh, voronoi

__all__ = [
    "FLOOR",
    "SIDE",
    "Band",
    "BetweenSurface",
    "BoundedSurface",
    "Cells",
    "ConstantSurface",
    "FaceRows",
    "Faces",
    "Grid",
    "GriddedSurface",
    "Layer",
    "Levels",
    "OffsetSurface",
    "PatchedSurface",
    "PlanEdges",
    "PlanMesh",
    "PointSurface",
    "RectangularMesh",
    "Strata",
    "Surface",
    "Variogram",
    "VoronoiMesh",
    "kriging_rows",
    "layered",
    "rectangles",
    "sampling_rows",
    "series_conductance",
    "two_point_rows",
    "voronoi",
]
