"""What differs from run to run: numbers with a distribution, random fields, the parameters of a fit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration import FitResult
from inkhorn.calibration.parameters import NOT_OF_HEADS
from inkhorn.ensemble.distributions import Distribution
from inkhorn.ensemble.varied_parts import FieldPart, FittedPart, NumberPart, VariedPart, plain_inputs
from inkhorn.errors import InputError
from inkhorn.fields import RandomField
from inkhorn.model import Model
from inkhorn.model.placing import Target
from inkhorn.site import Edit, value_named

__all__ = ["Drawn", "Fitted", "Varied", "VariedSet"]

Array = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Varied:
    """Something that differs from run to run, said as by an `Edit`: of what, where, and what is done with the value.

    What is varied later sees what was varied before it.

    Parameters
    ----------
    name : str
        That a person can read.
    of : str
        ``"conductivity"`` (horizontal, the vertical one in proportion), a property of cells such as ``"porosity"``, or a
        value of features such as ``"recharge.rate"``, in the unit in which these state it.
    value : Distribution or RandomField
        One number for all, or one for each cell.
    how : {"set", "factor", "add"}
        What is done with it.
    layers, zone, feature, shape
        Where, as of an `Edit`.

    Examples
    --------
    >>> from inkhorn.ensemble import LogNormal
    >>> Varied(name="porosity of sand", of="porosity", how="set", layers=("sand",), value=LogNormal(0.2, 0.1))
    Varied('porosity of sand': log-normal, median 0.2, deviation of ln 0.1)
    """

    name: str
    of: str
    value: Distribution | RandomField
    how: Literal["set", "factor", "add"] = "factor"
    layers: tuple[str, ...] = ()
    zone: tuple[str, str] | None = None
    feature: str | None = None
    shape: Any = field(default=None, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "layers", tuple(self.layers))
        object.__setattr__(self, "of", value_named(self.of))
        if self.how not in ("set", "factor", "add"):
            raise InputError(f'{self.where}: how is "{self.how}"; expected "set", "factor" or "add".')
        if not isinstance(self.value, Distribution | RandomField):
            raise InputError(
                f"{self.where}: value is {self.value!r}; expected a distribution such as LogNormal(10, 0.5), or a "
                "RandomField."
            )

    def __repr__(self) -> str:
        said = repr(self.value) if isinstance(self.value, RandomField) else self.value.words
        return f"Varied({self.name!r}: {said})"

    @property
    def where(self) -> str:
        """It in words, for messages."""
        return f'varied "{self.name}"'

    def edit(self, value: Any = 0.0) -> Edit:
        """Return the edit that gives it a value."""
        return Edit(
            self.of, value, how=self.how, layers=self.layers, shape=self.shape, feature=self.feature, zone=self.zone,
            reason=self.name, source=self.where,
        )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Fitted:
    """The parameters of a fit as it left them: normal in what it fitted, with its covariance; at bounds they stop.

    Where nothing is known of a parameter beforehand its bounds count as two standard deviations either way.

    Parameters
    ----------
    fit : FitResult
        Whose parameters are drawn, on the model that it started from.
    name : str
        What it is called.
    """

    fit: FitResult = field(repr=False)
    name: str = "the fit"


class Drawn(NamedTuple):
    """What one run has.

    Attributes
    ----------
    inputs : mapping of str to ndarray
        Arrays of the model, by name.
    numbers : ndarray of float, (n_numbers,)
        The numbers that have a distribution.
    """

    inputs: Mapping[str, Array]
    numbers: Array


class VariedSet:
    """All that is varied on one model, ready to be drawn.

    Everything has coordinates that are normal beforehand: a standard normal score for each number with a distribution,
    the value of each field in each of its cells (of logarithms where it is one of these).

    Parameters
    ----------
    model : Model
        With what is not varied.
    varied : sequence of Varied or Fitted

    Attributes
    ----------
    parts : tuple of VariedPart
        Each varied thing on the model.
    names, units : tuple of str
        Of the numbers that have a distribution.
    notes : tuple of str
        What a person should know of it.

    Raises
    ------
    InputError
        If something is of nothing that the model has, or meets nothing; if a value that is not unlikely cannot be.
    """

    def __init__(self, model: Model, varied: Sequence[Varied | Fitted]) -> None:
        if not varied:
            raise InputError("nothing is varied. Name something that differs from run to run.")
        self.model, self.varied = model, tuple(varied)
        self._refuse_repeats()
        self._base: dict[str, Target] = {}
        self.parts = tuple(self._part(one) for one in self.varied)
        self.names = tuple(n for part in self.parts for n in part.names)
        self.units = tuple(u for part in self.parts for u in part.units)
        self.notes = tuple(n for part in self.parts for n in part.notes)
        self._try_extremes()

    def __len__(self) -> int:
        return len(self.names)

    def __repr__(self) -> str:
        return f"VariedSet({len(self)} numbers, {sum(isinstance(p, FieldPart) for p in self.parts)} random fields)"

    def _part(self, one: Varied | Fitted) -> VariedPart:
        if isinstance(one, Fitted):
            return FittedPart(self.model, one, self._base)
        return (FieldPart if isinstance(one.value, RandomField) else NumberPart)(self.model, one, self._base)

    def _refuse_repeats(self) -> None:
        names = [one.name for one in self.varied]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise InputError(f'two varied things are called "{twice}". Give each its own name.')
        late = [isinstance(one, Fitted) for one in self.varied]
        if any(late[late.count(True) :]):
            raise InputError(
                "the parameters of a fit come first: what else is varied acts on what they left."
            )

    def _try_extremes(self) -> None:
        """Refuse what cannot be where a number is as low or as high as one in a thousand is."""
        middle = self.middle
        first = 0
        for part in self.parts:
            if part.names:
                for k, name in enumerate(part.names):
                    for score, end in ((-3.09, "low"), (3.09, "high")):
                        there = middle.copy()
                        there[first + k] = score
                        self._try(there, name, end)
            first += part.size

    def _try(self, coordinates: Array, name: str, end: str) -> None:
        try:
            self.model.with_changes(self.of(coordinates).inputs)
        except InputError as problem:
            raise InputError(
                f'"{name}" may be so {end} that a model cannot be: {problem} Give it bounds, or another distribution.'
            ) from None

    # --- coordinates -------------------------------------------------------------------------------

    @property
    def size(self) -> int:
        """How many coordinates there are."""
        return sum(part.size for part in self.parts)

    def _apart(self, coordinates: Array) -> list[Array]:
        return np.split(coordinates, np.cumsum([part.size for part in self.parts])[:-1])

    @property
    def middle(self) -> Array:
        """The mean of all coordinates, (size,)."""
        return np.concatenate([part.middle for part in self.parts])

    @property
    def centre(self) -> Array:
        """Coordinates at which every number has its mean, and every field its own, (size,)."""
        return np.concatenate(
            [part.centre if isinstance(part, NumberPart) else part.middle for part in self.parts]
        )

    def spread(self, coordinates: Array) -> Array:
        """Return how far to move each coordinate for a standard deviation of what it stands for, (size,)."""
        return np.concatenate(
            [part.spread(own) for part, own in zip(self.parts, self._apart(coordinates), strict=True)]
        )

    def covariance_times(self, vectors: Array) -> Array:
        """Return the covariance of the coordinates times vectors, (size, k)."""
        ends = np.cumsum([part.size for part in self.parts])[:-1]
        rows = np.split(vectors, ends, axis=0)
        return np.concatenate([p.covariance_times(v) for p, v in zip(self.parts, rows, strict=True)])

    def prior(self, shares: Array, seed: int | np.random.SeedSequence) -> Array:
        """Return the coordinates of a run, (size,).

        Parameters
        ----------
        shares : ndarray of float, (n_numbers,)
            Below which each number lies, of all.
        seed : int or numpy.random.SeedSequence
            Of its random fields.
        """
        from scipy.special import ndtri

        source = seed if isinstance(seed, np.random.SeedSequence) else np.random.SeedSequence(seed)
        scores = np.split(ndtri(shares), np.cumsum([len(part.names) for part in self.parts])[:-1])
        children = source.spawn(len(self.parts))
        return np.concatenate(
            [p.drawn(own, child) for p, own, child in zip(self.parts, scores, children, strict=True)]
        )

    def _changed(self, coordinates: Array) -> dict[str, Target]:
        targets, first = dict(self._base), 0
        for part, own in zip(self.parts, self._apart(coordinates), strict=True):
            part.put(targets, own, first)
            first += part.size
        return targets

    def of(self, coordinates: Array) -> Drawn:
        """Return what a run with some coordinates has."""
        numbers = [p.numbers(own) for p, own in zip(self.parts, self._apart(coordinates), strict=True)]
        return Drawn(plain_inputs(self.model, self._changed(coordinates)), np.concatenate(numbers))

    def changes(self, coordinates: Array) -> dict[str, Any]:
        """Return the derivative of every array that heads depend on by the coordinates, sparse (n_values, size)."""
        found = {}
        for name, target in self._changed(coordinates).items():
            if name in NOT_OF_HEADS:
                continue
            scaled = target.values * self.model.traces.measures.get(name, 1.0)
            found[name] = scaled.matrix(self.size)
        return found

    def drawn(self, shares: Array, seed: int | np.random.SeedSequence) -> Drawn:
        """Return what a run has; as `prior`."""
        return self.of(self.prior(shares, seed))

    def model_of(self, drawn: Drawn) -> Model:
        """Return the model of a run.

        Raises
        ------
        InputError
            If it would hold what cannot be.
        """
        return self.model.with_changes(drawn.inputs)
