"""Tables of a project file that say what is known of the site: features of every kind, materials, zones, time, edits.

The table of a kind of feature, and that of materials, are made of what their declarations say.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, create_model, model_validator

from inkhorn.project.parts import (
    SHARE,
    ByGroundConcentration,
    ByGroundDiffusion,
    ByGroundNumber,
    Column,
    Concentration,
    Concentrations,
    Distribution,
    Length,
    Number,
    NumberChanging,
    Part,
    Production,
    Range,
    SeriesPart,
    ShapeFile,
    Time,
    Whole,
    declared_type,
    nonnegative,
    per_species,
    plain_number,
    positive,
    range_in_schema,
    told,
)
from inkhorn.project.parts_random import RandomPart
from inkhorn.project.parts_space import SurfacePart
from inkhorn.site import (
    Choice,
    Declared,
    Feature,
    FeatureName,
    LayerNames,
    Quantity,
    declared_fields,
    material_fields,
)
from inkhorn.site import Concentrations as ConcentrationsDeclared
from inkhorn.site import Material as MaterialDeclared

__all__ = [
    "BoresPart",
    "EditPart",
    "FeaturePart",
    "SpeciesPart",
    "TimePart",
    "WellsPart",
    "ZonesPart",
    "feature_part",
    "material_part",
]


class PlacePart(Part):
    """The cell of a layer at some place."""

    layer: str = told("its name", "sand")
    x: Length = told("coordinate on the map", 350)
    y: Length = told("coordinate on the map", 450)


class FeaturePart(Part):
    """A feature for each shape of a file; its name is given, or stands in a column.

    Or one whose corners are typed, or cells told one by one.
    """

    name: str | Column = told("what it is called, or the column of names", "brook")
    file: str | None = told("its shapes: GeoPackage, GeoJSON or Shapefile", "site.gpkg", default=None)
    table: str | None = told("which table of a GeoPackage", "brook", default=None)
    shape: list[tuple[Length, Length]] | None = told(
        "instead of a file: x and y of its place, of the corners of a line, or of a polygon from its first back to it",
        [[450, 120], [520, 300]],
        default=None,
        min_length=1,
    )
    cells: list[Whole] | None = told(
        "instead of a file: numbers of cells, which hold for one grid only", [12, 13], default=None
    )
    at: list[PlacePart] | None = told(
        "instead of a file: layers and places, whose cells are meant",
        [{"layer": "sand", "x": 350, "y": 450}],
        default=None,
    )

    @model_validator(mode="after")
    def _one_place(self) -> FeaturePart:
        given = [k for k in ("file", "shape", "cells", "at") if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(
                "expected one of `file` (shapes), `shape` (x and y of its corners), `cells` (numbers) and `at` (layers "
                f"and places), which say where it is; got {given or 'none'}"
            )
        if self.table is not None and self.file is None:
            raise ValueError("a `table` is one of a `file`; name the file")
        if self.file is None and not isinstance(self.name, str):
            raise ValueError("names stand in a column of a `file`; give this feature its name")
        return self


def _key(said: Declared, needed: bool, default: Any) -> tuple[Any, Any]:
    """Type and field of a declared key."""
    kind: Any = bool
    if isinstance(said, Quantity):
        kind = declared_type(said)
    elif isinstance(said, LayerNames):
        kind, default = (list[str], Field(default_factory=list)) if said.many else (str, default)
    elif isinstance(said, FeatureName):
        kind = str | Column
    elif isinstance(said, ConcentrationsDeclared):
        by_place = {way: SurfacePart for way in ("points", "raster", "polygons")} if said.in_space else {}
        kind, default = per_species(said.dimension, **by_place), Field(default_factory=dict)
    elif not isinstance(said, Choice):
        raise TypeError(f"{type(said).__name__} is no declaration that a project file knows")
    words: dict[str, Any] = {"description": said.words}
    if said.example is not None:
        words["examples"] = [said.example]
    if needed:
        return kind, Field(**words)
    if isinstance(said, LayerNames) and said.many:
        return kind, Field(default_factory=list, **words)
    if isinstance(said, ConcentrationsDeclared):
        return kind, Field(default_factory=dict, **words)
    return kind | None if default is None else kind, Field(default=default, **words)


def feature_part(kind: type[Feature]) -> type[FeaturePart]:
    """Return the table of a kind of feature, made of what its fields say of themselves."""
    from dataclasses import MISSING

    keys = {}
    for name, (f, said) in declared_fields(kind).items():
        needed = f.default is MISSING and f.default_factory is MISSING
        keys[name] = _key(said, needed, None if f.default is MISSING else f.default)
    words = " ".join((kind.__doc__ or kind.kind).partition("Parameters\n")[0].split())
    made: type[FeaturePart] = create_model(  # type: ignore[call-overload]  # of fields found at run time
        f"{kind.__name__}Part", __base__=FeaturePart, __doc__=words, __module__=__name__, **keys
    )
    return made


def material_part(stated: Iterable[str]) -> type[Part]:
    """Return the table of a material that may state these of `material_fields`."""
    own, fields = declared_fields(MaterialDeclared), material_fields()
    keys = {}
    for name in stated:  # no series, no columns
        default = own[name][0].default if name in own else None
        kind = plain_number(fields[name].dimensions[0], range_in_schema(fields[name]))
        keys[name] = (kind | None if default is None else kind, _key(fields[name], False, default)[1])
    words = "What a layer is made of; what is asked decides what it needs."
    made: type[Part] = create_model(  # type: ignore[call-overload]  # of fields found at run time
        "MaterialPart", __base__=Part, __doc__=words, __module__=__name__, **keys
    )
    return made


class WellsPart(Part):
    """A table with name, x, y, screen_top, screen_bottom, and abstraction or injection.

    Rates in time stand in another table, `rates`, with name, date (or day), and abstraction or injection.
    Further columns of the first are the other keys of a [well](#wellpart). Screens may stand as depths below the
    ground instead: screen_top_depth and screen_bottom_depth.
    """

    file: str = told("the table: CSV, text or XLSX; or points: GeoPackage, GeoJSON, Shapefile", "wells.csv")
    sheet: str | None = told("which sheet of an XLSX file, or table of a GeoPackage", "wells", default=None)
    local: bool = told("whether x and y are local coordinates", True, default=False)
    rates: str | None = told("a table of rates in time", "rates.csv", default=None)
    rates_sheet: str | None = told("which sheet of it", "rates", default=None)
    columns: dict[str, str] = told(
        "what columns are called in these tables, where it is not as above",
        {"name": "Well", "x": "Easting", "abstraction": "Q (m3/h)"},
        default_factory=dict,
    )
    signed_rate: str | None = told(
        "instead of abstraction and injection: a column in which abstraction is negative and injection positive",
        "rate",
        default=None,
    )
    concentration: Concentrations = told(
        "of each species in the water put in, by name; of each well where it stands in a column",
        {"chloride": {"column": "chloride"}},
        default_factory=dict,
    )


class BoresPart(Part):
    """A table with name, x, y and layer, or screen_top and screen_bottom; and one of levels with name, date, level.

    A deviation, a group and a layer of screened bores may stand in further columns. Levels may stand as depths below a
    measuring point instead: a column measuring_point in the first table, and depth in the second.
    """

    file: str = told(
        "the table of bores: CSV, text or XLSX; or points: GeoPackage, GeoJSON, Shapefile", "bores.csv"
    )
    sheet: str | None = told("which sheet of an XLSX file, or table of a GeoPackage", "bores", default=None)
    local: bool = told("whether x and y are local coordinates", True, default=False)
    levels: str = told("the table of levels", "levels.csv")
    levels_sheet: str | None = told("which sheet of it", "levels", default=None)
    columns: dict[str, str] = told(
        "what columns are called in these tables, where it is not as above",
        {"name": "Bore", "date": "Day of reading"},
        default_factory=dict,
    )


class FreundlichPart(Part):
    """Sorption in proportion to a power of the concentration."""

    coefficient: ByGroundNumber = told("what is sorbed where the water holds 1 mg/l, in mg/kg", 3.0)
    exponent: ByGroundNumber = told("of the concentration, mostly below 1", 0.7)


class LangmuirPart(Part):
    """Sorption until the places on the ground are taken."""

    capacity: ByGroundNumber = told("what the ground takes up at most, in mg/kg", 40.0)
    half_at: ByGroundConcentration = told("concentration at which it has taken up half of that", "15 mg/l")


class SpeciesPart(Part):
    """Something dissolved in the water."""

    name: str = told("as used in the concentrations of features", "chloride")
    unit: str = told("of its concentrations in tables and pictures", "mg/l", default="mg/l")
    initial: Concentration = told(
        "everywhere at the beginning",
        "14 mg/l",
        default=0.0,
        within=nonnegative("concentration", usual=(0.0, 4e5)),
    )
    limit: Concentration | None = told(
        "what it must not pass", "90 mg/l", default=None, within=positive("concentration", usual=(1e-9, 4e5))
    )
    background: Concentration | None = told(
        "in water that comes in without a stated concentration",
        "14 mg/l",
        default=None,
        within=nonnegative("concentration", usual=(0.0, 4e5)),
    )
    distribution: Distribution | None = told(
        "what is sorbed per mass of ground over the concentration; by material too, as in { sand = 0.1, peat = 2 }",
        "0.2 l/kg",
        default=None,
        within=nonnegative("distribution coefficient", usual=(1e-11, 1e-3)),
    )
    freundlich: FreundlichPart | None = told("sorption by a power of the concentration instead", default=None)
    langmuir: LangmuirPart | None = told("sorption until all places are taken instead", default=None)
    half_life: Time | None = told(
        "after which half of it has decayed",
        "12 years",
        default=None,
        within=positive("time", usual=(1e-3, 1e7)),
    )
    sorbed_half_life: Time | None = told(
        "the same of what is sorbed; as of what is dissolved if not given",
        "40 years",
        default=None,
        within=positive("time", usual=(1e-3, 1e9)),
    )
    production: Production = told(
        "what comes about in the water of itself",
        "0.1 mg/(l year)",
        default=0.0,
        within=nonnegative("production"),
    )
    daughters: dict[str, Number] = told(
        "species that it decays into: how much of each comes of one gram",
        {"nitrite": 0.74},
        default_factory=dict,
    )
    diffusion: ByGroundDiffusion | None = told(
        "in the pores, winding ways counted, instead of what [[transport]] says", "1e-9 m²/s", default=None
    )
    taken_by_plants: Number = told(
        "its share in the water that plants and evaporation take: 1 where they take it along, 0 where it stays behind",
        0,
        default=1.0,
        within=SHARE,
    )

    @model_validator(mode="after")
    def _one_law(self) -> SpeciesPart:
        laws = [n for n in ("distribution", "freundlich", "langmuir") if getattr(self, n) is not None]
        if len(laws) > 1:
            raise ValueError(f"it sorbs by {' and by '.join(laws)}; expected one of them")
        return self


class ZonesPart(Part):
    """One way to divide the site into zones: polygons with their names, or a raster of whole numbers."""

    file: str | None = told("polygons: GeoPackage, GeoJSON or Shapefile", "site.gpkg", default=None)
    table: str | None = told("which table of a GeoPackage", "land_use", default=None)
    name: Column | None = told("the column of the zones' names", {"column": "use"}, default=None)
    raster: str | None = told("a raster of whole numbers instead", "soils.tif", default=None)
    codes: dict[str, Whole] = told(
        "the number of each zone in the raster", {"heath": 1, "wood": 2}, default_factory=dict
    )
    layers: list[str] = told(
        "which layers they divide; every one if not given", ["sand"], default_factory=list
    )

    @model_validator(mode="after")
    def _one(self) -> ZonesPart:
        if (self.file is None) == (self.raster is None):
            raise ValueError("zones are polygons of a `file`, or the numbers of a `raster`; give one of them")
        if self.file is not None and self.name is None:
            raise ValueError('polygons need the column of their names, as in name = { column = "use" }')
        if self.raster is not None and not self.codes:
            raise ValueError("a raster needs the number of each zone, as in codes = { heath = 1 }")
        return self


def _date(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.replace(tzinfo=None).isoformat()
    if isinstance(value, date):
        return value.isoformat()
    return value


Date = Annotated[str, BeforeValidator(_date), WithJsonSchema({"type": "string", "unit": "date"})]


class TimePart(Part):
    """When the run starts and ends, its periods and steps.

    Periods end where any value in time changes; and besides every day, week, month or year, or where the
    table `periods` says (columns end or date; steps, growth and steady if wanted). The run begins from a
    steady solution, or from `initial_heads` (a surface), or from where the run in the folder `initial_run` ended.

    Steps are of the first `order` (Euler's method), or of the second. With `head_error` those of the schedule
    are taken in as many shorter ones as it takes for each to err by less in every head. `results` keeps every
    step, one record a period, or one up to each of some times after the start. Records with all flows go to
    `flow.nc` as they are made; with `keep_flows` false they go again when all is done, and only heads stay.
    """

    start: Date | None = told("the date at which it begins", "2020-04-07", default=None)
    end: Date | None = told("the date at which it ends", "2026-04-07", default=None)
    duration: Time | None = told(
        "how long it goes on, instead of an end",
        "3 years",
        default=None,
        within=positive("time", usual=(0.001, 4e5)),
    )
    every: Literal["day", "week", "month", "year"] | None = told(
        "periods end so often besides", "month", default=None
    )
    periods: str | None = told("a table of periods instead", "periods.csv", default=None)
    sheet: str | None = told("which sheet of an XLSX file", "periods", default=None)
    at_changes: bool = told("whether periods end where values change", False, default=True)
    steps: Whole = told("steps in each period", 2, default=1, within=Range("number", 1))
    growth: Number = told(
        "length of a step over that of the one before",
        1.2,
        default=1.0,
        within=Range("number", 0.1, 10.0, (0.5, 3.0)),
    )
    steady_first: bool = told(
        "whether it begins from a steady solution, of the means over the run of what changes in time, else of the values "
        "as stated",
        False,
        default=True,
    )
    initial_heads: SurfacePart | None = told(
        "heads to begin with instead", {"raster": "heads.tif"}, default=None
    )
    initial_run: str | None = told(
        "folder of a run where it ended to begin from instead", "runs/run-001", default=None
    )
    warm_up_years: Whole = told(
        "years ahead, of the means of their season", 2, default=0, within=Range("number", 0, 1000, (0, 100))
    )
    order: Literal[1, 2] = told("of the steps", 2, default=1)
    head_error: Length | None = told(
        "what a step may err by in any head",
        "1 cm",
        default=None,
        within=positive("length", 1e4, (1e-6, 10.0)),
    )
    results: Literal["steps", "periods"] | list[Time] = told(
        "what is kept: every step, one a period, or up to some times", "periods", default="steps"
    )
    keep_flows: bool = told("whether flows are kept when all is done", False, default=True)

    @model_validator(mode="after")
    def _ends(self) -> TimePart:
        given = [k for k in ("end", "duration", "periods") if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(
                f"expected one of `end`, `duration` and `periods`, which say when it ends; got {given or 'none'}"
            )
        if self.start is None and (self.end is not None or self.every is not None):
            raise ValueError("an `end` or calendar periods (`every`) need a `start` date")
        begun = self.initial_heads is not None or self.initial_run is not None
        if not (self.steady_first or begun or self.periods is not None):
            raise ValueError(
                "without a steady first period, `initial_heads` (a surface) or `initial_run` (a run folder) say where "
                "heads begin"
            )
        return self


class EditPart(Part):
    """A value changed where it was placed: a property of cells, a value of a kind of features, an elevation.

    ``of = "horizontal_conductivity"``, ``of = "river.stage"``, ``of = "base"`` (the bottom of cells, with which the
    top of what lies beneath moves) or ``of = "ground"`` (the top of the uppermost cells); and one of `value`,
    `factor` (a number, or a series), `add`, `surface` (one for each place), `random` (a field), `series`, or a column
    of the polygons it is made within. What a feature states is edited in the unit in which it states it: the
    conductance of a drain along a line by the metre, whatever the grid.
    """

    of: str = told("what is changed", "river.stage")
    value: Any = told("what it becomes", "17.2 m", default=None)
    factor: NumberChanging | None = told(
        "what it is multiplied with; a number, a series, or a column of the polygons", 0.8, default=None
    )
    add: Any = told("what is added to it", "-5 cm", default=None)
    surface: SurfacePart | None = told(
        "one value for each place", {"points": "tests.csv", "z": "k"}, default=None
    )
    surface_is: Literal["value", "factor", "added"] = told(
        "what that surface is: the value, a factor on it, or added to it", "factor", default="value"
    )
    random: RandomPart | None = told(
        "a random field, that of its seed", {"variance": 0.8, "length": "250 m"}, default=None
    )
    random_is: Literal["value", "factor", "added"] = told(
        "what that field is: the value, a factor on it, or added to it", "value", default="factor"
    )
    series: SeriesPart | None = told("its values in time", {"series": "stages.csv"}, default=None)
    within: ShapeFile | None = told(
        "polygons within which it is changed", {"file": "site.gpkg", "table": "pit"}, default=None
    )
    column: str | None = told("the polygons' column of values", "k", default=None)
    unit: str | None = told("of that column", "m/day", default=None)
    at: list[tuple[Length, Length]] = told("x and y of places instead", [[350, 450]], default_factory=list)
    layers: list[str] = told("in which layers; every one if not given", ["sand"], default_factory=list)
    zone: tuple[str, str] | None = told(
        'a division ("material", "layer" or one of [zones]) and one of its zones',
        ["land_use", "heath"],
        default=None,
    )
    feature: str | None = told("of this feature only", "brook", default=None)
    reason: str = told("why", "a pumping test", default="")

    @model_validator(mode="after")
    def _one(self) -> EditPart:
        ways = ("value", "factor", "add", "surface", "random", "series", "column")
        given = [k for k in ways if getattr(self, k) is not None]
        if len(given) != 1:
            raise ValueError(f"an edit is one change; got {given or 'none'}. Give one of {list(ways)}")
        needs_within = self.column is not None or isinstance(self.factor, Column)
        if needs_within and self.within is None:
            raise ValueError(
                "a `column` is one of the polygons that the edit is made `within`; name their file"
            )
        if self.within is not None and self.at:
            raise ValueError("an edit is made `within` polygons or `at` points, not both")
        return self
