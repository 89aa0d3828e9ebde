"""Doing what a project asks for, into a run folder that holds inputs, results, tables, pictures and a log."""

from __future__ import annotations

import hashlib
import json
import platform
import re
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn import draw
from inkhorn.calibration import (
    FitResult,
    HeadObservations,
    LayerConductivity,
    Parameter,
    RechargeMultiplier,
    calibrate,
    curve_table,
    fit_table,
    level_table,
    observe,
    residual_table,
)
from inkhorn.compare import Comparison
from inkhorn.errors import ConvergenceError, InputError
from inkhorn.files import (
    NewFolder,
    Project,
    StepFile,
    must_exist,
    new_folder,
    read_last_heads,
    write_concentration,
    write_flow,
    write_paths,
    write_table,
)
from inkhorn.flow import FlowResult, solve_flow
from inkhorn.model import Finding, Findings, Model, check, place
from inkhorn.paths import trace
from inkhorn.pictures import save_figure
from inkhorn.space import RectangularMesh
from inkhorn.transport import Spreading, solve_transport
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Run", "check_project", "fit_parameters", "fit_project", "run_project", "write_comparison"]

YEAR = 365.25


@dataclass
class Run:
    """Tells how a run goes, and keeps what was told for the log.

    Parameters
    ----------
    say : callable
        Gets each line.
    progress : callable
        Gets what is being done, and its share from 0 to 1 (None while that is not known).
    """

    say: Callable[[str], None] = lambda line: None
    progress: Callable[[str, float | None], None] = lambda words, share: None
    lines: list[str] = field(default_factory=list)

    def tell(self, line: str) -> None:
        """Say a line and keep it."""
        self.lines.append(line)
        self.say(line)


def check_project(project: Project, grid: str | None = None) -> tuple[Model, Findings]:
    """Place the site on the grid asked for, or another of the project's by name, and look for mistakes."""
    site, unknown = project.site, project.site.unknown_materials
    if unknown:  # supposed to be like the others, so that all other mistakes are seen, too
        known = [m.conductivity for m in site.materials.values() if m.conductivity is not None]
        guess = float(np.exp(np.mean(np.log(known)))) if known else 1.0
        supposed = {n: m if m.conducts else replace(m, conductivity=guess) for n, m in site.materials.items()}
        site = replace(site, materials=supposed)
    model = place(site, project.grid(grid))
    lacking = (
        Finding(
            "error",
            f'material "{m.name}" has no conductivity',
            f'{project.path.name}, [material."{m.name}"]',
            "Give one, or a transmissivity.",
        )
        for m in unknown
    )
    return model, Findings.of([*lacking, *check(model), *_asked_findings(project, model)])


def _asked_findings(project: Project, model: Model) -> Iterator[Finding]:
    """What paths, transport and a fit that a project asks for will lack."""
    asked, where = project.asked, project.path.name
    parts = (("paths", "particle paths", asked.paths), ("transport", "transport", asked.transport))
    for name, words, part in parts:
        if part is not None and model.porosity is None:
            site = project.site
            lacking = [n for n in site.strata.names if site.materials[n].porosity is None]
            yield Finding(
                "error",
                f"for {words} there lacks the porosity of "
                + ", ".join(dict.fromkeys(site.materials[n].name for n in lacking)),
                f"{where}, [{name}]",
                f"Give it for every material, or take out [{name}].",
            )
        if part is not None and model.schedule is not None:
            yield Finding(
                "note",
                f"of a run through time {words} is left out: it follows steady flow only so far"
                if name == "transport"
                else f"of a run through time {words} are left out: they follow steady flow only so far",
                f"{where}, [{name}]",
                "Run it without [time].",
            )
    mesh = model.grid.mesh
    if asked.paths is not None and (not isinstance(mesh, RectangularMesh) or mesh.outline is not None):
        yield Finding(
            "note",
            "particle paths need whole rectangles and are left out on this grid",
            f"{where}, [paths]",
            "Name a grid of whole rectangles.",
        )
    if asked.fit is not None and not any(len(bore.levels) for bore in project.site.bores):
        yield Finding(
            "warning", "a fit has no level to go by", f"{where}, [fit]", "Give bores and their levels."
        )


def _ready_model(project: Project, grid: str | None, run: Run) -> Model:
    run.progress("placing the site on the grid", None)
    model, findings = check_project(project, grid)
    findings.raise_errors()
    run.tell(f"{model.grid}" + (f" on the grid {grid}" if grid else ""))
    for change in project.changes:
        run.tell(f"variant {project.variant}: {change}")
    for finding in findings:
        run.tell(str(finding))
    return model


