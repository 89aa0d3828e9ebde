"""Particles in conduits: they come in through walls, go with the water, and leave where it does."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import wet_depth
from inkhorn.flow import NetworkPassing
from inkhorn.model.terms import ConduitTerm
from inkhorn.paths.times import Window

__all__ = ["InPipes", "places_in", "ways_in"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_POINTS = 100_000  # that are written before they are put away


class _Ways(NamedTuple):
    """Ways out of the nodes: where those of each begin, of which kind, to what, by how much water [m³/day]."""

    begins: Index
    kind: Index
    to: Index
    weight: Array
    through: Array


def ways_in(passing: NetworkPassing, backward: bool) -> list[tuple[str, Index, Array]]:
    """Return where water comes into conduits from outside (backward: leaves them): feature, nodes, and flow [m³/day]."""
    if backward:
        return [(key[1], np.array([node]), np.array([q])) for key, node, q in passing.springs if q > 0.0]
    return [(e.key[1], e.nodes, e.rate) for e in passing.entering if e.water > 0.0]


def places_in(term: ConduitTerm, head: Array, pipe: Index, share: Array) -> Array:
    """Return places in the middle of the water of pipes, at a share of their way: x, y and elevation [m]."""
    a, b = term.links[pipe].T
    diameter = term.diameter[pipe]
    levels = [
        bed + 0.5 * np.minimum(wet_depth(head[node] - bed)[0], diameter)
        for node, bed in ((a, term.bed_first[pipe]), (b, term.bed_second[pipe]))
    ]
    return np.column_stack(
        [
            first + share * (second - first)
            for first, second in ((term.x[a], term.x[b]), (term.y[a], term.y[b]), (levels[0], levels[1]))
        ]
    )


class InPipes:
    """Which particles are in conduits, and where.

    In a pipe water moves on without mixing; at a node it mixes, and each particle takes one of the ways that the water
    takes, by chance of its share; in an open shaft it stays as long as chance says of water that is mixed.

    Parameters
    ----------
    term : ConduitTerm
    count : int
        Of all particles.
    backward : bool
    stop : ndarray of bool, (n_cells,)
        Cells in which paths end.
    origin : ndarray of float, (2,)
        From which places are counted.
    """

    def __init__(
        self, term: ConduitTerm, count: int, backward: bool, stop: NDArray[np.bool_], origin: Array
    ) -> None:
        self.term, self.backward, self.stop, self.origin = (
            term,
            backward,
            stop[term.cells],
            np.append(origin, 0.0),
        )
        self.pipe = np.full(count, -1, dtype=np.int64)
        self.share = np.zeros(count)
        self.node = np.full(count, -1, dtype=np.int64)
        self.place = np.full((count, 3), np.nan)  # of those that are here, at the end of the last step

    def enter_at(self, who: Index, nodes: Index) -> None:
        """Put particles at nodes."""
        one = self.term.end_at[nodes]
        self.pipe[who], self.share[who], self.node[who] = one // 2, one % 2, nodes

    def enter_through(self, who: Index, pipes: Index) -> None:
        """Put particles behind the walls of pipes."""
        self.pipe[who], self.share[who] = pipes, self.term.wall_end[pipes]
        self.node[who] = self.term.node[pipes]

    def points(self, who: Index, age: Array, passing: NetworkPassing) -> tuple[Any, ...]:
        """Return where particles are, as points of paths."""
        n = len(who)
        return self._put(
            passing, who, age.copy(), self.pipe[who], self.share[who], self._speed(passing)[self.pipe[who]],
            np.zeros(n, dtype=bool),
        )  # fmt: skip

    def go_on(
        self, who: Index, particles: Any, passing: NetworkPassing, window: Window, mark: float, keep: bool,
        most_steps: int, random: np.random.Generator,
    ) -> Iterator[tuple[Any, ...]]:  # fmt: skip
        """Follow some of them until the end of a step, or until they leave; what they pass comes as points."""
        from inkhorn.paths import _pipe_kernels

        p, flow, sign = particles, passing.flow, -1.0 if self.backward else 1.0
        first = 1 if self.backward else 0
        ways = self._ways(passing)
        room = _POINTS if keep else 4
        out = (
            np.empty(room, dtype=np.int64), np.empty(room), np.empty(room, dtype=np.int64), np.empty(room),
            np.empty(room), np.empty(room, dtype=bool),
        )  # fmt: skip
        at = 0
        while at < len(who):
            written, at = _pipe_kernels.go_on(
                at, who, window.begin, window.end, mark, most_steps, random, self.pipe, self.share, self.node, p.clock,
                p.age, p.most_age, p.status, p.where, p.count, self.term.links, sign * flow.into, passing.volume[first],
                sign * flow.fills.sum(axis=1), self.stop, *ways, passing.shaft[first], sign * flow.rises,
                self._speed(passing), *out, keep,
            )  # fmt: skip
            if written:
                particle, age, pipe, share, speed, marked = (v[:written].copy() for v in out)
                yield self._put(passing, particle, age, pipe, share, speed, marked)
        self.place[who] = self._places(passing, self.pipe[who], self.share[who])

    def _put(self, passing: NetworkPassing, *columns: Any) -> tuple[Any, ...]:
        who, age, pipe, share, speed, marked = columns
        return who, age, self._places(passing, pipe, share), self.term.cells[pipe], speed, marked

    def _places(self, passing: NetworkPassing, pipe: Index, share: Array) -> Array:
        return places_in(self.term, passing.flow.head, pipe, share) - self.origin

    def _speed(self, passing: NetworkPassing) -> Array:
        """Of the water in each pipe [m/day]."""
        volume, water = passing.volume.mean(axis=0), np.abs(passing.flow.flow)
        moves = (volume > 0.0) & (water > 0.0)
        return np.where(moves, water * self.term.length / np.where(moves, volume, 1.0), 0.0)

    def _ways(self, passing: NetworkPassing) -> _Ways:
        """Every way on from every node: into pipes, through walls, and out."""
        flow, sign = passing.flow, -1.0 if self.backward else 1.0
        n, pipes = len(flow.head), np.arange(len(flow.flow))
        away = ways_in(passing, not self.backward)
        through_wall = passing.taken if self.backward else passing.given
        parts = [
            (self.term.links[:, k], np.full(len(pipes), k), pipes, sign * flow.into[:, k]) for k in (0, 1)
        ]
        parts.append((self.term.node, np.full(len(pipes), 2), pipes, through_wall))
        parts += [
            (nodes, np.full(len(nodes), 3), np.full(len(nodes), self.term.feature_names.index(name)), water)
            for name, nodes, water in away
        ]
        node, kind, index, weight = (np.concatenate(v) for v in zip(*parts, strict=True))
        some = weight > 0.0
        order = np.flatnonzero(some)[np.argsort(node[some], kind="stable")]
        begins = np.searchsorted(node[order], np.arange(n + 1)).astype(np.int64)
        through = np.bincount(node[order], weight[order], n).astype(np.float64)
        return _Ways(
            begins, kind[order].astype(np.int64), index[order].astype(np.int64), weight[order], through
        )
