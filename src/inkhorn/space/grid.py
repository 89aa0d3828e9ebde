"""The one data structure of the solvers: cells, and the faces between them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh
from inkhorn.space.strata import Strata

__all__ = ["FLOOR", "SIDE", "Cells", "Faces", "Grid", "layered"]

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
    plan : ndarray of int
        Cell of the plan mesh.
    material : ndarray of int
        The layer whose material it is made of, mostly its own.
    """

    area: NDArray[np.float64]
    top: NDArray[np.float64]
    bottom: NDArray[np.float64]
    x: NDArray[np.float64]
    y: NDArray[np.float64]
    layer: NDArray[np.int64]
    plan: NDArray[np.int64]
    material: NDArray[np.int64]

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
    normal : ndarray of float, (n_faces, 3)
        Unit vector from first to second.
    centroid : ndarray of float, (n_faces, 3)
        Middle of the face [m].
    ends : ndarray of float, (n_faces, 2, 2)
        Plan end points of a side face [m]; NaN for floor faces, which cover the smaller cell.
    """

    cells: NDArray[np.int64]
    kind: NDArray[np.int8]
    area: NDArray[np.float64]
    distance: NDArray[np.float64]
    normal: NDArray[np.float64]
    centroid: NDArray[np.float64]
    ends: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.area)

    @property
    def is_floor(self) -> NDArray[np.bool_]:
        """True for floor faces, (n_faces,)."""
        return self.kind == FLOOR


@dataclass(frozen=True, eq=False)
class Grid:
    """Space cut into cells, free of any physics.

    Cells are numbered layer by layer from the top, within a layer in the order of the plan mesh;
    only cells that are present have a number. On a rectangular mesh, arrays over the whole block have
    the axes (layer, y, x), y and x rising.

    Parameters
    ----------
    mesh : PlanMesh
        The plan cells.
    layer_names : tuple of str
        From the top down.
    top, bottom : ndarray of float, (n_layers, n_plan)
        Elevations [m], NaN where a layer is absent.
    material : ndarray of int, (n_layers, n_plan), optional
        The layer whose material each cell is made of; its own if not given.
    """

    mesh: PlanMesh
    layer_names: tuple[str, ...]
    top: NDArray[np.float64]
    bottom: NDArray[np.float64]
    material: NDArray[np.int64] | None = None

    def __post_init__(self) -> None:
        expected = (len(self.layer_names), self.mesh.n_cells)
        for name in ("top", "bottom"):
            if getattr(self, name).shape != expected:
                raise InputError(f"{name} has the shape {getattr(self, name).shape}; expected {expected}.")
        thin = np.argwhere(self.top - self.bottom <= 0)
        if len(thin):
            k, c = thin[0]
            raise InputError(
                f'layer "{self.layer_names[k]}" is upside down at x={self.mesh.x[c]:g}, '
                f"y={self.mesh.y[c]:g}: "
                f"top {self.top[k, c]:g} m, bottom {self.bottom[k, c]:g} m ({len(thin)} cells). "
                "Lower the base, or give NaN where the layer is absent."
            )

    def __repr__(self) -> str:
        return f"Grid({len(self.layer_names)} layers, {self.n_cells} cells, {len(self.faces)} faces)"

    @property
    def n_cells(self) -> int:
        """Number of cells present."""
        return len(self.cells)

    @cached_property
    def number(self) -> NDArray[np.int64]:
        """The cell number of each layer and plan cell, -1 where absent, (n_layers, n_plan)."""
        there = np.isfinite(self.top) & np.isfinite(self.bottom)
        number = np.full(there.shape, -1, dtype=np.int64)
        number[there] = np.arange(there.sum())
        return number

    @cached_property
    def cells(self) -> Cells:
        """The cells that are present."""
        layer, plan = np.nonzero(self.number >= 0)
        return Cells(
            area=self.mesh.area[plan],
            top=self.top[layer, plan],
            bottom=self.bottom[layer, plan],
            x=self.mesh.x[plan],
            y=self.mesh.y[plan],
            layer=layer,
            plan=plan,
            material=layer if self.material is None else self.material[layer, plan],
        )

    @cached_property
    def uppermost(self) -> NDArray[np.int64]:
        """The uppermost cell present in each plan cell, -1 where none is, (n_plan,)."""
        there = self.number >= 0
        first = np.argmax(there, axis=0)
        return np.where(there.any(axis=0), self.number[first, np.arange(self.mesh.n_cells)], -1)

    @cached_property
    def faces(self) -> Faces:
        """The faces: side faces layer by layer, then floor faces from the top down.

        Side faces join cells of one layer; a floor face joins a cell with the next one present
        below it, so that the layers above and below an absent one touch.
        """
        side, floor = self._side_faces(), self._floor_faces()
        return Faces(
            **{
                k: np.concatenate([getattr(side, k), getattr(floor, k)])
                for k in ("cells", "kind", "area", "distance", "normal", "centroid", "ends")
            }
        )

    def _side_faces(self) -> Faces:
        edges, cells = self.mesh.edges(), self.cells
        pair = self.number[:, edges.cells]  # (n_layers, n_edges, 2)
        layer, edge = np.nonzero((pair >= 0).all(axis=2))
        pair = pair[layer, edge]
        # a plane layer is cut by the edge at the mean of its two heights
        height = cells.thickness[pair].mean(axis=1)
        middle = edges.ends[edge].mean(axis=1)
        return Faces(
            cells=pair,
            kind=np.full(len(edge), SIDE, dtype=np.int8),
            area=edges.length[edge] * height,
            distance=edges.distance[edge],
            normal=np.column_stack([edges.normal[edge], np.zeros(len(edge))]),
            centroid=np.column_stack([middle, cells.z[pair].mean(axis=1)]),
            ends=edges.ends[edge],
        )

    def _floor_faces(self) -> Faces:
        cells, pairs = self.cells, []
        above = np.full(self.mesh.n_cells, -1, dtype=np.int64)
        for here in self.number:
            joined = (above >= 0) & (here >= 0)
            pairs.append(np.column_stack([above[joined], here[joined]]))
            above = np.where(here >= 0, here, above)
        pair = np.concatenate(pairs)
        first = pair[:, 0]
        return Faces(
            cells=pair,
            kind=np.full(len(pair), FLOOR, dtype=np.int8),
            area=cells.area[first],
            distance=0.5 * cells.thickness[pair],
            normal=np.tile([0.0, 0.0, -1.0], (len(pair), 1)),
            centroid=np.column_stack([cells.x[first], cells.y[first], cells.bottom[first]]),
            ends=np.full((len(pair), 2, 2), np.nan),
        )

    @property
    def shape(self) -> tuple[int, ...]:
        """(layers, rows, columns) on a rectangular mesh, else (cells,)."""
        if isinstance(self.mesh, RectangularMesh):
            return (len(self.layer_names), *self.mesh.shape)
        return (self.n_cells,)

    def layer_index(self, name: str | int) -> int:
        """Return the position of a layer by its name (or check a position)."""
        if isinstance(name, str):
            if name in self.layer_names:
                return self.layer_names.index(name)
        elif 0 <= name < len(self.layer_names):
            return int(name)
        raise InputError(f"there is no layer {name!r}; expected one of {list(self.layer_names)}.")

    def per_cell(self, name: str, values: ArrayLike) -> NDArray[np.float64]:
        """Spread a number, one number per layer, or an array over the cells.

        Parameters
        ----------
        name : str
            Used in messages.
        values : array_like of float
            A number; (n_layers,); (n_cells,); (n_layers, n_plan); or (layer, y, x) on a rectangular mesh.

        Returns
        -------
        ndarray of float, (n_cells,)
        """
        array = np.asarray(values, dtype=np.float64)
        cells = self.cells
        if array.shape == (self.n_cells,) or array.ndim == 0:
            spread = np.array(np.broadcast_to(array, self.n_cells))
        elif array.shape == (len(self.layer_names),):
            spread = array[cells.layer]
        elif array.shape == self.number.shape:
            spread = array[cells.layer, cells.plan]
        elif array.shape == self.shape and isinstance(self.mesh, RectangularMesh):
            spread = array[:, self.mesh.present][cells.layer, cells.plan]
        else:
            raise InputError(
                f"{name} has the shape {array.shape}; expected one number, one per layer "
                f"({len(self.layer_names)},), one per cell ({self.n_cells},) or {self.shape}."
            )
        return check_finite(name, spread)

    def to_block(self, values: ArrayLike) -> NDArray[np.float64]:
        """Return cell values as an array of `shape`, NaN where there is no cell."""
        values = np.asarray(values, dtype=np.float64)
        if not isinstance(self.mesh, RectangularMesh):
            return values
        block = np.full(self.shape, np.nan)
        row, column = self.mesh.row_column
        plan = self.cells.plan
        block[self.cells.layer, row[plan], column[plan]] = values
        return block

    def coordinates(self) -> tuple[tuple[str, ...], dict[str, Any]]:
        """Return the dimensions and coordinates of a result on this grid, for xarray."""
        names = np.array(self.layer_names, dtype=object)
        metre = {"units": "m"}
        if isinstance(self.mesh, RectangularMesh):
            x, y = self.mesh.x_centres, self.mesh.y_centres
            if self.mesh.rotation:
                map_x, map_y = self.mesh.to_map(*np.meshgrid(x, y))
                own = {**metre, "long_name": f"along axes rotated by {self.mesh.rotation:g} degrees"}
                return ("layer", "y", "x"), {
                    "layer": ("layer", names),
                    "y": ("y", y, own),
                    "x": ("x", x, own),
                    "map_y": (("y", "x"), map_y, {**metre, "standard_name": "projection_y_coordinate"}),
                    "map_x": (("y", "x"), map_x, {**metre, "standard_name": "projection_x_coordinate"}),
                }
            return ("layer", "y", "x"), {
                "layer": ("layer", names),
                "y": ("y", y, {**metre, "standard_name": "projection_y_coordinate"}),
                "x": ("x", x, {**metre, "standard_name": "projection_x_coordinate"}),
            }
        cells = self.cells
        return ("cell",), {
            "layer": ("cell", names[cells.layer]),
            "y": ("cell", cells.y, metre),
            "x": ("cell", cells.x, metre),
        }

    def column_of(self, plan: int) -> NDArray[np.int64]:
        """Return the cells present below a plan cell, from the top down."""
        column = self.number[:, plan]
        return column[column >= 0]


def layered(
    mesh: PlanMesh,
    surfaces: Strata | Sequence[ArrayLike],
    *,
    names: Sequence[str] | None = None,
) -> Grid:
    """Cut a plan mesh into layers.

    Parameters
    ----------
    mesh : PlanMesh
        The plan cells.
    surfaces : Strata, or sequence of float or array_like
        The strata; or plain elevations [m] from the uppermost surface down, one more than there are
        layers, each a number, (n_plan,), or (rows, columns) on a rectangular mesh. A layer is absent
        where its base equals its top.
    names : sequence of str, optional
        Layer names, for plain elevations; ``"layer 1"`` and so on if not given.

    Returns
    -------
    Grid

    Examples
    --------
    >>> from inkhorn.space import rectangles
    >>> layered(rectangles((0, 0, 600, 400), cell=100), [0.0, -20.0], names=["sand"])
    Grid(1 layers, 24 cells, 38 faces)
    """
    if isinstance(surfaces, Strata):
        return Grid(mesh, surfaces.names, *surfaces.at(mesh.x, mesh.y))
    levels = []
    for k, surface in enumerate(surfaces):
        z = check_finite(f"surfaces[{k}]", surface, unit="m")
        if isinstance(mesh, RectangularMesh) and z.shape == mesh.shape:
            z = z[mesh.present]
        if z.shape not in ((), (mesh.n_cells,)):
            raise InputError(
                f"surfaces[{k}] has the shape {z.shape}; expected a number or ({mesh.n_cells},)."
            )
        levels.append(np.broadcast_to(z, mesh.n_cells))
    if len(levels) < 2:
        raise InputError(f"{len(levels)} surface was given; expected at least a top and a base.")
    top, bottom = np.array(levels[:-1]), np.array(levels[1:])
    absent = top == bottom
    top[absent], bottom[absent] = np.nan, np.nan
    names = tuple(names) if names else tuple(f"layer {k + 1}" for k in range(len(top)))
    return Grid(mesh, names, top, bottom)
