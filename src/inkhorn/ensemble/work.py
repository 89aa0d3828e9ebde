"""One run, wherever it is made: drawn, solved, followed, read."""

from __future__ import annotations

import pickle
import signal
from collections.abc import Mapping
from dataclasses import dataclass, field
from hashlib import blake2b
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.ensemble.adjusting import Adjusting
from inkhorn.ensemble.asked import Carry, Follow, Outcome
from inkhorn.ensemble.readers import Watching
from inkhorn.ensemble.sampling import Shares
from inkhorn.ensemble.varied import Drawn, VariedSet
from inkhorn.errors import InkhornError, InputError
from inkhorn.flow import FlowResult, solve_flow
from inkhorn.model import Model

__all__ = ["JobUnknown", "Made", "Recipe", "keep_here", "one_run", "quiet_worker"]

Array = NDArray[np.float64]


class JobUnknown(Exception):  # noqa: N818 - no mistake of anyone: a worker says that it was not told yet
    """A worker has not been sent the job that it is to do a run of."""


@dataclass(frozen=True, eq=False)
class Made:
    """What one run gave.

    Attributes
    ----------
    run : int
        Its number, from 0.
    numbers : ndarray of float, (n_numbers,)
        That were drawn.
    values : ndarray of float, (n_watched,)
    maps : list of ndarray of float, (n_plan,)
    reason : str
        Why it failed; nothing if it did not.
    """

    run: int
    numbers: Array = field(repr=False)
    values: Array = field(repr=False)
    maps: list[Array] = field(repr=False)
    reason: str = ""


@dataclass(frozen=True, eq=False)
class Recipe:
    """All that a run is made of but for its number.

    Attributes
    ----------
    varied : VariedSet
    watching : Watching
    shares : Shares
        Which numbers each run has.
    seed : int
    carries, follows
        What the flow is followed by.
    solver : mapping
        What `solve_flow` takes beside the model.
    near : FlowResult
        With the values that the model states: where solving begins.
    initial_heads : any
        Of flow in time that does not begin steady.
    adjusting : Adjusting, optional
        Fits each run to readings.
    """

    varied: VariedSet
    watching: Watching
    shares: Shares
    seed: int
    carries: tuple[Carry, ...] = ()
    follows: tuple[Follow, ...] = ()
    solver: Mapping[str, Any] = field(default_factory=dict)
    near: Array | None = None
    initial_heads: Any = None
    adjusting: Adjusting | None = None

    def drawn(self, run: int) -> Drawn:
        """Return what a run has beforehand."""
        return self.varied.of(self._prior(run))

    def _prior(self, run: int) -> Array:
        return self.varied.prior(self.shares.of(run), np.random.SeedSequence([self.seed, 4, run]))

    def _taken(self, run: int) -> Drawn:
        """What a run has, fitted to its readings where there are any."""
        drawn = self._prior(run)
        if self.adjusting is not None:
            drawn = self.adjusting.adjusted(drawn, np.random.SeedSequence([self.seed, 5, run]))
        return self.varied.of(drawn)

    def flow_of(self, model: Model) -> FlowResult:
        """Solve the flow of a run, from heads that are the same for all."""
        schedule = model.schedule
        steady_first = schedule is None or bool(schedule.steady[0])
        first = self.near if steady_first and self.near is not None else self.initial_heads
        return solve_flow(model, initial_heads=first, **self.solver)

    def outcome_of(self, model: Model) -> Outcome:
        """Solve all of a run."""
        flow = self.flow_of(model)
        plumes = {name: plume for c in self.carries for name, plume in c.solved(flow).items()}
        return Outcome(flow, plumes, {f.name: f.solved(flow) for f in self.follows})

    def made(self, run: int) -> Made:
        """Make a run. What cannot be solved is no error, but a reason."""
        numbers = np.full(len(self.varied), np.nan)
        try:
            drawn = self._taken(run)
            numbers = drawn.numbers
            outcome = self.outcome_of(self.varied.model_of(drawn))
            return Made(run, drawn.numbers, self.watching.read(outcome), self.watching.read_maps(outcome))
        except InkhornError as problem:
            reason = str(problem)
        except Exception as problem:  # whatever it is, it is told and costs no other run
            reason = f"{type(problem).__name__}: {problem}"
        return Made(run, numbers, np.full(len(self.watching), np.nan), [], reason.partition("\n")[0])

    def packed(self) -> tuple[str, bytes]:
        """Return it as bytes, and what they are known by.

        Raises
        ------
        InputError
            If something of it cannot be sent to other processes.
        """
        try:
            blob = pickle.dumps(self, protocol=pickle.HIGHEST_PROTOCOL)
        except (pickle.PicklingError, AttributeError, TypeError) as problem:
            raise InputError(
                f"what is asked for cannot be sent to other processes: {problem}. Use functions of a module, or "
                "workers=0."
            ) from None
        return blake2b(blob, digest_size=16).hexdigest(), blob


_known: dict[str, Recipe] = {}  # of this worker: the last job that it was sent


def one_run(key: str, blob: bytes | None, run: int) -> Made:
    """Make a run in a worker.

    Parameters
    ----------
    key : str
        Of the job.
    blob : bytes, optional
        The job, if it is not known to be there.
    run : int

    Raises
    ------
    JobUnknown
        If the job is not there and was not sent.
    """
    if key not in _known:
        if blob is None:
            raise JobUnknown(key)
        _known.clear()
        _known[key] = pickle.loads(blob)
    return _known[key].made(run)


def keep_here(key: str, recipe: Recipe | None) -> None:
    """Let this process itself know a job; none lets it forget."""
    _known.clear()
    if recipe is not None:
        _known[key] = recipe


def quiet_worker() -> None:
    """Begin as a local worker: it does not hear Ctrl-C, which is for the process that sent it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
