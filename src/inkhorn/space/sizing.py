"""How small cells are to be, and where: near shapes, and growing away from them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_positive
from inkhorn.units import WithUnit, plain

__all__ = ["CellsWithin", "Sizes", "shapes_of", "wanted_near"]

Array = NDArray[np.float64]

_NEAR_ENOUGH = 0.03  # by which share a distance to the next shape may be too long, for sizes


@dataclass(frozen=True)
class CellsWithin:
    """About so many cells around a point, instead of their size.

    Parameters
    ----------
    count : float
        How many.
    distance : float
        Within which distance of the point [m].
    """

    count: float
    distance: WithUnit

    def __post_init__(self) -> None:
        object.__setattr__(self, "distance", plain(self.distance, "length", "cells within: distance"))
        check_positive("cells within: distance", self.distance, unit="m")
        check_positive("cells within: count", self.count)

    def size(self, growth: float | None = None) -> float:
        """Return the size of a cell at the point [m].

        Parameters
        ----------
        growth : float, optional
            Ratio of the sizes of neighbours, with which cells grow away from the point; all of one size if not given.
        """
        distance = float(self.distance)
        even = distance * float(np.sqrt(np.pi / self.count))
        if growth is None:
            return even
        from scipy.optimize import brentq

        slope = (growth - 1.0) / growth

        def surplus(log_size: float) -> float:
            # over the disc, the integral of one over the square of sizes that rise in line with the distance
            grown = slope * distance / np.exp(log_size)
            return float(2.0 * np.pi / slope**2 * (np.log1p(grown) - grown / (1.0 + grown)) - self.count)

        return float(np.exp(brentq(surplus, np.log(1e-12 * even), np.log(even))))


def shapes_of(group: Any) -> list[Any]:
    """Return the shapely shapes of features, bores or shapes, one or several."""
    import shapely

    things = group if isinstance(group, (list, tuple)) else [group]
    found = []
    for thing in things:
        shape = thing if isinstance(thing, shapely.Geometry) else getattr(thing, "shape", None)
        if shape is not None and not isinstance(shape, shapely.Geometry):  # cells told one by one
            try:
                shape = shape.on_map()
            except InputError as problem:
                raise InputError(f"near {thing.where}: {problem}") from None
        found.append(shapely.Point(thing.x, thing.y) if shape is None else shape)
    return found


def wanted_near(
    near: Iterable[tuple[Any, WithUnit | CellsWithin]], growth: float | None = None
) -> list[tuple[list[Any], float]]:
    """Return the shapes near which cells are to be small, and how small [m].

    Parameters
    ----------
    near : iterable of (features, bores or shapes; size or number of cells)
        As mesh makers take them.
    growth : float, optional
        How fast cells grow away, where a number of cells is wanted.

    Raises
    ------
    InputError
        If a size is not above 0, or a number of cells is wanted around what is no point.
    """
    found = []
    for group, wanted in near:
        shapes = shapes_of(group)
        if isinstance(wanted, CellsWithin):
            other = next((s.geom_type for s in shapes if "Point" not in s.geom_type), None)
            if other is not None:
                raise InputError(
                    f"near: {wanted.count:g} cells within {wanted.distance:g} m are wanted around a {other}; expected a "
                    "point. Give a size instead."
                )
            size = wanted.size(growth)
        else:
            size = float(plain(wanted, "length", "near"))
        check_positive("near", size, unit="m")
        found.append((shapes, size))
    return found


class Sizes:
    """The wanted size of a cell at any place.

    Parameters
    ----------
    size : float
        Away from everything [m].
    near : iterable of (shape, size)
        Smaller ones at shapes [m].
    growth : float
        Greatest ratio of the sizes of neighbours.
    """

    def __init__(self, size: float, near: Iterable[tuple[Any, float]], growth: float) -> None:
        from scipy.spatial import KDTree

        self.size, self.slope = size, (growth - 1.0) / growth
        groups: dict[float, list[Array]] = {}
        for shape, wanted in near:
            if wanted < size:
                groups.setdefault(wanted, []).append(_dense_points(shape, 0.25 * wanted))
        self.trees = [(wanted, KDTree(np.concatenate(places))) for wanted, places in sorted(groups.items())]

    def up_to(self, size: float) -> Sizes:
        """Return the same with another size away from everything, no larger than the one it was made with."""
        other = object.__new__(Sizes)
        other.size, other.slope = size, self.slope
        other.trees = [(wanted, tree) for wanted, tree in self.trees if wanted < size]
        return other

    def at(self, places: Array) -> Array:
        """Return the size wanted at places (n, 2), (n,) [m]."""
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
