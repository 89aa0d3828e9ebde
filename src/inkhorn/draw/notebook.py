"""How things show themselves in a notebook: a line of words, a table, a small picture."""

from __future__ import annotations

import base64
import io
from collections.abc import Callable, Sequence
from functools import singledispatch
from html import escape
from typing import TYPE_CHECKING, Any

from inkhorn.calibration import FitResult
from inkhorn.draw.fit import measured_against_computed
from inkhorn.draw.flow import heads
from inkhorn.draw.frame import framed, map_axes_of
from inkhorn.draw.maps import draw_site, on_earth
from inkhorn.draw.mesh import plan
from inkhorn.draw.movement import paths, plume
from inkhorn.draw.style import INK
from inkhorn.flow import FlowResult
from inkhorn.model import Findings, Model
from inkhorn.paths import PathResult
from inkhorn.site import Schedule, Series, Site
from inkhorn.space import Grid, PlanMesh, PolygonMesh, RectangularMesh, SplitMesh, VoronoiMesh
from inkhorn.transport import TransportResult

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

__all__ = ["html_of", "materials_of", "page"]

_MOST_ROWS = 12
_STYLE = "border-collapse:collapse;font-size:0.85em"


def _table_of(frame: pd.DataFrame) -> str:
    """A table as HTML, everything in it escaped; of a long one the first rows."""
    short = frame.head(_MOST_ROWS)
    text = short.to_html(float_format=lambda v: f"{v:.5g}", na_rep="", border=0, escape=True)
    more = f"<p>and {len(frame) - len(short)} more rows</p>" if len(frame) > len(short) else ""
    text = text.replace("<table ", f'<table style="{_STYLE}" ', 1)
    for cell, side in (("<td>", "right"), ("<th>", "left")):
        text = text.replace(cell, f'{cell[:-1]} style="padding:2px 8px;text-align:{side}">')
    return text + more


def _picture_of(draw: Callable[[Axes], Any], words: str) -> str:
    """A small picture as HTML, the dots within."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    with mpl.rc_context({"text.parse_math": False, "font.size": 7}):
        figure = Figure(figsize=(5.2, 3.6), dpi=110, layout="constrained")
        draw(figure.add_subplot())
        dots = io.BytesIO()
        figure.savefig(dots, format="png")
    code = base64.b64encode(dots.getvalue()).decode("ascii")
    return f'<img alt="{escape(words)}" style="max-width:100%" src="data:image/png;base64,{code}">'


def page(thing: Any, tables: Sequence[pd.DataFrame] = (), draw: Callable[[Axes], Any] | None = None) -> str:
    """Return words, tables and a small picture of a thing, as HTML."""
    words = repr(thing)
    beside = _picture_of(draw, words) if draw is not None else ""
    return (
        f'<div><p style="font-family:monospace">{escape(words)}</p><div style="display:flex;gap:1.5em;flex-wrap:wrap">'
        f"<div>{''.join(map(_table_of, tables))}</div><div>{beside}</div></div></div>"
    )


@singledispatch
def html_of(thing: Any) -> str:
    """Return how a thing of this package shows itself in a notebook, as HTML.

    Parameters
    ----------
    thing : Site, Grid, a plan mesh, Model, Schedule, Series, Findings, or a result
        What is shown; names in it are escaped.

    Returns
    -------
    str
        A line of words, tables, and a picture whose dots are within.
    """
    return page(thing)


def materials_of(site: Site) -> pd.DataFrame:
    """Return what the layers of a site are made of, a row for each."""
    import pandas as pd

    made = [(name, site.materials[name]) for name in site.strata.names]
    columns = {
        "layer": [name for name, _ in made],
        "material": [m.name for _, m in made],
        "conductivity [m/day]": [m.conductivity for _, m in made],
        "porosity": [m.porosity for _, m in made],
    }
    return pd.DataFrame(columns)


@html_of.register
def _(site: Site) -> str:
    import pandas as pd

    counts: dict[str, int] = {}
    for feature in site.features:
        counts[feature.kind] = counts.get(feature.kind, 0) + 1
    kinds = pd.DataFrame({"features": list(counts), "number": list(counts.values())})

    def draw(ax: Axes) -> None:
        import shapely

        map_axes_of(ax, site.boundary.bounds)
        draw_site(ax, site)
        framed(ax, lambda x, y: shapely.intersects_xy(site.boundary, x, y), north=on_earth(site))

    return page(site, [materials_of(site).set_index("layer"), kinds.set_index("features")], draw)


@html_of.register
def _(grid: Grid) -> str:
    return page(grid, [grid.table().set_index("layer")], lambda ax: plan(grid.mesh, ax=ax))


@html_of.register(RectangularMesh)
@html_of.register(SplitMesh)
@html_of.register(VoronoiMesh)
@html_of.register(PolygonMesh)
def _(mesh: PlanMesh) -> str:
    return page(mesh, (), lambda ax: plan(mesh, ax=ax))


@html_of.register
def _(model: Model) -> str:
    tables = [] if model.placed is None else [model.placed[["feature", "kind", "cells", "total", "unit"]]]
    return page(model, tables, lambda ax: plan(model.grid.mesh, model.site, ax=ax))


@html_of.register
def _(flow: FlowResult) -> str:
    return page(flow, [flow.budget()], lambda ax: heads(flow, 0, ax=ax))


@html_of.register
def _(traced: PathResult) -> str:
    columns = ["start", "end", "feature", "travel time [day]"]
    return page(traced, [traced.ends[columns]], lambda ax: paths(traced, ax=ax))


@html_of.register
def _(carried: TransportResult) -> str:
    return page(carried, [carried.budget()], lambda ax: plume(carried, ax=ax))


@html_of.register
def _(fit: FitResult) -> str:
    return page(fit, [fit.table()], lambda ax: measured_against_computed(fit, ax=ax))


@html_of.register
def _(findings: Findings) -> str:
    return page(findings, [findings.table()])


@html_of.register
def _(schedule: Schedule) -> str:
    return page(schedule, [schedule.table()])


@html_of.register
def _(series: Series) -> str:
    def draw(ax: Axes) -> None:
        ax.step(series.times, series.values, where="post", color=INK, lw=1.0)
        ax.set_ylabel(series.name)
        ax.set_xlabel("date" if series.by_date else "time since the start [day]")

    return page(series, (), draw)
