"""Dissolved species carried along: plumes, their mass budgets, what lies above a limit, concentrations at wells."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from inkhorn import draw
from inkhorn.ensemble import Carry
from inkhorn.errors import InputError
from inkhorn.figures import three_figures
from inkhorn.files import PlumeFile, read_concentration, write_shapes, write_table
from inkhorn.model import Finding, Model
from inkhorn.project import Project
from inkhorn.project.parts_asked import TransportPart
from inkhorn.runs.product import Picture, Product, Work, digest_of
from inkhorn.runs.wants import lacking_porosity, too_much
from inkhorn.site import Site, Species, Well
from inkhorn.transport import (
    Dispersion,
    ImmobileWater,
    TransportResult,
    lacking_concentration,
    numerical_spreading,
    refuse_long_transport,
    refuse_what_lacks,
    solve_transport,
)
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["PlumeProduct", "carried_by", "transport_options"]

YEAR = 365.25
_NARROW = 4.0  # cells across at half its height, below which a plume is not told well

Plumes = Mapping[str, TransportResult]


def _species(project: Project, asked: TransportPart) -> list[Species]:
    known = {s.name: s for s in project.site.species}
    return [known[name] for name in asked.of]


def _dispersion(asked: TransportPart) -> Dispersion:
    return Dispersion(
        asked.dispersivity,
        asked.transverse_dispersivity,
        asked.vertical_dispersivity,
        diffusion=asked.diffusion,
    )


def _immobile(asked: TransportPart) -> ImmobileWater | None:
    return None if asked.immobile is None else ImmobileWater(asked.immobile.porosity, asked.immobile.exchange)


def carried_by(project: Project, model: Model, asked: TransportPart) -> Carry:
    """Return what many runs carry for a table [transport]."""
    return Carry(_species(project, asked), transport_options(project, model, asked))


def transport_options(project: Project, model: Model, asked: TransportPart) -> dict[str, Any]:
    """Return what `solve_transport` takes beside flow and species."""
    part_of_grid = None
    if asked.only_in_regions:
        regions = project.cells_of_regions(model.grid)
        part_of_grid = np.any([regions[name] for name in asked.only_in_regions], axis=0)
    return {
        "duration": asked.duration, "outputs": asked.outputs, "times": asked.times or None,
        "dispersion": _dispersion(asked), "step_length": asked.step_length, "method": asked.method,
        "immobile": _immobile(asked), "only_in": part_of_grid, "repeated": asked.repeated, "start": asked.start,
        "keep_flows": bool(asked.across), "initial": _of_region(project, model, asked),
    }  # fmt: skip


def _of_region(project: Project, model: Model, asked: TransportPart) -> dict[str, Any] | None:
    """Concentrations that a local model begins with, of the plume that its region's run ended with."""
    part = project.cut_from
    if part is None or part.plume is None or part.plume not in asked.of:
        return None
    from inkhorn.runs.local import cut_again
    from inkhorn.runs.opening import open_run

    assert project.source.region is not None  # it is cut from one
    plume = open_run(project.source.region.folder).transport(species=part.plume)
    return {part.plume: cut_again(project, model).initial_concentration(plume)}


def _bringing(site: Site) -> list[str]:
    """Features that may bring in water: of wells those that put some in."""
    return [
        f.name
        for f in site.features
        if f.brings_water and hasattr(f, "concentration") and not (isinstance(f, Well) and f.injection == 0.0)
    ]


def _idle(site: Site, name: str) -> bool:
    """Whether a feature is a well that never takes water."""
    well = next((f for f in site.features if f.name == name and isinstance(f, Well)), None)
    return well is not None and isinstance(well.abstraction, float) and well.abstraction == 0.0


def _when(day: float, made: TransportResult) -> str:
    """Years since the begin, and the month where dates are known."""
    text = f"{day / YEAR:.1f} years"
    if made.start is None:
        return text
    month = made.start + np.timedelta64(round(day * 86400.0), "s")
    return f"{text} ({month.astype('datetime64[M]')})"


