"""Surfaces: an elevation at every place, from what is known of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import KW_ONLY, dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal, Protocol, runtime_checkable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_positive, did_you_mean, place_words
from inkhorn.space.interpolation import POINT_METHODS
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.triangles import Triangles
from inkhorn.space.variogram import Variogram
from inkhorn.units import plain

if TYPE_CHECKING:
    from inkhorn.units import WithUnit

__all__ = [
    "BetweenSurface",
    "BoundedSurface",
    "CellSurface",
    "ConstantSurface",
    "GriddedSurface",
    "OffsetSurface",
    "PatchedSurface",
    "PointSurface",
    "Surface",
    "ZonedSurface",
    "point_surfaces",
]

Array = NDArray[np.float64]

_AT_ONCE = 50_000  # places, about, whose weights are held in memory
_OF_FEW = ("nearest", "inverse_distance", "kriging")  # methods that one point suffices for


@runtime_checkable
class Surface(Protocol):
    """An elevation at every place."""

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        """Return the elevation at each point [m]."""


@dataclass(frozen=True)
class ConstantSurface:
    """The same elevation everywhere.

    >>> ConstantSurface(-20.0).at([0, 100], [0, 0])
    array([-20., -20.])
    """

    elevation: WithUnit

    def __post_init__(self) -> None:
        object.__setattr__(self, "elevation", plain(self.elevation, "elevation", "elevation"))
        check_finite("elevation", self.elevation, unit="m")

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        return np.full(np.broadcast(x, y).shape, float(self.elevation))


@dataclass(frozen=True, eq=False)
class PointSurface:
    """A surface through, or near, scattered points.

    Beyond the rim of the points' triangles, linear, natural and cubic surfaces have the elevation on it, at right
    angles, so that nothing is extrapolated and nothing leaps; inverse distances and kriging tend to a mean of the
    nearest points; thin plates go on as they are bent.

    Parameters
    ----------
    x, y, z : ndarray of float, (n,)
        Places and elevations [m]; at least three not in line where triangles are laid through them.
    name : str
        Used in messages.
    method : str
        One of `POINT_METHODS`: ``"linear"``, ``"nearest"``, ``"inverse_distance"``, ``"natural"``, ``"cubic"``,
        ``"thin_plate"``, ``"kriging"``.
    neighbours : int
        How many of the nearest points inverse distance, thin plates and kriging look at.
    power : float
        Of the inverse distance.
    variogram : Variogram
        For kriging.
    least : int
        How many points kriging needs within its reach.
    reach : float
        How far kriging looks for points [m].
    too_few : {"nearest", "mean"}
        What kriging takes where there are fewer, as `kriging_rows`.
    on_logarithms : bool
        Whether logarithms are laid through those of the values, which must be positive: then weights make
        weighted geometric means.
    source : tuple of str
        Where each point came from, for messages.

    References
    ----------
    Belikov, V. V., Ivanov, V. D., Kontorovich, V. K., Korytnik, S. A. and Semenov, A. Y. (1997), The
    non-Sibsonian interpolation, Computational Mathematics and Mathematical Physics 37(1), 9-15.
    """

    x: Array
    y: Array
    z: Array
    _: KW_ONLY
    name: str = "surface"
    method: str = "linear"
    neighbours: int = 24
    power: float = 2.0
    variogram: Variogram = field(default_factory=Variogram)
    least: int = 1
    reach: float = np.inf
    too_few: Literal["nearest", "mean"] = "nearest"
    on_logarithms: bool = False
    source: tuple[str, ...] = field(default=(), repr=False)

    def __repr__(self) -> str:
        return f"PointSurface({self.name}: {len(self.z)} points, {self.method})"

    def __post_init__(self) -> None:
        for axis in "xyz":
            check_finite(f"{self.name}.{axis}", getattr(self, axis), unit="m")
        fewest = 1 if self.method in _OF_FEW else 3
        if len(self.x) < fewest:
            raise InputError(f"{self.name} has {len(self.x)} points; expected at least {fewest}.")
        known = list(POINT_METHODS)
        if self.method not in known:
            raise InputError(
                f'{self.name}: method is "{self.method}"; expected one of {known}.{did_you_mean(self.method, known)}'
            )
        check_positive(f"{self.name}: power", self.power)
        check_positive(f"{self.name}: neighbours", self.neighbours)
        check_positive(f"{self.name}: reach", 1.0 if self.reach == np.inf else self.reach, unit="m")
        if self.on_logarithms and not self.weighs:
            raise InputError(
                f"{self.name}: logarithms are laid through points by weights; {self.method} has none."
            )
        if self.on_logarithms:
            low = np.flatnonzero(np.asarray(self.z) <= 0.0)
            if len(low):
                raise InputError(
                    f"{self.name}: z[{low[0]}] is {self.z[low[0]]:g}, which has no logarithm. Give values above 0."
                )

    @cached_property
    def places(self) -> Array:
        """Where the points are, (n, 2) [m]."""
        return np.column_stack([self.x, self.y])

    @cached_property
    def triangles(self) -> Triangles:
        """The Delaunay triangles of the points.

        Raises
        ------
        InputError
            If they all lie in one line.
        """
        return Triangles(self.places, self.name)

    @cached_property
    def tree(self) -> Any:
        """The points, to find the nearest."""
        from scipy.spatial import KDTree

        return KDTree(self.places)

    @cached_property
    def _smooth(self) -> dict[Any, Any]:
        return {}

    def smooth(self, make: Callable[[PointSurface], Any]) -> Any:
        """Return what some function makes of all points, made once."""
        if make not in self._smooth:
            self._smooth[make] = make(self)
        return self._smooth[make]

    @property
    def weighs(self) -> bool:
        """Whether every value is a weighted mean of points."""
        return POINT_METHODS[self.method].rows is not None

    def rows(self, x: ArrayLike, y: ArrayLike) -> Any:
        """Return how values at places are made of those at the points, as a sparse matrix (m, n)."""
        from scipy.sparse import coo_array, vstack

        asked, parts = np.column_stack([np.ravel(x), np.ravel(y)]), []
        make = POINT_METHODS[self.method].rows
        assert make is not None  # asked of those that weigh
        for some in np.array_split(asked, max(1, len(asked) // _AT_ONCE)):
            columns, weights = make(self, some)
            row = np.repeat(np.arange(len(some)), columns.shape[1])
            used = weights.ravel() != 0.0
            entries = (weights.ravel()[used], (row[used], columns.ravel()[used]))
            parts.append(coo_array(entries, shape=(len(some), len(self.z))).tocsr())
        return vstack(parts, format="csr")

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64))
        asked = np.column_stack([x.ravel(), y.ravel()])
        method, found = POINT_METHODS[self.method], []
        for some in np.array_split(asked, max(1, len(asked) // _AT_ONCE)):
            if method.rows is not None:
                columns, weights = method.rows(self, some)
                z = np.log(self.z) if self.on_logarithms else self.z
                mean = np.einsum("ij,ij->i", weights, z[columns])
                found.append(np.exp(mean) if self.on_logarithms else mean)
            else:
                assert method.values is not None  # one or the other
                found.append(method.values(self, some))
        return np.asarray(np.concatenate(found).reshape(x.shape))

    def where(self, point: int) -> str:
        """Return where a point came from, in words."""
        return self.source[point] if self.source else f"point {point} of {self.name}"

    def used(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.bool_]:
        """Return which points have a part in the values at some places, (n,); all, where smooth surfaces are laid."""
        return (
            np.asarray(abs(self.rows(x, y)).sum(axis=0) > 0.0)
            if self.weighs
            else np.ones(len(self.z), dtype=bool)
        )

    def misses(self) -> Array:
        """Return how far the surface passes above each of its points, (n,) [m]."""
        return self.at(self.x, self.y) - self.z

    def outliers(self, *, neighbours: int = 8, times: float = 6.0) -> NDArray[np.int64]:
        """Return the points that stand out from their neighbours.

        A point stands out if it lies off the plane through its neighbours by more than `times` what is
        usual, among all points and among those neighbours themselves (and by more than 1 mm).

        Returns
        -------
        ndarray of int
            Indices, those that stand out most first.
        """
        count = min(neighbours, len(self.z) - 1)
        if count < 3:
            return np.empty(0, dtype=np.int64)
        nearest = self.tree.query(self.places, k=count + 1)[1][:, 1:]
        arm = self.places[nearest] - self.places[:, None, :]
        planes = np.concatenate([arm, np.ones((len(self.z), count, 1))], axis=2)
        fitted = np.linalg.pinv(planes) @ self.z[nearest][:, :, None]
        off = np.abs(fitted[:, 2, 0] - self.z)
        rough = np.sqrt(np.mean(((planes @ fitted)[:, :, 0] - self.z[nearest]) ** 2, axis=1))
        usual = np.maximum(float(np.median(off)), rough)
        bad = np.flatnonzero(off > np.maximum(times * usual, 1e-3))
        return bad[np.argsort(-off[bad])]


@dataclass(frozen=True, eq=False)
class GriddedSurface:
    """A raster of elevations, bilinear between the middles of its cells.

    Parameters
    ----------
    x, y : ndarray of float, (columns,) and (rows,)
        Middles of columns and rows, rising [m].
    z : ndarray of float, (rows, columns)
        Elevations [m], NaN where there are none.
    name : str
        Used in messages.
    """

    x: Array
    y: Array
    z: Array
    _: KW_ONLY
    name: str = "raster"

    def __repr__(self) -> str:
        return f"GriddedSurface({self.name}: {len(self.y)} × {len(self.x)})"

    def scaled(self, factor: float) -> GriddedSurface:
        """Return it with places in another unit."""
        return self if factor == 1.0 else replace(self, x=factor * self.x, y=factor * self.y)

    def __post_init__(self) -> None:
        if self.z.shape != (len(self.y), len(self.x)):
            raise InputError(
                f"{self.name} has the shape {self.z.shape}; expected {(len(self.y), len(self.x))}."
            )
        for axis in ("x", "y"):
            if len(getattr(self, axis)) < 2 or (np.diff(getattr(self, axis)) <= 0).any():
                raise InputError(
                    f"{self.name}.{axis} does not rise; expected two or more rising coordinates."
                )

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64))
        half_x, half_y = 0.5 * (self.x[1] - self.x[0]), 0.5 * (self.y[1] - self.y[0])
        outside = (
            (x < self.x[0] - half_x)
            | (x > self.x[-1] + half_x)
            | (y < self.y[0] - half_y)
            | (y > self.y[-1] + half_y)
        )
        i, u = _between(self.x, x)
        j, v = _between(self.y, y)
        corners = [
            ((1 - u) * (1 - v), self.z[j, i]),
            (u * (1 - v), self.z[j, i + 1]),
            ((1 - u) * v, self.z[j + 1, i]),
            (u * v, self.z[j + 1, i + 1]),
        ]
        known = [(np.where(np.isfinite(z), w, 0.0), np.nan_to_num(z)) for w, z in corners]
        total = sum(w for w, _ in known)
        bad = outside | (np.asarray(total) < 1e-9)
        if bad.any():
            k = int(np.flatnonzero(bad.ravel())[0])
            raise InputError(
                f"{self.name} has no elevation at {place_words(x.ravel()[k], y.ravel()[k])} ({int(bad.sum())} of "
                f"{bad.size} places). Use a raster that covers the site, or patch it with another surface."
            )
        return np.asarray(sum(w * z for w, z in known) / total)

    def nearest(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.int64]:
        """Return the whole number of the raster's cell at each place, as of codes; -1 where there is none."""
        x, y = (np.atleast_1d(np.asarray(v, dtype=np.float64)) for v in (x, y))
        column, row = (
            np.floor((at - knots[0]) / (knots[1] - knots[0]) + 0.5).astype(np.int64)
            for at, knots in ((x, self.x), (y, self.y))
        )
        inside = (column >= 0) & (column < len(self.x)) & (row >= 0) & (row < len(self.y))
        value = np.full(x.shape, np.nan)
        value[inside] = self.z[row[inside], column[inside]]
        return np.where(np.isfinite(value), np.round(np.nan_to_num(value)), -1).astype(np.int64)