def _keep_inputs(folder: Path, project: Project) -> None:
    """Copy every input file, with its digest."""
    inputs, home = folder / "inputs", project.path.parent.resolve()
    digests = []
    for file in project.files:
        real = file.resolve()
        goal = inputs / (real.relative_to(home) if real.is_relative_to(home) else Path(real.name))
        goal.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(file, goal)
        digests.append(
            f"{hashlib.sha256(goal.read_bytes()).hexdigest()}  {goal.relative_to(inputs).as_posix()}"
        )
    (inputs / "sha256.txt").write_text("\n".join(digests) + "\n", encoding="utf-8")


def _run_name(kind: str, project: Project, grid: str | None) -> str:
    """What a run folder is called: after the variant and the grid."""
    return "-".join(part for part in (kind, project.variant, grid) if part)


def _keep_description(folder: Path, flow: FlowResult, project: Project, grid: str | None) -> None:
    """What was run, and what it differs in from the project file."""
    about = {
        "project": project.asked.title,
        "variant": project.variant or "",
        "grid": grid or project.asked.use_grid or "grid",
        "cells": flow.model.grid.n_cells,
        "steps": len(flow.steps),
        "differs in": list(project.changes),
    }
    (folder / "about.json").write_text(json.dumps(about, indent=1, ensure_ascii=False), encoding="utf-8")


def _keep_log(folder: Path, run: Run) -> None:
    packages = ", ".join(f"{name} {version(name)}" for name in ("inkhorn", "numpy", "scipy"))
    head = [
        f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S} UTC",
        f"{packages}; Python {platform.python_version()}",
        "",
    ]
    (folder / "log.txt").write_text("\n".join([*head, *run.lines]) + "\n", encoding="utf-8")


def _picture(path: Path, paint: Callable[..., Any], *args: Any, **options: Any) -> None:
    """Save a picture of one plot."""
    save_figure(path, lambda figure: paint(*args, ax=figure.subplots(), **options))


def _write_flow_results(folder: Path, flow: FlowResult, project: Project, run: Run) -> None:
    write_flow(flow, folder / "heads.nc")
    budget = flow.budget()
    write_table(budget, folder / "budget.csv")
    write_table(flow.budget(by="feature"), folder / "budget_by_feature.csv")
    wells = flow.well_levels()
    write_table(wells, folder / "well_levels.csv")
    if flow.model.schedule is not None:
        write_table(flow.model.schedule.table(dict(flow.model.changes)), folder / "periods.csv")
        write_table(flow.budgets(), folder / "budget_in_time.csv")
        write_table(flow.mean_budget(), folder / "budget_mean.csv")
    write_table(flow.report.frame(), folder / "solver.csv")
    run.tell(
        f"water budget closes to {flow.report.closing_error_percent:.1e} %"
        + (f" in each of {len(flow.steps)} steps" if len(flow.steps) > 1 else "")
    )
    _write_findings(folder, flow, project, run)
    present = set(flow.model.grid.cells.layer.tolist())
    for k, name in enumerate(flow.model.grid.layer_names):
        if k in present:
            run.progress(f"drawing heads in the {name}", None)
            plain = re.sub(r"[^\w-]+", "_", name)  # a layer's name may hold what a file's may not
            _picture(folder / f"heads_{plain}.png", draw.heads, flow, name)
    line: Any = project.asked.draw.section
    if line is None:
        west, south, east, north = project.site.boundary.bounds
        line = [(west, 0.5 * (south + north)), (east, 0.5 * (south + north))]
    _picture(folder / "section.png", draw.section, flow, line, exaggeration=project.asked.draw.exaggeration)


def _write_findings(folder: Path, flow: FlowResult, project: Project, run: Run) -> None:
    """What was found before solving and in the answer, as a table; the latter told."""
    import pandas as pd

    run.progress("looking at the answer", None)
    before, answer = Findings.of([*check(flow.model), *_asked_findings(project, flow.model)]), flow.findings()
    both = {"before solving": before.frame(), "in the answer": answer.frame()}
    table = pd.concat(both, names=["found"]).reset_index("found")
    write_table(table, folder / "findings.csv")
    for line in answer.lines():
        run.tell(line)


