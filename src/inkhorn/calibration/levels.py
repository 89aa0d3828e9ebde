"""Measured levels against computed heads."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.figures import with_decimals
from inkhorn.flow import BoreLevels, FlowResult
from inkhorn.model import Model, bore_cells
from inkhorn.site import Bore, days_since

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "FitStatistics",
    "curve_table",
    "fit_table",
    "level_table",
    "residual_table",
    "seen_bores",
]


@dataclass(frozen=True)
class FitStatistics:
    """How well computed heads meet measured ones; residuals are measured less computed.

    Attributes
    ----------
    count : int
        Number of observations.
    mean, rms : float
        Of the residuals [m].
    scaled_rms : float
        RMS over the range of the measured values.
    correlation : float
        Of measured and computed values.
    weighted_sum : float
        Of the squared residuals, each weighing 1 [m²].
    unit : str
        Of what was measured, instead of m.
    """

    count: int
    mean: float
    rms: float
    scaled_rms: float
    correlation: float
    weighted_sum: float = 0.0
    unit: str = "m"

    @classmethod
    def of(
        cls, measured: NDArray[np.float64], computed: NDArray[np.float64], unit: str = "m"
    ) -> FitStatistics:
        """Return the statistics of two arrays of the same length and unit."""
        residual = measured - computed
        spread = float(np.ptp(measured))
        rms = float(np.sqrt(np.mean(residual**2)))
        varied = len(measured) > 1 and spread > 0 and float(np.ptp(computed)) > 0
        return cls(
            len(measured),
            float(residual.mean()),
            rms,
            rms / spread if spread > 0 else float("nan"),
            float(np.corrcoef(measured, computed)[0, 1]) if varied else float("nan"),
            float((residual**2).sum()),
            unit,
        )

    def __str__(self) -> str:
        return f"{self.count} {'levels' if self.unit == 'm' else 'readings'}: {self.words}"

    @property
    def words(self) -> str:
        """All but the count; of one value neither its share of a range nor a correlation."""
        mean, rms = with_decimals(self.mean, 3, sign=True), with_decimals(self.rms, 3)
        said = [f"mean residual {mean} {self.unit}", f"RMS {rms} {self.unit}"]
        said += [f"scaled RMS {self.scaled_rms:.1%}"] * bool(np.isfinite(self.scaled_rms))
        said += [f"correlation {self.correlation:.3f}"] * bool(np.isfinite(self.correlation))
        return ", ".join(said)


def seen_bores(model: Model, bores: Sequence[Bore] | None = None) -> tuple[BoreLevels, tuple[str, ...]]:
    """Return the levels in those bores that read a cell and have levels, and the names of the others.

    Parameters
    ----------
    model : Model
        Where they stand.
    bores : sequence of Bore, optional
        Those of the model's site if not given.

    Raises
    ------
    InputError
        If no bore can be used.
    """
    if bores is None:
        bores = model.site.bores if model.site is not None else ()
    good = [bool(len(b.levels)) and bool(len(bore_cells(model.grid, b))) for b in bores]
    if not any(good):
        raise InputError(
            f"none of the {len(bores)} bores has a level and a cell in its layer. Check layers and places."
        )
    kept = [b for b, yes in zip(bores, good, strict=True) if yes]
    return BoreLevels(model, kept), tuple(b.name for b, yes in zip(bores, good, strict=True) if not yes)


def level_table(flow: FlowResult, seen: BoreLevels) -> pd.DataFrame:
    """Return measured and computed levels at each bore and date.

    Of a run through time heads are linear between the ends of steps; dates outside the schedule or in its warm-up are
    left out. Steady heads stand beside all dates.

    Returns
    -------
    pandas.DataFrame
        Columns bore, layer, date, time [day] (NaN where steady), measured [m], computed [m], residual [m].

    Raises
    ------
    InputError
        If the schedule starts at no date.
    """
    import pandas as pd

    schedule = flow.model.schedule
    if schedule is not None and schedule.start is None:
        raise InputError("levels by date are compared with a run through time that starts at a date.")
    at = np.array([s.end for s in flow.steps])
    computed = np.array([seen.values(flow, k) for k in range(len(flow.steps))])
    begin = 0.0
    if schedule is not None and schedule.warm_up.any():
        begin = float(schedule.ends[schedule.warm_up][-1])
    parts = []
    for k, bore in enumerate(seen.bores):
        if schedule is None or schedule.start is None:
            days, inside = np.full(len(bore.levels), np.nan), np.ones(len(bore.levels), dtype=bool)
            head = np.full(len(bore.levels), computed[-1, k])
        else:
            days = days_since(schedule.start, bore.dates, f"bore {bore.name}")
            inside = (days >= begin) & (days <= at[-1])
            head = np.interp(days[inside], at, computed[:, k])
        parts.append(
            pd.DataFrame(
                {
                    "bore": bore.name,
                    "layer": bore.layer or "several",
                    "date": bore.dates[inside],
                    "time [day]": days[inside],
                    "measured [m]": bore.levels[inside],
                    "computed [m]": head,
                    "residual [m]": bore.levels[inside] - head,
                }
            )
        )
    return pd.concat(parts, ignore_index=True)


def curve_table(flow: FlowResult, seen: BoreLevels) -> pd.DataFrame:
    """Return the computed head at each bore at the end of every step of a run through time, warm-up included.

    Returns
    -------
    pandas.DataFrame
        Columns bore, date, time [day], computed [m], warm-up (true or false).

    Raises
    ------
    InputError
        If the schedule starts at no date.
    """
    import pandas as pd

    schedule = flow.model.schedule
    if schedule is None or schedule.start is None:
        raise InputError("hydrographs are drawn of a run through time that starts at a date.")
    ends = np.array([s.end for s in flow.steps])
    heads = np.array([seen.values(flow, k) for k in range(len(flow.steps))])
    common = {
        "date": np.array([schedule.date(end) for end in ends.tolist()], dtype="datetime64[s]"),
        "time [day]": ends,
        "warm-up": np.array([bool(schedule.warm_up[s.period]) for s in flow.steps]),
    }
    parts = [
        pd.DataFrame({"bore": bore.name, **common, "computed [m]": heads[:, k]})
        for k, bore in enumerate(seen.bores)
    ]
    return pd.concat(parts, ignore_index=True)


def fit_table(levels: pd.DataFrame, dipped: int | None = None) -> pd.DataFrame:
    """Return the fit over all readings, and over the means of the bores.

    Parameters
    ----------
    levels : pandas.DataFrame
        From `level_table`.
    dipped : int, optional
        How many readings there are in all; those not in the table are counted as left out.

    Returns
    -------
    pandas.DataFrame
        Rows "readings" and "means of bores"; columns count, left out, mean residual [m], RMS [m], scaled RMS [-],
        weighted sum [m²], correlation [-]. Empty of rows where there is no reading.
    """
    import pandas as pd

    columns = ["measured [m]", "computed [m]"]
    means = levels.groupby("bore", sort=False)[columns].mean()
    rows = {}
    for name, table in (("readings", levels), ("means of bores", means)):
        if len(table):
            stats = FitStatistics.of(*(table[c].to_numpy(dtype=float) for c in columns))
            rows[name] = {
                "count": stats.count,
                "left out": max((dipped or 0) - len(levels), 0) if name == "readings" else 0,
                "mean residual [m]": stats.mean,
                "RMS [m]": stats.rms,
                "scaled RMS [-]": stats.scaled_rms,
                "weighted sum [m²]": stats.weighted_sum,
                "correlation [-]": stats.correlation,
            }
    return pd.DataFrame.from_dict(rows, orient="index").rename_axis("over")


def residual_table(flow: FlowResult, seen: BoreLevels) -> pd.DataFrame:
    """Return measured and computed level and residual (measured less computed) at each bore [m].

    Of a run through time both are means over the dates of the levels that it covers; a bore that has
    none is left out.
    """
    import pandas as pd

    if flow.model.schedule is not None and flow.model.schedule.start is not None:
        places = pd.DataFrame({"bore": [b.name for b in seen.bores]})
        places["x [m]"], places["y [m]"] = zip(*((b.x, b.y) for b in seen.bores), strict=True)
        levels = level_table(flow, seen).groupby(["bore", "layer"], sort=False)
        means = levels[["measured [m]", "computed [m]", "residual [m]"]].mean().reset_index()
        table = means.merge(places, on="bore", how="left")
        columns = ["bore", "layer", "x [m]", "y [m]", "measured [m]", "computed [m]", "residual [m]"]
        return table[columns]
    computed = seen.values(flow, len(flow.steps) - 1)
    measured = np.array([b.mean_level for b in seen.bores])
    return pd.DataFrame(
        {
            "bore": [b.name for b in seen.bores],
            "layer": [b.layer or "several" for b in seen.bores],
            "x [m]": [b.x for b in seen.bores],
            "y [m]": [b.y for b in seen.bores],
            "measured [m]": measured,
            "computed [m]": computed,
            "residual [m]": measured - computed,
        }
    )
