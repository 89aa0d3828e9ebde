"""A fit of parameters to what was measured: every iteration kept, so that it can go on."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn import draw
from inkhorn.calibration import (
    FitResult,
    FitRow,
    FitState,
    Knowledge,
    ParameterSet,
    calibrate,
    observe,
    sensitivities,
)
from inkhorn.errors import InputError
from inkhorn.files import StepFile, StepReader, edits_as_toml, write_table, write_workbook, written_whole
from inkhorn.flow import FlowResult, SolverReport
from inkhorn.model import Finding, Model, differences, fingerprint
from inkhorn.project import FitPlan, Project
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.journal import Journal
from inkhorn.runs.product import Picture, Product, Work

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "FitProduct",
    "FitSetUp",
    "fit_named",
    "fitted",
    "knowledge_tables",
    "looked_at",
    "model_to_fit",
    "told_before",
    "told_of",
    "variant_text",
]


def _few(names: Sequence[str]) -> str:
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
    raise InputError(f"{project.path.name}: {said}; name one of {_few(known)} by --of.")


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
    """

    def __init__(self, project: Project, plan: FitPlan, model: Model) -> None:
        self.project, self.plan, self.model = project, plan, model_to_fit(plan, model)
        self.parameters = ParameterSet(self.model, plan.parameters)
        self.observations = observe(
            self.model, project.site.bores, project.site.measurements, rules=plan.rules
        )

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
                yield f"{parameter.name}: pilot points outside are dropped: {_few(out)}"
    if len(seen.left_out):
        for why, some in seen.left_out.groupby("why", sort=False):
            names = list(dict.fromkeys(some["name"]))
            yield f"{len(some)} readings are left out ({_few(names)}): {why}"
    yield from seen.notes


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
            return _read(made, folder)
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


def _read(made: FitSetUp, folder: RunFolder) -> FitResult:
    said = json.loads(folder.there("fit").read_text(encoding="utf-8"))
    if "jacobian" not in said:
        raise InputError(f'"{folder.path}" holds a fit that was stopped. Go on with it: inkhorn fit --go-on.')
    history = _rows_read(said["history"])
    flows = _flows(folder, made.parameters, history, folder.there("steps"))
    return FitResult(
        made.parameters, made.observations, made.plan.regularisation, *flows, np.array(said["jacobian"]), history,
        said["reason"],
    )  # fmt: skip


def variant_text(project: Project, result: FitResult) -> str:
    """Return the fitted values as a variant of the project that `inkhorn run` takes.

    Values of the project's own edits stay, and these come after them.
    """
    shapes = {}
    for plan in project.fits:
        for part in plan.asked.parameter:
            if part.within is not None:
                shapes[part.name] = {k: v for k, v in part.within.model_dump().items() if v is not None}
    p = result.parameters
    units = {p.parameters[s.parameter].name: s.unit for s in p.scalars}
    edits = [
        (edit, units[parameter.name], shapes.get(parameter.name, {}))
        for edit, parameter in zip(p.edits(result.coordinates), p.parameters, strict=True)
    ]
    return f"# what a fit of {project.asked.title} found: {result.reason}\n\n{edits_as_toml(edits)}"


def looked_at(made: FitSetUp, flow: FlowResult, journal: Journal) -> Knowledge:
    """Return what readings say of the parameters where they start."""
    return sensitivities(
        flow, made.parameters, made.observations, regularisation=made.plan.regularisation, progress=journal.progress
    )  # fmt: skip


def _statistics(made: FitResult) -> pd.DataFrame:
    """How well readings are met, by unit and group, before and after."""
    import pandas as pd

    from inkhorn.calibration import FitStatistics

    rows = []
    for when, table in (("before", made.residuals(before=True)), ("after", made.residuals())):
        for (unit, group), some in table.groupby(["unit", "group"], sort=False):
            found = FitStatistics.of(some["measured"].to_numpy(), some["computed"].to_numpy(), str(unit))
            rows.append(
                {
                    "fit": when, "group": group, "unit": unit, "count": found.count, "mean residual": found.mean,
                    "RMS": found.rms, "scaled RMS [-]": found.scaled_rms, "correlation [-]": found.correlation,
                    "weighted sum of squares [-]": float((some["weighted residual"] ** 2).sum()),
                }
            )  # fmt: skip
    return pd.DataFrame(rows)


def _unknown_table(knowledge: Knowledge) -> pd.DataFrame:
    import pandas as pd

    rows = [
        {
            "combination": k + 1, "parameter": name, "part [-]": part, "standard deviation [-]": u.deviation,
            "in words": u.words,
        }
        for k, u in enumerate(knowledge.unknown) for name, part in zip(u.names, u.parts, strict=True)
    ]  # fmt: skip
    columns = ["combination", "parameter", "part [-]", "standard deviation [-]", "in words"]
    return pd.DataFrame(rows, columns=columns)


def knowledge_tables(knowledge: Knowledge) -> dict[str, pd.DataFrame]:
    """Return what readings tell, as tables by their key in `FILES`."""
    import pandas as pd

    names = list(knowledge.parameters.names)
    correlation = pd.DataFrame(knowledge.correlation, columns=names)
    correlation.insert(0, "parameter", names)
    values = pd.DataFrame({"singular value [-]": knowledge.singular_values})
    values.insert(0, "number", np.arange(1, len(values) + 1))
    return {
        "sensitivities": knowledge.table(),
        "readings": knowledge.readings_table(),
        "correlations": correlation,
        "singular values": values,
        "unknown": _unknown_table(knowledge),
    }


