"""Steps in time: implicit, mass-conservative, of first or second order, shortened where they do not converge or err."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import ConvergenceError
from inkhorn.flow.balance import Balance, TimeStep
from inkhorn.flow.continuation import solved, stuck
from inkhorn.flow.equations import FlowEquations
from inkhorn.flow.newton import Rules
from inkhorn.flow.record import FlowStep
from inkhorn.flow.report import NewtonRow, SolverReport

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
    equations: FlowEquations, unknowns: Array, balance: Balance, period: int, begin: float, end: float
) -> FlowStep:
    """Return the record of a steady solution, which holds from begin to end."""
    n = len(equations.cells)
    return FlowStep(
        begin=begin,
        end=end,
        steady=True,
        heads=unknowns[:n],
        extra_unknowns=unknowns[n:],
        face_flow=balance.face_flow,
        term_flow=equations.term_flows(balance),
        storage_change=np.zeros(n),
        drainage=np.zeros(n),
        extra_storage=np.zeros(len(unknowns) - n),
        outside=equations.outside(balance),
        link_flow=tuple(answer.link_flow for answer in balance.contributions),
        state=tuple(answer.state for answer in balance.contributions),
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
    start[:n] = stage.held(start[:n])
    begun = len(rows)
    found, balance, measure = solved(stage, stage.settled(start), rules, rows)
    if not stage.closes(balance, rules.closure):
        words = f"the step from day {step.begin:.6g} to {step.end:.6g}"
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
    heads, stored = unknowns[:n], equations.storage.stored(unknowns[:n])
    extra_stored = equations.extra_stored(unknowns)
    at, middle, worst, share = unknowns, None, 0.0, 1.0
    last, last_step = equations, TimeStep(begin, end, stored, extra_stored)
    if order == 2:
        half = TimeStep(begin, begin + _GAMMA * length, stored, extra_stored)
        stage, at, balance, worst = _stage(equations, unknowns, half, rules, rows)
        middle = _Middle.of(stage, at[:n], balance, half, length)
        share, last = (
            _GAMMA,
            equations.weighted(
                middle.face / _GAMMA,
                tuple(w / _GAMMA for w in middle.entry),
                tuple(w / _GAMMA for w in middle.own),
            ),
        )
        last_step = TimeStep(end - _GAMMA * length, end, middle.ahead, middle.extra_ahead)
    stage, found, balance, measure = _stage(last, at, last_step, rules, rows)
    now, answers = found[:n], balance.contributions
    face_flow = share * balance.face_flow
    term_flow = [share * answer.flow for answer in answers]
    outside, links = list(stage.outside(balance)), [answer.link_flow for answer in answers]
    if middle is None:  # half of what the change of slope makes
        foreseen = 0.5 * (now + heads + (0.0 if slope is None else length * slope))
    else:  # what Euler's method alone would say
        foreseen = heads + (at[:n] - heads) / _GAMMA
        face_flow = face_flow + middle.face_flow
        term_flow = [q + before for q, before in zip(term_flow, middle.term_flow, strict=True)]
        outside = [w * q + (1.0 - w) * b for w, q, b in zip(middle.own, outside, middle.outside, strict=True)]
        for k, (term, own) in enumerate(zip(equations.model.terms, middle.own, strict=True)):
            w = own[term.links[:, 0]]
            links[k] = w * links[k] + (1.0 - w) * middle.link_flow[k]
    change = (equations.storage.stored(now) - stored) / length
    _give_fixed(equations, face_flow, term_flow, change.sum(axis=0))
    record = FlowStep(
        begin=begin,
        end=end,
        steady=False,
        heads=now,
        extra_unknowns=found[n:],
        face_flow=face_flow,
        term_flow=tuple(term_flow),
        storage_change=change.sum(axis=0),
        drainage=change[0],
        extra_storage=(balance.extra_stored - extra_stored) / length,
        outside=tuple(outside),
        link_flow=tuple(links),
        state=tuple(answer.state for answer in answers),
        period=period,
        order=order,
    )
    error = float(np.abs(_above_base(equations, now) - _above_base(equations, foreseen)).max(initial=0.0))
    return _Taken(found, record, error, max(worst, measure), len(rows) - begun)


@dataclass(frozen=True)
class _Middle:
    """What the first stage hands on to the second.

    Of every flow the second counts by a share, the first by what is left: both stages of Alexander's method, but
    the second alone, as in Euler's, at cells that would else be asked for more water than they hold or given more
    than they take. Water is kept all the same, for a flow has one share on both its sides.

    Attributes
    ----------
    face, entry : ndarray of float, and one for each term
        Shares of the second stage.
    own : tuple of ndarray of float, (n_extra,)
        Those of the balances of extra unknowns, for each term. What flows in and out of a store has one share.
    face_flow, term_flow, outside, link_flow : ndarray of float, and one for each term
        What the first gives to the mean flows; of the last two, its flows themselves.
    ahead : ndarray of float, (2, n_cells)
        The water that the second begins with, all in one.
    extra_ahead : ndarray of float, (n_extra,)
        That in extra unknowns.
    """

    face: Array
    entry: tuple[Array, ...]
    own: tuple[Array, ...]
    face_flow: Array
    term_flow: tuple[Array, ...]
    outside: tuple[Array, ...]
    link_flow: tuple[Array, ...]
    ahead: Array
    extra_ahead: Array

    @classmethod
    def of(
        cls, stage: FlowEquations, heads: Array, balance: Balance, begun: TimeStep, length: float
    ) -> _Middle:
        """Find the shares for the first stage as it is solved, from how it was `begun`."""
        n, (first, second), stored = len(heads), (stage.first, stage.second), begun.stored
        terms, most = stage.model.terms, stage.storage.drains
        slack = 1e-6 * most
        drained = stored[0] + (1.0 / _GAMMA - 1.0) * (stage.storage.stored(heads)[0] - stored[0])
        by_euler = (drained < -slack) | (drained > most + slack)
        short = [
            len(answer.stored) > 0 and _runs_short(stage, k, balance, begun, length)
            for k, answer in enumerate(balance.contributions)
        ]
        while True:
            face = np.where(by_euler[first] | by_euler[second], 1.0, _GAMMA)
            entry, own = [], []
            for term, answer, empties in zip(terms, balance.contributions, short, strict=True):
                # all of a feature alike, so that its rate is what was asked; all of a term that stores
                touched = np.bincount(term.feature_index, by_euler[term.cells], len(term.feature_names)) > 0
                if len(answer.stored):
                    touched[:] = empties or touched.any()
                entry.append(np.where(touched[term.feature_index], 1.0, _GAMMA))
                own.append(np.where(touched[term.extra_feature], 1.0, _GAMMA))
            face_flow = (1.0 - face) * balance.face_flow
            term_flow = [(1.0 - w) * q.flow for w, q in zip(entry, balance.contributions, strict=True)]
            ahead = stored.sum(axis=0) + length * (stage.divergence @ face_flow)
            for term, q in zip(terms, term_flow, strict=True):
                ahead += length * np.bincount(term.cells, q, n)
            more = (ahead < -slack) & ~by_euler & (most > 0.0)
            if not more.any():
                break
            by_euler |= more
        extra_ahead = begun.extra_stored.copy()
        for k, answer in enumerate(balance.contributions):
            if len(answer.stored):
                mine = slice(stage.first_extra[k] - n, stage.first_extra[k + 1] - n)
                # what the first stage brings over the whole step, by the share of it that counts
                extra_ahead[mine] += (1.0 - own[k]) * length * balance.extra_storage_change[mine]
        return cls(
            face,
            tuple(entry),
            tuple(own),
            face_flow,
            tuple(term_flow),
            stage.outside(balance),
            tuple(answer.link_flow for answer in balance.contributions),
            np.stack([ahead, np.zeros(n)]),
            extra_ahead,
        )


def _runs_short(stage: FlowEquations, k: int, balance: Balance, begun: TimeStep, length: float) -> bool:
    """Whether the second stage would begin with less water in the extra unknowns of a term than there can be."""
    mine = slice(stage.first_extra[k] - len(stage.cells), stage.first_extra[k + 1] - len(stage.cells))
    ahead = begun.extra_stored[mine] + (1.0 - _GAMMA) * length * balance.extra_storage_change[mine]
    least = stage.model.terms[k].least_stored
    return bool((ahead < least - 1e-9 * np.maximum(1.0, np.abs(ahead))).any())


def _give_fixed(equations: FlowEquations, face_flow: Array, term_flow: list[Array], change: Array) -> None:
    """Let fixed heads give what the mean flows over the step leave open at their cells."""
    n, terms = len(change), equations.model.terms
    for k, term in enumerate(terms):
        if term.holds.any():
            term_flow[k] = np.where(term.holds, 0.0, term_flow[k])
            others = sum(np.bincount(t.cells, q, n) for t, q in zip(terms, term_flow, strict=True))
            missing = change - equations.divergence @ face_flow - others
            term_flow[k] = np.where(term.holds, missing[term.cells], term_flow[k])


def _above_base(equations: FlowEquations, heads: Array) -> Array:
    """Heads, but no lower than the base of the cell: below it they say nothing of water."""
    return heads if equations.model.water_table.confined else np.maximum(heads, equations.cells.bottom)


def march(
    equations: FlowEquations,
    unknowns: Array,
    begin: float,
    spans: Iterable[Sequence[float]],
    period: int,
    stepping: Stepping,
    rules: Rules,
    rows: list[NewtonRow],
    done: FlowStep | None = None,
) -> Iterator[tuple[FlowStep, Array, float]]:
    """Go through the steps of a period, or several shorter ones each, and yield records, unknowns and closures.

    `spans` are begin and end of each step of the schedule, the first perhaps begun already: after a record that is
    `done` in this period the next step is as long as it would have been, and judged alike.

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
    begun = 0.0
    if done is not None:
        begun, slope = done.next_step, done.slope if len(done.slope) else None
        length = begun or np.inf
    judged = stepping.head_error is not None and stepping.order == 1
    for opened, end in spans:
        whole = end - opened
        if stepping.head_error is None:
            length, begun = begun or whole, 0.0
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
            equations = equations.begun_with(taken.record.state)
            record = replace(
                taken.record,
                next_step=0.0 if at == end and allowed is None else float(length),
                slope=slope if judged else np.empty(0),
            )
            yield record, unknowns, taken.closure


