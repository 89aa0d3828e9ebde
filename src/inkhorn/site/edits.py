"""Values changed by hand: properties somewhere, or the values of a boundary where it was placed."""

from __future__ import annotations

from dataclasses import KW_ONLY, dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite
from inkhorn.fields import RandomField
from inkhorn.site.features import value_named
from inkhorn.site.series import Series
from inkhorn.space import Surface

__all__ = ["Edit"]


@dataclass(frozen=True, eq=False)
class Edit:
    """One change, made after the ones before it; later ones see what earlier ones left.

    Parameters
    ----------
    of : str
        A property of cells, such as ``"horizontal_conductivity"``; a value of features that were placed, by
        their kind or its table, such as ``"river.stage"``, in the unit in which the feature states it (a drain's
        conductance by the metre); ``"base"``, the elevation of the bottom of cells, with which the top of what lies
        beneath them moves; or ``"ground"``, the top of the uppermost cells.
    value : float, Surface, Series or RandomField
        One number; one for each place, as of a raster or of scattered points; one in time; or a field drawn by chance,
        that of its seed.
    how : {"set", "factor", "add"}
        What is done with it.
    layers : tuple of str
        Where; every layer if not given.
    shape : shapely geometry, optional
        Cells whose centre lies inside a polygon, or which hold a point; everywhere if not given.
    feature : str, optional
        Of a boundary: this feature only.
    zone : (str, str), optional
        Of one of the site's divisions into zones, by its name, one zone; "material" and "layer" are divisions too.
    reason : str
        Why, for the report.
    source : str
        Where it was read from, for messages.
    may_miss : bool
        Whether it is only warned of where it meets nothing, as of a region on a part of it.
    """

    of: str
    value: float | Surface | Series | RandomField
    _: KW_ONLY
    how: Literal["set", "factor", "add"] = "set"
    layers: tuple[str, ...] = ()
    shape: Any = field(default=None, repr=False)
    feature: str | None = None
    reason: str = ""
    source: str = ""
    zone: tuple[str, str] | None = None
    may_miss: bool = False

    def __post_init__(self) -> None:
        if self.how not in ("set", "factor", "add"):
            raise InputError(f'{self.where}: how is "{self.how}"; expected "set", "factor" or "add".')
        if isinstance(self.value, int | float):
            check_finite(f"{self.where}: value", self.value)
        object.__setattr__(self, "of", value_named(self.of))
        if isinstance(self.value, RandomField) and self.of in ("base", "ground"):
            raise InputError(
                f"{self.where}: a random field of elevations may turn cells inside out. Expected one of a property of "
                "cells or a value of features."
            )

    def changed(self, old: Any, x: Any, y: Any) -> NDArray[np.float64]:
        """Return what becomes of old values at some places, (n,) each [m]; of elevations, which stay in time."""
        value: Any = self.value.at(x, y) if isinstance(self.value, Surface) else self.value
        new = {"set": value + 0.0 * old, "factor": value * old, "add": value + old}
        return np.asarray(new[self.how], dtype=np.float64)

    @property
    def where(self) -> str:
        """The edit in words, for messages."""
        return f"edit of {self.of}" + (f" ({self.source})" if self.source else "")
