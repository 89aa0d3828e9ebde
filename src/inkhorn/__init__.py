"""Inkhorn: groundwater flow, contaminants and particle paths in layered aquifers.

Inside, every number is in metres, days and grams. What a user types as ``ik.…`` is handed on here (by the
list in ``__init__.pyi``) and loaded when first used, so that ``import inkhorn`` stays quick.
"""

import lazy_loader

_found, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)


def __getattr__(name: str) -> object:
    if name != "__version__":
        return _found(name)
    from importlib.metadata import version

    return version("inkhorn")
