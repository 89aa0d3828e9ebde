"""Centres of Voronoi cells: laid along features and the boundary, strewn by the size wanted, and evened out."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_positive
from inkhorn.sizes import refuse_beyond
from inkhorn.space.mesh import BYTES_PER_PLAN_CELL, shapes_of
from inkhorn.space.voronoi import VoronoiMesh, finite_ridges
from inkhorn.units import WithUnit, plain

__all__ = ["voronoi"]

Array = NDArray[np.float64]

_UNPINCHED = 3  # rounds, at the most, of lengthening edges
_NEAR_ENOUGH = 0.03  # by which share a distance to the next feature may be too long, for sizes
_SHORT = 0.12  # edge over centre distance, below which it is lengthened; faces below 0.1 count as bad


class _Sizes:
    """The wanted size of a cell at any place."""

    def __init__(self, size: float, near: Iterable[tuple[Any, float]], growth: float) -> None:
        from scipy.spatial import KDTree

        self.size, self.slope = size, (growth - 1.0) / growth
        groups: dict[float, list[Array]] = {}
        for shape, wanted in near:
            if wanted < size:
                groups.setdefault(wanted, []).append(_dense_points(shape, 0.25 * wanted))
        self.trees = [(wanted, KDTree(np.concatenate(places))) for wanted, places in sorted(groups.items())]

    def at(self, places: Array) -> Array:
        wanted = np.full(len(places), self.size)
        for size, tree in self.trees:
            reach = (self.size - size) / self.slope
            away = tree.query(places, eps=_NEAR_ENOUGH, distance_upper_bound=reach, workers=-1)[0]
            wanted = np.minimum(wanted, size + self.slope * away)
        return wanted


def _dense_points(shape: Any, spacing: float) -> Array:
    """Points along the lines or outlines of a shape; for a polygon also over its inside."""
    import shapely

    if shape.geom_type in ("Point", "MultiPoint"):
        return np.asarray(shapely.get_coordinates(shape))
    places = [shapely.get_coordinates(shapely.segmentize(shape, spacing))]
    if "Polygon" in shape.geom_type:
        west, south, east, north = shape.bounds
        x, y = np.meshgrid(np.arange(west, east, 4 * spacing), np.arange(south, north, 4 * spacing))
        here = shapely.contains_xy(shape, x, y)
        places.append(np.column_stack([x[here], y[here]]))
    return np.concatenate(places)


def _first_places(outline: Any, sizes: _Sizes, rng: np.random.Generator) -> Array:
    """A place in each leaf of squares that are halved until they are as small as wanted."""
    import shapely

    west, south, east, north = outline.bounds
    side = sizes.size
    columns, rows = int(np.ceil((east - west) / side)), int(np.ceil((north - south) / side))
    x, y = np.meshgrid(west + side * (np.arange(columns) + 0.5), south + side * (np.arange(rows) + 0.5))
    squares = np.column_stack([x.ravel(), y.ravel()])
    leaves = []
    quarter = np.array([[-0.25, -0.25], [0.25, -0.25], [-0.25, 0.25], [0.25, 0.25]])
    while len(squares):
        wanted = sizes.at(squares)
        done = side <= 1.4 * wanted  # halving a square of this side would come out further off
        leaves.append(squares[done] + side * rng.uniform(-0.3, 0.3, (int(done.sum()), 2)))
        squares = (squares[~done][:, None] + side * quarter).reshape(-1, 2)
        side *= 0.5
    places = np.concatenate(leaves)
    return places[shapely.contains_xy(outline, places[:, 0], places[:, 1])]


def _fixed_places(outline: Any, near: Iterable[tuple[Any, float]], sizes: _Sizes) -> Array:
    """Points, the vertices of lines, and places along lines no further apart than wanted."""
    import shapely

    found = []
    for shape, _ in near:
        for part in getattr(shape, "geoms", [shape]):
            if part.geom_type == "Point":
                found.append(shapely.get_coordinates(part))
            elif part.geom_type == "LineString":
                for start, end in zip(
                    np.asarray(part.coords)[:-1, :2], np.asarray(part.coords)[1:, :2], strict=True
                ):
                    wanted = float(sizes.at(0.5 * (start + end)[None])[0])
                    pieces = max(int(np.ceil(np.hypot(*(end - start)) / wanted - 1e-9)), 1)
                    found.append(start + (end - start) * np.linspace(0, 1, pieces + 1)[:, None])
    if not found:
        return np.empty((0, 2))
    places = np.concatenate(found)
    _, first = np.unique(np.round(places, 6), axis=0, return_index=True)
    places = places[first]  # in an order that does not depend on that of the features
    return np.asarray(places[shapely.contains_xy(outline, places[:, 0], places[:, 1])])


def _mirrored(places: Array, wanted: Array, outline: Any) -> Array:
    """Images of the places near the outline, behind it, so that cells end about there."""
    import shapely

    rim = shapely.boundary(outline)
    shapely.prepare(rim)
    points = shapely.points(places)
    close = np.flatnonzero(shapely.dwithin(rim, points, 3.0 * float(wanted.max())))
    lines = shapely.shortest_line(points[close], rim)
    on_rim = shapely.get_coordinates(lines).reshape(-1, 2, 2)[:, 1]
    arm = on_rim - places[close]
    use = np.hypot(arm[:, 0], arm[:, 1]) < 2.0 * wanted[close]
    images = places[close][use] + 2.0 * arm[use]
    return images[~shapely.contains_xy(outline, images[:, 0], images[:, 1])]


def voronoi(
    outline: Any,
    *,
    size: WithUnit | None = None,
    cells: int | None = None,
    near: Sequence[tuple[Any, WithUnit]] = (),
    boundary: WithUnit | None = None,
    growth: float = 1.3,
    rounds: int = 4,
    seed: int = 0,
) -> VoronoiMesh:
    """Cut the inside of a polygon into Voronoi cells of wanted sizes.

    Cells stand on every point and along every line of `near`; the others are moved to the middle of what
    is theirs, weighted so that sizes follow, a number of rounds (Lloyd 1982).

    Parameters
    ----------
    outline : shapely Polygon
        May have holes.
    size : float, optional
        Wanted size of cells away from everything: the side of a square of the same area [m].
    cells : int, optional
        About how many cells there are to be, instead of `size`.
    near : sequence of (shapes, size)
        Features, bores or shapely shapes, and the size of cells at them [m]. A polygon is filled with
        cells of its size; points and lines get cells of their own, where they lie inside.
    boundary : float, optional
        Size along the outline [m].
    growth : float
        Greatest ratio of the sizes of neighbours, above 1: how fast cells grow away from features.
    rounds : int
        How often places are moved; more give rounder cells.
    seed : int
        Of the random first places: the same seed gives the same mesh.

    Returns
    -------
    VoronoiMesh

    Raises
    ------
    InputError
        If neither or both of `size` and `cells` are given, a size is not above 0, or memory is not allowed for so many
        cells.

    References
    ----------
    Lloyd, S. P. (1982), Least squares quantization in PCM, IEEE Transactions on Information Theory
    28(2), 129-137. Du, Q., Faber, V. and Gunzburger, M. (1999), Centroidal Voronoi tessellations,
    SIAM Review 41(4), 637-676 (density and size).

    Examples
    --------
    >>> import shapely
    >>> mesh = voronoi(shapely.box(0, 0, 1000, 600), size=100, near=[(shapely.Point(300, 200), 10)])
    >>> bool(abs(mesh.area.sum() - 6e5) < 1e-3), mesh.locate([300.0], [200.0]).tolist()
    (True, [0])
    """
    import shapely

    size, boundary = plain(size, "length", "size"), plain(boundary, "length", "boundary")
    near = [(group, plain(wanted, "length", "near")) for group, wanted in near]
    if (size is None) == (cells is None):
        raise InputError("give either `size` (a size in m) or `cells` (about how many), and not both.")
    if growth <= 1.0:
        raise InputError(f"growth is {growth:g}; expected a ratio above 1, such as 1.3.")
    given = [(shape, float(wanted)) for group, wanted in near for shape in shapes_of(group)]
    shapes = [*given, *([(shapely.boundary(outline), boundary)] if boundary is not None else [])]
    check_positive("near", [wanted for _, wanted in shapes], unit="m")
    if cells is not None:
        check_positive("cells", cells)
    if size is not None:
        check_positive("size", size, unit="m")
    count = outline.area / size**2 if size is not None else float(cells or 0)
    count += sum(20.0 + shape.length / wanted + shape.area / wanted**2 for shape, wanted in shapes)
    refuse_beyond(
        "memory", count * BYTES_PER_PLAN_CELL, f"{count:.3g} Voronoi cells", "Ask for larger cells, or fewer."
    )
    if size is None:
        assert cells is not None  # one of both is given
        size = _size_for(outline, cells, shapes, growth)
    check_positive("size", size, unit="m")
    sizes = _Sizes(size, shapes, growth)
    fixed = _fixed_places(outline, given, sizes)
    places = np.vstack(
        [fixed, _away_from(_first_places(outline, sizes, np.random.default_rng(seed)), fixed, sizes)]
    )
    n_fixed = len(fixed)
    for turn in range(rounds):
        places = _moved(places, n_fixed, sizes, outline)
        if turn < rounds - 1:
            free = _away_from(places[n_fixed:], fixed, sizes)
            places = np.vstack([fixed, free])
    for _ in range(_UNPINCHED if rounds else 0):
        places, pinched = _unpinched(places, n_fixed, outline)
        if not pinched:
            break
    return VoronoiMesh(places, outline)


def _size_for(outline: Any, cells: int, shapes: list[tuple[Any, float]], growth: float) -> float:
    """The size far from everything that gives about so many cells."""
    import shapely

    west, south, east, north = outline.bounds
    x, y = np.meshgrid(np.linspace(west, east, 300), np.linspace(south, north, 300))
    here = shapely.contains_xy(outline, x, y)
    places = np.column_stack([x[here], y[here]])
    sizes = _Sizes(float(np.sqrt(outline.area)), shapes, growth)
    away = [(size, tree.query(places, eps=_NEAR_ENOUGH, workers=-1)[0]) for size, tree in sizes.trees]
    low, high = 1e-3 * sizes.size, sizes.size
    for _ in range(40):
        middle = float(np.sqrt(low * high))
        wanted = np.full(len(places), middle)
        for size, distance in away:
            wanted = np.minimum(wanted, size + sizes.slope * distance) if size < middle else wanted
        count = outline.area * float(np.mean(1.0 / wanted**2))
        low, high = (middle, high) if count > cells else (low, middle)
    return high


def _away_from(places: Array, fixed: Array, sizes: _Sizes) -> Array:
    """Leave out places that crowd a fixed one."""
    from scipy.spatial import KDTree

    if not len(fixed) or not len(places):
        return places
    away = KDTree(fixed).query(places, workers=-1)[0]
    return places[away > 0.6 * sizes.at(places)]


def _moved(places: Array, n_fixed: int, sizes: _Sizes, outline: Any) -> Array:
    """Move every free place to the weighted middle of its cell."""
    import shapely

    wanted = sizes.at(places)
    images = _mirrored(places, wanted, outline)
    pairs, ends, _ = finite_ridges(np.vstack([places, images]))
    n = len(places)
    every = np.vstack([places, images])
    density_of = np.concatenate([wanted, np.full(len(images), np.nan)]) ** -4.0
    weight, moment = np.zeros(n), np.zeros((n, 2))
    for side in (0, 1):
        mine = pairs[:, side]
        own = mine < n
        a, other = mine[own], pairs[own, 1 - side]
        p, v, w = every[a], ends[own, 0], ends[own, 1]
        size = np.abs((v[:, 0] - p[:, 0]) * (w[:, 1] - p[:, 1]) - (v[:, 1] - p[:, 1]) * (w[:, 0] - p[:, 0]))
        density = np.where(
            other < n, 0.5 * (density_of[a] + density_of[np.minimum(other, n - 1)]), density_of[a]
        )
        share = size * density
        weight += np.bincount(a, share, n)
        third = (p + v + w) / 3.0
        for k in (0, 1):
            moment[:, k] += np.bincount(a, share * third[:, k], n)
    goal = moment / np.where(weight > 0, weight, 1.0)[:, None]
    arm = goal - places
    length = np.hypot(arm[:, 0], arm[:, 1])
    arm *= np.minimum(1.0, wanted / np.maximum(length, 1e-300))[:, None]  # no leaps from open cells
    there = places + 1.3 * arm  # a little beyond: it settles sooner
    stay = ~shapely.contains_xy(outline, there[:, 0], there[:, 1]) | (weight <= 0)
    stay[:n_fixed] = True
    there[stay] = places[stay]
    return there


def _unpinched(places: Array, n_fixed: int, outline: Any) -> tuple[Array, int]:
    """Lengthen short edges: draw the two points across them together, those at their ends apart.

    Four points that lie nearly on one circle leave an edge of hardly any length between two of them. A
    step of a few hundredths of their distance opens it, and costs the angles next to nothing.
    """
    import shapely

    pairs, ends, beyond = finite_ridges(places)
    across = places[pairs[:, 1]] - places[pairs[:, 0]]
    distance = np.hypot(across[:, 0], across[:, 1])
    length = np.hypot(*(ends[:, 1] - ends[:, 0]).T)
    middle = ends.mean(axis=1)
    short = np.flatnonzero(length < _SHORT * distance)
    short = short[shapely.contains_xy(outline, middle[short, 0], middle[short, 1])]
    if not len(short):
        return places, 0
    along = places[beyond[short, 1]] - places[beyond[short, 0]]
    along /= np.hypot(along[:, 0], along[:, 1])[:, None]
    across = across[short] / distance[short][:, None]
    step = 0.35 * ((_SHORT + 0.03) * distance[short] - length[short])[:, None]
    push, count = np.zeros_like(places), np.zeros(len(places))
    for point, way in (
        (pairs[short, 0], across),
        (pairs[short, 1], -across),
        (beyond[short, 0], -along),
        (beyond[short, 1], along),
    ):
        for k in (0, 1):
            push[:, k] += np.bincount(point, (step * way)[:, k], len(places))
        count += np.bincount(point, minlength=len(places))
    there = places + push / np.maximum(np.sqrt(count), 1.0)[:, None]
    there[:n_fixed] = places[:n_fixed]
    outside = ~shapely.contains_xy(outline, there[:, 0], there[:, 1])
    there[outside] = places[outside]
    return there, len(short)
