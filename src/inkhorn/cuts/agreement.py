"""How a local model and the region that it was cut out of agree."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow import FlowResult
from inkhorn.shown import Shown
from inkhorn.space import sampling_rows

if TYPE_CHECKING:
    import pandas as pd

    from inkhorn.cuts.cut import Cut

__all__ = ["Agreement", "agreement"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_NEW = (
    "well",
    "collector",
    "drain",
    "excavation",
    "given flow",
)  # kinds whose changes are stresses, not answers
_MUCH = 0.1  # share of what new stresses take that comes through the rim, from which on it is said
_NOTHING = 1e-6  # of all water that flows: a stress of less is none


@dataclass(frozen=True, eq=False)
class Agreement(Shown):
    """Heads, flows through the rim and budgets of a local model beside those of its region.

    Attributes
    ----------
    difference : ndarray of float, (n_cells,)
        Head of each local cell less that of the region there; NaN in dry cells, and where the region has
        none [m].
    heads : pandas.DataFrame
        At bores, wells, the rim and everywhere: how many, mean, root mean square and greatest difference [m].
    rim : pandas.DataFrame
        What comes in and goes out through each stretch, of the region and of the local model [m³/day].
    budget : pandas.DataFrame
        What comes in and goes out within the outline, by term, of both [m³/day].
    stress : float
        What features take that the region does not have, or has otherwise, less what they give [m³/day].
    from_rim : float
        How much more water comes in by the rim than in the region [m³/day].
    at_rim, greatest : float
        Greatest difference of heads at stretches without the region's heads, and anywhere [m].
    """

    difference: Array = field(repr=False)
    heads: pd.DataFrame = field(repr=False)
    rim: pd.DataFrame = field(repr=False)
    budget: pd.DataFrame = field(repr=False)
    stress: float
    from_rim: float
    at_rim: float
    greatest: float

    def __repr__(self) -> str:
        row = self.heads.loc["all cells"]
        return (
            f"Agreement(heads within {row['greatest [m]']:.3g} m, RMS {row['RMS [m]']:.3g} m; {self.from_rim:+.3g} "
            "m³/day by the rim)"
        )

    def warnings(self) -> list[str]:
        """Return what is wrong with the place of the rim, with numbers; nothing if it lies far enough away."""
        found = []
        drawn, flows = self.from_rim, float(self.rim.iloc[:, 1].sum())
        if self.stress > 0.0 and drawn > _MUCH * max(self.stress, flows):
            found.append(
                f"of the {self.stress:.4g} m³/day that new features take {drawn:.4g} come by the rim, "
                f"{drawn / max(flows, 1e-9):.0%} of what flows in there in the region, whose heads are held as if these "
                "were not there: the rim lies too near"
            )
        if self.stress > 0.0 and self.greatest > 0.0 and self.at_rim > _MUCH * self.greatest:
            found.append(
                f"at stretches of the rim that are closed or given flows the heads are off by up to {self.at_rim:.3g} m, "
                f"{self.at_rim / self.greatest:.0%} of the greatest change: the rim lies too near"
            )
        return found


def agreement(cut: Cut, flow: FlowResult, step: int) -> Agreement:
    """Compare; see `Cut.agreement`."""
    record = flow.steps[step]
    ends = np.array([s.end for s in cut.region.steps])
    number = min(int(np.searchsorted(ends, record.end * (1.0 - 1e-12))), len(ends) - 1)
    grid, region = cut.model.grid, cut.region.model.grid
    cells = grid.cells
    layer = _layers(region, cells)
    rows = sampling_rows(region, np.maximum(layer, 0), cells.x, cells.y)
    there = np.asarray(rows.sum(axis=1)).ravel() > 0.0
    there &= layer >= 0
    regional = np.asarray(rows @ cut.region.steps[number].heads)
    wet = record.heads > cells.bottom
    difference = np.where(there & wet, record.heads - regional, np.nan)
    rim, inflow = _rim(cut, flow, record, number)
    budget = _budget(cut, flow, record, number, inflow)
    stress = _stress(cut, record, number)
    held = np.isin(cut.stretch_of, [k for k, s in enumerate(cut.stretches) if s.way in ("closed", "flows")])
    beside = np.unique(grid.outer_faces.cell[cut.faces[held]])
    off = np.abs(difference[beside][np.isfinite(difference[beside])])
    at_rim = float(off.max(initial=0.0))
    turnover = float(np.abs(budget.iloc[:-1]).to_numpy().sum())
    return Agreement(
        difference, _heads(cut, difference), rim, budget, stress if abs(stress) > _NOTHING * turnover else 0.0,
        float(inflow[1].sum() - inflow[0].sum()), at_rim, float(np.nanmax(np.abs(difference), initial=0.0)),
    )  # fmt: skip


def _layers(region: Any, cells: Any) -> Index:
    """The layer of the region that holds the middle of each cell, or is next to it; -1 where there is none."""
    plan = region.mesh.locate(cells.x, cells.y)
    column = np.where(plan >= 0, region.cell_number[:, np.maximum(plan, 0)], -1)
    middle = 0.5 * (cells.bottom + cells.top)
    own = region.cells
    off = np.maximum(np.maximum(own.bottom[column] - middle, middle - own.top[column]), 0.0)
    off = np.where(column >= 0, off, np.inf)
    found = off.argmin(axis=0)
    return np.where(np.isfinite(off[found, np.arange(len(found))]), found, -1)


def _heads(cut: Cut, difference: Array) -> pd.DataFrame:
    import pandas as pd

    model = cut.model
    groups: dict[str, Index] = {"all cells": np.arange(len(difference))}
    groups["at the rim"] = np.unique(model.grid.outer_faces.cell[cut.faces[cut.stretch_of >= 0]])
    if model.site is not None and model.site.bores:
        from inkhorn.model import bore_cells

        found = [bore_cells(model.grid, b) for b in model.site.bores]
        groups["bores"] = np.concatenate([np.empty(0, dtype=np.int64), *found])
    screens = [t.cells for t in model.terms if t.kind in ("well", "collector")]
    if screens:
        groups["wells"] = np.unique(np.concatenate(screens))
    rows = []
    for name, mine in groups.items():
        values = difference[mine]
        values = values[np.isfinite(values)]
        if len(values):
            rms = float(np.sqrt((values**2).mean()))
            rows.append((name, len(values), float(values.mean()), rms, float(np.abs(values).max())))
    return pd.DataFrame(rows, columns=["where", "cells", "mean [m]", "RMS [m]", "greatest [m]"]).set_index(
        "where"
    )


def _rim(cut: Cut, flow: FlowResult, record: Any, number: int) -> tuple[pd.DataFrame, tuple[Array, Array]]:
    """What passes each stretch, and the net inflow of both through all of them."""
    import pandas as pd

    regional = cut.at_rim.inflow(number)
    local = np.zeros(len(cut.faces))
    for term, passed in zip(flow.model.terms, record.term_flow, strict=True):
        if term.kind in ("rim head", "rim flow"):
            np.add.at(local, term.outer_face, passed)
    rows, net = [], (np.zeros(len(cut.stretches)), np.zeros(len(cut.stretches)))
    for k, stretch in enumerate(cut.stretches):
        mine = cut.stretch_of == k
        if stretch.way == "own":
            continue
        row: list[Any] = [stretch.name, stretch.way]
        for j, values in enumerate((regional[mine], local[mine])):
            row += [float(values[values > 0.0].sum()), float(-values[values < 0.0].sum())]
            net[j][k] = values.sum()
        rows.append(row)
    columns = ["stretch", "is", *(f"{a}, {b} [m³/day]" for b in ("region", "local") for a in ("in", "out"))]
    return pd.DataFrame(rows, columns=columns).set_index("stretch"), net


def _budget(
    cut: Cut, flow: FlowResult, record: Any, number: int, inflow: tuple[Array, Array]
) -> pd.DataFrame:
    """By term: of the region what its cells take and give, by the share of each that lies within."""
    import pandas as pd

    shared = np.asarray(cut.shared.volume.sum(axis=0)).ravel() / cut.shared.of
    table: dict[str, list[float]] = {}

    def add(name: str, place: int, values: Array) -> None:
        row = table.setdefault(name, [0.0] * 4)
        row[place] += float(values[values > 0.0].sum())
        row[place + 1] -= float(values[values < 0.0].sum())

    regional, own = cut.region.steps[number], cut.region.model
    for term, passed in zip(own.terms, regional.term_flow, strict=True):
        add(term.kind, 0, passed * shared[term.cells])
    if not regional.steady:
        add("storage", 0, -np.asarray(regional.storage_change) * shared)
    for term, passed in zip(flow.model.terms, record.term_flow, strict=True):
        if term.kind not in ("rim head", "rim flow"):
            add(term.kind, 2, passed)
    if not record.steady:
        add("storage", 2, -np.asarray(record.storage_change))
    for place, values in zip((0, 2), inflow, strict=True):
        add("rim", place, values)
    columns = [f"{a}, {b} [m³/day]" for b in ("region", "local") for a in ("in", "out")]
    made = pd.DataFrame.from_dict(table, orient="index", columns=columns)
    made.index.name = "term"
    made.loc["total"] = made.sum()
    return made


def _stress(cut: Cut, record: Any, number: int) -> float:
    """What features take more than in the region, of kinds that do not merely answer."""
    taken: dict[tuple[str, str], list[float]] = {}
    shared = np.asarray(cut.shared.volume.sum(axis=0)).ravel() / cut.shared.of
    known = set()
    for place, (model, step) in enumerate(
        ((cut.region.model, cut.region.steps[number]), (cut.model, record))
    ):
        for term, passed in zip(model.terms, step.term_flow, strict=True):
            if term.kind not in _NEW:
                continue
            weight = shared[term.cells] if place == 0 else 1.0
            by = np.bincount(term.feature_index, passed * weight, len(term.feature_names))
            for name, value in zip(term.feature_names, by.tolist(), strict=True):
                taken.setdefault((term.kind, name), [0.0, 0.0])[place] -= value
                if place == 0:
                    known.add((term.kind, name))
    # a drain that the region has answers to heads; a new one is a stress
    return sum(b - a for key, (a, b) in taken.items() if key[0] != "drain" or key not in known)
