"""What of a site counts within a smaller outline."""

from __future__ import annotations

import warnings
from dataclasses import replace
from typing import Any

import numpy as np

from inkhorn.errors import InkhornWarning
from inkhorn.site import Edit, Schedule, Site

__all__ = ["site_within"]


def site_within(site: Site, outline: Any, region: str, schedule: Schedule | None) -> Site:
    """Return a site with a smaller boundary, without the features, bores, edits and measurements that lie outside.

    Parameters
    ----------
    site : Site
    outline : shapely Polygon
    region : str
        What it is cut out of.
    schedule : Schedule, optional
    """
    import shapely

    numbered = [f.name for f in site.features if f.geometry == "cells" and len(f.shape.numbers)]
    if numbered:
        warnings.warn(
            f"{', '.join(numbered)}: told by numbers of cells, which are those of the region's grid. Left out; name "
            "layers and places, or give them a shape.",
            InkhornWarning,
            stacklevel=4,
        )
    features = [f for f in site.features if _meets(f, outline)]
    bores = [b for b in site.bores if shapely.contains_xy(outline, b.x, b.y)]
    kept = {f.name for f in features} | {b.name for b in bores}
    gone = ({f.name for f in site.features} | {b.name for b in site.bores}) - kept
    kinds = {type(f) for f in features}
    lost = {f.kind for f in site.features if type(f) not in kinds}
    measurements = [
        m for m in site.measurements
        if not gone & {m.level_in, m.drawdown_in, *(m.between or ()), *m.gain_of}
        and (m.across is None or outline.intersects(m.across))
    ]  # fmt: skip
    edits = [replace(e, may_miss=True) for e in site.edits if _acts(e, outline, gone, lost)]
    return replace(
        site, boundary=outline, features=tuple(features), bores=tuple(bores), schedule=schedule, edits=tuple(edits),
        measurements=tuple(measurements), part_of=region,
    )  # fmt: skip


def _meets(feature: Any, outline: Any) -> bool:
    """Whether a feature reaches into an outline; cells told by their numbers are of another grid."""
    import shapely

    if feature.geometry == "cells":
        return bool(
            len(feature.shape.places)
            and shapely.contains_xy(
                outline, *np.array([p[1:] for p in feature.shape.places], dtype=float).T
            ).any()
        )
    return bool(outline.intersects(feature.shape))


def _acts(edit: Edit, outline: Any, gone: set[str], lost: set[str]) -> bool:
    """Whether an edit is of anything that is left."""
    if edit.of.rpartition(".")[0] in lost or edit.feature in gone:
        return False
    return edit.shape is None or bool(outline.intersects(edit.shape))
