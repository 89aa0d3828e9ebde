"""Random fields on even lattices, exact and fast, by the Fourier transform."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.fields.method import FieldMethod
from inkhorn.fields.places import Lattice, Places
from inkhorn.space import Variogram
from inkhorn.threads import processors

__all__ = ["Circulant"]

Array = NDArray[np.float64]

_MOST = 2**24  # points of the embedding lattice, times layers
_MOST_PER_CELL = 64  # points of the lattice for each place
_NEGATIVE = 1e-9  # of the sum of all, that rounding may leave below 0
_BESIDE = 3  # cells apart, below which means over them need close integration


def _tent(order: int, size: float) -> tuple[Array, Array]:
    """Differences of two even places within one length, and their weights: Gauss's points on either side of 0."""
    x, w = np.polynomial.legendre.leggauss(order)
    u = 0.5 * (x + 1.0)
    weight = 0.5 * w * (1.0 - u)
    return size * np.concatenate([-u[::-1], u]), np.concatenate([weight[::-1], weight])


class _Covariance:
    """The covariance of values of a lattice by their distance along its axes."""

    def __init__(self, variogram: Variogram, lattice: Lattice, averages: bool) -> None:
        self.variogram, self.lattice, self.averages = variogram, lattice, averages

    def _plain(self, u: Array, v: Array, height: float) -> Array:
        cos, sin = np.cos(self.lattice.turn), np.sin(self.lattice.turn)
        shape = u.shape
        x, y = (cos * u - sin * v).ravel(), (sin * u + cos * v).ravel()
        place = self.variogram.stretched(x, y, np.full(x.shape, height))
        apart = np.sqrt(sum(place[:, k] ** 2 for k in range(place.shape[1])))
        return (self.variogram.sill - self.variogram.at(apart)).reshape(shape)

    def at(self, column: Array, row: Array, height: float) -> Array:
        """Return it for whole numbers of columns and rows and a height apart."""
        dx, dy = self.lattice.spacing
        u, v = np.broadcast_arrays(dx * column, dy * row)
        if not self.averages:
            return self._plain(u, v, height)
        found = np.zeros(u.shape)
        near = np.broadcast_to((np.abs(column) <= _BESIDE) & (np.abs(row) <= _BESIDE), u.shape)
        for mask, order in ((near, 12), (~near, 2)):
            (au, wu), (av, wv) = _tent(order, dx), _tent(order, dy)
            some_u, some_v, total = u[mask], v[mask], np.zeros(int(mask.sum()))
            for i in range(len(au)):
                for j in range(len(av)):
                    total += wu[i] * wv[j] * self._plain(some_u + au[i], some_v + av[j], height)
            found[mask] = total
        return found


def _are_even(levels: Array) -> bool:
    """Whether layers are as far apart everywhere."""
    steps = np.diff(levels)
    return len(steps) == 0 or bool(np.allclose(steps, steps.mean(), rtol=1e-6))


def _below(values: Array) -> float:
    """What is below 0 of all, which would be taken as 0."""
    return float(-np.minimum(values, 0.0).sum() / np.abs(values).sum())


