"""Placing a site on a grid: the model of plain arrays and terms, and a check of it."""

from inkhorn.model import terms
from inkhorn.model.check import Finding, Findings, check, levelless_cells
from inkhorn.model.laws import WaterTable, face_saturation, ramp, saturation
from inkhorn.model.model import Model
from inkhorn.model.place import place

__all__ = [
    "Finding",
    "Findings",
    "Model",
    "WaterTable",
    "check",
    "face_saturation",
    "levelless_cells",
    "place",
    "ramp",
    "saturation",
    "terms",
]
