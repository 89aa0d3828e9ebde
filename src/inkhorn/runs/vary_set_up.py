"""What many runs of a project are made of, found and told before anything is solved."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property
from hashlib import blake2b
from typing import Any

import numpy as np

from inkhorn.calibration import Observations, observe
from inkhorn.ensemble import Carry, Fitted, Follow, Varied, VariedSet, Watch
from inkhorn.ensemble.readers import Watching
from inkhorn.errors import InputError, naming
from inkhorn.fields import RandomField
from inkhorn.model import Model
from inkhorn.project import Project, VaryPlan
from inkhorn.runs.paths import followed_by
from inkhorn.runs.plume import carried_by
from inkhorn.runs.product import digest_of

__all__ = ["VarySetUp", "vary_named"]


def vary_named(project: Project, name: str | None) -> VaryPlan:
    """Return the runs that are asked for.

    Raises
    ------
    InputError
        If a project asks for none, or for several and none of these is named.
    """
    plans = project.varies
    if not plans:
        raise InputError(
            f"{project.path.name} does not say what differs from run to run. Add a table such as\n"
            "[vary]\nruns = 200\n[[vary.field]]\n"
            'name = "conductivity"\nof = "conductivity"\nrandom = { variance = 0.8, length = "250 m" }\n'
            '[[vary.watch]]\nname = "level"\nlevel_at = [0, 0]\nlayer = "'
            + project.site.strata.names[0]
            + '"'
        )
    if name is None and len(plans) == 1:
        return plans[0]
    known = [p.name for p in plans]
    for plan in plans:
        if plan.name == name:
            return plan
    given = (
        f'no table [[vary]] is called "{name}"' if name is not None else "several tables [[vary]] are there"
    )
    raise InputError(f"{project.path.name}: {given}; choose one of {known} with --of.")


class VarySetUp:
    """All that many runs are made of.

    Attributes
    ----------
    plan : VaryPlan
    model : Model
    watches : tuple of Watch
    carries, follows
        What of [transport] and [paths] is watched.
    fit_levels : bool
        Whether each run is fitted to what was measured; as the project says if not given.
    readings : Observations or None
        That each run is fitted to.
    """

    def __init__(
        self, project: Project, plan: VaryPlan, model: Model, *, fit_levels: bool | None = None
    ) -> None:
        self.fit_levels = plan.asked.fit_levels if fit_levels is None else fit_levels
        self.project, self.plan, self.model = project, plan, model
        asked = project.asked
        species = {s: part for part in asked.transport for s in part.of}
        solute = [w for w, _ in plan.watches if w.of_solute]
        wanted = {w.species for w in solute} | {m.species for m in plan.maps if m.of_solute}
        used = [part for part in asked.transport if wanted & {"", *part.of}]
        if wanted - {"", *species}:
            missing = sorted(wanted - {"", *species})
            raise InputError(
                f"{project.path.name}, [vary]: {', '.join(missing)} is watched, and no table [transport] carries it; "
                f"carried are {list(species)}."
            )
        self._refuse_twice(used)
        self.carries = tuple(self._carry(part) for part in used)
        paths = {w.paths for w, _ in plan.watches if w.way == "travel_time_of"}
        paths |= {m.paths for m in plan.maps if m.of == "capture"}
        self.follows: tuple[Follow, ...] = tuple(
            followed_by(project, model, part) for part in asked.paths if paths & {"", part.name}
        )
        self.readings = self._readings()
        self.watches: tuple[Watch, ...] = tuple(self._often(w, every) for w, every in plan.watches)

    @cached_property
    def varied(self) -> tuple[Varied | Fitted, ...]:
        """What differs from run to run; fits are opened when it is asked for."""
        fits = (self._fitted(part.run, part.name) for part in self.plan.asked.fit)
        return (*fits, *self.plan.varied)

    def _readings(self) -> Observations | None:
        """What was measured, of runs that are fitted to it: means beside the steady flow, or that of the first period."""
        if not self.fit_levels:
            return None
        model, project = self.model, self.project
        with naming(f"{project.path.name}, [vary] fit_levels"):
            if model.schedule is not None and model.schedule.steady[0]:
                model = model.at_period(0)
            rules = project.fits[0].rules if project.fits else ()
            found = observe(model, project.site.bores, project.site.measurements, rules=rules)
            if not found.stated:
                raise InputError(
                    "readings have no standard deviations. Give `deviation` to [bores] or [[measured]], or a "
                    "[[fit.weight]]."
                )
            return found

    def _refuse_twice(self, used: list[Any]) -> None:
        """Refuse a species that several tables carry, as what is watched would not be told apart."""
        names = [s for part in used for s in part.of]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise InputError(
                f"{self.project.path.name}, [vary]: {twice} is carried by several tables [transport]; many runs carry it "
                "once. Leave one of them out, as in a variant."
            )

    def _carry(self, part: Any) -> Carry:
        made = carried_by(self.project, self.model, part)
        across = any(w.way == "mass_across" for w, _ in self.plan.watches)
        return Carry(made.species, {**made.options, "keep_flows": across or made.options["keep_flows"]})

    def _fitted(self, run: str, name: str) -> Fitted:
        from inkhorn.runs.opening import open_run

        where = f"{self.project.path.name}, [[vary.fit]]"
        folder = self.project.path.parent / run
        with naming(where):
            return Fitted(open_run(folder).fit, name)

    def _often(self, watch: Watch, every: float | None) -> Watch:
        """A watch with its times, where it is told how often."""
        if every is None:
            return watch
        schedule = self.model.schedule
        last: float | None = None if schedule is None else float(schedule.ends[-1])
        if watch.of_solute:
            last = next((c.options["duration"] for c in self.carries if c.options["duration"]), last)
        if last is None:
            raise InputError(
                f"{self.project.path.name}, [vary]: {watch.where} is told how often, and the flow is steady. Leave out "
                "`every`."
            )
        return replace(watch, times=tuple(np.arange(every, last * (1.0 + 1e-9), every).tolist()))

    @property
    def solver(self) -> dict[str, Any]:
        """How flow is solved."""
        asked, time = self.project.asked.solver, self.project.asked.time
        return {
            "order": 1 if time is None else time.order,
            "head_error": None if time is None else time.head_error,
            "closure": asked.closure,
            "max_iterations": asked.max_iterations,
        }

    def watching(self) -> Watching:
        """Return what is watched, ready to be read."""
        with naming(f"{self.project.path.name}, [vary]"):
            return Watching(self.model, self.watches, self.plan.maps, self.carries, self.follows)

    def digest(self, block: int) -> str:
        """What tells whether runs are of the same."""
        asked = self.plan.asked.model_dump(exclude={"runs", "settle"}, mode="json")
        tables = [
            *(t.model_dump(mode="json") for t in self.project.asked.transport),
            *(t.model_dump(mode="json") for t in self.project.asked.paths),
        ]
        points = [
            [np.asarray(getattr(v.value.measured, k)).tolist() for k in ("x", "y", "values", "deviations")]
            for v in self.plan.varied
            if isinstance(v.value, RandomField) and v.value.measured is not None
        ]
        said = [digest_of(self.project, self.model, None), asked, tables, points, block, repr(self.solver)]
        if self.readings is not None:
            said.append(self.readings.table.to_csv(float_format="%.17g"))
        said += [v.fit.coordinates.tolist() for v in self.varied if isinstance(v, Fitted)]
        return blake2b(json.dumps(said, default=str).encode(), digest_size=8).hexdigest()

    def told_before(self, runs: int, block: int) -> Iterator[str]:
        """Say what is about to be done."""
        ready = VariedSet(self.model, self.varied)
        fields = [v for v in self.varied if isinstance(v, Varied) and isinstance(v.value, RandomField)]
        what = [f"{len(ready)} number{'s'[: len(ready) != 1]} with a distribution"] * bool(len(ready))
        what += [f"{len(fields)} random field{'s'[: len(fields) != 1]}"] * bool(fields)
        yield f"varied: {' and '.join(what)}"
        for one in self.varied:
            if isinstance(one, Fitted):
                yield f"{one.name}: {len(one.fit.parameters)} numbers as the fit left them"
            else:
                said = repr(one.value) if isinstance(one.value, RandomField) else one.value.words
                yield f"{one.name}: {one.how} {one.of}, {said}"
        yield from ready.notes
        does = ["solves the flow", *(f"carries {s.name}" for c in self.carries for s in c.species)]
        does += [f"follows {f.name or 'paths'}" for f in self.follows]
        yield f"each run {', '.join(does)}"
        if self.readings is not None:
            yield f"each run is fitted to {len(self.readings)} readings, changing what was drawn as little as need be"
        if self.plan.settle is not None:
            settle = self.plan.settle
            yield (
                f"at the most {runs} runs; enough when the {settle.statistic} of {settle.watch} has a standard error of "
                f"{settle.error:g}"
            )
