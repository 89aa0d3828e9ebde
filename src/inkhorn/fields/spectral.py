"""Random fields at any places, as sums of waves of random length and direction."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.fields.method import FieldMethod
from inkhorn.fields.places import Places
from inkhorn.space import Variogram

__all__ = ["Spectral"]

Array = NDArray[np.float64]

_BLOCK = 2_000_000  # waves at places, held in memory at once


def _directions(numbers: np.random.Generator, n: int, d: int) -> Array:
    z = numbers.standard_normal((n, d))
    return np.asarray(z / np.linalg.norm(z, axis=1)[:, None])


def _of_ball(numbers: np.random.Generator, n: int) -> Array:
    """Lengths with the density of the squared spherical Bessel function of order one, by rejection, (n,)."""
    found: list[Array] = []
    most, cut = 1.14, 1.5  # x² j1(x)² stays below the first, j1² below it over the square of the second
    inner = 1.0 / cut**2 * cut  # area below the envelope to the left of the cut, and as much to the right
    count = 0
    while count < n:
        u, keep = numbers.random((2, 2 * n))
        left = u < 0.5
        x = np.where(left, 2.0 * u * cut, cut / np.maximum(2.0 * (1.0 - u), 1e-300))
        height = most * np.where(left, inner / cut, 1.0 / x**2)
        j1 = np.sin(x) / x**2 - np.cos(x) / x
        small = x < 1e-3
        j1[small] = x[small] / 3.0
        kept = x[keep * height < j1**2]
        found.append(kept)
        count += len(kept)
    return np.concatenate(found)[:n]


def waves(variogram: Variogram, numbers: np.random.Generator, n: int, d: int) -> Array:
    """Return wave vectors that follow the spectrum of a variogram, for places measured in ranges, (n, d)."""
    if variogram.kind == "gaussian":  # of exp(-3 h²)
        return np.sqrt(6.0) * numbers.standard_normal((n, d))
    if (
        variogram.kind == "spherical"
    ):  # two balls of half the range that overlap; what is in a plane of space follows
        return np.asarray(2.0 * _of_ball(numbers, n)[:, None] * _directions(numbers, n, 3)[:, :d])
    kappa, nu = 3.0, 0.5  # the exponential one is Matérn's of smoothness one half
    if variogram.kind == "matern":
        kappa, nu = variogram.kappa * variogram.range, variogram.smoothness
    z = numbers.standard_normal((n, d))
    return np.asarray(kappa * z / np.sqrt(numbers.chisquare(2.0 * nu, (n, 1))))


class Spectral(FieldMethod):
    """Adds waves whose vectors follow the spectrum, with amplitudes of their own: for any mesh and any curve that ends.

    Whatever the number of waves, mean and covariance over many fields are exact; one field alone is the more like a
    Gaussian one the more there are.

    References
    ----------
    Heße, F., Prykhodko, V., Schlüter, S. and Attinger, S. (2014), Generating random fields with a truncated
    power-law variogram: a comparison of several numerical methods, Environmental Modelling & Software 55, 32-48.
    Kraichnan, R. H. (1970), Diffusion by a random velocity field, Physics of Fluids 13(1), 22-31.
    """

    name = "spectral"

    def __init__(self, places: Places, points: Array | None = None, count: int = 1000) -> None:
        super().__init__(places, points)
        self.count = count

    @classmethod
    def why_not(cls, places: Places) -> str | None:
        return None

    def made(self, numbers: np.random.Generator) -> tuple[Array, Array]:
        inside, rows = self.places.within
        every = np.concatenate([inside, self.points])
        k = waves(self.places.variogram, numbers, self.count, every.shape[1])
        a, b = numbers.standard_normal((2, self.count))
        size, phase = np.hypot(a, b), np.arctan2(b, a)
        found = np.empty(len(every))
        block = max(1, _BLOCK // self.count)
        for first in range(0, len(every), block):
            some = every[first : first + block]
            turn = some[:, 0, None] * k[:, 0]
            for axis in range(1, every.shape[1]):
                turn += some[:, axis, None] * k[:, axis]
            turn -= phase
            np.cos(turn, out=turn)
            turn *= size
            found[first : first + block] = turn.sum(axis=1)
        found *= np.sqrt(self.places.variogram.sill / self.count)
        return np.asarray(rows @ found[: len(inside)]), found[len(inside) :]
