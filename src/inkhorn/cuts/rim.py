"""The rim of a local model: stretches of its outline, and what each of them is to be by the flow of the region."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean
from inkhorn.flow import FlowResult
from inkhorn.paths import VelocityMaker
from inkhorn.space import area_of

__all__ = ["WAYS", "FlowInPlan", "Stretch", "Way", "checked_outline", "propose_rim", "with_ways"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]
Way = Literal["heads", "flows", "closed", "own"]

WAYS: tuple[Way, ...] = ("heads", "flows", "closed", "own")
"""What a stretch may be: held at the region's heads, given its flows, closed, or on the region's own rim."""

_ALONG = 15.0  # degrees between flow and outline, up to which the flow goes along it
_SHORT = 3.0  # cells of the region: a stretch of fewer is a part of its neighbour
_SAMPLES, _MOST = 4.0, 4000  # places looked at for each cell of the region, and in all
_ON_RIM = 0.02  # of a cell of the region: what lies so near to its own rim is on it
_OWN = 3
_COMPASS = ("east", "north-east", "north", "north-west", "west", "south-west", "south", "south-east")


@dataclass(frozen=True)
class Stretch:
    """A part of the outline of a local model.

    Attributes
    ----------
    name : str
        By where it lies.
    way : {"heads", "flows", "closed", "own"}
        What it is.
    line : shapely LineString
        Along the outline, anticlockwise.
    inflow, outflow : float
        What flows across it in the region, as a mean over its run [m³/day].
    angle : float
        Between the flow and the line, 90 straight across [degrees].
    """

    name: str
    way: Way
    line: Any
    inflow: float = 0.0
    outflow: float = 0.0
    angle: float = np.nan


def checked_outline(outline: Any, flow: FlowResult) -> Any:
    """Return an outline as one anticlockwise polygon within the cells of a region.

    Raises
    ------
    InputError
        If it crosses itself, has holes or several parts, or reaches beyond the region or over absent cells.
    """
    import shapely

    if not isinstance(outline, shapely.Geometry):
        try:
            outline = shapely.Polygon(outline)
        except (TypeError, ValueError, shapely.errors.GEOSException) as problem:
            raise InputError(
                f"the outline is no polygon: {problem}. Give at least three corners x, y."
            ) from None
    if outline.geom_type == "MultiPolygon" and len(outline.geoms) == 1:
        outline = outline.geoms[0]
    if outline.geom_type != "Polygon" or outline.is_empty:
        raise InputError(f"the outline is a {outline.geom_type}; expected one polygon.")
    if not outline.is_valid:
        raise InputError(f"the outline is not valid: {shapely.is_valid_reason(outline)}. Mend it.")
    if outline.interiors:
        raise InputError(
            "the outline has holes; expected one ring. Leave cells out by `left_out` of the grid instead."
        )
    grid = flow.model.grid
    present = (grid.cell_number >= 0).any(axis=0)
    shapes = grid.mesh.polygons()[present]
    tree = shapely.STRtree(shapes)
    met = shapes[tree.query(outline, predicate="intersects")]
    covered = shapely.intersection(shapely.union_all(met, grid_size=None), outline).area if len(met) else 0.0
    if covered < (1.0 - 1e-6) * outline.area:
        beyond = shapely.difference(outline, shapely.union_all(met)) if len(met) else outline
        at = shapely.get_parts(beyond)[
            shapely.area(shapely.get_parts(beyond)).argmax()
        ].representative_point()
        raise InputError(
            f"{1.0 - covered / outline.area:.1%} of the outline lies outside the region, or where it has no cells, as at "
            f"x={at.x:.6g}, y={at.y:.6g}. Draw it within the region's cells."
        )
    return (
        shapely.orient_polygons(outline)
        if hasattr(shapely, "orient_polygons")
        else shapely.geometry.polygon.orient(outline)
    )


def propose_rim(flow: FlowResult, outline: Any, *, along: float = _ALONG) -> tuple[Stretch, ...]:
    """Divide an outline by how water flows across it, and say what each stretch is best to be.

    Where water flows across, in or out, the region's heads are held; where it flows along, within some degrees, the
    stretch is closed; what lies on the region's own rim stays what it is there.

    Parameters
    ----------
    flow : FlowResult
        Of the region. Of flow in time its mean counts.
    outline : shapely Polygon or array_like of float, (n, 2)
        Within the region.
    along : float
        Angle between flow and outline up to which it is closed [degrees].

    Returns
    -------
    tuple of Stretch
        Anticlockwise along the outline.

    Raises
    ------
    InputError
        As `cut` says of the outline.
    """
    import shapely

    outline = checked_outline(outline, flow)
    ring, region = outline.exterior, flow.model.grid
    size = float(np.sqrt(np.median(region.mesh.area[_cells_along(region, ring)])))
    n = int(np.clip(np.ceil(_SAMPLES * ring.length / size), 40, _MOST))
    at = (np.arange(n) + 0.5) / n * ring.length
    place = shapely.get_coordinates(shapely.line_interpolate_point(ring, at))
    step = 0.5 * ring.length / n
    ends = [
        shapely.get_coordinates(shapely.line_interpolate_point(ring, (at + s) % ring.length))
        for s in (-step, step)
    ]
    way = ends[1] - ends[0]
    length = np.maximum(np.hypot(*way.T), 1e-300)
    normal = (
        np.column_stack([way[:, 1], -way[:, 0]]) / length[:, None]
    )  # outward, the ring being anticlockwise
    width = FlowInPlan(flow).at(place - 1e-4 * step * normal)
    out, speed = (width * normal).sum(axis=1), np.hypot(*width.T)
    angle = np.degrees(np.arcsin(np.clip(np.abs(out) / np.maximum(speed, 1e-300), 0.0, 1.0)))
    kind = np.where(angle <= along, 0, np.where(out < 0.0, 1, 2))  # along, in, out
    own = shapely.unary_union([p.exterior for p in shapely.get_parts(_outline_of(region))])
    kind[shapely.dwithin(shapely.points(place), own, _ON_RIM * size)] = _OWN
    runs = _runs(kind, int(np.ceil(_SHORT * _SAMPLES)))
    stretches = []
    for first, last in runs:
        mine = np.arange(first, last) % n
        line = (
            shapely.LineString(ring.coords)
            if len(mine) == n
            else _part(ring, at[mine[0]] - step, at[mine[-1]] + step)
        )
        turn = np.degrees(np.arctan2(*normal[mine].mean(axis=0)[::-1]))
        flows = out[mine] * length[mine]
        what: Way = ("closed", "heads", "heads", "own")[kind[mine[0]]]
        stretches.append(
            Stretch(
                _COMPASS[int(np.round(turn / 45.0)) % 8], what, line, float(-flows[flows < 0.0].sum()),
                float(flows[flows > 0.0].sum()), float(np.average(angle[mine], weights=length[mine])),
            )
        )  # fmt: skip
    return tuple(_named(stretches))


def _outline_of(region: Any) -> Any:
    present = (region.cell_number >= 0).any(axis=0)
    return area_of(region.mesh, np.flatnonzero(present))


def _cells_along(region: Any, ring: Any) -> Index:
    import shapely

    return np.asarray(shapely.STRtree(region.mesh.polygons()).query(ring, predicate="intersects"))


class FlowInPlan:
    """Flow a metre of width of all layers together, as a mean over a run.

    Parameters
    ----------
    flow : FlowResult
    """

    def __init__(self, flow: FlowResult) -> None:
        self._maker = VelocityMaker(flow)
        layers, n = len(flow.model.grid.layer_names), len(self._maker.fans)
        self._value, self._slope, whole = np.zeros((n, 2)), np.zeros(n), 0.0
        for number, step in enumerate(flow.steps):
            lasts = max(step.end - step.begin, 1e-9)
            value, slope = self._maker.in_plan(number)
            self._value += lasts * value.reshape(layers, n, 2).sum(axis=0)
            self._slope += lasts * slope.reshape(layers, n).sum(axis=0)
            whole += lasts
        self._value /= whole
        self._slope /= whole

    def at(self, place: Array) -> Array:
        """Return it at places, (n, 2) [m²/day]; nothing outside the region."""
        maker = self._maker
        plan = maker.grid.mesh.locate(*place.T)
        there = np.flatnonzero(plan >= 0)
        found = np.zeros((len(place), 2))
        triangle = maker.fans.holding(plan[there], *place[there].T)
        arm = place[there] - maker.fans.origin - maker.fans.corner[triangle, 0]
        found[there] = self._value[triangle] + self._slope[triangle][:, None] * arm
        return found


def _runs(kind: Index, least: int) -> list[tuple[int, int]]:
    """Stretches of one kind along a ring; short ones become what the longer of their neighbours is."""
    n = len(kind)
    while True:
        changes = np.flatnonzero(kind != np.roll(kind, 1))
        if not len(changes):
            return [(0, n)]
        ends = np.append(changes[1:], changes[0] + n)
        size = ends - changes
        own = kind[changes] == _OWN
        alone = np.roll(own, 1) & np.roll(own, -1)
        short = np.flatnonzero((size < least) & ~own & ~alone)
        if not len(short):
            return list(zip(changes.tolist(), ends.tolist(), strict=True))
        k = int(short[size[short].argmin()])
        beside = [j % len(changes) for j in (k - 1, k + 1) if not own[j % len(changes)]]
        longer = max(beside, key=lambda j: (size[j], j))
        kind[np.arange(changes[k], ends[k]) % n] = kind[changes[longer]]


def _part(ring: Any, begin: float, end: float) -> Any:
    """A part of a ring, perhaps past its begin."""
    import shapely
    from shapely.ops import substring

    begin, end = begin % ring.length, end % ring.length
    if end > begin + 1e-9 * ring.length:
        return substring(ring, begin, end)
    parts = [substring(ring, begin, ring.length), substring(ring, 0.0, end)]
    points = np.concatenate([shapely.get_coordinates(p) for p in parts if p.length > 0.0])
    kept = np.append(True, np.hypot(*np.diff(points, axis=0).T) > 1e-9 * ring.length)
    return shapely.LineString(points[kept])


def _named(stretches: Sequence[Stretch]) -> list[Stretch]:
    if len(stretches) == 1:
        return [replace(stretches[0], name="whole rim")]
    names = [s.name for s in stretches]
    found = []
    for k, one in enumerate(stretches):
        same = names.count(one.name)
        number = f" {names[: k + 1].count(one.name)}" if same > 1 else ""
        found.append(replace(one, name=f"{one.name} rim{number}"))
    return found


def with_ways(stretches: Sequence[Stretch], rim: str | Mapping[str, str] | None) -> tuple[Stretch, ...]:
    """Return stretches with what they are to be, where that is not what was proposed.

    Parameters
    ----------
    stretches : sequence of Stretch
    rim : str or mapping of str to str, optional
        One way for all that water flows across, or ways by name of stretches; "rest" stands for all others.

    Raises
    ------
    InputError
        If there is no such stretch or way.
    """
    if rim is None:
        return tuple(stretches)
    said = {s.name: rim for s in stretches if s.way == "heads"} if isinstance(rim, str) else dict(rim)
    rest = said.pop("rest", None)
    known = [s.name for s in stretches]
    for name, way in (*said.items(), *((("rest", rest),) if rest else ())):
        if name not in (*known, "rest"):
            raise InputError(f'the rim has no stretch "{name}"; it has {known}.{did_you_mean(name, known)}')
        if way not in WAYS[:3]:
            raise InputError(
                f'the {name} is "{way}"; expected one of {list(WAYS[:3])}.{did_you_mean(str(way), WAYS)}'
            )
    found = []
    for one in stretches:
        way = said.get(one.name, rest if rest and one.way == "heads" else one.way)
        if one.way == "own" and way != "own":
            raise InputError(
                f"the {one.name} is on the region's own rim, where the region knows no more than its features."
            )
        found.append(replace(one, way=way))  # type: ignore[arg-type]
    return tuple(found)
