"""A local model of a region that was made of arrays: what its cells hold, taken over by the volume they share."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model import Model
from inkhorn.model.terms import Term, placed_fields
from inkhorn.site import Schedule, properties
from inkhorn.space import Grid, Overlap, PlanMesh, area_of, layered, overlap

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["carried_model", "layered_as"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_SHARED_OUT = ("conductance", "flow", "area")  # dimensions of what cells that a cell falls into share
_OF_WIDTH = ("way", "beyond")  # what grows with the width that water passes, likewise
_LAYERED = (
    "fixed head",
    "river",
    "drain",
    "spring",
    "seepage",
    "head-dependent boundary",
    "recharge",
    "given flow",
)
_WORDS = "the region's cells, by shared volume"


def layered_as(region: Grid, mesh: PlanMesh) -> Grid:
    """Return a plan mesh cut into the layers of a region, tops and bottoms being means over the area that cells share."""
    import shapely
    from scipy.sparse import coo_array

    shapes, others = region.mesh.polygons(), mesh.polygons()
    to, of = shapely.STRtree(shapes).query(others, predicate="intersects")
    area = shapely.area(shapely.intersection(others[to], shapes[of]))
    weight = coo_array((area, (to, of)), shape=(mesh.n_cells, region.mesh.n_cells)).tocsr()
    levels = []
    for level in (region.top[0], *region.bottom):
        known = np.isfinite(level)
        whole = weight @ known.astype(np.float64)
        if (whole <= 0.0).any() and level is region.top[0]:
            raise InputError(
                "some cells of the grid share nothing with those of the region. Keep them within its cells."
            )
        levels.append(
            np.where(
                whole > 0.0, weight @ np.where(known, level, 0.0) / np.where(whole > 0.0, whole, 1.0), np.nan
            )
        )
    for k in range(1, len(levels)):  # where a layer is absent
        levels[k] = np.where(np.isfinite(levels[k]), np.minimum(levels[k], levels[k - 1]), levels[k - 1])
    return layered(mesh, levels, names=region.layer_names)


def carried_model(region: Model, grid: Grid, schedule: Schedule | None) -> tuple[Model, pd.DataFrame]:
    """Return a model of other cells with the properties and terms of a region, and from where each array is.

    Properties are means over the volume that cells share. Entries of terms go to the cells that share the volume of
    theirs, conductances, rates and areas being shared out; wells go to the cells that hold them.

    Raises
    ------
    InputError
        If a term acts on outer faces that the other grid does not have, or is of a kind that cannot be taken over.
    """
    import pandas as pd

    shared = overlap(region.grid, grid)
    own: dict[str, Any] = {}
    further: dict[str, Any] = {}
    for name in properties():
        values = region.property_of(name)
        if values is not None and name != "leakance":
            (own if name in region.__dataclass_fields__ else further)[name] = shared.mean(values)
    if region.leakance is not None and np.isfinite(region.leakance).any():
        raise InputError(
            "the region states how floors leak, which cannot be taken over. Give vertical conductivities."
        )
    if region.face_resistance is not None and (region.face_resistance > 0.0).any():
        raise InputError("the region has barriers in faces, which cannot be taken over. Make it of a site.")
    carried = [_carried(term, region, grid, shared) for term in region.terms]
    terms = [term for term, _ in carried if term is not None]
    in_time = {}
    for (term, made), before in zip(carried, region.terms, strict=True):
        for name, (rows, weight) in made.items():
            key = f"{before.kind}.{name}"
            if term is not None and key in region.inputs_in_time:
                in_time[key] = _in_periods(region, schedule, region.inputs_in_time[key])[:, rows] * weight
    model = Model(
        grid=grid, terms=terms, water_table=region.water_table, schedule=schedule, inputs_in_time=in_time,
        further=further, name=region.name, inflow_concentration=region.inflow_concentration, **own,
    )  # fmt: skip
    return model, pd.DataFrame({"array": list(model.inputs), "from": _WORDS}).set_index("array")


def _in_periods(region: Model, schedule: Schedule | None, values: Array) -> Array:
    """What holds in each period of a schedule, of the region's that it lies in."""
    known = region.schedule
    assert known is not None  # something changes in time
    assert schedule is not None  # likewise
    middle = 0.5 * (np.asarray(schedule.begins) + np.asarray(schedule.ends))
    return np.asarray(values[np.clip(np.searchsorted(known.ends, middle), 0, len(known) - 1)])


def _carried(
    term: Term, region: Model, grid: Grid, shared: Overlap
) -> tuple[Term | None, dict[str, tuple[Index, Any]]]:
    """A term on other cells, and of each input which of its values came where, and times what; none if nothing did."""
    if term.kind == "well":
        return _wells(term, region.grid, grid)
    if term.kind not in _LAYERED:
        raise InputError(
            f"the region was made of arrays, and its {term.kind} cannot be taken over. Make it of a "
            "site, or leave it out."
        )
    kept = np.flatnonzero(term.outer_face < 0)
    of_rim = _on_own_rim(term, region.grid, grid)
    rows = shared.volume.tocsc()[:, term.cells[kept]].tocoo()
    entry, cell = kept[rows.col], rows.row.astype(np.int64)
    share = rows.data / shared.of[term.cells[entry]]
    if term.kind == "recharge":  # on the uppermost cells alone
        plan = grid.cells.plan_cell[cell]
        some = grid.uppermost[plan] == cell
        entry, cell, share = entry[some], cell[some], share[some]
        below = region.grid.cells.thickness[term.cells[entry]] / grid.cells.thickness[cell]
        share = share * np.maximum(below, 1.0)
    if term.kind == "fixed head":  # cells of which most is held
        some = rows.data > 0.5 * shared.to[cell]
        entry, cell, share = entry[some], cell[some], share[some]
    real = share > 1e-12
    entry, cell, share = entry[real], cell[real], share[real]
    face = np.full(len(entry), -1)
    entry, cell, face = (np.concatenate(v) for v in zip((entry, cell, face), of_rim, strict=True))
    share = np.append(share, np.ones(len(of_rim[0])))
    if not len(entry):
        return None, {}
    made: dict[str, tuple[Index, Any]] = {}
    given: dict[str, Any] = {}
    for name, said in term.declared_inputs().items():
        weight = share if said.dimension in _SHARED_OUT or name in _OF_WIDTH else 1.0
        made[name] = (entry, weight)
        given[name] = term.over_entries(name, np.asarray(getattr(term, name)))[entry] * weight
    for name in placed_fields(type(term)):
        given[name] = getattr(term, name)[entry]
    new = replace(
        term,
        cells=cell,
        feature_index=term.feature_index[entry],
        crossing=term.crossing[entry],
        outer_face=face,
        **given,
    )
    return new, made


