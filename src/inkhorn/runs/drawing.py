"""Pictures drawn by a second process while this one goes on, and by this one when it has nothing else to do."""

from __future__ import annotations

import os
import pickle
import signal
import subprocess
import sys
from collections import deque
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Condition, Thread
from typing import IO, TYPE_CHECKING, Any

from inkhorn.threads import processors

if TYPE_CHECKING:
    from inkhorn.runs.product import Picture
    from inkhorn.unit_choice import UnitChoice

__all__ = ["Drawing"]

_FEWEST = 4_000  # cells, below which pictures come so soon that a second process would not have begun
_MOST = 200_000  # cells, above which to send what is drawn, and hold it twice, costs more than is gained
_GRACE = 2.0  # s that the second process has to end
_TURN, _PATIENCE = 0.1, 120.0  # s between looks at whether it is done, and until it is taken to hang
_DRAWN, _REFUSED = b"+", b"-"


@dataclass(frozen=True)
class _Task:
    """One picture, and how the second process is told of it: what it has to know, and which of it."""

    picture: Picture
    knows: bytes
    number: int


class Drawing:
    """Draws pictures beside other work, each once.

    Pictures are taken from the front by a second process, which is another Python and needs nothing of the script
    that called, and from the back by this one. What the other cannot draw, for whatever reason, is left to this one.

    Parameters
    ----------
    units : UnitChoice
        That pictures show.
    cells : int
        Of the model: there is no second process where it would cost more than it gains, or with one processor.
    """

    def __init__(self, units: UnitChoice, cells: int) -> None:
        self._units = units
        self._shared = _FEWEST <= cells <= _MOST and processors() > 1 and bool(sys.executable)
        self._left: deque[_Task] = deque()
        self._own: deque[Picture] = deque()  # that only this process can draw
        self._process: subprocess.Popen[bytes] | None = None
        self._busy, self._ended = False, False
        self._change = Condition()

    def add(self, pictures: Sequence[Picture]) -> None:
        """Have pictures drawn, of what will not change any more."""
        if not self._shared:
            self._own.extend(pictures)
            return
        try:
            fills = pickle.dumps([p.fill for p in pictures], protocol=pickle.HIGHEST_PROTOCOL)
            knows = pickle.dumps(
                (self._units, _looks(), fills)
            )  # here: elsewhere what draws may be half loaded
        except (pickle.PicklingError, AttributeError, TypeError):  # of a plot that a script made
            self._own.extend(pictures)
            return
        with self._change:
            self._left.extend(_Task(picture, knows, k) for k, picture in enumerate(pictures))
            self._change.notify_all()
        if self._process is None:
            self._begin()

    def left(self) -> Iterator[Picture]:
        """Yield what this process has to draw itself, until all is drawn."""
        waits = 0.0
        while True:
            with self._change:
                if self._own:
                    picture = self._own.popleft()
                elif self._left:
                    picture = self._left.pop().picture
                elif self._busy:
                    self._change.wait(_TURN)
                    waits += _TURN
                    if waits > _PATIENCE and self._process is not None:
                        self._process.kill()  # what hangs there is drawn here
                    continue
                else:
                    return
            yield picture

    def __enter__(self) -> Drawing:
        return self

    def __exit__(self, *problem: object) -> None:
        """End the second process, whatever it is at."""
        with self._change:
            self._left.clear()
            self._ended = True
            self._change.notify_all()
        if self._process is not None:
            self._process.terminate()
            try:
                self._process.wait(_GRACE)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()

    def _begin(self) -> None:
        found = os.pathsep.join(p for p in sys.path if p)
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-c", f"from {__name__} import serve; serve()"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                env={**os.environ, "PYTHONPATH": found},
            )
        except OSError:
            self._shared = False
            self._give_back()
            return
        Thread(target=self._send, args=(self._process,), daemon=True).start()

    def _give_back(self) -> None:
        """Leave what the second process did not draw to this one."""
        with self._change:
            self._own.extend(task.picture for task in self._left)
            self._left.clear()
            self._change.notify_all()

    def _send(self, process: subprocess.Popen[bytes]) -> None:
        """Send one picture after the other, and wait for each; whatever ends this, none is waited for any more."""
        try:
            self._exchange(process)
        finally:
            self._shared = False
            with self._change:
                self._busy = False
            self._give_back()

    def _exchange(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stdin is not None
        assert process.stdout is not None
        known = b""
        with suppress(OSError), process.stdin as out, process.stdout as back:  # to be closed, when it is gone
            while True:
                with self._change:
                    self._busy = False
                    self._change.notify_all()
                    self._change.wait_for(lambda: bool(self._left) or self._ended)
                    if self._ended:
                        return
                    task, self._busy = self._left.popleft(), True
                answer = b""
                try:
                    if task.knows is not known:
                        _write(out, task.knows)
                        known = task.knows
                    _write(out, pickle.dumps((task.number, task.picture.path)))
                    answer = back.read(1)
                except Exception:  # it is gone, or cannot be told of this
                    return
                finally:
                    if answer != _DRAWN:
                        with self._change:
                            self._own.append(task.picture)
                if answer not in (_DRAWN, _REFUSED):
                    return


def _looks() -> dict[str, Any]:
    """How a script that called lets Matplotlib draw, if it has loaded it: pictures look alike whoever draws them."""
    loaded = sys.modules.get("matplotlib")
    if loaded is None:
        return {}
    return {k: v for k, v in dict.items(loaded.rcParams) if not k.startswith("backend")}


def _write(out: IO[bytes], message: bytes) -> None:
    out.write(message)
    out.flush()


def serve() -> None:
    """Be the second process: read what to draw from the standard input until that ends, and say what was drawn."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it is for the process that sent what to draw
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))  # lets go of a file that is half written
    back = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what is printed is no answer
    from inkhorn.draw import save_figure

    units: Any = None
    fills: list[Any] = []
    with suppress(EOFError, BrokenPipeError):
        while True:
            what = pickle.load(sys.stdin.buffer)
            if len(what) == 3:
                units, looks, knows = what
                import matplotlib as mpl

                mpl.rcParams.update(looks)
                fills = []
                with suppress(Exception):  # of a module that is not found here: each is refused
                    fills = pickle.loads(knows)
                continue
            number, path = what
            answer = _drawn(save_figure, fills, number, path, units)
            _write(back, answer)


def _drawn(save: Any, fills: list[Any], number: int, path: Path, units: UnitChoice) -> bytes:
    try:
        save(path, fills[number], units=units)
    except Exception:
        return _REFUSED  # the process that sent it tells why, when it tries itself
    return _DRAWN
