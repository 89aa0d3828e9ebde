"""Compiled loops of transport: flows of mass across faces, what each cell holds, and the limits put on both.

Every loop runs over faces or over cells and writes only to its own, so that any number of threads gives the same bits.
The neighbours of cell ``i`` stand at ``first[i]`` to ``first[i + 1]``: those at its sides first, from ``middle[i]``
on those above and below; `way` is 1 where the cell is the first of the face, else -1.
"""

from __future__ import annotations

from collections.abc import Callable
from types import FunctionType, SimpleNamespace
from typing import Any

import numpy as np
from numba import njit, prange

KAPPA = 1.0 / 3.0  # of van Leer (1985): third order where the mesh is even
LINEAR, FREUNDLICH, LANGMUIR = 0, 1, 2
_NOTHING = 1e-300

ALONE, SHARED = SimpleNamespace(), SimpleNamespace()
"""The loops that many cells are worth several threads for, on one and on all there are."""


def _in_both_ways(loop: Callable[..., None]) -> Callable[..., None]:
    """Compile a loop for one thread and for several; the latter start theirs when they are first called."""
    assert isinstance(loop, FunctionType)
    shared: Any = FunctionType(loop.__code__, loop.__globals__, f"{loop.__name__}_shared")
    shared.__qualname__ = shared.__name__  # by which compiled code is kept apart on disk
    setattr(ALONE, loop.__name__, njit(cache=True, nogil=True)(loop))
    setattr(SHARED, loop.__name__, njit(parallel=True, cache=True, nogil=True)(shared))
    return loop


@njit(cache=True, nogil=True, inline="always")
def sorbed_at(kind, one, two, c):  # type: ignore[no-untyped-def]
    """What is sorbed per mass of ground at a concentration [g/g]."""
    if kind == LINEAR or c <= 0.0:
        return one * c if kind == LINEAR else 0.0
    if kind == FREUNDLICH:
        return one * c**two
    return two * one * c / (1.0 + one * c)


@njit(cache=True, nogil=True)
def _concentration_of(kind, one, two, water, ground, mass):  # type: ignore[no-untyped-def]
    """The concentration at which water and ground hold a mass together."""
    if kind == LINEAR:
        holds = water + ground * one
        return mass / holds if holds > _NOTHING else 0.0
    if mass <= 0.0:
        return 0.0
    if ground * one <= 0.0:
        return mass / water if water > _NOTHING else 0.0
    if kind == LANGMUIR:  # the positive root of a quadratic, without cancellation
        half = 0.5 * (water + ground * one * two - mass * one)
        root = np.sqrt(half * half + water * one * mass)
        if half >= 0.0:
            return mass / (half + root) if half + root > 0.0 else 0.0
        return (root - half) / (water * one) if water * one > 0.0 else 1e300
    high = mass / water if water > _NOTHING else 1e300  # were all of it dissolved
    high = min(high, (mass / (ground * one)) ** (1.0 / two))  # were all of it sorbed
    low = 0.0
    c = high
    for _ in range(200):
        over = water * c + ground * sorbed_at(kind, one, two, c) - mass
        if over > 0.0:
            high = c
        else:
            low = c
        new = c - over / (water + ground * one * two * c ** (two - 1.0))
        new = new if low < new < high else 0.5 * (low + high)
        if abs(new - c) <= 4e-16 * c:
            return new
        c = new
    return c


@_in_both_ways
def concentrations(kind, one, two, water, ground, mass, c):  # type: ignore[no-untyped-def]
    """Write the concentration of each cell that holds anything; others keep theirs."""
    for i in prange(len(c)):
        if water[i] + ground[i] > _NOTHING:
            c[i] = _concentration_of(kind, one[i], two[i], water[i], ground[i], mass[i])


@_in_both_ways
def masses(kind, one, two, water, ground, c, mass):  # type: ignore[no-untyped-def]
    """Write the mass that each cell holds at its concentration."""
    for i in prange(len(c)):
        mass[i] = water[i] * c[i] + ground[i] * sorbed_at(kind, one[i], two[i], c[i])


