"""What a fit found: its tables, pictures, forecasts, and the values as a variant."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn import draw
from inkhorn.calibration import FitResult, Forecast, Knowledge, forecast, sensitivities
from inkhorn.errors import InputError
from inkhorn.files import edits_as_toml, write_table, write_workbook, written_whole
from inkhorn.flow import FlowResult
from inkhorn.model import Finding, Model
from inkhorn.project import FitPlan, Project, variant_file
from inkhorn.runs.fit_keeping import read_fit
from inkhorn.runs.fit_set_up import FitSetUp, few
from inkhorn.runs.journal import Journal
from inkhorn.runs.product import Picture, Product, Work

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["FitProduct", "knowledge_tables", "looked_at", "told_of", "variant_text"]


def variant_text(project: Project, result: FitResult) -> str:
    """Return the fitted values as a variant of the project that `inkhorn run` takes.

    Values of the project's own edits stay, and these come after them; so does what the variant that was fitted says.
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
    found = f"# what a fit of {project.asked.title} found: {result.reason}\n\n{edits_as_toml(edits)}"
    if project.variant is None:
        return found
    own = variant_file(project.path, project.variant).read_text(encoding="utf-8")
    return f"# the variant {project.variant}, and what a fit of it found\n\n{own.rstrip()}\n\n{found}"


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


def told_of(knowledge: Knowledge, flow: FlowResult) -> Iterator[str]:
    """Say what cannot be known, and which bores stand in cells that are dry in a flow."""
    dry = knowledge.observations.dry(flow)
    if dry:
        yield f"these bores stand in cells that are dry, whose heads have no meaning: {few(dry)}"
    for words in knowledge.words():
        yield f"cannot be known from these readings: {words}"
    for parameter, mine, _ in knowledge.parameters.groups():
        low = int((knowledge.share[mine] < 0.2).sum())
        if low:
            yield f"{low} of the {len(mine)} pilot points of {parameter.name} are hardly told by the readings"
    bound = [n for n, on in zip(knowledge.parameters.names, knowledge.on_bound, strict=True) if on]
    if bound:
        yield f"on a bound, and so bending the rest: {few(bound)}"
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
        self._forecasts(work, asked, made)
        with suppress(InputError), written_whole(folder.file("fitted")) as beside:
            beside.write_text(variant_text(work.project, made), encoding="utf-8")
        with suppress(FileNotFoundError):
            folder.file("iterate", str(len(made.history) - 1)).unlink()

    def _forecasts(self, work: Work, asked: FitPlan, made: FitResult) -> None:
        """Forecast what is asked for, and tell what would make it surer."""
        import pandas as pd

        found = self.forecast_of(work, asked, made)
        if found is None:
            return
        folder, units = work.folder, work.project.shown_in
        write_table(found.table(), folder.file("forecasts"), units)
        names = list(dict.fromkeys(found.names))
        worth = [found.worth_of_readings(n).assign(forecast=n) for n in names]
        write_table(pd.concat(worth, ignore_index=True), folder.file("worth"), units)
        new = _set_up(work, asked, made).candidates
        if new is not None:
            worth = [found.worth_of(new, n).assign(forecast=n) for n in names]
            write_table(pd.concat(worth, ignore_index=True), folder.file("worth of new"), units)

    def forecast_of(self, work: Work, asked: FitPlan, made: FitResult) -> Forecast | None:
        """Return what is forecast with a fit; none if nothing is."""
        targets = _set_up(work, asked, made).forecasts
        return None if targets is None else forecast(made, targets)

    def read(self, work: Work, asked: Any) -> FitResult:
        """Read a fit again; the model of `work` is the one before the fit."""
        return read_fit(FitSetUp(work.project, asked, work.model), work.folder)

    def draw(self, work: Work, asked: Any, made: FitResult) -> Iterator[Picture]:
        file = work.folder.file
        yield Picture.of(
            file("fit picture"), "measured against computed", draw.measured_against_computed, made
        )
        yield Picture(file("residual map"), "residuals", partial(draw.residual_maps, made))
        yield Picture(file("fit quality"), "how residuals are spread", partial(draw.residual_spread, made))
        yield Picture(
            file("sensitivity picture"),
            "what readings tell",
            partial(draw.what_readings_tell, made.knowledge),
        )
        told_next = self.forecast_of(work, asked, made)
        if told_next is not None:
            for name in dict.fromkeys(told_next.names):
                fill = partial(draw.worth_of_levels, told_next, name)
                yield Picture(file("worth picture", name), f"what would make {name} surer", fill)
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
                yield f"{words}, over {found.count} reading{'s'[: found.count != 1]} in {unit}: {found.words}"
        yield f"freedom left: {made.knowledge.freedom:.3g} of {len(made.observations)} readings"
        yield from told_of(made.knowledge, made.after)
        ahead = self.forecast_of(work, asked, made)
        if ahead is not None:
            for _, row in ahead.table().iterrows():
                yield (
                    f"forecast of {row['name']}: {row['forecast']:.5g} {row['unit']}, standard error "
                    f"{row['standard error']:.2g} ({row['standard error before']:.2g} before the readings)"
                )


def _set_up(work: Work, asked: FitPlan, made: FitResult) -> FitSetUp:
    """The set-up of a fit that is done, on the model it was made of."""
    return FitSetUp(work.project, asked, made.parameters.model)


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
