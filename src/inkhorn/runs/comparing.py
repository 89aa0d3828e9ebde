"""Run folders side by side: heads at bores, fits and budgets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from inkhorn import draw
from inkhorn.calibration import fit_table
from inkhorn.errors import InputError
from inkhorn.files import write_table
from inkhorn.runs.journal import Journal
from inkhorn.runs.keeping import new_run_folder
from inkhorn.runs.opening import Run, open_run
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
    """

    runs: pd.DataFrame
    heads: pd.DataFrame
    fits: pd.DataFrame
    budgets: pd.DataFrame

    def __repr__(self) -> str:
        return f"Comparison({len(self.runs)} runs, {len(self.heads)} bores)"

    def _repr_html_(self) -> str:
        from inkhorn.draw.notebook import page

        return page(self, [self.runs, self.fits, self.budgets])


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


_INSIDE = UnitChoice(["m", "m³/day"])  # as runs may have been told in other units
_DIGITS = 6


def compare_runs(folders: list[Path]) -> Comparison:
    """Read what runs left in their folders, and put it side by side.

    Parameters
    ----------
    folders : list of Path
        Two or more run folders of one site.

    Raises
    ------
    InputError
        If there are fewer than two, one is no run folder, or they have no bore in common.
    """
    import pandas as pd

    if len(folders) < 2:
        raise InputError(f"{len(folders)} run folder was given; expected two or more to compare.")
    names = _names(folders)
    runs = {name: open_run(folder) for name, folder in zip(names, folders, strict=True)}
    levels, budgets = {}, {}
    for name, run in runs.items():
        levels[name] = _INSIDE.table(run.table("levels"))
        numbers = [c for c in (MEASURED, COMPUTED) if c in levels[name] and levels[name][c].dtype.kind == "f"]
        if len(numbers) < 2:
            raise InputError(
                f'the levels of run "{name}" hold something that is no number. Is levels.csv as it was made?'
            )
        levels[name][MEASURED] = levels[name][MEASURED].round(_DIGITS)  # alike, whatever unit it was told in
        budget = _INSIDE.table(run.table("mean budget" if run.has("mean budget") else "budget"))
        budget = budget.melt("term", var_name="direction", value_name=name)
        budgets[name] = budget.set_index(["term", "direction"])[name]
    keys = ["bore", "layer", "date", MEASURED]
    # a reading twice on one date counts twice
    for table in levels.values():
        table["again"] = table.groupby(keys).cumcount()
    keys.append("again")
    common = levels[names[0]][keys]
    for name in names[1:]:
        common = common.merge(levels[name][keys], on=keys)
    if common.empty:
        raise InputError(
            f"the runs {names} have no reading of any bore in common. Compare runs of one site that cover the same dates."
        )
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
    together = pd.DataFrame(budgets).fillna(0.0)
    together = together[(together.index.get_level_values(0) == "total") | (together != 0).any(axis=1)]
    return Comparison(_about(runs), heads, pd.concat(fits, names=["run"]), together)


def write_comparison(found: Comparison, out: Path) -> Path:
    """Write the tables of a comparison and its picture into a new folder, and return it."""
    with new_run_folder(out, "comparison", "", Journal(), "") as folder:
        for name in ("runs", "heads", "fits", "budgets"):
            write_table(getattr(found, name), folder.path / f"{name}.csv")
        rms = found.fits["RMS [m]"].xs("means of bores", level="over")
        draw.save_figure(
            folder.path / "heads_at_bores.png",
            lambda figure: draw.heads_at_bores(found.heads, rms, ax=figure.subplots()),
        )
    return folder.path
