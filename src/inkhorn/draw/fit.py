"""Pictures of a fit: measured against computed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from inkhorn.calibration import FitResult
from inkhorn.draw.style import INK, axes_or_new, material_style

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["measured_against_computed"]


def measured_against_computed(fit: FitResult, *, ax: Axes | None = None) -> Axes:
    """Draw computed against measured levels, before the fit (crosses) and after it, by layer.

    Parameters
    ----------
    fit : FitResult
        From `inkhorn.calibrate`.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    ax = axes_or_new(ax, (8.0, 7.0))
    before, after = fit.residuals(before=True), fit.residuals()
    measured = after["measured [m]"]
    both = np.concatenate([measured, before["computed [m]"], after["computed [m]"]])
    margin = 0.05 * float(np.ptp(both)) or 0.5
    ends = (float(both.min() - margin), float(both.max() + margin))
    ax.plot(ends, ends, color=INK, lw=1.0, label="equal")
    rms = fit.statistics().rms
    ax.fill_between(
        ends, [e - rms for e in ends], [e + rms for e in ends], color=INK, alpha=0.08, lw=0, label="± RMS"
    )
    ax.scatter(measured, before["computed [m]"], marker="x", c="#9a9a9a", s=28, label="before the fit")
    names = fit.after.model.grid.layer_names
    for k, layer in enumerate(names):
        mine = after["layer"] == layer
        if mine.any():
            ax.scatter(
                measured[mine], after.loc[mine, "computed [m]"], s=46, ec=INK, lw=0.8, zorder=3,
                c=material_style(k).solid, label=layer,
            )  # fmt: skip
    ax.set_xlim(ends)
    ax.set_ylim(ends)
    ax.set_aspect("equal")
    ax.set_xlabel("measured mean level [m]")
    ax.set_ylabel("computed head [m]")
    said = [
        f"{word:7s} {stats}"
        for word, stats in (("before:", fit.statistics(before=True)), ("after:", fit.statistics()))
    ]
    ax.set_title(f"{fit.after.model.name}: measured against computed\n" + "\n".join(said), fontsize=9)
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    ax.grid(alpha=0.25)
    return ax
