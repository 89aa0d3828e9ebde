"""A dissolved species carried along: the plume, its mass budget, concentrations at wells."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from inkhorn import draw
from inkhorn.files import read_concentration, write_concentration, write_table
from inkhorn.model import Finding, Model
from inkhorn.project import Project
from inkhorn.project.parts_asked import TransportPart
from inkhorn.runs.product import Picture, Product, Work
from inkhorn.runs.wants import lacking_porosity, left_out_in_time, too_much
from inkhorn.site import Site, Species, Well
from inkhorn.transport import (
    Dispersion,
    TransportResult,
    lacking_concentration,
    numerical_spreading,
    refuse_long_transport,
    solve_transport,
)
from inkhorn.units import unit_factor

__all__ = ["PlumeProduct"]

YEAR = 365.25


def _species(project: Project, asked: TransportPart) -> Species:
    return next(s for s in project.site.species if s.name == asked.species)


def _bringing(site: Site) -> list[str]:
    """Features that may bring in water: of wells those that put some in."""
    return [
        f.name
        for f in site.features
        if hasattr(f, "concentration") and not (isinstance(f, Well) and f.injection == 0.0)
    ]


class PlumeProduct(Product[TransportResult]):
    """Transport, each table [transport] on its own."""

    table = "transport"
    what = "transport"

    def requests(self, project: Project, model: Model) -> Sequence[TransportPart]:
        return project.asked.transport

    def possible(self, model: Model) -> bool:
        return model.schedule is None

    def lacks(self, project: Project, model: Model, asked: TransportPart) -> Iterator[Finding]:
        yield from lacking_porosity(project, model, self.what, self.table)
        yield from left_out_in_time(project, model, f"{self.what} is", self.table)
        where = f"{project.path.name}, [transport]"
        yield from too_much(
            lambda: refuse_long_transport(
                asked.duration, asked.step_length, asked.outputs, model.grid.n_cells
            ),
            where,
        )
        lacking = lacking_concentration(model, _species(project, asked), _bringing(project.site))
        if lacking:
            yield Finding("error", lacking, where, "")
        wells = {w.name: w for w in project.site.wells}
        for name in asked.watch:
            if wells[name].abstraction == 0.0:
                yield Finding(
                    "error",
                    f'{asked.species} is watched at "{name}", which takes no water out',
                    where,
                    "Watch wells that abstract.",
                )

    def solve(self, work: Work, asked: TransportPart) -> TransportResult:
        species = _species(work.project, asked)
        return solve_transport(
            work.flow,
            species,
            duration=asked.duration,
            step_length=asked.step_length,
            outputs=asked.outputs,
            dispersion=Dispersion(
                asked.dispersivity,
                asked.transverse_dispersivity,
                asked.vertical_dispersivity,
                diffusion=asked.diffusion,
            ),
            progress=work.journal.progress,
        )

    def _at_wells(self, asked: TransportPart, made: TransportResult) -> dict[str, Any]:
        return {name: made.at_well(name) for name in asked.watch}

    def write(self, work: Work, asked: TransportPart, made: TransportResult) -> None:
        import pandas as pd

        file, units = work.folder.file, work.project.shown_in
        write_concentration(made, file("concentration", asked.name))
        write_table(made.budget(), file("mass budget", asked.name), units)
        if asked.watch:
            unit = made.species.unit
            factor = 1.0 / unit_factor(unit, "concentration")
            columns = {f"{n} [{unit}]": s * factor for n, s in self._at_wells(asked, made).items()}
            write_table(
                pd.DataFrame(columns).rename_axis("time [day]"), file("breakthrough", asked.name), units
            )

    def read(self, work: Work, asked: TransportPart) -> TransportResult:
        path = work.folder.there("concentration", asked.name)
        return read_concentration(path, work.flow, _species(work.project, asked))

    def draw(self, work: Work, asked: TransportPart, made: TransportResult) -> Iterator[Picture]:
        file = work.folder.file
        yield Picture.of(file("plume picture", asked.name), "the plume", draw.plume, made)
        if asked.watch:
            path = file("breakthrough picture", asked.name)
            yield Picture.of(path, "concentrations at wells", draw.breakthrough, made, asked.watch)

    def tell(self, work: Work, asked: TransportPart, made: TransportResult) -> Iterator[str]:
        species, mass = made.species, made.budget()
        named = f", {asked.name}" if asked.name else ""
        length, factor = work.project.shown_in.of("m")
        along, across = numerical_spreading(made.flow, asked.step_length)
        if along > 0.5 * asked.dispersivity or across > 0.5 * asked.transverse_dispersivity:
            said = ", ".join(f"{factor * v:.3g}" for v in (asked.dispersivity, asked.transverse_dispersivity))
            yield (
                f"cells and steps spread {species.name}{named} as dispersivities of {factor * along:.2g} {length} along "
                f"and {factor * across:.2g} {length} across the flow would, beside those asked for ({said}): peaks are "
                "lower and first arrivals sooner than they ought to be"
            )
        yield f"mass budget of {species.name}{named} closes to {abs(mass.attrs['closing_error_percent']):.1e} %"
        factor = 1.0 / unit_factor(species.unit, "concentration")
        for name, series in self._at_wells(asked, made).items():
            highest = f"{species.name} at {name}{named}: up to {series.max() * factor:.3g} {species.unit}"
            if species.limit is None:
                yield highest
                continue
            limit = f"the limit of {species.limit * factor:g}"
            passed = made.first_time_above(series, species.limit)
            yield (
                f"{highest}, below {limit} throughout"
                if passed is None
                else f"{highest}; passes {limit} after {passed / YEAR:.1f} years"
            )
