"""Pictures of many runs: how what is watched is spread, in time, over the map; and of random fields."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn.dates import clock_for, time_in_words
from inkhorn.draw.maps import draw_cells, draw_site, map_axes
from inkhorn.draw.style import BANK, FLOW_OUT, HEADS, INK, LEVELS, SOLUTE, WARN, WATER, axes_or_new
from inkhorn.ensemble import Ensemble
from inkhorn.errors import InputError
from inkhorn.fields import FieldMaker, experimental_variogram
from inkhorn.fields.experimental import expected_curve

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = [
    "against_input",
    "bands",
    "chance_map",
    "chance_maps",
    "field_check",
    "settling",
    "spread",
    "spread_curve",
    "watched",
]

Array = NDArray[np.float64]

_LONG = 1000.0  # days, from which on times are told in years
_MAP_STYLE = {"mean": HEADS, "deviation": "Greys", "chance": SOLUTE, "quantile": LEVELS}


def _values(found: Ensemble, name: str, column: int) -> Array:
    values = found.of(name)[:, column]
    values = values[np.isfinite(values)]
    if not len(values):
        raise InputError(f'"{name}" has no value in any run; there is nothing to draw.')
    return np.asarray(values)


def _label(found: Ensemble, name: str, column: int) -> str:
    day = float(found.times(name)[column])
    when = "" if np.isnan(day) else f" on day {day:g}" if day < _LONG else f" after {time_in_words(day, 4)}"
    return f"{name}{when} [{found.unit(name)}]"


def _stated(found: Ensemble, name: str, column: int) -> float:
    return float(found.stated[found.rows_of(name)[column]])


def spread(found: Ensemble, name: str, *, column: int = -1, ax: Axes | None = None) -> Axes:
    """Draw how something watched is spread: a histogram, its density, and the normal one of that mean and deviation.

    Parameters
    ----------
    found : Ensemble
        From `inkhorn.vary`.
    name : str
        What.
    column : int
        At which of its times.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    from scipy.stats import gaussian_kde

    ax, values = axes_or_new(ax, (8.0, 6.0)), _values(found, name, column)
    ax.hist(
        values, bins="auto" if len(values) > 20 else 8, density=True, color=WATER, ec="white", label="runs"
    )
    mean, deviation = float(values.mean()), float(values.std(ddof=1)) if len(values) > 1 else 0.0
    if deviation > 0.0:
        low, high = float(values.min()), float(values.max())
        x = np.linspace(low - 0.15 * (high - low), high + 0.15 * (high - low), 400)
        if low >= 0.0:  # what cannot be below 0 is not drawn there
            x = x[x >= 0.0]
        ax.plot(x, gaussian_kde(values)(x), color=BANK, lw=1.8, label="density")
        normal = np.exp(-0.5 * ((x - mean) / deviation) ** 2) / (deviation * np.sqrt(2.0 * np.pi))
        ax.plot(x, normal, color=INK, lw=1.0, ls="--", label="normal, of the same mean and deviation")
    ax.axvline(mean, color=INK, lw=1.2, label=f"mean {mean:.4g}")
    ax.axvline(
        float(np.median(values)), color=FLOW_OUT, lw=1.2, ls="-.", label=f"median {np.median(values):.4g}"
    )
    stated = _stated(found, name, column)
    if np.isfinite(stated):
        ax.axvline(stated, color=INK, lw=1.0, ls=":", label=f"with stated inputs {stated:.4g}")
    _limit_line(found, name, ax.axvline, values)
    ax.set_xlabel(_label(found, name, column))
    ax.set_ylabel("density")
    ax.set_ylim(0.0, 1.5 * ax.get_ylim()[1])  # room for what lines are
    ax.legend(fontsize=7, loc="upper left", ncols=2)
    return ax


def _limit_line(found: Ensemble, name: str, line: Any, values: Array) -> None:
    """Draw the limit, where it does not lie far beyond all values."""
    limit = float(found.columns["limit"].iloc[found.rows_of(name)[0]])
    wide = float(np.ptp(values))
    if np.isfinite(limit) and values.min() - 0.5 * wide <= limit <= values.max() + 0.5 * wide:
        line(limit, color=WARN, lw=1.4, label=f"limit {limit:g}")


