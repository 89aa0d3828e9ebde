"""What is known of a place: features, materials, bores; no cell appears here."""

from inkhorn.site.features import Drain, Feature, FixedHead, Recharge, River, Well, along_line
from inkhorn.site.site import Bore, Material, Picture, Site, Species

__all__ = [
    "Bore",
    "Drain",
    "Feature",
    "FixedHead",
    "Material",
    "Picture",
    "Recharge",
    "River",
    "Site",
    "Species",
    "Well",
    "along_line",
]
