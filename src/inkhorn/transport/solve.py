"""Dissolved species carried by a flow, steady or in time: the times and the steps."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.dates import one_date
from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.model.solutes import START
from inkhorn.progress import Progress
from inkhorn.site import Species
from inkhorn.sizes import refuse_beyond
from inkhorn.transport.carried import Carried
from inkhorn.transport.dispersion import Dispersion
from inkhorn.transport.holding import ImmobileWater
from inkhorn.transport.neighbours import Neighbours
from inkhorn.transport.passing import Passing, passing_of
from inkhorn.transport.reactions import react
from inkhorn.transport.record import OWN, PlumeStore
from inkhorn.transport.result import TransportResult
from inkhorn.transport.scheme import COURANT
from inkhorn.transport.taken import Taken
from inkhorn.transport.watched import Watched
from inkhorn.units import WithUnit, plain

__all__ = ["METHODS", "refuse_long_transport", "refuse_what_lacks", "solve_transport"]

Array = NDArray[np.float64]

METHODS = ("sharp", "upstream")
_SLOW_WATER = 0.01  # share of what holds a species that may be taken implicitly, so that it does not set the step of all
_WORTH = 4.0  # times a longer step, from which on it is
_MIXING = 8.0  # times a longer step than mixing allows explicitly, from which on it is taken implicitly
_ERROR = 0.005  # of the highest concentration: what a step may be off by in implicit cells
_TOO_MUCH = 4.0 * _ERROR  # from which on it is taken back, and a shorter one tried
_DECAY = 0.2  # of the time in which the fastest decays to 1/e: the longest step


def refuse_long_transport(duration: float, step_length: float, outputs: int, n_cells: int) -> None:
    """Refuse more steps, or more to be kept, than is allowed for.

    Parameters
    ----------
    duration, step_length : float
        [day].
    outputs : int
        Times that are kept.
    n_cells : int
        Cells of the grid.

    Raises
    ------
    InputError
        With the estimate and the limit.
    """
    steps = duration / step_length
    refuse_beyond("steps", steps, "the transport", "Take longer steps.")
    refuse_beyond(
        "memory",
        8.0 * outputs * n_cells,
        f"{float(outputs):.3g} outputs of {n_cells} cells",
        "Ask for fewer outputs.",
    )


def _spans(flow: FlowResult, until: float, repeated: bool) -> Iterator[tuple[int, float, float]]:
    """Steps of the flow with the days at which they are gone through, again and again where that is asked for."""
    steps = flow.steps
    if len(steps) == 1 and steps[0].steady:
        yield 0, -np.inf, np.inf
        return
    last = float(steps[-1].end)
    for k in range(len(steps)):
        if steps[k].end > steps[k].begin:
            yield k, float(steps[k].begin), float(steps[k].end)
    if not repeated:
        return
    again = [k for k in range(len(steps)) if not steps[k].steady and steps[k].end > steps[k].begin] or [
        len(steps) - 1
    ]
    begin = float(steps[again[0]].begin)
    shift = last - begin
    if shift <= 0.0:
        raise InputError("a flow that is to be repeated lasts no time. Give it periods that change.")
    turn = 1
    while begin + turn * shift < until:
        for k in again:
            yield k, float(steps[k].begin) + turn * shift, float(steps[k].end) + turn * shift
        turn += 1


def _longest(carried: Sequence[Carried], longest: float) -> tuple[float, bool]:
    """The step to be taken, and whether some of the mixing is then implicit."""
    best, implicit = longest, False
    for one in carried:
        alone, whole, hold = one.residence()
        held = one.held | (hold <= 0.0)
        if held.all():
            continue
        weight = np.where(held, 0.0, hold)

        def of(times: Array, weight: Array = weight) -> float:
            order = np.argsort(times)
            reached = np.cumsum(weight[order])
            most = float(times[order][np.searchsorted(reached, _SLOW_WATER * reached[-1])])
            least = float(times[order][np.searchsorted(reached, 0.0, "right")])
            return COURANT * (most if most > _WORTH * least else least)

        carry, mix = of(alone), of(whole)
        if carry > _MIXING * mix:
            implicit = implicit or carry < longest or mix < longest
            best = min(best, carry)
        else:
            best = min(best, mix)
        fastest = max(one.species.decay)
        if fastest > 0.0:
            best = min(best, _DECAY / fastest)
    return best, implicit


def _output_times(begin: float, until: float, outputs: int, times: ArrayLike | None) -> Array:
    if times is None:
        return np.linspace(begin, until, outputs + 1)[1:]
    given = np.unique(np.atleast_1d(np.asarray(times, dtype=np.float64)))
    if not len(given) or given[0] < begin or not np.isfinite(given).all():
        raise InputError(f"times are {times}; expected days from {begin:g} on.")
    given = given[given > begin]
    return given if len(given) and given[-1] >= until else np.append(given, until)


def refuse_what_lacks(
    model: Model, species: Species, dispersion: Dispersion, immobile: ImmobileWater | None, start: Any
) -> None:
    """Refuse a species whose properties, or those of the ground that it needs, are not all there.

    Raises
    ------
    InputError
        If numbers by material name one that is not there or leave one out, bulk density is missing where something sorbs,
        or something goes by dates and day 0 has none.
    """
    nothing = np.zeros(model.grid.n_cells, dtype=bool)
    near: Any = None  # which only steps need
    initial = model.grid.per_cell("initial", species.initial)
    Carried(
        model, near, species, dispersion, initial, _date(model, start), left_out=nothing, immobile=immobile
    )


def solve_transport(
    flow: FlowResult,
    species: Species | Sequence[Species],
    *,
    duration: WithUnit | None = None,
    outputs: int = 20,
    times: ArrayLike | None = None,
    dispersion: Dispersion | Mapping[str, Dispersion] | None = None,
    initial: ArrayLike | Mapping[str, ArrayLike] | None = None,
    step_length: WithUnit | None = None,
    method: str = "sharp",
    immobile: ImmobileWater | None = None,
    only_in: ArrayLike | None = None,
    repeated: bool = False,
    start: Any = None,
    keep_flows: bool = False,
    go_on_from: TransportResult | Mapping[str, TransportResult] | None = None,
    store: PlumeStore | Mapping[str, PlumeStore] | None = None,
    progress: Progress | None = None,
) -> Any:
    """Carry dissolved species with a flow, steady or in time.

    Concentrations are means over cells. They stay within those of their neighbourhood and of the water that comes in, and
    are carried with third order where the mesh is even; dispersion takes the whole tensor. Steps are chosen.

    Parameters
    ----------
    flow : FlowResult
        With porosity.
    species : Species or sequence of Species
        What is dissolved; several are carried together, and may decay into each other. Its concentration in the water
        that a feature brings in is the model's `inflow_concentration`, or the species' `background`. Wells and
        collectors give back the mix of what they take.
    duration : float, optional
        How long [day]; as long as the flow is given for, if not said. Steady flow has no end.
    outputs : int
        How many times are kept, evenly spread, beside the beginning.
    times : array_like of float, optional
        Days that are kept instead; they are met exactly.
    dispersion : Dispersion or mapping of str to Dispersion, optional
        Dispersivities and diffusion, of all species or each; none if not given.
    initial : array_like of float or mapping, optional
        Concentration at the beginning, as `Grid.per_cell` takes it, of all species or each [g/m³]; that of the species if
        not given.
    step_length : float, optional
        The longest step [day]; chosen if not given.
    method : {"sharp", "upstream"}
        "upstream" is implicit and takes the steps it is given, however long: for a first look, as it spreads fronts by
        about half a cell and half a step's travel; see `inkhorn.transport.numerical_spreading`.
    immobile : ImmobileWater, optional
        Water in pores that it does not flow through.
    only_in : array_like of bool, optional
        Cells that take part, as `Grid.per_cell` takes them; from others water comes with the background.
    repeated : bool
        Whether a flow that ends before is gone through again and again, steady periods left out.
    start : datetime64 or str, optional
        The date of day 0, for concentrations by date; that of the schedule if not given.
    keep_flows : bool
        Keep flows of mass across faces, for `TransportResult.across`.
    go_on_from : TransportResult or mapping, optional
        A result to go on from, to the same end or a later one.
    store : PlumeStore or mapping, optional
        Where records go, one for each species; a list if not given.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.

    Returns
    -------
    TransportResult, or dict of TransportResult by name where several species are given

    Raises
    ------
    InputError
        If porosity, or bulk density where something sorbs, is missing; if no concentration is stated of water that comes
        in; if the flow ends before the transport does.
    """
    several = not isinstance(species, Species)
    of: list[Species] = list(species) if several else [species]  # type: ignore[arg-type,list-item]  # just told apart
    model = flow.model
    begin, until = _duration(flow, duration, repeated)
    check_positive("outputs", outputs)
    if method not in METHODS:
        raise InputError(f'method is "{method}"; expected one of {list(METHODS)}.')
    longest = np.inf if step_length is None else float(plain(step_length, "time", "step_length"))
    if step_length is not None:
        check_positive("step_length", longest, unit="days")
    elif method == "upstream":
        raise InputError('the method "upstream" takes the steps it is given; give step_length.')
    keep = _output_times(begin, until, outputs, times)
    refuse_long_transport(until - begin, min(longest, until - begin), len(keep), model.grid.n_cells)
    date = _date(model, start)
    if model.porosity is None:
        raise InputError("transport needs a porosity. Give one for every material (or to Model).")
    _refuse_family(of)
    near = Neighbours.of(model.grid)
    left_out = np.zeros(model.grid.n_cells, dtype=bool)
    if only_in is not None:
        left_out = model.grid.per_cell("only_in", np.asarray(only_in, dtype=np.float64)) == 0.0
    carried = []
    for one in of:
        given = initial.get(one.name) if isinstance(initial, Mapping) else initial
        values = model.grid.per_cell("initial", one.initial if given is None else given)
        check_nonnegative("initial", values, unit="g/m³")
        spread = dispersion.get(one.name) if isinstance(dispersion, Mapping) else dispersion
        carried.append(
            Carried(
                model,
                near,
                one,
                spread or Dispersion(),
                values,
                date,
                left_out=left_out,
                immobile=immobile,
                sharp=method == "sharp",
            )
        )
    stores: list[Any] = [
        [] if store is None else (store[one.name] if isinstance(store, Mapping) else store) for one in of
    ]
    run = _Run(flow, carried, stores, begin, until, keep, longest, method, repeated, keep_flows, progress)
    if go_on_from is not None:
        run.take_over([go_on_from[s.name] if isinstance(go_on_from, Mapping) else go_on_from for s in of])
    run.go()
    made = {s.name: run.result(k) for k, s in enumerate(of)}
    return made if several else made[of[0].name]


def _refuse_family(of: Sequence[Species]) -> None:
    names = [s.name for s in of]
    if len(set(names)) < len(names):
        raise InputError(f"species appear twice: {names}. Give each its own name.")
    for s in of:
        for daughter in s.daughters:
            if daughter not in names:
                raise InputError(
                    f'{s.name} decays into "{daughter}", which is not carried along; carried are {names}. Add it.'
                )


def _date(model: Model, start: Any) -> np.datetime64 | None:
    if start is not None:
        return one_date(start, "start")
    return None if model.schedule is None else model.schedule.start


def _duration(flow: FlowResult, duration: WithUnit | None, repeated: bool) -> tuple[float, float]:
    """Begin and end of the transport [day]."""
    steps = flow.steps
    steady = len(steps) == 1 and steps[0].steady
    begin, end = (0.0, np.inf) if steady else (float(steps[0].begin), float(steps[-1].end))
    if duration is None:
        if steady:
            raise InputError("steady flow has no end; give a duration.")
        return begin, end
    lasting = float(plain(duration, "time", "duration"))
    check_positive("duration", lasting, unit="days")
    if begin + lasting > end * (1.0 + 1e-12) and not repeated:
        raise InputError(
            f"the transport is to last {lasting:g} days, but the flow ends after {end - begin:g}. Give a shorter "
            "duration, a longer schedule, or let the flow be repeated (`repeated`)."
        )
    return begin, begin + lasting


class _Run:
    """All species over all steps of the flow."""

    def __init__(
        self,
        flow: FlowResult,
        carried: list[Carried],
        stores: list[Any],
        begin: float,
        until: float,
        keep: Array,
        longest: float,
        method: str,
        repeated: bool,
        keep_flows: bool,
        progress: Progress | None,
    ) -> None:
        self.flow, self.carried, self.stores, self.begin, self.until = flow, carried, stores, begin, until
        self.keep, self.longest, self.method, self.repeated = keep, longest, method, repeated
        self.keep_flows, self.progress = keep_flows, progress
        self.time, self.since, self.count = begin, begin, 0
        self.length = 0.0  # of the last step
        self.keys = {one.species.name: _keys(flow.model, one) for one in carried}
        self.watched = Watched(flow.model)
        for one, store in zip(carried, stores, strict=True):
            if hasattr(store, "begin"):
                store.begin(self.keys[one.species.name], self.watched.names, one.start)
        self.fresh = True

    def take_over(self, made: Sequence[TransportResult]) -> None:
        """Begin where results ended."""
        for one, result, store in zip(self.carried, made, self.stores, strict=True):
            last = result.records[len(result.records) - 1]
            one.take_over(last, result.keys)
            self.time = self.since = last.time
            for k in range(len(store), len(result.records)):
                store.append(result.records[k])
            if tuple(result.keys) != self.keys[one.species.name] or result.places != self.watched.names:
                raise InputError(
                    "what is to be gone on from is of other features or bores, or of another species."
                )
        self.keep = self.keep[self.keep > self.time]
        self.fresh = False

    def go(self) -> None:
        steady = None
        for number, begin, end in _spans(self.flow, self.until, self.repeated):
            if end <= self.time or begin >= self.until:
                continue
            passing = steady if steady is not None else passing_of(self.flow, number)
            if not np.isfinite(end):
                steady = passing
            self._over(passing, max(begin, self.time), min(end, self.until), begin)

    def _over(self, passing: Passing, begin: float, end: float, first: float) -> None:
        """Go through a step of the flow, or the rest of it."""
        if np.isfinite(first) and passing.begin != first:
            passing = passing.moved_to(first)
        for one in self.carried:
            one.meet(passing, begin)
        self.taken = Taken(self.flow.model, passing)
        self.watched.meet(self.taken)
        stops = [self.keep, *(one.inflow.changes for one in self.carried), [end]]
        events = np.unique(np.concatenate([np.asarray(s, dtype=np.float64) for s in stops]))
        for event in events[(events > begin) & (events <= end)].tolist():
            for one in self.carried:
                one.arrive(self.time, event, self._taken_now(one))
            if self.fresh:
                self._keep()
                self.fresh = False
            self._until(event)
            if (np.abs(self.keep - event) <= 1e-12 * max(1.0, abs(event))).any():
                self._keep()

    def _until(self, event: float) -> None:
        most, implicit = _longest(self.carried, self.longest)
        if self.method == "upstream":
            most, implicit = self.longest, False
        now, explicit = most, most
        if implicit:
            explicit = max(min(float(c.residence()[1].min()) for c in self.carried) * COURANT, 1e-12)
            now = min(most, self.length or explicit)
        now = max(now, 1e-12)
        while self.time < event:
            left = event - self.time
            count = max(int(np.ceil(left / now - 1e-9)), 1)
            length = left / count
            errors, before = [], [one.c for one in self.carried]
            kept = [one.kept() for one in self.carried] if implicit else []
            react(self.carried, 0.5 * length)
            for one in self.carried:
                one.exchange_with_immobile(0.5 * length)
                errors.append(one.step(length))
                one.exchange_with_immobile(0.5 * length)
            react(self.carried, 0.5 * length)
            if implicit and max(errors) > _TOO_MUCH and length > 2.0 * explicit:
                for one, state in zip(self.carried, kept, strict=True):
                    one.take_back(state)
                now = max(0.5 * length, explicit)
                continue
            self.time = event if count == 1 else self.time + length
            for one, c0 in zip(self.carried, before, strict=True):
                one.time = self.time
                one.note(c0, length)
                self._watch(one, length)
                if one.returns and self.time < event:
                    one.arrive(self.time, event, self._taken_now(one))
            self.count += 1
            self.length = length
            if implicit:
                worst = max(errors)
                now = (
                    min(2.0 * length, most)
                    if worst < 0.25 * _ERROR
                    else length
                    if worst < _ERROR
                    else 0.5 * length
                )
            if self.progress is not None:
                names = ", ".join(one.species.name for one in self.carried)
                share = (self.time - self.begin) / (self.until - self.begin)
                self.progress(f"following {names}, day {self.time:.0f} of {self.until:.0f}", share)

    def _watch(self, one: Carried, length: float = 0.0) -> None:
        row = self.watched.of(self.taken, one)
        if len(one.last_watched) and length > 0.0:
            for time, between in self.watched.within(
                one, self.time - length, self.time, one.last_watched, row
            ):
                one.watch_times.append(time)
                one.watched.append(between)
        one.watch_times.append(self.time)
        one.watched.append(row)
        one.last_watched = row

    def _taken_now(self, one: Carried) -> dict[str, float]:
        """Concentrations of what features take now, where any of it is put in again."""
        if not one.returns:
            return {}
        values = np.nan_to_num(self.taken.of(one.c, one.brings))
        return dict(zip(self.taken.names, values.tolist(), strict=True))

    def _keep(self) -> None:
        for one, store in zip(self.carried, self.stores, strict=True):
            if self.keep_flows and not len(one.across):
                one.across = np.zeros(len(one.near.a))
                one.rim = np.zeros(len(self.flow.model.grid.outer_faces))
            if self.fresh:
                self._watch(one)
            store.append(one.record(self.keys[one.species.name], self.since, self.length))
            one.across, one.rim = np.zeros_like(one.across), np.zeros_like(one.rim)
            one.watch_times, one.watched = [], []
        self.since = self.time

    def result(self, k: int) -> TransportResult:
        one = self.carried[k]
        keys, places = self.keys[one.species.name], self.watched.names
        return TransportResult(self.flow, one.species, self.stores[k], keys, places, one.start)


def _keys(model: Model, one: Carried) -> tuple[tuple[str, str], ...]:
    """All that may bring mass in or take it out."""
    features = [(t.kind, name) for t in model.terms for name in t.feature_names]
    solutes = [(s.kind, s.name) for s in one.solutes if s.kind != START]
    return (*features, *dict.fromkeys(solutes), *OWN)
