"""What flows into the aquifer entry by entry, and what goes on within terms, as tables."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.flow.record import FlowStep
from inkhorn.model import Model

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["term_flow_table", "within_term_table"]

_FLOW = "m³/day"


def term_flow_table(model: Model, step: FlowStep) -> pd.DataFrame:
    """Return the flow of every entry; see `FlowResult.term_flows`."""
    import pandas as pd

    cells, names = model.grid.cells, np.array(model.grid.layer_names, dtype=object)
    parts = [
        pd.DataFrame(
            {
                "term": term.kind,
                "feature": np.array(term.feature_names, dtype=object)[term.feature_index],
                "cell": term.cells,
                "layer": names[cells.layer[term.cells]],
                "x [m]": cells.x[term.cells],
                "y [m]": cells.y[term.cells],
                "crossing": term.crossing.astype(object),
                "outer face": term.outer_face,
                f"flow [{_FLOW}]": flow,
            }
        )
        for term, flow in zip(model.terms, step.term_flow, strict=True)
        if len(flow)
    ]
    table = pd.concat(parts, ignore_index=True) if parts else pd.DataFrame()
    if step.words:
        table.attrs["flows"] = step.words
    return table


def within_term_table(model: Model, step: FlowStep) -> pd.DataFrame:
    """Return extra unknowns, what comes to them, passes between them and is stored; see `FlowResult.within_terms`."""
    import pandas as pd

    rows: list[dict[str, Any]] = []
    first = 0
    for term, outside, links in zip(model.terms, step.outside, step.link_flow, strict=True):
        mine = slice(first, first + term.n_levels)
        first += term.n_extra
        stored = step.extra_storage[mine]

        def add(k: int, item: str, value: float, unit: str, term: Any = term) -> None:
            whose = term.feature_names[term.extra_feature[k]]
            named = {"term": term.kind, "feature": whose, "unknown": term.extra_names[k]}
            rows.append({**named, "item": item, "value": float(value), "unit": unit})

        for k, level in enumerate(step.extra_unknowns[mine]):
            add(k, "level", level, "m")
            for name, water in zip(term.outside_names, outside, strict=True):
                add(k, name, water[k], _FLOW)
            if not step.steady and stored.any():
                add(k, "storage", stored[k], _FLOW)
        for (one, other), flow in zip(term.links.tolist(), links, strict=True):
            add(one, f"to {term.extra_names[other]}", flow, _FLOW)
    table = pd.DataFrame(rows, columns=["term", "feature", "unknown", "item", "value", "unit"])
    if step.words:
        table.attrs["flows"] = step.words
    return table
