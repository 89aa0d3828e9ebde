"""The water budget, from the same flows that were solved for."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.model import Model

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["budget_table"]

IN, OUT = "in [m³/day]", "out [m³/day]"


def _row(flow: NDArray[np.float64], **labels: str) -> dict[str, Any]:
    return {**labels, IN: float(flow[flow > 0].sum()), OUT: float(np.abs(flow[flow < 0]).sum())}


def _by_term(model: Model, step: Any) -> Iterator[dict[str, Any]]:
    for term, flow in zip(model.terms, step.term_flow, strict=True):
        yield _row(flow, term=term.kind)


def _by_feature(model: Model, step: Any) -> Iterator[dict[str, Any]]:
    for term, flow in zip(model.terms, step.term_flow, strict=True):
        for k, name in enumerate(term.features):
            yield _row(flow[term.feature == k], term=term.kind, feature=name)


def _by_layer(model: Model, step: Any) -> Iterator[dict[str, Any]]:
    grid, faces = model.grid, model.grid.faces
    layer = grid.cells.layer[faces.cells]
    for k, name in enumerate(grid.layer_names):
        for term, flow in zip(model.terms, step.term_flow, strict=True):
            mine = grid.cells.layer[term.cells] == k
            if mine.any():
                yield _row(flow[mine], layer=name, item=term.kind)
        for other, other_name in enumerate(grid.layer_names):
            arriving = step.face_flow[(layer[:, 0] == other) & (layer[:, 1] == k)]
            leaving = -step.face_flow[(layer[:, 0] == k) & (layer[:, 1] == other)]
            if other != k and len(arriving) + len(leaving):
                yield _row(np.concatenate([arriving, leaving]), layer=name, item=f"layer {other_name}")


def budget_table(model: Model, step: Any, by: str) -> pd.DataFrame:
    """Return the budget of a step; see `FlowResult.budget`.

    Raises
    ------
    InputError
        If `by` is not one of the ways to divide it.
    """
    import pandas as pd

    ways = {
        "term": (_by_term, ["term"]),
        "feature": (_by_feature, ["term", "feature"]),
        "layer": (_by_layer, ["layer", "item"]),
    }
    if by not in ways:
        raise InputError(f"by is {by!r}; expected one of {list(ways)}.")
    divide, labels = ways[by]
    rows = list(divide(model, step))
    if not step.steady:
        rows.append(_row(-step.storage_change, **dict.fromkeys(labels, "storage")))
    frame = pd.DataFrame(rows, columns=[*labels, IN, OUT]).set_index(labels)
    total = frame[[IN, OUT]].sum()
    name = "total" if len(labels) == 1 else ("total", "")
    frame.loc[name, :] = total
    larger = max(total[IN], total[OUT])
    frame.attrs["closing_error_percent"] = float(100.0 * (total[IN] - total[OUT]) / larger) if larger else 0.0
    return frame
