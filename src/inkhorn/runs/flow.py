"""Flow: solved into a file step by step, its tables, heads in every layer and a section."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from inkhorn import draw
from inkhorn.errors import InputError
from inkhorn.figures import span_in_words
from inkhorn.files import (
    StepFile,
    StepReader,
    write_conduits,
    write_conduits_in_time,
    write_flow,
    write_table,
)
from inkhorn.flow import FlowResult, SolverReport, conduits_of, solve_flow
from inkhorn.model import Finding, Findings, Model
from inkhorn.project import Project
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.journal import Journal
from inkhorn.runs.product import Picture, Product, Work

__all__ = ["FlowProduct", "read_flow", "solved_flow", "write_findings"]


def solved_flow(
    project: Project,
    steps: StepFile,
    folder: RunFolder,
    journal: Journal,
    *,
    initial_heads: Any = None,
    before: RunFolder | None = None,
) -> FlowResult:
    """Solve the flow, its records on disk as they are made; from `initial_heads`, after the records of an earlier folder.

    Raises
    ------
    InputError
        If the earlier records are of another model.
    ConvergenceError
        If it does not close.
    """
    asked, time, model = project.asked, project.asked.time, steps.model
    schedule = model.schedule
    if before is not None:
        _take_over(before, steps, journal)
    done = len(steps)
    folder.keep_about(cells=model.grid.n_cells, **{"in time": schedule is not None})

    def heard(words: str, share: float | None) -> None:
        if schedule is not None:
            folder.worth = len(steps) > done
        journal.progress(words, share)

    journal.progress("solving for heads", None)
    try:
        flow = solve_flow(
            model,
            initial_heads=initial_heads,
            steps=steps,
            order=1 if time is None else time.order,
            head_error=None if time is None else time.head_error,
            results="steps" if time is None else time.results,
            closure=asked.solver.closure,
            max_iterations=asked.solver.max_iterations,
            progress=heard,
        )
    finally:
        folder.worth = len(steps) > done
        folder.about["kept"] = [len(steps), steps.reached]
    folder.keep_about(steps=len(flow.steps))
    return flow


def _take_over(before: RunFolder, steps: StepFile, journal: Journal) -> None:
    """Copy the records of an earlier folder."""
    path = before.file("steps")
    if not path.exists():
        return
    earlier = StepReader(path, steps.model)
    start = earlier.start
    if start is not None:
        steps.begin(start)
    for k, record in enumerate(earlier):
        journal.progress("taking over what is solved", (k + 1) / len(earlier))
        steps.append(record)
    earlier.close()
    if len(steps) and steps.model.schedule is not None:
        journal.tell(f"goes on after {len(steps)} steps, day {steps.reached:g}, of {before.path}")


def read_flow(model: Model, folder: RunFolder) -> FlowResult:
    """Read the flow of a run again, its records when they are asked for.

    Raises
    ------
    InputError
        If the run kept none, or they are of another model.
    """
    path = folder.file("steps")
    if not path.exists():
        raise InputError(
            f'"{folder.path}" has no {path.name}: the run did not keep its flows ([time] keep_flows).'
        )
    steps = StepReader(path, model, any_version=True)
    start = steps.start
    assert start is not None  # a file is begun with it
    return FlowResult(model, steps, SolverReport.of(s.report for s in steps), start)


class FlowProduct(Product[FlowResult]):
    """What follows from the flow itself."""

    table = "flow"
    what = "flow"

    def requests(self, project: Project, model: Model) -> Sequence[Any]:
        return [None]

    def lacks(self, project: Project, model: Model, asked: Any) -> Iterator[Finding]:
        where = project.path.name
        found = list(project.cells_of_regions(model.grid).items())
        for name, inside in found:
            if not inside.any():
                yield Finding(
                    "error", f'the region "{name}" holds the centre of no cell', f"{where}, [[region]]",
                    "Check its place, or make it larger.",
                )  # fmt: skip
        for k, (name, inside) in enumerate(found):
            for other, there in found[:k]:
                if (inside & there).any():
                    yield Finding(
                        "error", f'the regions "{other}" and "{name}" share {int((inside & there).sum())} cells',
                        f"{where}, [[region]]", "Regions lie apart from each other.",
                    )  # fmt: skip

    def solve(self, work: Work, asked: Any) -> FlowResult:
        return work.flow

    def write(self, work: Work, asked: Any, made: FlowResult) -> None:
        flow, file, units = made, work.folder.file, work.project.shown_in
        model = flow.model
        write_flow(flow, file("heads"), units)
        if model.placed is not None:
            landed = units.by_row(units.by_row(model.placed, "unit", "total"), "measure", "drawn", "met")
            write_table(landed, file("placed"), units)
        write_table(flow.budget(), file("budget"), units)
        write_table(flow.budget(by="feature"), file("budget by feature"), units)
        write_table(flow.well_levels(), file("well levels"), units)
        if conduits_of(model) is not None:
            write_table(flow.conduits(), file("conduit pipes"), units)
            write_table(flow.conduit_nodes(), file("conduit nodes"), units)
            write_table(flow.conduit_budget(), file("conduit budget"), units)
            write_table(flow.spring_discharge(), file("springs"), units)
            write_conduits(flow, file("conduits"))
            write_conduits_in_time(flow, file("conduits in time"))
        regions = work.project.cells_of_regions(model.grid)
        if regions:
            write_table(flow.budget(by="region", regions=regions), file("budget by region"), units)
        if work.project.lines:
            import pandas as pd

            parts = {name: flow.across(line) for name, line in work.project.lines.items()}
            write_table(pd.concat(parts, names=["line"]), file("flow across"), units)
        if model.schedule is not None:
            write_table(model.schedule.table(dict(model.inputs_in_time)), file("periods"), units)
            write_table(flow.budgets(), file("budget in time"), units)
            write_table(flow.mean_budget(), file("mean budget"), units)
        write_table(flow.report.table(), file("solver"), units)

    def read(self, work: Work, asked: Any) -> FlowResult:
        return work.flow

    def draw(self, work: Work, asked: Any, made: FlowResult) -> Iterator[Picture]:
        grid, folder = made.model.grid, work.folder
        present = set(grid.cells.layer.tolist())
        layers = [name for k, name in enumerate(grid.layer_names) if k in present]
        for name, path in folder.layer_pictures(layers).items():
            yield Picture.of(path, f"heads in the {name}", draw.heads, made, name)
        yield Picture.of(
            folder.file("section"),
            "a section",
            draw.section,
            made,
            work.project.section_line,
            exaggeration=work.project.asked.draw.exaggeration,
        )
        if conduits_of(made.model) is not None:
            file = folder.file
            yield Picture.of(file("conduits picture"), "the conduits", draw.conduits, made)
            yield Picture.of(file("conduit profile"), "heads along the conduits", draw.conduit_profile, made)
            if made.model.schedule is not None and len(made.spring_discharge().columns) > 4:
                yield Picture.of(file("springs picture"), "springs in time", draw.spring_discharge, made)

    def tell(self, work: Work, asked: Any, made: FlowResult) -> Iterator[str]:
        heads, n = made.steps[-1].heads, len(made.steps)
        in_time = made.model.schedule is not None
        when = f"{n} steps in time; at the end heads" if in_time else "steady heads"
        unit, factor = work.project.shown_in.of("m")
        span = span_in_words(factor * heads.min(), factor * heads.max())
        yield f"{when} from {span} {unit}; {made.report}"
        if in_time and made.report.rows:
            hardest = made.report.table()["until [day]"].value_counts()
            yield (
                f"{hardest.mean():.1f} Newton steps a step in time, at most {hardest.iloc[0]}, in the one up to day "
                f"{hardest.index[0]:g}; solver.csv has them all"
            )
        if conduits_of(made.model) is not None:
            yield from _conduits_told(made, work.project.shown_in)
        yield f"water budget closes to {made.report.closing_error_percent:.1e} %" + (
            f" in each of {n} steps" if n > 1 else ""
        )


def _conduits_told(flow: FlowResult, units: Any) -> Iterator[str]:
    """Say what conduits carry."""
    pipes, budget = flow.conduits(), flow.conduit_budget()
    unit, factor = units.of("m³/day")
    counts = pipes["regime"].value_counts()
    kinds = ", ".join(f"{counts[kind]} {kind}" for kind in counts.index)
    yield f"conduits: {len(pipes)} pipes, {kinds}; Reynolds numbers up to {pipes['Reynolds number'].max():.2g}"
    springs = flow.spring_discharge()
    for name in [c for c in springs.columns if c.endswith("[m³/day]") and not c.startswith("let in")]:
        values = factor * springs[name]
        span = f", {values.min():.4g} to {values.max():.4g} in all" if len(values) > 1 else ""
        yield f"spring {name.removesuffix(' [m³/day]')}: {values.iloc[-1]:.4g} {unit}{span}"
    yield f"the budget of the conduits closes to {abs(budget.attrs['closing_error_percent']):.1e} %"


def write_findings(before: Findings, work: Work) -> None:
    """Write what was found before solving and in the answer, and tell the latter."""
    import pandas as pd

    work.journal.progress("looking at the answer", None)
    answer = work.flow.findings()
    both = {"before solving": before.table(), "in the answer": answer.table()}
    table = pd.concat(both, names=["found"]).reset_index("found")
    write_table(table, work.folder.file("findings"), work.project.shown_in)
    for line in answer.lines():
        work.journal.tell(line)