def _write_fit(folder: Path, flow: FlowResult, seen: HeadObservations, run: Run) -> None:
    """Levels by bore and date, the means of the bores, and how well they are met, over either."""
    write_table(residual_table(flow, seen), folder / "residuals.csv")
    schedule = flow.model.schedule
    if schedule is not None and schedule.start is None:
        return
    levels = level_table(flow, seen)
    write_table(levels, folder / "levels.csv")
    bores = flow.model.site.bores if flow.model.site is not None else seen.bores
    fit = fit_table(levels, sum(len(b.levels) for b in bores))
    write_table(fit, folder / "fit.csv")
    for over, row in fit.iterrows():
        out = f" ({row['left out']:.0f} left out)" if row["left out"] else ""
        run.tell(
            f"fit over {row['count']:.0f} {over}{out}: mean residual {row['mean residual [m]']:+.3f} m, RMS "
            f"{row['RMS [m]']:.3f} m, scaled RMS {row['scaled RMS [-]']:.1%}, weighted sum "
            f"{row['weighted sum [m²]']:.4g} m², correlation {row['correlation [-]']:.3f}"
        )
    if not len(fit):
        run.tell("no level of any bore was dipped while the run goes on")
    elif schedule is not None:
        _draw_levels(folder, levels, curve_table(flow, seen))


