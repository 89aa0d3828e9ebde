"""How each varied thing is drawn and put into a model: a number, a random field, the parameters of a fit."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration import ParameterSet
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
from inkhorn.units import KINDS

if TYPE_CHECKING:
    from inkhorn.ensemble.varied import Fitted, Varied

__all__ = ["FieldPart", "FittedPart", "NumberPart", "VariedPart"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_NUDGE = 1e-5  # of a standard normal score
_FAR = 8.0  # beyond which none is drawn


class VariedPart(ABC):
    """One varied thing on a model: its coordinates are normal, with mean `middle` and a covariance.

    Attributes
    ----------
    size : int
        How many coordinates it has.
    names, units : tuple of str
        Of its numbers that have a distribution: as many as it has scores.
    notes : tuple of str
    """

    names: tuple[str, ...] = ()
    units: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    size: int

    @property
    def middle(self) -> Array:
        """The mean of its coordinates, (size,)."""
        return np.zeros(self.size)

    @abstractmethod
    def drawn(self, scores: Array, seed: np.random.SeedSequence) -> Array:
        """Return coordinates, of standard normal scores for its numbers and by chance for its fields, (size,)."""

    def numbers(self, coordinates: Array) -> Array:
        """Return its numbers that have a distribution, (n_numbers,)."""
        return np.empty(0)

    @abstractmethod
    def put(self, targets: dict[str, Target], coordinates: Array, first: int) -> None:
        """Put it into arrays, in their place; their derivatives are by coordinates counted from `first`."""

    def covariance_times(self, vectors: Array) -> Array:
        """Return the covariance of its coordinates times vectors, (size, k)."""
        return vectors

    def spread(self, coordinates: Array) -> Array:
        """Return how far each coordinate is to be moved for one standard deviation of what it stands for, (size,)."""
        return np.ones(self.size)


def _targets_of(model: Model, one: Varied, base: dict[str, Target]) -> tuple[Target, NDArray[np.bool_]]:
    edit = one.edit()
    for name in changed_by(edit):
        if name not in base:
            base[name] = target_of(model, name, one.where)
    target = base[changed_by(edit)[0]]
    return target, chosen_cells(edit, model.grid, model.zones, target.cells, target.features)


class NumberPart(VariedPart):
    """A number with a distribution; its coordinate is the standard normal score below which as many lie."""

    size = 1

    def __init__(self, model: Model, one: Varied, base: dict[str, Target]) -> None:
        target, self.chosen = _targets_of(model, one, base)
        assert isinstance(one.value, Distribution)
        self.one, self.value = one, one.value
        self.names, self.units = (one.name,), (self._unit(model, one, target),)

    def _unit(self, model: Model, one: Varied, target: Target) -> str:
        if one.how == "factor":
            return "-"
        site = model.site
        names = [] if target.features is None else sorted(set(target.features[self.chosen].tolist()))
        features = [] if site is None else [f for f in site.features if f.name in names]
        return KINDS[dimension_of(one.of, features)].inside or "-"

    def _number(self, score: float) -> float:
        from scipy.special import ndtr

        return float(self.value.at(np.clip(ndtr(np.clip(score, -_FAR, _FAR)), 1e-15, 1.0 - 1e-15)))

    def drawn(self, scores: Array, seed: np.random.SeedSequence) -> Array:
        return scores

    def numbers(self, coordinates: Array) -> Array:
        return np.array([self._number(float(coordinates[0]))])

    def _slope(self, score: float) -> float:
        return (self._number(score + _NUDGE) - self._number(score - _NUDGE)) / (2.0 * _NUDGE)

    def put(self, targets: dict[str, Target], coordinates: Array, first: int) -> None:
        score, n = float(coordinates[0]), len(self.chosen)
        one = Traced(
            [self._number(score)], np.zeros(1, np.int64), np.array([first]), np.array([self._slope(score)])
        )
        change(targets, self.one.edit(), one.spread((n,)), self.chosen)

    @property
    def centre(self) -> Array:
        """The score of its mean, (1,)."""
        middle = np.exp(self.value.centre) if self.value.logarithmic else self.value.centre
        low, high = -_FAR, _FAR
        for _ in range(60):  # numbers rise with their scores
            half = 0.5 * (low + high)
            low, high = (half, high) if self._number(half) < middle else (low, half)
        return np.array([0.5 * (low + high)])

    def spread(self, coordinates: Array) -> Array:
        score = float(coordinates[0])
        slope = self._slope(score) / (self._number(score) if self.value.logarithmic else 1.0)
        return np.array([self.value.spread / slope]) if slope else np.zeros(1)


class FieldPart(VariedPart):
    """A random field; its coordinates are its values before logarithms are undone."""

    def __init__(self, model: Model, one: Varied, base: dict[str, Target]) -> None:
        target, self.chosen = _targets_of(model, one, base)
        assert isinstance(one.value, RandomField)
        self.one = one
        self.values = RandomValues(one.edit(), one.value, target, self.chosen, model.grid, model.zones)
        self.maker = self.values.maker
        self.size = len(self.maker.cells)
        self.notes = tuple(f"{one.name}: {n}" for n in self.maker.notes)

    @property
    def middle(self) -> Array:
        return self.maker.expected()

    def drawn(self, scores: Array, seed: np.random.SeedSequence) -> Array:
        return self.maker.normal(seed)

    def put(self, targets: dict[str, Target], coordinates: Array, first: int) -> None:
        log = self.maker.field.logarithmic
        field = np.exp(coordinates) if log else coordinates
        value = self.values.of_field(field)
        place = self.values.place
        row = np.flatnonzero(self.chosen)
        slope = value[row] if log else np.ones(len(row))
        change(targets, self.one.edit(), Traced(value, row, first + place, slope), self.chosen)

    def covariance_times(self, vectors: Array) -> Array:
        return self.maker.covariance_times(vectors)


class FittedPart(VariedPart):
    """The parameters of a fit; their coordinates are independent standard normal ones that its covariance is made of."""

    def __init__(self, model: Model, one: Fitted, base: dict[str, Target]) -> None:
        self.model = model
        self.parameters = ParameterSet(model, one.fit.parameters.parameters)
        precision = one.fit.knowledge.afterwards
        if len(self.parameters) != len(precision):
            raise InputError(
                f"{one.name}: the model has other parameters than the fit. Use the model it was of."
            )
        values, vectors = np.linalg.eigh(np.linalg.inv(precision))
        self.root = vectors * np.sqrt(np.maximum(values, 0.0))
        self.fitted = one.fit.coordinates
        self.size = len(self.parameters)
        self.names = tuple(self.parameters.names)
        self.units = tuple(self.parameters.scalars[k].unit for k in self.parameters.free)
        for name in self.parameters.made(self.fitted).inputs:
            base[name] = target_of(model, name, one.name)

    def _free(self, coordinates: Array) -> Array:
        return np.clip(self.fitted + self.root @ coordinates, *self.parameters.bounds)

    def drawn(self, scores: Array, seed: np.random.SeedSequence) -> Array:
        return scores

    def numbers(self, coordinates: Array) -> Array:
        return self.parameters.numbers(self._free(coordinates))

    def put(self, targets: dict[str, Target], coordinates: Array, first: int) -> None:
        made = self.parameters.made(self._free(coordinates))
        for name, values in made.inputs.items():
            by = made.by[name].tocsr() @ self.root
            row, column = np.nonzero(by)
            measure = self.model.traces.measures.get(name, 1.0)
            traced = Traced(values, row, first + column, by[row, column]) / measure
            targets[name] = Target(traced, targets[name].cells, targets[name].features)


def plain_inputs(model: Model, targets: Mapping[str, Target]) -> dict[str, Array]:
    """Return arrays as a model has them, of those in the unit in which they are stated."""
    return {n: t.values.values * model.traces.measures.get(n, 1.0) for n, t in targets.items()}
