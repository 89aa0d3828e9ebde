"""What a plan mesh offers, whatever the shape of its cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol, runtime_checkable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError

BYTES_PER_PLAN_CELL = 1500.0  # what a mesh takes while it is made, at the most; measured of Voronoi cells

__all__ = ["BYTES_PER_PLAN_CELL", "PlanEdges", "PlanMesh", "cut_edges", "keeping"]


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

    def __repr__(self) -> str:
        return f"PlanEdges({len(self.cells)})"

    @property
    def length(self) -> NDArray[np.float64]:
        """Length of each edge, (n_edges,) [m]."""
        step = self.ends[:, 1] - self.ends[:, 0]
        return np.asarray(np.hypot(step[:, 0], step[:, 1]))

    @property
    def middle(self) -> NDArray[np.float64]:
        """Midpoint of each edge, (n_edges, 2) [m]."""
        return np.asarray(0.5 * (self.ends[:, 0] + self.ends[:, 1]))


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

    @property
    def centroid(self) -> NDArray[np.float64]:
        """Centre of gravity of each cell, which need not be its centre, (n_cells, 2) [m]."""

    def edges(self) -> PlanEdges:
        """Return every edge between two cells, each once."""

    def polygons(self) -> NDArray[Any]:
        """Return each cell's outline as a shapely polygon, (n_cells,)."""

    def equivalent_radius(self, cells: NDArray[np.int64]) -> NDArray[np.float64]:
        """Return how far from a well in each cell's middle the head is that of the cell, (n,) [m]."""

    def locate(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        """Return the cell that holds each point, -1 outside."""


def keeping(mesh: PlanMesh, outline: Any, keep: Any) -> NDArray[np.bool_]:
    """Return which cells of a mesh take part inside an outline.

    Parameters
    ----------
    mesh : PlanMesh
        Of whole cells.
    outline : shapely Polygon
        The inside.
    keep : "centre", float or "cut"
        Cells whose centre lies inside; those of which at least this share of the area does; all that meet it.
    """
    import shapely

    if keep == "centre":
        return np.asarray(shapely.contains_xy(outline, mesh.x, mesh.y))
    least = 1e-9 if keep == "cut" else float(keep)
    if not 0.0 < least <= 1.0:
        raise InputError(
            f'keep is {keep!r}; expected "centre", "cut" or a share of the area above 0 and up to 1.'
        )
    return np.asarray(shapely.area(shapely.intersection(mesh.polygons(), outline)) >= least * mesh.area)


def cut_edges(edges: PlanEdges, outline: Any) -> PlanEdges:
    """Shorten edges to the part inside an outline; those wholly outside are closed."""
    import shapely

    inside = shapely.intersection(shapely.linestrings(edges.ends), outline)
    open_ = shapely.length(inside) > 0
    if (shapely.get_type_id(inside[open_]) != shapely.GeometryType.LINESTRING).any():
        raise InputError(
            "the boundary crosses an edge of a cell more than twice. Use smaller cells, or keep cells by their centre."
        )
    ends = shapely.get_coordinates(inside[open_]).reshape(-1, 2, 2)
    return PlanEdges(edges.cells[open_], ends, edges.distance[open_], edges.normal[open_])
