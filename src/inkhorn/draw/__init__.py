"""Matplotlib figures: each takes a result and an Axes, and returns the Axes."""

from inkhorn.draw.blocks import block
from inkhorn.draw.fit import measured_against_computed
from inkhorn.draw.flow import heads, hydrograph
from inkhorn.draw.mesh import plan, quality
from inkhorn.draw.movement import breakthrough, paths, plume
from inkhorn.draw.sections import section
from inkhorn.draw.surfaces import surface

__all__ = [
    "block",
    "breakthrough",
    "heads",
    "hydrograph",
    "measured_against_computed",
    "paths",
    "plan",
    "plume",
    "quality",
    "section",
    "surface",
]
