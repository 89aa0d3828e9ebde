"""Tables of a project file that say what is asked of a site: budgets, paths, transport, a fit, pictures, how to solve."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, PlainValidator, WithJsonSchema, model_validator

from inkhorn.dates import one_date
from inkhorn.project.parts import (
    ByGroundDiffusion,
    ByGroundLength,
    ByGroundNumber,
    Length,
    Number,
    Part,
    Range,
    ShapeFile,
    Time,
    Whole,
    nonnegative,
    positive,
    told,
)

__all__ = [
    "DateOrDay",
    "DateText",
    "DrawPart",
    "LinePart",
    "OneOrMore",
    "PathsPart",
    "RegionPart",
    "SolverPart",
    "TransportPart",
]


def _listed(given: Any) -> Any:
    """A single table stands for a list of one."""
    return [given] if isinstance(given, dict) else given


OneOrMore = BeforeValidator(_listed)


def _date_or_day(value: Any) -> Any:
    """Text of a date, or a number of days."""
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        if value != value or abs(value) == float("inf"):
            raise ValueError(f"is {value}; expected a date, or days since the start of the run")
        return float(value)
    return str(one_date(value, "release"))


DateOrDay = Annotated[
    Any, PlainValidator(_date_or_day), WithJsonSchema({"anyOf": [{"type": "number"}, {"type": "string"}]})
]


DateText = Annotated[
    str, BeforeValidator(lambda value: str(one_date(value, "start"))), WithJsonSchema({"type": "string"})
]


def _at_least_one(value: float) -> float:
    if value < 1.0:
        raise ValueError(f"is {value:g}; expected 1, of what moves as water does, or more")
    return value


Retardation = Annotated[Number, AfterValidator(_at_least_one)]


class SolverPart(Part):
    """How closely flow is solved."""

    closure: Number = told(
        "where to stop: the sum of absolute residuals of all cells over the turnover",
        1e-10,
        default=1e-8,
        within=positive("number", 0.1, (1e-14, 1e-4)),
    )
    max_iterations: Whole = told(
        "Newton steps after which to give up", 400, default=200, within=Range("number", 1, 1e6)
    )


class RegionPart(Part):
    """A region whose water budget is wanted: cells with their centre in polygons, of some layers or materials.

    What is not given does not matter; regions must not overlap, and what lies in none is the region "elsewhere".
    """

    name: str = told("what it is called", "valley")
    within: ShapeFile | None = told("polygons", {"file": "site.gpkg", "table": "valley"}, default=None)
    layers: list[str] = told("of these layers", ["sand"], default_factory=list)
    materials: list[str] = told("of these materials", ["sand"], default_factory=list)

    @model_validator(mode="after")
    def _some(self) -> RegionPart:
        if self.within is None and not self.layers and not self.materials:
            raise ValueError("say which cells it holds: `within` polygons, of `layers` or of `materials`")
        return self


class LinePart(Part):
    """A line in plan across which flow is wanted, layer by layer."""

    name: str = told("what it is called", "valley mouth")
    line: list[tuple[Length, Length]] | None = told(
        "x and y of its corners", [[0, 400], [900, 400]], default=None, min_length=2
    )
    file: str | None = told("or a file of one line", "lines.geojson", default=None)
    table: str | None = told("which table of a GeoPackage", "lines", default=None)

    @model_validator(mode="after")
    def _one(self) -> LinePart:
        if (self.line is None) == (self.file is None):
            raise ValueError("give either `line` (its corners) or `file` (of one line)")
        return self


class PathsPart(Part):
    """Particle paths: from or to wells, from polygons, or from wherever water enters.

    Of paths followed backward a table of ages is made, and of all what share of the water came from where, or went where.
    """

    name: str = told("what they are called, of several", "capture", default="")
    wells: list[str] = told("from or to which wells", ["hatchery"], default_factory=list)
    bores: list[str] = told(
        "or from which bores, for the age of the water there", ["Q01"], default_factory=list
    )
    conduits: list[str] = told(
        "or from springs of conduits; forward from sinkholes and quick recharge",
        ["Averlow spring"],
        default_factory=list,
    )
    within: ShapeFile | None = told("or from polygons", {"file": "site.gpkg", "table": "depot"}, default=None)
    layers: list[str] = told(
        "in these layers of the polygons; all if not given", ["sand"], default_factory=list
    )
    from_all_inflow: bool = told(
        "or from wherever water enters (backward: leaves), by how much does", True, default=False
    )
    count: Whole = told(
        "particles of polygons or of all inflow", 2000, default=1000, within=Range("number", 1)
    )
    direction: Literal["backward", "forward"] = told(
        "against the flow, or with it", "forward", default="backward"
    )
    max_time: Time = told(
        "travel time at which paths end",
        "100 years",
        default=200 * 365.25,
        within=positive("time", usual=(1.0, 4e7)),
    )
    mark: Time = told("between marks along paths", "5 years", default=3652.5, within=nonnegative("time"))
    per_well: Whole = told(
        "particles at each well, bore or feature of conduits", 48, default=24, within=Range("number", 1)
    )
    release: list[DateOrDay] = told(
        "in a run through time, dates or days since its start at which particles begin; the end of the run if not given "
        "(forward: its start)",
        ["2024-02-01", "2024-08-01"],
        default_factory=list,
    )
    partly_taken: Literal["chance", "pass", "end"] = told(
        "in cells that give up a part of their water inside, as to a drain under rain: end by chance of the share taken, "
        "pass, or end",
        "pass",
        default="chance",
    )
    through_bores: bool = told(
        "go on where a bore gives water to other layers, by its share; else paths end in bores",
        True,
        default=False,
    )
    stop_in_regions: list[str] = told(
        "paths end in the cells of these tables [[region]]", ["valley"], default_factory=list
    )
    moisture: Number = told(
        "share of the volume that water fills as it falls above the water table; 0: it falls at once",
        0.1,
        default=0.0,
        within=Range("number", 0, 1),
    )
    retardation: dict[str, Retardation] = told(
        "how much slower than water a species moves, by material; 1 where not given",
        {"sand": 1.5},
        default_factory=dict,
    )
    zones: list[Time] = told(
        "times of which the zones around wells are wanted, as polygons",
        ["50 days", "10 years"],
        default_factory=list,
    )

    @model_validator(mode="after")
    def _some_start(self) -> PathsPart:
        named = bool(self.wells) + bool(self.bores) + bool(self.conduits)
        if named + (self.within is not None) + self.from_all_inflow != 1:
            raise ValueError(
                "say where paths begin, by one of `wells`, `bores`, `conduits`, `within` polygons and `from_all_inflow`"
            )
        if self.zones and not ((self.wells or self.conduits) and self.direction == "backward"):
            raise ValueError("zones are of wells or springs of conduits, of paths that are followed backward")
        return self


class ImmobilePart(Part):
    """Water in pores that it does not flow through."""

    porosity: ByGroundNumber = told("share of the volume beside the effective porosity; by material too", 0.1)
    exchange: ByGroundNumber = told(
        "what passes between both in a day, per volume and difference of concentration, in 1/day", 0.002
    )


class TransportPart(Part):
    """Dissolved species carried along, through time where the flow is."""

    name: str = told("what the plume is called, of several", "with barrier", default="")
    species: str | list[str] = told(
        "which of [[species]]; several are carried together, and may decay", "chloride"
    )
    duration: Time | None = told(
        "how long; as long as a run through time if not given",
        "60 years",
        default=None,
        within=positive("time", usual=(0.01, 4e7)),
    )
    outputs: Whole = told("times that are kept", 24, default=20, within=Range("number", 1))
    times: list[Time] = told("days that are kept instead", [365, 3650], default_factory=list)
    repeated: bool = told(
        "whether a flow that ends before is gone through again and again", True, default=False
    )
    start: DateText | None = told(
        "of day 0, for concentrations by date on steady flow", "2011-04-01", default=None
    )
    method: Literal["sharp", "upstream"] = told(
        "sharp keeps fronts; upstream takes the steps it is given and spreads them", "sharp", default="sharp"
    )
    step_length: Time | None = told(
        "the longest step; chosen if not given, but by the method upstream",
        "0.5 years",
        default=None,
        within=positive("time"),
    )
    dispersivity: ByGroundLength = told(
        "along the flow; by material too", "20 m", default=0.0, within=nonnegative("length", 1e6, (1e-4, 1e3))
    )
    transverse_dispersivity: ByGroundLength = told(
        "sideways", "2 m", default=0.0, within=nonnegative("length", 1e6, (1e-5, 200.0))
    )
    vertical_dispersivity: ByGroundLength = told(
        "up and down", "0.2 m", default=0.0, within=nonnegative("length", 1e6, (1e-6, 20.0))
    )
    diffusion: ByGroundDiffusion = told(
        "in the water of the pores",
        "1e-9 m²/s",
        default=0.0,
        within=nonnegative("diffusion", usual=(1e-7, 1e-3)),
    )
    immobile: ImmobilePart | None = told("water in pores that it does not flow through", default=None)
    only_in_regions: list[str] = told(
        "regions that take part, by name; from elsewhere water comes with the background; all of the grid if not given",
        ["valley"],
        default_factory=list,
    )
    across: list[str] = told(
        "lines of [[across]] at which the mass that passes is told", ["inlet"], default_factory=list
    )
    watch: list[str] = told(
        "wells, other features that take water, and bores whose concentration is drawn and told",
        ["hatchery"],
        default_factory=list,
    )

    @property
    def of(self) -> list[str]:
        """The species."""
        return [self.species] if isinstance(self.species, str) else list(self.species)

    @model_validator(mode="after")
    def _steps_given(self) -> TransportPart:
        if self.method == "upstream" and self.step_length is None:
            raise ValueError("the method upstream takes the steps it is given; give step_length")
        return self


class DrawPart(Part):
    """Where sections are cut, and a picture to lay under maps."""

    section: list[tuple[Length, Length]] | None = told(
        "x and y of the corners of a line", [[5050, 4050], [1300, 1300]], default=None, min_length=2
    )
    exaggeration: Number | None = told(
        "of heights in sections", 25, default=None, within=positive("number", 1e6)
    )
    picture: str | None = told("a georeferenced picture to lay under maps", "photo.png", default=None)
