"""Heads: the flow equations, their solution, budget and sensitivities."""

from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.newton import SolverReport
from inkhorn.flow.result import FlowResult, FlowStep
from inkhorn.flow.sensitivity import FlowSensitivity
from inkhorn.flow.solve import solve_flow

__all__ = ["FlowEquations", "FlowResult", "FlowSensitivity", "FlowStep", "SolverReport", "solve_flow"]
