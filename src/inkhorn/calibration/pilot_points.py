"""Pilot points: places whose values are fitted, from which those of all cells are kriged."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import KW_ONLY, dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, check_positive
from inkhorn.space import Grid, PointSurface, Variogram

__all__ = ["PilotPoints"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class PilotPoints:
    """Where the numbers of a parameter stand, and how values between are made of them.

    Give places, or a spacing at which they are spread evenly over the cells that the parameter is of; or neither, for
    one point in their middle. Points outside these cells are dropped, and named by `outside`.

    Parameters
    ----------
    x, y : array_like of float, (n,)
        Places [m].
    names : sequence of str
        Theirs; numbers if not given.
    values : array_like of float, (n,)
        Where each starts; NaN for the start of the parameter.
    held : array_like of bool, (n,)
        Those that stay at their value, as where it was measured.
    spacing : float, optional
        Between points that are spread [m].
    variogram : Variogram, optional
        By which values are kriged; an exponential one that ranges over three spacings if not given.
    on_logarithms : bool, optional
        Whether logarithms are kriged; where they are fitted if not said.
    neighbours, least : int
        How many points each cell looks at, at the most, and how many it needs.
    reach : float
        How far it looks [m].
    too_few : {"nearest", "mean"}
        What it takes where there are fewer, as of `kriging_rows`.

    References
    ----------
    de Marsily, G., Lavedan, G., Boucher, M. and Fasanino, G. (1984), Interpretation of interference tests in a well
    field using geostatistical techniques to fit the permeability distribution in a reservoir model, in: Geostatistics
    for Natural Resources Characterization, Part 2, D. Reidel, 831-849.
    """

    x: Any = ()
    y: Any = ()
    _: KW_ONLY
    names: Sequence[str] = ()
    values: Any = ()
    held: Any = ()
    spacing: float | None = None
    variogram: Variogram | None = None
    on_logarithms: bool | None = None
    neighbours: int = 16
    least: int = 1
    reach: float = np.inf
    too_few: Literal["nearest", "mean"] = "nearest"
    outside: tuple[str, ...] = field(default=(), repr=False)

    def __post_init__(self) -> None:
        x, y = (
            np.atleast_1d(np.asarray(check_finite(f"pilot points: {k}", getattr(self, k)), dtype=np.float64))
            for k in "xy"
        )
        if len(x) != len(y):
            raise InputError(f"pilot points have {len(x)} x and {len(y)} y; expected as many of both.")
        if len(x) and self.spacing is not None:
            raise InputError("pilot points are given by their places or by a spacing, not by both.")
        if self.spacing is not None:
            check_positive("pilot points: spacing", self.spacing, unit="m")
        n = len(x)
        names = tuple(self.names) or tuple(f"P{k + 1:0{len(str(n))}d}" for k in range(n))
        values = np.full(n, np.nan) if not np.size(self.values) else np.asarray(self.values, dtype=np.float64)
        held = np.zeros(n, dtype=bool) if not np.size(self.held) else np.asarray(self.held, dtype=bool)
        for key, got in (("names", names), ("values", values), ("held", held)):
            if len(got) != n:
                raise InputError(f"pilot points have {len(got)} {key} for {n} places; expected as many.")
            object.__setattr__(self, key, got)
        twice = next((k for k in names if names.count(k) > 1), None)
        if twice is not None:
            raise InputError(f'two pilot points are called "{twice}". Give each its own name.')
        unknown = np.flatnonzero(held & ~np.isfinite(values))
        if len(unknown):
            raise InputError(f'pilot point "{names[unknown[0]]}" is held at no value. Give it one.')
        object.__setattr__(self, "x", x)
        object.__setattr__(self, "y", y)

    def __len__(self) -> int:
        return len(self.x)

    def __repr__(self) -> str:
        said = f"{len(self)}" if len(self) else "one" if self.spacing is None else f"every {self.spacing:g} m"
        return f"PilotPoints({said})"

    def within(self, what: str, grid: Grid, cells: Index) -> PilotPoints:
        """Return the points among some cells, having spread them there if no places are told.

        Raises
        ------
        InputError
            If no point is among them; `what` says whose.
        """
        here = np.zeros(grid.mesh.n_cells, dtype=bool)
        here[grid.cells.plan_cell[cells]] = True
        x, y = grid.mesh.x[here], grid.mesh.y[here]
        if len(self):
            at = grid.mesh.locate(self.x, self.y)
            inside = (at >= 0) & here[at]
            if not inside.any():
                raise InputError(
                    f"{what}: none of the {len(self)} pilot points lies in the cells it is of, which reach from "
                    f"x={x.min():.6g}, y={y.min():.6g} to x={x.max():.6g}, y={y.max():.6g}. Check their places."
                )
            out = tuple(n for n, good in zip(self.names, inside, strict=True) if not good)
            return replace(
                self, x=self.x[inside], y=self.y[inside], values=self.values[inside], held=self.held[inside],
                names=tuple(n for n, good in zip(self.names, inside, strict=True) if good), outside=out,
            )  # fmt: skip
        if self.spacing is None:
            middle = int(np.argmin(np.hypot(x - x.mean(), y - y.mean())))
            return replace(self, x=[x[middle]], y=[y[middle]])
        low, high = (np.array([f(x), f(y)]) for f in (np.min, np.max))
        count = np.maximum(np.ceil((high - low) / self.spacing), 1.0)
        first = 0.5 * (low + high) - 0.5 * (count - 1.0) * self.spacing
        px, py = (
            v.ravel() for v in np.meshgrid(*(first[k] + self.spacing * np.arange(count[k]) for k in (0, 1)))
        )
        at = grid.mesh.locate(px, py)
        inside = (at >= 0) & here[at]
        found = np.column_stack([px, py])[inside]
        if not len(found):
            middle = int(np.argmin(np.hypot(x - x.mean(), y - y.mean())))
            found = np.array([[x[middle], y[middle]]])
        return replace(
            self,
            x=found[:, 0],
            y=found[:, 1],
            spacing=None,
            names=(),
            values=(),
            held=(),
            variogram=self.curve(),
        )

    def curve(self) -> Variogram:
        """Return the variogram by which values are kriged."""
        if self.variogram is not None:
            return self.variogram
        if self.spacing is not None:
            return Variogram("exponential", range=3.0 * self.spacing)
        apart = np.hypot(self.x[:, None] - self.x, self.y[:, None] - self.y)
        np.fill_diagonal(apart, np.inf)
        usual = float(np.median(apart.min(axis=1))) if len(self) > 1 else 1000.0
        return Variogram("exponential", range=3.0 * usual)

    def surface(self, name: str, start: float, *, on_logarithms: bool) -> PointSurface:
        """Return the surface through the points as they start."""
        z = np.where(np.isfinite(self.values), self.values, start)
        return PointSurface(
            self.x, self.y, z, name=name, method="kriging", variogram=self.curve(), neighbours=self.neighbours,
            least=self.least, reach=self.reach, too_few=self.too_few, on_logarithms=on_logarithms,
        )  # fmt: skip
