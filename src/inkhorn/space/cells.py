"""Cells, the faces between them and those on the rim: the plain records that a grid is made of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.read_only import freeze

__all__ = ["FLOOR", "SIDE", "Cells", "FaceShapes", "Faces", "OuterFaces"]

SIDE, FLOOR = 0, 1


@dataclass(frozen=True)
class Cells:
    """Every cell that is present; each attribute is (n_cells,).

    Attributes
    ----------
    area : ndarray of float
        Plan area [m²].
    top, bottom : ndarray of float
        Elevations [m].
    x, y : ndarray of float
        Centre in plan [m].
    layer : ndarray of int
        Layer, 0 uppermost.
    plan_cell : ndarray of int
        Cell of the plan mesh; of several that it covers, the first.
    material_layer : ndarray of int
        The layer whose material it is made of, mostly its own.
    """

    area: NDArray[np.float64]
    top: NDArray[np.float64]
    bottom: NDArray[np.float64]
    x: NDArray[np.float64]
    y: NDArray[np.float64]
    layer: NDArray[np.int64]
    plan_cell: NDArray[np.int64]
    material_layer: NDArray[np.int64]

    def __post_init__(self) -> None:
        freeze(self)

    def __repr__(self) -> str:
        return f"Cells({len(self)}, {self.volume.sum():.4g} m³)"

    def __len__(self) -> int:
        return len(self.area)

    @property
    def thickness(self) -> NDArray[np.float64]:
        """Height of each cell [m]."""
        return self.top - self.bottom

    @property
    def z(self) -> NDArray[np.float64]:
        """Middle elevation of each cell [m]."""
        return 0.5 * (self.top + self.bottom)

    @property
    def volume(self) -> NDArray[np.float64]:
        """Volume of each cell [m³]."""
        return self.area * self.thickness


class FaceShapes(NamedTuple):
    """How faces lie; each as of `Faces`."""

    normal: NDArray[np.float64]
    centroid: NDArray[np.float64]
    ends: NDArray[np.float64]


@dataclass(frozen=True)
class Faces:
    """Every face between two cells, once; outer faces are closed and not listed.

    Attributes
    ----------
    cells : ndarray of int, (n_faces, 2)
        The two cells; of a floor face the upper one first. A flow is positive from first to second.
    kind : ndarray of int8, (n_faces,)
        `SIDE` or `FLOOR`.
    area : ndarray of float, (n_faces,)
        Area, for a side face that of the full height [m²].
    distance : ndarray of float, (n_faces, 2)
        From either cell's centre to the face, at right angles to it [m].
    length : ndarray of float, (n_faces,)
        Of a side face in plan, NaN for floor faces [m].
    shapes : callable
        Makes normals, centroids and ends when one of them is first asked for; of some faces alone, told in rising
        order, or of all if told None.
    """

    cells: NDArray[np.int64]
    kind: NDArray[np.int8]
    area: NDArray[np.float64]
    distance: NDArray[np.float64]
    length: NDArray[np.float64]
    shapes: Callable[[NDArray[np.int64] | None], FaceShapes] = field(repr=False, compare=False)

    def __post_init__(self) -> None:
        freeze(self)

    @cached_property
    def _shaped(self) -> FaceShapes:
        made = self.shapes(None)
        for values in made:
            values.flags.writeable = False
        return made

    @property
    def normal(self) -> NDArray[np.float64]:
        """Unit vector from first to second, (n_faces, 3)."""
        return self._shaped.normal

    @property
    def centroid(self) -> NDArray[np.float64]:
        """Middle of each face, (n_faces, 3) [m]."""
        return self._shaped.centroid

    @property
    def ends(self) -> NDArray[np.float64]:
        """Plan end points of side faces, (n_faces, 2, 2) [m]; NaN for floor faces, whose plan is what cells share."""
        return self._shaped.ends

    def __repr__(self) -> str:
        return f"Faces({len(self)}, {int(self.is_floor.sum())} of them floors)"

    def __len__(self) -> int:
        return len(self.area)

    @property
    def is_floor(self) -> NDArray[np.bool_]:
        """True for floor faces, (n_faces,)."""
        return self.kind == FLOOR

    @property
    def height(self) -> NDArray[np.float64]:
        """Height of each side face, NaN for floor faces, (n_faces,) [m]."""
        return np.asarray(self.area / self.length)


@dataclass(frozen=True)
class OuterFaces:
    """The upright sides of cells on the rim of the grid; closed unless a term opens them.

    Attributes
    ----------
    cell : ndarray of int, (n,)
        Whose side it is.
    ends : ndarray of float, (n, 2, 2)
        Plan end points [m].
    normal : ndarray of float, (n, 2)
        Unit vector out of the grid, in plan.
    area : ndarray of float, (n,)
        Of the full height [m²].
    distance : ndarray of float, (n,)
        From the cell's centre, at right angles [m].
    """

    cell: NDArray[np.int64]
    ends: NDArray[np.float64]
    normal: NDArray[np.float64]
    area: NDArray[np.float64]
    distance: NDArray[np.float64]

    def __post_init__(self) -> None:
        freeze(self)

    def __repr__(self) -> str:
        return f"OuterFaces({len(self)})"

    def __len__(self) -> int:
        return len(self.cell)

    @property
    def middle(self) -> NDArray[np.float64]:
        """Midpoint of each in plan, (n, 2) [m]."""
        return np.asarray(self.ends.mean(axis=1))

    @property
    def length(self) -> NDArray[np.float64]:
        """Length of each in plan, (n,) [m]."""
        step = self.ends[:, 1] - self.ends[:, 0]
        return np.asarray(np.hypot(step[:, 0], step[:, 1]))
