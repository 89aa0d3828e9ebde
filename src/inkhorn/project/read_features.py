"""Features, their values in time, the schedule and edits, as a project file describes them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np

from inkhorn.dates import one_date
from inkhorn.errors import InputError, did_you_mean, gathering, naming
from inkhorn.files.shapes import Shape, typed_shape
from inkhorn.files.tables import Table
from inkhorn.model import dimension_of
from inkhorn.project.parts import Column, Raw, ReturnedPart, SeriesPart, SoilWaterPart
from inkhorn.project.parts_site import EditPart, FeaturePart, TimePart, WellsPart
from inkhorn.project.parts_space import SurfacePart
from inkhorn.project.read_random import RandomReader
from inkhorn.project.read_strata import StrataReader
from inkhorn.project.source import Source
from inkhorn.site import (
    Concentrations,
    Edit,
    Feature,
    FeatureName,
    PickedCells,
    Quantity,
    ReturnedWater,
    Schedule,
    Series,
    Well,
    declared_fields,
    geometry_of,
    kinds,
    periods_between,
    says_nothing,
    soil_water_balance,
    value_named,
)
from inkhorn.units import quantity, unit_factor

__all__ = ["FeatureReader"]

_OF_WEATHER = ["date", "rain", "evapotranspiration"]


class FeatureReader:
    """Makes features from the shapes and tables that a project file names."""

    def __init__(self, source: Source, strata: StrataReader) -> None:
        self.source, self.strata, self.asked = source, strata, source.asked
        self._tables: dict[tuple[str, str | None], Table] = {}

    def _table(self, file: str, *key: Any, sheet: str | None = None) -> Table:
        if (file, sheet) not in self._tables:
            self._tables[file, sheet] = self.source.table(file, *key, sheet=sheet)
        return self._tables[file, sheet]

    def _times(self, table: Table, column: str) -> Any:
        """A column of dates, or of days since the start."""
        cells = table.text(column)
        try:
            [float(c) for c in cells]
        except ValueError:
            return table.dates(column)
        return table.numbers(column, "time")

    def series(self, part: SeriesPart, kind: str, feature: str, *key: Any) -> Series:
        """Read a value in time, of one feature if the table holds several."""
        table = self._table(part.series, *key, sheet=part.sheet)
        own = not table.has(str(key[-1])) and table.has(feature)  # a column for each feature
        names = (
            part.column if isinstance(part.column, list) else [part.column or (feature if own else key[-1])]
        )
        with gathering() as tried:
            times = tried(self._times, table, part.time)
            values = [tried(table.numbers, n, kind) for n in names]
        rows = np.arange(len(table))
        if part.by is not None:
            rows = np.flatnonzero(np.array(table.text(part.by)) == feature)
            if not len(rows):
                raise InputError(
                    f'{part.series} has no row whose "{part.by}" is "{feature}" ({self.source.by(*key)}). Add them.'
                )
        return Series(
            times[rows],
            (-1.0 if part.negative else 1.0) * np.column_stack(values)[rows],
            name=f"{', '.join(names)} of {part.series}",
            source=tuple(table.row(int(k)) for k in rows),
        )

    def _soil_water(self, part: SoilWaterPart, *key: Any) -> Series:
        """Daily recharge from rain and evapotranspiration."""
        table = self._table(part.weather, *key, sheet=part.sheet)
        (table,) = self.source.as_expected(part.columns, _OF_WEATHER, table, key=key)
        dates = table.dates("date")
        gap = np.flatnonzero(np.diff(dates) != np.timedelta64(1, "D"))
        if len(gap):
            raise InputError(
                f"{table.row(int(gap[0]) + 1)}: the day {str(dates[gap[0] + 1])[:10]} does not follow "
                f"{str(dates[gap[0]])[:10]} ({len(gap)} such rows). Give every day once, in order."
            )
        # a length is that of the day
        metre_per_day = [
            table.numbers(k, "length" if table.has(k) and table.header(k).is_length else "rate")
            for k in _OF_WEATHER[1:]
        ]
        days = soil_water_balance(
            *(1000.0 * v for v in metre_per_day),
            available_water=1000.0 * part.available_water,
            easily_taken=part.easily_taken,
            runoff=part.runoff,
            crop_factor=part.crop_factor,
            initial_deficit=1000.0 * part.initial_deficit,
        )
        return Series(dates, days["recharge [mm]"].to_numpy() / 1000.0, name=f"recharge from {part.weather}")

    def _number(self, given: Column, shape: Shape, kind: str, columns: int, *key: Any) -> Any:
        """A value that stands in a column of the file, or values of a line's two ends in two."""
        names = given.column if isinstance(given.column, list) else [given.column]
        if len(names) not in (1, columns):
            raise InputError(
                f"{self.source.by(*key)}: {len(names)} columns are named; expected one"
                + (f", or {columns} for the two ends of a line." if columns > 1 else ".")
            )
        sign = -1.0 if given.negative else 1.0
        found = tuple(
            sign * shape.number(name, kind, unit=given.unit, units=self.source.units) for name in names
        )
        return found if len(found) > 1 else found[0]

    def _value(self, value: Any, said: Quantity, shape: Shape, geometry: str, feature: str, *key: Any) -> Any:
        """A declared value of a feature, as its shape has it."""
        if value is None:
            return None
        if not isinstance(said.dimension, str) and geometry not in said.dimension:
            raise InputError(
                f"{self.source.by(*key)}: {says_nothing(str(key[-1]), said.dimension, geometry)}"
            )
        kind = said.dimension_on(geometry)
        if isinstance(value, Column):
            return self._number(value, shape, kind, 2 if said.along else 1, *key)
        if isinstance(value, SeriesPart):
            return self.series(value, kind, feature, *key)
        if isinstance(value, SoilWaterPart):
            return self._soil_water(value, *key)
        if isinstance(value, Raw):
            units, what = self.source.units, str(key[-1])
            several = isinstance(value.value, tuple)
            try:
                found = [
                    quantity(v, kind, units=units, what=what)
                    for v in (value.value if several else [value.value])
                ]
            except InputError as problem:
                raise InputError(f"{self.source.by(*key)}: {problem}") from None
            return tuple(found) if several else found[0]
        return value

    def _of_species(self, value: Any, kind: str, shape: Any, feature: str, *key: Any) -> Any:
        """What there is of a species: a number, in time or by place, from a column, or that of water taken elsewhere."""
        if isinstance(value, Column):
            return self._number(value, shape, kind, 1, *key)
        if isinstance(value, SeriesPart):
            return self.series(value, kind, feature, *key)
        if isinstance(value, ReturnedPart):
            return ReturnedWater(value.returned_from, value.treated, value.added)
        if isinstance(value, SurfacePart):
            return self.strata.surface(value, *key, kind=kind)
        return value

    def _shapes(self, part: FeaturePart, kind: type[Feature], *key: Any) -> list[Shape]:
        """The shapes of a file, one that is typed, or cells told one by one."""
        if part.file is not None:
            return self.source.shapes(part, kind.shapes, *key)
        if part.shape is not None:
            typed = typed_shape(part.shape, kind.shapes, self.source.by(*key, "shape"))
            return [Shape(typed, {}, self.source.by(*key))]
        places = [(p.layer, p.x, p.y) for p in part.at or ()]
        try:
            return [Shape(PickedCells(part.cells or (), places), {}, self.source.by(*key))]
        except InputError as problem:
            raise InputError(f"{self.source.by(*key)}: {problem}") from None

    def features(self) -> list[Feature]:
        """Make all features, in the order of their kinds; what is wrong with some is told all at once."""
        found: list[Feature] = []
        with gathering() as tried:
            for group, kind in kinds().items():
                for k, part in enumerate(getattr(self.asked, group)):
                    found += (
                        tried(lambda p=part, c=kind, g=group, n=k: list(self._features(p, c, g, n))) or []
                    )
            wells = self.asked.wells
            if wells is not None:
                found += tried(lambda: list(self._wells(wells))) or []
        return found

    def _features(self, part: FeaturePart, kind: type[Feature], group: str, k: int) -> Iterator[Feature]:
        shapes = self._shapes(part, kind, group, k)
        if len(shapes) > 1 and isinstance(part.name, str):
            raise InputError(
                f"{self.source.by(group, k, 'name')}: {part.file} holds {len(shapes)} shapes, which cannot all "
                f'be called "{part.name}". Take the names from a column: name = {{ column = "…" }}.'
            )
        for shape in shapes:
            if isinstance(part.name, Column):
                column = part.name.column
                name = str(shape.attribute(column if isinstance(column, str) else column[0]))
            else:
                name = part.name
            geometry = geometry_of(shape.geometry)
            values: dict[str, Any] = {}
            for key, (_, said) in declared_fields(kind).items():
                value = getattr(part, key)
                if isinstance(said, Quantity):
                    value = self._value(value, said, shape, geometry, name, group, k, key)
                elif isinstance(said, FeatureName) and isinstance(value, Column):
                    value = str(shape.attribute(str(value.column)))
                elif isinstance(said, Concentrations):
                    value = {
                        n: self._of_species(v, said.dimension, shape, name, group, k, key, n)
                        for n, v in value.items()
                    }
                values[key] = tuple(value) if isinstance(value, list) else value
            if values.get("elevation", 0.0) is None and shape.geometry.has_z:  # in the project's own unit
                import shapely

                z = shapely.get_coordinates(shape.geometry, include_z=True)[:, 2]
                metre = unit_factor(self.source.units.length, "elevation")
                values["elevation"] = tuple((metre * z).tolist())
            try:
                yield kind(name=name, source=shape.source, **kind.at(shape.geometry), **values)
            except InputError as problem:
                raise InputError(f"{self.source.by(group, k)}: {problem}") from None

    def _wells(self, part: WellsPart) -> Iterator[Feature]:
        """Wells from a table: its columns are what a well declares."""
        table = self.source.points(part.file, "wells", "file", sheet=part.sheet)
        rates = None
        if part.rates is not None:
            rates = self._table(part.rates, "wells", "rates", sheet=part.rates_sheet)
        said = {k: q for k, (_, q) in declared_fields(Well).items() if isinstance(q, Quantity)}
        depths = [f"{end}_depth" for end in ("screen_top", "screen_bottom")]
        known = ["name", "x", "y", "date", "day", *said, *depths]
        table, rates = self.source.as_expected(part.columns, known, table, rates, key=["wells"])
        in_time = [k for k, q in said.items() if q.in_time]
        signed = part.signed_rate
        if signed is not None:
            tables = [t for t in (table, rates) if t is not None]
            for one in [t for t in tables if t.has(signed)] or tables[-1:]:
                for key in [k for k in in_time if one.has(k)]:
                    raise InputError(
                        f'{one.path.name} has a column "{key}" beside "{signed}", which is told to hold abstraction and '
                        f"injection by their sign ({self.source.by('wells', 'signed_rate')}). Keep one of them."
                    )
                one.part_by_sign(signed, "abstraction", "injection", "flow")
        if not any(t.has(k) for t in (table, rates) if t is not None for k in in_time):
            (rates or table).text("abstraction")  # says what is missing
        with gathering() as tried:
            names = tried(table.text, "name")
            x, y = tried(self.source.on_map, table, part.local, "wells", "local") or (None, None)
            columns: dict[str, Any] = {"x": x, "y": y}
            for key, q in said.items():
                kind = q.dimension_on("point")
                if key in ("screen_top", "screen_bottom"):
                    columns[key] = tried(self._screen, table, key, x, y)
                elif table.has(key):
                    columns[key] = tried(table.numbers, key, kind, default=np.nan)
        moving = self._rates(rates, names, in_time) if rates is not None else {}
        told = {
            n: self._of_wells(v, table, names, "wells", "concentration", n)
            for n, v in part.concentration.items()
        }
        for k, name in enumerate(names):
            values: dict[str, Any] = {key: float(v[k]) for key, v in columns.items() if np.isfinite(v[k])}
            brings = {n: of[k] for n, of in told.items() if of[k] is not None}
            yield Well(
                name=name, source=table.row(k), concentration=brings, **(values | moving.get(name, {}))
            )

    def _of_wells(self, value: Any, table: Table, names: list[str], *key: Any) -> list[Any]:
        """What there is of a species in the water of the wells of a table; None where a cell is empty."""
        if not isinstance(value, Column):
            return [self._of_species(value, "concentration", None, name, *key) for name in names]
        column = value.column
        if not isinstance(column, str):
            raise InputError(f"{self.source.by(*key)}: {len(column)} columns are named; expected one.")
        if not table.has(column):
            table.text(column)  # says what is there instead
        found = table.numbers(column, "concentration", default=np.nan, unit=value.unit)
        return [None if np.isnan(v) else -v if value.negative else v for v in found.tolist()]

    def _screen(self, table: Table, column: str, x: Any, y: Any) -> Any:
        """An end of the screens, as elevation, or from its depth below the ground."""
        if table.has(column) or not table.has(f"{column}_depth"):
            return table.numbers(
                column, "elevation", instead=f' Call it "{column}_depth", which counts from the ground down.'
            )
        return self.strata.surfaces["ground"].at(x, y) - table.numbers(
            f"{column}_depth", "length", depths=True
        )

    def _rates(self, table: Table, wells: list[str], of: list[str]) -> dict[str, dict[str, Series]]:
        """Rates in time by well, from a table of all of them."""
        whose, found = np.array(table.text("name")), {}
        unknown = np.flatnonzero(~np.isin(whose, wells))
        if len(unknown):
            raise InputError(
                f'{table.row(int(unknown[0]))}: there is no well "{whose[unknown[0]]}"; expected one of {wells}.'
                f"{did_you_mean(str(whose[unknown[0]]), wells)}"
            )
        times = self._times(table, "date" if table.has("date") else "day")
        flows = {k: table.numbers(k, "flow", default=0.0) for k in of if table.has(k)}
        for name in dict.fromkeys(whose.tolist()):
            rows = np.flatnonzero(whose == name)
            lines = tuple(table.row(int(k)) for k in rows)
            found[name] = {
                k: Series(times[rows], v[rows], name=f"{k} of {name} in {table.path.name}", source=lines)
                for k, v in flows.items()
            }
        return found

    def schedule(self, changing: list[Series]) -> Schedule | None:
        """Make the schedule, its periods ending where anything changes."""
        part = self.asked.time
        if part is None:
            return None
        try:
            made = self._periods(part)
            if part.warm_up_years:
                made = made.warmed_up(part.warm_up_years)
            return made.split_at(changing) if part.at_changes else made
        except InputError as problem:
            raise InputError(f"{self.source.by('time')}: {problem}") from None

    def _periods(self, part: TimePart) -> Schedule:
        start = None if part.start is None else one_date(part.start, "start")
        options: dict[str, Any] = {"steps": part.steps, "growth": part.growth, "steady": False}
        if part.periods is not None:
            ends, options = self._listed_periods(part, start, options)
        elif part.every is not None or part.end is not None:
            assert start is not None  # the file's model sees to that
            end = (
                one_date(part.end, "end")
                if part.end is not None
                else start + np.timedelta64(round((part.duration or 0.0) * 86400), "s")
            )
            ends = periods_between(start, end, part.every or "year")
            if part.every is None:
                ends = ends[-1:]
        else:
            ends = np.array([part.duration])
        if part.steady_first:
            ends = np.concatenate([[0.0], ends])
            for key, value in (("steps", 1), ("growth", 1.0), ("steady", True)):
                own = np.broadcast_to(options[key], len(ends) - 1)
                options[key] = np.concatenate([[value], own])
        return Schedule(ends, start, **options)

    def _listed_periods(
        self, part: TimePart, start: Any, options: dict[str, Any]
    ) -> tuple[Any, dict[str, Any]]:
        """Periods of a table: when each ends, and what else it says of them."""
        assert part.periods is not None  # asked for
        table = self._table(part.periods, "time", "periods", sheet=part.sheet)
        times = self._times(table, "date" if table.has("date") else "end")
        if times.dtype.kind == "M":
            if start is None:
                raise InputError(f"{part.periods} goes by dates. Give `start` as a date.")
            times = (times - start) / np.timedelta64(86400, "s")
        bad = np.flatnonzero(np.diff(times, prepend=0.0) <= 0)
        if len(bad):
            raise InputError(
                f"{table.row(int(bad[0]))}: the period does not end after the one before, or after the start."
            )
        options = dict(options)
        for key in ("steps", "growth"):
            if table.has(key):
                options[key] = table.numbers(key, "number")
        if table.has("steady"):
            options["steady"] = np.array([v.lower() in ("1", "yes", "true") for v in table.text("steady")])
        return times, options

    def edits(self, features: Sequence[Feature]) -> Iterator[Edit]:
        """Make the edits, in the order of the file; one for each polygon where values stand in a column."""
        for k, part in enumerate(self.asked.edit):
            yield from self._edit(part, features, "edit", k)

    def _edit(self, part: EditPart, features: Sequence[Feature], *key: Any) -> Iterator[Edit]:
        import shapely

        by = self.source.by(*key)
        how, value = "set", part.value
        if part.factor is not None:
            how, value, kind = "factor", part.factor, "number"
        elif (part.surface is not None and part.surface_is == "factor") or (
            part.random is not None and part.random_is == "factor"
        ):
            how, value, kind = "factor", None, "number"
        else:
            added = (part.surface is not None and part.surface_is == "added") or (
                part.random is not None and part.random_is == "added"
            )
            how, value = ("add", part.add) if part.add is not None or added else ("set", part.value)
            mine = [f for f in features if part.feature in (None, f.name)]
            try:
                kind = dimension_of(value_named(part.of), mine)
            except InputError as problem:
                raise InputError(f"{by}: {problem}") from None
        make: Callable[..., Edit] = lambda value, shape: Edit(  # noqa: E731 - what all of them share
            of=part.of,
            value=value,
            how=how,  # type: ignore[arg-type]  # one of the three
            layers=tuple(part.layers),
            shape=shape,
            feature=part.feature,
            zone=part.zone,
            reason=part.reason,
            source=by,
        )
        polygons = ("Polygon", "MultiPolygon")
        shapes = self.source.shapes(part.within, polygons, *key, "within") if part.within is not None else []
        column = Column(column=part.column, unit=part.unit) if part.column is not None else value
        if isinstance(column, Column):
            for shape in shapes:
                yield make(self._number(column, shape, kind, 1, *key), shape.geometry)
            return
        where = shapely.union_all([s.geometry for s in shapes]) if shapes else None
        if part.at:
            where = shapely.MultiPoint(part.at)
        if isinstance(value, SeriesPart):
            value = self.series(value, "number", part.feature or "", *key, "factor")
        elif part.surface is not None:
            value = self.strata.surface(part.surface, *key, "surface", kind=kind)
        elif part.random is not None:
            mine = [f for f in features if part.feature in (None, f.name)]
            with naming(by):
                own = dimension_of(value_named(part.of), mine)
            made = RandomReader(self.source, self.strata)
            value = made.field(part.random, kind, own, *key, "random", layers=part.layers)
        elif part.series is not None:
            value = self.series(part.series, kind, part.feature or "", *key, "value")
        else:
            try:
                value = quantity(value, kind, units=self.source.units, what=part.of)
            except InputError as problem:
                raise InputError(f"{by}: {problem}") from None
        yield make(value, where)
