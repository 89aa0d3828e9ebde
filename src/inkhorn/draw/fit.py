"""Pictures of a fit: measured against computed, residuals, what readings tell, fields before and after."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.calibration import FitResult, Forecast, Knowledge, observe
from inkhorn.draw.maps import check_layer, draw_cells, draw_site, draw_values, map_axes
from inkhorn.draw.style import BANK, FLOW_OUT, INK, LEVELS, OFF, axes_or_new, halo, material_style
from inkhorn.errors import InputError
from inkhorn.flow import FlowResult, by_pumping
from inkhorn.site import Measurement

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = [
    "depletion",
    "fields_before_and_after",
    "measured_against_computed",
    "residual_maps",
    "residual_spread",
    "what_readings_tell",
    "worth_of_levels",
]

_MOST_BARS = 24


def measured_against_computed(fit: FitResult, *, unit: str | None = None, ax: Axes | None = None) -> Axes:
    """Draw computed against measured values, before the fit (crosses) and after it, by layer.

    Parameters
    ----------
    fit : FitResult
        From `inkhorn.calibrate`.
    unit : str, optional
        Of the readings that are drawn; of the first if not given.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    ax = axes_or_new(ax, (8.0, 7.0))
    before, after = fit.residuals(before=True), fit.residuals()
    unit = unit or str(after["unit"].iloc[0])
    before, after = (table[table["unit"] == unit] for table in (before, after))
    measured = after["measured"]
    both = np.concatenate([measured, before["computed"], after["computed"]])
    margin = 0.05 * float(np.ptp(both)) or 0.5
    ends = (float(both.min() - margin), float(both.max() + margin))
    ax.plot(ends, ends, color=INK, lw=1.0, label="equal")
    rms = fit.statistics(unit=unit).rms
    ax.fill_between(
        ends, [e - rms for e in ends], [e + rms for e in ends], color=INK, alpha=0.08, lw=0, label="± RMS"
    )
    ax.scatter(measured, before["computed"], marker="x", c="#9a9a9a", s=28, label="before the fit")
    names = list(fit.after.model.grid.layer_names)
    for layer in dict.fromkeys(after["layer"]):
        mine = after["layer"] == layer
        colour = material_style(names.index(layer)).solid if layer in names else "#ffffff"
        size = 46 if mine.sum() < 200 else 12
        ax.scatter(
            measured[mine], after.loc[mine, "computed"], s=size, ec=INK, lw=0.8 if size > 20 else 0.3, zorder=3,
            c=colour, label=layer or "not in a layer",
        )  # fmt: skip
    ax.set_xlim(ends)
    ax.set_ylim(ends)
    ax.set_aspect("equal")
    levels = unit == "m"
    ax.set_xlabel(f"measured {'level' if levels else 'value'} [{unit}]")
    ax.set_ylabel(f"computed {'level' if levels else 'value'} [{unit}]")
    said = [
        f"{word:7s} {fit.statistics(before=early, unit=unit)}"
        for word, early in (("before:", True), ("after:", False))
    ]
    ax.set_title(f"{fit.after.model.name}: measured against computed\n" + "\n".join(said), fontsize=9)
    ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=8, frameon=False)
    ax.grid(alpha=0.25)
    return ax


