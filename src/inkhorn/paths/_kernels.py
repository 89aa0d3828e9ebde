"""Compiled loops of particle tracking.

In a triangle the flow a metre of width is ``U = a + b x`` with a number b, so the way is a straight ray, and the
height ``zeta`` of a particle over the water's obeys ``d zeta / d tau = W0 + (W1 - W0) zeta``; both are closed in tau,
where ``d t = n R h d tau`` with porosity n, retardation R and the height h of the water. Near wells their radial flow
comes on top, and the way is followed by the pair of Dormand and Prince (1980) in tau.
"""

from __future__ import annotations

import math

from numba import njit

from inkhorn.paths.fates import BORE, FLOOR, INSIDE, LIMIT, MANY, RIM, RUNNING, STILL, STOPPED, TOP

_NO_WAY = 1e300
_ZERO_STEPS = 60  # without moving, after which a particle is pushed a little
# from a closed side: share of the way to the middle, by what it grows each time, and at most
_PUSH, _HARDER, _MOST_PUSH = 1e-4, 1.1, 0.3
# times to and fro through one side, after which a particle is pushed in; share of the height over it, at most; and times
# after which it has come to rest there, and is pushed as from a closed side
_TO_AND_FRO, _DEEPEST, _AT_REST = 4, 0.02, 200


@njit(cache=True, nogil=True)
def _time_of(tau, height, rate, pores):  # type: ignore[no-untyped-def]
    """Time that passes while tau does, the height of the water changing evenly."""
    k = pores * rate * tau
    if abs(k) < 1e-12:
        return pores * height * tau
    return height * math.expm1(k) / rate


@njit(cache=True, nogil=True)
def _tau_of(time, height, rate, pores):  # type: ignore[no-untyped-def]
    k = rate * time / height
    if abs(k) < 1e-12:
        return time / (pores * height)
    if k <= -1.0:
        return _NO_WAY
    return math.log1p(k) / (pores * rate)


@njit(cache=True, nogil=True)
def _vertical(zeta, low, high):  # type: ignore[no-untyped-def]
    """Speed of zeta, its slope, and tau until bottom or top is reached; 1 at the top, -1 at the bottom."""
    slope = high - low
    # measured from the nearer end: who stands on it has exactly its speed
    speed = low + slope * zeta if zeta < 0.5 else high - slope * (1.0 - zeta)
    if speed > 0.0 and high > 0.0:
        goal, distance, end = high, 1.0 - zeta, 1
    elif speed < 0.0 and low < 0.0:
        goal, distance, end = low, -zeta, -1
    else:
        return speed, slope, _NO_WAY, 0
    ratio = slope * distance / speed
    if abs(ratio) < 1e-9:
        return speed, slope, distance / speed, end
    return speed, slope, math.log(goal / speed) / slope, end


@njit(cache=True, nogil=True)
def _moved(speed, slope, tau):  # type: ignore[no-untyped-def]
    k = slope * tau
    if abs(k) < 1e-12:
        return speed * tau
    return speed * math.expm1(k) / slope


@njit(cache=True, nogil=True)
def _flow_near(x, y, ax, ay, b, cx, cy, row, around, bore, sign):  # type: ignore[no-untyped-def]
    """Flow a metre of width at a place near wells: what is even, and the radial flow of each."""
    u, v = ax + b * (x - cx), ay + b * (y - cy)
    for j in range(around.shape[1]):
        w = around[row, j]
        if w < 0:
            break
        # bore: x, y, flow / 2 pi, radius, cosine, sine, ratio
        dx, dy = x - bore[w, 0], y - bore[w, 1]
        along = dx * bore[w, 4] + dy * bore[w, 5]
        across = dy * bore[w, 4] - dx * bore[w, 5]
        r2 = bore[w, 6] * along * along + across * across / bore[w, 6]
        f = sign * bore[w, 2] / max(r2, 1e-300)
        u += f * dx
        v += f * dy
    return u, v


