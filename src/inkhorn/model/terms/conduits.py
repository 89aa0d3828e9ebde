"""Conduits: a network of pipes in the rock, with a head at each node and a flow in each pipe."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import TIED, Flowing, Network, Pipes, Places, law_at, passed_at, standing_at
from inkhorn.conduits.laws import LAMINAR_UP_TO, TURBULENT_FROM, VISCOSITY
from inkhorn.errors import InputError
from inkhorn.model.terms.base import (
    Contribution,
    Moment,
    Over,
    Slope,
    Term,
    feature_input,
    link_input,
    placed,
)

__all__ = ["ConduitTerm"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_FIRST_SPEED = 0.3 * 86400.0  # m/day, of the first guess


@dataclass(frozen=True, eq=False, kw_only=True)
class ConduitTerm(Term):
    """Pipes between nodes, each within one cell, with which it exchanges water through its wall at one of its ends.

    Unknowns are the heads at the nodes, then the flows in the pipes from their first to their second end. At each node
    the flows balance; along each pipe the head falls by the friction, laminar or turbulent, on the section that is
    filled. Through the wall passes the exchange times the difference of the heads inside and outside, each counted from
    the bed of the pipe on: none flows out of an empty pipe, or into it from rock whose water stands below.

    Water has no inertia; heads of velocity, and losses at bends and junctions beyond what roughness stands for, are not
    counted; and a pipe that was full fills and empties without trapping air.

    Parameters
    ----------
    cells : array_like of int, (n_pipes,)
        The cell of each pipe.
    first, second : array_like of int, (n_pipes,)
        The nodes at the ends of each pipe, from 0.
    wall_end : array_like of int, () or (n_pipes,)
        At which end water passes the wall of each: 0 the first, 1 the second. A stretch of conduit within a cell is best
        made of two pipes that pass it where they meet: so no water goes from cell to cell but through pipes.
    bed_first, bed_second : array_like of float, () or (n_pipes,)
        Lowest point of the section there [m].
    length : array_like of float, () or (n_pipes,)
        Along the pipe, bends included [m].
    diameter : array_like of float, () or (n_pipes,)
        [m].
    roughness : array_like of float, () or (n_pipes,)
        Height of the roughness of the wall [m].
    exchange : array_like of float, () or (n_pipes,)
        Water that passes the wall for each metre of length and of difference of head [m/day].
    inflow : array_like of float, () or (n_features,)
        What each feature puts in [m³/day], shared by the sources.
    level : array_like of float, () or (n_features,)
        Of the water at the node of a spring [m]; infinite for features that are none.
    shaft_area : array_like of float, () or (n_features,)
        Of the water in an open shaft at the node of a feature, which counts as stored [m²].
    viscosity : array_like of float, () or (n_features,)
        Kinematic, of the water [m²/day].
    at_node : array_like of int, () or (n_features,)
        The node of a spring or a shaft; NaN for other features.
    laminar_up_to, turbulent_from : array_like of float, () or (n_features,)
        Reynolds numbers.
    x, y : array_like of float, (n_nodes,)
        Where the nodes lie [m].
    source_node, source_feature, source_share : array_like, (n_sources,)
        Where the inflow of which feature comes in, and what share of it.
    """

    first: Any = placed("link")
    second: Any = placed("link")
    wall_end: Any = placed("link", default=0.0)
    x: Any = placed("node")
    y: Any = placed("node")
    at_node: Any = placed("feature")
    laminar_up_to: Any = placed("feature", default=LAMINAR_UP_TO)
    turbulent_from: Any = placed("feature", default=TURBULENT_FROM)
    source_node: Any = placed("source", default=())
    source_feature: Any = placed("source", default=())
    source_share: Any = placed("source", default=())
    bed_first: Any = link_input("elevation", told=False)
    bed_second: Any = link_input("elevation", told=False)
    length: Any = link_input("length", default=1.0, check="positive", told=False)
    diameter: Any = link_input("length", default=1.0, check="positive")
    roughness: Any = link_input("length", default=0.01, check="nonnegative")
    exchange: Any = link_input("conductivity", check="nonnegative")
    inflow: Any = feature_input("flow")
    level: Any = feature_input("elevation", default=np.inf, check="any")
    shaft_area: Any = feature_input("area", check="nonnegative")
    viscosity: Any = feature_input("viscosity", default=VISCOSITY, check="positive", told=False)
    kind: ClassVar[str] = "conduit"
    usual_crossing: ClassVar[str] = "inside"
    outside_names: ClassVar[tuple[str, ...]] = ("let in", "springs")

    def __post_init__(self) -> None:
        for name in ("first", "second", "source_node"):
            object.__setattr__(self, name, np.atleast_1d(np.asarray(getattr(self, name), dtype=np.float64)))
        if len(self.first) != len(self.second) or len(self.first) != len(np.atleast_1d(self.cells)):
            raise InputError(
                f"{self.kind}: {len(self.first)} pipes have {len(self.second)} second ends and "
                f"{len(np.atleast_1d(self.cells))} cells; expected as many of each."
            )
        super().__post_init__()
        ends = self.links
        if len(ends) and (ends.min() < 0 or len(np.unique(ends)) != self.n_levels):
            raise InputError(f"{self.kind}: the nodes of pipes are numbered from 0, without gaps.")
        loops = np.flatnonzero(ends[:, 0] == ends[:, 1])
        if len(loops):
            raise InputError(f"{self.kind}: pipe {loops[0]} begins and ends at node {ends[loops[0], 0]}.")
        named = (self.source_node, self.at_node[np.isfinite(self.at_node)])
        for nodes in named:
            if len(nodes) and not (nodes.min() >= 0 and nodes.max() < self.n_levels):
                raise InputError(
                    f"{self.kind}: a feature is at node {nodes.max():g}; expected 0 to {self.n_levels - 1}."
                )
        lost = np.flatnonzero((np.isfinite(self.level) | (self.shaft_area > 0.0)) & np.isnan(self.at_node))
        if len(lost):
            raise InputError(
                f'{self.kind} "{self.feature_names[lost[0]]}" has a level or a shaft, and no node.'
            )
        self.pipes.refuse_impossible(self.name_of_pipe)
        self._refuse_loose()

    def _refuse_loose(self) -> None:
        """Refuse parts of the network whose level nothing fixes."""
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import connected_components

        n, (a, b) = self.n_levels, self.links.T
        count, part = connected_components(coo_array((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)
        tied = np.zeros(count, dtype=bool)
        tied[part[self.held]] = True
        tied[part[a[self.exchange > 0.0]]] = True
        if not tied.all():
            loose = np.flatnonzero(~tied[part[a]])
            names = list(dict.fromkeys(self.feature_names[f] for f in self.pipe_feature[loose]))
            raise InputError(
                f"{self.kind} {', '.join(map(_quoted, names[:3]))}{' and others' if len(names) > 3 else ''}: nothing "
                "fixes the level of the water, for no spring is joined to it and no water passes its wall. Give it an "
                "`exchange`, a spring, or join it to others."
            )

    # --- what there is -------------------------------------------------------------------------------

    def _count_of(self, over: Over) -> int:
        return {"link": len(self.first), "node": self.n_levels, "source": len(self.source_node)}[over]

    def over_entries(self, name: str, values: Array) -> Array:
        return values if self.declared_inputs()[name].over == "link" else super().over_entries(name, values)

    @cached_property
    def links(self) -> Index:
        """The nodes of each pipe, (n_pipes, 2)."""
        return np.column_stack([self.first, self.second]).astype(np.int64)

    @cached_property
    def end_at(self) -> Index:
        """An end of a pipe at each node: twice the pipe, and 1 more where it is the second, (n_nodes,)."""
        return np.unique(self.links, return_index=True)[1]

    @property
    def n_levels(self) -> int:
        return int(max(self.first.max(initial=-1), self.second.max(initial=-1))) + 1

    @property
    def n_extra(self) -> int:
        return self.n_levels + len(self.first)

    @property
    def pipe_feature(self) -> Index:
        """The feature that each pipe belongs to, (n_pipes,)."""
        return self.feature_index

    def name_of_pipe(self, pipe: int) -> str:
        """A pipe in words."""
        return f'{self.kind} "{self.feature_names[self.pipe_feature[pipe]]}", pipe {pipe}'

    @cached_property
    def springs(self) -> Index:
        """The features that hold a level."""
        return np.flatnonzero(np.isfinite(self.level))

    @cached_property
    def held(self) -> NDArray[np.bool_]:
        """Which nodes a spring holds at its level, (n_nodes,)."""
        held = np.zeros(self.n_levels, dtype=bool)
        held[self.at_node[self.springs].astype(np.int64)] = True
        return held

    @cached_property
    def _held_level(self) -> Array:
        """Of the nodes that springs hold, else 0, (n_nodes,) [m]."""
        level = np.zeros(self.n_levels)
        level[self.at_node[self.springs].astype(np.int64)] = self.level[self.springs]
        return level

    @property
    def determined(self) -> NDArray[np.bool_]:
        return np.concatenate([self.held, np.ones(len(self.first), dtype=bool)])

    @property
    def least_stored(self) -> Array:
        features, nodes = self.shafts
        least = np.zeros(self.n_extra)
        least[nodes] = self.shaft_area[features] * self.bed[nodes]
        return least

    @property
    def extra_sets_level(self) -> NDArray[np.bool_]:
        return np.concatenate([self.held, np.zeros(len(self.first), dtype=bool)])

    @cached_property
    def extra_feature(self) -> Index:
        """Of a node the spring or the sinkhole there; else one of the conduits that meet there."""
        node = np.zeros(self.n_levels, dtype=np.int64)
        node[self.links[::-1].ravel()] = np.repeat(self.pipe_feature[::-1], 2)
        there = np.flatnonzero(np.isfinite(self.at_node))
        node[self.at_node[there].astype(np.int64)] = there
        return np.concatenate([node, self.pipe_feature])

    @property
    def extra_names(self) -> tuple[str, ...]:
        names = [
            f"{self.feature_names[f]}, node {k}" for k, f in enumerate(self.extra_feature[: self.n_levels])
        ]
        pipes = [f"{self.feature_names[f]}, pipe {k}" for k, f in enumerate(self.pipe_feature)]
        return (*names, *pipes)

    @property
    def extra_said(self) -> list[str]:
        n = self.n_levels
        return [
            f"the {'head' if k < n else 'flow'} of {self.kind} {name}"
            for k, name in enumerate(self.extra_names)
        ]

    @cached_property
    def node(self) -> Index:
        return self.pipes.wall_node

    @cached_property
    def pipes(self) -> Pipes:
        """As the law takes them."""
        of = self.pipe_feature
        return Pipes(
            self.links[:, 0].copy(), self.links[:, 1].copy(), self.bed_first, self.bed_second, self.length,
            self.diameter, self.roughness, self.viscosity[of], self.laminar_up_to[of], self.turbulent_from[of],
            self.wall_end.astype(np.int64),
        )  # fmt: skip

    @cached_property
    def bed(self) -> Array:
        """Lowest bed of the pipes at each node, (n_nodes,) [m]."""
        bed = np.full(self.n_levels, np.inf)
        np.minimum.at(bed, self.pipes.nodes, self.pipes.beds)
        return bed

    @cached_property
    def _let_in(self) -> Array:
        """What comes into each node from outside, (n_nodes,) [m³/day]."""
        rate = self.inflow[self.source_feature.astype(np.int64)] * self.source_share
        return np.asarray(
            np.bincount(self.source_node.astype(np.int64), rate, self.n_levels), dtype=np.float64
        )

    @cached_property
    def shafts(self) -> tuple[Index, Index]:
        """Features with an open shaft, and their nodes."""
        there = np.flatnonzero(self.shaft_area > 0.0)
        return there, self.at_node[there].astype(np.int64)

    def initial_guess(self, heads: Array) -> Array:
        nodes, around = self.pipes.nodes, np.repeat(heads[self.cells], 2)
        count = np.bincount(nodes, minlength=self.n_levels)
        level = np.bincount(nodes, around, self.n_levels) / count
        level[self.at_node[self.springs].astype(np.int64)] = self.level[self.springs]
        return np.concatenate([level, _FIRST_SPEED * 0.25 * np.pi * self.diameter**2])

    def settled(self, moment: Moment) -> Array:
        """Return heads and flows at which the network is in balance with the rock as it is."""
        n = self.n_levels
        features, nodes = self.shafts
        stores = not moment.steady and len(moment.stored) > 0
        network = Network(
            self.pipes, self._places, self.bed, self.held, self._held_level, self._let_in, self.exchange,
            moment.heads[self.cells],
            np.bincount(nodes, self.shaft_area[features], n).astype(np.float64),
            moment.weight[:n] if len(moment.weight) else np.ones(n),
            moment.end - moment.begin if stores else np.inf,
            moment.stored[:n],
        )  # fmt: skip
        return np.concatenate(network.solved(moment.extra_unknowns[:n], moment.extra_unknowns[n:]))

    @cached_property
    def _places(self) -> Places:
        return Places(self.pipes.first, self.pipes.second, self.n_levels)

    # --- the law -------------------------------------------------------------------------------------

    def law(self, moment: Moment) -> Flowing:
        """What the law of each pipe leaves over, and its derivatives."""
        n = self.n_levels
        return law_at(self.pipes, moment.extra_unknowns[:n], moment.extra_unknowns[n:])

    def _passed(self, moment: Moment) -> Array:
        """What passes the walls, and its slopes."""
        heads = moment.extra_unknowns[: self.n_levels]
        return passed_at(self.pipes, self.exchange, heads, moment.heads[self.cells])

    def evaluate(self, moment: Moment) -> Contribution:
        n, p, first = self.n_levels, len(self.first), moment.first_extra
        head, flow = moment.extra_unknowns[:n], moment.extra_unknowns[n:]
        law, ends = self.law(moment), self._passed(moment)
        a, b = self.links.T
        entry, pipe, node = np.arange(len(self.cells)), np.arange(p), np.arange(n)
        dry = np.maximum(self.bed - head, 0.0)
        out_of = np.bincount(a, flow, n) + np.bincount(self.node, ends[0], n)
        balance = np.bincount(b, flow, n) - out_of + self._let_in
        springs, held = np.where(self.held, -balance, 0.0), self.held
        balance = balance + TIED * dry
        out, back = ~held[a], ~held[b]
        meets = ~held[self.node]
        own = np.where(held, -1.0, -TIED * (dry > 0.0))
        rows = [a[out], b[back], self.node[meets], self.node[meets], node, n + pipe, n + pipe, n + pipe]
        columns = [
            n + pipe[out], n + pipe[back], self.node[meets], self.cells[meets] - first, node, n + pipe, a, b,
        ]  # fmt: skip
        values = [
            np.full(out.sum(), -1.0), np.ones(back.sum()), -ends[1][meets], -ends[2][meets], own, law.by_flow,
            law.by_first, law.by_second,
        ]  # fmt: skip
        stored, spots, slopes = self._stored(head)
        none = np.zeros(p)
        return Contribution(
            flow=ends[0],
            flow_slope=Slope(
                np.concatenate([entry, entry]),
                np.concatenate([first + self.node, self.cells]),
                np.concatenate([ends[1], ends[2]]),
            ),
            extra_residual=np.concatenate([np.where(held, self._held_level - head, balance), law.left]),
            extra_slope=Slope(np.concatenate(rows), first + np.concatenate(columns), np.concatenate(values)),
            stored=np.concatenate([stored, none]),
            stored_slope=Slope(spots, first + spots, slopes),
            outside={
                "let in": np.concatenate([self._let_in, none]),
                "springs": np.concatenate([springs, none]),
            },
            link_flow=flow,
        )

    def _stored(self, head: Array) -> tuple[Array, Index, Array]:
        """Water at each node, in the halves of the pipes there and in shafts; and its slopes, each at a node."""
        n, of = self.n_levels, self.pipes.nodes
        free, (water, by_head, _) = ~self.held[of], standing_at(self.pipes, head)
        stored = np.bincount(of[free], water[free], n).astype(np.float64)
        features, nodes = self.shafts
        stored[nodes] += self.shaft_area[features] * head[nodes]
        return (
            stored,
            np.concatenate([of[free], nodes]),
            np.concatenate([by_head[free], self.shaft_area[features]]),
        )

    def by_input(self, moment: Moment) -> Mapping[str, Slope]:
        n, m = self.n_levels, len(self.first)
        head, of, pipe = moment.extra_unknowns[:n], self.pipe_feature, np.arange(m)
        law, wall, halves = self.law(moment), self._passed(moment), standing_at(self.pipes, head)
        node, ends, laws = self.node, self.pipes.nodes, m + n + pipe
        free, free_end = ~self.held[node], ~self.held[ends]
        whose, stands = np.repeat(pipe, 2)[free_end], (m + self.n_extra + ends)[free_end]
        water = (halves / np.repeat(self.length, 2))[:, free_end]
        halves = halves[:, free_end]
        driven = _wet_difference(head[node], moment.heads[self.cells], self.pipes.wall_bed)

        def passes(by: Array, at: Any = slice(None)) -> tuple[list[Any], list[Any], list[Any]]:
            """Derivatives of what passes the walls: of entries, and of the balances of nodes."""
            mine = pipe[at]
            inner = mine[free[mine]]
            return [mine, m + node[inner]], [mine, inner], [by[mine], -by[inner]]

        def joined(rows: list[Any], columns: list[Any], values: list[Any]) -> Slope:
            return Slope(np.concatenate(rows), np.concatenate(columns), np.concatenate(values))

        rows, columns, values = passes(wall[0] / self.length)
        by_length = joined([*rows, laws, stands], [*columns, pipe, whose], [*values, law.by_length, water[0]])
        beds = []
        for side, of_law in ((0, law.by_bed_first), (1, law.by_bed_second)):
            # a bed that rises is a head that falls, inside and outside
            rows, columns, values = passes(-wall[1] - wall[2], self.wall_end == side)
            mine = np.flatnonzero(free_end)[np.flatnonzero(np.flatnonzero(free_end) % 2 == side)]
            place = np.searchsorted(np.flatnonzero(free_end), mine)
            beds.append(
                joined(
                    [*rows, laws, stands[place]],
                    [*columns, pipe, whose[place]],
                    [*values, of_law, -halves[1][place]],
                )
            )
        source, feature = self.source_node.astype(np.int64), self.source_feature.astype(np.int64)
        inner = ~self.held[source]
        at = self.at_node[self.springs].astype(np.int64)
        shafts, nodes = self.shafts
        return {
            "diameter": joined([laws, stands], [pipe, whose], [law.by_diameter, halves[2]]),
            "roughness": Slope(laws, pipe, law.by_roughness),
            "length": by_length,
            "exchange": joined(*passes(self.length * driven)),
            "bed_first": beds[0],
            "bed_second": beds[1],
            "viscosity": Slope(laws, of, law.by_viscosity),
            "inflow": Slope(m + source[inner], feature[inner], self.source_share[inner]),
            "level": Slope(m + at, self.springs, np.ones(len(at))),
            "shaft_area": Slope(m + self.n_extra + nodes, shafts, head[nodes]),
        }


def _quoted(name: str) -> str:
    return f'"{name}"'


def _wet_difference(inside: Array, outside: Array, bed: Array) -> Array:
    from inkhorn.conduits import wet_depth

    return wet_depth(inside - bed)[0] - wet_depth(outside - bed)[0]
