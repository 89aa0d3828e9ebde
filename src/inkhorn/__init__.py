"""Inkhorn: groundwater flow, contaminants and particle paths in layered aquifers.

Inside, every number is in metres, days and grams. What a user types as ``ik.…`` is handed on here and
loaded when first used, so that ``import inkhorn`` stays quick.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from inkhorn import draw
    from inkhorn.calibration import LayerConductivity, RechargeMultiplier, calibrate, observe
    from inkhorn.errors import ConvergenceError, InkhornError, InkhornWarning, InputError
    from inkhorn.files import (
        StepFile,
        StepReader,
        read_grid,
        read_mesh,
        read_model,
        write_grid,
        write_model,
    )
    from inkhorn.flow import FlowSensitivity, solve_flow
    from inkhorn.model import Model, WaterTable, check, place, terms
    from inkhorn.paths import trace
    from inkhorn.project import read_project, read_site
    from inkhorn.runs import open_run
    from inkhorn.site import (
        Barrier,
        Bore,
        Collector,
        Drain,
        Edit,
        Evapotranspiration,
        FixedHead,
        GivenFlow,
        HeadDependent,
        Material,
        PickedCells,
        Recharge,
        River,
        Schedule,
        Seepage,
        Series,
        Site,
        Species,
        Spring,
        Well,
        Zones,
        soil_water_balance,
    )
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
    "errors": ("ConvergenceError", "InkhornError", "InkhornWarning", "InputError"),
    "files": (
        "StepFile",
        "StepReader",
        "read_grid",
        "read_mesh",
        "read_model",
        "write_grid",
        "write_model",
    ),
    "flow": ("FlowSensitivity", "solve_flow"),
    "model": ("Model", "WaterTable", "check", "place", "terms"),
    "paths": ("trace",),
    "project": ("read_project", "read_site"),
    "runs": ("open_run",),
    "site": (
        "Barrier",
        "Bore",
        "Collector",
        "Drain",
        "Edit",
        "Evapotranspiration",
        "FixedHead",
        "GivenFlow",
        "HeadDependent",
        "Material",
        "PickedCells",
        "Recharge",
        "River",
        "Schedule",
        "Seepage",
        "Series",
        "Site",
        "Species",
        "Spring",
        "Well",
        "Zones",
        "soil_water_balance",
    ),
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
    "Barrier",
    "Bore",
    "Collector",
    "ConstantSurface",
    "ConvergenceError",
    "Drain",
    "Edit",
    "Evapotranspiration",
    "FixedHead",
    "FlowSensitivity",
    "GivenFlow",
    "HeadDependent",
    "InkhornError",
    "InkhornWarning",
    "InputError",
    "Layer",
    "LayerConductivity",
    "Material",
    "Model",
    "PickedCells",
    "PointSurface",
    "Recharge",
    "RechargeMultiplier",
    "River",
    "Schedule",
    "Seepage",
    "Series",
    "Site",
    "Species",
    "Spreading",
    "Spring",
    "StepFile",
    "StepReader",
    "Strata",
    "WaterTable",
    "Well",
    "Zones",
    "calibrate",
    "check",
    "draw",
    "layered",
    "observe",
    "open_run",
    "place",
    "read_grid",
    "read_mesh",
    "read_model",
    "read_project",
    "read_site",
    "rectangles",
    "soil_water_balance",
    "solve_flow",
    "solve_transport",
    "split_in_four",
    "terms",
    "trace",
    "voronoi",
    "write_grid",
    "write_model",
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
