"""Run folders side by side: what their inputs differ in, heads over all and at bores, fits and budgets."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from inkhorn import draw
from inkhorn.calibration import fit_table
from inkhorn.errors import InputError
from inkhorn.files import file_name, write_table
from inkhorn.model import Model
from inkhorn.runs.journal import Journal
from inkhorn.runs.keeping import new_run_folder
from inkhorn.runs.opening import Run, open_run
from inkhorn.space import line_corners, overlap
from inkhorn.unit_choice import UnitChoice

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Comparison", "compare_runs", "write_comparison"]

COMPUTED, MEASURED = "computed [m]", "measured [m]"


@dataclass(frozen=True, eq=False, repr=False)
class Comparison:
    """What several runs found, a column or a row for each.

    Attributes
    ----------
    runs : pandas.DataFrame
        One row per run: its grid, cells, steps, variant, and what that differs in.
    heads : pandas.DataFrame
        One row per bore: layer, measured level and the head each run computed there [m], as means over the readings
        that all runs cover; NaN where a run left the bore out, or the runs cover no reading of it together.
    fits : pandas.DataFrame
        One row per run, and for readings and means of bores: count, mean, RMS, scaled RMS, weighted sum and
        correlation, over the readings that all runs cover; the others of each run are counted as left out.
    budgets : pandas.DataFrame
        One row per term and direction, a column per run [m³/day]; of runs through time means over time, steady
        periods and warm-up left out.
    inputs : pandas.DataFrame
        One row for each key of the project files, and each file of data, in which runs differ; a column per run.
    differences : pandas.DataFrame
        One row per run after the first, and per layer: how its heads at the end differ from those of the first run, as
        means by volume where both have cells, whatever their grids: mean, RMS, least and greatest difference [m], and
        the share of the first run's layer that the other covers.
    in_time : pandas.DataFrame
        Water budgets of runs through time, over the steps that end at the same date in all, a column for each run
        [m³/day].
    along : pandas.DataFrame
        Heads along a line at the end, by layer: distance and a column for each run [m], NaN where it has none.
    fields : mapping of str to ndarray, (n_cells,)
        Of each run after the first the differences of heads, cell by cell of the first run's grid.
    models : mapping of str to Model
        Of each run.
    last : mapping of str to ndarray, (n_cells,)
        Heads at the end of each run [m].
    parameters : pandas.DataFrame
        Of the runs that are fits, one row per number that was fitted: its unit, and for each run its value and 95 %
        limits.
    """

    runs: pd.DataFrame
    heads: pd.DataFrame
    fits: pd.DataFrame
    budgets: pd.DataFrame
    inputs: pd.DataFrame
    differences: pd.DataFrame
    in_time: pd.DataFrame
    along: pd.DataFrame
    fields: Mapping[str, NDArray[np.float64]]
    models: Mapping[str, Model]
    last: Mapping[str, NDArray[np.float64]]
    parameters: pd.DataFrame

    @property
    def first(self) -> Model:
        """The model of the first run."""
        return next(iter(self.models.values()))

    def __repr__(self) -> str:
        return f"Comparison({len(self.runs)} runs, {len(self.heads)} bores)"

    def _repr_html_(self) -> str:
        from inkhorn.draw.notebook import page

        return page(self, [self.runs, self.inputs, self.differences, self.fits, self.budgets])


def _names(folders: list[Path]) -> list[str]:
    """The shortest ends of the paths that tell them apart."""
    for length in range(1, 6):
        names = ["/".join(f.resolve().parts[-length:]) for f in folders]
        if len(set(names)) == len(names):
            return names
    raise InputError(f"the same run folder is given twice: {[str(f) for f in folders]}. Give different ones.")


def _about(runs: Mapping[str, Run]) -> pd.DataFrame:
    """What each run was of."""
    import pandas as pd

    rows = [
        {
            "run": name,
            **{key: run.about.get(key, "") for key in ("grid", "cells", "steps", "variant")},
            "differs in": "; ".join(run.about.get("differs in", [])),
        }
        for name, run in runs.items()
    ]
    return pd.DataFrame(rows).set_index("run")


def _flat(value: Any, *key: str) -> Iterator[tuple[str, Any]]:
    """Every value of nested tables, by the path to it."""
    if isinstance(value, dict):
        for name, one in value.items():
            yield from _flat(one, *key, str(name))
    elif isinstance(value, (list, tuple)) and any(isinstance(one, dict) for one in value):
        for k, one in enumerate(value):
            called = one.get("name") if isinstance(one, dict) else None
            yield from _flat(one, *key, called if isinstance(called, str) else f"#{k + 1}")
    else:
        yield ".".join(key), getattr(value, "value", value)  # of a number that is read later, as it was typed


def _inputs(runs: Mapping[str, Run]) -> pd.DataFrame:
    """What the inputs of runs differ in: keys of the project file, and files of data."""
    import pandas as pd

    stated: dict[str, dict[str, Any]] = {}
    for name, run in runs.items():
        project = run.project
        mine = {k: v for k, v in _flat(project.asked.model_dump()) if v is not None}
        mine |= {f"file {k}": sha for k, sha in project.inputs.digests().items() if k != project.path.name}
        stated[name] = mine
    rows = {}
    for key in dict.fromkeys(k for mine in stated.values() for k in mine):
        values = [mine.get(key) for mine in stated.values()]
        if any(v != values[0] for v in values):
            words = [v[:12] if key.startswith("file ") and v else v for v in values]
            rows[key] = ["-" if v is None else str(v) for v in words]
    return pd.DataFrame.from_dict(rows, orient="index", columns=list(stated)).rename_axis("what")


def _fields(runs: Mapping[str, Run]) -> dict[str, NDArray[np.float64]]:
    """Heads of each run after the first less those of the first, on its grid."""
    names, found = list(runs), {}
    home = runs[names[0]].model.grid
    before = runs[names[0]].last_heads()
    for name in names[1:]:
        heads, grid = runs[name].last_heads(), runs[name].model.grid
        same = np.array_equal(grid.cell_number, home.cell_number)
        if not (same and np.allclose(grid.mesh.centroid, home.mesh.centroid)):
            heads = overlap(grid, home).mean(heads)
        found[name] = heads - before
    return found


def _budgets_in_time(runs: Mapping[str, Run]) -> pd.DataFrame:
    """Budgets over the steps that end at the same time in all runs; empty if there are none."""
    import pandas as pd

    empty, columns = pd.DataFrame(), {}
    starts = {name: getattr(run.model.schedule, "start", None) for name, run in runs.items()}
    if not all(run.has("budget in time") for run in runs.values()):
        return empty
    dated = all(start is not None for start in starts.values())
    if not dated and any(start is not None for start in starts.values()):
        return empty
    for name, run in runs.items():
        table = _INSIDE.table(run.table("budget in time"))
        table = table[table["end [day]"] > table["begin [day]"]]
        end = table["end [day]"]
        table["end"] = (
            starts[name] + np.round(end * 86400.0).astype("timedelta64[s]") if dated else end.round(6)
        )
        ways = {"in [m³/day]": "in", "out [m³/day]": "out"}
        long = table.melt(["end", "term"], list(ways), "direction", name).replace({"direction": ways})
        columns[name] = long.set_index(["end", "term", "direction"])[name]
    shared = set.intersection(*({i[0] for i in column.index} for column in columns.values()))
    if not shared:
        return empty
    together = pd.DataFrame(columns).fillna(0.0)
    return together[together.index.get_level_values("end").isin(shared)].sort_index(
        level="end", sort_remaining=False
    )


_PLACES = 400  # along a line


def _along(
    line: Sequence[Sequence[float]], models: Mapping[str, Model], last: Mapping[str, NDArray[np.float64]]
) -> pd.DataFrame:
    """Heads of the cells that a line meets, by layer of any run."""
    import pandas as pd

    corners = line_corners(line, "the line")
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(corners, axis=0).T))])
    at = np.linspace(0.0, run[-1], _PLACES + 1)
    x, y = (np.interp(at, run, corners[:, k]) for k in (0, 1))
    parts = []
    for layer in dict.fromkeys(name for model in models.values() for name in model.grid.layer_names):
        rows = {}
        for name, model in models.items():
            heads = np.full(len(at), np.nan)
            if layer in model.grid.layer_names:
                plan = model.grid.mesh.locate(x, y)
                number = model.grid.cell_number[model.grid.layer_index(layer)]
                cell = np.where(plan >= 0, number[plan], -1)
                heads[cell >= 0] = last[name][cell[cell >= 0]]
            rows[name] = heads
        if any(np.isfinite(h).any() for h in rows.values()):
            parts.append(pd.DataFrame({"layer": layer, "distance [m]": at, **rows}))
    if not parts:
        raise InputError("the line meets no cell of any run. Check its corners.")
    return pd.concat(parts, ignore_index=True)


def _differences(first: Model, fields: Mapping[str, NDArray[np.float64]]) -> pd.DataFrame:
    """Statistics of the differences, by run and layer."""
    import pandas as pd

    cells, rows = first.grid.cells, []
    for name, off in fields.items():
        for k, layer in enumerate(first.grid.layer_names):
            mine = cells.layer == k
            known = mine & np.isfinite(off)
            if not known.any():
                continue
            volume, values = cells.volume[known], off[known]
            rows.append(
                {
                    "run": name,
                    "layer": layer,
                    "mean [m]": np.average(values, weights=volume),
                    "RMS [m]": np.sqrt(np.average(values**2, weights=volume)),
                    "least [m]": values.min(),
                    "greatest [m]": values.max(),
                    "share met": volume.sum() / cells.volume[mine].sum(),
                }
            )
    columns = ["run", "layer", "mean [m]", "RMS [m]", "least [m]", "greatest [m]", "share met"]
    return pd.DataFrame(rows, columns=columns).set_index(["run", "layer"])


_INSIDE = UnitChoice(["m", "m³/day"])  # as runs may have been told in other units
_DIGITS = 6


def compare_runs(folders: list[Path], *, line: Sequence[Sequence[float]] | None = None) -> Comparison:
    """Read what runs left in their folders, and put it side by side.

    Parameters
    ----------
    folders : list of Path
        Two or more run folders of one site.
    line : sequence of (x, y), optional
        Along which heads are told [m]; the section line of the first run's project if not given.

    Raises
    ------
    InputError
        If there are fewer than two, one is no run folder, their grids share nothing, or the line meets no cell.
    """
    import pandas as pd

    if len(folders) < 2:
        raise InputError(f"{len(folders)} run folder was given; expected two or more to compare.")
    names = _names(folders)
    runs = {name: open_run(folder) for name, folder in zip(names, folders, strict=True)}
    heads, fits = _at_bores(runs)
    budgets = {}
    for name, run in runs.items():
        budget = _INSIDE.table(run.table("mean budget" if run.has("mean budget") else "budget"))
        budget = budget.melt("term", var_name="direction", value_name=name)
        budgets[name] = budget.set_index(["term", "direction"])[name]
    together = pd.DataFrame(budgets).fillna(0.0)
    together = together[(together.index.get_level_values(0) == "total") | (together != 0).any(axis=1)]
    fields, models = _fields(runs), {name: run.model for name, run in runs.items()}
    last = {name: run.last_heads() for name, run in runs.items()}
    along = _along(runs[names[0]].project.section_line if line is None else line, models, last)
    return Comparison(
        _about(runs), heads, fits, together, _inputs(runs), _differences(models[names[0]], fields),
        _budgets_in_time(runs), along, fields, models, last, _parameters(runs),
    )  # fmt: skip


def _parameters(runs: Mapping[str, Run]) -> pd.DataFrame:
    """What fits found, side by side."""
    import pandas as pd

    found: dict[str, Any] = {}
    columns = {"fitted": "", "lower 95 %": ", lower 95 %", "upper 95 %": ", upper 95 %"}
    for name, run in runs.items():
        if run.about.get("kind") == "fit" and run.has("parameters"):
            table = run.table("parameters").set_index("parameter")
            found.setdefault("unit", table["unit"])
            found["unit"] = found["unit"].combine_first(table["unit"])
            found |= {f"{name}{ending}": table[column] for column, ending in columns.items()}
    return pd.DataFrame(found).rename_axis("parameter") if found else pd.DataFrame()


def _at_bores(runs: Mapping[str, Run]) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Heads at bores and fits over the readings that all runs cover; empty if they have none in common."""
    import pandas as pd

    names, levels = list(runs), {}
    if not all(run.has("levels") for run in runs.values()):
        return pd.DataFrame(), pd.DataFrame()
    for name, run in runs.items():
        levels[name] = _INSIDE.table(run.table("levels"))
        if levels[name].empty:
            return pd.DataFrame(), pd.DataFrame()
        numbers = [c for c in (MEASURED, COMPUTED) if c in levels[name] and levels[name][c].dtype.kind == "f"]
        if len(numbers) < 2:
            raise InputError(
                f'the levels of run "{name}" hold something that is no number. Is levels.csv as it was made?'
            )
        levels[name][MEASURED] = levels[name][MEASURED].round(_DIGITS)  # alike, whatever unit it was told in
    keys = ["bore", "layer", "date", MEASURED]
    # a reading twice on one date counts twice
    for table in levels.values():
        table["again"] = table.groupby(keys).cumcount()
    keys.append("again")
    common = levels[names[0]][keys]
    for name in names[1:]:
        common = common.merge(levels[name][keys], on=keys)
    if common.empty:
        return pd.DataFrame(), pd.DataFrame()
    fits, means = {}, {}
    for name in names:
        mine = common.merge(levels[name], on=keys)
        fits[name] = fit_table(mine, len(levels[name]))
        alone = ~levels[name]["bore"].isin([b for n in names if n != name for b in levels[n]["bore"]])
        shown = pd.concat(
            [mine, levels[name][alone]]
        )  # means over unlike dates do not stand beside each other
        means[name] = shown.groupby("bore", sort=False)[COMPUTED].mean()
    every = pd.concat([levels[name] for name in names])
    measured = every.groupby("bore")[MEASURED].mean()
    measured.update(common.groupby("bore")[MEASURED].mean())
    heads = pd.DataFrame({"layer": every.groupby("bore")["layer"].first(), MEASURED: measured, **means})
    heads = heads.loc[list(dict.fromkeys(every["bore"]))].rename_axis("bore")
    return heads, pd.concat(fits, names=["run"])