def spread_curve(found: Ensemble, name: str, *, column: int = -1, ax: Axes | None = None) -> Axes:
    """Draw which share of runs lies below each value, with the 95 % band of that share (Massart 1990).

    Parameters
    ----------
    found, name, column, ax
        As of `spread`.

    References
    ----------
    Massart, P. (1990), The tight constant in the Dvoretzky-Kiefer-Wolfowitz inequality, The Annals of Probability 18(3),
    1269-1283.
    """
    ax, values = axes_or_new(ax, (8.0, 6.0)), np.sort(_values(found, name, column))
    share = np.arange(1, len(values) + 1) / len(values)
    off = float(np.sqrt(np.log(2.0 / 0.05) / (2.0 * len(values))))
    ax.step(values, share, where="post", color=BANK, lw=1.6, label=f"{len(values)} runs")
    ax.fill_between(
        values, np.clip(share - off, 0, 1), np.clip(share + off, 0, 1), step="post", color=WATER, alpha=0.5, lw=0,
        label="95 % band of the curve",
    )  # fmt: skip
    _limit_line(found, name, ax.axvline, values)
    ax.set(xlabel=_label(found, name, column), ylabel="share of runs below", ylim=(0.0, 1.0))
    ax.grid(alpha=0.3)
    ax.legend(fontsize=8)
    return ax


