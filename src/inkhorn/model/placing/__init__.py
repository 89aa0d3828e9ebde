"""Placing a site on a grid."""

from inkhorn.model.placing.edits import change, changed_by, chosen_cells
from inkhorn.model.placing.footprints import Footprint
from inkhorn.model.placing.place import dimension_of, place
from inkhorn.model.placing.plan import Placing, Plan, Spot, places, placings
from inkhorn.model.placing.random_values import RandomValues
from inkhorn.model.placing.site_inputs import SiteInput
from inkhorn.model.placing.targets import Target, target_of
from inkhorn.model.placing.traced import Traced

__all__ = [
    "Footprint",
    "Placing",
    "Plan",
    "RandomValues",
    "SiteInput",
    "Spot",
    "Target",
    "Traced",
    "change",
    "changed_by",
    "chosen_cells",
    "dimension_of",
    "place",
    "places",
    "placings",
    "target_of",
]
