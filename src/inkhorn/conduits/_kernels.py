"""Compiled loops over pipes. Lengths are in metres, times in days."""

from __future__ import annotations

import numpy as np
from numba import njit

GRAVITY = 9.81 * 86400.0**2  # m/day²
CORNER = 1e-3  # m: half the depth over which a bed begins to be wet
FULL_FROM, BEGINS = (
    0.83,
    0.79,
)  # shares of the diameter at which a pipe conveys as a full one, and where that begins
_DRY = 1e-6  # share of the diameter
_EASIEST = 1e12  # m²/day that a pipe conducts at most in the derivative
_FAR_OVER = 4.0  # times what the fall would drive
_NOISE = 16.0 * 2.220446049250313e-16  # of a head
_C = 2.0 / np.log(10.0)


@njit(cache=True)
def rough_root(a, b):  # type: ignore[no-untyped-def]
    """The inverse root x of the friction factor by Colebrook and White: x + 2 log10(a + b x) = 0."""
    if a + b <= 0.0:
        return np.inf
    x = -_C * np.log(a + b * 8.0)
    if x < 1.0:
        x = 1.0
    for _ in range(50):
        inner = a + b * x
        step = (x + _C * np.log(inner)) / (1.0 + _C * b / inner)
        x -= step
        if x <= 0.0:
            x = 1e-3
        if abs(step) <= 1e-15 * abs(x):
            break
    return x


@njit(cache=True)
def _transition(diameter, rough, viscosity, low, high):  # type: ignore[no-untyped-def]
    """Logarithms of the friction slope at either end of the transition, the slope of the upper one, and derivatives.

    The last are by the logarithm of the diameter and by the roughness: of the upper slope and of its steepness.
    """
    first = np.log(32.0 * viscosity**2 * low / (GRAVITY * diameter**3))
    a, b = rough / (3.7 * diameter), 2.51 / high
    x = rough_root(a, b)
    u = a + b * x + _C * b
    second = np.log((high * viscosity) ** 2 / (2.0 * GRAVITY * diameter**3 * x * x))
    steep = 2.0 - 2.0 * _C * b / u
    by_a = -_C / u  # of x
    steep_by_a = 2.0 * _C * b / (u * u) * (1.0 + b * by_a)
    return first, second, steep, -2.0 * by_a / x, steep_by_a, a


@njit(cache=True)
def slope_law(v, diameter, rough, viscosity, low, high):  # type: ignore[no-untyped-def]
    """Friction slope of a mean velocity, and its derivatives by it, by diameter, roughness and viscosity."""
    per_speed = 32.0 * viscosity / (GRAVITY * diameter * diameter)
    reynolds = v * diameter / viscosity
    if reynolds <= low:
        s = per_speed * v
        return s, per_speed, -2.0 * s / diameter, 0.0, s / viscosity
    if reynolds >= high:
        a, b = rough / (3.7 * diameter), 2.51 / reynolds
        x = rough_root(a, b)
        u = a + b * x + _C * b
        s = v * v / (2.0 * GRAVITY * diameter * x * x)
        by_a, by_b = -_C / u, -_C * x / u
        along = b * by_b / x  # of ln x by ln b
        return (
            s,
            2.0 * s / v * (1.0 + along),
            s / diameter * (-1.0 + 2.0 * (a * by_a / x + along)),
            -2.0 * s / x * by_a / (3.7 * diameter),
            -2.0 * s * along / viscosity,
        )
    first, second, steep, second_by_a, steep_by_a, a = _transition(diameter, rough, viscosity, low, high)
    wide = np.log(high / low)
    t = np.log(reynolds / low) / wide
    h01, h10, h11 = t * t * (3.0 - 2.0 * t), t * (1.0 - t) ** 2, t * t * (t - 1.0)
    s = np.exp(first + (second - first) * h01 + wide * (h10 + steep * h11))
    dt = 6.0 * t * (1.0 - t)
    rise = ((second - first) * dt) / wide + (1.0 - t) * (1.0 - 3.0 * t) + steep * t * (3.0 * t - 2.0)
    by_a = second_by_a * h01 + wide * steep_by_a * h11
    return (
        s,
        s * rise / v,
        s * (rise - 3.0 - a * by_a) / diameter,
        s * by_a / (3.7 * diameter),
        s * (2.0 - rise) / viscosity,
    )


