"""What the water that comes in brings with it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.flow import NetworkPassing
from inkhorn.model import Model
from inkhorn.site import ReturnedWater, Series, Species, days_since
from inkhorn.transport.passing import Passing

__all__ = ["Inflow", "lacking_concentration"]

Array = NDArray[np.float64]
Key = tuple[str, str]

_NO_WATER = 1e-9  # m³/day


def lacking_concentration(model: Model, species: Species, names: Iterable[str]) -> str:
    """Say which of some features that bring in water have no concentration of a species; empty if all have one."""
    known = model.inflow_concentration.get(species.name, {})
    lacking = [n for n in names if n not in known] if species.background is None else []
    if not lacking:
        return ""
    shown = ", ".join(lacking[:6]) + (f" and {len(lacking) - 6} more" if len(lacking) > 6 else "")
    return (
        f"no concentration of {species.name} is stated for the water that comes from {shown}. State it, or a "
        "`background` of the species for all that have none"
    )


class Inflow:
    """Concentrations of a species in the water that features bring in, in time.

    Parameters
    ----------
    model : Model
        Whose features.
    species : Species
        Which.
    start : datetime64, optional
        The date of day 0.

    Attributes
    ----------
    changes : ndarray of float
        Days at which one of them changes.

    Raises
    ------
    InputError
        If returned water is that of a feature that is not there, or a series begins after day 0.
    """

    def __init__(self, model: Model, species: Species, start: np.datetime64 | None) -> None:
        self.model, self.species, self.start = model, species, start
        self.known = dict(model.inflow_concentration.get(species.name, {}))
        features = [n for t in model.terms for n in t.feature_names]
        for name, said in self.known.items():
            if isinstance(said, ReturnedWater) and said.source not in features:
                raise InputError(
                    f'"{name}" puts in the water of "{said.source}", which is not there; expected one of {features}.'
                    f"{did_you_mean(said.source, features)}"
                )
        told = [*self.known.items(), *((s.name, s.value) for s in model.solutes if s.species == species.name)]
        series = [(name, value) for name, value in told if isinstance(value, Series)]
        wells = {n for t in model.terms if t.n_extra for n in t.feature_names}  # may put in none at first
        begin = 0.0 if model.schedule is None else float(model.schedule.begins[0])
        for name, value in series:
            if name not in wells:
                value.mean(begin, begin, start)  # says if it begins later
        days = [days_since(start, value.times, value.name) for _, value in series]
        self.changes = np.unique(np.concatenate(days)) if days else np.empty(0)

    def of(self, name: str, begin: float, end: float, taken: dict[str, float]) -> float | None:
        """Return the mean concentration of a feature's water between two days [g/m³], None if it is not known.

        Parameters
        ----------
        name : str
            Of the feature.
        begin, end : float
            [day].
        taken : dict of float
            Concentrations of the water that features take now, by name.
        """
        said: Any = self.known.get(name)
        if said is None:
            return None if self.species.background is None else float(self.species.background)
        if isinstance(said, Series):
            return float(said.mean(begin, end, self.start)[0])
        if isinstance(said, ReturnedWater):
            return (1.0 - said.treated) * taken.get(said.source, 0.0) + said.added
        return float(said)

    def brought(
        self, passing: Passing, begin: float, end: float, taken: dict[str, float]
    ) -> tuple[Array, dict[Key, float], dict[Key, float], tuple[Array, Array]]:
        """Return what comes into each cell, at which concentrations, and how much of it each feature brings.

        Returns
        -------
        into : ndarray of float, (n_cells,)
            [g/day].
        brings : dict of float
            Concentration by kind and feature [g/m³].
        by_key : dict of float
            Mass by kind and feature [g/day].
        within : tuple of ndarray of float, (n_cells,)
            Least and greatest concentration of what comes in [g/m³]; infinite the other way where nothing does.

        Raises
        ------
        InputError
            If water comes in of which no concentration is known.
        """
        n = self.model.grid.n_cells
        into, least, most = np.zeros(n), np.full(n, np.inf), np.full(n, -np.inf)
        brings: dict[Key, float] = {}
        by_key: dict[Key, float] = {}
        for giving, c in self._told(passing.giving, begin, end, taken):
            np.add.at(into, giving.cells, giving.rate * c)
            np.minimum.at(least, giving.cells, c)
            np.maximum.at(most, giving.cells, c)
            brings[giving.key] = c
            by_key[giving.key] = by_key.get(giving.key, 0.0) + c * float(giving.rate.sum())
        return into, brings, by_key, (least, most)

    def _told(
        self, givings: Iterable[Any], begin: float, end: float, taken: dict[str, float]
    ) -> list[tuple[Any, float]]:
        """Return what brings in water with its concentration."""
        found, lacking = [], []
        for giving in givings:
            if giving.water <= _NO_WATER:
                continue
            c = self.of(giving.key[1], begin, end, taken)
            if c is None:
                lacking.append(giving.key[1])
            else:
                found.append((giving, c))
        if lacking:
            raise InputError(f"{lacking_concentration(self.model, self.species, lacking)}.")
        return found

    def into_conduits(
        self, network: NetworkPassing, begin: float, end: float, taken: dict[str, float]
    ) -> tuple[Array, dict[Key, float], dict[Key, float]]:
        """Return what comes into each node of conduits from outside [g/day], at which concentrations, and from whom.

        Raises
        ------
        InputError
            If water comes in of which no concentration is known.
        """
        into, brings, by_key = np.zeros(len(network.flow.head)), dict[Key, float](), dict[Key, float]()
        for entering, c in self._told(network.entering, begin, end, taken):
            np.add.at(into, entering.nodes, entering.rate * c)
            brings[entering.key] = c
            by_key[entering.key] = by_key.get(entering.key, 0.0) + c * entering.water
        return into, brings, by_key
