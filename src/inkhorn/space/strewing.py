"""Centres of Voronoi cells: laid along features and the boundary, strewn by the size wanted, and evened out."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_finite, check_positive, place_words
from inkhorn.sizes import refuse_beyond
from inkhorn.space.mesh import BYTES_PER_PLAN_CELL
from inkhorn.space.sizing import CellsWithin, Sizes, wanted_near
from inkhorn.space.triangles import Net
from inkhorn.space.voronoi import VoronoiMesh, circle_middles, finite_ridges, smallest_angles
from inkhorn.units import WithUnit, plain

__all__ = ["voronoi"]

Array = NDArray[np.float64]

_COUNTED = 1.1  # the most cells there may be over those asked for
_LARGEST_ANGLE = 40.0  # that may be asked for
_MENDED = 60  # turns, at the most, of mending angles
_UNPINCHED = 3  # rounds, at the most, of lengthening edges
_SHORT = 0.12  # edge over centre distance, below which it is lengthened; faces below 0.1 count as bad


def _first_places(outline: Any, sizes: Sizes, rng: np.random.Generator) -> Array:
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


def _fixed_places(outline: Any, near: Iterable[tuple[Any, float]], sizes: Sizes) -> Array:
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
    cell: WithUnit | None = None,
    count: int | None = None,
    near: Sequence[tuple[Any, WithUnit | CellsWithin]] = (),
    boundary: WithUnit | None = None,
    growth: float = 1.3,
    least_angle: WithUnit | None = None,
    rounds: int = 4,
    seed: int = 0,
) -> VoronoiMesh:
    """Cut the inside of a polygon into Voronoi cells of wanted sizes.

    Cells stand on every point and along every line of `near`; the others are moved to the middle of what
    is theirs, weighted so that sizes follow, a number of rounds (Lloyd 1982).

    Parameters
    ----------
    outline : tuple of float, or shapely Polygon
        ``(x_min, y_min, x_max, y_max)`` [m], or a polygon, which may have holes.
    cell : float, optional
        Wanted size of cells away from everything: the side of a square of the same area [m].
    count : int, optional
        How many cells there are to be, within a tenth, instead of `cell`.
    near : sequence of (shapes, size)
        Features, bores or shapely shapes, and the size of cells at them [m], or `CellsWithin` a distance of points. A
        polygon is filled with cells of its size; points and lines get cells of their own, where they lie inside.
    boundary : float, optional
        Size along the outline [m].
    growth : float
        Greatest ratio of the sizes of neighbours, above 1: how fast cells grow away from features.
    least_angle : float, optional
        Of the triangles of three cells that meet inside the outline, up to 40 [degrees]. Cells are moved, added and
        taken out until none is smaller.
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
        If the outline is no polygon or box, neither or both of `cell` and `count` are given, a size is not above 0,
        or memory is not allowed for so many cells; if so few cells cannot be, or no such angle; with what can.

    References
    ----------
    Lloyd, S. P. (1982), Least squares quantization in PCM, IEEE Transactions on Information Theory
    28(2), 129-137. Du, Q., Faber, V. and Gunzburger, M. (1999), Centroidal Voronoi tessellations,
    SIAM Review 41(4), 637-676 (density and size). Ruppert, J. (1995), A Delaunay refinement algorithm for quality
    2-dimensional mesh generation, Journal of Algorithms 18(3), 548-585 (angles).

    Examples
    --------
    >>> import shapely
    >>> mesh = voronoi(shapely.box(0, 0, 1000, 600), cell=100, near=[(shapely.Point(300, 200), 10)])
    >>> bool(abs(mesh.area.sum() - 6e5) < 1e-3), mesh.locate([300.0], [200.0]).tolist()
    (True, [0])
    """
    import shapely

    outline = _polygon(outline)
    cell, boundary = plain(cell, "length", "cell"), plain(boundary, "length", "boundary")
    least = plain(least_angle, "angle", "least_angle")
    if (cell is None) == (count is None):
        raise InputError("give either `cell` (a size in m) or `count` (how many cells), and not both.")
    if growth <= 1.0:
        raise InputError(f"growth is {growth:g}; expected a ratio above 1, such as 1.3.")
    if least is not None and not 0.0 < least <= _LARGEST_ANGLE:
        raise InputError(
            f"least_angle is {least:g} degrees; expected one above 0 and up to {_LARGEST_ANGLE:g}. No mesh is of "
            "triangles with 60 all round."
        )
    given = [(shape, size) for shapes, size in wanted_near(near, growth) for shape in shapes]
    shapes = [*given, *([(shapely.boundary(outline), boundary)] if boundary is not None else [])]
    check_positive("boundary", [size for _, size in shapes], unit="m")
    if count is not None:
        check_positive("count", count)
    if cell is not None:
        check_positive("cell", cell, unit="m")
    number = outline.area / cell**2 if cell is not None else float(count or 0)
    number += sum(20.0 + shape.length / size + shape.area / size**2 for shape, size in shapes)
    refuse_beyond(
        "memory",
        number * BYTES_PER_PLAN_CELL,
        f"{number:.3g} Voronoi cells",
        "Ask for larger cells, or fewer.",
    )
    largest = float(np.sqrt(outline.area)) if cell is None else float(cell)
    strewing = _Strewing(outline, given, Sizes(largest, shapes, growth), rounds, seed)
    places, n_fixed, sizes = strewing.evened(largest) if count is None else strewing.counted(int(count))
    if least is not None:
        places = _with_angles(places, n_fixed, sizes, outline, least)
    return VoronoiMesh(places, outline)


def _polygon(outline: Any) -> Any:
    """A polygon, or the box of four numbers as one."""
    import shapely

    if not isinstance(outline, shapely.Geometry):
        box = check_finite("outline", outline, unit="m")
        if box.shape != (4,):
            raise InputError(
                f"outline has the shape {box.shape}; expected a polygon, or (x_min, y_min, x_max, y_max)."
            )
        outline = shapely.box(*box)
    if "Polygon" not in outline.geom_type or not outline.area > 0:
        raise InputError(
            f"outline is a {outline.geom_type} of {outline.area:g} m²; expected a polygon with an inside."
        )
    return outline


class _Strewing:
    """Centres of cells by the size away from everything."""

    def __init__(
        self, outline: Any, given: list[tuple[Any, float]], sizes: Sizes, rounds: int, seed: int
    ) -> None:
        self.outline, self.given, self.sizes, self.rounds, self.seed = outline, given, sizes, rounds, seed

    def strewn(self, size: float) -> tuple[Array, Array, Sizes]:
        """Fixed places, the first ones of all others, and the sizes wanted."""
        sizes = self.sizes.up_to(size)
        fixed = _fixed_places(self.outline, self.given, sizes)
        free = _first_places(self.outline, sizes, np.random.default_rng(self.seed))
        return fixed, _away_from(free, fixed, sizes), sizes

    def evened(self, size: float) -> tuple[Array, int, Sizes]:
        """All places once they are moved, the fixed ones first; how many these are; and the sizes wanted."""
        fixed, free, sizes = self.strewn(size)
        places, n_fixed = np.vstack([fixed, free]), len(fixed)
        for turn in range(self.rounds):
            places = _moved(places, n_fixed, sizes, self.outline)
            if turn < self.rounds - 1:
                places = np.vstack([fixed, _away_from(places[n_fixed:], fixed, sizes)])
        for _ in range(_UNPINCHED if self.rounds else 0):
            places, pinched = _unpinched(places, n_fixed, self.outline)
            if not pinched:
                break
        return places, n_fixed, sizes

    def counted(self, count: int) -> tuple[Array, int, Sizes]:
        """As `evened`, of the size that gives so many.

        Raises
        ------
        InputError
            If there are more by a tenth whatever the size.
        """
        largest = self.sizes.size
        least = sum(len(v) for v in self.strewn(largest)[:2])
        if least > _COUNTED * count + 1:
            raise InputError(
                f"{count} cells are too few: the sizes near shapes and along the boundary alone take {least}. Ask for "
                f"{least} or more, for larger sizes there, or let cells grow faster (growth)."
            )
        best, wanted = None, float(count)
        for _ in range(4):
            made = self.evened(self._size_for(wanted, least))
            number = len(made[0])
            if best is None or abs(number - count) < abs(len(best[0]) - count):
                best = made
            if abs(number - count) <= 0.3 * (_COUNTED - 1.0) * count:
                break
            wanted *= count / number
        assert best is not None  # of the first turn
        if abs(len(best[0]) - count) > max((_COUNTED - 1.0) * count, 1.0):
            raise InputError(
                f"{count} cells cannot be made here; the nearest number found is {len(best[0])}. Ask for so many, or "
                "give a size."
            )
        return best

    def _size_for(self, wanted: float, least: int) -> float:
        """The size away from everything for which about so many places are strewn."""
        low, high = np.log(np.sqrt(self.outline.area / (4.0 * wanted + 16.0))), np.log(self.sizes.size)
        if wanted <= least:
            return float(np.exp(high))
        guess = 0.5 * np.log(self.outline.area / max(wanted - 0.8 * least, 0.2 * wanted))
        for _ in range(14):
            guess = guess if low < guess < high else 0.5 * (low + high)
            number = sum(len(v) for v in self.strewn(float(np.exp(guess)))[:2])
            if abs(number - wanted) <= 0.02 * wanted:
                break
            low, high = (guess, high) if number > wanted else (low, guess)
            # away from everything their number goes by the square of the size; least of them go by no size
            guess += 0.5 * np.log(max(number - 0.8 * least, 1.0) / max(wanted - 0.8 * least, 1.0))
        return float(np.exp(guess))


def _with_angles(places: Array, n_fixed: int, sizes: Sizes, outline: Any, least: float) -> Array:
    """Move, add and take out places until no triangle inside has a smaller angle.

    Of a triangle with a smaller one, both ends of the shortest side become one where that is shorter than cells are to be
    there; else a place is added in the middle of its circle (Ruppert 1995).

    Raises
    ------
    InputError
        If that does not come about.
    """
    best, reached = places, -1.0
    for _ in range(_MENDED):
        corners, middle, angle = _triangles_within(places, outline)
        smallest = float(angle.min(initial=60.0))
        if smallest > reached:
            best, reached = places, smallest
        if smallest >= least:
            return places
        bad = np.flatnonzero(angle < least + 1.0)
        bad = bad[np.argsort(angle[bad])]
        wanted = sizes.at(middle[bad])
        touched = np.zeros(len(places), dtype=bool)
        moved, gone, more = places.copy(), np.zeros(len(places), dtype=bool), []
        for triangle, size in zip(bad, wanted, strict=True):
            of = corners[triangle]
            if touched[of].any() or angle[triangle] >= least:
                continue
            touched[of] = True
            sides = places[of[[1, 2, 0]]] - places[of]
            k = int(np.argmin(np.hypot(sides[:, 0], sides[:, 1])))
            a, b = sorted((int(of[k]), int(of[(k + 1) % 3])))
            if b < n_fixed or np.hypot(*sides[k]) > 0.8 * size:
                more.append(middle[triangle])
            else:
                gone[b] = True
                if a >= n_fixed:
                    moved[a] = 0.5 * (places[a] + places[b])
        places = np.vstack([moved[~gone], np.array(more).reshape(-1, 2)])
        places = _unpinched(_moved(places, n_fixed, sizes, outline), n_fixed, outline)[0]
    corners, middle, angle = _triangles_within(best, outline)
    where = middle[int(np.argmin(angle))]
    raise InputError(
        f"no mesh with angles of at least {least:g} degrees was found; one of {reached:.1f} was, least at "
        f"{place_words(*where)}. Ask for no more than that, or move what stands closer there than cells are large."
    )


def _triangles_within(places: Array, outline: Any) -> tuple[NDArray[np.int64], Array, Array]:
    """Triangles of places that meet inside an outline: corners, where they meet, and the smallest angle [degrees]."""
    import shapely

    corners = Net(places).corners
    middle = circle_middles(places[corners])
    inside = shapely.contains_xy(outline, middle[:, 0], middle[:, 1])
    return corners[inside], middle[inside], smallest_angles(places[corners[inside]])


def _away_from(places: Array, fixed: Array, sizes: Sizes) -> Array:
    """Leave out places that crowd a fixed one."""
    from scipy.spatial import KDTree

    if not len(fixed) or not len(places):
        return places
    away = KDTree(fixed).query(places, workers=-1)[0]
    return places[away > 0.6 * sizes.at(places)]


def _moved(places: Array, n_fixed: int, sizes: Sizes, outline: Any) -> Array:
    """Move every free place to the weighted middle of its cell."""
    import shapely

    wanted = sizes.at(places)
    images = _mirrored(places, wanted, outline)
    pairs, ends = finite_ridges(np.vstack([places, images]))[:2]
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

    pairs, ends, beyond = finite_ridges(places)[:3]
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
