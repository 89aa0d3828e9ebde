"""What a plan mesh offers, whatever the shape of its cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol, runtime_checkable

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["PlanEdges", "PlanMesh", "shapes_of"]


@dataclass(frozen=True)
class PlanEdges:
    """The edges between two plan cells.

    Attributes
    ----------
    cells : ndarray of int, (n_edges, 2)
        The plan cells on either side.
    ends : ndarray of float, (n_edges, 2, 2)
        Both end points, x and y [m].
    distance : ndarray of float, (n_edges, 2)
        From either cell's centre to the edge, at right angles [m].
    normal : ndarray of float, (n_edges, 2)
        Unit vector from the first cell to the second.
    """

    cells: NDArray[np.int64]
    ends: NDArray[np.float64]
    distance: NDArray[np.float64]
    normal: NDArray[np.float64]

    @property
    def length(self) -> NDArray[np.float64]:
        """Length of each edge, (n_edges,) [m]."""
        step = self.ends[:, 1] - self.ends[:, 0]
        return np.asarray(np.hypot(step[:, 0], step[:, 1]))


@runtime_checkable
class PlanMesh(Protocol):
    """Plan cells, numbered from 0, without any height."""

    @property
    def n_cells(self) -> int:
        """Number of plan cells."""

    @property
    def x(self) -> NDArray[np.float64]:
        """Centre of each cell, (n_cells,) [m]."""

    @property
    def y(self) -> NDArray[np.float64]:
        """Centre of each cell, (n_cells,) [m]."""

    @property
    def area(self) -> NDArray[np.float64]:
        """Area of each cell, (n_cells,) [m²]."""

    def edges(self) -> PlanEdges:
        """Return every edge between two cells, each once."""

    def polygons(self) -> NDArray[Any]:
        """Return each cell's outline as a shapely polygon, (n_cells,)."""

    def equivalent_radius(self, cells: NDArray[np.int64]) -> NDArray[np.float64]:
        """Return how far from a well in each cell's middle the head is that of the cell, (n,) [m]."""

    def locate(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        """Return the cell that holds each point, -1 outside."""


def shapes_of(group: Any) -> list[Any]:
    """Return the shapely shapes of features, bores or shapes, one or several."""
    import shapely

    things = group if isinstance(group, (list, tuple)) else [group]
    return [
        t if isinstance(t, shapely.Geometry) else getattr(t, "shape", None) or shapely.Point(t.x, t.y)
        for t in things
    ]
