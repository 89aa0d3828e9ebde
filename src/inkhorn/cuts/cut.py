"""Cutting a local model out of a region: its cells, what is known of them, and what the region says at its rim."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.cuts.agreement import Agreement, agreement
from inkhorn.cuts.carried import carried_model
from inkhorn.cuts.of_site import site_within
from inkhorn.cuts.region import RegionAtRim, ways_to_rim
from inkhorn.cuts.rim import Stretch, checked_outline, propose_rim, with_ways
from inkhorn.errors import InkhornWarning, InputError
from inkhorn.flow import FlowResult, solve_flow
from inkhorn.model import Model, levelless_cells, place
from inkhorn.model.terms import RimFlowTerm, RimHeadTerm, Term
from inkhorn.shown import Shown
from inkhorn.site import Schedule, Site
from inkhorn.space import Grid, PlanMesh, PolygonMesh, overlap

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.transport import TransportResult

__all__ = ["Cut", "cut", "recut"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


_FAR_OFF = 1.5  # of a cell's size: faces of whole cells along a slanted outline lie no farther from it
_NEAR_WELLS = 3.0  # cells of the region


@dataclass(frozen=True, eq=False)
class Cut(Shown):
    """A local model, cut out of a region.

    Attributes
    ----------
    model : Model
        Ready to be solved, the region's heads and flows at its rim.
    region : FlowResult
        What it was cut out of.
    outline : shapely Polygon
    stretches : tuple of Stretch
        Of the outline, and what each is.
    sources : pandas.DataFrame
        From where each array of the model is: the site, or the region's cells.
    faces, stretch_of : ndarray of int, (n,)
        The outer faces at the rim, and the stretch that each belongs to; -1 for the region's own rim.
    """

    model: Model
    region: FlowResult = field(repr=False)
    outline: Any = field(repr=False)
    stretches: tuple[Stretch, ...] = field(repr=False)
    sources: pd.DataFrame = field(repr=False)
    faces: Index = field(repr=False)
    stretch_of: Index = field(repr=False)

    def __repr__(self) -> str:
        ways = ", ".join(f"{s.name} {s.way}" for s in self.stretches)
        return f"Cut({self.model.grid.n_cells} cells of {self.region.model.name}; {ways})"

    def rim(self) -> pd.DataFrame:
        """Return the rim: a row for each stretch, what it is, its length, and what flows across it in the region."""
        import pandas as pd

        rows = [(s.name, s.way, s.line.length, s.inflow, s.outflow, s.angle) for s in self.stretches]
        columns = [
            "stretch", "is", "length [m]", "inflow [m³/day]", "outflow [m³/day]", "angle of the flow [degrees]",
        ]  # fmt: skip
        return pd.DataFrame(rows, columns=columns).set_index("stretch")

    @cached_property
    def at_rim(self) -> RegionAtRim:
        """The region's flow at the rim."""
        return RegionAtRim(self.region, self.model, self.faces)

    @cached_property
    def shared(self) -> Any:
        """The volumes that its cells share with those of the region."""
        return overlap(self.region.model.grid, self.model.grid)

    def initial_heads(self, step: int | None = None) -> Array:
        """Return heads of the region's cells as means over its own, (n_cells,) [m].

        Parameters
        ----------
        step : int, optional
            At the end of which step of the region; at the start of its run if not given, or where that is steady.
        """
        heads = self.region.steps[0 if step is None else step].heads
        if step is None and not self.region.steps[0].steady:
            heads = self.region.start.heads
        found = np.asarray(self.shared.mean(heads))
        cells = self.model.grid.cells
        return np.where(np.isfinite(found), found, cells.top)

    def initial_concentration(self, plume: TransportResult, time: int = -1) -> Array:
        """Return concentrations of a plume of the region as means over the cells, to begin with, (n_cells,) [g/m³]."""
        found = np.asarray(self.shared.mean(plume.records[time].concentration))
        return np.where(np.isfinite(found), found, plume.species.initial)

    def solve(self, **options: Any) -> FlowResult:
        """Solve for the heads, as `solve_flow`, from those of the region."""
        return solve_flow(self.model, **{"initial_heads": self.initial_heads(), **options})

    def agreement(self, flow: FlowResult, step: int = -1) -> Agreement:
        """Return how the local model and the region agree: heads, what passes the rim, and budgets.

        Parameters
        ----------
        flow : FlowResult
            Of the local model.
        step : int
            Of the local model; the region is looked at when that ends.
        """
        return agreement(self, flow, step)


