"""Signals that ask a run to stop: all end like Ctrl-C, and none while a folder is put away."""

from __future__ import annotations

import _thread
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

__all__ = ["asked_to_stop", "held_back", "stopping_like_ctrl_c"]

_ASK_TO_STOP = tuple(
    number for name in ("SIGINT", "SIGTERM", "SIGHUP") if (number := getattr(signal, name, None)) is not None
)

_AGAIN = 0.05  # s after which to ask again


_asked: list[int] = []  # signals are the process's own, so what it was asked is too


def _stop(number: int, frame: Any) -> None:
    _asked.append(number)
    raise KeyboardInterrupt


def _nothing(lost: Any) -> None:
    """Say nothing of files that cannot be closed since their closing was interrupted: they are thrown away."""


def asked_to_stop() -> bool:
    """Whether the process was asked to stop, though what it met on the way may have made another error of it."""
    return bool(_asked)


@contextmanager
def stopping_like_ctrl_c() -> Iterator[None]:
    """Let what a batch queue (SIGTERM) or a closed terminal (SIGHUP) sends end the run as Ctrl-C does.

    A signal that the shell has said to ignore, as after ``nohup``, stays ignored. The process is to end soon after one
    that was heeded: what finalizers meet from then on is not told.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    _asked.clear()
    before = {s: signal.getsignal(s) for s in _ASK_TO_STOP}
    for number, handler in before.items():
        if handler is not signal.SIG_IGN:
            signal.signal(number, _stop)
    swallowed = sys.unraisablehook

    def asked_again(lost: Any) -> None:
        """Ask once more where Python met the first in a place that nothing can be raised from, as a finalizer."""
        if issubclass(lost.exc_type, KeyboardInterrupt):
            threading.Timer(_AGAIN, _thread.interrupt_main).start()
        elif not _asked:
            swallowed(lost)

    sys.unraisablehook = asked_again
    try:
        yield
    finally:
        sys.unraisablehook = _nothing if _asked else swallowed
        for number, handler in before.items():
            signal.signal(number, handler)


@contextmanager
def held_back() -> Iterator[None]:
    """Let what asks to stop wait until something short that must be whole is done."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    waiting: list[int] = []
    before = {s: signal.getsignal(s) for s in _ASK_TO_STOP}
    for number, handler in before.items():
        if handler is not signal.SIG_IGN:
            signal.signal(number, lambda number, frame: waiting.append(number))
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    if waiting:
        raise KeyboardInterrupt
