"""Heads: the flow equations, their solution, budget and sensitivities."""

from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.record import FlowStart, FlowStep, Records, StepStore
from inkhorn.flow.report import NewtonRow, SolverReport
from inkhorn.flow.result import FlowResult
from inkhorn.flow.sensitivity import FlowSensitivity
from inkhorn.flow.solve import solve_flow

__all__ = [
    "FlowEquations",
    "FlowResult",
    "FlowSensitivity",
    "FlowStart",
    "FlowStep",
    "NewtonRow",
    "Records",
    "SolverReport",
    "StepStore",
    "solve_flow",
]
