"""What holds a species beside the water that flows: ground that it sorbs to, and pores whose water stands."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_nonnegative
from inkhorn.model import Model
from inkhorn.site import FreundlichSorption, LangmuirSorption, LinearSorption, Species, plain_by_ground
from inkhorn.transport import _kernels
from inkhorn.transport.by_ground import by_ground
from inkhorn.transport.scheme import Pores

__all__ = ["ImmobileWater", "pores_of"]

Array = NDArray[np.float64]

_MILLIGRAM = 1e-6  # mg/kg in g/g


@dataclass(frozen=True)
class ImmobileWater:
    """Water in pores that it does not flow through, which exchanges what is dissolved with that which flows.

    Parameters
    ----------
    porosity : float, mapping or array_like
        Share of the volume, beside the effective porosity; by material, layer or zone, or by cell too.
    exchange : float, mapping or array_like
        What passes between both per volume over the difference of their concentrations [1/day].

    References
    ----------
    van Genuchten, M. Th. and Wierenga, P. J. (1976), Mass transfer studies in sorbing porous media I, Soil Science
    Society of America Journal 40, 473-480, eq. 2.
    """

    porosity: Any
    exchange: Any

    def __post_init__(self) -> None:
        for name, kind, unit in (("porosity", "number", ""), ("exchange", "leakance", "1/day")):
            what = f"immobile water: {name}"
            object.__setattr__(
                self, name, plain_by_ground(getattr(self, name), kind, what, check_nonnegative, unit)
            )


def pores_of(model: Model, species: Species) -> Pores:
    """Return by which law the ground holds a species.

    Raises
    ------
    InputError
        If it sorbs and the model has no bulk density, or numbers by ground leave one out.
    """
    zero, law = np.zeros(model.grid.n_cells), species.sorption
    if law is None:
        return Pores(_kernels.LINEAR, zero, zero)
    if model.bulk_density is None:
        raise InputError(
            f"{species.name} sorbs, but the model has no bulk density. Give one for every material (or to Model)."
        )

    def of(name: str) -> Array:
        return by_ground(model, f"{species.name}: {name}", getattr(law, name))

    if isinstance(law, LinearSorption):
        return Pores(_kernels.LINEAR, of("distribution"), zero)
    if isinstance(law, FreundlichSorption):
        return Pores(_kernels.FREUNDLICH, _MILLIGRAM * of("coefficient"), of("exponent"))
    if isinstance(law, LangmuirSorption):
        return Pores(_kernels.LANGMUIR, 1.0 / of("half_at"), _MILLIGRAM * of("capacity"))
    raise InputError(f"{species.name}: nothing is known of how {type(law).__name__} sorbs.")
