"""Tables of a project file that say what is known of the site: materials, features, time, edits."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from inkhorn.files.parts import (
    Column,
    Concentration,
    Concentrations,
    Conductance,
    Conductivity,
    Density,
    FlowChanging,
    Leakance,
    Length,
    LengthAlong,
    Number,
    NumberChanging,
    Part,
    PerLength,
    RateChanging,
    RechargeRate,
    SeriesPart,
    ShapeFile,
    Time,
)
from inkhorn.files.parts_space import SurfacePart

__all__ = [
    "BarrierPart",
    "BoresPart",
    "CollectorPart",
    "DrainPart",
    "EditPart",
    "EvapotranspirationPart",
    "FeaturePart",
    "FixedHeadPart",
    "HeadDependentPart",
    "MaterialPart",
    "RechargePart",
    "RiverPart",
    "SeepagePart",
    "SpeciesPart",
    "SpringPart",
    "TimePart",
    "WellsPart",
]


class MaterialPart(Part):
    """What a layer is made of; what is asked decides what it needs."""

    conductivity: Conductivity | None = None
    vertical_ratio: Number = 1.0
    vertical_conductivity: Conductivity | None = None
    anisotropy: Number = 1.0
    direction: Number = 0.0
    porosity: Number | None = None
    specific_storage: PerLength | None = None
    specific_yield: Number | None = None
    bulk_density: Density | None = None
    transmissivity: Conductance | None = None
    storativity: Number | None = None
    leakance: Leakance | None = None


class FeaturePart(ShapeFile):
    """A feature for each shape of a file; its name is given, or stands in a column."""

    name: str | Column


class FixedHeadPart(FeaturePart):
    """Water held at a given level."""

    head: LengthAlong
    every_layer: bool = False
    layers: list[str] = Field(default_factory=list)


class HeadDependentPart(FeaturePart):
    """Water at a distance, behind a conductance or behind ground of some conductivity."""

    head: LengthAlong
    conductance: Number | None = None
    conductivity: Conductivity | None = None
    distance: Length | None = None
    layers: list[str] = Field(default_factory=list)


class RiverPart(FeaturePart):
    """A line of water that gives to and takes from the aquifer through its bed.

    Its conductance per metre is given, or follows from width, thickness and conductivity of the bed.
    """

    stage: LengthAlong
    bed: LengthAlong
    width: Length | None = None
    bed_thickness: Length | None = None
    bed_conductivity: Conductivity | None = None
    conductance: Conductivity | None = None
    layer: str | None = None


class DrainPart(FeaturePart):
    """Lines or polygons that take water out; conductance per metre of line or per square metre."""

    level: LengthAlong
    conductance: Conductivity
    layer: str | None = None


class SpringPart(FeaturePart):
    """Points where water leaves."""

    level: LengthAlong
    conductance: Conductance
    layer: str | None = None


class SeepagePart(FeaturePart):
    """Ground through which water leaves where the water table reaches it; conductance per square metre."""

    conductance: Leakance | None = None


class RechargePart(FeaturePart):
    """Rain less what plants drink and what runs off."""

    rate: RechargeRate
    concentration: Concentrations = Field(default_factory=dict)


class EvapotranspirationPart(FeaturePart):
    """What plants draw from the water table, the less the deeper it lies."""

    rate: RateChanging
    depth: Length
    below_ground: Length = 0.0


class BarrierPart(FeaturePart):
    """Lines that water crosses with difficulty."""

    conductivity: Conductivity | None = None
    thickness: Length | None = None
    leakance: Leakance | None = None
    layers: list[str] = Field(default_factory=list)


class CollectorPart(FeaturePart):
    """Lying screens with one water level; abstraction and injection both count upwards from 0."""

    elevation: Length
    abstraction: FlowChanging = 0.0
    injection: FlowChanging = 0.0
    radius: Length = 0.15
    skin: Number = 0.0
    lowest_level: Length | None = None
    concentration: Concentrations = Field(default_factory=dict)


class WellsPart(Part):
    """A table with name, x, y, screen_top, screen_bottom, and abstraction or injection.

    Rates in time stand in another table, `rates`, with name, date (or day), and abstraction or injection.
    Further columns of the first: radius, skin, lowest_level, losses. Screens may stand as depths below the
    ground instead: screen_top_depth and screen_bottom_depth.
    """

    file: str
    sheet: str | None = None
    local: bool = False
    rates: str | None = None
    rates_sheet: str | None = None


class BoresPart(Part):
    """A table with name, x, y, layer; and one of levels with name, date, level.

    Levels may stand as depths below a measuring point instead: a column measuring_point in the first table,
    and depth in the second.
    """

    file: str
    sheet: str | None = None
    local: bool = False
    levels: str
    levels_sheet: str | None = None


class SpeciesPart(Part):
    name: str
    unit: str = "mg/l"
    start: Concentration = 0.0
    limit: Concentration | None = None


def _date(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.replace(tzinfo=None).isoformat()
    if isinstance(value, date):
        return value.isoformat()
    return value


Date = Annotated[
    str,
    BeforeValidator(_date),
    WithJsonSchema({"type": "string", "description": "a date, as in 2021-05-31"}),
]


class TimePart(Part):
    """When the run starts and ends, its periods and steps.

    Periods end where any value in time changes; and besides every day, week, month or year, or where the
    table `periods` says (columns end or date; steps, growth and steady if wanted). The run begins from a
    steady solution, or from `first_heads` (a surface), or from where the run in the folder `first_run` ended.

    Steps are of the first `order` (Euler's method), or of the second. With `head_error` those of the schedule
    are taken in as many shorter ones as it takes for each to err by less in every head. `results` keeps every
    step, one record a period, or one up to each of some times after the start. Records with all flows go to
    `flow.nc` as they are made, unless `keep_flows` is false: then they are held in memory, and only heads are
    written.
    """

    start: Date | None = None
    end: Date | None = None
    duration: Time | None = None
    every: Literal["day", "week", "month", "year"] | None = None
    periods: str | None = None
    sheet: str | None = None
    at_changes: bool = True
    steps: int = Field(default=1, ge=1)
    growth: Number = 1.0
    steady_first: bool = True
    first_heads: SurfacePart | None = None
    first_run: str | None = None
    warm_up_years: int = Field(default=0, ge=0, le=100)
    order: Literal[1, 2] = 1
    head_error: Length | None = None
    results: Literal["steps", "periods"] | list[Time] = "steps"
    keep_flows: bool = True

    @model_validator(mode="after")
    def _ends(self) -> TimePart:
        given = [k for k in ("end", "duration", "periods") if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(
                f"expected one of `end`, `duration` and `periods`, which say when it ends; got {given or 'none'}"
            )
        if self.start is None and (self.end is not None or self.every is not None):
            raise ValueError("an `end` or calendar periods (`every`) need a `start` date")
        begun = self.first_heads is not None or self.first_run is not None
        if not (self.steady_first or begun or self.periods is not None):
            raise ValueError(
                "without a steady first period, `first_heads` (a surface) or `first_run` (a run folder) say where heads "
                "begin"
            )
        return self


class EditPart(Part):
    """A value changed where it was placed: a property of cells, a value of a kind of features, an elevation.

    ``of = "horizontal_conductivity"``, ``of = "river.stage"``, ``of = "base"`` (the bottom of cells, with which the
    top of what lies beneath moves) or ``of = "ground"`` (the top of the uppermost cells); and one of `value`,
    `factor` (a number, or a series), `add`, `surface` (one for each place), `series`, or a column of the polygons
    it is made within.
    """

    of: str
    value: Any = None
    factor: NumberChanging | None = None
    add: Any = None
    surface: SurfacePart | None = None
    series: SeriesPart | None = None
    within: ShapeFile | None = None
    column: str | None = None
    unit: str | None = None
    at: list[tuple[Length, Length]] = Field(default_factory=list)
    layers: list[str] = Field(default_factory=list)
    feature: str | None = None
    reason: str = ""

    @model_validator(mode="after")
    def _one(self) -> EditPart:
        ways = ("value", "factor", "add", "surface", "series", "column")
        given = [k for k in ways if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(f"an edit is one change; got {given or 'none'}. Give one of {list(ways)}")
        if self.column is not None and self.within is None:
            raise ValueError(
                "a `column` is one of the polygons that the edit is made `within`; name their file"
            )
        if self.within is not None and self.at:
            raise ValueError("an edit is made `within` polygons or `at` points, not both")
        return self