def told_of(knowledge: Knowledge) -> Iterator[str]:
    """Say what cannot be known."""
    for words in knowledge.words():
        yield f"cannot be known from these readings: {words}"
    for parameter, mine, _ in knowledge.parameters.groups():
        low = int((knowledge.share[mine] < 0.2).sum())
        if low:
            yield f"{low} of the {len(mine)} pilot points of {parameter.name} are hardly told by the readings"
    bound = [n for n, on in zip(knowledge.parameters.names, knowledge.on_bound, strict=True) if on]
    if bound:
        yield f"on a bound, and so bending the rest: {_few(bound)}"
    variance, stated = knowledge.variance, knowledge.observations.stated
    if stated and variance > 1.5:
        yield (
            f"weighted residuals are {np.sqrt(variance):.2g} times what the readings' standard deviations allow; limits "
            "are wider by that"
        )
    if knowledge.fitted and knowledge.alike > 0.35:
        yield (
            f"residuals resemble those of the nearest bores (correlation {knowledge.alike:.2f}): the form of the model "
            "is not that of the ground, and limits, which know of errors of reading alone, are too narrow"
        )
    if np.isnan(variance):
        yield "no freedom is left: as many numbers are fitted as there are readings, and limits cannot be told"


class FitProduct(Product[FitResult]):
    """What a fit found."""

    table = "fit"
    what = "the fit"

    def requests(self, project: Project, model: Model) -> Sequence[Any]:
        return list(project.fits)

    def lacks(self, project: Project, model: Model, asked: Any) -> Iterator[Finding]:
        if not any(len(bore.levels) for bore in project.site.bores) and not project.site.measurements:
            yield Finding(
                "warning",
                "a fit has no level to go by",
                f"{project.path.name}, [fit]",
                "Give bores and their levels, or what else was measured.",
            )

    def solve(self, work: Work, asked: Any) -> FitResult:
        raise NotImplementedError("a fit is solved before the flow, by `fitted`")

    def write(self, work: Work, asked: Any, made: FitResult) -> None:
        folder, units = work.folder, work.project.shown_in
        before = made.residuals(before=True)
        both = made.residuals().assign(
            **{"computed before": before["computed"], "residual before": before["residual"]}
        )
        tables = {
            "parameters": made.table(),
            "fit residuals": both,
            "statistics": _statistics(made),
            "history": made.history_table(),
            "left out": made.observations.left_out,
            **knowledge_tables(made.knowledge),
        }
        for key, table in tables.items():
            write_table(table, folder.file(key), units)
        write_workbook(tables, folder.file("fit workbook"), units)
        _write_netcdf(made, folder.file("fit arrays"))
        with suppress(InputError), written_whole(folder.file("fitted")) as beside:
            beside.write_text(variant_text(work.project, made), encoding="utf-8")
        with suppress(FileNotFoundError):
            folder.file("iterate", str(len(made.history) - 1)).unlink()

    def read(self, work: Work, asked: Any) -> FitResult:
        """Read a fit again; the model of `work` is the one before the fit."""
        return _read(FitSetUp(work.project, asked, work.model), work.folder)

    def draw(self, work: Work, asked: Any, made: FitResult) -> Iterator[Picture]:
        file = work.folder.file
        yield Picture.of(
            file("fit picture"), "measured against computed", draw.measured_against_computed, made
        )
        yield Picture(file("residual map"), "residuals", lambda figure: draw.residual_maps(made, figure))
        yield Picture(
            file("fit quality"), "how residuals are spread", lambda figure: draw.residual_spread(made, figure)
        )
        yield Picture(
            file("sensitivity picture"),
            "what readings tell",
            lambda figure: draw.what_readings_tell(made.knowledge, figure),
        )
        for parameter, _, _ in made.parameters.groups():
            name, path = parameter.name, file("field picture", parameter.name)
            fill = partial(draw.fields_before_and_after, made, name)
            yield Picture(path, f"{name} before and after", fill)

    def tell(self, work: Work, asked: Any, made: FitResult) -> Iterator[str]:
        yield f"stopped: {made.reason}"
        units = list(dict.fromkeys(made.observations.table["unit"]))
        for unit in units:
            for words in ("before", "after"):
                found = made.statistics(before=words == "before", unit=unit)
                yield f"{words}, over {found.count} readings in {unit}: {found.words}"
        yield f"freedom left: {made.knowledge.freedom:.3g} of {len(made.observations)} readings"
        yield from told_of(made.knowledge)


def _write_netcdf(made: FitResult, path: Path) -> None:
    """Write readings, residuals and sensitivities as arrays with names."""
    import xarray as xr

    table, p = made.residuals(), made.parameters
    columns = {
        "measured": "measured", "computed": "computed", "residual": "residual", "weighted_residual": "weighted residual",
        "deviation": "deviation",
    }  # fmt: skip
    data: dict[str, Any] = {k: ("reading", table[v].to_numpy(dtype=float)) for k, v in columns.items()}
    data["sensitivity"] = (("reading", "number"), made.jacobian)
    data["value"] = ("number", made.numbers)
    data["history"] = (
        ("iteration", "number"),
        np.array([p.numbers(np.array(r.coordinates)) for r in made.history]),
    )
    data["misfit"] = ("iteration", np.array([r.misfit for r in made.history]))
    data["covariance"] = (("number", "other"), made.knowledge.covariance)
    coordinates = {
        "reading": np.array([str(n) for n in table["name"]], dtype=object),
        "unit": ("reading", np.array([str(n) for n in table["unit"]], dtype=object)),
        "number": np.array(p.names, dtype=object),
        "other": np.array(p.names, dtype=object),
        "time": ("reading", table["time [day]"].to_numpy(dtype=float)),
    }
    about = {
        "title": "a fit: readings, residuals, weighted sensitivities by coordinates (logarithms where these are fitted)"
    }
    with written_whole(path) as beside:
        xr.Dataset(data, coordinates, about).to_netcdf(beside, engine="h5netcdf")
