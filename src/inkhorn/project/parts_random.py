"""Tables of a project file that describe random fields and distributions of single numbers."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import model_validator

from inkhorn.project.parts import Angle, Length, Number, Part, Range, Whole, nonnegative, positive, told
from inkhorn.project.parts_space import SurfacePart

__all__ = [
    "LogNormalPart",
    "MeasuredPointsPart",
    "NormalPart",
    "RandomPart",
    "TriangularPart",
    "UniformPart",
]


class MeasuredPointsPart(Part):
    """Values measured at points, which a random field honours: a table with the columns x, y and value.

    It may have the columns name, layer and deviation (of natural logarithms where the field is one of these); points of
    layers that the field is not of are left out.
    """

    file: str = told("a table: CSV, text or XLSX", "pumping_tests.csv")
    sheet: str | None = told("which sheet of an XLSX file", "tests", default=None)
    column: str = told("the column of values", "conductivity", default="value")
    columns: dict[str, str] = told(
        "what other columns are called, where it is not as above",
        {"name": "Test", "x": "Easting"},
        default_factory=dict,
    )
    layer: str = told(
        "the layer that all are of; that of the column layer if not given", "gravel", default=""
    )
    local: bool = told("whether x and y are local coordinates", True, default=False)
    deviation: Number = told(
        "standard deviation of those that state none; 0 are exact",
        0.2,
        default=0.0,
        within=nonnegative("number"),
    )


class RandomPart(Part):
    """A random field: how alike values are nearby, and about what mean they lie.

    Correlation lengths are areas below the correlation curve: of the exponential one where it has fallen to 1/e, of the
    spherical one 3/8 of its range.
    """

    kind: Literal["exponential", "spherical", "gaussian", "matern"] = told(
        "the form of the variogram", "spherical", default="exponential"
    )
    variance: Number | None = told(
        "of the natural logarithm; or give a deviation",
        0.8,
        default=None,
        within=positive("number", 1e3, (0.01, 10.0)),
    )
    deviation: Any = told(
        "standard deviation: of the natural logarithm, else in the unit of what is varied", 0.9, default=None
    )
    length: Length = told("correlation length", "250 m", within=positive("length", usual=(0.1, 1e5)))
    across: Length | None = told(
        "that at right angles in plan; the same if not given", "80 m", default=None, within=positive("length")
    )
    vertical: Length | None = told(
        "that up and down; without it layers have nothing to do with each other",
        "2 m",
        default=None,
        within=positive("length"),
    )
    direction: Angle = told(
        "in which `length` is meant, anticlockwise from the x axis", "30 degrees", default=0.0
    )
    nugget: Number = told(
        "variance that each cell has for itself", 0.05, default=0.0, within=nonnegative("number", 1e3)
    )
    smoothness: Number = told(
        "of the kind matern; 0.5 is the exponential one", 1.5, default=1.0, within=Range("number", 0.1, 20.0)
    )
    mean: Any = told(
        "the geometric mean (of fields of logarithms), in the unit of what is varied; from the points measured if not "
        "given, and of factors 1",
        "12 m/day",
        default=None,
    )
    trend: SurfacePart | None = told(
        "or one that differs by place", {"points": "tests.csv", "z": "k"}, default=None
    )
    logarithmic: bool = told("whether it is one of natural logarithms", False, default=True)
    support: Literal["points", "averages"] = told(
        "whether cells have the value at their centre, or the mean over their area, which varies less",
        "averages",
        default="points",
    )
    apart_by: str | None = told(
        "a division into zones that have nothing to do with each other", "material", default=None
    )
    heights: Literal["beds", "centres"] = told(
        "whether heights are those of whole layers, so that fields follow beds, or of single cells",
        "centres",
        default="beds",
    )
    method: Literal["circulant", "sequential", "spectral", "cholesky"] | None = told(
        "how fields are made; by the grid if not given", "spectral", default=None
    )
    waves: Whole = told(
        "how many the spectral method adds", 2000, default=1000, within=Range("number", 10, 1e6)
    )
    measured: MeasuredPointsPart | None = told(
        "points that it honours", {"file": "pumping_tests.csv", "layer": "gravel"}, default=None
    )
    seed: Whole = told(
        "which of all fields, where one is wanted", 7, default=0, within=Range("number", 0, 2**31)
    )

    @model_validator(mode="after")
    def _one(self) -> RandomPart:
        if (self.variance is None) == (self.deviation is None):
            raise ValueError("give either a `variance` or a `deviation`")
        if self.variance is not None and not self.logarithmic:
            raise ValueError("a variance is one of logarithms here; give a `deviation` with its unit")
        if self.mean is not None and self.trend is not None:
            raise ValueError("give either a `mean` or a `trend`")
        return self


class NormalPart(Part):
    """A normal number, cut at bounds where there are any."""

    mean: Any = told("its mean", "12 m/day")
    deviation: Any = told("its standard deviation", "3 m/day")
    lower: Any = told("it is no less than this", "1 m/day", default=None)
    upper: Any = told("and no more than this", "40 m/day", default=None)


class LogNormalPart(Part):
    """A number whose natural logarithm is normal."""

    median: Any = told("half of all lie below it", "12 m/day")
    deviation: Number = told("standard deviation of the natural logarithm", 0.6, within=positive("number"))
    lower: Any = told("it is no less than this", "1 m/day", default=None)
    upper: Any = told("and no more than this", "100 m/day", default=None)


class UniformPart(Part):
    """A number that may as well be any between two."""

    lower: Any = told("the least", 0.15)
    upper: Any = told("the most", 0.3)


class TriangularPart(Part):
    """A number between two, most likely a third."""

    lower: Any = told("the least", 0.7)
    mode: Any = told("the most likely", 1.0)
    upper: Any = told("the most", 1.4)