def _on_own_rim(term: Term, region: Grid, grid: Grid) -> tuple[Index, Index, Index]:
    """Entries on outer faces of the region that are outer faces of the local grid, too; their cells and faces there.

    Raises
    ------
    InputError
        If one lies on the rim of the local grid, but is none of its faces.
    """
    import shapely
    from scipy.spatial import KDTree

    entry = np.flatnonzero(term.outer_face >= 0)
    if not len(entry):
        return entry, entry, entry
    of, to = region.outer_faces, grid.outer_faces
    face = term.outer_face[entry]
    size = np.sqrt(region.cells.area[of.cell[face]])

    def spot(g: Grid, faces: Any, which: Index) -> Array:
        cells = g.cells
        height = 0.5 * (cells.bottom + cells.top)[faces.cell[which]]
        return np.column_stack([faces.middle[which], height, faces.length[which]])

    away, same = KDTree(spot(grid, to, np.arange(len(to)))).query(spot(region, of, face))
    there = away < 1e-6 * size
    outline = shapely.boundary(area_of(grid.mesh, np.arange(grid.mesh.n_cells), grid.rim))
    beside = shapely.dwithin(outline, shapely.points(of.middle[face]), 1e-3 * size)
    if (beside & ~there).any():
        raise InputError(
            f"the region's {term.kind} acts on its own rim, where the local grid has other sides. Keep the region's own "
            "cells, or make the region of a site."
        )
    return entry[there], to.cell[same[there]], same[there]


def _wells(term: Any, region: Grid, grid: Grid) -> tuple[Term | None, dict[str, tuple[Index, Any]]]:
    """Wells in the cells that hold their places, of each layer that meets the height of the region's cell most."""
    own = region.cells
    place = np.column_stack([own.x[term.cells], own.y[term.cells]])
    if term.place is not None:
        known = np.isfinite(term.place).all(axis=1)
        place[known] = term.place[known]
    plan = grid.mesh.locate(*place.T)
    column = np.where(plan >= 0, grid.cell_number[:, np.maximum(plan, 0)], -1)
    meets = np.minimum(grid.cells.top[column], own.top[term.cells]) - np.maximum(
        grid.cells.bottom[column], own.bottom[term.cells]
    )
    meets = np.where(column >= 0, meets, -np.inf)
    best = meets.argmax(axis=0)
    there = meets[best, np.arange(len(best))] > 0.0
    whole = np.bincount(term.feature_index, minlength=len(term.feature_names))
    kept = np.bincount(term.feature_index[there], minlength=len(whole))
    lost = [n for n, a, b in zip(term.feature_names, kept.tolist(), whole.tolist(), strict=True) if 0 < a < b]
    if lost:
        raise InputError(
            f"the wells {', '.join(lost)} lie partly outside the outline. Draw it around them, or beside."
        )
    alive = np.flatnonzero(kept > 0)
    if not len(alive):
        return None, {}
    number = np.full(len(whole), -1)
    number[alive] = np.arange(len(alive))
    entry = np.flatnonzero(there)
    given: dict[str, Any] = {}
    made: dict[str, tuple[Index, Any]] = {}
    for name, said in term.declared_inputs().items():
        at = alive if said.over == "feature" else entry
        made[name] = (at, 1.0)
        given[name] = np.asarray(getattr(term, name))[at]
    for name, said in placed_fields(type(term)).items():
        given[name] = getattr(term, name)[alive if said.metadata["placed"] == "feature" else entry]
    cell = column[best[entry], entry]
    given["connection"] = _connection(term.connection[entry], region, term.cells[entry], grid, cell)
    new = replace(
        term, cells=cell, feature_names=tuple(term.feature_names[k] for k in alive),
        feature_index=number[term.feature_index[entry]], crossing=term.crossing[entry], outer_face=-1, **given,
    )  # fmt: skip
    return new, made


def _connection(connection: Array, region: Grid, before: Index, grid: Grid, after: Index) -> Array:
    """How well wells are connected to other cells: by the same radius, over the height of the new cell."""
    of, to = region.cells, grid.cells
    height = np.minimum(of.thickness[before], to.thickness[after])
    around, near = (
        g.mesh.equivalent_radius(g.cells.plan_cell[c]) for g, c in ((region, before), (grid, after))
    )
    with np.errstate(divide="ignore", over="ignore"):
        ring = 2.0 * np.pi * of.thickness[before] / connection  # the logarithm of both radii's ratio
        inner = ring + np.log(near / around)
    return np.asarray(np.where(inner > 0.05, 2.0 * np.pi * height / np.maximum(inner, 0.05), connection))
