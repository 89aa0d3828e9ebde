"""Letters that do not lie over each other: names beside their places, numbers on lines."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from inkhorn.draw.style import INK, halo

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["label_points", "untangle"]

_NAME = "name of a place"  # marks what may be moved
_PLACES = (
    *((6, 5, "left", "bottom"), (-6, 5, "right", "bottom"), (6, -5, "left", "top"), (-6, -5, "right", "top")),
    *((0, 9, "center", "bottom"), (0, -9, "center", "top"), (12, 0, "left", "center"), (-12, 0, "right", "center")),
)  # fmt: skip


def label_points(ax: Axes, points: list[tuple[float, float, str]], **style: Any) -> None:
    """Write names beside points, with a halo so that they can be read on any ground."""
    for x, y, name in points:
        ax.annotate(
            name, (x, y), xytext=_PLACES[0][:2], textcoords="offset points", fontsize=8, color=INK, zorder=7,
            gid=_NAME, path_effects=halo(), **style,
        )  # fmt: skip


def untangle(figure: Figure) -> None:
    """Lay out a figure for good; move names that lie over others or beyond the map, and hide numbers under them.

    Numbers on lines of equal value give way to names, and to those before them.
    """
    from matplotlib.text import Annotation

    engine = figure.get_layout_engine()
    if engine is not None:
        engine.execute(figure)  # as drawing does, without the drawing
        figure.set_layout_engine("none")
    for ax in figure.axes:
        ax.apply_aspect()
    for ax in figure.axes:
        frame = ax.get_window_extent()
        taken: list[Any] = []
        names = [t for t in ax.texts if isinstance(t, Annotation) and t.get_gid() == _NAME]
        numbers = [t for lines in ax.collections for t in getattr(lines, "labelTexts", ())]
        for text in [t for t in ax.texts if t not in names and t not in numbers]:
            taken.append(text.get_window_extent())
        for text in names:
            tried: list[tuple[int, int]] = []
            for dx, dy, across, up in _PLACES:
                text.set(ha=across, va=up)
                text.xyann = (dx, dy)
                box = text.get_window_extent()
                inside = (
                    frame.x0 <= box.x0 and box.x1 <= frame.x1 and frame.y0 <= box.y0 and box.y1 <= frame.y1
                )
                tried.append((sum(box.overlaps(other) for other in taken) + 2 * (not inside), len(tried)))
                if tried[-1][0] == 0:
                    break
            dx, dy, across, up = _PLACES[min(tried)[1]]
            text.set(ha=across, va=up)
            text.xyann = (dx, dy)
            taken.append(text.get_window_extent())
        for text in numbers:
            box = text.get_window_extent()
            if any(box.overlaps(other) for other in taken):
                text.set_visible(False)
            else:
                taken.append(box)
