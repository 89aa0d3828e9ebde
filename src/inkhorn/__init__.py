"""Inkhorn: groundwater flow, contaminants and particle paths in layered aquifers.

Inside, every number is in metres, days and grams. What a user types as ``ik.…`` is handed on here and
loaded when first used, so that ``import inkhorn`` stays quick.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from inkhorn import draw
    from inkhorn.calibration import LayerConductivity, RechargeMultiplier, calibrate, observe
    from inkhorn.errors import ConvergenceError, InkhornError, InputError
    from inkhorn.files import read_grid, read_mesh, read_project, read_site, write_grid
    from inkhorn.flow import FlowSensitivity, solve_flow
    from inkhorn.model import Model, WaterTable, check, place, terms
    from inkhorn.paths import trace
    from inkhorn.site import Bore, Drain, FixedHead, Material, Recharge, River, Site, Species, Well
    from inkhorn.space import (
        Band,
        ConstantSurface,
        Layer,
        PointSurface,
        Strata,
        layered,
        rectangles,
        split_in_four,
        voronoi,
    )
    from inkhorn.transport import Spreading, solve_transport

_HOMES = {
    "calibration": ("LayerConductivity", "RechargeMultiplier", "calibrate", "observe"),
    "errors": ("ConvergenceError", "InkhornError", "InputError"),
    "files": ("read_grid", "read_mesh", "read_project", "read_site", "write_grid"),
    "flow": ("FlowSensitivity", "solve_flow"),
    "model": ("Model", "WaterTable", "check", "place", "terms"),
    "paths": ("trace",),
    "site": ("Bore", "Drain", "FixedHead", "Material", "Recharge", "River", "Site", "Species", "Well"),
    "space": (
        "Band",
        "ConstantSurface",
        "Layer",
        "PointSurface",
        "Strata",
        "layered",
        "rectangles",
        "split_in_four",
        "voronoi",
    ),
    "transport": ("Spreading", "solve_transport"),
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names}

__all__ = [
    "Band",
    "Bore",
    "ConstantSurface",
    "ConvergenceError",
    "Drain",
    "FixedHead",
    "FlowSensitivity",
    "InkhornError",
    "InputError",
    "Layer",
    "LayerConductivity",
    "Material",
    "Model",
    "PointSurface",
    "Recharge",
    "RechargeMultiplier",
    "River",
    "Site",
    "Species",
    "Spreading",
    "Strata",
    "WaterTable",
    "Well",
    "calibrate",
    "check",
    "draw",
    "layered",
    "observe",
    "place",
    "read_grid",
    "read_mesh",
    "read_project",
    "read_site",
    "rectangles",
    "solve_flow",
    "solve_transport",
    "split_in_four",
    "terms",
    "trace",
    "voronoi",
    "write_grid",
]


def __getattr__(name: str) -> Any:
    if name == "draw":
        return import_module("inkhorn.draw")
    if name not in _HOME_OF:
        raise AttributeError(f"module 'inkhorn' has no attribute {name!r}")
    value = getattr(import_module(f"inkhorn.{_HOME_OF[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return __all__
