"""Particle paths: exact in each cell for velocities that vary linearly between its faces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive, place_words
from inkhorn.flow import FlowResult
from inkhorn.paths.velocity import FaceVelocities, face_velocities
from inkhorn.progress import Progress
from inkhorn.shown import Shown
from inkhorn.site import Well
from inkhorn.sizes import refuse_beyond
from inkhorn.units import WithUnit, plain

if TYPE_CHECKING:
    import geopandas as gpd
    import pandas as pd

__all__ = ["PathResult", "trace"]

_MOST_POINTS = 20000
_BYTES_PER_PATH = 4000.0  # of a hundred points or so, in the tables
_REASONS = ("time limit", "left by the top", "taken inside", "stagnant", "too many steps")


@dataclass(frozen=True, eq=False)
class _Starts:
    """Where particles begin, and the travel time they already have."""

    cell: NDArray[np.int64]
    place: NDArray[np.float64]
    time: NDArray[np.float64]
    name: list[str]


@dataclass(frozen=True, eq=False)
class PathResult(Shown):
    """Particle paths of one tracing.

    Attributes
    ----------
    points : pandas.DataFrame
        One row per point: path, time [day], x, y, z [m], layer. Points stand where a path crosses from
        cell to cell and at every time mark.
    ends : pandas.DataFrame
        One row per path: where it began and ended, why, by which feature, and its travel time [day].
    backward : bool
        Whether the water was followed to where it came from.
    """

    flow: FlowResult = field(repr=False)
    points: pd.DataFrame
    ends: pd.DataFrame
    backward: bool
    mark: float

    def __repr__(self) -> str:
        way = "backward" if self.backward else "forward"
        longest = self.ends["travel time [day]"].max() / 365.25 if len(self.ends) else 0.0
        return f"PathResult({len(self.ends)} paths {way}, longest {longest:.3g} years)"

    def marks(self) -> pd.DataFrame:
        """Return the points at the time marks."""
        if not self.mark:
            return self.points.iloc[:0]
        count = self.points["time [day]"] / self.mark
        whole = (np.abs(count - np.round(count)) < 1e-6) & (count > 0.5)
        return self.points[whole]

    def lines(self) -> gpd.GeoDataFrame:
        """Return one line per path, with the columns of `ends`."""
        import geopandas as gpd
        import shapely

        crs = self.flow.model.site.crs if self.flow.model.site is not None else None
        shapes = []
        for path in self.ends["path"]:
            xyz = self.points.loc[self.points["path"] == path, ["x [m]", "y [m]", "z [m]"]].to_numpy()
            shapes.append(shapely.LineString(xyz if len(xyz) > 1 else np.repeat(xyz, 2, axis=0)))
        return gpd.GeoDataFrame(self.ends, geometry=shapes, crs=crs)


def _starts_at_points(flow: FlowResult, points: NDArray[np.float64], field_: FaceVelocities) -> _Starts:
    grid = flow.model.grid
    if points.ndim != 2 or points.shape[1] != 3:
        raise InputError(f"start points have the shape {points.shape}; expected (n, 3): x, y and z in m.")
    cell = np.empty(len(points), dtype=np.int64)
    place = points.copy()
    for k, (x, y, z) in enumerate(points):
        plan = int(grid.mesh.locate([x], [y])[0])
        column = grid.column_of(plan) if plan >= 0 else np.empty(0, np.int64)
        inside = column[(grid.cells.bottom[column] <= z) & (z <= grid.cells.top[column])]
        if len(inside) == 0:
            raise InputError(
                f"start point {k} at {place_words(x, y)}, z={z:g} lies in no cell. Check that z is an elevation."
            )
        cell[k] = inside[0]
        u, v = grid.mesh.from_map(x, y)  # type: ignore[attr-defined]  # face_velocities has seen to that
        place[k] = u, v, min(z, field_.high[cell[k], 2])  # above the water table it begins on it
    return _Starts(cell, place, np.zeros(len(points)), [f"point {k}" for k in range(len(points))])


def _starts_at_wells(flow: FlowResult, names: Sequence[str], each: int, field_: FaceVelocities) -> _Starts:
    """Begin where the walls of the well's cells are met at equal angles.

    Inside its cell the flow to a well is radial: equal angles are equal shares of its water, and the
    way from the well to radius r takes ``pi * porosity * height * r² / flow``.
    """
    model, step = flow.model, flow.steps[-1]
    term = model.term("well")
    flows = step.term_flow[model.terms.index(term)]
    cell, place, time, name = [], [], [], []
    for well in names:
        if well not in term.feature_names:
            raise InputError(f'there is no well "{well}" in the model; it has {list(term.feature_names)}.')
        entries = np.flatnonzero(term.feature_index == term.feature_names.index(well))
        share = np.abs(flows[entries])
        if share.sum() == 0.0:
            continue  # an idle well draws nothing
        counts = np.maximum(np.round(each * share / share.sum()).astype(int), 1)
        for entry, count in zip(entries, counts, strict=True):
            c = int(term.cells[entry])
            low, high = field_.low[c], field_.high[c]
            middle, half = 0.5 * (low + high), 0.5 * (high - low)
            angle = 2.0 * np.pi * (np.arange(count) + 0.5) / count
            direction = np.column_stack([np.cos(angle), np.sin(angle)])
            radius = (half[:2] / np.maximum(np.abs(direction), 1e-12)).min(axis=1)
            level = (np.arange(count) % 3 + 0.5) / 3.0
            xy = np.clip(middle[:2] + radius[:, None] * direction, low[:2], high[:2])
            place.append(np.column_stack([xy, low[2] + level * (high[2] - low[2])]))
            cell.append(np.full(count, c))
            volume = np.pi * model.porosity[c] * (high[2] - low[2]) * radius**2
            time.append(volume / abs(flows[entry]))
            name += [well] * int(count)
    if not cell:
        raise InputError(f"none of the wells {list(names)} takes or gives any water; nothing to trace.")
    return _Starts(np.concatenate(cell), np.concatenate(place), np.concatenate(time), name)


def refuse_many_paths(count: int) -> None:
    """Refuse more paths than memory is allowed for.

    Raises
    ------
    InputError
        With the estimate and the limit.
    """
    refuse_beyond("memory", count * _BYTES_PER_PATH, f"{count:.3g} paths", "Ask for fewer.")


def trace(
    flow: FlowResult,
    start: Sequence[Any] | NDArray[np.float64],
    *,
    backward: bool = False,
    max_time: WithUnit = 200.0 * 365.25,
    mark: WithUnit = 0.0,
    per_well: int = 24,
    progress: Progress | None = None,
) -> PathResult:
    """Follow the water from wells or points, forward or backward.

    A path ends where the water leaves the aquifer, where a sink inside a cell takes all that arrives
    there (a weaker one is passed by), or at `max_time`.

    Parameters
    ----------
    flow : FlowResult
        Steady flow on rectangular cells, with porosity.
    start : sequence of Well or str, or array_like of float (n, 3)
        Wells or their names; or points x, y, z [m].
    backward : bool
        Follow the water to where it came from.
    max_time : float
        Longest travel time [day].
    mark : float
        Time between marks along the paths [day]; 0 for none.
    per_well : int
        About how many particles begin at each well, shared along its screen by flow.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.

    Returns
    -------
    PathResult

    Raises
    ------
    InputError
        If the flow is not steady or not on whole rectangles, porosity is missing, a well is not there or moves no
        water, or more paths are asked for than memory is allowed for.

    References
    ----------
    Pollock, D. W. (1988), Semianalytical computation of path lines for finite-difference models,
    Ground Water 26(6), 743-750, eqs. 8-13.

    Examples
    --------
    >>> from inkhorn.model import Model, terms
    >>> from inkhorn.space import layered, rectangles
    >>> from inkhorn.flow import solve_flow
    >>> grid = layered(rectangles((0, 0, 500, 100), cell=100), [0.0, -20.0])
    >>> ends = terms.FixedHeadTerm(cells=[0, 4], head=[10.0, 8.0])
    >>> paths = trace(solve_flow(Model(grid, 5.0, porosity=0.2, terms=[ends])), [(100.0, 50.0, -10.0)])
    >>> round(float(paths.points["time [day]"].iloc[3]), 6)  # 300 m at 5 * 0.005 / 0.2 m/day
    2400.0
    """
    import pandas as pd

    from inkhorn.paths._kernels import TOP, track

    max_time, mark = plain(max_time, "time", "max_time"), plain(mark, "time", "mark")
    check_positive("max_time", max_time, unit="days")
    check_nonnegative("mark", mark, unit="days")
    check_positive("per_well", per_well)
    count = len(start) if isinstance(start, Sequence) else int(np.shape(start)[0])
    refuse_many_paths(count * (per_well if all(isinstance(s, Well | str) for s in start) else 1))
    velocities = face_velocities(flow)
    start = list(start)
    if not start:
        raise InputError(
            "nothing to start from: `start` is empty. Give wells, their names, or points x, y, z."
        )
    if all(isinstance(s, Well | str) for s in start):
        names = [s.name if isinstance(s, Well) else s for s in start]
        begin = _starts_at_wells(flow, names, per_well, velocities)
    else:
        begin = _starts_at_points(flow, np.asarray(start, dtype=np.float64), velocities)

    grid, model, sign = flow.model.grid, flow.model, -1.0 if backward else 1.0
    velocity = np.ascontiguousarray(sign * velocities.velocity)
    out_cell = np.empty(_MOST_POINTS, dtype=np.int64)
    out_xyz, out_t = np.empty((_MOST_POINTS, 3)), np.empty(_MOST_POINTS)
    pieces, ends = [], []
    for k, (x, y, z) in enumerate(begin.place.tolist()):
        count, reason = track(
            int(begin.cell[k]),
            x,
            y,
            z,
            float(begin.time[k]),
            velocities.low,
            velocities.high,
            velocity,
            velocities.neighbour,
            float(max_time),
            float(mark),
            out_cell,
            out_xyz,
            out_t,
        )
        time, last = out_t[:count].copy(), int(out_cell[count - 1])
        feature = _feature_at(flow, last, inside=reason != TOP) if reason in (1, 2) else ""
        if reason == 2 and feature and not backward:
            time[-1] += _time_to_well(flow, last, out_xyz[count - 1], velocities)
        layers = grid.cells.layer[out_cell[:count]]
        own = out_xyz[:count]
        place = np.column_stack([*grid.mesh.to_map(own[:, 0], own[:, 1]), own[:, 2]])  # type: ignore[attr-defined]
        pieces.append((np.full(count, k), time, place, layers))
        ends.append(
            {
                "path": k,
                "start": begin.name[k],
                "end": _REASONS[reason],
                "feature": feature,
                "travel time [day]": time[-1],
                "start layer": grid.layer_names[layers[0]],
                "end layer": grid.layer_names[layers[-1]],
                "end x [m]": place[-1, 0],
                "end y [m]": place[-1, 1],
                "end z [m]": place[-1, 2],
            }
        )
        if progress is not None:
            progress("following paths", (k + 1) / len(begin.cell))
    xyz = np.concatenate([p[2] for p in pieces])
    points = pd.DataFrame(
        {
            "path": np.concatenate([p[0] for p in pieces]),
            "time [day]": np.concatenate([p[1] for p in pieces]),
            "x [m]": xyz[:, 0],
            "y [m]": xyz[:, 1],
            "z [m]": xyz[:, 2],
            "layer": np.array(model.grid.layer_names, dtype=object)[np.concatenate([p[3] for p in pieces])],
        }
    )
    return PathResult(flow, points, pd.DataFrame(ends), backward, mark)


def _feature_at(flow: FlowResult, cell: int, *, inside: bool) -> str:
    """Name the feature that moves most water through the top, or inside, of a cell."""
    best, name = 0.0, ""
    for term, flows in zip(flow.model.terms, flow.steps[-1].term_flow, strict=True):
        here = (term.cells == cell) & ((term.crossing == "top") != inside)
        for entry in np.flatnonzero(here):
            if abs(flows[entry]) > best:
                best, name = abs(flows[entry]), term.feature_names[term.feature_index[entry]]
    return name


def _time_to_well(flow: FlowResult, cell: int, place: NDArray[np.float64], field_: FaceVelocities) -> float:
    """Return the time of the last, radial way inside the cell of a well [day]."""
    taken = 0.0
    for term, flows in zip(flow.model.terms, flow.steps[-1].term_flow, strict=True):
        taken += float(-flows[(term.cells == cell) & (term.crossing == "screen")].sum())
    if taken <= 0.0:
        return 0.0
    low, high = field_.low[cell], field_.high[cell]
    r2 = float(((place[:2] - 0.5 * (low + high)[:2]) ** 2).sum())
    return float(np.pi * flow.model.porosity[cell] * (high[2] - low[2]) * r2 / taken)
