"""Decay, and chains of what decays into each other, cell by cell and exactly."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from inkhorn.transport.carried import Carried

__all__ = ["decayed", "react"]

Array = NDArray[np.float64]

_ALIKE = 5000  # sets of decay rates beyond which cells go by the next of them


def decayed(masses: Array, rates: Array, yields: Array, length: float) -> Array:
    """Return what is left of masses, and what has come of them, after a while.

    ``dM_k/dt = -rate_k M_k + sum_p yield_kp rate_p M_p`` (Bateman 1910), by the exponential of its matrix.

    Parameters
    ----------
    masses : ndarray of float, (n_species, n)
        [g].
    rates : ndarray of float, (n_species, n) or (n_species, 1)
        Of decay [1/day].
    yields : ndarray of float, (n_species, n_species)
        What comes of the one (column) as the other (row) [g/g].
    length : float
        [day].

    References
    ----------
    Bateman, H. (1910), Solution of a system of differential equations occurring in the theory of radioactive
    transformations, Proceedings of the Cambridge Philosophical Society 15, 423-427.
    """
    if len(masses) == 1:
        return masses * np.exp(-rates * length)
    from scipy.linalg import expm

    kinds, which = np.unique(rates.T, axis=0, return_inverse=True)
    if len(kinds) > _ALIKE:
        kinds, which = np.unique(np.round(rates.T, 12), axis=0, return_inverse=True)
    made = np.empty_like(masses)
    for k, kind in enumerate(kinds):
        turn = expm(length * (yields - np.eye(len(kind))) * kind)
        mine = slice(None) if len(kinds) == 1 else np.flatnonzero(which.ravel() == k)
        made[:, mine] = turn @ masses[:, mine]
    return made


def react(carried: Sequence[Carried], length: float) -> None:
    """Let all species decay for a while, in the water, on the ground and where they are held back."""
    names = [one.species.name for one in carried]
    if not any(max(one.species.decay) > 0.0 for one in carried):
        return
    yields = np.zeros((len(carried), len(carried)))
    for p, one in enumerate(carried):
        for daughter, share in one.species.daughters.items():
            yields[names.index(daughter), p] = share
    rates = [np.atleast_1d(one.decay()) for one in carried]
    n = max(len(r) for r in rates)
    rate = np.array([np.broadcast_to(r, n) for r in rates])
    before = [
        np.array([getattr(one, store) for one in carried]) for store in ("mass", "retained", "immobile")
    ]
    after = [decayed(stored, rate, yields, length) for stored in before]
    _react_in_conduits(carried, names, length)
    for k, one in enumerate(carried):
        kept = after[0][k].copy()
        kept[one.held] = before[0][k][one.held]
        lost = gained = 0.0
        for had, has in zip(before, after, strict=True):
            left = had[k] * np.exp(-rate[k] * length)
            some = ~one.held if had is before[0] else slice(None)
            lost += float((had[k] - left)[some].sum())
            gained += float((has[k] - left)[some].sum())
        one.book_decay(lost, gained)
        one.set_masses(kept, after[1][k], after[2][k])


def _react_in_conduits(carried: Sequence[Carried], names: Sequence[str], length: float) -> None:
    """The same in the water of conduits; what comes of it is spread over the water of each pipe."""
    lost = []
    for one in carried:
        if one.conduits is None:
            return
        one.conduits = one.conduits.copy()
        lost.append(one.conduits.water.decay(one.species.decay[0], length))
    for one, mass in zip(carried, lost, strict=True):
        one.book_decay(float(mass.sum()), 0.0)
        for daughter, share in one.species.daughters.items():
            other = carried[names.index(daughter)]
            assert other.conduits is not None  # all have them, or none has
            other.conduits.water.add(share * mass)
            other.book_decay(0.0, float(share * mass.sum()))
