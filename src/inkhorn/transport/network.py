"""Dissolved species in conduits: what they take from the rock and give it, let in and let out, and hold on the way."""

from __future__ import annotations

from copy import copy
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import PipeWater
from inkhorn.flow import NetworkPassing

__all__ = ["InConduits", "Outcome"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]
Key = tuple[str, str]

_NO_WATER = 1e-9  # m³/day
_TOLD = 1e-3  # of the highest concentration at a spring: smaller changes within a step are not told


class Outcome(NamedTuple):
    """What came of a step in the conduits.

    Attributes
    ----------
    to_rock : ndarray of float, (n_pipes,)
        Mass that each gave its cell [g].
    from_springs : list of tuple
        Kind and name, and the mass that left there [g].
    """

    to_rock: Array
    from_springs: list[tuple[Key, float]]


class InConduits:
    """One species in the water of conduits.

    Water from the rock is taken at concentrations that are foreseen, and what these were off by follows once the step of
    the rock is known: so no mass is lost, and none comes of nothing.

    Parameters
    ----------
    passing : NetworkPassing
        Of the first step.
    concentration : ndarray of float, (n_pipes,)
        Of the water in each pipe, to begin with [g/m³].
    volume, shaft : ndarray of float
        Of the water [m³].
    """

    def __init__(self, passing: NetworkPassing, concentration: Array, volume: Array, shaft: Array) -> None:
        self.passing = passing
        self.water = PipeWater(volume, shaft, concentration)
        nodes, n = passing.flow.pipes.nodes, len(shaft)
        beside = np.bincount(nodes, np.repeat(concentration, 2), n) / np.maximum(
            np.bincount(nodes, minlength=n), 1
        )
        self.water.at_node += beside * shaft
        self.brings = np.zeros(len(shaft))  # from outside [g/day]
        self.springs: dict[str, float] = {}  # concentrations there, at the end of the last step
        self.curve: list[tuple[float, dict[str, float]]] = []  # the same within it: day since its begin
        self.highest = 0.0

    def copy(self) -> InConduits:
        """Return the same, to be moved apart from this."""
        other = copy(self)
        other.water = self.water.copy()
        return other

    @property
    def stored(self) -> float:
        """[g]"""
        return self.water.stored

    def meet(self, passing: NetworkPassing, volume: Array, shaft: Array) -> float:
        """Go over to another step of the flow; return the mass by which water levels that jump change it [g]."""
        self.passing = passing
        return self.water.fit_to(volume, shaft)

    def carried(self, c: Array, length: float) -> Outcome:
        """Carry it on for a step, with the concentrations in the rock.

        Parameters
        ----------
        c : ndarray of float, (n_cells,)
            In the rock [g/m³].
        length : float
            Of the step [day].
        """
        p, n = self.passing, len(self.brings)
        node, moving = p.flow.pipes.wall_node, p.flow
        brings = self.brings + np.bincount(node, p.taken * c[p.cells], n)
        made = self.water.carried(moving, brings, length)
        mean = made.gone / np.maximum(moving.leaves * length, 1e-300)
        from_springs = []
        self.springs, self.curve = {}, []
        for (kind, name), spot, rate in p.springs:
            if rate > _NO_WATER:
                from_springs.append(((kind, name), float(mean[spot] * rate * length)))
                self.highest = max(self.highest, float(made.passing[:, spot].max(initial=0.0)))
        self._tell(made.times, made.passing)
        return Outcome(mean[node] * p.given * length, from_springs)

    def _tell(self, times: Array, passing: Array) -> None:
        """Note how concentrations at springs change within the step."""
        spots = [(name, spot) for (_, name), spot, rate in self.passing.springs if rate > _NO_WATER]
        if not spots:
            return
        values = passing[:, [spot for _, spot in spots]]
        self.springs = {name: float(v) for (name, _), v in zip(spots, values[-1], strict=True)}
        enough, last = _TOLD * max(self.highest, 1e-300), -1  # that was told last
        for k in range(len(times)):  # the last itself is told at the end of the step
            if last >= 0 and np.abs(values[k] - values[last]).max() <= enough:
                continue
            for at in (k - 1, k) if 0 <= last < k - 1 else (k,):  # until when it stayed, too
                if at < len(times) - 1:
                    told = {name: float(v) for (name, _), v in zip(spots, values[at], strict=True)}
                    self.curve.append((float(times[at]), told))
            last = k

    def corrected(self, c: Array, really: Array, length: float) -> None:
        """Take in by what the water from the rock was off.

        Parameters
        ----------
        c : ndarray of float, (n_cells,)
            As it was taken in `carried` [g/m³].
        really : ndarray of float, (n_cells,)
            The mean concentrations of what left the cells [g/m³].
        length : float
            Of the step [day].
        """
        p = self.passing
        off = p.taken * (really - c)[p.cells] * length
        self.water.at_node += np.bincount(p.flow.pipes.wall_node, off, len(self.brings))
