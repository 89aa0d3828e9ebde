"""Walls, faults and sheet piles that water crosses with difficulty."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from inkhorn.errors import InputError, check_positive
from inkhorn.site.features import Feature

__all__ = ["Barrier"]


@dataclass(frozen=True, kw_only=True)
class Barrier(Feature):
    """A line that stands between cells and resists flow across it.

    Parameters
    ----------
    shape : shapely LineString
        Its course. It follows the faces between the cells on either side.
    conductivity, thickness : float, optional
        Of what it is made of [m/day], [m].
    leakance : float, optional
        Flow per area and head difference instead, conductivity over thickness [1/day].
    layers : tuple of str
        Which layers it cuts; every one if not given.
    """

    shape: Any = field(repr=False)
    conductivity: float | None = None
    thickness: float | None = None
    leakance: float | None = None
    layers: tuple[str, ...] = ()
    kind: ClassVar[str] = "barrier"
    shapes: ClassVar[tuple[str, ...]] = ("LineString",)

    def __post_init__(self) -> None:
        self._check_shape()
        pair = (self.conductivity, self.thickness)
        if (self.leakance is None) == (None in pair) or pair.count(None) == 1:
            raise InputError(
                f"{self.where}: expected either `leakance`, or `conductivity` and `thickness`, and not both."
            )
        for name in ("conductivity", "thickness", "leakance"):
            if getattr(self, name) is not None:
                check_positive(f"{self.where}: {name}", getattr(self, name))

    @property
    def resistance(self) -> float:
        """Thickness over conductivity [day]."""
        if self.leakance is not None:
            return 1.0 / self.leakance
        assert self.thickness is not None  # both or none
        assert self.conductivity is not None
        return self.thickness / self.conductivity
