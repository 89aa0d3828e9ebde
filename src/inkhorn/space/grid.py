"""The one data structure of the solvers: cells, and the faces between them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import KW_ONLY, dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, place_words
from inkhorn.read_only import freeze
from inkhorn.shown import Shown
from inkhorn.space.cells import FLOOR, SIDE, Cells, Faces, FaceShapes, OuterFaces
from inkhorn.space.merged import MergedMesh, pairs_once
from inkhorn.space.mesh import PlanEdges, PlanMesh
from inkhorn.space.radial import equivalent_radius
from inkhorn.space.rectangles import RectangularMesh
from inkhorn.space.rim import OuterEdges, outer_edges
from inkhorn.space.strata import layers_named
from inkhorn.space.triangles import Net

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Grid"]


class _Sides(NamedTuple):
    """Side faces of one layer: which edges of its mesh they stand on, both cells, lengths, shares of the first."""

    edges: PlanEdges
    edge: Any
    pair: NDArray[np.int64]
    length: NDArray[np.float64]
    share: NDArray[np.float64]

    @property
    def distance(self) -> NDArray[np.float64]:
        return self.edges.distance[self.edge]

    def between(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Values of the cells, read where the faces are."""
        return self.share * values[self.pair[:, 0]] + (1.0 - self.share) * values[self.pair[:, 1]]


def _within(which: NDArray[np.int64], first: int, count: int) -> NDArray[np.int64]:
    """Those of some rising numbers that are among so many from a first one, counted from that."""
    begin, end = np.searchsorted(which, [first, first + count])
    return which[begin:end] - first


