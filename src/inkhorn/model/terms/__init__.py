"""Terms: everything that brings water in or takes it out, one class per kind."""

from inkhorn.model.terms.base import HORIZONTAL, Contribution, Moment, Slope, Term
from inkhorn.model.terms.boundaries import DrainTerm, FixedHeadTerm, RiverTerm
from inkhorn.model.terms.sources import RechargeTerm, WellTerm

__all__ = [
    "HORIZONTAL",
    "Contribution",
    "DrainTerm",
    "FixedHeadTerm",
    "Moment",
    "RechargeTerm",
    "RiverTerm",
    "Slope",
    "Term",
    "WellTerm",
]