class Circulant(FieldMethod):
    """Embeds the lattice in a larger one that closes upon itself, where the covariance is diagonal in Fourier space.

    Where layers that have to do with each other are as far apart everywhere they are one more direction of the lattice;
    otherwise they are joined by small matrices, one for each wave.

    References
    ----------
    Dietrich, C. R. and Newsam, G. N. (1997), Fast and exact simulation of stationary Gaussian processes through
    circulant embedding of the covariance matrix, SIAM Journal on Scientific Computing 18(4), 1088-1107.
    """

    name = "circulant"

    def __init__(self, places: Places, points: Array | None = None, like: Circulant | None = None) -> None:
        super().__init__(places, points)
        self.shape: tuple[int, int, int]
        self.root: Any
        lattice = places.lattice
        assert lattice is not None  # why_not looked
        self.lattice = lattice
        levels, self.level = np.unique(places.level, return_inverse=True)
        if not places.heights_matter:
            levels, self.level = np.zeros(1), np.zeros(len(places), dtype=np.int64)
        self.levels = levels
        if like is not None and like.fits(self):
            self.shape, self.root = like.shape, like.root
        else:
            self.shape, self.root = self._embedded()

    def fits(self, other: Circulant) -> bool:
        """Whether another has the same lattice and layers, so that what was made of them holds there too."""
        a, b = self.lattice, other.lattice
        return (
            a.shape == b.shape
            and bool(np.allclose([*a.spacing, a.turn], [*b.spacing, b.turn], rtol=1e-9, atol=1e-12))
            and len(self.levels) == len(other.levels)
            and bool(np.allclose(np.diff(self.levels), np.diff(other.levels)))
        )

    @classmethod
    def why_not(cls, places: Places) -> str | None:
        lattice = places.lattice
        if lattice is None:
            return "the centres of cells lie on no even lattice"
        if places.support == "averages" and not places.alike:
            return "means over cells need rectangles that are all alike"
        layers = len(np.unique(places.level)) if places.heights_matter else 1
        if places.by_elevation and places.heights_matter and layers > len(np.unique(places.layer)):
            return "heights are those of single cells, and not of whole layers"
        size = lattice.shape[0] * lattice.shape[1]
        joined = 8 * layers if _are_even(np.unique(places.level)) else 4 * layers**2
        if size * joined > 2 * _MOST or size * layers > _MOST_PER_CELL * len(places) + 10_000:
            return f"the lattice that all centres lie on has {size} points in each of {layers} layers"
        return None

    def _embedded(self) -> tuple[tuple[int, int, int], Any]:
        """The shape of the larger lattice, and the root of its covariance for each wave: numbers, or small matrices."""
        from scipy.fft import next_fast_len

        even = _are_even(self.levels)
        count = (len(self.levels) if even else 1, *self.lattice.shape)
        grown = 1.0
        while True:
            size = [
                1 if n == 1 else next_fast_len(int(np.ceil(grown * max(2 * n - 1, 3))), real=True)
                for n in count
            ]
            joined = 1 if even else len(self.levels) ** 2
            if size[0] * size[1] * size[2] * joined > 3 * _MOST:
                raise InputError(
                    "fields cannot be made by the method circulant here: the range of the "
                    f"{self.places.variogram.kind} variogram is too long for the {count[1]} × {count[2]} lattice, which "
                    f"would have to be embedded in one of more than {size[1]} × {size[2]}. Use the method spectral."
                )
            shape = (size[0] if even else len(self.levels), size[1], size[2])
            found, negative = self._of_one_law(shape) if even else self._of_layers(shape)
            if negative <= _NEGATIVE:
                return shape, found
            grown *= 1.5

    def _law(self, shape: tuple[int, int, int], height: float) -> Array:
        """The covariance with the first place of the larger lattice, for layers a height apart, (rows, columns)."""

        def lags(n: int) -> Array:
            k = np.arange(n)
            return np.where(k <= n // 2, k, k - n).astype(np.float64)

        row, column = lags(shape[1])[:, None], lags(shape[2])[None, :]
        law = _Covariance(self.places.variogram, self.lattice, self.places.support == "averages")
        return law.at(column, row, height)

    def _of_one_law(self, shape: tuple[int, int, int]) -> tuple[Array, float]:
        """Roots for every wave of a lattice whose layers are even, and the share of what is below 0."""
        from scipy.fft import rfftn

        step = float(self.levels[1] - self.levels[0]) if len(self.levels) > 1 else 0.0
        half = [self._law(shape, step * k) for k in range(shape[0] // 2 + 1)]
        covariance = np.stack([half[min(k, shape[0] - k)] for k in range(shape[0])])
        values = rfftn(covariance, workers=processors(), overwrite_x=True).real
        return np.sqrt(np.maximum(values, 0.0)), _below(values)

    def _of_layers(self, shape: tuple[int, int, int]) -> tuple[Array, float]:
        """Symmetric roots of the small matrices that join the layers, (rows, columns / 2 + 1, layers, layers)."""
        from scipy.fft import rfft2

        count, known = shape[0], {}
        spectrum = np.empty((shape[1], shape[2] // 2 + 1, count, count))
        for a in range(count):
            for b in range(a + 1):
                height = round(float(self.levels[a] - self.levels[b]), 9)
                if height not in known:
                    known[height] = rfft2(self._law(shape, height), workers=processors()).real
                spectrum[:, :, a, b] = spectrum[:, :, b, a] = known[height]
        values, vectors = np.linalg.eigh(spectrum)
        root = (vectors * np.sqrt(np.maximum(values, 0.0))[..., None, :]) @ vectors.swapaxes(-1, -2)
        return root, _below(values)

    def _shaped(self, white: Array) -> Array:
        """The root of the covariance times numbers over the larger lattice, (layers, rows, columns)."""
        from scipy.fft import irfftn, rfftn

        axes = (0, 1, 2) if self.root.ndim == 3 else (1, 2)
        wave = rfftn(white, axes=axes, workers=processors())
        if self.root.ndim == 3:
            wave *= self.root
        else:
            wave = np.einsum("rcab,brc->arc", self.root, wave)
        sizes = [self.shape[k] for k in axes]
        return np.asarray(irfftn(wave, s=sizes, axes=axes, workers=processors(), overwrite_x=True))

    def made(self, numbers: np.random.Generator) -> tuple[Array, Array]:
        field = self._shaped(numbers.standard_normal(self.shape))
        return field[self.level, self.lattice.row, self.lattice.column], np.empty(0)

    def covariance_times(self, vectors: Array) -> Array:
        found = np.empty_like(vectors)
        for k in range(vectors.shape[1]):
            whole = np.zeros(self.shape)
            np.add.at(whole, (self.level, self.lattice.row, self.lattice.column), vectors[:, k])
            twice = self._shaped(self._shaped(whole))
            found[:, k] = twice[self.level, self.lattice.row, self.lattice.column]
        return found
