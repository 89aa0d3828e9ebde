"""Compiled loops of natural neighbour interpolation; symbols follow Belikov et al. (1997)."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, error_model="numpy")
def circumcentre(ax, ay, bx, by, cx, cy):  # type: ignore[no-untyped-def]
    """Centre of the circle through three points."""
    dx, dy, ex, ey = bx - ax, by - ay, cx - ax, cy - ay
    d = 2.0 * (dx * ey - dy * ex)
    s, t = dx * dx + dy * dy, ex * ex + ey * ey
    return ax + (ey * s - dy * t) / d, ay + (dx * t - ex * s) / d


@njit(cache=True, error_model="numpy")
def natural_neighbours(points, triangles, around, home, px, py, columns, weights, counts):  # type: ignore[no-untyped-def]
    """Weights of each place's natural neighbours: common Voronoi edge over distance.

    around : neighbouring triangle opposite each corner, -1 outside; home : triangle holding each place. Weights of a
    place on a side of a triangle may come out as no numbers. A count of -1 says that there was not room enough.
    """
    most = columns.shape[1]
    stack = np.empty(4 * most, dtype=np.int64)
    seen = np.full(len(triangles), -1, dtype=np.int64)
    centre = np.empty((most, 2))
    for k in range(len(px)):
        x, y, n, full = px[k], py[k], 0, False
        # the cavity: triangles whose circle holds the place, reached from the one that holds it
        stack[0], size = home[k], 1
        seen[home[k]] = k
        while size > 0:
            size -= 1
            t = stack[size]
            for corner in range(3):
                other = around[t, corner]
                inside = False
                if other >= 0:
                    if seen[other] == k:
                        continue
                    a, b, c = triangles[other, 0], triangles[other, 1], triangles[other, 2]
                    ox, oy = circumcentre(
                        points[a, 0], points[a, 1], points[b, 0], points[b, 1], points[c, 0], points[c, 1]
                    )
                    r2 = (points[a, 0] - ox) ** 2 + (points[a, 1] - oy) ** 2
                    inside = (x - ox) ** 2 + (y - oy) ** 2 < r2 * (1.0 - 1e-12)
                if inside:
                    if size < len(stack):
                        seen[other] = k
                        stack[size] = other
                        size += 1
                    else:
                        full = True
                    continue
                # an edge of the cavity: with the place it makes a triangle of the new mesh
                i, j = triangles[t, (corner + 1) % 3], triangles[t, (corner + 2) % 3]
                ox, oy = circumcentre(x, y, points[i, 0], points[i, 1], points[j, 0], points[j, 1])
                for end in range(2):
                    vertex = i if end == 0 else j
                    found = -1
                    for q in range(n):
                        if columns[k, q] == vertex:
                            found = q
                            break
                    if found < 0:
                        if n < most:
                            columns[k, n] = vertex
                            weights[k, n] = -1.0
                            centre[n, 0], centre[n, 1] = ox, oy
                            n += 1
                        else:
                            full = True
                    else:
                        edge = np.hypot(ox - centre[found, 0], oy - centre[found, 1])
                        weights[k, found] = edge / np.hypot(x - points[vertex, 0], y - points[vertex, 1])
        total = 0.0
        for q in range(n):
            weights[k, q] = max(weights[k, q], 0.0)
            total += weights[k, q]
        for q in range(n):
            weights[k, q] /= total
        counts[k] = -1 if full else n


@njit(cache=True)
def square_rows(cells, is_floor, across, down, area, distance, conductance, by_conductivity):  # type: ignore[no-untyped-def]
    """Conductances of faces square to the lines between centres, and their slopes by the conductivity of either cell."""
    for f in range(len(area)):
        a, b = cells[f]
        k = (down[a], down[b]) if is_floor[f] else (across[a], across[b])
        near, far = area[f] / distance[f, 0], area[f] / distance[f, 1]
        one, other = k[0] * near, k[1] * far
        total = one + other if one + other > 0.0 else 1.0
        conductance[f] = one * (other / total)
        by_conductivity[f, 0] = near * (other / total) ** 2  # d(ab/(a+b))/da = (b/(a+b))²
        by_conductivity[f, 1] = far * (one / total) ** 2


@njit(cache=True)
def beside(cells, is_floor, members):  # type: ignore[no-untyped-def]
    """Tell which cells share a side face with some."""
    found = np.zeros(len(members), np.bool_)
    for f in range(len(is_floor)):
        if not is_floor[f] and (members[cells[f, 0]] or members[cells[f, 1]]):
            found[cells[f, 0]] = True
            found[cells[f, 1]] = True
    return found
