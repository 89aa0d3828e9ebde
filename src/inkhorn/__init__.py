"""Inkhorn: groundwater flow, contaminants and particle paths in layered aquifers.

Inside, every number is in metres, days and grams. What a user types as ``ik.…`` is handed on here (by the
list in ``__init__.pyi``) and loaded when first used, so that ``import inkhorn`` stays quick.
"""

import lazy_loader

__version__ = "0.1.0"

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
