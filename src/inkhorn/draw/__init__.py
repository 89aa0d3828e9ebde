"""Matplotlib figures: each takes a result and an Axes, and returns the Axes."""

from inkhorn.draw.blocks import block
from inkhorn.draw.budgets import budget, budget_in_time
from inkhorn.draw.comparison import head_differences, heads_along, heads_at_bores, heads_side_by_side
from inkhorn.draw.conduits import conduit_profile, conduits, spring_discharge
from inkhorn.draw.convergence import convergence
from inkhorn.draw.dates import when
from inkhorn.draw.ensembles import (
    against_input,
    bands,
    chance_map,
    chance_maps,
    field_check,
    settling,
    spread,
    spread_curve,
    watched,
)
from inkhorn.draw.exchange import exchange
from inkhorn.draw.film import film
from inkhorn.draw.fit import (
    depletion,
    fields_before_and_after,
    measured_against_computed,
    residual_maps,
    residual_spread,
    what_readings_tell,
    worth_of_levels,
)
from inkhorn.draw.flow import (
    SHOWN,
    depth_to_water,
    drawdown,
    flow_map,
    heads,
    span_of,
    values,
    water_table,
)
from inkhorn.draw.hydrographs import heads_in_time, hydrograph, hydrographs
from inkhorn.draw.local import rim
from inkhorn.draw.maps import lay_picture
from inkhorn.draw.mesh import plan, quality
from inkhorn.draw.movement import breakthrough, highest_of, paths, plume, snapshots, travel_times, zones
from inkhorn.draw.of_project import (
    line_of,
    project_block,
    project_plans,
    project_quality,
    project_section,
    project_surface,
)
from inkhorn.draw.relief import head_surface
from inkhorn.draw.saving import save_figure, save_new
from inkhorn.draw.scales import in_units
from inkhorn.draw.sections import section
from inkhorn.draw.surfaces import surface

__all__ = [
    "SHOWN",
    "against_input",
    "bands",
    "block",
    "breakthrough",
    "budget",
    "budget_in_time",
    "chance_map",
    "chance_maps",
    "conduit_profile",
    "conduits",
    "convergence",
    "depletion",
    "depth_to_water",
    "drawdown",
    "exchange",
    "field_check",
    "fields_before_and_after",
    "film",
    "flow_map",
    "head_differences",
    "head_surface",
    "heads",
    "heads_along",
    "heads_at_bores",
    "heads_in_time",
    "heads_side_by_side",
    "highest_of",
    "hydrograph",
    "hydrographs",
    "in_units",
    "lay_picture",
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
    "residual_maps",
    "residual_spread",
    "rim",
    "save_figure",
    "save_new",
    "section",
    "settling",
    "snapshots",
    "span_of",
    "spread",
    "spread_curve",
    "spring_discharge",
    "surface",
    "travel_times",
    "values",
    "watched",
    "water_table",
    "what_readings_tell",
    "when",
    "worth_of_levels",
    "zones",
]
