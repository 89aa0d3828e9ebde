"""Matplotlib figures: each takes a result and an Axes, and returns the Axes."""

from inkhorn.draw.blocks import block
from inkhorn.draw.budgets import budget, budget_in_time
from inkhorn.draw.comparison import head_differences, heads_at_bores
from inkhorn.draw.fit import measured_against_computed
from inkhorn.draw.flow import (
    depth_to_water,
    drawdown,
    heads,
    hydrograph,
    hydrographs,
    values,
    water_table,
    when,
)
from inkhorn.draw.mesh import plan, quality
from inkhorn.draw.movement import breakthrough, paths, plume
from inkhorn.draw.of_project import (
    line_of,
    project_block,
    project_plans,
    project_quality,
    project_section,
    project_surface,
)
from inkhorn.draw.saving import save_figure, save_new
from inkhorn.draw.scales import in_units
from inkhorn.draw.sections import section
from inkhorn.draw.surfaces import surface

__all__ = [
    "block",
    "breakthrough",
    "budget",
    "budget_in_time",
    "depth_to_water",
    "drawdown",
    "head_differences",
    "heads",
    "heads_at_bores",
    "hydrograph",
    "hydrographs",
    "in_units",
    "line_of",
    "measured_against_computed",
    "paths",
    "plan",
    "plume",
    "project_block",
    "project_plans",
    "project_quality",
    "project_section",
    "project_surface",
    "quality",
    "save_figure",
    "save_new",
    "section",
    "surface",
    "values",
    "water_table",
    "when",
]