def residual_maps(fit: FitResult, figure: Figure) -> None:
    """Fill a figure with maps of the residuals of levels, before the fit and after it; means of each place.

    Circles grow with the residual; full ones are measured above computed, hollow ones below.
    """
    model = fit.after.model
    axes = figure.subplots(1, 2, sharex=True, sharey=True)
    tables = [fit.residuals(before=early) for early in (True, False)]
    tables = [t[(t["unit"] == "m") & np.isfinite(t["x [m]"])] for t in tables]
    means = [
        t.groupby(["name", "x [m]", "y [m]"], sort=False)["residual"].mean().reset_index() for t in tables
    ]
    most = max((float(m["residual"].abs().max()) for m in means if len(m)), default=1.0) or 1.0
    for ax, table, words in zip(axes, means, ("before", "after"), strict=True):
        map_axes(ax, model.grid.mesh)
        draw_site(ax, model.site, bores=False, fill=False, names=False)
        size = 8.0 + 420.0 * table["residual"].abs() / most
        up = table["residual"] >= 0.0
        for mine, colour, fill, label in (
            (up, BANK, BANK, "measured above computed"),
            (~up, FLOW_OUT, "none", "measured below computed"),
        ):
            ax.scatter(
                table.loc[mine, "x [m]"], table.loc[mine, "y [m]"], s=size[mine], fc=fill, ec=colour, lw=1.4, alpha=0.85,
                label=label, zorder=6,
            )  # fmt: skip
        worst = table.reindex(table["residual"].abs().sort_values(ascending=False).index[:3])
        for _, row in worst.iterrows():
            ax.annotate(
                f"{row['name']} {row['residual']:+.2g} m", (row["x [m]"], row["y [m]"]), fontsize=8, xytext=(6, 5),
                textcoords="offset points", path_effects=halo(), zorder=7,
            )  # fmt: skip
        rms = float(np.sqrt(np.mean(table["residual"] ** 2))) if len(table) else np.nan
        ax.set_title(f"residuals {words} the fit, RMS {rms:.3g} m", fontsize=10)
    handles, labels = axes[0].get_legend_handles_labels()
    kept = [k for k, n in enumerate(labels) if n.startswith("measured")]
    figure.legend(
        [handles[k] for k in kept], [labels[k] for k in kept], loc="outside lower center", ncols=2, fontsize=9,
        frameon=False,
    )  # fmt: skip


def residual_spread(fit: FitResult, figure: Figure) -> None:
    """Fill a figure with how weighted residuals are spread: a histogram, against a normal law, and against values."""
    from scipy.special import ndtri

    table = fit.residuals()
    weighted = table["weighted residual"].to_numpy(dtype=float)
    variance = fit.knowledge.variance
    scaled = weighted / np.sqrt(variance if np.isfinite(variance) and variance > 0.0 else 1.0)
    ax, beside, along = figure.subplots(1, 3)
    bins = max(6, min(30, round(np.sqrt(len(scaled)) * 1.5)))
    ax.hist(scaled, bins=bins, color=BANK, alpha=0.75, density=True)
    reach = max(3.5, float(np.abs(scaled).max()))
    x = np.linspace(-reach, reach, 200)
    ax.plot(x, np.exp(-0.5 * x**2) / np.sqrt(2.0 * np.pi), color=INK, lw=1.2, label="normal")
    ax.set(xlabel="standardised residual [-]", ylabel="share per unit [-]")
    ax.legend(fontsize=8, frameon=False)
    order = np.sort(scaled)
    expected = ndtri((np.arange(len(order)) + 0.5) / len(order))
    beside.plot(expected, expected, color=INK, lw=1.0)
    beside.scatter(expected, order, s=16, fc="none", ec=BANK)
    straight = float(np.corrcoef(expected, order)[0, 1]) if len(order) > 2 and np.ptp(order) > 0.0 else np.nan
    beside.set(
        xlabel="of a normal law [-]", ylabel="standardised residual [-]",
    )  # fmt: skip
    beside.set_title(f"normality: correlation {straight:.3f}", fontsize=10)
    for unit, mark in zip(dict.fromkeys(table["unit"]), "os^", strict=False):
        mine = (table["unit"] == unit).to_numpy()
        value = table.loc[mine, "computed"].to_numpy()
        spread = np.ptp(value) or 1.0
        along.scatter(
            (value - value.min()) / spread,
            scaled[mine],
            s=16,
            marker=mark,
            fc="none",
            ec=FLOW_OUT,
            label=f"in {unit}",
        )
    along.axhline(0.0, color=INK, lw=1.0)
    along.set(xlabel="computed value, from least to greatest [-]", ylabel="standardised residual [-]")
    along.legend(fontsize=8, frameon=False)
    out = float(np.mean(np.abs(scaled) > 1.96))
    ax.set_title(f"{len(scaled)} readings; {out:.0%} beyond ± 1.96", fontsize=10)
    for each in (ax, beside, along):
        each.grid(alpha=0.25)


