"""Where: plan meshes, surfaces, strata, and the grid of cells and faces."""

from inkhorn.space.grid import FLOOR, SIDE, Cells, Faces, Grid, layered
from inkhorn.space.mesh import PlanEdges, PlanMesh
from inkhorn.space.rectangles import Band, RectangularMesh, rectangles
from inkhorn.space.rows import FaceRows, series_conductance, two_point_rows
from inkhorn.space.sampling import sampling_rows
from inkhorn.space.strata import Layer, Strata
from inkhorn.space.surfaces import ConstantSurface, PointSurface, Surface

__all__ = [
    "FLOOR",
    "SIDE",
    "Band",
    "Cells",
    "ConstantSurface",
    "FaceRows",
    "Faces",
    "Grid",
    "Layer",
    "PlanEdges",
    "PlanMesh",
    "PointSurface",
    "RectangularMesh",
    "Strata",
    "Surface",
    "layered",
    "rectangles",
    "sampling_rows",
    "series_conductance",
    "two_point_rows",
]
