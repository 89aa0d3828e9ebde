"""What many runs say of one number, each statistic with its standard error."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from inkhorn.errors import InputError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["QUANTILES", "STATISTICS", "half_sample_mode", "skewness", "standard_error", "statistics_of"]

Array = NDArray[np.float64]

QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)
_AGAIN = 300  # samples drawn from the sample
_SEED = 20_210


def skewness(values: Array) -> Array:
    """Return the skewness of samples, (..., n) gives (...); 0 where all are alike.

    That of the sample, adjusted for its size (Joanes and Gill 1998, G1).
    """
    n = values.shape[-1]
    if n < 3:
        return np.full(values.shape[:-1], np.nan)
    off = values - values.mean(axis=-1, keepdims=True)
    second, third = (off**2).mean(axis=-1), (off**3).mean(axis=-1)
    plain = np.divide(third, second**1.5, out=np.zeros_like(third), where=second > 0.0)
    return np.asarray(plain * np.sqrt(n * (n - 1.0)) / (n - 2.0))


def half_sample_mode(values: Array) -> float:
    """Return where values lie closest together: the half of the sample that is narrowest, and of that half, and so on.

    References
    ----------
    Bickel, D. R. and Frühwirth, R. (2006), On a fast, robust estimator of the mode, Computational Statistics & Data
    Analysis 50(12), 3500-3530.
    """
    kept = np.sort(values)
    while len(kept) > 3:
        half = (len(kept) + 1) // 2
        width = kept[half - 1 :] - kept[: len(kept) - half + 1]
        narrowest = np.flatnonzero(width == width.min())
        first = int(narrowest[len(narrowest) // 2])
        kept = kept[first : first + half]
    if len(kept) == 3 and kept[1] - kept[0] != kept[2] - kept[1]:
        kept = kept[:2] if kept[1] - kept[0] < kept[2] - kept[1] else kept[1:]
    return float(kept.mean())


def _modes(samples: Array) -> Array:
    return np.array([half_sample_mode(s) for s in samples])


STATISTICS: dict[str, Callable[[Array], Array]] = {
    "mean": lambda v: np.asarray(v.mean(axis=-1)),
    "deviation": lambda v: np.asarray(v.std(axis=-1, ddof=1)),
    "median": lambda v: np.asarray(np.median(v, axis=-1)),
    "mode": lambda v: _modes(v) if v.ndim > 1 else np.asarray(half_sample_mode(v)),
    "skewness": skewness,
}
"""Statistics of samples, (..., n), by name."""


def standard_error(values: Array, statistic: str) -> float:
    """Return the standard error of a statistic of a sample.

    Of the mean by its deviation; of others by drawing from the sample again and again (Efron 1979), the same draws each
    time.
    """
    if len(values) < 2:
        return float("nan")
    if statistic == "mean":
        return float(values.std(ddof=1) / np.sqrt(len(values)))
    numbers = np.random.default_rng([_SEED, len(values)])
    samples = values[numbers.integers(0, len(values), (_AGAIN, len(values)))]
    function = STATISTICS.get(statistic)
    if function is not None:
        return float(function(samples).std(ddof=1))
    return float(np.quantile(samples, _share(statistic), axis=1).std(ddof=1))


def _share(statistic: str) -> float:
    return float(statistic.removeprefix("quantile ").rstrip(" %")) / 100.0


def statistics_of(values: ArrayLike, *, limit: float = np.nan, failed: int = 0) -> pd.DataFrame:
    """Return what runs say of one number.

    Parameters
    ----------
    values : array_like of float, (n_runs,)
        NaN in runs that have none: these are counted, and left out.
    limit : float
        Of which the share of runs above it is told; NaN for none.
    failed : int
        Runs that failed, to be told beside.

    Returns
    -------
    pandas.DataFrame
        Columns value and standard error, by statistic.

    References
    ----------
    Efron, B. (1979), Bootstrap methods: another look at the jackknife, The Annals of Statistics 7(1), 1-26.
    Joanes, D. N. and Gill, C. A. (1998), Comparing measures of sample skewness and kurtosis, Journal of the Royal
    Statistical Society D 47(1), 183-189.
    """
    import pandas as pd

    values = np.asarray(values, dtype=np.float64)
    if values.ndim != 1:
        raise InputError(f"statistics are of one number a run; got an array of shape {values.shape}.")
    there = values[np.isfinite(values)]
    rows: list[tuple[str, float, float]] = [
        ("runs", float(len(there)), np.nan),
        ("runs without a value", float(len(values) - len(there)), np.nan),
        ("runs that failed", float(failed), np.nan),
    ]
    if len(there):
        for name, function in STATISTICS.items():
            known = len(there) > 1 or name in ("mean", "median", "mode")
            rows.append((name, float(function(there)) if known else np.nan, standard_error(there, name)))
        for share in QUANTILES:
            name = f"quantile {100.0 * share:g} %"
            rows.append((name, float(np.quantile(there, share)), standard_error(there, name)))
        rows += [("least", float(there.min()), np.nan), ("greatest", float(there.max()), np.nan)]
        if np.isfinite(limit):
            p = float((there > limit).mean())
            rows.append((f"share above {limit:g}", p, float(np.sqrt(p * (1.0 - p) / len(there)))))
    table = pd.DataFrame(rows, columns=["statistic", "value", "standard error"])
    return table.set_index("statistic")
