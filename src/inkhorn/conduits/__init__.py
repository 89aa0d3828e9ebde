"""Pipe networks in the rock: what flows in a pipe, full or partly filled, slow or fast."""

from inkhorn.conduits.laws import (
    GRAVITY,
    REGIMES,
    Flowing,
    Pipes,
    Section,
    friction_slope,
    law_at,
    mean_velocity,
    reynolds_number,
    section_of,
    wet_depth,
)

__all__ = [
    "GRAVITY",
    "REGIMES",
    "Flowing",
    "Pipes",
    "Section",
    "friction_slope",
    "law_at",
    "mean_velocity",
    "reynolds_number",
    "section_of",
    "wet_depth",
]
