"""Particle paths on a flow."""

from inkhorn.paths.field import Field, VelocityMaker
from inkhorn.paths.result import PathResult
from inkhorn.paths.starts import (
    Starts,
    starts_at_bores,
    starts_at_points,
    starts_in_area,
    starts_on_line,
)
from inkhorn.paths.starts_of_flow import starts_at_wells, starts_in_conduits, starts_of_inflow
from inkhorn.paths.times import days_of, refuse_outside
from inkhorn.paths.trace import refuse_many_paths, trace

__all__ = [
    "Field",
    "PathResult",
    "Starts",
    "VelocityMaker",
    "days_of",
    "refuse_many_paths",
    "refuse_outside",
    "starts_at_bores",
    "starts_at_points",
    "starts_at_wells",
    "starts_in_area",
    "starts_in_conduits",
    "starts_of_inflow",
    "starts_on_line",
    "trace",
]
