"""Cutting a plan mesh into layers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_finite, check_positive
from inkhorn.sizes import refuse_beyond
from inkhorn.space.grid import Grid
from inkhorn.space.joining import joined_cells
from inkhorn.space.merged import MergedMesh
from inkhorn.space.mesh import PlanMesh
from inkhorn.space.rectangles import RectangularMesh
from inkhorn.space.split import SplitMesh
from inkhorn.space.strata import Strata, layers_named
from inkhorn.units import WithUnit, plain

__all__ = ["layered"]

_BYTES_PER_CELL = 3000.0  # of a cell placed and solved, as measured on each kind of mesh


def layered(
    mesh: PlanMesh,
    surfaces: Strata | Sequence[ArrayLike],
    *,
    names: Sequence[str] | None = None,
    max_splits: Mapping[str, int] | None = None,
    layer_cell: Mapping[str, WithUnit] | None = None,
    taken_out: Mapping[str, Any] | None = None,
) -> Grid:
    """Cut a plan mesh into layers.

    Parameters
    ----------
    mesh : PlanMesh
        The plan cells.
    surfaces : Strata, or sequence of float or array_like
        The strata, read at the centre of gravity of each cell; or plain elevations [m] from the uppermost
        surface down, one more than there are layers, each a number, (n_plan,), or (rows, columns) on a
        rectangular mesh. A layer is absent where its base equals its top. A cell made of several plan
        cells takes the mean of their elevations, by area.
    names : sequence of str, optional
        Layer names, for plain elevations; ``"layer 1"`` and so on if not given.
    max_splits : mapping of str to int, optional
        On a `SplitMesh`, for some layers by name: how often their cells are split at the most, 0 for not
        at all.
    layer_cell : mapping of str to float, optional
        On any mesh, for some layers by name: about how large cells are to be, smaller ones being joined [m]; so upper
        layers may be finer than lower ones.
    taken_out : mapping of str to shapely Polygon, optional
        For some layers by name, as in `Layer`: cells whose centre of gravity lies inside take no part, nor
        does water cross where they were.

    Returns
    -------
    Grid

    Raises
    ------
    InputError
        If elevations do not fit the mesh, a layer is upside down, or there would be more layers or cells than
        is allowed for.

    Examples
    --------
    >>> from inkhorn.space import rectangles
    >>> layered(rectangles((0, 0, 600, 400), cell=100), [0.0, -20.0], names=["sand"])
    Grid(1 layers, 24 cells, 38 faces)
    """
    strata = surfaces if isinstance(surfaces, Strata) else None
    levels = None if isinstance(surfaces, Strata) else _plain_levels(mesh, surfaces)
    n_layers = len(strata.names) if strata else len(levels) - 1  # type: ignore[arg-type]
    refuse_beyond("layers", n_layers, "the grid", "Ask for fewer parts of layers.")
    words = f"{n_layers} layers of {mesh.n_cells} cells, once they are solved for,"
    refuse_beyond(
        "memory",
        float(n_layers) * mesh.n_cells * _BYTES_PER_CELL,
        words,
        "Ask for larger cells or fewer layers.",
    )
    given = strata.names if strata else names
    said = tuple(given) if given else tuple(f"layer {k + 1}" for k in range(n_layers))
    whole_names = strata.whole_names if strata else said
    joined = _joined(mesh, said, whole_names, max_splits or {}, layer_cell or {})
    holes = {layer.name: layer.taken_out for layer in strata.layers if layer.taken_out} if strata else {}
    removed = _taken_out(mesh, said, whole_names, {**holes, **(taken_out or {})}, joined)
    if strata is not None:
        top, bottom, material = strata.at(*mesh.centroid.T)
        for k, group in joined.items():
            whole = strata.at(*MergedMesh(mesh, group).centroid.T)
            top[k], bottom[k], material[k] = (v[k][group] for v in whole)
    else:
        assert levels is not None  # no strata
        material = None
        top, bottom = levels[:-1].copy(), levels[1:].copy()
        for k, group in joined.items():
            area = np.bincount(group, mesh.area)
            for level in (top, bottom):
                level[k] = (np.bincount(group, mesh.area * level[k]) / area)[group]
        absent = top == bottom
        if absent.all():
            raise InputError(
                "no layer has any cell: each surface lies on the one below it. Check the elevations."
            )
        top[absent], bottom[absent] = np.nan, np.nan
    if removed is not None:
        top[removed], bottom[removed] = np.nan, np.nan
    return Grid(
        mesh,
        said,
        top,
        bottom,
        material_layer=material,
        joined=joined,
        taken_out=removed,
        whole_names=whole_names,
    )


def _taken_out(
    mesh: PlanMesh,
    names: Sequence[str],
    whole_names: Sequence[str],
    shapes: Mapping[str, Any],
    joined: Mapping[int, NDArray[np.int64]],
) -> NDArray[np.bool_] | None:
    """Where layers are taken out by polygons, by the centres of gravity of their own cells."""
    import shapely

    if not shapes:
        return None
    removed = np.zeros((len(names), mesh.n_cells), dtype=bool)
    for name, shape in shapes.items():
        for k in layers_named(name, names, whole_names, "taken_out"):
            own = MergedMesh(mesh, joined[k]) if k in joined else mesh
            inside = shapely.contains_xy(shape, *own.centroid.T)
            removed[k] = inside[joined[k]] if k in joined else inside
    return removed


def _plain_levels(mesh: PlanMesh, surfaces: Sequence[ArrayLike]) -> NDArray[np.float64]:
    """Plain elevations, (n_layers + 1, n_plan)."""
    levels = []
    for k, surface in enumerate(surfaces):
        z = check_finite(f"surfaces[{k}]", surface, unit="m")
        if isinstance(mesh, RectangularMesh) and z.shape == mesh.shape:
            z = z[mesh.present]
        if z.shape not in ((), (mesh.n_cells,)):
            raise InputError(
                f"surfaces[{k}] has the shape {z.shape}; expected a number or ({mesh.n_cells},)."
            )
        levels.append(np.broadcast_to(z, mesh.n_cells))
    if len(levels) < 2:
        raise InputError(f"{len(levels)} surface was given; expected at least a top and a base.")
    return np.array(levels)


def _joined(
    mesh: PlanMesh,
    names: Sequence[str],
    whole_names: Sequence[str],
    max_splits: Mapping[str, int],
    layer_cell: Mapping[str, WithUnit],
) -> dict[int, NDArray[np.int64]]:
    """Which larger cell each plan cell belongs to, in the layers whose cells are larger."""
    joined: dict[int, NDArray[np.int64]] = {}
    for name, most in max_splits.items():
        if not isinstance(mesh, SplitMesh):
            raise InputError(
                "max_splits says nothing of a mesh that was not split in four. Give `layer_cell`, a size, instead."
            )
        if most < 0:
            raise InputError(f'max_splits of "{name}" is {most}; expected 0 or more.')
        if most < mesh.splits.max():
            whole = mesh.whole(most)
            joined |= {k: whole for k in layers_named(name, names, whole_names, "max_splits")}
    by_size: dict[float, NDArray[np.int64]] = {}
    for name, wanted in layer_cell.items():
        size = float(plain(wanted, "length", f'layer_cell of "{name}"'))
        check_positive(f'layer_cell of "{name}"', size, unit="m")
        layers = layers_named(name, names, whole_names, "layer_cell")
        if name in max_splits or set(layers) & set(joined):
            raise InputError(f'the layer "{name}" has both max_splits and layer_cell. Leave one out.')
        if size not in by_size:
            by_size[size] = joined_cells(mesh, size)
        if by_size[size].max() + 1 < mesh.n_cells:
            joined |= {k: by_size[size] for k in layers}
    return joined
