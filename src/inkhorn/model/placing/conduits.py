"""Placing conduits: lines cut at vertices, junctions, crossings, springs and the edges of cells, and joined there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from inkhorn.conduits.laws import LAMINAR_UP_TO, TURBULENT_FROM, VISCOSITY
from inkhorn.errors import InputError, did_you_mean, gathering
from inkhorn.model.placing.footprints import Footprint
from inkhorn.model.placing.plan import Array, Index, Plan, Spot, places
from inkhorn.model.placing.traced import Traced, plain
from inkhorn.model.terms import ConduitTerm
from inkhorn.site import Conduit, ConduitSpring, Feature, QuickRecharge, Sinkhole, along_line

__all__: list[str] = []

_NEAR = 0.01  # m, within which lines meet
_SHORT = 1e-6  # of a line: shorter pieces are none
_ALMOST = 5.0  # m: ends so near another line that do not meet it are told


@dataclass(eq=False)
class _Course:
    """The course of one conduit: where it is cut, and the node at each of these places."""

    feature: Conduit
    cuts: list[float] = field(default_factory=list)  # m along the line

    def __post_init__(self) -> None:
        self.line, self.length = self.feature.shape, float(self.feature.shape.length)
        self.cuts += [0.0, self.length]

    def point(self, along: float) -> Any:
        return self.line.interpolate(along)

    def elevation(self, along: Any) -> Array:
        """Of the axis at places along it [m]."""
        fraction = np.atleast_1d(np.asarray(along, dtype=np.float64)) / self.length
        return along_line(self.line, self.feature.elevation, fraction)  # type: ignore[arg-type]  # no series

    def diameter(self, along: float) -> float:
        given = self.feature.diameter
        if given is not None:
            return float(along_line(self.line, given, np.array([along / self.length]))[0])  # type: ignore[arg-type]
        area = along_line(self.line, self.feature.cross_section, np.array([along / self.length]))  # type: ignore[arg-type]
        return float(np.sqrt(4.0 * area[0] / np.pi))


class _Joining:
    """Which cuts of which lines are one node."""

    def __init__(self, courses: Sequence[_Course]) -> None:
        self.courses = courses
        self.pairs: list[tuple[tuple[int, float], tuple[int, float]]] = []

    def join(self, one: tuple[int, float], other: tuple[int, float]) -> None:
        for line, along in (one, other):
            self.courses[line].cuts.append(along)
        self.pairs.append((one, other))


def _meetings(courses: Sequence[_Course], joining: _Joining) -> list[str]:
    """Join lines where ends meet, and where they cross at one level; return words for crossings apart."""
    import shapely

    lines, said = np.array([c.line for c in courses], dtype=object), list[str]()
    if len(lines) < 2:
        return said
    tree = shapely.STRtree(lines)
    one, other = tree.query(lines, predicate="dwithin", distance=_NEAR)
    for a, b in zip(one.tolist(), other.tolist(), strict=True):
        if a == b:
            continue
        for end in (0.0, courses[a].length):  # an end of the one on the other
            point = courses[a].point(end)
            if point.distance(courses[b].line) <= _NEAR:
                _touch(courses, joining, a, end, b, float(courses[b].line.project(point)), said, must=True)
        if a > b:
            continue
        common = shapely.get_parts(shapely.intersection(lines[a], lines[b]))
        for part in common:
            if part.geom_type != "Point":
                raise InputError(
                    f"{courses[a].feature.where} runs along {courses[b].feature.where} over {part.length:.3g} m. Draw "
                    "that stretch once."
                )
            along = float(courses[a].line.project(part)), float(courses[b].line.project(part))
            inner = [_NEAR < s < courses[k].length - _NEAR for s, k in zip(along, (a, b), strict=True)]
            if all(inner):
                _touch(courses, joining, a, along[0], b, along[1], said, must=False)
    return said


def _touch(
    courses: Sequence[_Course],
    joining: _Joining,
    a: int,
    s: float,
    b: int,
    t: float,
    said: list[str],
    *,
    must: bool,
) -> None:
    """Join two lines where they meet in plan, if their sections meet upright, too."""
    high, low = courses[a].elevation(s)[0], courses[b].elevation(t)[0]
    apart, reach = abs(high - low), 0.5 * (courses[a].diameter(s) + courses[b].diameter(t))
    if apart <= reach + 1e-9:
        joining.join((a, s), (b, t))
        return
    names = f'"{courses[a].feature.name}" and "{courses[b].feature.name}"'
    if must:
        raise InputError(
            f"{courses[a].feature.where} ends at {courses[b].feature.where} in plan, but {apart:.3g} m above or below "
            "it. Check the elevations of both."
        )
    said.append(f"{names} cross {apart:.3g} m apart, and are not joined there")


def _attached(courses: Sequence[_Course], feature: ConduitSpring | Sinkhole) -> tuple[int, float, float]:
    """The conduit nearest to a point, where along it, and how far away."""
    import shapely

    away = shapely.distance(np.array([c.line for c in courses], dtype=object), feature.shape)
    nearest = int(np.argmin(away))
    if away[nearest] > feature.reach:
        raise InputError(
            f"{feature.where} lies {away[nearest]:.4g} m from the nearest conduit, "
            f'"{courses[nearest].feature.name}"; its reach is {feature.reach:g} m. Move it, or give a larger `reach`.'
        )
    course = courses[nearest]
    along = float(course.line.project(feature.shape))
    for end in (0.0, course.length):  # an end that is as near
        if course.point(end).distance(feature.shape) <= away[nearest] + _NEAR:
            along = end
    return nearest, along, float(away[nearest])


def _cut_by_cells(course: _Course, plan: Plan) -> None:
    """Cut at vertices, and at the sides of cells."""
    import shapely

    points = shapely.get_coordinates(course.line)
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    course.cuts += run[1:-1].tolist()
    cells = plan.near(course.line)
    sides = shapely.intersection(course.line, shapely.boundary(plan.meeting.outlines(cells)))
    met = shapely.get_coordinates(sides)
    if len(met):
        course.cuts += shapely.line_locate_point(course.line, shapely.points(met)).tolist()


def _cut_by_layers(course: _Course, plan: Plan) -> None:
    """Cut where the axis passes from layer to layer, and refuse what lies in none."""
    cuts = np.unique(np.asarray(course.cuts))
    middle = 0.5 * (cuts[1:] + cuts[:-1])
    column = _columns(course, plan, middle)
    z = course.elevation(cuts)
    of, number = plan.grid.cells, plan.grid.cell_number
    for k, plan_cell in enumerate(column.tolist()):
        own = number[:, plan_cell]
        levels = of.bottom[own[own >= 0]]
        low, high = sorted((z[k], z[k + 1]))
        for level in levels[(levels > low + 1e-9) & (levels < high - 1e-9)].tolist():
            share = (level - z[k]) / (z[k + 1] - z[k])
            course.cuts.append(float(cuts[k] + share * (cuts[k + 1] - cuts[k])))


def _columns(course: _Course, plan: Plan, along: Array) -> Index:
    """The plan cell at places along a line."""
    import shapely

    spots = shapely.get_coordinates(shapely.line_interpolate_point(course.line, along))
    column = plan.grid.mesh.locate(*spots.T)
    there = (column >= 0) & (plan.grid.uppermost[np.maximum(column, 0)] >= 0)
    if not there.all():
        x, y = spots[np.flatnonzero(~there)[0]]
        raise InputError(
            f"{course.feature.where} leaves the grid at x={x:.6g}, y={y:.6g}. Cut it there, or make the grid larger."
        )
    return np.asarray(column)


def _cells_along(course: _Course, plan: Plan, along: Array) -> Index:
    """The cell that holds the axis at places along a line."""
    column, z = _columns(course, plan, along), course.elevation(along)
    of, number = plan.grid.cells, plan.grid.cell_number
    cells = np.full(len(along), -1)
    for row in range(len(number)):
        own = number[row, column]
        holds = (own >= 0) & (of.bottom[own] <= z + 1e-9) & (of.top[own] >= z - 1e-9) & (cells < 0)
        cells[holds] = own[holds]
    if (cells < 0).any():
        k = int(np.flatnonzero(cells < 0)[0])
        top = of.top[plan.grid.uppermost[column[k]]]
        above = z[k] > top
        where = f"{z[k] - top:.3g} m above the ground" if above else "below all layers"
        place = course.point(float(along[k]))
        raise InputError(
            f"{course.feature.where}: its axis is at {z[k]:.5g} m at x={place.x:.6g}, y={place.y:.6g}, {where}. Check "
            "its elevation, its unit, and that it is no depth."
        )
    return cells


@places(ConduitSpring, None)
@places(Sinkhole, None)
@places(QuickRecharge, None)
def _with_conduits(features: list[Any], plan: Plan) -> list[Spot]:
    """Nothing: they are placed with the conduits."""
    if features and not any(isinstance(f, Conduit) for f in plan.features):
        raise InputError(
            f"{features[0].where} belongs to conduits, and there are none. Add some, or leave it out."
        )
    return []


@places(Conduit, ConduitTerm, last=True)
def place_conduits(features: list[Conduit], plan: Plan) -> list[Spot]:
    """One network of all conduits, with the springs, sinkholes and quick recharge of the site."""
    if not features:
        return []
    courses = [_Course(f) for f in features]
    joining = _Joining(courses)
    apart = _meetings(courses, joining)
    beside: list[Any] = [f for f in plan.features if isinstance(f, ConduitSpring | Sinkhole)]
    spots_at: dict[str, tuple[int, float, float]] = {}
    with gathering() as tried:
        for one in beside:
            found = tried(_attached, courses, one)
            if found is not None:
                spots_at[one.name] = found
                courses[found[0]].cuts.append(found[1])
    with gathering() as tried:
        for course in courses:
            tried(_cut_by_cells, course, plan)
            tried(_cut_by_layers, course, plan)
    made = _Made(courses, joining, plan)
    quick = [f for f in plan.features if isinstance(f, QuickRecharge)]
    spots = [made.conduit(k) for k in range(len(courses))]
    notes = [*made.almost(), *apart]
    if notes:
        spots[0] = _noted(spots[0], notes)
    spots += [made.attached(one, len(courses) + k, *spots_at[one.name]) for k, one in enumerate(beside)]
    number = len(spots)
    sinks = {f.name: made.node(*spots_at[f.name][:2]) for f in beside if isinstance(f, Sinkhole)}
    spots += [made.quick(f, number + k, sinks) for k, f in enumerate(quick)]
    return spots


def _noted(spot: Spot, notes: list[str]) -> Spot:
    from dataclasses import replace

    return replace(spot, note="; ".join([n for n in (spot.note, *notes[:3]) if n] + ["…"] * (len(notes) > 3)))


class _Made:
    """The network: nodes, pipes and their cells."""

    def __init__(self, courses: Sequence[_Course], joining: _Joining, plan: Plan) -> None:
        import shapely
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import connected_components

        self.courses, self.plan = courses, plan
        self.along: list[Array] = []
        first = [0]
        for course in courses:
            cuts = np.sort(np.clip(np.asarray(course.cuts), 0.0, course.length))
            kept = np.concatenate([[True], np.diff(cuts) > max(_SHORT * course.length, _SHORT)])
            cuts = cuts[kept]
            cuts[-1] = course.length
            # the middle of each piece: there it passes water to the cell
            self.along.append(np.sort(np.concatenate([cuts, 0.5 * (cuts[1:] + cuts[:-1])])))
            first.append(first[-1] + len(self.along[-1]))
        self.begin = first
        one, other = (
            np.array([self._place(*pair[k]) for pair in joining.pairs], dtype=np.int64) for k in (0, 1)
        )
        size = (first[-1], first[-1])
        count, group = connected_components(
            coo_array((np.ones(len(one)), (one, other)), shape=size), directed=False
        )
        self.number, self.n_nodes = group.astype(np.int64), int(count)
        points = np.concatenate(
            [
                shapely.get_coordinates(shapely.line_interpolate_point(c.line, s))
                for c, s in zip(courses, self.along, strict=True)
            ]
        )
        self.xy = np.zeros((count, 2))
        self.xy[group[::-1]] = points[::-1]
        with gathering() as tried:
            for course, cuts in zip(courses, self.along, strict=True):
                tried(_cells_along, course, plan, 0.5 * (cuts[1:] + cuts[:-1]))
        self.cells = [
            _cells_along(c, plan, 0.5 * (s[1:] + s[:-1])) for c, s in zip(courses, self.along, strict=True)
        ]

    def _place(self, line: int, along: float) -> int:
        return self.begin[line] + int(np.argmin(np.abs(self.along[line] - along)))

    def node(self, line: int, along: float) -> int:
        """The node at a place along a line."""
        return int(self.number[self._place(line, along)])

    def almost(self) -> list[str]:
        """Say which ends nearly meet another line, and do not."""
        import shapely

        lines, said = np.array([c.line for c in self.courses], dtype=object), []
        degree = np.bincount(np.concatenate(self._ends()), minlength=self.n_nodes)
        for k, course in enumerate(self.courses):
            for end in (0.0, course.length):
                if degree[self.node(k, end)] > 1:
                    continue
                away = shapely.distance(lines, course.point(end))
                away[k] = np.inf
                if len(away) > 1 and away.min() <= _ALMOST:
                    other = self.courses[int(away.argmin())].feature.name
                    said.append(
                        f'an end of "{course.feature.name}" lies {away.min():.3g} m from "{other}", not joined'
                    )
        return said

    def _ends(self) -> tuple[Index, Index]:
        """First and second node of every pipe."""
        one = [self.number[b : b + len(s) - 1] for b, s in zip(self.begin, self.along, strict=False)]
        two = [self.number[b + 1 : b + len(s)] for b, s in zip(self.begin, self.along, strict=False)]
        return np.concatenate(one), np.concatenate(two)

    def conduit(self, k: int) -> Spot:
        """One conduit: its pipes."""
        feature, cuts, cells, plan = self.courses[k].feature, self.along[k], self.cells[k], self.plan
        middle, drawn = 0.5 * (cuts[1:] + cuts[:-1]), np.diff(cuts)
        of = plan.grid.cells.plan_cell[cells]

        def at(places: Array) -> Footprint:
            return Footprint(feature, of, drawn, places / self.courses[k].length)

        if feature.diameter is not None:
            diameter = plan.value(feature, "diameter", at(middle))
        else:
            diameter = (4.0 / np.pi * plan.value(feature, "cross_section", at(middle))).sqrt()
        beds = [plan.value(feature, "elevation", at(s)) - 0.5 * diameter for s in (cuts[:-1], cuts[1:])]
        begin, n = self.begin[k], len(cuts)
        ends = self.number[begin : begin + n - 1], self.number[begin + 1 : begin + n]
        values = {
            **_alone(plan, feature),
            "diameter": diameter,
            "length": plan.value(feature, "winding") * drawn,
            "roughness": plan.value(feature, "roughness", at(middle)),
            "exchange": plan.value(feature, "exchange", at(middle)),
            "bed_first": beds[0],
            "bed_second": beds[1],
            "viscosity": plan.value(feature, "viscosity"),
        }
        nodes = self.xy if k == 0 else np.empty((0, 2))  # all of them stand with the first
        layers = [plan.grid.layer_names[i] for i in np.unique(plan.grid.cells.layer[cells])]
        return Spot(
            feature,
            cells,
            values,
            float(plain(values["length"]).sum()),
            "m",
            0.0,
            f"{n - 1} pipes in {', '.join(layers)}",
            where=_where(ends=ends, nodes=nodes, limits=(feature.laminar_up_to, feature.turbulent_from)),
            met=self.courses[k].length,
        )

    def attached(
        self, feature: ConduitSpring | Sinkhole, number: int, line: int, along: float, away: float
    ) -> Spot:
        """A spring or a sinkhole, at its node."""
        plan, node = self.plan, self.node(line, along)
        values = _alone(plan, feature)
        total, mean = 0.0, ""
        if isinstance(feature, ConduitSpring):
            values["level"] = plan.value(feature, "level")
        else:
            values["inflow"] = plan.value(feature, "inflow")
            total, mean = plan.over_time(plain(values["inflow"])[..., 0])
            if feature.shaft_radius is not None:
                radius = plan.value(feature, "shaft_radius")
                values["shaft_area"] = np.pi * radius * radius
        name = self.courses[line].feature.name
        note = f'at conduit "{name}"' + (f", {away:.3g} m away" if away > _NEAR else "")
        source = isinstance(feature, Sinkhole)
        return Spot(
            feature, np.empty(0, np.int64), values, total, f"m³/day in{mean}" if source else "", 0.0, note,
            where=_where(node=float(node), sources=[node] if source else [], number=number), belongs=True,
        )  # fmt: skip

    def quick(self, feature: QuickRecharge, number: int, sinks: dict[str, int]) -> Spot:
        """Water of a catchment: into a sinkhole, or into all conduits below."""
        plan, values = self.plan, _alone(self.plan, feature)
        if feature.rate is not None:
            values["inflow"] = plan.value(feature, "rate") * float(feature.shape.area)
        else:
            parts = plan.diverted.get(feature.name, [])
            if not parts:
                raise InputError(
                    f"{feature.where} takes a share of the recharge, and none falls there. Check its shape."
                )
            water = parts[0]
            for more in parts[1:]:
                water = water + more
            values["inflow"] = water
        if feature.sinkhole:
            if feature.sinkhole not in sinks:
                raise InputError(
                    f'{feature.where}: there is no sinkhole "{feature.sinkhole}"; expected one of {list(sinks)}.'
                    f"{did_you_mean(feature.sinkhole, list(sinks))}"
                )
            nodes, shares, note = [sinks[feature.sinkhole]], [1.0], f'to sinkhole "{feature.sinkhole}"'
        else:
            nodes, shares = self._below(feature)
            note = f"to {len(nodes)} nodes of the conduits below"
        total, mean = plan.over_time(plain(values["inflow"])[..., 0])
        return Spot(
            feature, np.empty(0, np.int64), values, total, f"m³/day in{mean}", 0.0, note,
            where=_where(sources=nodes, shares=shares, number=number), belongs=True,
        )  # fmt: skip

    def _below(self, feature: QuickRecharge) -> tuple[list[int], list[float]]:
        """Nodes below a polygon, and the share of each by the length of the pipes there."""
        import shapely

        weight = np.zeros(self.n_nodes)
        for k, course in enumerate(self.courses):
            cuts = self.along[k]
            spots = shapely.get_coordinates(
                shapely.line_interpolate_point(course.line, 0.5 * (cuts[1:] + cuts[:-1]))
            )
            length = np.where(shapely.contains_xy(feature.shape, *spots.T), np.diff(cuts), 0.0)
            ends = self.number[self.begin[k] :][: len(cuts)]
            np.add.at(weight, ends[:-1], 0.5 * length)
            np.add.at(weight, ends[1:], 0.5 * length)
        nodes = np.flatnonzero(weight > 0.0)
        if not len(nodes):
            raise InputError(
                f"{feature.where} goes to the conduits below it, and there are none. Name a `sinkhole`, or "
                "check its shape."
            )
        return nodes.tolist(), (weight[nodes] / weight.sum()).tolist()


def _alone(plan: Plan, feature: Feature) -> dict[str, Any]:
    """Inputs of the term for a feature that says nothing of them."""
    none = Traced(np.empty(0))
    links = ("diameter", "length", "roughness", "exchange", "bed_first", "bed_second")
    return {
        **dict.fromkeys(links, none),
        "inflow": Traced(np.zeros(1)),
        "level": Traced(np.full(1, np.inf)),
        "shaft_area": Traced(np.zeros(1)),
        "viscosity": Traced(np.full(1, VISCOSITY)),
    }


def _where(
    ends: Any = ((), ()), nodes: Any = None, node: float = np.nan, sources: Any = (), shares: Any = None,
    number: int = 0, limits: tuple[float, float] = (LAMINAR_UP_TO, TURBULENT_FROM),
) -> dict[str, Array]:  # fmt: skip
    """Arrays of the term that say where a feature is."""
    places = np.empty((0, 2)) if nodes is None else nodes
    return {
        "first": np.asarray(ends[0], dtype=np.float64),
        "second": np.asarray(ends[1], dtype=np.float64),
        "wall_end": np.asarray(
            (np.arange(len(ends[0])) + 1) % 2, dtype=np.float64
        ),  # where both halves of a piece meet
        "x": places[:, 0],
        "y": places[:, 1],
        "at_node": np.array([node]),
        "laminar_up_to": np.array([limits[0]]),
        "turbulent_from": np.array([limits[1]]),
        "source_node": np.asarray(sources, dtype=np.float64),
        "source_feature": np.full(len(sources), float(number)),
        "source_share": np.ones(len(sources)) if shares is None else np.asarray(shares),
    }