_TABLES = {
    **{name: name for name in ("runs", "inputs", "differences", "heads", "fits", "budgets", "parameters")},
    "in_time": "budgets_in_time",
    "along": "heads_along",
}


def write_comparison(found: Comparison, out: Path, *, layer: str | None = None) -> Path:
    """Write the tables of a comparison and its pictures into a new folder, and return it.

    Parameters
    ----------
    found : Comparison
        From `compare_runs`.
    out : Path
        Where the folder is made.
    layer : str, optional
        Whose heads are drawn side by side; the uppermost of the first run if not given.
    """
    grid = found.first.grid
    layer = grid.layer_names[0 if layer is None else grid.layer_index(layer)]
    with new_run_folder(out, "comparison", "", Journal(), "") as folder:
        for name, called in _TABLES.items():
            table = getattr(found, name)
            if len(table):
                write_table(table, folder.path / f"{called}.csv")
        draw.save_figure(
            folder.path / "heads_side_by_side.png",
            lambda figure: draw.heads_side_by_side(figure, found.models, found.last, layer),
        )
        draw.save_figure(
            folder.path / "heads_along.png", lambda figure: draw.heads_along(figure, found.along)
        )
        for name, off in found.fields.items():
            words = f"{name} less {found.runs.index[0]}"
            draw.save_figure(
                folder.path / f"differences_{file_name(name)}.png",
                lambda figure, off=off, words=words: draw.head_differences(figure, found.first, off, words),  # type: ignore[misc]  # bound at once
            )
        if len(found.fits):
            rms = found.fits["RMS [m]"].xs("means of bores", level="over")
            draw.save_figure(
                folder.path / "heads_at_bores.png",
                lambda figure: draw.heads_at_bores(found.heads, rms, ax=figure.subplots()),
            )
    return folder.path
