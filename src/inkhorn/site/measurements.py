"""What was measured beside levels in observation bores: in wells, in time, between bores, in rivers, across lines."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import dates, one_date
from inkhorn.errors import InputError, check_finite, check_positive
from inkhorn.units import plain

__all__ = ["Measurement"]


@dataclass(frozen=True, kw_only=True, eq=False)
class Measurement:
    """Numbers of one kind that were measured at one place, at some times or as a mean.

    Say of what by one of `level_in`, `drawdown_in`, `between`, `gain_of` and `across`.

    Parameters
    ----------
    name : str
        What it is called.
    level_in : str, optional
        The water level in a well or collector, by its name [m].
    drawdown_in : str, optional
        By how much the level in a bore has fallen since some time, as in a pumping test [m].
    since : datetime64, str or float, optional
        Since when: a date, or days since the start of the run.
    between : (str, str), optional
        The level in the first of two bores less that in the second [m].
    gain_of : tuple of str, optional
        The water that these features together take from the aquifer: the gain of a reach, the flow of a spring or a
        drain, the rate that a well gets [m³/day].
    within : shapely Polygon, optional
        Of these features only what lies within it.
    across : shapely LineString, optional
        The flow to the left of a line, less that to the right [m³/day].
    layers : tuple of str
        Of that in these layers only.
    values : array_like of float, (n,)
        What was measured.
    times : array_like of datetime64, str or float, (n,), optional
        When; numbers are days since the start of the run, of a drawdown days since `since`. A value without a time is
        compared with steady flow.
    deviation : float or array_like of float, (n,), optional
        Standard deviation of the values.
    group : str
        With which others it is weighed.
    source : str
        Where it was read from, for messages.

    Examples
    --------
    >>> Measurement(name="gauge", gain_of=("brook",), values=[1900.0], deviation=200.0)
    Measurement('gauge': 1 × gain of brook)
    """

    name: str
    level_in: str | None = None
    drawdown_in: str | None = None
    since: Any = None
    between: tuple[str, str] | None = None
    gain_of: tuple[str, ...] = ()
    within: Any = field(default=None, repr=False)
    across: Any = field(default=None, repr=False)
    layers: tuple[str, ...] = ()
    values: Any = ()
    times: Any = None
    deviation: Any = None
    group: str = ""
    source: str = ""

    ways: ClassVar[tuple[str, ...]] = ("level_in", "drawdown_in", "between", "gain_of", "across")

    def __post_init__(self) -> None:
        given = [k for k in self.ways if getattr(self, k) not in (None, ())]
        if len(given) != 1:
            raise InputError(
                f"{self.where} is of one thing; got {given or 'none'}. Give one of {list(self.ways)}."
            )
        if (self.drawdown_in is None) != (self.since is None):
            raise InputError(
                f"{self.where}: a drawdown is one `since` some time, and nothing else is. Give both, or none."
            )
        if self.within is not None and not self.gain_of:
            raise InputError(
                f"{self.where}: only the gain of features is that `within` a polygon. Leave it out."
            )
        object.__setattr__(
            self, "gain_of", (self.gain_of,) if isinstance(self.gain_of, str) else tuple(self.gain_of)
        )
        object.__setattr__(self, "layers", tuple(self.layers))
        kind = "flow" if self.unit == "m³/day" else "elevation" if self.level_in else "length"
        values = np.atleast_1d(plain(self.values, kind, f"{self.where}: values"))
        object.__setattr__(
            self, "values", np.asarray(check_finite(f"{self.where}: values", values, unit=self.unit))
        )
        if not len(self.values):
            raise InputError(f"{self.where} has no value. Give at least one.")
        if self.times is not None:
            object.__setattr__(self, "times", self._times())
        if self.since is not None and not isinstance(self.since, int | float):
            object.__setattr__(self, "since", one_date(self.since, f"{self.where}: since"))
        if self.drawdown_in is not None and self.times is None:
            raise InputError(f"{self.where}: a drawdown is measured at some time. Give `times`.")
        if self.deviation is not None:
            own = np.asarray(
                plain(self.deviation, kind if kind == "flow" else "length", f"{self.where}: deviation")
            )
            if own.ndim and own.shape != self.values.shape:
                raise InputError(
                    f"{self.where} has {own.size} deviations and {len(self.values)} values; expected one for all, or "
                    "for each."
                )
            check_positive(f"{self.where}: deviation", np.where(np.isnan(own), 1.0, own), unit=self.unit)
            object.__setattr__(self, "deviation", own)

    def _times(self) -> NDArray[Any]:
        times = np.atleast_1d(np.asarray(self.times))
        if times.dtype.kind in "iuf":
            times = np.asarray(check_finite(f"{self.where}: times", times, unit="days"), dtype=np.float64)
        else:
            times = dates(times, f"{self.where}: times")
        if len(times) != len(self.values):
            raise InputError(
                f"{self.where} has {len(times)} times and {len(self.values)} values; expected one for each."
            )
        return times

    def __repr__(self) -> str:
        return f"Measurement({self.name!r}: {len(self.values)} × {self.words})"

    @property
    def where(self) -> str:
        """It in words, for messages."""
        return f'measurement "{self.name}"' + (f" ({self.source})" if self.source else "")

    @property
    def unit(self) -> str:
        """Of its values."""
        return "m³/day" if self.gain_of or self.across is not None else "m"

    @property
    def words(self) -> str:
        """What is measured."""
        if self.level_in:
            return f"level in {self.level_in}"
        if self.drawdown_in:
            return f"drawdown in {self.drawdown_in}"
        if self.between:
            return f"level in {self.between[0]} less that in {self.between[1]}"
        return f"gain of {', '.join(self.gain_of)}" if self.gain_of else "flow across a line"
