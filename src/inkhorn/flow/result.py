"""What a flow solution holds, and how it turns into labelled arrays and tables."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.figures import span_in_words
from inkhorn.flow.at_place import cells_at, feature_table, heads_in_time, mean_flux, place_table
from inkhorn.flow.budget import budget_table, exchange_table
from inkhorn.flow.conduits import conduit_budget_table, node_table, pipe_table, spring_table
from inkhorn.flow.crossing import across_line, through_rim
from inkhorn.flow.labelled import labelled
from inkhorn.flow.record import FlowStart, Records
from inkhorn.flow.review import flooded, review
from inkhorn.flow.within import term_flow_table, within_term_table
from inkhorn.model import Findings, Model, filled, saturation
from inkhorn.model.terms import WellTerm
from inkhorn.shown import Shown

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["FlowResult"]


@dataclass(frozen=True, eq=False)
class FlowResult(Shown):
    """Heads and flows of a model, step by step.

    Attributes
    ----------
    model : Model
        What was solved.
    steps : list of FlowStep or as `inkhorn.StepFile`
        In time.
    report : SolverReport
        How it was solved.
    start : FlowStart
        What it was begun with.
    """

    model: Model
    steps: Records
    report: Any = field(repr=False)
    start: FlowStart = field(repr=False)

    def __repr__(self) -> str:
        heads = self.steps[-1].heads
        return (
            f"FlowResult({self.model.name}: {len(self.steps)} step{'s'[: len(self.steps) != 1]}, heads "
            f"{span_in_words(heads.min(), heads.max())} m; {self.report})"
        )

    @property
    def head(self) -> xr.DataArray:
        """Heads [m], (time, layer, y, x) on a rectangular mesh, else (time, cell).

        Times are dates where the schedule begins at one, with days since then beside them as ``day``.

        Of records in a file those are read that are used: ``flow.head.isel(time=-1)`` reads one.
        """
        return labelled(
            self.steps,
            self.model.grid,
            lambda k: self.steps[k].heads,
            "head",
            "m",
            "hydraulic head",
            self._start,
        )

    @property
    def _start(self) -> np.datetime64 | None:
        return None if self.model.schedule is None else self.model.schedule.start

    def model_at(self, step: int = -1) -> Model:
        """Return the model as it was over a step, nothing changing any more."""
        return self.model if self.model.schedule is None else self.model.at_period(self.steps[step].period)

    def step_at(self, time: float | np.datetime64 | str) -> int:
        """Return the number of the step whose end lies nearest to a time.

        Parameters
        ----------
        time : float, datetime64 or str
            Since the start [day]; or a date, where the schedule begins at one.

        Raises
        ------
        InputError
            If the time lies outside the run, or is a date and the schedule begins at none.
        """
        if isinstance(time, (int, float)):
            day = float(time)
        elif self._start is None:
            raise InputError(f"{time} is a date, but the run begins at none. Give days since its start.")
        else:
            date = np.datetime64(str(time)).astype("datetime64[s]")
            day = float((date - self._start) / np.timedelta64(1, "s")) / 86400.0
        ends = np.array([step.end for step in self.steps])
        first = float(self.steps[0].begin)
        if not first <= day <= ends[-1]:
            raise InputError(
                f"{time} lies outside the run, which goes from day {first:g} to {ends[-1]:g}"
                + (f" of {self._start}" if self._start is not None else "")
                + ". Choose a time within it."
            )
        return int(np.argmin(np.abs(ends - day)))

    def at(self, x: float, y: float, z: float | None = None, *, step: int = -1) -> pd.DataFrame:
        """Return every input and result at a place.

        Parameters
        ----------
        x, y : float
            Where [m].
        z : float, optional
            Elevation [m]; of all layers there if not given.
        step : int
            Which step.

        Returns
        -------
        pandas.DataFrame
            A row for each quantity, with its unit, and a column for each layer there: properties, head, Darcy flux and
            pore velocity with their components (means over the cell's water), what every feature brings in.

        Raises
        ------
        InputError
            If there is no cell.
        """
        return place_table(self, cells_at(self.model, x, y, z), step)

    def at_cell(self, cell: int, *, step: int = -1) -> pd.DataFrame:
        """Return the same as `at` of a cell by its number."""
        if not 0 <= cell < self.model.grid.n_cells:
            raise InputError(f"there is no cell {cell}; expected 0 to {self.model.grid.n_cells - 1}.")
        return place_table(self, np.array([cell]), step)

    def at_times(self, x: float, y: float, z: float | None = None) -> pd.DataFrame:
        """Return the heads at a place at the end of each step, a column for each layer there; as `at`."""
        return heads_in_time(self, cells_at(self.model, x, y, z))

    def of_feature(self, name: str, *, step: int = -1) -> pd.DataFrame:
        """Return what a feature has and does, a row for each of its cells: head, its values, what it brings in.

        Raises
        ------
        InputError
            If no such feature is in the model.
        """
        return feature_table(self, name, step)

    def filled(self, step: int = -1) -> NDArray[np.float64]:
        """Return the filled share of each cell's height at the end of a step, (n_cells,)."""
        cells = self.model.grid.cells
        return saturation(self.steps[step].heads, cells.bottom, cells.top, self.model.water_table)[0]

    @property
    def saturation(self) -> xr.DataArray:
        """Filled share of each cell's height, with the dimensions of `head`."""
        words = "filled share of the cell's height"
        return labelled(self.steps, self.model.grid, self.filled, "saturation", "1", words, self._start)

    def saturated_volume(self, step: int = -1, *, film: bool = True) -> NDArray[np.float64]:
        """Return the volume of each cell that is saturated at the end of a step, (n_cells,) [m³].

        Parameters
        ----------
        step : int
            Which step; its begin is the end of the one before, or `start`.
        film : bool
            Count the residual film in that a drained cell keeps, which conducts but is not stored.
        """
        cells, law = self.model.grid.cells, self.model.water_table
        share = saturation if film else filled
        return np.asarray(cells.volume * share(self.steps[step].heads, cells.bottom, cells.top, law)[0])

    def darcy_flux(self, step: int = -1) -> NDArray[np.float64]:
        """Return Darcy's flux along x, y and z as means over the water in each cell, (n_cells, 3) [m/day].

        NaN in cells that are dry.
        """
        return mean_flux(self.model, self.steps[step], self.filled(step))

    def water_volume(self, step: int = -1, *, film: bool = True) -> NDArray[np.float64]:
        """Return the water that moves in the pores of each cell at the end of a step, (n_cells,) [m³].

        Parameters
        ----------
        step, film
            As of `saturated_volume`, which this is the effective porosity of.

        Raises
        ------
        InputError
            If the model has no porosity.
        """
        return self.model.input("porosity") * self.saturated_volume(step, film=film)

    def term_flows(self, step: int = -1) -> pd.DataFrame:
        """Return what each entry of each term brings in, and where its water crosses.

        Returns
        -------
        pandas.DataFrame
            Columns term, feature, cell, layer, x [m], y [m], crossing (top, floor, side, screen or inside), outer
            face (its number, -1 where there is none), flow [m³/day], positive into the aquifer.
            ``attrs["flows"]`` says over how many steps flows are means, where a record joins several.
        """
        return term_flow_table(self.model, self.steps[step])

    def within_terms(self, step: int = -1) -> pd.DataFrame:
        """Return the extra unknowns of terms, as levels in wells and lakes, what flows between them, and what they store.

        Returns
        -------
        pandas.DataFrame
            Columns term, feature, unknown, item ("level", "storage", what comes from outside by its name, or "to" and
            another unknown), value, unit.
        """
        return within_term_table(self.model, self.steps[step])

    def water_table(self, step: int = -1) -> NDArray[np.float64]:
        """Return the level of the uppermost water in each plan cell, (n_plan,) [m].

        That is the head of the uppermost cell holding water over at least a hundredth of its height.
        """
        grid, heads, filled = self.model.grid, self.steps[step].heads, self.filled(step)
        level = np.full(grid.mesh.n_cells, np.nan)
        for number in grid.cell_number[::-1]:  # the uppermost wet layer is written last
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
                level, pumped = record.extra_unknowns[first : first + term.n_extra], outside[0]
                layer = grid.cells.layer[term.cells]
                for k, name in enumerate(term.feature_names):
                    taken = np.bincount(layer[term.feature_index == k], -flow[term.feature_index == k])
                    parts = [
                        f"{grid.layer_names[n]} {taken[n]:.4g}"
                        for n in np.unique(layer[term.feature_index == k])
                    ]
                    rows.append(
                        {
                            "well": name,
                            "level [m]": level[k] - np.sign(-pumped[k]) * term.well_loss[k] * pumped[k] ** 2,
                            "abstraction [m³/day]": max(-pumped[k], 0.0),
                            "injection [m³/day]": max(pumped[k], 0.0),
                            "less than asked [m³/day]": max(round(pumped[k] - term.rate[k], 6), 0.0) + 0.0,
                            "from each layer [m³/day]": ", ".join(parts),
                        }
                    )
            first += term.n_extra
        columns = [
            "level [m]", "abstraction [m³/day]", "injection [m³/day]", "less than asked [m³/day]",
            "from each layer [m³/day]",
        ]  # fmt: skip
        return pd.DataFrame(rows, columns=["well", *columns])

    def conduits(self, step: int = -1) -> pd.DataFrame:
        """Return what each pipe of the conduits carries over a step.

        Returns
        -------
        pandas.DataFrame
            A row for each pipe, which is the part of a conduit between two nodes and in one cell: its conduit, nodes,
            cell, place, true length and diameter, the share of its height that is filled at the upper end, its flow
            [m³/day] and velocity [m/s] from the first node to the second, Reynolds number, regime in words, the fall of
            the head from the first to the second, and the exchange with the rock, with its way in words.

        Raises
        ------
        InputError
            If the model has no conduits.
        """
        return pipe_table(self.model_at(step), self.steps[step])

    def conduit_nodes(self, step: int = -1) -> pd.DataFrame:
        """Return heads and flows at the nodes of the conduits over a step.

        Returns
        -------
        pandas.DataFrame
            A row for each node: the feature there, its place, bed, head and depth of water [m]; the exchange of the pipe
            ends there with the rock, with its way in words, what is let in from outside, and what leaves by a spring
            [m³/day].

        Raises
        ------
        InputError
            If the model has no conduits.
        """
        return node_table(self.model_at(step), self.steps[step])

    def conduit_budget(self, step: int = -1) -> pd.DataFrame:
        """Return the water budget of the conduits over a step [m³/day].

        Returns
        -------
        pandas.DataFrame
            What comes into the network and goes out of it: what is let in, springs, the exchange of each conduit with the
            rock, and what stands in it; and a last row of totals, with ``attrs["closing_error_percent"]``.

        Raises
        ------
        InputError
            If the model has no conduits.
        """
        return conduit_budget_table(self.model_at(step), self.steps[step])

    def spring_discharge(self) -> pd.DataFrame:
        """Return what each spring of the conduits gives, step by step [m³/day].

        Returns
        -------
        pandas.DataFrame
            Begin and end of each step, its date if the schedule begins at one, all that is let into the conduits from
            outside, and the discharge of each spring, as means over the step.

        Raises
        ------
        InputError
            If the model has no conduits.
        """
        return spring_table(self.model, self.steps)

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

    def exchange(self, step: int = -1, *, regions: Mapping[str, Any] | None = None) -> pd.DataFrame:
        """Return what flows from layer to layer, or from region to region.

        Parameters
        ----------
        step : int
            Which step.
        regions : mapping, optional
            As of `budget`; layers if not given.

        Returns
        -------
        pandas.DataFrame
            A row for the part that water comes from, a column for that it goes to, summed over the faces between them
            that carry it that way [m³/day].
        """
        return exchange_table(self.model, self.steps[step], regions)

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
        record = self.steps[step]
        return across_line(self.model.grid, record.face_flow, through_rim(self.model, record), line)

    def mean_budget(self) -> pd.DataFrame:
        """Return the water budget by term as a mean over time, steps weighing by their length [m³/day].

        Steady periods and warm-up are left out, unless there is nothing else.
        """
        import pandas as pd

        schedule, steps = self.model.schedule, [self.steps[k] for k in range(len(self.steps))]
        lengths = np.array([s.end - s.begin for s in steps])
        moving = np.array([not (s.steady or schedule is None or schedule.warm_up[s.period]) for s in steps])
        weights = np.where(moving, lengths, 0.0) if moving.any() else lengths
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
            Columns step, begin [day], end [day], term, in, out, the closing error of the step [%], what came in
            and went out since the start [m³], and how many steps were joined in the record, whose flows are then means.
        """
        import pandas as pd

        parts = []
        for k, step in enumerate(self.steps):
            table = self.budget(step=k)
            rows = table.reset_index().assign(
                **{"step": k, "begin [day]": step.begin, "end [day]": step.end},
            )
            rows["closing error [%]"] = table.attrs["closing_error_percent"]
            rows["joined steps"] = step.joins
            parts.append(rows)
        first = ["step", "begin [day]", "end [day]", "term"]
        whole = pd.concat(parts, ignore_index=True)
        lasting = whole["end [day]"] - whole["begin [day]"]
        for way in ("in", "out"):
            volume = whole[f"{way} [m³/day]"] * lasting
            whole[f"{way} so far [m³]"] = volume.groupby(whole["term"]).cumsum()
        return whole[[*first, *(c for c in whole.columns if c not in first)]]
