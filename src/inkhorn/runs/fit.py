"""A fit of parameters to the levels in bores: every iteration kept, so that it can go on."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn import draw
from inkhorn.calibration import (
    FitResult,
    FitRow,
    FitState,
    LayerConductivity,
    Parameter,
    RechargeMultiplier,
    calibrate,
    observe,
    with_values,
)
from inkhorn.errors import InputError
from inkhorn.files import StepFile, StepReader, write_table, written_whole
from inkhorn.flow import FlowResult, SolverReport
from inkhorn.model import Finding, Model, differences, fingerprint
from inkhorn.project import Project
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.journal import Journal
from inkhorn.runs.product import Picture, Product, Work

__all__ = ["FitProduct", "fit_parameters", "fitted", "model_to_fit"]


def fit_parameters(project: Project, model: Model) -> list[Parameter]:
    """Return the parameters that a project asks to fit.

    Raises
    ------
    InputError
        If it asks for none.
    """
    asked = project.asked.fit
    if asked is None or not (asked.conductivity_of or asked.recharge):
        raise InputError(
            f"{project.path.name} does not say what to fit. Add a table such as\n"
            '[fit]\nconductivity_of = ["' + project.site.strata.names[0] + '"]\nrecharge = true'
        )
    widest = asked.widest_factor
    parameters: list[Parameter] = []
    for layer in asked.conductivity_of:
        k = project.site.materials[layer].conductivity
        if k is None:
            raise InputError(
                f'{project.path.name}: the layer "{layer}" has a transmissivity; only a conductivity can be fitted.'
            )
        parameters.append(
            LayerConductivity(
                name=f"conductivity of {layer}", layer=layer, lower=k / widest, upper=k * widest
            )
        )
    if asked.recharge:
        span = asked.recharge_factor
        parameters.append(
            RechargeMultiplier(name="recharge multiplier", given=model, lower=1 / span, upper=span)
        )
    return parameters


def model_to_fit(model: Model) -> Model:
    """Return the model that a fit is made of: steady, of a run through time its first period.

    Raises
    ------
    InputError
        If that is not steady.
    """
    if model.schedule is None:
        return model
    if not model.schedule.steady[0]:
        raise InputError(
            "a fit is made to steady flow so far. Let the first period be steady (steady_first)."
        )
    return model.at_period(0)


def _write_record(flow: FlowResult, path: Path) -> None:
    """Write the record of a steady flow."""
    path.unlink(missing_ok=True)
    made_of = fingerprint(flow.model)
    with StepFile(path, flow.model) as steps:
        steps.begin(replace(flow.start, made_of=made_of))
        steps.append(replace(flow.steps[-1], made_of=made_of))


def _read_record(model: Model, path: Path) -> FlowResult:
    """Read it again, its model as it was."""
    with StepReader(path, model, any_version=True) as steps:
        start, record = steps.start, steps[0]
        assert start is not None  # as `_write_record` has begun it
        return FlowResult(model, [replace(record)], SolverReport.of([record.report]), start)  # all of it read


def _write_state(folder: RunFolder, state: FitState, more: dict[str, Any]) -> None:
    """Write where a fit stands: first the record of its flow, then what names it; then the last one goes."""
    iteration = len(state.history) - 1
    record = folder.file("iterate", str(iteration))
    _write_record(state.flow, record)
    if iteration == 0:
        _write_record(state.before, folder.file("before"))
    rows = [
        [r.objective, list(map(float, r.values)), r.flow_solves, r.sensitivity_solves] for r in state.history
    ]
    said = {"damping": state.damping, "history": rows, "iterate": record.name, **more}
    with written_whole(folder.file("fit")) as beside:
        beside.write_text(json.dumps(said, indent=1), encoding="utf-8")
    folder.keep_about(iterations=iteration)
    if iteration:
        folder.file("iterate", str(iteration - 1)).unlink(missing_ok=True)


def _read_state(folder: RunFolder, model: Model, parameters: Sequence[Parameter], said: Any) -> FitState:
    """Read where a fit stands, by what its file says."""
    history = tuple(FitRow(a, tuple(values), b, c) for a, values, b, c in said["history"])
    first, last = (with_values(model, parameters, history[k].values) for k in (0, -1))
    before = _read_record(first, folder.there("before"))
    flow = before if len(history) == 1 else _read_record(last, folder.path / said["iterate"])
    return FitState(before, flow, said["damping"], history)


def fitted(
    project: Project, model: Model, folder: RunFolder, journal: Journal, before: RunFolder | None
) -> FitResult:
    """Fit, after the iterations of an earlier folder."""
    parameters = fit_parameters(project, model)
    known = {"made of": fingerprint(model), "parameters": [p.name for p in parameters]}
    go_on = None
    if before is not None and before.file("fit").exists():
        said = json.loads(before.file("fit").read_text(encoding="utf-8"))
        _refuse_other(said, known, before)
        if "jacobian" in said:
            for key in ("fit", "before", "steps"):
                shutil.copyfile(before.there(key), folder.file(key))
            journal.tell(f"the fit is taken over from {before.path}")
            return FitProduct().read(Work(project, model, None, folder, journal), project.asked.fit)  # type: ignore[arg-type]
        go_on = _read_state(before, model, parameters, said)
        _write_record(go_on.before, folder.file("before"))
        _write_state(folder, go_on, known)
        journal.tell(f"goes on after iteration {len(go_on.history) - 1} of {before.path}")

    def kept(state: FitState) -> None:
        row = state.history[-1]
        _write_state(folder, state, known)
        folder.worth = True
        journal.tell(
            f"iteration {len(state.history) - 1}: sum of squares {row.objective:.4g} m², {row.flow_solves} flow and "
            f"{row.sensitivity_solves} sensitivity solves"
        )

    journal.progress("fitting", None)
    folder.keep_about(cells=model.grid.n_cells, steps=1, **{"in time": False})
    asked = project.asked.solver
    fit = calibrate(
        model,
        parameters,
        observations=observe(model, project.site.bores),
        solver={"closure": asked.closure, "max_iterations": asked.max_iterations},
        progress=journal.progress,
        keep=kept,
        go_on=go_on,
    )
    _write_record(fit.after, folder.file("steps"))
    said = json.loads(folder.file("fit").read_text(encoding="utf-8"))
    with written_whole(folder.file("fit")) as beside:
        whole = {**said, "reason": fit.reason, "jacobian": fit.jacobian.tolist()}
        beside.write_text(json.dumps(whole, indent=1), encoding="utf-8")
    return fit


def _refuse_other(said: Any, known: Any, before: RunFolder) -> None:
    """Refuse to go on with the fit of another model, or of other parameters."""
    found = differences(said["made of"], known["made of"])
    if said["parameters"] != known["parameters"]:
        found.append(f"the parameters, {said['parameters']}")
    if found:
        raise InputError(
            f'"{before.path}" holds the fit of another model; what differs: {"; ".join(found)}. Go on with the model it '
            "was made with, or fit anew."
        )


class FitProduct(Product[FitResult]):
    """What a fit found."""

    table = "fit"
    what = "the fit"

    def requests(self, project: Project, model: Model) -> Sequence[Any]:
        return [project.asked.fit] if project.asked.fit is not None else []

    def lacks(self, project: Project, model: Model, asked: Any) -> Iterator[Finding]:
        if not any(len(bore.levels) for bore in project.site.bores):
            yield Finding(
                "warning",
                "a fit has no level to go by",
                f"{project.path.name}, [fit]",
                "Give bores and their levels.",
            )

    def solve(self, work: Work, asked: Any) -> FitResult:
        raise NotImplementedError("a fit is solved before the flow, by `fitted`")

    def write(self, work: Work, asked: Any, made: FitResult) -> None:
        import pandas as pd

        file, units = work.folder.file, work.project.shown_in
        write_table(made.table(), file("parameters"), units)
        before = made.residuals(before=True)
        both = made.residuals().assign(
            **{"computed before [m]": before["computed [m]"], "residual before [m]": before["residual [m]"]}
        )
        write_table(both, file("residuals"), units)
        stats = {"before": made.statistics(before=True), "after": made.statistics()}
        table = pd.DataFrame({k: vars(s) for k, s in stats.items()}).T.rename_axis("fit")
        write_table(table, file("statistics"), units)
        history = [
            {"iteration": k, "sum of squares [m²]": row.objective}
            | {f"{p.name} [{p.unit}]": v for p, v in zip(made.parameters, row.values, strict=True)}
            for k, row in enumerate(made.history)
        ]
        write_table(pd.DataFrame(history), file("history"), units)
        with suppress(FileNotFoundError):
            file("iterate", str(len(made.history) - 1)).unlink()

    def read(self, work: Work, asked: Any) -> FitResult:
        """Read a fit again; the model of `work` is the one before the fit."""
        model, folder = work.model, work.folder
        parameters = fit_parameters(work.project, model)
        said = json.loads(folder.there("fit").read_text(encoding="utf-8"))
        if "jacobian" not in said:
            raise InputError(
                f'"{folder.path}" holds a fit that was stopped. Go on with it: inkhorn fit --go-on.'
            )
        history = tuple(FitRow(a, tuple(values), b, c) for a, values, b, c in said["history"])
        first, last = (with_values(model, parameters, history[k].values) for k in (0, -1))
        return FitResult(
            tuple(parameters),
            np.array(history[0].values),
            np.array(history[-1].values),
            observe(model, work.project.site.bores),
            _read_record(first, folder.there("before")),
            _read_record(last, folder.there("steps")),
            np.array(said["jacobian"]),
            history,
            said["reason"],
        )

    def draw(self, work: Work, asked: Any, made: FitResult) -> Iterator[Picture]:
        yield Picture.of(
            work.folder.file("fit picture"), "measured against computed", draw.measured_against_computed, made
        )

    def tell(self, work: Work, asked: Any, made: FitResult) -> Iterator[str]:
        yield f"stopped: {made.reason}"
        for words, found in (("before", made.statistics(before=True)), ("after", made.statistics())):
            yield f"{words}, over {found.count} means of bores: {found.words}"
