"""Random fields at any places, one value after the other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.fields.method import FieldMethod
from inkhorn.fields.places import Places

__all__ = ["Sequential"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_NEIGHBOURS = 64
_SMOOTHEST = 1.5
_AT_ONCE = 4000  # places whose systems are solved together


class Sequential(FieldMethod):
    """Draws each value after the nearest of those drawn before, far ones first and those between them later.

    So the precision matrix of all values together has a sparse root, whatever the curve and the mesh; drawing a field
    is one sweep. Covariances are those of the variogram to within a hundredth of the variance; so they are for curves
    that are rough at the origin and fall off evenly: the exponential one, and Matérn's up to a smoothness of 1.5.

    References
    ----------
    Guinness, J. (2018), Permutation and grouping methods for sharpening Gaussian process approximations, Technometrics
    60(4), 415-429.
    Vecchia, A. V. (1988), Estimation and model identification for continuous spatial processes, Journal of the Royal
    Statistical Society B 50(2), 297-312.
    """

    name = "sequential"

    def __init__(self, places: Places, points: Array | None = None) -> None:
        super().__init__(places, points)
        at = places.at_centres
        level = _from_coarse_to_fine(at)
        self.order = np.argsort(level, kind="stable")
        at, level = at[self.order], level[self.order]
        near = _earlier(at, level)
        curve = places.variogram
        n, most = near.shape
        trace = curve.sill * (1e-8 if curve.kind == "matern" else 1e-13)
        weight, left = np.zeros(near.shape), np.empty(n)
        for first in range(0, n, _AT_ONCE):
            some = near[first : first + _AT_ONCE]
            there = some >= 0
            place = at[np.where(there, some, 0)]
            apart = np.zeros((len(some), most, most))
            away = np.zeros((len(some), most))
            for axis in range(at.shape[1]):
                apart += (place[:, :, None, axis] - place[:, None, :, axis]) ** 2
                away += (place[:, :, axis] - at[first : first + len(some), None, axis]) ** 2
            among = curve.sill - curve.at(np.sqrt(apart))
            among *= there[:, :, None] & there[:, None, :]
            k = np.arange(most)
            among[:, k, k] = curve.sill + trace
            right = np.where(there, curve.sill - curve.at(np.sqrt(away)), 0.0)
            own = np.linalg.solve(among, right[:, :, None])[:, :, 0]
            weight[first : first + len(some)] = own
            left[first : first + len(some)] = curve.sill - (own * right).sum(axis=1)
        there = near >= 0
        self.first = np.concatenate([[0], np.cumsum(there.sum(axis=1))])
        self.neighbour, self.weight = near[there], weight[there]
        self.left = np.sqrt(np.maximum(left, 0.0))

    @classmethod
    def why_not(cls, places: Places) -> str | None:
        if places.support == "averages":
            return "its values are those at centres, and not means over cells"
        curve = places.variogram
        if curve.kind == "spherical":
            return "a curve that ends at its range is not told by nearest neighbours alone"
        if curve.kind == "gaussian" or (curve.kind == "matern" and curve.smoothness > _SMOOTHEST):
            return "values of so smooth a curve follow from neighbours but for rounding"
        return None

    def made(self, numbers: np.random.Generator) -> tuple[Array, Array]:
        from inkhorn.fields import _kernels

        found = np.empty(len(self.places))
        drawn = numbers.standard_normal(len(found))
        _kernels.after_neighbours(drawn, self.first, self.neighbour, self.weight, self.left)
        found[self.order] = drawn
        return found, np.empty(0)

    def covariance_times(self, vectors: Array) -> Array:
        from inkhorn.fields import _kernels

        found = np.empty(vectors.shape)
        for k in range(vectors.shape[1]):
            load = vectors[self.order, k]
            _kernels.before_neighbours(load, self.first, self.neighbour, self.weight, self.left)
            _kernels.after_neighbours(load, self.first, self.neighbour, self.weight, self.left)
            found[self.order, k] = load
        return found


def _from_coarse_to_fine(at: Array) -> Index:
    """The level of each place: of boxes halved again and again, that at which it is the first in its box."""
    n, d = at.shape
    low = at.min(axis=0)
    size = float(np.ptp(at, axis=0).max()) * (1.0 + 1e-9) or 1.0
    mixed = np.random.default_rng(0).permutation(n)  # which is the first must not follow rows
    level = np.full(n, -1)
    for step in range(40):
        box = ((at - low) / size * 2.0**step).astype(np.int64)
        key = box @ (np.int64(2) ** step + 1) ** np.arange(d) if step * d < 60 else np.arange(n)
        rank = np.lexsort((mixed, level < 0, key))  # those that have a level already keep their box
        begins = np.concatenate([[True], key[rank][1:] != key[rank][:-1]])
        new = rank[begins]
        level[new[level[new] < 0]] = step
        if (level >= 0).all():
            break
    return level


def _earlier(at: Array, level: Index) -> Index:
    """The nearest of those before each place, -1 where there are fewer, (n, _NEIGHBOURS)."""
    from scipy.spatial import KDTree

    n = len(at)
    found = np.full((n, _NEIGHBOURS), -1)
    ends = np.searchsorted(level, np.unique(level), "right")
    begin = 0
    for end in ends:
        tree = KDTree(at[:end])
        mine, count = np.arange(begin, end), 2 * _NEIGHBOURS
        while len(mine):
            count = min(count, int(end))
            for some in np.array_split(mine, -(-len(mine) // 100_000)):
                near = tree.query(at[some], k=count)[1].reshape(len(some), count)
                before = near < some[:, None]
                rank = np.cumsum(before, axis=1)
                kept = before & (rank <= _NEIGHBOURS)
                row, column = np.nonzero(kept)
                found[some[row], rank[row, column] - 1] = near[row, column]
            short = (found[mine] < 0).any(axis=1)
            mine = mine[short] if count < end else mine[:0]
            count *= 2
        begin = int(end)
    return found
