"""Ordinary kriging, as the weights themselves."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError
from inkhorn.space.variogram import Variogram

__all__ = ["kriging_rows"]


def kriging_rows(
    x: ArrayLike,
    y: ArrayLike,
    at_x: ArrayLike,
    at_y: ArrayLike,
    variogram: Variogram,
    *,
    neighbours: int = 24,
    least: int = 1,
    reach: float = np.inf,
    too_few: Literal["nearest", "mean"] = "nearest",
) -> Any:
    """Return the matrix of ordinary kriging weights.

    Parameters
    ----------
    x, y : array_like of float, (n,)
        Places of the known points [m].
    at_x, at_y : array_like of float, (m,)
        Places asked for [m].
    variogram : Variogram
        How unlike points are, by their distance.
    neighbours : int
        How many of the nearest points each place looks at; all if there are fewer.
    least : int
        How many it needs within its reach.
    reach : float
        How far it looks along the longest range, and as much less across as that is shorter [m].
    too_few : {"nearest", "mean"}
        What it takes where there are fewer: so many of the nearest all the same, or the mean of all points.

    Returns
    -------
    scipy.sparse.csr_array, (m, n)
        ``rows @ values`` are the estimates. Each row adds up to 1.

    References
    ----------
    Matheron, G. (1963), Principles of geostatistics, Economic Geology 58, 1246-1266.
    """
    from scipy.sparse import coo_array, csr_array
    from scipy.spatial import KDTree

    known, asked = variogram.stretched(x, y), variogram.stretched(at_x, at_y)
    count = min(neighbours, len(known))
    if count < 1:
        raise InputError("kriging has no points to look at. Give at least one, and neighbours of at least 1.")
    if not 1 <= least <= neighbours:
        raise InputError(f"kriging needs at least {least} of {neighbours} neighbours; expected 1 to as many.")
    if too_few not in ("nearest", "mean"):
        raise InputError(f'too_few is "{too_few}"; expected "nearest" or "mean".')
    distance, nearest = (v.reshape(len(asked), count) for v in KDTree(known).query(asked, k=count))
    used = (distance <= reach / variogram.range).sum(axis=1)
    short = used < min(least, count)
    used[short] = min(least, count)
    weights = np.zeros((len(asked), count))
    for k in np.unique(used):  # the nearest come first
        mine = np.flatnonzero(used == k)
        block = max(1, 4_000_000 // (k + 1) ** 2)  # systems held in memory at once
        for some in np.array_split(mine, -(-len(mine) // block)):
            weights[some, :k] = _weights(known[nearest[some, :k]], asked[some], variogram)
    kept = np.arange(count) < used[:, None]
    if too_few == "mean":
        kept[short] = False
    ends = np.concatenate([[0], np.cumsum(kept.sum(axis=1))])
    rows = csr_array((weights[kept], nearest[kept], ends), shape=(len(asked), len(known)))
    if too_few == "mean" and short.any():
        place = np.repeat(np.flatnonzero(short), len(known))
        mean = (
            np.full(len(place), 1.0 / len(known)),
            (place, np.tile(np.arange(len(known)), int(short.sum()))),
        )
        rows = (rows + coo_array(mean, shape=rows.shape)).tocsr()
    return rows


def _weights(
    known: NDArray[np.float64], asked: NDArray[np.float64], variogram: Variogram
) -> NDArray[np.float64]:
    """Solve the kriging systems of many places at once: (m, k, 2) and (m, 2) give (m, k)."""
    m, k, _ = known.shape
    system = np.zeros((m, k + 1, k + 1))
    apart = np.linalg.norm(known[:, :, None, :] - known[:, None, :, :], axis=3)
    system[:, :k, :k] = variogram.at(apart)
    # the nugget stands between points, not between a point and itself; smooth curves need a trace of one
    trace = 1e-8 * variogram.sill if variogram.kind == "gaussian" else 0.0
    system[:, :k, :k] += (variogram.nugget + trace) * (1.0 - np.eye(k))
    system[:, k, :k] = system[:, :k, k] = 1.0
    right = np.ones((m, k + 1))
    away = np.linalg.norm(known - asked[:, None, :], axis=2)
    right[:, :k] = variogram.at(away) + variogram.nugget + trace
    if variogram.nugget == 0.0:
        right[:, :k] -= np.where(away < 1e-12, trace, 0.0)
    return np.asarray(np.linalg.solve(system, right[:, :, None])[:, :k, 0])
