"""A dissolved species on steady flow, step by step and fully implicit."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.flow import FlowResult
from inkhorn.linear import LinearSystem
from inkhorn.progress import Progress
from inkhorn.shown import Shown
from inkhorn.site import Species
from inkhorn.sizes import refuse_beyond
from inkhorn.transport.dispersion import Dispersion, exchange_matrix
from inkhorn.units import WithUnit, plain

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["TransportResult", "solve_transport"]

_DIRECT_BELOW = 60_000  # cells: one factorisation serves every step


@dataclass(frozen=True, eq=False)
class TransportResult(Shown):
    """Concentrations in time, and where the mass went.

    Attributes
    ----------
    times : ndarray of float, (n_times,)
        Since the beginning [day]; the first is 0.
    values : ndarray of float, (n_times, n_cells)
        Concentration [g/m³].
    water : ndarray of float, (n_cells,)
        Water in the pores of each cell [m³].
    gained, lost : dict of (kind, feature) to ndarray of float, (n_times,)
        Mass brought in and taken out since the beginning [g].
    """

    flow: FlowResult = field(repr=False)
    species: Species
    times: NDArray[np.float64]
    values: NDArray[np.float64] = field(repr=False)
    water: NDArray[np.float64] = field(repr=False)
    gained: dict[tuple[str, str], NDArray[np.float64]] = field(repr=False)
    lost: dict[tuple[str, str], NDArray[np.float64]] = field(repr=False)

    def __repr__(self) -> str:
        return (
            f"TransportResult({self.species.name}: {len(self.times)} times to "
            f"{self.times[-1] / 365.25:.4g} years, up to {self.values.max():.4g} g/m³)"
        )

    @property
    def concentration(self) -> xr.DataArray:
        """Concentration [g/m³], (time, layer, y, x) on a rectangular mesh, else (time, cell)."""
        import xarray as xr

        dims, coords = self.flow.model.grid.coordinates()
        return xr.DataArray(
            np.stack([self.flow.model.grid.to_block(v) for v in self.values]),
            dims=("time", *dims),
            coords={
                "time": ("time", self.times, {"long_name": "time since the start", "units": "days"}),
                **coords,
            },
            name=self.species.name,
            attrs={"units": "g m-3", "long_name": f"concentration of {self.species.name}"},
        )

    def time_at(self, day: float) -> int:
        """Return the number of the output time that is nearest to a day since the start.

        Raises
        ------
        InputError
            If it lies outside the run.
        """
        if not self.times[0] <= day <= self.times[-1]:
            raise InputError(
                f"day {day:g} lies outside the run, which goes from day {self.times[0]:g} to {self.times[-1]:g}. "
                "Choose one within it."
            )
        return int(np.argmin(np.abs(self.times - day)))

    def at_well(self, name: str) -> pd.Series:
        """Return the concentration in the water that a well takes out, by time [g/m³]."""
        import pandas as pd

        term = self.flow.model.term("well")
        if name not in term.feature_names:
            raise InputError(f'there is no well "{name}" in the model; it has {list(term.feature_names)}.')
        mine = term.feature_index == term.feature_names.index(name)
        flows = self.flow.steps[-1].term_flow[self.flow.model.terms.index(term)][mine]
        taken = np.maximum(-flows, 0.0)
        if taken.sum() == 0.0:
            raise InputError(f'well "{name}" takes no water out, so it has no concentration.')
        mixed = self.values[:, term.cells[mine]] @ taken / taken.sum()
        return pd.Series(
            mixed, index=pd.Index(self.times, name="time [day]"), name=f"{self.species.name} at {name} [g/m³]"
        )

    def first_time_above(self, series: pd.Series, limit: float) -> float | None:
        """Return when a series first passes a limit, between its times linearly [day]; None if never."""
        values, times = series.to_numpy(), series.index.to_numpy()
        above = np.flatnonzero(values > limit)
        if len(above) == 0:
            return None
        k = above[0]
        if k == 0:
            return float(times[0])
        share = (limit - values[k - 1]) / (values[k] - values[k - 1])
        return float(times[k - 1] + share * (times[k] - times[k - 1]))

    def budget(self, output: int = -1) -> pd.DataFrame:
        """Return the mass budget from the beginning to an output time [kg].

        ``attrs["closing_error_percent"]`` is what is missing, of the larger of gain and loss.
        """
        import pandas as pd

        rows = [
            {
                "term": kind,
                "feature": feature,
                "in [kg]": self.gained[kind, feature][output] / 1000.0,
                "out [kg]": self.lost[kind, feature][output] / 1000.0,
            }
            for kind, feature in self.gained
        ]
        stored = float(self.water @ (self.values[output] - self.values[0])) / 1000.0
        rows.append(
            {"term": "stored", "feature": "", "in [kg]": max(-stored, 0.0), "out [kg]": max(stored, 0.0)}
        )
        frame = pd.DataFrame(rows).set_index(["term", "feature"])
        total = frame.sum()
        frame.loc[("total", ""), :] = total
        larger = float(total.max())
        frame.attrs["closing_error_percent"] = (
            100.0 * float(total["in [kg]"] - total["out [kg]"]) / larger if larger else 0.0
        )
        return frame


def refuse_long_transport(duration: float, step_length: float, outputs: int, n_cells: int) -> None:
    """Refuse more steps, or more to be kept, than is allowed for.

    Parameters
    ----------
    duration, step_length : float
        [day].
    outputs : int
        Times that are kept.
    n_cells : int
        Cells of the grid.

    Raises
    ------
    InputError
        With the estimate and the limit.
    """
    steps = duration / step_length
    refuse_beyond("steps", steps, "the transport", "Take longer steps.")
    kept = min(float(outputs), steps)
    refuse_beyond(
        "memory", 8.0 * kept * n_cells, f"{kept:.3g} outputs of {n_cells} cells", "Ask for fewer outputs."
    )


def solve_transport(
    flow: FlowResult,
    species: Species,
    *,
    duration: WithUnit,
    step_length: WithUnit,
    outputs: int = 20,
    dispersion: Dispersion | None = None,
    initial: ArrayLike | None = None,
    progress: Progress | None = None,
) -> TransportResult:
    """Carry a dissolved species with steady flow.

    Upstream advection, dispersion along the axes of the grid, implicit in time: concentrations stay
    within those of the start and of the water that comes in, and fronts are smeared by about half a
    cell plus half a step's travel.

    Parameters
    ----------
    flow : FlowResult
        Steady flow, with porosity.
    species : Species
        What is dissolved. Its concentration in the water that a feature brings in is the model's
        `inflow_concentration`; the feature's water is clean where none is given.
    duration, step_length : float
        How long and by which steps [day]; the last step is shortened to fit.
    outputs : int
        About how many times are kept, evenly spread.
    dispersion : Dispersion, optional
        Dispersivities and diffusion; none if not given.
    initial : array_like of float, optional
        Concentration at the beginning, as `Grid.per_cell` takes it [g/m³]; that of the species if not given.
    progress : callable, optional
        Called with what is being done and its share, as `inkhorn.progress.Progress` says.

    Returns
    -------
    TransportResult

    Raises
    ------
    InputError
        If porosity is missing or the flow is not steady.
    """
    from scipy.sparse import diags_array

    duration, step_length = plain(duration, "time", "duration"), plain(step_length, "time", "step_length")
    check_positive("duration", duration, unit="days")
    check_positive("step_length", step_length, unit="days")
    check_positive("outputs", outputs)
    refuse_long_transport(duration, step_length, outputs, flow.model.grid.n_cells)
    if not flow.steps[-1].steady:
        raise InputError("transport takes steady flow so far; this flow result is transient.")
    model = flow.model
    matrix = exchange_matrix(flow, dispersion or Dispersion())
    assert model.porosity is not None  # exchange_matrix has refused that
    water = model.porosity * model.grid.cells.volume * flow.filled()
    known = model.inflow_concentration.get(species.name, {})
    brought = np.zeros(model.grid.n_cells)
    inflow, outflow = {}, {}
    for term, flows in zip(model.terms, flow.steps[-1].term_flow, strict=True):
        carried = np.array([known.get(name, 0.0) for name in term.feature_names])[term.feature_index]
        mass_in = np.maximum(flows, 0.0) * carried
        np.add.at(brought, term.cells, mass_in)
        for k, name in enumerate(term.feature_names):
            mine = term.feature_index == k
            inflow[term.kind, name] = float(mass_in[mine].sum())
            taken = np.bincount(term.cells[mine], np.maximum(-flows[mine], 0.0), model.grid.n_cells)
            outflow[term.kind, name] = taken
    takers = np.array(list(outflow.values())).reshape(len(outflow), model.grid.n_cells)
    values = model.grid.per_cell("initial", species.initial if initial is None else initial)
    check_nonnegative("initial", values, unit="g/m³")

    ends = np.minimum(step_length * np.arange(1, int(np.ceil(duration / step_length - 1e-9)) + 1), duration)
    keep = set(
        np.unique(np.round(np.linspace(0, len(ends), min(outputs, len(ends)) + 1)).astype(int)).tolist()
    )
    out_mass = np.zeros(len(takers))
    times, kept, lost = [0.0], [values], [out_mass.copy()]
    now, system, system_dt = 0.0, None, -1.0
    for k, end in enumerate(ends, start=1):
        dt = float(end - now)
        if system is None or abs(dt - system_dt) > 1e-9 * dt:
            system = LinearSystem(
                matrix + diags_array(water / dt), direct=True if len(water) < _DIRECT_BELOW else None
            )
            system_dt = dt
        values = system.solve(water / system_dt * values + brought, tolerance=1e-12)
        now = float(end)
        out_mass += system_dt * (takers @ values)
        if k in keep:
            times.append(now)
            kept.append(values)
            lost.append(out_mass.copy())
        if progress is not None:
            progress(f"following {species.name}, day {now:.0f} of {duration:.0f}", now / duration)
    stamps, gone = np.array(times), np.array(lost)
    return TransportResult(
        flow,
        species,
        stamps,
        np.array(kept),
        water,
        gained={key: rate * stamps for key, rate in inflow.items()},
        lost={key: gone[:, k] for k, key in enumerate(outflow)},
    )