@_in_both_ways
def gradients(first, middle, near, w1, w2, wet, c, g):  # type: ignore[no-untyped-def]
    """Write the gradient of each cell by least squares over its neighbours, in plan and in its column."""
    for i in prange(len(c)):
        gx = gy = gz = 0.0
        if wet[i]:
            here = c[i]
            for e in range(first[i], middle[i]):
                j = near[e]
                if wet[j]:
                    d = c[j] - here
                    gx += w1[e] * d
                    gy += w2[e] * d
            for e in range(middle[i], first[i + 1]):
                j = near[e]
                if wet[j]:
                    gz += w1[e] * (c[j] - here)
        g[i, 0], g[i, 1], g[i, 2] = gx, gy, gz


@_in_both_ways
def low_flows(a, b, water, mixing, c0, c1, theta, mass_flow):  # type: ignore[no-untyped-def]
    """Write the flow of mass across each face that keeps every bound: upstream, and between the two cells only."""
    for f in prange(len(a)):
        i, j, q, t = a[f], b[f], water[f], mixing[f]
        u = i if q >= 0.0 else j
        s = theta[u]
        flow = q * (c0[u] if s == 0.0 else (1.0 - s) * c0[u] + s * c1[u])
        if t > 0.0:
            s = max(theta[i], theta[j])
            if s == 0.0:
                flow += t * (c0[i] - c0[j])
            else:
                flow += t * ((1.0 - s) * (c0[i] - c0[j]) + s * (c1[i] - c1[j]))
        mass_flow[f] = flow


@_in_both_ways
def high_flows(  # type: ignore[no-untyped-def]
    a, b, n_sides, water, mixing, cross, arm, share, height, wet, c, g, without, mass_flow
):  # fmt: skip
    """Write the flow of mass across each face from concentrations that change evenly within the cells.

    Upstream values are those of van Leer's scheme for any mesh; dispersion takes the whole tensor. What is implicit where
    cells are stiff is left out: upstream flow out of those `without`, and what mixes straight with them.
    """
    for f in prange(len(a)):
        i, j, q = a[f], b[f], water[f]
        if not (wet[i] and wet[j]):
            u = i if q >= 0.0 else j
            mass_flow[f] = 0.0 if without[u] else q * c[u]
            continue
        z_i = z_j = 0.0
        if f >= n_sides:
            z_i, z_j = -0.5 * height[i], 0.5 * height[j]
        if q >= 0.0:
            u, d, s = i, j, share[f]
            x, y, z = arm[f, 0], arm[f, 1], z_i
            back_x, back_y, back_z = arm[f, 2], arm[f, 3], z_j
        else:
            u, d, s = j, i, 1.0 - share[f]
            x, y, z = arm[f, 2], arm[f, 3], z_j
            back_x, back_y, back_z = arm[f, 0], arm[f, 1], z_i
        gx, gy, gz = g[u, 0], g[u, 1], g[u, 2]
        beyond = c[d] - c[u] - (gx * (x - back_x) + gy * (y - back_y) + gz * (z - back_z))
        at_face = c[u] + gx * x + gy * y + gz * z + KAPPA * s * beyond
        flow = q * (at_face - c[u] if without[u] else at_face)
        t = mixing[f]
        if t > 0.0:
            if not (without[i] or without[j]):
                flow += t * (c[i] - c[j])
            s = share[f]
            flow -= cross[f, 0] * ((1.0 - s) * g[i, 0] + s * g[j, 0])
            flow -= cross[f, 1] * ((1.0 - s) * g[i, 1] + s * g[j, 1])
            flow -= cross[f, 2] * ((1.0 - s) * g[i, 2] + s * g[j, 2])
        mass_flow[f] = flow


@_in_both_ways
def held_after(first, face, way, mass_flow, mass0, brought, leaving, c, length, mass):  # type: ignore[no-untyped-def]
    """Write the mass of each cell after a while of such flows, what is brought in and what leaves with its own water."""
    for i in prange(len(mass)):
        rate = brought[i] - leaving[i] * c[i]
        for e in range(first[i], first[i + 1]):
            rate -= way[e] * mass_flow[face[e]]
        mass[i] = mass0[i] + length * rate


