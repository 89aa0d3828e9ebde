"""Run folders side by side: heads at bores, fits and budgets."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from inkhorn.calibration import fit_table
from inkhorn.errors import InputError

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

__all__ = ["Comparison", "compare_runs"]

COMPUTED, MEASURED = "computed [m]", "measured [m]"


@dataclass(frozen=True, eq=False)
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

    def draw(self, ax: Axes) -> Axes:
        """Draw each run's head less the measured level, bore by bore from the lowest level up."""
        ordered = self.heads.dropna().sort_values(MEASURED)
        places = range(len(ordered))
        for name, marker in zip(self.runs.index, "osDv^P*X" * len(self.fits), strict=False):
            rms = self.fits.loc[(name, "means of bores"), "RMS [m]"]
            off = ordered[name] - ordered[MEASURED]
            ax.plot(places, off, marker, ms=5, alpha=0.85, label=f"{name} (RMS {rms:.3f} m)")
        ax.axhline(0.0, color="#2b2b2b", lw=1.0)
        ax.set_xticks(list(places), ordered.index, rotation=90, fontsize=7)
        ax.set_xlabel("bore, from the lowest level up")
        ax.set_ylabel("computed head less measured level [m]")
        ax.grid(axis="y", alpha=0.3)
        ax.legend(fontsize=9)
        return ax


def _table(folder: Path, name: str) -> pd.DataFrame:
    import pandas as pd

    path = folder / name
    try:
        return pd.read_csv(path)
    except OSError:
        raise InputError(
            f'"{folder}" has no {name}; expected a run folder of a project with bores, as `inkhorn run` or '
            "`inkhorn fit` leaves it."
        ) from None


def _names(folders: list[Path]) -> list[str]:
    """The shortest ends of the paths that tell them apart."""
    for length in range(1, 6):
        names = ["/".join(f.resolve().parts[-length:]) for f in folders]
        if len(set(names)) == len(names):
            return names
    raise InputError(f"the same run folder is given twice: {[str(f) for f in folders]}. Give different ones.")


def _about(names: list[str], folders: list[Path]) -> pd.DataFrame:
    """What each run was of."""
    import pandas as pd

    rows = []
    for name, folder in zip(names, folders, strict=True):
        try:
            about = json.loads((folder / "about.json").read_text(encoding="utf-8"))
        except (OSError, ValueError):
            raise InputError(
                f'"{folder}" has no about.json; expected a run folder of `inkhorn run` or `fit`.'
            ) from None
        rows.append(
            {
                "run": name,
                **{key: about.get(key, "") for key in ("grid", "cells", "steps", "variant")},
                "differs in": "; ".join(about.get("differs in", [])),
            }
        )
    return pd.DataFrame(rows).set_index("run")


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
    levels, budgets = {}, {}
    for name, folder in zip(names, folders, strict=True):
        levels[name] = _table(folder, "levels.csv")
        mean = "budget_mean.csv"
        budget = _table(folder, mean if (folder / mean).exists() else "budget.csv").melt(
            "term", var_name="direction", value_name=name
        )
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
    return Comparison(_about(names, folders), heads, pd.concat(fits, names=["run"]), together)