def _between(knots: Array, at: Array) -> tuple[NDArray[np.int64], Array]:
    """The knot before each place and the share of the way to the next, kept inside."""
    k = np.clip(np.searchsorted(knots, at, "right") - 1, 0, len(knots) - 2)
    return k, np.clip((at - knots[k]) / (knots[k + 1] - knots[k]), 0.0, 1.0)


@dataclass(frozen=True, eq=False)
class ZonedSurface:
    """An elevation in each of some polygons, as a mesh made elsewhere states them.

    Parameters
    ----------
    shapes : tuple of shapely Polygon
        Where polygons meet, the first counts.
    z : tuple of float
        Elevation in each [m].
    name : str
        Used in messages.
    """

    shapes: tuple[Any, ...]
    z: tuple[float, ...]
    name: str = "polygons"

    def __post_init__(self) -> None:
        check_finite(f"{self.name}.z", self.z, unit="m")
        if len(self.z) != len(self.shapes) or not self.shapes:
            raise InputError(
                f"{self.name} has {len(self.shapes)} polygons and {len(self.z)} elevations; expected as many."
            )

    @cached_property
    def _tree(self) -> Any:
        import shapely

        return shapely.STRtree(self.shapes)

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        import shapely

        x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64))
        first = np.full(x.size, len(self.shapes))
        point, shape = self._tree.query(shapely.points(x.ravel(), y.ravel()), predicate="intersects")
        np.minimum.at(first, point, shape)
        bad = np.flatnonzero(first == len(self.shapes))
        if len(bad):
            raise InputError(
                f"{self.name} has no polygon at {place_words(x.ravel()[bad[0]], y.ravel()[bad[0]])} ({len(bad)} of "
                f"{x.size} places). Draw one there, or patch it with another surface."
            )
        return np.asarray(self.z, dtype=np.float64)[first].reshape(x.shape)


