"""Axes and colour bars in other units than what is drawn: ticks at round numbers of those, words that name them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.unit_choice import UnitChoice

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["NUMBER", "in_units", "short"]


def _number(value: float) -> str:
    """A number without what rounding left of it."""
    return f"{float(f'{value:.9g}') + 0.0:.10g}"


NUMBER = "number"  # begins the mark of words that are a number, perhaps with its unit, before that unit in brackets


def short(value: float) -> str:
    """Return a number by four figures, or whole if it is larger."""
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.4g}"


def _rescale(axis: Any, units: UnitChoice) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    words = axis.get_label_text()
    factor = units.factor(words)
    if factor == 1.0 or axis.get_scale() != "linear":
        return

    class Rounded(MaxNLocator):
        """Ticks where the number in the other unit is round."""

        def tick_values(self, vmin: float, vmax: float) -> Any:
            return np.asarray(super().tick_values(factor * vmin, factor * vmax)) / factor

    axis.set_major_locator(Rounded(nbins="auto", steps=[1, 2, 2.5, 5, 10]))
    axis.set_major_formatter(FuncFormatter(lambda value, place: _number(factor * value)))
    axis.set_label_text(units.label(words))


def in_units(figure: Figure, units: UnitChoice) -> None:
    """Show a figure in some units: its axes and colour bars by the units in their labels, and numbers on contours.

    Parameters
    ----------
    figure : Figure
        As drawn, in metres and days.
    units : UnitChoice
        What to show.

    Examples
    --------
    >>> from matplotlib.figure import Figure
    >>> figure = Figure()
    >>> ax = figure.add_subplot(ylabel="head [m]")
    >>> in_units(figure, UnitChoice(["ft"]))
    >>> ax.get_ylabel()
    'head [ft]'
    """
    from matplotlib.legend import Legend

    if not units.units:
        return
    length = units.of("m")[1]
    for ax in [*figure.axes, *(bar for of in figure.axes for bar in of.child_axes)]:
        bar = getattr(ax, "_colorbar", None)
        for name in ("xaxis", "yaxis", "zaxis"):
            axis = getattr(ax, name, None)
            if axis is not None:
                _rescale(axis, units)
        if bar is not None:
            bar.locator, bar.formatter = (
                bar.long_axis.get_major_locator(),
                bar.long_axis.get_major_formatter(),
            )
        ax.title.set_text(units.words(units.label(ax.title.get_text())))
        keys = [t for key in ax.findobj(Legend) for t in key.get_texts()]
        for text in [*ax.texts, *keys]:
            unit = str(text.get_gid() or "")
            if unit.startswith(NUMBER):
                number, _, named = text.get_text().partition(" ")
                changed = short(units.factor(unit) * float(number.replace(",", "")))
                text.set_text(changed + (f" {units.of(named)[0]}" if named else ""))
        for drawn in ax.collections:
            for text in getattr(drawn, "labelTexts", ()):
                text.set_text(f"{float(text.get_text()) * length:.4g}")