def _draw_levels(folder: Path, levels: pd.DataFrame, curve: pd.DataFrame) -> None:
    """Levels by date of a run through time, as a picture."""
    bores = levels["bore"].unique()[:12]

    def fill(figure: Any) -> None:
        columns = 1 if len(bores) == 1 else 2 if len(bores) <= 4 else 3 if len(bores) <= 9 else 4
        axes = figure.subplots(-(-len(bores) // columns), columns, squeeze=False).ravel()
        for ax in axes[len(bores) :]:
            ax.axis("off")
        for ax, bore in zip(axes, bores, strict=False):
            draw.hydrograph(levels, bore, curve=curve, ax=ax)
        axes[0].legend(fontsize=7)
        figure.subplots_adjust(hspace=0.45, wspace=0.3)

    if len(bores):
        save_figure(folder / "levels.png", fill)


def _do_paths(folder: Path, flow: FlowResult, project: Project, run: Run) -> None:
    asked = project.asked.paths
    if asked is None:
        return
    mesh = flow.model.grid.mesh
    if flow.model.schedule is not None or not isinstance(mesh, RectangularMesh) or mesh.outline is not None:
        return  # as was told before solving
    run.progress("following particles", 0.0)
    traced = trace(
        flow,
        asked.wells,
        backward=asked.direction == "backward",
        most_time=asked.longest,
        mark=asked.mark,
        per_well=asked.per_well,
        progress=lambda done, all_: run.progress("following particles", done / all_),
    )
    write_paths(traced, folder / "paths.gpkg")
    write_table(traced.ends, folder / "path_ends.csv")
    _picture(folder / "paths.png", draw.paths, traced)
    longest = traced.ends["travel time [day]"].max() / YEAR
    run.tell(f"{len(traced.ends)} particles followed {asked.direction}, for up to {longest:.3g} years")


def _do_transport(folder: Path, flow: FlowResult, project: Project, run: Run) -> None:
    import pandas as pd

    asked = project.asked.transport
    if asked is None:
        return
    if flow.model.schedule is not None:
        return  # as was told before solving
    species = next(s for s in project.site.species if s.name == asked.species)
    words = f"carrying {species.name}"
    plume = solve_transport(
        flow,
        species,
        duration=asked.duration,
        step=asked.step,
        outputs=asked.outputs,
        spreading=Spreading(
            asked.dispersivity, asked.transverse_dispersivity, asked.vertical_dispersivity, asked.diffusion
        ),
        progress=lambda now, end: run.progress(words, now / end),
    )
    write_concentration(plume, folder / "concentration.nc")
    mass = plume.budget()
    write_table(mass, folder / "mass_budget.csv")
    run.tell(f"mass budget of {species.name} closes to {abs(mass.attrs['closing_error_percent']):.1e} %")
    _picture(folder / "plume.png", draw.plume, plume)
    if asked.watch:
        series = {name: plume.at_well(name) for name in asked.watch}
        factor = 1.0 / unit_factor(species.unit, "concentration")
        columns = {f"{name} [{species.unit}]": s * factor for name, s in series.items()}
        write_table(pd.DataFrame(columns).rename_axis("time [day]"), folder / "concentration_at_wells.csv")
        _picture(folder / "concentration_at_wells.png", draw.breakthrough, plume, asked.watch)
        for name, s in series.items():
            passed = plume.first_time_above(s, species.limit) if species.limit is not None else None
            highest = f"{species.name} at {name}: up to {s.max() * factor:.3g} {species.unit}"
            if species.limit is None:
                run.tell(highest)
            elif passed is None:
                run.tell(f"{highest}, below the limit of {species.limit * factor:g} throughout")
            else:
                run.tell(
                    f"{highest}; passes the limit of {species.limit * factor:g} after {passed / YEAR:.1f} years"
                )


def _do_all(folder: Path, flow: FlowResult, project: Project, run: Run, grid: str | None) -> None:
    assert flow.model.placed is not None  # made by place
    write_table(flow.model.placed, folder / "placed.csv")
    _write_flow_results(folder, flow, project, run)
    _do_paths(folder, flow, project, run)
    _do_transport(folder, flow, project, run)
    _keep_inputs(folder, project)
    _keep_description(folder, flow, project, grid)
    _keep_log(folder, run)


def _first_heads(project: Project, model: Model) -> Any:
    """What a run through time begins with, if not with a steady solution."""
    asked, cells = project.asked.time, model.grid.cells
    if asked is not None and asked.first_run is not None:
        return read_last_heads(project.path.parent / asked.first_run / "heads.nc", model.grid)
    return None if project.first_heads is None else project.first_heads.at(cells.x, cells.y)


@contextmanager
def _stopping(
    made: NewFolder, steps: StepFile | None, project: Project, run: Run, grid: str | None, done: int
) -> Iterator[None]:
    """Keep what a run through time has done where it is stopped, or does not converge."""
    try:
        yield
    except (KeyboardInterrupt, ConvergenceError):
        if steps is None or len(steps) <= done:
            raise
        count, reached = len(steps), steps.reached
        steps.close()
        _keep_inputs(made.path, project)
        kept = made.keep(_run_name("stopped", project, grid))
        asked = (f" --variant {project.variant}" if project.variant else "") + (
            f" --grid {grid}" if grid else ""
        )
        run.tell(
            f"{count} steps, up to day {reached:g}, are kept in {kept}. "
            f"inkhorn run {project.path.name}{asked} --go-on {kept} goes on from there"
        )
        _keep_log(kept, run)
        raise


def _kept_steps(folder: Path, model: Model, go_on: Path | None, keep: bool) -> StepFile | None:
    """Where the records of a run through time go: into a file, after those of a run that was stopped."""
    if model.schedule is None or not (keep or go_on):
        if go_on is not None:
            raise InputError(f'"{go_on}" cannot be gone on from: this project is steady.')
        return None
    path = folder / "flow.nc"
    if go_on is not None:
        before = go_on / path.name
        must_exist(before, ", which --go-on asks for")
        shutil.copyfile(before, path)
    steps = StepFile(path, model)
    if steps.reached >= model.schedule.ends[-1]:
        raise InputError(
            f'"{go_on}" has come to its end, day {steps.reached:g}. There is nothing to go on with.'
        )
    return steps


def run_project(
    project: Project,
    out: Path | None = None,
    run: Run | None = None,
    *,
    grid: str | None = None,
    go_on: Path | None = None,
) -> tuple[Path, FlowResult]:
    """Solve what a project asks for, with the values it states.

    A run through time that is stopped, or does not converge, keeps its steps in a folder of their own.

    Parameters
    ----------
    project : Project
        From `inkhorn.read_project`.
    out : Path, optional
        Where run folders go; ``runs`` beside the project file if not given.
    run : Run, optional
        Told how it goes.
    grid : str, optional
        One of the project's other grids, by name.
    go_on : Path, optional
        The folder of a run that was stopped: its steps are taken over, and the run goes on after the last.

    Returns
    -------
    folder : Path
        The new run folder, named after the grid; earlier ones are left alone, and none is left half-written.
    flow : FlowResult
    """
    run, parent = run or Run(), out or project.path.parent / "runs"
    model = _ready_model(project, grid, run)
    run.progress("solving for heads", None)
    first, time = _first_heads(project, model), project.asked.time
    with new_folder(parent, _run_name("run", project, grid)) as made:
        folder = made.path
        steps = _kept_steps(folder, model, go_on, time is None or time.keep_flows)
        done = 0 if steps is None else len(steps)
        if steps is not None and done:
            run.tell(f"goes on after step {done}, day {steps.reached:g}, of {go_on}")

        def heard(k: int, left: float) -> None:
            if steps is None or model.schedule is None:
                run.progress(f"solving for heads, closure {left:.0e}", None)
            else:
                end = float(model.schedule.ends[-1])
                run.progress(f"solving for heads, day {steps.reached:.0f} of {end:.0f}", steps.reached / end)

        with _stopping(made, steps, project, run, grid, done):
            flow = solve_flow(
                model,
                first=first,
                steps=steps,
                order=1 if time is None else time.order,
                head_error=None if time is None else time.head_error,
                results="steps" if time is None else time.results,
                progress=heard,
            )
        heads = flow.steps[-1].heads
        when = (
            "steady heads" if model.schedule is None else f"{len(flow.steps)} steps in time; at the end heads"
        )
        run.tell(f"{when} from {heads.min():.2f} to {heads.max():.2f} m; {flow.report}")
        if model.schedule is not None and flow.report.rows:
            hardest = flow.report.frame()["until [day]"].value_counts()
            run.tell(
                f"{hardest.mean():.1f} Newton steps a step in time, at most {hardest.iloc[0]}, in the one up to day "
                f"{hardest.index[0]:g}; solver.csv has them all"
            )
        if project.site.bores:
            seen = observe(model)
            _write_fit(folder, flow, seen, run)
        _do_all(folder, flow, project, run, grid)
        if steps is not None:
            steps.close()
    if steps is not None:
        steps.path = made.goal / steps.path.name
    return made.goal, flow


def write_comparison(found: Comparison, out: Path) -> Path:
    """Write the tables of a comparison and its picture into a new folder, and return it."""
    with new_folder(out, "comparison") as made:
        for name in ("runs", "heads", "fits", "budgets"):
            write_table(getattr(found, name), made.path / f"{name}.csv")
        _picture(made.path / "heads_at_bores.png", found.draw)
    return made.goal


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


def fit_project(
    project: Project, out: Path | None = None, run: Run | None = None, *, grid: str | None = None
) -> tuple[Path, FitResult]:
    """Fit what a project asks for to its bores' mean levels, and solve all it asks for with the fitted values.

    Parameters and return as `run_project`, with a `FitResult`.
    """
    import pandas as pd

    run, parent = run or Run(), out or project.path.parent / "runs"
    model = _ready_model(project, grid, run)
    if model.schedule is not None:
        if not model.schedule.steady[0]:
            raise InputError(
                "a fit is made to steady flow so far. Let the first period be steady (steady_first)."
            )
        run.tell("fitted is the steady first period, to the mean levels")
        model = model.at_period(0)
    parameters = fit_parameters(project, model)

    def heard(iteration: int, row: Any) -> None:
        run.tell(
            f"iteration {iteration}: sum of squares {row.objective:.4g} m², {row.flow_solves} flow and "
            f"{row.sensitivity_solves} sensitivity solves"
        )
        run.progress(f"fitting, iteration {iteration + 1}", None)

    run.progress("fitting", None)
    fit = calibrate(model, parameters, progress=heard)
    run.tell(f"stopped: {fit.reason}")
    for words, found in (("before", fit.statistics(before=True)), ("after", fit.statistics())):
        run.tell(f"{words}, over {found.count} means of bores: {found.words}")
    with new_folder(parent, _run_name("fit", project, grid)) as made:
        folder = made.path
        write_table(fit.table(), folder / "parameters.csv")
        _write_fit(folder, fit.after, fit.observations, run)
        before = fit.residuals(before=True)
        both = fit.residuals().assign(
            **{"computed before [m]": before["computed [m]"], "residual before [m]": before["residual [m]"]}
        )
        write_table(both, folder / "residuals.csv")
        stats = {"before": fit.statistics(before=True), "after": fit.statistics()}
        write_table(
            pd.DataFrame({k: vars(s) for k, s in stats.items()}).T.rename_axis("fit"),
            folder / "statistics.csv",
        )
        history = [
            {"iteration": k, "sum of squares [m²]": row.objective}
            | {f"{p.name} [{p.unit}]": v for p, v in zip(fit.parameters, row.values, strict=True)}
            for k, row in enumerate(fit.history)
        ]
        write_table(pd.DataFrame(history), folder / "history.csv")
        _picture(folder / "measured_against_computed.png", draw.measured_against_computed, fit)
        _do_all(folder, fit.after, project, run, grid)
    return made.goal, fit
