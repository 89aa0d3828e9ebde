"""How the arrays of a model follow from what the site states."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError, did_you_mean

__all__ = ["Trace", "Traces"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Trace:
    """The derivative of one array by the inputs of the site.

    Attributes
    ----------
    made : object
        What it was made as: a traced array, or one that works it out when it is asked.
    """

    made: Any = field(repr=False)

    @classmethod
    def of(cls, made: Any) -> Trace:
        """Keep an array as placing made it."""
        return cls(made)

    def matrix(self, n_inputs: int) -> Any:
        """Return it as a sparse matrix, (n_values, n_inputs); values in time are counted period by period."""
        traced = self.made if hasattr(self.made, "matrix") else self.made[:]
        return traced.matrix(n_inputs)


@dataclass(frozen=True, eq=False)
class Traces:
    """The inputs that a site states, and how every array of a model follows from them.

    Attributes
    ----------
    inputs : tuple of SiteInput
        Owner, name, place, value, and whether it is the factor of a series.
    arrays : mapping of str to Trace
        By the names of `Model.with_inputs`, and ``"face_resistance"``.
    measures : mapping of str to ndarray
        What values were multiplied with once they were in the unit in which features state them: of a conductance by
        the metre the length of the line in each cell. 1 for what is not told.
    """

    inputs: tuple[Any, ...] = ()
    arrays: Mapping[str, Trace] = field(default_factory=dict, repr=False)
    measures: Mapping[str, Array] = field(default_factory=dict, repr=False)

    def matrix(self, name: str) -> Any:
        """Return the derivative of an array by the site's inputs, sparse, (n_values, n_inputs).

        Raises
        ------
        InputError
            If there is no such array.
        """
        if name not in self.arrays:
            known = list(self.arrays)
            raise InputError(f'"{name}" was not placed; expected one of {known}.{did_you_mean(name, known)}')
        return self.arrays[name].matrix(len(self.inputs))

    def gradient(self, by_array: Mapping[str, Array]) -> Array:
        """Return the derivative by the site's inputs of what has some derivative by the arrays, (n_inputs,).

        Parameters
        ----------
        by_array : mapping of str to ndarray
            As `FlowSensitivity.adjoint` returns it; arrays that were not placed count for nothing.
        """
        total = np.zeros(len(self.inputs))
        for name, values in by_array.items():
            if name in self.arrays:
                matrix = self.matrix(name)
                flat = np.ravel(values)
                total += matrix.T @ flat
        return total

    def change(self, by_input: Array) -> dict[str, Array]:
        """Return how the arrays change for a small change of the site's inputs, (n_inputs,); only those that do.

        Values in time come period by period, (n_periods, n), as `FlowSensitivity.tangent` takes them.
        """
        moved = {}
        for name, trace in self.arrays.items():
            change = self.matrix(name) @ by_input
            if change.any():
                moved[name] = change.reshape(trace.made.shape) if hasattr(trace.made, "shape") else change
        return moved
