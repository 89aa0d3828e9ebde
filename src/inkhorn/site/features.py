"""Features: what brings water in or takes it out, described without any grid.

Signs are in the names: what a well takes out is its ``abstraction``, what it gives back its
``injection``, and neither can be negative. Recharge adds water to the aquifer.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_nonnegative
from inkhorn.site.series import Series

__all__ = ["Along", "Changing", "Feature", "along_line", "mean_value"]

Along = float | Sequence[float] | Series  # one value, or several along a line, or either in time
Changing = float | Series


def along_line(line: Any, values: ArrayLike, fraction: NDArray[np.float64]) -> NDArray[np.float64]:
    """Interpolate values given along a line.

    Parameters
    ----------
    line : shapely LineString
        The line.
    values : array_like of float, (m,) or (n_periods, m)
        One value for all of it, two for its ends, or one for each vertex; if in time, for each period.
    fraction : ndarray of float, (n,)
        Where along the line, 0 at its first vertex and 1 at its last.

    Returns
    -------
    ndarray of float, (n,) or (n_periods, n)
    """
    v = np.atleast_1d(np.asarray(values, dtype=np.float64))
    if v.shape[-1] == 1:
        return np.array(np.broadcast_to(v, (*v.shape[:-1], len(fraction))))
    if v.shape[-1] == 2:
        return np.asarray(v[..., :1] + (v[..., 1:] - v[..., :1]) * fraction)
    points = np.asarray(line.coords)[:, :2]
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    after = np.clip(np.searchsorted(run / run[-1], fraction, "right"), 1, len(run) - 1)
    share = (fraction * run[-1] - run[after - 1]) / (run[after] - run[after - 1])
    return np.asarray(v[..., after - 1] * (1.0 - share) + v[..., after] * share)


def _values(value: Along) -> NDArray[np.float64]:
    """All values there are, (m,) or in time (n, m)."""
    return np.asarray(value.values if isinstance(value, Series) else np.atleast_1d(value), dtype=np.float64)


def mean_value(value: Along) -> float:
    """Return the mean of all values, along a line and in time."""
    return float(_values(value).mean())


@dataclass(frozen=True, kw_only=True)
class Feature:
    """What all features have.

    Parameters
    ----------
    name : str
        Unique within the site; budgets and tables use it.
    source : str
        Where it was read from, for messages.
    """

    name: str
    source: str = field(default="", repr=False)

    kind: ClassVar[str] = "feature"
    shapes: ClassVar[tuple[str, ...]] = ()

    @property
    def where(self) -> str:
        """The feature in words, for messages."""
        return f'{self.kind} "{self.name}"' + (f" ({self.source})" if self.source else "")

    def _check_shape(self) -> None:
        shape: Any = getattr(self, "shape", None)
        if shape is None or shape.is_empty:
            raise InputError(f"{self.where} has an empty shape; expected a {' or '.join(self.shapes)}.")
        if shape.geom_type not in self.shapes:
            raise InputError(
                f"{self.where} has the shape of a {shape.geom_type}; expected a {' or '.join(self.shapes)}."
            )

    def _check_along(self, name: str) -> None:
        values = check_finite(f"{self.where}: {name}", _values(getattr(self, name)), unit="m")
        shape: Any = getattr(self, "shape")  # noqa: B009 - not every feature has one
        vertices = len(shape.coords) if shape.geom_type == "LineString" else 1
        if values.shape[-1] not in {1, 2 if vertices > 1 else 1, vertices}:
            raise InputError(
                f"{self.where}: {name} has {values.shape[-1]} values; expected 1, 2 (at the ends) or "
                f"{vertices} (at the vertices)."
            )

    def _check_rate(self, name: str, unit: str, remedy: str = "") -> None:
        value = getattr(self, name)
        values = value.values if isinstance(value, Series) else value
        check_nonnegative(f"{self.where}: {name}", values, unit=unit, remedy=remedy)
