"""Matplotlib figures: each takes a result and an Axes, and returns the Axes."""

from inkhorn.draw.fit import measured_against_computed
from inkhorn.draw.flow import heads, section
from inkhorn.draw.mesh import plan
from inkhorn.draw.movement import breakthrough, paths, plume

__all__ = ["breakthrough", "heads", "measured_against_computed", "paths", "plan", "plume", "section"]
