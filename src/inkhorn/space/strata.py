"""Strata: the layers between surfaces, from the ground down, and what becomes of each where it is thin."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import KW_ONLY, dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_positive, did_you_mean
from inkhorn.sizes import refuse_beyond
from inkhorn.space.surfaces import PointSurface, Surface
from inkhorn.units import plain

if TYPE_CHECKING:
    from inkhorn.units import WithUnit

__all__ = ["Layer", "Levels", "Strata", "layers_named"]


def layers_named(
    name: str, names: Sequence[str], whole_names: Sequence[str], what: str = ""
) -> tuple[int, ...]:
    """Return the positions of the layers that a name stands for: of a layer in parts all of its parts.

    Raises
    ------
    InputError
        If there is none; `what` says who names it.
    """
    found = tuple(k for k, own in enumerate(names) if name in (own, whole_names[k]))
    if not found:
        known = list(dict.fromkeys([*names, *whole_names]))
        whose = f"{what} names the layer" if what else "there is no layer"
        raise InputError(f'{whose} "{name}"; expected one of {known}.{did_you_mean(name, known)}')
    return found


@dataclass(frozen=True)
class Layer:
    """One layer: its name, what it stands on, and what becomes of it where it is thin.

    Parameters
    ----------
    name : str
        Unique among the layers.
    base : Surface
        Its lower surface.
    least_thickness : float
        What counts as thin [m].
    where_thin : {"absent", "keep"}
        Absent: there is no cell, and the layers above and below touch. Keep: it is as thick as its least
        thickness there, at the cost of the layers below, and is made of what lies below it (or above,
        where nothing does), so that it seals nothing that is open.
    base_wins : bool
        Where its base rises above the surfaces over it, which gives way: the base (False), or those
        surfaces, up to the ground (True), as where it cuts into older layers.
    taken_out : shapely Polygon, optional
        Cells of the layer inside it take no part, nor does water cross where they were.
    parts : int or sequence of float
        How many equal parts it is cut into, or their shares from the top down, as in ``[1, 2]``. They are
        called ``"name 1"``, ``"name 2"`` and so on; its own name stands for all of them. They are there, or
        absent, together.
    """

    name: str
    base: Surface
    _: KW_ONLY
    least_thickness: WithUnit = 0.1
    where_thin: Literal["absent", "keep"] = "absent"
    base_wins: bool = False
    taken_out: Any = None
    parts: int | Sequence[float] = 1

    def __post_init__(self) -> None:
        what = f'layer "{self.name}": least_thickness'
        object.__setattr__(self, "least_thickness", plain(self.least_thickness, "length", what))
        check_positive(what, self.least_thickness, unit="m")
        if self.where_thin not in ("absent", "keep"):
            raise InputError(
                f'layer "{self.name}": where_thin is "{self.where_thin}"; expected "absent" or "keep".'
            )
        self._check_parts()

    def _check_parts(self) -> None:
        parts = self.parts
        number = isinstance(parts, (int, np.integer)) and not isinstance(parts, bool)
        count = int(parts) if number else np.size(parts)  # type: ignore[arg-type]
        refuse_beyond("layers", count, f'layer "{self.name}" in {count} parts', "Ask for fewer.")
        shares = np.ones(max(count, 0)) if number else np.asarray(parts, dtype=np.float64).ravel()
        if len(shares) < 1 or not np.isfinite(shares).all() or (shares <= 0).any():
            raise InputError(
                f'layer "{self.name}" cannot be cut into {parts} parts; expected a number of at least 1, or shares '
                "above 0, from the top down."
            )
        object.__setattr__(self, "parts", tuple((shares / shares.sum()).tolist()))

    @property
    def part_names(self) -> tuple[str, ...]:
        """Names of its parts from the top down; its own if it is not cut."""
        count = len(self.parts)  # type: ignore[arg-type]  # shares, once it is made
        return (self.name,) if count == 1 else tuple(f"{self.name} {k + 1}" for k in range(count))


class Levels(NamedTuple):
    """Layers at some points, each (n_layers, n_points).

    Attributes
    ----------
    top, bottom : ndarray of float
        Elevations [m], NaN where the layer is absent.
    material : ndarray of int
        The layer whose material each is made of: its own but where it is kept for its least thickness.
    """

    top: NDArray[np.float64]
    bottom: NDArray[np.float64]
    material: NDArray[np.int64]


class Crossing(NamedTuple):
    """Points of a layer's base that lie above a surface over it.

    Attributes
    ----------
    layer, over : str
        The layer, and the surface that it crosses most: the ground, or the layer whose base that is.
    points : ndarray of int
        Which points.
    rise : ndarray of float
        How far above [m].
    of : int
        How many points the base is made of.
    """

    layer: str
    over: str
    points: NDArray[np.int64]
    rise: NDArray[np.float64]
    of: int

    @property
    def cure(self) -> str:
        """What there is to do, in words."""
        return (
            f'If the layer is to be absent there, as beside a lens, keep its base below with never_above = "{self.over}" '
            "(in Python a `BoundedSurface`); if it cuts into what lies over it, let it win with base_wins = true; else "
            "correct the points."
        )


@dataclass(frozen=True)
class Strata:
    """Layers from the ground down.

    Parameters
    ----------
    ground : Surface
        The uppermost surface; no other rises above it.
    layers : tuple of Layer
        From the top down; any may be in parts.
    """

    ground: Surface
    layers: tuple[Layer, ...]

    def __post_init__(self) -> None:
        if not self.layers:
            raise InputError("there are no layers; expected at least one below the ground surface.")
        count = sum(len(layer.part_names) for layer in self.layers)
        refuse_beyond("layers", count, f"{count} layers and parts of layers", "Ask for fewer parts.")
        names = [*self.names, *(layer.name for layer in self.layers if len(layer.part_names) > 1)]
        twice = {n for n in names if names.count(n) > 1}
        if twice:
            raise InputError(f"layer names appear twice: {sorted(twice)}. Give each layer its own name.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the layers, of those in parts of each part, from the ground down."""
        return tuple(name for layer in self.layers for name in layer.part_names)

    @property
    def whole_names(self) -> tuple[str, ...]:
        """For each of `names` that of the layer it is a part of, or its own."""
        return tuple(layer.name for layer in self.layers for _ in layer.part_names)

    def index(self, name: str) -> int:
        """Return which of `layers` has a name."""
        for k, layer in enumerate(self.layers):
            if name == layer.name:
                return k
            if name in layer.part_names:
                raise InputError(
                    f'"{name}" is a part of the layer "{layer.name}". Change that as a whole, then cut it anew: '
                    "`split` takes shares of its parts."
                )
        known = [layer.name for layer in self.layers]
        raise InputError(f'there is no layer "{name}"; expected one of {known}.{did_you_mean(name, known)}')

    def named(self, name: str, what: str = "") -> tuple[str, ...]:
        """Return the names of the layers that a name stands for; see `layers_named`."""
        found = layers_named(name, self.names, self.whole_names, what)
        return tuple(self.names[k] for k in found)

    def settled(self, x: ArrayLike, y: ArrayLike) -> NDArray[np.float64]:
        """Return the ground and every base, where they cross the one that wins.

        Returns
        -------
        ndarray of float, (n_layers + 1, n_points) [m]
            Falling, or level, from one to the next.
        """
        level = np.array([self.ground.at(x, y), *(layer.base.at(x, y) for layer in self.layers)])
        for k, layer in enumerate(self.layers, start=1):
            if layer.base_wins:
                level[1:k] = np.maximum(level[1:k], level[k])
        return np.minimum.accumulate(level, axis=0)

    def at(self, x: ArrayLike, y: ArrayLike) -> Levels:
        """Return top, bottom and material of every layer, or part of one, at the points.

        The sliver of an absent layer goes to the next one below that is there. A layer in parts is there or
        not as a whole, and its parts share what thickness it has.
        """
        settled = self.settled(x, y)
        level = settled[0]
        shape = (len(self.layers), *level.shape)
        top, bottom = np.full(shape, np.nan), np.full(shape, np.nan)
        material = np.broadcast_to(np.arange(shape[0])[:, None], shape).copy()
        natural = np.zeros(shape, dtype=bool)
        for k, layer in enumerate(self.layers):
            base = np.minimum(settled[k + 1], level)
            natural[k] = level - base >= layer.least_thickness
            if layer.where_thin == "keep":
                base = np.minimum(base, level - layer.least_thickness)
            there = natural[k] | (layer.where_thin == "keep")
            top[k] = np.where(there, level, np.nan)
            bottom[k] = np.where(there, base, np.nan)
            level = np.where(there, base, level)
        self._lend_material(material, natural)
        return self._in_parts(top, bottom, material)

    def _in_parts(
        self, top: NDArray[np.float64], bottom: NDArray[np.float64], material: NDArray[np.int64]
    ) -> Levels:
        """Cut layers into their parts."""
        count = np.array([len(layer.part_names) for layer in self.layers])
        if (count == 1).all():
            return Levels(top, bottom, material)
        first, last = np.cumsum(count) - count, np.cumsum(count) - 1
        down = [np.cumsum(layer.parts) for layer in self.layers]
        begins = np.concatenate([[0.0, *d[:-1]] for d in down])
        ends = np.concatenate([[*d[:-1], 1.0] for d in down])
        whole = np.repeat(np.arange(len(count)), count)

        def at(share: NDArray[np.float64]) -> NDArray[np.float64]:
            level = top[whole] - share[:, None] * (top[whole] - bottom[whole])
            return np.where((share == 1.0)[:, None], bottom[whole], level)

        lender, own = material[whole], whole[:, None]
        nearest = np.where(lender > own, first[lender], last[lender])  # of a layer below its uppermost part
        number = np.where(lender == own, np.arange(len(whole))[:, None], nearest)
        return Levels(at(begins), at(ends), number)

    def _lend_material(self, material: NDArray[np.int64], natural: NDArray[np.bool_]) -> None:
        """Give layers that are kept where they are thin the material below them, else that above."""
        n = len(self.layers)
        below = np.full(natural.shape[1:], -1)
        for k in range(n - 1, -1, -1):
            if self.layers[k].where_thin == "keep":
                material[k] = np.where(natural[k] | (below < 0), material[k], below)
            below = np.where(natural[k], k, below)
        above = np.full(natural.shape[1:], -1)
        for k in range(n):
            if self.layers[k].where_thin == "keep":
                own = ~natural[k] & (material[k] == k)
                material[k] = np.where(own & (above >= 0), above, material[k])
            above = np.where(natural[k], k, above)

    def insert(self, layer: Layer, *, below: str) -> Strata:
        """Return strata with one more layer, which takes its share of the one below the layer named."""
        k = self.index(below) + 1
        return replace(self, layers=(*self.layers[:k], layer, *self.layers[k:]))

    def split(self, name: str, parts: int | Sequence[float]) -> Strata:
        """Return strata with a layer cut into equal parts, or parts of given shares; see `Layer`."""
        k = self.index(name)
        layer = replace(self.layers[k], parts=parts)
        return replace(self, layers=(*self.layers[:k], layer, *self.layers[k + 1 :]))

    @cached_property
    def crossings(self) -> tuple[Crossing, ...]:
        """The points of bases that lie above a surface over them.

        Only of layers whose base is made of points, is not meant to win, and crosses by more than the least
        thickness (no less than 0.01 m).
        """
        found: list[Crossing] = []
        above: dict[str, Surface] = {"ground": self.ground}
        for layer in self.layers:
            if isinstance(layer.base, PointSurface) and not layer.base_wins:
                p = layer.base
                over = np.array([s.at(p.x, p.y) for s in above.values()])
                rise = p.z - over.min(axis=0)
                bad = np.flatnonzero(rise > max(layer.least_thickness, 0.01))
                if len(bad):
                    lowest = list(above)[int(np.argmin(over[:, bad[np.argmax(rise[bad])]]))]
                    found.append(Crossing(layer.name, lowest, bad, rise[bad], len(p.x)))
            above[layer.name] = layer.base
        return tuple(found)