def cut(
    region: FlowResult | Model | Any,
    outline: Any,
    *,
    grid: PlanMesh | Grid | None = None,
    rim: str | Mapping[str, str] | tuple[Stretch, ...] | None = None,
    site: Site | None = None,
    schedule: Schedule | None = None,
) -> Cut:
    """Cut a local model out of a region.

    Where the region was made of a site, the local model is placed anew from that: layers, properties and features as
    they are known, on its own cells. Of a region made of arrays the values of its cells are taken over by the volume
    they share. At the rim stand, stretch by stretch, the heads of the region, its flows, or nothing where the rim goes
    along the flow; in time step by step of the region. Heads on a side that is one of the region's own are those that
    drive what passes there from the side to the centre of the cell; elsewhere they are read between centres. Flows are
    those of a field that balances in the region's cells: along sides of its cells exactly what it passes there.

    Parameters
    ----------
    region : FlowResult, Run or Model
        The region's flow; a model is solved first.
    outline : shapely Polygon or array_like of float, (n, 2)
        Within the region's cells.
    grid : PlanMesh or Grid, optional
        Cells within the outline, as of ``inkhorn.rectangles(outline, cell=5)``; the region's own if not given.
    rim : str, mapping of str to str, or tuple of Stretch, optional
        "heads" or "flows" for all stretches that water flows across; or ways by name of stretches ("rest" for all
        others); or stretches of one's own. What `propose_rim` proposes if not given.
    site : Site, optional
        Instead of the region's: changed by finer layers, wells, an excavation. Its features may reach beyond the outline.
    schedule : Schedule, optional
        Of the local model; a period for each step of the region if not given.

    Returns
    -------
    Cut

    Raises
    ------
    InputError
        If the outline crosses itself or reaches beyond the region's cells; if a steady rim of flows alone fixes no
        level; if the grid lies elsewhere; if the region's arrays are not those of its site.

    Warns
    -----
    InkhornWarning
        If a rim of flows alone fixes no level in a run through time; if wells stand just outside.

    Examples
    --------
    >>> from inkhorn.model import Model, terms
    >>> from inkhorn.space import layered, rectangles
    >>> ends = terms.FixedHeadTerm(cells=[0, 9], head=[10.0, 8.0])
    >>> whole = Model(layered(rectangles((0, 0, 1000, 100), cell=100), [0.0, -20.0]), 5.0, terms=[ends])
    >>> part = cut(whole, [(300, 0), (700, 0), (700, 100), (300, 100)])
    >>> [(s.name, s.way) for s in part.stretches]
    [('south rim', 'own'), ('east rim', 'heads'), ('north rim', 'own'), ('west rim', 'heads')]
    >>> part.solve().steps[0].heads.round(6).tolist()
    [9.333333, 9.111111, 8.888889, 8.666667]
    """
    import pandas as pd

    flow = _flow_of(region)
    shape = checked_outline(outline, flow)
    known = site if site is not None else _site_of(region, flow)
    when = schedule if schedule is not None else _schedule_of(flow)
    if known is not None:
        model, sources = _of_site(known, shape, grid, flow, when)
    else:
        model, sources = carried_model(flow.model, _grid(grid, shape, flow.model.grid), when)
    stretches = rim if isinstance(rim, tuple) else with_ways(propose_rim(flow, shape), rim)
    faces = np.arange(len(model.grid.outer_faces))
    stretch_of = _stretch_of(model.grid, stretches)
    at = RegionAtRim(flow, model, faces)
    there = (stretch_of >= 0) & (at.region_cell >= 0)
    whole = _with_rim(model, stretches, np.where(there, stretch_of, -1), at, flow)
    _refuse_levelless(whole, stretches)
    _warn_of_wells(flow, shape)
    more = _sources(whole).drop(index=sources.index)
    return Cut(whole, flow, shape, stretches, pd.concat([sources, more]), faces, stretch_of)


def recut(model: Model, region: FlowResult, outline: Any, rim: str | Mapping[str, str] | None = None) -> Cut:
    """Return the cut that a model made of a site was made by, as `cut` gives it."""
    shape = checked_outline(outline, region)
    stretches = with_ways(propose_rim(region, shape), rim)
    faces = np.arange(len(model.grid.outer_faces))
    return Cut(model, region, shape, stretches, _sources(model), faces, _stretch_of(model.grid, stretches))


def _flow_of(region: Any) -> FlowResult:
    if isinstance(region, FlowResult):
        return region
    return solve_flow(region) if isinstance(region, Model) else region.flow


