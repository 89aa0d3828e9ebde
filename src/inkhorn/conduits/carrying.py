"""What is dissolved in the water of pipes, carried as the water moves: parcels one behind the other."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits.laws import Pipes

__all__ = ["Arrived", "PipeFlow", "PipeWater"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_PARCELS = 48  # in a pipe, at most
_STEPS = 200  # in the time that water stays in the network


@dataclass(frozen=True, eq=False)
class PipeFlow:
    """Flows in a network over a while, as means that balance at every node.

    Attributes
    ----------
    pipes : Pipes
    flow : ndarray of float, (n_pipes,)
        From the first to the second end of each [m³/day].
    fills : ndarray of float, (n_pipes, 2)
        How fast the water rises in the half beside each end [m³/day].
    comes, leaves : ndarray of float, (n_nodes,)
        From outside the network, the rock too, and to there [m³/day].
    rises : ndarray of float, (n_nodes,)
        How fast water rises in an open shaft [m³/day].
    head : ndarray of float, (n_nodes,)
        [m].
    """

    pipes: Pipes
    flow: Array
    fills: Array
    comes: Array
    leaves: Array
    rises: Array
    head: Array

    @cached_property
    def into(self) -> Array:
        """Water that enters each pipe at both its ends, (n_pipes, 2) [m³/day]."""
        return np.column_stack([self.flow, -self.flow]) + self.fills

    @cached_property
    def at_nodes(self) -> tuple[Index, Index, Index]:
        """The ends of pipes at each node: where they begin, which pipe, which of its ends."""
        nodes = self.pipes.nodes
        order = np.argsort(nodes, kind="stable")
        start = np.searchsorted(nodes[order], np.arange(len(self.head) + 1))
        return start.astype(np.int64), (order // 2).astype(np.int64), (order % 2).astype(np.int64)

    @cached_property
    def order(self) -> Index:
        """The nodes, those first that others get their water from: as a rule those of higher heads."""
        return np.argsort(-self.head, kind="stable").astype(np.int64)


class Arrived(NamedTuple):
    """What was carried where over a while.

    Attributes
    ----------
    gone : ndarray of float, (n_nodes,)
        Mass that left the network at each node [g].
    times : ndarray of float, (n_steps,)
        Ends of the steps, since its begin [day].
    passing : ndarray of float, (n_steps, n_nodes)
        Concentration in the water that passed each node in each step [g/m³].
    """

    gone: Array
    times: Array
    passing: Array


def _growing(fine: float) -> Iterator[tuple[float, int]]:
    """Lengths of steps and how many of each: many of the first, then ever longer ones."""
    yield fine, 2
    yield fine, 2 * _STEPS
    while True:
        fine *= 2.0
        yield fine, _STEPS


class PipeWater:
    """The water in a network and what is dissolved in it.

    Water moves through each pipe without mixing, and mixes where pipes meet; an open shaft is mixed as a whole. So a
    pulse arrives when the water does that it came with, sharp as it was, and no mass is lost.

    Parameters
    ----------
    volume : ndarray of float, (n_pipes,)
        Of the water in each pipe [m³].
    shaft : ndarray of float, (n_nodes,)
        Of that in shafts [m³].
    concentration : float or ndarray of float, (n_pipes,)
        Of what is in each pipe, to begin with [g/m³]; shafts begin with none.

    References
    ----------
    Liou, C. P. and Kroon, J. R. (1987), Modeling the propagation of waterborne substances in distribution networks,
    Journal American Water Works Association 79(11), 54-58.
    """

    def __init__(self, volume: Array, shaft: Array, concentration: Array | float = 0.0) -> None:
        shape = (len(volume), _PARCELS)
        self.volume, self.mass = np.zeros(shape), np.zeros(shape)
        self.volume[:, 0] = volume
        self.mass[:, 0] = concentration * volume
        self.begin = np.zeros(len(volume), dtype=np.int64)
        self.count = (volume > 0.0).astype(np.int64)
        self.shaft, self.at_node = np.array(shaft, dtype=np.float64), np.zeros(len(shaft))

    def copy(self) -> PipeWater:
        """Return the same, to be moved apart from this."""
        other = object.__new__(PipeWater)
        for name, value in vars(self).items():
            setattr(other, name, value.copy())
        return other

    @property
    def packed(self) -> Array:
        """All of it in one row, for `unpacked`."""
        there = self._there()
        table = [np.where(there, self.volume, 0.0).ravel(), np.where(there, self.mass, 0.0).ravel()]
        ends = [self.begin.astype(np.float64), self.count.astype(np.float64)]
        return np.concatenate([*table, *ends, self.shaft, self.at_node])

    @classmethod
    def unpacked(cls, row: Array, pipes: int) -> PipeWater:
        """Return what was `packed`, of so many pipes."""
        other, size = object.__new__(cls), pipes * _PARCELS
        nodes = (len(row) - 2 * size - 2 * pipes) // 2
        parts = np.split(row, np.cumsum([size, size, pipes, pipes, nodes]))
        other.volume, other.mass = (v.reshape(pipes, _PARCELS).copy() for v in parts[:2])
        other.begin, other.count = (v.astype(np.int64) for v in parts[2:4])
        other.shaft, other.at_node = (v.copy() for v in parts[4:])
        return other

    def _there(self) -> NDArray[np.bool_]:
        """Which places of the table hold a parcel."""
        place = (np.arange(_PARCELS) - self.begin[:, None]) % _PARCELS
        return np.asarray(place < self.count[:, None])

    @property
    def masses(self) -> Array:
        """What is dissolved in each pipe, (n_pipes,) [g]."""
        return np.where(self._there(), self.mass, 0.0).sum(axis=1)

    @property
    def volumes(self) -> Array:
        """The water in each pipe, (n_pipes,) [m³]."""
        return np.where(self._there(), self.volume, 0.0).sum(axis=1)

    @property
    def stored(self) -> float:
        """All that is dissolved in the network [g]."""
        return float(self.masses.sum() + self.at_node.sum())

    def stay(self, flow: PipeFlow) -> float:
        """Return how long water stays in the network as a mean [day]."""
        through = max(float(flow.comes.sum()), float(flow.leaves.sum()), 1e-300)
        return float((self.volumes.sum() + self.shaft.sum()) / through)

    def carried(self, flow: PipeFlow, brings: Array, length: float, *, steps: int | None = None) -> Arrived:
        """Carry it on for a while.

        Parameters
        ----------
        flow : PipeFlow
        brings : ndarray of float, (n_nodes,)
            Mass that comes in with what comes from outside [g/day].
        length : float
            How long [day].
        steps : int, optional
            In how many steps. If not given these begin with a two hundredth of the time that water stays, and grow as
            time goes on; once nothing changes any more one does the rest.
        """
        from inkhorn.conduits import _carrying_kernels

        gone, brings = np.zeros(len(flow.head)), np.asarray(brings, dtype=np.float64)
        times, rows, begun = list[Array](), list[Array](), 0.0
        blocks = _growing(self.stay(flow) / _STEPS) if steps is None else iter([(length / steps, steps)])
        while begun < length * (1.0 - 1e-12):
            dt, count = next(blocks)
            left = length - begun
            if steps is None and rows and self._settled(flow, rows[-1]):
                dt, count = left, 1
            if dt * count > left:
                count = max(int(np.ceil(left / dt - 1e-9)), 1)
                dt = left / count
            passing = np.zeros((count, len(flow.head)))
            _carrying_kernels.carry(
                flow.order, *flow.at_nodes, flow.into, flow.comes, brings, flow.leaves, self.shaft, flow.rises,
                dt * count, count, self.volume, self.mass, self.begin, self.count, self.at_node, gone, passing,
            )  # fmt: skip
            times.append(np.asarray(begun + dt * np.arange(1, count + 1), dtype=np.float64))
            rows.append(passing)
            begun += dt * count
        if not times:
            return Arrived(gone, np.empty(0), np.empty((0, len(flow.head))))
        return Arrived(gone, np.concatenate(times), np.concatenate(rows))

    def _settled(self, flow: PipeFlow, passing: Array) -> bool:
        """Whether no concentration changes any more: in each pipe it is that of the node its water comes from."""
        if len(passing) < 2 or not np.array_equal(passing[-1], passing[-2]) or (self.count > 1).any():
            return False
        moves = np.abs(flow.flow) > 0.0
        above = np.where(flow.flow > 0.0, flow.pipes.first, flow.pipes.second)
        volume, comes = self.volumes, passing[-1][above]
        off = np.abs(self.masses - comes * volume) > 1e-9 * np.abs(comes * volume)
        return not bool((off & moves).any())

    def decay(self, rate: float, length: float) -> Array:
        """Let it decay for a while; return the mass that did in each pipe, then at each node [g].

        Parameters
        ----------
        rate : float
            [1/day].
        length : float
            [day].
        """
        share = float(-np.expm1(-rate * length))
        lost = share * np.concatenate([self.masses, self.at_node])
        self.mass *= 1.0 - share
        self.at_node *= 1.0 - share
        return lost

    def add(self, mass: Array) -> None:
        """Add mass to each pipe, evenly over its water, and at each node [g]; what there is of none stays out."""
        n = len(self.count)
        volume = np.where(self._there(), self.volume, 0.0)
        whole = volume.sum(axis=1)
        wet = whole > 0.0
        self.mass[wet] += volume[wet] * (mass[:n] / np.where(wet, whole, 1.0))[wet, None]
        self.at_node += mass[n:]

    def fit_to(self, volume: Array, shaft: Array) -> float:
        """Have so much water in pipes and shafts, at their concentrations; return by how much the mass changes [g]."""
        before, now = self.stored, self.volumes
        there = now > 0.0
        factor = np.where(there, volume / np.where(there, now, 1.0), 1.0)[:, None]
        self.volume *= factor
        self.mass *= factor
        empty = ~there & (volume > 0.0)
        self.begin[empty], self.count[empty] = 0, 1
        self.volume[empty, 0], self.mass[empty, 0] = volume[empty], 0.0
        had = self.shaft > 0.0
        self.at_node *= np.where(had & (shaft > 0.0), shaft / np.where(had, self.shaft, 1.0), 1.0)
        self.shaft = np.array(shaft, dtype=np.float64)
        return self.stored - before
