"""What is watched from run to run: any input or result at a place, in a bore or well, across a line, over a limit."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, did_you_mean

__all__ = ["Watch"]

Array = NDArray[np.float64]

_WATER = ("level_at", "level_in", "drawdown_in", "between", "gain_of", "across")
_SOLUTE = ("concentration_at", "concentration_in", "highest_in", "passed_in", "mass_across", "above_limit")
_ABOVE = ("area", "ground", "water", "mass", "reach", "highest")
_ABOVE_UNITS = {"area": "m²", "ground": "m³", "water": "m³", "mass": "kg", "reach": "m", "highest": "g/m³"}


@dataclass(frozen=True, kw_only=True, eq=False)
class Watch:
    """A number of each run, or one at each of some times.

    Say of what by one of the following; places are (x, y) [m].

    Parameters
    ----------
    name : str
        What it is called.
    level_at : (float, float), optional
        The head at a place in a layer [m].
    level_in : str, optional
        The water level in a bore, a well or a collector [m].
    drawdown_in : str, optional
        By how much the level in a bore has fallen since some time [m].
    since : datetime64, str or float, optional
        Since when.
    between : (str, str), optional
        The level in the first of two bores less that in the second [m].
    gain_of : tuple of str, optional
        Water that these features together take from the aquifer [m³/day].
    within : shapely Polygon, optional
        Of these features only what lies within it.
    across : shapely LineString, optional
        The flow to the left of a line, less that to the right [m³/day].
    value_at : (float, float), optional
        Something else of the cell at a place in a layer, told by `value`.
    value : str
        What: an input such as ``"horizontal_conductivity"``, ``"Darcy flux"`` or ``"pore velocity"`` (in plan; with
        ``" along x"``, ``" along y"``, ``" along z"`` a component), or ``"filled share"``; with ``"ln "`` before it its
        natural logarithm.
    concentration_at : (float, float), optional
        At a place in a layer [g/m³].
    concentration_in : str, optional
        In a bore, or in the water that a well or another feature takes [g/m³].
    highest_in : str, optional
        The highest of that in all time [g/m³].
    passed_in : str, optional
        When that first passes the limit, since the start [day]; a run in which it does not has none.
    mass_across : shapely LineString, optional
        What is carried to the left of a line, less that to the right, as a mean since the time kept before [kg/day].
    above_limit : str, optional
        Of what lies above the limit the ``"area"`` [m²], ``"ground"`` or ``"water"`` [m³], ``"mass"`` [kg] or
        ``"reach"`` from where it began [m]; or the ``"highest"`` concentration [g/m³].
    travel_time_of : str, optional
        Of the paths that begin there: the time within which a share of their water has come or gone all the way [day].
    share : float
        Which share; 0.5 is half of the water.
    layer : str
        Of a place.
    layers : tuple of str
        Of features and lines in these layers only.
    species, paths : str
        Which, where there are several.
    limit : float, optional
        [g/m³] of a concentration, that of its species if not given; of anything else a number of which the share of runs
        above it is told, in its unit.
    times : sequence of float, datetime64 or str
        When: days since the start or dates; at the end if not given.

    Examples
    --------
    >>> Watch(name="chloride of the hatchery", concentration_in="hatchery", times=[3650, 7300])
    Watch('chloride of the hatchery': concentration in hatchery)
    """

    name: str
    level_at: tuple[float, float] | None = None
    level_in: str | None = None
    drawdown_in: str | None = None
    since: Any = None
    between: tuple[str, str] | None = None
    gain_of: tuple[str, ...] = ()
    within: Any = field(default=None, repr=False)
    across: Any = field(default=None, repr=False)
    value_at: tuple[float, float] | None = None
    value: str = ""
    concentration_at: tuple[float, float] | None = None
    concentration_in: str | None = None
    highest_in: str | None = None
    passed_in: str | None = None
    mass_across: Any = field(default=None, repr=False)
    above_limit: str | None = None
    travel_time_of: str | None = None
    share: float = 0.5
    layer: str = ""
    layers: tuple[str, ...] = ()
    species: str = ""
    paths: str = ""
    limit: float | None = None
    times: Any = ()

    ways: ClassVar[tuple[str, ...]] = (*_WATER, "value_at", *_SOLUTE, "travel_time_of")

    def __post_init__(self) -> None:
        object.__setattr__(
            self, "gain_of", (self.gain_of,) if isinstance(self.gain_of, str) else tuple(self.gain_of)
        )
        object.__setattr__(self, "layers", tuple(self.layers))
        object.__setattr__(
            self, "times", tuple(np.atleast_1d(self.times).tolist() if len(self.times) else ())
        )
        given = [k for k in self.ways if getattr(self, k) not in (None, ())]
        if len(given) != 1:
            raise InputError(
                f"{self.where} is of one thing; got {given or 'none'}. Give one of {list(self.ways)}."
            )
        if (self.drawdown_in is None) != (self.since is None):
            raise InputError(
                f"{self.where}: a drawdown is one `since` some time, and nothing else is. Give both, or none."
            )
        for key in ("level_at", "value_at", "concentration_at"):
            if getattr(self, key) is not None and not self.layer:
                raise InputError(f"{self.where}: a place is one in a layer. Give `layer`.")
        if (self.value_at is None) != (not self.value):
            raise InputError(f"{self.where}: `value_at` and `value` go together. Give both, or none.")
        if self.within is not None and not self.gain_of:
            raise InputError(f"{self.where}: only the gain of features is that `within` a polygon.")
        if self.above_limit is not None and self.above_limit not in _ABOVE:
            raise InputError(
                f'{self.where}: above_limit is "{self.above_limit}"; expected one of {list(_ABOVE)}.'
                f"{did_you_mean(self.above_limit, _ABOVE)}"
            )
        if not 0.0 < self.share < 1.0:
            raise InputError(f"{self.where}: share is {self.share:g}; expected one between 0 and 1.")
        if self.limit is not None:
            check_finite(f"{self.where}: limit", self.limit)
        if self.times and self.way in ("highest_in", "passed_in", "travel_time_of"):
            raise InputError(f"{self.where}: it is one number of all time. Leave out `times`.")

    def __repr__(self) -> str:
        return f"Watch({self.name!r}: {self.words})"

    @property
    def way(self) -> str:
        """By which it is told."""
        return next(k for k in self.ways if getattr(self, k) not in (None, ()))

    @property
    def where(self) -> str:
        """It in words, for messages."""
        return f'watched "{self.name}"'

    @property
    def of_water(self) -> bool:
        """Whether it is read of heads and flows alone, by what a fit reads too."""
        return self.way in _WATER

    @property
    def of_solute(self) -> bool:
        """Whether it is read of what is dissolved."""
        return self.way in _SOLUTE

    @property
    def unit(self) -> str:
        """Of its numbers; of inputs that of these, which only a model knows."""
        way = self.way
        if way in ("gain_of", "across"):
            return "m³/day"
        if way in ("passed_in", "travel_time_of"):
            return "day"
        if way == "mass_across":
            return "kg/day"
        if way == "above_limit":
            return _ABOVE_UNITS[str(self.above_limit)]
        return "g/m³" if self.of_solute else "m" if way != "value_at" else ""

    @property
    def words(self) -> str:
        """What it is."""
        way, given = self.way, getattr(self, self.way)
        if way == "value_at":
            return f"{self.value} at {given[0]:g}, {given[1]:g} in {self.layer}"
        if way.endswith("_at"):
            return f"{way[:-3].replace('_', ' ')} at {given[0]:g}, {given[1]:g} in {self.layer}"
        if way in ("across", "mass_across"):
            return "flow across a line" if way == "across" else "mass across a line"
        if way == "between":
            return f"level in {given[0]} less that in {given[1]}"
        if way == "gain_of":
            return f"gain of {', '.join(given)}"
        if way == "above_limit":
            return f"{given} above the limit" if given != "highest" else "highest concentration anywhere"
        if way == "passed_in":
            return f"when the limit is passed in {given}"
        if way == "highest_in":
            return f"highest concentration in {given}"
        if way == "travel_time_of":
            return f"travel time of {100.0 * self.share:g} % of the water of {given}"
        return f"{way[:-3].replace('_', ' ')} in {given}"
