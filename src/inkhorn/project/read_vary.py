"""What differs from run to run and what is watched, as a project file describes it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn.errors import InputError, did_you_mean, naming
from inkhorn.model import dimension_of
from inkhorn.project.parts_vary import (
    VariedFieldPart,
    VariedNumberPart,
    VaryPart,
    WatchMapPart,
    WatchPart,
)
from inkhorn.project.read_random import RandomReader
from inkhorn.project.read_strata import StrataReader
from inkhorn.project.source import Source
from inkhorn.site import Feature, Site, value_named
from inkhorn.units import quantity

if TYPE_CHECKING:
    from inkhorn.ensemble import Distribution, Settle, Varied, Watch, WatchMap

__all__ = ["VaryPlan", "VaryReader"]


@dataclass(frozen=True, eq=False)
class VaryPlan:
    """Many runs that are asked for.

    Attributes
    ----------
    asked : VaryPart
        As the project file has it.
    varied : tuple of Varied
        What differs, but for the parameters of fits.
    watches : tuple of (Watch, float or None)
        What is watched, and how often where that is told.
    maps : tuple of WatchMap
    settle : Settle or None
    """

    asked: VaryPart
    varied: tuple[Varied, ...] = field(repr=False)
    watches: tuple[tuple[Watch, float | None], ...] = field(repr=False)
    maps: tuple[WatchMap, ...] = field(repr=False)
    settle: Settle | None = None

    @property
    def name(self) -> str:
        """What it is called, of several."""
        return self.asked.name


class VaryReader:
    """Makes what is varied and what is watched."""

    def __init__(self, source: Source, strata: StrataReader) -> None:
        self.source, self.random = source, RandomReader(source, strata)

    def plans(self, site: Site, lines: dict[str, Any]) -> tuple[VaryPlan, ...]:
        """Make all that is asked for; lines are those of [[across]]."""
        return tuple(
            self._plan(part, site, lines, "vary", k) for k, part in enumerate(self.source.asked.vary)
        )

    def _plan(self, part: VaryPart, site: Site, lines: dict[str, Any], *key: Any) -> VaryPlan:
        from inkhorn.ensemble import Settle

        varied = [self._field(one, site.features, *key, "field", n) for n, one in enumerate(part.field)]
        varied += [self._number(one, site.features, *key, "number", n) for n, one in enumerate(part.number)]
        watches = tuple(self._watch(one, lines, *key, "watch", n) for n, one in enumerate(part.watch))
        maps = tuple(self._map(one, *key, "map", n) for n, one in enumerate(part.map))
        settle = None
        if part.settle is not None:
            by = self.source.by(*key, "settle")
            known = {w.name: w for w, _ in watches}
            if part.settle.watch not in known:
                raise InputError(
                    f'{by}: "{part.settle.watch}" is not watched; expected one of {list(known)}.'
                    f"{did_you_mean(part.settle.watch, list(known))}"
                )
            error = self._of_watch(part.settle.error, known[part.settle.watch], by, "error")
            with naming(by):
                settle = Settle(part.settle.watch, error, part.settle.statistic, part.settle.least)
        return VaryPlan(part, tuple(varied), watches, maps, settle)

    # --- what differs ------------------------------------------------------------------------------

    def _kinds(self, part: Any, features: Sequence[Feature], by: str) -> tuple[str, str]:
        """Dimension of the value, and of what is varied."""
        mine = [f for f in features if part.feature in (None, f.name)]
        with naming(by):
            own = dimension_of(value_named(part.of), mine)
        return "number" if part.how == "factor" else own, own

    def _where(self, part: Any, *key: Any) -> dict[str, Any]:
        return {
            "name": part.name, "of": part.of, "how": part.how, "layers": tuple(part.layers), "zone": part.zone,
            "feature": part.feature,
            "shape": None if part.within is None else self.source.union(part.within, *key, "within"),
        }  # fmt: skip

    def _field(self, part: VariedFieldPart, features: Sequence[Feature], *key: Any) -> Varied:
        from inkhorn.ensemble import Varied

        by = self.source.by(*key)
        kind, own = self._kinds(part, features, by)
        value = self.random.field(part.random, kind, own, *key, "random", layers=part.layers)
        with naming(by):
            return Varied(value=value, **self._where(part, *key))

    def _number(self, part: VariedNumberPart, features: Sequence[Feature], *key: Any) -> Varied:
        from inkhorn.ensemble import LogNormal, Normal, Triangular, Uniform, Varied

        by = self.source.by(*key)
        kind, _ = self._kinds(part, features, by)

        def number(value: Any, what: str, otherwise: float, kind: str = kind) -> float:
            return otherwise if value is None else self._quantity(value, kind, by, what)

        inf = float("inf")
        with naming(by):
            made: Distribution
            if part.normal is not None:
                n = part.normal
                apart = "length" if kind == "elevation" else kind
                made = Normal(
                    number(n.mean, "mean", 0.0), number(n.deviation, "deviation", 0.0, apart),
                    number(n.lower, "lower", -inf), number(n.upper, "upper", inf),
                )  # fmt: skip
            elif part.log_normal is not None:
                m = part.log_normal
                made = LogNormal(
                    number(m.median, "median", 0.0), m.deviation, number(m.lower, "lower", 0.0),
                    number(m.upper, "upper", inf),
                )  # fmt: skip
            elif part.uniform is not None:
                made = Uniform(
                    number(part.uniform.lower, "lower", 0.0), number(part.uniform.upper, "upper", 0.0)
                )
            else:
                t = part.triangular
                assert t is not None  # the file has one of them
                made = Triangular(*(number(getattr(t, k), k, 0.0) for k in ("lower", "mode", "upper")))
            return Varied(value=made, **self._where(part, *key))

    # --- what is watched ---------------------------------------------------------------------------

    def _watch(self, part: WatchPart, lines: dict[str, Any], *key: Any) -> tuple[Watch, float | None]:
        from inkhorn.ensemble import Watch

        by = self.source.by(*key)
        across = {}
        for name in ("across", "mass_across"):
            line = getattr(part, name)
            if line is not None and line not in lines:
                raise InputError(
                    f'{by}: there is no line "{line}"; expected one of {list(lines)} of [[across]].'
                    f"{did_you_mean(line, list(lines))}"
                )
            across[name] = None if line is None else lines[line]
        within = None if part.within is None else self.source.union(part.within, *key, "within")
        plain = (
            "name", "level_at", "level_in", "drawdown_in", "since", "between", "value_at", "value", "concentration_at",
            "concentration_in", "highest_in", "passed_in", "above_limit", "travel_time_of", "share", "layer", "species",
            "paths",
        )  # fmt: skip
        said: dict[str, Any] = {**{k: getattr(part, k) for k in plain}, **across}
        with naming(by):
            made = Watch(
                **said, within=within, gain_of=tuple(part.gain_of),
                layers=tuple(part.layers), times=tuple(part.times),
            )  # fmt: skip
            if part.limit is None:
                return made, part.every
            from dataclasses import replace

            return replace(made, limit=self._of_watch(part.limit, made, by, "limit")), part.every

    def _of_watch(self, value: Any, watch: Watch, by: str, what: str) -> float:
        """A number in the unit of something watched."""
        kinds = {
            "m": "length" if watch.way in ("drawdown_in", "between") or what == "error" else "elevation",
            "m³/day": "flow", "day": "time", "g/m³": "concentration",
        }  # fmt: skip
        if watch.way == "value_at":
            return self._bare(value, watch, by, what)
        if watch.way == "above_limit" and what == "limit":
            return self._quantity(value, "concentration", by, what)
        kind = kinds.get(watch.unit)
        return self._bare(value, watch, by, what) if kind is None else self._quantity(value, kind, by, what)

    @staticmethod
    def _bare(value: Any, watch: Watch, by: str, what: str) -> float:
        if not isinstance(value, int | float) or isinstance(value, bool) or not np.isfinite(value):
            raise InputError(
                f"{by}: {what} is {value!r}; expected a number, in the unit in which {watch.words} is told."
            )
        return float(value)

    def _map(self, part: WatchMapPart, *key: Any) -> WatchMap:
        from inkhorn.ensemble import WatchMap

        by = self.source.by(*key)
        limit = None
        if part.limit is not None:
            kind = {"concentration": "concentration", "head": "elevation"}.get(part.of)
            if kind is not None:
                limit = self._quantity(part.limit, kind, by, "limit")
            elif isinstance(part.limit, int | float) and not isinstance(part.limit, bool):
                limit = float(part.limit)
            else:
                raise InputError(
                    f"{by}: limit is {part.limit!r}; expected a number, in the unit of {part.of}."
                )
        with naming(by):
            return WatchMap(
                name=part.name, of=part.of, layer=part.layer, time=part.time, species=part.species, paths=part.paths,
                limit=limit, within=part.within, start=tuple(part.start),
            )  # fmt: skip

    def _quantity(self, value: Any, kind: str, by: str, what: str) -> float:
        try:
            return float(quantity(value, kind, units=self.source.units, what=what))
        except InputError as problem:
            raise InputError(f"{by}: {problem}") from None
