"""What crosses a line in plan: from flows across faces to flow anywhere inside cells."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.model import Model
from inkhorn.space import Grid, RectangularMesh, fan_flow, line_corners

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["across_line", "rows_across_line", "through_rim"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_SLACK = 1e-9  # of a cell's size: what is nearer is on an edge


@dataclass(frozen=True, eq=False)
class _Pieces:
    """Parts of cells, convex, in each of which the flow a metre of width changes evenly from place to place.

    Attributes
    ----------
    cell : ndarray of int, (n,)
        Of which of the cells each is a part.
    corners : ndarray of float, (n, m, 2)
        Anticlockwise [m].
    value : ndarray of float, (n, 2)
        At the origin [m²/day].
    slope : ndarray of float, (n, 2, 2)
        Of it by place [m/day].
    """

    cell: Index
    corners: Array
    value: Array
    slope: Array


def across_line(
    grid: Grid, face_flow: Array, rim: Array, line: ArrayLike, unit: str = "m³/day"
) -> pd.DataFrame:
    """Return what crosses a line in plan, layer by layer; see `FlowResult.across`.

    Parameters
    ----------
    grid : Grid
        Whose faces are crossed.
    face_flow : ndarray of float, (n_faces,)
        From the first to the second cell of each face.
    rim : ndarray of float, (n_outer_faces,)
        Into the grid through each outer face, as of `through_rim`.
    line : array_like of float, (n, 2)
        x and y [m].
    unit : str
        Of what flows.

    Raises
    ------
    InputError
        If it is no line, or crosses no cell.
    """
    import pandas as pd

    points = line_corners(line)
    rows = []
    for layer, cells, shapes in _layers_met(grid, points):
        sides = _Sides.of(grid, cells)
        pieces = _pieces(grid, cells, shapes, sides, sides.flow(face_flow, rim))
        crossing = _through(pieces, points)
        rows.append(
            {
                "layer": grid.layer_names[layer],
                f"to the left [{unit}]": float(crossing[crossing > 0.0].sum()),
                f"to the right [{unit}]": float(-crossing[crossing < 0.0].sum()),
            }
        )
    frame = pd.DataFrame(rows).set_index("layer")
    frame.loc["total"] = frame.sum()
    frame[f"net to the left [{unit}]"] = frame.iloc[:, 0] - frame.iloc[:, 1]
    return frame


def rows_across_line(grid: Grid, line: ArrayLike, layers: Sequence[int] | None = None) -> tuple[Any, Any]:
    """Return how what goes to the left of a line, less what goes to the right, is made of the flows across faces.

    Parameters
    ----------
    grid : Grid
        Whose faces are crossed.
    line : array_like of float, (n, 2)
        x and y [m].
    layers : sequence of int, optional
        The positions of layers that count; all if not given.

    Returns
    -------
    faces : scipy.sparse.csr_array, (1, n_faces)
        Weights of flows from the first to the second cell of each face.
    rim : scipy.sparse.csr_array, (1, n_outer_faces)
        Of flows into the grid through each outer face.

    Raises
    ------
    InputError
        If it is no line, or crosses no cell.
    """
    from scipy.sparse import csr_array

    points = line_corners(line)
    inner, outer = np.zeros(len(grid.faces)), np.zeros(len(grid.outer_faces))
    for layer, cells, shapes in _layers_met(grid, points):
        if layers is not None and layer not in layers:
            continue
        sides = _Sides.of(grid, cells)
        for (
            one
        ) in sides.one_of_each():  # what crosses a cell follows from the flows across its own sides alone
            pieces = _pieces(grid, cells, shapes, sides, one.astype(np.float64))
            piece, passes, _ = _passes(pieces, points)
            through = np.bincount(pieces.cell[piece], passes, len(cells))[sides.whose[one]]
            weight = sides.sign[one] * through
            rim = sides.is_outer[one]
            np.add.at(inner, sides.number[one][~rim], weight[~rim])
            np.add.at(outer, sides.number[one][rim], weight[rim])
    return csr_array(inner[None, :]), csr_array(outer[None, :])


def _layers_met(grid: Grid, points: Array) -> Iterator[tuple[int, Index, NDArray[Any]]]:
    """Go through the layers in which a line meets cells: which, the cells, and their shapes."""
    import shapely

    found = False
    for k in range(len(grid.layer_names)):
        shapes, present = grid.meshes[k].polygons(), grid.within_layer[k]
        met = np.flatnonzero(shapely.intersects(shapes[present], shapely.LineString(points)))
        if len(met):
            found = True
            yield k, int(grid.first_of_layer[k]) + met, shapes[present[met]]
    if not found:
        raise InputError("the line crosses no cell. Draw it inside the model.")


def _pieces(grid: Grid, cells: Index, shapes: NDArray[Any], sides: _Sides, flow: Array) -> _Pieces:
    """The parts of cells of one layer in which flow changes evenly, for what flows out across each of their sides."""
    mesh = grid.meshes[int(grid.cells.layer[cells[0]])]
    if isinstance(mesh, RectangularMesh) and mesh.outline is None:
        return _in_boxes(grid, cells, sides, flow)
    return _in_triangles(cells, shapes, sides, flow)


def through_rim(model: Model, step: Any) -> Array:
    """Return what comes in through each outer face in a step, (n_outer_faces,) [m³/day]."""
    flow = np.zeros(len(model.grid.outer_faces))
    for term, entry in zip(model.terms, step.term_flow, strict=True):
        through = term.outer_face >= 0
        np.add.at(flow, term.outer_face[through], entry[through])
    return flow


@dataclass(frozen=True, eq=False)
class _Sides:
    """The sides of some cells.

    Attributes
    ----------
    whose : ndarray of int, (n,)
        A place among the cells.
    ends, normal : ndarray of float, (n, 2, 2) and (n, 2)
        In plan [m], and the unit vector outwards.
    number : ndarray of int, (n,)
        Of the face, or of the outer face.
    sign : ndarray of float, (n,)
        Of what flows out, over what flows across the face.
    is_outer : ndarray of bool, (n,)
        Which it is.
    """

    whose: Index
    ends: Array
    normal: Array
    number: Index
    sign: Array
    is_outer: NDArray[np.bool_]

    @classmethod
    def of(cls, grid: Grid, cells: Index) -> _Sides:
        faces, outer = grid.faces, grid.outer_faces
        place = np.full(grid.n_cells, -1)
        place[cells] = np.arange(len(cells))
        side = np.flatnonzero(~faces.is_floor)
        parts = []
        for k, sign in ((0, 1.0), (1, -1.0)):
            mine = side[place[faces.cells[side, k]] >= 0]
            normal = sign * faces.normal[mine, :2]
            parts.append(
                (place[faces.cells[mine, k]], faces.ends[mine], normal, mine, np.full(len(mine), sign))
            )
        mine = np.flatnonzero(place[outer.cell] >= 0)
        parts.append(
            (place[outer.cell[mine]], outer.ends[mine], outer.normal[mine], mine, np.full(len(mine), -1.0))
        )
        joined = [np.concatenate(v) for v in zip(*parts, strict=True)]
        whose, ends, normal, number, signs = joined
        return cls(whose, ends, normal, number, signs, np.arange(len(whose)) >= len(whose) - len(mine))

    def flow(self, face_flow: Array, rim: Array) -> Array:
        """Return what flows out across each."""
        out = np.empty(len(self.whose))
        for here, flows in ((self.is_outer, rim), (~self.is_outer, face_flow)):
            out[here] = self.sign[here] * flows[self.number[here]]
        return out

    def one_of_each(self) -> Iterator[NDArray[np.bool_]]:
        """Go through the sides so that each time one of every cell is chosen, where it has so many, (n,)."""
        order = np.argsort(self.whose, kind="stable")
        whose = self.whose[order]
        rank = np.empty(len(order), dtype=np.int64)
        rank[order] = np.arange(len(order)) - np.searchsorted(whose, whose)
        for k in range(int(rank.max(initial=-1)) + 1):
            yield rank == k


def _in_boxes(grid: Grid, cells: Index, sides: _Sides, flow: Array) -> _Pieces:
    """In rectangles the flow along either axis changes evenly from side to side."""
    mesh = grid.mesh
    assert isinstance(mesh, RectangularMesh)  # asked for only then
    whose, normal = sides.whose, sides.normal
    turn = np.deg2rad(mesh.rotation)
    axes = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    row, column = (v[grid.cells.plan_cell[cells]] for v in mesh.row_column)
    size = np.column_stack([np.diff(mesh.x_edges)[column], np.diff(mesh.y_edges)[row]])
    centre = np.column_stack([mesh.x, mesh.y])[grid.cells.plan_cell[cells]]
    value, slope = np.zeros((len(cells), 2)), np.zeros((len(cells), 2, 2))
    for k in (0, 1):
        along = normal @ axes[k]
        high, low = (
            np.bincount(whose, np.where(w, flow, 0.0), len(cells)) for w in (along > 0.5, along < -0.5)
        )
        width = size[:, 1 - k]
        mean, change = 0.5 * (high - low) / width, (high + low) / width / size[:, k]
        value += mean[:, None] * axes[k]
        slope += change[:, None, None] * axes[k][:, None] * axes[k]
    value -= np.einsum("nij,nj->ni", slope, centre)
    ring = np.array([[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]])
    corners = centre[:, None] + (ring[None] * size[:, None]) @ axes
    return _Pieces(np.arange(len(cells)), corners, value, slope)


def _in_triangles(cells: Index, shapes: NDArray[Any], sides: _Sides, flow: Array) -> _Pieces:
    """In other cells there is one divergence, and the least energy, in a fan around the centre of gravity."""
    import shapely

    whose, ends, normal = sides.whose, sides.ends, sides.normal
    centre = shapely.get_coordinates(shapely.centroid(shapes))
    ahead = (ends[:, 1] - ends[:, 0])[:, 0] * normal[:, 1] - (ends[:, 1] - ends[:, 0])[:, 1] * normal[
        :, 0
    ] < 0.0
    ends = np.where(ahead[:, None, None], ends, ends[:, ::-1])  # anticlockwise
    order = np.argsort(whose, kind="stable")
    begin = np.searchsorted(whose[order], np.arange(len(cells) + 1))
    fans, flows = [], []
    for n, (a, b) in enumerate(pairwise(begin)):
        mine = order[a:b]
        fan, out = _fan(ends[mine], flow[mine], shapes[n], centre[n])
        fans.append(fan)
        flows.append(out)
    cell = np.repeat(np.arange(len(cells)), [len(v) for v in flows])
    corners = np.concatenate([centre[cell][:, None], np.concatenate(fans)], axis=1)  # centre, begin, end
    arm = corners - corners[:, :1]
    flux = fan_flow(arm, cell, np.concatenate(flows))
    area = 0.5 * (arm[:, 1, 0] * arm[:, 2, 1] - arm[:, 1, 1] * arm[:, 2, 0])
    half = 0.5 / np.maximum(area, 1e-12 * np.bincount(cell, np.abs(area))[cell])
    value = -(half[:, None] * np.einsum("mi,mik->mk", flux, corners))
    slope = (half * flux.sum(axis=1))[:, None, None] * np.eye(2)
    return _Pieces(cell, corners, value, slope)


def _fan(ends: Array, flow: Array, shape: Any, centre: Array) -> tuple[Array, Array]:
    """The sides of a cell one after the other round its centre, (m, 2, 2), and what flows out of each.

    What of its outline no face covers is closed.
    """
    import shapely

    slack = 1e-6 * np.sqrt(shape.area)
    covered = np.hypot(*(ends[:, 1] - ends[:, 0]).T).sum()
    if shape.length - covered > 10.0 * slack:
        open_ = shapely.multilinestrings(ends) if len(ends) else shapely.MultiLineString()
        rest = shape.exterior.difference(open_.buffer(slack))
        more = [
            np.array(pair)
            for part in shapely.get_parts(rest)
            for pair in pairwise(np.asarray(part.coords))
            if np.hypot(*np.subtract(*pair)) > 10.0 * slack
        ]
        if more:
            turned = np.array(more)
            arm = turned - centre
            back = arm[:, 0, 0] * arm[:, 1, 1] - arm[:, 0, 1] * arm[:, 1, 0] < 0.0
            turned[back] = turned[back][:, ::-1]
            ends, flow = np.concatenate([ends, turned]), np.concatenate([flow, np.zeros(len(turned))])
    middle = ends.mean(axis=1) - centre
    order = np.argsort(np.arctan2(middle[:, 1], middle[:, 0]))
    return ends[order], flow[order]


def _through(pieces: _Pieces, points: Array) -> Array:
    """What passes to the left through each stretch of a line between the edges of pieces, (n,) [m³/day]."""
    _, passes, stretch = _passes(pieces, points)
    return np.asarray(np.bincount(stretch, passes))


def _passes(pieces: _Pieces, points: Array) -> tuple[Index, Array, Index]:
    """What passes to the left through a line, stretch by stretch between the edges of pieces.

    Returns
    -------
    piece, passes, stretch : ndarray, (n,)
        Through which piece, how much, and in which stretch of the line. On an edge each side of it counts for its share.
    """
    corners = pieces.corners
    low, high = corners.min(axis=1), corners.max(axis=1)
    slack = _SLACK * np.sqrt(np.prod(high - low, axis=1).max(initial=1.0))
    found, first = [(np.empty(0, np.int64), np.empty(0), np.empty(0, np.int64))], 0
    for begin, end in pairwise(points):
        way = end - begin
        length = float(np.hypot(*way))
        if length == 0.0:
            continue
        left = np.array([-way[1], way[0]]) / length
        least, most = np.minimum(begin, end) - slack, np.maximum(begin, end) + slack
        near = np.flatnonzero(((low <= most) & (high >= least)).all(axis=1))
        ring = corners[near]
        side = np.roll(ring, -1, axis=1) - ring
        arm = ring - begin
        across = way[0] * side[..., 1] - way[1] * side[..., 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            at = (arm[..., 0] * side[..., 1] - arm[..., 1] * side[..., 0]) / across
        on_line = np.abs(arm @ left) <= slack
        cuts = np.concatenate([[0.0, 1.0], at[np.isfinite(at)], (arm @ way / length**2)[on_line]])
        cuts = np.unique(np.clip(cuts, 0.0, 1.0))
        cuts = cuts[np.concatenate([[True], np.diff(cuts) * length > slack])]
        middle = begin + 0.5 * (cuts[1:] + cuts[:-1])[:, None] * way
        width = np.diff(cuts) * length
        outward = np.stack([side[..., 1], -side[..., 0]], axis=-1)
        outward /= np.hypot(side[..., 0], side[..., 1])[..., None]
        offset = (outward * ring).sum(axis=2)
        piece, stretch = [], []
        for n in range(len(near)):
            a, b = np.searchsorted(cuts, _span(ring[n], begin, way, length, slack))
            some = np.arange(max(a - 1, 0), min(b + 1, len(width)))
            inside = some[(middle[some] @ outward[n].T <= offset[n] + slack).all(axis=1)]
            piece.append(np.full(len(inside), near[n]))
            stretch.append(inside)
        if not piece:
            continue
        which, where = np.concatenate(piece), np.concatenate(stretch)
        share = width[where] / np.bincount(where, minlength=len(width))[where]
        flux = pieces.value[which] + np.einsum("nij,nj->ni", pieces.slope[which], middle[where])
        found.append((which, share * (flux @ left), first + where))
        first += len(width)
    which, passes, where = (np.concatenate(v) for v in zip(*found, strict=True))
    return which, passes, where


def _span(ring: Array, begin: Array, way: Array, length: float, slack: float) -> Array:
    """From where to where along a line something may be met."""
    at = (ring - begin) @ way / length**2
    return np.array([at.min() - slack / length, at.max() + slack / length])
