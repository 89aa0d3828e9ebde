"""A grid as tables: outlines of its plan cells, the cell of each layer in each, and a row for each cell; and back."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.files.meshes import rings_from_nodes
from inkhorn.space import Grid, PlanMesh

__all__ = ["GridTables", "PlanOutlines", "assembled", "cell_table", "numbers", "outlines"]

TAKEN_OUT = -2  # instead of a cell's number, where a layer was taken out


class GridTables(NamedTuple):
    """What a file holds of a grid.

    Attributes
    ----------
    mesh : PlanMesh
        The plan cells.
    names, whole_names : tuple of str
        Of the layers, and of those that they are parts of; see `Grid`.
    number : ndarray of int, (n_layers, n_plan)
        As `numbers` has them.
    table : dict of str to ndarray, (n_cells,)
        As `cell_table` has it.
    units : dict of str to str
        Of properties.
    """

    mesh: PlanMesh
    names: tuple[str, ...]
    whole_names: tuple[str, ...]
    number: NDArray[np.int64]
    table: dict[str, NDArray[Any]]
    units: dict[str, str]


class PlanOutlines(NamedTuple):
    """The outlines of plan cells as corners shared between them; `odd` are those of several rings, as text."""

    nodes: NDArray[np.float64]
    start: NDArray[np.int64]
    node: NDArray[np.int64]
    odd: NDArray[np.int64]
    text: list[str]

    @property
    def connectivity(self) -> NDArray[np.int64]:
        """Nodes of each cell, -1 beyond its last, (n_cells, most)."""
        count = np.diff(self.start)
        there = np.arange(count.max()) < count[:, None]
        around = np.full(there.shape, -1, dtype=np.int64)
        around[there] = self.node
        return around

    def polygons(self) -> NDArray[Any]:
        import shapely

        around = self.connectivity
        shapes = rings_from_nodes(self.nodes, around, around >= 0)
        shapes[self.odd] = shapely.from_wkt(self.text)
        return shapes


def outlines(shapes: NDArray[Any]) -> PlanOutlines:
    """Corners around each cell, anticlockwise; of those with holes or several parts, those of the largest part."""
    import shapely

    kinds = shapely.get_type_id(shapes)
    odd = np.flatnonzero(
        (kinds == shapely.GeometryType.MULTIPOLYGON) | (shapely.get_num_interior_rings(shapes) > 0)
    )
    simple = shapes.copy()
    for k in odd:
        simple[k] = max(shapely.get_parts(shapes[k]), key=shapely.area)
    rings = shapely.get_exterior_ring(shapely.orient_polygons(simple, exterior_cw=False))
    points, owner = shapely.get_coordinates(rings, return_index=True)
    last = np.append(owner[1:] != owner[:-1], True)  # each ring ends where it began
    nodes, node = np.unique(points[~last], axis=0, return_inverse=True)
    start = np.concatenate([[0], np.cumsum(np.bincount(owner[~last], minlength=len(shapes)))])
    return PlanOutlines(
        nodes, start, node.ravel(), odd, [shapely.to_wkt(shapes[k], rounding_precision=-1) for k in odd]
    )


def numbers(grid: Grid) -> NDArray[np.int64]:
    """Cell of each layer and plan cell, -1 where absent and -2 where taken out."""
    number = grid.cell_number.copy()
    if grid.taken_out is not None:
        number[grid.taken_out] = TAKEN_OUT
    return number


def cell_table(
    grid: Grid, properties: Mapping[str, ArrayLike], *, gaps: bool = False
) -> dict[str, NDArray[Any]]:
    """The table of cells, properties last; with `gaps` these may be NaN where a cell has none."""
    own = {
        "layer": grid.cells.layer,
        "plan": grid.cells.plan_cell,
        "top": grid.cells.top,
        "bottom": grid.cells.bottom,
        "material": grid.cells.material_layer,
    }
    taken = [k for k in properties if k in {*own, "x", "y", "number"}]
    if taken:
        raise InputError(
            f"a property cannot be called {taken[0]!r}: the file uses that name. Choose another."
        )
    made = {}
    for name, values in properties.items():
        numbers = np.asarray(values, dtype=np.float64)
        absent = np.isnan(numbers) & gaps
        made[name] = np.array(grid.per_cell(name, np.where(absent, 0.0, numbers)), dtype=np.float64)
        made[name][np.broadcast_to(absent, made[name].shape) if absent.any() else slice(0)] = np.nan
    return {**own, **made}


def assembled(tables: GridTables) -> Grid:
    """A grid from its cells."""
    mesh, names, whole_names, number, table, _ = tables
    there = number >= 0
    levels = {}
    for key in ("top", "bottom"):
        levels[key] = np.full(number.shape, np.nan)
        levels[key][there] = np.asarray(table[key], dtype=np.float64)[number[there]]
    layer = np.broadcast_to(np.arange(len(names))[:, None], number.shape)
    material = layer.copy()
    material[there] = np.asarray(table["material"], dtype=np.int64)[number[there]]
    joined = {}
    for k, row in enumerate(number):
        if len(np.unique(row[row >= 0])) < (row >= 0).sum():
            # absent plan cells stand for themselves: nothing says which of them were one
            alone = np.where(row >= 0, row, number.max() + 1 + np.arange(len(row)))
            _, first, group = np.unique(alone, return_index=True, return_inverse=True)
            rank = np.empty(len(first), dtype=np.int64)
            rank[np.argsort(first)] = np.arange(len(first))
            joined[k] = rank[group.ravel()]
    removed = number == TAKEN_OUT
    return Grid(
        mesh,
        names,
        levels["top"],
        levels["bottom"],
        material_layer=None if (material == layer).all() else material,
        joined=joined,
        taken_out=removed if removed.any() else None,
        whole_names=whole_names,
    )
