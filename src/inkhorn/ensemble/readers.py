"""Reads what is watched from the outcome of a run; places, lines and names are looked up once, before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.calibration.gathering import Gathering
from inkhorn.calibration.observations import Observations, readings_of
from inkhorn.dates import one_date
from inkhorn.ensemble.asked import Carry, Follow, Outcome
from inkhorn.ensemble.maps import WatchMap
from inkhorn.ensemble.watched import Watch
from inkhorn.errors import InputError, did_you_mean, place_words
from inkhorn.flow import FlowResult
from inkhorn.model import Model, why_no_cell
from inkhorn.site import Bore, Measurement, days_since, properties
from inkhorn.transport import TransportResult
from inkhorn.units import KINDS, unit_factor

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Watching", "value_by_cell", "value_unit"]

Array = NDArray[np.float64]
Index = NDArray[np.int64]

_FLUXES = ("Darcy flux", "pore velocity")
_OTHERS = ("head", "filled share", *_FLUXES, *(f"{f} along {axis}" for f in _FLUXES for axis in "xyz"))


def _without_log(name: str) -> tuple[str, bool]:
    return (name[3:], True) if name.startswith("ln ") else (name, False)


def value_unit(model: Model, name: str, what: str) -> str:
    """Return the unit of a value of cells by its name.

    Raises
    ------
    InputError
        If a model has no such value; `what` says who asks.
    """
    plain, log = _without_log(name)
    if plain in _OTHERS:
        if plain.startswith("pore velocity") and model.porosity is None:
            raise InputError(f"{what}: a pore velocity needs a porosity. Give one for every material.")
        unit = {"head": "m", "filled share": "-"}.get(plain, "m/day")
    elif plain in properties() and model.property_of(plain) is not None:
        unit = KINDS[properties()[plain].said.dimension_on("")].inside or "-"
    elif "." in plain and plain in model.inputs:
        unit = model.values_of(plain)[1] or "-"
    else:
        known = [*_OTHERS, *model.inputs]
        raise InputError(
            f'{what} is of "{plain}"; expected one of {known}, or "ln " before it.{did_you_mean(plain, known)}'
        )
    return f"ln {unit}" if log and unit != "-" else unit


def value_by_cell(flow: FlowResult, name: str, step: int) -> Array:
    """Return an input or a result by cell, (n_cells,)."""
    plain, log = _without_log(name)
    if plain == "head":
        found = np.asarray(flow.steps[step].heads)
    elif plain == "filled share":
        found = flow.filled(step)
    elif plain.startswith(_FLUXES):
        flux = flow.darcy_flux(step)
        if plain.startswith("pore"):
            flux = flux / np.asarray(flow.model.porosity)[:, None]
        axis = plain[-1] if " along " in plain else ""
        found = flux[:, "xyz".index(axis)] if axis else np.hypot(flux[:, 0], flux[:, 1])
    else:
        found = flow.model_at(step).values_of(plain)[0]
    if not log:
        return found
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.where(found > 0.0, np.log(found), np.nan))


@dataclass(frozen=True, eq=False)
class _One:
    """A watch, and where it is read."""

    watch: Watch
    days: Array  # NaN of the end
    cell: int = -1
    rows: Any = None

    def __len__(self) -> int:
        return len(self.days)


class Watching:
    """All that is watched, ready to be read from an outcome.

    Parameters
    ----------
    model : Model
        That of every run but for its values.
    watches : sequence of Watch
    maps : sequence of WatchMap
    carries : sequence of Carry
    follows : sequence of Follow

    Attributes
    ----------
    watches, maps
        As given.
    observations : Observations or None
        How what is of water alone is read.
    columns : pandas.DataFrame
        One row for each number: watched, time [day] (NaN of steady flow or the end), unit, limit.

    Raises
    ------
    InputError
        If a place lies outside, a name is not there, or what is needed for it is not asked for.
    """

    def __init__(
        self, model: Model, watches: Sequence[Watch], maps: Sequence[WatchMap] = (),
        carries: Sequence[Carry] = (), follows: Sequence[Follow] = (),
    ) -> None:  # fmt: skip
        import pandas as pd

        self.model, self.watches, self.maps = model, tuple(watches), tuple(maps)
        self.species = {s.name: s for c in carries for s in c.species}
        self.paths = [f.name for f in follows]
        self._start = next((c.options["start"] for c in carries if c.options.get("start")), None)
        _refuse_repeats([w.name for w in self.watches])
        _refuse_repeats([m.name for m in self.maps])
        self.ones = [self._one(w) for w in self.watches]
        self.observations = self._observations()
        for one in self.maps:
            self._check_map(one)
        rows = [
            (one.watch.name, day, self._unit(one.watch), self._limit_told(one.watch))
            for one in self.ones
            for day in one.days
        ]
        self.columns: pd.DataFrame = pd.DataFrame(rows, columns=["watched", "time [day]", "unit", "limit"])

    def __len__(self) -> int:
        return len(self.columns)

    def __repr__(self) -> str:
        return f"Watching({len(self.watches)} things, {len(self.maps)} maps)"

    # --- looking up --------------------------------------------------------------------------------

    def _one(self, watch: Watch) -> _One:
        days = self._days(watch)
        model = self.model
        if watch.of_solute:
            self._species_of(watch)
        if watch.way in ("value_at", "concentration_at"):
            cell = self._cell(getattr(watch, watch.way), watch)
            if watch.way == "value_at":
                value_unit(model, watch.value, watch.where)
            return _One(watch, days, cell)
        if watch.way in ("concentration_in", "highest_in", "passed_in"):
            site = model.site
            known = [n for t in model.terms for n in t.feature_names]
            known += [] if site is None else [b.name for b in site.bores]
            name = getattr(watch, watch.way)
            if name not in known:
                raise InputError(
                    f'{watch.where} is in "{name}"; expected one of {known}.{did_you_mean(name, known)}'
                )
        if watch.way in ("passed_in", "above_limit") and self._limit(watch) is None:
            raise InputError(
                f"{watch.where} needs a limit, and its species has none. Give `limit`, or one to the species."
            )
        if watch.way == "travel_time_of":
            if not self.paths:
                raise InputError(f"{watch.where} is of paths, and none are followed. Ask for them (`paths`).")
            if watch.paths not in self.paths and (watch.paths or len(self.paths) > 1):
                raise InputError(
                    f'{watch.where} names the paths "{watch.paths}"; expected one of {self.paths}.'
                )
        return _One(watch, days)

    def _days(self, watch: Watch) -> Array:
        """When it is read, in days since the start; NaN for the end."""
        schedule = self.model.schedule
        if not watch.times:
            return np.array([np.nan])
        if schedule is None and not watch.of_solute:
            raise InputError(f"{watch.where}: the flow is steady, and has no times. Leave them out.")
        start = schedule.start if schedule is not None else None
        if start is None and self._start is not None:
            start = one_date(self._start)
        days = _in_days(watch.times, start, watch.where)
        if schedule is not None and not watch.of_solute:
            end = float(schedule.ends[-1])
            if days.min() < 0.0 or days.max() > end:
                raise InputError(
                    f"{watch.where}: day {days.min():g} to {days.max():g} lie outside the run, which goes to day {end:g}."
                )
        return days

    def _cell(self, place: tuple[float, float], watch: Watch) -> int:
        grid = self.model.grid
        plan = int(grid.mesh.locate([place[0]], [place[1]])[0])
        for k in grid.layers_named(watch.layer, watch.where):
            if plan >= 0 and grid.cell_number[k, plan] >= 0:
                return int(grid.cell_number[k, plan])
        raise InputError(
            f"{watch.where}: there is no cell of the {watch.layer} at {place_words(*place)}. Choose a place inside."
        )

    def _species_of(self, watch: Watch | WatchMap) -> str:
        known = list(self.species)
        if not known:
            raise InputError(
                f"{watch.where} is of something dissolved, and nothing is carried. Ask for a transport."
            )
        if not watch.species and len(known) == 1:
            return known[0]
        if watch.species not in known:
            raise InputError(
                f'{watch.where} names the species "{watch.species}"; expected one of {known}.'
                f"{did_you_mean(watch.species, known)}"
            )
        return watch.species

    def _limit(self, watch: Watch | WatchMap) -> float | None:
        if watch.limit is not None or not watch.of_solute:
            return watch.limit
        found = self.species[self._species_of(watch)].limit
        return None if found is None else float(found)

    def _limit_told(self, watch: Watch) -> float:
        """The number of which the share of runs above it is told."""
        found = self._limit(watch)
        own = watch.way not in ("passed_in", "above_limit", "mass_across") or watch.above_limit == "highest"
        if found is None or not own:
            return np.nan
        return found * self._factor(watch) if watch.unit == "g/m³" else found

    def _unit(self, watch: Watch) -> str:
        if watch.unit == "g/m³":
            return self.species[self._species_of(watch)].unit
        return value_unit(self.model, watch.value, watch.where) if watch.way == "value_at" else watch.unit

    def _factor(self, watch: Watch | WatchMap) -> float:
        """From grams in the cubic metre to the unit in which a species is told."""
        return 1.0 / unit_factor(self.species[self._species_of(watch)].unit, "concentration")

    def _observations(self) -> Observations | None:
        """How what is of water alone is read."""
        site = self.model.site
        bores: list[Bore] = list(site.bores) if site is not None else []
        mine = [one for one in self.ones if one.watch.of_water]
        if not mine:
            return None
        own = {
            one.watch.name: f"{one.watch.name} (its place)" for one in mine if one.watch.level_at is not None
        }
        for one in mine:
            if one.watch.level_at is not None:
                bores.append(Bore(own[one.watch.name], *one.watch.level_at, one.watch.layer))
        gathered = Gathering(self.model, bores)
        schedule = self.model.schedule
        for one in mine:
            w, zeros = one.watch, np.zeros(len(one))
            times = None
            if schedule is not None:
                times = np.where(np.isnan(one.days), float(schedule.ends[-1]), one.days)
            first = len(gathered.readings)
            bore = gathered.bores.get(own.get(w.name) or w.level_in or "")
            if bore is not None:
                self._level(gathered, w.name, bore, zeros, times)
            else:
                since = None if w.since is None else self._since(w)
                gathered.measurement(
                    Measurement(
                        name=w.name, level_in=w.level_in, drawdown_in=w.drawdown_in, since=since,
                        between=w.between, gain_of=w.gain_of, within=w.within, across=w.across, layers=w.layers,
                        values=zeros, times=None if times is None else times - (since or 0.0), source="watched",
                    )
                )  # fmt: skip
            for reading in gathered.readings[first:]:
                if reading.why_not:
                    raise InputError(f"{w.where}: {reading.why_not}.")
                reading.deviation = 1.0
        return readings_of(gathered, bores, len(mine), False, ())

    def _since(self, watch: Watch) -> float:
        schedule = self.model.schedule
        if schedule is None:
            raise InputError(f"{watch.where}: a drawdown is one in time, and the flow is steady.")
        return float(_in_days([watch.since], schedule.start, watch.where)[0])

    def _level(self, gathered: Gathering, name: str, bore: Bore, zeros: Array, times: Any) -> None:
        """Gather levels in a bore, or at a place as if there was one."""
        place = gathered.at.get(bore.name, -1)
        base = {
            "name": name, "kind": "level", "unit": "m", "group": "", "layer": bore.layer, "x": float(bore.x),
            "y": float(bore.y),
        }  # fmt: skip

        def parts(day: float) -> list[tuple[int, float, float]]:
            return [(place, day, 1.0)]

        gathered.series(base, zeros, times, None, parts, why_no_cell(self.model.grid, bore))

    def _check_map(self, one: WatchMap) -> None:
        grid = self.model.grid
        if one.layer:
            grid.layers_named(one.layer, one.where)
        if one.of_solute:
            self._species_of(one)
        elif one.of == "capture":
            if not self.paths:
                raise InputError(f"{one.where} is of paths, and none are followed. Ask for them (`paths`).")
            if one.paths not in self.paths and (one.paths or len(self.paths) > 1):
                raise InputError(f'{one.where} names the paths "{one.paths}"; expected one of {self.paths}.')
        else:
            value_unit(self.model, one.of, one.where)

    def map_unit(self, one: WatchMap) -> str:
        """The unit of a map's values."""
        if one.of_solute:
            return self.species[self._species_of(one)].unit
        return "-" if one.of == "capture" else value_unit(self.model, one.of, one.where)

    def map_limit(self, one: WatchMap) -> float | None:
        """The number of which a map tells the chance that it is passed."""
        limit = 0.5 if one.of == "capture" else self._limit(one)
        return limit * self._factor(one) if limit is not None and one.of_solute else limit

    # --- reading -----------------------------------------------------------------------------------

    def read(self, outcome: Outcome) -> Array:
        """Return the numbers of a run, in the order of `columns`; NaN where there is none."""
        water = iter(() if self.observations is None else self.observations.computed(outcome.flow))
        found: list[float] = []
        for one in self.ones:
            if one.watch.of_water:
                found += [float(next(water)) for _ in range(len(one))]
            elif one.watch.way == "value_at":
                found += [
                    float(
                        value_by_cell(outcome.flow, one.watch.value, self._step(outcome.flow, day))[one.cell]
                    )
                    for day in one.days
                ]
            elif one.watch.way == "travel_time_of":
                found.append(self._travel_time(outcome, one.watch))
            else:
                factor = self._factor(one.watch) if one.watch.unit == "g/m³" else 1.0
                plume = outcome.plumes[self._species_of(one.watch)]
                found += [factor * v for v in self._of_plume(plume, one)]
        return np.array(found)

    @staticmethod
    def _step(flow: FlowResult, day: float) -> int:
        return -1 if np.isnan(day) else flow.step_at(float(day))

    def _of_plume(self, plume: TransportResult, one: _One) -> list[float]:
        w = one.watch
        times = plume.times
        days = np.where(np.isnan(one.days), times[-1], one.days)
        if days.min() < times[0] or days.max() > times[-1] * (1.0 + 1e-9):
            raise InputError(
                f"{w.where}: day {days.min():g} to {days.max():g} lie outside the transport, which goes from day "
                f"{times[0]:g} to {times[-1]:g}."
            )
        if w.way in ("concentration_in", "highest_in", "passed_in"):
            name = getattr(w, w.way)
            if name not in plume.watched.columns:
                return [np.nan] * len(one)
            series = plume.at(name)
            if series.empty:
                return [np.nan] * len(one)
            if w.way == "highest_in":
                return [float(series.max())]
            if w.way == "passed_in":
                first = plume.first_time_above(series, float(self._limit(w) or 0.0))
                return [np.nan if first is None else first]
            return np.interp(days, series.index.to_numpy(), series.to_numpy()).tolist()
        if w.way == "concentration_at":
            values = np.array([record.concentration[one.cell] for record in plume.records])
            return np.interp(days, times, values).tolist()
        if w.way == "mass_across":
            found = []
            for day in days:
                k = min(int(np.searchsorted(times, day - 1e-9)), len(times) - 1)
                table = plume.across(w.mass_across, max(k, 1))
                row = table.loc["total"] if "total" in table.index else table.sum()
                found.append(float(row.iloc[-1]))
            return found
        table = plume.above_limit(self._limit(w))
        column = next(c for c in table.columns if c.startswith(str(w.above_limit)))
        return np.interp(days, table.index.to_numpy(), table[column].to_numpy()).tolist()

    def _travel_time(self, outcome: Outcome, watch: Watch) -> float:
        ends = outcome.paths[watch.paths or self.paths[0]].ends
        mine = ends[ends["start"] == watch.travel_time_of]
        if not len(mine):
            known = list(dict.fromkeys(ends["start"]))
            raise InputError(f'{watch.where}: no path begins at "{watch.travel_time_of}", but at {known}.')
        whole = mine["end"].str.startswith(("entered", "given", "left", "taken")).to_numpy(dtype=bool)
        age = np.where(whole, mine["travel time [day]"].to_numpy(), np.inf)
        order = np.argsort(age, kind="stable")
        weight = np.cumsum(mine["flow [m³/day]"].to_numpy()[order])
        found = float(age[order][np.searchsorted(weight, watch.share * weight[-1])])
        return found if np.isfinite(found) else np.nan

    def read_maps(self, outcome: Outcome) -> list[Array]:
        """Return the values of each map over the plan cells, NaN where there is none, (n_plan,)."""
        return [self._map(one, outcome) for one in self.maps]

    def _map(self, one: WatchMap, outcome: Outcome) -> Array:
        grid = self.model.grid
        if one.of == "capture":
            return self._captured(one, outcome)
        if one.of_solute:
            plume = outcome.plumes[self._species_of(one)]
            day = plume.times[-1] if one.time is None else self._day(one, plume.start)
            values = self._factor(one) * np.asarray(plume.records[plume.time_at(float(day))].concentration)
        else:
            day = np.nan if one.time is None else self._day(one, None)
            values = value_by_cell(outcome.flow, one.of, self._step(outcome.flow, float(day)))
        layers = grid.layers_named(one.layer, one.where) if one.layer else range(len(grid.layer_names))
        found = np.full(grid.mesh.n_cells, np.nan)
        for k in layers:
            number = grid.cell_number[k]
            there = number >= 0
            new = values[number[there]]
            found[there] = np.fmax(found[there], new)  # of several layers the greatest
        return found

    def _day(self, one: WatchMap, start: Any) -> float:
        schedule = self.model.schedule
        start = start if schedule is None else schedule.start
        return float(_in_days([one.time], start, one.where)[0])

    def _captured(self, one: WatchMap, outcome: Outcome) -> Array:
        paths = outcome.paths[one.paths or self.paths[0]]
        points = paths.points
        grid = self.model.grid
        mine = points["time [day]"].to_numpy() <= (np.inf if one.within is None else one.within)
        if one.start:
            start = paths.ends["start"].to_numpy()[points["path"].to_numpy()]
            mine &= np.isin(start, one.start)
        plan = grid.mesh.locate(points["x [m]"].to_numpy()[mine], points["y [m]"].to_numpy()[mine])
        found = np.zeros(grid.mesh.n_cells)
        found[plan[plan >= 0]] = 1.0
        return found


def _in_days(times: Sequence[Any], start: Any, what: str) -> Array:
    """Days since the start, of these and of dates."""
    return np.array(
        [
            float(t)
            if isinstance(t, int | float)
            else float(days_since(start, np.array([one_date(t, f"{what}: times")]), what)[0])
            for t in times
        ]
    )


def _refuse_repeats(names: Sequence[str]) -> None:
    twice = next((n for n in names if names.count(n) > 1), None)
    if twice is not None:
        raise InputError(f'two watched things are called "{twice}". Give each its own name.')
