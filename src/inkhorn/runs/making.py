"""Making a run: flow or a fit first, then each product, written as soon as it is done; pictures last."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

from inkhorn.calibration import FitResult, Knowledge
from inkhorn.draw import save_figure
from inkhorn.ensemble import Ensemble
from inkhorn.errors import InkhornError, InputError
from inkhorn.files import StepFile, write_table, written_whole
from inkhorn.flow import FlowResult, solve_flow
from inkhorn.model import Findings, Model
from inkhorn.project import FitPlan, Project
from inkhorn.runs.checking import PRODUCTS, check_project, found_before
from inkhorn.runs.drawing import Drawing
from inkhorn.runs.fit import FitProduct, looked_at, told_of, variant_text
from inkhorn.runs.fit_keeping import fitted
from inkhorn.runs.fit_set_up import FitSetUp, fit_named, told_before
from inkhorn.runs.flow import solved_flow, write_findings
from inkhorn.runs.folder import RunFolder, describe
from inkhorn.runs.journal import Journal
from inkhorn.runs.keeping import new_run_folder, take_up_killed
from inkhorn.runs.local import begun_with
from inkhorn.runs.product import Picture, Product, Work, digest_of, key_of
from inkhorn.runs.vary import VaryProduct, varied_runs
from inkhorn.runs.vary_set_up import VarySetUp, vary_named
from inkhorn.stopping import asked_to_stop
from inkhorn.unit_choice import UnitChoice

__all__ = ["fit_project", "look_before_fit", "run_project", "vary_project"]


class _Making:
    """One run that is being made."""

    def __init__(
        self,
        kind: str,
        project: Project,
        out: Path | None,
        journal: Journal | None,
        grid: str | None,
        go_on: Path | None,
    ) -> None:
        self.kind, self.project, self.grid = kind, project, project.grid_name(grid)
        self.journal = journal or Journal()
        self.journal.words = project.shown_in.words
        self.parent = out or project.runs_folder
        self.before = None if go_on is None else _to_go_on_from(go_on, kind)
        named = grid or project.inputs.as_run.get("grid")
        self.name = "-".join(part for part in (project.variant, named) if part)
        self.initial_heads: Any = None
        self.found = Findings.of([])
        self.failed: list[InkhornError] = []
        self.again = f"inkhorn {kind} {shlex.quote(str(project.path))}"
        self.again += f" --variant {shlex.quote(project.variant)}" if project.variant else ""
        self.again += f" --grid {shlex.quote(named)}" if named else ""
        self.again += f" --out {shlex.quote(str(out))}" if out else ""
        self.again += " --go-on"

    def model(self) -> Model:
        """Place the site, tell what was found, and refuse what cannot be right."""
        journal, project = self.journal, self.project
        take_up_killed(self.parent, journal)
        journal.progress("placing the site on the grid", None)
        for key, value in project.inputs.as_run.items():
            if value:
                journal.tell(f"as in the run whose inputs these are: {key} {value}")
        model, self.found = check_project(project, self.grid)
        self.found.raise_errors()
        named = self.grid if self.grid != project.asked.use_grid else None
        journal.tell(f"{model.grid}" + (f" on the grid {named}" if named else ""))
        for change in project.changes:
            journal.tell(f"variant {project.variant}: {change}")
        for finding in self.found:
            journal.tell(str(finding))
        self.initial_heads = begun_with(project, model)
        return model

    @contextmanager
    def folder(self) -> Iterator[RunFolder]:
        """Give the folder, with the inputs as they were read."""
        with new_run_folder(self.parent, self.kind, self.name, self.journal, self.again) as folder:
            describe(folder, self.project, self.kind, self.name, self.grid, self.again)
            self.journal.write_into(folder.file("log"))
            self.project.inputs.write(folder.file("inputs"), variant=self.project.variant, grid=self.grid)
            yield folder

    def products(self, work: Work, fit: FitResult | None = None, plan: FitPlan | None = None) -> None:
        """Make what is asked of the flow, each written when it is done; then draw.

        What fails hinders nothing else, and is raised in the end.
        """
        units = work.project.shown_in
        with Drawing(units, len(work.model.grid.cells)) as drawing:
            if fit is not None:
                self._made_and_drawn(FitProduct(), work, plan, drawing, lambda: fit)
            for product in PRODUCTS:
                if product.possible(work.flow.model):
                    for asked in product.requests(work.project, work.model):
                        self._made_and_drawn(product, work, asked, drawing)
            write_findings(self.found if fit is None else found_before(work.project, work.model), work)
            self.draw(drawing.left(), units)
        if self.failed:
            raise self.failed[0]

    def _made_and_drawn(
        self,
        product: Product[Any],
        work: Work,
        asked: Any,
        drawing: Drawing,
        solve: Callable[[], Any] | None = None,
    ) -> None:
        made = self._one(product, work, asked, solve)
        if made is not None:
            with self.not_drawn(f"the pictures of {key_of(product, asked)}"):
                drawing.add(list(product.draw(work, asked, made)))

    def draw(self, pictures: Iterable[Picture], units: UnitChoice) -> None:
        """Draw pictures; one that cannot be drawn costs nothing else."""
        for picture in pictures:
            self.journal.progress(f"drawing {picture.what}", None)
            with self.not_drawn(picture.path.name):
                save_figure(picture.path, picture.fill, units=units)

    def _one(
        self, product: Product[Any], work: Work, asked: Any, solve: Callable[[], Any] | None = None
    ) -> Any:
        """Make one product and write it, or take it from the folder that is gone on from; None if it fails."""
        folder, key = work.folder, key_of(product, asked)
        digest = digest_of(work.project, work.model, asked)
        folder.used.clear()
        try:
            before = None if product.table in ("flow", "fit") else self.before
            if before is not None and folder.taken_over(before, key, digest):
                made = product.read(work, asked)
                self._tell(product, work, asked, made)
                return made
            made = product.solve(work, asked) if solve is None else solve()
            self._tell(product, work, asked, made)
            product.write(work, asked, made)
        except InkhornError as problem:
            if asked_to_stop():
                raise KeyboardInterrupt from None
            self.failed.append(problem)
            self.journal.tell(f"{key} failed: {problem}")
            folder.worth = True
            return None
        folder.finished(key, digest)
        folder.worth = True
        return made

    def _tell(self, product: Product[Any], work: Work, asked: Any, made: Any) -> None:
        for line in product.tell(work, asked, made):
            self.journal.tell(line)

    @contextmanager
    def not_drawn(self, what: str) -> Iterator[None]:
        """Tell of a picture that cannot be drawn; it costs nothing else."""
        try:
            yield
        except OSError:
            raise
        except Exception as problem:
            if asked_to_stop():
                raise KeyboardInterrupt from None
            self.journal.complain(f"{what} could not be drawn: {type(problem).__name__}: {problem}")


def _to_go_on_from(path: Path, kind: str) -> RunFolder:
    """Open a folder to go on from.

    Raises
    ------
    InputError
        If it is none of its kind, or whole.
    """
    folder = RunFolder.opened(path)
    if folder.about.get("kind") != kind:
        raise InputError(
            f'"{path}" is of `inkhorn {folder.about.get("kind")}`, not of `inkhorn {kind}`. Go on with that.'
        )
    if folder.about.get("state") == "whole" and kind != "vary":  # runs may be added to others
        raise InputError(f'"{path}" has come to its end and is whole. There is nothing to go on with.')
    return folder


def run_project(
    project: Project,
    out: Path | None = None,
    journal: Journal | None = None,
    *,
    grid: str | None = None,
    go_on: Path | None = None,
) -> tuple[Path, FlowResult]:
    """Solve what a project asks for, with the values it states.

    A run that is stopped, or fails after something was solved, keeps what is done in a folder of its own.

    Parameters
    ----------
    project : Project
        From `inkhorn.read_project`.
    out : Path, optional
        Where run folders go; ``runs`` beside the project file if not given.
    journal : Journal, optional
        Told how it goes.
    grid : str, optional
        One of the project's other grids, by name.
    go_on : Path, optional
        The folder of a run that was stopped: what is done there is taken over, and the rest is made.

    Returns
    -------
    folder : Path
        The new run folder, named after the grid; earlier ones are left alone, and none is left half-written.
    flow : FlowResult

    Raises
    ------
    InputError
        If anything asked for cannot be, or `go_on` is of another model: it says what differs.
    ConvergenceError
        If flow does not close.
    """
    making = _Making("run", project, out, journal, grid, go_on)
    model = making.model()
    with making.folder() as folder:
        steps = StepFile(folder.file("steps"), model)
        try:
            flow = solved_flow(
                project,
                steps,
                folder,
                making.journal,
                initial_heads=making.initial_heads,
                before=making.before,
            )
            making.products(Work(project, model, flow, folder, making.journal, making.before))
            time = project.asked.time
            if time is not None and not time.keep_flows:
                flow = _with_last_record(flow)
        finally:
            steps.close()  # before its folder gets its name
        if flow.steps is not steps:
            folder.file("steps").unlink()
    steps.path = folder.file("steps")
    return folder.path, flow


def _with_last_record(flow: FlowResult) -> FlowResult:
    """A result that has but its last record, in memory."""
    return replace(flow, steps=[replace(flow.steps[-1])])  # a copy has all of it read


def fit_project(
    project: Project,
    out: Path | None = None,
    journal: Journal | None = None,
    *,
    grid: str | None = None,
    go_on: Path | None = None,
    of: str | None = None,
    keep_as: str | None = None,
) -> tuple[Path, FitResult]:
    """Fit what a project asks for to what was measured, and make all it asks for with the fitted values.

    Parameters and return as `run_project`, with a `FitResult`, and

    Parameters
    ----------
    of : str, optional
        Which fit, of several.
    keep_as : str, optional
        A name for the fitted values as a variant beside the project file; one that is there is not written over.

    Raises
    ------
    InputError
        If nothing is to be fitted, or a product will lack something; before anything is solved.
    """
    plan = fit_named(project, of)
    variant = None if keep_as is None else _new_variant(project, keep_as)
    making = _Making("fit", project, out, journal, grid, go_on)
    making.name = "-".join(part for part in (making.name, plan.name) if part)
    making.again += f" --of {shlex.quote(plan.name)}" if plan.name else ""
    making.again += f" --keep-as {shlex.quote(keep_as)}" if keep_as else ""
    made = FitSetUp(project, plan, making.model())
    for line in told_before(made):
        making.journal.tell(line)
    with making.folder() as folder:
        fit = fitted(made, folder, making.journal, making.before, making.initial_heads)
        making.products(Work(project, fit.after.model, fit.after, folder, making.journal), fit, plan)
        if variant is not None:
            text = variant_text(project, fit)
            variant.parent.mkdir(exist_ok=True)
            with written_whole(variant) as beside:
                beside.write_text(text, encoding="utf-8")
            making.journal.tell(f"the fitted values are the variant {keep_as}: {variant}")
    return folder.path, fit


def vary_project(
    project: Project,
    out: Path | None = None,
    journal: Journal | None = None,
    *,
    grid: str | None = None,
    go_on: Path | None = None,
    of: str | None = None,
    runs: int | None = None,
    fit_levels: bool | None = None,
    workers: int | None = None,
    cluster: str | None = None,
    executor: Callable[[], Executor] | None = None,
    heard: Callable[[Ensemble], None] | None = None,
) -> tuple[Path, Ensemble]:
    """Make the many runs that a project asks for, with inputs drawn by chance, and say what they say together.

    Parameters as `run_project`, where `go_on` may be the folder of runs that came to their end, too: more are added.

    Parameters
    ----------
    of : str, optional
        Which, of several tables [[vary]].
    runs : int, optional
        How many in all, instead of what the project says.
    fit_levels : bool, optional
        Whether each run is fitted to what was measured, instead of what the project says.
    workers, cluster, executor, heard
        As of `inkhorn.vary`.

    Returns
    -------
    folder : Path
        The new run folder.
    ensemble : Ensemble

    Raises
    ------
    InputError
        If anything asked for cannot be; before any run.
    ConvergenceError
        If the flow with stated inputs does not close, or every run failed.
    """
    plan = vary_named(project, of)
    count = plan.asked.runs if runs is None else runs
    making = _Making("vary", project, out, journal, grid, go_on)
    making.name = "-".join(part for part in (making.name, plan.name) if part)
    making.again = making.again.removesuffix(" --go-on")
    making.again += f" --of {shlex.quote(plan.name)}" if len(project.varies) > 1 else ""
    making.again += f" --runs {count}" if runs is not None else ""
    making.again += "" if fit_levels is None else " --fit-levels" if fit_levels else " --no-fit-levels"
    making.again += f" --workers {workers}" if workers is not None else ""
    making.again += f" --cluster {shlex.quote(cluster)}" if cluster else ""
    making.again += " --go-on"
    made = VarySetUp(project, plan, making.model(), fit_levels=fit_levels)
    if made.fit_levels:
        making.name = "-".join(part for part in (making.name, "levels fitted") if part)
    for line in made.told_before(count, count):
        making.journal.tell(line)
    product = VaryProduct()
    with making.folder() as folder:
        ensemble = varied_runs(
            made, folder, making.journal, runs=count, before=making.before, workers=workers, cluster=cluster,
            executor=executor, initial_heads=making.initial_heads, heard=heard,
        )  # fmt: skip
        work = Work(project, made.model, None, folder, making.journal)  # type: ignore[arg-type]  # of no one flow
        key, digest = key_of(product, plan), digest_of(project, made.model, plan)
        for line in product.tell(work, plan, ensemble):
            making.journal.tell(line)
        folder.used.clear()
        folder.file("runs")
        product.write(work, plan, ensemble)
        folder.finished(key, digest)
        write_table(making.found.table(), folder.file("findings"), project.shown_in)
        with making.not_drawn("the pictures of many runs"):
            making.draw(product.draw(work, plan, ensemble), project.shown_in)
    return folder.path, ensemble


def _new_variant(project: Project, name: str) -> Path:
    """Return where a new variant goes.

    Raises
    ------
    InputError
        If there is one of that name, or a file cannot be called so.
    """
    path = project.path.parent / "variants" / f"{name}.toml"
    if Path(name).name != name or not name.strip():
        raise InputError(
            f'a variant cannot be called "{name}": it names a file in {path.parent}. Choose a plain name.'
        )
    if path.exists():
        raise InputError(
            f"{path} is there already, and is not written over. Choose another name, or take it away."
        )
    return path


def look_before_fit(
    project: Project, journal: Journal | None = None, *, grid: str | None = None, of: str | None = None
) -> Knowledge:
    """Return what readings say of a fit's parameters where these start: one flow and its sensitivities.

    Parameters
    ----------
    project, journal, grid, of
        As of `fit_project`.
    """
    plan = fit_named(project, of)
    making = _Making("fit", project, None, journal, grid, None)
    made = FitSetUp(project, plan, making.model())
    for line in told_before(made):
        making.journal.tell(line)
    making.journal.progress("solving for heads", None)
    flow = solve_flow(
        made.parameters.model_with(made.parameters.start), initial_heads=making.initial_heads, order=1, results="steps",
        progress=making.journal.progress, **made.solver,
    )  # fmt: skip
    found = looked_at(made, flow, making.journal)
    for line in told_of(found, flow):
        making.journal.tell(line)
    return found
