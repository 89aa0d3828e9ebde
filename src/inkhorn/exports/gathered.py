"""What a run has to give away: numbers of cells, shapes with columns, tables."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from inkhorn.runs.run_files import FILES, files_of
from inkhorn.units import unit_factor

if TYPE_CHECKING:
    import geopandas as gpd
    import pandas as pd

    from inkhorn.flow import FlowResult
    from inkhorn.runs import Run
    from inkhorn.transport import TransportResult
    from inkhorn.unit_choice import UnitChoice

__all__ = ["Field", "Gathered"]

Array = NDArray[np.float64]

_WET = 0.01  # filled share of a cell's height, from which its head has a meaning
_INPUTS = {
    "horizontal_conductivity": "m/day", "vertical_conductivity": "m/day", "porosity": "1", "specific_storage": "1/m",
    "specific_yield": "1",
}  # fmt: skip


class Field(NamedTuple):
    """A number of each cell.

    Attributes
    ----------
    numbers : ndarray of float, (n_cells,)
    unit : str
    words : str
        What it is.
    """

    numbers: Array
    unit: str
    words: str


@dataclass
class Gathered:
    """What a run has to give away, at one time where it has several.

    Attributes
    ----------
    run : Run
        Opened.
    time : float or str, optional
        Since the start [day], or a date; the end if not given.
    """

    run: Run
    time: float | str | None = None

    @cached_property
    def units(self) -> UnitChoice:
        """The units that results are told in."""
        return self.run.project.shown_in

    @property
    def crs(self) -> str | None:
        """The coordinate system of the site, if it has one."""
        return self.run.site.crs

    @cached_property
    def flow(self) -> FlowResult | None:
        """The flow; none of many runs, or where it was not solved."""
        has = self.run.about.get("kind") != "vary" and "flow" in self.run.about.get("done", {})
        return self.run.flow if has else None

    @cached_property
    def step(self) -> int:
        """The step of flow; times of steady flow are those of the plumes that it carries."""
        if self.flow is None or self.time is None:
            return -1
        if self._steady and self.plumes:
            for plume in self.plumes.values():
                plume.time_at(self.time)  # refuses one that lies beyond
            return 0
        return self.flow.step_at(self.time)

    @property
    def _steady(self) -> bool:
        return self.flow is not None and all(step.steady for step in self.flow.steps)

    @cached_property
    def plumes(self) -> dict[str, TransportResult]:
        """Each species that was carried, by what files call it."""
        done, found = self.run.about.get("done", {}), dict[str, "TransportResult"]()
        for asked in self.run.project.asked.transport:
            if f"transport {asked.name}".strip() not in done:
                continue
            for name, plume in self.run.plumes(asked.name).items():
                found["-".join(p for p in (asked.name, name) if p)] = plume
        return found

    def record_of(self, plume: TransportResult) -> int:
        """The output time of a plume nearest to that asked for, the last if none is."""
        if self.flow is None or self.time is None:
            return len(plume.records) - 1
        if self._steady:
            return plume.time_at(self.time)
        return int(np.argmin(np.abs(plume.times - self.flow.steps[self.step].end)))

    def heads(self, step: int) -> Array:
        """Heads in the unit shown, NaN where cells are dry, (n_cells,)."""
        assert self.flow is not None  # asked for only then
        wet = self.flow.filled(step) > _WET
        return np.where(wet, self.units.of("m")[1] * self.flow.steps[step].heads, np.nan)

    def concentrations(self, plume: TransportResult, record: int) -> Array:
        """Concentrations in the unit of the species, NaN where there is no water, (n_cells,)."""
        one, factor = plume.records[record], 1.0 / unit_factor(plume.species.unit, "concentration")
        return np.where(one.water > 0.0, factor * one.concentration, np.nan)

    @cached_property
    def fields(self) -> dict[str, Field]:
        """Numbers of each cell, by name: inputs, heads, saturation, concentrations."""
        model, found = self.run.model, dict[str, Field]()
        for name, unit in _INPUTS.items():
            values = getattr(model, name)
            if values is not None:
                shown, factor = self.units.of(unit) if unit != "1" else (unit, 1.0)
                numbers = factor * np.asarray(model.grid.per_cell(name, values), dtype=np.float64)
                found[name] = Field(numbers, shown, name.replace("_", " "))
        if self.flow is not None:
            found["head"] = Field(
                self.heads(self.step), self.units.of("m")[0], "head; none where a cell is dry"
            )
            found["saturation"] = Field(self.flow.filled(self.step), "1", "filled share of the cell's height")
        for name, plume in self.plumes.items():
            values = self.concentrations(plume, self.record_of(plume))
            key = "concentration_" + "".join(c if c.isalnum() else "_" for c in name)
            found[key] = Field(values, plume.species.unit, f"concentration of {name}")
        return found

    @cached_property
    def cells(self) -> pd.DataFrame:
        """A row for each cell: where it is, and all numbers of it, their units in the names of columns."""
        import pandas as pd

        grid, by = self.run.model.grid, self.units.of("m")[1]
        cells, length = grid.cells, self.units.of("m")[0]
        table = {
            "cell": np.arange(grid.n_cells),
            "layer": np.array(grid.layer_names, dtype=object)[cells.layer],
            f"x [{length}]": by * cells.x,
            f"y [{length}]": by * cells.y,
            f"top [{length}]": by * cells.top,
            f"bottom [{length}]": by * cells.bottom,
        }
        for name, field in self.fields.items():
            table[name if field.unit == "1" else f"{name} [{field.unit}]"] = field.numbers
        return pd.DataFrame(table)

    @cached_property
    def shapes(self) -> dict[str, gpd.GeoDataFrame]:
        """Shapes with columns, by the name of their layer: cells, boundary, features, bores, paths, zones, outlines."""
        import geopandas as gpd

        grid, site = self.run.model.grid, self.run.site
        # plan cells of each layer, as parts of layers may be joined
        outlines = np.concatenate(
            [m.polygons()[p] for m, p in zip(grid.meshes, grid.within_layer, strict=True)]
        )
        found = {"cells": gpd.GeoDataFrame(self.cells, geometry=outlines, crs=self.crs)}
        found["boundary"] = gpd.GeoDataFrame({"name": [site.name]}, geometry=[site.boundary], crs=self.crs)
        features = [f for f in site.features if f.geometry != "cells" or f.shape.places]
        if features:
            drawn = [f.shape.on_map() if f.geometry == "cells" else f.shape for f in features]
            columns = {"name": [f.name for f in features], "kind": [f.kind for f in features]}
            found["features"] = gpd.GeoDataFrame(columns, geometry=drawn, crs=self.crs)
        bores = self.tables.get("residuals.csv")
        if bores is not None:
            places = bores[[c for c in bores.columns if c.startswith(("x [", "y ["))]].to_numpy(dtype=float)
            places = places / self.units.of("m")[1]
            found["bores"] = gpd.GeoDataFrame(bores, geometry=gpd.points_from_xy(*places.T), crs=self.crs)
        for key in ("paths", "zones", "outlines", "conduits"):
            for path in files_of(self.run.path, key).values():
                found |= dict(_layers_of(path))
        return found

    @cached_property
    def tables(self) -> dict[str, pd.DataFrame]:
        """Every table of the run by the name of its file, in the order of a report."""
        import pandas as pd

        from inkhorn.files.reading import reading_as

        found: dict[str, Any] = {}
        for path, _ in self.table_files:
            with reading_as(path, "a table of a run"):
                found[path.name] = pd.read_csv(path)
        return found

    @property
    def table_files(self) -> list[tuple[Path, str]]:
        """The files of these tables, and what is in each in words."""
        return [
            (path, file.words)
            for key, file in FILES.items()
            if file.name.endswith(".csv")
            for path in files_of(self.run.path, key).values()
        ]


def _layers_of(path: Path) -> Iterator[tuple[str, Any]]:
    """The layers of a GeoPackage, named by the file unless they have a name of their own."""
    import pyogrio

    from inkhorn.files.reading import reading_as

    with reading_as(path, "a GeoPackage of a run"):
        names = [str(name) for name, _ in pyogrio.list_layers(path)]
        for name in names:
            called = (
                path.stem
                if len(names) == 1
                else f"{path.stem}_{name}"
                if name not in path.stem
                else path.stem
            )
            yield called.replace("-", "_"), pyogrio.read_dataframe(path, layer=name)
