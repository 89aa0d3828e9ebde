"""Placing a site on a grid: the model of plain arrays and terms, and a check of it."""

from inkhorn.model import terms
from inkhorn.model.check import Finding, Findings, check, levelless_cells
from inkhorn.model.laws import WaterTable, ramp, saturation
from inkhorn.model.model import PROPERTIES, Model
from inkhorn.model.placing import edited, place

__all__ = [
    "PROPERTIES",
    "Finding",
    "Findings",
    "Model",
    "WaterTable",
    "check",
    "edited",
    "levelless_cells",
    "place",
    "ramp",
    "saturation",
    "terms",
]
