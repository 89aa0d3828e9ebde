"""Arrays that know what of the site they were made of: values, and their derivatives by the site's inputs.

Placing calculates with these as with plain arrays. So every array of a model keeps, as a sparse matrix, how it follows
from what was typed: a fit changes an input and needs no second placing.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["Traced", "concatenated", "plain", "where"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


class Traced:
    """An array and its derivative, both carried through sums, products, quotients, roots and indexing.

    Parameters
    ----------
    values : array_like of float
        (n,) or (n_periods, n).
    row, column : ndarray of int, (m,)
        Of each entry of the derivative: which value, counted through the array row by row and rising; which input of
        the site, by its number.
    slope : ndarray of float, (m,)
        Derivative of the one by the other; repeats add up.
    """

    __array_ufunc__ = None  # let plain arrays leave products to this class
    __slots__ = ("column", "row", "slope", "values")

    def __init__(
        self,
        values: ArrayLike,
        row: Index | None = None,
        column: Index | None = None,
        slope: Array | None = None,
    ) -> None:
        self.values = np.asarray(values, dtype=np.float64)
        none = np.empty(0, np.int64)
        self.row = none if row is None else row
        self.column = none if column is None else column
        self.slope = np.empty(0) if slope is None else slope

    @property
    def shape(self) -> tuple[int, ...]:
        return self.values.shape

    @property
    def ndim(self) -> int:
        return self.values.ndim

    def __len__(self) -> int:
        return len(self.values)

    def __repr__(self) -> str:
        return f"Traced({self.shape}, {len(np.unique(self.column))} inputs)"

    def _picked(self, values: Array, places: Index) -> Traced:
        """Values taken from here, each from one place of this array counted row by row."""
        if not len(self.row):
            return Traced(values)
        if len(self.row) == self.values.size and (self.row == np.arange(len(self.row))).all():
            return Traced(values, np.arange(len(places)), self.column[places], self.slope[places])
        first = np.searchsorted(self.row, places, "left")
        count = np.searchsorted(self.row, places, "right") - first
        total = int(count.sum())
        at = np.repeat(first - (np.cumsum(count) - count), count) + np.arange(total)
        row = np.repeat(np.arange(len(places)), count)
        return Traced(values, row, self.column[at], self.slope[at])

    def spread(self, shape: tuple[int, ...]) -> Traced:
        """Return it repeated to a shape, as NumPy broadcasts."""
        if shape == self.shape:
            return self
        if self.values.size == 1 and len(self.row) <= 1:
            n = int(np.prod(shape))
            values = np.full(shape, self.values.ravel()[0])
            if not len(self.row):
                return Traced(values)
            return Traced(values, np.arange(n), np.full(n, self.column[0]), np.full(n, self.slope[0]))
        places = np.broadcast_to(np.arange(self.values.size).reshape(self.shape), shape)
        return self._picked(np.array(np.broadcast_to(self.values, shape)), places.ravel())

    def __getitem__(self, index: Any) -> Traced:
        places = np.arange(self.values.size).reshape(self.shape)[index]
        return self._picked(self.values[index], np.ravel(places))

    def _scaled(self, values: Array, factor: Array) -> Traced:
        """Values whose derivative is that of this array times a factor, one for all or one for each value."""
        if factor.ndim == 0:
            return Traced(values, self.row, self.column, self.slope * factor)
        return Traced(values, self.row, self.column, self.slope * np.ravel(factor)[self.row])

    def _joined(self, values: Array, mine: Array, other: Traced, its: Array) -> Traced:
        """Values that follow from two arrays, with the derivatives by each."""
        one, two = self._scaled(values, mine), other._scaled(values, its)
        if not len(two.row):
            return one
        if not len(one.row):
            return two
        row = np.concatenate([one.row, two.row])
        order = np.argsort(row, kind="stable")
        column, slope = (
            np.concatenate([getattr(one, k), getattr(two, k)])[order] for k in ("column", "slope")
        )
        return Traced(values, row[order], column, slope)

    def _with(self, other: Any) -> tuple[Traced, Traced | Array]:
        """Both spread to one shape; a plain array stays one, for its derivative need not be carried."""
        two = other if isinstance(other, Traced) else np.asarray(other, dtype=np.float64)
        if two.shape == self.shape or two.ndim == 0:
            return self, two
        shape = np.broadcast_shapes(self.shape, two.shape)
        return self.spread(shape), two.spread(shape) if isinstance(two, Traced) else np.broadcast_to(
            two, shape
        )

    def __add__(self, other: Any) -> Traced:
        a, b = self._with(other)
        if not isinstance(b, Traced):
            return Traced(a.values + b, a.row, a.column, a.slope)
        one = np.ones(a.shape)
        return a._joined(a.values + b.values, one, b, one)

    __radd__ = __add__

    def __neg__(self) -> Traced:
        return Traced(-self.values, self.row, self.column, -self.slope)

    def __sub__(self, other: Any) -> Traced:
        return self + (-other)

    def __rsub__(self, other: Any) -> Traced:
        return (-self) + other

    def __mul__(self, other: Any) -> Traced:
        a, b = self._with(other)
        if not isinstance(b, Traced):
            return a._scaled(a.values * b, b)
        return a._joined(a.values * b.values, b.values, b, a.values)

    __rmul__ = __mul__

    def __truediv__(self, other: Any) -> Traced:
        a, b = self._with(other)
        if not isinstance(b, Traced):
            return a * (1.0 / b)
        return a._joined(a.values / b.values, 1.0 / b.values, b, -a.values / b.values**2)

    def __rtruediv__(self, other: Any) -> Traced:
        inverse = 1.0 / self.values
        return self._scaled(inverse, -(inverse**2)) * other

    def sqrt(self) -> Traced:
        """Return its square root."""
        root = np.sqrt(self.values)
        return self._scaled(root, 0.5 / root)

    def log(self) -> Traced:
        """Return its natural logarithm."""
        return self._scaled(np.log(self.values), 1.0 / self.values)

    def exp(self) -> Traced:
        """Return the power of e."""
        power = np.exp(self.values)
        return self._scaled(power, power)

    def times(self, matrix: Any) -> Traced:
        """Return a sparse matrix (m, n) times it, of values that do not change in time."""
        from scipy.sparse import coo_array

        made = matrix.tocsr()
        highest = int(self.column.max(initial=0)) + 1
        own = coo_array((self.slope, (self.row, self.column)), shape=(len(self), highest)).tocsr()
        by = (made @ own).tocsr()
        row = np.repeat(np.arange(made.shape[0]), np.diff(by.indptr))
        return Traced(made @ self.values, row, by.indices.astype(np.int64), by.data)

    def at_least(self, least: float) -> Traced:
        """Return it, but no less than a number, where the derivative ends."""
        return self._scaled(np.maximum(self.values, least), (self.values >= least).astype(np.float64))

    def summed(self, group: Index, count: int) -> Traced:
        """Return the sums over groups of the last axis, (..., count)."""
        n = self.shape[-1]
        period = np.repeat(np.arange(self.values.size // max(n, 1)), n)
        to = period * count + np.tile(group, self.values.size // max(n, 1))
        values = np.bincount(to, self.values.ravel(), count * (self.values.size // max(n, 1)))
        row = to[self.row]
        order = np.argsort(row, kind="stable")
        return Traced(
            values.reshape(*self.shape[:-1], count), row[order], self.column[order], self.slope[order]
        )

    def matrix(self, n_inputs: int) -> Any:
        """Return the derivative as a sparse matrix, (n_values, n_inputs)."""
        from scipy.sparse import coo_array

        entries = (self.slope, (self.row, self.column))
        return coo_array(entries, shape=(self.values.size, n_inputs)).tocsr()


def plain(values: Any) -> Array:
    """Return the values alone, of a traced array or of a plain one."""
    return values.values if isinstance(values, Traced) else np.asarray(values, dtype=np.float64)


def concatenated(parts: Sequence[Any]) -> Traced:
    """Join arrays along their last axis; those that do not change in time are the same in each period."""
    traced = [p if isinstance(p, Traced) else Traced(p) for p in parts]
    periods = max((p.shape[0] for p in traced if p.ndim == 2), default=0)
    lead = (periods,) if periods else ()
    traced = [p.spread((*lead, p.shape[-1])) for p in traced]
    values = np.concatenate([p.values for p in traced], axis=-1)
    places = np.arange(values.size).reshape(values.shape)
    rows, begin = [], 0
    for p in traced:
        rows.append(places[..., begin : begin + p.shape[-1]].ravel()[p.row])
        begin += p.shape[-1]
    row = np.concatenate([np.empty(0, np.int64), *rows])
    order = np.argsort(row, kind="stable")
    column = np.concatenate([np.empty(0, np.int64), *(p.column for p in traced)])[order]
    slope = np.concatenate([np.empty(0), *(p.slope for p in traced)])[order]
    return Traced(values, row[order], column, slope)


def where(chosen: Any, one: Any, other: Any) -> Traced:
    """Return values of one array where chosen, of the other elsewhere."""
    a, b = (v if isinstance(v, Traced) else Traced(v) for v in (one, other))
    shape = np.broadcast_shapes(np.shape(chosen), a.shape, b.shape)
    a, b, chosen = a.spread(shape), b.spread(shape), np.broadcast_to(chosen, shape)
    values = np.where(chosen, a.values, b.values)
    kept = [(p, chosen.ravel()[p.row] == yes) for p, yes in ((a, True), (b, False))]
    row, column, slope = (
        np.concatenate([getattr(p, k)[mask] for p, mask in kept]) for k in ("row", "column", "slope")
    )
    order = np.argsort(row, kind="stable")
    return Traced(values, row[order], column[order], slope[order])
