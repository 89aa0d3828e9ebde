"""A fit while it goes on: every iteration kept, so that it can go on to the same bits."""

from __future__ import annotations

import json
import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from inkhorn.calibration import FitResult, FitRow, FitState, ParameterSet, calibrate
from inkhorn.errors import InputError
from inkhorn.files import StepFile, StepReader, written_whole
from inkhorn.flow import FlowResult, SolverReport
from inkhorn.model import Model, differences, fingerprint
from inkhorn.runs.fit_set_up import FitSetUp
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.journal import Journal

__all__ = ["fitted", "read_fit"]


def _write_record(flow: FlowResult, path: Path) -> None:
    """Write the records of a flow."""
    path.unlink(missing_ok=True)
    made_of = fingerprint(flow.model)
    with StepFile(path, flow.model) as steps:
        steps.begin(replace(flow.start, made_of=made_of))
        for step in flow.steps:
            steps.append(replace(step, made_of=made_of))


def _read_record(model: Model, path: Path) -> FlowResult:
    """Read them again, their model as it was."""
    with StepReader(path, model, any_version=True) as steps:
        start = steps.start
        assert start is not None  # as `_write_record` has begun it
        records = [replace(steps[k]) for k in range(len(steps))]  # all of them read
        return FlowResult(model, records, SolverReport.of([r.report for r in records]), start)


def _rows_said(history: Sequence[FitRow]) -> list[dict[str, Any]]:
    return [
        {**vars(row), "by_group": dict(row.by_group), "coordinates": list(row.coordinates)} for row in history
    ]


def _rows_read(said: Any) -> tuple[FitRow, ...]:
    return tuple(FitRow(**{**row, "coordinates": tuple(row["coordinates"])}) for row in said)


def _write_state(folder: RunFolder, state: FitState, more: dict[str, Any]) -> None:
    """Write where a fit stands: first the record of its flow, then what names it; then the last one goes."""
    iteration = len(state.history) - 1
    record = folder.file("iterate", str(iteration))
    _write_record(state.flow, record)
    if iteration == 0:
        _write_record(state.before, folder.file("before"))
    said = {
        "damping": state.damping, "strength": state.strength, "history": _rows_said(state.history),
        "iterate": record.name, **more,
    }  # fmt: skip
    with written_whole(folder.file("fit")) as beside:
        beside.write_text(json.dumps(said, indent=1), encoding="utf-8")
    folder.keep_about(iterations=iteration)
    if iteration:
        folder.file("iterate", str(iteration - 1)).unlink(missing_ok=True)


def _flows(
    folder: RunFolder, parameters: ParameterSet, history: Sequence[FitRow], last: Path
) -> tuple[FlowResult, FlowResult]:
    """Read the flows with the first values and with the last ones."""
    first, now = (parameters.model_with(np.array(history[k].coordinates)) for k in (0, -1))
    before = _read_record(first, folder.there("before"))
    return before, before if len(history) == 1 else _read_record(now, last)


def fitted(
    made: FitSetUp, folder: RunFolder, journal: Journal, before: RunFolder | None, initial_heads: Any
) -> FitResult:
    """Fit, after the iterations of an earlier folder."""
    known = {"made of": fingerprint(made.model), "digest": made.digest(), "fit": made.plan.name}
    go_on = None
    if before is not None and before.file("fit").exists():
        said = json.loads(before.file("fit").read_text(encoding="utf-8"))
        _refuse_other(said, known, before)
        if "jacobian" in said:
            for key in ("fit", "before", "steps"):
                shutil.copyfile(before.there(key), folder.file(key))
            journal.tell(f"the fit is taken over from {before.path}")
            return read_fit(made, folder)
        history = _rows_read(said["history"])
        flows = _flows(before, made.parameters, history, before.path / said["iterate"])
        go_on = FitState(*flows, said["damping"], said["strength"], history)
        _write_record(go_on.before, folder.file("before"))
        _write_state(folder, go_on, known)
        journal.tell(f"goes on after iteration {len(go_on.history) - 1} of {before.path}")

    def kept(state: FitState) -> None:
        row = state.history[-1]
        _write_state(folder, state, known)
        folder.worth = True
        groups = ", ".join(f"{g} {v:.4g}" for g, v in row.by_group.items()) if len(row.by_group) > 1 else ""
        moved = f"; most changed {row.largest}, by {row.change:+.2g}" if row.largest else ""
        journal.tell(
            f"iteration {len(state.history) - 1}: misfit {row.misfit:.4g}{f' ({groups})' if groups else ''}"
            + (f", penalty {row.penalty:.4g}" if row.penalty else "")
            + f", {row.flow_solves} flow and {row.sensitivity_solves} sensitivity solves, damping {row.damping:.0e}"
            + moved
        )

    journal.progress("fitting", None)
    folder.keep_about(
        cells=made.model.grid.n_cells,
        steps=1,
        of=made.plan.name,
        **{"in time": made.model.schedule is not None},
    )
    asked = made.plan.asked
    fit = calibrate(
        made.model, made.parameters, observations=made.observations, regularisation=made.plan.regularisation,
        max_iterations=asked.max_iterations, tolerance=asked.tolerance, initial_heads=initial_heads, solver=made.solver,
        progress=journal.progress, keep=kept, go_on=go_on,
    )  # fmt: skip
    _write_record(fit.after, folder.file("steps"))
    said = json.loads(folder.file("fit").read_text(encoding="utf-8"))
    with written_whole(folder.file("fit")) as beside:
        whole = {**said, "reason": fit.reason, "jacobian": fit.jacobian.tolist()}
        beside.write_text(json.dumps(whole, indent=1), encoding="utf-8")
    folder.keep_about(steps=len(fit.after.steps))
    return fit


def _refuse_other(said: Any, known: Any, before: RunFolder) -> None:
    """Refuse to go on with the fit of another model, or of other parameters or readings."""
    found = differences(said["made of"], known["made of"])
    if said.get("digest") != known["digest"]:
        found.append("the parameters, their bounds, the readings or their weights")
    if found:
        raise InputError(
            f'"{before.path}" holds the fit of another model; what differs: {"; ".join(found)}. Go on with the model it '
            "was made with, or fit anew."
        )


def read_fit(made: FitSetUp, folder: RunFolder) -> FitResult:
    """Read a fit that came to its end."""
    said = json.loads(folder.there("fit").read_text(encoding="utf-8"))
    if "jacobian" not in said:
        raise InputError(f'"{folder.path}" holds a fit that was stopped. Go on with it: inkhorn fit --go-on.')
    history = _rows_read(said["history"])
    flows = _flows(folder, made.parameters, history, folder.there("steps"))
    return FitResult(
        made.parameters, made.observations, made.plan.regularisation, *flows, np.array(said["jacobian"]), history,
        said["reason"],
    )  # fmt: skip
