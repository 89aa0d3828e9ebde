"""Measured levels against computed heads."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.errors import InputError
from inkhorn.flow import FlowResult
from inkhorn.model import Model
from inkhorn.site import Bore, days_since
from inkhorn.space import Grid, sampling_rows

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "FitStatistics",
    "HeadObservations",
    "curve_table",
    "fit_table",
    "level_table",
    "observe",
    "residual_table",
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
    """

    count: int
    mean: float
    rms: float
    scaled_rms: float
    correlation: float
    weighted_sum: float = 0.0

    @classmethod
    def of(cls, measured: NDArray[np.float64], computed: NDArray[np.float64]) -> FitStatistics:
        """Return the statistics of two arrays of the same length [m]."""
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
        )

    def __str__(self) -> str:
        return f"{self.count} levels: {self.words}"

    @property
    def words(self) -> str:
        """All but the count."""
        return (
            f"mean residual {self.mean:+.3f} m, RMS {self.rms:.3f} m, "
            f"scaled RMS {self.scaled_rms:.1%}, correlation {self.correlation:.3f}"
        )


@dataclass(frozen=True, eq=False)
class HeadObservations:
    """Mean levels at bores, and the rows that read them from heads.

    Attributes
    ----------
    bores : tuple of Bore
        Those with levels that meet a cell of their layer.
    measured : ndarray of float, (n,)
        Mean levels [m].
    rows : scipy.sparse.csr_array, (n, n_cells)
        ``rows @ heads`` are the computed levels.
    left_out : tuple of str
        Names of the bores left out.
    """

    bores: tuple[Bore, ...]
    measured: NDArray[np.float64]
    rows: Any
    left_out: tuple[str, ...]


def _rows_in_layers(grid: Grid, bores: Sequence[Bore]) -> Any:
    """Rows that read the head at each bore in its layer; of a layer in parts their mean by thickness."""
    from scipy.sparse import coo_array

    parts = [grid.layers_named(b.layer, f'bore "{b.name}"') for b in bores]
    whose = np.repeat(np.arange(len(bores)), [len(p) for p in parts])
    layer = np.array([k for p in parts for k in p], dtype=np.int64)
    rows = sampling_rows(
        grid, layer, [bores[k].x for k in whose.tolist()], [bores[k].y for k in whose.tolist()]
    )
    height = rows @ grid.cells.thickness
    total = np.bincount(whose, height, len(bores))[whose]
    share = np.divide(height, total, out=np.zeros(len(whose)), where=total > 0)
    share[np.bincount(whose, minlength=len(bores))[whose] == 1] = 1.0
    joined = coo_array((share, (whose, np.arange(len(whose)))), shape=(len(bores), len(whose))).tocsr()
    return (joined @ rows).tocsr()


def observe(model: Model, bores: Sequence[Bore] | None = None) -> HeadObservations:
    """Prepare the mean levels of bores for comparison.

    Parameters
    ----------
    model : Model
        Where they are read.
    bores : sequence of Bore, optional
        Those of the model's site if not given.

    Raises
    ------
    InputError
        If no bore can be used.
    """
    if bores is None:
        bores = model.site.bores if model.site is not None else ()
    rows = _rows_in_layers(model.grid, bores)
    measured = np.array([b.mean_level for b in bores])
    usable = (np.diff(rows.indptr) > 0) & np.isfinite(measured)
    if not usable.any():
        raise InputError(
            f"none of the {len(bores)} bores has a level and a cell in its layer. Check layers and places."
        )
    kept = np.flatnonzero(usable).tolist()
    return HeadObservations(
        tuple(bores[k] for k in kept),
        measured[kept],
        rows[kept],
        tuple(b.name for b, good in zip(bores, usable, strict=True) if not good),
    )


def level_table(flow: FlowResult, observations: HeadObservations) -> pd.DataFrame:
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
    computed = np.array([observations.rows @ s.heads for s in flow.steps])
    begin = 0.0
    if schedule is not None and schedule.warm_up.any():
        begin = float(schedule.ends[schedule.warm_up][-1])
    parts = []
    for k, bore in enumerate(observations.bores):
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
                    "layer": bore.layer,
                    "date": bore.dates[inside],
                    "time [day]": days[inside],
                    "measured [m]": bore.levels[inside],
                    "computed [m]": head,
                    "residual [m]": bore.levels[inside] - head,
                }
            )
        )
    return pd.concat(parts, ignore_index=True)


def curve_table(flow: FlowResult, observations: HeadObservations) -> pd.DataFrame:
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
    heads = np.array([observations.rows @ s.heads for s in flow.steps])
    common = {
        "date": np.array([schedule.date(end) for end in ends.tolist()], dtype="datetime64[s]"),
        "time [day]": ends,
        "warm-up": np.array([bool(schedule.warm_up[s.period]) for s in flow.steps]),
    }
    parts = [
        pd.DataFrame({"bore": bore.name, **common, "computed [m]": heads[:, k]})
        for k, bore in enumerate(observations.bores)
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


def residual_table(flow: FlowResult, observations: HeadObservations) -> pd.DataFrame:
    """Return measured and computed level and residual (measured less computed) at each bore [m].

    Of a run through time both are means over the dates of the levels that it covers; a bore that has
    none is left out.
    """
    import pandas as pd

    if flow.model.schedule is not None and flow.model.schedule.start is not None:
        places = pd.DataFrame({"bore": [b.name for b in observations.bores]})
        places["x [m]"], places["y [m]"] = zip(*((b.x, b.y) for b in observations.bores), strict=True)
        levels = level_table(flow, observations).groupby(["bore", "layer"], sort=False)
        means = levels[["measured [m]", "computed [m]", "residual [m]"]].mean().reset_index()
        table = means.merge(places, on="bore", how="left")
        columns = ["bore", "layer", "x [m]", "y [m]", "measured [m]", "computed [m]", "residual [m]"]
        return table[columns]
    computed = observations.rows @ flow.steps[-1].heads
    return pd.DataFrame(
        {
            "bore": [b.name for b in observations.bores],
            "layer": [b.layer for b in observations.bores],
            "x [m]": [b.x for b in observations.bores],
            "y [m]": [b.y for b in observations.bores],
            "measured [m]": observations.measured,
            "computed [m]": computed,
            "residual [m]": observations.measured - computed,
        }
    )