@dataclass(frozen=True, eq=False)
class CellSurface:
    """A value in each cell of a plan mesh, as an attribute of one made elsewhere.

    Parameters
    ----------
    mesh : PlanMesh
        Where they are.
    z : ndarray of float, (n_cells,)
        Values.
    name : str
        Used in messages.
    """

    mesh: PlanMesh
    z: Array
    name: str = "values of cells"

    def __repr__(self) -> str:
        return f"CellSurface({self.name}: {len(self.z)} cells)"

    def __post_init__(self) -> None:
        check_finite(self.name, self.z)
        if self.z.shape != (self.mesh.n_cells,):
            raise InputError(f"{self.name} has the shape {self.z.shape}; expected ({self.mesh.n_cells},).")

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64))
        cell = self.mesh.locate(x, y)
        bad = np.flatnonzero(cell.ravel() < 0)
        if len(bad):
            raise InputError(
                f"{self.name} has no cell at {place_words(x.ravel()[bad[0]], y.ravel()[bad[0]])} ({len(bad)} of {x.size} "
                "places). Patch it with another surface there."
            )
        return np.asarray(self.z[cell])


@dataclass(frozen=True)
class OffsetSurface:
    """Another surface, raised by an offset (negative lowers it) [m]."""

    surface: Surface
    offset: float

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        return self.surface.at(x, y) + self.offset


