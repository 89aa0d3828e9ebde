"""Levels in bores beside computed heads: by date, as means, how well they are met, and drawn in time."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import pandas as pd

from inkhorn import draw
from inkhorn.calibration import curve_table, fit_table, level_table, residual_table, seen_bores
from inkhorn.figures import with_decimals
from inkhorn.files import write_table
from inkhorn.flow import BoreLevels
from inkhorn.model import Model
from inkhorn.project import Project
from inkhorn.runs.product import Picture, Product, Work

__all__ = ["LevelResult", "LevelsProduct"]


@dataclass(frozen=True, eq=False)
class LevelResult:
    """Measured and computed levels.

    Attributes
    ----------
    seen : BoreLevels
        The bores that can be compared.
    means : pandas.DataFrame
        One row per bore.
    by_date : pandas.DataFrame or None
        One row per reading; None where the run starts at no date.
    fit : pandas.DataFrame or None
        How well readings and means of bores are met.
    """

    seen: BoreLevels
    means: pd.DataFrame
    by_date: pd.DataFrame | None
    fit: pd.DataFrame | None


class LevelsProduct(Product[LevelResult]):
    """Levels, wherever there are bores."""

    table = "levels"
    what = "levels"

    def requests(self, project: Project, model: Model) -> Sequence[Any]:
        return [None] if project.site.bores else []

    def solve(self, work: Work, asked: Any) -> LevelResult:
        flow, bores = work.flow, work.project.site.bores
        (seen, _), schedule = seen_bores(flow.model, bores), flow.model.schedule
        means = residual_table(flow, seen)
        if schedule is not None and schedule.start is None:
            return LevelResult(seen, means, None, None)
        by_date = level_table(flow, seen)
        return LevelResult(seen, means, by_date, fit_table(by_date, sum(len(b.levels) for b in bores)))

    def write(self, work: Work, asked: Any, made: LevelResult) -> None:
        units = work.project.shown_in
        write_table(made.means, work.folder.file("residuals"), units)
        for table, key in ((made.by_date, "levels"), (made.fit, "levels fit")):
            if table is not None:
                write_table(table, work.folder.file(key), units)

    def read(self, work: Work, asked: Any) -> LevelResult:
        return self.solve(work, asked)  # at once, from the heads

    def draw(self, work: Work, asked: Any, made: LevelResult) -> Iterator[Picture]:
        if work.flow.model.schedule is not None and made.by_date is not None and len(made.by_date):
            levels, curve = made.by_date, curve_table(work.flow, made.seen)
            path = work.folder.file("levels picture")
            yield Picture(path, "levels in time", partial(draw.hydrographs, levels, curve))

    def tell(self, work: Work, asked: Any, made: LevelResult) -> Iterator[str]:
        if made.fit is None:
            return
        (unit, factor), (square, squared) = (work.project.shown_in.of(u) for u in ("m", "m²"))
        for over, row in made.fit.iterrows():
            out = f" ({row['left out']:.0f} left out)" if row["left out"] else ""
            yield (
                f"fit over {row['count']:.0f} {over}{out}: mean residual "
                f"{with_decimals(factor * row['mean residual [m]'], 3, sign=True)} {unit}, "
                f"RMS {with_decimals(factor * row['RMS [m]'], 3)} {unit}, scaled RMS "
                f"{row['scaled RMS [-]']:.1%}, weighted sum {squared * row['weighted sum [m²]']:.4g} {square}, "
                f"correlation {row['correlation [-]']:.3f}"
            )
        if not len(made.fit):
            yield "no level of any bore was dipped while the run goes on"
