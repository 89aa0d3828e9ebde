"""Which cells of a plan mesh are joined to larger ones, for layers that need no small cells."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh
from inkhorn.space.split import SplitMesh

__all__ = ["joined_cells"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_APART = (
    0.84  # of the size: how near first middles may be; strewn as close as that, they take its square each
)
_ROUNDS = 6  # of moving middles


def joined_cells(mesh: PlanMesh, size: float) -> Index:
    """Return which larger cell each cell belongs to, for cells of about a size.

    Rectangles are joined by rows and columns, cells split in four with those they were split from, others with those
    around: each to the nearest of middles that lie a size apart and are moved to the middle of what is theirs (Lloyd
    1982). Cells that are large enough stay as they are, and what is joined touches.

    Parameters
    ----------
    mesh : PlanMesh
        Of small cells.
    size : float
        Side of a square of the area wanted [m].

    Returns
    -------
    ndarray of int, (n_cells,)
        Numbered in the order of their first parts.

    References
    ----------
    Lloyd, S. P. (1982), Least squares quantization in PCM, IEEE Transactions on Information Theory 28(2), 129-137.
    """
    if isinstance(mesh, RectangularMesh):
        row, column = mesh.row_column
        group = _blocks(mesh, row, column, size)
    elif isinstance(mesh, SplitMesh):
        group = _quarters(mesh, size)
    else:
        group = _around_middles(mesh, size)
    return _numbered(_connected(mesh, group))


def _blocks(mesh: RectangularMesh, row: Index, column: Index, size: float) -> Index:
    """Blocks of rows and columns as wide as is nearest to a size."""
    ends = []
    for edges in (mesh.y_edges, mesh.x_edges):
        block = np.zeros(len(edges) - 1, dtype=np.int64)
        begin = edges[0]
        for k in range(1, len(block)):
            new = edges[k + 1] - begin - size > size - (edges[k] - begin) + 1e-9 * size
            block[k] = block[k - 1] + new
            begin = edges[k] if new else begin
        ends.append(block)
    return np.asarray(ends[0][row] * (ends[1][-1] + 1) + ends[1][column])


def _quarters(mesh: SplitMesh, size: float) -> Index:
    """The cells that were split from, of the size nearest to one; blocks of these beyond."""
    base = mesh.base
    widest = max(np.diff(base.x_edges).max(), np.diff(base.y_edges).max())
    if size < widest * (1.0 + 1e-9):
        return mesh.whole(round(np.log2(widest / size)))
    return _blocks(base, mesh.row >> mesh.splits, mesh.column >> mesh.splits, size)


def _around_middles(mesh: PlanMesh, size: float) -> Index:
    from scipy.spatial import KDTree

    place = mesh.centroid
    wanted = np.maximum(size, np.sqrt(mesh.area))
    tree, taken, first = KDTree(place), np.zeros(mesh.n_cells, dtype=bool), []
    for cell in np.random.default_rng(0).permutation(mesh.n_cells):
        if not taken[cell]:
            first.append(cell)
            taken[tree.query_ball_point(place[cell], _APART * wanted[cell])] = True
    middle = place[np.array(first)]
    for _ in range(_ROUNDS):
        group = KDTree(middle).query(place, workers=-1)[1]
        _, group = np.unique(group, return_inverse=True)
        area = np.bincount(group, mesh.area)
        middle = np.column_stack([np.bincount(group, mesh.area * place[:, k]) / area for k in (0, 1)])
    return group.astype(np.int64)


def _connected(mesh: PlanMesh, group: Index) -> Index:
    """Give parts of a group that do not touch the rest of it to the group they share most with."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    edges, n = mesh.edges(), mesh.n_cells
    a, b = edges.cells.T
    for _ in range(4):
        same = group[a] == group[b]
        links = coo_array((np.ones(same.sum()), (a[same], b[same])), shape=(n, n))
        parts, part = connected_components(links, directed=False)
        area = np.bincount(part, mesh.area)
        group_of = np.empty(parts, dtype=np.int64)
        group_of[part] = group
        order = np.lexsort((-area, group_of))
        main = np.ones(parts, dtype=bool)
        main[order[1:]] = group_of[order[1:]] != group_of[order[:-1]]
        if main.all():
            break
        # each loose part goes where its border with a main part is longest
        border: dict[int, dict[int, float]] = {}
        loose = ~main[part]
        for k in np.flatnonzero(loose[a] != loose[b]):
            inner, outer = (a[k], b[k]) if loose[a[k]] else (b[k], a[k])
            to = border.setdefault(int(part[inner]), {})
            to[int(group[outer])] = to.get(int(group[outer]), 0.0) + float(edges.length[k])
        for one, to in border.items():
            group[part == one] = max(to, key=lambda g: (to[g], -g))
    same = group[a] == group[b]  # what touches nothing else stands alone
    links = coo_array((np.ones(same.sum()), (a[same], b[same])), shape=(n, n))
    return np.asarray(connected_components(links, directed=False)[1], dtype=np.int64)


def _numbered(group: Index) -> Index:
    """Groups numbered in the order of their first members."""
    _, first, number = np.unique(group, return_index=True, return_inverse=True)
    rank = np.empty(len(first), dtype=np.int64)
    rank[np.argsort(first)] = np.arange(len(first))
    return rank[number.ravel()]