def _site_of(region: Any, flow: FlowResult) -> Site | None:
    """The site of a region, with what a fit found of it.

    Raises
    ------
    InputError
        If the arrays of its model are not those of its site, and no fit says how they came about.
    """
    model = flow.model
    if model.site is None:
        return None
    changed = []
    for name, trace in model.traces.arrays.items():
        made = trace.made if hasattr(trace.made, "values") else trace.made[:]
        values = np.asarray(made.values)
        now = model.inputs_in_time.get(name, model.input(name))
        if now.shape[-1:] == values.shape[-1:] and not np.allclose(
            now, values, rtol=1e-9, atol=0.0, equal_nan=True
        ):
            changed.append(name)
    if not changed:
        return model.site
    fit = getattr(region, "fit", None) if getattr(region, "about", {}).get("kind") == "fit" else None
    if fit is None:
        raise InputError(
            f"the region's {', '.join(changed[:4])} are not what its site says, as after a fit. Give the `site` with "
            "edits that say the same, or the run of the fit."
        )
    return replace(model.site, edits=(*model.site.edits, *fit.parameters.edits(fit.coordinates)))


def _schedule_of(flow: FlowResult) -> Schedule | None:
    """A period for each step of the region."""
    known = flow.model.schedule
    if known is None:
        return None
    ends, steady = [s.end for s in flow.steps], [s.steady for s in flow.steps]
    return Schedule(ends, known.start, steady=steady)


def _grid(given: PlanMesh | Grid | None, outline: Any, region: Grid) -> Grid:
    """The cells of a model made of arrays."""
    from inkhorn.cuts.carried import layered_as

    if isinstance(given, Grid):
        return given
    return layered_as(region, _own_cells(outline, region) if given is None else given)


def _own_cells(outline: Any, region: Grid) -> PlanMesh:
    """The region's own plan cells that have their centre within."""
    import shapely

    mesh = region.mesh
    inside = np.flatnonzero(
        shapely.contains_xy(outline, mesh.x, mesh.y) & (region.cell_number >= 0).any(axis=0)
    )
    if not len(inside):
        raise InputError(
            "the outline holds the centre of no cell of the region. Draw it larger, or give a `grid`."
        )
    return PolygonMesh(mesh.polygons()[inside], np.column_stack([mesh.x, mesh.y])[inside])


def _of_site(
    site: Site, outline: Any, given: PlanMesh | Grid | None, flow: FlowResult, schedule: Schedule | None
) -> tuple[Model, pd.DataFrame]:
    """The model as the site has it within an outline, and from where its arrays are."""
    local = site_within(site, outline, flow.model.name, schedule)
    grid = _own_cells(outline, flow.model.grid) if given is None else given
    model = place(local, grid, water_table=flow.model.water_table)
    return model, _sources(model)


def _sources(model: Model) -> pd.DataFrame:
    """From where the arrays of a model made of a site are."""
    import pandas as pd

    of_rim = ("rim head.", "rim flow.")
    found = ["the region's flow" if name.startswith(of_rim) else "the site" for name in model.inputs]
    return pd.DataFrame({"array": list(model.inputs), "from": found}).set_index("array")


def _stretch_of(grid: Grid, stretches: tuple[Stretch, ...]) -> Index:
    """The stretch that each outer face stands for: the nearest to its middle.

    -1 for those on the region's own rim, and around holes of the grid.

    Raises
    ------
    InputError
        If the grid ends elsewhere than the outline.
    """
    import shapely

    outer = grid.outer_faces
    middle, size = shapely.points(outer.middle), np.sqrt(grid.cells.area[outer.cell])
    away = np.array([shapely.distance(middle, s.line) for s in stretches])
    nearest, off = away.argmin(axis=0), away.min(axis=0)
    far = np.flatnonzero(off > _FAR_OFF * size)
    if len(far):
        whole = shapely.get_parts(shapely.union_all(grid.mesh.polygons(), grid_size=1e-6 * float(size.min())))
        rims = shapely.MultiLineString([shapely.get_exterior_ring(part) for part in whole])
        astray = far[shapely.distance(middle[far], rims) < 1e-3 * size[far]]
        if len(astray):
            x, y = outer.middle[astray[0]]
            raise InputError(
                f"the grid ends at x={x:.6g}, y={y:.6g}, {off[astray[0]]:.4g} m from the outline. Make it within that, "
                "as by rectangles(outline, cell=…)."
            )
    own = np.array([s.way == "own" for s in stretches])
    return np.where(own[nearest] | (off > _FAR_OFF * size), -1, nearest)


