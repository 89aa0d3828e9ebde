"""Placing a site on a grid."""

from inkhorn.model.placing.place import place
from inkhorn.model.placing.properties import edited, material_properties

__all__ = ["edited", "material_properties", "place"]