def joined(records: Iterable[FlowStep], ends: Array | None) -> Iterator[FlowStep]:
    """Join records that follow each other into one up to each of these times: heads at its end, mean flows over it.

    Steady ones stay as they are, and so do all without any times.
    """
    whole: FlowStep | None = None
    for record in records:
        if record.steady or ends is None:
            if whole is not None:
                yield whole
                whole = None
            yield record
            continue
        whole = record if whole is None else _join(whole, record)
        if np.isclose(ends, record.end, rtol=0.0, atol=1e-9 * max(record.end, 1.0)).any():
            yield whole
            whole = None
    if whole is not None:
        yield whole


def _join(before: FlowStep, after: FlowStep) -> FlowStep:
    """One record for two that follow each other."""
    share = (after.end - after.begin) / (after.end - before.begin)

    def mean(one: Array, other: Array) -> Array:
        return (1.0 - share) * one + share * other

    return replace(
        after,
        begin=before.begin,
        face_flow=mean(before.face_flow, after.face_flow),
        term_flow=tuple(mean(*pair) for pair in zip(before.term_flow, after.term_flow, strict=True)),
        storage_change=mean(before.storage_change, after.storage_change),
        drainage=mean(before.drainage, after.drainage),
        extra_storage=mean(before.extra_storage, after.extra_storage),
        outside=tuple(mean(*pair) for pair in zip(before.outside, after.outside, strict=True)),
        link_flow=tuple(mean(*pair) for pair in zip(before.link_flow, after.link_flow, strict=True)),
        joins=before.joins + after.joins,
        report=SolverReport.of([before.report, after.report]),
    )
