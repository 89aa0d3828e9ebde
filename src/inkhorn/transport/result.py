"""What a transport holds: concentrations in time, where the mass is and went, and how far a limit is passed."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.dates import time_in_words
from inkhorn.errors import InputError, did_you_mean
from inkhorn.flow import FlowResult, across_line, blocks_of
from inkhorn.shown import Shown
from inkhorn.site import Species
from inkhorn.space import area_of
from inkhorn.transport.record import OWN, STORES, PlumeRecords
from inkhorn.units import WithUnit, plain

if TYPE_CHECKING:
    import geopandas as gpd
    import pandas as pd
    import xarray as xr

__all__ = ["TransportResult"]

Array = NDArray[np.float64]
_KILOGRAM = 1000.0

_ALIKE = 0.01  # of the highest concentration, within which all is alike
_AS_WIDE = 0.8  # of the grid's own spread, from which a plume is as wide as the grid


@dataclass(frozen=True, eq=False)
class TransportResult(Shown):
    """Concentrations of a species in time, and where its mass went.

    Attributes
    ----------
    flow : FlowResult
        What carried it.
    species : Species
        Which.
    records : list of PlumeRecord or as a file holds them
        Of the times that are kept; the first is the begin.
    keys : tuple of (kind, feature)
        What brings mass in or takes it out, as of `gained` and `lost` of the records.
    places : tuple of str
        Features that take water, and bores, whose concentrations the records tell at every step.
    start : datetime64 or None
        The date of day 0.
    """

    flow: FlowResult = field(repr=False)
    species: Species
    records: PlumeRecords = field(repr=False)
    keys: tuple[tuple[str, str], ...] = field(repr=False)
    places: tuple[str, ...] = field(repr=False)
    start: np.datetime64 | None = None

    def __repr__(self) -> str:
        last = self.records[len(self.records) - 1]
        return (
            f"TransportResult({self.species.name}: {len(self.records)} times to {time_in_words(last.time, 4)}, up to "
            f"{last.concentration.max():.4g} g/m³ at the end)"
        )

    @cached_property
    def watched(self) -> pd.DataFrame:
        """Concentration in the water that features take and in bores, a row for each step [g/m³]; where there is any."""
        import pandas as pd

        times = np.concatenate([np.asarray(r.watch_times) for r in self.records])
        values = np.concatenate(
            [np.reshape(r.watched, (len(r.watch_times), len(self.places))) for r in self.records]
        )
        frame = pd.DataFrame(values, pd.Index(times, name="time [day]"), list(self.places))
        return frame.dropna(axis="columns", how="all")

    @property
    def times(self) -> Array:
        """When records were made, since the start, (n_times,) [day]."""
        return np.array([record.time for record in self.records])

    @property
    def values(self) -> Array:
        """Concentration of every cell at every time, (n_times, n_cells) [g/m³]; all of it, however much."""
        return np.array([record.concentration for record in self.records])

    @property
    def concentration(self) -> xr.DataArray:
        """Concentration [g/m³], (time, layer, y, x) on a rectangular mesh, else (time, cell).

        Times are dates where day 0 has one, with days since then beside them as ``day``. Of records in a file those are
        read that are used.
        """
        import xarray as xr

        grid, times = self.flow.model.grid, self.times
        dims, coords = grid.coordinates()
        day = ("time", times, {"long_name": "time since the start", "units": "days"})
        clock: dict[str, Any] = {"time": day}
        if self.start is not None:
            dates = self.start + np.round(times * 86400.0).astype("timedelta64[s]")
            clock = {"time": ("time", dates, {"long_name": "time"}), "day": day}
        return xr.DataArray(
            blocks_of(self.records, len(times), grid, lambda k: self.records[k].concentration),
            dims=("time", *dims),
            coords={**clock, **coords},
            name=self.species.name,
            attrs={"units": "g m-3", "long_name": f"concentration of {self.species.name}"},
        )

    def time_at(self, time: float | np.datetime64 | str) -> int:
        """Return the number of the output time that is nearest to a day since the start, or to a date.

        Raises
        ------
        InputError
            If it lies outside the run, or is a date and day 0 has none.
        """
        times = self.times
        if isinstance(time, (int, float)):
            day = float(time)
        elif self.start is None:
            raise InputError(f"{time} is a date, but day 0 has none. Give days since the start.")
        else:
            date = np.datetime64(str(time)).astype("datetime64[s]")
            day = float((date - self.start) / np.timedelta64(1, "s")) / 86400.0
        if not times[0] <= day <= times[-1]:
            raise InputError(
                f"{time} lies outside the run, which goes from day {times[0]:g} to {times[-1]:g}. Choose one within."
            )
        return int(np.argmin(np.abs(times - day)))

    # --- at places ----------------------------------------------------------------------------------

    def at(self, name: str) -> pd.Series:
        """Return the concentration in the water that a feature takes, or in a bore, at every step [g/m³].

        Of wells and collectors it is that of the mix in them.

        Raises
        ------
        InputError
            If it takes no water, or there is none of that name.
        """
        if name not in self.watched.columns:
            known = list(self.watched.columns)
            raise InputError(
                f'nothing is known of the water of "{name}", which takes none or is not there; expected one of {known}.'
                f"{did_you_mean(name, known)}"
            )
        return self.watched[name].dropna().rename(f"{self.species.name} at {name} [g/m³]")

    def at_well(self, name: str) -> pd.Series:
        """Return the concentration of the mix in a well at every step; as `at`."""
        known = [n for t in self.flow.model.terms if t.kind == "well" for n in t.feature_names]
        if name not in known:
            raise InputError(f'there is no well "{name}" in the model; it has {known}.')
        if name not in self.watched.columns:
            raise InputError(f'well "{name}" takes no water out, so it has no concentration.')
        return self.at(name)

    def first_time_above(self, series: pd.Series, limit: float) -> float | None:
        """Return when a series first passes a limit, between its times linearly [day]; None if never."""
        spans = self.spans_above(series, limit)
        return spans[0][0] if spans else None

    def spans_above(self, series: pd.Series, limit: float) -> list[tuple[float, float]]:
        """Return from when to when a series lies above a limit, one after the other [day]; infinite for not yet."""
        values, times = series.to_numpy(), series.index.to_numpy()
        above = values > limit
        spans, begin = [], float(times[0]) if len(above) and above[0] else None
        for k in np.flatnonzero(above[1:] != above[:-1]).tolist():
            when = float(
                times[k] + (limit - values[k]) / (values[k + 1] - values[k]) * (times[k + 1] - times[k])
            )
            if begin is None:
                begin = when
            else:
                spans.append((begin, when))
                begin = None
        return spans if begin is None else [*spans, (begin, np.inf)]

    # --- mass ---------------------------------------------------------------------------------------

    def budget(self, output: int = -1, *, since: int = 0) -> pd.DataFrame:
        """Return the mass budget up to an output time [kg].

        Parameters
        ----------
        output : int
            Which.
        since : int
            From which output time on; the beginning if not given.

        Returns
        -------
        pandas.DataFrame
            What came in and went out by kind and feature, then what each store took up (out) or gave (in), then the
            total. ``attrs["closing_error_percent"]`` is what is missing, of the larger of gain and loss.
        """
        import pandas as pd

        n = len(self.records)
        now, then = self.records[output % n], self.records[since % n]
        rows = []
        for k, (kind, feature) in enumerate(self.keys):
            gained, lost = float(now.gained[k] - then.gained[k]), float(now.lost[k] - then.lost[k])
            if (kind, feature) in OWN and not (now.gained[k] or now.lost[k]):
                continue  # of what there may be, only what there is
            rows.append([kind, feature, gained / _KILOGRAM, lost / _KILOGRAM])
        for name, more in zip(STORES, (now.stored - then.stored).tolist(), strict=False):
            if name == STORES[0] or abs(now.stored[STORES.index(name)]) > 1e-12 * np.abs(now.stored).sum():
                rows.append([f"stored, {name}", "", max(-more, 0.0) / _KILOGRAM, max(more, 0.0) / _KILOGRAM])
        frame = pd.DataFrame(rows, columns=["term", "feature", "in [kg]", "out [kg]"]).set_index(
            ["term", "feature"]
        )
        total = frame.sum()
        frame.loc[("total", ""), :] = total
        larger = float(total.max())
        frame.attrs["closing_error_percent"] = (
            100.0 * float(total["in [kg]"] - total["out [kg]"]) / larger if larger else 0.0
        )
        return frame

    def budgets(self) -> pd.DataFrame:
        """Return the mass budget between all output times, a row for each of them, kind and feature.

        Returns
        -------
        pandas.DataFrame
            Columns begin [day], end [day], term, feature, what came in and went out in between and since the beginning
            [kg], and what is missing of what went through since the beginning [%].
        """
        import pandas as pd

        parts = []
        for k in range(1, len(self.records)):
            between, whole = self.budget(k, since=k - 1), self.budget(k)
            both = between.join(whole.add_suffix(" so far"), how="outer").reset_index()
            both.columns = [c.replace(" [kg] so far", " so far [kg]") for c in both.columns]
            both.insert(0, "begin [day]", self.records[k - 1].time)
            both.insert(1, "end [day]", self.records[k].time)
            both["closing error [%]"] = whole.attrs["closing_error_percent"]
            parts.append(both)
        return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame()

    def across(self, line: ArrayLike, output: int = -1) -> pd.DataFrame:
        """Return the mass that crosses a line in plan, layer by layer, as a mean since the output time before [kg/day].

        Parameters
        ----------
        line : shapely LineString or array_like of float, (n, 2)
            As of `FlowResult.across`.
        output : int
            Which output time.

        Raises
        ------
        InputError
            If flows of mass were not kept.
        """
        record = self.records[output % len(self.records)]
        if not len(record.across):
            raise InputError("flows of mass across faces were not kept. Solve with keep_flows=True.")
        return across_line(
            self.flow.model.grid, record.across / _KILOGRAM, record.rim / _KILOGRAM, line, "kg/day"
        )

    # --- above a limit ------------------------------------------------------------------------------

    def _limit(self, limit: WithUnit | None) -> float:
        if limit is None and self.species.limit is None:
            raise InputError(f"{self.species.name} has no limit. Give one here, or to the species.")
        return float(plain(self.species.limit if limit is None else limit, "concentration", "limit"))

    def above_limit(self, limit: WithUnit | None = None, *, source: Any = None) -> pd.DataFrame:
        """Return how much lies above a limit at every output time.

        Parameters
        ----------
        limit : float, optional
            [g/m³]; that of the species if not given.
        source : shapely geometry, optional
            From where the farthest reach is measured; from where the limit was first passed if not given.

        Returns
        -------
        pandas.DataFrame
            Time [day]; area in plan in any layer [m²]; volume of ground and of water in the pores [m³]; mass dissolved
            there [kg]; the farthest such cell from the source [m]; the greatest concentration anywhere [g/m³].
        """
        import pandas as pd
        import shapely

        level, grid = self._limit(limit), self.flow.model.grid
        cells = grid.cells
        place = shapely.points(grid.centres_of_gravity)
        plan = _plan_parts(grid)
        rows = []
        for k in range(len(self.records)):
            record = self.records[k]
            above = (record.concentration > level) & (record.water > 0.0)
            if source is None and above.any():
                source = shapely.MultiPoint(place[above])
            covered = np.zeros(grid.mesh.n_cells, dtype=bool)
            covered[plan[0][above[plan[1]]]] = True
            rows.append(
                [
                    record.time, float(grid.mesh.area[covered].sum()), float(cells.volume[above].sum()),
                    float(record.water[above].sum()), float((record.water * record.concentration)[above].sum()) /
                    _KILOGRAM, float(shapely.distance(place[above], source).max()) if above.any() else 0.0,
                    float(record.concentration[record.water > 0.0].max(initial=0.0)),
                ]
            )  # fmt: skip
        names = [
            "time [day]",
            "area [m²]",
            "ground [m³]",
            "water [m³]",
            "mass [kg]",
            "reach [m]",
            "highest [g/m³]",
        ]
        return pd.DataFrame(rows, columns=names).set_index("time [day]")

    def arrivals(self, limit: WithUnit | None = None) -> pd.DataFrame:
        """Return when the limit is passed, and fallen below again, at every feature that takes water and every bore.

        Returns
        -------
        pandas.DataFrame
            First passed [day], last fallen below [day], for how long in all [day], the highest [g/m³] and when [day]; NaN
            for never, infinite where it still lies above at the end.
        """
        import pandas as pd

        level, rows = self._limit(limit), []
        for name in self.watched.columns:
            series = self.at(name)
            if series.empty:
                continue
            spans, last = self.spans_above(series, level), float(series.index[-1])
            rows.append(
                [
                    name, spans[0][0] if spans else np.nan, spans[-1][1] if spans else np.nan,
                    sum(min(end, last) - begin for begin, end in spans), float(series.max()), float(series.idxmax()),
                ]
            )  # fmt: skip
        names = [
            "at",
            "passed [day]",
            "below again [day]",
            "above for [day]",
            "highest [g/m³]",
            "highest on [day]",
        ]
        return pd.DataFrame(rows, columns=names).set_index("at")

    @property
    def first_above(self) -> Array:
        """When the limit of the species was first passed in each cell, infinite for never, (n_cells,) [day]."""
        return self.records[len(self.records) - 1].first_above

    @property
    def last_above(self) -> Array:
        """When it was last fallen below again, infinite where it still lies above or never did, (n_cells,) [day]."""
        return self.records[len(self.records) - 1].last_above

    def outline(self, limit: WithUnit | None = None, *, layer: str | int | None = None) -> gpd.GeoDataFrame:
        """Return the outline of what lies above a limit at every output time, as polygons of whole cells.

        Parameters
        ----------
        limit : float, optional
            [g/m³]; that of the species if not given.
        layer : str or int, optional
            In which; in any if not given.

        Returns
        -------
        geopandas.GeoDataFrame
            Columns time [day], date (where day 0 has one), species, limit [g/m³], area [m²]; no row where nothing does.
        """
        import geopandas as gpd
        import shapely

        level, grid = self._limit(limit), self.flow.model.grid
        layers = range(len(grid.layer_names)) if layer is None else [grid.layer_index(layer)]
        meshes = [grid.meshes[k] for k in layers]
        same = meshes[0] if all(mesh is meshes[0] for mesh in meshes) else None
        shapes = {} if same is not None else {k: grid.meshes[k].polygons() for k in layers}
        rows, found = [], []
        for k in range(len(self.records)):
            record = self.records[k]
            above = (record.concentration > level) & (record.water > 0.0)
            parts = []
            for n in layers:
                first, present = int(grid.first_of_layer[n]), grid.within_layer[n]
                mine = present[above[first : first + len(present)]]
                parts.append(mine if same is not None else shapes[n][mine])
            cells = np.concatenate(parts)
            if not len(cells):
                continue
            whole = shapely.union_all(cells) if same is None else area_of(same, np.unique(cells))
            found.append(whole)
            row = {"time [day]": record.time, "species": self.species.name, "limit [g/m³]": level}
            if self.start is not None:
                row["date"] = str(self.start + np.timedelta64(round(record.time * 86400.0), "s"))[:10]
            rows.append({**row, "area [m²]": float(whole.area)})
        site = self.flow.model.site
        return gpd.GeoDataFrame(rows, geometry=found, crs=None if site is None else site.crs)

    def narrowest(self, output: int = -1) -> float:
        """Return the width of the plume across, at half its height, in cells of where it lies.

        By the second moments in plan of what lies above the least concentration; infinite where all is alike, and where
        it is about as wide as the grid, as in a column.
        """
        grid, record = self.flow.model.grid, self.records[output % len(self.records)]
        wet = record.water > 0.0
        if not wet.any():
            return float("inf")
        low, high = record.concentration[wet].min(), record.concentration[wet].max()
        weight = np.where(wet, (record.concentration - low) * record.water, 0.0)
        total = float(weight.sum())
        if high - low <= _ALIKE * high or total <= 0.0:
            return float("inf")
        place = grid.centres_of_gravity
        off = place - weight @ place / total
        spread = (weight[:, None] * off).T @ off / total
        size = float(weight @ np.sqrt(grid.cells.area) / total)
        least, direction = (v[..., 0] for v in np.linalg.eigh(spread))
        way = place @ direction
        if least >= _AS_WIDE * np.var(way):
            return float("inf")
        # a single cell has the spread of its own area beside that of its centre
        return float(2.355 * np.sqrt(max(least, 0.0) + size**2 / 12.0) / size)


def _plan_parts(grid: Any) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Plan cells of the grid's own mesh, and the cells that cover them."""
    there = grid.cell_number >= 0
    return np.nonzero(there)[1], grid.cell_number[there]
