"""Runs side by side at the bores."""

from __future__ import annotations

from typing import TYPE_CHECKING

from inkhorn.draw.style import INK, axes_or_new

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

__all__ = ["heads_at_bores"]

MEASURED = "measured [m]"


def heads_at_bores(heads: pd.DataFrame, rms: pd.Series, *, ax: Axes | None = None) -> Axes:
    """Draw each run's head less the measured level, bore by bore from the lowest level up.

    Parameters
    ----------
    heads : pandas.DataFrame
        One row per bore: its measured level and the head of each run [m].
    rms : pandas.Series
        Of each run [m].
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    ax = axes_or_new(ax)
    ordered = heads.dropna().sort_values(MEASURED)
    places = range(len(ordered))
    for name, marker in zip(rms.index, "osDv^P*X" * len(rms), strict=False):
        off = ordered[name] - ordered[MEASURED]
        ax.plot(places, off, marker, ms=5, alpha=0.85, label=f"{name} (RMS {rms[name]:.3f} m)")
    ax.axhline(0.0, color=INK, lw=1.0)
    ax.set_xticks(list(places), ordered.index, rotation=90, fontsize=7)
    ax.set_xlabel("bore, from the lowest level up")
    ax.set_ylabel("computed head less measured level [m]")
    ax.grid(axis="y", alpha=0.3)
    ax.legend(fontsize=9)
    return ax
