"""Many runs with inputs drawn by chance: made, kept as they come in, told, drawn."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn import draw
from inkhorn.ensemble import Ensemble, EnsembleState, Varied, VariedSet, first_order, vary
from inkhorn.ensemble.varied_parts import FieldPart
from inkhorn.errors import InputError
from inkhorn.files import read_runs, write_chance_map, write_runs, write_table, write_workbook
from inkhorn.model import Finding, Model
from inkhorn.project import Project, VaryPlan
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.journal import Journal
from inkhorn.runs.local import begun_with
from inkhorn.runs.product import Picture, Product, Work
from inkhorn.runs.vary_set_up import VarySetUp

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["VaryProduct", "read_ensemble", "varied_runs"]

_EVERY = 10.0  # s after which runs are written again
_SHARE = 0.03  # of the time, that writing may take
_TELL = (1, 2, 5)  # times ten, a hundred and so on: runs after which a line is told
_FIRST_TOLD = 10


class VaryProduct(Product[Ensemble]):
    """What many runs say together."""

    table = "vary"
    what = "many runs"

    def requests(self, project: Project, model: Model) -> Sequence[VaryPlan]:
        return project.varies

    def lacks(self, project: Project, model: Model, asked: VaryPlan) -> Iterator[Finding]:
        where = f"{project.path.name}, [vary]"
        try:
            made = VarySetUp(project, asked, model)
            made.watching()
            notes = VariedSet(model, made.varied).notes
        except InputError as problem:
            said = str(problem).removeprefix(f"{where}: ")
            yield Finding("error", said, where, "")
            return
        for note in notes:
            yield Finding("note", note, where, "")

    def solve(self, work: Work, asked: VaryPlan) -> Ensemble:
        raise NotImplementedError("many runs are made by `varied_runs`")

    def write(self, work: Work, asked: VaryPlan, made: Ensemble) -> None:
        folder, units = work.folder, work.project.shown_in
        tables = {"runs statistics": made.statistics(), "every run": made.runs().reset_index()}
        if made.state.failed:
            tables["failures"] = made.failures()
        if made.number_names:
            tables["rank correlations"] = _correlations(made)
        for key, table in tables.items():
            write_table(table, folder.file(key), units)
        if any(w.of_water for w in made.watching.watches) and not folder.about.get("levels"):
            table = self._first_order(work, asked, made)
            write_table(table, folder.file("first order"), units)
            tables["first order"] = table
        for watch in made.watching.watches:
            if len(made.times(watch.name)) > 1:
                bands = _with_units(made, watch.name)
                write_table(bands, folder.file("bands", watch.name), units)
                tables[f"bands {watch.name}"] = bands
        write_workbook(tables, folder.file("runs workbook"), units)
        for name in made.maps:
            write_chance_map(made, name, folder.file("chance map", name))

    def _first_order(self, work: Work, asked: VaryPlan, made: Ensemble) -> pd.DataFrame:
        """Mean and deviation by one flow and its derivatives, with those of the runs beside them."""
        work.journal.progress("mean and deviation by derivatives", None)
        set_up = VarySetUp(work.project, asked, work.model)
        table = first_order(
            work.model, set_up.varied, made.watching.watches, initial_heads=begun_with(work.project, work.model),
            solver={k: v for k, v in set_up.solver.items() if k not in ("order", "head_error")},
        )  # fmt: skip
        rows = [k for w in made.watching.watches if w.of_water for k in made.rows_of(w.name)]
        values = np.array([made.state.column(k) for k in rows]).T
        deviation = values.std(axis=0, ddof=1) if len(values) > 1 else np.full(len(rows), np.nan)
        table.insert(5, "mean of runs", values.mean(axis=0))
        table.insert(6, "deviation of runs", deviation)
        return table

    def read(self, work: Work, asked: VaryPlan) -> Ensemble:
        levels = bool(work.folder.about.get("levels", asked.asked.fit_levels))
        return read_ensemble(VarySetUp(work.project, asked, work.model, fit_levels=levels), work.folder)

    def draw(self, work: Work, asked: VaryPlan, made: Ensemble) -> Iterator[Picture]:
        file = work.folder.file
        for watch in made.watching.watches:
            name = watch.name
            if not len(made.of(name)):
                continue
            fill: Any = partial(draw.watched, made, name)
            yield Picture(file("watched picture", name), f"what runs say of {name}", fill)
            if len(made.times(name)) > 1:
                yield Picture.of(file("bands picture", name), f"{name} in time", draw.bands, made, name)
        set_up = VarySetUp(work.project, asked, work.model)
        for one, part in zip(set_up.varied, VariedSet(work.model, set_up.varied).parts, strict=True):
            if isinstance(one, Varied) and isinstance(part, FieldPart):
                fill = partial(draw.field_check, part.maker)
                yield Picture(file("field check", one.name), f"fields of {one.name}", fill)
        for name in made.maps:
            fill = partial(draw.chance_maps, made, name)
            yield Picture(file("chance picture", name), f"the map {name}", fill)

    def tell(self, work: Work, asked: VaryPlan, made: Ensemble) -> Iterator[str]:
        count, failed = made.state.count, len(made.state.failed)
        yield f"{count} runs, {failed} of them failed: {made.reason}"
        if failed:
            first = min(made.state.failed)
            yield f"the first that failed was run {first + 1}: {made.state.failed[first]}"
        for watch in made.watching.watches:
            yield said_of(made, watch.name)
        settle = asked.settle
        if settle is not None and made.reason.startswith("all runs"):
            yield f"the {settle.statistic} of {settle.watch} has not settled yet; add runs with --go-on and --runs"


def _correlations(made: Ensemble) -> Any:
    import pandas as pd

    parts = [made.rank_correlations(w.name).assign(watched=w.name) for w in made.watching.watches]
    return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame()


def _with_units(made: Ensemble, name: str) -> Any:
    """The bands of something watched, with units in the heads of columns."""
    table, unit = made.bands(name), made.unit(name)
    plain = ("time [day]", "runs")
    return table.rename(
        columns={c: f"{c} [{unit}]" for c in table.columns if c not in plain and not c.startswith("share")}
    )


def said_of(made: Ensemble, name: str) -> str:
    """Say what runs tell of something watched, at its last time."""
    values, unit = made.of(name)[:, -1], made.unit(name)
    whole = len(values)
    values = values[np.isfinite(values)]
    if not len(values):
        return f"{name}: no run has a value"
    low, middle, high = np.quantile(values, (0.05, 0.5, 0.95))
    error = values.std(ddof=1) / np.sqrt(len(values)) if len(values) > 1 else np.nan
    some = f" (in {len(values)} of {whole} runs)" if len(values) < whole else ""
    limit = float(made.columns["limit"].iloc[made.rows_of(name)[-1]])
    above = ""
    if np.isfinite(limit):
        p = float((values > limit).mean())
        above = f"; above {limit:g} {unit} in {100.0 * p:.3g} ± {100.0 * np.sqrt(p * (1 - p) / len(values)):.2g} %"
    return (
        f"{name}{some}: mean {values.mean():.4g} ± {error:.2g} {unit}, median {middle:.4g}, nine in ten between "
        f"{low:.4g} and {high:.4g}{above}"
    )


def read_ensemble(made: VarySetUp, folder: RunFolder) -> Ensemble:
    """Read many runs again."""
    state, about, stated, reason = read_runs(folder.there("runs"))
    watching = made.watching()
    for one, asked in zip(state.maps, watching.maps, strict=True):
        one.limit = watching.map_limit(asked)
    names, units = (tuple(about[key]) for key in ("number names", "number units"))
    return Ensemble(watching, state, names, units, stated, reason)


def varied_runs(
    made: VarySetUp,
    folder: RunFolder,
    journal: Journal,
    *,
    runs: int,
    before: RunFolder | None = None,
    workers: int | None = None,
    cluster: str | None = None,
    executor: Callable[[], Executor] | None = None,
    initial_heads: Any = None,
    heard: Callable[[Ensemble], None] | None = None,
) -> Ensemble:
    """Make many runs, after those of an earlier folder; all that is taken in is written from time to time.

    Raises
    ------
    InputError
        If the earlier runs are of another model, or of other numbers, fields or things watched.
    """
    plan, state, block = made.plan, None, runs
    if before is not None and before.file("runs").exists():
        state, about, _, _ = read_runs(before.file("runs"))
        block = int(about["block"])
        if about["digest"] != made.digest(block):
            raise InputError(
                f'"{before.path}" holds runs of something else: the model, what is varied or what is watched differs. Go '
                "on with the project as it was, or begin anew."
            )
        watching = made.watching()
        for one, asked in zip(state.maps, watching.maps, strict=True):
            one.limit = watching.map_limit(asked)
        if state.count >= runs:
            raise InputError(
                f'"{before.path}" has {state.count} runs already. Ask for more with --runs, or take them as they are.'
            )
        journal.tell(f"goes on after {state.count} runs of {before.path}")
    about = {
        "digest": made.digest(block),
        "block": block,
        "seed": plan.asked.seed,
        "of": plan.name,
        "levels": made.fit_levels,
    }
    folder.keep_about(
        of=plan.name,
        levels=made.fit_levels,
        cells=made.model.grid.n_cells,
        **{"in time": made.model.schedule is not None},
    )
    last = {"written": time.monotonic(), "took": 0.0, "told": 0 if state is None else state.count}
    so_far: list[Ensemble] = []

    def listened(found: Ensemble) -> None:
        so_far[:] = [found]
        folder.worth = True
        count = found.state.count
        marks = [n for n in range(int(last["told"]) + 1, count + 1) if _to_be_told(n)]
        if marks:
            last["told"] = count
            journal.tell(f"{count} runs: {'; '.join(_short(found))}")
        if time.monotonic() - last["written"] > max(_EVERY, last["took"] / _SHARE):
            write(found)
        if heard is not None:
            heard(found)

    def write(found: Ensemble) -> None:
        begin = time.monotonic()
        write_runs(found, folder.file("runs"), about)
        folder.keep_about(runs=found.state.count)
        last["written"], last["took"] = time.monotonic(), time.monotonic() - begin

    def kept(state: EnsembleState, ended: bool) -> None:
        if ended and so_far:
            write(so_far[0])

    found = vary(
        made.model, made.varied, made.watches, runs=runs, seed=plan.asked.seed, sampling=plan.asked.sampling,
        maps=plan.maps, carry=made.carries, follow=made.follows, settle=plan.settle, fit_to=made.readings,
        workers=workers, cluster=cluster, executor=executor, block=block, initial_heads=initial_heads,
        solver=made.solver, keep=kept, heard=listened, go_on=state, progress=journal.progress,
    )  # fmt: skip
    write(found)
    return found


def _to_be_told(count: int) -> bool:
    if count < _FIRST_TOLD:
        return False
    while count % 10 == 0:
        count //= 10
    return count in _TELL


def _short(found: Ensemble) -> list[str]:
    """Means and standard errors of the first things watched."""
    table = found.glance().head(3)
    return [
        f"{row['watched']} {row['mean']:.4g} ± {row['standard error']:.2g} {row['unit']}"
        for _, row in table.iterrows()
    ]