def _with_rim(
    model: Model, stretches: tuple[Stretch, ...], stretch_of: Index, at: RegionAtRim, flow: FlowResult
) -> Model:
    """The model with what the region says at its rim."""
    ways = np.array([s.way for s in stretches])
    of = np.where(stretch_of >= 0, ways[np.maximum(stretch_of, 0)], "closed")
    cells, way = model.grid.outer_faces.cell, ways_to_rim(model)
    terms: list[Term] = list(model.terms)
    in_time = dict(model.inputs_in_time)
    names = tuple(s.name for s in stretches)
    for what, kind, name in (("heads", RimHeadTerm, "head"), ("flows", RimFlowTerm, "rate")):
        mine = np.flatnonzero(of == what)
        if not len(mine):
            continue
        values = _in_periods(
            model.schedule, flow, at.heads if what == "heads" else at.inflow, what == "flows"
        )[:, mine]
        used, feature = np.unique(stretch_of[mine], return_inverse=True)
        given: dict[str, Any] = {
            "cells": cells[mine], "outer_face": mine, name: values[0],
            "feature_names": tuple(names[k] for k in used), "feature_index": feature,
        }  # fmt: skip
        if what == "heads":
            given["way"] = way[mine]
        terms.append(kind(**given))
        if model.schedule is not None:
            in_time[f"{kind.kind}.{name}"] = values
    return replace(model, terms=tuple(terms), inputs_in_time=in_time)


def _in_periods(schedule: Schedule | None, flow: FlowResult, of_step: Any, mean: bool) -> Array:
    """Values of the region's steps in each period of the local model, (n_periods, n).

    Of heads those when a period ends, between the ends of the region's steps; of flows their mean over it.
    """
    if schedule is None:
        return np.asarray(of_step(len(flow.steps) - 1))[None]
    made = np.array([of_step(k) for k in range(len(flow.steps))])
    begins, ends = (np.array([getattr(s, n) for s in flow.steps]) for n in ("begin", "end"))
    found = []
    for begin, end in zip(schedule.begins.tolist(), schedule.ends.tolist(), strict=True):
        if not mean or end <= begin:
            after = min(int(np.searchsorted(ends, end * (1.0 - 1e-12))), len(ends) - 1)
            before = max(after - 1, 0)
            apart = ends[after] - ends[before]
            share = (
                1.0
                if apart <= 0.0 or end <= begin
                else float(np.clip((end - ends[before]) / apart, 0.0, 1.0))
            )
            found.append(made[after] if share == 1.0 else made[before] + share * (made[after] - made[before]))
            continue
        common = np.maximum(np.minimum(ends, end) - np.maximum(begins, begin), 0.0)
        if common.sum() <= 0.0:
            common[min(int(np.searchsorted(ends, end)), len(ends) - 1)] = 1.0
        found.append(common @ made / common.sum())
    return np.array(found)


def _warn_of_wells(flow: FlowResult, outline: Any) -> None:
    """Warn of wells just outside, whose radial flow between cells is not known within."""
    import shapely

    grid = flow.model.grid
    near = []
    for term in flow.model.terms:
        if term.kind != "well":
            continue
        place = np.column_stack([grid.cells.x[term.cells], grid.cells.y[term.cells]])
        size = np.sqrt(grid.cells.area[term.cells])
        away = shapely.distance(outline, shapely.points(place))
        close = (away > 0.0) & (away < _NEAR_WELLS * size)
        near += [term.feature_names[k] for k in np.unique(term.feature_index[close])]
    if near:
        warnings.warn(
            f"{', '.join(near)}: within {_NEAR_WELLS:g} cells of the region outside the outline, so that the radial flow "
            "around is not known within. Draw the outline around, or farther off.",
            InkhornWarning,
            stacklevel=3,
        )


def _refuse_levelless(model: Model, stretches: tuple[Stretch, ...]) -> None:
    """Refuse a steady model whose level nothing fixes; warn of one in time."""
    if any(s.way == "heads" for s in stretches):
        return
    wells = ("well", "collector")  # what these take ends where they fall dry, which is no level to rest on
    lasting = [t for t in model.terms if t.kind not in wells]
    kept = {k: v for k, v in model.inputs_in_time.items() if k.rpartition(".")[0] not in wells}
    if not levelless_cells(replace(model, terms=tuple(lasting), inputs_in_time=kept)):
        return
    steady = model.schedule is None or bool(np.asarray(model.schedule.steady).any())
    words = (
        "a rim of flows alone fixes no level: whatever the heads, the same water comes and goes. Give a stretch the "
        "region's heads (rim = {\"" + stretches[0].name + '": "heads"})'
    )
    if steady:
        raise InputError(words + ".")
    warnings.warn(words + "; in time its heads rest on those it begins with.", InkhornWarning, stacklevel=3)
