"""What many runs came to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.ensemble.maps import MapStatistics, WatchMap
from inkhorn.ensemble.readers import Watching
from inkhorn.ensemble.state import EnsembleState, together
from inkhorn.ensemble.statistics import QUANTILES, statistics_of
from inkhorn.ensemble.watched import Watch
from inkhorn.errors import InputError, did_you_mean
from inkhorn.shown import Shown

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["Ensemble"]

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Ensemble(Shown):
    """Runs with inputs drawn by chance, and what they say together.

    Attributes
    ----------
    watching : Watching
        What was watched.
    state : EnsembleState
        Every run.
    number_names, number_units : tuple of str
        Of the numbers that have a distribution.
    stated : ndarray of float, (n_watched,)
        What is watched, with the values that the model states.
    reason : str
        Why there are no more runs.
    notes : tuple of str
        What a person should know.
    """

    watching: Watching = field(repr=False)
    state: EnsembleState = field(repr=False)
    number_names: tuple[str, ...]
    number_units: tuple[str, ...]
    stated: Array = field(repr=False)
    reason: str = ""
    notes: tuple[str, ...] = ()

    def __repr__(self) -> str:
        failed = f", {len(self.state.failed)} failed" if self.state.failed else ""
        return (
            f"Ensemble({self.state.count} runs{failed}; {len(self.watching.watches)} watched; {self.reason})"
        )

    @property
    def columns(self) -> pd.DataFrame:
        """One row for each number that is watched: watched, time [day], unit, limit."""
        return self.watching.columns

    @property
    def good(self) -> NDArray[np.bool_]:
        """Which runs did not fail, (n_runs,)."""
        found = np.ones(self.state.count, dtype=bool)
        found[list(self.state.failed)] = False
        return found

    @property
    def values(self) -> Array:
        """What was watched in every run, NaN of those that failed, (n_runs, n_watched)."""
        return together(self.state.values, len(self.columns))

    @property
    def numbers(self) -> Array:
        """The numbers of every run, (n_runs, n_numbers)."""
        return together(self.state.numbers, len(self.number_names))

    def watch(self, name: str) -> Watch:
        """Return something that is watched by its name.

        Raises
        ------
        InputError
            If there is none of that name.
        """
        known = [w.name for w in self.watching.watches]
        if name not in known:
            raise InputError(
                f'nothing is watched under the name "{name}"; expected one of {known}.{did_you_mean(name, known)}'
            )
        return self.watching.watches[known.index(name)]

    def rows_of(self, name: str) -> NDArray[np.int64]:
        """Return which of `columns` are of something watched, (n_times,)."""
        self.watch(name)
        return np.flatnonzero((self.columns["watched"] == name).to_numpy())

    def of(self, name: str) -> Array:
        """Return one watched thing of all runs that did not fail, (n_runs, n_times)."""
        return self.values[np.ix_(self.good, self.rows_of(name))]

    def unit(self, name: str) -> str:
        """Return the unit of something watched."""
        return str(self.columns["unit"].iloc[self.rows_of(name)[0]])

    def times(self, name: str) -> Array:
        """Return when it is watched, (n_times,) [day]; NaN of steady flow or the end."""
        return self.columns["time [day]"].to_numpy(dtype=np.float64)[self.rows_of(name)]

    # --- tables ------------------------------------------------------------------------------------

    def statistics(self, name: str | None = None) -> pd.DataFrame:
        """Return every statistic of what is watched, with standard errors.

        Parameters
        ----------
        name : str, optional
            Of one thing; of all if not given.

        Returns
        -------
        pandas.DataFrame
            Columns watched, time [day], unit, statistic, value, standard error. Those of shares and skewness have no
            unit. A statistic of runs drawn in a Latin hypercube or by Sobol's sequence is surer than its standard error
            says, which is that of independent runs.
        """
        import pandas as pd

        parts = []
        rows = range(len(self.columns)) if name is None else self.rows_of(name).tolist()
        for k in rows:
            row = self.columns.iloc[k]
            table = statistics_of(
                self.values[self.good, k], limit=float(row["limit"]), failed=len(self.state.failed)
            )
            table = table.reset_index()
            table.insert(0, "unit", [_unit_of(s, str(row["unit"])) for s in table["statistic"]])
            table.insert(0, "time [day]", float(row["time [day]"]))
            table.insert(0, "watched", row["watched"])
            parts.append(table)
        return pd.concat(parts, ignore_index=True)

    def bands(self, name: str, shares: tuple[float, ...] = QUANTILES) -> pd.DataFrame:
        """Return mean, deviation and quantiles of something watched at each time, and the value with stated inputs."""
        import pandas as pd

        values, rows = self.of(name), self.rows_of(name)
        found: dict[str, Any] = {"time [day]": self.times(name), "as stated": self.stated[rows]}
        with np.errstate(invalid="ignore"):
            count = np.isfinite(values).sum(axis=0)
            found["runs"] = count
            found["mean"] = _over_runs(np.nanmean, values)
            deviation = _over_runs(lambda v, axis: np.nanstd(v, axis=axis, ddof=1), values)
            found["standard error of the mean"] = deviation / np.sqrt(np.maximum(count, 1))
            found["deviation"] = deviation
            for share in shares:
                found[f"quantile {100.0 * share:g} %"] = _over_runs(
                    lambda v, axis, share=share: np.nanquantile(v, share, axis=axis), values
                )
        limit = float(self.columns["limit"].iloc[rows[0]])
        if np.isfinite(limit):
            found[f"share above {limit:g}"] = _over_runs(
                lambda v, axis: np.nanmean(np.where(np.isfinite(v), v > limit, np.nan), axis=axis), values
            )
        return pd.DataFrame(found)

    def glance(self, classes: int = 12) -> pd.DataFrame:
        """Return mean, standard error and a small histogram of each thing watched, at its last time."""
        import pandas as pd

        rows = []
        for watch in self.watching.watches:
            values = self.of(watch.name)[:, -1]
            values = values[np.isfinite(values)]
            mean = float(values.mean()) if len(values) else np.nan
            error = float(values.std(ddof=1) / np.sqrt(len(values))) if len(values) > 1 else np.nan
            rows.append((watch.name, self.unit(watch.name), len(values), mean, error, _bars(values, classes)))
        return pd.DataFrame(rows, columns=["watched", "unit", "runs", "mean", "standard error", "spread"])

    def runs(self) -> pd.DataFrame:
        """Return every run: its numbers, what was watched, and why it failed if it did."""
        import pandas as pd

        found: dict[str, Any] = {}
        numbers, values = self.numbers, self.values
        for k, (name, unit) in enumerate(zip(self.number_names, self.number_units, strict=True)):
            found[f"{name} [{unit}]"] = numbers[:, k]
        for k, (name, day, unit, _) in enumerate(self.columns.itertuples(index=False)):
            when = "" if np.isnan(day) else f" on day {day:g}"
            found[f"{name}{when} [{unit}]"] = values[:, k]
        found["failed"] = [self.state.failed.get(k, "") for k in range(self.state.count)]
        return pd.DataFrame(found, index=pd.RangeIndex(1, self.state.count + 1, name="run"))

    def failures(self) -> pd.DataFrame:
        """Return the runs that failed, and why."""
        import pandas as pd

        rows = [(k + 1, why) for k, why in sorted(self.state.failed.items())]
        return pd.DataFrame(rows, columns=["run", "why"])

    def settling(self, name: str, column: int = -1) -> pd.DataFrame:
        """Return how the mean and its standard error settled as runs came in.

        Parameters
        ----------
        name : str
            Something watched.
        column : int
            At which of its times.
        """
        import pandas as pd

        values = self.of(name)[:, column]
        values = values[np.isfinite(values)]
        n = np.arange(1, len(values) + 1)
        mean = np.cumsum(values) / n
        square = (
            np.cumsum((values - values.mean()) ** 2) - n * (mean - values.mean()) ** 2 if len(values) else n
        )
        with np.errstate(divide="ignore", invalid="ignore"):
            error = np.sqrt(np.maximum(square, 0.0) / (n - 1.0) / n)
        return pd.DataFrame({"runs": n, "mean": mean, "standard error": error})

    def rank_correlations(self, name: str, column: int = -1) -> pd.DataFrame:
        """Return how each number goes with something watched: Spearman's correlation of ranks, the strongest first.

        Parameters
        ----------
        name, column
            As of `settling`.
        """
        import pandas as pd
        from scipy.stats import rankdata

        values, numbers = self.of(name)[:, column], self.numbers[self.good]
        there = np.isfinite(values)
        rows = []
        for k, number in enumerate(self.number_names):
            rows.append((number, _correlation(rankdata(numbers[there, k]), rankdata(values[there]))))
        table = pd.DataFrame(rows, columns=["number", "rank correlation"])
        order = np.argsort(-np.abs(table["rank correlation"].fillna(0.0).to_numpy()), kind="stable")
        return table.iloc[order].reset_index(drop=True)

    # --- maps --------------------------------------------------------------------------------------

    @property
    def maps(self) -> Mapping[str, MapStatistics]:
        """Statistics of each map, by name."""
        return {m.name: s for m, s in zip(self.watching.maps, self.state.maps, strict=True)}

    def map_asked(self, name: str) -> WatchMap:
        """Return what was asked of a map by its name."""
        known = [m.name for m in self.watching.maps]
        if name not in known:
            raise InputError(f'there is no map "{name}"; expected one of {known}.{did_you_mean(name, known)}')
        return self.watching.maps[known.index(name)]

    def map(self, name: str, shares: tuple[float, ...] = QUANTILES) -> xr.Dataset:
        """Return the statistics of a map over the plan cells.

        Parameters
        ----------
        name : str
        shares : tuple of float
            Of the quantiles.

        Returns
        -------
        xarray.Dataset
            ``mean``, ``mean_error``, ``deviation``, ``least``, ``greatest``, ``quantile`` and ``quantile_error`` (share,
            plan), and where there is a limit ``chance`` and ``chance_error``.
        """
        import xarray as xr

        self.map_asked(name)
        s, mesh = self.maps[name], self.watching.model.grid.mesh
        unit = self.watching.map_unit(self.map_asked(name))
        seen = s.count > 0
        plan: dict[str, Any] = {
            "mean": s.average, "mean_error": s.mean_error, "deviation": s.deviation,
            "least": np.where(seen, s.least, np.nan), "greatest": np.where(seen, s.greatest, np.nan),
        }  # fmt: skip
        found: dict[str, Any] = {k: (("plan",), v, {"units": unit}) for k, v in plan.items()}
        quantiles = [s.quantile(share) for share in shares]
        both = ("share", "plan")
        found["quantile"] = (both, np.array([q for q, _ in quantiles]), {"units": unit})
        found["quantile_error"] = (both, np.array([e for _, e in quantiles]), {"units": unit})
        if s.limit is not None:
            found["chance"] = (("plan",), s.chance, {"units": "1", "limit": s.limit})
            found["chance_error"] = (("plan",), s.chance_error, {"units": "1"})
        coords = {"share": list(shares), "x": (("plan",), mesh.x), "y": (("plan",), mesh.y)}
        return xr.Dataset(found, coords, {"map": name, "runs": int(s.count.max(initial=0))})


_BARS = " ▁▂▃▄▅▆▇█"


def _bars(values: Array, classes: int) -> str:
    """A histogram in one line of text, from the least to the greatest."""
    if len(values) < 2 or values.min() == values.max():
        return ""
    count, _ = np.histogram(values, classes)
    height = np.ceil(count / count.max() * (len(_BARS) - 1)).astype(np.int64)
    return "".join(_BARS[h] for h in height)


def _over_runs(function: Any, values: Array) -> Array:
    """A function over runs of columns that have any value, NaN of others."""
    found = np.full(values.shape[1], np.nan)
    some = np.isfinite(values).any(axis=0)
    if some.any():
        import warnings

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)  # of one value there is no deviation
            found[some] = function(values[:, some], axis=0)
    return found


def _correlation(a: Array, b: Array) -> float:
    a, b = a - a.mean(), b - b.mean()
    size = float(np.sqrt((a**2).sum() * (b**2).sum()))
    return float((a * b).sum() / size) if size > 0.0 else float("nan")


def _unit_of(statistic: str, unit: str) -> str:
    """Of a statistic of something that has a unit."""
    return "-" if statistic.startswith(("runs", "share", "skewness")) else unit
