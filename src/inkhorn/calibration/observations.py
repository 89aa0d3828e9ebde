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

__all__ = ["FitStatistics", "HeadObservations", "level_table", "observe", "residual_table"]


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
    """

    count: int
    mean: float
    rms: float
    scaled_rms: float
    correlation: float

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
        )

    def __str__(self) -> str:
        return (
            f"{self.count} levels: mean residual {self.mean:+.3f} m, RMS {self.rms:.3f} m, "
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
    """Return measured and computed levels at each bore and date of a run through time.

    Heads are linear between the ends of steps. Dates outside the schedule or in its warm-up are left out.

    Returns
    -------
    pandas.DataFrame
        Columns bore, layer, date, time [day], measured [m], computed [m], residual [m].

    Raises
    ------
    InputError
        If the schedule starts at no date.
    """
    import pandas as pd

    schedule = flow.model.schedule
    if schedule is None or schedule.start is None:
        raise InputError("levels by date are compared with a run through time that starts at a date.")
    at = np.array([s.end for s in flow.steps])
    computed = np.array([observations.rows @ s.heads for s in flow.steps])
    begin = float(schedule.ends[schedule.warm_up][-1]) if schedule.warm_up.any() else 0.0
    parts = []
    for k, bore in enumerate(observations.bores):
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
