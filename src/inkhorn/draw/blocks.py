"""The block of layers seen from above and aside, opened along a line."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.draw.style import material_style
from inkhorn.errors import InputError
from inkhorn.space import Grid, area_of, line_corners

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["bar_beside_block", "block"]

_SHADE = np.array([0.82, 0.82, 0.82, 1.0])  # on upright sides


def block(
    grid: Grid,
    *,
    opened: Sequence[Sequence[float]] | None = None,
    values: ArrayLike | None = None,
    label: str = "",
    exaggeration: float | None = None,
    view: tuple[float, float] | None = None,
    ax: Any = None,
) -> Axes:
    """Draw the cells as a block, by what they are made of or by value.

    Parameters
    ----------
    grid : Grid
        Cells.
    opened : sequence of (x, y), optional
        A line from end to end [m]; what lies to the right of it, going along, is taken away.
    values : array_like of float, optional
        As `Grid.per_cell` takes them; coloured instead of materials.
    label : str
        Of the colour bar of values, with their unit.
    exaggeration : float, optional
        Of heights over lengths; a quarter of the width if not given.
    view : (float, float), optional
        Height of the eye over the horizon, and its direction [degrees]; onto the opened side if not given.
    ax : Axes3D, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes3D

    Raises
    ------
    InputError
        If the line leaves nothing.
    """
    import matplotlib.pyplot as plt
    import shapely
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import Normalize, to_rgba
    from matplotlib.lines import Line2D
    from mpl_toolkits.mplot3d.art3d import Poly3DCollection

    if ax is None:
        ax = plt.figure(figsize=(12.0, 7.5)).add_subplot(projection="3d")
    mesh, cells = grid.mesh, grid.cells
    kept = np.ones(mesh.n_cells, dtype=bool) if opened is None else _left_of(opened, mesh)
    kept &= grid.uppermost >= 0
    if not kept.any():
        raise InputError("the line leaves nothing of the block. Draw it the other way round, or elsewhere.")
    if values is None:
        solids = [to_rgba(material_style(k).solid) for k in range(len(grid.layer_names))]
        colours = np.array(solids)[cells.material_layer]
    else:
        number = grid.per_cell("values", values)
        scale = ScalarMappable(Normalize(float(number.min()), float(number.max())), "viridis")
        colours = scale.to_rgba(number)
        bar_beside_block(ax, scale, label)
    faces, shades = _lids(grid, kept, colours)
    walls, wall_shades = _walls(grid, kept, colours)
    solid = Poly3DCollection(
        faces + walls, facecolors=np.array(shades + wall_shades), edgecolors=(0, 0, 0, 0.25), linewidths=0.2
    )
    ax.autoscale(enable=False)  # limits are set below; corners that shorter faces lack would count as data
    ax.add_collection3d(solid)
    west, south, east, north = shapely.total_bounds(mesh.polygons())
    low, high = float(cells.bottom.min()), float(cells.top.max())
    ax.set(xlim=(west, east), ylim=(south, north), zlim=(low, high))
    length = max(east - west, north - south)
    used = exaggeration or max(float(f"{0.25 * length / (high - low):.1g}"), 1.0)
    ax.set_box_aspect((east - west, north - south, used * (high - low)), zoom=1.25)
    ax.view_init(*(view or (26.0, -60.0 if opened is None else _from_the_right(opened))))
    ax.set_xlabel("x [m]", labelpad=10)
    ax.set_ylabel("y [m]", labelpad=10)
    ax.set_zlabel("elevation [m]")
    ax.set_title(f"heights × {used:g}", y=1.02)
    if values is None:
        marks = [
            Line2D([], [], marker="s", ls="", color=material_style(int(m)).solid)
            for m in np.unique(cells.material_layer)
        ]
        names = [grid.layer_names[m] for m in np.unique(cells.material_layer)]
        ax.legend(marks, names, loc="upper left", bbox_to_anchor=(0.02, 0.98), fontsize=8, frameon=False)
    return ax


def bar_beside_block(ax: Any, drawn: Any, label: str) -> None:
    """Put a colour bar at the left of axes in three dimensions, where nothing stands."""
    place = ax.get_position(original=True)
    beside = ax.figure.add_axes(
        (
            place.x0 + 0.03 * place.width,
            place.y0 + 0.45 * place.height,
            0.014 * place.width,
            0.4 * place.height,
        )
    )
    ax.figure.colorbar(drawn, cax=beside, label=label).ax.tick_params(labelsize=8)


def _from_the_right(line: Sequence[Sequence[float]]) -> float:
    """Direction in which to stand to the right of a line, a little aside [degrees]."""
    (x0, y0), (x1, y1) = line[0], line[-1]
    return float(np.rad2deg(np.arctan2(y1 - y0, x1 - x0))) - 90.0 + 20.0


def _left_of(line: Sequence[Sequence[float]], mesh: Any) -> NDArray[np.bool_]:
    """Which plan cells lie to the left of a line, its ends drawn out beyond the mesh."""
    import shapely
    from shapely.ops import split

    way = line_corners(line)
    west, south, east, north = shapely.total_bounds(mesh.polygons())
    far = 3.0 * max(east - west, north - south)
    ends = [(way[0], way[0] - way[1]), (way[-1], way[-1] - way[-2])]
    first, last = (place + far * arm / np.hypot(*arm) for place, arm in ends)
    drawn = shapely.LineString(np.vstack([first, way, last]))
    box = shapely.box(west, south, east, north).buffer(0.1 * far)
    parts = shapely.get_parts(split(box, drawn))
    beside = shapely.point_on_surface(parts)
    left = np.array([_is_left(drawn, p) for p in beside])
    return np.asarray(shapely.contains_xy(shapely.union_all(parts[left]), mesh.x, mesh.y))


def _is_left(line: Any, point: Any) -> bool:
    """Whether a point lies to the left of a line, seen from the piece of it that is nearest."""
    import shapely

    ring = shapely.get_coordinates(line)
    steps = shapely.linestrings(np.stack([ring[:-1], ring[1:]], axis=1))
    k = int(np.argmin(shapely.distance(steps, point)))
    along, arm = ring[k + 1] - ring[k], np.array([point.x, point.y]) - ring[k]
    return bool(along[0] * arm[1] - along[1] * arm[0] > 0)


def _lids(grid: Grid, kept: NDArray[np.bool_], colours: NDArray[Any]) -> tuple[list[Any], list[Any]]:
    """The ground of every column, lit from above, and the steps between columns."""
    import shapely

    faces, shades = [], []
    shapes = grid.mesh.polygons()
    for plan in np.flatnonzero(kept):
        cell = grid.uppermost[plan]
        for part in shapely.get_parts(shapes[plan]):
            ring = np.asarray(part.exterior.coords)[:, :2]
            faces.append(np.column_stack([ring, np.full(len(ring), grid.cells.top[cell])]))
            shades.append(colours[cell])
    edges = grid.mesh.edges()
    between = kept[edges.cells].all(axis=1)
    ground = grid.uppermost[edges.cells[between]]
    top = grid.cells.top[ground]
    for (a, b), cell, (low, high) in zip(
        edges.ends[between],
        ground[np.arange(len(top)), np.argmax(top, axis=1)],
        np.sort(top, axis=1),
        strict=True,
    ):
        if high > low:
            faces.append(np.array([(*a, low), (*b, low), (*b, high), (*a, high)]))
            shades.append(colours[cell] * _SHADE)
    return faces, shades


def _walls(grid: Grid, kept: NDArray[np.bool_], colours: NDArray[Any]) -> tuple[list[Any], list[Any]]:
    """The sides of the block: of every cell where its column has no neighbour that is kept."""
    import shapely

    shapes = grid.mesh.polygons()
    outside = shapely.boundary(area_of(grid.mesh, np.flatnonzero(kept), grid.rim))
    near = outside.buffer(1e-6 * np.sqrt(outside.length))  # rounded where it was made of sides
    shapely.prepare(near)
    plans = np.flatnonzero(kept)
    plans = plans[shapely.intersects(near, shapes[plans])]
    pieces = shapely.intersection(shapely.boundary(shapes[plans]), near)
    faces, shades = [], []
    for plan, piece in zip(plans, pieces, strict=True):
        ways = [np.asarray(w.coords) for w in shapely.get_parts(piece) if w.geom_type == "LineString"]
        for cell in grid.column_of(int(plan)):
            low, high = grid.cells.bottom[cell], grid.cells.top[cell]
            for way in ways:
                for a, b in pairwise(way):
                    faces.append([(*a, low), (*b, low), (*b, high), (*a, high)])
                    shades.append(colours[cell] * _SHADE)
    return faces, shades
