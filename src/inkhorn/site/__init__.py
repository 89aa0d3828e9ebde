"""What is known of a place: features, materials, bores, time; no cell appears here."""

from inkhorn.site.barriers import Barrier
from inkhorn.site.boundaries import Drain, FixedHead, HeadDependent, River, Seepage, Spring
from inkhorn.site.edits import Edit
from inkhorn.site.features import Feature, along_line, mean_value
from inkhorn.site.schedule import Schedule, in_each_period, periods_between
from inkhorn.site.series import Series, days_since
from inkhorn.site.site import Bore, Material, Picture, Site, Species
from inkhorn.site.soil_water import soil_water_balance
from inkhorn.site.sources import Collector, Evapotranspiration, Recharge, Well

__all__ = [
    "Barrier",
    "Bore",
    "Collector",
    "Drain",
    "Edit",
    "Evapotranspiration",
    "Feature",
    "FixedHead",
    "HeadDependent",
    "Material",
    "Picture",
    "Recharge",
    "River",
    "Schedule",
    "Seepage",
    "Series",
    "Site",
    "Species",
    "Spring",
    "Well",
    "along_line",
    "days_since",
    "in_each_period",
    "mean_value",
    "periods_between",
    "soil_water_balance",
]
