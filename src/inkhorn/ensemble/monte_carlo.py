"""Monte Carlo: many runs, each with inputs drawn by chance."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, CancelledError, Executor, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration import Observations
from inkhorn.ensemble.adjusting import Adjusting
from inkhorn.ensemble.asked import Carry, Follow
from inkhorn.ensemble.crews import Crew, Here, LocalProcesses, crew_of
from inkhorn.ensemble.maps import WatchMap
from inkhorn.ensemble.readers import Watching
from inkhorn.ensemble.result import Ensemble
from inkhorn.ensemble.sampling import Sampling, Shares
from inkhorn.ensemble.state import EnsembleState
from inkhorn.ensemble.statistics import STATISTICS, standard_error
from inkhorn.ensemble.varied import Fitted, Varied, VariedSet
from inkhorn.ensemble.watched import Watch
from inkhorn.ensemble.work import JobUnknown, Made, Recipe, keep_here, one_run
from inkhorn.errors import ConvergenceError, InputError, check_positive, did_you_mean
from inkhorn.flow import solve_flow
from inkhorn.model import Model
from inkhorn.progress import Progress

__all__ = ["Settle", "vary"]

Array = NDArray[np.float64]
Keep = Callable[[EnsembleState, bool], None]

_TRIES = 3  # of a run whose worker dies
_LOOK_EVERY = 10  # runs after which it is looked whether a statistic has settled
_AHEAD = 6  # runs, of each worker, that may be done before their turn to be taken in
_WAIT = 1.0  # s after which it is looked whether the executor is lost


@dataclass(frozen=True)
class Settle:
    """When there are runs enough: a statistic of something watched has a small standard error.

    Parameters
    ----------
    watch : str
        Of what, by its name; at its last time.
    error : float
        The standard error that is enough, in its unit.
    statistic : str
        One of "mean", "deviation", "median", "mode", "skewness", or as in "quantile 95 %".
    least : int
        Runs that there are at the least.
    """

    watch: str
    error: float
    statistic: str = "mean"
    least: int = 50

    def __post_init__(self) -> None:
        check_positive("standard error that is enough", self.error)
        known = list(STATISTICS)
        if self.statistic not in known:
            try:
                share = float(self.statistic.removeprefix("quantile ").rstrip(" %"))
            except ValueError:
                share = -1.0
            if not (self.statistic.startswith("quantile ") and 0.0 < share < 100.0):
                raise InputError(
                    f'the statistic that is to settle is "{self.statistic}"; expected one of {known}, or as in '
                    f'"quantile 95 %".{did_you_mean(self.statistic, known)}'
                )


def vary(
    model: Model,
    varied: Sequence[Varied | Fitted],
    watch: Sequence[Watch],
    *,
    runs: int = 100,
    seed: int = 0,
    sampling: Sampling = "latin hypercube",
    maps: Sequence[WatchMap] = (),
    carry: Sequence[Carry] | Carry = (),
    follow: Sequence[Follow] | Follow = (),
    fit_to: Observations | None = None,
    settle: Settle | None = None,
    workers: int | None = None,
    executor: Callable[[], Executor] | None = None,
    cluster: str | None = None,
    block: int | None = None,
    initial_heads: Any = None,
    solver: Mapping[str, Any] | None = None,
    keep: Keep | None = None,
    heard: Callable[[Ensemble], None] | None = None,
    go_on: EnsembleState | None = None,
    progress: Progress | None = None,
) -> Ensemble:
    """Run a model many times with inputs drawn by chance, and say what the runs say together.

    Runs are numbered; a run has the same inputs and comes to the same bits wherever it is made and however many there
    are, and they are taken in by their numbers. So more may be added later, and it does not matter who made them. A run
    that cannot be solved is kept with its reason; so is one whose worker dies three times.

    Parameters
    ----------
    model : Model
        With all that is not varied.
    varied : sequence of Varied or Fitted
        What differs from run to run.
    watch : sequence of Watch
        What is read of each run; all numbers are kept.
    runs : int
        How many, at the most if `settle` is given.
    seed : int
        Of everything that is drawn.
    sampling : {"latin hypercube", "sobol", "random"}
        How numbers that have a distribution are drawn; fields are drawn by chance in any case.
    maps : sequence of WatchMap
        Maps of which statistics are kept, in bounded memory.
    carry : Carry or sequence of Carry
        What is dissolved in the flow.
    follow : Follow or sequence of Follow
        Paths that are followed.
    fit_to : Observations, optional
        What was measured, with standard deviations: each run is fitted to it by changing what was drawn as little as need
        be, so that together the runs show what is known afterwards. Where the flow goes through time it may be that of
        the steady first period.
    settle : Settle, optional
        When there are runs enough.
    workers : int, optional
        Processes of this machine, one thread each, as many as it has processors if not given; 0 for this process itself.
    executor : callable, optional
        Returns a `concurrent.futures.Executor` that makes the runs instead; `workers` is then how many it makes at once.
    cluster : str, optional
        The address of the scheduler of a Dask cluster that makes them instead.
    block : int, optional
        Runs of a Latin hypercube; as many as are asked for if not given. Say as many as at first where more are added.
    initial_heads : array_like of float, optional
        As of `solve_flow`, where the flow in time does not begin steady.
    solver : mapping, optional
        Further arguments of `solve_flow`.
    keep : callable, optional
        Given the `EnsembleState` whenever runs were taken in, and whether that is the last time.
    heard : callable, optional
        Given the `Ensemble` so far whenever runs were taken in.
    go_on : EnsembleState, optional
        Runs that there are already.
    progress : callable, optional
        Told how it goes, as `inkhorn.progress.Progress` says.

    Returns
    -------
    Ensemble

    Raises
    ------
    InputError
        If anything asked for cannot be; before any run.
    ConvergenceError
        If the flow with the values as stated does not close, or every run failed.

    References
    ----------
    Metropolis, N. and Ulam, S. (1949), The Monte Carlo method, Journal of the American Statistical Association 44(247),
    335-341.
    """
    if runs < 1:
        raise InputError(f"runs is {runs}; expected 1 or more.")
    carries = (carry,) if isinstance(carry, Carry) else tuple(carry)
    follows = (follow,) if isinstance(follow, Follow) else tuple(follow)
    if not watch and not maps:
        raise InputError("nothing is watched. Name something to watch (`watch` or `maps`).")
    tell = progress or (lambda *_: None)
    tell("looking at what is varied and watched", None)
    ready = VariedSet(model, varied)
    watching = Watching(model, watch, maps, carries, follows)
    if settle is not None and settle.watch not in [w.name for w in watching.watches]:
        known = [w.name for w in watching.watches]
        raise InputError(
            f'"{settle.watch}" is to settle, and is not watched; expected one of {known}.'
            f"{did_you_mean(settle.watch, known)}"
        )
    shares = Shares(len(ready), sampling, seed, block or runs)
    crew = crew_of(workers, executor, cluster)
    tell("the run with the values as stated", None)
    steps = {"order": 1, "results": "steps", **(solver or {})}
    near = solve_flow(model, initial_heads=initial_heads, **steps).steps[0].heads
    recipe = Recipe(
        ready, watching, shares, seed, carries, follows, steps, np.asarray(near), initial_heads,
        None if fit_to is None else _adjusting(model, varied, fit_to, steps, np.asarray(near), initial_heads),
    )  # fmt: skip
    outcome = recipe.outcome_of(model)
    stated = watching.read(outcome)
    watching.read_maps(outcome)  # what cannot be read is said before many runs are made
    key, blob = ("here", b"") if isinstance(crew, Here) else recipe.packed()
    if isinstance(crew, LocalProcesses):
        crew.needs_main = b"__main__" in blob
    state = go_on or EnsembleState.empty(watching, key)
    found = Ensemble(watching, state, ready.names, ready.units, stated, "runs are made", ready.notes)

    def taken_in(so_far: EnsembleState, last: bool) -> None:
        if keep is not None:
            keep(so_far, last)
        if heard is not None and not last:
            heard(found)

    keep_here(key, recipe if isinstance(crew, Here) else None)
    making = _Making(key, blob, state, crew, runs, settle, watching, taken_in, tell, len(ready))
    try:
        reason = making.go()
    finally:
        keep_here(key, None)
    if state.count and len(state.failed) == state.count:
        raise ConvergenceError(
            f"all {state.count} runs failed; the first because: {state.failed[0]} Vary less, or mend the model."
        )
    return replace(found, reason=reason)


def _adjusting(
    model: Model, varied: Sequence[Varied | Fitted], seen: Observations, steps: Mapping[str, Any], near: Array,
    initial_heads: Any,
) -> Adjusting:  # fmt: skip
    """What fits runs to readings: of flow through time, or of its steady first period if the readings are."""
    of_steady = bool(np.isnan(seen.table["time [day]"].to_numpy(dtype=np.float64)).all())
    if of_steady and model.schedule is not None:
        if not model.schedule.steady[0]:
            raise InputError(
                "the readings are means beside steady flow, and the first period is not steady. Let it be, or give "
                "readings in time."
            )
        model = model.at_period(0)
    solver = {k: v for k, v in steps.items() if k not in ("order", "results", "head_error")}
    still = model.schedule is None or bool(model.schedule.steady[0])
    return Adjusting(VariedSet(model, varied), seen, solver, near if still else initial_heads)


class _Making:
    """Runs that are being made: handed over, come back, taken in by their numbers."""

    def __init__(
        self, key: str, blob: bytes, state: EnsembleState, crew: Crew, runs: int, settle: Settle | None,
        watching: Watching, keep: Keep, tell: Progress, n_numbers: int,
    ) -> None:  # fmt: skip
        self.n_numbers = n_numbers
        self.key, self.blob, self.state, self.crew, self.runs = key, blob, state, crew, runs
        self.settle, self.watching, self.keep, self.tell = settle, watching, keep, tell
        self.waiting: dict[Future[Made], int] = {}
        self.back: dict[int, Made] = {}  # done before their turn
        self.again: list[int] = []  # to be handed over once more
        self.alone: list[int] = []  # may have killed their worker: one at a time
        self.tries: dict[int, int] = {}
        self.next = state.count
        self.sent = 0
        self.came = 0  # since an executor was lost
        self.losses = 0

    def go(self) -> str:
        """Make all runs that are wanted, and return why there are no more."""
        executor: Executor | None = None
        try:
            while True:
                enough = self._enough()
                if enough:
                    return enough
                if executor is None:
                    executor = self.crew.open()
                    self.sent = 0
                self._hand_over(executor)
                done, _ = wait(self.waiting, timeout=_WAIT, return_when=FIRST_COMPLETED)
                lost = not done and self.crew.lost()
                for future in done:
                    lost = self._came_back(executor, future) or lost
                if lost:
                    self._lost(executor)
                    executor = None
                self._take_in()
        finally:
            if executor is not None:
                self.crew.close(executor)
            self.keep(self.state, True)

    def _enough(self) -> str:
        """Why there are runs enough; nothing if there are not."""
        count = self.state.count
        if count >= self.runs:
            return "all runs that were asked for are done"
        if self.settle is None or count < self.settle.least or count % _LOOK_EVERY:
            return ""
        row = np.flatnonzero((self.watching.columns["watched"] == self.settle.watch).to_numpy())[-1]
        values = self.state.column(int(row))
        error = standard_error(values[np.isfinite(values)], self.settle.statistic)
        if not error <= self.settle.error:
            return ""
        unit = self.watching.columns["unit"].iloc[row]
        return f"the {self.settle.statistic} of {self.settle.watch} has settled: its standard error is {error:.3g} {unit}"

    def _hand_over(self, executor: Executor) -> None:
        """Give workers enough to do; what may have killed one goes alone."""
        if self.alone:
            if not self.waiting:
                self._submit(executor, self.alone[0])
            return
        most = max(2, 2 * self.crew.at_once) if self.crew.at_once > 1 else 1
        while len(self.waiting) < most:
            if self.again:
                self._submit(executor, self.again.pop(0))
            elif self.next < min(self.runs, self.state.count + _AHEAD * max(2, self.crew.at_once)):
                self._submit(executor, self.next)
                self.next += 1
            else:
                return

    def _submit(self, executor: Executor, run: int, *, with_job: bool = False) -> None:
        blob = self.blob if with_job or self.sent < self.crew.at_once else None
        self.sent += 1
        try:
            self.waiting[self.crew.submit(executor, one_run, self.key, blob, run)] = run
        except (RuntimeError, OSError) as problem:  # it broke before anything came back from it
            broken: Future[Made] = Future()
            broken.set_exception(problem)
            self.waiting[broken] = run

    def _came_back(self, executor: Executor, future: Future[Made]) -> bool:
        """Take a run that is done; return whether the executor is lost."""
        run = self.waiting.pop(future)
        try:
            made = future.result()
        except JobUnknown:
            self._submit(executor, run, with_job=True)
            return False
        except (BrokenProcessPool, CancelledError, RuntimeError, OSError) as problem:
            self._not_done(run, problem)
            return True
        except Exception as problem:
            self._not_done(run, problem)
            return False
        self.back[run] = made
        self.came += 1
        self.alone = [r for r in self.alone if r != run]
        return False

    def _not_done(self, run: int, problem: BaseException) -> None:
        """Note a run that never came back."""
        self.tries[run] = self.tries.get(run, 0) + 1
        self.alone = [r for r in self.alone if r != run]
        if self.tries[run] >= _TRIES:
            said = str(problem) or type(problem).__name__
            self.back[run] = Made(
                run, np.full(self.n_numbers, np.nan), np.full(len(self.watching), np.nan), [],
                f"its worker died {_TRIES} times: {said.partition(chr(10))[0]}",
            )  # fmt: skip
        elif self.tries[run] == _TRIES - 1:
            self.alone.append(run)
        else:
            self.again.append(run)

    def _lost(self, executor: Executor) -> None:
        """Begin anew with another executor; what was under way is handed over again."""
        self.losses = 0 if self.came else self.losses + 1
        self.came = 0
        for run in list(self.waiting.values()):
            self._not_done(run, CancelledError("the executor was lost"))
        self.waiting.clear()
        self.crew.close(executor)
        if self.losses >= _TRIES:
            raise InputError(
                "the processes that are to make the runs end before they have done anything. If this is called from a "
                'script, call it below `if __name__ == "__main__":`, or give workers=0.'
            )
        self.tell("workers were lost; others take over", self.state.count / self.runs)

    def _take_in(self) -> None:
        """Take in runs by their numbers, as far as they are back."""
        count = self.state.count
        while self.state.count in self.back and not (self.state.count > count and self._enough()):
            self.state.add(self.back.pop(self.state.count))
        if self.state.count > count:
            failed = f", {len(self.state.failed)} failed" if self.state.failed else ""
            self.tell(
                f"{self.state.count} of {self.runs} runs by {self.crew.words}{failed}",
                self.state.count / self.runs,
            )
            self.keep(self.state, False)
