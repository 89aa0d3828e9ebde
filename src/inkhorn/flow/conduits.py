"""What conduits carry: pipe by pipe, node by node, the balance of the network, and springs in time."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.conduits import REGIMES, law_at, reynolds_number, wet_depth
from inkhorn.errors import InputError
from inkhorn.flow.record import FlowStep
from inkhorn.model import Model
from inkhorn.model.terms import ConduitTerm

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["conduit_budget_table", "conduits_of", "node_table", "pipe_table", "regime_of", "spring_table"]

Array = NDArray[np.float64]

_FLOW = "m³/day"
_STILL = 1e-3  # Reynolds number, below which water is at rest


class _Flowing:
    """The conduits of a model over one step."""

    def __init__(self, model: Model, step: FlowStep) -> None:
        self.number = _number_of(model)
        self.term: ConduitTerm = model.terms[self.number]  # type: ignore[assignment]  # it was looked for
        begin = sum(t.n_extra for t in model.terms[: self.number])
        term, n = self.term, self.term.n_levels
        self.head = step.extra_unknowns[begin : begin + n]
        self.flow = step.link_flow[self.number]
        self.passed = step.term_flow[self.number]
        self.let_in, self.springs = (np.asarray(v)[:n] for v in step.outside[self.number])
        self.stored = step.extra_storage[begin : begin + n]
        self.steady = step.steady
        law = law_at(term.pipes, self.head, self.flow)
        area = np.where(law.area > 0.0, law.area, 0.25 * np.pi * term.diameter**2)
        wide = np.where(law.hydraulic_diameter > 0.0, law.hydraulic_diameter, term.diameter)
        self.velocity = self.flow / area
        self.reynolds = reynolds_number(np.abs(self.velocity), wide, term.pipes.viscosity)
        a, b = term.links.T
        self.levels = [
            bed + wet_depth(self.head[node] - bed)[0]
            for node, bed in ((a, term.bed_first), (b, term.bed_second))
        ]
        self.loss = self.levels[0] - self.levels[1]
        upper = np.where(self.loss >= 0.0, self.levels[0] - term.bed_first, self.levels[1] - term.bed_second)
        self.filled = np.clip(upper / term.diameter, 0.0, 1.0)


def _number_of(model: Model) -> int:
    for k, term in enumerate(model.terms):
        if isinstance(term, ConduitTerm):
            return k
    raise InputError("the model has no conduits.")


def conduits_of(model: Model) -> ConduitTerm | None:
    """Return the conduits of a model, if there are any."""
    return next((t for t in model.terms if isinstance(t, ConduitTerm)), None)


def regime_of(term: ConduitTerm, reynolds: Array) -> NDArray[Any]:
    """Return in words how water flows in each pipe at its Reynolds number."""
    low, high = term.pipes.laminar_up_to, term.pipes.turbulent_from
    number = (reynolds >= _STILL).astype(int) + (reynolds > low) + (reynolds >= high)
    return np.array(REGIMES, dtype=object)[number]


def _in_words(water: Array, ways: tuple[str, str]) -> list[str]:
    return [ways[0] if q > 0.0 else ways[1] if q < 0.0 else "none" for q in water.tolist()]


def pipe_table(model: Model, step: FlowStep) -> pd.DataFrame:
    """Return what each pipe carries; see `FlowResult.conduits`."""
    import pandas as pd

    at = _Flowing(model, step)
    term, (a, b) = at.term, at.term.links.T
    passed, cells, names = at.passed, term.cells, np.array(term.feature_names, dtype=object)
    table = pd.DataFrame(
        {
            "conduit": names[term.pipe_feature],
            "pipe": np.arange(len(a)),
            "from node": a,
            "to node": b,
            "cell": cells,
            "layer": np.array(model.grid.layer_names, dtype=object)[model.grid.cells.layer[cells]],
            "x [m]": 0.5 * (term.x[a] + term.x[b]),
            "y [m]": 0.5 * (term.y[a] + term.y[b]),
            "length [m]": term.length,
            "diameter [m]": term.diameter,
            "filled share": at.filled,
            f"flow [{_FLOW}]": at.flow,
            "velocity [m/s]": at.velocity / 86400.0,
            "Reynolds number": at.reynolds,
            "regime": regime_of(term, at.reynolds),
            "head loss [m]": at.loss,
            f"exchange [{_FLOW}]": np.abs(passed),
            "exchange": _in_words(passed, ("given to the rock", "taken from the rock")),
        }
    )
    if step.words:
        table.attrs["flows"] = step.words
    return table


def node_table(model: Model, step: FlowStep) -> pd.DataFrame:
    """Return heads and flows at each node; see `FlowResult.conduit_nodes`."""
    import pandas as pd

    at = _Flowing(model, step)
    term, n = at.term, at.term.n_levels
    passed = np.asarray(np.bincount(term.node, at.passed, n), dtype=np.float64)
    names = np.array(term.feature_names, dtype=object)
    table = pd.DataFrame(
        {
            "node": np.arange(n),
            "feature": names[term.extra_feature[:n]],
            "x [m]": term.x,
            "y [m]": term.y,
            "bed [m]": term.bed,
            "head [m]": at.head,
            "depth [m]": wet_depth(at.head - term.bed)[0],
            f"exchange [{_FLOW}]": np.abs(passed),
            "exchange": _in_words(passed, ("given to the rock", "taken from the rock")),
            f"let in [{_FLOW}]": at.let_in,
            f"spring [{_FLOW}]": -at.springs,
        }
    )
    if step.words:
        table.attrs["flows"] = step.words
    return table


def conduit_budget_table(model: Model, step: FlowStep) -> pd.DataFrame:
    """Return the water budget of the network; see `FlowResult.conduit_budget`."""
    import pandas as pd

    at = _Flowing(model, step)
    term, names = at.term, at.term.feature_names
    rows = []

    def add(item: str, feature: str, water: Array) -> None:
        rows.append((item, feature, float(water[water > 0.0].sum()), float(np.abs(water[water < 0.0]).sum())))

    for k in np.unique(term.source_feature.astype(np.int64)).tolist():
        mine = term.source_feature == k
        share = np.asarray(term.inflow[k] * term.source_share[mine])
        add("let in", names[k], share)
    for k in term.springs.tolist():
        add("spring", names[k], at.springs[[int(term.at_node[k])]])
    for k in np.unique(term.feature_index).tolist():
        add("rock", names[k], -at.passed[term.feature_index == k])
    if not at.steady and at.stored.any():
        add("storage", "", -at.stored)
    table = pd.DataFrame(rows, columns=["item", "feature", f"in [{_FLOW}]", f"out [{_FLOW}]"])
    table = table.set_index(["item", "feature"])
    total = table.sum()
    larger = max(total)
    table.loc[("total", ""), :] = total
    table.attrs["closing_error_percent"] = (
        float(100.0 * (total.iloc[0] - total.iloc[1]) / larger) if larger else 0.0
    )
    if step.words:
        table.attrs["flows"] = step.words
    return table


def spring_table(model: Model, steps: Iterable[FlowStep]) -> pd.DataFrame:
    """Return what springs of conduits give in time; see `FlowResult.spring_discharge`."""
    import pandas as pd

    number = _number_of(model)
    term: ConduitTerm = model.terms[number]  # type: ignore[assignment]  # it was looked for
    nodes, names = term.at_node[term.springs].astype(np.int64), [term.feature_names[k] for k in term.springs]
    rows = []
    for step in steps:
        let_in, springs = (np.asarray(v) for v in step.outside[number])
        rows.append([step.begin, step.end, float(let_in.sum()), *(-springs[nodes]).tolist()])
    columns = ["begin [day]", "end [day]", f"let in [{_FLOW}]", *(f"{name} [{_FLOW}]" for name in names)]
    table = pd.DataFrame(rows, columns=columns)
    start = None if model.schedule is None else model.schedule.start
    if start is not None:
        seconds = np.round(table["end [day]"].to_numpy() * 86400.0).astype("timedelta64[s]")
        table.insert(0, "date", start + seconds)
    return table