def settling(found: Ensemble, name: str, *, column: int = -1, ax: Axes | None = None) -> Axes:
    """Draw how the mean settled as runs came in, with its 95 % limits.

    Parameters
    ----------
    found, name, column, ax
        As of `spread`.
    """
    ax, table = axes_or_new(ax, (8.0, 5.0)), found.settling(name, column)
    mean, error = table["mean"], 1.96 * table["standard error"]
    ax.fill_between(
        table["runs"],
        mean - error,
        mean + error,
        color=WATER,
        alpha=0.6,
        lw=0,
        label="95 % limits of the mean",
    )
    ax.plot(table["runs"], mean, color=BANK, lw=1.5, label="mean")
    settled = float(mean.iloc[-1])
    ax.axhline(settled, color=INK, lw=0.8, ls=":")
    later = table.iloc[len(table) // 10 :]
    wide = float(np.nanmax(np.abs(later["mean"] - settled) + 1.96 * later["standard error"].fillna(0.0)))
    if wide > 0.0:
        ax.set_ylim(settled - 1.2 * wide, settled + 1.2 * wide)
    ax.set(xlabel="runs", ylabel=_label(found, name, column))
    ax.grid(alpha=0.3)
    ax.legend(fontsize=8)
    return ax


def against_input(
    found: Ensemble, name: str, number: str | None = None, *, column: int = -1, ax: Axes | None = None
) -> Axes:
    """Draw something watched against a number that was varied, a dot a run.

    Parameters
    ----------
    found, name, column, ax
        As of `spread`.
    number : str, optional
        Which, or something else watched; the number that goes with it most if not given.

    Raises
    ------
    InputError
        If there is none of that name.
    """
    ax = axes_or_new(ax, (8.0, 6.0))
    others = [w.name for w in found.watching.watches if w.name != name]
    if number is None:
        number = str(found.rank_correlations(name, column)["number"].iloc[0]) if found.number_names else None
        number = number or (others[0] if others else None)
    if number in found.number_names:
        k = found.number_names.index(number)
        x, label = found.numbers[found.good, k], f"{number} [{found.number_units[k]}]"
    elif number in others:
        x, label = found.of(number)[:, -1], _label(found, number, -1)
    else:
        raise InputError(f'there is no number "{number}"; expected one of {[*found.number_names, *others]}.')
    y = found.of(name)[:, column]
    ax.scatter(x, y, s=14, color=BANK, alpha=0.6, lw=0)
    _limit_line(found, name, ax.axhline, _values(found, name, column))
    ax.set(xlabel=label, ylabel=_label(found, name, column))
    ax.grid(alpha=0.3)
    return ax


def watched(found: Ensemble, name: str, figure: Figure, *, column: int = -1) -> None:
    """Fill a figure with all of one thing watched: spread, curve, how the mean settled, and against what goes with it.

    Parameters
    ----------
    found, name, column
        As of `spread`.
    figure : Figure
    """
    axes = figure.subplots(2, 2)
    spread(found, name, column=column, ax=axes[0, 0])
    spread_curve(found, name, column=column, ax=axes[0, 1])
    settling(found, name, column=column, ax=axes[1, 0])
    if found.number_names or len(found.watching.watches) > 1:
        against_input(found, name, column=column, ax=axes[1, 1])
    else:
        axes[1, 1].axis("off")
    failed = f", {len(found.state.failed)} failed" if found.state.failed else ""
    figure.suptitle(f"{name}: {found.state.count} runs{failed}", fontsize=11)


def bands(found: Ensemble, name: str, *, ax: Axes | None = None) -> Axes:
    """Draw something watched in time: median, nine runs in ten, half of the runs, mean, and with stated inputs.

    Parameters
    ----------
    found, name, ax
        As of `spread`.
    """
    ax, table = axes_or_new(ax, (9.0, 6.0)), found.bands(name)
    days = table["time [day]"]
    clock = clock_for(float(days.max()))
    x = days / clock.length
    ax.fill_between(
        x, table["quantile 5 %"], table["quantile 95 %"], color=WATER, alpha=0.45, lw=0, label="9 in 10 runs"
    )
    ax.fill_between(
        x, table["quantile 25 %"], table["quantile 75 %"], color=WATER, lw=0, label="half of the runs"
    )
    ax.plot(x, table["quantile 50 %"], color=BANK, lw=1.8, label="median")
    ax.plot(x, table["mean"], color=INK, lw=1.4, ls="--", label="mean")
    ax.plot(x, table["as stated"], color=INK, lw=1.0, ls=":", label="with stated inputs")
    _limit_line(found, name, ax.axhline, found.of(name)[np.isfinite(found.of(name))])
    ax.set(xlabel=f"time [{clock.name}]", ylabel=f"{name} [{found.unit(name)}]", title=name)
    chance = next((c for c in table.columns if c.startswith("share above")), None)
    if chance is not None:
        other = ax.twinx()
        other.plot(x, 100.0 * table[chance], color=WARN, lw=1.6, ls="-.")
        other.set_ylim(0.0, 100.0)
        other.set_ylabel("runs above the limit [%]", color=WARN)
        ax.plot([], [], color=WARN, lw=1.6, ls="-.", label="runs above the limit (right)")
    ax.grid(alpha=0.3)
    ax.margins(x=0.0)
    ax.legend(fontsize=8, loc="upper left")
    return ax


def chance_map(
    found: Ensemble, name: str, of: str = "mean", *, share: float = 0.5, ax: Axes | None = None
) -> Axes:
    """Draw one statistic of a map over many runs.

    Parameters
    ----------
    found : Ensemble
    name : str
        Of the map.
    of : {"mean", "deviation", "chance", "quantile"}
    share : float
        Of the quantile.
    ax : Axes, optional
    """
    ax = axes_or_new(ax, (9.0, 7.0))
    known = [
        k for k in _MAP_STYLE if k != "chance" or found.maps[found.map_asked(name).name].limit is not None
    ]
    if of not in known:
        raise InputError(f'a map of many runs has no "{of}"; expected one of {known}.')
    data, grid, site = found.map(name, (share,)), found.watching.model.grid, found.watching.model.site
    values = data["quantile"].to_numpy()[0] if of == "quantile" else data[of].to_numpy()
    unit = found.watching.map_unit(found.map_asked(name))
    words = {
        "mean": f"mean [{unit}]", "deviation": f"standard deviation [{unit}]", "chance": "chance [-]",
        "quantile": f"{100.0 * share:g} % of runs are below [{unit}]",
    }[of]  # fmt: skip
    captured = found.map_asked(name).of == "capture"
    if captured:
        words = "chance that water gets there [-]" if of in ("mean", "chance") else words
    style: dict[str, Any] = {"cmap": SOLUTE if captured else _MAP_STYLE[of]}
    if of == "chance" or (captured and of == "mean"):
        style |= {"vmin": 0.0, "vmax": 1.0}
        values = np.where(values > 0.0, values, np.nan)
    map_axes(ax, grid.mesh)
    if np.isfinite(values).any():
        drawn = draw_cells(ax, grid, values, **style)
        ax.figure.colorbar(drawn, ax=ax, shrink=0.85).set_label(words, fontsize=9)
    draw_site(ax, site, bores=False, fill=False, names=True)
    ax.set_title(f"{name}: {words.partition(' [')[0]}", fontsize=10)
    return ax


def chance_maps(found: Ensemble, name: str, figure: Figure) -> None:
    """Fill a figure with mean, deviation, chance of passing the limit and an upper quantile of a map.

    Parameters
    ----------
    found, name
        As of `chance_map`.
    figure : Figure
    """
    if found.map_asked(name).of == "capture":
        chance_map(found, name, "mean", ax=figure.subplots())
        return
    limit = found.maps[name].limit is not None
    shown = ["mean", "deviation", *(["chance"] if limit else []), "quantile"]
    axes = np.ravel(figure.subplots(-(-len(shown) // 2), 2, sharex=True, sharey=True, squeeze=False))
    for ax, of in zip(axes, shown, strict=False):
        chance_map(found, name, of, share=0.95, ax=ax)
        ax.label_outer()
    for ax in axes[len(shown) :]:
        ax.axis("off")


def field_check(maker: FieldMaker, figure: Figure, *, fields: int = 20, seed: int = 0) -> None:
    """Fill a figure with a random field, and with histogram and variograms of some against what they are to be.

    Points that were measured are honoured by the field that is drawn, and left out of the others, which are to be alike
    all over.

    Parameters
    ----------
    maker : FieldMaker
    figure : Figure
    fields : int
        How many are made for it.
    seed : int
        Of the first, which is drawn.
    """
    grid, asked, curve = maker.grid, maker.field, maker.field.variogram
    cells = grid.cells
    layer = int(cells.layer[maker.cells[0]])
    here = np.flatnonzero(cells.layer[maker.cells] == layer)
    free = maker if asked.measured is None else maker.without_measured()
    middle = free.middle if free.middle is not None else np.zeros(len(free.cells))
    off = np.array([free.normal(np.random.SeedSequence([seed, k])) for k in range(fields)]) - middle
    off = off[:, here]
    axes = figure.subplot_mosaic([["map", "histogram"], ["map", "variogram"]], width_ratios=[1.25, 1.0])
    left, upper, lower = axes["map"], axes["histogram"], axes["variogram"]
    map_axes(left, grid.mesh)
    values = np.full(grid.mesh.n_cells, np.nan)
    values[cells.plan_cell[maker.cells[here]]] = maker.normal(np.random.SeedSequence([seed, 0]))[here]
    drawn = draw_cells(left, grid, values, cmap=LEVELS)
    words = "ln of the value" if asked.logarithmic else "value"
    figure.colorbar(drawn, ax=left, orientation="horizontal", shrink=0.8).set_label(words, fontsize=9)
    if asked.measured is not None:
        left.scatter(
            asked.measured.x, asked.measured.y, s=26, fc="white", ec=INK, lw=1.0, zorder=6, label="measured"
        )
        left.legend(fontsize=8, loc="upper left")
    left.set_title(f"one field in the {grid.layer_names[layer]} ({maker.methods[0]})", fontsize=10)
    whole = float(np.sqrt(curve.sill + curve.nugget))
    upper.hist(off.ravel(), bins=60, density=True, color=WATER, label=f"{fields} fields, less their mean")
    x = np.linspace(-4 * whole, 4 * whole, 200)
    upper.plot(
        x, np.exp(-0.5 * (x / whole) ** 2) / (whole * np.sqrt(2 * np.pi)), color=INK, label="asked for"
    )
    upper.set(xlabel=words, ylabel="density", ylim=(0.0, 1.35 * upper.get_ylim()[1]))
    upper.legend(fontsize=8)
    px, py = cells.x[maker.cells[here]], cells.y[maker.cells[here]]
    reach = min(1.5 * curve.range, 0.5 * float(np.hypot(np.ptp(px), np.ptp(py))))
    ways = (
        [(curve.direction, BANK), (curve.direction + 90.0, FLOW_OUT)] if curve.ratio > 1.0 else [(None, BANK)]
    )
    for angle, colour in ways:
        seen = experimental_variogram(px, py, off.T, reach=reach, angle=angle, within=15.0)
        way = "" if angle is None else f", along {angle % 180.0:g}°"
        lower.plot(seen.distance, seen.half_square, "o", color=colour, ms=4, label=f"fields{way}")
        d = np.linspace(0.0, reach, 120)[1:]
        lower.plot(d, expected_curve(curve, d, angle), color=colour, lw=1.3, label=f"asked for{way}")
    lower.set(xlabel="distance [m]", ylabel="half mean square of differences", ylim=(0.0, 1.3 * whole**2))
    lower.legend(fontsize=8, loc="lower right")
