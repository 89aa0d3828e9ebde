"""Steps in time: implicit, mass-conservative, of first or second order, shortened where they do not converge or err."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.flow.equations import Balance, FlowEquations, TimeStep
from inkhorn.flow.newton import NewtonRow, Rules, newton, stuck
from inkhorn.flow.result import FlowStep

__all__ = ["Stepping", "joined", "march", "recorded"]

Array = NDArray[np.float64]

_GAMMA = 1.0 - np.sqrt(0.5)
_SHORTEST = 1e-3  # of the step asked for
_EASY = 8  # Newton steps below which the next step may be longer again


@dataclass(frozen=True)
class Stepping:
    """How steps are taken.

    Parameters
    ----------
    order : {1, 2}
        Implicit Euler, or a pair of implicit stages of second order.
    head_error : float, optional
        What a step may err by in any head [m]: steps that err by more are taken again, shorter.
    """

    order: int = 1
    head_error: float | None = None


@dataclass(frozen=True)
class _Taken:
    """One step: where it leads, what flowed, and what it errs by."""

    unknowns: Array
    record: FlowStep
    error: float
    closure: float
    newton_steps: int


def recorded(
    equations: FlowEquations, unknowns: Array, balance: Balance, period: int, end: float
) -> FlowStep:
    """Return the record of a steady solution."""
    n = len(equations.cells)
    return FlowStep(
        start=end,
        end=end,
        steady=True,
        heads=unknowns[:n],
        own=unknowns[n:],
        face_flow=balance.face_flow,
        term_flow=equations.term_flows(balance),
        storage_change=np.zeros(n),
        drainage=np.zeros(n),
        period=period,
    )


def _stage(
    equations: FlowEquations, unknowns: Array, step: TimeStep, rules: Rules, rows: list[NewtonRow]
) -> tuple[FlowEquations, Array, Balance, float]:
    """Solve one implicit stage.

    Raises
    ------
    ConvergenceError
        If it does not close.
    """
    n, stage = len(equations.cells), equations.over(step)
    start = unknowns.copy()
    start[:n] = stage.start(start[:n])[:n]  # fixed heads as they are now
    begun = len(rows)
    found, balance, measure = newton(stage, stage.settled(start), rules, rows)
    if measure > rules.closure:
        words = f"the step from day {step.start:.6g} to {step.end:.6g}"
        raise stuck(stage, found, balance, measure, rules.closure, rows[begun:], words)
    return stage, found, balance, measure


def _step(
    equations: FlowEquations,
    unknowns: Array,
    begin: float,
    end: float,
    period: int,
    order: int,
    slope: Array | None,
    rules: Rules,
    rows: list[NewtonRow],
) -> _Taken:
    """Take one step by Euler's method, or by Alexander's.

    `slope` is how fast heads changed in the step before, if stresses were the same.
    """
    n, length, begun = len(equations.cells), end - begin, len(rows)
    heads, stored = unknowns[:n], equations.stored(unknowns[:n])
    flows: list[tuple[float, FlowEquations, Balance]] = []
    first: Array | None = None
    at, before, worst = unknowns, TimeStep(begin, end, stored), 0.0
    if order == 2:
        middle = TimeStep(begin, begin + _GAMMA * length, stored)
        stage, at, balance, worst = _stage(equations, unknowns, middle, rules, rows)
        ahead = stored + (1.0 / _GAMMA - 1.0) * (equations.stored(at[:n]) - stored)
        if _holds(equations, ahead[0]):
            flows.append((1.0 - _GAMMA, stage, balance))
            first, before = at[:n], TimeStep(end - _GAMMA * length, end, ahead)
    stage, found, balance, measure = _stage(equations, at, before, rules, rows)
    flows.append((1.0 - sum(share for share, *_ in flows), stage, balance))
    now = found[:n]
    if first is None:  # half of what the change of slope makes
        foreseen = 0.5 * (now + heads + (0.0 if slope is None else length * slope))
    else:  # what Euler's method alone would say
        foreseen = heads + (first - heads) / _GAMMA
    change = (equations.stored(now) - stored) / length
    terms = [[share * q for q in eq.term_flows(b)] for share, eq, b in flows]
    record = FlowStep(
        start=begin,
        end=end,
        steady=False,
        heads=now,
        own=found[n:],
        face_flow=np.asarray(sum(share * b.face_flow for share, _, b in flows)),
        term_flow=tuple(np.asarray(sum(parts)) for parts in zip(*terms, strict=True)),
        storage_change=change.sum(axis=0),
        drainage=change[0],
        period=period,
        order=len(flows),
    )
    error = float(np.abs(_above_base(equations, now) - _above_base(equations, foreseen)).max(initial=0.0))
    return _Taken(found, record, error, max(worst, measure), len(rows) - begun)


def _holds(equations: FlowEquations, drained: Array) -> bool:
    """Whether no cell is thought to hold less water than none, or more than it can."""
    most, _ = equations.storativity
    slack = 1e-6 * most
    return bool((drained >= -slack).all() and (drained <= most + slack).all())


def _above_base(equations: FlowEquations, heads: Array) -> Array:
    """Heads, but no lower than the base of the cell: below it they say nothing of water."""
    return heads if equations.model.water_table.confined else np.maximum(heads, equations.cells.bottom)


def march(
    equations: FlowEquations,
    unknowns: Array,
    begin: float,
    ends: Iterable[float],
    period: int,
    stepping: Stepping,
    rules: Rules,
    rows: list[NewtonRow],
) -> Iterator[tuple[FlowStep, Array, float]]:
    """Go through the steps of a period, or several shorter ones each, and yield records, unknowns and closures.

    Raises
    ------
    ConvergenceError
        If a step a thousandth as long as asked for does not close either.

    References
    ----------
    Alexander, R. (1977), Diagonally implicit Runge-Kutta methods for stiff O.D.E.'s, SIAM J. Numer. Anal. 14(6),
    1006-1021 (two stages, L-stable, of second order).
    """
    n, at, slope, length = len(equations.cells), begin, None, np.inf
    for end in ends:
        whole = end - at
        if stepping.head_error is None:
            length = whole
        while at < end:
            there = min(at + length, end)
            there = end if end - there < 1e-9 * whole else there
            try:
                taken = _step(equations, unknowns, at, there, period, stepping.order, slope, rules, rows)
            except ConvergenceError:
                length = 0.5 * (there - at)
                if length < _SHORTEST * whole:
                    raise
                continue
            allowed, tried = stepping.head_error, there - at
            if allowed is None:
                length *= 2.0 if taken.newton_steps < _EASY else 1.0
            else:
                factor = 0.9 * np.sqrt(allowed / max(taken.error, 1e-3 * allowed))
                if taken.error > allowed and tried > _SHORTEST * whole:
                    length = tried * max(min(factor, 0.5), 0.1)
                    continue
                length = max(length, tried) if there == end and factor >= 1.0 else tried
                length *= float(np.clip(factor, 0.5, 3.0))
            slope = (taken.unknowns[:n] - unknowns[:n]) / tried
            unknowns, at = taken.unknowns, there
            yield taken.record, unknowns, taken.closure


def joined(records: Iterable[FlowStep], ends: Array | None) -> Iterator[FlowStep]:
    """Join records that follow each other into one up to each of these times: heads at its end, mean flows over it.

    Steady ones stay as they are, and so do all without any times.
    """
    parts: list[FlowStep] = []
    for record in records:
        if record.steady or ends is None:
            yield record
            continue
        parts.append(record)
        if np.isclose(ends, record.end, rtol=0.0, atol=1e-9 * max(record.end, 1.0)).any():
            yield _join(parts)
            parts = []
    if parts:
        yield _join(parts)


def _join(parts: list[FlowStep]) -> FlowStep:
    if len(parts) == 1:
        return parts[0]
    whole = parts[-1].end - parts[0].start
    shares = [(p.end - p.start) / whole for p in parts]

    def mean(name: str) -> Array:
        return np.asarray(sum(share * getattr(p, name) for share, p in zip(shares, parts, strict=True)))

    return replace(
        parts[-1],
        start=parts[0].start,
        face_flow=mean("face_flow"),
        term_flow=tuple(
            np.asarray(sum(share * q for share, q in zip(shares, flows, strict=True)))
            for flows in zip(*(p.term_flow for p in parts), strict=True)
        ),
        storage_change=mean("storage_change"),
        drainage=mean("drainage"),
        joins=sum(p.joins for p in parts),
    )
