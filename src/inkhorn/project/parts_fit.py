"""Tables of a project file that say what was measured beside levels in bores, and what a fit may change."""

from __future__ import annotations

from typing import Any, ClassVar, Literal, Self

from pydantic import model_validator

from inkhorn.project.parts import Length, Number, Part, Range, ShapeFile, Whole, nonnegative, positive, told
from inkhorn.project.parts_asked import DateOrDay, DateText
from inkhorn.project.parts_space import VariogramPart

__all__ = [
    "ChangedPart",
    "FitPart",
    "ForecastPart",
    "MeasuredPart",
    "OfOnePlacePart",
    "ParameterPart",
    "PilotPart",
    "WeightPart",
]


class OfOnePlacePart(Part):
    """What measurements and forecasts are of."""

    name: str = told("what it is called", "gauge below the lake")
    level_in: str | None = told("the water level in this well or collector", "hatchery", default=None)
    drawdown_in: str | None = told("how far the level in this bore has fallen", "Q05", default=None)
    since: DateOrDay | None = told(
        "since when it has: a date, or days since the start", "2023-05-02", default=None
    )
    between: tuple[str, str] | None = told(
        "the level in the first of two bores less that in the second", ["Q01", "Q02"], default=None
    )
    gain_of: list[str] = told(
        "water that these features together take from the aquifer", ["outflow brook"], default_factory=list
    )
    within: ShapeFile | None = told(
        "of these features only what lies within polygons", {"file": "reach.gpkg"}, default=None
    )
    across: str | None = told(
        "the flow to the left of a line of [[across]], less that to the right", "inlet", default=None
    )
    layers: list[str] = told("of features or of a line in these layers only", ["sand"], default_factory=list)
    ways: ClassVar[tuple[str, ...]] = ("level_in", "drawdown_in", "between", "gain_of", "across")

    @model_validator(mode="after")
    def _of_one(self) -> Self:
        given = [k for k in self.ways if getattr(self, k) not in (None, [])]
        if len(given) != 1:
            raise ValueError(f"is of one thing; got {given or 'none'}. Give one of {list(self.ways)}")
        if (self.drawdown_in is None) != (self.since is None):
            raise ValueError("a drawdown is one `since` some time, and nothing else is. Give both, or none")
        return self


class MeasuredPart(OfOnePlacePart):
    """Something measured that is no level in a bore: one of `level_in`, `drawdown_in`, `between`, `gain_of`, `across`.

    Its numbers stand in a file with the columns date (or time, in days since the start of the run, of a drawdown since
    `since`), value, and perhaps deviation; or one alone as `value`.
    """

    value: Any = told("the number, of one alone", "1900 m3/day", default=None)
    date: DateText | None = told("when it was measured", "2023-05-02", default=None)
    file: str | None = told("or a table of numbers: CSV, text or XLSX", "gauge.csv", default=None)
    sheet: str | None = told("which sheet of an XLSX file", "gauge", default=None)
    deviation: Any = told("standard deviation of numbers that state none", "200 m3/day", default=None)
    group: str = told("with which others it is weighed", "gauges", default="")

    @model_validator(mode="after")
    def _one_or_several(self) -> Self:
        if (self.value is None) == (self.file is None):
            raise ValueError("give either `value` (one number) or `file` (a table of them)")
        return self


class ForecastPart(OfOnePlacePart):
    """A number to be forecast, or that might be measured: one of `level_at`, `level_in`, `drawdown_in`, `between`,
    `gain_of`, `across`.
    """

    level_at: tuple[Length, Length] | None = told("the level at a place", [3700, 2900], default=None)
    layer: str | None = told("of the level at a place: in this layer", "sand", default=None)
    date: DateText | None = told(
        "when, in a run through time; its end if not given", "2026-05-02", default=None
    )
    deviation: Any = told("standard deviation that it would be measured with", "2 cm", default=None)
    ways: ClassVar[tuple[str, ...]] = ("level_at", *OfOnePlacePart.ways)

    @model_validator(mode="after")
    def _in_a_layer(self) -> Self:
        if (self.level_at is None) != (self.layer is None):
            raise ValueError("the level at a place is that in a layer. Give `level_at` and `layer` together")
        return self


class PilotPart(Part):
    """Pilot points: places whose values are fitted, and from which those of all cells are kriged.

    Spread at a `spacing`; or those of a `file` with the columns x, y and perhaps name, value and held (yes or no); or
    one alone if neither is given.
    """

    spacing: Length | None = told(
        "between points spread evenly", "600 m", default=None, within=positive("length", usual=(1.0, 1e5))
    )
    file: str | None = told(
        "or points of a table, or of a GeoPackage, GeoJSON or Shapefile", "points.csv", default=None
    )
    sheet: str | None = told("which sheet of an XLSX file, or table of a GeoPackage", "points", default=None)
    local: bool = told("whether x and y are local coordinates", True, default=False)
    variogram: VariogramPart | None = told(
        "by which values are kriged; exponential over three spacings if not given",
        {"range": "1500 m"},
        default=None,
    )
    logarithms: bool | None = told(
        "whether logarithms are kriged; where they are fitted if not said", True, default=None
    )
    neighbours: Whole = told("points looked at for each cell", 12, default=16, within=Range("number", 1, 1e5))
    least: Whole = told("how many of them a cell needs", 2, default=1, within=Range("number", 1, 1e5))
    reach: Length | None = told("how far a cell looks", "2 km", default=None, within=positive("length"))
    too_few: Literal["nearest", "mean"] = told(
        "what it takes where there are fewer: the nearest all the same, or the mean of all",
        "mean",
        default="nearest",
    )

    @model_validator(mode="after")
    def _one(self) -> PilotPart:
        if self.spacing is not None and self.file is not None:
            raise ValueError("give either a `spacing` or a `file` of points")
        return self


