"""Particle paths: rays in triangles, radial flow around wells, on any mesh, steady and in time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.flow import FlowResult
from inkhorn.paths.field import Field, VelocityMaker
from inkhorn.paths.result import PathResult
from inkhorn.paths.starts import Starts, starts_at_points, starts_at_wells
from inkhorn.paths.times import Window, released, windows_of
from inkhorn.progress import Progress
from inkhorn.site import Well
from inkhorn.sizes import refuse_beyond
from inkhorn.units import WithUnit, plain

__all__ = ["refuse_many_paths", "trace"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_BYTES_PER_PATH = 8000.0  # of a hundred points or so, in the tables
_BYTES_PER_END = 400.0
_POINTS = 200_000  # that a thread writes before they are put away
_CROSSINGS = 1_000_000  # sides of triangles, after which a path is given up
_PARTLY = ("chance", "pass", "end")


def refuse_many_paths(count: int, *, points: bool = True) -> None:
    """Refuse more paths than memory is allowed for.

    Raises
    ------
    InputError
        With the estimate and the limit.
    """
    each = _BYTES_PER_PATH if points else _BYTES_PER_END
    refuse_beyond("memory", count * each, f"{count:.3g} paths", "Ask for fewer.")


class _Particles:
    """The state of all particles; every array (n,)."""

    def __init__(
        self, starts: Starts, maker: VelocityMaker, release: Array, most: float, left: Array
    ) -> None:
        grid, n = maker.grid, len(starts)
        plan = starts.plan.copy()
        unknown = plan < 0
        plan[unknown] = grid.mesh.locate(starts.x[unknown], starts.y[unknown])
        lost = np.flatnonzero((plan < 0) | (maker.number[starts.layer, np.maximum(plan, 0)] < 0))
        if len(lost):
            k = int(lost[0])
            raise InputError(
                f"start {k} ({starts.name[k]}) at x={starts.x[k]:g}, y={starts.y[k]:g} lies in no cell of layer "
                f'"{grid.layer_names[starts.layer[k]]}" ({len(lost)} of {n}). Choose places inside the cells.'
            )
        origin = maker.fans.origin
        self.layer = starts.layer.astype(np.int64).copy()
        self.triangle = maker.fans.holding(plan, starts.x, starts.y)
        self.x, self.y = starts.x - origin[0], starts.y - origin[1]
        self.zeta = starts.height.astype(np.float64).copy()
        self.clock = release.astype(np.float64).copy()
        self.age = np.zeros(n)
        self.most_age = np.full(n, most)
        self.left = left
        self.status = np.zeros(n, dtype=np.int64)
        self.entered = np.full(n, -1, dtype=np.int64)
        self.where = np.full(n, -1, dtype=np.int64)
        self.count = np.zeros(n, dtype=np.int64)

    def arrays(self) -> tuple[Any, ...]:
        """All of them, in the order of the kernel."""
        return (
            self.layer, self.triangle, self.x, self.y, self.zeta, self.clock, self.age, self.most_age, self.left,
            self.status, self.entered, self.where, self.count,
        )  # fmt: skip


def trace(
    flow: FlowResult,
    start: Starts | Callable[[int], Starts] | Sequence[Any] | ArrayLike,
    *,
    backward: bool = False,
    max_time: WithUnit = 200.0 * 365.25,
    mark: WithUnit = 0.0,
    per_well: int = 24,
    release: Any = None,
    partly_taken: str = "chance",
    through_bores: bool = False,
    retardation: ArrayLike = 1.0,
    moisture: float = 0.0,
    stop_in: Any = None,
    points: bool = True,
    seed: int = 0,
    threads: int = 1,
    progress: Progress | None = None,
) -> PathResult:
    """Follow the water from wells, points, areas or wherever it enters, forward or backward, on any grid, in time.

    In every triangle of a cell the flow is that of Raviart and Thomas of the lowest order, which balances and in which
    the way is a straight ray and its time closed; around wells their radial flow is taken out first and added where a
    particle is, so it meets the bore where it stands. Up and down a particle keeps its share of the height of the water,
    beside what flows through floors and tops; the water table moves evenly over a step. Elastic storage moves no pores,
    and is no part of the velocity up and down.

    A path ends where the water leaves the aquifer (backward: entered it), in a bore, at `max_time`, or at the end of the
    run (backward: its start). Water falls from above through cells that are not full at once, unless `moisture` is given.

    Parameters
    ----------
    flow : FlowResult
        Flow with porosity.
    start : Starts, callable, sequence of Well or str, or array_like of float (n, 3)
        From `starts_of_inflow` and its like; what makes them for the step of each release; wells or their names, by
        their rates at each release; or points x, y, z [m].
    backward : bool
        Follow the water to where it came from.
    max_time : float
        Longest travel time [day].
    mark : float
        Time between marks along the paths [day]; 0 for none.
    per_well : int
        About how many particles begin at each well, shared by what each cell gives.
    release : float, date or sequence of them, optional
        When particles begin, each at every time; the start of the run if not given (backward: its end).
    partly_taken : {"chance", "pass", "end"}
        In cells that give up a part of their water inside, as to a drain under rain: by chance of the share taken, as
        flow does; pass; or end there. Wells need none of these: what they take they take where they stand.
    through_bores : bool
        Go on where a bore gives water to other layers, by chance of its share; else paths end in bores.
    retardation : float or array_like, as of `Grid.per_cell`
        How much slower than the water a dissolved species moves.
    moisture : float
        Share of the volume that water fills on its way down above the water table; 0: it falls at once.
    stop_in : array_like of bool, (n_cells,), or shapely Polygon, optional
        Cells in which paths end.
    points : bool
        Keep the points of paths; else only their ends, in memory that does not grow with their length.
    seed : int
        Of all chance.
    threads : int
        That follow particles side by side; the paths are the same.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.

    Returns
    -------
    PathResult

    Raises
    ------
    InputError
        If porosity is missing, a start lies in no cell, a well is not there or moves no water, a time lies outside the
        run, or more paths are asked for than memory is allowed for.

    References
    ----------
    Cordes, C. & Kinzelbach, W. (1992), Continuous groundwater velocity fields and path lines in linear, bilinear, and
    trilinear finite elements, Water Resources Research 28(11), 2903-2911. Mosé, R., Siegel, P., Ackerer, P. & Chavent,
    G. (1994), Application of the mixed hybrid finite element approximation in a groundwater flow model, Water Resources
    Research 30(11), 3001-3012. Dormand, J. R. & Prince, P. J. (1980), A family of embedded Runge-Kutta formulae, Journal
    of Computational and Applied Mathematics 6(1), 19-26.

    Examples
    --------
    >>> from inkhorn.model import Model, terms
    >>> from inkhorn.space import layered, rectangles
    >>> from inkhorn.flow import solve_flow
    >>> grid = layered(rectangles((0, 0, 500, 100), cell=100), [0.0, -20.0])
    >>> ends = terms.FixedHeadTerm(cells=[0, 4], head=[10.0, 8.0])
    >>> paths = trace(solve_flow(Model(grid, 5.0, porosity=0.2, terms=[ends])), [(100.0, 50.0, -10.0)])
    >>> there = paths.points["x [m]"].sub(400.0).abs().idxmin()
    >>> round(float(paths.points["time [day]"][there]), 6)  # 300 m at 5 * 0.005 / 0.2 m/day
    2400.0
    """
    max_time, mark = plain(max_time, "time", "max_time"), plain(mark, "time", "mark")
    check_positive("max_time", max_time, unit="days")
    check_nonnegative("mark", mark, unit="days")
    check_nonnegative("moisture", moisture)
    check_positive("per_well", per_well)
    check_positive("threads", threads)
    if partly_taken not in _PARTLY:
        raise InputError(f'partly_taken is "{partly_taken}"; expected one of {list(_PARTLY)}.')
    maker = VelocityMaker(flow)
    windows = windows_of(flow, backward)
    release_at = released(flow, windows, release, backward)
    starts, clock = _starts(flow, start, backward, per_well, windows, release_at, maker)
    refuse_many_paths(len(starts), points=points)
    random = np.random.default_rng([seed, 1])  # another row of numbers than starts are drawn by
    left = {"chance": random.exponential(size=len(starts)), "pass": np.full(len(starts), np.inf)}.get(
        partly_taken, np.zeros(len(starts))
    )
    particles = _Particles(starts, maker, clock, float(max_time), left)
    tracer = _Tracer(
        maker,
        particles,
        backward,
        float(mark),
        partly_taken,
        retardation,
        float(moisture),
        stop_in,
        points,
        int(threads),
        random,
    )
    if through_bores:
        tracer.through_bores = True
    for number, window in enumerate(windows):
        tracer.go_through(window, progress, (number, len(windows)))
        if not (particles.status == 0).any():
            break
    tracer.out_of_time()
    return tracer.result(starts, clock, backward)


def _starts(
    flow: FlowResult,
    start: Any,
    backward: bool,
    per_well: int,
    windows: list[Window],
    release: Array,
    maker: VelocityMaker,
) -> tuple[Starts, Array]:
    """Starts of any kind at every time of release, and these times by the clock."""
    given: Any = start if isinstance(start, Starts) or callable(start) else list(start)
    if not callable(given) and not len(given):
        raise InputError(
            "nothing to start from: `start` is empty. Give wells, their names, or points x, y, z."
        )
    if isinstance(given, Starts):
        refuse_many_paths(len(given) * len(release))
        return (given.repeated(len(release)) if len(release) > 1 else given), np.tile(release, len(given))
    wells = not callable(given) and all(isinstance(s, Well | str) for s in given)
    if not callable(given):
        refuse_many_paths(len(given) * (per_well if wells else 1) * len(release))
    parts: list[Starts] = []
    for clock in release.tolist():
        window = next((w for w in windows if w.begin <= clock < w.end), windows[-1])
        if callable(given):
            parts.append(given(window.step))
        elif wells:
            names = [s.name if isinstance(s, Well) else s for s in given]
            parts.append(
                starts_at_wells(
                    flow, names, backward=backward, per_well=per_well, step=window.step, maker=maker
                )
            )
        else:
            lasting = window.end - window.begin
            passed = (clock - window.begin) / lasting if 0.0 < lasting < np.inf else 0.0
            share = 1.0 - passed if backward else passed
            points = np.asarray(given, dtype=np.float64)
            parts.append(starts_at_points(flow, points, step=window.step, share=share, maker=maker))
    whole = parts[0]
    for more in parts[1:]:
        whole = whole + more
    whole = replace(whole, flow=whole.flow / len(release))  # so that all together stand for their mean
    return whole, np.repeat(release, [len(part) for part in parts])


class _Tracer:
    """Takes particles through the steps of a flow, and puts down where they were and where they ended."""

    def __init__(
        self, maker: VelocityMaker, particles: _Particles, backward: bool, mark: float, partly_taken: str,
        retardation: Any, moisture: float, stop_in: Any, points: bool, threads: int, random: np.random.Generator,
    ) -> None:  # fmt: skip
        grid = maker.grid
        self.maker, self.particles, self.mark, self.partly_taken = maker, particles, mark, partly_taken
        self.sign = -1.0 if backward else 1.0
        self.pores = maker.pores * grid.per_cell("retardation", retardation)
        if (self.pores <= 0.0).any():
            raise InputError("retardation times porosity is not above 0 in some cells; expected 1 or more.")
        self.moisture, self.keep, self.threads, self.random = moisture, points, threads, random
        self.stop = np.zeros(grid.n_cells, dtype=bool)
        if stop_in is not None:
            self.stop = _cells_in(grid, stop_in)
        self.through_bores = False
        self.parts: list[tuple[Any, ...]] = []
        self.reason = np.zeros(len(particles.x), dtype=np.int64)
        n = len(particles.x)
        self.term, self.entry = np.full(n, -1), np.full(n, -1)
        self.elevation = np.full(n, np.nan)
        self.begun = np.zeros(n, dtype=bool)

    def go_through(self, window: Window, progress: Progress | None, of: tuple[int, int]) -> None:
        """Follow all particles that move through a step."""
        p = self.particles
        running = (p.status == 0) & (p.clock < window.end)
        if not running.any():
            return
        field = self.maker.made(window.step)
        backward = self.sign < 0
        lasting = window.end - window.begin
        begin, end = (field.height_after, field.height) if backward else (field.height, field.height_after)
        rate = np.zeros(len(begin)) if not np.isfinite(lasting) or lasting <= 0 else (end - begin) / lasting
        lost = field.given if backward else field.taken
        stop = self.stop
        if self.partly_taken == "pass":
            lost = np.zeros(len(lost))
        elif self.partly_taken == "end":
            stop, lost = stop | (lost > 0.0), np.zeros(len(lost))
        bores = self._bores(field)
        args = (field, begin, rate, lost, stop, bores, self.maker.open_rim(field))
        cells, fans = self.maker.grid.cells, self.maker.fans
        new = np.flatnonzero(running & ~self.begun)
        self.begun[new] = True
        if self.moisture > 0.0 and not backward:
            self._fall(new, field, begin, rate, window)
        if self.keep:
            passed = p.clock[new] - window.begin
            for moment in np.unique(passed):  # the water table moves
                self._first_points(new[passed == moment], field, begin + rate * moment)
        while True:
            fresh = np.flatnonzero((p.status == 0) & (p.clock < window.end))
            if not len(fresh):
                break
            self._follow(window, args, fans, cells, progress, of)
            again = self._ended(field, window, begin, rate)
            if not again:
                break

    def _bores(self, field: Field) -> Array:
        bore = field.bore
        cosine, sine, ratio = self.maker.near_wells.ellipses(bore)
        origin = self.maker.fans.origin
        return np.column_stack(
            [
                bore.x - origin[0], bore.y - origin[1], bore.flow / (2.0 * np.pi), bore.radius, cosine, sine, ratio,
            ]
        ).reshape(-1, 7)  # fmt: skip

    def _first_points(self, who: Index, field: Field | None, height: Array) -> None:
        """Put down where some particles begin; at what speed, if that is known."""
        p, fans = self.particles, self.maker.fans
        layer, triangle = p.layer[who], p.triangle[who]
        cell = self.maker.number[layer, fans.cell[triangle]]
        water = height[cell]
        place = np.column_stack(
            [p.x[who], p.y[who], self.maker.grid.cells.bottom[cell] + p.zeta[who] * water]
        )
        speed = np.zeros(len(who))
        if field is not None:
            prism = layer * len(fans) + triangle
            arm = place[:, :2] - fans.corner[triangle, 0]
            flow = field.value[prism] + field.slope[prism][:, None] * arm
            speed = np.hypot(flow[:, 0], flow[:, 1]) / (self.pores[cell] * water)
        self.parts.append((who, p.age[who].copy(), place, cell, speed, np.zeros(len(who), dtype=bool)))

    def _fall(self, who: Index, field: Field, height: Array, rate: Array, window: Window) -> None:
        """Let what comes in by the ground fall to the water table, as `moisture` says."""
        p, fans, cells = self.particles, self.maker.fans, self.maker.grid.cells
        plan = fans.cell[p.triangle[who]]
        layer = p.layer[who]
        falls = (p.zeta[who] == 1.0) & (self.maker.above[layer, plan] < 0) & (field.high[layer, plan] < 0.0)
        who, plan, layer = who[falls], plan[falls], layer[falls]
        cell = self.maker.number[layer, plan]
        water = height[cell] + rate[cell] * (p.clock[who] - window.begin)
        dry = np.maximum(cells.thickness[cell] - water, 0.0)
        lasts = self.moisture * dry / -field.high[layer, plan]
        p.age[who] += lasts
        p.clock[who] += lasts

    def _follow(
        self,
        window: Window,
        args: tuple[Any, ...],
        fans: Any,
        cells: Any,
        progress: Progress | None,
        of: tuple[int, int],
    ) -> None:
        """Let all threads follow their share of the particles to the end of the step."""
        from concurrent.futures import ThreadPoolExecutor

        n = len(self.particles.x)
        edges = np.linspace(0, n, self.threads + 1).astype(int)
        shares = [(int(a), int(b)) for a, b in pairwise(edges) if b > a]
        if len(shares) == 1:
            self.parts += list(self._share(shares[0], window, args, fans, cells, progress, of))
            return
        with ThreadPoolExecutor(len(shares)) as pool:
            work = [pool.submit(self._whole_share, s, window, args, fans, cells, of) for s in shares]
            for one in work:
                self.parts += one.result()

    def _whole_share(self, *args: Any) -> list[tuple[Any, ...]]:
        share, window, made, fans, cells, of = args
        return list(self._share(share, window, made, fans, cells, None, of))

    def _share(
        self, share: tuple[int, int], window: Window, args: tuple[Any, ...], fans: Any, cells: Any,
        progress: Progress | None, of: tuple[int, int],
    ) -> Iterator[tuple[Any, ...]]:  # fmt: skip
        from inkhorn.paths import _kernels

        follow: Any = _kernels.follow

        field, begin, rate, lost, stop, bores, open_rim = args
        maker, p = self.maker, self.particles
        room = _POINTS if self.keep else 8
        out = (
            np.empty(room, dtype=np.int64), np.empty(room), np.empty((room, 3)), np.empty(room, dtype=np.int64),
            np.empty(room), np.empty(room, dtype=bool),
        )  # fmt: skip
        at, (first, last) = share[0], share
        chunk = max((last - first) // 50, 200)
        while at < last:
            until = min(at + chunk, last)
            written, at = follow(
                at, until, window.begin, window.end, self.sign, self.mark, _CROSSINGS, *p.arrays(), fans.corner,
                fans.cell, fans.beyond, fans.back, fans.rim, maker.number, maker.above, maker.below, open_rim,
                field.value, field.slope, field.low, field.high, begin, rate, self.pores, lost, stop, field.near,
                field.around, bores, cells.bottom, cells.top, self.moisture, *out, self.keep,
            )  # fmt: skip
            if written:
                yield tuple(v[:written].copy() for v in out)
            if progress is not None:
                progress("following paths", (of[0] + (at - first) / (last - first)) / of[1])

    def _ended(self, field: Field, window: Window, height: Array, rate: Array) -> bool:
        """Name what took the particles that ended in this step; whether some go on through bores."""
        from inkhorn.paths import _kernels as k

        p, maker = self.particles, self.maker
        new = np.flatnonzero((p.status != k.RUNNING) & (self.reason == 0))
        self.reason[new] = p.status[new]
        fans = maker.fans
        cell = maker.number[p.layer[new], fans.cell[p.triangle[new]]]
        for status, name in ((k.TOP, "top"), (k.FLOOR, "floor"), (k.INSIDE, "inside"), (k.RIM, "side")):
            mine = p.status[new] == status
            if not mine.any():
                continue
            at = cell[mine]
            if name == "side":
                edge = fans.rim[p.triangle[new[mine]], p.where[new[mine]]]
                at = maker.outer_face(p.layer[new[mine]], edge)
            self._choose(new[mine], at, field, name)
        stopped = new[p.status[new] == k.STOPPED]
        ended = stopped[~self.stop[maker.number[p.layer[stopped], fans.cell[p.triangle[stopped]]]]]
        self.reason[ended] = k.INSIDE
        self._choose(ended, maker.number[p.layer[ended], fans.cell[p.triangle[ended]]], field, "inside")
        in_bore = new[p.status[new] == k.BORE]
        self.term[in_bore], self.entry[in_bore] = (
            field.bore.term[p.where[in_bore]],
            field.bore.entry[p.where[in_bore]],
        )
        self._put_down(new, height, rate, window)
        if self.through_bores and len(in_bore):
            return self._on_through_bores(in_bore, field)
        return False

    def _put_down(self, who: Index, height: Array, rate: Array, window: Window) -> None:
        """Keep at which elevation some particles are now."""
        p = self.particles
        cell = self.maker.number[p.layer[who], self.maker.fans.cell[p.triangle[who]]]
        water = np.maximum(height[cell] + rate[cell] * (p.clock[who] - window.begin), 0.0)
        self.elevation[who] = self.maker.grid.cells.bottom[cell] + p.zeta[who] * water

    def _choose(self, who: Index, at: Index, field: Field, name: str) -> None:
        """Choose the entry that took (or brought) each particle, by chance of its flow."""
        if not len(who):
            return
        passings = [field.through[name]] + (
            [field.through["top"], field.through["floor"]] if name == "inside" else []
        )
        where = np.concatenate([q.at for q in passings])
        water = np.concatenate([np.maximum(-self.sign * q.flow, 0.0) for q in passings])
        term, entry = (np.concatenate([getattr(q, v) for q in passings]) for v in ("term", "entry"))
        some = np.flatnonzero(water > 0.0)
        if not len(some):
            return
        order = some[np.argsort(where[some], kind="stable")]
        place = where[order]
        along = np.concatenate([[0.0], np.cumsum(water[order])])
        first, last = np.searchsorted(place, at), np.searchsorted(place, at, side="right")
        there = last > first
        low, high = along[first], along[last]
        pick = low + self.random.uniform(size=len(who)) * (high - low)
        chosen = np.clip(np.searchsorted(along, pick, side="right") - 1, first, np.maximum(last - 1, first))
        chosen = order[np.minimum(chosen, len(order) - 1)]
        self.term[who[there]], self.entry[who[there]] = term[chosen[there]], entry[chosen[there]]

    def _on_through_bores(self, who: Index, field: Field) -> bool:
        """Let those that met a bore go on where it gives water to other layers, by chance of that share."""
        p, maker, bore = self.particles, self.maker, field.bore
        fans, model = maker.fans, maker.flow.model
        whose = [(t, model.terms[t].feature_index[e]) for t, e in zip(bore.term, bore.entry, strict=True)]
        feature = np.unique(np.array(whose), axis=0, return_inverse=True)[1].ravel()
        on = False
        for one in np.unique(feature[p.where[who]]):
            mine = who[feature[p.where[who]] == one]
            own = np.flatnonzero(feature == one)
            way = self.sign * bore.flow[own]
            gives = own[way > 0.0]
            comes, goes = -way[way < 0.0].sum(), way[way > 0.0].sum()
            if not len(gives) or comes <= 0.0:
                continue
            goes_on = mine[self.random.uniform(size=len(mine)) < goes / comes]
            if not len(goes_on):
                continue
            water = np.abs(bore.flow[gives])
            to = gives[self.random.choice(len(gives), size=len(goes_on), p=water / water.sum())]
            angle = self.random.uniform(0.0, 2.0 * np.pi, len(goes_on))
            reach = bore.radius[to] * (1.0 + 1e-6)
            x, y = bore.x[to] + reach * np.cos(angle), bore.y[to] + reach * np.sin(angle)
            place = np.column_stack([x, y])
            plan = maker.plan_at(bore.cell[to], place)
            p.layer[goes_on] = maker.grid.cells.layer[bore.cell[to]]
            p.triangle[goes_on] = fans.holding(plan, x, y)
            p.x[goes_on], p.y[goes_on] = x - fans.origin[0], y - fans.origin[1]
            p.zeta[goes_on] = self.random.uniform(size=len(goes_on))
            p.status[goes_on], p.entered[goes_on], p.where[goes_on] = 0, -1, -1
            self.reason[goes_on], self.term[goes_on], self.entry[goes_on] = 0, -1, -1
            on = True
        return on

    def out_of_time(self) -> None:
        """Those that still move have come to the end of the run."""
        still = np.flatnonzero(self.reason == 0)
        self.reason[still] = 10
        p, maker = self.particles, self.maker
        last = 0 if self.sign < 0 else len(maker.flow.steps) - 1
        height = maker.water_height(last, 0.0 if self.sign < 0 else 1.0)
        cell = maker.number[p.layer[still], maker.fans.cell[p.triangle[still]]]
        self.elevation[still] = maker.grid.cells.bottom[cell] + p.zeta[still] * height[cell]
        idle = np.flatnonzero(~self.begun)
        if self.keep and len(idle):
            self._first_points(idle, None, height)

    def result(self, starts: Starts, clock: Array, backward: bool) -> PathResult:
        """Put the tables together."""
        p, maker = self.particles, self.maker
        fans = maker.fans
        cell = maker.number[p.layer, fans.cell[p.triangle]]
        place = np.column_stack([p.x + fans.origin[0], p.y + fans.origin[1], self.elevation])
        first = maker.number[starts.layer, fans.cell[fans.holding(self._plans(starts), starts.x, starts.y)]]
        return PathResult.of(
            maker.flow, starts, clock * self.sign, first, self.reason, self.term, self.entry, p.age, place, cell,
            self.parts, fans.origin, backward, self.mark,
        )  # fmt: skip

    def _plans(self, starts: Starts) -> Index:
        plan = starts.plan.copy()
        unknown = plan < 0
        plan[unknown] = self.maker.grid.mesh.locate(starts.x[unknown], starts.y[unknown])
        return plan


def _cells_in(grid: Any, where: Any) -> NDArray[np.bool_]:
    """Which cells a polygon holds the centres of, or truth values as given."""
    import shapely

    if isinstance(where, shapely.Geometry):
        return np.asarray(shapely.contains_xy(where, grid.cells.x, grid.cells.y))
    found = np.asarray(where, dtype=bool)
    if found.shape != (grid.n_cells,):
        raise InputError(f"stop_in has the shape {found.shape}; expected a polygon, or ({grid.n_cells},).")
    return found
