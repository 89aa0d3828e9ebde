"""What a fit of a project is made of, found and told before anything is solved."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import replace
from hashlib import blake2b
from typing import Any

import numpy as np

from inkhorn.calibration import Observations, ParameterSet, observe
from inkhorn.errors import InputError
from inkhorn.model import Model
from inkhorn.project import FitPlan, Places, Project

__all__ = ["FitSetUp", "few", "fit_named", "model_to_fit", "told_before"]


def few(names: Sequence[str]) -> str:
    """Names in a row, the first of them where there are many."""
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")


def fit_named(project: Project, name: str | None) -> FitPlan:
    """Return the fit that is asked for.

    Raises
    ------
    InputError
        If a project asks for none, or for several and none of these is named.
    """
    fits = project.fits
    if not fits or not any(f.parameters for f in fits):
        raise InputError(
            f"{project.path.name} does not say what to fit. Add a table such as\n"
            '[fit]\nconductivity_of = ["' + project.site.strata.names[0] + '"]\nrecharge = true\n'
            "or take one from: inkhorn fit --list"
        )
    if name is None and len(fits) == 1:
        return fits[0]
    known = [f.name for f in fits]
    for plan in fits:
        if plan.name == name:
            return plan
    said = f'there is no fit "{name}"' if name is not None else "the project asks for several fits"
    raise InputError(f"{project.path.name}: {said}; name one of {few(known)} by --of.")


def model_to_fit(plan: FitPlan, model: Model) -> Model:
    """Return the model that a fit is made of: that of a run through time, or steady, its first period.

    Raises
    ------
    InputError
        If neither can be.
    """
    if plan.asked.in_time:
        if model.schedule is None:
            raise InputError(
                "the fit goes through time (in_time = true), and the project has no [time]. Give one."
            )
        return model
    if model.schedule is None:
        return model
    if not model.schedule.steady[0]:
        raise InputError(
            "the fit is made to steady flow, and the first period is not steady. Let it be (steady_first), or fit in "
            "time (in_time = true)."
        )
    return model.at_period(0)


class FitSetUp:
    """All that a fit is made of, found before anything is solved.

    Attributes
    ----------
    plan : FitPlan
    model : Model
        Steady or in time, as the fit goes.
    parameters : ParameterSet
    observations : Observations
    forecasts, candidates : Observations, optional
        What is forecast with it, and what might be measured next.
    """

    def __init__(self, project: Project, plan: FitPlan, model: Model) -> None:
        self.project, self.plan, self.model = project, plan, model_to_fit(plan, model)
        self.parameters = ParameterSet(self.model, plan.parameters)
        self.observations = observe(
            self.model, project.site.bores, project.site.measurements, rules=plan.rules
        )
        self.forecasts, self.candidates = (self._at(p) for p in (project.forecasts, project.candidates))

    def _at(self, places: Places) -> Observations | None:
        """What is forecast, or might be measured; without a date at the end of a run through time."""
        if not places.bores and not places.measurements:
            return None
        schedule, bores, others = self.model.schedule, list(places.bores), list(places.measurements)
        if schedule is not None and schedule.start is not None:
            end = np.array([schedule.date(float(schedule.ends[-1]))], dtype="datetime64[s]")
            bores = [b if len(b.dates) else replace(b, dates=end) for b in bores]
        if schedule is not None:
            last = np.array([float(schedule.ends[-1])])
            others = [o if o.times is not None else replace(o, times=last) for o in others]
        names = [b.name for b in bores] + [o.name for o in others]
        every = [*self.project.site.bores, *bores]
        return observe(self.model, every, others, as_places=True).named(names)

    def digest(self) -> str:
        """What tells whether a fit is the same."""
        p, seen = self.parameters, self.observations
        said = [
            [repr(s) for s in p.scalars],
            [repr(q) for q in p.parameters],
            seen.table.to_csv(float_format="%.17g"),
            repr(self.plan.regularisation),
        ]
        return blake2b(json.dumps(said).encode(), digest_size=8).hexdigest()

    @property
    def solver(self) -> dict[str, Any]:
        """How closely flow is solved."""
        asked = self.project.asked.solver
        return {"closure": asked.closure, "max_iterations": asked.max_iterations}


def told_before(made: FitSetUp) -> Iterator[str]:
    """Say what a fit is about to do, before anything is solved."""
    p, seen = made.parameters, made.observations
    how = "in time, by steps of first order" if made.model.schedule is not None else "steady"
    held = len(p.scalars) - len(p)
    rest = f" ({held} held or following others)" if held else ""
    yield f"fitted is {how}: {len(p)} numbers{rest} of {len(p.parameters)} parameters, to {len(seen)} readings"
    for _, _, surface in p.groups():
        yield f"{surface.name}: {len(surface.z)} pilot points"
    for parameter in p.parameters:
        if parameter.points is not None:
            out = p.dropped(parameter.name)
            if out:
                yield f"{parameter.name}: pilot points outside are dropped: {few(out)}"
    if len(seen.left_out):
        for why, some in seen.left_out.groupby("why", sort=False):
            names = list(dict.fromkeys(some["name"]))
            yield f"{len(some)} readings are left out ({few(names)}): {why}"
    yield from seen.notes
