"""The few exceptions, and the checks of numbers that raise them.

Every message says what was given, where, what was expected and what to do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import KW_ONLY, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = [
    "ConvergenceError",
    "InkhornError",
    "InkhornWarning",
    "InputError",
    "check_finite",
    "check_nonnegative",
    "check_positive",
    "coordinate_off",
    "did_you_mean",
    "gathering",
    "naming",
    "place_words",
]


class InkhornError(Exception):
    """Anything Inkhorn raises on purpose."""


class InkhornWarning(UserWarning):
    """A result that stands, but should be looked at."""


class InputError(InkhornError, ValueError):
    """Something given cannot be used; the message says where it is and what would do."""


@dataclass
class ConvergenceError(InkhornError):
    """A solver stopped before its closure was reached.

    Attributes
    ----------
    message : str
        What did not close, where it is worst, and what to try.
    iterations : int
        Iterations done.
    history : sequence of float
        The measure of closure after each iteration.
    worst : str
        Where the residual is largest, in words.
    state : ndarray or None
        The last iterate, in the order of the solver's unknowns.
    """

    message: str
    _: KW_ONLY
    iterations: int = 0
    history: Sequence[float] = ()
    worst: str = ""
    state: NDArray[np.float64] | None = field(default=None, repr=False)

    def __str__(self) -> str:
        return self.message


def did_you_mean(word: str, known: Sequence[str]) -> str:
    """Suggest the nearest of the known words, as the tail of a message (may be empty).

    >>> did_you_mean("conductivty", ["conductivity", "porosity"])
    ' Did you mean "conductivity"?'
    """
    from difflib import get_close_matches

    near = get_close_matches(word, list(known), n=1, cutoff=0.6)
    return f' Did you mean "{near[0]}"?' if near else ""


@contextmanager
def naming(where: str) -> Iterator[None]:
    """Say where, before what is wrong within."""
    try:
        yield
    except InputError as problem:
        raise InputError(f"{where}: {problem}") from None


@contextmanager
def gathering() -> Iterator[Gathering]:
    """Go on past errors of input, and raise all of them at the end, a line each.

    >>> with gathering() as tried:
    ...     x = tried(check_positive, "x", -1.0)
    ...     y = tried(check_positive, "y", 2.0)
    ...     z = tried(check_positive, "z", 0.0)
    Traceback (most recent call last):
    inkhorn.errors.InputError: x is -1 ; expected a finite value > 0.
    z is 0 ; expected a finite value > 0.
    """
    tried = Gathering()
    try:
        yield tried
    except InputError as problem:  # within, where nothing is tried: it may follow from those before
        tried.lines += [] if tried.lines else [str(problem)]
    except (TypeError, AttributeError, KeyError, ValueError):
        if not tried.lines:
            raise
    if tried.lines:
        raise InputError("\n".join(dict.fromkeys(tried.lines)))


class Gathering:
    """Calls functions, and keeps what they complain of."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def __call__(self, function: Callable[..., Any], *given: Any, **options: Any) -> Any:
        """Return what a function returns, None where it complains of its input."""
        try:
            return function(*given, **options)
        except InputError as problem:
            self.lines.append(str(problem))
            return None


def coordinate_off(shape: Any, most: float = 1e9) -> str | None:
    """Return a corner of a shape that is not finite, or farther off than any map reaches; None if there is none.

    >>> import shapely
    >>> coordinate_off(shapely.Point(1e300, 2.0))
    'x=1e+300, y=2'
    """
    import shapely

    corners = shapely.get_coordinates(shape)
    wrong = np.flatnonzero(~(np.abs(corners) <= most).all(axis=1))
    return None if not len(wrong) else "x={:.6g}, y={:.6g}".format(*corners[wrong[0]])


def place_words(x: float, y: float) -> str:
    """Say where a place is, to the decimetre; near zero by four figures.

    >>> place_words(5701699.96, 250.0), place_words(0.01254, 7.0)
    ('x=5701700, y=250', 'x=0.01254, y=7')
    """
    return ", ".join(
        f"{axis}={v:.1f}".removesuffix(".0") if abs(v) >= 100.0 else f"{axis}={v + 0.0:.4g}"
        for axis, v in (("x", x), ("y", y))
    )


def _check(
    name: str, values: ArrayLike, unit: str, expected: str, accept: Any, remedy: str
) -> NDArray[np.float64]:
    try:
        array = np.asarray(values)
        if array.dtype.kind not in "iufO":  # neither truth nor text nor a date is a number
            raise TypeError
        array = array.astype(np.float64, copy=False)
    except (TypeError, ValueError):
        raise InputError(
            f"{name} is {values!r}; expected {expected} [{unit or '-'}]. {remedy}".strip()
        ) from None
    good = np.isfinite(array) & accept(array)
    if good.all():
        return array
    bad = np.argwhere(~np.atleast_1d(good))
    index = "" if array.ndim == 0 else str([int(i) for i in bad[0]])
    first = np.atleast_1d(array)[tuple(bad[0])]
    count = "" if array.size == 1 else f" ({len(bad)} of {array.size} are bad)"
    raise InputError(f"{name}{index} is {first:g} {unit}; expected {expected}{count}. {remedy}".strip())


def check_finite(name: str, values: ArrayLike, *, unit: str = "", remedy: str = "") -> NDArray[np.float64]:
    """Return the values as float64, refusing NaN and infinity by name and index."""
    return _check(name, values, unit, "a finite value", lambda v: np.ones(v.shape, bool), remedy)


def check_nonnegative(
    name: str, values: ArrayLike, *, unit: str = "", remedy: str = ""
) -> NDArray[np.float64]:
    """Return the values as float64, refusing NaN, infinity and anything below 0 by name and index."""
    return _check(name, values, unit, "a finite value >= 0", lambda v: v >= 0, remedy)


def check_positive(name: str, values: ArrayLike, *, unit: str = "", remedy: str = "") -> NDArray[np.float64]:
    """Return the values as float64, refusing NaN, infinity, 0 and below by name and index."""
    return _check(name, values, unit, "a finite value > 0", lambda v: v > 0, remedy)
