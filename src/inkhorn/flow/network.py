"""What the water of conduits does over a step: through which pipes it goes, where it comes in and leaves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import PipeFlow, standing_at
from inkhorn.flow.result import FlowResult
from inkhorn.model.terms import ConduitTerm

__all__ = ["Entering", "NetworkPassing", "network_of"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]
Key = tuple[str, str]


class Entering(NamedTuple):
    """Water that a feature lets into the network.

    Attributes
    ----------
    key : tuple of str
        Kind and feature.
    nodes : ndarray of int
        Where.
    rate : ndarray of float
        [m³/day].
    """

    key: Key
    nodes: Index
    rate: Array

    @property
    def water(self) -> float:
        """All of it [m³/day]."""
        return float(self.rate.sum())


@dataclass(frozen=True, eq=False)
class NetworkPassing:
    """What the water of conduits does over a step of the flow.

    Attributes
    ----------
    term : int
        The conduits, among the terms of the model.
    flow : PipeFlow
    cells : ndarray of int, (n_pipes,)
        Of each pipe.
    taken, given : ndarray of float, (n_pipes,)
        Water from the rock, and to it, through the wall of each [m³/day].
    entering : list of Entering
        From outside; what comes in at springs too.
    springs : list of tuple
        Kind and name, node, and what leaves there [m³/day].
    volume : ndarray of float, (2, n_pipes)
        Of the water in each pipe, at the begin and the end [m³].
    shaft : ndarray of float, (2, n_nodes)
        Of that in shafts.
    """

    term: int
    flow: PipeFlow
    cells: Index
    taken: Array
    given: Array
    entering: list[Entering]
    springs: list[tuple[Key, int, float]]
    volume: Array
    shaft: Array

    def parts(self, begin: float, end: float, time: float) -> tuple[Array, Array]:
        """Return the water in pipes and in shafts at a time within the step."""
        share = (time - begin) / (end - begin) if end > begin else 1.0
        return tuple(a + share * (b - a) for a, b in (self.volume, self.shaft))


def network_of(flow: FlowResult, number: int) -> NetworkPassing | None:
    """Return what the water of conduits does over a step of a flow result; none where there are no conduits."""
    model, step = flow.model_at(number), flow.steps[number]
    where = next((k for k, t in enumerate(model.terms) if isinstance(t, ConduitTerm)), None)
    if where is None:
        return None
    term: ConduitTerm = model.terms[where]  # type: ignore[assignment]  # it was looked for
    n, first = term.n_levels, sum(t.n_extra for t in model.terms[:where])
    mine = slice(first, first + n)
    after = step.extra_unknowns[mine]
    before = after
    if not step.steady:
        before = (flow.start if number == 0 else flow.steps[number - 1]).extra_unknowns[mine]
    pipes, length = term.pipes, step.end - step.begin
    halves = np.array([standing_at(pipes, h)[0].reshape(-1, 2) for h in (before, after)])
    halves[:, term.held[term.links]] = halves[1][term.held[term.links]]  # what springs hold does not move
    shafts, at = term.shafts
    area = np.asarray(np.bincount(at, term.shaft_area[shafts], n), dtype=np.float64)
    shaft = np.array([np.maximum(area * (h - term.bed), 0.0) for h in (before, after)])
    fills, rises = np.zeros_like(halves[0]), np.zeros(n)
    if not step.steady and length > 0.0:
        fills, rises = (halves[1] - halves[0]) / length, (shaft[1] - shaft[0]) / length
    passed = step.term_flow[where]
    taken, given = np.maximum(-passed, 0.0), np.maximum(passed, 0.0)
    node = term.node
    springs_in = np.asarray(step.outside[where])[1][:n]
    entering, springs = [], []
    comes, leaves = (np.asarray(np.bincount(node, q, n), dtype=np.float64) for q in (taken, given))
    for k in np.unique(term.source_feature.astype(np.int64)).tolist():
        own = term.source_feature == k
        nodes, rate = (
            term.source_node[own].astype(np.int64),
            np.asarray(term.inflow[k] * term.source_share[own]),
        )
        entering.append(Entering((term.kind, term.feature_names[k]), nodes, rate))
        np.add.at(comes, nodes, rate)
    for k in term.springs.tolist():
        key, spot = (term.kind, term.feature_names[k]), int(term.at_node[k])
        comes_in = float(springs_in[spot])
        if comes_in > 0.0:
            entering.append(Entering(key, np.array([spot]), np.array([comes_in])))
            comes[spot] += comes_in
        springs.append((key, spot, max(-comes_in, 0.0)))
        leaves[spot] += max(-comes_in, 0.0)
    moving = PipeFlow(pipes, step.link_flow[where], fills, comes, leaves, rises, after)
    return NetworkPassing(
        where, moving, term.cells, taken, given, entering, springs, halves.sum(axis=2), shaft
    )
