"""Placing a site on a grid: the model of plain arrays and terms, and a check of it."""

from inkhorn.model import terms
from inkhorn.model.bores import bore_cells, why_no_cell
from inkhorn.model.check import check, usual_words
from inkhorn.model.findings import Finding, Findings
from inkhorn.model.fingerprint import differences, fingerprint
from inkhorn.model.laws import WaterTable, filled, ramp, saturation
from inkhorn.model.levels import levelless_cells
from inkhorn.model.model import Model
from inkhorn.model.placing import Footprint, Plan, Spot, dimension_of, place, places, placings
from inkhorn.model.problems import FlowProblem, flow_problem
from inkhorn.model.solutes import Solute
from inkhorn.model.traces import Traces
from inkhorn.model.zones import ZoneMap

__all__ = [
    "Finding",
    "Findings",
    "FlowProblem",
    "Footprint",
    "Model",
    "Plan",
    "Solute",
    "Spot",
    "Traces",
    "WaterTable",
    "ZoneMap",
    "bore_cells",
    "check",
    "differences",
    "dimension_of",
    "filled",
    "fingerprint",
    "flow_problem",
    "levelless_cells",
    "place",
    "places",
    "placings",
    "ramp",
    "saturation",
    "terms",
    "usual_words",
    "why_no_cell",
]
