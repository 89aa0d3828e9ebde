"""What is dissolved in the water: how it sorbs, decays, and where it comes from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import KW_ONLY, dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.units import plain, refuse_impossible, unit_factor

if TYPE_CHECKING:
    from inkhorn.units import WithUnit

__all__ = [
    "FreundlichSorption",
    "LangmuirSorption",
    "LinearSorption",
    "ReturnedWater",
    "Sorption",
    "Species",
    "plain_by_ground",
]


def plain_by_ground(given: Any, kind: str, what: str, check: Any, unit: str) -> Any:
    """A number, or numbers by material or layer, or an array; checked, in the units used inside."""
    named = isinstance(given, Mapping)
    called = {k: f"{what} of {k}" if named else what for k in (given if named else [""])}
    made = {str(k): plain(given[k] if named else given, kind, name) for k, name in called.items()}
    for key, value in made.items():
        check(f"{what} of {key}" if key else what, value, unit=unit)
        refuse_impossible(what, value, kind)
    return made if named else made[""]


@dataclass(frozen=True)
class Sorption:
    """How much the ground takes up beside what stays dissolved, at once and back; see the laws that derive from it.

    It needs the bulk density of the ground.
    """

    law: ClassVar[str] = ""


@dataclass(frozen=True)
class LinearSorption(Sorption):
    """The ground takes up in proportion to the concentration.

    Parameters
    ----------
    distribution : float, mapping or array_like
        What is sorbed per mass of ground over the concentration [m³/g]; numbers by the names of materials, layers or
        zones, or one for each layer or cell, too.
    """

    distribution: Any
    law: ClassVar[str] = "linear"

    def __post_init__(self) -> None:
        made = plain_by_ground(
            self.distribution, "distribution coefficient", "distribution", check_nonnegative, "m³/g"
        )
        object.__setattr__(self, "distribution", made)


@dataclass(frozen=True)
class FreundlichSorption(Sorption):
    """The ground takes up in proportion to a power of the concentration.

    Parameters
    ----------
    coefficient : float, mapping or array_like
        What is sorbed where the water holds 1 mg/l [mg/kg]; as of `LinearSorption`.
    exponent : float, mapping or array_like
        Mostly below 1, which sorbs the more strongly the less there is.

    References
    ----------
    Freundlich, H. (1906), Über die Adsorption in Lösungen, Zeitschrift für physikalische Chemie 57, 385-470.
    """

    coefficient: Any
    exponent: Any
    law: ClassVar[str] = "Freundlich"

    def __post_init__(self) -> None:
        for name, check in (("coefficient", check_nonnegative), ("exponent", check_positive)):
            made = plain_by_ground(getattr(self, name), "number", name, check, "")
            object.__setattr__(self, name, made)
        for value in self.exponent.values() if isinstance(self.exponent, dict) else [self.exponent]:
            if np.any((np.asarray(value) < 0.1) | (np.asarray(value) > 3.0)):
                raise InputError(f"exponent is {value}; expected 0.1 to 3, mostly 0.5 to 1.")


@dataclass(frozen=True)
class LangmuirSorption(Sorption):
    """The ground takes up until its places are taken.

    Parameters
    ----------
    capacity : float, mapping or array_like
        What the ground takes up at most [mg/kg]; as of `LinearSorption`.
    half_at : float, mapping or array_like
        The concentration at which it has taken up half of that [g/m³].

    References
    ----------
    Langmuir, I. (1918), The adsorption of gases on plane surfaces of glass, mica and platinum, Journal of the American
    Chemical Society 40, 1361-1403.
    """

    capacity: Any
    half_at: Any
    law: ClassVar[str] = "Langmuir"

    def __post_init__(self) -> None:
        made = plain_by_ground(self.capacity, "number", "capacity", check_nonnegative, "mg/kg")
        object.__setattr__(self, "capacity", made)
        made = plain_by_ground(self.half_at, "concentration", "half_at", check_positive, "g/m³")
        object.__setattr__(self, "half_at", made)


@dataclass(frozen=True)
class ReturnedWater:
    """What the water put in somewhere holds: that taken elsewhere at the time, less what was treated away.

    Parameters
    ----------
    source : str
        The well, collector, drain or other feature whose water it is.
    treated : float
        Share of the species that is taken out of it, 0 to 1.
    added : float
        What comes to it besides [g/m³].
    """

    source: str
    treated: float = 0.0
    added: WithUnit = 0.0

    def __post_init__(self) -> None:
        if not 0.0 <= self.treated <= 1.0:
            raise InputError(
                f"treated is {self.treated:g}; expected a share from 0 to 1 of what is taken out."
            )
        object.__setattr__(self, "added", plain(self.added, "concentration", "added"))
        check_nonnegative("added", self.added, unit="g/m³")


@dataclass(frozen=True)
class Species:
    """Something dissolved in the water.

    Parameters
    ----------
    name : str
        As used in the concentrations of features.
    unit : str
        In which results are shown.
    initial : float
        Concentration everywhere at the beginning [g/m³].
    limit : float or None
        What it should not pass [g/m³].
    background : float or None
        In water that comes in without a stated concentration [g/m³]; such water is refused if not given.
    sorption : Sorption, optional
        A `LinearSorption`, `FreundlichSorption` or `LangmuirSorption`; nothing sorbs if not given.
    half_life : float or None
        After which half of it has decayed [day]; none does if not given.
    sorbed_half_life : float or None
        The same of what is sorbed [day]; as of what is dissolved if not given, infinite for none.
    production : float
        What comes about in the water of itself [g/m³/day].
    daughters : mapping of str to float
        What decays into, by species: how much of it comes of one gram [g/g].
    diffusion : float, mapping or array_like, optional
        In the pores [m²/day], instead of what the dispersion says.
    taken_by_plants : float
        Its share in the water that plants and evaporation take: 1 where they take it along, 0 where it stays behind.
    """

    name: str
    unit: str = "mg/l"
    _: KW_ONLY
    initial: WithUnit = 0.0
    limit: WithUnit | None = None
    background: WithUnit | None = None
    sorption: Sorption | None = None
    half_life: WithUnit | None = None
    sorbed_half_life: WithUnit | None = None
    production: WithUnit = 0.0
    daughters: Mapping[str, float] = field(default_factory=dict)
    diffusion: Any = None
    taken_by_plants: float = 1.0

    def __post_init__(self) -> None:
        where = f'species "{self.name}"'
        for key in ("initial", "limit", "background"):
            value = plain(getattr(self, key), "concentration", f"{where}: {key}")
            object.__setattr__(self, key, value)
            if value is not None:
                check = check_positive if key == "limit" else check_nonnegative
                check(f"{where}: {key}", value, unit="g/m³")
                refuse_impossible(f"{where}: {key}", value, "concentration")
        for key in ("half_life", "sorbed_half_life"):
            value = plain(getattr(self, key), "time", f"{where}: {key}")
            object.__setattr__(self, key, value)
            if value is not None and not value > 0.0:
                raise InputError(
                    f"{where}: {key} is {value:g} days; expected more than 0. Leave it out where nothing decays."
                )
        object.__setattr__(self, "production", plain(self.production, "production", f"{where}: production"))
        check_nonnegative(f"{where}: production", self.production, unit="g/m³/day")
        for name, share in self.daughters.items():
            check_nonnegative(f"{where}: daughters of {name}", share, unit="g/g")
            if name == self.name:
                raise InputError(f"{where} decays into itself. Name another species.")
        if self.daughters and self.half_life is None:
            raise InputError(f"{where} has daughters and no half-life. Give one.")
        if self.sorption is not None and not isinstance(self.sorption, Sorption):
            raise InputError(
                f"{where}: sorption is {self.sorption!r}; expected one such as LinearSorption(2e-7)."
            )
        if self.diffusion is not None:
            made = plain_by_ground(
                self.diffusion, "diffusion", f"{where}: diffusion", check_nonnegative, "m²/day"
            )
            object.__setattr__(self, "diffusion", made)
        if not 0.0 <= self.taken_by_plants <= 1.0:
            raise InputError(
                f"{where}: taken_by_plants is {self.taken_by_plants:g}; expected a share from 0 to 1."
            )
        unit_factor(self.unit, "concentration")

    def __repr__(self) -> str:
        return f"Species({self.name}, in {self.unit})"

    @property
    def decay(self) -> tuple[float, float]:
        """How fast what is dissolved decays, and what is sorbed [1/day]."""
        dissolved = 0.0 if self.half_life is None else float(np.log(2.0) / self.half_life)
        sorbed = dissolved if self.sorbed_half_life is None else float(np.log(2.0) / self.sorbed_half_life)
        return dissolved, sorbed
