"""What differs from run to run: numbers with a distribution, random fields, the parameters of a fit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration import FitResult, ParameterSet
from inkhorn.ensemble.distributions import Distribution
from inkhorn.errors import InputError
from inkhorn.fields import RandomField
from inkhorn.model import Model
from inkhorn.model.placing import (
    RandomValues,
    Target,
    Traced,
    change,
    changed_by,
    chosen_cells,
    dimension_of,
    target_of,
)
from inkhorn.site import Edit, value_named
from inkhorn.units import KINDS

__all__ = ["Drawn", "Fitted", "Varied", "VariedSet"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]


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

    Parameters
    ----------
    model : Model
        With what is not varied.
    varied : sequence of Varied or Fitted

    Attributes
    ----------
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
        self._chosen: list[NDArray[np.bool_] | None] = []
        self._fields: list[RandomValues | None] = []
        self._parameters: list[tuple[ParameterSet, Array, Array] | None] = []
        names: list[str] = []
        units: list[str] = []
        notes: list[str] = []
        for one in self.varied:
            if isinstance(one, Fitted):
                made = self._fitted(one)
                names += list(made[0].names)
                units += [made[0].scalars[k].unit for k in made[0].free]
                self._chosen.append(None)
                self._fields.append(None)
                self._parameters.append(made)
                continue
            edit = one.edit()
            for name in changed_by(edit):
                if name not in self._base:
                    self._base[name] = target_of(model, name, one.where)
            target = self._base[changed_by(edit)[0]]
            chosen = chosen_cells(edit, model.grid, model.zones, target.cells, target.features)
            self._chosen.append(chosen)
            self._parameters.append(None)
            if isinstance(one.value, RandomField):
                made_of = RandomValues(edit, one.value, target, chosen, model.grid, model.zones)
                notes += [f"{one.name}: {n}" for n in made_of.maker.notes]
                self._fields.append(made_of)
            else:
                names.append(one.name)
                units.append(self._unit(one, target, chosen))
                self._fields.append(None)
        self.names, self.units, self.notes = tuple(names), tuple(units), tuple(notes)
        self._try_extremes()

    def __len__(self) -> int:
        return len(self.names)

    def __repr__(self) -> str:
        return f"VariedSet({len(self)} numbers, {sum(f is not None for f in self._fields)} random fields)"

    def _refuse_repeats(self) -> None:
        names = [one.name for one in self.varied]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise InputError(f'two varied things are called "{twice}". Give each its own name.')
        if sum(isinstance(one, Fitted) for one in self.varied) and not isinstance(self.varied[0], Fitted):
            raise InputError(
                "the parameters of a fit come first: what else is varied acts on what they left."
            )

    def _fitted(self, one: Fitted) -> tuple[ParameterSet, Array, Array]:
        """A fit's parameters on this model, their coordinates, and a root of their covariance."""
        parameters = ParameterSet(self.model, one.fit.parameters.parameters)
        precision = one.fit.knowledge.afterwards
        if len(parameters) != len(precision):
            raise InputError(
                f"{one.name}: the model has other parameters than the fit. Use the model it was of."
            )
        values, vectors = np.linalg.eigh(np.linalg.inv(precision))
        return parameters, one.fit.coordinates, vectors * np.sqrt(np.maximum(values, 0.0))

    def _unit(self, one: Varied, target: Target, chosen: NDArray[np.bool_]) -> str:
        if one.how == "factor":
            return "-"
        site = self.model.site
        names = [] if target.features is None else sorted(set(target.features[chosen].tolist()))
        features = [] if site is None else [f for f in site.features if f.name in names]
        return KINDS[dimension_of(one.of, features)].inside or "-"

    def _try_extremes(self) -> None:
        """Refuse what cannot be where a number is as low or as high as one in a thousand is."""
        for k in range(len(self)):
            for share in (0.001, 0.999):
                shares = np.full(len(self), 0.5)
                shares[k] = share
                try:
                    self.model.with_changes(self.drawn(shares, 0, fields=False).inputs)
                except InputError as problem:
                    end = "low" if share < 0.5 else "high"
                    raise InputError(
                        f'"{self.names[k]}" may be so {end} that a model cannot be: {problem} Give it bounds, or another '
                        "distribution."
                    ) from None

    # --- drawing -----------------------------------------------------------------------------------

    def drawn(self, shares: Array, seed: int | np.random.SeedSequence, *, fields: bool = True) -> Drawn:
        """Return what a run has.

        Parameters
        ----------
        shares : ndarray of float, (n_numbers,)
            Below which each number lies, of all.
        seed : int or numpy.random.SeedSequence
            Of its random fields.
        fields : bool
            Whether there are any; if not their means stand for them.
        """
        source = seed if isinstance(seed, np.random.SeedSequence) else np.random.SeedSequence(seed)
        children = source.spawn(len(self.varied))
        draws = [
            None if made is None else made.of_field(self._field_of(made, children[k] if fields else None))
            for k, made in enumerate(self._fields)
        ]
        return self.with_fields(shares, draws)

    @staticmethod
    def _field_of(made: RandomValues, seed: np.random.SeedSequence | None) -> Array:
        if seed is not None:
            return made.maker.draw(seed)
        middle = made.maker.expected()
        return np.exp(middle) if made.maker.field.logarithmic else middle

    def with_fields(self, shares: Array, draws: Sequence[Array | None]) -> Drawn:
        """Return what a run has whose random fields are told, a value at each place of what each changes."""
        targets = dict(self._base)
        inputs: dict[str, Array] = {}
        numbers, first = np.empty(len(self)), 0
        for k, one in enumerate(self.varied):
            made = self._parameters[k]
            if made is not None:
                count = len(made[0])
                free = self._posterior(made, shares[first : first + count])
                numbers[first : first + count] = made[0].numbers(free)
                first += count
                inputs |= made[0].made(free).inputs
                for name in set(targets) & set(inputs):
                    measure = self.model.traces.measures.get(name, 1.0)
                    old = targets[name]
                    targets[name] = Target(Traced(inputs[name] / measure), old.cells, old.features)
                continue
            assert isinstance(one, Varied)
            chosen = self._chosen[k]
            assert chosen is not None
            drawn = draws[k]
            if drawn is None:
                assert isinstance(one.value, Distribution)
                numbers[first] = float(one.value.at(shares[first]))
                drawn = np.full(len(chosen), numbers[first])
                first += 1
            change(targets, one.edit(), Traced(drawn), chosen)
        for name, target in targets.items():
            inputs[name] = target.values.values * self.model.traces.measures.get(name, 1.0)
        return Drawn(inputs, numbers)

    @staticmethod
    def _posterior(made: tuple[ParameterSet, Array, Array], shares: Array) -> Array:
        from scipy.special import ndtri

        parameters, middle, root = made
        return np.clip(middle + root @ ndtri(shares), *parameters.bounds)

    def model_of(self, drawn: Drawn) -> Model:
        """Return the model of a run.

        Raises
        ------
        InputError
            If it would hold what cannot be.
        """
        return self.model.with_changes(drawn.inputs)
