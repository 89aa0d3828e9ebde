"""Compiled loop that follows particles through conduits: behind each other in pipes, mixed where pipes meet."""

from __future__ import annotations

import math

from numba import njit

from inkhorn.paths.fates import LEFT, LIMIT, MANY, STILL, STOPPED, TO_ROCK

FIRST, SECOND, WALL, OUT = range(
    4
)  # ways out of a node: into a pipe by one of its ends, to the rock, and away
_NO_WATER = 1e-12  # m³
_NEVER = 1e300


@njit(cache=True)
def _stays(water, rises, through, chance):  # type: ignore[no-untyped-def]
    """How long a particle stays in mixed water that changes evenly, by a chance that is even from 0 to 1."""
    k = -math.log(chance) * rises / through
    if abs(k) < 1e-12:
        return -math.log(chance) * water / through
    return water * math.expm1(k) / rises


@njit(cache=True)
def _chosen(n, begins, weight, through, pick):  # type: ignore[no-untyped-def]
    """Which way out of a node is taken."""
    last, along = -1, pick * through[n]
    for k in range(begins[n], begins[n + 1]):
        if weight[k] > 0.0:
            last = k
            along -= weight[k]
            if along < 0.0:
                break
    return last


@njit(cache=True)
def go_on(  # type: ignore[no-untyped-def]
    begin_at, who, begin, end, mark, most_steps, random,
    # of particles
    pipe, share, node, clock, age, most_age, status, where, count,
    # of the network
    ends, into, volume, fills, stop, begins, kind, index, weight, through, shaft, rises, speed,
    # points
    out_particle, out_age, out_pipe, out_share, out_speed, out_mark, keep,
):  # fmt: skip
    """Follow particles from the one at `begin_at` of `who` until the clock shows `end`, or they leave the conduits.

    Returns how many points are written, and the particle to go on with where there is no room for more.
    """
    written, room = 0, len(out_age) - 2
    for i in range(begin_at, len(who)):
        p = who[i]
        while True:
            if keep and written >= room:
                return written, i
            q = pipe[p]
            if stop[q]:
                status[p] = STOPPED
                break
            if count[p] >= most_steps:
                status[p] = MANY
                break
            allowed, due = end - clock[p], 0
            if most_age[p] - age[p] < allowed:
                allowed, due = most_age[p] - age[p], 1
            if mark > 0.0:
                to_mark = (math.floor(age[p] / mark + 1e-9) + 1.0) * mark - age[p]
                if to_mark < allowed:
                    allowed, due = to_mark, 2
            passed, since = _NEVER, clock[p] - begin
            n, v, w, leads = node[p], 0.0, 0.0, 0
            if n >= 0:
                water = shaft[n] + rises[n] * since
                if through[n] > 0.0:
                    passed = 0.0
                    if water > _NO_WATER:
                        passed = _stays(water, rises[n], through[n], 1.0 - random.random())
            else:
                whole = max(volume[q] + fills[q] * since, 0.0)
                v = share[p] * whole
                w = whole - v
                if into[q, 0] < 0.0:
                    passed = v / -into[q, 0]
                if into[q, 1] < 0.0 and w / -into[q, 1] < passed:
                    passed, leads = w / -into[q, 1], 1
            if passed >= allowed:
                if allowed >= _NEVER:
                    status[p] = STILL
                    break
                clock[p] += allowed
                age[p] += allowed
                if n < 0:
                    v, w = max(v + into[q, 0] * allowed, 0.0), max(w + into[q, 1] * allowed, 0.0)
                    if v + w > 0.0:
                        share[p] = v / (v + w)
                if due == 0:
                    clock[p] = end
                elif due == 2:
                    age[p] = math.floor(age[p] / mark + 1e-6) * mark
                if keep:
                    out_particle[written], out_age[written], out_speed[written] = p, age[p], speed[q]
                    out_pipe[written], out_share[written], out_mark[written] = q, share[p], due == 2
                    written += 1
                if due == 1:
                    status[p] = LIMIT
                    break
                if due == 0:
                    break
                continue
            clock[p] += passed
            age[p] += passed
            count[p] += 1
            if n < 0:
                node[p], share[p] = ends[q, leads], float(leads)
                if keep:
                    out_particle[written], out_age[written], out_speed[written] = p, age[p], speed[q]
                    out_pipe[written], out_share[written], out_mark[written] = q, share[p], False
                    written += 1
                continue
            k = _chosen(n, begins, weight, through, random.random())
            if kind[k] <= SECOND:
                pipe[p], share[p], node[p] = index[k], float(kind[k]), -1
                continue
            status[p] = TO_ROCK if kind[k] == WALL else LEFT
            where[p] = index[k]
            break
    return written, len(who)
