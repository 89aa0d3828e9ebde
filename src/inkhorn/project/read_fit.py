"""What was measured and what a fit may change, as a project file describes them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from inkhorn.errors import InputError, gathering, naming
from inkhorn.files.tables import Table
from inkhorn.model import dimension_of
from inkhorn.project.parts_fit import FitPart, ForecastPart, MeasuredPart, ParameterPart, PilotPart
from inkhorn.project.source import Source
from inkhorn.site import Bore, Feature, Measurement, Site, value_named
from inkhorn.space import Variogram
from inkhorn.units import quantity

if TYPE_CHECKING:
    from inkhorn.calibration import Parameter, PilotPoints, Regularisation, WeightRule

__all__ = ["FitPlan", "FitReader", "Places"]

_COLUMNS = [  # of bores and of what was dipped in them
    *("name", "x", "y", "layer", "screen_top", "screen_bottom", "group"),
    *("measuring_point", "date", "level", "depth", "deviation"),
]
_YES, _NO = ("yes", "true", "1"), ("no", "false", "0", "")


class Places(NamedTuple):
    """Where numbers are forecast, or might be measured; their values are none."""

    bores: tuple[Bore, ...] = ()
    measurements: tuple[Measurement, ...] = ()


@dataclass(frozen=True, eq=False)
class FitPlan:
    """A fit that is asked for.

    Attributes
    ----------
    asked : FitPart
        As the project file has it.
    parameters : tuple of Parameter
        What it may change.
    rules : tuple of WeightRule
        How much readings weigh.
    regularisation : Regularisation
        What holds parameters beside the readings.
    """

    asked: FitPart
    parameters: tuple[Parameter, ...] = field(repr=False)
    rules: tuple[WeightRule, ...] = field(repr=False)
    regularisation: Regularisation

    @property
    def name(self) -> str:
        """What the fit is called, of several."""
        return self.asked.name


class FitReader:
    """Makes bores, measurements, parameters and rules for weights."""

    def __init__(self, source: Source) -> None:
        self.source, self.asked = source, source.asked

    def bores(self) -> tuple[Bore, ...]:
        """Read the observation bores and the levels dipped in them."""
        part = self.asked.bores
        if part is None:
            return ()
        table = self.source.points(part.file, "bores", "file", sheet=part.sheet)
        dips = self.source.table(part.levels, "bores", "levels", sheet=part.levels_sheet)
        table, dips = self.source.as_expected(part.columns, _COLUMNS, table, dips, key=["bores"])
        screened = table.has("screen_top") or table.has("screen_bottom")
        or_screens = " Or give elevations of its screen: screen_top and screen_bottom."
        by_layer = replace(table, otherwise=or_screens + table.otherwise)
        with gathering() as tried:
            names = tried(table.text, "name")
            layers = table.columns["layer"] if screened and table.has("layer") else None
            layers = (
                [""] * len(names) if screened and layers is None else layers or tried(by_layer.text, "layer")
            )
            top, bottom = (
                tried(table.numbers, key, "elevation", default=np.nan)
                if screened
                else np.full(len(names), np.nan)
                for key in ("screen_top", "screen_bottom")
            )
            own = tried(table.numbers, "deviation", "length", default=np.nan)
            places = tried(self.source.on_map, table, part.local, "bores", "local")
            whose = np.array(tried(dips.text, "name"))
            dates = tried(dips.dates, "date")
            by_depth = dips.has("depth") and not dips.has("level")
            levels = (
                tried(dips.numbers, "depth", "length", depths=True)
                if by_depth
                else tried(
                    dips.numbers,
                    "level",
                    "elevation",
                    instead=' Call it "depth", and give each bore its measuring_point.',
                )
            )
            points = tried(table.numbers, "measuring_point", "elevation") if by_depth else None
            spread = tried(dips.numbers, "deviation", "length", default=np.nan)
        x, y = places
        groups = table.columns.get("group", [""] * len(names))
        unknown = np.flatnonzero(~np.isin(whose, names))
        if len(unknown):
            raise InputError(
                f'{dips.row(int(unknown[0]))}: the bore "{whose[unknown[0]]}" is not in {part.file}. Add it there.'
            )
        if points is not None:
            point = dict(zip(names, points, strict=True))
            levels = np.array([point[n] for n in whose]) - levels
        made = []
        for k, name in enumerate(names):
            mine = whose == name
            deviation = np.where(np.isnan(spread[mine]), own[k], spread[mine])
            with naming(table.row(k)):
                made.append(
                    Bore(
                        name, x[k], y[k], layers[k].strip(), dates=dates[mine], levels=levels[mine], source=table.row(k),
                        screen_top=None if np.isnan(top[k]) else float(top[k]),
                        screen_bottom=None if np.isnan(bottom[k]) else float(bottom[k]),
                        group=groups[k].strip(), deviation=deviation if np.isfinite(deviation).any() else None,
                    )
                )  # fmt: skip
        return tuple(made)

    # --- measurements ------------------------------------------------------------------------------

    def measurements(self, lines: dict[str, Any]) -> tuple[Measurement, ...]:
        """Make what was measured beside them; lines are those of [[across]]."""
        return tuple(self._measured(part, lines, "measured", k) for k, part in enumerate(self.asked.measured))

    def _measured(self, part: MeasuredPart, lines: dict[str, Any], *key: Any) -> Measurement:
        by = self.source.by(*key)
        kind = "flow" if part.gain_of or part.across else "elevation" if part.level_in else "length"
        apart = kind if kind == "flow" else "length"  # of a deviation
        deviation: Any = (
            None if part.deviation is None else self._quantity(part.deviation, apart, by, "deviation")
        )
        if part.file is None:
            values = np.array([self._quantity(part.value, kind, by, "value")])
            times: Any = None if part.date is None else np.array([part.date])
        else:
            table = self.source.table(part.file, *key, "file", sheet=part.sheet)
            values = table.numbers("value", kind)
            times = table.numbers("time", "time") if table.has("time") else table.dates("date")
            if table.has("deviation"):
                deviation = table.numbers(
                    "deviation", apart, default=np.nan if deviation is None else deviation
                )
        if part.across is not None and part.across not in lines:
            raise InputError(
                f'{by}: there is no line "{part.across}"; expected one of {list(lines)} of [[across]].'
            )
        within = None if part.within is None else self.source.union(part.within, *key, "within")
        return Measurement(
            name=part.name, level_in=part.level_in, drawdown_in=part.drawdown_in, since=part.since, between=part.between,
            gain_of=tuple(part.gain_of), within=within,
            across=None if part.across is None else lines[part.across], layers=tuple(part.layers), values=values,
            times=times, deviation=deviation, group=part.group, source=by,
        )  # fmt: skip

    def places(self, parts: Sequence[ForecastPart], lines: dict[str, Any], table: str) -> Places:
        """Make bores and measurements of what is forecast, or might be measured."""
        bores, others = [], []
        for k, part in enumerate(parts):
            by = self.source.by(table, k)
            flow = bool(part.gain_of) or part.across is not None
            deviation = None
            if part.deviation is not None:
                deviation = self._quantity(part.deviation, "flow" if flow else "length", by, "deviation")
            elif table == "candidate":
                raise InputError(
                    f"{by}: with which standard deviation would it be measured? Give `deviation`."
                )
            times = () if part.date is None else (part.date,)
            with naming(by):
                if part.level_at is not None:
                    x, y = part.level_at
                    when = np.array(times, dtype="datetime64[s]")
                    bores.append(
                        Bore(
                            part.name,
                            x,
                            y,
                            str(part.layer),
                            dates=when,
                            levels=np.zeros(1),
                            deviation=deviation,
                            source=by,
                        )
                    )
                    continue
                if part.across is not None and part.across not in lines:
                    raise InputError(
                        f'there is no line "{part.across}"; expected one of {list(lines)} of [[across]].'
                    )
                within = None if part.within is None else self.source.union(part.within, table, k, "within")
                others.append(
                    Measurement(
                        name=part.name, level_in=part.level_in, drawdown_in=part.drawdown_in, since=part.since,
                        between=part.between, gain_of=tuple(part.gain_of), within=within, layers=tuple(part.layers),
                        across=None if part.across is None else lines[part.across], values=[0.0],
                        times=times or None, deviation=deviation, source=by,
                    )
                )  # fmt: skip
        return Places(tuple(bores), tuple(others))

    def _quantity(self, value: Any, kind: str, by: str, what: str) -> float:
        try:
            return float(quantity(value, kind, units=self.source.units, what=what))
        except InputError as problem:
            raise InputError(f"{by}: {problem}") from None

    # --- fits --------------------------------------------------------------------------------------

    def plans(self, site: Site) -> tuple[FitPlan, ...]:
        """Make the fits that are asked for."""
        made = []
        for k, part in enumerate(self.asked.fit):
            parameters = self.parameters(part, site, "fit", k)
            with naming(self.source.by("fit", k)):
                regularisation = regularisation_of(part)
            made.append(FitPlan(part, tuple(parameters), tuple(self.rules(part, "fit", k)), regularisation))
        return tuple(made)

    def parameters(self, fit: FitPart, site: Site, *key: Any) -> list[Parameter]:
        """Make the parameters of a fit: those of its short lists, then its tables.

        Raises
        ------
        InputError
            If a value cannot be read, or a layer of a list has no conductivity.
        """
        from inkhorn.calibration import Parameter

        made, widest, span = [], fit.widest_factor, fit.recharge_factor
        for layer in fit.conductivity_of:
            k = site.materials[layer].conductivity
            if k is None:
                raise InputError(
                    f'{self.source.by(*key, "conductivity_of")}: the layer "{layer}" has a transmissivity; only a '
                    "conductivity can be fitted."
                )
            made.append(
                Parameter(
                    name=f"conductivity of {layer}", of="conductivity", how="set", layers=(layer,), start=k,
                    lower=k / widest, upper=k * widest,
                )
            )  # fmt: skip
        if fit.recharge:
            made.append(Parameter(name="recharge", of="recharge.rate", lower=1 / span, upper=span))
        for n, part in enumerate(fit.parameter):
            made.append(self._parameter(part, site.features, *key, "parameter", n))
        return made

    def _parameter(self, part: ParameterPart, features: Sequence[Feature], *key: Any) -> Parameter:
        from inkhorn.calibration import Parameter

        by = self.source.by(*key)
        mine = [f for f in features if part.feature in (None, f.name)]
        with naming(by):
            kind = "number" if part.how == "factor" else dimension_of(value_named(part.of), mine)
        numbers = {
            name: None if getattr(part, name) is None else self._quantity(getattr(part, name), kind, by, name)
            for name in ("start", "lower", "upper", "expected")
        }
        logarithmic = part.logarithmic
        if logarithmic is None:
            logarithmic = part.how != "add" and (part.how == "factor" or kind not in ("elevation", "angle"))
        apart = "number" if logarithmic else "length" if kind == "elevation" else kind
        deviation = None if part.deviation is None else self._quantity(part.deviation, apart, by, "deviation")
        points = None if part.points is None else self._points(part.points, kind, *key, "points")
        with naming(by):
            return Parameter(
                name=part.name, of=part.of, how=part.how, layers=tuple(part.layers), zone=part.zone, feature=part.feature,
                shape=None if part.within is None else self.source.union(part.within, *key, "within"),
                logarithmic=part.logarithmic, held=part.held, follows=part.follows, multiple=part.multiple,
                deviation=deviation, points=points, **numbers,
            )  # fmt: skip

    def _points(self, part: PilotPart, kind: str, *key: Any) -> PilotPoints:
        from inkhorn.calibration import PilotPoints

        options: dict[str, Any] = {
            "variogram": None if part.variogram is None else Variogram(**part.variogram.model_dump()),
            "on_logarithms": part.logarithms, "neighbours": part.neighbours, "least": part.least,
            "reach": np.inf if part.reach is None else part.reach, "too_few": part.too_few,
        }  # fmt: skip
        if part.file is None:
            return PilotPoints(spacing=part.spacing, **options)
        table = self.source.points(part.file, *key, "file", sheet=part.sheet)
        x, y = self.source.on_map(table, part.local, *key)
        names = table.text("name") if table.has("name") else ()
        values = table.numbers("value", kind, default=np.nan)
        held = _held(table) if table.has("held") else ()
        return PilotPoints(x, y, names=names, values=values, held=held, **options)

    def rules(self, fit: FitPart, *key: Any) -> list[WeightRule]:
        """Make the rules for weights of a fit."""
        from inkhorn.calibration import WeightRule

        made = []
        for n, part in enumerate(fit.weight):
            by = self.source.by(*key, "weight", n)
            within = (
                None if part.within is None else self.source.union(part.within, *key, "weight", n, "within")
            )
            with naming(by):
                made.append(
                    WeightRule(
                        names=tuple(part.names), groups=tuple(part.groups), layers=tuple(part.layers), near=part.near,
                        within=within, distance=part.distance, begin=part.begin, end=part.end, factor=part.factor,
                        reason=part.reason,
                        deviation=None if part.deviation is None else self._level_or_flow(part.deviation, by),
                    )
                )  # fmt: skip
        return made

    def _level_or_flow(self, value: Any, by: str) -> float:
        """A deviation of levels or of flows, by its unit; a bare number is of what it is meant for."""
        try:
            return float(quantity(value, "length", units=self.source.units, what="deviation"))
        except InputError:
            return self._quantity(value, "flow", by, "deviation")


def regularisation_of(fit: FitPart) -> Regularisation:
    """Return what holds parameters beside the readings."""
    from inkhorn.calibration import Regularisation

    return Regularisation(
        kind=fit.regularisation, strength=fit.strength, target=fit.target, most_directions=fit.most_directions,
        least_share=fit.least_share,
    )  # fmt: skip


def _held(table: Table) -> np.ndarray[Any, np.dtype[np.bool_]]:
    cells = [c.strip().lower() for c in table.columns["held"]]
    bad = next((k for k, c in enumerate(cells) if c not in (*_YES, *_NO)), None)
    if bad is not None:
        raise InputError(f'{table.row(bad)}: "held" is "{table.columns["held"][bad]}"; expected yes or no.')
    return np.array([c in _YES for c in cells], dtype=bool)
