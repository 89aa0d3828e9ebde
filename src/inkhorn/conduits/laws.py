"""The laws of flow in a round pipe, for arrays."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError

__all__ = [
    "GRAVITY",
    "REGIMES",
    "Flowing",
    "Pipes",
    "Section",
    "friction_slope",
    "law_at",
    "mean_velocity",
    "passed_at",
    "reynolds_number",
    "section_of",
    "standing_at",
    "wet_depth",
]

Array = NDArray[np.float64]

GRAVITY = 9.81
"""m/s²"""
VISCOSITY = 1.31e-6 * 86400.0
"""Of water of 10 °C [m²/day]."""
LAMINAR_UP_TO, TURBULENT_FROM = 2000.0, 4000.0
"""Reynolds numbers."""
REGIMES = ("at rest", "laminar", "in transition", "turbulent")


class Section(NamedTuple):
    """What conveys in a pipe.

    Attributes
    ----------
    area : ndarray of float, (n,)
        [m²].
    hydraulic_diameter : ndarray of float, (n,)
        Four times the area over the wetted perimeter [m].
    """

    area: Array
    hydraulic_diameter: Array


def _over(function: Any, *values: ArrayLike) -> Array:
    from numpy import vectorize

    return np.asarray(vectorize(function, otypes=[float])(*values))


def reynolds_number(velocity: ArrayLike, diameter: ArrayLike, viscosity: ArrayLike = VISCOSITY) -> Array:
    """Return the Reynolds number: velocity times diameter over kinematic viscosity [-]."""
    return np.asarray(velocity, dtype=np.float64) * np.asarray(diameter) / np.asarray(viscosity)


def friction_slope(
    velocity: ArrayLike,
    diameter: ArrayLike,
    roughness: ArrayLike,
    *,
    viscosity: ArrayLike = VISCOSITY,
    laminar_up_to: float = LAMINAR_UP_TO,
    turbulent_from: float = TURBULENT_FROM,
) -> Array:
    """Return the fall of the head for each metre of a pipe [-].

    Laminar by Hagen and Poiseuille; turbulent by Darcy and Weisbach with the friction factor of Colebrook and White;
    between both Reynolds numbers the logarithm of the slope is a cubic of that of the velocity, which meets both with
    their steepness and rises all the way.

    Parameters
    ----------
    velocity : array_like of float
        Mean velocity, 0 or more [m/day].
    diameter : array_like of float
        Hydraulic diameter [m].
    roughness : array_like of float
        Height of the roughness of the wall, as of sand grains [m].
    viscosity : array_like of float
        Kinematic [m²/day].
    laminar_up_to, turbulent_from : float
        Reynolds numbers.

    References
    ----------
    Colebrook, C. F. (1939), Turbulent flow in pipes, with particular reference to the transition region between the
    smooth and rough pipe laws, Journal of the Institution of Civil Engineers 11(4), 133-156.
    """
    from inkhorn.conduits import _kernels

    def one(v: float, d: float, k: float, nu: float) -> float:
        return float(_kernels.slope_law(v, d, k, nu, laminar_up_to, turbulent_from)[0])

    return _over(one, velocity, diameter, roughness, viscosity)


def mean_velocity(
    slope: ArrayLike,
    diameter: ArrayLike,
    roughness: ArrayLike,
    *,
    viscosity: ArrayLike = VISCOSITY,
    laminar_up_to: float = LAMINAR_UP_TO,
    turbulent_from: float = TURBULENT_FROM,
) -> Array:
    """Return the mean velocity at a fall of the head [m/day]: the inverse of `friction_slope`, with its parameters."""
    from inkhorn.conduits import _kernels

    def one(s: float, d: float, k: float, nu: float) -> float:
        return float(_kernels.velocity_law(s, d, k, nu, laminar_up_to, turbulent_from))

    return _over(one, slope, diameter, roughness, viscosity)


def section_of(depth: ArrayLike, diameter: ArrayLike) -> Section:
    """Return what conveys in a round pipe that is filled to a depth [m].

    Up to 0.79 of the diameter that is the water's own section. From 0.83 on it is that of the full pipe, and between
    both it goes from the one to the other, for a circle that is nearly full would convey up to 8 % more than a full one.
    """
    from inkhorn.conduits import _kernels

    depth, diameter = (np.asarray(v, dtype=np.float64) for v in np.broadcast_arrays(depth, diameter))
    found = np.array(
        [_kernels.section(max(y / d, 1e-9)) for y, d in zip(depth.ravel(), diameter.ravel(), strict=True)]
    )
    area, hydraulic = (found[:, k].reshape(depth.shape) for k in (0, 2))
    return Section(area * diameter**2, hydraulic * diameter)


def wet_depth(above: Array) -> tuple[Array, Array]:
    """Return the depth of water over a bed from how far the head is above it, and its slope [m], [-]."""
    from inkhorn.conduits import _kernels

    c = _kernels.CORNER
    t = np.clip(above + c, 0.0, 2.0 * c)
    return np.where(above >= c, above, t * t / (4.0 * c)), t / (2.0 * c)


@dataclass(frozen=True, eq=False)
class Pipes:
    """Pipes between nodes, as the law takes them.

    Attributes
    ----------
    first, second : ndarray of int, (n,)
        Nodes at their ends.
    bed_first, bed_second : ndarray of float, (n,)
        Lowest point of the section there [m].
    length, diameter, roughness : ndarray of float, (n,)
        [m].
    viscosity : ndarray of float, (n,)
        [m²/day].
    laminar_up_to, turbulent_from : ndarray of float, (n,)
        Reynolds numbers.
    wall_end : ndarray of int, (n,)
        At which end water passes the wall: 0 the first, 1 the second.
    """

    first: NDArray[np.int64]
    second: NDArray[np.int64]
    bed_first: Array
    bed_second: Array
    length: Array
    diameter: Array
    roughness: Array
    viscosity: Array
    laminar_up_to: Array
    turbulent_from: Array
    wall_end: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.first)

    @cached_property
    def nodes(self) -> NDArray[np.int64]:
        """Both ends of each, pipe by pipe, (2n,)."""
        return np.column_stack([self.first, self.second]).ravel()

    @cached_property
    def beds(self) -> Array:
        """Of both ends, pipe by pipe, (2n,) [m]."""
        return np.column_stack([self.bed_first, self.bed_second]).ravel()

    @cached_property
    def wall_node(self) -> NDArray[np.int64]:
        """The node at which water passes the wall, (n,)."""
        return np.where(self.wall_end == 0, self.first, self.second)

    @cached_property
    def wall_bed(self) -> Array:
        """The bed there, (n,) [m]."""
        return np.where(self.wall_end == 0, self.bed_first, self.bed_second)

    def refuse_impossible(self, name_of: Any) -> None:
        """Refuse pipes that none can be.

        Raises
        ------
        InputError
            Naming the first.
        """
        for what, values in (("length", self.length), ("diameter", self.diameter)):
            bad = np.flatnonzero(~(values > 0.0))
            if len(bad):
                raise InputError(
                    f"{name_of(bad[0])}: its {what} is {values[bad[0]]:g} m; expected more than 0."
                )
        bad = np.flatnonzero(~(self.roughness < 0.5 * self.diameter))
        if len(bad):
            raise InputError(
                f"{name_of(bad[0])}: its roughness, {self.roughness[bad[0]]:g} m, is not below half its diameter, "
                f"{self.diameter[bad[0]]:g} m. Give the height of what the wall is rough by."
            )
        bad = np.flatnonzero(~(self.turbulent_from >= 1.5 * self.laminar_up_to) | ~(self.laminar_up_to > 0.0))
        if len(bad):
            raise InputError(
                f"{name_of(bad[0])}: flow is laminar up to a Reynolds number of {self.laminar_up_to[bad[0]]:g} and "
                f"turbulent from {self.turbulent_from[bad[0]]:g}; expected the second to be at least 1.5 times the first."
            )


class Flowing(NamedTuple):
    """What the law of each pipe leaves over [m³/day], and its derivatives; see `_kernels.pipes`."""

    left: Array
    by_flow: Array
    by_first: Array
    by_second: Array
    by_diameter: Array
    by_roughness: Array
    by_length: Array
    by_bed_first: Array
    by_bed_second: Array
    by_viscosity: Array
    area: Array
    hydraulic_diameter: Array
    driven: Array


def law_at(pipes: Pipes, heads: Array, flow: Array) -> Flowing:
    """Return what the law leaves over at heads of the nodes and flows of the pipes [m], [m³/day]."""
    from inkhorn.conduits import _kernels

    found = np.empty((13, len(pipes)))
    _kernels.pipes(
        pipes.first, pipes.second, pipes.bed_first, pipes.bed_second, pipes.length, pipes.diameter, pipes.roughness,
        pipes.viscosity, pipes.laminar_up_to, pipes.turbulent_from, heads, flow, found,
    )  # fmt: skip
    return Flowing(*found)


def passed_at(pipes: Pipes, exchange: Array, heads: Array, outside: Array) -> Array:
    """Return what passes the wall of each pipe, at one of its ends.

    Parameters
    ----------
    pipes : Pipes
    exchange : ndarray of float, (n,)
        [m/day].
    heads : ndarray of float, (n_nodes,)
        At the nodes [m].
    outside : ndarray of float, (n,)
        In the rock [m].

    Returns
    -------
    ndarray of float, (3, n)
        What passes outwards [m³/day], its slopes by the head at the node and in the rock [m²/day].
    """
    from inkhorn.conduits import _kernels

    found = np.empty((3, len(pipes)))
    _kernels.walls(pipes.wall_node, pipes.wall_bed, pipes.length, exchange, heads, outside, found)
    return found


def standing_at(pipes: Pipes, heads: Array) -> Array:
    """Return what stands in the half of each pipe beside each of its ends.

    Returns
    -------
    ndarray of float, (3, 2n)
        The water [m³], its slopes by the head at the node and by the diameter [m²].
    """
    from inkhorn.conduits import _kernels

    found = np.empty((3, 2 * len(pipes)))
    _kernels.halves(pipes.nodes, pipes.beds, pipes.diameter, pipes.length, heads, found)
    return found
