"""Tables of a project file that say what differs from run to run, and what is watched of many runs."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import model_validator

from inkhorn.project.parts import Length, Number, Part, Range, Time, Whole, positive, told
from inkhorn.project.parts_asked import DateOrDay
from inkhorn.project.parts_fit import ChangedPart, OfOnePlacePart
from inkhorn.project.parts_random import LogNormalPart, NormalPart, RandomPart, TriangularPart, UniformPart

__all__ = [
    "SettlePart",
    "VariedFieldPart",
    "VariedFitPart",
    "VariedNumberPart",
    "VaryPart",
    "WatchMapPart",
    "WatchPart",
]


class VariedFieldPart(ChangedPart):
    """A random field, another one in each run; told as in [[edit]]: of what, where, and what is done with it."""

    random: RandomPart = told("the field", {"variance": 0.8, "length": "250 m"})


class VariedNumberPart(ChangedPart):
    """A number with a distribution, another one in each run: one of `normal`, `log_normal`, `uniform`, `triangular`."""

    normal: NormalPart | None = told("its distribution", {"mean": 1.0, "deviation": 0.1}, default=None)
    log_normal: LogNormalPart | None = told(
        "or this one", {"median": "12 m/day", "deviation": 0.6}, default=None
    )
    uniform: UniformPart | None = told("or this one", {"lower": 0.15, "upper": 0.3}, default=None)
    triangular: TriangularPart | None = told(
        "or this one", {"lower": 0.7, "mode": 1.0, "upper": 1.4}, default=None
    )
    ways: ClassVar[tuple[str, ...]] = ("normal", "log_normal", "uniform", "triangular")

    @model_validator(mode="after")
    def _one(self) -> VariedNumberPart:
        given = [k for k in self.ways if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(f"has one distribution; got {given or 'none'}. Give one of {list(self.ways)}")
        return self


class VariedFitPart(Part):
    """The parameters of a fit as it left them, with their covariance."""

    run: str = told("the folder of the fit", "runs/fit-1")
    name: str = told("what it is called", "the fit", default="the fit")


class WatchPart(OfOnePlacePart):
    """Something that is read of every run: one of the ways to say of what.

    Concentrations and paths are those of the tables [transport] and [paths], which each run goes through as far as they
    are watched.
    """

    level_in: str | None = told("the level in this bore, well or collector", "hatchery", default=None)
    level_at: tuple[Length, Length] | None = told(
        "the head at a place in a `layer`", [3700, 2900], default=None
    )
    value_at: tuple[Length, Length] | None = told(
        "another `value` at a place in a `layer`", [3700, 2900], default=None
    )
    value: str = told(
        'which: an input, "Darcy flux" or "pore velocity" (with " along x" a component), "filled share"; "ln " before it '
        "for its natural logarithm",
        "ln horizontal_conductivity",
        default="",
    )
    concentration_at: tuple[Length, Length] | None = told(
        "the concentration at a place in a `layer`", [3700, 2900], default=None
    )
    concentration_in: str | None = told("that in a bore, or in the water of a well", "hatchery", default=None)
    highest_in: str | None = told("the highest of that in all time", "hatchery", default=None)
    passed_in: str | None = told("when that first passes the limit", "hatchery", default=None)
    mass_across: str | None = told("the mass carried across a line of [[across]]", "inlet", default=None)
    above_limit: Literal["area", "ground", "water", "mass", "reach", "highest"] | None = told(
        "of what lies above the limit", "area", default=None
    )
    travel_time_of: str | None = told(
        "the travel time of a `share` of the water of a well or another start", "hatchery", default=None
    )
    share: Number = told("which share", 0.1, default=0.5, within=Range("number", 1e-6, 1.0 - 1e-6))
    layer: str = told("of a place: in this layer", "gravel", default="")
    species: str = told("which, of several", "chloride", default="")
    paths: str = told("which table of [[paths]], of several", "capture", default="")
    limit: Any = told(
        "of concentrations, if not that of the species; of others a number that is passed or not",
        "200 mg/l",
        default=None,
    )
    times: list[DateOrDay] = told(
        "dates or days since the start; the end if not given", [3650, 7300], default_factory=list
    )
    every: Time | None = told("or so often", "1 year", default=None, within=positive("time"))
    ways: ClassVar[tuple[str, ...]] = (
        *OfOnePlacePart.ways, "level_at", "value_at", "concentration_at", "concentration_in", "highest_in", "passed_in",
        "mass_across", "above_limit", "travel_time_of",
    )  # fmt: skip

    @model_validator(mode="after")
    def _either(self) -> WatchPart:
        if self.every is not None and self.times:
            raise ValueError("give either `times` or `every`")
        return self


class WatchMapPart(Part):
    """A map of which mean, spread, quantiles and the chance of passing a limit are kept."""

    name: str = told("what it is called", "chloride after 30 years")
    of: str = told(
        '"head", "concentration", or what [[vary.watch]] takes as `value`; "capture" is where followed paths pass',
        "concentration",
        default="head",
    )
    layer: str = told("in which layer; the greatest of all if not given", "gravel", default="")
    time: DateOrDay | None = told(
        "a date, or days since the start; the end if not given", 10950, default=None
    )
    species: str = told("which, of several", "chloride", default="")
    paths: str = told("which table of [[paths]], of several", "capture", default="")
    limit: Any = told(
        "whose passing is told; of concentrations that of the species", "200 mg/l", default=None
    )
    within: Time | None = told(
        "of captured water: within this time", "25 years", default=None, within=positive("time")
    )
    start: list[str] = told("of paths from these starts only", ["hatchery"], default_factory=list)


class SettlePart(Part):
    """When there are runs enough."""

    watch: str = told("what is to settle", "chloride at the hatchery")
    error: Any = told("the standard error that is enough", "5 mg/l")
    statistic: str = told(
        'of which statistic: "mean", "deviation", "median", "mode", "skewness", or as in "quantile 95 %"',
        "median",
        default="mean",
    )
    least: Whole = told("runs at the least", 100, default=50, within=Range("number", 2))


class VaryPart(Part):
    """Many runs with inputs drawn by chance: what differs, how many runs, and what is watched.

    Each run solves the flow, steady or in time as the project does, and what of [transport] and [paths] is watched.
    """

    name: str = told("what it is called, of several", "with the fitted levels", default="")
    runs: Whole = told(
        "how many; the most where something is to settle", 500, default=100, within=Range("number", 1, 1e7)
    )
    seed: Whole = told(
        "of all that is drawn: the same seed makes the same runs",
        7,
        default=0,
        within=Range("number", 0, 2**31),
    )
    sampling: Literal["latin hypercube", "sobol", "random"] = told(
        "how numbers with a distribution are drawn", "sobol", default="latin hypercube"
    )
    field: list[VariedFieldPart] = told("random fields", default_factory=list)
    number: list[VariedNumberPart] = told("numbers with a distribution", default_factory=list)
    fit: list[VariedFitPart] = told(
        "the parameters of a fit; what else is varied acts on what they left", default_factory=list
    )
    fit_levels: bool = told(
        "whether each run is fitted to what was measured, by changing what was drawn as little as need be",
        True,
        default=False,
    )
    watch: list[WatchPart] = told("what is read of every run", default_factory=list)
    map: list[WatchMapPart] = told("maps", default_factory=list)
    settle: SettlePart | None = told("when there are runs enough", default=None)

    @model_validator(mode="after")
    def _something(self) -> VaryPart:
        if not (self.field or self.number or self.fit):
            raise ValueError("varies nothing; give [[vary.field]], [[vary.number]] or [[vary.fit]]")
        if not (self.watch or self.map):
            raise ValueError("watches nothing; give [[vary.watch]] or [[vary.map]]")
        return self
