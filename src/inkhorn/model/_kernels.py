"""The laws of partly filled cells and of switches, compiled: one home for all loops that use them."""

from __future__ import annotations

from numba import njit

BENDS_UP_TO = 1.0  # m of a cell's height that smoothing is a share of, at the most
FILM_UP_TO = 10.0  # m of it that the film is a share of


@njit(cache=True)
def bend_of(smoothing, height):  # type: ignore[no-untyped-def]
    """Half the length over which a cell of some height begins to fill, or is about to be full [m]."""
    return smoothing * min(height, BENDS_UP_TO)


@njit(cache=True)
def film_of(film, height):  # type: ignore[no-untyped-def]
    """Share of its transmissivity that a drained cell keeps."""
    return film * min(1.0, FILM_UP_TO / height)


@njit(cache=True)
def ramp_at(value, width):  # type: ignore[no-untyped-def]
    """``max(value, 0)`` with the corner rounded by a parabola of half-length `width`, and its slope."""
    if value > width:
        return value, 1.0
    if value <= -width:
        return 0.0, 0.0
    bent = value + width
    return bent * bent / (4.0 * width), bent / (2.0 * width)


@njit(cache=True)
def eased(value, width):  # type: ignore[no-untyped-def]
    """``max(value, 0)`` that leaves 0 smoothly, its slope, and its integral from 0.

    A quartic up to twice the width, exact from there, its integral as well: nothing at all at 0 or below, so that an
    empty cell holds no water.
    """
    wide = 2.0 * width
    if value > wide:
        return value, 1.0, 0.5 * value * value
    if value <= 0.0:
        return 0.0, 0.0, 0.0
    t = value / wide
    share, slope = t * t * (4.5 - t * (6.0 - 2.5 * t)), t * (9.0 - t * (18.0 - 10.0 * t))
    return wide * share, slope, wide * wide * t * t * t * (1.5 - t * (1.5 - 0.5 * t))


@njit(cache=True)
def filled_at(head, bottom, height, width):  # type: ignore[no-untyped-def]
    """Filled share of the height, its slope by head [1/m], and its integral over the head, over the height.

    Water drains from the filled share, and is stored by pressure as the integral has it: in the filled part only.
    """
    u = (head - bottom) / height
    if u < 0.5:
        share, slope, integral = eased(u, width)
        return share, slope / height, integral
    empty, slope, integral = eased(1.0 - u, width)
    return 1.0 - empty, slope / height, u - 0.5 + integral


@njit(cache=True)
def fill(heads, bottom, height, smoothing, share, slope, integral):  # type: ignore[no-untyped-def]
    """Write what `filled_at` says of every cell."""
    for i in range(len(heads)):
        width = bend_of(smoothing, height[i]) / height[i]
        share[i], slope[i], integral[i] = filled_at(heads[i], bottom[i], height[i], width)


@njit(cache=True)
def ramp(values, widths, answer, slope):  # type: ignore[no-untyped-def]
    """Write what `ramp_at` says of every value."""
    for i in range(len(values)):
        answer[i], slope[i] = ramp_at(values[i], widths[i])


@njit(cache=True)
def _leader(group, i):  # type: ignore[no-untyped-def]
    """The first of the group of one, towards which all on the way are turned."""
    while group[i] != i:
        group[i] = group[group[i]]
        i = group[i]
    return i


@njit(cache=True)
def join(pairs, group):  # type: ignore[no-untyped-def]
    """Make one of the groups of each pair; ``group`` leads from each towards the first of its own."""
    for e in range(len(pairs)):
        a, b = _leader(group, pairs[e, 0]), _leader(group, pairs[e, 1])
        if a < b:
            group[b] = a
        elif b < a:
            group[a] = b


@njit(cache=True)
def lead(group):  # type: ignore[no-untyped-def]
    """Write for each the first of its group."""
    for i in range(len(group)):
        group[i] = group[group[i]]  # those before lead to the first already
