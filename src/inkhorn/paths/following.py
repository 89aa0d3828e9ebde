"""Particles on their way through the steps of a flow."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow import NetworkPassing, conduits_of
from inkhorn.paths import fates
from inkhorn.paths.field import Field, VelocityMaker
from inkhorn.paths.pipes import InPipes
from inkhorn.paths.result import PathResult
from inkhorn.paths.starts import Starts
from inkhorn.paths.starts_of_flow import strewn
from inkhorn.paths.times import Window
from inkhorn.progress import Progress

__all__ = ["Particles", "Tracer"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_POINTS = 200_000  # that a thread writes before they are put away
_CROSSINGS = 1_000_000  # sides of triangles, after which a path is given up


class Particles:
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


class Tracer:
    """Takes particles through the steps of a flow, and puts down where they were and where they ended."""

    def __init__(
        self, maker: VelocityMaker, particles: Particles, starts: Starts, backward: bool, mark: float, partly_taken: str,
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
        term = conduits_of(maker.flow.model)
        origin = maker.fans.origin
        self.pipes = None if term is None else InPipes(term, len(particles.x), backward, self.stop, origin)
        self.parts: list[tuple[Any, ...]] = []
        self.reason = np.zeros(len(particles.x), dtype=np.int64)
        n = len(particles.x)
        self.term, self.feature = np.full(n, -1), np.full(n, -1)
        self.elevation = np.full(n, np.nan)
        self.begun = np.zeros(n, dtype=bool)
        inside = np.flatnonzero(starts.node >= 0)
        if len(inside):
            if self.pipes is None:
                raise InputError("starts are in conduits, but the model has none.")
            self.pipes.enter_at(inside, starts.node[inside])
            particles.status[inside] = fates.IN_PIPES

    def go_through(self, window: Window, progress: Progress | None, of: tuple[int, int]) -> None:
        """Follow all particles that move through a step."""
        p = self.particles
        moving = (p.status == fates.RUNNING) | (p.status == fates.IN_PIPES)
        running = moving & (p.clock < window.end)
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
        args = (field, begin, rate, lost, stop, self._sources(field), self.maker.open_rim(field))
        network = None if self.pipes is None else self.maker.network(window.step)
        cells, fans = self.maker.grid.cells, self.maker.fans
        new = np.flatnonzero(running & ~self.begun)
        self.begun[new] = True
        new = self._begun_in_pipes(new, network)
        if self.moisture > 0.0 and not backward:
            self._fall(new, field, begin, rate, window)
        if self.keep:
            passed = p.clock[new] - window.begin
            for moment in np.unique(passed):  # the water table moves
                self._first_points(new[passed == moment], field, begin + rate * moment)
        while True:
            in_time = p.clock < window.end
            if ((p.status == fates.RUNNING) & in_time).any():
                self._follow(window, args, fans, cells, progress, of)
                self._ended(field, network, window, begin, rate)
            elif ((p.status == fates.IN_PIPES) & in_time).any():
                assert network is not None  # it was entered
                self._through_pipes(network, window)
            else:
                break

    def _sources(self, field: Field) -> Array:
        """Wells and their images as the kernel has them, (n, 7)."""
        one, origin = field.sources, self.maker.fans.origin
        moved = one._replace(x=one.x - origin[0], y=one.y - origin[1], flow=one.flow / (2.0 * np.pi))
        return np.column_stack(moved).reshape(-1, 7)

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

        field, begin, rate, lost, stop, sources, open_rim = args
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
                field.around, sources, cells.bottom, cells.top, self.moisture, *out, self.keep,
            )  # fmt: skip
            if written:
                yield tuple(v[:written].copy() for v in out)
            if progress is not None:
                progress("following paths", (of[0] + (at - first) / (last - first)) / of[1])

    def _ended(
        self, field: Field, network: NetworkPassing | None, window: Window, height: Array, rate: Array
    ) -> None:
        """Name what took the particles that ended in this step; some go on through bores and conduits."""
        p, maker = self.particles, self.maker
        new = np.flatnonzero((p.status != fates.RUNNING) & (p.status != fates.IN_PIPES) & (self.reason == 0))
        self.reason[new] = p.status[new]
        fans = maker.fans
        cell = maker.number[p.layer[new], fans.cell[p.triangle[new]]]
        kinds = ((fates.TOP, "top"), (fates.FLOOR, "floor"), (fates.INSIDE, "inside"), (fates.RIM, "side"))
        for status, name in kinds:
            mine = p.status[new] == status
            if not mine.any():
                continue
            at = cell[mine]
            if name == "side":
                edge = fans.rim[p.triangle[new[mine]], p.where[new[mine]]]
                at = maker.outer_face(p.layer[new[mine]], edge)
            entry = self._choose(new[mine], at, field, name)
            if name == "inside" and network is not None:
                taken = self.term[new[mine]] == network.term
                self._into_pipes(new[mine][taken], entry[taken], network)
        new = new[self.reason[new] != 0]
        stopped = new[p.status[new] == fates.STOPPED]
        ended = stopped[~self.stop[maker.number[p.layer[stopped], fans.cell[p.triangle[stopped]]]]]
        self.reason[ended] = fates.INSIDE
        self._choose(ended, maker.number[p.layer[ended], fans.cell[p.triangle[ended]]], field, "inside")
        in_bore = new[p.status[new] == fates.BORE]
        bore = p.where[in_bore]
        self._name(in_bore, field.bore.term[bore], field.bore.entry[bore])
        self._put_down(new, height, rate, window)
        if self.through_bores and len(in_bore):
            self._on_through_bores(in_bore, field)

    def _name(self, who: Index, term: Index, entry: Index) -> None:
        """Put down what took (or brought) some particles: the feature of an entry of a term."""
        self.term[who], terms = term, self.maker.flow.model.terms
        for t in np.unique(term).tolist():
            mine = term == t
            self.feature[who[mine]] = terms[t].feature_index[entry[mine]]

    def _begun_in_pipes(self, new: Index, network: NetworkPassing | None) -> Index:
        """Put down where some particles begin in conduits; return those that begin elsewhere."""
        if self.pipes is None or network is None:
            return new
        inside = self.particles.status[new] == fates.IN_PIPES
        who = new[inside]
        points = self.pipes.points(who, self.particles.age[who], network)
        self.elevation[who] = points[2][:, 2]
        if self.keep:
            self.parts.append(points)
        return new[~inside]

    def _into_pipes(self, who: Index, pipes: Index, network: NetworkPassing) -> None:
        """Let particles that conduits took go on in these."""
        if not len(who):
            return
        assert self.pipes is not None  # there is a network
        p = self.particles
        self.pipes.enter_through(who, pipes)
        p.status[who], self.reason[who], self.term[who], self.feature[who] = fates.IN_PIPES, 0, -1, -1
        if self.keep:
            self.parts.append(self.pipes.points(who, p.age[who], network))

    def _through_pipes(self, network: NetworkPassing, window: Window) -> None:
        """Let particles in conduits go on to the end of the step, or until they leave."""
        assert self.pipes is not None  # they are in it
        p, pipes = self.particles, self.pipes
        who = np.flatnonzero((p.status == fates.IN_PIPES) & (p.clock < window.end))
        self.parts += list(
            pipes.go_on(who, p, network, window, self.mark, self.keep, _CROSSINGS, self.random)
        )
        self._put_where(who, network.cells[pipes.pipe[who]], pipes.place[who, :2])
        self.elevation[who] = pipes.place[who, 2]
        back = who[p.status[who] == fates.TO_ROCK]
        if len(back):  # anywhere in the cell, as the water is
            cell = network.cells[p.where[back]]
            plan, x, y = strewn(self.maker, cell, self.random)
            p.layer[back] = self.maker.grid.cells.layer[cell]
            p.triangle[back] = self.maker.fans.holding(plan, x, y)
            p.x[back], p.y[back] = x - self.maker.fans.origin[0], y - self.maker.fans.origin[1]
            p.zeta[back] = self.random.uniform(size=len(back))
            p.status[back], p.entered[back], p.where[back] = fates.RUNNING, -1, -1
            p.left[back] = self.random.exponential(size=len(back))
        left = who[p.status[who] == fates.LEFT]
        self.term[left], self.feature[left] = network.term, p.where[left]
        ended = who[(p.status[who] != fates.RUNNING) & (p.status[who] != fates.IN_PIPES)]
        self.reason[ended] = p.status[ended]

    def _put_where(self, who: Index, cell: Index, place: Array) -> None:
        """Put particles at places in cells."""
        p, maker = self.particles, self.maker
        x, y = (place + maker.fans.origin).T
        plan = maker.plan_at(cell, np.column_stack([x, y]))
        p.layer[who], p.triangle[who] = maker.grid.cells.layer[cell], maker.fans.holding(plan, x, y)
        p.x[who], p.y[who] = place.T

    def _put_down(self, who: Index, height: Array, rate: Array, window: Window) -> None:
        """Keep at which elevation some particles are now."""
        p = self.particles
        cell = self.maker.number[p.layer[who], self.maker.fans.cell[p.triangle[who]]]
        water = np.maximum(height[cell] + rate[cell] * (p.clock[who] - window.begin), 0.0)
        self.elevation[who] = self.maker.grid.cells.bottom[cell] + p.zeta[who] * water

    def _choose(self, who: Index, at: Index, field: Field, name: str) -> Index:
        """Choose the entry that took (or brought) each particle, by chance of its flow; -1 where none did."""
        found = np.full(len(who), -1, dtype=np.int64)
        if not len(who):
            return found
        where, term, entry, flow = field.takers if name == "inside" else field.through[name]
        water = np.maximum(-self.sign * flow, 0.0)
        some = np.flatnonzero(water > 0.0)
        if not len(some):
            return found
        order = some[np.argsort(where[some], kind="stable")]
        place = where[order]
        along = np.concatenate([[0.0], np.cumsum(water[order])])
        first, last = np.searchsorted(place, at), np.searchsorted(place, at, side="right")
        there = last > first
        low, high = along[first], along[last]
        pick = low + self.random.uniform(size=len(who)) * (high - low)
        chosen = np.clip(np.searchsorted(along, pick, side="right") - 1, first, np.maximum(last - 1, first))
        chosen = order[np.minimum(chosen, len(order) - 1)]
        self._name(who[there], term[chosen[there]], entry[chosen[there]])
        found[there] = entry[chosen[there]]
        return found

    def _on_through_bores(self, who: Index, field: Field) -> None:
        """Let those that met a bore go on where it gives water to other layers, by chance of that share."""
        p, maker, bore = self.particles, self.maker, field.bore
        model = maker.flow.model
        whose = [(t, model.terms[t].feature_index[e]) for t, e in zip(bore.term, bore.entry, strict=True)]
        feature = np.unique(np.array(whose), axis=0, return_inverse=True)[1].ravel()
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
            place = np.column_stack([bore.x[to] + reach * np.cos(angle), bore.y[to] + reach * np.sin(angle)])
            self._put_where(goes_on, bore.cell[to], place - maker.fans.origin)
            p.zeta[goes_on] = self.random.uniform(size=len(goes_on))
            p.status[goes_on], p.entered[goes_on], p.where[goes_on] = 0, -1, -1
            self.reason[goes_on], self.term[goes_on], self.feature[goes_on] = 0, -1, -1

    def out_of_time(self) -> None:
        """Those that still move have come to the end of the run."""
        still = np.flatnonzero(self.reason == 0)
        self.reason[still] = fates.OVER
        p, maker = self.particles, self.maker
        last = 0 if self.sign < 0 else len(maker.flow.steps) - 1
        height = maker.water_height(last, 0.0 if self.sign < 0 else 1.0)
        still = still[p.status[still] == fates.RUNNING]  # of those in conduits it is known
        cell = maker.number[p.layer[still], maker.fans.cell[p.triangle[still]]]
        self.elevation[still] = maker.grid.cells.bottom[cell] + p.zeta[still] * height[cell]
        idle = self._begun_in_pipes(np.flatnonzero(~self.begun), maker.network(last))
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
            maker.flow, starts, clock * self.sign, first, self.reason, self.term, self.feature, p.age, place, cell,
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
