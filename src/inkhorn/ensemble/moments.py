"""Mean and spread without many runs: by the derivatives of what is watched, to first order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.ensemble.readers import Watching
from inkhorn.ensemble.varied import Fitted, Varied, VariedSet
from inkhorn.ensemble.watched import Watch
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult, FlowSensitivity, solve_flow
from inkhorn.model import Model
from inkhorn.progress import Progress

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["first_order", "first_order_of"]

Array = NDArray[np.float64]

_TOLERANCE = 1e-8


def first_order(
    model: Model,
    varied: Sequence[Varied | Fitted],
    watch: Sequence[Watch],
    *,
    initial_heads: Any = None,
    solver: Mapping[str, Any] | None = None,
    progress: Progress | None = None,
) -> pd.DataFrame:
    """Return mean and standard deviation of what is watched, from one flow and its derivatives.

    Where everything has its mean (fields of logarithms that of their logarithms) what is watched is taken to change
    evenly with what is varied. So it does where variances are small; by how much it does not, many runs tell.

    Parameters
    ----------
    model, varied, initial_heads, solver, progress
        As of `vary`.
    watch : sequence of Watch
        Heads and flows; what else is watched is left out.

    Returns
    -------
    pandas.DataFrame
        Columns watched, time [day], unit, first-order mean, first-order deviation, and for each varied thing which share
        of the variance it brings [%].

    Raises
    ------
    InputError
        If no heads or flows are watched.

    References
    ----------
    Dettinger, M. D. and Wilson, J. L. (1981), First order analysis of uncertainty in numerical models of groundwater
    flow, part 1, Water Resources Research 17(1), 149-161.
    """
    own = [w for w in watch if w.of_water]
    if not own:
        raise InputError("heads and flows alone have derivatives here, and none is watched. Watch one.")
    tell = progress or (lambda *_: None)
    ready, watching = VariedSet(model, varied), Watching(model, own)
    tell("the flow with all means", None)
    at = ready.centre
    flow = solve_flow(
        ready.model_of(ready.of(at)),
        initial_heads=initial_heads,
        **{"order": 1, "results": "steps", **(solver or {})},
    )
    return first_order_of(ready, watching, flow, at, progress)


def first_order_of(
    ready: VariedSet, watching: Watching, flow: FlowResult, at: Array, progress: Progress | None = None
) -> pd.DataFrame:
    """Return that of a flow that is solved, with what is varied at some coordinates; see `first_order`."""
    import pandas as pd

    seen = watching.observations
    assert seen is not None  # heads or flows are watched
    jacobian = FlowSensitivity(flow, tolerance=_TOLERANCE).jacobian(
        seen.readings(flow), ready.changes(at), progress=progress
    )
    moved = jacobian * ready.spread(at)
    product = moved * ready.covariance_times(moved.T).T
    ends = np.cumsum([part.size for part in ready.parts])[:-1]
    shares = np.array([part.sum(axis=1) for part in np.split(product, ends, axis=1)])
    variance = shares.sum(axis=0)
    columns = watching.columns[
        watching.columns["watched"].isin([w.name for w in watching.watches if w.of_water])
    ]
    table = columns[["watched", "time [day]", "unit"]].reset_index(drop=True)
    table["first-order mean"] = seen.computed(flow)
    table["first-order deviation"] = np.sqrt(np.maximum(variance, 0.0))
    for one, share in zip(ready.varied, shares, strict=True):
        part = np.divide(100.0 * share, variance, out=np.zeros(len(share)), where=variance > 0.0)
        table[f"{one.name} [%]"] = part
    return pd.DataFrame(table)