@dataclass(frozen=True)
class DepthSurface:
    """A surface that lies under another by depths that are a surface themselves, as of a layer's thickness.

    >>> DepthSurface(ConstantSurface(52.0), ConstantSurface(4.5)).at([0.0], [0.0])
    array([47.5])
    """

    surface: Surface
    depth: Surface

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        return self.surface.at(x, y) - self.depth.at(x, y)


@dataclass(frozen=True)
class BetweenSurface:
    """At a share of the way from one surface down to another.

    >>> BetweenSurface(ConstantSurface(10.0), ConstantSurface(0.0), 0.25).at([0.0], [0.0])
    array([7.5])
    """

    upper: Surface
    lower: Surface
    share: float

    def __post_init__(self) -> None:
        if not 0.0 <= self.share <= 1.0:
            raise InputError(f"share is {self.share:g}; expected 0 (the upper surface) to 1 (the lower one).")

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        upper = self.upper.at(x, y)
        return upper + self.share * (self.lower.at(x, y) - upper)


@dataclass(frozen=True)
class BoundedSurface:
    """A surface kept below one surface, above another, or both; where they cross the lower bound wins."""

    surface: Surface
    _: KW_ONLY
    below: Surface | None = None
    above: Surface | None = None

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        z = self.surface.at(x, y)
        if self.below is not None:
            z = np.minimum(z, self.below.at(x, y))
        if self.above is not None:
            z = np.maximum(z, self.above.at(x, y))
        return z


@dataclass(frozen=True, eq=False)
class PatchedSurface:
    """A surface changed within a polygon only."""

    surface: Surface
    polygon: Any
    inside: Surface

    def at(self, x: ArrayLike, y: ArrayLike) -> Array:
        import shapely

        x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64))
        z = np.array(self.surface.at(x, y))
        here = np.asarray(shapely.intersects_xy(self.polygon, x, y))
        if here.any():
            z[here] = self.inside.at(x[here], y[here])
        return z


def point_surfaces(surface: Surface) -> list[PointSurface]:
    """Return every surface of points that a surface is made of."""
    if isinstance(surface, PointSurface):
        return [surface]
    parts = [
        getattr(surface, name, None)
        for name in ("surface", "depth", "upper", "lower", "below", "above", "inside")
    ]
    found = [p for part in parts if part is not None for p in point_surfaces(part)]
    return list({id(p): p for p in found}.values())