@njit(cache=True)
def velocity_law(s, diameter, rough, viscosity, low, high):  # type: ignore[no-untyped-def]
    """Mean velocity at a friction slope."""
    if s <= 0.0:
        return 0.0
    laminar = GRAVITY * diameter * diameter * s / (32.0 * viscosity)
    if laminar * diameter <= low * viscosity:
        return laminar
    root = np.sqrt(2.0 * GRAVITY * diameter * s)
    v = -_C * root * np.log(rough / (3.7 * diameter) + 2.51 * viscosity / (diameter * root))
    if v * diameter >= high * viscosity:
        return v
    first, second, steep, _, _, _ = _transition(diameter, rough, viscosity, low, high)
    wide, goal = np.log(high / low), np.log(s)
    if goal >= second:
        return high * viscosity / diameter
    below, above = 0.0, 1.0
    t = (goal - first) / (second - first)
    for _ in range(100):
        h01, h10, h11 = t * t * (3.0 - 2.0 * t), t * (1.0 - t) ** 2, t * t * (t - 1.0)
        missing = first + (second - first) * h01 + wide * (h10 + steep * h11) - goal
        rise = (second - first) * 6.0 * t * (1.0 - t) + wide * (
            (1.0 - t) * (1.0 - 3.0 * t) + steep * t * (3.0 * t - 2.0)
        )
        if missing > 0.0:
            above = t
        else:
            below = t
        there = t - missing / rise if rise > 0.0 else below
        if not below < there < above:
            there = 0.5 * (below + above)
        if abs(there - t) <= 1e-16:
            break
        t = there
    return low * np.exp(wide * t) * viscosity / diameter


@njit(cache=True)
def wet(above):  # type: ignore[no-untyped-def]
    """Depth of water over a bed, from how far the head is above it, and its slope: 0 below, without a corner."""
    if above >= CORNER:
        return above, 1.0
    if above <= -CORNER:
        return 0.0, 0.0
    return (above + CORNER) ** 2 / (4.0 * CORNER), (above + CORNER) / (2.0 * CORNER)


@njit(cache=True)
def true_area(share):  # type: ignore[no-untyped-def]
    """Area of the water in a circle of diameter 1, filled to a share of its height, and the width of its surface."""
    if share >= 1.0:
        return np.pi / 4.0, 0.0
    if share <= 0.0:
        return 0.0, 0.0
    angle = 2.0 * np.arccos(1.0 - 2.0 * share)
    # of a thin film the difference would lose its digits
    film = angle**3 / 48.0 * (1.0 - angle * angle / 20.0)
    area = film if angle < 0.02 else (angle - np.sin(angle)) / 8.0
    return area, np.sin(0.5 * angle)


@njit(cache=True)
def section(share):  # type: ignore[no-untyped-def]
    """Area and hydraulic diameter that convey, of a circle of diameter 1 filled to a share, and their slopes.

    A partly filled circle would convey more than a full one from 0.82 of its height on; these come to those of the full
    one there, so that the flow never falls as the water rises.
    """
    if share >= FULL_FROM:
        return np.pi / 4.0, 0.0, 1.0, 0.0
    area, width = true_area(share)
    angle = 2.0 * np.arccos(1.0 - 2.0 * share)
    edge, edge_slope = 0.5 * angle, 2.0 / np.sin(0.5 * angle)
    deep = 4.0 * area / edge
    deep_slope = (4.0 * width - deep * edge_slope) / edge
    if share <= BEGINS:
        return area, width, deep, deep_slope
    t = (share - BEGINS) / (FULL_FROM - BEGINS)
    b, b_slope = t * t * (3.0 - 2.0 * t), 6.0 * t * (1.0 - t) / (FULL_FROM - BEGINS)
    return (
        (1.0 - b) * area + b * np.pi / 4.0,
        (1.0 - b) * width + b_slope * (np.pi / 4.0 - area),
        (1.0 - b) * deep + b,
        (1.0 - b) * deep_slope + b_slope * (1.0 - deep),
    )


