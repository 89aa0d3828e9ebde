"""Terms: everything that brings water in or takes it out, one class per kind."""

from inkhorn.model.terms.base import (
    CROSSINGS,
    HORIZONTAL,
    Contribution,
    Input,
    Moment,
    Slope,
    Term,
    Watch,
    entry_input,
    feature_input,
    link_input,
    placed,
    placed_fields,
    terms_known,
)
from inkhorn.model.terms.boundaries import (
    DrainTerm,
    ExcavationTerm,
    FixedHeadTerm,
    HeadDependentTerm,
    RiverTerm,
    SeepageTerm,
    SpringTerm,
)
from inkhorn.model.terms.conduits import ConduitTerm
from inkhorn.model.terms.rim import RimFlowTerm, RimHeadTerm
from inkhorn.model.terms.sides import level_driving
from inkhorn.model.terms.sources import EvapotranspirationTerm, GivenFlowTerm, RechargeTerm
from inkhorn.model.terms.wells import CollectorTerm, WellTerm

__all__ = [
    "CROSSINGS",
    "HORIZONTAL",
    "CollectorTerm",
    "ConduitTerm",
    "Contribution",
    "DrainTerm",
    "EvapotranspirationTerm",
    "ExcavationTerm",
    "FixedHeadTerm",
    "GivenFlowTerm",
    "HeadDependentTerm",
    "Input",
    "Moment",
    "RechargeTerm",
    "RimFlowTerm",
    "RimHeadTerm",
    "RiverTerm",
    "SeepageTerm",
    "Slope",
    "SpringTerm",
    "Term",
    "Watch",
    "WellTerm",
    "entry_input",
    "feature_input",
    "level_driving",
    "link_input",
    "placed",
    "placed_fields",
    "terms_known",
]
