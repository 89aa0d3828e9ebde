"""Heads: the flow equations, their solution, budget and sensitivities."""

from inkhorn.flow.bores import BoreLevels
from inkhorn.flow.conduits import conduits_of
from inkhorn.flow.crossing import across_line, rows_across_line
from inkhorn.flow.depletion import by_pumping
from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.labelled import blocks_of
from inkhorn.flow.network import Entering, NetworkPassing, network_of
from inkhorn.flow.quantities import (
    AllOf,
    FaceFlows,
    Levels,
    OpenLevels,
    Quantity,
    Readings,
    SpringFlows,
    TermFlows,
    WellLevels,
)
from inkhorn.flow.record import FlowStart, FlowStep, Records, StepStore
from inkhorn.flow.report import NewtonRow, SolverReport
from inkhorn.flow.result import FlowResult
from inkhorn.flow.sensitivity import FlowSensitivity
from inkhorn.flow.solve import solve_flow

__all__ = [
    "AllOf",
    "BoreLevels",
    "Entering",
    "FaceFlows",
    "FlowEquations",
    "FlowResult",
    "FlowSensitivity",
    "FlowStart",
    "FlowStep",
    "Levels",
    "NetworkPassing",
    "NewtonRow",
    "OpenLevels",
    "Quantity",
    "Readings",
    "Records",
    "SolverReport",
    "SpringFlows",
    "StepStore",
    "TermFlows",
    "WellLevels",
    "across_line",
    "blocks_of",
    "by_pumping",
    "conduits_of",
    "network_of",
    "rows_across_line",
    "solve_flow",
]
