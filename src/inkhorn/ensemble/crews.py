"""Who makes the runs: this process, processes of this machine, a cluster, or any executor."""

from __future__ import annotations

import os
import sys
import time
import warnings
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from contextlib import contextmanager, nullcontext, suppress
from types import ModuleType
from typing import Any

from inkhorn.ensemble.work import quiet_worker
from inkhorn.errors import InputError
from inkhorn.threads import processors

__all__ = ["Crew", "DaskCluster", "Executors", "Here", "LocalProcesses", "crew_of"]

_GRACE = 2.0  # s that runs under way have to come to their end
_ONE_THREAD = (
    "NUMBA_NUM_THREADS",
    "OMP_NUM_THREADS",
    "OPENBLAS_NUM_THREADS",
    "MKL_NUM_THREADS",
    "VECLIB_MAXIMUM_THREADS",
)


class Crew(ABC):
    """Makes an executor, and another when that is lost.

    Attributes
    ----------
    at_once : int
        How many runs it makes at the same time.
    """

    at_once: int = 1

    @abstractmethod
    def open(self) -> Executor:
        """Return an executor that works."""

    def submit(self, executor: Executor, function: Callable[..., Any], *args: Any) -> Future[Any]:
        """Hand a task over."""
        return executor.submit(function, *args)

    def lost(self) -> bool:
        """Whether what was handed over will never come back, though no future says so."""
        return False

    def close(self, executor: Executor) -> None:
        """Let go of an executor; what is under way there is given up."""
        executor.shutdown(wait=False, cancel_futures=True)

    @property
    @abstractmethod
    def words(self) -> str:
        """Who it is, in words."""


class _Now(Executor):
    """Does each task when it is handed over."""

    def submit(self, function: Any, /, *args: Any, **options: Any) -> Future[Any]:
        future: Future[Any] = Future()
        try:
            future.set_result(function(*args, **options))
        except Exception as problem:
            future.set_exception(problem)
        return future


class Here(Crew):
    """This process itself, one run after the other."""

    def open(self) -> Executor:
        return _Now()

    @property
    def words(self) -> str:
        return "this process"


@contextmanager
def _environment(**values: str) -> Iterator[None]:
    before = {k: os.environ.get(k) for k in values}
    os.environ.update(values)
    try:
        yield
    finally:
        for key, value in before.items():
            if value is None:
                os.environ.pop(key, None)
            else:
                os.environ[key] = value


@contextmanager
def _without_main() -> Iterator[None]:
    """Let processes begin without the script that called, which may have no guard against being run again."""
    main = sys.modules["__main__"]
    sys.modules["__main__"] = ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = main


class LocalProcesses(Crew):
    """Processes of this machine, each with one thread.

    Attributes
    ----------
    needs_main : bool
        Whether runs need what the script that called defines, so that processes begin by running it.

    Parameters
    ----------
    count : int, optional
        How many; as many as there are processors if not given.
    """

    needs_main = False

    def __init__(self, count: int | None = None) -> None:
        self.at_once = processors() if count is None else count
        if self.at_once < 1:
            raise InputError(f"workers is {count}; expected 1 or more, or 0 for this process itself.")

    def open(self) -> Executor:
        import multiprocessing

        return ProcessPoolExecutor(
            self.at_once, mp_context=multiprocessing.get_context("spawn"), initializer=quiet_worker
        )

    def submit(self, executor: Executor, function: Callable[..., Any], *args: Any) -> Future[Any]:
        # processes are made as tasks come
        with (
            _environment(**dict.fromkeys(_ONE_THREAD, "1")),
            nullcontext() if self.needs_main else _without_main(),
        ):
            return executor.submit(function, *args)

    def close(self, executor: Executor) -> None:
        processes = list((getattr(executor, "_processes", None) or {}).values())
        keeper, calls, results = (
            getattr(executor, name, None)
            for name in ("_executor_manager_thread", "_call_queue", "_result_queue")
        )
        super().close(executor)
        if keeper is not None:
            keeper.join(_GRACE)
        if keeper is None or not keeper.is_alive():
            return
        for process in processes:  # what takes longer is not waited for
            process.kill()
        # a process that dies in the midst of a message leaves its reader waiting, unless nobody else can write
        for end in (getattr(results, "_writer", None), getattr(calls, "_reader", None)):
            with suppress(OSError, AttributeError):
                end.close()  # type: ignore[union-attr]  # suppressed
        keeper.join(_GRACE)

    @property
    def words(self) -> str:
        return "1 process" if self.at_once == 1 else f"{self.at_once} processes"


class Executors(Crew):
    """Any executor that a function makes.

    Parameters
    ----------
    make : callable
        Returns a `concurrent.futures.Executor`; called again when one is lost.
    at_once : int
        How many tasks it does at the same time.
    """

    def __init__(self, make: Callable[[], Executor], at_once: int | None = None) -> None:
        self.make, self.at_once = make, at_once or processors()

    def open(self) -> Executor:
        return self.make()

    @property
    def words(self) -> str:
        return "executors of one's own"


class DaskCluster(Crew):
    """Workers of a Dask cluster.

    Parameters
    ----------
    address : str
        Of its scheduler, as ``"tcp://10.0.0.5:8786"``.
    patience : float
        How long a scheduler that is away is waited for [s].
    """

    def __init__(self, address: str, patience: float = 120.0) -> None:
        try:
            import distributed  # noqa: F401
        except ImportError:
            raise InputError(
                'a cluster needs the package distributed. Install it with pip install "inkhorn[cluster]".'
            ) from None
        self.address, self.patience = address, patience
        self.client: Any = None

    def open(self) -> Executor:
        from distributed import Client

        until, said = time.monotonic() + self.patience, ""
        while True:
            try:
                with warnings.catch_warnings():
                    warnings.simplefilter(
                        "ignore"
                    )  # of versions that differ a little: told by the cluster's own log
                    self.client = Client(self.address, timeout=min(10.0, self.patience), set_as_default=False)
                break
            except (OSError, ValueError, TimeoutError) as problem:
                said = str(problem)
                if time.monotonic() > until:
                    raise InputError(
                        f"there is no scheduler at {self.address}: {said}. Start one, or give another address."
                    ) from None
                time.sleep(1.0)
        self.at_once = max(1, sum(self.client.nthreads().values()))
        executor: Executor = self.client.get_executor(pure=False, retries=2)
        return executor

    def submit(self, executor: Executor, function: Callable[..., Any], *args: Any) -> Future[Any]:
        with warnings.catch_warnings():
            warnings.simplefilter(
                "ignore", UserWarning
            )  # of the size of a job, which goes to each worker once
            return executor.submit(function, *args)

    def lost(self) -> bool:
        return self.client is not None and self.client.status not in ("running", "connecting")

    def close(self, executor: Executor) -> None:
        try:
            executor.shutdown(wait=False)
            self.client.close(timeout=5)
        except Exception:
            pass

    @property
    def words(self) -> str:
        return f"{self.at_once} threads of the cluster at {self.address}"


def crew_of(workers: int | None, executor: Callable[[], Executor] | None, cluster: str | None) -> Crew:
    """Return who makes the runs, by what was said."""
    if sum(v is not None for v in (executor, cluster)) + (workers == 0) > 1:
        raise InputError("runs are made here, by an executor or by a cluster. Say one of them.")
    if cluster is not None:
        return DaskCluster(cluster)
    if executor is not None:
        return Executors(executor, workers)
    return Here() if workers == 0 else LocalProcesses(workers)
