"""Terms: everything that brings water in or takes it out, one class per kind."""

from inkhorn.model.terms.base import HORIZONTAL, Contribution, Moment, Slope, Term
from inkhorn.model.terms.boundaries import (
    DrainTerm,
    EvapotranspirationTerm,
    FixedHeadTerm,
    HeadDependentTerm,
    RiverTerm,
    SeepageTerm,
    SpringTerm,
)
from inkhorn.model.terms.sources import CollectorTerm, RechargeTerm, WellTerm

__all__ = [
    "HORIZONTAL",
    "CollectorTerm",
    "Contribution",
    "DrainTerm",
    "EvapotranspirationTerm",
    "FixedHeadTerm",
    "HeadDependentTerm",
    "Moment",
    "RechargeTerm",
    "RiverTerm",
    "SeepageTerm",
    "Slope",
    "SpringTerm",
    "Term",
    "WellTerm",
]
