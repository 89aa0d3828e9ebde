"""A dissolved species on steady flow, step by step and fully implicit."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError, check_nonnegative, check_positive
from inkhorn.flow import FlowResult
from inkhorn.linear import LinearSystem
from inkhorn.model import Model
from inkhorn.progress import Progress
from inkhorn.shown import Shown
from inkhorn.site import Species
from inkhorn.sizes import refuse_beyond
from inkhorn.transport.dispersion import Dispersion, exchange_matrix
from inkhorn.transport.mixing import mixes_of
from inkhorn.units import WithUnit, plain

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["TransportResult", "lacking_concentration", "solve_transport"]

_NO_WATER = 1e-9  # m³/day
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
        """Return the concentration of the mix that a well takes from its cells, by time [g/m³]."""
        import pandas as pd

        model, record = self.flow.model, self.flow.steps[-1]
        known = [n for t in model.terms if t.kind == "well" for n in t.feature_names]
        if name not in known:
            raise InputError(f'there is no well "{name}" in the model; it has {known}.')
        mix = next(
            m
            for m in mixes_of(model, record)
            if model.terms[m.term].kind == "well" and model.terms[m.term].feature_names[m.feature] == name
        )
        if not mix.taken.sum() > 0.0:
            raise InputError(f'well "{name}" takes no water out, so it has no concentration.')
        mixed = self.values[:, mix.takes] @ mix.taken / mix.taken.sum()
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


def lacking_concentration(model: Model, species: Species, names: Iterable[str]) -> str:
    """Say which of some features that bring in water have no concentration of a species; empty if all have one."""
    known = model.inflow_concentration.get(species.name, {})
    lacking = [n for n in names if n not in known] if species.background is None else []
    if not lacking:
        return ""
    shown = ", ".join(lacking[:6]) + (f" and {len(lacking) - 6} more" if len(lacking) > 6 else "")
    return (
        f"no concentration of {species.name} is stated for the water that comes from {shown}. State it, or a "
        "`background` of the species for all that have none"
    )


def _passing(
    flow: FlowResult, species: Species
) -> tuple[NDArray[np.float64], dict[tuple[str, str], float], dict[tuple[str, str], NDArray[np.float64]]]:
    """What is brought into each cell [g/day]; and by feature what it brings, and what it takes of each cell's water."""
    model, record = flow.model, flow.steps[-1]
    n = model.grid.n_cells
    known = model.inflow_concentration.get(species.name, {})
    background = 0.0 if species.background is None else float(species.background)
    brought, inflow, outflow, giving = np.zeros(n), {}, {}, []
    mixes = {(mix.term, mix.feature): mix for mix in mixes_of(model, record)}
    for t, (term, flows) in enumerate(zip(model.terms, record.term_flow, strict=True)):
        for k, name in enumerate(term.feature_names):
            carried = known.get(name, background)
            mine = term.feature_index == k
            cells, water = term.cells[mine], flows[mine]
            mix = mixes.get((t, k))
            if mix is None:
                added = float(np.maximum(water, 0.0).sum())
                np.add.at(brought, cells, np.maximum(water, 0.0) * carried)
                taken = np.bincount(cells, np.maximum(-water, 0.0), n).astype(np.float64)
            else:  # what it takes mixes with what is added; a part of that leaves, the rest is given back
                added = mix.added
                share = mix.given / mix.total if mix.total > 0.0 else np.zeros(len(mix.given))
                np.add.at(brought, mix.gives, share * added * carried)
                removed = mix.removed / mix.total if mix.total > 0.0 else 0.0
                taken = np.bincount(mix.takes, removed * mix.taken, n).astype(np.float64)
            if added > _NO_WATER:
                giving.append(name)
            inflow[term.kind, name] = added * carried
            outflow[term.kind, name] = taken
    lacking = lacking_concentration(model, species, giving)
    if lacking:
        raise InputError(f"{lacking}.")
    return brought, inflow, outflow


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
        `inflow_concentration`, or the species' `background`. Wells and collectors give back the mix of what they take.
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
        If porosity is missing, the flow is not steady, or no concentration is stated of water that comes in.
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
    brought, inflow, outflow = _passing(flow, species)
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
