"""Strata: the layers between surfaces, from the ground down, and where each is absent."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.space.surfaces import PointSurface, Surface

__all__ = ["Layer", "Strata"]


@dataclass(frozen=True)
class Layer:
    """One layer: its name, what it stands on, and when it counts as absent.

    Parameters
    ----------
    name : str
        Unique among the layers.
    base : Surface
        Its lower surface. Where that rises above the layer's top, the layer above wins.
    least_thickness : float
        Thinner than this [m] there is no cell, and the layers above and below touch.
    """

    name: str
    base: Surface
    least_thickness: float = 0.1


@dataclass(frozen=True)
class Strata:
    """Layers from the ground down.

    Where surfaces cross, the upper one wins: a base is never above the surface over it. A layer
    thinner than its least thickness is absent, and its sliver goes to the next layer below that is
    present.
    """

    ground: Surface
    layers: tuple[Layer, ...]

    def __post_init__(self) -> None:
        if not self.layers:
            raise InputError("there are no layers; expected at least one below the ground surface.")
        names = self.names
        twice = {n for n in names if names.count(n) > 1}
        if twice:
            raise InputError(f"layer names appear twice: {sorted(twice)}. Give each layer its own name.")

    @property
    def names(self) -> tuple[str, ...]:
        """Layer names from the ground down."""
        return tuple(layer.name for layer in self.layers)

    def at(self, x: ArrayLike, y: ArrayLike) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return top and bottom of every layer at the points.

        Returns
        -------
        top, bottom : ndarray of float, (n_layers, n_points) [m]
            Both NaN where the layer is absent.
        """
        level = np.array(self.ground.at(x, y), dtype=np.float64)
        shape = (len(self.layers), *level.shape)
        top, bottom = np.full(shape, np.nan), np.full(shape, np.nan)
        for k, layer in enumerate(self.layers):
            base = np.minimum(layer.base.at(x, y), level)
            there = level - base >= layer.least_thickness
            top[k, there], bottom[k, there] = level[there], base[there]
            level = np.where(there, base, level)
        return top, bottom

    def crossings(self) -> list[tuple[str, NDArray[np.int64], NDArray[np.float64], int]]:
        """Find the points of a base that lie above the surface over it.

        Returns
        -------
        list of (layer name, indices of its points, height above [m], number of its points)
            Only layers whose base is made of points and crosses by more than the least thickness
            (no less than 0.01 m).
        """
        found = []
        above: list[Surface] = [self.ground]
        for layer in self.layers:
            if isinstance(layer.base, PointSurface):
                p = layer.base
                ceiling = np.min([s.at(p.x, p.y) for s in above], axis=0)
                rise = p.z - ceiling
                bad = np.flatnonzero(rise > max(layer.least_thickness, 0.01))
                if len(bad):
                    found.append((layer.name, bad, rise[bad], len(p.x)))
            above.append(layer.base)
        return found