def what_readings_tell(knowledge: Knowledge, figure: Figure) -> None:
    """Fill a figure with bars: how sensitive readings are to each number, and what share of it they fix."""
    p = knowledge.parameters
    order = np.argsort(-knowledge.sensitivity)[:_MOST_BARS][::-1]
    names = [p.names[k] for k in order]
    left, right = figure.subplots(1, 2, sharey=True)
    place = np.arange(len(order))
    left.barh(place, np.maximum(knowledge.sensitivity[order], 1e-300), color=BANK)
    left.set_xscale("log")
    most = float(knowledge.sensitivity.max(initial=0.0)) or 1.0
    left.set_xlim(most * 1e-4, most * 2.0)
    left.xaxis.set_major_formatter(lambda v, _: f"{v:.0e}" if v < 0.001 else f"{v:g}")
    left.set_yticks(place, names, fontsize=8)
    left.set_xlabel("change of weighted readings for a step of 1 [-]")
    left.set_title("which parameters matter", fontsize=10)
    wide = [len(u.names) for u in knowledge.unknown]
    named = {n for u in knowledge.unknown for n in u.names}
    wholes = [p.parameters[p.scalars[p.free[k]].parameter].name for k in order]
    colours = [FLOW_OUT if {n, w} & named else BANK for n, w in zip(names, wholes, strict=True)]
    right.barh(place, knowledge.share[order], color=colours)
    right.set_xlim(0.0, 1.0)
    right.set_xlabel("share that readings fix [-]")
    words = (
        f"{len(wide)} combination{'s'[: len(wide) != 1]} cannot be known (orange)"
        if wide
        else "all can be known"
    )
    right.set_title(words, fontsize=10)
    rest = len(p) - len(order)
    if rest > 0:
        left.text(0.98, 0.02, f"and {rest} more", transform=left.transAxes, ha="right", fontsize=8)
    for ax in (left, right):
        ax.grid(alpha=0.25, axis="x")


def fields_before_and_after(fit: FitResult, name: str, figure: Figure) -> None:
    """Fill a figure with the field of a parameter with pilot points: before the fit, after it, moved how far, how sure.

    Raises
    ------
    InputError
        If there is no such parameter with pilot points.
    """
    p = fit.parameters
    groups = {q.name: (q, mine, surface) for q, mine, surface in p.groups()}
    if name not in groups:
        raise InputError(f'there is no parameter "{name}" with pilot points; expected one of {list(groups)}.')
    parameter, mine, _ = groups[name]
    model, grid = fit.after.model, fit.after.model.grid
    maps = [p.field_of(name, at) for at in (p.start, fit.coordinates)]
    deviation = p.field_deviation(name, fit.coordinates, fit.knowledge.covariance)
    if parameter.deviation is not None:  # and what kriging leaves open between the points
        deviation = np.sqrt(deviation**2 + p.kriging_variance(name, parameter.deviation**2))
    logs = bool(p.logarithmic[mine].all()) if len(mine) else False
    unit = p.scalars[p.free[mine[0]]].unit if len(mine) else ""
    before, after = (np.log10(m) if logs else m for m in maps)
    moved = after - before
    low, high = (
        min(float(np.nanmin(m)) for m in (before, after)),
        max(float(np.nanmax(m)) for m in (before, after)),
    )
    if high - low < 1e-6:
        low, high = low - 0.5, high + 0.5
    most = float(np.nanmax(np.abs(moved))) or 1.0
    own: dict[str, Any] = {"cmap": LEVELS, "vmin": low, "vmax": high}
    off: dict[str, Any] = {"cmap": OFF, "vmin": -most, "vmax": most}
    shown: list[tuple[Any, str, str, dict[str, Any], bool]] = [
        (before, f"{name}, before", f"[{unit}]", own, logs),
        (after, "after the fit", f"[{unit}]", own, logs),
        (moved, "after over before" if logs else "after less before", "[-]" if logs else f"[{unit}]", off, logs),
        (
            deviation, "standard deviation after the fit" + (" (of the logarithm)" if logs else ""),
            "[-]" if logs else f"[{unit}]", {"cmap": "Greys"}, False,
        ),
    ]  # fmt: skip
    free = [p.scalars[p.free[k]] for k in mine]
    held = [s for s in p.scalars if p.parameters[s.parameter] is parameter and s.held]
    seen = fit.observations.table
    axes = figure.subplots(2, 2, sharex=True, sharey=True)
    for ax, (values, title, label, style, powers) in zip(axes.ravel(), shown, strict=True):
        map_axes(ax, grid.mesh)
        bar = figure.colorbar(draw_cells(ax, grid, values, **style), ax=ax, shrink=0.9)
        if powers:
            bar.ax.yaxis.set_major_formatter(lambda v, _: f"{10**v:.3g}")
        bar.set_label(label, fontsize=8)
        draw_site(ax, model.site, bores=False, fill=False, names=False)
        ax.set_title(title, fontsize=10)
        ax.scatter([s.x for s in free], [s.y for s in free], s=14, fc="white", ec=INK, lw=0.8, zorder=6)
        ax.scatter([s.x for s in held], [s.y for s in held], s=22, marker="s", fc=INK, ec="white", zorder=6)
        ax.label_outer()
    axes[1, 1].scatter(seen["x [m]"], seen["y [m]"], s=14, marker="+", c=BANK, lw=0.9, zorder=5)