@_in_both_ways
def stage(  # type: ignore[no-untyped-def]
    first, face, way, mass_flow, mass0, brought, leaving, kind, one, two, water0, water1, ground0, ground1, share,
    length, implicit, held, c0, on_way, before, after
):  # fmt: skip
    """Write the concentrations after a share of a step; where cells are taken implicitly those that are on the way."""
    for i in prange(len(after)):
        if held[i] or implicit[i]:
            after[i] = on_way[i]
            continue
        rate = brought[i] - leaving[i] * before[i]
        for e in range(first[i], first[i + 1]):
            rate -= way[e] * mass_flow[face[e]]
        water = water0[i] + share * (water1[i] - water0[i])
        ground = ground0[i] + share * (ground1[i] - ground0[i])
        if water + ground > _NOTHING:
            mass = mass0[i] + share * length * rate
            after[i] = _concentration_of(kind, one[i], two[i], water, ground, mass)
        else:
            after[i] = c0[i]


@_in_both_ways
def faded(a, b, corrected, low, high):  # type: ignore[no-untyped-def]
    """Draw the high flows to the low ones where these are not to be corrected all the way."""
    for f in prange(len(a)):
        high[f] = low[f] + min(corrected[a[f]], corrected[b[f]]) * (high[f] - low[f])


@_in_both_ways
def faded_within(corrected, hands_on, c0, c_low, leaves, middle):  # type: ignore[no-untyped-def]
    """The same for concentrations of what leaves, within their bounds; those that wells hand on are told already."""
    for i in prange(len(leaves)):
        if hands_on[i]:
            middle[i] = leaves[i]
        else:
            bounded = min(max(middle[i], min(c0[i], c_low[i])), max(c0[i], c_low[i]))
            middle[i] = leaves[i] + corrected[i] * (bounded - leaves[i])


@_in_both_ways
def room(  # type: ignore[no-untyped-def]
    first, near, face, way, high, low, length, kind, one, two, water, ground, wet, held, least_in, most_in, leaving,
    leaves, middle, c0, c_low, mass, take, give
):  # fmt: skip
    """Write which share of what the corrections bring to each cell, and take from it, it has room for.

    Bounds are the least and greatest of the cell, its neighbours and the water that comes in, before the step and
    after it by the low flows.

    References
    ----------
    Zalesak, S. T. (1979), Fully multidimensional flux-corrected transport algorithms for fluids, J. Comput. Phys. 31,
    335-362.
    """
    for i in prange(len(mass)):
        if held[i]:
            take[i] = give[i] = 1.0
            continue
        lowest = min(c_low[i], least_in[i])
        highest = max(c_low[i], most_in[i])
        if wet[i]:
            lowest, highest = min(lowest, c0[i]), max(highest, c0[i])
        own = length * leaving[i] * (leaves[i] - middle[i])
        comes, goes = max(own, 0.0), max(-own, 0.0)
        for e in range(first[i], first[i + 1]):
            j = near[e]
            if wet[j]:
                lowest = min(lowest, c0[j], c_low[j])
                highest = max(highest, c0[j], c_low[j])
            flow = -way[e] * length * (high[face[e]] - low[face[e]])
            if flow > 0.0:
                comes += flow
            else:
                goes -= flow
        most = water[i] * highest + ground[i] * sorbed_at(kind, one[i], two[i], highest)
        least = water[i] * lowest + ground[i] * sorbed_at(kind, one[i], two[i], lowest)
        take[i] = min(1.0, max(most - mass[i], 0.0) / comes) if comes > 0.0 else 1.0
        give[i] = min(1.0, max(mass[i] - least, 0.0) / goes) if goes > 0.0 else 1.0


@_in_both_ways
def limited_within(leaving, take, give, middle, leaves):  # type: ignore[no-untyped-def]
    """Draw concentrations of what leaves as near to those of the high flows as cells have room for."""
    for i in prange(len(leaves)):
        more = middle[i] - leaves[i]
        leaves[i] += (give[i] if more * leaving[i] > 0.0 else take[i]) * more