@njit(cache=True, nogil=True)
def _pair(x, y, h, ax, ay, b, cx, cy, row, around, bore, sign):  # type: ignore[no-untyped-def]
    """One step of Dormand and Prince: where it leads, and by how much its two orders differ."""
    k1, l1 = _flow_near(x, y, ax, ay, b, cx, cy, row, around, bore, sign)
    k2, l2 = _flow_near(x + h * 0.2 * k1, y + h * 0.2 * l1, ax, ay, b, cx, cy, row, around, bore, sign)
    k3, l3 = _flow_near(
        x + h * (3 / 40 * k1 + 9 / 40 * k2), y + h * (3 / 40 * l1 + 9 / 40 * l2),
        ax, ay, b, cx, cy, row, around, bore, sign,
    )  # fmt: skip
    k4, l4 = _flow_near(
        x + h * (44 / 45 * k1 - 56 / 15 * k2 + 32 / 9 * k3), y + h * (44 / 45 * l1 - 56 / 15 * l2 + 32 / 9 * l3),
        ax, ay, b, cx, cy, row, around, bore, sign,
    )  # fmt: skip
    k5, l5 = _flow_near(
        x + h * (19372 / 6561 * k1 - 25360 / 2187 * k2 + 64448 / 6561 * k3 - 212 / 729 * k4),
        y + h * (19372 / 6561 * l1 - 25360 / 2187 * l2 + 64448 / 6561 * l3 - 212 / 729 * l4),
        ax, ay, b, cx, cy, row, around, bore, sign,
    )  # fmt: skip
    k6, l6 = _flow_near(
        x + h * (9017 / 3168 * k1 - 355 / 33 * k2 + 46732 / 5247 * k3 + 49 / 176 * k4 - 5103 / 18656 * k5),
        y + h * (9017 / 3168 * l1 - 355 / 33 * l2 + 46732 / 5247 * l3 + 49 / 176 * l4 - 5103 / 18656 * l5),
        ax, ay, b, cx, cy, row, around, bore, sign,
    )  # fmt: skip
    dx = h * (35 / 384 * k1 + 500 / 1113 * k3 + 125 / 192 * k4 - 2187 / 6784 * k5 + 11 / 84 * k6)
    dy = h * (35 / 384 * l1 + 500 / 1113 * l3 + 125 / 192 * l4 - 2187 / 6784 * l5 + 11 / 84 * l6)
    k7, l7 = _flow_near(x + dx, y + dy, ax, ay, b, cx, cy, row, around, bore, sign)
    ex = h * (
        71 / 57600 * k1 - 71 / 16695 * k3 + 71 / 1920 * k4 - 17253 / 339200 * k5 + 22 / 525 * k6 - 1 / 40 * k7
    )
    ey = h * (
        71 / 57600 * l1 - 71 / 16695 * l3 + 71 / 1920 * l4 - 17253 / 339200 * l5 + 22 / 525 * l6 - 1 / 40 * l7
    )
    return x + dx, y + dy, math.hypot(ex, ey)


@njit(cache=True, nogil=True)
def _outside(corner, t, x, y):  # type: ignore[no-untyped-def]
    """By how much a place lies beyond the worst side of a triangle (negative inside), and which side that is."""
    worst, side = -_NO_WAY, 0
    for k in range(3):
        px, py = corner[t, (k + 1) % 3, 0], corner[t, (k + 1) % 3, 1]
        qx, qy = corner[t, (k + 2) % 3, 0], corner[t, (k + 2) % 3, 1]
        wx, wy = qx - px, qy - py
        off = (wy * (x - px) - wx * (y - py)) / max(math.hypot(wx, wy), 1e-300)
        if off > worst:
            worst, side = off, k
    return worst, side


@njit(cache=True, nogil=True)
def _to_middle(corner, t, x, y, share):  # type: ignore[no-untyped-def]
    mx = (corner[t, 0, 0] + corner[t, 1, 0] + corner[t, 2, 0]) / 3.0
    my = (corner[t, 0, 1] + corner[t, 1, 1] + corner[t, 2, 1]) / 3.0
    return x + share * (mx - x), y + share * (my - y)