class PlumeProduct(Product[Plumes]):
    """Transport, each table [transport] on its own."""

    table = "transport"
    what = "transport"

    def requests(self, project: Project, model: Model) -> Sequence[TransportPart]:
        return project.asked.transport

    def lacks(self, project: Project, model: Model, asked: TransportPart) -> Iterator[Finding]:
        where = f"{project.path.name}, [transport]"
        yield from lacking_porosity(project, model, self.what, self.table)
        lasting = asked.duration
        if model.schedule is not None:
            whole = float(model.schedule.ends[-1] - model.schedule.begins[0])
            lasting = whole if lasting is None else lasting
            if lasting > whole * (1.0 + 1e-9) and not asked.repeated:
                yield Finding(
                    "error", f"transport is to last {lasting:g} days, the flow lasts {whole:g}", where,
                    "Give a shorter `duration`, a longer [time], or `repeated = true`.",
                )  # fmt: skip
        elif lasting is None:
            yield Finding(
                "error", "steady flow has no end, and no duration of transport is given", where, "Give `duration`."
            )  # fmt: skip
        if lasting is not None:
            step = asked.step_length or lasting
            outputs = len(asked.times) or asked.outputs
            yield from too_much(
                lambda: refuse_long_transport(lasting, step, outputs, model.grid.n_cells), where
            )
        for species in _species(project, asked):
            lacking = lacking_concentration(model, species, _bringing(project.site))
            if lacking:
                yield Finding("error", lacking, where, "")
            if model.porosity is not None:
                try:
                    refuse_what_lacks(model, species, _dispersion(asked), _immobile(asked), asked.start)
                except InputError as problem:
                    yield Finding("error", str(problem), where, "")
        for name in asked.watch:
            if _idle(project.site, name):
                yield Finding(
                    "error",
                    f'{", ".join(asked.of)} is watched at "{name}", which takes no water out',
                    where,
                    "Watch wells that abstract.",
                )
        if model.porosity is not None and model.specific_yield is not None and model.schedule is not None:
            short = np.flatnonzero(model.porosity < model.specific_yield - 1e-12)
            if len(short):
                yield Finding(
                    "warning",
                    f"porosity is less than specific yield in {len(short)} cells: what drains beyond the pores carries "
                    "the concentration of its cell",
                    model.grid.place_of(int(short[0])),
                    "Give a porosity of at least the specific yield.",
                )

    def solve(self, work: Work, asked: TransportPart) -> Plumes:
        project, model = work.project, work.model
        species = _species(project, asked)
        digest = digest_of(project, model, asked)
        stores, before = {}, {}
        for one in species:
            part = self._named(asked, one.name)
            stores[one.name] = PlumeFile(
                work.folder.file("concentration", part), work.flow, one, made_of=digest
            )
            if work.before is not None:
                kept = work.before.file("concentration", part)
                if kept.exists():
                    before[one.name] = PlumeFile.opened(kept, work.flow, one)
        go_on = {}
        if len(before) == len(species) and all(f.made_of == digest and len(f) for f in before.values()):
            shortest = min(len(f) for f in before.values())
            go_on = {name: file.result(shortest) for name, file in before.items()}
            work.journal.tell(f"transport goes on from day {next(iter(go_on.values())).times[-1]:g}")
        made = solve_transport(
            work.flow,
            species,
            **transport_options(project, model, asked),
            go_on_from=go_on or None,
            store=stores,
            progress=work.journal.progress,
        )
        assert isinstance(made, dict)  # of several
        return made

    @staticmethod
    def _named(asked: TransportPart, species: str) -> str:
        """What files of a species are called, of several."""
        return "-".join(n for n in (asked.name, species if len(asked.of) > 1 else "") if n)

    def write(self, work: Work, asked: TransportPart, made: Plumes) -> None:
        import pandas as pd

        file, units = work.folder.file, work.project.shown_in
        for name, one in made.items():
            part = self._named(asked, name)
            write_table(one.budget(), file("mass budget", part), units)
            write_table(one.budgets(), file("mass in time", part), units)
            if asked.watch:
                write_table(self._at_places(asked, one), file("breakthrough", part), units)
            if asked.across:
                lines = {n: work.project.lines[n] for n in asked.across}
                crossing = {
                    (line, one.times[k]): one.across(shape, k)
                    for line, shape in lines.items()
                    for k in range(1, len(one.records))
                }
                write_table(
                    pd.concat(crossing, names=["line", "time [day]"]), file("mass across", part), units
                )
            if one.species.limit is not None:
                source = self._source(work.project.site, one)
                write_table(one.above_limit(source=source), file("above limit", part), units)
                write_table(one.arrivals(), file("arrivals", part), units)
                outlines = one.outline()
                if len(outlines):
                    write_shapes(outlines, file("outlines", part))

    @staticmethod
    def _at_places(asked: TransportPart, one: TransportResult) -> pd.DataFrame:
        import pandas as pd

        unit = one.species.unit
        factor = 1.0 / unit_factor(unit, "concentration")
        found = {f"{n} [{unit}]": one.at(n) * factor for n in asked.watch if n in one.watched.columns}
        return pd.DataFrame(found).rename_axis("time [day]")

    @staticmethod
    def _source(site: Site, one: TransportResult) -> Any:
        """Where the most concentrated water comes in: from there the reach is measured."""
        known = one.flow.model.inflow_concentration.get(one.species.name, {})
        highest = {
            n: float(np.max(getattr(c, "values", c))) for n, c in known.items() if not hasattr(c, "treated")
        }
        if not highest:
            return None
        most = max(highest, key=lambda n: highest[n])
        if one.species.limit is None or highest[most] <= one.species.limit:
            return None
        shape = next((f.shape for f in site.features if f.name == most), None)
        return shape if hasattr(shape, "distance") else None

    def read(self, work: Work, asked: TransportPart) -> Plumes:
        return {
            s.name: read_concentration(
                work.folder.there("concentration", self._named(asked, s.name)), work.flow, s
            )
            for s in _species(work.project, asked)
        }

    def draw(self, work: Work, asked: TransportPart, made: Plumes) -> Iterator[Picture]:
        file = work.folder.file
        for name, one in made.items():
            part = self._named(asked, name)
            yield Picture.of(file("plume picture", part), "the plume", draw.plume, one)
            if len(one.records) > 4:
                yield Picture(
                    file("snapshots picture", part),
                    "the plume in time",
                    partial(draw.snapshots, one),
                )
            watched = [n for n in asked.watch if n in one.watched.columns]
            if watched:
                path = file("breakthrough picture", part)
                yield Picture.of(path, "concentrations at wells", draw.breakthrough, one, watched)

    def tell(self, work: Work, asked: TransportPart, made: Plumes) -> Iterator[str]:
        for one in made.values():
            yield from self._told(work, asked, one)

    def _told(self, work: Work, asked: TransportPart, made: TransportResult) -> Iterator[str]:
        species, mass = made.species, made.budget()
        named = f", {asked.name}" if asked.name else ""
        length, by = work.project.shown_in.of("m")
        if asked.method == "upstream" and asked.step_length is not None:
            along, across = numerical_spreading(made.flow, asked.step_length)
            of = _dispersion(asked).of_cells(work.model)
            if along > 0.5 * of[0].mean() or across > 0.5 * of[1].mean():
                said = ", ".join(f"{by * float(v.mean()):.3g}" for v in of[:2])
                yield (
                    f"cells and steps spread {species.name}{named} as dispersivities of {by * along:.2g} {length} along "
                    f"and {by * across:.2g} {length} across the flow would, beside those asked for ({said}): peaks are "
                    "lower and first arrivals sooner than they ought to be"
                )
        width = made.narrowest()
        if width < _NARROW:
            yield (
                f"the plume of {species.name}{named} is but {width:.2g} cells wide at half its height: its highest "
                f"concentrations are means over cells. Make cells smaller there (fewer than {_NARROW:g} tell little)"
            )
        steps = len(made.watched) - 1
        yield (
            f"mass budget of {species.name}{named} closes to {abs(mass.attrs['closing_error_percent']):.1e} % "
            f"after {steps} steps"
        )
        yield from self._limit_told(work, asked, made, named)

    def _limit_told(
        self, work: Work, asked: TransportPart, made: TransportResult, named: str
    ) -> Iterator[str]:
        species = made.species
        factor = 1.0 / unit_factor(species.unit, "concentration")
        for name in asked.watch:
            if name not in made.watched.columns:
                yield f"{species.name} at {name}{named}: it took no water"
                continue
            series = made.at(name)
            highest = f"{species.name} at {name}{named}: up to {three_figures(series.max() * factor)} {species.unit}"
            if species.limit is None:
                yield highest
                continue
            limit = f"the limit of {species.limit * factor:g}"
            spans = made.spans_above(series, species.limit)
            if not spans:
                yield f"{highest}, below {limit} throughout"
                continue
            text = f"{highest}; passes {limit} after {_when(spans[0][0], made)}"
            again = spans[-1][1]
            if np.isfinite(again):
                lasting = sum(end - begin for begin, end in spans) / YEAR
                text += f", is below it for good after {_when(again, made)}, and above it for {lasting:.1f} years in all"
            yield text
        if species.limit is None:
            return
        above = made.above_limit(source=self._source(work.project.site, made)).iloc[-1]
        if above["area [m²]"] > 0.0:
            length, by = work.project.shown_in.of("m")
            yield (
                f"{species.name}{named} above {species.limit * factor:g} {species.unit} in the end: "
                f"{three_figures(above['area [m²]'] / 1e4)} ha, {three_figures(above['mass [kg]'])} kg, "
                f"up to {three_figures(by * above['reach [m]'])} {length} "
                "from its source"
            )