@njit(cache=True)
def pipes(  # type: ignore[no-untyped-def]
    first,
    second,
    bed_first,
    bed_second,
    length,
    size,
    rough,
    viscosity,
    low,
    high,
    head,
    flow,
    found,
):
    """What the law of each pipe leaves over, in m³/day, and its derivatives.

    The law is that the fall of the head is the friction along the way. What is left over is the flow that this fall
    would drive, less the flow that there is; the derivatives are those of the law by the same factor, so that a step
    of Newton's method is one of the law itself.

    Rows of `found`: what is left over; its derivatives by the flow, by the heads at the first and second end, by
    diameter, roughness, length, bed at the first and second end, viscosity; then what conveys: area and hydraulic
    diameter; and the flow that the fall would drive.
    """
    for p in range(len(first)):
        a, b = head[first[p]], head[second[p]]
        diameter, far, q = size[p], length[p], flow[p]
        deep_a, slope_a = wet(a - bed_first[p])
        deep_b, slope_b = wet(b - bed_second[p])
        level_a, level_b = bed_first[p] + deep_a, bed_second[p] + deep_b
        fall = level_a - level_b
        downwards = fall >= 0.0
        deep, deep_slope = (deep_a, slope_a) if downwards else (deep_b, slope_b)
        share = deep / diameter
        out = found[:, p]
        out[:] = 0.0
        if share <= _DRY:
            out[0], out[1] = -q, -1.0
            continue
        area, area_slope, hydraulic, hydraulic_slope = section(share)
        whole, wide = area * diameter * diameter, hydraulic * diameter
        driven = whole * velocity_law(abs(fall) / far, wide, rough[p], viscosity[p], low[p], high[p])
        driven = driven if downwards else -driven
        # by its own friction, as the law has it, and by that which would hold the fall
        speed = abs(q) / whole
        s, s_v, s_d, s_k, s_n = slope_law(speed, wide, rough[p], viscosity[p], low[p], high[p])
        sign = 1.0 if (q > 0.0 or (q == 0.0 and downwards)) else -1.0
        missing, left = fall - sign * far * s, driven - q
        conducts = min(whole / (far * s_v), _EASIEST)
        noise = _NOISE * max(abs(a), abs(b), abs(bed_first[p]), abs(bed_second[p]))
        if abs(missing) <= noise:
            left = 0.0
        else:
            if abs(left) > 1e-4 * max(abs(driven), abs(q)) and left * missing > 0.0:
                conducts = min(left / missing, _EASIEST)
            left = conducts * missing
        by_flow = conducts * max(far * s_v / whole, 1.0 / _EASIEST)
        if share < FULL_FROM:  # as the section changes by the fall, that of the law and of the flow alike
            sign, speed = 1.0 if downwards else -1.0, abs(driven) / whole
            _, t_v, t_d, _, _ = slope_law(speed, wide, rough[p], viscosity[p], low[p], high[p])
            by_area, by_wide = sign * far * t_v * speed / whole, -sign * far * t_d
            if abs(q) > _FAR_OVER * abs(driven):  # a pipe that falls dry is so at once
                left, by_flow = driven - q, 1.0
        else:
            by_area, by_wide = sign * far * s_v * speed / whole, -sign * far * s_d  # more room, less friction
        by_deep = by_area * area_slope * diameter + by_wide * hydraulic_slope
        by_size = by_area * (2.0 * area * diameter - area_slope * deep) + by_wide * (
            hydraulic - hydraulic_slope * share
        )
        out[0] = left
        out[1] = -by_flow
        out[2] = conducts * (slope_a + (by_deep * deep_slope if downwards else 0.0))
        out[3] = conducts * (-slope_b + (0.0 if downwards else by_deep * deep_slope))
        out[4] = conducts * by_size
        out[5] = -conducts * sign * far * s_k
        out[6] = -conducts * sign * s
        out[7] = conducts * (1.0 - slope_a - (by_deep * deep_slope if downwards else 0.0))
        out[8] = conducts * (-1.0 + slope_b - (0.0 if downwards else by_deep * deep_slope))
        out[9] = -conducts * sign * far * s_n
        out[10], out[11], out[12] = whole, wide, driven


@njit(cache=True)
def walls(node, bed, length, per_length, head, rock, found):  # type: ignore[no-untyped-def]
    """What passes the wall of each pipe, at a node, into its cell.

    Rows of `found`: the flow, its slopes by the head at the node and in the cell.
    """
    for p in range(len(node)):
        inside, by_inside = wet(head[node[p]] - bed[p])
        outside, by_outside = wet(rock[p] - bed[p])
        through = per_length[p] * length[p]
        found[0, p] = through * (inside - outside)
        found[1, p] = through * by_inside
        found[2, p] = -through * by_outside


@njit(cache=True)
def halves(node, bed, size, length, head, found):  # type: ignore[no-untyped-def]
    """What stands in the half of each pipe beside each of its ends.

    Rows of `found`: the water, its slopes by the head at the node and by the diameter.
    """
    for k in range(len(node)):
        p = k // 2
        half = 0.5 * length[p]
        deep, slope = wet(head[node[k]] - bed[k])
        area, width = true_area(deep / size[p])
        found[0, k] = half * area * size[p] ** 2
        found[1, k] = half * width * size[p] * slope
        found[2, k] = half * (2.0 * area * size[p] - width * deep)