def worth_of_levels(found: Forecast, name: str, figure: Figure, *, deviation: float = 0.02) -> None:
    """Fill a figure with maps of how much surer a forecast would be for one more level, layer by layer.

    Parameters
    ----------
    found : Forecast
        From `inkhorn.forecast`.
    name : str
        Which forecast.
    figure : Figure
    deviation : float
        Standard deviation of that level [m].
    """
    grid, site = found.flow.model.grid, found.flow.model.site
    layers = list(dict.fromkeys(grid.whole_names))[:6]
    maps = [found.worth_of_level(layer, deviation, name) for layer in layers]
    columns = min(3, len(layers))
    axes = figure.subplots(
        -(-len(layers) // columns), columns, sharex=True, sharey=True, squeeze=False
    ).ravel()
    most = max(float(np.nanmax(m)) for m in maps) or 1.0
    drawn: Any = None
    for ax, layer, values in zip(axes, layers, maps, strict=False):
        map_axes(ax, grid.mesh)
        drawn = draw_cells(ax, grid, values, cmap=LEVELS, vmin=0.0, vmax=most)
        draw_site(ax, site, bores=True, layer=layer, fill=False, names=False)
        ax.set_title(layer, fontsize=10)
        ax.set_xlabel("")
        ax.set_ylabel("")
    for ax in axes[len(layers) :]:
        ax.axis("off")
    bar = figure.colorbar(drawn, ax=axes.tolist(), shrink=0.7)
    bar.set_label("standard error less by [%]")
    error = found.after[found.names.index(name)]
    unit = found.targets.table["unit"].iloc[found.names.index(name)]
    figure.suptitle(
        f"{name}: one more level, ± {deviation * 100:g} cm, against a standard error of {error:.3g} {unit}",
        fontsize=11,
    )


def depletion(
    flow: FlowResult, features: Sequence[str], layer: str | int = 0, *, ax: Axes | None = None
) -> Axes:
    """Draw what share of water pumped anywhere in a layer some features go without, in the end.

    Parameters
    ----------
    flow : FlowResult
        Steady, or in time by steps of first order that are all recorded.
    features : sequence of str
        Rivers, springs, drains, lakes, wells that may run short.
    layer : str or int
        Where it is pumped.
    ax : Axes, optional
        Where to draw; a new figure if not given.

    Returns
    -------
    Axes
    """
    model, grid = flow.model, flow.model.grid
    last = None if model.schedule is None else np.array([flow.steps[-1].end])
    measured = Measurement(name="gain", gain_of=tuple(features), values=[0.0], times=last, deviation=1.0)
    share = by_pumping(flow, observe(model, (), [measured]).readings(flow))[0]
    index = check_layer(grid, layer)
    number = grid.cell_number[index]
    values = np.full(len(number), np.nan)
    values[number >= 0] = share[number[number >= 0]]
    ax = axes_or_new(ax)
    map_axes(ax, grid.mesh)
    draw_values(
        ax,
        grid,
        values,
        "share of pumped water [-]",
        span=(0.0, max(1.0, float(np.nanmax(values)))),
        cmap=LEVELS,
    )
    draw_site(ax, model.site, bores=False, fill=False)
    lasting = "" if model.schedule is None else f", after {flow.steps[-1].end:g} days of pumping"
    ax.set_title(
        f"{model.name}: what {', '.join(features)} goes without,\nof water pumped in {grid.layer_names[index]}{lasting}",
        fontsize=10,
    )
    return ax
