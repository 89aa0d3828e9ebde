"""Features, their values in time, the schedule and edits, as a project file describes them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from inkhorn.errors import InputError, did_you_mean
from inkhorn.files.parts import Column, SeriesPart, SoilWaterPart
from inkhorn.files.parts_site import EditPart, TimePart, WellsPart
from inkhorn.files.read_strata import StrataReader
from inkhorn.files.shapes import Shape
from inkhorn.files.source import Source
from inkhorn.files.tables import Table
from inkhorn.site import (
    Barrier,
    Collector,
    Drain,
    Edit,
    Evapotranspiration,
    Feature,
    FixedHead,
    HeadDependent,
    Recharge,
    River,
    Schedule,
    Seepage,
    Series,
    Spring,
    Well,
    periods_between,
    soil_water_balance,
)
from inkhorn.units import quantity

__all__ = ["FeatureReader", "kind_of_value"]

# table of the project file, feature it makes, and what kind of number each of its values in a file is
_FEATURES: list[tuple[str, type[Feature], dict[str, str]]] = [
    ("fixed_head", FixedHead, {"head": "length"}),
    ("head_dependent", HeadDependent, {"head": "length"}),
    ("river", River, {"stage": "length", "bed": "length"}),
    ("drain", Drain, {"level": "length"}),
    ("spring", Spring, {"level": "length"}),
    ("seepage", Seepage, {}),
    ("recharge", Recharge, {"rate": "rate"}),
    ("evapotranspiration", Evapotranspiration, {"rate": "rate"}),
    ("collector", Collector, {"abstraction": "flow", "injection": "flow"}),
    ("barrier", Barrier, {}),
]

_VALUES = {  # what kind of number each property, and each input of a term, is
    "horizontal_conductivity": "conductivity",
    "vertical_conductivity": "conductivity",
    "specific_storage": "per length",
    "bulk_density": "density",
    "conductance": "conductance",
    "base": "length",
    "ground": "length",
    "head": "length",
    "stage": "length",
    "bed": "length",
    "level": "length",
    "surface": "length",
    "depth": "length",
    "lowest_level": "length",
    "area": "area",
}


def kind_of_value(of: str) -> str:
    """Return what kind of number a property or an input of a term is, as in `inkhorn.units`."""
    term, _, name = of.rpartition(".")
    if name == "rate":
        return "flow" if term in ("well", "collector") else "rate"
    return _VALUES.get(name, "number")


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
        names = part.column if isinstance(part.column, list) else [part.column or key[-1]]
        times, values = self._times(table, part.time), [table.numbers(n, kind) for n in names]
        rows = np.arange(len(table))
        if part.by is not None:
            rows = np.flatnonzero(np.array(table.text(part.by)) == feature)
            if not len(rows):
                raise InputError(
                    f'{part.series} has no row whose "{part.by}" is "{feature}" ({self.source.by(*key)}). Add them.'
                )
        return Series(
            times[rows],
            np.column_stack(values)[rows],
            f"{', '.join(names)} of {part.series}",
            tuple(table.row(int(k)) for k in rows),
        )

    def _soil_water(self, part: SoilWaterPart, *key: Any) -> Series:
        """Daily recharge from rain and evapotranspiration."""
        table = self._table(part.weather, *key, sheet=part.sheet)
        dates = table.dates("date")
        gap = np.flatnonzero(np.diff(dates) != np.timedelta64(1, "D"))
        if len(gap):
            raise InputError(
                f"{table.row(int(gap[0]) + 1)}: the day {str(dates[gap[0] + 1])[:10]} does not follow "
                f"{str(dates[gap[0]])[:10]} ({len(gap)} such rows). Give every day once, in order."
            )
        metre_per_day = [table.numbers(k, "rate") for k in ("rain", "evapotranspiration")]
        days = soil_water_balance(
            *(1000.0 * v for v in metre_per_day),
            available_water=1000.0 * part.available_water,
            easily_taken=part.easily_taken,
            runoff=part.runoff,
            crop_factor=part.crop_factor,
            first_deficit=1000.0 * part.first_deficit,
        )
        return Series(dates, days["recharge [mm]"].to_numpy() / 1000.0, f"recharge from {part.weather}")

    def _value(self, value: Any, shape: Shape, kind: str, feature: str, *key: Any) -> Any:
        if isinstance(value, Column):
            return shape.number(value.column, kind, unit=value.unit, units=self.source.units)
        if isinstance(value, SeriesPart):
            return self.series(value, kind, feature, *key)
        if isinstance(value, SoilWaterPart):
            return self._soil_water(value, *key)
        return value

    def features(self) -> Iterator[Feature]:
        """Make all features, in the order of their kinds."""
        for group, kind, in_files in _FEATURES:
            for k, part in enumerate(getattr(self.asked, group)):
                shapes = self.source.shapes(part, kind.shapes, group, k)
                if len(shapes) > 1 and isinstance(part.name, str):
                    raise InputError(
                        f"{self.source.by(group, k, 'name')}: {part.file} holds {len(shapes)} shapes, which cannot all "
                        f'be called "{part.name}". Take the names from a column: name = {{ column = "…" }}.'
                    )
                for shape in shapes:
                    named = isinstance(part.name, Column)
                    name = str(shape.attribute(part.name.column) if named else part.name)
                    values = {}
                    for key in type(part).model_fields:
                        if key in ("file", "table", "name"):
                            continue
                        value = getattr(part, key)
                        if key in in_files:
                            value = self._value(value, shape, in_files[key], name, group, k, key)
                        values[key] = tuple(value) if isinstance(value, list) else value
                    try:
                        made = kind(name=name, source=shape.source, shape=shape.geometry, **values)  # type: ignore[call-arg]
                    except InputError as problem:
                        raise InputError(f"{self.source.by(group, k)}: {problem}") from None
                    yield made
        if self.asked.wells is not None:
            yield from self._wells(self.asked.wells)

    def _wells(self, part: WellsPart) -> Iterator[Feature]:
        table = self.source.table(part.file, "wells", "file", sheet=part.sheet)
        rates = None
        if part.rates is not None:
            rates = self._table(part.rates, "wells", "rates", sheet=part.rates_sheet)
        flows = ("abstraction", "injection")
        if not any(t.has(k) for t in (table, rates) if t is not None for k in flows):
            (rates or table).text("abstraction")  # says what is missing
        x, y = self.source.on_map(table, part.local, "wells", "local")
        columns = {k: self._screen(table, k, x, y) for k in ("screen_top", "screen_bottom")} | {
            "x": x,
            "y": y,
        }
        columns["radius"] = table.numbers("radius", "length", default=0.15)
        columns["skin"] = table.numbers("skin", "number", default=0.0)
        columns["losses"] = table.numbers("losses", "number", default=0.0)
        columns |= {k: table.numbers(k, "flow", default=0.0) for k in flows}
        lowest = (
            table.numbers("lowest_level", "length", default=np.nan) if table.has("lowest_level") else None
        )
        moving = self._rates(rates, table.text("name")) if rates is not None else {}
        for k, name in enumerate(table.text("name")):
            values: dict[str, Any] = {key: float(v[k]) for key, v in columns.items()}
            if lowest is not None and np.isfinite(lowest[k]):
                values["lowest_level"] = float(lowest[k])
            yield Well(name=name, source=table.row(k), **(values | moving.get(name, {})))

    def _screen(self, table: Table, column: str, x: Any, y: Any) -> Any:
        """An end of the screens, as elevation, or from its depth below the ground."""
        if table.has(column) or not table.has(f"{column}_depth"):
            return table.numbers(column, "length")
        return self.strata.surfaces["ground"].at(x, y) - table.numbers(f"{column}_depth", "length")

    def _rates(self, table: Table, wells: list[str]) -> dict[str, dict[str, Series]]:
        """Rates in time by well, from a table of all of them."""
        whose, found = np.array(table.text("name")), {}
        unknown = np.flatnonzero(~np.isin(whose, wells))
        if len(unknown):
            raise InputError(
                f'{table.row(int(unknown[0]))}: there is no well "{whose[unknown[0]]}"; expected one of {wells}.'
                f"{did_you_mean(str(whose[unknown[0]]), wells)}"
            )
        times = self._times(table, "date" if table.has("date") else "day")
        flows = {
            k: table.numbers(k, "flow", default=0.0) for k in ("abstraction", "injection") if table.has(k)
        }
        for name in dict.fromkeys(whose.tolist()):
            rows = np.flatnonzero(whose == name)
            lines = tuple(table.row(int(k)) for k in rows)
            found[name] = {
                k: Series(times[rows], v[rows], f"{k} of {name} in {table.path.name}", lines)
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
        start = None
        if part.start is not None:
            try:
                start = np.datetime64(part.start, "s")
            except ValueError:
                raise InputError(f'start is "{part.start}"; expected a date as in 2021-05-31.') from None
        options: dict[str, Any] = {"steps": part.steps, "growth": part.growth, "steady": False}
        if part.periods is not None:
            ends, options = self._listed_periods(part, start, options)
        elif part.every is not None or part.end is not None:
            assert start is not None  # the file's model sees to that
            try:
                end = (
                    np.datetime64(part.end, "s")
                    if part.end is not None
                    else start + np.timedelta64(round((part.duration or 0.0) * 86400), "s")
                )
            except ValueError:
                raise InputError(f'end is "{part.end}"; expected a date as in 2021-05-31.') from None
            ends = (
                periods_between(start, end, part.every) if part.every else periods_between(start, end, "year")
            )
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

    def edits(self) -> Iterator[Edit]:
        """Make the edits, in the order of the file; one for each polygon where values stand in a column."""
        for k, part in enumerate(self.asked.edit):
            yield from self._edit(part, "edit", k)

    def _edit(self, part: EditPart, *key: Any) -> Iterator[Edit]:
        import shapely

        by, kind = self.source.by(*key), kind_of_value(part.of)
        how, value = "set", part.value
        if part.factor is not None:
            how, value, kind = "factor", part.factor, "number"
        elif part.add is not None:
            how, value = "add", part.add
        make: Callable[..., Edit] = lambda value, shape: Edit(  # noqa: E731 - what all of them share
            of=part.of,
            value=value,
            how=how,  # type: ignore[arg-type]  # one of the three
            layers=tuple(part.layers),
            shape=shape,
            feature=part.feature,
            reason=part.reason,
            source=by,
        )
        polygons = ("Polygon", "MultiPolygon")
        shapes = self.source.shapes(part.within, polygons, *key, "within") if part.within is not None else []
        if part.column is not None:
            for shape in shapes:
                number = shape.number(part.column, kind, unit=part.unit, units=self.source.units)
                yield make(number, shape.geometry)
            return
        where = shapely.union_all([s.geometry for s in shapes]) if shapes else None
        if part.at:
            where = shapely.MultiPoint(part.at)
        if isinstance(value, SeriesPart):
            value = self.series(value, "number", part.feature or "", *key, "factor")
        elif part.surface is not None:
            value = self.strata.surface(part.surface, *key, "surface", kind=kind)
        elif part.series is not None:
            value = self.series(part.series, kind, part.feature or "", *key, "value")
        else:
            try:
                value = quantity(value, kind, units=self.source.units, what=part.of)
            except InputError as problem:
                raise InputError(f"{by}: {problem}") from None
        yield make(value, where)
