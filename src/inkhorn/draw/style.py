"""The house style: colours, marks and letters that all figures share.

Colours are told apart by people who see no red or green (least difference of ten in CIELAB 24, as seen with normal
sight and simulated by Machado et al. 2009), and maps of values rise or fall in lightness, so that they survive grey
print.

References
----------
Machado, G. M., Oliveira, M. M. and Fernandes, L. A. F. (2009), A physiologically-based model for simulation of color
vision deficiency, IEEE Transactions on Visualization and Computer Graphics 15(6), 1291-1298.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = [
    "BANK",
    "FLOW_IN",
    "FLOW_OUT",
    "HEADS",
    "INK",
    "LEVELS",
    "MARKS",
    "MOVED",
    "OFF",
    "SOLUTE",
    "SOURCE",
    "WARN",
    "WATER",
    "ZONES",
    "MaterialStyle",
    "axes_or_new",
    "halo",
    "line_style",
    "material_style",
]

WATER, BANK, INK, WARN = "#8fc1dd", "#2a6f97", "#2b2b2b", "#c1121f"
SOURCE, FLOW_IN, FLOW_OUT = "#6a1b9a", "#2a6f97", "#d9894c"
ZONES = ("#8c2d04", "#ec7014", "#fec44f", "#fff7bc", "#f0efe9")  # from the innermost outwards
MARKS = (WATER, BANK, INK, WARN, SOURCE, FLOW_OUT, "#ffffff", "#000000")  # of what may be small
HEADS, LEVELS, SOLUTE, MOVED, OFF = (
    "YlGnBu",
    "YlOrBr",
    "YlOrRd",
    "plasma",
    "PuOr",
)  # maps of values, by what they are
_COLOURS = (
    *("#6b4f34", "#ecd59b", "#8d99a6", "#d9894c", "#d3ebe4"),
    *("#9d98eb", "#3c2d59", "#e4eb5e", "#655eeb", "#5753a6"),
)
_LINES, _DASHES = (INK, BANK, FLOW_OUT, SOURCE, "#1f8a70", WARN), ("-", "--", "-.", ":")
_HATCHES = ("", "////", "....", "\\\\\\\\")


class MaterialStyle(NamedTuple):
    """How one of several materials is drawn.

    Attributes
    ----------
    colour : str
        Of its area.
    hatch : str
        Over it, as Matplotlib names them.
    """

    colour: str
    hatch: str

    @property
    def fill(self) -> dict[str, Any]:
        """What Matplotlib's filled shapes take."""
        return {
            "facecolor": self.colour,
            "hatch": self.hatch or None,
            "edgecolor": INK if self.hatch else "none",
        }

    @property
    def solid(self) -> str:
        """A colour for where nothing can be hatched: the more hatched, the darker."""
        from matplotlib.colors import to_hex, to_rgb

        shade = 1.0 - 0.22 * _HATCHES.index(self.hatch)
        red, green, blue = to_rgb(self.colour)
        return to_hex((shade * red, shade * green, shade * blue))


def material_style(number: int) -> MaterialStyle:
    """Return how the material of a number is drawn: ten colours, then the same ones hatched.

    >>> material_style(0)
    MaterialStyle(colour='#6b4f34', hatch='')
    >>> material_style(11)
    MaterialStyle(colour='#ecd59b', hatch='////')
    """
    return MaterialStyle(_COLOURS[number % len(_COLOURS)], _HATCHES[number // len(_COLOURS) % len(_HATCHES)])


def line_style(number: int) -> dict[str, Any]:
    """Return how the line of a number is drawn, for Matplotlib: six dark colours, then the same ones dashed.

    >>> line_style(6)
    {'color': '#2b2b2b', 'ls': '--'}
    """
    return {"color": _LINES[number % len(_LINES)], "ls": _DASHES[number // len(_LINES) % len(_DASHES)]}


def axes_or_new(ax: Axes | None, size: tuple[float, float] = (9.0, 7.0)) -> Axes:
    """Return the axes given, or those of a new figure."""
    if ax is not None:
        return ax
    import matplotlib.pyplot as plt

    return plt.subplots(figsize=size, layout="constrained")[1]


def halo(wide: float = 3.0) -> list[Any]:
    """What lets letters be read on any ground."""
    from matplotlib.patheffects import withStroke

    return [withStroke(linewidth=wide, foreground="white")]