@njit(cache=True, nogil=True)
def _pushed_in(corner, t, k, x, y, share):  # type: ignore[no-untyped-def]
    """A place on a side of a triangle, moved in at right angles by a share of the height over it; or to the middle."""
    px, py = corner[t, (k + 1) % 3, 0], corner[t, (k + 1) % 3, 1]
    wx, wy = corner[t, (k + 2) % 3, 0] - px, corner[t, (k + 2) % 3, 1] - py
    # twice the area over the squared length of the side
    rise = (wx * (corner[t, k, 1] - py) - wy * (corner[t, k, 0] - px)) / (wx * wx + wy * wy)
    nx, ny = x - share * rise * wy, y + share * rise * wx
    if _outside(corner, t, nx, ny)[0] > 0.0:
        return _to_middle(corner, t, x, y, share)
    return nx, ny


@njit(cache=True, nogil=True)
def _nearest_bore(x, y, row, around, bore, sign):  # type: ignore[no-untyped-def]
    """How far off the nearest bore is; and of those that take water up the wall of the nearest, and which it is."""
    first, gap, which = _NO_WAY, _NO_WAY, -1
    for j in range(around.shape[1]):
        w = around[row, j]
        if w < 0:
            break
        r = math.hypot(x - bore[w, 0], y - bore[w, 1])
        first = min(first, r)
        if sign * bore[w, 2] < 0.0 and r - bore[w, 3] < gap:
            gap, which = r - bore[w, 3], w
    return first, gap, which


@njit(cache=True, nogil=True)
def _near_wells(x, y, t, most, corner, ax, ay, b, row, around, bore, sign, size):  # type: ignore[no-untyped-def]
    """Follow the flow near wells through a triangle: place, tau that passed, side that was crossed, bore that was met.

    Side -1 where it is still inside after tau of `most`; bore -1 where none was met.
    """
    cx, cy = corner[t, 0, 0], corner[t, 0, 1]
    tau, tolerance = 0.0, 1e-10 * size
    u, v = _flow_near(x, y, ax, ay, b, cx, cy, row, around, bore, sign)
    speed = math.hypot(u, v)
    if speed <= 0.0:
        return x, y, most, -1, -1
    first, _, which = _nearest_bore(x, y, row, around, bore, sign)
    h = 0.1 * min(first, size) / speed
    for _ in range(4000):
        if tau >= most:
            return x, y, tau, -1, -1
        h = min(h, most - tau)
        nx, ny, error = _pair(x, y, h, ax, ay, b, cx, cy, row, around, bore, sign)
        first, _, which = _nearest_bore(x, y, row, around, bore, sign)
        if error > tolerance or math.hypot(nx - x, ny - y) > 0.5 * max(first, 1e-9 * size):
            h *= 0.5 if error <= tolerance else max(0.1, 0.9 * (tolerance / error) ** 0.2)
            continue
        _, gap_after, _ = _nearest_bore(nx, ny, row, around, bore, sign)
        outside, side = _outside(corner, t, nx, ny)
        if outside > 0.0 or gap_after <= 0.0:
            # how much of the step leads to what is met first
            low, high = 0.0, 1.0
            for _ in range(60):
                middle = 0.5 * (low + high)
                mx, my, _ = _pair(x, y, middle * h, ax, ay, b, cx, cy, row, around, bore, sign)
                out, s = _outside(corner, t, mx, my)
                _, g, w = _nearest_bore(mx, my, row, around, bore, sign)
                if out > 0.0 or g <= 0.0:
                    high = middle
                    nx, ny, side, gap_after, outside = mx, my, s, g, out
                    which = w
                else:
                    low = middle
                if (high - low) * math.hypot(nx - x, ny - y) < 1e-13 * size:
                    break
            tau += high * h
            if gap_after <= 0.0:
                return nx, ny, tau, -1, which
            return nx, ny, tau, side, -1
        x, y, tau = nx, ny, tau + h
        h *= min(4.0, 0.9 * (tolerance / max(error, 1e-3 * tolerance)) ** 0.2)
    return x, y, tau, -2, -1