@_in_both_ways
def limited(a, b, high, low, take, give):  # type: ignore[no-untyped-def]
    """Turn the low flows into those that come as near to the high ones as both cells have room for."""
    for f in prange(len(a)):
        more = high[f] - low[f]
        if more >= 0.0:
            low[f] += min(give[a[f]], take[b[f]]) * more
        else:
            low[f] += min(take[a[f]], give[b[f]]) * more


@njit(cache=True, nogil=True)
def outflows(first, face, way, water, mixing, leaving, carried, mixed):  # type: ignore[no-untyped-def]
    """Write what leaves each cell with its water, and by mixing [m³/day]."""
    for i in prange(len(carried)):
        out = max(leaving[i], 0.0)
        more = 0.0
        for e in range(first[i], first[i + 1]):
            f = face[e]
            out += max(way[e] * water[f], 0.0)
            more += mixing[f]
        carried[i] = out
        mixed[i] = more


@njit(cache=True, nogil=True)
def passed(c0, c1, begin, length, limit, first, last):  # type: ignore[no-untyped-def]
    """Note when each cell first rose above a limit, and when it last fell below again (infinite while it is above)."""
    for i in prange(len(c0)):
        if c1[i] > limit:
            if c0[i] <= limit:
                when = begin + length * (limit - c0[i]) / (c1[i] - c0[i])
                first[i] = min(first[i], when)
            last[i] = np.inf
        elif c0[i] > limit:
            last[i] = begin + length * (c0[i] - limit) / (c0[i] - c1[i])


@_in_both_ways
def dispersive(  # type: ignore[no-untyped-def]
    a, b, n_sides, water, area, normal, arm, share, height, filled, flux, pores, along, across, upwards, diffusion, wet,
    mixing, cross
):  # fmt: skip
    """Write what mixes across each face, by the difference of its cells and by the gradient beside that [m³/day, m⁴/day].

    The flow along the face's normal is the face's own, across it the mean of both cells.

    References
    ----------
    Burnett, R. D. and Frind, E. O. (1987), Simulation of contaminant transport in three dimensions 2, Water Resources
    Research 23(4), 695-705, eq. 2 (two transverse dispersivities).
    """
    for f in prange(len(a)):
        i, j, s = a[f], b[f], share[f]
        mixing[f] = 0.0
        cross[f, 0] = cross[f, 1] = cross[f, 2] = 0.0
        floor = f >= n_sides
        surface = area[f] if floor else area[f] * min(filled[i], filled[j])
        if not (wet[i] and wet[j]) or surface <= 0.0:
            continue
        nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
        qx = (1.0 - s) * flux[i, 0] + s * flux[j, 0]
        qy = (1.0 - s) * flux[i, 1] + s * flux[j, 1]
        qz = (1.0 - s) * flux[i, 2] + s * flux[j, 2]
        more = water[f] / surface - (qx * nx + qy * ny + qz * nz)
        qx, qy, qz = qx + more * nx, qy + more * ny, qz + more * nz
        level = qx * qx + qy * qy
        speed = np.sqrt(level + qz * qz)
        # diffusion through two kinds of ground in series
        first, second = pores[i] * diffusion[i], pores[j] * diffusion[j]
        xx = yy = zz = first * second / max((1.0 - s) * first + s * second, _NOTHING)
        far = (1.0 - s) * along[i] + s * along[j]
        wide = (1.0 - s) * across[i] + s * across[j]
        high = (1.0 - s) * upwards[i] + s * upwards[j]
        xy = xz = yz = 0.0
        if speed > 0.0:
            # principal values as of Burnett and Frind: across in plan by one dispersivity, upwards by the other
            xx += (far * qx * qx + wide * qy * qy + high * qz * qz) / speed
            yy += (far * qy * qy + wide * qx * qx + high * qz * qz) / speed
            zz += (far * qz * qz + high * level) / speed
            xy = (far - wide) * qx * qy / speed
            xz = (far - high) * qx * qz / speed
            yz = (far - high) * qy * qz / speed
        dx = xx * nx + xy * ny + xz * nz
        dy = xy * nx + yy * ny + yz * nz
        dz = xz * nx + yz * ny + zz * nz
        rx, ry, rz = arm[f, 0] - arm[f, 2], arm[f, 1] - arm[f, 3], 0.0
        if floor:
            rz = -0.5 * (height[i] + height[j])
        apart = rx * nx + ry * ny + rz * nz
        if apart <= 0.0:
            continue
        straight = (dx * nx + dy * ny + dz * nz) / apart
        mixing[f] = surface * straight
        cross[f, 0] = surface * (dx - straight * rx)
        cross[f, 1] = surface * (dy - straight * ry)
        cross[f, 2] = surface * (dz - straight * rz)


