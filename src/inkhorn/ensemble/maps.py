"""Maps of what many runs say: accumulated run by run in bounded memory."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError

__all__ = ["MapStatistics", "WatchMap"]

Array = NDArray[np.float64]

_FIRST = 50  # runs whose values are all kept, and by which classes are laid
_CLASSES = 60
_WIDER = 1.0  # spreads of the first runs that classes reach beyond them, on either side


@dataclass(frozen=True, kw_only=True, eq=False)
class WatchMap:
    """A map of each run: of an input or result in a layer, or of where water is captured from.

    Parameters
    ----------
    name : str
        What it is called.
    of : str
        ``"head"``, ``"concentration"``, ``"pore velocity"`` or whatever `Watch.value` takes; or ``"capture"``: 1 where a
        path that is followed passes, 0 elsewhere, so that its mean is the chance.
    layer : str
        In which; the greatest of all layers if not given.
    time : float, datetime64 or str, optional
        Days since the start, or a date; the end if not given.
    species, paths : str
        Which, where there are several.
    limit : float, optional
        Of which the chance is told that it is passed; of concentrations that of the species if not given.
    within : float, optional
        Of captured water that which takes no longer [day].
    start : tuple of str
        Of paths that begin at these wells only.
    """

    name: str
    of: str = "head"
    layer: str = ""
    time: Any = None
    species: str = ""
    paths: str = ""
    limit: float | None = None
    within: float | None = None
    start: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "start", (self.start,) if isinstance(self.start, str) else tuple(self.start))
        if (self.within is not None or self.start) and self.of != "capture":
            raise InputError(f'{self.where}: only what is of "capture" is `within` a time or of a `start`.')

    @property
    def where(self) -> str:
        """It in words, for messages."""
        return f'map "{self.name}"'

    @property
    def of_solute(self) -> bool:
        """Whether it is of what is dissolved."""
        return self.of == "concentration"


@dataclass(eq=False)
class MapStatistics:
    """Mean, deviation, extremes, the chance of passing a limit, and quantiles of a map, run by run.

    Mean and deviation are reckoned as Welford (1962) does. For quantiles the values of the first runs are kept; then each
    place has classes about as wide as these make them, and counts how many fall into each. So a quantile is off by at
    most the width of one class, which `quantile` tells.

    Attributes
    ----------
    limit : float or None
    count : ndarray of int, (n,)
        Runs that had a value.
    mean, square, least, greatest : ndarray of float, (n,)
        ``square`` is the sum of squared differences from the mean.
    above : ndarray of int, (n,)
        Runs above the limit.

    References
    ----------
    Welford, B. P. (1962), Note on a method for calculating corrected sums of squares and products, Technometrics 4(3),
    419-420.
    """

    limit: float | None
    count: NDArray[np.int64]
    mean: Array = field(repr=False)
    square: Array = field(repr=False)
    least: Array = field(repr=False)
    greatest: Array = field(repr=False)
    above: NDArray[np.int64] = field(repr=False)
    first: list[Array] = field(repr=False, default_factory=list)
    low: Array | None = field(repr=False, default=None)
    width: Array | None = field(repr=False, default=None)
    classes: NDArray[np.int32] | None = field(repr=False, default=None)

    @classmethod
    def empty(cls, n: int, limit: float | None) -> MapStatistics:
        """Return one of no run yet, over `n` places."""
        return cls(
            limit, np.zeros(n, np.int64), np.zeros(n), np.zeros(n), np.full(n, np.inf), np.full(n, -np.inf),
            np.zeros(n, np.int64),
        )  # fmt: skip

    def add(self, values: Array) -> None:
        """Take in the map of one more run."""
        there = np.isfinite(values)
        self.count += there
        off = np.where(there, values - self.mean, 0.0)
        self.mean += off / np.maximum(self.count, 1)
        self.square += np.where(there, off * (values - self.mean), 0.0)
        self.least = np.where(there, np.minimum(self.least, values), self.least)
        self.greatest = np.where(there, np.maximum(self.greatest, values), self.greatest)
        if self.limit is not None:
            self.above += there & (values > self.limit)
        if self.classes is None:
            self.first.append(values.copy())
            if len(self.first) == _FIRST:
                self._lay_classes()
        else:
            self._sort_in(values)

    def _lay_classes(self) -> None:
        kept = np.array(self.first)
        low, high = np.where(self.count > 0, self.least, 0.0), np.where(self.count > 0, self.greatest, 0.0)
        wide = np.maximum(high - low, 1e-12 * np.maximum(np.abs(low), np.abs(high)))
        self.low = low - _WIDER * wide
        self.width = np.maximum((1.0 + 2.0 * _WIDER) * wide / _CLASSES, 1e-300)
        self.classes = np.zeros((_CLASSES + 2, kept.shape[1]), dtype=np.int32)
        for values in kept:
            self._sort_in(values)
        self.first = []

    def _sort_in(self, values: Array) -> None:
        """Count values into their classes, the first and the last for what lies beyond."""
        assert self.low is not None
        assert self.width is not None
        assert self.classes is not None
        place = np.flatnonzero(np.isfinite(values))
        rank = np.floor((values[place] - self.low[place]) / self.width[place])
        number = np.clip(rank + 1.0, 0.0, _CLASSES + 1.0).astype(np.int64)
        self.classes[number, place] += 1

    @property
    def deviation(self) -> Array:
        """Standard deviation, (n,); NaN of fewer than two runs."""
        return np.sqrt(np.where(self.count > 1, self.square / np.maximum(self.count - 1, 1), np.nan))

    @property
    def mean_error(self) -> Array:
        """Standard error of the mean, (n,)."""
        return np.asarray(self.deviation / np.sqrt(np.maximum(self.count, 1)))

    @property
    def average(self) -> Array:
        """The mean, NaN where no run had a value, (n,)."""
        return np.where(self.count > 0, self.mean, np.nan)

    @property
    def chance(self) -> Array:
        """Share of runs above the limit, (n,)."""
        return np.where(self.count > 0, self.above / np.maximum(self.count, 1), np.nan)

    @property
    def chance_error(self) -> Array:
        """Standard error of that share, (n,)."""
        p = self.chance
        return np.sqrt(p * (1.0 - p) / np.maximum(self.count, 1))

    def quantile(self, share: float) -> tuple[Array, Array]:
        """Return the value below which a share of runs lies, and by how much it may be off for its classes, (n,) each."""
        if self.classes is None:
            if not self.first:
                return np.full(len(self.mean), np.nan), np.zeros(len(self.mean))
            kept = np.array(self.first)
            order = np.sort(kept, axis=0)  # NaN last
            rank = share * np.maximum(self.count - 1, 0)
            low = np.floor(rank).astype(np.int64)
            high = np.minimum(low + 1, np.maximum(self.count - 1, 0))
            column = np.arange(kept.shape[1])
            part = rank - low
            found = order[low, column] + part * (order[high, column] - order[low, column])
            return np.where(self.count > 0, found, np.nan), np.zeros(len(found))
        assert self.low is not None
        assert self.width is not None
        reached = np.cumsum(self.classes, axis=0)
        wanted = share * self.count
        number = np.argmax(reached >= np.maximum(wanted, 0.5)[None, :], axis=0)
        column = np.arange(len(self.count))
        before = np.where(number > 0, reached[number - 1, column], 0)
        inside = np.clip((wanted - before) / np.maximum(self.classes[number, column], 1), 0.0, 1.0)
        last = self.low + _CLASSES * self.width
        begin = np.where(number == 0, self.least, self.low + (number - 1) * self.width)
        end = np.where(number == 0, self.low, begin + self.width)
        begin = np.where(number == _CLASSES + 1, last, begin)
        end = np.where(number == _CLASSES + 1, self.greatest, end)
        seen = self.count > 0
        begin = np.where(seen, np.maximum(begin, self.least), 0.0)
        end = np.where(seen, np.minimum(end, self.greatest), 0.0)
        found = begin + inside * (end - begin)
        return np.where(seen, found, np.nan), np.where(seen, end - begin, np.nan)
