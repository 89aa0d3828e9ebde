"""What edits change: arrays of a model, and where their values stand."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model.placing.traced import Traced

if TYPE_CHECKING:
    from inkhorn.model.model import Model

__all__ = ["Target", "target_of"]

Index = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Target:
    """An array that edits may change.

    Attributes
    ----------
    values : Traced
        (n,) or (n_periods, n), in the unit in which they are stated.
    cells : ndarray of int, (n,)
        Where each stands.
    features : ndarray of str, (n,), optional
        Whose each is.
    """

    values: Traced
    cells: Index
    features: NDArray[Any] | None = None


def target_of(model: Model, name: str, what: str) -> Target:
    """Return an array of a model by its name, in the unit in which it is stated.

    Parameters
    ----------
    model : Model
    name : str
        As of `Model.input`.
    what : str
        Who asks, for messages.

    Raises
    ------
    InputError
        If there is no such array, or it does not hold numbers of cells or of features.
    """
    try:
        values = model.inputs_in_time[name] if name in model.inputs_in_time else model.input(name)
    except InputError as problem:
        raise InputError(f"{what}: {problem}") from None
    if "." not in name:
        return Target(Traced(values), np.arange(model.grid.n_cells))
    kind, _, key = name.rpartition(".")
    term = model.term(kind)
    over = term.declared_inputs()[key].over
    names = np.array(term.feature_names, dtype=object)
    if over == "feature":
        first = np.zeros(len(names), dtype=np.int64)
        whose, at = np.unique(term.feature_index, return_index=True)
        first[whose] = at
        cells, features = term.cells[first], names
    elif over in ("entry", "link"):  # those with links have an entry for each
        cells, features = term.cells, names[term.feature_index]
    else:
        raise InputError(f"{what}: {name} is not a number for each feature; it cannot be changed so.")
    measure = model.traces.measures.get(name, 1.0)
    return Target(Traced(values) / measure, cells, features)
