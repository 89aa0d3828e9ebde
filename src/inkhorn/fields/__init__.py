"""Random fields: properties that are known by their mean, their spread and how alike they are nearby."""

from inkhorn.fields.experimental import FieldVariogram, experimental_variogram
from inkhorn.fields.random_field import FIELD_METHODS, FieldMaker, MeasuredPoints, RandomField

__all__ = [
    "FIELD_METHODS",
    "FieldMaker",
    "FieldVariogram",
    "MeasuredPoints",
    "RandomField",
    "experimental_variogram",
]