@njit(cache=True, nogil=True)
def follow(  # type: ignore[no-untyped-def]
    first, last, begin, end, sign, mark, crossings,
    # of particles
    layer, triangle, x, y, zeta, clock, age, most_age, left, status, entered, where, count,
    # of the mesh
    corner, plan, beyond, back, rim, number, above, below, open_rim,
    # of the step
    value, slope, low, high, height, rate, pores, lost, stop, near, around, bore, bottom, top, moisture,
    # points
    out_particle, out_age, out_place, out_cell, out_speed, out_mark, keep,
):  # fmt: skip
    """Follow particles first to last until the clock shows `end`; return how many points are written, and the next one.

    The clock runs as the particles do: from `begin` to `end` of the step, forward or backward in time. Where there is no
    room for more points it stops at a particle, which can be gone on with.
    """
    n_triangles = len(plan)
    written, room = 0, len(out_age) - 4
    for p in range(first, last):
        if status[p] != RUNNING or clock[p] >= end:
            continue
        t, k = triangle[p], layer[p]
        px, py, z = x[p], y[p], zeta[p]
        at_once, push = 0, _PUSH
        before, to_and_fro = -1, 0
        while True:
            cell = number[k, plan[t]]
            if keep and written >= room:
                layer[p], triangle[p], x[p], y[p], zeta[p] = k, t, px, py, z
                return written, p
            if stop[cell]:
                status[p] = STOPPED
                break
            if age[p] > most_age[p]:  # while it fell through what is not full
                clock[p] -= age[p] - most_age[p]
                age[p] = most_age[p]
                status[p] = LIMIT
                break
            if clock[p] > end:  # likewise; it goes on in a later step
                break
            if count[p] >= crossings:
                status[p] = MANY
                break
            prism = k * n_triangles + t
            change = rate[cell]
            now = height[cell] + change * (clock[p] - begin)
            if now < 1e-12:
                now, change = 1e-12, 0.0
            nr = pores[cell]
            b = sign * slope[prism]
            ax, ay = sign * value[prism, 0], sign * value[prism, 1]
            cx, cy = corner[t, 0, 0], corner[t, 0, 1]
            w0, w1 = sign * low[k, plan[t]], sign * high[k, plan[t]]
            speed_z, slope_z, tau_z, end_z = _vertical(z, w0, w1)
            # until when it may go at all
            due = 0
            allowed = end - clock[p]
            if most_age[p] - age[p] < allowed:
                allowed, due = most_age[p] - age[p], 1
            if mark > 0.0:
                to_mark = (math.floor(age[p] / mark + 1e-9) + 1.0) * mark - age[p]
                if to_mark < allowed:
                    allowed, due = to_mark, 2
            limit = _tau_of(allowed, now, change, nr)
            tau, event = limit, 0
            if tau_z < tau:
                tau, event = tau_z, 1
            if lost[cell] > 0.0:
                tau_lost = left[p] / lost[cell]
                if tau_lost < tau:
                    tau, event = tau_lost, 2
            row = near[prism]
            side, met = -1, -1
            if row < 0:
                u, v = ax + b * (px - cx), ay + b * (py - cy)
                speed = math.hypot(u, v)
                reach, ray = _NO_WAY, -1
                for i in range(3):
                    ex, ey = corner[t, (i + 1) % 3, 0], corner[t, (i + 1) % 3, 1]
                    wx, wy = corner[t, (i + 2) % 3, 0] - ex, corner[t, (i + 2) % 3, 1] - ey
                    towards = u * wy - v * wx
                    # back where it came from only beside wells, as the flow through a side is the same on both
                    least = 1e-6 if i == entered[p] else 1e-14
                    if towards <= least * speed * (abs(wx) + abs(wy)):
                        continue
                    s = max((ex - px) * wy - (ey - py) * wx, 0.0) / towards
                    if s < reach:
                        reach, ray = s, i
                if ray >= 0 and (b >= 0.0 or -b * reach < 1.0):
                    tau_side = reach if abs(b * reach) < 1e-12 else math.log1p(b * reach) / b
                    if tau_side <= tau:
                        tau, event, side = tau_side, 3, ray
                if tau >= _NO_WAY:
                    status[p] = INSIDE if lost[cell] > 0.0 or speed > 0.0 else STILL
                    break
                gone = reach if event == 3 else _moved(1.0, b, tau)
                px += u * gone
                py += v * gone
            else:
                size = math.hypot(corner[t, 1, 0] - cx, corner[t, 1, 1] - cy)
                u, v = _flow_near(px, py, ax, ay, b, cx, cy, row, around, bore, sign)
                speed = math.hypot(u, v)
                px, py, gone_tau, side, met = _near_wells(
                    px, py, t, tau, corner, ax, ay, b, row, around, bore, sign, size
                )
                if met >= 0:
                    tau, event = gone_tau, 4
                elif side >= 0:
                    tau, event = gone_tau, 3
                elif side == -2:
                    status[p] = STILL
                    break
                if tau >= _NO_WAY:
                    status[p] = STILL
                    break
            z_after = z + _moved(speed_z, slope_z, tau)
            z = 1.0 if event == 1 and end_z == 1 else 0.0 if event == 1 else min(max(z_after, 0.0), 1.0)
            passed = allowed if event == 0 else min(_time_of(tau, now, change, nr), allowed)
            clock[p] += passed
            age[p] += passed
            if lost[cell] > 0.0:
                left[p] -= lost[cell] * tau
            if event == 0 and due == 0:
                clock[p] = end
            if keep and (passed > 0.0 or event == 0):
                after = max(height[cell] + change * (clock[p] - begin), 0.0)
                out_particle[written], out_age[written], out_cell[written] = p, age[p], cell
                out_place[written, 0], out_place[written, 1] = px, py
                out_place[written, 2] = bottom[cell] + z * after
                out_speed[written] = math.hypot(speed, speed_z * now) / (nr * now)
                out_mark[written] = event == 0 and due == 2
                written += 1
            if passed > 0.0:
                at_once = 0
            else:
                at_once += 1
                if at_once > _ZERO_STEPS:  # round a corner where triangles meet
                    px, py = _to_middle(corner, t, px, py, 1e-7)
                    at_once = 0
                    entered[p] = -1
                    if count[p] > 100 * _ZERO_STEPS and passed <= 0.0:
                        status[p] = STILL
                        break
            if event == 0:
                if due != 2 or row >= 0:
                    entered[p] = -1  # in another step the flow may turn
                if due == 1:
                    status[p] = LIMIT
                    break
                if due == 0:
                    break
                age[p] = (math.floor(age[p] / mark + 1e-6)) * mark
                continue
            count[p] += 1
            if event == 2:
                status[p] = INSIDE
                break
            if event == 4:
                status[p], where[p] = BORE, met
                break
            if event == 1:
                entered[p] = -1
                if end_z == 1:
                    dry = top[cell] - bottom[cell] - now
                    if (
                        moisture > 0.0 and sign < 0.0 and dry > 1e-9 and w1 > 0.0
                    ):  # it fell through what is not full
                        age[p] += moisture * dry / w1
                        clock[p] += moisture * dry / w1
                    if above[k, plan[t]] < 0:
                        status[p] = TOP
                        break
                    k, z = above[k, plan[t]], 0.0
                else:
                    if below[k, plan[t]] < 0:
                        status[p] = FLOOR
                        break
                    k, z = below[k, plan[t]], 1.0
                    if moisture > 0.0 and sign > 0.0:
                        # falls through what is not full
                        into = number[k, plan[t]]
                        dry = top[into] - bottom[into] - height[into]
                        if dry > 1e-9 and w0 < 0.0:
                            age[p] += moisture * dry / -w0
                            clock[p] += moisture * dry / -w0
                continue
            other = beyond[t, side]
            if other < 0 and open_rim[k, rim[t, side]]:
                status[p], where[p] = RIM, side
                break
            # closed: only rounding, or the flow around a well, leads there
            if other < 0 or number[k, plan[other]] < 0:
                if row >= 0:
                    px, py = _to_middle(corner, t, px, py, push)
                    push = min(_HARDER * push, _MOST_PUSH)
                    entered[p] = -1
                    continue
                status[p] = STILL
                break
            entered[p] = back[t, side]
            to_and_fro = to_and_fro + 1 if other == before else 0
            before, t = t, other
            if to_and_fro == 0:
                push = _PUSH
            elif to_and_fro > _TO_AND_FRO:
                # the flow of either side leads to the other: it goes along between them, in larger and larger steps
                px, py = _pushed_in(corner, t, entered[p], px, py, push)
                push = min(_HARDER * push, _DEEPEST if to_and_fro < _AT_REST else _MOST_PUSH)
                entered[p] = -1
        layer[p], triangle[p], x[p], y[p], zeta[p] = k, t, px, py, z
    return written, last