@njit(cache=True, nogil=True)
def column_weights(first, middle, near, face, way, area, height, wet, w1):  # type: ignore[no-untyped-def]
    """Write the weights of the neighbours above and below in a cell's upright gradient."""
    for i in prange(len(first) - 1):
        whole = 0.0
        for e in range(middle[i], first[i + 1]):
            j = near[e]
            if wet[i] and wet[j]:
                whole += area[face[e]] * (0.5 * (height[i] + height[j])) ** 2
        for e in range(middle[i], first[i + 1]):
            j = near[e]
            w1[e] = 0.0
            if wet[i] and wet[j] and whole > 0.0:
                w1[e] = -way[e] * area[face[e]] * 0.5 * (height[i] + height[j]) / whole


@njit(cache=True, nogil=True)
def explicit_rates(first, face, way, cells, mass_flow, brought, leaving, without, c, rate):  # type: ignore[no-untyped-def]
    """Write what comes to some cells by such flows, less what leaves them where that is not implicit [g/day]."""
    for k in range(len(cells)):
        i = cells[k]
        more = brought[i]
        if not without[i]:
            more -= leaving[i] * c[i]
        for e in range(first[i], first[i + 1]):
            more -= way[e] * mass_flow[face[e]]
        rate[k] = more


@njit(cache=True, nogil=True)
def implicit_system(  # type: ignore[no-untyped-def]
    first, near, face, way, number, cells, water, mixing, leaving, theta, length, hold, held, brought, mass0, c0, indptr,
    indices, data, right, diagonals
):  # fmt: skip
    """Fill the rows of the cells that are taken implicitly, over their `diagonals`. Return how many entries.

    So a cell counts as much as another in how well the rows are solved, however little it holds.
    """
    n = 0
    for k in range(len(cells)):
        i = cells[k]
        indptr[k] = n
        place = n
        n += 1
        if held[i]:
            indices[place], data[place], right[k], diagonals[k] = k, 1.0, c0[i], 1.0
            continue
        s = theta[i]
        diagonal = hold[k] + length * s * leaving[i]
        rhs = mass0[i] + length * (brought[i] - (1.0 - s) * leaving[i] * c0[i])
        for e in range(first[i], first[i + 1]):
            f = face[e]
            j = near[e]
            out = way[e] * water[f]
            t = mixing[f]
            s_t = max(s, theta[j])
            left = 0.0
            if out >= 0.0:
                diagonal += length * s * out
                rhs -= length * (1.0 - s) * out * c0[i]
            else:
                left -= length * theta[j] * out
                rhs -= length * (1.0 - theta[j]) * out * c0[j]
            if t > 0.0:
                diagonal += length * s_t * t
                rhs -= length * (1.0 - s_t) * t * (c0[i] - c0[j])
                left += length * s_t * t
            if left != 0.0:
                indices[n] = number[j]
                data[n] = -left
                n += 1
        indices[place] = k
        empty = diagonal <= _NOTHING  # holds nothing, and nothing passes
        diagonals[k] = 1.0 if empty else diagonal
        data[place] = 1.0
        data[place + 1 : n] /= diagonals[k]
        right[k] = c0[i] if empty else rhs / diagonal
    indptr[len(cells)] = n
    return n
