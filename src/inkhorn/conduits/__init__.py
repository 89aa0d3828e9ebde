"""Pipe networks in the rock: what flows in a pipe, full or partly filled, slow or fast."""

from inkhorn.conduits.carrying import Arrived, PipeFlow, PipeWater
from inkhorn.conduits.laws import (
    GRAVITY,
    REGIMES,
    Flowing,
    Pipes,
    Section,
    friction_slope,
    law_at,
    mean_velocity,
    passed_at,
    reynolds_number,
    section_of,
    standing_at,
    wet_depth,
)
from inkhorn.conduits.network import TIED, Network, Places

__all__ = [
    "GRAVITY",
    "REGIMES",
    "TIED",
    "Arrived",
    "Flowing",
    "Network",
    "PipeFlow",
    "PipeWater",
    "Pipes",
    "Places",
    "Section",
    "friction_slope",
    "law_at",
    "mean_velocity",
    "passed_at",
    "reynolds_number",
    "section_of",
    "standing_at",
    "wet_depth",
]
