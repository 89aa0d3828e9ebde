"""What a flow solution holds, and how it turns into labelled arrays and tables."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.budget import budget_table
from inkhorn.flow.crossing import across_line
from inkhorn.flow.review import flooded, review
from inkhorn.model import Findings, Model, saturation
from inkhorn.model.terms import WellTerm

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["FlowResult", "FlowStep", "StepStore"]


@dataclass(frozen=True, eq=False)
class FlowStep:
    """One step: heads at its end, and mean flows over it that balance in every cell.

    Attributes
    ----------
    start, end : float
        Since the beginning [day]; equal in a steady step.
    steady : bool
        Whether nothing is stored.
    heads : ndarray of float, (n_cells,)
        [m].
    own : ndarray of float, (n_own,)
        Own unknowns of the terms, such as the levels in wells.
    face_flow : ndarray of float, (n_faces,)
        From first to second cell [m³/day].
    term_flow : tuple of ndarray of float, (n_entries,)
        Of each term, positive into the cell [m³/day].
    storage_change : ndarray of float, (n_cells,)
        Water taken into storage [m³/day].
    drainage : ndarray of float, (n_cells,)
        The part of it that fills pores at the water table, or drains them; the rest is stored by pressure.
    own_storage : ndarray of float, (n_own,)
        Water taken into storage by own unknowns of the terms [m³/day].
    outside : tuple of ndarray of float, (n_names, n_own)
        Of each term, what comes into its own unknowns from outside, by its `outside_names` [m³/day].
    link_flow : tuple of ndarray of float, (n_links,)
        Of each term, from the first to the second own unknown of each of its links [m³/day].
    state : tuple of ndarray of float, (n_state,)
        Of each term, at the step's end.
    period : int
        Of the schedule; the last, of several that a record joins.
    order : int
        Of the scheme that made the step.
    joins : int
        Steps that were taken; of several, flows are means.
    """

    start: float
    end: float
    steady: bool
    heads: NDArray[np.float64]
    own: NDArray[np.float64]
    face_flow: NDArray[np.float64]
    term_flow: tuple[NDArray[np.float64], ...]
    storage_change: NDArray[np.float64]
    drainage: NDArray[np.float64]
    own_storage: NDArray[np.float64]
    outside: tuple[NDArray[np.float64], ...]
    link_flow: tuple[NDArray[np.float64], ...]
    state: tuple[NDArray[np.float64], ...]
    period: int = 0
    order: int = 1
    joins: int = 1


class StepStore(Protocol):
    """Where records of steps go as they are made, and are read from."""

    def append(self, record: FlowStep, /) -> None:
        """Add a record after the last."""

    def __len__(self) -> int: ...

    def __getitem__(self, index: int, /) -> FlowStep: ...

    def __iter__(self) -> Iterator[FlowStep]: ...


@dataclass(frozen=True, eq=False)
class FlowResult:
    """Heads and flows of a model, step by step.

    Attributes
    ----------
    model : Model
        What was solved.
    steps : list of FlowStep or as `inkhorn.StepFile`
        In time.
    report : SolverReport
        How it was solved.
    first : ndarray of float, (n_cells,)
        Heads to begin with, fixed ones as given [m].
    first_own : ndarray of float, (n_own,)
        Own unknowns of the terms to begin with, where the first period is not steady.
    first_states : tuple of ndarray of float
        The states in which terms began.
    """

    model: Model
    steps: StepStore
    report: Any = field(repr=False)
    first: NDArray[np.float64] = field(repr=False)
    first_own: NDArray[np.float64] = field(repr=False, default_factory=lambda: np.empty(0))
    first_states: tuple[NDArray[np.float64], ...] = field(repr=False, default=())

    def __repr__(self) -> str:
        heads = self.steps[-1].heads
        return (
            f"FlowResult({self.model.name}: {len(self.steps)} step{'s'[: len(self.steps) != 1]}, heads "
            f"{heads.min():.2f} to {heads.max():.2f} m; {self.report})"
        )

    def labelled(
        self, values: Sequence[NDArray[np.float64]], name: str, units: str, words: str
    ) -> xr.DataArray:
        """Return values per step and cell as a labelled array with a time axis."""
        import xarray as xr

        dims, coords = self.model.grid.coordinates()
        time = np.array([s.end for s in self.steps])
        return xr.DataArray(
            np.stack([self.model.grid.to_block(v) for v in values]),
            dims=("time", *dims),
            coords={
                "time": ("time", time, {"long_name": "time since the start", "units": "days"}),
                "steady": ("time", np.array([s.steady for s in self.steps])),
                **coords,
            },
            name=name,
            attrs={"units": units, "long_name": words},
        )

    @property
    def head(self) -> xr.DataArray:
        """Heads [m], (time, layer, y, x) on a rectangular mesh, else (time, cell)."""
        return self.labelled([s.heads for s in self.steps], "head", "m", "hydraulic head")

    def model_at(self, step: int = -1) -> Model:
        """Return the model as it was over a step, nothing changing any more."""
        return self.model if self.model.schedule is None else self.model.at_period(self.steps[step].period)

    def filled(self, step: int = -1) -> NDArray[np.float64]:
        """Return the filled share of each cell's height at the end of a step, (n_cells,)."""
        cells = self.model.grid.cells
        return saturation(self.steps[step].heads, cells.bottom, cells.top, self.model.water_table)[0]

    @property
    def saturation(self) -> xr.DataArray:
        """Filled share of each cell's height, with the dimensions of `head`."""
        values = [self.filled(k) for k in range(len(self.steps))]
        return self.labelled(values, "saturation", "1", "filled share of the cell's height")

    def water_table(self, step: int = -1) -> NDArray[np.float64]:
        """Return the level of the uppermost water in each plan cell, (n_plan,) [m].

        That is the head of the uppermost cell holding water over at least a hundredth of its height.
        """
        grid, heads, filled = self.model.grid, self.steps[step].heads, self.filled(step)
        level = np.full(grid.mesh.n_cells, np.nan)
        for number in grid.number[::-1]:  # the uppermost wet layer is written last
            there = number >= 0
            wet = there.copy()
            wet[there] = filled[number[there]] > 0.01
            level[wet] = heads[number[wet]]
        return level

    def above_ground(self, step: int = -1) -> NDArray[np.float64]:
        """Return by how much water stands above the ground in each plan cell, (n_plan,) [m]; 0 where it does not.

        From 0.1 m on, and only where no lake or river of that level is given.
        """
        return flooded(self, step)

    def findings(self) -> Findings:
        """Look at the answer, over all steps, for what cannot be meant or should be known before it is used.

        Water above ground, cells and columns that are dry, heads that no boundary can have caused, wells that take
        less than asked, rivers past their bed, drains and plants never reached, layers without flow, budgets that
        do not close, heads that still moved.

        Returns
        -------
        Findings
            Warnings first; it prints as a list and turns into a table.
        """
        return review(self)

    def well_levels(self, step: int = -1) -> pd.DataFrame:
        """Return the water level in each well and collector, and what it takes or gives.

        Abstraction and injection are both counted upwards from 0. A well that would run dry takes less
        than was asked; the column says by how much. The last column tells what comes from each layer along the screen.
        """
        import pandas as pd

        rows, first, record, grid = [], 0, self.steps[step], self.model.grid
        for term, flow, outside in zip(
            self.model_at(step).terms, record.term_flow, record.outside, strict=True
        ):
            if isinstance(term, WellTerm):
                level, pumped = record.own[first : first + term.n_own], outside[0]
                layer = grid.cells.layer[term.cells]
                for k, name in enumerate(term.features):
                    taken = np.bincount(layer[term.feature == k], -flow[term.feature == k])
                    parts = [
                        f"{grid.layer_names[n]} {taken[n]:.4g}" for n in np.unique(layer[term.feature == k])
                    ]
                    rows.append(
                        {
                            "well": name,
                            "level [m]": level[k] - np.sign(-pumped[k]) * term.losses[k] * pumped[k] ** 2,
                            "abstraction [m³/day]": max(-pumped[k], 0.0),
                            "injection [m³/day]": max(pumped[k], 0.0),
                            "less than asked [m³/day]": max(round(pumped[k] - term.rate[k], 6), 0.0) + 0.0,
                            "from each layer [m³/day]": ", ".join(parts),
                        }
                    )
            first += term.n_own
        columns = [
            "level [m]", "abstraction [m³/day]", "injection [m³/day]", "less than asked [m³/day]",
            "from each layer [m³/day]",
        ]  # fmt: skip
        return pd.DataFrame(rows, columns=["well", *columns])

    def budget(
        self, by: str = "term", step: int = -1, *, regions: Mapping[str, Any] | None = None
    ) -> pd.DataFrame:
        """Return the water budget of a step.

        Parameters
        ----------
        by : {"term", "feature", "layer", "region", "store"}
            One row per kind of term, per feature, or per layer or region with its storage and its
            exchanges with the others; or the balance of each feature that has one of its own, as wells and lakes do:
            what it takes from the aquifer and gives it, from outside, and what it stores.
        step : int
            Which step.
        regions : mapping of str to shapely Polygon or array_like of bool, (n_cells,), optional
            For ``by="region"``: cells whose centre lies inside, in all layers, or those told. They must not
            overlap; what lies in none is the region "elsewhere".

        Returns
        -------
        pandas.DataFrame
            What comes into the aquifer and what goes out [m³/day], and a last row of totals, to which exchange
            between layers or regions adds nothing;
            ``attrs["closing_error_percent"]`` is what is missing, of the larger total. That by store is of the
            stores, the others of the aquifer.
        """
        return budget_table(self.model, self.steps[step], by, regions)

    def across(self, line: Any, step: int = -1) -> pd.DataFrame:
        """Return what crosses a line in plan, layer by layer, wherever it runs.

        Parameters
        ----------
        line : shapely LineString or array_like of float, (n, 2)
            x and y [m]. Along the edges of cells it is what their faces carry; inside, the flow changes evenly
            from side to side of a rectangle, and in a fan of triangles in other cells.
        step : int
            Which step.

        Returns
        -------
        pandas.DataFrame
            What goes to the left of the line, as one walks along it, to the right, and the difference [m³/day]; a row
            for each layer and the total.
        """
        return across_line(self.model, self.steps[step], line)

    def mean_budget(self) -> pd.DataFrame:
        """Return the water budget by term as a mean over time, steps weighing by their length [m³/day].

        Steady steps and warm-up are left out, unless there is nothing else: then it is that of the last step.
        """
        import pandas as pd

        schedule = self.model.schedule
        weights = np.array(
            [
                0.0 if s.steady or schedule is None or schedule.warm_up[s.period] else s.end - s.start
                for s in self.steps
            ]
        )
        if not weights.any():
            return self.budget()
        tables = [w * self.budget(step=k) for k, w in enumerate(weights.tolist()) if w > 0.0]
        whole = pd.concat(tables).groupby(level=0, sort=False).sum() / weights.sum()
        total = whole.loc["total"]
        whole = pd.concat([whole.drop(index="total"), total.to_frame().T.rename_axis("term")])
        larger = max(total)
        whole.attrs["closing_error_percent"] = (
            float(100.0 * (total.iloc[0] - total.iloc[1]) / larger) if larger else 0.0
        )
        return whole

    def budgets(self) -> pd.DataFrame:
        """Return the water budget of every step by term, a row for each step and term [m³/day].

        Returns
        -------
        pandas.DataFrame
            Columns step, begin [day], end [day], term, in, out, the closing error of the step [%], and what came in
            and went out since the start [m³], to which steady steps add nothing.
        """
        import pandas as pd

        parts = []
        for k, step in enumerate(self.steps):
            table = self.budget(step=k)
            rows = table.reset_index().assign(
                **{"step": k + 1, "begin [day]": step.start, "end [day]": step.end},
            )
            rows["closing error [%]"] = table.attrs["closing_error_percent"]
            parts.append(rows)
        first = ["step", "begin [day]", "end [day]", "term"]
        whole = pd.concat(parts, ignore_index=True)
        lasting = whole["end [day]"] - whole["begin [day]"]
        for way in ("in", "out"):
            volume = whole[f"{way} [m³/day]"] * lasting
            whole[f"{way} so far [m³]"] = volume.groupby(whole["term"]).cumsum()
        return whole[[*first, *(c for c in whole.columns if c not in first)]]
