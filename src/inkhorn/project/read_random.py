"""Random fields as a project file describes them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from inkhorn.errors import InputError, naming
from inkhorn.fields import MeasuredPoints, RandomField
from inkhorn.project.parts_random import MeasuredPointsPart, RandomPart
from inkhorn.project.read_strata import StrataReader
from inkhorn.project.source import Source
from inkhorn.space import Variogram
from inkhorn.units import quantity

__all__ = ["RandomReader"]

_OF_POINTS = ["name", "x", "y", "layer", "deviation"]


class RandomReader:
    """Makes random fields."""

    def __init__(self, source: Source, strata: StrataReader) -> None:
        self.source, self.strata = source, strata

    def field(
        self, part: RandomPart, kind: str, own: str, *key: Any, layers: Sequence[str] = ()
    ) -> RandomField:
        """Make a field.

        Parameters
        ----------
        part : RandomPart
        kind : str
            Dimension of its mean: of factors "number".
        own : str
            Dimension of what is varied, which is that of the points measured.
        key
            Where it stands in the file.
        layers : sequence of str
            That it is of; points of others in the same table are left out.
        """
        by = self.source.by(*key)
        spread = (
            float(part.variance) ** 0.5
            if part.variance is not None
            else self._quantity(
                part.deviation, "number" if part.logarithmic else _apart(kind), by, "deviation"
            )
        )
        mean: Any = None if part.mean is None else self._quantity(part.mean, kind, by, "mean")
        if part.trend is not None:
            mean = self.strata.surface(part.trend, *key, "trend", kind=kind)
        with naming(by):
            return RandomField(
                variogram=Variogram.of_lengths(
                    part.kind, spread**2, length=part.length, across=part.across, vertical=part.vertical,
                    direction=part.direction, nugget=part.nugget, smoothness=part.smoothness,
                ),
                mean=mean, logarithmic=part.logarithmic, support=part.support, apart_by=part.apart_by,
                heights=part.heights, method=part.method, waves=part.waves, seed=part.seed,
                measured=None if part.measured is None else self._measured(part.measured, own, layers, *key, "measured"),
            )  # fmt: skip

    def _measured(
        self, part: MeasuredPointsPart, kind: str, layers: Sequence[str], *key: Any
    ) -> MeasuredPoints:
        by = self.source.by(*key)
        table = self.source.points(part.file, *key, "file", sheet=part.sheet)
        (table,) = self.source.as_expected(part.columns, _OF_POINTS, table, key=key)
        if not part.layer and not table.has("layer"):
            raise InputError(f"{by}: in which layer? Give `layer`, or a column of that name.")
        x, y = self.source.on_map(table, part.local, *key)
        values = table.numbers(part.column, kind)
        n = len(values)
        of = [part.layer] * n if part.layer else [name.strip() for name in table.text("layer")]
        spread = np.full(n, float(part.deviation))
        if table.has("deviation"):
            spread = table.numbers("deviation", "number", default=part.deviation)
        names = table.text("name") if table.has("name") else [table.row(k) for k in range(n)]
        kept = [k for k in range(n) if not layers or of[k] in layers]
        if not kept:
            raise InputError(
                f"{by}: none of the {n} points of {part.file} is in {', '.join(layers)}; they are in "
                f"{', '.join(dict.fromkeys(of))}. Leave out `measured`, or name their layer."
            )
        with naming(by):
            return MeasuredPoints(
                x[kept], y[kept], values[kept], [of[k] for k in kept], spread[kept], [names[k] for k in kept]
            )

    def _quantity(self, value: Any, kind: str, by: str, what: str) -> float:
        try:
            return float(quantity(value, kind, units=self.source.units, what=what))
        except InputError as problem:
            raise InputError(f"{by}: {problem}") from None


def _apart(kind: str) -> str:
    """The dimension of differences."""
    return "length" if kind == "elevation" else kind