@dataclass(frozen=True, eq=False)
class Grid(Shown):
    """Space cut into cells, free of any physics.

    Cells are numbered layer by layer from the top, within a layer in the order of the plan mesh;
    only cells that are present have a number. On a rectangular mesh, arrays over the whole block have
    the axes (layer, y, x), y and x rising. In some layers several plan cells may be joined to one, so
    that columns branch.

    A cell is the prism of its plan cell between two levels. Layers are taken as level for the flow: its
    sides stand upright, its floors are flat, and the cells of one layer touch over the mean of their
    heights, whatever step there is between them. The error is one less the squared cosine of the
    layer's dip (1 % where it drops by 10 m in 100 m).

    Parameters
    ----------
    mesh : PlanMesh
        The plan cells.
    layer_names : tuple of str
        From the top down.
    top, bottom : ndarray of float, (n_layers, n_plan)
        Elevations [m], NaN where a layer is absent.
    material_layer : ndarray of int, (n_layers, n_plan), optional
        The layer whose material each cell is made of; its own if not given.
    joined : mapping of int to ndarray of int, (n_plan,), optional
        For each layer with larger cells, which of them each plan cell belongs to, numbered from 0. Top,
        bottom and material are the same for all plan cells of one.
    taken_out : ndarray of bool, (n_layers, n_plan), optional
        Where a layer was taken out: what lies above and below does not touch across it.
    whole_names : tuple of str, optional
        For each layer the name of that which it is a part of, or its own; see `Layer`.
    """

    mesh: PlanMesh
    layer_names: tuple[str, ...]
    top: NDArray[np.float64]
    bottom: NDArray[np.float64]
    _: KW_ONLY
    material_layer: NDArray[np.int64] | None = None
    joined: Mapping[int, NDArray[np.int64]] = field(default_factory=dict)
    taken_out: NDArray[np.bool_] | None = None
    whole_names: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if not self.whole_names:
            object.__setattr__(self, "whole_names", tuple(self.layer_names))
        expected = (len(self.layer_names), self.mesh.n_cells)
        for name in ("top", "bottom"):
            if getattr(self, name).shape != expected:
                raise InputError(f"{name} has the shape {getattr(self, name).shape}; expected {expected}.")
        thin = np.argwhere(self.top - self.bottom <= 0)
        if len(thin):
            k, c = thin[0]
            raise InputError(
                f'layer "{self.layer_names[k]}" is upside down at '
                f"{place_words(self.mesh.x[c], self.mesh.y[c])}: "
                f"top {self.top[k, c]:g} m, bottom {self.bottom[k, c]:g} m ({len(thin)} cells). "
                "Lower the base, or give NaN where the layer is absent."
            )
        freeze(self)

    def __repr__(self) -> str:
        return f"Grid({len(self.layer_names)} layers, {self.n_cells} cells, {len(self.faces)} faces)"

    @property
    def n_cells(self) -> int:
        """Number of cells present."""
        return len(self.cells)

    @cached_property
    def meshes(self) -> tuple[PlanMesh, ...]:
        """The plan mesh of each layer: that of the grid, or of larger cells made of it."""
        made: list[MergedMesh] = []
        found: list[PlanMesh] = []
        for k in range(len(self.layer_names)):
            group = self.joined.get(k)
            same = [m for m in made if group is not None and np.array_equal(m.group, group)]
            if group is not None and not same:
                made.append(MergedMesh(self.mesh, group))
                same = made[-1:]
            found.append(same[0] if same else self.mesh)
        return tuple(found)

    @cached_property
    def _own(self) -> tuple[NDArray[np.int64], list[NDArray[np.int64]]]:
        """The cell number of each layer and plan cell; and of each layer the cells of its mesh present."""
        there = np.isfinite(self.top) & np.isfinite(self.bottom)
        number = np.full(there.shape, -1, dtype=np.int64)
        present, count = [], 0
        for k, mesh in enumerate(self.meshes):
            own = there[k]
            if k in self.joined:
                own = np.zeros(mesh.n_cells, dtype=bool)
                own[self.joined[k][there[k]]] = True
            present.append(np.flatnonzero(own))
            numbers = np.full(mesh.n_cells, -1, dtype=np.int64)
            numbers[present[-1]] = count + np.arange(len(present[-1]))
            number[k] = numbers[self.joined[k]] if k in self.joined else numbers
            count += len(present[-1])
        number.flags.writeable = False
        return number, present

    @property
    def cell_number(self) -> NDArray[np.int64]:
        """The cell number of each layer and plan cell, -1 where absent, (n_layers, n_plan)."""
        return self._own[0]

    @cached_property
    def _triangles(self) -> dict[int, Net]:
        """Triangles of the meshes that were asked for, by the first layer that has the mesh."""
        return {}

    def triangles(self, layer: int) -> Net:
        """Return the Delaunay triangles of the plan centres of a layer's mesh, kept once they are made."""
        mesh = self.meshes[layer]
        first = next(k for k, other in enumerate(self.meshes) if other is mesh)
        if first not in self._triangles:
            self._triangles[first] = Net(np.column_stack([mesh.x, mesh.y]))
        return self._triangles[first]

    @property
    def within_layer(self) -> list[NDArray[np.int64]]:
        """Of each layer, the cells of its own mesh that are present, in the order of their numbers."""
        return self._own[1]

    @property
    def first_of_layer(self) -> NDArray[np.int64]:
        """The number of the first cell of each layer, and the number of all cells, (n_layers + 1,)."""
        return np.concatenate([[0], np.cumsum([len(p) for p in self.within_layer])])

    @cached_property
    def cells(self) -> Cells:
        """The cells that are present."""
        present, meshes = self.within_layer, self.meshes
        layer = np.repeat(np.arange(len(meshes)), [len(p) for p in present])
        plan = np.concatenate(
            [
                np.unique(self.joined[k], return_index=True)[1][p] if k in self.joined else p
                for k, p in enumerate(present)
            ]
        )

        def of_mesh(name: str) -> Any:
            return np.concatenate([getattr(m, name)[p] for m, p in zip(meshes, present, strict=True)])

        return Cells(
            area=of_mesh("area"),
            top=self.top[layer, plan],
            bottom=self.bottom[layer, plan],
            x=of_mesh("x"),
            y=of_mesh("y"),
            layer=layer,
            plan_cell=plan,
            material_layer=layer if self.material_layer is None else self.material_layer[layer, plan],
        )

    @cached_property
    def centres_of_gravity(self) -> NDArray[np.float64]:
        """x and y of each cell's centre of gravity, which need not be its centre, (n_cells, 2) [m]."""
        parts = [mesh.centroid[own] for mesh, own in zip(self.meshes, self.within_layer, strict=True)]
        return np.concatenate(parts)

    @cached_property
    def uppermost(self) -> NDArray[np.int64]:
        """The uppermost cell present in each plan cell, -1 where none is, (n_plan,)."""
        there = self.cell_number >= 0
        first = np.argmax(there, axis=0)
        return np.where(there.any(axis=0), self.cell_number[first, np.arange(self.mesh.n_cells)], -1)

    @cached_property
    def faces(self) -> Faces:
        """The faces: side faces layer by layer, then floor faces from the top down.

        Side faces join cells of one layer; a floor face joins a cell with the next one present
        below it, so that the layers above and below an absent one touch.
        """
        thickness, sides = self.cells.thickness, list(self._sides())
        pair, area, _ = self._floors()
        # a plane layer of changing thickness is cut at the height between its two cells
        areas = [s.length * s.between(thickness) for s in sides]
        n_sides = sum(map(len, areas))
        return Faces(
            cells=np.concatenate([*(s.pair for s in sides), pair]),
            kind=np.repeat(np.array([SIDE, FLOOR], dtype=np.int8), [n_sides, len(pair)]),
            area=np.concatenate([*areas, area]),
            distance=np.concatenate([*(s.distance for s in sides), 0.5 * thickness[pair]]),
            length=np.concatenate([*(s.length for s in sides), np.full(len(pair), np.nan)]),
            shapes=self._face_shapes,
        )

    def _face_shapes(self, which: NDArray[np.int64] | None = None) -> FaceShapes:
        """Return how the faces lie; some of them, in rising order, if told which."""
        z, bottom = self.cells.z, self.cells.bottom
        parts, first = [], 0
        for s in self._sides():
            n = len(s.pair)
            own: Any = slice(None) if which is None else _within(which, first, n)
            edge = np.arange(len(s.edges.cells))[s.edge][own]
            pair, share = s.pair[own], s.share[own]
            level = share * z[pair[:, 0]] + (1.0 - share) * z[pair[:, 1]]
            normal = np.column_stack([s.edges.normal[edge], np.zeros(len(edge))])
            ends = s.edges.ends[edge]
            middle = 0.5 * (ends[:, 0] + ends[:, 1])
            parts.append(FaceShapes(normal, np.column_stack([middle, level]), ends))
            first += n
        pair, _, middle = self._floors()
        own = slice(None) if which is None else _within(which, first, len(pair))
        pair, middle = pair[own], middle[own]
        down = np.tile([0.0, 0.0, -1.0], (len(pair), 1))
        centroid = np.column_stack([middle, bottom[pair[:, 0]]])
        parts.append(FaceShapes(down, centroid, np.full((len(pair), 2, 2), np.nan)))
        return FaceShapes(*(np.concatenate(v) for v in zip(*parts, strict=True)))

    @cached_property
    def rim(self) -> OuterEdges:
        """The sides of plan cells on the rim."""
        return outer_edges(self.mesh)

    @cached_property
    def outer_faces(self) -> OuterFaces:
        """The sides of cells on the rim of the grid, layer by layer, around holes in the mesh too.

        Where a layer ends inside the grid its sides are closed and not listed.
        """
        cells, known = self.cells, {id(self.mesh): self.rim}
        parts = []
        for mesh, present, first in zip(
            self.meshes, self.within_layer, self.first_of_layer[:-1], strict=True
        ):
            if id(mesh) not in known:
                known[id(mesh)] = mesh.outer_edges() if isinstance(mesh, MergedMesh) else outer_edges(mesh)
            rim = known[id(mesh)]
            numbers = np.full(mesh.n_cells, -1, dtype=np.int64)
            numbers[present] = first + np.arange(len(present))
            there = numbers[rim.cell] >= 0
            cell = numbers[rim.cell[there]]
            area = rim.length[there] * cells.thickness[cell]
            parts.append((cell, rim.ends[there], rim.normal[there], area, rim.distance[there]))
        return OuterFaces(*(np.concatenate(v) for v in zip(*parts, strict=True)))

    def _sides(self) -> Iterator[_Sides]:
        """The side faces of each layer."""
        known: dict[int, tuple[PlanEdges, Any, Any]] = {}
        for mesh, present, first in zip(
            self.meshes, self.within_layer, self.first_of_layer[:-1], strict=True
        ):
            if id(mesh) not in known:
                edges = mesh.edges()
                distance = edges.distance
                known[id(mesh)] = edges, edges.length, distance[:, 1] / (distance[:, 0] + distance[:, 1])
            edges, length, share = known[id(mesh)]
            edge: Any = slice(None)
            if len(present) == mesh.n_cells:
                pair = first + edges.cells
            else:
                numbers = np.full(mesh.n_cells, -1, dtype=np.int64)
                numbers[present] = first + np.arange(len(present))
                pair = numbers[edges.cells]
                edge = np.flatnonzero((pair[:, 0] >= 0) & (pair[:, 1] >= 0))
                pair = pair[edge]
            yield _Sides(edges, edge, pair, length[edge], share[edge])

    def _floors(self) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]]:
        """Of the floor faces both cells, the upper one first, area and middle."""
        mesh = self.mesh
        pairs, plans = [], []
        above = np.full(mesh.n_cells, -1, dtype=np.int64)
        for k, here in enumerate(self.cell_number):
            plan = np.flatnonzero((above >= 0) & (here >= 0))
            pairs.append(np.column_stack([above[plan], here[plan]]))
            plans.append(plan)
            above = np.where(here >= 0, here, above)
            if self.taken_out is not None:
                above[self.taken_out[k]] = -1
        pair, plan = np.concatenate(pairs), np.concatenate(plans)
        area, middle = mesh.area[plan], mesh.centroid[plan]
        if self.joined:  # two cells may meet over several plan cells
            pair, _, whole = pairs_once(pair)
            moment = [np.bincount(whole, area * middle[:, k]) for k in (0, 1)]
            area = np.asarray(np.bincount(whole, area), dtype=np.float64)
            middle = np.column_stack(moment) / area[:, None]
        return pair, area, middle

    def equivalent_radius(
        self,
        cells: NDArray[np.int64],
        place: ArrayLike | None = None,
        anisotropy: ArrayLike = 1.0,
        direction: ArrayLike = 0.0,
    ) -> NDArray[np.float64]:
        """Return how far from a well the head is that of its cell, (n,) [m].

        From the rows of the faces around it, so on any mesh and under any anisotropy in plan. The connection of a well
        is ``2 pi length / sqrt(anisotropy) / ln(equivalent radius / radius of the bore)``.

        Parameters
        ----------
        cells : ndarray of int, (n,)
            Where wells stand.
        place : array_like of float, (n, 2), optional
            x and y of each, for a term that is told them too [m]; in the middle of its cell if not given.
        anisotropy, direction : array_like of float, as of `per_cell`
            Greatest over least conductivity in plan, and where to [degrees].

        References
        ----------
        Peaceman, D. W. (1983), Interpretation of well-block pressures in numerical reservoir simulation with nonsquare
        grid blocks and anisotropic permeability, SPE Journal 23(3), 531-543.
        """
        at = None if place is None else np.asarray(place, dtype=np.float64).reshape(-1, 2)
        return equivalent_radius(self, cells, at, anisotropy, direction)

    @property
    def shape(self) -> tuple[int, ...]:
        """(layers, rows, columns) on a rectangular mesh, else (cells,)."""
        if isinstance(self.mesh, RectangularMesh):
            return (len(self.layer_names), *self.mesh.shape)
        return (self.n_cells,)

    @property
    def is_square(self) -> bool:
        """Whether all centres are known to lie square to the faces between them: those of whole rectangles."""
        return isinstance(self.mesh, RectangularMesh) and self.mesh.outline is None and not self.joined

    def layers_named(self, name: str, what: str = "") -> tuple[int, ...]:
        """Return the positions of the layers that a name stands for: of a layer in parts all of its parts.

        Raises
        ------
        InputError
            If there is none; `what` says who names it.
        """
        return layers_named(name, self.layer_names, self.whole_names, what)

    def layer_index(self, name: str | int) -> int:
        """Return the position of a layer by its name (or check a position); of one in parts that of the uppermost."""
        if isinstance(name, str):
            return self.layers_named(name)[0]
        if 0 <= name < len(self.layer_names):
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
        elif array.shape == self.cell_number.shape:
            spread = array[cells.layer, cells.plan_cell]
        elif array.shape == self.shape and isinstance(self.mesh, RectangularMesh):
            spread = array[:, self.mesh.present][cells.layer, cells.plan_cell]
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
        plan = self.cells.plan_cell
        block[self.cells.layer, row[plan], column[plan]] = values
        return block

    def per_block(self, values: ArrayLike) -> NDArray[np.float64]:
        """Return the value of each cell from an array of `shape`, (n_cells,); the reverse of `to_block`."""
        values = np.asarray(values, dtype=np.float64)
        if not isinstance(self.mesh, RectangularMesh):
            return values
        row, column = self.mesh.row_column
        plan = self.cells.plan_cell
        return np.asarray(values[self.cells.layer, row[plan], column[plan]])

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

    def table(self) -> pd.DataFrame:
        """Return what the layers are cut into.

        Returns
        -------
        pandas.DataFrame
            One row per layer: how many cells; the least, median and greatest of their sizes (sides of squares of the
            same area [m]) and of their thickness [m]; and how many are made of a neighbour's material.
        """
        import pandas as pd

        cells, rows = self.cells, []
        for k, name in enumerate(self.layer_names):
            mine = slice(*self.first_of_layer[k : k + 2])
            size, thickness = np.sqrt(cells.area[mine]), cells.thickness[mine]
            spread = [
                v
                for of in (size, thickness)
                for v in (np.quantile(of, [0, 0.5, 1]) if len(of) else [np.nan] * 3)
            ]
            rows.append([name, len(size), *spread, int((cells.material_layer[mine] != k).sum())])
        measures = [
            f"{what} [m], {which}"
            for what in ("size", "thickness")
            for which in ("least", "median", "greatest")
        ]
        return pd.DataFrame(rows, columns=["layer", "cells", *measures, "made of another"])

    def place_of(self, cell: int) -> str:
        """Return where a cell is, in words."""
        cells = self.cells
        return f'layer "{self.layer_names[cells.layer[cell]]}", {place_words(cells.x[cell], cells.y[cell])}'

    def column_of(self, plan: int) -> NDArray[np.int64]:
        """Return the cells present below a plan cell, from the top down."""
        column = self.cell_number[:, plan]
        return np.asarray(column[column >= 0])