class ChangedPart(Part):
    """Something that is changed, told as in [[edit]]: of what, where, and what is done with the value."""

    name: str = told("that people can read", "conductivity of sand")
    of: str = told(
        'what is changed, as of [[edit]]; "conductivity" is both, their ratio kept', "conductivity"
    )
    how: Literal["set", "factor", "add"] = told("what is done with the number", "set", default="factor")
    layers: list[str] = told("in which layers; every one if not given", ["sand"], default_factory=list)
    zone: tuple[str, str] | None = told(
        'a division ("material", "layer" or one of [zones]) and one of its zones',
        ["land_use", "heath"],
        default=None,
    )
    feature: str | None = told("of this feature only", "outflow brook", default=None)
    within: ShapeFile | None = told(
        "cells with their centre in polygons", {"file": "site.gpkg", "table": "valley"}, default=None
    )


class ParameterPart(ChangedPart):
    """Something that a fit may change, told as in [[edit]]: of what, where, and what is done with the number."""

    start: Any = told("where it starts; as the project has it if not given", "10 m/day", default=None)
    lower: Any = told("the least it may be", "1 m/day", default=None)
    upper: Any = told("the most it may be", "100 m/day", default=None)
    logarithmic: bool | None = told(
        "whether its logarithm is fitted; of all but levels, angles and what is added if not said",
        False,
        default=None,
    )
    held: bool = told("whether it stays at its start", True, default=False)
    follows: str | None = told(
        "another parameter that it is so many times of", "conductivity of gravel", default=None
    )
    multiple: Number = told("how many times", 0.1, default=1.0)
    expected: Any = told("what is expected beforehand; the start if not given", "12 m/day", default=None)
    deviation: Any = told(
        "standard deviation of that: of the natural logarithm where that is fitted, else in its unit",
        0.7,
        default=None,
    )
    points: PilotPart | None = told("pilot points", {"spacing": "600 m"}, default=None)


class WeightPart(Part):
    """How much readings weigh: those that meet all that is said. Later tables act on what earlier ones left."""

    names: list[str] = told("of these bores and measurements", ["Q01"], default_factory=list)
    groups: list[str] = told("of these groups", ["gauges"], default_factory=list)
    layers: list[str] = told("of bores in these layers", ["peat"], default_factory=list)
    within: ShapeFile | None = told(
        "at places in polygons", {"file": "site.gpkg", "table": "valley"}, default=None
    )
    near: tuple[Length, Length] | None = told("no farther from this place", [3700, 2900], default=None)
    distance: Length | None = told("than this", "800 m", default=None, within=positive("length"))
    begin: DateText | None = told("from this date on", "2019-01-01", default=None)
    end: DateText | None = told("before this date", "2023-01-01", default=None)
    deviation: Any = told("the standard deviation that they have", "5 cm", default=None)
    factor: Number | None = told(
        "or by how much they weigh more; 0 leaves them out", 0.5, default=None, within=nonnegative("number")
    )
    reason: str = told("why", "kept to test the fit", default="")

    @model_validator(mode="after")
    def _one(self) -> WeightPart:
        if (self.deviation is None) == (self.factor is None):
            raise ValueError("give either a `deviation` or a `factor`")
        if (self.near is None) != (self.distance is None):
            raise ValueError("give `near` and `distance` together")
        return self


class FitPart(Part):
    """What a fit may change, what it goes by, and what holds it where readings say little."""

    name: str = told("what the fit is called, of several", "pilot points", default="")
    conductivity_of: list[str] = told(
        "the conductivity of these layers", ["sand", "gravel"], default_factory=list
    )
    recharge: bool = told("all recharge, by one factor", True, default=False)
    widest_factor: Number = told(
        "how far conductivities may go from what is stated",
        10,
        default=30.0,
        within=Range("number", 1.0, 1e9, (1.1, 1e4), open_below=True),
    )
    recharge_factor: Number = told(
        "how far recharge may go",
        1.5,
        default=2.0,
        within=Range("number", 1.0, 1e6, (1.01, 10.0), open_below=True),
    )
    parameter: list[ParameterPart] = told("anything else", default_factory=list)
    weight: list[WeightPart] = told("how much readings weigh", default_factory=list)
    in_time: bool = told(
        "whether it goes through time, to every reading, and not by the steady first period to their means",
        True,
        default=False,
    )
    regularisation: Literal["none", "first guess", "neighbours alike"] = told(
        "what holds parameters beside the readings: nothing, the start, or at pilot points their neighbours",
        "neighbours alike",
        default="none",
    )
    strength: Number | Literal["target"] = told(
        'how much that counts; "target" lets weighted residuals reach theirs', "target", default=1.0
    )
    target: Number = told(
        "root mean square of the weighted residuals that is aimed at",
        1.0,
        default=1.0,
        within=positive("number"),
    )
    most_directions: Whole | None = told(
        "combinations of parameters that are changed at the most", 12, default=None, within=Range("number", 1)
    )
    least_share: Number = told(
        "of the greatest singular value, below which a combination is not changed", 0.01, default=0.0,
        within=Range("number", 0.0, 0.999),
    )  # fmt: skip
    max_iterations: Whole = told(
        "where to stop at the latest", 20, default=30, within=Range("number", 1, 1e4)
    )
    tolerance: Number = told(
        "stop when an iteration lowers what is minimised by less than this share", 1e-4, default=1e-3,
        within=positive("number", 0.5),
    )  # fmt: skip
