"""Compiled loops that carry what is dissolved through pipes, as parcels of water one behind the other.

The parcels of a pipe stand in a row of a table, from its first end to its second, as in a ring: `begin` is the place of
the first of them, `count` how many there are.
"""

from __future__ import annotations

from numba import njit

_ALIKE = 1e-12  # share by which concentrations differ at most that make one parcel
_NOTHING = 1e-300  # m³


@njit(cache=True)
def _join_nearest(volume, mass, begin, count, p):  # type: ignore[no-untyped-def]
    """Make one parcel of the two neighbours in a pipe that mixing changes least."""
    most, n = volume.shape[1], count[p]
    least, at = 1e300, 0
    for k in range(n - 1):
        a, b = (begin[p] + k) % most, (begin[p] + k + 1) % most
        v, w = volume[p, a], volume[p, b]
        apart = mass[p, a] / max(v, _NOTHING) - mass[p, b] / max(w, _NOTHING)
        loss = apart * apart * v * w / max(v + w, _NOTHING)
        if loss < least:
            least, at = loss, k
    a = (begin[p] + at) % most
    for k in range(at + 1, n):
        b = (begin[p] + k) % most
        if k == at + 1:
            volume[p, a] += volume[p, b]
            mass[p, a] += mass[p, b]
        else:
            before = (begin[p] + k - 1) % most
            volume[p, before], mass[p, before] = volume[p, b], mass[p, b]
    count[p] = n - 1


@njit(cache=True)
def _put_in(volume, mass, begin, count, p, second, v, m):  # type: ignore[no-untyped-def]
    """Put water in at an end of a pipe."""
    most = volume.shape[1]
    if count[p] > 0:
        k = (begin[p] + (count[p] - 1 if second else 0)) % most
        there = mass[p, k] * v
        if abs(there - m * volume[p, k]) <= _ALIKE * (abs(there) + abs(m * volume[p, k])):
            volume[p, k] += v
            mass[p, k] += m
            return
        if count[p] == most:
            _join_nearest(volume, mass, begin, count, p)
    if second:
        k = (begin[p] + count[p]) % most
    else:
        begin[p] = (begin[p] - 1) % most
        k = begin[p]
    volume[p, k], mass[p, k] = v, m
    count[p] += 1


@njit(cache=True)
def _take_out(volume, mass, begin, count, p, second, v):  # type: ignore[no-untyped-def]
    """Take water out at an end of a pipe, as far as there is any; return what is dissolved in it."""
    most, found = volume.shape[1], 0.0
    while v > 0.0 and count[p] > 0:
        k = (begin[p] + (count[p] - 1 if second else 0)) % most
        if volume[p, k] > v:
            part = mass[p, k] * (v / volume[p, k])
            volume[p, k] -= v
            mass[p, k] -= part
            return found + part
        v -= volume[p, k]
        found += mass[p, k]
        count[p] -= 1
        if not second:
            begin[p] = (begin[p] + 1) % most
    return found


@njit(cache=True)
def carry(  # type: ignore[no-untyped-def]
    order, start, pipe, end, into, comes, brings, leaves, shaft, rises, length, steps, volume, mass, begin, count,
    at_node, gone, passing,
):  # fmt: skip
    """Carry parcels through all nodes for a while, in steps.

    Parameters are the nodes, those first that others get their water from; the ends of pipes at each (`start`, `pipe`,
    `end`); the flow into each pipe at both ends; for each node what comes in and what that brings, and what leaves; water
    in shafts, which mix, and how it rises; how long, in how many steps; the parcels; mass that waits at nodes; the mass
    that went with what leaves, in all; and the concentration that passes each node, at the end of each step.
    """
    dt = length / steps
    for step in range(steps):
        for n in order:
            water, found = comes[n] * dt + shaft[n], brings[n] * dt + at_node[n]
            out = leaves[n] * dt
            for k in range(start[n], start[n + 1]):
                q = into[pipe[k], end[k]]
                if q < 0.0:
                    water -= q * dt
                    found += _take_out(volume, mass, begin, count, pipe[k], end[k] == 1, -q * dt)
                else:
                    out += q * dt
            shaft[n] = max(shaft[n] + rises[n] * dt, 0.0)
            whole = out + shaft[n]
            if whole <= _NOTHING:  # nothing leaves: it waits
                at_node[n] = found
                continue
            for k in range(start[n], start[n + 1]):
                q = into[pipe[k], end[k]]
                if q > 0.0:
                    _put_in(
                        volume, mass, begin, count, pipe[k], end[k] == 1, q * dt, found * (q * dt / whole)
                    )
            gone[n] += found * (leaves[n] * dt / whole)
            at_node[n] = found * (shaft[n] / whole)
            passing[step, n] = found / max(water, _NOTHING)
