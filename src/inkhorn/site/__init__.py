"""What is known of a place: features, materials, zones, bores, time; nothing here knows a grid."""

from inkhorn.site.barriers import Barrier
from inkhorn.site.boundaries import Drain, FixedHead, HeadDependent, River, Seepage, Spring
from inkhorn.site.cells import PickedCells
from inkhorn.site.conduits import Conduit, ConduitSpring, QuickRecharge, Sinkhole
from inkhorn.site.declaration import (
    Choice,
    Concentrations,
    Declared,
    FeatureName,
    LayerNames,
    Quantity,
    Symbol,
    choice,
    concentrations,
    declared_fields,
    feature_name,
    layer_names,
    per_species,
    quantity,
)
from inkhorn.site.edits import Edit
from inkhorn.site.excavations import Excavation
from inkhorn.site.features import (
    Feature,
    along_line,
    along_weights,
    geometry_of,
    kind_named,
    kinds,
    mean_value,
    says_nothing,
    value_count,
    value_named,
)
from inkhorn.site.materials import Material, Property, declare_property, material_fields, properties
from inkhorn.site.measurements import Measurement
from inkhorn.site.schedule import Schedule, in_each_period, periods_between
from inkhorn.site.series import Series, days_since
from inkhorn.site.site import Bore, Picture, Site
from inkhorn.site.soil_water import soil_water_balance
from inkhorn.site.solutes import HeldConcentration, MassSource, SoluteFeature, StartingPlume
from inkhorn.site.sources import Collector, Evapotranspiration, GivenFlow, Recharge, Well
from inkhorn.site.species import (
    FreundlichSorption,
    LangmuirSorption,
    LinearSorption,
    ReturnedWater,
    Sorption,
    Species,
    plain_by_ground,
)
from inkhorn.site.zones import Zones

__all__ = [
    "Barrier",
    "Bore",
    "Choice",
    "Collector",
    "Concentrations",
    "Conduit",
    "ConduitSpring",
    "Declared",
    "Drain",
    "Edit",
    "Evapotranspiration",
    "Excavation",
    "Feature",
    "FeatureName",
    "FixedHead",
    "FreundlichSorption",
    "GivenFlow",
    "HeadDependent",
    "HeldConcentration",
    "LangmuirSorption",
    "LayerNames",
    "LinearSorption",
    "MassSource",
    "Material",
    "Measurement",
    "PickedCells",
    "Picture",
    "Property",
    "Quantity",
    "QuickRecharge",
    "Recharge",
    "ReturnedWater",
    "River",
    "Schedule",
    "Seepage",
    "Series",
    "Sinkhole",
    "Site",
    "SoluteFeature",
    "Sorption",
    "Species",
    "Spring",
    "StartingPlume",
    "Symbol",
    "Well",
    "Zones",
    "along_line",
    "along_weights",
    "choice",
    "concentrations",
    "days_since",
    "declare_property",
    "declared_fields",
    "feature_name",
    "geometry_of",
    "in_each_period",
    "kind_named",
    "kinds",
    "layer_names",
    "material_fields",
    "mean_value",
    "per_species",
    "periods_between",
    "plain_by_ground",
    "properties",
    "quantity",
    "says_nothing",
    "soil_water_balance",
    "value_count",
    "value_named",
]
